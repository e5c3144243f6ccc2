"""New oil that nobody recorded or sampled, estimated from the used samples of that oil.

Every compartment moves along a line of its own through the new oil they share; what a drain left behind of the same oil
counts as oil hours run already, of another oil it is taken out as measured. The intercept is robust (Huber 1964, k = 1.345,
by reweighting), its error by charges, not by samples: those of one charge go astray together (Liang & Zeger 1986).
As samples come in an estimate is made anew now and then; each holds from its day on and never changes afterwards, so that a
judgement uses nothing later than its sample.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from vornet.core.charges import Charges, cut
from vornet.core.fresh import Fresh, Step
from vornet.core.history import History
from vornet.core.measurands import KEYS
from vornet.core.precision import BETWEEN_DATES

#: samples, and compartments, from which an estimate is made
FEWEST, FEWEST_COMPARTMENTS = 10, 2
#: estimated anew whenever there are so many times more samples, up to so many: more would not move it
AGAIN_AT, MOST = 1.2, 2000
#: an estimate is told once its error is below so many standard deviations of one result between dates
ERROR_AT_MOST = 1.0
_HUBER, _ROUNDS = 1.345, 8


def with_estimates(history: History) -> History:
    """The history with estimates of what its oils' records lack, where their used samples can tell."""
    fresh = history.known
    used = np.zeros(len(fresh.recorded), dtype=bool)
    used[history.compartments.oil[history.compartments.oil < len(used)]] = True
    used[history.drains.oil[history.drains.oil >= 0]] = True
    wanted = fresh.lacking() & used[:, None]
    measured = (~np.isnan(history.samples.values[:, wanted.any(axis=0)])).sum(axis=0) >= FEWEST
    wanted[:, wanted.any(axis=0)] &= measured
    kept = Fresh(fresh.recorded, tuple(s for s in fresh.steps if not s.estimated))
    if not wanted.any():
        return replace(history, fresh=kept)
    charges = cut(history)
    return replace(history, fresh=kept.with_steps(estimates(replace(history, fresh=kept), charges, wanted)))


def effective_hours(charges: Charges) -> np.ndarray:
    """Oil hours that each charge's start has behind it already, for what earlier charges of the same oil left in it; (H,),
    NaN where another oil or an unknown charge came before."""
    before = np.full(len(charges.comp), np.nan)
    length = charges.end - charges.fill
    for k in range(1, int(charges.number.max(initial=0)) + 1):
        now = np.flatnonzero(charges.number == k)
        last = now - 1
        same = (charges.oil[last] == charges.oil[now]) & ~np.isnan(before[last])
        # of a charge nobody saw begin: as long as the one that follows, or as it was seen to run
        unseen = (charges.number[last] == 0) & (charges.oil[last] == charges.oil[now])
        behind = np.where(same, before[last] + np.maximum(length[last], 0), np.where(unseen, np.maximum(length[now], 0), np.nan))
        before[now] = charges.share[now] * behind
    return before


def estimates(history: History, charges: Charges, wanted: np.ndarray) -> list[Step]:
    """Steps of all that is ``wanted`` (O, COUNT) and can be told."""
    samples = history.samples
    of = charges.charge_of
    behind = effective_hours(charges)
    told = samples.usable & ~samples.settled & np.isfinite(charges.oil_hours) & (charges.number[of] > 0)
    censored = samples.below | samples.above
    order = np.argsort(samples.day, kind="stable")
    order = order[told[order]]
    out: list[Step] = []
    for oil, m in np.argwhere(wanted):
        y = samples.values[order, m]
        here = (charges.oil[of[order]] == oil) & ~np.isnan(y) & ((censored[order] >> np.int64(m)) & 1 == 0)
        rows = order[here][:MOST]
        if len(rows) < FEWEST:
            continue
        y, c = samples.values[rows, m], of[rows]
        x, share = charges.oil_hours[rows] + behind[c], np.zeros(len(rows))
        other = np.isnan(behind[c])
        if other.any():  # another oil's residue: taken out as it was last measured
            last = _last_measured(history, charges, int(m))[c - 1]
            share = np.where(other, np.nan_to_num(charges.share[c]), 0.0)
            x = np.where(other, charges.oil_hours[rows] / (1 - share), x)
            y = np.where(other, (y - share * last) / (1 - share), y)
        ok = np.isfinite(x) & np.isfinite(y)
        rows, x, y, c = rows[ok], x[ok], y[ok], c[ok]
        out += _steps(history, int(oil), int(m), rows, x, y, c)
    return out


def _last_measured(history: History, charges: Charges, m: int) -> np.ndarray:
    """The last value of each charge, (H,), NaN none."""
    samples = history.samples
    out = np.full(len(charges.comp), np.nan)
    seen = np.flatnonzero(samples.usable & ~np.isnan(samples.values[:, m]))
    out[charges.charge_of[seen]] = samples.values[seen, m]
    return out


def _steps(history: History, oil: int, m: int, rows: np.ndarray, x: np.ndarray, y: np.ndarray, charge: np.ndarray) -> list[Step]:
    samples = history.samples
    out: list[Step] = []
    n = FEWEST
    while n <= len(rows):
        comp, day = samples.comp[rows[:n]], float(samples.day[rows[n - 1]])
        if len(np.unique(comp)) >= FEWEST_COMPARTMENTS:
            value, error = intercept(x[:n], y[:n], comp, charge[:n])
            sd = BETWEEN_DATES * float(history.precision.columns_sd(np.array([[max(value, 0.0)]]), [KEYS[m]])[0, 0])
            if np.isfinite(value) and error <= ERROR_AT_MOST * sd:
                out.append(Step(oil, m, day, max(value, 0.0), error, True))
        n = int(np.ceil(n * AGAIN_AT))  # counted, not at the end: what holds today holds when more came in
    return out


def intercept(x: np.ndarray, y: np.ndarray, comp: np.ndarray, charge: np.ndarray) -> tuple[float, float]:
    """(shared intercept, its standard error) of lines y = a + b_c·x, one slope a compartment; shapes (n,). Robust.

    Where every compartment is seen at one oil age only the intercept cannot be told: an infinite error.
    """
    comp = np.unique(comp, return_inverse=True)[1]
    charge = np.unique(charge, return_inverse=True)[1]
    groups = int(comp.max()) + 1
    w = np.ones(len(x))
    a = float(np.median(y))
    for _ in range(_ROUNDS):
        sx, sy = np.bincount(comp, w * x, groups), np.bincount(comp, w * y, groups)
        sxx, sxy = np.bincount(comp, w * x * x, groups), np.bincount(comp, w * x * y, groups)
        with np.errstate(invalid="ignore", divide="ignore"):
            lean = np.where(sxx > 0, sx / sxx, 0.0)
        weight = float((np.bincount(comp, w, groups) - lean * sx).sum())
        if not weight > 1e-6:
            return a, np.inf
        a = float((sy - lean * sxy).sum() / weight)
        with np.errstate(invalid="ignore", divide="ignore"):
            slope = np.where(sxx > 0, (sxy - a * sx) / sxx, 0.0)
        r = y - a - slope[comp] * x
        scale = 1.4826 * float(np.median(np.abs(r)))
        if scale <= 0:
            break
        w = np.minimum(1.0, _HUBER * scale / np.maximum(np.abs(r), 1e-12))
    pull = np.bincount(charge, w * r * (1 - lean[comp] * x))
    n = len(pull)
    error = float(np.sqrt((pull**2).sum() * n / max(n - 1, 1)) / weight)
    return a, error if n > groups else max(error, scale)
