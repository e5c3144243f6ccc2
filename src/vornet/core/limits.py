"""Limits: the fixed school as a table with its sources, and the statistical school from healthy history.

Fixed figures are start values (common practice, from memory) to be replaced by the maker's; a fleet's
own dated versions override them. Statistical: mean + 2s / + 3s and its kin after the approach of
ASTM D7720; order-statistic intervals for percentiles (Hahn & Meeker 1991, 95 %).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from vornet.core.errors import InputError
from vornet.core.measurands import COUNT, INDEX

Side = Literal["high", "low"]
Method = Literal["normal", "lognormal", "percentile", "robust"]
#: absolute: the figure itself; above_new: new oil + figure; percent: new oil × (1 + figure/100)
Basis = Literal["absolute", "above_new", "percent"]
#: which rows apply to a compartment
Duty = Literal["diesel_engine", "gas_engine", "gear", "hydraulics"]
DUTIES: tuple[Duty, ...] = ("diesel_engine", "gas_engine", "gear", "hydraulics")

HABIT = "common practice, from memory; replace by the maker's"
FEWEST, PROVISIONAL_BELOW = 10, 30


@dataclass(frozen=True)
class FixedLimit:
    """One row of the fixed school: watch and act on one side of one measurand; of every compartment of a duty, or of one ``family`` or
    one ``unit`` alone."""

    duty: Duty
    key: str
    side: Side
    basis: Basis
    watch: float
    act: float
    source: str = HABIT
    family: str = ""
    unit: str = ""

    @property
    def scope(self) -> tuple[str, str]:
        return self.family, self.unit


def _rows(duty: Duty, text: str) -> list[FixedLimit]:
    out = []
    for cell in text.replace("\n", ";").split(";"):
        if cell.strip():
            key, side, basis, watch, act = cell.split()
            out.append(FixedLimit(duty, key, side, basis, float(watch), float(act)))  # type: ignore[arg-type]
    return out


FIXED_LIMITS: tuple[FixedLimit, ...] = (
    *_rows("diesel_engine", """
        fe high absolute 75 150; cr high absolute 8 20; ni high absolute 5 15; al high absolute 15 30
        cu high absolute 30 75; pb high absolute 20 50; sn high absolute 10 25; si high above_new 20 40
        na high absolute 40 100; k high absolute 20 50; fuel_pct high absolute 2.5 5
        soot_pct high absolute 2 4; water_ppm high absolute 1000 2000; glycol_pct high absolute 0.05 0.1
        v100 high percent 10 25; v100 low percent -10 -20; bn low percent -50 -67
        oxidation high above_new 20 30; nitration high above_new 20 30
    """),
    *_rows("gas_engine", """
        fe high absolute 30 60; cu high absolute 20 40; pb high absolute 15 30; al high absolute 10 20
        cr high absolute 8 20; sn high absolute 10 25; na high absolute 40 100; k high absolute 20 50
        water_ppm high absolute 1000 2000; glycol_pct high absolute 0.05 0.1
        v100 high percent 10 25; v100 low percent -10 -20; bn low percent -50 -67
        an high above_new 2 3; oxidation high above_new 15 25; nitration high above_new 15 25
    """),
    *_rows("gear", """
        fe high absolute 200 400; cu high absolute 50 100; si high above_new 40 80
        v40 high percent 10 20; v40 low percent -10 -20; v100 high percent 10 20; v100 low percent -10 -20
        an high above_new 1 2; water_ppm high absolute 1000 2000
    """),
    *_rows("hydraulics", """
        fe high absolute 20 40; cu high absolute 20 50; si high above_new 10 20
        v40 high percent 10 15; v40 low percent -10 -15
        an high above_new 0.5 1; water_ppm high absolute 500 1000
        p4 high absolute 2500 5000; p6 high absolute 640 1300; p14 high absolute 80 160
    """),
)  # fmt: skip


def duty_of(kind: str, fuel: str | None) -> Duty:
    """Which fixed rows apply: by kind of compartment and, for engines, fuel.

    Compressors follow hydraulics and ``other`` follows gears until a fleet sets its own.
    """
    if kind == "engine":
        return "gas_engine" if fuel in ("gas", "biogas") else "diesel_engine"
    return "hydraulics" if kind in ("hydraulics", "compressor") else "gear"


@dataclass(frozen=True)
class LimitTable:
    """Fixed limits as arrays of shape (rows, COUNT); NaN where there is no limit. The first rows are the duties', in their order; then
    one for every family or unit that has limits of its own.

    ``watch[side]``, ``act[side]`` hold the figures, ``basis[side]`` 0 absolute, 1 above new, 2 percent of new; ``duty`` (rows,) the
    duty that each row is of.
    """

    watch: dict[str, np.ndarray]
    act: dict[str, np.ndarray]
    basis: dict[str, np.ndarray]
    duty: np.ndarray

    def resolve(
        self, duty: np.ndarray, new_oil: np.ndarray, columns: Sequence[int] | None = None
    ) -> dict[str, tuple[np.ndarray, np.ndarray]]:
        """Limits in the measurand's own unit: {side: (watch, act)}, each of shape (N, COUNT or len(columns)).

        ``duty``: (N,) the row of each, a duty's index or a row of its own. ``new_oil``: (N, COUNT) new-oil values, NaN unknown: a limit above
        new or in per cent of it then does not speak.
        """
        pick = slice(None) if columns is None else list(columns)
        fresh = new_oil[:, pick]
        out = {}
        for side in ("high", "low"):
            basis = self.basis[side][:, pick][duty]
            pair = []
            for figures in (self.watch[side], self.act[side]):
                figure = figures[:, pick][duty]
                pair.append(np.where(basis == 0, figure, np.where(basis == 1, fresh + figure, fresh * (1 + figure / 100))))
            out[side] = (pair[0], pair[1])
        return out


def check_limit(row: FixedLimit, field: str = "limit") -> None:
    """Raise InputError for a row that contradicts itself (watch beyond act)."""
    if (row.act < row.watch) if row.side == "high" else (row.act > row.watch):
        raise InputError(field, f"watch {row.watch:g} lies beyond act {row.act:g} for {row.key} ({row.side} side)")


def table(rows: Sequence[FixedLimit] = FIXED_LIMITS) -> LimitTable:
    """Arrange the limits of duties as arrays. Raises InputError for a row whose watch lies beyond its act."""
    return _arranged(rows, [])


def arranged(rows: Sequence[FixedLimit], duty: np.ndarray, families: Sequence[str], units: Sequence[str]) -> tuple[LimitTable, np.ndarray]:
    """Limits as arrays with those of families and units among them, and which row each compartment has, shape (C,).

    ``duty``, ``families``, ``units``: each compartment's, all of length C. The nearest wins measurand by measurand: the unit's, the
    family's, the duty's. Raises InputError for a row whose watch lies beyond its act.
    """
    own = {(r.duty, r.family, r.unit) for r in rows if r.family or r.unit}
    named = np.array(duty, dtype=np.int64, copy=True)
    profiles: list[tuple[int, str, str]] = []
    place: dict[tuple[int, str, str], int] = {}
    for c, (d, family, unit) in enumerate(zip(named.tolist(), families, units, strict=True)):
        key = (d, family if (DUTIES[d], family, "") in own else "", unit if (DUTIES[d], "", unit) in own else "")
        if key[1] or key[2]:
            if key not in place:
                place[key] = len(DUTIES) + len(profiles)
                profiles.append(key)
            named[c] = place[key]
    return _arranged(rows, profiles), named


def _arranged(rows: Sequence[FixedLimit], profiles: Sequence[tuple[int, str, str]]) -> LimitTable:
    shape = (len(DUTIES) + len(profiles), COUNT)
    watch = {s: np.full(shape, np.nan) for s in ("high", "low")}
    act = {s: np.full(shape, np.nan) for s in ("high", "low")}
    basis = {s: np.zeros(shape, dtype=np.int8) for s in ("high", "low")}
    duty = np.array([*range(len(DUTIES)), *(d for d, _, _ in profiles)], dtype=np.int64)
    nearest_last = sorted(rows, key=lambda r: (bool(r.unit), bool(r.family)))
    for row in nearest_last:
        check_limit(row)
        d = DUTIES.index(row.duty)
        mine = [
            len(DUTIES) + i
            for i, (of, family, unit) in enumerate(profiles)
            if of == d and row.family in ("", family) and row.unit in ("", unit)
        ]
        if not (row.family or row.unit):
            mine.append(d)
        for at in ((i, INDEX[row.key]) for i in mine):
            watch[row.side][at], act[row.side][at] = row.watch, row.act
            basis[row.side][at] = {"absolute": 0, "above_new": 1, "percent": 2}[row.basis]
    return LimitTable(watch, act, basis, duty)


def healthy_rows(usable: np.ndarray, settled: np.ndarray, break_in: np.ndarray, signed: np.ndarray, found: np.ndarray) -> np.ndarray:
    """Samples that say what is usual, shape (N,), bool. Out: held, drawn from standing oil, running in, signed Act or Stop
    (``signed`` code, below 2 otherwise), and those whose fault the workshop confirmed (``found``). What a limit itself
    would flag stays in, or limits would ratchet down."""
    return np.asarray(usable & ~settled & ~break_in & (signed < 2) & ~found)


@dataclass(frozen=True)
class StatLimits:
    """Limits from history: n values, provisional below 30. ``*_ci`` only for percentiles; a bound the
    sample size cannot give is None."""

    watch: float
    act: float
    n: int
    provisional: bool
    watch_ci: tuple[float | None, float | None] | None = None
    act_ci: tuple[float | None, float | None] | None = None


def order_statistic_interval(ordered: np.ndarray, quantile: float, confidence: float = 0.95) -> tuple[float | None, float | None]:
    """Distribution-free confidence interval of a quantile from ascending values, half the error each side."""
    from scipy import special

    n, tail = len(ordered), (1 - confidence) / 2
    below = special.bdtr(np.arange(n), n, quantile)  # P(at most k values under the quantile), k = 0..n-1
    lower = int(np.sum(below <= tail))  # rank whose value is under the quantile with 1 - tail
    upper = int(np.argmax(below >= 1 - tail)) + 1 if below[-1] >= 1 - tail else 0
    return (
        float(ordered[lower - 1]) if lower >= 1 else None,
        float(ordered[upper - 1]) if 1 <= upper <= n else None,
    )


def censored_moments(values: np.ndarray, below: np.ndarray) -> tuple[float, float]:
    """Mean and standard deviation of a normal sample of which some values are only known to lie below their limits.

    By maximum likelihood, as a left-censored (Tobit) sample: Helsel, Statistics for Censored Environmental Data, ch. 6.
    ``values`` the measured ones, ``below`` the limits of the others.
    """
    from scipy import optimize, special

    everything = np.concatenate([values, below])
    scale = float(everything.std()) or 1.0

    def cost(p: np.ndarray) -> float:
        m, s = p[0], scale * math.exp(min(max(p[1], -12.0), 12.0))
        z = (values - m) / s
        return float(0.5 * (z**2).sum() + len(values) * math.log(s) - special.log_ndtr((below - m) / s).sum())

    start = np.array([float(everything.mean()), 0.0])
    found = optimize.minimize(cost, start, method="Nelder-Mead", options={"xatol": 1e-8, "fatol": 1e-10, "maxiter": 4000})
    return float(found.x[0]), scale * math.exp(float(found.x[1]))


def ranked(values: np.ndarray, below: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(ascending values, how many of the sample each stands for), the counts adding up to all of them.

    A value only known to lie below L is shared out evenly among all smaller ones, from the highest L down, which gives the
    Kaplan–Meier estimate of a left-censored sample (Efron 1967; Helsel, Statistics for Censored Environmental Data, ch. 6);
    where none is smaller it stands at L itself.
    """
    every = np.concatenate([below, values])
    hidden = np.r_[np.ones(len(below), dtype=bool), np.zeros(len(values), dtype=bool)]
    order = np.argsort(every, kind="stable")  # at a tie ``<L`` lies below L
    every, hidden = every[order], hidden[order]
    count = np.ones(len(every))
    for i in np.flatnonzero(hidden)[::-1].tolist():
        if i and not hidden[:i].all():
            count[:i] += count[i] / i
            count[i] = 0.0
    kept = count > 0
    return every[kept], count[kept]


def weighted_quantile(values: np.ndarray, count: np.ndarray, quantile: float) -> float:
    """Quantile of ascending ``values`` that stand for ``count`` of a sample each, by the median-unbiased rule.

    With counts of one it is numpy's: plotting positions (k − 1/3)/(n + 1/3) (Hyndman & Fan 1996, type 8).
    """
    total = count.sum()
    place = (np.cumsum(count) - count / 3) / (total + 1 / 3)
    return float(np.interp(quantile, place, values))


def _censored(x: np.ndarray, below: np.ndarray) -> tuple[float, float]:
    """Mean and sd of a censored sample; the sd, by maximum likelihood too small by √((n − 1)/n), is put right as of n values."""
    m, s = censored_moments(x, below)
    n = len(x) + len(below)
    return m, s * math.sqrt(n / (n - 1))


def statistical_limits(
    values: Sequence[float], method: Method = "normal", side: Side = "high", method_sd: float = 0.0, below: Sequence[float] = ()
) -> StatLimits:
    """Watch and act from a healthy history. Spread is never taken below ``method_sd``.

    normal and lognormal 2s/3s, robust 2k/3k with k = 1.4826·MAD, percentile 95/98 (5/2 on the low side)
    by the median-unbiased rule. ``below``: limits of values only known to lie below them; they count by rank in
    percentiles (``ranked``) and by maximum likelihood in normal and lognormal limits; over half of them leaves percentiles only.
    Raises InputError below 10 values or, for lognormal, at values ≤ 0.

    >>> statistical_limits([9, 10, 11, 10, 9, 11, 10, 10, 9, 11]).watch.__round__(3)
    11.633
    """
    x, unseen = np.asarray(values, dtype=float), np.asarray(below, dtype=float)
    n = len(x) + len(unseen)
    if n < FEWEST:
        raise InputError("values", f"{n} values are too few: limits need at least {FEWEST}")
    sign = 1.0 if side == "high" else -1.0
    provisional = n < PROVISIONAL_BELOW
    if method != "percentile" and 2 * len(unseen) > n:
        raise InputError("values", "over half lie below what the method sees: only percentiles can be told")
    if method == "percentile":
        # by rank: below its limit whatever it is, so never above a measured value that exceeds the limit
        known, count = ranked(x, unseen)
        quantiles = (0.95, 0.98) if side == "high" else (0.05, 0.02)
        watch, act = (weighted_quantile(known, count, q) for q in quantiles)
        # the k-th smallest of n is where as many are counted
        ordered = known[np.minimum(np.searchsorted(np.cumsum(count), np.arange(1, n + 1) - 1e-9), len(known) - 1)]
        ci = [order_statistic_interval(ordered, q) for q in quantiles]
        return StatLimits(watch, act, n, provisional, ci[0], ci[1])
    if method == "lognormal":
        if np.min(x, initial=1.0) <= 0 or np.min(unseen, initial=1.0) <= 0:
            raise InputError("values", "lognormal limits need values above zero")
        logs = np.log(x)
        m, s = _censored(logs, np.log(unseen)) if len(unseen) else (float(logs.mean()), float(logs.std(ddof=1)))
        # a method's sd at the centre, on logarithms: that of the lognormal with this relative sd
        s = max(s, math.sqrt(math.log1p((method_sd / math.exp(m)) ** 2)))
        return StatLimits(math.exp(m + sign * 2 * s), math.exp(m + sign * 3 * s), n, provisional)
    if method == "robust":
        known, count = ranked(x, unseen)
        centre = weighted_quantile(known, count, 0.5)
        apart = np.abs(known - centre)
        order = np.argsort(apart, kind="stable")
        spread = max(1.4826 * weighted_quantile(apart[order], count[order], 0.5), method_sd)
    elif len(unseen):
        centre, spread = _censored(x, unseen)
        spread = max(spread, method_sd)
    else:
        centre, spread = float(x.mean()), max(float(x.std(ddof=1)), method_sd)
    return StatLimits(centre + sign * 2 * spread, centre + sign * 3 * spread, n, provisional)
