"""What a lab's column headings mean: sample facts and measurands under their common names, units in brackets or in
a row of their own, and what a person has said once about the rest."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, INDEX, MEASURANDS

MOST_COLUMNS = 400

CONTEXT = (
    "sample_no", "unit", "compartment", "sampled_on", "meter", "oil_hours", "oil", "topup_l", "drained",
    "filter_changed", "lab", "received_on", "reported_on", "comment", "severity",
)  # fmt: skip
#: a lab's heading and what it is; plain lower case
_CONTEXT_ALIASES = {
    "sample number": "sample_no", "sample id": "sample_no", "sample": "sample_no", "lab no": "sample_no",
    "bottle": "sample_no", "bottle no": "sample_no", "bottle id": "sample_no", "label": "sample_no",
    "unit id": "unit", "unit no": "unit", "equipment": "unit", "machine": "unit", "vehicle": "unit", "asset": "unit",
    "component": "compartment", "sample date": "sampled_on", "date sampled": "sampled_on", "sampled": "sampled_on",
    "date drawn": "sampled_on", "drawn on": "sampled_on",
    "date": "sampled_on", "unit hours": "meter", "meter h": "meter", "meter km": "meter", "meter reading": "meter",
    "hours": "meter", "oil h": "oil_hours", "oil km": "oil_hours", "hours on oil": "oil_hours",
    "oil age": "oil_hours", "lubricant": "oil", "oil name": "oil", "top up": "topup_l", "topup": "topup_l",
    "oil added": "topup_l", "make up l": "topup_l", "oil changed": "drained", "oil drained": "drained",
    "laboratory": "lab", "received": "received_on", "date received": "received_on", "reported": "reported_on",
    "report date": "reported_on", "date reported": "reported_on", "lab comment": "comment", "remarks": "comment",
    "lab severity": "severity", "rating": "severity",
}  # fmt: skip
_MEASURAND_ALIASES = {
    "kv100": "v100", "visc 100": "v100", "visc @ 100 c": "v100", "viscosity 100 c": "v100", "viscosity @ 100 c": "v100",
    "kv40": "v40", "visc 40": "v40", "visc @ 40 c": "v40", "viscosity 40 c": "v40", "viscosity @ 40 c": "v40",
    "visc @ 100": "v100", "visc @ 40": "v40", "viscosity 100": "v100", "viscosity 40": "v40",
    "tbn": "bn", "tan": "an", "water": "water_ppm", "fuel": "fuel_pct", "fuel dilution": "fuel_pct",
    "soot": "soot_pct", "glycol": "glycol_pct", "flash": "flash_c", "sulphation": "sulfation", "sulphur": "s",
    "aluminum": "al", "visc index": "vi", "pq index": "pq", "particles 4": "p4", "particles 6": "p6",
    "particles 14": "p14", ">4 um": "p4", ">6 um": "p6", ">14 um": "p14",
}  # fmt: skip
for _m in MEASURANDS:
    _MEASURAND_ALIASES.setdefault(_m.name.lower(), _m.key)
LONG_MEASURAND = {"measurand", "parameter", "analyte", "test", "property"}
LONG_VALUE = {"value", "result"}

#: factor that turns a lab's unit into the stored one
_UNIT_FACTORS: dict[str, dict[str, float]] = {
    "mg/kg": {"ppm": 1, "mg/kg": 1, "%": 1e4, "% m/m": 1e4, "g/kg": 1e3, "ug/g": 1, "ppb": 1e-3},
    "mm²/s": {"cst": 1, "mm2/s": 1, "mm²/s": 1, "mm^2/s": 1},
    "mg KOH/g": {"mgkoh/g": 1, "mg koh/g": 1, "mg/g": 1},
    "%": {"%": 1, "% m/m": 1, "wt%": 1, "mass%": 1, "% w/w": 1, "ppm": 1e-4, "mg/kg": 1e-4},
    "A/cm": {"a/cm": 1, "abs/cm": 1, "a/0.1mm": 100, "a/0.1 mm": 100, "abs/0.1mm": 100, "abs/0.1 mm": 100},
    "°C": {"c": 1, "°c": 1, "degc": 1},
    "/mL": {"/ml": 1, "counts/ml": 1, "1/ml": 1, "p/ml": 1},
    "": {"": 1, "index": 1},
}


def unit_factor(key: str, unit: str) -> float | None:
    """What a value in ``unit`` is multiplied with to be stored; None when the unit does not fit the measurand."""
    given = unit.strip().lower().replace("µ", "u").replace("0,1", "0.1")
    if not given:
        return 1.0
    return _UNIT_FACTORS[BY_KEY[key].unit].get(given)


@dataclass(frozen=True)
class Meaning:
    """What a person has said a heading means: a context column or measurand key with its unit; '' is left out."""

    key: str
    unit: str = ""


Mapping_ = Mapping[str, Meaning]


@dataclass
class Header:
    """Which column is what: context columns, measurand columns with their factor, and what is not known."""

    context: dict[str, int]
    measurands: list[tuple[int, int, float]]  # measurand position, column, factor
    unknown: list[str]
    problems: list[str]
    names: list[str]
    distance: bool = False
    left_out: list[str] = field(default_factory=list)


def plain_header(text: str) -> tuple[str, str]:
    """A heading's name and the unit in it: 'Fe (ppm)' → ('fe', 'ppm')."""
    unit = ""
    found = re.search(r"[(\[]([^)\]]*)[)\]]\s*$", text)
    if found:
        unit, text = found.group(1), text[: found.start()]
    name = re.sub(r"[\s_.:°]+", " ", text).strip().lower()
    return name, unit


def said_key(text: str) -> str:
    """The form of a heading under which what a person said is remembered."""
    return " ".join(text.lower().split())[:120]


def context_of(cell: str) -> str | None:
    """The context column a heading names, if any."""
    key = cell.lower()
    name, unit = plain_header(cell)
    underscored = name.replace(" ", "_")
    if key in CONTEXT:
        return key
    if underscored in CONTEXT:
        return underscored
    return _CONTEXT_ALIASES.get(name) or _CONTEXT_ALIASES.get(f"{name} {unit.lower()}".strip())


def measurand_of(cell: str) -> str | None:
    """The measurand a heading names, if any."""
    key = cell.lower()
    name, _ = plain_header(cell)
    underscored = name.replace(" ", "_")
    return key if key in INDEX else underscored if underscored in INDEX else _MEASURAND_ALIASES.get(name)


def recognised(names: Sequence[str], said: Mapping_) -> int:
    """How many of a row's cells are headings; 0 unless the sample number is one of them."""
    known, number = 0, False
    for raw in names[:MOST_COLUMNS]:
        cell = raw.strip()
        if not cell or len(cell) > 120:
            continue
        meaning = said.get(said_key(cell))
        context = meaning.key if meaning else context_of(cell)
        number |= context == "sample_no"
        name = plain_header(cell)[0]
        known += bool(context or meaning or measurand_of(cell) or name in LONG_MEASURAND or name in LONG_VALUE)
    return known if number else 0


def read_header(names: Sequence[str], said: Mapping_ | None = None, units: Sequence[str] | None = None) -> Header:
    """Recognise the columns; ``said`` is what people said of this lab's headings, ``units`` a row of units under them.

    Raises InputError when there is no sample number.
    """
    if len(names) > MOST_COLUMNS:
        raise InputError("header", f"{len(names):,} columns: a results file has at most {MOST_COLUMNS}")
    said = said or {}
    header = Header({}, [], [], [], [n.strip() for n in names])
    for column, raw in enumerate(names):
        cell = raw.strip()
        if not cell:
            continue
        meaning = said.get(said_key(cell))
        if meaning is not None and not meaning.key:
            header.left_out.append(cell)
            continue
        context = meaning.key if meaning and meaning.key not in INDEX else None if meaning else context_of(cell)
        if context is not None:
            header.context.setdefault(context, column)
            header.distance |= cell.lower() in ("oil_km", "meter_km")
            continue
        measurand = meaning.key if meaning else measurand_of(cell)
        if measurand is None:
            header.unknown.append(cell)
            continue
        unit = meaning.unit if meaning else plain_header(cell)[1]
        if not unit and units is not None and column < len(units):
            unit = units[column].strip("()[] ")
        if cell.lower().endswith("_pct") and measurand == "water_ppm":
            unit = unit or "%"
        factor = unit_factor(measurand, unit)
        if factor is None:
            header.problems.append(f"column {cell!r}: {unit!r} is not a unit for {BY_KEY[measurand].name.lower()}")
            header.unknown.append(cell)
        elif any(m == INDEX[measurand] for m, _, _ in header.measurands):
            twice = BY_KEY[measurand].name.lower()
            header.problems.append(f"column {cell!r}: {twice} is there twice; the first counts")
        else:
            header.measurands.append((INDEX[measurand], column, factor))
    if "sample_no" not in header.context:
        raise InputError("header", "there is no sample_no column in the first row, so this is not a results file")
    return header


def is_units_row(cells: Sequence[str], header: Header) -> bool:
    """Whether the row under the headings holds units: at least two, and nothing else above a measurand."""
    found = 0
    for m, column, _ in header.measurands:
        cell = cells[column].strip("()[] ") if column < len(cells) else ""
        if not cell:
            continue
        if unit_factor(MEASURANDS[m].key, cell) is None:
            return False
        found += 1
    return found >= 2
