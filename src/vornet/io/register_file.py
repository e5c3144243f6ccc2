"""The register file: everything a new customer already has, as JSON. See docs/formats.md.

Rows are checked one by one: a bad row is reported with its place and field, the good ones go in. Keys
that Vornet does not use yet are kept as they are, so that a round trip loses nothing.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date
from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field, ValidationError, field_validator, model_validator

from vornet.core.errors import InputError
from vornet.core.measurands import KEYS
from vornet.io.equipment import Facts, Name, NotNegative, Positive, Row, ServiceItem, Words, day_of_year

Kind = Literal["engine", "gearbox", "primary", "final_drive", "differential", "axle", "hydraulics", "compressor", "other"]
Fuel = Literal["diesel", "gas", "biogas", "heavy", "petrol", "none"]
AirFilter = Literal["clean", "dusty", "blocked", "leaking"]
State = Literal["in_service", "laid_up", "retired"]
LevelReading = Annotated[float, Field(ge=-2, le=3)]
"""A level between the marks: 0 at MIN, 1 at MAX."""


def _kept(row: Row, columns: frozenset[str]) -> dict[str, Any]:
    """What a row says beyond the columns, as it goes into jsonb: nothing unset, nothing empty."""
    given = row.model_dump(mode="json", exclude_unset=True, exclude=set(columns))
    return {k: v for k, v in given.items() if v not in (None, "", [], {})}


class Batch(Row):
    batch: Name
    received_on: date | None = None
    litres: Positive | None = None
    sample_no: str | None = None
    note: str = ""


class Oil(Row):
    name: Name
    grade: str | None = None
    density_kg_l: Annotated[float, Field(ge=0.5, le=1.5)] | None = None
    approvals: list[Name] = []
    pack_l: Positive | None = None
    cap_h: Positive | None = None
    cap_km: Positive | None = None
    claim_h: Positive | None = None
    claim_km: Positive | None = None
    batches: list[Batch] = []

    @model_validator(mode="after")
    def _values_are_numbers(self) -> Oil:
        for key, value in self.extra.items():
            if key in KEYS and value is not None:
                if isinstance(value, bool) or not isinstance(value, int | float):
                    raise ValueError(f"{key} must be a number, not {value!r}")
                if not 0 <= value <= 1e7:
                    raise ValueError(f"{key} = {value} is out of range")
        return self

    def new_values(self) -> dict[str, float]:
        return {k: float(v) for k, v in self.extra.items() if k in KEYS and v is not None}

    def kept(self) -> dict[str, Any]:
        return _kept(self, frozenset({"name", "grade", "density_kg_l", "batches", *KEYS}))


class SharedWith(Row):
    """A sump that two units share: the other unit, so that both meters are named."""

    unit: Name


_COMPARTMENT_COLUMNS = frozenset({
    "compartment", "kind", "fuel", "family", "system_volume_l", "capacity_l", "capacity_without_filter_l",
    "volume_between_marks_l", "oil", "interval_h", "interval_km", "cap_h", "cap_km", "interval_days", "meter_no", "shared_with",
})  # fmt: skip


class Compartment(Facts):
    compartment: Name
    kind: Kind
    fuel: Fuel | None = None
    family: Name | None = None
    meter_no: Literal[1, 2] = 1
    shared_with: SharedWith | None = None
    system_volume_l: Positive | None = None
    capacity_l: Positive | None = None
    capacity_without_filter_l: Positive | None = None
    volume_between_marks_l: Positive | None = None
    oil: Name | None = None
    interval_h: Positive | None = None
    interval_km: Positive | None = None
    cap_h: Positive | None = None
    cap_km: Positive | None = None
    interval_days: Annotated[int, Field(gt=0, le=20000)] | None = None
    printed_h: Positive | None = None
    printed_km: Positive | None = None
    indicator_h: Positive | None = None
    indicator_km: Positive | None = None
    filter_h: Positive | None = None
    filter_km: Positive | None = None
    bypass_h: Positive | None = None
    bypass_km: Positive | None = None
    first_drain_h: Positive | None = None
    first_drain_km: Positive | None = None

    @field_validator(
        "interval_h", "interval_km", "interval_days", "cap_h", "cap_km", "printed_h", "printed_km", "indicator_h", "indicator_km",
        "filter_h", "filter_km", "bypass_h", "bypass_km", "first_drain_h", "first_drain_km", mode="before",
    )  # fmt: skip
    @classmethod
    def _not_zero(cls, value: Any) -> Any:
        if isinstance(value, int | float) and not isinstance(value, bool) and value == 0:
            raise ValueError("an interval of zero is always due: leave it out, or give a length")
        return value

    @model_validator(mode="after")
    def _volumes_fit(self) -> Compartment:
        with_filter, without = self.capacity_l, self.capacity_without_filter_l
        if with_filter and without and without > with_filter:
            raise ValueError(f"capacity_without_filter_l {without:g} L is above capacity_l {with_filter:g} L: the filter adds to it")
        if self.system_volume_l and with_filter and with_filter > self.system_volume_l * 1.02:
            raise ValueError(f"capacity_l {with_filter:g} L is above system_volume_l {self.system_volume_l:g} L")
        holds = self.system_volume_l or with_filter
        if self.volume_between_marks_l and holds and self.volume_between_marks_l > holds:
            raise ValueError(f"volume_between_marks_l {self.volume_between_marks_l:g} L is more than the {holds:g} L that the sump holds")
        points = [p.litres for p in self.fill_points if p.litres]
        if holds and points and sum(points) > holds * 1.02:
            raise ValueError(f"fill_points add up to {sum(points):g} L, more than the {holds:g} L that the sump holds")
        return self

    def kept(self) -> dict[str, Any]:
        return _kept(self, _COMPARTMENT_COLUMNS)


class UnitState(Row):
    on: date
    state: State
    note: str = ""


_UNIT_COLUMNS = frozenset({
    "unit", "depot", "model", "duty", "meter_unit", "second_meter_unit", "estimated_per_day", "states", "compartments",
})  # fmt: skip


class Unit(Row):
    unit: Name
    depot: Name | None = None
    model: str | None = None
    duty: str | None = None
    meter_unit: Literal["h", "km"] = "h"
    second_meter_unit: Literal["h", "km"] | None = None
    estimated_per_day: Annotated[float, Field(gt=0, le=5000)] | None = None
    serial: str | None = None
    year: Annotated[int, Field(ge=1900, le=2200)] | None = None
    plate: str | None = None
    access: Words | None = None
    lay_up_from: str | None = None
    lay_up_to: str | None = None
    states: list[UnitState] = []
    compartments: list[Any] = []

    @field_validator("lay_up_from", "lay_up_to")
    @classmethod
    def _a_day_of_the_year(cls, value: str | None) -> str | None:
        return day_of_year(value)

    @model_validator(mode="after")
    def _lay_up_begins_and_ends(self) -> Unit:
        if bool(self.lay_up_from) != bool(self.lay_up_to):
            raise ValueError("lay_up_from and lay_up_to are given together: the day it begins and the day it ends")
        return self

    @model_validator(mode="after")
    def _hours_in_a_day(self) -> Unit:
        if self.estimated_per_day and self.meter_unit == "h" and self.estimated_per_day > 24:
            raise ValueError(f"estimated_per_day {self.estimated_per_day:g} h is more than a day has")
        return self

    def kept(self) -> dict[str, Any]:
        return _kept(self, _UNIT_COLUMNS)


class Reading(Row):
    unit: Name
    on: date
    meter: NotNegative
    meter_no: Literal[1, 2] = 1

    @model_validator(mode="before")
    @classmethod
    def _one_meter(cls, row: Any) -> Any:
        if isinstance(row, dict):
            several = isinstance(row.get("meter"), list) or {"meter_h", "meter_km"} <= set(row) or "meter_2" in row
            if several:
                raise ValueError("two meters on one reading: give one row for each, with meter_no 1 or 2")
        return row


class MeterChange(Row):
    unit: Name
    on: date
    old: NotNegative
    new: NotNegative
    meter_no: Literal[1, 2] = 1


class _At(Row):
    unit: Name
    compartment: Name
    on: date


_DRAIN_COLUMNS = frozenset({
    "unit", "compartment", "on", "meter", "volume_out_l", "volume_out_kind", "level_missing_l", "volume_in_l", "oil",
    "filter_changed", "magnet_grade", "air_filter", "sample_no", "note",
})  # fmt: skip


class Drain(_At):
    meter: NotNegative
    volume_out_l: NotNegative | None = None
    volume_out_kind: Literal["measured", "estimated", "unknown"] | None = None
    level_missing_l: Annotated[float, Field(ge=-1e4, le=1e7)] | None = None
    volume_in_l: NotNegative | None = None
    oil: Name | None = None
    filter_changed: bool | None = None
    magnet_grade: Annotated[int, Field(ge=0, le=4)] | None = None
    air_filter: AirFilter | None = None
    sample_no: str | None = None
    note: str = ""
    reading_before: LevelReading | None = None
    reading_after: LevelReading | None = None
    ambient_c: Annotated[float, Field(ge=-60, le=70)] | None = None
    batch: Name | None = None
    concession: str | None = None

    def kept(self) -> dict[str, Any]:
        return _kept(self, _DRAIN_COLUMNS)


class TopUp(_At):
    meter: NotNegative
    litres: Positive
    reading_before: LevelReading | None = None
    reading_after: LevelReading | None = None
    oil: Name | None = None
    ambient_c: Annotated[float, Field(ge=-60, le=70)] | None = None
    concession: str | None = None

    def kept(self) -> dict[str, Any]:
        return _kept(self, frozenset({"unit", "compartment", "on", "meter", "litres"}))


class LevelCheck(_At):
    meter: NotNegative | None = None
    level_missing_l: Annotated[float, Field(ge=-1e4, le=1e7)] | None = None
    reading: LevelReading | None = None

    @model_validator(mode="after")
    def _says_something(self) -> LevelCheck:
        if self.level_missing_l is None and self.reading is None:
            raise ValueError("level_missing_l or reading is needed")
        return self

    def kept(self) -> dict[str, Any]:
        return _kept(self, frozenset({"unit", "compartment", "on", "meter", "level_missing_l"}))


class Event(_At):
    meter: NotNegative
    kind: Literal["part_change", "repair", "overhaul", "component_exchange"]
    litres_out: NotNegative | None = None
    litres_in: NotNegative | None = None
    filter_changed: bool | None = None
    serial: str | None = None
    note: str = ""


class ServiceRecord(Row):
    """A service item seen to: done, only looked at (condition), or not done; with what was read."""

    unit: Name
    compartment: Name | None = None
    item: Name
    on: date
    meter: NotNegative | None = None
    outcome: Literal["done", "looked_at", "not_done"] = "done"
    reading: dict[str, Any] = {}
    note: str = ""


class Template(Row):
    """A pattern for new units: ``unit`` facts, ``compartments`` and ``service_items`` without names of a unit."""

    name: Name
    unit: dict[str, Any] = {}
    compartments: list[dict[str, Any]] = []
    service_items: list[dict[str, Any]] = []


class Settings(Row):
    measures: Literal["si", "us"] = "si"
    zone: str | None = None
    schools: dict[str, str] = {}


class Interval(Row):
    """An interval of the past or the present: ``on`` is the day it took effect."""

    unit: Name
    compartment: Name
    on: date
    interval_h: Positive | None = None
    interval_km: Positive | None = None
    interval_days: Annotated[int, Field(gt=0, le=20000)] | None = None
    origin: Literal["register", "approved", "stated", "fell_back"] = "register"
    approved_by: str = "register file"
    why: str = ""


@dataclass(frozen=True)
class Problem:
    """A row that could not go in: where in the file, which field, why."""

    where: str
    field: str
    why: str

    def __str__(self) -> str:
        return f"{self.where}, {self.field}: {self.why}" if self.field else f"{self.where}: {self.why}"


@dataclass
class RegisterFile:
    """A register file's good rows, each with its place in the file, and what is wrong with the others."""

    fleet: str | None
    oils: list[Oil] = field(default_factory=list)
    units: list[tuple[Unit, list[Compartment]]] = field(default_factory=list)
    readings: list[tuple[int, Reading]] = field(default_factory=list)
    meter_changes: list[tuple[int, MeterChange]] = field(default_factory=list)
    drains: list[tuple[int, Drain]] = field(default_factory=list)
    top_ups: list[tuple[int, TopUp]] = field(default_factory=list)
    level_checks: list[tuple[int, LevelCheck]] = field(default_factory=list)
    events: list[tuple[int, Event]] = field(default_factory=list)
    intervals: list[tuple[int, Interval]] = field(default_factory=list)
    service_items: list[tuple[int, ServiceItem]] = field(default_factory=list)
    service_records: list[tuple[int, ServiceRecord]] = field(default_factory=list)
    templates: list[tuple[int, Template]] = field(default_factory=list)
    settings: Settings | None = None
    problems: list[Problem] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)

    def leave_out_after(self, latest: date) -> None:
        """What is dated after ``latest`` has not happened: it goes to ``problems``, for a meter read tomorrow would stand before every
        later one."""
        for name in ("readings", "meter_changes", "drains", "top_ups", "level_checks", "events", "service_records"):
            rows: list[tuple[int, Any]] = getattr(self, name)
            for i, row in rows:
                if row.on > latest:
                    self.problems.append(Problem(f"{name}[{i}]", "on", f"{row.on} is still to come"))
            rows[:] = [(i, row) for i, row in rows if row.on <= latest]


_Model = TypeVar("_Model", bound=Row)


def plain(error: dict[str, Any]) -> tuple[str, str]:
    place = ".".join(str(p) for p in error["loc"])
    if error["type"] == "missing":
        return place, "is missing"
    message = str(error["msg"]).removeprefix("Value error, ").removeprefix("Input ")
    given = error.get("input")
    shown = "" if isinstance(given, dict | list) or error["type"] == "value_error" else f", not {given!r}"[:80]
    return place, message[:1].lower() + message[1:] + shown


def _rows(document: dict[str, Any], name: str, model: type[_Model], out: RegisterFile) -> Iterator[tuple[int, _Model]]:
    rows = document.get(name, [])
    if rows is None:
        return
    if not isinstance(rows, list):
        out.problems.append(Problem(name, "", "must be a list"))
        return
    for i, row in enumerate(rows):
        checked = _check(row, f"{name}[{i}]", model, out)
        if checked is not None:
            yield i, checked


def _check(row: Any, where: str, model: type[_Model], out: RegisterFile) -> _Model | None:
    if not isinstance(row, dict):
        out.problems.append(Problem(where, "", f"must be an object, not {type(row).__name__}"))
        return None
    try:
        return model.model_validate(row)
    except ValidationError as error:
        for one in error.errors(include_url=False)[:5]:
            field_name, why = plain(dict(one))
            out.problems.append(Problem(where, field_name, why))
        return None


_KNOWN = {
    "fleet", "oils", "units", "readings", "meter_changes", "drains", "top_ups", "level_checks", "events", "intervals",
    "service_items", "service_records", "templates", "settings",
}  # fmt: skip


def read(content: bytes) -> RegisterFile:
    """Read a register file. Raises InputError when it is not one at all; bad rows end up in ``problems``."""
    try:
        document = json.loads(content.decode("utf-8-sig"), parse_constant=lambda c: float("nan"))
    except UnicodeDecodeError:
        raise InputError("file", "is not UTF-8 text, so it is not a register file") from None
    except (ValueError, RecursionError) as error:
        at = f" (line {error.lineno}, column {error.colno})" if isinstance(error, json.JSONDecodeError) else ""
        raise InputError("file", f"is not JSON{at}") from None
    return understand(document)


def understand(document: Any) -> RegisterFile:
    """The rows of a register document, checked one by one. Raises InputError when it is not one at all."""
    if not isinstance(document, dict):
        raise InputError("file", "must hold one JSON object with fleet, oils, units, …")
    if not _KNOWN & set(document):
        raise InputError("file", "has none of fleet, oils, units, readings, drains, top_ups: not a register file")
    fleet = document.get("fleet")
    if fleet is not None and (not isinstance(fleet, str) or not fleet.strip() or len(fleet) > 120):
        raise InputError("fleet", "must be a name")
    out = RegisterFile(fleet.strip() if fleet else None)
    out.left_out = [
        f"{key}: not read yet ({len(value)} entries)" if isinstance(value, list) else f"{key}: not read yet"
        for key, value in document.items() if key not in _KNOWN
    ]  # fmt: skip
    if document.get("settings") is not None:
        out.settings = _check(document["settings"], "settings", Settings, out)
    out.oils = [o for _, o in _rows(document, "oils", Oil, out)]
    for i, unit in _rows(document, "units", Unit, out):
        good = []
        for j, row in enumerate(unit.compartments):
            compartment = _check(row, f"units[{i}].compartments[{j}]", Compartment, out)
            if compartment is not None and compartment.meter_no == 2 and unit.second_meter_unit is None:
                why = f"unit {unit.unit!r} has one meter: give it second_meter_unit, or leave this out"
                out.problems.append(Problem(f"units[{i}].compartments[{j}]", "meter_no", why))
                compartment = None
            if compartment is not None:
                good.append(compartment)
        out.units.append((unit, good))
    out.readings = list(_rows(document, "readings", Reading, out))
    out.meter_changes = list(_rows(document, "meter_changes", MeterChange, out))
    out.drains = list(_rows(document, "drains", Drain, out))
    out.top_ups = list(_rows(document, "top_ups", TopUp, out))
    out.level_checks = list(_rows(document, "level_checks", LevelCheck, out))
    out.events = list(_rows(document, "events", Event, out))
    out.intervals = list(_rows(document, "intervals", Interval, out))
    out.service_items = list(_rows(document, "service_items", ServiceItem, out))
    out.service_records = list(_rows(document, "service_records", ServiceRecord, out))
    out.templates = list(_rows(document, "templates", Template, out))
    return out
