"""Oils that age as one says they do, many compartments at once: families, charges, bottles, and the truth behind them.

Made for one question: is an interval that was proposed from the bottles safe in truth? Every oil property gains along
pace · m · I · g(h/I), g(x) = ∫ e^(−u(x−s)) p s^(p−1) ds: a power p of oil hours (1 straight), thinned by make-up of a share u
of the system per interval I. A drain leaves a share f behind. The chance of being past any limit at T is counted over drawn
paces of the charge and those before it, so it holds carry-over of a standing interval.
Limits are those of common practice: BN at half of new oil, oxidation + 20, soot 2 %, gears' AN + 1.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from vornet.core.history import Compartments, Drains, Fillings, History, Oils, Samples
from vornet.core.measurands import COUNT, INDEX

INTERVAL = 500.0
#: measured of engines, and of gears; what bends
ENGINE, GEAR = ("bn", "an", "oxidation", "nitration", "soot_pct", "v100"), ("an", "oxidation", "v40", "v100")
KEYS = ("bn", "an", "oxidation", "nitration", "soot_pct", "v100", "v40")
BENT = ("an", "oxidation")
#: one standard deviation of a result: floor, share; common practice
_SD = {"bn": (0.2, 0.04), "an": (0.1, 0.06), "oxidation": (1.0, 0.0), "nitration": (1.0, 0.0), "soot_pct": (0.1, 0.08),
       "v100": (0.0, 0.01), "v40": (0.0, 0.01)}  # fmt: skip
BETWEEN_DATES = 1.5
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(12)
#: oil hours of bottles as shares of the charge, and how many families go about it so
SAMPLING = (((1.0,), 0.4), ((0.5, 1.0), 0.35), ((0.35, 0.7, 1.0), 0.25))
DRAWS, BACK = 400, 3


@dataclass(frozen=True)
class Cell:
    """``noise`` of the lab against what is assumed, ``bend`` p of what oxidises, ``twist`` '', drift, oil, censored, or scatter: charges
    differ from one another by 15 to 40 % instead of 5 to 15 %."""

    family: int
    charges: int
    noise: float
    bend: float
    twist: str = ""


@dataclass(frozen=True)
class Made:
    """A history and the truth of it, per compartment: ``rise`` (C, K) of each key over one interval at usual pace and now
    (recent drift or another oil counted), ``way`` (C, K) from new oil to its limit (∞ none), ``cv`` (C,), ``share`` (C,)
    left behind, ``thirst`` (C,) made up per interval, ``bend`` (C, K)."""

    history: History
    rise: np.ndarray
    way: np.ndarray
    cv: np.ndarray
    share: np.ndarray
    thirst: np.ndarray
    bend: np.ndarray

    def chance(self, hours: np.ndarray, draws: np.ndarray) -> np.ndarray:
        """True chance that any property is past its limit at the end of a standing interval of ``hours`` (C,)."""
        x = hours / INTERVAL
        past = np.zeros((len(x), DRAWS), dtype=bool)
        keep = self.share * np.exp(-self.thirst * x)
        for k in np.flatnonzero(np.isfinite(self.way).any(axis=0)):
            pace = np.exp(self.cv[:, None, None] * draws[k][None])  # (C, DRAWS, BACK + 1)
            summed = (pace * keep[:, None, None] ** np.arange(BACK + 1)).sum(axis=2)
            gained = self.rise[:, k] * gain(x, self.bend[:, k], self.thirst)
            past |= gained[:, None] * summed > self.way[:, k][:, None]
        return np.asarray(past.mean(axis=1))

    def safe(self, draws: np.ndarray, confidence: float = 0.95) -> np.ndarray:
        """True safe hours (C,): where the true chance of being past any limit reaches 1 − ``confidence``; at most 4 intervals."""
        low, high = np.full(len(self.cv), 0.1 * INTERVAL), np.full(len(self.cv), 4 * INTERVAL)
        for _ in range(9):
            middle = np.sqrt(low * high)
            over = self.chance(middle, draws) > 1 - confidence
            low, high = np.where(over, low, middle), np.where(over, middle, high)
        return np.asarray(np.sqrt(low * high))


def futures(seed: int) -> np.ndarray:
    """Standard scores of coming paces, (KEYS, DRAWS, BACK + 1): half of it shared by all properties of a charge."""
    rng = np.random.default_rng([seed, 99])
    shared, own = rng.standard_normal((DRAWS, BACK + 1)), rng.standard_normal((len(KEYS), DRAWS, BACK + 1))
    return math.sqrt(0.5) * (shared[None] + own)


def gain(x: np.ndarray, bend: np.ndarray, thirst: np.ndarray) -> np.ndarray:
    """g(x) of the module's head, element by element; Gauss–Legendre over s = x·v², which tames the power near zero."""
    v = 0.5 * (_NODES + 1)
    s = x[..., None] * v**2
    p = bend[..., None]
    inside = np.exp(-thirst[..., None] * (x[..., None] - s)) * p * s ** (p - 1) * 2 * x[..., None] * v
    return np.asarray(0.5 * (inside * _WEIGHTS).sum(axis=-1))


def make(cell: Cell, compartments: int, seed: int) -> Made:
    """So many compartments of a cell, whole families, and their truth."""
    rng = np.random.default_rng([seed, cell.family, cell.charges, int(10 * cell.noise), int(10 * cell.bend), len(cell.twist)])
    families = max(compartments // cell.family, 1)
    c = families * cell.family
    of = np.repeat(np.arange(families), cell.family)
    gear = (rng.random(families) < 0.2)[of]
    cv = rng.uniform(*((0.15, 0.40) if cell.twist == "scatter" else (0.05, 0.15)), families)[of]
    share, thirst = rng.uniform(0.03, 0.25, c), rng.uniform(0, 0.2, families)[of]
    bend = np.ones((c, len(KEYS)))
    bend[:, [KEYS.index(k) for k in BENT]] = cell.bend
    new = {"bn": rng.uniform(7, 12, families), "an": rng.uniform(0.5, 2.2, families), "oxidation": rng.uniform(2, 15, families),
           "nitration": rng.uniform(2, 8, families), "soot_pct": np.zeros(families), "v100": rng.uniform(11, 15, families)}  # fmt: skip
    new["v40"] = 7.6 * new["v100"]
    fresh = np.stack([new[k][of] for k in KEYS], axis=1)
    way = np.full((c, len(KEYS)), np.inf)
    way[:, 0], way[:, 2], way[:, 4] = 0.5 * fresh[:, 0], 20.0, 2.0
    way[gear] = np.inf
    way[gear, 1] = 1.0

    # how far each may truly run, then the pace that makes it so; another property follows at some distance
    # (where the pace rose late, or with another oil, as many again could run further before)
    ratio = rng.uniform(0.7, 2.3 if cell.twist in ("drift", "oil") else 1.6, families)[of] * rng.lognormal(0, 0.12, c)
    leads = rng.choice([0, 2, 4], families, p=[0.15, 0.7, 0.15] if cell.bend > 1 else [0.4, 0.35, 0.25])[of]
    rise = np.zeros((c, len(KEYS)))
    for k in range(len(KEYS)):
        r = ratio * np.where((leads == k) | gear, 1.0, rng.uniform(1.0, 2.2, families)[of])
        at = np.where(np.isfinite(way[:, k]), way[:, k], 0.0)
        rise[:, k] = at * (1 - share * np.exp(-thirst * r)) / (gain(r, bend[:, k], thirst) * (1 + 1.645 * cv))
    still = ~np.isfinite(way)
    usual = {"bn": 0.0, "an": 0.35, "oxidation": 4.0, "nitration": 5.0, "soot_pct": 0.0, "v100": 0.1, "v40": 0.8}
    rise = np.where(still, np.array([usual[k] for k in KEYS]) * rng.lognormal(0, 0.3, (c, len(KEYS))), rise)
    rise[gear, 2] = 3.0
    # the acid number of an engine has no limit of its own, only the base number above it
    room = fresh[:, 0] - rise[:, 0] * 2 - fresh[:, 1]
    rise[~gear, 1] = np.minimum(rise[~gear, 1], np.maximum(room[~gear], 0.1) / 3)

    n = cell.charges
    drift = np.ones((c, n + 1))
    other = np.zeros((c, n + 1), dtype=bool)
    if cell.twist == "drift":
        recent = rng.integers(2, 4, c)
        drift = np.where(np.arange(n + 1) >= n - recent[:, None], rng.uniform(1.2, 1.5, c)[:, None], 1.0)
    elif cell.twist == "oil":
        recent = rng.integers(0, min(n, 7), c)
        other = np.arange(n + 1) >= n - recent[:, None]
        drift = np.where(other, rng.uniform(1.25, 1.8, families)[of][:, None], 1.0)
    second = fresh * rng.uniform(0.85, 1.2, (families, len(KEYS)))[of]
    history = _lived(rng, cell, of, gear, cv, share, thirst, bend, fresh, second, rise, drift, other)
    if cell.twist == "oil":
        way[:, 0] = np.where(np.isfinite(way[:, 0]), 0.5 * second[:, 0], np.inf)
    return Made(history, rise * drift[:, -1:], way, cv, share, thirst, bend)


def _lived(
    rng: np.random.Generator, cell: Cell, of: np.ndarray, gear: np.ndarray, cv: np.ndarray, share: np.ndarray, thirst: np.ndarray,
    bend: np.ndarray, fresh: np.ndarray, second: np.ndarray, rise: np.ndarray, drift: np.ndarray, other: np.ndarray,
) -> History:  # fmt: skip
    """Charge after charge, with drains, top-ups and bottles."""
    c, n, litres = len(of), cell.charges, 60.0
    signs = np.array([-1.0 if k == "bn" else 1.0 for k in KEYS])
    schemes = rng.choice(len(SAMPLING), int(of.max()) + 1, p=[w for _, w in SAMPLING])[of]
    measured = (rng.random(int(of.max()) + 1) < 0.7)[of]
    length = INTERVAL * np.clip(rng.normal(1, 0.05, (c, n)), 0.8, 1.2)
    fill = 3000.0 + np.concatenate([np.zeros((c, 1)), np.cumsum(length, axis=1)], axis=1)
    day = 730_000 + (fill - 3000.0) // 8
    left = np.clip(share[:, None] * np.exp(0.2 * rng.standard_normal((c, n + 1))), 0.01, 0.4)
    missing = np.round(thirst[:, None] * litres * rng.uniform(0, 0.3, (c, n + 1)), 1)
    end = np.zeros((c, len(KEYS)))  # rise above the new oil
    before = fresh
    rows: list[tuple[np.ndarray, ...]] = []
    for k in range(n):
        now = np.where(other[:, k][:, None], second, fresh)
        start = left[:, k][:, None] * (before + signs * end - now) * signs if k else np.zeros_like(end)
        pace = np.exp(cv[:, None] * math.sqrt(0.5) * (rng.standard_normal((c, 1)) + rng.standard_normal((c, len(KEYS)))))
        batch = now * (1 + 0.01 * rng.standard_normal(now.shape))

        def at(x: np.ndarray, k: int = k, start: np.ndarray = start, pace: np.ndarray = pace) -> np.ndarray:
            many = np.repeat(x[:, None], len(KEYS), axis=1)
            gained = gain(many, bend, np.repeat(thirst[:, None], len(KEYS), axis=1))
            return np.asarray(start * np.exp(-thirst[:, None] * x[:, None]) + rise * drift[:, k][:, None] * pace * gained)

        x_end = length[:, k] / INTERVAL
        for s, (places, _) in enumerate(SAMPLING):
            for place in places:
                mine = np.flatnonzero(schemes == s)
                x = x_end * place * (1.0 if place == 1 else rng.uniform(0.93, 1.07, c))
                value = np.maximum(batch + signs * at(x), 0.0)
                floor, part = (np.array([_SD[key][i] for key in KEYS]) for i in (0, 1))
                sd = BETWEEN_DATES * cell.noise * np.maximum(floor, part * value)
                shown = np.maximum(value + sd * rng.standard_normal(value.shape), 0.0)
                total = fill[:, k] + x * INTERVAL
                on = np.floor(day[:, k] + (total - fill[:, k]) / 8)
                rows.append((mine, on[mine], total[mine], (x * INTERVAL)[mine], np.full(len(mine), place == 1), shown[mine]))
        end, before = at(x_end), now
    return _history(rng, cell, of, gear, fresh, second, other, fill, day, left, missing, measured, share, thirst, rows, litres)


def _history(
    rng: np.random.Generator, cell: Cell, of: np.ndarray, gear: np.ndarray, fresh: np.ndarray, second: np.ndarray, other: np.ndarray,
    fill: np.ndarray, day: np.ndarray, left: np.ndarray, missing: np.ndarray, measured: np.ndarray, share: np.ndarray,
    thirst: np.ndarray, rows: list[tuple[np.ndarray, ...]], litres: float,
) -> History:  # fmt: skip
    c, n = len(of), cell.charges
    families = int(of.max()) + 1
    first = np.searchsorted(of, np.arange(families))
    oils = np.full((2 * families, COUNT), np.nan)
    for j, key in enumerate(KEYS):
        oils[:families, INDEX[key]], oils[families:, INDEX[key]] = fresh[first, j], second[first, j]
    gears = np.r_[gear[first], gear[first]]
    oils[np.ix_(gears, [INDEX["bn"], INDEX["soot_pct"], INDEX["nitration"]])] = np.nan
    comp, on, total, hours, drained, values = (np.concatenate(column) for column in zip(*rows, strict=True))
    order = np.lexsort((total, comp))
    comp, on, total, hours, drained, values = (x[order] for x in (comp, on, total, hours, drained, values))
    block = np.full((len(comp), COUNT), np.nan)
    for j, key in enumerate(KEYS):
        here = np.where(gear[comp], key in GEAR, key in ENGINE)
        block[here, INDEX[key]] = np.round(values[here, j], 2 if key in ("bn", "an", "soot_pct", "v100") else 1)
    x = hours / INTERVAL
    block[:, INDEX["fe"]] = np.round(25 * x + rng.normal(0, 0.8, len(x)), 0)
    block[:, INDEX["si"]] = np.round(5 + 2 * x, 0)
    below, above = np.zeros(len(comp), np.int64), np.zeros(len(comp), np.int64)
    if cell.twist == "censored":
        for key, bits, side in (("bn", below, -1), ("oxidation", above, 1)):
            edge = fresh[comp, KEYS.index(key)] + (-0.45 * fresh[comp, 0] if key == "bn" else rng.uniform(13, 19, families)[of][comp])
            hit = (side * (block[:, INDEX[key]] - edge) > 0) & ~gear[comp]
            block[hit, INDEX[key]] = edge[hit]
            bits[hit] |= np.int64(1) << INDEX[key]
    empty = np.zeros(0)
    fc = np.repeat(np.arange(c), 2 * n)
    f_total = (fill[:, :n, None] + np.diff(fill, axis=1)[:, :, None] * np.array([0.4, 0.8])).ravel()
    f_litres = np.repeat(np.round(thirst * litres * 0.45, 1), 2 * n)
    some = f_litres > 0.3
    fillings = Fillings(fc[some], (730_000 + (f_total[some] - 3000) // 8).astype(np.int64), f_total[some], f_litres[some],
                        np.zeros(int(some.sum())))  # fmt: skip
    dc = np.repeat(np.arange(c), n + 1)
    out = np.round(litres * (1 - left) - missing, 1)
    out = np.where(measured[:, None], out, np.nan).ravel()
    oil = of[:, None] + np.where(other, families, 0)
    drains = Drains(dc, day.ravel().astype(np.int64), fill.ravel(), out, np.where(measured[:, None], missing, np.nan).ravel(),
                    oil.ravel(), np.full(dc.shape, np.nan))  # fmt: skip
    samples = Samples(comp, on.astype(np.int64), total, hours, np.zeros(len(comp)), drained, np.ones(len(comp), bool), block, below, above)
    comps = Compartments(
        np.where(gear, 2, 0), of, oil[:, -1], np.full(c, litres), litres * (1 - share), np.full(c, INTERVAL), np.zeros(c, bool),
        np.full(c, np.nan),
    )  # fmt: skip
    return History(comps, Oils(oils, np.full(2 * families, 0.87)), drains, fillings if len(fillings.comp) else Fillings(
        empty.astype(int), empty, empty, empty, empty), samples)  # fmt: skip
