"""Cells of a fleet's own list as values: figures with either decimal mark and any unit, days in any usual style, intervals by meter and
by calendar. What can mean two things is said, never chosen."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

from vornet.core import measures, written_day
from vornet.core.errors import InputError
from vornet.core.measures import Hand
from vornet.io.list_header import METER_UNITS, TIME_UNITS, UNITS, VOLUME_UNITS, plain

Cell = str | float | bool
_BLANK = {"", "-", "--", "–", "—", "n/a", "na", "none", "null", "nil", "?", "unknown", "tbc", "tbd", "keine", "k.a.", "aucun"}
_DAYS = {"days": 1.0, "weeks": 7.0, "months": 365 / 12, "years": 365.0}
_SCALE = {"1000 km": ("km", 1000.0), "1000 mi": ("mi", 1000.0)}
MILE_KM = 1.609344  # exact by definition
FUELS = {"diesel": "diesel", "d": "diesel", "gas": "gas", "natural gas": "gas", "lng": "gas", "cng": "gas",
         "biogas": "biogas", "petrol": "petrol",
         "gasoline": "petrol", "benzin": "petrol", "essence": "petrol", "heavy": "heavy", "heavy fuel": "heavy", "hfo": "heavy",
         "none": "none", "electric": "none", "gazole": "diesel", "gasoil": "diesel"}  # fmt: skip


@dataclass(frozen=True)
class Marks:
    """How a list writes: its decimal mark, and whether a day stands before its month; '' and None where it does not show."""

    decimal: str = ""
    day_first: bool | None = None


def blank(cell: Cell | None) -> bool:
    return cell is None or (isinstance(cell, str) and cell.strip().casefold() in _BLANK)


def text_of(cell: Cell) -> str:
    """A cell as text: a whole number without its point."""
    if isinstance(cell, bool):
        return str(cell).lower()
    if isinstance(cell, float | int):
        return str(int(cell)) if float(cell).is_integer() and abs(cell) < 1e15 else repr(cell)
    return " ".join(cell.split())


def marks_of(figures: Iterable[Cell], days: Iterable[Cell]) -> Marks:
    """How a list writes, from what can mean one thing only; where its cells speak against one another it does not show.

    >>> marks_of(["12,5", "1.250"], ["13/02/2026"])
    Marks(decimal=',', day_first=True)
    >>> marks_of(["12,5", "7.25"], ["13/02/2026", "02/13/2026"])
    Marks(decimal='', day_first=None)
    """
    commas = points = 0
    for cell in figures:
        if not isinstance(cell, str):
            continue
        for found in re.findall(r"\d[\d.,'’   ]*\d", cell):
            if re.fullmatch(r"\d{1,3}(?:\.\d{3})+,\d+|\d+,(?:\d{1,2}|\d{4,})|0,\d+|\d{4,},\d+|\d{1,3}(?:\.\d{3}){2,}", found):
                commas += 1
            elif re.fullmatch(r"\d{1,3}(?:,\d{3})+\.\d+|\d+\.(?:\d{1,2}|\d{4,})|0\.\d+|\d{4,}\.\d+|\d{1,3}(?:,\d{3}){2,}", found):
                points += 1
    first = second = 0
    for cell in days:
        found_day = re.match(r"\s*(\d{1,2})[/-](\d{1,2})[/-]\d{2,4}\b", cell) if isinstance(cell, str) else None
        if found_day:
            first += 12 < int(found_day[1]) <= 31 and int(found_day[2]) <= 12
            second += 12 < int(found_day[2]) <= 31 and int(found_day[1]) <= 12
    decimal = "," if commas and not points else "." if points and not commas else ""
    return Marks(decimal, True if first and not second else False if second and not first else None)


def number(cell: Cell, marks: Marks) -> float:
    """A figure without a unit. Raises ValueError saying what is wrong."""
    if isinstance(cell, bool):
        raise ValueError(f"{text_of(cell)!r} is yes or no, not a figure")
    if isinstance(cell, int | float):
        return float(cell)
    try:
        return measures.number(cell, "", marks.decimal)
    except InputError as error:
        raise ValueError(error.why) from None


def _figure_and_unit(cell: Cell, unit: str, marks: Marks, allowed: tuple[str, ...], what: str) -> tuple[float, str]:
    if not isinstance(cell, str):
        return number(cell, marks), unit
    found = re.match(r"^([+\-−]?[\d.,'’\s]*\d)\s*([^\d\s].*)?$", cell.strip())
    if not found:
        raise ValueError(f"{text_of(cell)[:40]!r} is not {what}")
    own = UNITS.get(plain(found[2])) if found[2] else unit
    if own is None or (own and own not in allowed):
        day_like = re.match(r"\d{4}-\d\d-\d\d|\d{1,2}[./-]\d{1,2}[./-]\d{2,4}", cell.strip())
        if day_like:
            raise ValueError(f"{text_of(cell)[:40]!r} is a date, where {what} is expected")
        raise ValueError(f"{found[2].strip()[:20]!r} is not a unit for {what}")
    value = number(found[1], marks)
    if allowed is not VOLUME_UNITS and re.fullmatch(r"\d{1,3}[.,]\d{3}", found[1].strip()) and not value.is_integer():
        whole = re.sub(r"[.,]", "", found[1].strip())  # nobody reads a meter to a thousandth
        raise ValueError(f"{text_of(cell)[:40]!r} may mean {whole} or {value:g}: write the one that is meant")
    return value, own or ""


def volume(cell: Cell, unit: str, marks: Marks) -> float:
    """Litres, from a figure in its own unit or the column's. Raises ValueError."""
    value, own = _figure_and_unit(cell, unit, marks, VOLUME_UNITS, "a volume")
    return round(measures.typed(f"{value!r} {own or 'L'}", "volume", Hand("si", "."), ""), 9)


def meter(cell: Cell, unit: str, marks: Marks) -> tuple[float, str]:
    """A meter's figure in h or km, and which of the two it says ('' where nothing does). Raises ValueError."""
    value, own = _figure_and_unit(cell, unit, marks, METER_UNITS, "a meter reading")
    return _as_kept(value, own)


def _as_kept(value: float, unit: str) -> tuple[float, str]:
    unit, factor = _SCALE.get(unit, (unit, 1.0))
    value *= factor
    return (round(value * MILE_KM, 3), "km") if unit == "mi" else (value, unit)


@dataclass(frozen=True)
class Interval:
    """An interval as a cell says it: h, km, or a length in the unit of its meter (``bare``), and days."""

    h: float | None = None
    km: float | None = None
    bare: float | None = None
    days: int | None = None


def interval(cell: Cell, unit: str, marks: Marks) -> Interval:
    """'500', '500 h / 12 months', '1 year'. Raises ValueError.

    >>> interval("500 h / 12 months", "", Marks())
    Interval(h=500.0, km=None, bare=None, days=365)
    """
    parts = re.split(r"\s*(?:/|;|\bor\b|\band\b|\boder\b|\bou\b|\+)\s*", cell) if isinstance(cell, str) and not _is_day(cell) else [cell]
    found: dict[str, float] = {}
    for part in parts:
        value, own = _figure_and_unit(part, unit if len(parts) == 1 else "", marks, METER_UNITS + TIME_UNITS, "an interval")
        if own in TIME_UNITS:
            name, length = "days", value * _DAYS[own]
        else:
            length, own = _as_kept(value, own)
            name = own or "bare"
        if name in found:
            raise ValueError(f"{text_of(cell)[:40]!r} says its length twice")
        if length <= 0:
            raise ValueError("an interval of zero is always due: leave it out, or give a length")
        found[name] = length
    days = int(found["days"]) if "days" in found else None
    return Interval(found.get("h"), found.get("km"), found.get("bare"), days)


def days(cell: Cell, unit: str, marks: Marks) -> int:
    """A calendar interval in days. Raises ValueError."""
    value, own = _figure_and_unit(cell, unit, marks, TIME_UNITS, "a length of time")
    if not own:
        raise ValueError(f"{text_of(cell)[:40]!r}: days, months or years?")
    whole = int(value * _DAYS[own])
    if whole < 1:
        raise ValueError("a calendar interval is a day or longer")
    return whole


def _is_day(text: str) -> bool:
    return re.match(r"\s*(\d{4}[-/.]\d{1,2}[-/.]\d{1,2}|\d{1,2}[./-]\d{1,2}[./-]\d{2,4})\b", text) is not None


def day(cell: Cell, marks: Marks, today: date) -> date:
    """A day that has been. Raises ValueError: what is no day, lies ahead, or may be two days.

    >>> day("5 Jan 2026", Marks(), date(2026, 3, 1)), day("5.1.26", Marks(), date(2026, 3, 1))
    (datetime.date(2026, 1, 5), datetime.date(2026, 1, 5))
    """
    if isinstance(cell, bool | int | float):
        raise ValueError(f"{text_of(cell)[:40]!r} is a number, not a date: format the cell as a date, or write 2026-01-05")
    try:
        found = written_day.read(cell, marks.day_first)
    except written_day.TwoDays as error:
        raise ValueError(f"{error}: say which comes first, day or month") from None
    if found > today:
        raise ValueError(f"{found.isoformat()} lies ahead")
    if found.year < 1950:
        raise ValueError(f"{found.isoformat()} is too long ago")
    return found
