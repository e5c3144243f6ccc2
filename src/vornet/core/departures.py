"""How far each sample departs from what is usual in its compartment, by what was known on its day.

What moves (metals, dirt, salts, ageing) is followed as a rate over the stretch that ends in the sample, with top-ups and
carry-over taken out by the ledger; what comes and goes (water, fuel, particles) as the level itself. What is usual is
learnt in the order of time: a compartment's own stretches, drawn towards its family's by as much as compartments of the
family are alike (an empirical Bayes estimate: Efron & Morris 1975), and towards common practice while both are young.
Nothing that a limit would flag is left out, it only teaches less: a far value counts as a near one (Huber 1964).
A small lasting shift is caught by a one-sided CUSUM with k = 0.5 and h = 5 (Montgomery, Introduction to Statistical
Quality Control, ch. 9: about 930 in-control values between false alarms of one side).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.compare import Past
from vornet.core.history import Charges, History
from vornet.core.measurands import INDEX
from vornet.core.precision import BETWEEN_DATES
from vornet.core.rates import StretchRates

RATES: tuple[str, ...] = (
    "fe", "cr", "ni", "al", "cu", "pb", "sn", "ag", "si", "na", "k", "b", "mg", "v", "pq",
    "soot_pct", "oxidation", "nitration", "an", "bn", "v100", "v40",
)  # fmt: skip
#: of these, followed from the fill rather than from the sample before
AGEING: tuple[str, ...] = ("soot_pct", "oxidation", "nitration", "an", "bn", "v100", "v40")
LEVELS: tuple[str, ...] = ("water_ppm", "fuel_pct", "glycol_pct", "p4", "p6", "p14")
#: followed both ways: what is slow to show over a stretch shows over the charge
BOTH_WAYS: tuple[str, ...] = tuple(k for k in RATES if k not in AGEING)
FOLLOWED: tuple[str, ...] = (*RATES, *LEVELS, *BOTH_WAYS)
AT: dict[str, int] = {k: i for i, k in enumerate((*RATES, *LEVELS))}
AT_CHARGE: dict[str, int] = {k: len(AT) + i for i, k in enumerate(BOTH_WAYS)}
COLUMNS = np.array([INDEX[k] for k in FOLLOWED])
_RATE = np.array([k in RATES for k in FOLLOWED])
_UPWARDS = np.array([k != "bn" for k in FOLLOWED])  # the way each one's CUSUM looks
_AGEING = np.array([k in AGEING for k in AT] + [True] * len(BOTH_WAYS))

#: share of the way from new oil to the watch limit that matters when it is gained within one interval; no source
MATTERS = 0.4
#: what matters where no limit is set, in the measurand's unit over one interval (a level: as such); common practice, no source
MATTERS_UNLIMITED = {
    "ni": 2.0, "cr": 3.0, "sn": 4.0, "pb": 8.0, "al": 6.0, "ag": 2.0, "b": 8.0, "mg": 7.0, "v": 5.0, "pq": 25.0, "an": 0.8,
    "na": 16.0, "k": 8.0, "si": 20.0, "oxidation": 6.0, "nitration": 6.0, "soot_pct": 0.8, "water_ppm": 300.0, "fuel_pct": 1.0,
    "glycol_pct": 0.03, "p4": 2000.0, "p6": 500.0, "p14": 60.0,
}  # fmt: skip
#: until a family has a past: usual rate and its spread between compartments, as shares of the way to the watch limit
#: within one interval, counted like so many stretches; common practice, no source
COMMON_MEAN, COMMON_SPREAD, COMMON_COUNT = 0.3, 0.25, 3.0
#: stretches of a family that its within-compartment spread counts as, against a compartment's own
FAMILY_SPREAD_COUNT = 6.0
#: own memory, and a family's, in stretches
OWN_MEMORY, FAMILY_MEMORY = 15.0, 400.0
#: a value counts as at most so many standard deviations off, and teaches little beyond the second figure
NEAR_SD, FAR_SD, FAR_WEIGHT = 2.5, 3.5, 0.15
#: a rate varies from stretch to stretch by at least this share of itself; common practice, no source
LEAST_SPREAD = 0.08
CUSUM_SLACK, CUSUM_LIMIT, CUSUM_MOST = 0.5, 5.0, 3.0
#: days of one step in time: whoever is judged within it knows the family as it stood at its start
STEP_DAYS = 30


@dataclass(frozen=True)
class Departures:
    """Shape (N, len(FOLLOWED)); NaN where nothing can be told.

    ``moved``: per meter unit, undiluted (a level as measured); ``usual`` and ``sd`` what was to be expected of it, the
    method's noise included; ``z`` the departure in sd; ``excess`` what it adds within one interval (a level: above
    usual), and ``matters`` the size of excess that matters, both in the measurand's unit; ``drift`` the CUSUM upwards
    (downwards for base number); ``n`` own stretches it rests on.
    """

    moved: np.ndarray
    usual: np.ndarray
    sd: np.ndarray
    z: np.ndarray
    excess: np.ndarray
    matters: np.ndarray
    drift: np.ndarray
    n: np.ndarray

    def trace(self) -> np.ndarray:
        """Degree of rise by certainty alone, however little it is; shape (N, len(AT)), as of ``up`` and ``down``."""
        return _better_way(np.nan_to_num(_sure(self.z, self.drift * _UPWARDS)))

    def up(self) -> np.ndarray:
        """Degree of rise, 0 none, 1 clear and material, at most 2; over stretch or charge, whichever is clearer."""
        return _better_way(_degree(self.z, self.excess / self.matters, self.drift * _UPWARDS))

    def way(self, key: str, i: int) -> int:
        """The column in which sample ``i`` shows ``key`` more clearly: over the stretch, or over the charge."""
        stretch, charge = AT[key], AT_CHARGE.get(key, AT[key])
        z = np.nan_to_num(self.z[i, [stretch, charge]], nan=-np.inf)
        return charge if z[1] > z[0] else stretch

    def down(self) -> np.ndarray:
        """Degree of fall, by the same measure."""
        return _degree(-self.z, -self.excess / self.matters, self.drift * ~_UPWARDS)[:, : len(AT)]


def _better_way(degree: np.ndarray) -> np.ndarray:
    out = degree[:, : len(AT)].copy()
    columns = [AT[k] for k in BOTH_WAYS]
    out[:, columns] = np.maximum(out[:, columns], degree[:, len(AT) :])
    return out


def _sure(z: np.ndarray, drift: np.ndarray) -> np.ndarray:
    """How sure a departure is: 0 at 1.5 sd, 1 at 4; a small one that lasts counts by its CUSUM."""
    with np.errstate(invalid="ignore"):
        lasting = np.where((drift >= CUSUM_LIMIT) & (z > 0), np.minimum(0.4 + 0.1 * (drift - CUSUM_LIMIT), 1.0), 0.0)
        return np.maximum(np.clip((z - 1.5) / 2.5, 0, 2), lasting)


def _degree(z: np.ndarray, material: np.ndarray, drift: np.ndarray) -> np.ndarray:
    with np.errstate(invalid="ignore"):
        return np.nan_to_num(np.minimum(_sure(z, drift), np.clip(material, 0, 2)))


def _moves(history: History, charges: Charges, rates: StretchRates) -> tuple[np.ndarray, np.ndarray]:
    """(moved, standard error), shape (N, K): the ledger's stretches for what moves, the level itself for the rest."""
    samples, c = history.samples, rates.coefficients
    x = samples.values[:, COLUMNS]
    below = (samples.below[:, None] >> COLUMNS.astype(np.int64)) & 1 == 1
    x = np.where(below & _RATE, np.nan, x)  # below what the method sees: never itself a rise
    sd = BETWEEN_DATES * history.precision.columns_sd(x, list(FOLLOWED))
    before = rates.previous >= 0
    charge = charges.charge_of
    start = np.where(before[:, None], x[rates.previous], charges.start[charge][:, COLUMNS])
    start_sd = np.where(before[:, None], sd[rates.previous], charges.start_sd[charge][:, COLUMNS])
    fresh = history.known.at(charges.oil[charge], samples.day).value[:, COLUMNS]
    whole = _from_fill(charges, rates)
    known = samples.usable & (c.a > 0) & ~np.isnan(charges.fill[charge])
    weight = history.oils.density[charges.oil[charge]] * history.compartments.system_l[samples.comp]
    with np.errstate(invalid="ignore", divide="ignore"):
        # the oil's ageing starts from what is known best, the fill; wear and dirt from the sample before
        a, beta, gamma = (
            np.where(_AGEING, w[:, None], s[:, None]) for w, s in zip(whole, (c.a, c.beta, c.gamma), strict=True)
        )
        start = np.where(_AGEING, charges.start[charge][:, COLUMNS], start)
        start_sd = np.where(_AGEING, charges.start_sd[charge][:, COLUMNS], start_sd)
        span = np.where(known[:, None], a * weight[:, None], np.nan)  # hours, but for what top-ups thinned
        rate = (x - beta * start - gamma * fresh) / span
        rate_se = np.hypot(sd, beta * start_sd) / span
    level = np.where(samples.usable[:, None], x, np.nan)
    return np.where(_RATE, rate, level), np.where(_RATE, rate_se, sd)


def _from_fill(charges: Charges, rates: StretchRates) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Ledger coefficients (a, beta, gamma) from the fill to each sample: the stretches before it, one after another."""
    a, beta, gamma = (x.copy() for x in (rates.coefficients.a, rates.coefficients.beta, rates.coefficients.gamma))
    order = np.argsort(np.nan_to_num(charges.oil_hours), kind="stable")
    depth = np.zeros(len(a), dtype=int)
    for i in order[rates.previous[order] >= 0]:
        depth[i] = depth[rates.previous[i]] + 1
    for level in range(1, int(depth.max(initial=0)) + 1):
        i = np.flatnonzero(depth == level)
        p = rates.previous[i]
        a[i], gamma[i], beta[i] = a[i] + beta[i] * a[p], gamma[i] + beta[i] * gamma[p], beta[i] * beta[p]
    return a, beta, gamma


def _ways(history: History, charges: Charges, past: Past) -> tuple[np.ndarray, np.ndarray]:
    """(way from new oil to the watch limit, what matters), shape (N, K), in the measurand's unit."""
    fresh = history.known.at(charges.oil[charges.charge_of], history.samples.day).value[:, COLUMNS]
    high, low = past.limits["high"][0][:, COLUMNS], past.limits["low"][0][:, COLUMNS]
    with np.errstate(invalid="ignore"):
        way = np.where(np.isfinite(high), high - np.nan_to_num(fresh), np.nan)
        way = np.where(np.isnan(way) & np.isfinite(low), fresh - low, way)
    otherwise = np.array([MATTERS_UNLIMITED.get(k, np.nan) for k in FOLLOWED]) / MATTERS
    way = np.where(np.isfinite(way) & (way > 0), way, otherwise)
    return way, MATTERS * way


@dataclass
class _State:
    """What is known so far. Own (C, K), family (F, K)."""

    n: np.ndarray
    mean: np.ndarray
    within_n: np.ndarray
    within: np.ndarray
    fam_n: np.ndarray
    fam_mean: np.ndarray
    fam_spread: np.ndarray
    fam_within_n: np.ndarray
    fam_within: np.ndarray
    cusum: np.ndarray


def _steps(day: np.ndarray, comp: np.ndarray, rows: np.ndarray) -> list[tuple[np.ndarray, bool]]:
    """Rows in order of time, as groups that hold a compartment at most once; True ends a step of time."""
    step = day[rows].astype(np.int64) // STEP_DAYS
    order = np.lexsort((rows, comp[rows], step))
    rows, step = rows[order], step[order]
    key = step * (int(comp.max(initial=0)) + 1) + comp[rows]
    first = np.r_[True, key[1:] != key[:-1]] if len(key) else np.zeros(0, dtype=bool)
    at = np.arange(len(key))
    rank = at - np.maximum.accumulate(np.where(first, at, 0)) if len(key) else at
    out: list[tuple[np.ndarray, bool]] = []
    for s in np.unique(step):
        mine = step == s
        ranks = rank[mine]
        for r in range(int(ranks.max()) + 1):
            out.append((rows[mine][ranks == r], r == ranks.max()))
    return out


def departures(history: History, charges: Charges, rates: StretchRates, past: Past) -> Departures:
    """Go through the samples in the order of time: compare each with what is usual so far, then learn from it."""
    samples, comps = history.samples, history.compartments
    count, k = len(comps.duty), len(FOLLOWED)
    families = int(comps.family.max(initial=-1)) + 1
    moved, se = _moves(history, charges, rates)
    way, matters = _ways(history, charges, past)
    interval = np.where(np.isnan(comps.interval) | (comps.interval <= 0), np.where(comps.distance, 20_000.0, 500.0), comps.interval)
    span = np.where(_RATE, interval[samples.comp][:, None], 1.0)
    sign = np.where(_UPWARDS, 1.0, -1.0)
    common, common_spread = COMMON_MEAN * way / span * sign, COMMON_SPREAD * way / span
    both = np.array([key in ("v100", "v40", "b", "mg") for key in FOLLOWED])
    common[:, both] = 0.0

    def zeros(rows: int) -> np.ndarray:
        return np.zeros((rows, k))

    c0, f0 = (lambda: zeros(count)), (lambda: zeros(families))
    s = _State(c0(), c0(), c0(), c0(), f0(), f0(), f0(), f0(), f0(), c0())
    usual, spread, z, drift, n_own = (np.full((len(samples.comp), k), np.nan) for _ in range(5))
    teaches = samples.usable & ~samples.settled & ~charges.break_in[charges.charge_of]
    total_at_overhaul = comps.overhaul
    renewed = np.zeros(count, dtype=bool)
    rows = np.flatnonzero(samples.usable)
    learnt: list[tuple[np.ndarray, ...]] = []
    for at, ends in _steps(samples.day, samples.comp, rows):
        c, f = samples.comp[at], comps.family[samples.comp[at]]
        with np.errstate(invalid="ignore"):
            new_part = ~renewed[c] & (samples.total[at] > total_at_overhaul[c])
        if new_part.any():  # an overhaul or an exchange: another past
            for block in (s.n, s.mean, s.within_n, s.within, s.cusum):
                block[c[new_part]] = 0.0
            renewed[c[new_part]] = True
        x, noise = moved[at], se[at]
        m, sd = _expected(s, c, f, common[at], common_spread[at], noise)
        with np.errstate(invalid="ignore", divide="ignore"):
            d = (x - m) / sd
        usual[at], spread[at], z[at], n_own[at] = m, sd, d, s.n[c]
        told = ~np.isnan(d)
        again = (rates.previous[at] >= 0)[:, None] & _AGEING  # the same stretch as before, grown longer
        s.cusum[c] = np.where(
            told & ~again, np.maximum(s.cusum[c] + np.clip(np.nan_to_num(d) * sign, -CUSUM_MOST, CUSUM_MOST) - CUSUM_SLACK, 0.0), s.cusum[c]
        )
        drift[at] = s.cusum[c]
        good = teaches[at][:, None] & told
        learnt.append((f, *_learn(s, c, m, sd, np.nan_to_num(d), np.nan_to_num(noise), good), good))
        if ends:
            _learn_family(s, learnt, families)
            learnt = []
    with np.errstate(invalid="ignore"):
        excess = (moved - usual) * span
    drift = np.where(np.isnan(z), np.nan, drift)
    return Departures(moved, usual, spread, z, excess, matters, drift, n_own)


def _expected(
    s: _State, c: np.ndarray, f: np.ndarray, common: np.ndarray, common_spread: np.ndarray, noise: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(mean, sd with the method's noise) of the next stretch of compartments ``c``."""
    n_f = s.fam_n[f]
    prior = (n_f * s.fam_mean[f] + COMMON_COUNT * common) / (n_f + COMMON_COUNT)
    total = (s.fam_spread[f] + COMMON_COUNT * common_spread**2) / (n_f + COMMON_COUNT)
    fam_within = (s.fam_within[f] + COMMON_COUNT * (0.5 * common_spread) ** 2) / (s.fam_within_n[f] + COMMON_COUNT)
    within = (np.maximum(s.within[c], 0.0) + FAMILY_SPREAD_COUNT * np.maximum(fam_within, 0.0)) / (s.within_n[c] + FAMILY_SPREAD_COUNT)
    between = np.maximum(total - within, 0.1 * total)
    with np.errstate(invalid="ignore", divide="ignore"):
        counts_as = np.where(between > 0, (within + np.nan_to_num(noise) ** 2) / between, 1.0)
        n, counts_as = s.n[c], np.maximum(np.nan_to_num(counts_as, nan=1.0), 1e-6)
        mean = (n * s.mean[c] + counts_as * prior) / (n + counts_as)
        return mean, np.sqrt(within * (1 + 1 / (n + counts_as)) + (LEAST_SPREAD * mean) ** 2 + noise**2)


def _learn(
    s: _State, c: np.ndarray, m: np.ndarray, sd: np.ndarray, d: np.ndarray, noise: np.ndarray, good: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Take a stretch of each of compartments ``c`` in; what the family may learn of it: (value, square within, counted)."""
    value = np.where(good, m + np.clip(d, -NEAR_SD, NEAR_SD) * np.nan_to_num(sd), 0.0)
    weight = np.where(good, np.where(np.abs(d) > FAR_SD, FAR_WEIGHT, 1.0), 0.0)
    n = s.n[c]
    # the spread within a compartment is told once it has a past of its own
    told = weight * (n >= 2)
    square = told * (np.where(good, value - m, 0.0) ** 2 - noise**2)
    s.within[c] += square
    s.within_n[c] += told
    s.n[c] = np.minimum(n + weight, OWN_MEMORY)
    s.mean[c] += np.where(weight > 0, weight * (value - s.mean[c]) / np.maximum(s.n[c], 1e-9), 0.0)
    return value, square, told


def _learn_family(s: _State, learnt: list[tuple[np.ndarray, ...]], families: int) -> None:
    f, value, square, told, good = (np.concatenate(column) for column in zip(*learnt, strict=True))
    n, total, squares = (np.zeros((families, value.shape[1])) for _ in range(3))
    np.add.at(n, f, good.astype(float))
    np.add.at(total, f, value)
    kept = np.minimum(s.fam_n + n, FAMILY_MEMORY)
    step = np.where(n > 0, (total - n * s.fam_mean) / np.maximum(s.fam_n + n, 1.0), 0.0)
    mean = s.fam_mean + step
    np.add.at(squares, f, np.where(good, (value - mean[f]) ** 2, 0.0))
    fade = np.where(n > 0, kept / np.maximum(s.fam_n + n, 1.0), 1.0)
    s.fam_spread = (s.fam_spread + s.fam_n * step**2 + squares) * fade
    s.fam_n, s.fam_mean = kept, mean
    np.add.at(s.fam_within, f, square)
    np.add.at(s.fam_within_n, f, told)
    s.fam_within *= fade
    s.fam_within_n *= fade
