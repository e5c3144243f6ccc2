"""Job cards: made, listed, opened with everything their pages and paper need."""

from __future__ import annotations

import math
from datetime import date
from typing import Any

from vornet.core import job as rules
from vornet.core import kit, measuring, schools, volumes
from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY
from vornet.core.meter import MOST_PER_DAY
from vornet.flows.house import fleets
from vornet.flows.plan import stock
from vornet.flows.register import units
from vornet.flows.work import drain
from vornet.store.database import Connection, query

STATE_WORDS = {"planned": "planned", "open": "under way", "done": "done", "part": "closed in part", "stopped": "stopped",
               "cancelled": "cancelled"}  # fmt: skip
DEFER_WORDS = {"part_missing": "part missing", "plug": "plug rounded or seized", "defect": "defect seen", "recheck": "look again",
               "stopped": "stopped", "other": "other"}  # fmt: skip
BOTTLE_FROM = "Bottle from "
#: a pack when the oil's record names none (L); common practice, no source
USUAL_PACK_L = 5.0


def make(
    connection: Connection, fleet_id: int, unit_id: int, compartments: list[int], items: list[int], planned_on: date, sample: bool,
    note: str, by: str, bottles: list[int] | None = None, part_tasks: list[tuple[str, int]] | None = None,
) -> int:  # fmt: skip
    """A job card for one visit; ``bottles``: compartments that only a bottle is drawn from; ``part_tasks``: (task, compartment) of a
    filter, magnetic filter or breather that is looked after while the oil stays in. Raises InputError when there is nothing to
    do, or it is of another unit."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    mine = {s["compartment_id"] for s in connection.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()}
    plan = {i["item_id"] for i in connection.execute(query("register.service_items"), {"units": [unit_id]}).fetchall()}
    alone = [c for c in bottles or () if c not in compartments]
    looked_after = [(t, c) for t, c in part_tasks or () if t in rules.PART_TASKS and (t != rules.FILTER_ONLY or c not in compartments)]
    if not {*compartments, *alone, *(c for _, c in looked_after)} <= mine or not set(items) <= plan:
        raise InputError("parts", f"choose among {unit['unit']}'s own compartments and service items")
    if not compartments and not items and not alone and not looked_after:
        raise InputError("parts", "choose at least one compartment to drain or sample, or one item to do")
    row = connection.execute(
        query("jobs.make"), {"fleet_id": fleet_id, "unit_id": unit_id, "planned_on": planned_on, "note": note.strip()[:500], "by": by}
    ).fetchone()
    assert row is not None
    rows = [{"compartment_id": c, "item_id": None, "sample": True, "task": rules.BOTTLE} for c in alone]
    rows += [{"compartment_id": c, "item_id": None, "sample": sample, "task": rules.DRAIN} for c in compartments]
    rows += [{"compartment_id": c, "item_id": None, "sample": False, "task": t} for t, c in looked_after]
    rows += [{"compartment_id": None, "item_id": i, "sample": False, "task": rules.DRAIN} for i in items]
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


def of_unit(connection: Connection, unit_id: int, limit: int = 8) -> list[dict[str, Any]]:
    """A unit's last cards, newest first."""
    return connection.execute(query("jobs.of_unit"), {"unit_id": unit_id, "limit": limit}).fetchall()


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
            **p, "title": f"{BOTTLE_FROM if p['task'] == rules.BOTTLE else rules.PART_TASKS.get(p['task'], '')}{p['compartment']}",
            "said": mine, "place": place, "document": document, "schools": in_force,
            "steps": rules.steps(p["kind"], document, in_force, p["sample"], p["task"]),
            "kit": rules.kit(document, p["sample"], known_pack or USUAL_PACK_L, p["task"]),
            "pack_known": bool(known_pack), "density_kg_l": (oil or {}).get("density_kg_l") or measuring.DENSITY_KG_L,
        })  # fmt: skip
    needed = kit.summed(
        t for p in parts if p["state"] == "open"
        for t in (kit.things(p["document"], p["sample"], p["task"]) if p["compartment_id"] is not None else
                  [kit.Thing(name, 1.0, kit.PIECES) for name in (p["item_facts"] or {}).get("parts", ())])
    )  # fmt: skip
    missing = stock.missing(connection, job["depot_id"], needed)
    visit = said.get(None, rules.Said())
    photos = connection.execute(query("jobs.photos"), {"job_id": job_id}).fetchall()
    return {"job": job, "parts": parts, "visit": visit, "photos": photos, "oils": sorted(oils),
            "missing": missing}  # fmt: skip


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
            mine = p["kit"]
            if p["task"] == rules.BOTTLE:
                parts["sample bottle and label"] = parts.get("sample bottle and label", 0) + 1
                continue
            if mine.refill is not None:
                name = (p["document"].get("oil") or "oil not on record", mine.pack_l)
                oil[name] = oil.get(name, 0.0) + mine.refill.target_l
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


def meter_bounds(place: dict[str, Any], today: date) -> dict[str, float | None]:
    """What a meter can read today as far as it is known: {least, most}, None unknown; both None after a replaced meter."""
    latest = place["latest"]
    if latest is None or place["changes"]:
        return {"least": None, "most": None}
    days = max((today - latest["on_day"]).days, 0)
    return {"least": latest["meter"], "most": latest["meter"] + MOST_PER_DAY[place["meter_unit"]] * (days + 1)}


def start_values(place: dict[str, Any]) -> list[dict[str, Any]]:
    """Old and new values the device needs to tell what the next charge starts with, by measurand."""
    return [{"name": BY_KEY[key].name, "unit": BY_KEY[key].unit, "old": old, "new": new} for key, old, new in drain.ends(place)]
