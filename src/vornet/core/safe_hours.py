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


def first_crossing(
    margin: np.ndarray, slope: np.ndarray, slope_var: np.ndarray, reading_var: np.ndarray, t: np.ndarray
) -> np.ndarray:
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


@dataclass(frozen=True)
class SlopeFit:
    """Slope of the next charge of a group: mean, between-charge variance, variance of the mean, degrees
    of freedom, charges used. Arrays of shape (groups,)."""

    mean: np.ndarray
    between_var: np.ndarray
    mean_var: np.ndarray
    dof: np.ndarray
    n: np.ndarray


#: a family's spread counts at most like this many charges of one's own; chosen, see docs/method.md
FAMILY_WEIGHT = 6.0


def between_variance(
    slopes: np.ndarray, se2: np.ndarray, group: np.ndarray, groups: int
) -> tuple[np.ndarray, np.ndarray]:
    """Between-charge variance of each group, not yet cut at zero, and its degrees of freedom n − 1.

    ``slopes``, ``se2`` (squared standard errors): shape (charges,); ``group``: index of each charge's group.
    The observed variance holds measurement noise, which is taken off: the weighted moment estimator of
    DerSimonian & Laird (1986), equal to s² − mean(se²) when all charges are equally well known.
    """
    n = np.bincount(group, minlength=groups).astype(float)
    w = 1 / np.maximum(se2, 1e-30)
    sw = np.bincount(group, w, groups)
    sw2 = np.bincount(group, w * w, groups)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.bincount(group, w * slopes, groups) / sw
        q = np.bincount(group, w * (slopes - mean[group]) ** 2, groups)
        tau2 = (q - (n - 1)) / (sw - sw2 / sw)
    return np.where(n > 1, np.nan_to_num(tau2), 0.0), np.maximum(n - 1, 0.0)


def fit_slopes(
    slopes: np.ndarray,
    se2: np.ndarray,
    group: np.ndarray,
    family_of_group: np.ndarray,
    families: int,
) -> SlopeFit:
    """Next-charge slope for every group, spread shrunk to the family's.

    The family's between-charge variance is pooled within its groups (so compartments may differ in
    their mean) and enters with at most FAMILY_WEIGHT degrees of freedom. Variances are cut at zero only
    after pooling: cutting each first would overstate the family's spread. A group without any charge
    gets NaN; one whose family knows no spread either gets dof 0 and a NaN spread.
    """
    groups = len(family_of_group)
    tau2, dof = between_variance(slopes, se2, group, groups)
    with np.errstate(invalid="ignore", divide="ignore"):
        family_dof = np.bincount(family_of_group, dof, families)
        family_tau2 = np.maximum(np.bincount(family_of_group, tau2 * dof, families) / family_dof, 0.0)
        prior_tau2 = np.nan_to_num(family_tau2)[family_of_group]
        prior_dof = np.minimum(family_dof, FAMILY_WEIGHT)[family_of_group]
        total = dof + prior_dof
        pooled = np.maximum((tau2 * dof + prior_tau2 * prior_dof) / np.maximum(total, 1e-9), 0.0)
        between = np.where(total > 0, pooled, np.nan)
        w = 1 / (np.nan_to_num(between)[group] + np.maximum(se2, 1e-30))
        sw = np.bincount(group, w, groups)
        mean = np.where(sw > 0, np.bincount(group, w * slopes, groups) / sw, np.nan)
        mean_var = np.where(sw > 0, 1 / sw, np.nan)
    return SlopeFit(mean, between, mean_var, total, np.bincount(group, minlength=groups))


def standing_interval(
    margin: np.ndarray, fit: SlopeFit, residual_share: np.ndarray, t: np.ndarray
) -> np.ndarray:
    """True safe hours of an interval kept for good, carry-over included.

    A charge starts at C_new + f/(1−f)·mT when every charge before it ran T hours, so the value at T is
    C_new + mT/(1−f); spread of the running charge and of those before adds up to τ²/(1−f²).
    ``margin`` is measured from the *new oil*, positive towards the limit, as are the fit's slopes.
    """
    keep = 1 - residual_share
    slope = fit.mean / keep
    var = fit.between_var / (1 - residual_share**2) + fit.mean_var / keep**2
    return first_crossing(margin, slope, var, np.zeros_like(margin), t)
