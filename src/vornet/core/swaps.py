"""Swapped bottles: two samples whose values fit each other's place better than their own.

Proposed only when both fit absolutely in their new places, and when the two readings together are so much likelier
swapped that chance over all the pairs tried cannot explain it. A real fault fits nowhere else, so it is never a swap.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.expected import COLUMNS, Expectation, Usual, at_places, misfit
from vornet.core.history import Charges, History

#: both must lie within this region of what their new places should show
REGION = 0.99
#: a sample is looked at for a swap when its own place gives it a smaller chance than this
SUSPECT = 0.01
#: likelier by this much times the pairs tried
RATIO = 100.0
#: and each bottle by itself by this much
EACH_RATIO = 20.0
#: fewest measurands on which either way can be compared
FEWEST = 6


@dataclass(frozen=True)
class Swap:
    """Samples ``first`` and ``second`` (indices) carry each other's labels; ``log_ratio`` natural logarithm of how much
    likelier that is; ``pairs`` tried in their group."""

    first: int
    second: int
    log_ratio: float
    pairs: int


def chance(distance: np.ndarray, number: np.ndarray) -> np.ndarray:
    """Chance of lying this far out or farther, by chi-square. Shape (N,)."""
    from scipy import special

    return np.where(number > 0, special.chdtrc(np.maximum(number, 1), distance), 1.0)


def _going_on(
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
        mean[now] += departed * np.where(np.isnan(grown), 1.0, grown)
    # it may go on faster or slower
    return Expectation(np.maximum(mean, 0.0), np.hypot(own.sd, 0.35 * np.abs(mean - own.mean)), own.shared)


def swapped(
    history: History, charges: Charges, known: Usual, group: np.ndarray, candidates: np.ndarray, suspect: np.ndarray
) -> list[Swap]:
    """Swaps among samples of one group. ``group`` (N,) int, below zero: belongs to none; ``candidates`` and ``suspect``
    (N,) bool. Each sample is in at most one swap, the likeliest."""
    samples = history.samples
    values = samples.values[:, COLUMNS]
    usable = candidates & (group >= 0) & ~np.isnan(charges.oil_hours)
    company = np.flatnonzero(usable)
    company = company[np.argsort(group[company], kind="stable")]
    begins = np.flatnonzero(np.r_[True, np.diff(group[company]) != 0]) if len(company) else np.zeros(0, dtype=int)
    ends = np.r_[begins[1:], len(company)].astype(int)
    looked_at = np.add.reduceat(suspect[company], begins) if len(company) else begins
    wanted = [company[b:e] for b, e in zip(begins[looked_at > 0], ends[looked_at > 0], strict=True) if e - b > 1]
    if not wanted:
        return []
    places = at_places(history, known, charges.charge_of, samples.comp, charges.oil_hours)
    going_on = _going_on(history, charges, values, places, suspect, candidates)
    found: list[Swap] = []
    for members in wanted:
        pairs = len(members) * (len(members) - 1) // 2

        def fit(whose: np.ndarray, where: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
            """Chance, measurands compared and log likelihood of samples at places, the better of usual and going on."""
            d, n, ll = misfit(values[whose], _rows(places, where))
            d_on, n_on, ll_on = misfit(values[whose], _rows(going_on, where))
            return np.maximum(chance(d, n), chance(d_on, n_on)), n, np.maximum(ll, ll_on)

        for i in members[suspect[members]]:
            others = members[samples.comp[members] != samples.comp[i]]
            if not len(others):
                continue
            mine = np.repeat(i, len(others))
            p_there, n_there, l_there = fit(mine, others)
            p_here, n_here, l_here = fit(others, mine)
            mine_gains, other_gains = l_there - fit(mine, mine)[2], l_here - fit(others, others)[2]
            ratio = mine_gains + other_gains
            fits = (np.minimum(p_there, p_here) > 1 - REGION) & (np.minimum(n_there, n_here) >= FEWEST)
            fits &= (ratio >= np.log(RATIO * pairs)) & (np.minimum(mine_gains, other_gains) >= np.log(EACH_RATIO))
            if fits.any():
                best = int(np.argmax(np.where(fits, ratio, -np.inf)))
                found.append(Swap(int(i), int(others[best]), float(ratio[best]), pairs))
    taken: set[int] = set()
    out = []
    for swap in sorted(found, key=lambda s: -s.log_ratio):
        if swap.first not in taken and swap.second not in taken:
            taken |= {swap.first, swap.second}
            out.append(swap)
    return out


def _rows(expectation: Expectation, index: np.ndarray) -> Expectation:
    return Expectation(expectation.mean[index], expectation.sd[index], expectation.shared[index])
