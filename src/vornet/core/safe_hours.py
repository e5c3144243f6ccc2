"""Safe hours: how long a charge may run before the chance of being past a limit reaches 1 − p.

Everything is turned so that a positive margin and a positive slope point from the start towards the
limit. Hours stand for km where a compartment counts distance.

With D the margin, m the mean slope, S² the variance of the next charge's slope, σ the sd of the
reading, t the one-sided Student quantile: safe hours are the smallest positive root of
(m² − t²S²)T² − 2mDT + D² − t²σ² = 0; 0 if D ≤ tσ; never if there is no root. [derived]
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError
from vornet.core.limits import Side


@dataclass(frozen=True)
class SafeHours:
    """``safe_h`` None: never within reach. ``limiting``: the side of the limit that is reached, else None."""

    mean_crossing_h: float | None
    safe_h: float | None
    limiting: Side | None


def first_crossing(margin: np.ndarray, slope: np.ndarray, slope_var: np.ndarray, reading_var: np.ndarray, t: np.ndarray) -> np.ndarray:
    """Safe hours for many properties at once; ``inf`` where never, NaN where an input is NaN.

    All arrays broadcast; ``margin`` and ``slope`` positive towards the limit, variances of the slope
    (per h²) and of the reading, ``t`` the one-sided quantile.
    """
    margin, slope, slope_var, reading_var, t = np.broadcast_arrays(margin, slope, slope_var, reading_var, t)
    t2 = t * t
    a = slope * slope - t2 * slope_var
    b = -2 * slope * margin
    c = margin * margin - t2 * reading_var
    with np.errstate(invalid="ignore", divide="ignore"):
        disc = b * b - 4 * a * c
        disc = np.where(np.abs(disc) <= 1e-12 * b * b, 0.0, disc)  # no spread at all: a double root
        root = np.sqrt(np.maximum(disc, 0))
        # c > 0 here, so the stable pair q/a and c/q has the smallest positive root among its members
        q = -0.5 * (b + np.copysign(root, b))
        one, two = np.where(a != 0, q / a, np.inf), np.where(q != 0, c / q, np.inf)
        one, two = np.where(one > 0, one, np.inf), np.where(two > 0, two, np.inf)
        result = np.where(disc < 0, np.inf, np.minimum(one, two))
        too_close = (margin <= 0) | (margin * margin <= t2 * reading_var)
        result = np.where(too_close, 0.0, result)
    unknown = np.isnan(margin) | np.isnan(slope) | np.isnan(slope_var) | np.isnan(reading_var) | np.isnan(t)
    return np.where(unknown, np.nan, result)


def safe_hours(
    start: float,
    limit: float,
    slopes_per_h: Sequence[float],
    sd: float,
    confidence: float = 0.95,
    side: Side | None = None,
) -> SafeHours:
    """The calculator's closed form, from the slopes of past charges (value per hour) and the method's sd.

    ``side`` defaults to the side of ``limit`` − ``start``. Raises InputError below two slopes, for a
    confidence outside (0.5, 1) or a negative sd.

    >>> s = safe_hours(10, 5, [-0.0080, -0.0095, -0.0088, -0.0102, -0.0091], 0.25)
    >>> round(s.mean_crossing_h, 2), round(s.safe_h, 2), s.limiting
    (548.25, 439.35, 'low')
    """
    from scipy import special

    n = len(slopes_per_h)
    if n < 2:
        raise InputError("slopes_per_h", "at least two charges are needed: of one no spread can be told")
    if not 0.5 < confidence < 1:
        raise InputError("confidence", "the confidence must lie between 0.5 and 1")
    if sd < 0:
        raise InputError("sd", "a standard deviation cannot be negative")
    if side is None:
        side = "high" if limit >= start else "low"
    sign = 1.0 if side == "high" else -1.0
    slopes = sign * np.asarray(slopes_per_h, dtype=float)
    margin = sign * (limit - start)
    m, s2 = float(slopes.mean()), float(slopes.var(ddof=1)) * (1 + 1 / n)
    t = float(special.stdtrit(n - 1, confidence))
    safe = float(first_crossing(*(np.asarray(v) for v in (margin, m, s2, sd * sd, t))))
    if margin <= 0:
        crossing: float | None = 0.0
    else:
        crossing = margin / m if m > 0 and math.isfinite(margin / m) else None
    if not math.isfinite(safe):
        return SafeHours(crossing, None, None)
    return SafeHours(crossing, safe, side)
