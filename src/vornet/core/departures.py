"""How far each sample departs from what is usual in its compartment, by what was known on its day.

What moves (metals, dirt, salts, ageing) is followed as a rate over the stretch that ends in the sample, with top-ups and
carry-over taken out by the ledger; what comes and goes (water, fuel, particles) as the level itself. What is usual is
learnt in the order of time: a compartment's own stretches, drawn towards its family's by as much as compartments of the
family are alike (an empirical Bayes estimate: Efron & Morris 1975), and towards common practice while both are young.
Nothing that a limit would flag is left out, it only teaches less: a far value counts as a near one (Huber 1964). Two
things teach nothing: what a person signed Act or Stop or the workshop confirmed, and a value that departs clearly and
materially from a compartment's own past, so that no baseline learns a fault while it lasts; a signed Run on teaches it.
Stretches of one charge have that charge's ways in common and neighbours share a reading, so later ones of a charge teach
less, and what lasts is followed charge by charge, each by its latest value.
Another lab leans otherwise: what was learnt of readings by one is known so much less surely of readings by the next.
A small lasting shift is caught by a one-sided CUSUM with k = 0.5 and h = 5 (Montgomery, Introduction to Statistical
Quality Control, ch. 9: about 930 in-control values between false alarms of one side).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.compare import Past
from vornet.core.history import History, read_as, sums
from vornet.core.measurands import INDEX
from vornet.core.precision import BETWEEN_DATES, BETWEEN_LABS, LABS_APART
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
_STRETCH = np.array([AT[k] for k in BOTH_WAYS])
_OF_CHARGE = np.array([AT_CHARGE[k] for k in BOTH_WAYS])
_UNLIKE = np.array([k in BOTH_WAYS for k in FOLLOWED])
_AGEING = np.array([k in AGEING for k in AT] + [True] * len(BOTH_WAYS))

#: share of the way from new oil to the watch limit that matters when it is gained within one interval; no source
MATTERS = 0.4
#: what matters where no limit is set, in the measurand's unit over one interval (a level: as such); common practice, no source
MATTERS_UNLIMITED = {
    "ni": 2.0, "cr": 3.0, "sn": 4.0, "pb": 8.0, "al": 6.0, "ag": 2.0, "b": 8.0, "mg": 7.0, "v": 5.0, "pq": 25.0, "an": 0.8,
    "na": 16.0, "k": 8.0, "si": 20.0, "oxidation": 6.0, "nitration": 6.0, "soot_pct": 0.8, "water_ppm": 300.0, "fuel_pct": 1.0,
    "glycol_pct": 0.03, "p4": 2000.0, "p6": 500.0, "p14": 60.0,
}  # fmt: skip
#: a stretch is drawn out into at most so many times what was seen of it; common practice, no source
DRAWN_OUT = 1.7
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
#: correlation of two signs of ageing in healthy oil: a hard charge ages everything; common practice, no source
TOGETHER = 0.4
#: and each must be at least this much of what matters by itself; common practice, no source
LEAST_TOGETHER = 0.25
CUSUM_SLACK, CUSUM_LIMIT, CUSUM_MOST = 0.5, 5.0, 3.0
#: engines of one family wear at rates that differ by at least this share of the family's own, one standard deviation: until
#: a compartment has a past, being unlike is no fault; common practice, no source
LEAST_BETWEEN = 0.5
#: share of a stretch's scatter that the stretches of one charge have in common; common practice, no source
SHARED = 0.6
#: stretches of its own from which a compartment's past says what is usual; before, family and spread decide
OWN_STRETCHES = 5
#: degree from which a departure no longer teaches what is usual
SHOWN = 0.5
#: what a person or the workshop said of a sample: it does not show what is usual, nobody said, it surely does
NEVER_TEACHES, BY_ITSELF, SURELY_TEACHES = -1, 0, 1
#: days of one step in time: whoever is judged within it knows the family as it stood at its start
STEP_DAYS = 30


@dataclass(frozen=True)
class Departures:
    """Shape (N, len(FOLLOWED)); NaN where nothing can be told.

    ``moved``: per meter unit, undiluted (a level as measured); ``usual`` and ``sd`` what was to be expected of it, the
    method's noise included; ``z`` the departure in sd; ``excess`` what it adds within one interval (a level: above
    usual), and ``matters`` the size of excess that matters (more where little was seen of it), both in the measurand's
    unit; ``drift`` the CUSUM upwards (downwards for base number); ``n`` own stretches it rests on; ``family`` what is
    usual in the family.
    """

    moved: np.ndarray
    usual: np.ndarray
    sd: np.ndarray
    z: np.ndarray
    excess: np.ndarray
    matters: np.ndarray
    drift: np.ndarray
    n: np.ndarray
    family: np.ndarray

    def together(self, signs: list[tuple[str, bool]]) -> np.ndarray:
        """Degree of several departures at once, (N,): ``signs`` (measurand, rise?). Each must be there by a standard deviation;
        what they have in common by nature (TOGETHER) is taken out of their joint weight."""
        columns = [AT[k] for k, _ in signs]
        way = np.array([1.0 if up else -1.0 for _, up in signs])
        z, material = self.z[:, columns] * way, np.clip(self.excess[:, columns] / self.matters[:, columns] * way, -2, 1.5)
        joint = z.sum(axis=1) / np.sqrt(len(signs) * (1 + TOGETHER * (len(signs) - 1)))
        lasting = _lasting(z, self.drift[:, columns] * (way == np.where(_UPWARDS[columns], 1.0, -1.0))).min(axis=1)
        with np.errstate(invalid="ignore"):
            sure = np.maximum(np.clip((joint - 1.5) / 2.5, 0, 2) * np.clip(z.min(axis=1), 0, 1), lasting)
            there = np.where(material.min(axis=1) >= LEAST_TOGETHER, material.mean(axis=1), 0.0)
            return np.asarray(np.nan_to_num(np.minimum(sure, there)))

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
        return np.asarray(np.maximum(np.clip((z - 1.5) / 2.5, 0, 2), _lasting(z, drift)))


def _lasting(z: np.ndarray, drift: np.ndarray) -> np.ndarray:
    with np.errstate(invalid="ignore"):
        return np.where((drift >= CUSUM_LIMIT) & (z > 0), np.minimum(0.4 + 0.1 * (drift - CUSUM_LIMIT), 1.0), 0.0)


def _degree(z: np.ndarray, material: np.ndarray, drift: np.ndarray) -> np.ndarray:
    with np.errstate(invalid="ignore"):
        return np.asarray(np.nan_to_num(np.minimum(_sure(z, drift), np.clip(material, 0, 2))))


@dataclass(frozen=True)
class _Moves:
    """Shape (N, K): ``value`` moved, its ``error``; ``apart`` how far another lab may lean."""

    value: np.ndarray
    error: np.ndarray
    apart: np.ndarray


def _moves(history: History, charges: Charges, rates: StretchRates) -> _Moves:
    """The ledger's stretches for what moves, the level itself for the rest."""
    samples, c = history.samples, rates.coefficients
    x = samples.values[:, COLUMNS]
    below = (samples.below[:, None] >> COLUMNS.astype(np.int64)) & 1 == 1
    x = np.where(below & _RATE & _UPWARDS, np.nan, x)  # below what the method sees: never itself a rise
    once = history.precision.columns_sd(samples.values[:, COLUMNS], list(FOLLOWED))
    across = rates.across[:, None] & ~_AGEING
    times = np.where(across, BETWEEN_LABS, BETWEEN_DATES)
    sd = times * once
    before = rates.previous >= 0
    charge = charges.charge_of
    read, read_sd = read_as(samples, COLUMNS, once)
    start = np.where(before[:, None], read[rates.previous], charges.start[charge][:, COLUMNS])
    start_sd = np.where(before[:, None], times * read_sd[rates.previous], charges.start_sd[charge][:, COLUMNS])
    fresh = history.known.at(charges.oil[charge], samples.day).value[:, COLUMNS]
    start, start_sd, fresh = _without_record(history, charges, rates, start, start_sd, fresh)
    whole = _from_fill(charges, rates)
    known = samples.usable & (c.a > 0) & ~np.isnan(charges.fill[charge])
    weight = history.oils.density[charges.oil[charge]] * history.compartments.system_l[samples.comp]
    with np.errstate(invalid="ignore", divide="ignore"):
        # the oil's ageing starts from what is known best, the fill; wear and dirt from the sample before
        a, beta, gamma = (np.where(_AGEING, w[:, None], s[:, None]) for w, s in zip(whole, (c.a, c.beta, c.gamma), strict=True))
        begun = charges.start[charge][:, COLUMNS]
        start = np.where(_AGEING & ~np.isnan(begun), begun, start)
        start_sd = np.where(_AGEING & ~np.isnan(begun), charges.start_sd[charge][:, COLUMNS], start_sd)
        span = np.where(known[:, None], a * weight[:, None], np.nan)  # hours, but for what top-ups thinned
        rate = (x - beta * start - gamma * fresh) / span
        rate_se = np.hypot(sd, beta * start_sd) / span
        apart = LABS_APART * once / np.where(_RATE, span, 1.0)
    level = np.where(samples.usable[:, None], x, np.nan)
    return _Moves(np.where(_RATE, rate, level), np.where(_RATE, rate_se, sd), np.nan_to_num(apart))


#: additives that come with salt, and of which an oil's record may say nothing
_SALTS = ("b", "mg")


def _without_record(
    history: History, charges: Charges, rates: StretchRates, start: np.ndarray, start_sd: np.ndarray, fresh: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Starts and new oil where nobody knows what of boron or magnesium the oil holds when new, so that a rise still shows.

    New oil is then taken to hold the most that this oil showed in the compartment in earlier charges (service takes
    additives away, it adds none), for the first charge what its first sample showed; a rise beyond that is a rise.
    """
    samples = history.samples
    columns = [i for i, k in enumerate(FOLLOWED) if k in _SALTS]
    wanted = np.isnan(fresh[:, columns]) & ~np.isnan(samples.values[:, COLUMNS[columns]])
    if not wanted.any():
        return start, start_sd, fresh
    start, start_sd, fresh = start.copy(), start_sd.copy(), fresh.copy()
    sd = BETWEEN_DATES * history.precision.columns_sd(samples.values[:, COLUMNS[columns]], [FOLLOWED[i] for i in columns])
    for c in np.unique(samples.comp[wanted.any(axis=1) & samples.usable]):
        rows = np.flatnonzero((samples.comp == c) & samples.usable)
        for k, column in enumerate(columns):
            most: dict[int, float] = {}
            charge, in_charge, oil_before = -1, -np.inf, -1
            for i in rows.tolist():
                of, x = int(charges.charge_of[i]), float(samples.values[i, COLUMNS[column]])
                oil = int(charges.oil[of])
                if of != charge:
                    if np.isfinite(in_charge):
                        most[oil_before] = max(most.get(oil_before, -np.inf), in_charge)
                    charge, in_charge, oil_before = of, -np.inf, oil
                if np.isnan(fresh[i, column]) and not np.isnan(x):
                    new = most.get(oil, in_charge if np.isfinite(in_charge) else np.nan)
                    fresh[i, column] = new
                    if rates.previous[i] < 0 or _AGEING[column]:
                        start[i, column], start_sd[i, column] = new, sd[i, k]
                if not np.isnan(x):
                    in_charge = max(in_charge, x)
    return start, start_sd, fresh


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
    """What is known so far. Own (C, K), family (F, K). ``count`` stretches, ``n`` what their mean is worth."""

    count: np.ndarray
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


#: from the first column that is followed from the fill
_TAIL = slice(int(np.flatnonzero(_AGEING)[0]), len(FOLLOWED))
#: sd at which a departure is as sure as SHOWN
_SHOWN_SD = 1.5 + 2.5 * SHOWN
#: of what is known of a compartment: what its charges, not its stretches, add to
_OWN = ("n", "mean", "within_n", "within", "cusum")


def departures(history: History, charges: Charges, rates: StretchRates, past: Past, teaching: np.ndarray | None = None) -> Departures:
    """Go through the samples in the order of time: compare each with what is usual so far, then learn from it.

    ``teaching`` (N,): NEVER_TEACHES, BY_ITSELF or SURELY_TEACHES, as people said of each; nothing given is BY_ITSELF.
    """
    samples, comps = history.samples, history.compartments
    count, k = len(comps.duty), len(FOLLOWED)
    families = int(comps.family.max(initial=-1)) + 1
    moves = _moves(history, charges, rates)
    moved, se = moves.value, moves.error
    way, matters = _ways(history, charges, past)
    interval = np.where(np.isnan(comps.interval) | (comps.interval <= 0), np.where(comps.distance, 20_000.0, 500.0), comps.interval)
    span = np.where(_RATE, interval[samples.comp][:, None], 1.0)
    # what a few hours showed is not drawn out into a whole interval: more of it is asked
    seen_for = np.where(_AGEING, rates.to_h[:, None], (rates.to_h - rates.from_h)[:, None])
    with np.errstate(invalid="ignore", divide="ignore"):
        drawn_out = np.where(_RATE & (seen_for > 0), np.maximum(span / (DRAWN_OUT * seen_for), 1.0), 1.0)
    matters = matters * drawn_out
    sign = np.where(_UPWARDS, 1.0, -1.0)
    common, common_spread = COMMON_MEAN * way / span * sign, COMMON_SPREAD * way / span
    both = np.array([key in ("v100", "v40", "b", "mg") for key in FOLLOWED])
    downwards = np.flatnonzero(~_UPWARDS | np.array([key in ("v100", "v40") for key in FOLLOWED]))
    common[:, both] = 0.0

    def zeros(rows: int) -> np.ndarray:
        return np.zeros((rows, k))

    def c0() -> np.ndarray:
        return zeros(count)

    def f0() -> np.ndarray:
        return zeros(families)

    s = _State(c0(), c0(), c0(), c0(), c0(), f0(), f0(), f0(), f0(), f0(), c0())
    before_charge = {name: c0()[:, _TAIL] for name in _OWN}
    usual, spread, z, drift, n_own, family = (np.full((len(samples.comp), k), np.nan) for _ in range(6))
    said = np.zeros(len(samples.comp), dtype=int) if teaching is None else teaching
    teaches = samples.usable & ~samples.settled & ~charges.break_in[charges.charge_of] & (said > NEVER_TEACHES)
    total_at_overhaul = comps.overhaul
    renewed = np.zeros(count, dtype=bool)
    labs, lab_before = samples.labs, np.full(count, -1, dtype=np.int64)
    rows = np.flatnonzero(samples.usable)
    learnt: list[tuple[np.ndarray, ...]] = []
    for at, ends in _steps(samples.day, samples.comp, rows):
        c, f = samples.comp[at], comps.family[samples.comp[at]]
        with np.errstate(invalid="ignore"):
            new_part = ~renewed[c] & (samples.total[at] > total_at_overhaul[c])
        if new_part.any():  # an overhaul or an exchange: another past
            for name in ("count", *_OWN):
                getattr(s, name)[c[new_part]] = 0.0
            renewed[c[new_part]] = True
        again = rates.previous[at] >= 0
        # the same stretch as before, grown longer: it takes the place of what it was
        longer, anew = c[again & ~new_part], c[~again | new_part]
        for name in _OWN:
            block, kept = getattr(s, name)[:, _TAIL], before_charge[name]
            if len(longer):
                block[longer] = np.where(_AGEING[_TAIL], kept[longer], block[longer])
            kept[anew] = block[anew]
        x, noise = moved[at], se[at]
        elsewhere = (labs[at] >= 0) & (lab_before[c] >= 0) & (labs[at] != lab_before[c])
        if elsewhere.any():
            _less_surely(s, c[elsewhere], f[elsewhere], moves.apart[at[elsewhere]], common_spread[at[elsewhere]])
            before_charge["n"][c[elsewhere]] = s.n[c[elsewhere]][:, _TAIL]
        lab_before[c] = np.where(labs[at] >= 0, labs[at], lab_before[c])
        m, sd, prior = _expected(s, c, f, common[at], common_spread[at], noise)
        with np.errstate(invalid="ignore", divide="ignore"):
            d = (x - m) / sd
        usual[at], spread[at], z[at], n_own[at], family[at] = m, sd, d, s.count[c], prior
        told = ~np.isnan(d)
        s.cusum[c] = np.where(
            told, np.maximum(s.cusum[c] + np.clip(np.nan_to_num(d) * sign, -CUSUM_MOST, CUSUM_MOST) - CUSUM_SLACK, 0.0), s.cusum[c]
        )
        # neighbouring stretches share a reading and their charge: what lasts is followed charge by charge, in one value each
        now_drifts = s.cusum[c]
        now_drifts[:, _STRETCH] = now_drifts[:, _OF_CHARGE]
        s.cusum[c] = now_drifts
        drift[at] = now_drifts
        with np.errstate(invalid="ignore", divide="ignore"):
            material = (x - m) * span[at] / matters[at]
            # the lesser of how sure and how much is at least SHOWN
            shown = (d >= _SHOWN_SD) & (material >= SHOWN)
            shown[:, downwards] |= (d[:, downwards] <= -_SHOWN_SD) & (material[:, downwards] <= -SHOWN)
        shown_by_itself = shown & (s.count[c] >= OWN_STRETCHES) & (said[at] < SURELY_TEACHES)[:, None]
        usual_by_hand = c[said[at] >= SURELY_TEACHES]
        if len(usual_by_hand):
            s.cusum[usual_by_hand] = 0.0
        good = teaches[at][:, None] & told & ~shown_by_itself
        whole = np.where(again[:, None] & ~_AGEING & _RATE, 1 - SHARED, 1.0)
        with np.errstate(invalid="ignore"):  # a small shift that lasts teaches, but slowly
            lasts = (now_drifts >= CUSUM_LIMIT) & (material * sign >= SHOWN) & (s.count[c] >= OWN_STRETCHES)
        whole = np.where(lasts, FAR_WEIGHT * whole, whole)
        surely = (said[at] >= SURELY_TEACHES)[:, None] & good
        learnt.append((f, *_learn(s, c, m, sd, np.nan_to_num(d), np.nan_to_num(noise), good, whole, surely), good))
        if ends:
            _learn_family(s, learnt, families)
            learnt = []
    with np.errstate(invalid="ignore"):
        excess = (moved - usual) * span
    drift = np.where(np.isnan(z), np.nan, drift)
    return Departures(moved, usual, spread, z, excess, matters, drift, n_own, family)


def _less_surely(s: _State, c: np.ndarray, f: np.ndarray, apart: np.ndarray, common_spread: np.ndarray) -> None:
    """Readings come from another lab: own means are worth less, by what labs may differ. ``apart`` (c, K)."""
    within = _within(s, c, f, common_spread)
    n = s.n[c]
    with np.errstate(invalid="ignore", divide="ignore"):
        s.n[c] = np.where((n > 0) & (within > 0), 1 / (1 / n + apart**2 / within), n)


def _within(s: _State, c: np.ndarray, f: np.ndarray, common_spread: np.ndarray) -> np.ndarray:
    """Variance from stretch to stretch of a compartment, its own drawn towards the family's; (c, K)."""
    fam_within = (s.fam_within[f] + COMMON_COUNT * (0.5 * common_spread) ** 2) / (s.fam_within_n[f] + COMMON_COUNT)
    return np.asarray(
        (np.maximum(s.within[c], 0.0) + FAMILY_SPREAD_COUNT * np.maximum(fam_within, 0.0)) / (s.within_n[c] + FAMILY_SPREAD_COUNT)
    )


def _expected(
    s: _State, c: np.ndarray, f: np.ndarray, common: np.ndarray, common_spread: np.ndarray, noise: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(mean, sd with the method's noise, the family's mean) of the next stretch of compartments ``c``."""
    n_f = s.fam_n[f]
    prior = (n_f * s.fam_mean[f] + COMMON_COUNT * common) / (n_f + COMMON_COUNT)
    total = (s.fam_spread[f] + COMMON_COUNT * common_spread**2) / (n_f + COMMON_COUNT)
    within = _within(s, c, f, common_spread)
    between = np.maximum(np.maximum(total - within, 0.1 * total), np.where(_UNLIKE, LEAST_BETWEEN * prior, 0.0) ** 2)
    with np.errstate(invalid="ignore", divide="ignore"):
        counts_as = np.where(between > 0, (within + np.nan_to_num(noise) ** 2) / between, 1.0)
        n, counts_as = s.n[c], np.maximum(np.nan_to_num(counts_as, nan=1.0), 1e-6)
        mean = (n * s.mean[c] + counts_as * prior) / (n + counts_as)
        return mean, np.sqrt(within * (1 + 1 / (n + counts_as)) + (LEAST_SPREAD * mean) ** 2 + noise**2), prior


def _learn(
    s: _State,
    c: np.ndarray,
    m: np.ndarray,
    sd: np.ndarray,
    d: np.ndarray,
    noise: np.ndarray,
    good: np.ndarray,
    whole: np.ndarray,
    surely: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Take a stretch of each of compartments ``c`` in; what the family may learn of it: (value, square within, counted).

    ``whole`` what a stretch counts as: less where its charge has spoken before; ``surely`` where a person said that it is usual.
    """
    value = np.where(good, m + np.where(surely, d, np.clip(d, -NEAR_SD, NEAR_SD)) * np.nan_to_num(sd), 0.0)
    weight = np.where(good, np.where((np.abs(d) > FAR_SD) & ~surely, FAR_WEIGHT, 1.0), 0.0) * whole
    n = s.n[c]
    # the spread within a compartment is told once it has a past of its own, from that past's mean: an engine that is
    # unlike its family is no unsteady one
    told = np.where(surely, 0.0, weight) * (n >= 2)
    square = told * (np.where(good, value - s.mean[c], 0.0) ** 2 * n / (n + 1) - noise**2)
    s.within[c] += square
    s.within_n[c] += told
    s.count[c] += good
    s.n[c] = np.minimum(n + weight, OWN_MEMORY)
    s.mean[c] += np.where(weight > 0, weight * (value - s.mean[c]) / np.maximum(s.n[c], 1e-9), 0.0)
    return value, square, told


def _learn_family(s: _State, learnt: list[tuple[np.ndarray, ...]], families: int) -> None:
    f, value, square, told, good = (np.concatenate(column) for column in zip(*learnt, strict=True))
    n, total = sums(good, f, families), sums(value, f, families)
    kept = np.minimum(s.fam_n + n, FAMILY_MEMORY)
    step = np.where(n > 0, (total - n * s.fam_mean) / np.maximum(s.fam_n + n, 1.0), 0.0)
    mean = s.fam_mean + step
    squares = sums(np.where(good, (value - mean[f]) ** 2, 0.0), f, families)
    fade = np.where(n > 0, kept / np.maximum(s.fam_n + n, 1.0), 1.0)
    s.fam_spread = (s.fam_spread + s.fam_n * step**2 + squares) * fade
    s.fam_n, s.fam_mean = kept, mean
    s.fam_within += sums(square, f, families)
    s.fam_within_n += sums(told, f, families)
    s.fam_within *= fade
    s.fam_within_n *= fade
