"""Loading and giving back a fleet's register: by name, idempotent, bad rows reported, good rows in."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from vornet.core import drain as drains_of_oil
from vornet.core import schools
from vornet.core.errors import InputError
from vornet.core.measurands import dense
from vornet.core.meter import longest_rising, running_total
from vornet.core.volumes import level_missing_l
from vornet.flows.house import fleets, meters
from vornet.flows.judge.settle import AT_ONCE_FILE, settling
from vornet.flows.plan import service
from vornet.flows.register.dump import compartment_rows, dump
from vornet.io import register_file, workbook
from vornet.io.register_file import Batch, Problem, RegisterFile
from vornet.store import bulk, queue
from vornet.store.database import Connection, Database, Location, opened, query

Progress = Callable[[str, int], None]
#: (unit, day, meter, which of the unit's meters)
Reading = tuple[int, date, float, int]


@dataclass
class RegisterReport:
    """What a register file did: counts per list, rows left out and why, lists not read."""

    fleet: str
    counts: dict[str, int] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return {
            "fleet": self.fleet, **self.counts,
            "problems": [{"where": p.where, "field": p.field, "why": p.why} for p in self.problems],
            "not_read": self.left_out,
        }  # fmt: skip


def load(
    db: Database,
    content: bytes,
    *,
    fleet: str | None = None,
    by: str,
    today: date,
    demo: bool = False,
    zone: str = "UTC",
    file: str = "",
    progress: Progress = lambda step, rows: None,
) -> RegisterReport:
    """Load or update a fleet from a register file: JSON, or by its name and bytes XLSX, ODS, CSV or ZIP.

    Raises InputError when the file cannot be read at all.
    """
    places: dict[str, str] = {}
    if workbook.looks_flat(file, content):
        document, places = _from_tables(db, file, content, fleet, today)
    else:
        document = register_file.read(content)
    name = fleet or document.fleet
    if not name:
        raise InputError("fleet", 'the file names no fleet: add "fleet" to it or give --fleet NAME')
    fleet_id = fleets.find_or_make(db, name, zone=zone, demo=demo)
    report = RegisterReport(name, problems=document.problems, left_out=document.left_out)
    with db.fleet(fleet_id) as connection:
        take(connection, fleet_id, document, report, by, today, progress)
        fleets.took_in(connection, sum(report.counts.values()))
        counts = {**report.counts, "left_out": len(report.problems)}
        fleets.audit(connection, fleet_id, by, "register imported", name, **counts)
    if places:
        report.problems = [workbook.in_the_file(p, places) for p in report.problems]
    return report


def load_and_judge(location: Location, content: bytes, *, fleet: str, by: str, today: date, file: str = "") -> dict[str, Any]:
    """Load a register file and judge what it touched; for a process of its own, which opens the database by itself."""
    with opened(location) as db:
        report = load(db, content, fleet=fleet, by=by, today=today, file=file)
        with settling(db, fleets.find(db, fleet), today, AT_ONCE_FILE):
            return report.as_dict()


def _from_tables(db: Database, file: str, content: bytes, fleet: str | None, today: date) -> tuple[RegisterFile, dict[str, str]]:
    """A workbook's or CSV's rows laid over the register there is."""
    sheets = workbook.read(file, content)
    name = fleet or sheets.fleet
    base = dump(db, name, today, history=False) if name and name in fleets.names(db) else {}
    document, places = workbook.document_of(sheets, base)
    taken = register_file.understand({"fleet": name, **document})
    taken.problems = [*sheets.problems, *taken.problems]
    return taken, places


def take(
    connection: Connection, fleet_id: int, document: RegisterFile, report: RegisterReport, by: str, today: date,
    progress: Progress = lambda step, rows: None,
) -> None:  # fmt: skip
    """Load a register document's rows inside a transaction that is already open."""
    _settings(connection, document)
    _library(connection, fleet_id, document, report)
    units = _units(connection, fleet_id, document, report, by, today)
    progress("units", len(document.units))
    _logs(connection, fleet_id, document, report, units, by, progress)
    service.load(connection, fleet_id, document, report, by)
    progress("service items", len(document.service_items))
    _touch(connection, fleet_id, document, units)


def _touch(connection: Connection, fleet_id: int, document: RegisterFile, units: dict[str, int]) -> None:
    """What a document says something about is to be judged anew; of an oil, everybody."""
    if document.oils or document.settings:
        queue.touch_everything(connection)
    logs = (document.readings, document.meter_changes, document.drains, document.top_ups, document.level_checks, document.events)
    named = {u.unit for u, _ in document.units} | {row.unit for rows in (*logs, document.intervals) for _, row in rows}
    queue.touch_units(connection, [units[name] for name in named if name in units])
    plans = {i.unit for _, i in document.service_items} | {r.unit for _, r in document.service_records}
    queue.touch_plans(connection, fleet_id, [units[name] for name in plans if name in units])


def _settings(connection: Connection, document: RegisterFile) -> None:
    if document.settings is not None:
        given = document.settings
        chosen, zone = {}, given.zone
        try:
            zone = fleets.check_zone(zone) if zone else None
            chosen = schools.checked(dict(given.schools))
        except InputError as error:
            document.problems.append(Problem("settings", error.field, error.why))
            zone = None if error.field == "zone" else zone
        connection.execute(
            query("register.put_settings"),
            {"zone": zone, "measures": given.measures, "schools": json.dumps(chosen)},
        )


def _library(connection: Connection, fleet_id: int, document: RegisterFile, report: RegisterReport) -> None:
    depots = sorted({unit.depot for unit, _ in document.units if unit.depot})
    connection.execute(query("register.put_depots"), {"fleet_id": fleet_id, "names": depots})
    rows = [oil_parameters(fleet_id, oil) for oil in document.oils]
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_oil"), rows)
        cursor.executemany(query("register.put_batch"), [
            {"fleet_id": fleet_id, "oil": oil.name, **batch.model_dump(include=set(Batch.model_fields))}
            for oil in document.oils for batch in oil.batches
        ])  # fmt: skip
        cursor.executemany(query("register.put_template"), [
            {"fleet_id": fleet_id, "name": t.name, "by": "register file",
             "content": json.dumps(t.model_dump(exclude={"name"}), default=str)}
            for _, t in document.templates
        ])  # fmt: skip
    report.counts["oils"] = len(rows)


def oil_parameters(fleet_id: int, oil: register_file.Oil) -> dict[str, object]:
    """What ``register.put_oil`` binds."""
    return {
        "fleet_id": fleet_id, "name": oil.name, "grade": oil.grade, "density_kg_l": oil.density_kg_l,
        "new_values": dense(oil.new_values()).tolist(), "facts": json.dumps(oil.kept()),
    }  # fmt: skip


def unit_parameters(fleet_id: int, u: register_file.Unit) -> dict[str, object]:
    """What ``register.put_unit`` binds."""
    return {
        "fleet_id": fleet_id, "name": u.unit, "depot": u.depot, "model": u.model, "duty": u.duty,
        "meter_unit": u.meter_unit, "second_meter_unit": u.second_meter_unit, "estimated_per_day": u.estimated_per_day,
        "facts": json.dumps(u.kept()),
    }  # fmt: skip


def compartment_parameters(fleet_id: int, unit_id: int, unit: register_file.Unit, c: register_file.Compartment) -> dict[str, object]:
    """What ``register.put_compartment`` binds."""
    counts = (unit.second_meter_unit or unit.meter_unit) if c.meter_no == 2 else unit.meter_unit
    return {
        "fleet_id": fleet_id, "unit_id": unit_id, "name": c.compartment, "kind": c.kind, "fuel": c.fuel,
        "family": c.family or " ".join(filter(None, [unit.model, c.compartment])) or c.kind,
        "system_volume_l": c.system_volume_l, "capacity_l": c.capacity_l,
        "capacity_without_filter_l": c.capacity_without_filter_l, "volume_between_marks_l": c.volume_between_marks_l,
        "oil": c.oil, "cap_meter": c.cap_km if counts == "km" else c.cap_h, "facts": json.dumps(c.kept()),
        "meter_no": c.meter_no, "counts": counts, "shared_unit": c.shared_with.unit if c.shared_with else None,
    }  # fmt: skip


def _units(connection: Connection, fleet_id: int, document: RegisterFile, report: RegisterReport, by: str, today: date) -> dict[str, int]:
    rows = [unit_parameters(fleet_id, u) for u, _ in document.units]
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_unit"), rows)
    known = {r["name"]: r for r in connection.execute(query("register.units")).fetchall()}
    units = {name: r["unit_id"] for name, r in known.items()}
    oils = {r["name"] for r in connection.execute(query("register.oils")).fetchall()}
    compartments, wanted = [], []
    dated = {(v.unit, v.compartment) for _, v in document.intervals}
    for i, (unit, mine) in enumerate(document.units):
        for j, c in enumerate(mine):
            where = f"units[{i}].compartments[{j}]"
            row = compartment_parameters(fleet_id, units[unit.unit], unit, c)
            report.problems.extend(_doubtful(where, unit, c, str(row["counts"]), oils, units))
            interval = c.interval_km if row["counts"] == "km" else c.interval_h
            compartments.append(row)
            if (interval or c.interval_days) and (unit.unit, c.compartment) not in dated:
                wanted.append((units[unit.unit], c.compartment, interval, c.interval_days))
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_compartment"), compartments)
    connection.execute(query("register.recount"))
    states = [
        {"fleet_id": fleet_id, "unit_id": units[u.unit], "on_day": s.on, "state": s.state, "note": s.note, "by": by}
        for u, _ in document.units for s in u.states
    ]  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_state"), states)
    connection.execute(query("register.refresh_states"), {"today": today})
    ids = {(r["unit_id"], r["name"]): r["compartment_id"] for r in compartment_rows(connection, today)}
    put_intervals(connection, fleet_id, [(ids[(u, n)], meter, days) for u, n, meter, days in wanted], "register file", today)
    report.counts["units"], report.counts["compartments"] = len(rows), len(compartments)
    return units


def _doubtful(
    where: str, unit: register_file.Unit, c: register_file.Compartment, counts: str, oils: set[str], units: dict[str, int]
) -> Iterable[Problem]:
    """What is wrong with a compartment that still goes in."""
    if c.oil and c.oil not in oils:
        yield Problem(where, "oil", f"{c.oil!r} is not in the oil list; left without an oil")
    for band in c.oils:
        if band.oil not in oils:
            yield Problem(where, "oils", f"{band.oil!r} is not in the oil list; kept by name")
    given, other = (c.interval_km, c.interval_h) if counts == "km" else (c.interval_h, c.interval_km)
    if other and not given:
        name = "interval_h" if counts == "km" else "interval_km"
        yield Problem(where, name, f"the unit counts {counts}: give interval_{counts}; left without one")
    if c.shared_with and c.shared_with.unit not in units:
        yield Problem(where, "shared_with", f"there is no unit named {c.shared_with.unit!r}; left as this unit's own")


def put_intervals(connection: Connection, fleet_id: int, wanted: list[tuple[int, float | None, int | None]], by: str, today: date) -> None:
    """Intervals as a register says them: a new version where the register says something new."""
    said = {r["compartment_id"]: (r["meter"], r["days"]) for r in connection.execute(query("register.register_intervals")).fetchall()}
    versions = []
    for compartment_id, meter, days in wanted:
        if said.get(compartment_id) != (meter, days):
            since = today if compartment_id in said else fleets.ALWAYS
            versions.append(_interval(fleet_id, compartment_id, since, meter, days, "register", by, ""))
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_interval"), versions)


def _interval(
    fleet_id: int, compartment_id: int, since: date, meter: float | None, days: int | None, origin: str, by: str,
    why: str, evidence: str | None = None,
) -> dict[str, object]:  # fmt: skip
    return {
        "fleet_id": fleet_id, "compartment_id": compartment_id, "effective_from": since, "meter": meter,
        "days": days, "origin": origin, "approved_by": by, "why": why, "evidence": evidence,
    }  # fmt: skip


def _logs(
    connection: Connection, fleet_id: int, document: RegisterFile, report: RegisterReport, units: dict[str, int],
    by: str, progress: Progress,
) -> None:  # fmt: skip
    today = date.max.replace(year=9000)
    compartments = {(r["unit"], r["name"]): r for r in compartment_rows(connection, today)}
    oils = {r["name"]: r["oil_id"] for r in connection.execute(query("register.oils")).fetchall()}

    def unit_of(where: str, name: str) -> int | None:
        if name not in units:
            report.problems.append(Problem(where, "unit", f"there is no unit named {name!r}"))
        return units.get(name)

    def compartment_of(where: str, row: Any) -> dict[str, Any] | None:
        if unit_of(where, row.unit) is None:
            return None
        found = compartments.get((row.unit, row.compartment))
        if found is None:
            report.problems.append(Problem(where, "compartment", f"unit {row.unit!r} has no compartment {row.compartment!r}"))
        return found

    changes = []
    for i, change in document.meter_changes:
        unit_id = unit_of(f"meter_changes[{i}]", change.unit)
        if unit_id is not None:
            changes.append({
                "fleet_id": fleet_id, "unit_id": unit_id, "on_day": change.on, "meter_no": change.meter_no,
                "old": change.old, "new": change.new,
            })  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_meter_change"), changes)

    second = {r["unit_id"] for r in connection.execute(query("register.units")).fetchall() if r["second_meter_unit"]}
    readings: dict[Reading, str] = {}
    for i, reading in document.readings:
        unit_id = unit_of(f"readings[{i}]", reading.unit)
        if unit_id is not None and reading.meter_no == 2 and unit_id not in second:
            why = f"unit {reading.unit!r} has one meter"
            report.problems.append(Problem(f"readings[{i}]", "meter_no", why))
        elif unit_id is not None:
            readings[(unit_id, reading.on, reading.meter, reading.meter_no)] = f"readings[{i}]"

    drains: dict[tuple[int, date], tuple[str, int, list[object]]] = {}
    for i, drain in document.drains:
        where = f"drains[{i}]"
        c = compartment_of(where, drain)
        if c is None:
            continue
        if drain.volume_out_l is not None and c["system_volume_l"]:
            try:
                facts = drains_of_oil.DrainFacts(missing_l=drain.level_missing_l, out_l=drain.volume_out_l)
                drains_of_oil.figures(drains_of_oil.Sump(c["system_volume_l"], c["capacity_l"]), facts)
            except InputError as error:
                report.problems.append(Problem(where, "volume_out_l", error.why))
                continue
        if drain.oil and drain.oil not in oils:
            why = f"{drain.oil!r} is not in the oil list; taken as the usual one"
            report.problems.append(Problem(where, "oil", why))
        kind = drain.volume_out_kind or ("unknown" if drain.volume_out_l is None else "measured")
        drains[(c["compartment_id"], drain.on)] = (where, c["meter_id"], [
            c["compartment_id"], drain.on, drain.meter, drain.volume_out_l, kind, drain.level_missing_l,
            drain.volume_in_l, oils.get(drain.oil or ""), drain.filter_changed, drain.magnet_grade, drain.air_filter,
            drain.sample_no, drain.note, json.dumps(drain.kept()),
        ])  # fmt: skip

    bad = _meters_going_back(connection, readings, drains, report)
    good = (key for key, where in readings.items() if where not in bad)
    added, changed = bulk.append(connection, bulk.READINGS, fleet_id, good, by, "register file")
    report.counts["readings"] = added
    progress("readings", len(readings))
    added, changed = bulk.append(
        connection, bulk.DRAINS, fleet_id, (row for w, _, row in drains.values() if w not in bad), by, "register file"
    )
    report.counts["drains"], report.counts["drains_corrected"] = added, changed
    progress("drains", len(drains))

    top_ups: dict[tuple[int, date, float], list[object]] = {}
    for i, top_up in document.top_ups:
        where = f"top_ups[{i}]"
        c = compartment_of(where, top_up)
        if c is None:
            continue
        if c["system_volume_l"] and top_up.litres >= c["system_volume_l"]:
            why = f"{top_up.litres:g} L does not fit: the system holds {c['system_volume_l']:g} L"
            report.problems.append(Problem(where, "litres", why))
            continue
        key = (c["compartment_id"], top_up.on, top_up.meter)
        top_ups[key] = [*key, top_up.litres, json.dumps(top_up.kept())]
    report.counts["top_ups"] = bulk.append(connection, bulk.TOP_UPS, fleet_id, top_ups.values(), by, "register file")[0]
    progress("top-ups", len(top_ups))

    checks: dict[tuple[Any, ...], list[object]] = {}
    for i, check in document.level_checks:
        c = compartment_of(f"level_checks[{i}]", check)
        if c is not None:
            at = (c["compartment_id"], check.on, check.meter)
            missing, marks = check.level_missing_l, c["volume_between_marks_l"]
            if missing is None and check.reading is not None and marks:
                missing = level_missing_l(check.reading, marks)
            checks[at] = [*at, missing, json.dumps(check.kept())]
    report.counts["level_checks"] = bulk.append(
        connection, bulk.LEVEL_CHECKS, fleet_id, checks.values(), by, "register file")[0]  # fmt: skip
    events: dict[tuple[Any, ...], list[object]] = {}
    for i, event in document.events:
        c = compartment_of(f"events[{i}]", event)
        if c is not None:
            of = (c["compartment_id"], event.on, event.kind)
            events[of] = [
                *of, event.meter, event.litres_out, event.litres_in, event.filter_changed, event.serial, event.note,
                json.dumps(event.extra),
            ]  # fmt: skip
    report.counts["events"] = bulk.append(connection, bulk.EVENTS, fleet_id, events.values(), by, "register file")[0]
    _put_intervals(connection, fleet_id, document, compartment_of)


def _put_intervals(connection: Connection, fleet_id: int, document: RegisterFile, compartment_of: Callable[[str, Any], Any]) -> None:
    """Past intervals of a register file, those that are not there yet."""
    known = {
        (r["compartment_id"], r["effective_from"], r["meter"], r["days"], r["origin"])
        for r in connection.execute(query("register.intervals")).fetchall()
    }
    rows = []
    for i, version in document.intervals:
        c = compartment_of(f"intervals[{i}]", version)
        if c is None:
            continue
        meter = version.interval_km if c["meter_unit"] == "km" else version.interval_h
        if (c["compartment_id"], version.on, meter, version.interval_days, version.origin) not in known:
            rows.append(
                _interval(
                    fleet_id, c["compartment_id"], version.on, meter, version.interval_days, version.origin,
                    version.approved_by, version.why,
                )
            )  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_interval"), rows)


def _meters_going_back(
    connection: Connection,
    readings: dict[Reading, str],
    drains: dict[tuple[int, date], tuple[str, int, list[object]]],
    report: RegisterReport,
) -> set[str]:
    """Rows whose meter goes back; each is reported once, against the figure it contradicts."""
    changes = meters.changes_by_meter(connection)
    points: dict[int, list[tuple[int, float, str]]] = defaultdict(list)

    def add(meter_id: int, on: date, meter: float, where: str) -> None:
        ordinal = on.toordinal()
        points[meter_id].append((ordinal, running_total(meter, ordinal, changes.get(meter_id, [])), where))

    touched = {u * 2 + n - 1 for u, _, _, n in readings} | {m for _, m, _ in drains.values()}
    for r in connection.execute(query("register.meter_points")).fetchall():
        if r["meter_id"] in touched:
            add(r["meter_id"], r["on_day"], r["meter"], "")
    for (unit_id, on, meter, meter_no), where in readings.items():
        add(unit_id * 2 + meter_no - 1, on, meter, where)
    for (_, on), (where, meter_id, row) in drains.items():
        add(meter_id, on, float(row[2]), where)  # type: ignore[arg-type]
    bad = set()
    for mine in points.values():
        mine.sort(key=lambda p: (p[0], p[1]))
        before = 0.0
        for keep, (day, total, where) in zip(longest_rising([(d, t) for d, t, _ in mine]), mine, strict=True):
            if keep:
                before = total
            elif where and where not in bad:
                bad.add(where)
                side = f"after {before:,.0f}" if total < before else f"at {total:,.0f}, ahead of later readings"
                report.problems.append(Problem(where, "meter", f"the meter goes back: {total:,.0f} on {date.fromordinal(day)} {side}"))
    return bad


def counts_text(counts: dict[str, int]) -> Iterable[str]:
    """Counts as people read them: '22 units', in the order they were loaded."""
    return (f"{n:,} {name.replace('_', ' ')}" for name, n in counts.items() if n)
