"""Job cards: made, opened at the unit, filled entry by entry, and turned into drains, services and what was put off.

Entries come from devices that may have had no connection for hours: each carries its own id and is kept
exactly once; what follows from it follows once. Nobody's entry replaces anybody's.
"""

from __future__ import annotations

import hashlib
import json
import math
import secrets
import uuid
from dataclasses import asdict
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from vornet.core import job as rules
from vornet.core import schools, volumes
from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY
from vornet.flows.house import fleets, meters
from vornet.flows.house.people import Visitor
from vornet.flows.plan import service
from vornet.flows.register import units
from vornet.flows.work import drain
from vornet.io import pictures
from vornet.store.database import Connection, Database, query

STATE_WORDS = {"planned": "planned", "open": "under way", "done": "done", "part": "closed in part", "stopped": "stopped",
               "cancelled": "cancelled"}  # fmt: skip
DEFER_WORDS = {"part_missing": "part missing", "plug": "plug rounded or seized", "defect": "defect seen", "recheck": "look again",
               "stopped": "stopped", "other": "other"}  # fmt: skip
#: a pack when the oil's record names none (L); common practice, no source
USUAL_PACK_L = 5.0
LARGEST_PHOTO = 12_000_000
_NUMBERS = {
    "meter": (0, 1e9), "meter_2": (0, 1e9), "level_before": (-1, 2), "out_l": (0, 1e5), "minutes": (0, 10_000), "parts_out": (0, 99),
    "parts_in": (0, 99), "waste_l": (0, 1e5), "ambient_c": (-60, 70), "warmed_min": (0, 600), "dripped_min": (0, 6000),
}  # fmt: skip
_CHOICES = {
    "out_kind": ("measured", "estimated", "unknown"), "way": tuple(rules.WAYS), "warmth": tuple(rules.WARMTH),
    "filter_changed": ("yes", "no"), "prefilled": ("yes", "no"), "air_filter": tuple(rules.AIR_FILTERS),
    "air_action": tuple(rules.AIR_ACTIONS), "strainer_look": tuple(rules.STRAINER_LOOKS), "fill_open": ("yes", "no"),
    "leaks": ("none", "weeps", "leaks"), "indicator": ("reset", "none", "not_reset"), "sample_how": ("mid_stream", "valve", "tube"),
    "seals_new": ("yes", "no"),
}  # fmt: skip
_TICKS = ("kit", "safe", "shut", "torque", "magnets")
_MANY = {"oil_looks": rules.OIL_LOOKS, "filter_looks": rules.FILTER_LOOKS, "as_found": rules.AS_FOUND}
_WORDS = ("sample_no", "oil", "batch", "concession", "note", "filter_tightened", "waste_into")


# ---- making cards ----------------------------------------------------------------------------------------------
def make(
    connection: Connection, fleet_id: int, unit_id: int, compartments: list[int], items: list[int], planned_on: date, sample: bool,
    note: str, by: str,
) -> int:  # fmt: skip
    """A job card for one visit. Raises InputError when there is nothing to do, or it is of another unit."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    mine = {s["compartment_id"] for s in connection.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()}
    plan = {i["item_id"] for i in connection.execute(query("register.service_items"), {"units": [unit_id]}).fetchall()}
    if not set(compartments) <= mine or not set(items) <= plan:
        raise InputError("parts", f"choose among {unit['unit']}'s own compartments and service items")
    if not compartments and not items:
        raise InputError("parts", "choose at least one compartment to drain or one item to do")
    row = connection.execute(
        query("jobs.make"), {"fleet_id": fleet_id, "unit_id": unit_id, "planned_on": planned_on, "note": note.strip()[:500], "by": by}
    ).fetchone()
    assert row is not None
    rows = [{"compartment_id": c, "item_id": None, "sample": sample} for c in compartments]
    rows += [{"compartment_id": None, "item_id": i, "sample": False} for i in items]
    with connection.cursor() as cursor:
        cursor.executemany(query("jobs.put_part"), [
            {"fleet_id": fleet_id, "job_id": row["job_id"], "place": n, **r} for n, r in enumerate(rows)
        ])  # fmt: skip
    fleets.audit(connection, fleet_id, by, "job card made", unit["unit"], job=row["job_id"], parts=len(rows), on=str(planned_on))
    return int(row["job_id"])


def cards(connection: Connection, state: str, limit: int = 200) -> dict[str, Any]:
    """Job cards of a state, with how many there are of each."""
    state = state if state in ("todo", "all", *STATE_WORDS) else "todo"
    rows = connection.execute(query("jobs.list"), {"state": state, "limit": limit}).fetchall()
    return {"rows": rows, "counts": connection.execute(query("jobs.counts")).fetchone(), "state": state}


def cancel(connection: Connection, fleet_id: int, job_id: int, why: str, by: str) -> None:
    """Take a card back before it is done; what was entered stays with it."""
    if not why.strip():
        raise InputError("why", "say in a few words why the job is not done")
    row = connection.execute(query("jobs.cancel"), {"job_id": job_id, "why": why.strip()[:300]}).fetchone()
    if row is None:
        raise InputError("job", "is closed already")
    fleets.audit(connection, fleet_id, by, "job cancelled", f"job {job_id}", why=why.strip())


def card(connection: Connection, job_id: int, today: date) -> dict[str, Any] | None:
    """Everything a job's page, its paper and its finishing need; None when it is not in this fleet."""
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    if job is None:
        return None
    settings = fleets.settings(connection)
    oils = {o["name"]: o for o in connection.execute(query("register.oils")).fetchall()}
    said = rules.fold(
        rules.Entry(str(r["entry_id"]), r["part_id"], r["key"], r["value"], r["at"].timestamp(), r["by"])
        for r in connection.execute(query("jobs.entries"), {"job_id": job_id}).fetchall()
    )
    parts = []
    for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall():
        mine = said.get(p["part_id"], rules.Said())
        if p["compartment_id"] is None:
            item = connection.execute(query("plan.item"), {"item_id": p["item_id"]}).fetchone()
            parts.append({**p, "title": p["item"], "said": mine, "full": item})
            continue
        place = drain.place(connection, p["compartment_id"])
        document = units.compartment_document(connection, p["compartment_id"], today)
        in_force = {k: v[0] for k, v in schools.in_force(settings["schools"], document.get("schools", {})).items()}
        oil = oils.get(document.get("oil", ""))
        known_pack = oil["facts"].get("pack_l") if oil else None
        parts.append({
            **p, "title": p["compartment"], "said": mine, "place": place, "document": document, "schools": in_force,
            "steps": rules.steps(p["kind"], document, in_force, p["sample"]),
            "kit": rules.kit(document, p["sample"], known_pack or USUAL_PACK_L),
            "pack_known": bool(known_pack),
        })  # fmt: skip
    visit = said.get(None, rules.Said())
    photos = connection.execute(query("jobs.photos"), {"job_id": job_id}).fetchall()
    return {"job": job, "parts": parts, "visit": visit, "photos": photos, "zone": settings["zone"], "oils": sorted(oils)}


# ---- devices ---------------------------------------------------------------------------------------------------
def _hash(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def open_on_device(connection: Connection, who: Visitor, job_id: int) -> str:
    """Open a job on a device: its state moves on, and the device gets a key for this job's entries only."""
    token = secrets.token_urlsafe(24)
    connection.execute(
        query("jobs.put_device"),
        {"fleet_id": who.fleet_id, "token_hash": _hash(token), "job_id": job_id, "account_id": who.account_id},
    )
    connection.execute(query("jobs.opened"), {"job_id": job_id})
    return token


def device_owner(db: Database, token: str, job_id: int) -> Visitor | None:
    """Whose device a key belongs to, for this job; None when it has ended or was made for another job."""
    with db.anyone() as connection:
        d = connection.execute("SELECT * FROM job_device_owner(%s)", [_hash(token)]).fetchone()
    if d is None or d["job_id"] != job_id:
        return None
    return Visitor(d["account_id"], d["login"], d["display_name"], d["fleet_id"], d["fleet"], d["role"], "", d["measures"])


# ---- entries ---------------------------------------------------------------------------------------------------
def checked_value(key: str, value: Any) -> Any:
    """An entry's value as it is kept. Raises InputError by key when it cannot be."""
    if key in _NUMBERS:
        low, high = _NUMBERS[key]
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise InputError(key, "is not a number")
        if not low <= value <= high:
            raise InputError(key, f"{value:g} lies outside {low:g} to {high:g}")
        return float(value)
    if key in _CHOICES:
        if value not in _CHOICES[key]:
            raise InputError(key, f"one of {', '.join(_CHOICES[key])}")
        return value
    if key in _MANY:
        if not isinstance(value, list) or any(v not in _MANY[key] for v in value):
            raise InputError(key, f"some of {', '.join(_MANY[key])}")
        return value
    if key in _TICKS:
        if not isinstance(value, dict) or len(value) > 60:
            raise InputError(key, "is not a set of ticks")
        if key == "magnets" and any(g not in (0, 1, 2, 3, 4) for g in value.values()):
            raise InputError(key, "a grade from 0 to 4")
        return {str(k)[:120]: v for k, v in value.items() if isinstance(v, bool | int | float | str)}
    if key in _WORDS:
        return str(value).strip()[:1000]
    if key in ("pour", "level_read"):
        return _list_value(key, value)
    if key in ("stop", "defer", "item", "done", "photo"):
        if not isinstance(value, dict):
            raise InputError(key, "is not understood")
        return value
    raise InputError("key", f"{key[:40]!r} is not something a job asks for")


def _list_value(key: str, value: Any) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise InputError(key, "is not understood")
    if value.get("taken_back"):
        return {"taken_back": str(value["taken_back"])[:40]}
    name, low, high = ("litres", 0.0, 1e5) if key == "pour" else ("reading", -1.0, 2.0)
    number = value.get(name)
    if isinstance(number, bool) or not isinstance(number, int | float) or not math.isfinite(number) or not low <= number <= high:
        raise InputError(key, f"{name} must be a number between {low:g} and {high:g}")
    if key == "pour" and number <= 0:
        raise InputError(key, "something must have been poured")
    out: dict[str, Any] = {name: float(number)}
    if key == "pour":
        out["point"] = str(value.get("point", ""))[:120]
    else:
        out["run"] = bool(value.get("run"))
    return out


def take(connection: Connection, who: Visitor, job_id: int, rows: list[Any], now: datetime, today: date) -> dict[str, Any]:
    """Keep a device's entries and do what follows from them; what cannot be is refused with its sentence.

    ``rows``: {id, part, key, value, at, skew}: ``at`` the device's clock in ms, ``skew`` what that clock was
    ahead of the server's when the page was opened. Each entry is kept together with what follows from it,
    on its own, so that one that is wrong costs none of the others.
    """
    connection.execute(query("jobs.lock"), {"job_id": job_id})  # two devices take turns
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    if job is None:
        raise InputError("job", "is not in this fleet")
    parts = {p["part_id"]: p for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
    kept, refused = [], []
    for row in rows[:2000]:
        name = str(row.get("id", ""))[:40] if isinstance(row, dict) else ""
        try:
            entry = _entry(row, parts, now)
            with connection.transaction():
                if _keep(connection, who, job_id, entry):
                    _follow(connection, who, job, parts, entry, today)
            kept.append(name)
        except InputError as error:
            refused.append({"id": name, "field": error.field, "why": error.why})
    return {"kept": kept, "refused": refused, **standing(connection, job_id)}


def _entry(row: Any, parts: dict[int, dict[str, Any]], now: datetime) -> dict[str, Any]:
    if not isinstance(row, dict):
        raise InputError("entry", "is not understood")
    try:
        entry_id = uuid.UUID(str(row.get("id")))
    except ValueError:
        raise InputError("id", "is not an entry's id") from None
    part = row.get("part")
    if part is not None and part not in parts:
        raise InputError("part", "is not part of this job")
    key = str(row.get("key", ""))
    at = now
    clock, skew = row.get("at"), row.get("skew") or 0
    if isinstance(clock, int | float) and isinstance(skew, int | float) and math.isfinite(clock - skew):
        try:
            at = datetime.fromtimestamp((clock - skew) / 1000, UTC)
        except (ValueError, OverflowError, OSError):
            at = now
    if at > now or at < now - timedelta(days=60):
        at = now  # a clock that was set while the page was open
    return {"entry_id": entry_id, "part": part, "key": key, "value": checked_value(key, row.get("value")), "at": at}


def _keep(connection: Connection, who: Visitor, job_id: int, entry: dict[str, Any]) -> bool:
    return bool(connection.execute(
        query("jobs.put_entry"),
        {"fleet_id": who.fleet_id, "entry_id": entry["entry_id"], "job_id": job_id, "part_id": entry["part"], "key": entry["key"],
         "value": json.dumps(entry["value"]), "at": entry["at"], "by": who.name},
    ).fetchone())  # fmt: skip


def standing(connection: Connection, job_id: int) -> dict[str, Any]:
    """The job's state and everybody's entries, so that two devices see each other's."""
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    assert job is not None
    rows = connection.execute(query("jobs.entries"), {"job_id": job_id}).fetchall()
    parts = connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()
    return {
        "state": job["state"],
        "parts": {p["part_id"]: {"state": p["state"], "reason": p["reason"], "figures": p["figures"]} for p in parts},
        "entries": [
            {"id": str(r["entry_id"]), "part": r["part_id"], "key": r["key"], "value": r["value"],
             "at": r["at"].timestamp() * 1000, "by": r["by"]}
            for r in rows
        ],
    }  # fmt: skip


# ---- what follows ----------------------------------------------------------------------------------------------
def _follow(
    connection: Connection, who: Visitor, job: dict[str, Any], parts: dict[int, dict[str, Any]], entry: dict[str, Any], today: date
) -> None:  # fmt: skip
    key, part = entry["key"], parts.get(entry["part"])
    if key == "defer":
        _defer(connection, who, job, part, entry)
        if part is not None and entry["value"].get("instead"):
            _close_part(connection, who, job, part, "deferred", str(entry["value"].get("what", ""))[:300])
    elif part is None or part["state"] != "open":
        return  # a second finishing of the same part is kept as an entry and changes nothing
    elif key == "stop":
        _stop(connection, who, job, part, entry)
    elif key == "item":
        _item(connection, who, job, part, entry, today)
    elif key == "done":
        _finish(connection, who, job, part, entry, today)


def _day(entry: dict[str, Any], zone: str, today: date) -> date:
    found: date = min(entry["at"].astimezone(ZoneInfo(zone)).date(), today)
    return found


def _defer(connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any] | None, entry: dict[str, Any]) -> None:
    value = entry["value"]
    what = str(value.get("what", "")).strip()[:500]
    if not what:
        raise InputError("what", "say what is put off")
    kind = value.get("kind", "other")
    if kind not in DEFER_WORDS:
        raise InputError("kind", f"one of {', '.join(DEFER_WORDS)}")
    due_on = None
    if value.get("due_on"):
        try:
            due_on = date.fromisoformat(str(value["due_on"]))
        except ValueError:
            raise InputError("due_on", "is not a date") from None
    connection.execute(
        query("jobs.put_deferred"),
        {"fleet_id": who.fleet_id, "unit_id": job["unit_id"], "compartment_id": part["compartment_id"] if part else None,
         "job_id": job["job_id"], "entry_id": entry["entry_id"], "kind": kind, "what": what,
         "part": str(value.get("part", "")).strip()[:200], "owner": str(value.get("owner", "")).strip()[:120] or who.name,
         "due_on": due_on, "level_left": None, "by": who.name},
    )  # fmt: skip
    fleets.audit(connection, who.fleet_id, who.name, "put off", job["unit"], job=job["job_id"], put_off=what, kind=kind)


def _stop(connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], entry: dict[str, Any]) -> None:
    """A part stopped: it ends safely, with what to do now, and is handed over."""
    stop = rules.STOPS.get(str(entry["value"].get("reason", "")))
    if stop is None:
        raise InputError("reason", f"one of {', '.join(rules.STOPS)}")
    note = str(entry["value"].get("note", "")).strip()[:500]
    reason = stop.words + (f": {note}" if note else "")
    connection.execute(
        query("jobs.put_deferred"),
        {"fleet_id": who.fleet_id, "unit_id": job["unit_id"], "compartment_id": part["compartment_id"], "job_id": job["job_id"],
         "entry_id": entry["entry_id"], "kind": "stopped", "what": f"{reason}. {stop.do_now}", "part": "",
         "owner": str(entry["value"].get("owner", "")).strip()[:120] or "workshop lead", "due_on": None, "level_left": None,
         "by": who.name},
    )  # fmt: skip
    _close_part(connection, who, job, part, "stopped", reason)


def _item(connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], entry: dict[str, Any], today: date) -> None:
    if part["item_id"] is None:
        raise InputError("part", "is not a service item")
    value = entry["value"]
    zone = fleets.settings(connection)["zone"]
    full = connection.execute(query("plan.item"), {"item_id": part["item_id"]}).fetchone()
    assert full is not None
    visit = _said(connection, job["job_id"]).get(None, rules.Said())
    meter = visit.get(rules.meter_key(full["meter_no"]))
    on = _day(entry, zone, today)
    if meter is not None:
        meters.check(connection, job["unit_id"], full["meter_no"], full["meter_unit"], meter, on)
    reading = {k: v for k, v in value.items() if k in ("value", "greased", "missed", "cleaned") and v not in (None, "")}
    service.record(
        connection, who.fleet_id, part["item_id"], on, meter, str(value.get("outcome", "done")), reading,
        str(value.get("note", "")), who.name, today,
    )  # fmt: skip
    done = value.get("outcome", "done") != "not_done"
    _close_part(connection, who, job, part, "done" if done else "deferred", "" if done else str(value.get("note", ""))[:300])


def _said(connection: Connection, job_id: int) -> dict[int | None, rules.Said]:
    return rules.fold(
        rules.Entry(str(r["entry_id"]), r["part_id"], r["key"], r["value"], r["at"].timestamp(), r["by"])
        for r in connection.execute(query("jobs.entries"), {"job_id": job_id}).fetchall()
    )


def _finish(connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], entry: dict[str, Any], today: date) -> None:
    """A compartment's drain is complete: it becomes a drain on record, a bottle, waste, a re-check, a sticker."""
    found = card(connection, job["job_id"], today)
    assert found is not None
    mine = next(p for p in found["parts"] if p["part_id"] == part["part_id"])
    said, visit, document, place = mine["said"], found["visit"], mine["document"], mine["place"]
    lacking = rules.wanting(document, said, visit, place["meter_no"])
    if lacking:
        raise InputError(*lacking[0])
    sums = rules.figures(document, said)
    on = _day(entry, found["zone"], today)
    meter = visit.get(rules.meter_key(place["meter_no"]))
    sample_no = said.get("sample_no") or ""
    drained = drain.Drained(
        on, meter, rules.facts_of(document, said), in_l=round(sums.poured_l, 3), magnet_grade=rules.worst_magnet(said),
        air_filter=said.get("air_filter") or None, oil=said.get("oil", ""), batch=said.get("batch", ""), ambient_c=visit.get("ambient_c"),
        reading_after=sums.level, concession=said.get("concession", ""), sample_no=sample_no, note=said.get("note", ""),
        client_id=entry["entry_id"],
    )  # fmt: skip
    drain_id = drain.log(connection, who.fleet_id, place["compartment_id"], drained, who.name, today, _facts(mine, said, job))
    _bottle(connection, who, part, said, place, on, meter, drain_id, sample_no)
    out_l = said.get("waste_l", said.get("out_l"))
    if out_l:
        connection.execute(
            query("jobs.put_waste"),
            {"fleet_id": who.fleet_id, "job_id": job["job_id"], "compartment_id": place["compartment_id"], "on_day": on,
             "litres": out_l, "into": said.get("waste_into", ""), "by": who.name},
        )  # fmt: skip
    connection.execute(
        query("jobs.put_deferred"),
        {"fleet_id": who.fleet_id, "unit_id": job["unit_id"], "compartment_id": place["compartment_id"], "job_id": job["job_id"],
         "entry_id": uuid.uuid5(entry["entry_id"], "recheck"), "kind": "recheck", "what": "Read the level after the first working run",
         "part": "", "owner": "", "due_on": on + timedelta(days=1), "level_left": sums.level, "by": who.name},
    )  # fmt: skip
    kit = mine["kit"]
    used = volumes.refill(sums.poured_l, kit.pack_l) if sums.poured_l > 0 else None
    next_due = meter + place["interval_meter"] if place["interval_meter"] else None
    ended = {
        **asdict(sums), "meter": meter, "on": on.isoformat(), "next_due": next_due, "unit": place["meter_unit"],
        "starts": {s.m.key: round(s.start, 4) for s in drain.starts(place, sums.residual_share)},
        "packs": None if used is None else {
            "pack_l": kit.pack_l, "whole": used.whole_packs, "from_last_l": round(used.from_last_pack_l, 3),
            "left_in_last_l": round(used.left_in_last_pack_l, 3)},
    }  # fmt: skip
    _close_part(connection, who, job, part, "done", "", drain_id, ended)


def _facts(mine: dict[str, Any], said: rules.Said, job: dict[str, Any]) -> dict[str, Any]:
    """What the job saw, kept with the drain: how the oil left, grades, seals, torque, who did it by which school."""
    kept = {k: said.get(k) for k in (
        "way", "warmth", "minutes", "warmed_min", "dripped_min", "oil_looks", "filter_looks", "strainer_look", "air_action", "as_found",
        "magnets", "torque", "seals_new", "prefilled", "filter_tightened", "leaks", "indicator", "sample_how",
    )}  # fmt: skip
    kept["reading_before"] = said.get("level_before")
    kept["pours"] = [{k: v for k, v in p.items() if k != "id"} for p in said.lists.get("pour", ())]
    kept["schools"] = mine["schools"]
    kept["job"] = job["job_id"]
    return {k: v for k, v in kept.items() if v not in (None, "", [], {})}


def _bottle(
    connection: Connection, who: Visitor, part: dict[str, Any], said: rules.Said, place: dict[str, Any], on: date, meter: float,
    drain_id: int, sample_no: str,
) -> None:  # fmt: skip
    if not sample_no:
        return
    known = connection.execute(query("jobs.bottle_known"), {"sample_no": sample_no}).fetchone()
    if known is not None:
        raise InputError("sample_no", f"bottle {sample_no} was drawn before: look at the label again")
    before = place["drains"][0] if place["drains"] else None
    added = connection.execute(
        query("jobs.topped_up_since"), {"compartment_id": part["compartment_id"], "since": before["on_day"] if before else None}
    ).fetchone()
    connection.execute(
        query("jobs.put_bottle"),
        {"fleet_id": who.fleet_id, "sample_no": sample_no, "compartment_id": part["compartment_id"], "drawn_on": on, "meter": meter,
         "oil_hours": meter - before["meter"] if before else None, "oil_id": place["oil_id"],
         "topup_l": added["litres"] if added else None,
         "conditions": json.dumps({k: said.get(k) for k in ("sample_how", "warmth", "minutes") if said.get(k) is not None}),
         "drain_id": drain_id, "by": who.name},
    )  # fmt: skip


def _close_part(
    connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], state: str, reason: str,
    drain_id: int | None = None, figures: dict[str, Any] | None = None,
) -> None:  # fmt: skip
    connection.execute(
        query("jobs.part_state"),
        {"part_id": part["part_id"], "state": state, "reason": reason, "drain_id": drain_id, "figures": json.dumps(figures or {})},
    )
    part["state"] = state
    name = part["compartment"] or part["item"]
    fleets.audit(connection, who.fleet_id, who.name, f"job part {state}", f"{job['unit']} {name}", job=job["job_id"], reason=reason)
    states = [p["state"] for p in connection.execute(query("jobs.parts"), {"job_id": job["job_id"]}).fetchall()]
    if "open" in states:
        return
    whole = "done" if set(states) == {"done"} else "stopped" if "done" not in states and "stopped" in states else "part"
    connection.execute(query("jobs.settle"), {"job_id": job["job_id"], "state": whole})
    fleets.audit(connection, who.fleet_id, who.name, f"job {STATE_WORDS[whole]}", job["unit"], job=job["job_id"])


# ---- photos ----------------------------------------------------------------------------------------------------
def photo_drawn(content: bytes) -> bytes:
    """A photo drawn anew without its metadata. Raises InputError when it is not one."""
    if len(content) > LARGEST_PHOTO:
        raise InputError("photo", f"is larger than {LARGEST_PHOTO // 1_000_000} MB")
    return pictures.redrawn(content, 1600)


def keep_photo(connection: Connection, who: Visitor, job_id: int, photo_id: str, part: int | None, about: str, fresh: bytes) -> None:
    """Keep a photo that was drawn anew; the same one twice is one."""
    try:
        name = uuid.UUID(photo_id)
    except ValueError:
        raise InputError("id", "is not a photo's id") from None
    parts = {p["part_id"] for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
    if not parts or (part is not None and part not in parts):
        raise InputError("part", "is not part of this job")
    connection.execute(
        query("jobs.put_photo"),
        {"fleet_id": who.fleet_id, "photo_id": name, "job_id": job_id, "part_id": part, "about": about[:120], "content": fresh,
         "by": who.name},
    )  # fmt: skip


# ---- put off ---------------------------------------------------------------------------------------------------
def deferred(connection: Connection, unit_id: int | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("jobs.deferred"), {"unit_id": unit_id}).fetchall()


def close_deferred(connection: Connection, fleet_id: int, deferred_id: int, finding: str, level: float | None, by: str) -> str:
    """Something put off is dealt with; a re-check's level that has fallen is an alarm. Returns 'fallen' or ''."""
    if not finding.strip() and level is None:
        raise InputError("finding", "say what was found or done")
    row = connection.execute(
        query("jobs.close_deferred"), {"deferred_id": deferred_id, "by": by, "finding": finding.strip()[:500] or f"level {level:g}"}
    ).fetchone()
    if row is None:
        raise InputError("deferred", "is dealt with already")
    fallen = row["kind"] == "recheck" and level is not None and row["level_left"] is not None and level < row["level_left"] - 0.15
    fleets.audit(connection, fleet_id, by, "put-off item closed", row["what"], finding=finding, level=level, fallen=bool(fallen))
    if fallen:
        connection.execute(
            query("jobs.put_deferred"),
            {"fleet_id": fleet_id, "unit_id": row["unit_id"], "compartment_id": row["compartment_id"], "job_id": None,
             "entry_id": uuid.uuid4(), "kind": "defect", "part": "", "owner": "", "due_on": None, "level_left": level, "by": by,
             "what": f"Level fell from {row['level_left']:.2f} to {level:.2f} after the first run: look for the leak"},
        )  # fmt: skip
    return "fallen" if fallen else ""


def recent(connection: Connection, limit: int = 30) -> list[dict[str, Any]]:
    """Compartments that somebody noted something at, latest first."""
    rows = connection.execute(query("jobs.recent")).fetchall()
    return sorted(rows, key=lambda r: r["at"], reverse=True)[:limit]


def observe(
    connection: Connection, fleet_id: int, unit_id: int, compartment_id: int | None, kind: str, what: str, litres: float | None,
    meter: float | None, on: date, note: str, client_id: str, by: str,
) -> None:  # fmt: skip
    """A symptom or coolant made up, noted in between."""
    if kind not in ("symptom", "coolant"):
        raise InputError("kind", "symptom or coolant")
    if not what.strip() and litres is None:
        raise InputError("what", "say what was noticed")
    try:
        client = uuid.UUID(client_id)
    except ValueError:
        client = uuid.uuid4()
    connection.execute(
        query("jobs.put_observation"),
        {"fleet_id": fleet_id, "unit_id": unit_id, "compartment_id": compartment_id, "on_day": on, "meter": meter, "kind": kind,
         "what": what.strip()[:300] or "coolant made up", "litres": litres, "note": note.strip()[:1000], "client_id": client, "by": by},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, kind, f"unit {unit_id}", noticed=what.strip(), litres=litres)


def week_kit(connection: Connection, first: date, last: date, today: date) -> dict[str, Any]:
    """What the open cards between two days need together: oil by name in packs, filters, seals, bottles."""
    oil: dict[tuple[str, float], float] = {}
    parts: dict[str, int] = {}
    cards_: list[dict[str, Any]] = []
    for row in connection.execute(query("jobs.kit_week"), {"first": first, "last": last}).fetchall():
        found = card(connection, row["job_id"], today)
        assert found is not None
        cards_.append(found)
        for p in found["parts"]:
            if p["state"] != "open" or p["compartment_id"] is None:
                continue
            kit = p["kit"]
            if kit.refill is not None:
                name = (p["document"].get("oil") or "oil not on record", kit.pack_l)
                oil[name] = oil.get(name, 0.0) + kit.refill.target_l
            for f in p["document"].get("filters", ()):
                parts[f"filter {f['part']}"] = parts.get(f"filter {f['part']}", 0) + f.get("count", 1)
            for s in p["document"].get("seals", ()):
                if s.get("single_use", True):
                    name_ = " ".join(filter(None, [s.get("kind") or "seal", s.get("part")]))
                    parts[name_] = parts.get(name_, 0) + s.get("count", 1)
            if p["sample"]:
                parts["sample bottle and label"] = parts.get("sample bottle and label", 0) + 1
        for p in found["parts"]:
            for name_ in (p.get("item_facts") or {}).get("parts", ()) if p["state"] == "open" and p["item_id"] else ():
                parts[name_] = parts.get(name_, 0) + 1
    rows = [
        {"oil": name, "litres": litres, "pack_l": pack, "packs": math.ceil(litres / pack - volumes.EXACT)}
        for (name, pack), litres in sorted(oil.items())
    ]
    return {"first": first, "last": last, "oils": rows, "parts": sorted(parts.items()), "cards": cards_}


def start_values(place: dict[str, Any]) -> list[dict[str, Any]]:
    """Old and new values the device needs to tell what the next charge starts with, by measurand."""
    return [{"name": BY_KEY[key].name, "unit": BY_KEY[key].unit, "old": old, "new": new} for key, old, new in drain.ends(place)]
