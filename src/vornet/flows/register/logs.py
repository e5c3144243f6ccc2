"""What a register file says happened: meters read and replaced, drains, top-ups, levels, events, past intervals."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import Any, NamedTuple

from vornet.core import drain as drains_of_oil
from vornet.core.errors import InputError
from vornet.core.meter import longest_rising, running_total
from vornet.core.volumes import level_missing_l
from vornet.flows.house import meters
from vornet.flows.judge import in_force
from vornet.flows.register.dump import compartment_rows
from vornet.io.register_file import Drain, Problem, RegisterFile
from vornet.store import bulk
from vornet.store.database import Connection, query

Progress = Callable[[str, int], None]
#: (unit, day, meter, which of the unit's meters)
Reading = tuple[int, date, float, int]


class DrainRow(NamedTuple):
    """A drain to be kept: where the file says it, the meter it was read on, and its row."""

    where: str
    meter_id: int
    meter: float
    row: list[object]


@dataclass
class Places:
    """Units and compartments by the names a file gives them; who is not there is reported as a problem."""

    units: dict[str, int]
    compartments: dict[tuple[str, str], dict[str, Any]]
    problems: list[Problem]

    def unit(self, where: str, name: str) -> int | None:
        if name not in self.units:
            self.problems.append(Problem(where, "unit", f"there is no unit named {name!r}"))
        return self.units.get(name)

    def compartment(self, where: str, row: Any) -> dict[str, Any] | None:
        if self.unit(where, row.unit) is None:
            return None
        found = self.compartments.get((row.unit, row.compartment))
        if found is None:
            self.problems.append(Problem(where, "compartment", f"unit {row.unit!r} has no compartment {row.compartment!r}"))
        return found


def put_logs(
    connection: Connection, fleet_id: int, document: RegisterFile, units: dict[str, int], problems: list[Problem], by: str,
    today: date, progress: Progress,
) -> dict[str, int]:  # fmt: skip
    """Keep a register file's logs, what is there already left as it is; how many of each came in. Rows that cannot be are added to
    ``problems``."""
    places = Places(units, {(r["unit"], r["name"]): r for r in compartment_rows(connection, today)}, problems)
    counts: dict[str, int] = {}

    def keep(name: str, log: bulk.Log, rows: Any) -> None:
        counts[name] = bulk.append(connection, log, fleet_id, rows, by, "register file")[0]

    _put_meter_changes(connection, fleet_id, document, places)
    readings, drains = _readings(connection, document, places), _drains(connection, document, places)
    bad = _meters_going_back(connection, readings, drains, problems)
    keep("readings", bulk.READINGS, (key for key, where in readings.items() if where not in bad))
    progress("readings", len(readings))
    good = (d.row for d in drains.values() if d.where not in bad)
    counts["drains"], counts["drains_corrected"] = bulk.append(connection, bulk.DRAINS, fleet_id, good, by, "register file")
    if counts["drains_corrected"]:
        connection.execute(query("put_right.parts_catch_up"))
        connection.execute(query("put_right.bottles_catch_up"))
    progress("drains", len(drains))
    top_ups = _top_ups(document, places)
    keep("top_ups", bulk.TOP_UPS, top_ups)
    progress("top-ups", len(top_ups))
    keep("level_checks", bulk.LEVEL_CHECKS, _level_checks(document, places))
    keep("events", bulk.EVENTS, _events(document, places))
    _put_intervals(connection, fleet_id, document, places, by, today)
    return counts


def _put_meter_changes(connection: Connection, fleet_id: int, document: RegisterFile, places: Places) -> None:
    changes = [
        {"fleet_id": fleet_id, "unit_id": unit_id, "on_day": c.on, "meter_no": c.meter_no, "old": c.old, "new": c.new}
        for i, c in document.meter_changes if (unit_id := places.unit(f"meter_changes[{i}]", c.unit)) is not None
    ]  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_meter_change"), changes)


def _readings(connection: Connection, document: RegisterFile, places: Places) -> dict[Reading, str]:
    """Readings to be kept, each with where the file says it."""
    second = {r["unit_id"] for r in connection.execute(query("register.units")).fetchall() if r["second_meter_unit"]}
    out: dict[Reading, str] = {}
    for i, reading in document.readings:
        where = f"readings[{i}]"
        unit_id = places.unit(where, reading.unit)
        if unit_id is not None and reading.meter_no == 2 and unit_id not in second:
            places.problems.append(Problem(where, "meter_no", f"unit {reading.unit!r} has one meter"))
        elif unit_id is not None:
            out[(unit_id, reading.on, reading.meter, reading.meter_no)] = where
    return out


def _drains(connection: Connection, document: RegisterFile, places: Places) -> dict[tuple[int, date], DrainRow]:
    """Drains to be kept, by compartment and day."""
    oils = {r["name"]: r["oil_id"] for r in connection.execute(query("register.oils")).fetchall()}
    out: dict[tuple[int, date], DrainRow] = {}
    for i, drain in document.drains:
        where = f"drains[{i}]"
        c = places.compartment(where, drain)
        if c is None:
            continue
        if why := _too_much(drain, c):
            places.problems.append(Problem(where, "volume_out_l", why))
            continue
        if drain.oil and drain.oil not in oils:
            places.problems.append(Problem(where, "oil", f"{drain.oil!r} is not in the oil list; taken as the usual one"))
        kind = drain.volume_out_kind or ("" if drain.volume_out_l is None else "measured")  # '': not said, so what stands stays
        out[(c["compartment_id"], drain.on)] = DrainRow(where, c["meter_id"], drain.meter, [
            c["compartment_id"], drain.on, drain.meter, drain.volume_out_l, kind, drain.level_missing_l,
            drain.volume_in_l, oils.get(drain.oil or ""), drain.filter_changed, drain.magnet_grade, drain.air_filter,
            drain.sample_no, drain.note, json.dumps(drain.kept()),
        ])  # fmt: skip
    return out


def _too_much(drain: Drain, c: dict[str, Any]) -> str:
    """Why so much cannot have come out; '' when it can."""
    if drain.volume_out_l is None or not c["system_volume_l"]:
        return ""
    try:
        facts = drains_of_oil.DrainFacts(missing_l=drain.level_missing_l, out_l=drain.volume_out_l)
        drains_of_oil.figures(drains_of_oil.Sump(c["system_volume_l"], c["capacity_l"]), facts)
    except InputError as error:
        return error.why
    return ""


def _top_ups(document: RegisterFile, places: Places) -> list[list[object]]:
    out: dict[tuple[int, date, float], list[object]] = {}
    for i, top_up in document.top_ups:
        where = f"top_ups[{i}]"
        c = places.compartment(where, top_up)
        if c is None:
            continue
        if c["system_volume_l"] and top_up.litres >= c["system_volume_l"]:
            why = f"{top_up.litres:g} L does not fit: the system holds {c['system_volume_l']:g} L"
            places.problems.append(Problem(where, "litres", why))
            continue
        key = (c["compartment_id"], top_up.on, top_up.meter)
        out[key] = [*key, top_up.litres, json.dumps(top_up.kept())]
    return list(out.values())


def _level_checks(document: RegisterFile, places: Places) -> list[list[object]]:
    out: dict[tuple[Any, ...], list[object]] = {}
    for i, check in document.level_checks:
        c = places.compartment(f"level_checks[{i}]", check)
        if c is None:
            continue
        missing, marks = check.level_missing_l, c["volume_between_marks_l"]
        if missing is None and check.reading is not None and marks:
            missing = level_missing_l(check.reading, marks)
        at = (c["compartment_id"], check.on, check.meter)
        out[at] = [*at, missing, json.dumps(check.kept())]
    return list(out.values())


def _events(document: RegisterFile, places: Places) -> list[list[object]]:
    out: dict[tuple[Any, ...], list[object]] = {}
    for i, event in document.events:
        c = places.compartment(f"events[{i}]", event)
        if c is not None:
            of = (c["compartment_id"], event.on, event.kind)
            out[of] = [
                *of, event.meter, event.litres_out, event.litres_in, event.filter_changed, event.serial, event.note,
                json.dumps(event.extra),
            ]  # fmt: skip
    return list(out.values())


def _put_intervals(connection: Connection, fleet_id: int, document: RegisterFile, places: Places, by: str, today: date) -> None:
    """Past intervals of a register file, those that are not there yet. An approval in a file is no approval: it is kept as stated by the
    file, loaded by whoever loaded it. One that would be in force from now on is asked for like any other word of the register."""
    known = {
        (r["compartment_id"], r["effective_from"], r["meter"], r["days"], r["origin"])
        for r in connection.execute(query("register.intervals")).fetchall()
    }
    statements = []
    named = {(v.unit, v.compartment) for _, v in document.intervals}
    standing = in_force.register_said(connection, [r["compartment_id"] for name, r in places.compartments.items() if name in named], today)
    for i, version in document.intervals:
        c = places.compartment(f"intervals[{i}]", version)
        if c is None:
            continue
        meter = version.interval_km if c["meter_unit"] == "km" else version.interval_h
        of = (c["compartment_id"], version.on, meter, version.interval_days)
        origin = "register" if version.origin == "register" else "stated"
        if (*of, origin) in known or (*of, version.origin) in known:
            continue
        now = standing[c["compartment_id"]]
        if now["known"] and (now["since"] is None or version.on > now["since"]):
            why = in_force.refusal(connection, c["compartment_id"], meter, version.interval_days, now["days"], today)
            if why is not None:
                places.problems.append(Problem(f"intervals[{i}]", why[0], f"left out: {why[1]}"))
                continue
        who = "register file" if origin == "register" else by
        said = f"stated by file: approved by {version.approved_by or 'nobody named'}. {version.why}".strip()
        statements.append(in_force.Statement(
            compartment_id=c["compartment_id"], on=version.on, origin=origin, by=who, length=meter, days=version.interval_days,
            says_length=meter is not None, says_calendar=version.interval_days is not None,
            why=version.why if origin == "register" else said,
        ))  # fmt: skip
        known.add((*of, origin))
    in_force.say(connection, fleet_id, statements, today)


def _meters_going_back(
    connection: Connection,
    readings: dict[Reading, str],
    drains: dict[tuple[int, date], DrainRow],
    problems: list[Problem],
) -> set[str]:
    """Rows whose meter goes back; each is reported once, against the figure it contradicts."""
    changes = meters.changes_by_meter(connection)
    points: dict[int, list[tuple[int, float, str]]] = defaultdict(list)

    def add(meter_id: int, on: date, meter: float, where: str) -> None:
        ordinal = on.toordinal()
        points[meter_id].append((ordinal, running_total(meter, ordinal, changes.get(meter_id, [])), where))

    touched = {u * 2 + n - 1 for u, _, _, n in readings} | {d.meter_id for d in drains.values()}
    for r in connection.execute(query("register.meter_points")).fetchall():
        if r["meter_id"] in touched:
            add(r["meter_id"], r["on_day"], r["meter"], "")
    for (unit_id, on, meter, meter_no), where in readings.items():
        add(unit_id * 2 + meter_no - 1, on, meter, where)
    for (_, on), drain in drains.items():
        add(drain.meter_id, on, drain.meter, drain.where)
    bad = set()
    for mine in points.values():
        mine.sort(key=lambda p: (p[0], p[1]))
        before = 0.0
        for keep, (day, total, where) in zip(longest_rising([(d, t) for d, t, _ in mine]), mine, strict=True):
            if keep:
                before = total
            elif where and where not in bad:
                bad.add(where)
                side = f"after {before:.0f}" if total < before else f"at {total:.0f}, ahead of later readings"
                problems.append(Problem(where, "meter", f"the meter goes back: {total:.0f} on {date.fromordinal(day)} {side}"))
    return bad
