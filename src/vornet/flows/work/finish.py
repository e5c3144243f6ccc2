"""What follows from an entry: a drain on record, a bottle, a service, what is put off."""

from __future__ import annotations

import json
import uuid
from dataclasses import asdict, replace
from datetime import date, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from vornet.core import job as rules
from vornet.core import volumes
from vornet.core.errors import InputError
from vornet.core.kit import LITRES, PIECES, Thing, things
from vornet.flows.house import days, fleets, meters
from vornet.flows.house.people import Visitor
from vornet.flows.plan import service, stock
from vornet.flows.work import drain, notes, reopen
from vornet.flows.work.cards import DEFER_WORDS, STATE_WORDS, card
from vornet.store import queue
from vornet.store.database import Connection, query


def follow(
    connection: Connection, who: Visitor, job: dict[str, Any], parts: dict[int, dict[str, Any]], entry: dict[str, Any], today: date
) -> None:  # fmt: skip
    key, part = entry["key"], parts.get(entry["part"])
    if key == "defer":
        _defer(connection, who, job, part, entry)
        if part is not None and entry["value"].get("instead"):
            _close_part(connection, who, job, part, "deferred", str(entry["value"].get("what", ""))[:300])
    elif key == "undo" and part is not None and part["state"] == "open":
        return  # what it would undo was refused
    elif key == "undo" and part is not None:
        reopen.undo(connection, who.fleet_id, job["job_id"], part["part_id"], entry["at"].timestamp(), who.name, today)
        part["state"] = "open"
    elif part is None or part["state"] != "open":
        return  # a second finishing of the same part is kept as an entry and changes nothing
    elif key == "stop":
        _stop(connection, who, job, part, entry, today)
    elif key == "item":
        _item(connection, who, job, part, entry, today)
    elif key == "done":
        _finish(connection, who, job, part, entry, today)


def _day(connection: Connection, job: dict[str, Any], entry: dict[str, Any], today: date) -> date:
    """The calendar's day where the work was done, when it was done."""
    there = {"depot_id": job["depot_id"], "unit_id": job["unit_id"]}
    zone, ahead = days.zone_at(connection, **there), days.ahead(connection, **there)
    found: date = min(entry["at"].astimezone(ZoneInfo(zone)).date(), max(today, today + ahead))
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


def _stop(connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], entry: dict[str, Any], today: date) -> None:
    """A part stopped: it ends safely, with what to do now, and is handed over. Where the new oil is in already, the drain is on record all
    the same: the ledger must not take it for the old charge."""
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
    found = card(connection, job["job_id"], today)
    assert found is not None
    mine = next(p for p in found["parts"] if p["part_id"] == part["part_id"])
    drain_id, ended = None, None
    if part["task"] == rules.DRAIN and part["compartment_id"] is not None and _refilled(mine, found["visit"]):
        try:
            with connection.transaction():
                drain_id, ended = _logged(connection, who, job, part, entry, today, found)
        except InputError as error:  # a stop is never refused for a figure that does not fit
            reason = f"{reason}; its drain is not on record yet ({error})"
    _close_part(connection, who, job, part, "stopped", reason[:500], drain_id, ended)


def _refilled(mine: dict[str, Any], visit: rules.Said) -> bool:
    """Whether nothing but the look for leaks is wanting: the old oil is out, every drain shut, the new oil in."""
    lacking = rules.wanting(mine["document"], mine["said"], visit, mine["place"]["meter_no"], rules.DRAIN)
    return not [key for key, _ in lacking if key not in ("leaks", "parts_in")]


def _item(connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], entry: dict[str, Any], today: date) -> None:
    if part["item_id"] is None:
        raise InputError("part", "is not a service item")
    value = entry["value"]
    full = connection.execute(query("plan.item"), {"item_id": part["item_id"]}).fetchone()
    assert full is not None
    visit = _said(connection, job["job_id"]).get(None, rules.Said())
    meter = visit.get(rules.meter_key(full["meter_no"]))
    on = _day(connection, job, entry, today)
    if meter is not None:
        meters.check(connection, job["unit_id"], full["meter_no"], full["meter_unit"], meter, on)
    reading = {k: v for k, v in value.items() if k in ("value", "values", "greased", "missed", "cleaned", "bled") and v not in (None, "", [])}
    service.record(
        connection, who.fleet_id, part["item_id"], on, meter, str(value.get("outcome", "done")), reading,
        str(value.get("note", "")), who.name, today,
    )  # fmt: skip
    connection.execute(query("jobs.record_of_part"), {"part_id": part["part_id"], "item_id": part["item_id"], "on": on})
    done = value.get("outcome", "done") != "not_done"
    if value.get("outcome", "done") == "done":
        spent = [Thing(name, 1.0, PIECES) for name in full["facts"].get("parts", ())]
        stock.use(connection, who.fleet_id, job["depot_id"], part["part_id"], spent, on, who.name, today)
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
    lacking = rules.wanting(document, said, visit, place["meter_no"], part["task"])
    if lacking:
        raise InputError(*lacking[0])
    if part["task"] == rules.BOTTLE:
        _finish_bottle(connection, who, job, part, mine, visit, _day(connection, job, entry, today), today)
        return
    if part["task"] in rules.PART_TASKS:
        _finish_part(connection, who, job, part, mine, visit, _day(connection, job, entry, today), today)
        return
    drain_id, ended = _logged(connection, who, job, part, entry, today, found)
    _close_part(connection, who, job, part, "done", "", drain_id, ended)


def _logged(
    connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], entry: dict[str, Any], today: date, found: dict[str, Any]
) -> tuple[int, dict[str, Any]]:  # fmt: skip
    """A part's drain on record with its bottle, waste, re-check and what it used: (its id, the figures it ended with)."""
    mine = next(p for p in found["parts"] if p["part_id"] == part["part_id"])
    said, visit, document, place = mine["said"], found["visit"], mine["document"], mine["place"]
    sums = rules.figures(document, said, mine["schools"].get("pour", "approach"))
    on = _day(connection, job, entry, today)
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
    spent = [replace(t, amount=sums.poured_l) if t.unit == LITRES else t for t in things(document, bool(sample_no))]
    if said.get("filter_changed") == "no":
        parts_kept = {f["part"] for f in document.get("filters", ())}
        spent = [t for t in spent if t.name not in parts_kept]
    stock.use(connection, who.fleet_id, job["depot_id"], part["part_id"], _really(spent, said), on, who.name, today)
    used = volumes.refill(sums.poured_l, kit.pack_l) if sums.poured_l > 0 else None
    interval = drain.next_interval(place, said.get("oil", ""))
    next_due = meter + interval if interval else None
    ended = {
        **asdict(sums), "meter": meter, "on": on.isoformat(), "next_due": next_due, "unit": place["meter_unit"],
        "starts": {s.m.key: round(s.start, 4) for s in drain.starts(place, sums.residual_share)},
        "packs": None if used is None else {
            "pack_l": kit.pack_l, "whole": used.whole_packs, "from_last_l": round(used.from_last_pack_l, 3),
            "left_in_last_l": round(used.left_in_last_pack_l, 3)},
    }  # fmt: skip
    return drain_id, ended


def _finish_bottle(
    connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], mine: dict[str, Any], visit: rules.Said, on: date,
    today: date,
) -> None:  # fmt: skip
    """A bottle drawn between two drains: it is on record, and so is the meter it was drawn at."""
    said, place = mine["said"], mine["place"]
    meter = float(visit.get(rules.meter_key(place["meter_no"])))
    notes.read_meter(connection, who.fleet_id, job["unit_id"], place["meter_no"], meter, on, who.name, today)
    _bottle(connection, who, part, said, place, on, meter, None, said.get("sample_no"))
    queue.touch(connection, who.fleet_id, [part["compartment_id"]])
    stock.use(connection, who.fleet_id, job["depot_id"], part["part_id"], things({}, True, rules.BOTTLE), on, who.name, today)
    _close_part(connection, who, job, part, "done", "", None, {"sample_no": said.get("sample_no"), "meter": meter, "on": on.isoformat()})


def _finish_part(
    connection: Connection, who: Visitor, job: dict[str, Any], part: dict[str, Any], mine: dict[str, Any], visit: rules.Said, on: date,
    today: date,
) -> None:  # fmt: skip
    """A filter, magnetic filter or breather looked after while the oil stays in: an event inside the charge, which the ledger knows."""
    said, place, task = mine["said"], mine["place"], part["task"]
    meter = float(visit.get(rules.meter_key(place["meter_no"])))
    changed = said.get("filter_changed", "yes") != "no" if task == rules.FILTER_ONLY else said.get("part_action") == "replaced"
    words = [rules.PART_TASKS[task].strip().removesuffix(" of").lower()]
    if task == rules.FILTER_ONLY:
        words.append("changed" if changed else "left in")
        words += [rules.FILTER_LOOKS[k] for k in said.get("filter_looks") or ()]
    else:
        words.append(rules.PART_ACTIONS[said.get("part_action")])
        grade, look = said.get("part_magnet"), said.get("breather_look")
        words += [f"magnet {grade:.0f} {rules.MAGNET[int(grade)]}"] if grade is not None else []
        words += [rules.BREATHERS[look]] if look else []
    if said.get("filter_part"):
        words.append(str(said.get("filter_part")))
    out_l, in_l = said.get("litres_out"), said.get("litres_in")
    note = ", ".join(words) + (f". {said.get('note')}" if said.get("note") else "")
    notes.event(connection, who.fleet_id, part["compartment_id"], "part_change", on, meter, out_l, in_l, "", note, who.name, today,
                changed if task == rules.FILTER_ONLY else None)  # fmt: skip
    spent = things(mine["document"], False, task) if changed else []
    stock.use(connection, who.fleet_id, job["depot_id"], part["part_id"], _really(spent, said), on, who.name, today)
    _close_part(connection, who, job, part, "done", "", None, {"meter": meter, "on": on.isoformat(), "words": note})


def _really(spent: list[Thing], said: rules.Said) -> list[Thing]:
    """What was used, with the part that was really fitted in the place of the one that was meant."""
    real = str(said.get("filter_part") or "").strip()
    return [replace(t, name=real) if real and real in t.instead else t for t in spent]


def _facts(mine: dict[str, Any], said: rules.Said, job: dict[str, Any]) -> dict[str, Any]:
    """What the job saw, kept with the drain: how the oil left, grades, seals, torque, who did it by which school."""
    kept = {k: said.get(k) for k in (
        "way", "warmth", "minutes", "warmed_min", "dripped_min", "oil_looks", "filter_looks", "strainer_look", "air_action", "as_found",
        "magnets", "torque", "seals_new", "prefilled", "filter_tightened", "filter_turns", "filter_part", "filter_checks", "leaks",
        "indicator", "sample_how",
        "gross_kg", "tare_kg", "oil_c", "fill_open", "filler_open", "cap_slackened", "tilted", "pressure_s", "airbox",
        "level_before_left", "level_before_right",
    )}  # fmt: skip
    kept["drip"] = [{"min": r["min"], "litres": r["litres"]} for r in said.lists.get("drip", ())]
    kept["reading_before"] = rules.level_before(said)
    kept["pours"] = [{k: v for k, v in p.items() if k != "id"} for p in said.lists.get("pour", ())]
    kept["schools"] = mine["schools"]
    kept["job"] = job["job_id"]
    return {k: v for k, v in kept.items() if v not in (None, "", [], {})}


def _bottle(
    connection: Connection, who: Visitor, part: dict[str, Any], said: rules.Said, place: dict[str, Any], on: date, meter: float,
    drain_id: int | None, sample_no: str,
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
