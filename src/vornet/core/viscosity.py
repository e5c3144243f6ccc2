"""Viscosity of oils: over temperature, index, grades, blends, and the fuel share that a thinning implies.

Kinematic viscosities in mm²/s (= cSt), temperatures in °C.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError

_KELVIN = 273.15


def _positive(value: float, field: str) -> float:
    if not value > 0 or not math.isfinite(value):
        raise InputError(field, "must be above zero")
    return value


def _loglog(kv: float, field: str) -> float:
    if kv <= 0.31:
        raise InputError(field, f"{kv:g} mm²/s is too thin for the viscosity–temperature line (valid above 2)")
    return math.log10(math.log10(kv + 0.7))


def viscosity_at(t1_c: float, kv1: float, t2_c: float, kv2: float, t_c: float) -> float:
    """Viscosity at ``t_c`` from two known points, on the line log₁₀ log₁₀(ν + 0.7) = A − B·log₁₀ T.

    Source: ASTM D341 (simplified form, Z = ν + 0.7; valid above 2 mm²/s).

    >>> round(viscosity_at(40, 105, 100, 14.2, 25), 2), round(viscosity_at(40, 105, 100, 14.2, 120), 3)
    (227.35, 9.238)
    """
    if abs(t1_c - t2_c) < 1e-9:
        raise InputError("t2_c", "two different temperatures are needed")
    for t, field in ((t1_c, "t1_c"), (t2_c, "t2_c"), (t_c, "t_c")):
        if not -_KELVIN < t < 400:
            raise InputError(field, f"{t:g} °C is outside what oil is used at")
    x1, x2, x = (math.log10(t + _KELVIN) for t in (t1_c, t2_c, t_c))
    w1, w2 = _loglog(_positive(kv1, "kv1_cst"), "kv1_cst"), _loglog(_positive(kv2, "kv2_cst"), "kv2_cst")
    if (kv1 - kv2) * (t2_c - t1_c) <= 0:
        raise InputError("kv2_cst", "oil is thinner when it is hotter: the two points contradict that")
    w = w1 + (w2 - w1) * (x - x1) / (x2 - x1)
    try:
        return 10 ** (10**w) - 0.7
    except OverflowError:
        raise InputError("t_c", f"too thick at {t_c:g} °C to give a figure") from None


#: ASTM D2270: L = a·Y² + b·Y + c and H = d·Y² + e·Y + f by range of Y = ν at 100 °C (coefficients from memory)
_LH = (
    (2.0, 1.14673, 1.7576, -0.109, 0.84155, 1.5521, -0.077), (3.8, 3.38095, -15.4952, 33.196, 0.78571, 1.7929, -0.183),
    (4.4, 2.5, -7.2143, 13.812, 0.82143, 1.5679, 0.119), (5.0, 0.101, 16.635, -45.469, 0.04985, 9.1613, -18.557),
    (6.4, 3.35714, -23.5643, 78.466, 0.22619, 7.7369, -16.656), (7.0, 0.01191, 21.475, -72.87, 0.79762, -0.7321, 14.61),
    (7.7, 0.41858, 16.1558, -56.04, 0.05794, 10.5156, -28.24), (9.0, 0.88779, 7.5527, -16.6, 0.26665, 6.7015, -10.81),
    (12.0, 0.7672, 10.7972, -38.18, 0.20073, 8.4658, -22.49), (15.0, 0.97305, 5.3135, -2.2, 0.28889, 5.9741, -4.93),
    (18.0, 0.97256, 5.25, -0.98, 0.24504, 7.416, -16.73), (22.0, 0.91413, 7.4759, -21.82, 0.20323, 9.1267, -34.23),
    (28.0, 0.87031, 9.7157, -50.77, 0.18411, 10.1015, -46.75), (40.0, 0.84703, 12.6752, -133.31, 0.17029, 11.4866, -80.62),
    (55.0, 0.85921, 11.1009, -83.19, 0.1713, 11.368, -76.94), (70.0, 0.83531, 14.6731, -216.246, 0.16841, 11.8493, -96.947),
)  # fmt: skip


def viscosity_index(kv40: float, kv100: float) -> float:
    """Viscosity index, unrounded. Source: ASTM D2270 (procedure A up to 100, B above).

    Raises InputError below 2 mm²/s at 100 °C, and when the oil is not thicker at 40 °C.

    >>> round(viscosity_index(73.30, 8.86)), round(viscosity_index(22.83, 5.05))
    (92, 156)
    """
    u, y = _positive(kv40, "kv40_cst"), _positive(kv100, "kv100_cst")
    if u <= y:
        raise InputError("kv40_cst", f"{u:g} mm²/s at 40 °C is not above {y:g} mm²/s at 100 °C")
    if y < 2:
        raise InputError("kv100_cst", "the index is defined from 2 mm²/s at 100 °C")
    row = next(r for r in reversed(_LH) if y >= r[0])
    low = row[1] * y * y + row[2] * y + row[3]
    high = row[4] * y * y + row[5] * y + row[6]
    if u >= high:
        return (low - u) / (low - high) * 100
    n = (math.log10(high) - math.log10(u)) / math.log10(y)
    return (10**n - 1) / 0.00715 + 100


@dataclass(frozen=True)
class Grade:
    """A grade and its range of viscosity, min ≤ ν < max (max None: open), with the edition it is from."""

    name: str
    low: float
    high: float | None
    source: str


_J300 = "SAE J300, from memory"
SAE_ENGINE = tuple(
    Grade(n, a, b, _J300) for n, a, b in (
        ("8", 4.0, 6.1), ("12", 5.0, 7.1), ("16", 6.1, 8.2), ("20", 6.9, 9.3), ("30", 9.3, 12.5), ("40", 12.5, 16.3),
        ("50", 16.3, 21.9), ("60", 21.9, 26.1))
)  # fmt: skip
_J306 = "SAE J306, the edition before 2019, from memory"
SAE_GEAR = tuple(
    Grade(n, a, b, _J306) for n, a, b in (
        ("80", 7.0, 11.0), ("85", 11.0, 13.5), ("90", 13.5, 18.5), ("110", 18.5, 24.0), ("140", 24.0, 32.5), ("190", 32.5, 41.0),
        ("250", 41.0, None))
)  # fmt: skip
ISO_VG = {2: 2.2, 3: 3.2, 5: 4.6, 7: 6.8, 10: 10, 15: 15, 22: 22, 32: 32, 46: 46, 68: 68, 100: 100, 150: 150, 220: 220, 320: 320,
          460: 460, 680: 680, 1000: 1000, 1500: 1500, 2200: 2200, 3200: 3200}  # ISO 3448: grade ± 10 %  # fmt: skip


def _fitting(grades: tuple[Grade, ...], kv100: float) -> list[str]:
    return [g.name for g in grades if kv100 >= g.low and (g.high is None or kv100 < g.high)]


def grades(kv100: float | None, kv40: float | None) -> tuple[list[str], list[str], int | None]:
    """(SAE engine grades, SAE gear grades, ISO VG) that fit; every one where ranges overlap.

    Sources: SAE J300 and J306 at 100 °C, ISO 3448 at 40 °C (± 10 %).

    >>> grades(14.2, 105)
    (['40'], ['90'], 100)
    """
    if kv100 is None and kv40 is None:
        raise InputError("kv100_cst", "give the viscosity at 100 °C, at 40 °C, or both")
    engine = _fitting(SAE_ENGINE, _positive(kv100, "kv100_cst")) if kv100 is not None else []
    gear = _fitting(SAE_GEAR, kv100) if kv100 is not None else []
    iso = None
    if kv40 is not None:
        _positive(kv40, "kv40_cst")
        iso = next((vg for vg, middle in ISO_VG.items() if 0.9 * middle - 1e-9 <= kv40 <= 1.1 * middle + 1e-9), None)
    return engine, gear, iso


def blending_index(kv: np.ndarray) -> np.ndarray:
    """Refutas/Maples blending index VBN = 14.534·ln ln(ν + 0.8) + 10.975 of kinematic viscosities (mm²/s), which mixes by mass
    share; NaN where ν is too thin for it (0.21 mm²/s and below) or unknown.

    >>> blending_index(np.array([10.0, 100.0])).round(3).tolist()
    [23.575, 33.196]
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(kv > 0.21, 14.534 * np.log(np.log(kv + 0.8)) + 10.975, np.nan)


def _vbn(kv: float, field: str) -> float:
    if kv <= 0.21:
        raise InputError(field, f"{kv:g} mm²/s is too thin for the blending index")
    return 14.534 * math.log(math.log(kv + 0.8)) + 10.975


def _from_vbn(vbn: float) -> float:
    return math.exp(math.exp((vbn - 10.975) / 14.534)) - 0.8


def blend(parts: Sequence[tuple[float, float]]) -> float:
    """Viscosity of a blend of (mass share, viscosity), by the Refutas/Maples blending index.

    Raises InputError when the shares do not sum to 1 within 0.001.

    >>> round(blend([(0.5, 10), (0.5, 100)]), 3), round(blend([(0.97, 14.2), (0.03, 1.1)]), 3)
    (26.672, 12.578)
    """
    if not parts:
        raise InputError("parts", "at least one part is needed")
    total = sum(share for share, _ in parts)
    if any(share < 0 for share, _ in parts) or abs(total - 1) > 0.001:
        raise InputError("parts", f"the shares sum to {total:g}, not to 1")
    return _from_vbn(sum(share * _vbn(kv, f"parts[{i}].kv_cst") for i, (share, kv) in enumerate(parts)) / total)


def fuel_share(kv_new: float, kv_used: float, kv_fuel: float) -> float:
    """Mass share of fuel that explains a used oil's viscosity; soot and oxidation hide it, shear imitates it.

    >>> round(100 * fuel_share(14.2, 12.5, 1.1), 3)
    3.156
    """
    new, used, fuel = (_vbn(_positive(v, f), f) for v, f in ((kv_new, "kv_new_cst"), (kv_used, "kv_used_cst"), (kv_fuel, "kv_fuel_cst")))
    if kv_used > kv_new:
        raise InputError("kv_used_cst", "the used oil is thicker than the new: fuel does not do that (soot, oxidation, a wrong top-up)")
    if kv_fuel >= kv_new:
        raise InputError("kv_fuel_cst", "the fuel is not thinner than the oil")
    if kv_used < kv_fuel:
        raise InputError("kv_used_cst", "the used oil is thinner than the fuel itself")
    return (new - used) / (new - fuel)
