"""Deciding properties: what wears the oil out, and so decides how long it may stay.

Conditions (fuel, water, salts, dirt, wear) are not here: they shorten or block, they are not extrapolated.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.limits import DUTIES, LimitTable, Side
from vornet.core.measurands import BY_KEY, INDEX
from vornet.core.precision import BETWEEN_DATES, PrecisionTable


@dataclass(frozen=True)
class Property:
    """One deciding property on one side. ``less`` is subtracted (base number less acid number)."""

    key: str
    name: str
    unit: str
    measurand: str
    side: Side
    less: str | None = None

    @property
    def sign(self) -> float:
        return 1.0 if self.side == "high" else -1.0


def _one(key: str, measurand: str, side: Side, name: str | None = None, less: str | None = None) -> Property:
    m = BY_KEY[measurand]
    return Property(key, name or m.name, m.unit, measurand, side, less)


PROPERTIES: tuple[Property, ...] = (
    _one("bn", "bn", "low"),
    _one("bn_minus_an", "bn", "low", "Base number over acid number", less="an"),
    _one("an", "an", "high"),
    _one("oxidation", "oxidation", "high"),
    _one("nitration", "nitration", "high"),
    _one("soot_pct", "soot_pct", "high"),
    _one("v100_high", "v100", "high", "Viscosity 100 °C, thickening"),
    _one("v100_low", "v100", "low", "Viscosity 100 °C, thinning"),
    _one("v40_high", "v40", "high", "Viscosity 40 °C, thickening"),
    _one("v40_low", "v40", "low", "Viscosity 40 °C, thinning"),
)
PROPERTY_COUNT = len(PROPERTIES)
#: properties that gain ever faster as the oil ages, so that a straight line flatters them
ACCELERATES = np.array([p.measurand in ("an", "oxidation", "v40", "v100") for p in PROPERTIES])
#: one thing seen twice counts as one event: base number and base over acid number; both viscosities on one side
EVENTS = np.array([
    {"bn": 0, "bn_minus_an": 0, "an": 1, "oxidation": 2, "nitration": 3, "soot_pct": 4, "v100_high": 5, "v40_high": 5,
     "v100_low": 6, "v40_low": 6}[p.key] for p in PROPERTIES
])  # fmt: skip
SIGNS = np.array([p.sign for p in PROPERTIES])
BY_PROPERTY: dict[str, Property] = {p.key: p for p in PROPERTIES}

#: a condition past its watch limit moves these properties, so its charge is left out of the safe hours
MOVED_BY: dict[str, tuple[str, ...]] = {
    "fuel_pct": ("v100_high", "v100_low", "v40_high", "v40_low", "soot_pct"),
    "water_ppm": ("v100_high", "v100_low", "v40_high", "v40_low", "bn", "bn_minus_an", "an"),
    "glycol_pct": ("v100_high", "v100_low", "v40_high", "v40_low", "bn", "bn_minus_an", "an", "oxidation"),
    "na": ("v100_high", "v100_low", "bn", "bn_minus_an", "an", "oxidation"),
    "k": ("v100_high", "v100_low", "bn", "bn_minus_an", "an", "oxidation"),
}

_THICKNESS = ("v100_high", "v100_low", "v40_high", "v40_low")
#: a probable or strong cause moves these, by what it does to the oil
MOVED_BY_CAUSE: dict[str, tuple[str, ...]] = {
    "fuel": (*_THICKNESS, "soot_pct"), "coolant": MOVED_BY["na"], "sea_water": MOVED_BY["na"],
    "condensation": MOVED_BY["water_ppm"], "combustion": ("soot_pct", "bn", "bn_minus_an", "v100_high"),
    "overheated_oil": ("oxidation", "nitration", "an", "bn", "bn_minus_an", *_THICKNESS), "blow_by": ("soot_pct", "nitration"),
}  # fmt: skip


def property_values(values: np.ndarray) -> np.ndarray:
    """(N, COUNT) measured values to (N, PROPERTY_COUNT)."""
    columns = [values[:, INDEX[p.measurand]] - (values[:, INDEX[p.less]] if p.less else 0.0) for p in PROPERTIES]
    return np.stack(columns, axis=1)


def property_sd(values: np.ndarray, precision: PrecisionTable) -> np.ndarray:
    """Standard deviation between dates of each property, (N, PROPERTY_COUNT)."""
    columns = []
    for p in PROPERTIES:
        keys = [p.measurand] + ([p.less] if p.less else [])
        sd = precision.columns_sd(values[:, [INDEX[k] for k in keys]], keys)
        columns.append(np.sqrt((sd**2).sum(axis=1)))
    return np.stack(columns, axis=1) * BETWEEN_DATES


def decides(table: LimitTable, duty: np.ndarray) -> np.ndarray:
    """Which properties decide in compartments with these rows of the table (C,): those a limit is set for, (C, PROPERTY_COUNT), bool."""
    engine = np.array([d.endswith("engine") for d in DUTIES])[table.duty[duty]]
    out = np.zeros((len(duty), PROPERTY_COUNT), dtype=bool)
    for j, p in enumerate(PROPERTIES):
        if p.less:
            out[:, j] = engine
        else:
            out[:, j] = np.isfinite(table.watch[p.side][duty, INDEX[p.measurand]])
            if p.measurand == "v40":
                out[:, j] &= ~engine
    return out


def property_limits(table: LimitTable, duty: np.ndarray, new_oil: np.ndarray, act: bool = False) -> np.ndarray:
    """Watch (or act) limits of each property, (N, PROPERTY_COUNT); NaN where it does not decide, or its new oil is not known.

    ``new_oil`` (N, COUNT): what is known of the new oil, by record, sample or estimate.
    """
    resolved = table.resolve(duty, new_oil)
    out = np.full((len(duty), PROPERTY_COUNT), np.nan)
    for j, p in enumerate(PROPERTIES):
        out[:, j] = 0.0 if p.less else resolved[p.side][1 if act else 0][:, INDEX[p.measurand]]
    return np.where(decides(table, duty), out, np.nan)
