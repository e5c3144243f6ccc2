"""Trend tools: least squares, Theil–Sen with Mann–Kendall, and the courage to say "none".

Below five points the verdict is ``none`` with ``too_few``: never a reassurance.
Sources: Sen (1968), Kendall (1975) with tie and continuity correction; checked against scipy and
pymannkendall in the tests.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from vornet.core.errors import InputError

Direction = Literal["rising", "falling", "none"]
FEWEST_POINTS = 5
SIGNIFICANCE = 0.05
#: the standard normal's 97.5 % point
Z_95 = 1.959963984540054


@dataclass(frozen=True)
class Line:
    """Least-squares line; ``se`` is the slope's standard error, ``p`` two-sided; None where undefined."""

    slope: float
    intercept: float
    se: float | None
    p: float | None


@dataclass(frozen=True)
class SenSlope:
    """Median of pairwise slopes with its 95 % interval (None below three points)."""

    slope: float
    low: float | None
    high: float | None


@dataclass(frozen=True)
class MannKendall:
    """Kendall's S over its largest possible value, and the two-sided p of the normal approximation."""

    tau: float
    p: float


@dataclass(frozen=True)
class Trend:
    ols: Line
    theil_sen: SenSlope
    mann_kendall: MannKendall
    verdict: Direction
    too_few: bool


def mann_kendall(x: np.ndarray, y: np.ndarray) -> MannKendall:
    """Mann–Kendall test with ties in x and y and continuity correction. ``x``, ``y``: shape (n,), n ≥ 2."""
    n = len(x)
    s = float(sum(np.sum(np.sign(y[i + 1 :] - y[i]) * np.sign(x[i + 1 :] - x[i])) for i in range(n - 1)))

    def ties(values: np.ndarray) -> np.ndarray:
        return np.unique(values, return_counts=True)[1].astype(float)

    tx, ty = ties(x), ties(y)
    variance = (n * (n - 1) * (2 * n + 5) - np.sum(tx * (tx - 1) * (2 * tx + 5)) - np.sum(ty * (ty - 1) * (2 * ty + 5))) / 18
    variance += np.sum(tx * (tx - 1)) * np.sum(ty * (ty - 1)) / (2 * n * (n - 1))
    if n > 2:
        variance += np.sum(tx * (tx - 1) * (tx - 2)) * np.sum(ty * (ty - 1) * (ty - 2)) / (9 * n * (n - 1) * (n - 2))
    z = 0.0 if s == 0 or variance <= 0 else (s - math.copysign(1, s)) / math.sqrt(variance)
    return MannKendall(s / (n * (n - 1) / 2), math.erfc(abs(z) / math.sqrt(2)))


def least_squares(x: np.ndarray, y: np.ndarray) -> Line:
    """Straight line through the points. Raises InputError when all x are equal."""
    from scipy import special  # scipy.stats takes half a second to load

    if np.ptp(x) == 0:
        raise InputError("points", "all points have the same x: no line can be drawn")
    if np.ptp(y) == 0:
        flat = len(x) > 2
        return Line(0.0, float(y[0]), 0.0 if flat else None, 1.0 if flat else None)
    off, up = x - x.mean(), y - y.mean()
    slope = float(off @ up / (off @ off))
    intercept = float(y.mean() - slope * x.mean())
    if len(x) < 3:
        return Line(slope, intercept, None, None)
    degrees = len(x) - 2
    left = up - slope * off
    error = math.sqrt(float(left @ left) / degrees / float(off @ off))
    p = 0.0 if error == 0 else 2 * float(special.stdtr(degrees, -abs(slope) / error))
    return Line(slope, intercept, error, p)


def theil_sen(x: np.ndarray, y: np.ndarray) -> SenSlope:
    """Theil–Sen slope with Sen's 95 % interval, ties counted in its width. ``x``, ``y``: shape (n,), n ≥ 2, x not all equal.

    Source: Sen (1968); checked against scipy's. Slopes are held once, so that memory grows with the pairs alone.
    """
    n = len(x)
    slopes = np.sort(np.concatenate([_slopes_from(x, y, i) for i in range(n - 1)]))
    middle = float(np.median(slopes))
    if n < 3:
        return SenSlope(middle, None, None)

    def tied(values: np.ndarray) -> float:
        k = np.unique(values, return_counts=True)[1].astype(float)
        return float(np.sum(k * (k - 1) * (2 * k + 5)))

    sigma = math.sqrt(max((n * (n - 1) * (2 * n + 5) - tied(x) - tied(y)) / 18, 0.0))
    low = max(round((len(slopes) - Z_95 * sigma) / 2) - 1, 0)
    high = min(round((len(slopes) + Z_95 * sigma) / 2), len(slopes) - 1)
    return SenSlope(middle, float(slopes[low]), float(slopes[high]))


def _slopes_from(x: np.ndarray, y: np.ndarray, i: int) -> np.ndarray:
    """Slopes from point ``i`` to every later one at another x."""
    dx, dy = x[i + 1 :] - x[i], y[i + 1 :] - y[i]
    there = dx != 0
    return np.asarray(dy[there] / dx[there])


def trend(points: Sequence[tuple[float, float]]) -> Trend:
    """Judge whether y rises or falls with x. ``points``: at least two (x, y) pairs, any order.

    >>> trend([(0, 10), (100, 11), (200, 10), (300, 11), (400, 10)]).verdict
    'none'
    """
    if len(points) < 2:
        raise InputError("points", "at least two points are needed")
    ordered = np.array(sorted(points, key=lambda p: p[0]), dtype=float)
    x, y = ordered[:, 0], ordered[:, 1]
    line = least_squares(x, y)
    sen, mk = theil_sen(x, y), mann_kendall(x, y)
    too_few = len(points) < FEWEST_POINTS
    verdict: Direction = "none"
    if not too_few and mk.p < SIGNIFICANCE:
        verdict = "rising" if mk.tau > 0 else "falling"
    return Trend(line, sen, mk, verdict, too_few)
