"""Loading and giving back a fleet's register: by name, idempotent, bad rows reported, good rows in."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from vornet.core import schools
from vornet.core.errors import InputError
from vornet.core.measurands import dense
from vornet.flows.house import days, fleets
from vornet.flows.judge import in_force
from vornet.flows.judge.settle import AT_ONCE_FILE, settling
from vornet.flows.plan import service
from vornet.flows.register.dump import compartment_rows, dump
from vornet.flows.register.logs import Progress, put_logs
from vornet.io import register_file, workbook
from vornet.io.register_file import Batch, Problem, RegisterFile
from vornet.store import queue
from vornet.store.database import Connection, Database, Location, opened, query


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
    document.leave_out_after(days.latest(connection, today))
    _settings(connection, document)
    _library(connection, fleet_id, document, report)
    units = _units(connection, fleet_id, document, report, by, today)
    progress("units", len(document.units))
    report.counts |= put_logs(connection, fleet_id, document, units, report.problems, by, today, progress)
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
            report.problems.extend(_doubtful(where, c, str(row["counts"]), oils, units))
            interval = c.interval_km if row["counts"] == "km" else c.interval_h
            compartments.append(row)
            if (interval or c.interval_days) and (unit.unit, c.compartment) not in dated:
                wanted.append((where, units[unit.unit], c.compartment, interval, c.interval_days))
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
    refused = put_intervals(
        connection, fleet_id, [Wanted(ids[(u, n)], meter, days) for _, u, n, meter, days in wanted], "register file", today
    )
    for where, u, n, _, _ in wanted:
        if (why := refused.get(ids[(u, n)])) is not None:
            report.problems.append(Problem(where, why[0], f"left as it is: {why[1]}"))
    report.counts["units"], report.counts["compartments"] = len(rows), len(compartments)
    return units


def _doubtful(where: str, c: register_file.Compartment, counts: str, oils: set[str], units: dict[str, int]) -> Iterable[Problem]:
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


@dataclass(frozen=True)
class Wanted:
    """The interval that a register says of a compartment. None says nothing of that fact; ``clears``: facts that there is no more of."""

    compartment_id: int
    length: float | None
    days: int | None
    clears: frozenset[str] = frozenset()


@dataclass(frozen=True)
class _New:
    """What of a wanted interval is new: None nothing of that fact."""

    length: float | None
    days: int | None
    clears: frozenset[str]

    def __bool__(self) -> bool:
        return self.length is not None or self.days is not None or bool(self.clears)


def _new(w: Wanted, was: dict[str, Any]) -> _New:
    """What a register says differently from what it last said and from what is in force (a row of ``in_force.register_said``)."""
    length = w.length if w.length is not None and w.length not in (was["length_said"], was["length"]) else None
    days = w.days if w.days is not None and w.days not in (was["days_said"], was["days"]) else None
    return _New(length, days, w.clears & {fact for fact in (in_force.LENGTH, "days") if was[fact] is not None})


def intervals_refused(connection: Connection, wanted: Sequence[Wanted], today: date) -> dict[int, tuple[str, str]]:
    """What a register may not say by itself, by compartment, as (``interval`` or ``interval_days``, why): a longer one where something on
    record stands against it, or none at all."""
    known = in_force.register_said(connection, [w.compartment_id for w in wanted], today)
    refused = {}
    for w in wanted:
        was = known[w.compartment_id]
        new = _new(w, was)
        if not was["known"] or not new:
            continue
        why = in_force.refusal(connection, w.compartment_id, new.length, new.days, was["days"], today)
        if why is None and new.clears:
            why = in_force.clearing_refused(connection, w.compartment_id, was, new.clears)
        if why is not None:
            refused[w.compartment_id] = why
    return refused


def put_intervals(connection: Connection, fleet_id: int, wanted: Sequence[Wanted], by: str, today: date) -> dict[int, tuple[str, str]]:
    """Intervals as a register says them: a statement of each fact that it says differently. What it may not say is left as it is, and
    answered as ``intervals_refused`` does."""
    refused = intervals_refused(connection, wanted, today)
    known = in_force.register_said(connection, [w.compartment_id for w in wanted], today)
    statements = []
    for w in wanted:
        was = known[w.compartment_id]
        new = _new(w, was)
        if new and w.compartment_id not in refused:
            statements.append(in_force.Statement(
                compartment_id=w.compartment_id, on=today if was["known"] else fleets.ALWAYS, origin="register", by=by, length=new.length,
                days=new.days, says_length=new.length is not None or in_force.LENGTH in new.clears,
                says_calendar=new.days is not None or "days" in new.clears,
            ))  # fmt: skip
    in_force.say(connection, fleet_id, statements, today)
    return refused


def counts_text(counts: dict[str, int]) -> Iterable[str]:
    """Counts as people read them: '22 units', in the order they were loaded."""
    return (f"{n:,} {name.replace('_', ' ')}" for name, n in counts.items() if n)
