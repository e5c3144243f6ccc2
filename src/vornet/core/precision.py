"""How well each measurand is known: one standard deviation of a result, and between dates.

Elements: repeatability r = a·X^b of ASTM D5185 (written down from memory, editable), one standard
deviation = r / 2.8, never below 0.3 mg/kg (common practice, no source: a weight must not become
infinite near zero). Other methods: common practice, no source, editable.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError
from vornet.core.measurands import COUNT, INDEX

#: intermediate precision (another day, another operator) over repeatability; common practice, no source
BETWEEN_DATES = 1.5
#: another lab, as a multiple of one result's standard deviation: reproducibility is about two to three times repeatability
#: (common practice, no source), so the same oil at another lab strays by this much instead
BETWEEN_LABS = 2.5
#: what two labs' own leanings may differ by, in standard deviations of one result
LABS_APART = math.sqrt(2 * (BETWEEN_LABS**2 - BETWEEN_DATES**2))
ELEMENT_FLOOR_PPM = 0.3


@dataclass(frozen=True)
class Precision:
    """sd(x) = max(floor, scale·x^power + constant), with where it comes from."""

    key: str
    scale: float
    power: float
    constant: float
    floor: float
    source: str


_D5185 = """
fe 0.13 0.80|cr 0.17 0.75|cu 0.12 0.91|pb 1.6 0.32|sn 2.4 0.17|al 0.71 0.41|si 1.3 0.26|na 0.49 0.66
k 3.8 0.33|ni 0.52 0.49|mo 0.29 0.70|ca 0.0020 1.4|mg 0.16 0.86|zn 0.15 0.88|p 1.3 0.58|b 0.26 1
ba 0.24 0.66|mn 0.010 1.3|ag 0.15 0.83|s 0.49 0.81|ti 0.54 0.37|v 0.061 1.1
"""
_ELEMENT_SOURCE = "ASTM D5185 repeatability / 2.8 (from memory)"
_HABIT = "common practice, no source"


def _default_table() -> tuple[Precision, ...]:
    rows = []
    for cell in _D5185.replace("\n", "|").split("|"):
        if cell.strip():
            key, a, b = cell.split()
            rows.append(Precision(key, float(a) / 2.8, float(b), 0.0, ELEMENT_FLOOR_PPM, _ELEMENT_SOURCE))
    rows.append(Precision("li", 0.26 / 2.8, 1.0, 0.0, ELEMENT_FLOOR_PPM, _HABIT))
    for key, relative, constant, floor in [
        ("v40", 0.01, 0.0, 0.0), ("v100", 0.01, 0.0, 0.0), ("vi", 0.0, 2.0, 0.0),
        ("bn", 0.04, 0.0, 0.2), ("an", 0.06, 0.0, 0.1),
        ("soot_pct", 0.08, 0.0, 0.1), ("fuel_pct", 0.08, 0.0, 0.1), ("glycol_pct", 0.08, 0.0, 0.02),
        ("oxidation", 0.0, 1.0, 0.0), ("nitration", 0.0, 1.0, 0.0), ("sulfation", 0.0, 1.0, 0.0),
        ("water_ppm", 0.10, 0.0, 10.0), ("pq", 0.05, 5.0, 0.0), ("flash_c", 0.0, 3.0, 0.0),
        ("p4", 0.15, 0.0, 0.0), ("p6", 0.15, 0.0, 0.0), ("p14", 0.15, 0.0, 0.0),
    ]:  # fmt: skip
        rows.append(Precision(key, relative, 1.0, constant, floor, _HABIT))
    return tuple(rows)


PRECISION: tuple[Precision, ...] = _default_table()


@dataclass(frozen=True)
class PrecisionTable:
    """Precision rows as arrays in storage order; a history carries the one it is judged with."""

    by_key: dict[str, Precision]
    scale: np.ndarray
    power: np.ndarray
    constant: np.ndarray
    floor: np.ndarray

    def standard_deviation(self, key: str, value: float) -> float:
        """One standard deviation of a single result of ``key`` at ``value``, in the measurand's unit.

        >>> round(START.standard_deviation("fe", 100), 3)
        1.848
        """
        row = self.by_key[key]
        return float(max(row.floor, row.scale * abs(value) ** row.power + row.constant))

    def columns_sd(self, values: np.ndarray, keys: list[str] | None = None) -> np.ndarray:
        """Standard deviations for a block of results.

        ``values``: shape (N, COUNT) in storage order, or (N, len(keys)) for the named columns. NaN stays NaN.
        """
        pick = slice(None) if keys is None else [INDEX[k] for k in keys]
        return np.asarray(np.maximum(self.floor[pick], self.scale[pick] * np.abs(values) ** self.power[pick] + self.constant[pick]))


def arranged(rows: Iterable[Precision]) -> PrecisionTable:
    """Rows as a table, later ones over earlier ones of the same measurand.

    Raises InputError for a row that is no precision: a spread of nothing, or figures that are not finite and from 0 on.
    """
    by_key = {row.key: row for row in rows}
    scale, power, constant, floor = (np.zeros(COUNT) for _ in range(4))
    for key, row in by_key.items():
        figures = (row.scale, row.power, row.constant, row.floor)
        if key not in INDEX or not all(math.isfinite(x) and x >= 0 for x in figures) or row.power > 3:
            raise InputError(key, "needs figures from 0 on, and a power of at most 3")
        if row.constant == 0 and row.floor == 0 and row.scale == 0:
            raise InputError(key, "has no spread at all: no method is exact")
        i = INDEX[key]
        scale[i], power[i], constant[i], floor[i] = figures
    return PrecisionTable(by_key, scale, power, constant, floor)


#: the start values, where a fleet has none of its own
START = arranged(PRECISION)
