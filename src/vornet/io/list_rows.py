"""Rows of a fleet's own list made into register rows, good ones only: what cannot be read, may mean two things or speaks against another row
is named by row and heading."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from vornet.io import list_cells, register_file
from vornet.io.fleet_list import Assumed, ListRow, Sheet
from vornet.io.list_cells import Cell, text_of
from vornet.io.list_header import FIELDS, Column, kind_of, plain

_TOTALS = {"total", "totals", "sum", "subtotal", "grand total", "summe", "gesamt", "average", "mean", "somme", "totaal", "totalt"}
#: a figure without a unit, of a unit with a meter in hours and one in km
TWO_METERS = "h or km? The unit has a meter of each: write the unit behind it"
_KINDS = ("engine", "gearbox", "primary", "final_drive", "differential", "axle", "hydraulics", "compressor", "other")
_NO_NAME = re.compile(r"\d{4}-\d\d-\d\d|\d{1,2}[./]\d{1,2}[./]\d{2,4}|.*\?")
_GRADE = re.compile(r"\b(\d{1,2}W-?\d{2,3}|(?:ISO )?VG ?\d{2,4}|SAE ?\d{2,3})\b", re.IGNORECASE)


@dataclass(frozen=True)
class CellProblem:
    """What is wrong with a row: under which heading ('' the row as a whole), and why."""

    heading: str
    why: str
    clash: bool = False  # it speaks against another row: which is right has to be said


@dataclass
class Understood:
    """Register rows from a list: the document, which row each of its parts is from, what is wrong by row, what is said of the whole."""

    document: dict[str, Any]
    places: dict[str, tuple[int, str]]
    problems: dict[int, list[CellProblem]]
    questions: list[str] = field(default_factory=list)
    said: list[str] = field(default_factory=list)
    skipped: dict[int, str] = field(default_factory=dict)
    carried: dict[int, str] = field(default_factory=dict)  # row -> the unit above it that it belongs to


@dataclass
class _Part:
    """A compartment as one row tells of it."""

    name: str
    facts: dict[str, Any] = field(default_factory=dict)
    interval: list_cells.Interval | None = None
    cap: list_cells.Interval | None = None
    drained_on: date | None = None
    drained_meter: tuple[float, str] | None = None
    drained_in_l: float | None = None
    sample_no: str = ""


@dataclass
class _Read:
    """A row as far as it can be understood by itself."""

    row: ListRow
    unit: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    counts: str = ""
    meters: list[tuple[float, str]] = field(default_factory=list)
    meter_on: date | None = None
    parts: dict[str, _Part] = field(default_factory=dict)


class _Reader:
    """Reads a list's rows one after the other; keeps what earlier rows said."""

    def __init__(self, sheet: Sheet, base: Mapping[str, Any], assumed: Assumed, today: date, left: set[int]) -> None:
        self.sheet, self.assumed, self.today, self.left = sheet, assumed, today, left
        self.by_name = sheet.by_name()
        self.out = Understood({}, {}, {})
        self.units = {u["unit"]: dict(u) for u in base.get("units", ())}
        self.written = {name if assumed.apart else _squeezed(name): (name, 0) for name in self.units}
        self.oils_before = {str(o["name"]) for o in base.get("oils", ())}
        self.oils = {_squeezed(name): name for name in self.oils_before}
        self.named = any(c.key == "compartment" for c in self.by_name.values())

    # -- one row
    def wrong(self, row: ListRow, heading: str, why: str, clash: bool = False) -> None:
        known = self.out.problems.setdefault(row.number, [])
        if not any(p.heading == heading for p in known):
            known.append(CellProblem(heading, why, clash))

    def heading(self, key: str, compartment: str = "") -> str:
        for name, c in self.by_name.items():
            if c.key == key and c.compartment == compartment:
                return name
        return next((name for name, c in self.by_name.items() if c.key == key), "")

    def read(self, row: ListRow) -> _Read:
        found = _Read(row)
        named = next((text_of(cell) for name, cell in row.cells.items() if self._is(name, "compartment")), "")
        if not named and not self.named and not any(c.compartment for c in self.by_name.values()):
            named = self.assumed.compartment
        for name, cell in row.cells.items():
            column = self.by_name.get(name)
            if column is None:
                continue
            try:
                self._cell(found, column, cell, named)
            except ValueError as error:
                self.wrong(row, name, str(error))
        if row.number in self.sheet.too_wide:
            self.wrong(row, "", f"has {self.sheet.too_wide[row.number]} cells more than there are headings: a separator inside a cell?")
        return found

    def _is(self, name: str, key: str) -> bool:
        return name in self.by_name and self.by_name[name].key == key

    def _cell(self, found: _Read, column: Column, cell: Cell, named: str) -> None:
        """One cell onto what its row says. Raises ValueError."""
        what, marks = FIELDS[column.key], self.sheet.marks
        if isinstance(cell, str) and re.fullmatch(r"#[A-Z/0!?]+[!?]?|#N/A", cell.strip()):
            raise ValueError(f"{cell.strip()} is what a spreadsheet writes where its arithmetic failed")
        value: Any
        if what.kind == "volume":
            value = list_cells.volume(cell, column.unit, marks)
            if value <= 0:
                raise ValueError(f"{text_of(cell)[:30]!r}: a volume is more than nothing")
        elif what.kind == "meter":
            value = list_cells.meter(cell, column.unit, marks)
            if value[0] < 0:
                raise ValueError(f"{text_of(cell)[:30]!r}: a meter does not stand below nothing")
        elif what.kind == "interval":
            value = list_cells.interval(cell, column.unit, marks)
        elif what.kind == "days":
            value = list_cells.days(cell, column.unit, marks)
        elif what.kind == "day":
            value = list_cells.day(cell, marks, self.today)
        elif what.kind == "year":
            value = _year(cell, self.today)
        elif what.kind == "counts":
            value = _one_of(cell, {"h": "h", "hours": "h", "hrs": "h", "hour": "h", "stunden": "h", "km": "km", "kilometres": "km",
                                   "kilometers": "km", "kms": "km", "distance": "km", "odometer": "km", "hourmeter": "h", "mi": "km",
                                   "miles": "km"}, "h or km")  # fmt: skip
        elif what.kind == "fuel":
            value = _one_of(cell, list_cells.FUELS, "diesel, gas, biogas, heavy, petrol or none")
        elif what.kind == "kind":
            value = text_of(cell).lower().replace(" ", "_").replace("-", "_")
            value = value if value in _KINDS else kind_of(text_of(cell))
            if value is None:
                raise ValueError(f"{text_of(cell)[:40]!r} is none of {', '.join(k.replace('_', ' ') for k in _KINDS)}")
        else:
            value = text_of(cell)
            if len(value) > 120 and column.key != "note":
                raise ValueError(f"is longer than 120 characters: {value[:30]!r} …")
            if column.key in ("unit", "compartment") and _NO_NAME.fullmatch(value):
                raise ValueError(f"{value[:40]!r} is a date or a question, not a name")
        if what.of_compartment:
            self._of_compartment(found, column, value, column.compartment or named)
        elif column.key == "unit":
            found.unit = value
        elif column.key == "meter":
            found.meters.append(value)
        elif column.key == "meter_on":
            found.meter_on = value
        elif column.key == "meter_unit":
            found.counts = value
        else:
            found.facts[column.key] = value

    def _of_compartment(self, found: _Read, column: Column, value: Any, name: str) -> None:
        if not name:
            if self.named:
                raise ValueError("is said of a compartment that the row does not name")
            return  # the whole list does not say: asked once
        part = found.parts.setdefault(plain(name), _Part(" ".join(name.split())))
        if column.key in ("interval", "cap", "drained_on", "drained_meter", "drained_in_l", "sample_no"):
            setattr(part, column.key, value)
        elif column.key == "filter":
            part.facts["filters"] = [{"part": value}]
        elif column.key == "oil":
            part.facts["oil"] = self._oil(value)
        elif column.key == "grade":
            part.facts["grade"] = value
        elif column.key != "compartment":
            part.facts[column.key] = value

    def _oil(self, name: str) -> str:
        """An oil by the name it has here already, however it is spaced and hyphened; a new one is added to the list of oils."""
        known = self.oils.setdefault(_squeezed(name), name)
        return known

    # -- all rows
    def all(self) -> Understood:
        out = self.out
        if not any(c.key == "unit" for c in self.by_name.values()):
            out.questions.append("unit")
        grouped = any(c.compartment for c in self.by_name.values())
        lonely = any(FIELDS[c.key].of_compartment and not c.compartment for c in self.by_name.values())
        if lonely and not self.named and not grouped and not self.assumed.compartment:
            out.questions.append("compartment")
        if lonely and not self.named and grouped:
            loose = [n for n, c in self.by_name.items() if FIELDS[c.key].of_compartment and not c.compartment]
            out.said.append(f"not read, for they name no compartment while others do: {', '.join(loose)}")
            for name in loose:
                del self.by_name[name]
        carried = out.carried = self._carry()
        reads = [self.read(row) for row in self.sheet.rows if row.number not in self.left]
        reads = [r for r in reads if not self._total(r)]
        for read in reads:
            read.unit = read.unit or carried.get(read.row.number, "")
            self._unit_named(read)
        if carried:
            out.said.append(f"{len(carried)} rows name no unit and are taken as the one above")
        good = [r for r in reads if r.unit]
        counts = self._counts(good)
        self._document(good, counts)
        self._once(good)
        if not_read := self.sheet.not_read():
            out.said.append(f"columns not read: {', '.join(not_read[:20])}")
        return out

    def _once(self, reads: list[_Read]) -> None:
        """Names that stand once among many that stand often: a slip of the pen looks like that."""
        for what, names in (
            ("compartment", [(p.name, r.row.number) for r in reads for p in r.parts.values()]),
            ("oil", [(p.facts["oil"], r.row.number) for r in reads for p in r.parts.values() if p.facts.get("oil")]),
        ):
            often = Counter(plain(name) for name, _ in names)
            once = [(name, row) for name, row in names if often[plain(name)] == 1]
            if once and max(often.values()) > 2 and len(once) * 4 <= len(names):
                rows = ", ".join(f"{name!r} in row {row}" for name, row in once[:8])
                self.out.said.append(f"written once only, where the others come again and again: {what} {rows}")

    def _total(self, read: _Read) -> bool:
        words = plain(read.unit)
        first = plain(text_of(next(iter(read.row.cells.values())))) if read.row.cells else ""
        if words in _TOTALS or (not read.unit and first in _TOTALS):
            self.out.skipped[read.row.number] = "a total, not a unit: not read"
            self.out.problems.pop(read.row.number, None)
            return True
        return False

    def _carry(self) -> dict[int, str]:
        """Units of rows that name none because the one above does, where the whole list is written so: each unit once, with a column of
        compartments."""
        column = next((n for n, c in self.by_name.items() if c.key == "unit"), None)
        if column is None or not self.named or not self.assumed.carry:
            return {}
        written = Counter(text_of(row.cells[column]) for row in self.sheet.rows if column in row.cells)
        if not written or max(written.values()) > 1:
            return {}
        out, current = {}, ""
        for row in self.sheet.rows:
            if column in row.cells:
                current = text_of(row.cells[column])
            elif current:
                out[row.number] = current
        return out

    def _unit_named(self, read: _Read) -> None:
        column = self.heading("unit")
        if not read.unit:
            self.wrong(read.row, column, "is missing: whose row is this?")
            return
        key = read.unit if self.assumed.apart else _squeezed(read.unit)
        name, row = self.written.setdefault(key, (read.unit, read.row.number))
        if name != read.unit:
            where = f"in row {row}" if row else "in the register"
            self.wrong(read.row, column, f"{read.unit!r} is written {name!r} {where}: one unit or two?")
            read.unit = ""

    # -- what meters count
    def _counts(self, reads: list[_Read]) -> dict[str, tuple[str, str]]:
        """What each unit's first and second meter count ('' where there is none)."""
        out: dict[str, tuple[str, str]] = {}
        open_question = False
        by_unit: dict[str, list[_Read]] = {}
        for read in reads:
            by_unit.setdefault(read.unit, []).append(read)
        for unit, mine in by_unit.items():
            known = self.units.get(unit, {})
            told = [r.counts for r in mine if r.counts]
            read_in = [u for r in mine for _, u in r.meters if u]
            lengths = [u for r in mine for p in r.parts.values() if p.interval for u in ("h", "km") if getattr(p.interval, u)]
            lengths += [p.drained_meter[1] for r in mine for p in r.parts.values() if p.drained_meter and p.drained_meter[1]]
            first = known.get("meter_unit") or next(iter([*told, *read_in, *lengths]), "") or self.assumed.counts
            if not first:
                open_question = True
                first = "h"
            other = next((u for u in read_in if u != first), "")
            second = known.get("second_meter_unit") or (other if len(set(read_in)) == 2 else "")
            out[unit] = (first, second)
            for read in mine:
                allowed = {first, second} - {""}
                if read.counts and read.counts not in allowed:
                    self.wrong(read.row, self.heading("meter_unit"), f"says {read.counts}; the unit's meter counts {first}")
                for _, u in read.meters:
                    if u and u not in allowed:
                        self.wrong(read.row, self._meter_heading(u), f"is in {u}; the unit's meter counts {first}")
        if open_question:
            self.out.questions.append("counts")
        return out

    def _meter_heading(self, unit: str) -> str:
        mine = [n for n, c in self.by_name.items() if c.key == "meter"]
        return next((n for n in mine if self.by_name[n].unit in (unit, "mi" if unit == "km" else unit)), mine[0] if mine else "")

    # -- the document
    def _document(self, reads: list[_Read], counts: dict[str, tuple[str, str]]) -> None:
        units: dict[str, dict[str, Any]] = {}
        parts: dict[tuple[str, str], dict[str, Any]] = {}
        from_row: dict[Any, int] = {}
        readings: dict[tuple[str, date, int], tuple[float, int]] = {}
        drains: dict[tuple[str, str, date], dict[str, Any]] = {}
        grades: dict[str, str] = {}
        for read in reads:
            row, unit = read.row, read.unit
            first, second = counts[unit]
            facts = dict(read.facts) | {"meter_unit": first} | ({"second_meter_unit": second} if second else {})
            mine = units.setdefault(unit, {"unit": unit})
            from_row.setdefault(unit, row.number)
            self._merge(mine, facts, row, from_row[unit], "")
            for value, u in read.meters:
                if second and not u:
                    self.wrong(row, self._meter_heading(""), TWO_METERS)
                no = 2 if second and u == second and u != first else 1
                on = read.meter_on or self.today
                known = readings.setdefault((unit, on, no), (value, row.number))
                if known[0] != value:
                    why = f"{value:g} here, {known[0]:g} in row {known[1]}: the same meter, the same day"
                    self.wrong(row, self._meter_heading(u or first), why, True)
            for part in read.parts.values():
                self._part(read, part, (first, second), parts, from_row, drains, grades)
        self._finish(units, parts, from_row, readings, drains, grades)

    def _merge(self, into: dict[str, Any], facts: dict[str, Any], row: ListRow, first_row: int, compartment: str) -> None:
        for key, value in facts.items():
            if into.setdefault(key, value) != value:
                shown = "" if isinstance(value, list) else f"{value} here, {into[key]} "
                self.wrong(row, self.heading(_column_key(key), compartment), f"{shown}in row {first_row}: which is right?", True)

    def _known_part(self, unit: str, name: str) -> dict[str, Any]:
        mine = self.units.get(unit, {}).get("compartments", ())
        return next((c for c in mine if plain(c["compartment"]) == plain(name)), {})

    def _part(
        self, read: _Read, part: _Part, counts: tuple[str, str], parts: dict[tuple[str, str], dict[str, Any]], from_row: dict[Any, int],
        drains: dict[tuple[str, str, date], dict[str, Any]], grades: dict[str, str],
    ) -> None:  # fmt: skip
        row, unit = read.row, read.unit
        group = next((c.compartment for c in self.by_name.values() if c.compartment and plain(c.compartment) == plain(part.name)), "")
        known = self._known_part(unit, part.name)
        name = known.get("compartment") or part.name
        facts = dict(part.facts)
        if grade := facts.pop("grade", None):
            if not facts.get("oil"):
                facts["oil"] = self._oil(grade)
            if grades.setdefault(facts["oil"], grade) != grade:
                why = f"{grade} here; {facts['oil']} is {grades[facts['oil']]} elsewhere in the list"
                self.wrong(row, self.heading("grade", group), why)
        kind = facts.get("kind") or known.get("kind") or kind_of(part.name)
        if kind is None:
            why = f"which kind of compartment is {part.name!r}: {', '.join(k.replace('_', ' ') for k in _KINDS)}?"
            self.wrong(row, self.heading("kind", group) or "kind", why)
            return
        facts["kind"] = kind
        facts |= self._intervals(row, part, counts, group)
        key = (unit, plain(name))
        mine = parts.setdefault(key, {"compartment": name})
        from_row.setdefault(key, row.number)
        self._merge(mine, facts, row, from_row[key], group)
        no = facts.get("meter_no") or known.get("meter_no") or 1
        self._drain(read, part, name, counts, no, drains, group)

    def _intervals(self, row: ListRow, part: _Part, counts: tuple[str, str], group: str) -> dict[str, Any]:
        """Interval and cap in what the compartment's meter counts, and which of the unit's meters that is."""
        out: dict[str, Any] = {}
        first, second = counts
        for key, said in (("interval", part.interval), ("cap", part.cap)):
            if said is None:
                continue
            if said.bare is not None and second:
                self.wrong(row, self.heading(key, group), TWO_METERS)
            if said.days and key == "interval":
                out["interval_days"] = said.days
            elif said.days:
                self.wrong(row, self.heading(key, group), "a cap is in hours or km")
            for u, length in (("h", said.h), ("km", said.km), (first, said.bare)):
                if length is None:
                    continue
                if u not in (first, second):
                    self.wrong(row, self.heading(key, group), f"is in {u}; the unit's meter counts {first}")
                    continue
                if u != first:
                    out["meter_no"] = 2
                if f"{key}_{u}" in out or (out.get("meter_no") == 2 and u == first):
                    self.wrong(row, self.heading(key, group), "says its length twice")
                out[f"{key}_{u}"] = length
        if "interval_days" in part.facts and "interval_days" in out and out["interval_days"] != part.facts["interval_days"]:
            self.wrong(
                row, self.heading("interval_days", group), f"{part.facts['interval_days']} days here, {out['interval_days']} beside it"
            )
        return out

    def _drain(
        self, read: _Read, part: _Part, name: str, counts: tuple[str, str], meter_no: int,
        drains: dict[tuple[str, str, date], dict[str, Any]], group: str,
    ) -> None:  # fmt: skip
        row = read.row
        if part.drained_on is None:
            if part.drained_meter is not None and not any(
                p.heading == self.heading("drained_on", group) for p in self.out.problems.get(row.number, ())
            ):
                self.wrong(row, self.heading("drained_meter", group), "on which day? A last change needs its day and its meter")
            return
        if part.drained_meter is None:
            self.out.said.append(f"row {row.number}: the last change of {name} has no meter beside its day, and is not taken as a drain")
            return
        value, u = part.drained_meter
        mine = counts[meter_no - 1] or counts[0]
        if u != mine and (u or counts[1]):
            why = f"is in {u}; the compartment goes by the meter that counts {mine}" if u else TWO_METERS
            self.wrong(row, self.heading("drained_meter", group), why)
            return
        drain: dict[str, Any] = {"unit": read.unit, "compartment": name, "on": part.drained_on.isoformat(), "meter": value}
        if part.drained_in_l is not None:
            drain["volume_in_l"] = part.drained_in_l
        if part.sample_no:
            drain["sample_no"] = part.sample_no
        key = (read.unit, plain(name), part.drained_on)
        if drains.setdefault(key, drain | {"row": row.number})["meter"] != value:
            self.wrong(
                row,
                self.heading("drained_meter", group),
                f"{value:g} here, {drains[key]['meter']:g} in row {drains[key]['row']}, the same day",
                True,
            )

    def _finish(
        self, units: dict[str, dict[str, Any]], parts: dict[tuple[str, str], dict[str, Any]], from_row: dict[Any, int],
        readings: dict[tuple[str, date, int], tuple[float, int]], drains: dict[tuple[str, str, date], dict[str, Any]], grades: dict[str, str],
    ) -> None:  # fmt: skip
        out, document = self.out, self.out.document
        document["oils"] = []
        for name in sorted({p["oil"] for p in parts.values() if p.get("oil")} - self.oils_before):
            grade = grades.get(name) or (found[1] if (found := _GRADE.search(name)) else None)
            document["oils"].append({"name": name} | ({"grade": grade} if grade else {}))
        document["units"] = []
        for i, (name, facts) in enumerate(units.items()):
            known = {k: v for k, v in self.units.get(name, {}).items() if k != "compartments"}
            mine = [(key, p) for key, p in parts.items() if key[0] == name]
            out.places[f"units[{i}]"] = (from_row[name], "")
            compartments = []
            for j, (key, p) in enumerate(mine):
                out.places[f"units[{i}].compartments[{j}]"] = (from_row[key], p["compartment"])
                before = self._known_part(name, p["compartment"])
                p = p if not before.get("filters") else {k: v for k, v in p.items() if k != "filters"}
                compartments.append({**before, **p})
            document["units"].append({**known, **facts, "compartments": compartments})
        document["readings"] = []
        for n, ((unit, on, no), (value, number)) in enumerate(readings.items()):
            out.places[f"readings[{n}]"] = (number, "")
            document["readings"].append({"unit": unit, "on": on.isoformat(), "meter": value} | ({"meter_no": 2} if no == 2 else {}))
        document["drains"] = []
        for n, drain in enumerate(drains.values()):
            out.places[f"drains[{n}]"] = (drain.pop("row"), drain["compartment"])
            document["drains"].append(drain)
        if readings and not any(c.key == "meter_on" for c in self.by_name.values()):
            out.said.append(f"meter readings carry no day: taken as read on {self.today.isoformat()}")


def understand(sheet: Sheet, base: Mapping[str, Any], assumed: Assumed, today: date, left: Iterable[int] = ()) -> Understood:
    """Register rows from a list's rows, but for those in ``left``. ``base``: the fleet's present register.

    Rows that are wrong are in ``problems``; the document may still tell of them: see ``settled``.
    """
    return _Reader(sheet, base, assumed, today, set(left)).all()


def settled(sheet: Sheet, base: Mapping[str, Any], assumed: Assumed, today: date, left: Iterable[int] = ()) -> Understood:
    """Register rows of the good rows only: a row with anything wrong is left out as a whole, and named."""
    wrong: dict[int, list[CellProblem]] = {}
    for _ in range(8):
        found = understand(sheet, base, assumed, today, {*left, *wrong})
        document = register_file.understand({"fleet": "x", **found.document})
        for problem in document.problems:
            number, cell = in_the_list(sheet, found, problem)
            if number:
                found.problems.setdefault(number, []).append(cell)
            else:
                found.said.append(str(problem))
        if not found.problems:
            break
        wrong |= found.problems
    return replace(found, problems=wrong)


def in_the_list(sheet: Sheet, found: Understood, problem: register_file.Problem) -> tuple[int, CellProblem]:
    """A problem of the register's own checks, by row and heading of the list; row 0 where it is of none."""
    number, compartment = found.places.get(problem.where, (0, ""))
    by_name = sheet.by_name()
    said = problem.field or next((k for k in FIELDS if problem.why.startswith(k)), "")
    key = _column_key(said.split(".")[0])
    mine = [n for n, c in by_name.items() if c.key == key]
    heading = next((n for n in mine if plain(by_name[n].compartment) == plain(compartment)), mine[0] if mine else "")
    why = problem.why
    for n, c in by_name.items():
        why = re.sub(rf"\b{re.escape(c.key)}\b", n, why) if "_" in c.key else why
    return number, CellProblem(heading, why)


def _column_key(key: str) -> str:
    """The column that a register's field comes from."""
    if key in ("filters", "litres"):
        return "filter" if key == "filters" else "drained_in_l"
    for stem in ("interval", "cap"):
        if key in (f"{stem}_h", f"{stem}_km"):
            return stem
    return {"on": "drained_on", "volume_in_l": "drained_in_l", "second_meter_unit": "meter"}.get(key, key)


def _squeezed(name: str) -> str:
    """A name without what people write one way and the other: case, blanks, hyphens, noughts before a number.

    >>> _squeezed("T-01") == _squeezed("t 1"), _squeezed("T-11") == _squeezed("T1-1"), _squeezed("X+ 5W-30") == _squeezed("X 5W30")
    (True, False, False)
    """
    parts = re.findall(r"[^\W\d_]+|\d+|[^\w\s-]", name.casefold())
    return " ".join(part.lstrip("0") or "0" if part.isdigit() else part for part in parts)


def _one_of(cell: Cell, words: Mapping[str, str], which: str) -> str:
    found = words.get(plain(text_of(cell)))
    if found is None:
        raise ValueError(f"{text_of(cell)[:30]!r} is not {which}")
    return found


def _year(cell: Cell, today: date) -> int:
    text = text_of(cell)
    found = re.fullmatch(r"(\d{4})(?:-\d\d-\d\d)?", text)
    if not found or not 1900 <= int(found[1]) <= today.year + 1:
        raise ValueError(f"{text[:30]!r} is not a year")
    return int(found[1])
