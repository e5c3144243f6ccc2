"""How well each measurand is known: one standard deviation of a result, and between dates.

Elements: repeatability r = a·X^b of ASTM D5185 (written down from memory, editable), one standard
deviation = r / 2.8, never below 0.3 mg/kg (common practice, no source: a weight must not become
infinite near zero). Other methods: common practice, no source, editable.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.measurands import COUNT, INDEX

#: intermediate precision (another day, another operator) over repeatability; common practice, no source
BETWEEN_DATES = 1.5
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
_BY_KEY = {row.key: row for row in PRECISION}
_SCALE, _POWER, _CONSTANT, _FLOOR = (np.zeros(COUNT) for _ in range(4))
for _row in PRECISION:
    _i = INDEX[_row.key]
    _SCALE[_i], _POWER[_i], _CONSTANT[_i], _FLOOR[_i] = _row.scale, _row.power, _row.constant, _row.floor


def standard_deviation(key: str, value: float) -> float:
    """One standard deviation of a single result of ``key`` at ``value``, in the measurand's unit.

    >>> round(standard_deviation("fe", 100), 3)
    1.848
    """
    row = _BY_KEY[key]
    return max(row.floor, row.scale * abs(value) ** row.power + row.constant)


def columns_sd(values: np.ndarray, keys: list[str] | None = None) -> np.ndarray:
    """Standard deviations for a block of results.

    ``values``: shape (N, COUNT) in storage order, or (N, len(keys)) for the named columns. NaN stays NaN.
    """
    pick = slice(None) if keys is None else [INDEX[k] for k in keys]
    return np.maximum(_FLOOR[pick], _SCALE[pick] * np.abs(values) ** _POWER[pick] + _CONSTANT[pick])
