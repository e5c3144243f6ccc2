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

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError, model_validator

from vornet.core.errors import InputError
from vornet.core.measurands import KEYS

Name = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=120)]
Positive = Annotated[float, Field(gt=0, le=1e7)]
NotNegative = Annotated[float, Field(ge=0, le=1e9)]
Kind = Literal[
    "engine", "gearbox", "primary", "final_drive", "differential", "axle", "hydraulics", "compressor", "other"
]
Fuel = Literal["diesel", "gas", "biogas", "heavy", "petrol", "none"]


class _Row(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)

    @property
    def extra(self) -> dict[str, Any]:
        return dict(self.model_extra or {})


class Oil(_Row):
    name: Name
    grade: str | None = None
    density_kg_l: Annotated[float, Field(ge=0.5, le=1.5)] | None = None

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
        return {k: v for k, v in self.extra.items() if k not in KEYS}


class Compartment(_Row):
    compartment: Name
    kind: Kind
    fuel: Fuel | None = None
    family: Name | None = None
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

    @model_validator(mode="after")
    def _volumes_fit(self) -> Compartment:
        with_filter, without = self.capacity_l, self.capacity_without_filter_l
        if with_filter and without and without > with_filter:
            raise ValueError(
                f"capacity_without_filter_l {without:g} is above capacity_l {with_filter:g}: the filter adds to it"
            )
        if self.system_volume_l and with_filter and with_filter > self.system_volume_l * 1.02:
            raise ValueError(f"capacity_l {with_filter:g} is above system_volume_l {self.system_volume_l:g}")
        if self.volume_between_marks_l and self.system_volume_l and self.volume_between_marks_l > self.system_volume_l:
            raise ValueError("volume_between_marks_l is more than the system holds")
        return self


class Unit(_Row):
    unit: Name
    depot: Name | None = None
    model: str | None = None
    duty: str | None = None
    meter_unit: Literal["h", "km"] = "h"
    compartments: list[Any] = []


class Reading(_Row):
    unit: Name
    on: date
    meter: NotNegative


class MeterChange(_Row):
    unit: Name
    on: date
    old: NotNegative
    new: NotNegative


class _At(_Row):
    unit: Name
    compartment: Name
    on: date


class Drain(_At):
    meter: NotNegative
    volume_out_l: NotNegative | None = None
    volume_out_kind: Literal["measured", "estimated", "unknown"] | None = None
    level_missing_l: Annotated[float, Field(ge=-1e4, le=1e7)] | None = None
    volume_in_l: NotNegative | None = None
    oil: Name | None = None
    filter_changed: bool | None = None
    magnet_grade: Annotated[int, Field(ge=0, le=4)] | None = None
    air_filter: Literal["clean", "dusty", "blocked", "leaking"] | None = None
    sample_no: str | None = None
    note: str = ""


class TopUp(_At):
    meter: NotNegative
    litres: Positive


class LevelCheck(_At):
    meter: NotNegative | None = None
    level_missing_l: Annotated[float, Field(ge=-1e4, le=1e7)]


class Event(_At):
    meter: NotNegative
    kind: Literal["part_change", "repair", "overhaul", "component_exchange"]
    litres_out: NotNegative | None = None
    litres_in: NotNegative | None = None
    filter_changed: bool | None = None
    serial: str | None = None
    note: str = ""


class Interval(_Row):
    """An interval of the past or the present: ``on`` is the day it took effect."""

    unit: Name
    compartment: Name
    on: date
    interval_h: Positive | None = None
    interval_km: Positive | None = None
    interval_days: Annotated[int, Field(gt=0, le=20000)] | None = None
    origin: Literal["register", "approved"] = "register"
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
    problems: list[Problem] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)


_Model = TypeVar("_Model", bound=_Row)


def _plain(error: dict[str, Any]) -> tuple[str, str]:
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
            field_name, why = _plain(dict(one))
            out.problems.append(Problem(where, field_name, why))
        return None


_KNOWN = {
    "fleet", "oils", "units", "readings", "meter_changes", "drains", "top_ups", "level_checks", "events", "intervals",
}  # fmt: skip


def read(content: bytes) -> RegisterFile:
    """Read a register file. Raises InputError when it is not one at all; bad rows end up in ``problems``."""
    try:
        document = json.loads(content.decode("utf-8-sig"), parse_constant=lambda c: float("nan"))
    except UnicodeDecodeError:
        raise InputError("file", "is not UTF-8 text, so it is not a register file") from None
    except (json.JSONDecodeError, RecursionError) as error:
        at = f" (line {error.lineno}, column {error.colno})" if isinstance(error, json.JSONDecodeError) else ""
        raise InputError("file", f"is not JSON{at}") from None
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
    out.oils = [o for _, o in _rows(document, "oils", Oil, out)]
    for i, unit in _rows(document, "units", Unit, out):
        good = []
        for j, row in enumerate(unit.compartments):
            compartment = _check(row, f"units[{i}].compartments[{j}]", Compartment, out)
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
    return out
