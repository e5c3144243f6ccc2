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


def property_limits(
    table: LimitTable, duty: np.ndarray, new_oil: np.ndarray, fresh: np.ndarray, act: bool = False
) -> np.ndarray:
    """Watch (or act) limits of each property, (N, PROPERTY_COUNT); NaN where it does not decide.

    ``new_oil`` (N, COUNT) holds what the oil record says, ``fresh`` (N, PROPERTY_COUNT) the property's own
    new-oil value, which may be an estimate: above-new limits are laid on that.
    """
    resolved = table.resolve(duty, new_oil)
    engine = np.array([d.endswith("engine") for d in DUTIES])[duty]
    out = np.full((len(duty), PROPERTY_COUNT), np.nan)
    for j, p in enumerate(PROPERTIES):
        if p.less:
            out[:, j] = np.where(engine, 0.0, np.nan)
            continue
        at = INDEX[p.measurand]
        limit = resolved[p.side][1 if act else 0][:, at]
        above_new = table.basis[p.side][duty, at] == 1
        figure = (table.act if act else table.watch)[p.side][duty, at]
        limit = np.where(above_new, np.where(np.isnan(fresh[:, j]), 0.0, fresh[:, j]) + figure, limit)
        if p.measurand == "v40":
            limit = np.where(engine, np.nan, limit)
        out[:, j] = limit
    return out
