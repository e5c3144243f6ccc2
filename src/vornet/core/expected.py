"""What a sample of a place should show: the start of its charge, and how this compartment and its family usually move.

A place is a charge and its oil hours. Usual rates are medians, so that what is wrong in a few samples does not teach;
a compartment's own count once it has three. The spread holds charge-to-charge differences (mostly shared by all
wear metals of a charge, and by all signs of ageing), the method's precision, the volumes' uncertainty and the
difference between batches.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.history import History
from vornet.core.measurands import INDEX
from vornet.core.precision import BETWEEN_DATES

ADDITIVES = ("ca", "mg", "zn", "p", "b", "mo", "ba", "s")
AGEING = ("bn", "an", "oxidation", "nitration", "sulfation", "soot_pct", "v40", "v100")
WEAR = ("fe", "cr", "ni", "al", "cu", "pb", "sn")
DIRT = ("si", "na", "k")
LEVELS = ("water_ppm", "fuel_pct")
EXPECTED = (*ADDITIVES, *AGEING, *WEAR, *DIRT, *LEVELS)
COLUMNS = np.array([INDEX[k] for k in EXPECTED])
AT = {k: i for i, k in enumerate(EXPECTED)}
_GROUPS = (np.array([AT[k] for k in WEAR]), np.array([AT[k] for k in AGEING]))
IS_LEVEL = np.array([k in LEVELS for k in EXPECTED])

#: one batch of an oil against another, relative, one standard deviation; common practice, no source
BATCH_SPREAD = 0.035
#: fewest samples of one's own, and of a family, before they say what is usual; common practice, no source
OWN_FEWEST, FAMILY_FEWEST = 3, 6
#: share of a charge's departure that its metals (or its signs of ageing) have in common; common practice, no source
SHARED = 0.6
#: a rate's spread is never taken to be smaller than this share of it, nor a level's; common practice, no source
LEAST_RATE_SPREAD, LEAST_LEVEL_SPREAD = 0.12, 0.35
#: one value counts as at most this many standard deviations, so that one odd result cannot speak for all the others
MOST_SD = 5.0


def medians(x: np.ndarray, group: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Median of each column within each group, and how many values it rests on; both (count, columns). NaN is skipped.

    >>> medians(np.array([[1.0], [3.0], [9.0], [np.nan]]), np.array([0, 0, 0, 1]), 2)[0].tolist()
    [[3.0], [nan]]
    """
    out, number = np.full((count, x.shape[1]), np.nan), np.zeros((count, x.shape[1]), dtype=int)
    told = [k for k in range(x.shape[1]) if not np.isnan(x[:, k]).all()]
    order = np.argsort(group, kind="stable")
    sorted_group = group[order]
    first = np.searchsorted(sorted_group, np.arange(count))
    size = np.searchsorted(sorted_group, np.arange(count), "right") - first
    width = np.ceil(np.log2(np.maximum(size, 1))).astype(int)
    for w in np.unique(width[size > 0]):  # groups of like size side by side, sorted as rows: no group is padded to twice its size
        mine = np.flatnonzero((width == w) & (size > 0))
        most = int(size[mine].max())
        place = first[mine][:, None] + np.arange(most)
        inside = np.arange(most) < size[mine][:, None]
        rows = order[np.where(inside, place, 0)]
        for k in told:
            v = np.where(inside, x[rows, k], np.nan)
            n = most - np.isnan(v).sum(axis=1)
            v.sort(axis=1)  # NaN last
            some = np.flatnonzero(n)
            half = n[some]
            out[mine[some], k] = 0.5 * (v[some, (half - 1) // 2] + v[some, half // 2])
            number[mine, k] = n
    return out, number


@dataclass(frozen=True)
class Usual:
    """How compartments move, columns EXPECTED: ``rate`` and ``spread`` (C, K) per meter unit, or the level itself for
    LEVELS; NaN where too little is known."""

    rate: np.ndarray
    spread: np.ndarray
    start: np.ndarray
    start_sd: np.ndarray


@dataclass(frozen=True)
class Expectation:
    """Shape (N, K): ``mean``, independent ``sd`` and the part ``shared`` by a group's measurands."""

    mean: np.ndarray
    sd: np.ndarray
    shared: np.ndarray

    @property
    def total_sd(self) -> np.ndarray:
        return np.asarray(np.hypot(self.sd, self.shared))


def starts(history: History, charges: Charges) -> tuple[np.ndarray, np.ndarray]:
    """Start of each charge in EXPECTED columns and its spread (H, K); a charge of unknown start as new oil, less surely."""
    fresh = history.known.at(charges.oil, charges.fill_day).value[:, COLUMNS]
    start = charges.start[:, COLUMNS]
    unknown = np.isnan(start)
    value = np.where(unknown, fresh, start)
    of_oil = np.array([k in ADDITIVES or k in ("v40", "v100", "bn", "an") for k in EXPECTED])
    batch = np.where(of_oil, BATCH_SPREAD * np.abs(value), 0.0)
    return value, np.sqrt(charges.start_sd[:, COLUMNS] ** 2 + batch**2 + np.where(unknown & of_oil, 0.05 * np.abs(value), 0.0) ** 2)


def usual(history: History, charges: Charges) -> Usual:
    """Learn how every compartment and family usually moves."""
    samples, comps = history.samples, history.compartments
    start, start_sd = starts(history, charges)
    x = samples.values[:, COLUMNS]
    hours = charges.oil_hours
    family = comps.family[samples.comp]
    families = int(comps.family.max(initial=-1)) + 1
    typical, _ = medians(hours[:, None], family, families)
    told = samples.usable & ~charges.break_in[charges.charge_of]
    with np.errstate(invalid="ignore", divide="ignore"):
        enough = told & (hours >= 0.3 * typical[family, 0])
        rate = (x - start[charges.charge_of]) / np.where(enough, hours, np.nan)[:, None]
        # a first charge that nobody saw begin starts as it started: its rates teach nothing
        rate[np.isnan(charges.fill[charges.charge_of])] = np.nan
        rate[:, IS_LEVEL] = np.where(told[:, None], x[:, IS_LEVEL], np.nan)
    count = len(comps.duty)
    own, own_n = medians(rate, samples.comp, count)
    pooled, pooled_n = medians(rate, family, families)
    fam, fam_n = pooled[comps.family], pooled_n[comps.family]
    has_own = own_n >= OWN_FEWEST
    centre = np.where(has_own, own, np.where(fam_n >= FAMILY_FEWEST, fam, np.nan))
    spread, _ = medians(np.abs(rate - centre[samples.comp]), family, families)
    between, _ = medians(np.abs(np.where(has_own, own, np.nan) - fam), comps.family, families)
    # what the method itself scatters is counted once, at the place that is looked at
    noise = history.precision.columns_sd(x, list(EXPECTED)) / np.where(IS_LEVEL, 1.0, np.where(enough, hours, np.nan)[:, None])
    scatter, _ = medians(noise, family, families)
    spread = np.sqrt(np.maximum((1.4826 * spread) ** 2 - np.nan_to_num(scatter) ** 2, 0.0))
    spread = np.nan_to_num(spread[comps.family])
    between = 1.4826 * np.nan_to_num(between[comps.family])
    with np.errstate(divide="ignore"):
        wide = np.sqrt(spread**2 * (1 + np.where(has_own, 1.5 / np.maximum(own_n, 1), 0.0)) + np.where(has_own, 0.0, between) ** 2)
    least = np.where(IS_LEVEL, LEAST_LEVEL_SPREAD, LEAST_RATE_SPREAD) * np.abs(centre)
    return Usual(centre, np.maximum(wide, np.nan_to_num(least)), start, start_sd)


def at_places(history: History, known: Usual, charge: np.ndarray, comp: np.ndarray, hours: np.ndarray) -> Expectation:
    """What samples of these places should show. ``charge``, ``comp``, ``hours`` (N,)."""
    rate, spread = known.rate[comp], known.spread[comp]
    t = hours[:, None]
    mean = np.where(IS_LEVEL, rate, known.start[charge] + rate * t)
    mean = np.maximum(mean, 0.0)
    moved = np.where(IS_LEVEL, spread, spread * t)
    measured = BETWEEN_DATES * history.precision.columns_sd(mean, list(EXPECTED))
    shared = np.zeros_like(mean)
    for group in _GROUPS:
        shared[:, group] = np.sign(rate[:, group]) * np.sqrt(SHARED) * moved[:, group]
    alone = np.sqrt(np.maximum(moved**2 - shared**2, 0.0) + measured**2 + known.start_sd[charge] ** 2)
    return Expectation(mean, alone, np.nan_to_num(shared))


def misfit(values: np.ndarray, expectation: Expectation) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(squared distance, how many measurands it rests on, log likelihood) of values (N, K) at their expectations.

    The covariance is diagonal but for one shared part a group, taken out by the matrix determinant lemma and
    Sherman and Morrison's formula.
    """
    d = expectation.sd
    seen = ~np.isnan(values) & ~np.isnan(expectation.mean) & (d > 0)
    safe = np.where(seen, d, 1.0)
    z = np.where(seen, (np.where(seen, values, 0.0) - np.where(seen, expectation.mean, 0.0)) / safe, 0.0)
    u = np.where(seen, expectation.shared / safe, 0.0)
    left, distance = z.copy(), np.zeros(len(z))
    logs = np.log(safe).sum(axis=1)
    for group in _GROUPS:
        zg, ug = np.clip(z[:, group], -MOST_SD, MOST_SD), u[:, group]
        norm = 1 + (ug**2).sum(axis=1)
        common = (zg * ug).sum(axis=1) / norm  # the shared part itself, in its own standard deviations
        left[:, group] = z[:, group] - ug * common[:, None]
        distance += common**2
        logs += 0.5 * np.log(norm)
    distance += (np.clip(left, -MOST_SD, MOST_SD) ** 2).sum(axis=1)
    number = seen.sum(axis=1)
    return distance, number, -0.5 * distance - logs
