"""Swapped bottles: two samples whose values fit each other's place better than their own.

Proposed only when both fit absolutely in their new places, and when the two readings together are so much likelier
swapped that chance over all the pairs tried cannot explain it. A real fault fits nowhere else, so it is never a swap.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.expected import ADDITIVES, AT, COLUMNS, IS_LEVEL, MOST_SD, Expectation, Usual, at_places, misfit
from vornet.core.history import History

#: both must lie within this region of what their new places should show
REGION = 0.99
#: a sample is looked at for a swap when its own place gives it a smaller chance than this
SUSPECT = 0.02
#: likelier by this much times the pairs tried
RATIO = 100.0
#: and each bottle by itself by this much
EACH_RATIO = 20.0
#: fewest measurands on which either way can be compared
FEWEST = 6
#: squared distance by the additives beyond which nothing else can bring a bottle back into the region
FAR_OFF = 60.0
_OF_OIL = np.array([AT[k] for k in ADDITIVES])
#: bottles of which no parcel is known went along when they were drawn within so many days: they wait until somebody drives;
#: common practice, no source
DAYS_TOGETHER = 6


@dataclass(frozen=True)
class Swap:
    """Samples ``first`` and ``second`` (indices) carry each other's labels; ``log_ratio`` natural logarithm of how much
    likelier that is; ``pairs`` tried in their group; ``or_with`` another that ``first`` may as well be changed over with."""

    first: int
    second: int
    log_ratio: float
    pairs: int
    or_with: int = -1


def chance(distance: np.ndarray, number: np.ndarray) -> np.ndarray:
    """Chance of lying this far out or farther, by chi-square. Shape (N,)."""
    from scipy import special

    return np.where(number > 0, special.chdtrc(np.maximum(number, 1), distance), 1.0)


def going_on(
    history: History, charges: Charges, values: np.ndarray, own: Expectation, suspect: np.ndarray, usable: np.ndarray
) -> Expectation:
    """What a place should show if what its last sample departed by goes on: a fault is a departure with a history.

    Shape as ``own``; equal to it where the last sample was as usual.
    """
    samples, hours = history.samples, charges.oil_hours
    mean = own.mean.copy()
    chain = np.flatnonzero(usable)
    if len(chain) > 1:
        same = samples.comp[chain[1:]] == samples.comp[chain[:-1]]
        now, last = chain[1:][same], chain[:-1][same]
        now, last = now[suspect[last]], last[suspect[last]]
        with np.errstate(invalid="ignore", divide="ignore"):
            grown = np.clip(hours[now] / hours[last], 0.2, 4.0)[:, None]
        departed = np.nan_to_num(values[last] - own.mean[last])
        departed = np.where(np.abs(departed) > 2 * own.total_sd[last], departed, 0.0)
        grown = np.where(IS_LEVEL, 1.0, grown)  # what comes and goes does not gather
        mean[now] += departed * np.where(np.isnan(grown), 1.0, grown)
    # it may go on faster or slower
    return Expectation(np.maximum(mean, 0.0), np.hypot(own.sd, 0.35 * np.abs(mean - own.mean)), own.shared)


def swapped(
    history: History, charges: Charges, known: Usual, group: np.ndarray, candidates: np.ndarray, suspect: np.ndarray
) -> tuple[list[Swap], list[Swap]]:
    """(swaps, pairs that might as well be swapped but cannot be told) among samples that travelled together.

    ``group`` (N,) int: one number a parcel; below zero nobody knows, and whoever was drawn within DAYS_TOGETHER in the fleet
    may have gone along. ``candidates`` and ``suspect`` (N,) bool. Each sample is in at most one swap, the likeliest; a pair
    that cannot be told fits both ways, each in the other's place, without being so much likelier.
    """
    samples = history.samples
    values = samples.values[:, COLUMNS]
    usable = candidates & ~np.isnan(charges.oil_hours)
    company = np.flatnonzero(usable)
    wanted = np.flatnonzero(usable & suspect)
    if len(wanted) == 0 or len(company) < 2:
        return [], []
    by_group = company[np.argsort(group[company], kind="stable")]
    groups = group[by_group]
    alone = company[group[company] < 0]
    by_day = alone[np.argsort(samples.day[alone], kind="stable")]
    days = samples.day[by_day]

    def together(i: int) -> np.ndarray:
        if group[i] >= 0:
            return by_group[np.searchsorted(groups, group[i], "left") : np.searchsorted(groups, group[i], "right")]
        day = samples.day[i]
        return by_day[np.searchsorted(days, day - DAYS_TOGETHER, "left") : np.searchsorted(days, day + DAYS_TOGETHER, "right")]

    places = at_places(history, known, charges.charge_of, samples.comp, charges.oil_hours)
    continued = going_on(history, charges, values, places, suspect, candidates)

    def fit(whose: np.ndarray, where: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Chance, measurands compared and log likelihood of samples at places, the better of usual and going on."""
        d, n, ll = misfit(values[whose], _rows(places, where))
        d_on, n_on, ll_on = misfit(values[whose], _rows(continued, where))
        return np.maximum(chance(d, n), chance(d_on, n_on)), n, np.maximum(ll, ll_on)

    own = np.full(len(values), np.nan)
    found: list[Swap] = []
    open_ones: list[Swap] = []
    for i in wanted.tolist():
        members = together(i)
        others = members[samples.comp[members] != samples.comp[i]]
        if not len(others):
            continue
        pairs = len(members) * (len(members) - 1) // 2
        # the additives alone leave few places over: whoever is far off by them is far off
        away = np.clip((values[i, _OF_OIL] - places.mean[np.ix_(others, _OF_OIL)]) / places.sd[np.ix_(others, _OF_OIL)], -MOST_SD, MOST_SD)
        others = others[np.nansum(away**2, axis=1) < FAR_OFF]
        if not len(others):
            continue
        blank = np.r_[i, others]
        blank = blank[np.isnan(own[blank])]
        if len(blank):
            own[blank] = fit(blank, blank)[2]
        mine = np.repeat(i, len(others))
        p_there, n_there, l_there = fit(mine, others)
        may = (p_there > 1 - REGION) & (n_there >= FEWEST)
        if not may.any():
            continue
        others, mine, p_there, l_there = others[may], mine[may], p_there[may], l_there[may]
        p_here, n_here, l_here = fit(others, mine)
        mine_gains, other_gains = l_there - own[i], l_here - own[others]
        ratio = mine_gains + other_gains
        both = (p_here > 1 - REGION) & (n_here >= FEWEST)
        fits = both & (ratio >= np.log(RATIO * pairs)) & (np.minimum(mine_gains, other_gains) >= np.log(EACH_RATIO))
        if fits.any():
            order = np.argsort(np.where(fits, -ratio, np.inf))
            best, next_best = int(order[0]), int(order[1]) if fits.sum() > 1 else -1
            like = next_best >= 0 and ratio[best] - ratio[next_best] < np.log(EACH_RATIO)
            found.append(Swap(i, int(others[best]), float(ratio[best]), pairs, int(others[next_best]) if like else -1))
        elif (both & (mine_gains > 0)).any():
            best = int(np.argmax(np.where(both, ratio, -np.inf)))
            open_ones.append(Swap(i, int(others[best]), float(ratio[best]), pairs))
    taken: set[int] = set()
    out = []
    for swap in sorted(found, key=lambda s: -s.log_ratio):
        if swap.first not in taken and swap.second not in taken:
            taken |= {swap.first, swap.second}
            out.append(swap)
    return out, [s for s in open_ones if s.first not in taken]


def _rows(expectation: Expectation, index: np.ndarray) -> Expectation:
    return Expectation(expectation.mean[index], expectation.sd[index], expectation.shared[index])
