"""What an interval costs: the two textbook models, and the one a decision uses with its own chance.

Fixed length: a drain every T hours whatever happens, (C + P(T)·K)/T, with C the cost of a drain, K what running past the act limit costs
and P(T) the chance of it. Age replacement: crossing ends the charge at once, (c·R(T) + k·F(T))/∫₀ᵀR (Barlow & Hunter 1960).
Hours stand for km where a compartment counts distance. Money is of one currency throughout.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError

#: points looked at before the cheapest is found to a tenth of an hour between its neighbours
_GRID = 4001
#: costs that differ by less than this share are one: the shorter interval is taken
_SAME = 1e-12

Chance = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Cheapest:
    """The interval of the least cost an hour, and that cost."""

    hours: float
    cost: float


def cost_per_hour(hours: np.ndarray, chance: np.ndarray, drain_cost: float, consequence: float) -> np.ndarray:
    """Cost an hour of drains every ``hours`` (N,) with ``chance`` (N,) of running past the act limit."""
    return np.asarray((drain_cost + chance * consequence) / hours)


def straight_chance(margin: float, slope_mean: float, slope_sd: float) -> Chance:
    """P(T) = Φ((mT − D)/(sT)): a straight line whose slope scatters from charge to charge; D and m positive towards the limit. A start at
    or past the limit is past it everywhere; without scatter the line is past it beyond D/m."""
    from scipy import special

    def chance(hours: np.ndarray) -> np.ndarray:
        t = np.asarray(hours, dtype=float)
        if margin <= 0:
            return np.ones_like(t)
        if slope_sd == 0:
            return np.where(t * slope_mean > margin, 1.0, 0.0)
        with np.errstate(divide="ignore", over="ignore"):
            return np.asarray(special.ndtr((slope_mean - margin / t) / slope_sd))

    return chance


def cheapest(
    chance: Chance, drain_cost: float, consequence: float, from_h: float, to_h: float, calendar_h: float = math.inf,
    also: Sequence[float] = (),
) -> Cheapest:  # fmt: skip
    """The interval between ``from_h`` and ``to_h`` that costs least, to a tenth of an hour; of equals the shortest. One past ``calendar_h``
    costs and risks what ``calendar_h`` does. ``also``: lengths at which the chance may jump. Raises InputError by field."""
    from scipy import optimize

    if not 0 < from_h <= to_h:
        raise InputError("from_h", "must be more than nothing and not beyond to_h")

    def cost(hours: np.ndarray) -> np.ndarray:
        t = np.minimum(np.atleast_1d(np.asarray(hours, dtype=float)), calendar_h)
        return cost_per_hour(t, chance(t), drain_cost, consequence)

    inside = [float(x) for x in (from_h, to_h, calendar_h, *also) if from_h <= x <= to_h]
    grid = np.unique(np.r_[np.geomspace(from_h, to_h, _GRID), np.linspace(from_h, to_h, _GRID), inside])
    at = cost(grid)
    best = [(float(at[i]), float(grid[i])) for i in np.flatnonzero(at <= at.min() * (1 + _SAME) + 1e-300)[:1]]
    # every valley of the grid is looked into: two may be all but equally deep
    low = np.flatnonzero((at[1:-1] <= at[:-2]) & (at[1:-1] <= at[2:])) + 1
    for i in sorted(low, key=lambda i: float(at[i]))[:6]:
        found = optimize.minimize_scalar(
            lambda x: float(cost(np.array([x]))[0]), bounds=(grid[i - 1], grid[i + 1]), method="bounded", options={"xatol": 0.01}
        )
        best.append((float(found.fun), float(found.x)))
    least = min(c for c, _ in best)
    hours = min(h for c, h in best if c <= least + abs(least) * _SAME)
    return Cheapest(hours, float(cost(np.array([hours]))[0]))


@dataclass(frozen=True)
class AgeReplacement:
    """``optimum_h`` None: run to failure; then ``cost_per_h`` is what that costs."""

    optimum_h: float | None
    cost_per_h: float
    run_to_failure: float


def _mean_run(shape: float, scale: float, hours: np.ndarray) -> np.ndarray:
    """∫₀ᵀR of a Weibull life: scale·Γ(1 + 1/β)·P(1/β, (T/scale)^β)."""
    from scipy import special

    return np.asarray(scale * special.gamma(1 + 1 / shape) * special.gammainc(1 / shape, (hours / scale) ** shape))


def age_replacement_cost(shape: float, scale: float, planned: float, failure: float, hours: np.ndarray) -> np.ndarray:
    """(planned·R + failure·F)/∫₀ᵀR at each length, (N,)."""
    t = np.asarray(hours, dtype=float)
    with np.errstate(over="ignore", divide="ignore"):
        survive = np.exp(-((t / scale) ** shape))
        return np.asarray((planned * survive + failure * (1 - survive)) / _mean_run(shape, scale, t))


def age_replacement(shape: float, scale: float, planned: float, failure: float) -> AgeReplacement:
    """The age at which a part of Weibull life is best replaced: where h(T)·∫₀ᵀR − F(T) = planned/(failure − planned). None where it does
    not age (shape ≤ 1) or failing costs no more than replacing."""
    from scipy import optimize

    run = failure / float(_mean_run(shape, scale, np.array([np.inf]))[0])
    if shape <= 1 or failure <= planned:
        return AgeReplacement(None, run, run)
    ratio = planned / (failure - planned)

    def hazard(t: float) -> float:
        return float(shape / scale * (t / scale) ** (shape - 1))

    def over(log_t: float) -> float:
        t = scale * math.exp(log_t)
        fails = -math.expm1(-min((t / scale) ** shape, 745.0))
        return float(hazard(t) * _mean_run(shape, scale, np.array([t]))[0] - fails - ratio)

    high = 1.0
    while over(high) < 0:
        high += 1.0
        if high * shape > 690:  # beyond what can be reckoned: nobody would wait for it
            return AgeReplacement(None, run, run)
    low = -1.0
    while over(low) > 0 and low > -600:
        low *= 2
    t = scale * math.exp(optimize.brentq(over, low, high, xtol=1e-12))
    return AgeReplacement(t, float((failure - planned) * hazard(t)), run)
