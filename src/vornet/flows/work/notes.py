"""Between drains: meter readings, top-ups, level checks and events, each checked against what is known."""

from __future__ import annotations

import json
import uuid
from datetime import date
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from vornet.core import volumes
from vornet.core.errors import InputError
from vornet.flows.house import days, fleets, meters
from vornet.store import bulk, queue
from vornet.store.database import Connection, query

EVENT_WORDS = {
    "repair": "repair", "part_change": "part change", "overhaul": "overhaul", "component_exchange": "component exchanged",
}  # fmt: skip


class ReadingIn(BaseModel):
    """One meter reading as a program sends it."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    unit: Annotated[str, Field(min_length=1, max_length=120)]
    on: date
    meter: Annotated[float, Field(ge=0, le=1e9)]
    meter_no: Literal[1, 2] = 1


def read_meter(connection: Connection, fleet_id: int, unit_id: int, meter_no: int, meter: float, on: date, by: str, today: date) -> None:
    """Keep one meter reading of a unit and see anew where its compartments stand."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    if meter_no == 2 and not unit["second_meter_unit"]:
        raise InputError("meter_no", f"{unit['unit']} has one meter")
    days.check_past(connection, on, today, unit_id=unit_id)
    counts = unit["second_meter_unit"] if meter_no == 2 else unit["meter_unit"]
    meters.check(connection, unit_id, meter_no, counts, meter, on)
    bulk.append(connection, bulk.READINGS, fleet_id, [[unit_id, on, meter, meter_no]], by, "read again")
    fleets.audit(connection, fleet_id, by, "meter read", unit["unit"], on=str(on), meter=meter, meter_no=meter_no)
    queue.touch_units(connection, [unit_id])


def readings(connection: Connection, unit_id: int) -> list[dict[str, Any]]:
    """What was read off a unit's meters, newest first, with what was put right."""
    return connection.execute(query("units.readings_of"), {"unit_id": unit_id}).fetchall()


def correct_reading(
    connection: Connection, fleet_id: int, reading_id: int, meter: float | None, on: date | None, why: str, by: str, today: date
) -> None:  # fmt: skip
    """Put a reading right: another figure or day in its place, or none (``meter`` None). The old row stays with the reason; everything
    judged from it is judged again. Raises InputError by field, and then nothing is changed."""
    if not why.strip():
        raise InputError("why", "say in a few words what was wrong with it")
    row = connection.execute(query("units.take_reading"), {"reading_id": reading_id}).fetchone()
    if row is None:
        raise InputError("reading", "is not there, or was put right meanwhile")
    day = on or row["on_day"]
    days.check_past(connection, day, today, unit_id=row["unit_id"])
    said = {"reading_id": reading_id, "why": why.strip()[:300]}
    with connection.transaction():
        connection.execute(query("units.supersede_reading"), {**said, "by_id": reading_id})  # so that it is not held against itself
        if meter is not None:
            counts = row["second_meter_unit"] if row["meter_no"] == 2 else row["meter_unit"]
            meters.check(connection, row["unit_id"], row["meter_no"], counts, meter, day)
            new = {"fleet_id": fleet_id, "unit_id": row["unit_id"], "meter_no": row["meter_no"], "on": day, "meter": meter, "by": by}
            put = connection.execute(query("units.put_reading"), new).fetchone()
            assert put is not None
            connection.execute(query("units.supersede_reading"), {**said, "by_id": put["reading_id"]})
    now = {"meter": meter, "on": str(day)} if meter is not None else {}
    fleets.audit(connection, fleet_id, by, "meter put right" if meter is not None else "meter taken back", row["unit"],
                 was={"meter": row["meter"], "on": str(row["on_day"])}, now=now, why=why.strip())  # fmt: skip
    queue.touch_units(connection, [row["unit_id"]])


def take(connection: Connection, fleet_id: int, rows: list[ReadingIn], by: str, today: date) -> dict[str, Any]:
    """Many readings at once: good ones go in, bad ones come back with their place and reason."""
    units = {u["name"]: u for u in connection.execute(query("register.units")).fetchall()}
    good, problems = [], []
    for i, row in enumerate(rows):
        unit = units.get(row.unit)
        try:
            if unit is None:
                raise InputError("unit", f"there is no unit named {row.unit!r}")
            if row.meter_no == 2 and not unit["second_meter_unit"]:
                raise InputError("meter_no", f"{row.unit} has one meter")
            days.check_past(connection, row.on, today, unit_id=unit["unit_id"])
            counts = unit["second_meter_unit"] if row.meter_no == 2 else unit["meter_unit"]
            meters.check(connection, unit["unit_id"], row.meter_no, counts, row.meter, row.on)
            bulk.append(connection, bulk.READINGS, fleet_id, [[unit["unit_id"], row.on, row.meter, row.meter_no]], by, "read again")
            good.append(unit["unit_id"])
        except InputError as error:
            problems.append({"where": f"[{i}]", "field": error.field, "why": error.why})
    if good:
        fleets.audit(connection, fleet_id, by, "meters read", f"{len(good)} readings")
        queue.touch_units(connection, set(good))
    return {"taken": len(good), "problems": problems}


def _place(connection: Connection, compartment_id: int, on: date, meter: float, today: date) -> dict[str, Any]:
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    days.check_past(connection, on, today, compartment_id=compartment_id)
    meters.check(connection, row["unit_id"], row["meter_no"], row["meter_unit"], meter, on)
    found: dict[str, Any] = row
    return found


def top_up(
    connection: Connection, fleet_id: int, compartment_id: int, on: date, meter: float, litres: float,
    before: float | None, after: float | None, by: str, today: date,
) -> None:  # fmt: skip
    """Make-up oil, with the levels read before and after it where they were."""
    row = _place(connection, compartment_id, on, meter, today)
    if row["system_volume_l"] and litres >= row["system_volume_l"]:
        raise InputError("litres", f"{litres:g} L does not fit: the system holds {row['system_volume_l']:g} L")
    if litres <= 0:
        raise InputError("litres", "something must have gone in")
    if before is not None and after is not None and after <= before:
        raise InputError("reading_after", "the level after a top-up is above the one before it")
    facts = {k: v for k, v in {"reading_before": before, "reading_after": after}.items() if v is not None}
    bulk.append(connection, bulk.TOP_UPS, fleet_id, [[compartment_id, on, meter, litres, json.dumps(facts)]], by, "corrected")
    fleets.audit(connection, fleet_id, by, "top-up", f"{row['unit']} {row['compartment']}", on=str(on), litres=litres, **facts)
    queue.touch(connection, fleet_id, [compartment_id])


def level_check(
    connection: Connection, fleet_id: int, compartment_id: int, on: date, meter: float, reading: float, by: str, today: date
) -> None:
    """A level read and nothing added: 0 at MIN, 1 at MAX."""
    row = _place(connection, compartment_id, on, meter, today)
    marks = row["volume_between_marks_l"]
    missing = volumes.level_missing_l(reading, marks) if marks else None
    bulk.append(
        connection, bulk.LEVEL_CHECKS, fleet_id,
        [[compartment_id, on, meter, missing, json.dumps({"reading": reading})]], by, "corrected",
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "level read", f"{row['unit']} {row['compartment']}", on=str(on), reading=reading)
    queue.touch(connection, fleet_id, [compartment_id])


def heard_first(connection: Connection, fleet_id: int, client_id: str, said: str) -> bool:
    """Whether a note that a phone sends is heard for the first time. Raises InputError for what is no id."""
    try:
        name = uuid.UUID(client_id)
    except ValueError:
        raise InputError("id", "is not a note's id") from None
    row = connection.execute(query("jobs.hear_note"), {"fleet_id": fleet_id, "client_id": name, "said": said[:80]}).fetchone()
    return row is not None


def last_stretch(connection: Connection, compartment_id: int, marks: float | None) -> tuple[float, float, float] | None:
    """(litres lost, litres per 1,000 of the meter, length) between the last two levels read, with what was poured in between; None where
    there are not two, or the marks are unknown."""
    rows = connection.execute(query("jobs.last_levels"), {"compartment_id": compartment_id}).fetchall()
    if not marks or len(rows) < 2:
        return None
    now, before = rows
    added = connection.execute(
        query("jobs.added_between"),
        {"compartment_id": compartment_id, "after": before["meter"], "upto": now["meter"], "from": before["on_day"]},
    ).fetchone()  # fmt: skip
    length = now["meter"] - before["meter"]
    was, stands = (volumes.level_missing_l(r["reading"], marks) for r in (before, now))
    found = volumes.stretch_loss(was, stands, added["litres"] if added else 0.0, length)
    return None if found is None else (*found, length)


def event(
    connection: Connection, fleet_id: int, compartment_id: int, kind: str, on: date, meter: float,
    litres_out: float | None, litres_in: float | None, serial: str, note: str, by: str, today: date, filter_changed: bool | None = None,
) -> None:  # fmt: skip
    """A repair, part change, overhaul or component exchange; the last two restart baseline and break-in."""
    if kind not in EVENT_WORDS:
        raise InputError("kind", f"one of {', '.join(EVENT_WORDS)}")
    row = _place(connection, compartment_id, on, meter, today)
    for name, litres in (("litres_out", litres_out), ("litres_in", litres_in)):
        if litres is not None and litres < 0:
            raise InputError(name, "is less than nothing")
        if litres is not None and row["system_volume_l"] and litres > row["system_volume_l"] * 1.02:
            raise InputError(name, f"{litres:g} L is more than the {row['system_volume_l']:g} L the system holds")
    bulk.append(
        connection, bulk.EVENTS, fleet_id,
        [[compartment_id, on, kind, meter, litres_out, litres_in, filter_changed, serial.strip()[:120] or None, note.strip()[:2000], "{}"]],
        by, "corrected",
    )  # fmt: skip
    fleets.audit(
        connection, fleet_id, by, EVENT_WORDS[kind], f"{row['unit']} {row['compartment']}", on=str(on), meter=meter,
        serial=serial, note=note,
    )  # fmt: skip
    queue.touch(connection, fleet_id, [compartment_id])
