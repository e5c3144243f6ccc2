"""A year of the same fleets under three hands: Vornet's decisions with their trials, the maker's interval, the house rule.

Every compartment lives on from a history of its own with paces drawn once for all three, so that only the intervals differ. Vornet sees
bottles alone; the truth counts hours past the limits.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from vornet.core import trial as trials
from vornet.core.charges import cut
from vornet.core.decide import decide
from vornet.core.decision import LENGTHEN, SHORTEN, Decision, Policy, Terms
from vornet.core.history import Drains, Fillings, History, Samples
from vornet.core.judge import judge
from vornet.core.limits import table
from vornet.core.measurands import COUNT, INDEX
from vornet.core.rates import stretch_rates
from vornet.sim import ageing
from vornet.sim.ageing import INTERVAL, KEYS, Cell, Made

#: the maker's printed interval, what he allows at most, the house rule of half the printed one, and how long the year is, oil hours
MAKERS, CAP, HOUSE, YEAR = INTERVAL, 2 * INTERVAL, 0.5 * INTERVAL, 4000.0
#: a drain and what running past an act limit costs, in one currency; litres of a drain
DRAIN, CONSEQUENCE, LITRES = 480.0, 9000.0, 55.0
#: act limits as shares of the way to the watch limit: base number a third of new, oxidation 30, soot 4 %, gears' acid number + 2
ACT = np.array([0.67 / 0.5, 2.0, 1.5, 1.5, 2.0, 1.0, 1.0])
_GRID = np.linspace(0.02, 1.0, 25)


@dataclass
class Year:
    """What one hand came to, per compartment (C,): drains, hours run, hours past watch and past act, charges that ended past act; and
    for Vornet, which were ``lengthened`` or on trial within three charges."""

    drains: np.ndarray
    hours: np.ndarray
    past_watch: np.ndarray
    past_act: np.ndarray
    ended_past_act: np.ndarray
    interval: np.ndarray
    lengthened: np.ndarray = field(default_factory=lambda: np.zeros(0, bool))

    def per_year(self, x: np.ndarray) -> float:
        return float((x / self.hours * YEAR).mean())

    @property
    def cost(self) -> float:
        return self.per_year(self.drains) * DRAIN + self.per_year(self.ended_past_act) * CONSEQUENCE


def _nothing_yet(count: int, interval: np.ndarray) -> Year:
    drains, hours, watch, act, ended = (np.zeros(count) for _ in range(5))
    return Year(drains, hours, watch, act, ended, interval, np.zeros(count, bool))


@dataclass
class _Lives:
    """Where every compartment is: its last drain, the rise left from the charge before (C, K), and the history so far."""

    made: Made
    history: History
    total: np.ndarray
    day: np.ndarray
    end: np.ndarray
    z: Callable[[int], np.ndarray]
    fresh: np.ndarray
    gear: np.ndarray


def _lives(made: Made, seed: int) -> _Lives:
    h, count = made.history, len(made.cv)
    last = np.full(count, -1)
    last[h.drains.comp] = np.arange(len(h.drains.comp))
    fresh = np.nan_to_num(h.oils.new[h.compartments.oil][:, [INDEX[k] for k in KEYS]])
    one = np.ones(count)
    gained = made.rise * ageing.gain(_wide(one), made.bend, _wide(made.thirst))

    def drawn(k: int) -> np.ndarray:
        rng = np.random.default_rng([seed, 7, k])
        return np.asarray(math.sqrt(0.5) * (rng.standard_normal((count, 1)) + rng.standard_normal((count, len(KEYS)))))

    return _Lives(made, h, h.drains.total[last].copy(), h.drains.day[last].astype(float), gained, drawn, fresh, h.compartments.duty == 2)


def _wide(x: np.ndarray) -> np.ndarray:
    return np.repeat(x[:, None], len(KEYS), axis=1)


def _path(lives: _Lives, k: int, hours: np.ndarray) -> np.ndarray:
    """True rise above new oil (C, K) after ``hours`` (C,) of the charge number ``k``."""
    made, x = lives.made, hours / INTERVAL
    pace = np.exp(made.cv[:, None] * lives.z(k))
    start = made.share[:, None] * lives.end
    faded = start * np.exp(-made.thirst[:, None] * x[:, None])
    return np.asarray(faded + made.rise * pace * ageing.gain(_wide(x), made.bend, _wide(made.thirst)))


def _shown(lives: _Lives, k: int, part: int, hours: np.ndarray, noise: float) -> np.ndarray:
    """What the lab shows of a bottle (C, K)."""
    rng = np.random.default_rng([11, k, part, len(hours)])
    signs = np.array([-1.0 if key == "bn" else 1.0 for key in KEYS])
    value = np.maximum(lives.fresh + signs * _path(lives, k, hours), 0.0)
    floor, share = (np.array([ageing._SD[key][i] for key in KEYS]) for i in (0, 1))
    return np.asarray(np.maximum(value + 1.5 * noise * np.maximum(floor, share * value) * rng.standard_normal(value.shape), 0.0))


def _past_shown(lives: _Lives, shown: np.ndarray) -> np.ndarray:
    """Which bottles are past a watch limit, (C,)."""
    signs = np.array([-1.0 if key == "bn" else 1.0 for key in KEYS])
    return np.asarray((signs * (shown - lives.fresh) > lives.made.way).any(axis=1))


def _live(lives: _Lives, k: int, length: np.ndarray, places: list[np.ndarray], out: Year, noise: float, keep: bool) -> None:
    """One charge of ``length`` (C,), with bottles at ``places`` (each (C,) oil hours, NaN none); counted, and kept as history."""
    live = length > 0
    way = lives.made.way
    over_w, over_a = np.zeros(len(length)), np.zeros(len(length))
    for g in _GRID:
        rise = _path(lives, k, np.maximum(g * length, 1e-9))
        over_w += (rise > way).any(axis=1)
        over_a += (rise > way * ACT).any(axis=1)
    end = _path(lives, k, np.maximum(length, 1e-9))
    out.drains += live
    out.hours += length
    out.past_watch += np.where(live, over_w / len(_GRID) * length, 0)
    out.past_act += np.where(live, over_a / len(_GRID) * length, 0)
    out.ended_past_act += live & (end > way * ACT).any(axis=1)
    if keep:
        _write(lives, k, length, places, noise)
    lives.total, lives.day = lives.total + length, lives.day + length / 8
    lives.end = np.where(live[:, None], end, lives.end)


def _write(lives: _Lives, k: int, length: np.ndarray, places: list[np.ndarray], noise: float) -> None:
    h, made = lives.history, lives.made
    s, d, f = h.samples, h.drains, h.fillings
    comps = np.flatnonzero(length > 0)
    rows: list[tuple[np.ndarray, ...]] = []
    for part, at in enumerate(places):
        mine = comps[~np.isnan(at[comps])]
        shown = _shown(lives, k, part, np.nan_to_num(at, nan=1.0), noise)[mine]
        block = np.full((len(mine), COUNT), np.nan)
        for j, key in enumerate(KEYS):
            here = np.where(lives.gear[mine], key in ageing.GEAR, key in ageing.ENGINE)
            block[here, INDEX[key]] = shown[here, j]
        block[:, INDEX["fe"]], block[:, INDEX["si"]] = np.round(25 * at[mine] / INTERVAL), np.round(5 + 2 * at[mine] / INTERVAL)
        rows.append((mine, np.floor(lives.day[mine] + at[mine] / 8), lives.total[mine] + at[mine], at[mine], at[mine] >= length[mine], block))
    comp, on, total, hours, drained, values = (np.concatenate([r[i] for r in rows]) for i in range(6))
    none = np.zeros(len(comp), np.int64)
    new = Samples(
        np.r_[s.comp, comp], np.r_[s.day, on.astype(np.int64)], np.r_[s.total, total], np.r_[s.oil_hours, hours],
        np.r_[s.topup_l, np.zeros(len(comp))], np.r_[s.drained, drained], np.r_[s.usable, np.ones(len(comp), bool)],
        np.r_[s.values, values], np.r_[s.below, none], np.r_[s.above, none],
    )  # fmt: skip
    order = np.lexsort((new.total, new.comp))
    new = Samples(*(getattr(new, name)[order] for name in ("comp", "day", "total", "oil_hours", "topup_l", "drained", "usable", "values",
                                                           "below", "above")))  # fmt: skip
    litres = h.compartments.system_l[comps]
    more = Drains(
        np.r_[d.comp, comps], np.r_[d.day, np.floor(lives.day[comps] + length[comps] / 8).astype(np.int64)],
        np.r_[d.total, lives.total[comps] + length[comps]], np.r_[d.out_l, np.round(litres * (1 - made.share[comps]), 1)],
        np.r_[d.missing_l, np.zeros(len(comps))], np.r_[d.oil, h.compartments.oil[comps]], np.r_[d.magnet, np.full(len(comps), np.nan)],
    )  # fmt: skip
    order = np.lexsort((more.total, more.comp))
    drains = Drains(*(getattr(more, name)[order] for name in ("comp", "day", "total", "out_l", "missing_l", "oil", "magnet")))
    thirsty = comps[made.thirst[comps] > 0.01]
    fc, places_ = np.repeat(thirsty, 2), np.tile([0.4, 0.8], len(thirsty))
    ft = lives.total[fc] + places_ * length[fc]
    amounts = np.round(made.thirst[fc] * 60 * 0.45 * length[fc] / INTERVAL, 1)
    fill = Fillings(np.r_[f.comp, fc], np.r_[f.day, np.floor(lives.day[fc] + places_ * length[fc] / 8).astype(np.int64)], np.r_[f.total, ft],
                    np.r_[f.in_l, amounts], np.r_[f.out_l, np.zeros(len(fc))])  # fmt: skip
    order = np.lexsort((fill.total, fill.comp))
    fillings = Fillings(*(getattr(fill, name)[order] for name in ("comp", "day", "total", "in_l", "out_l")))
    lives.history = replace(h, samples=new, drains=drains, fillings=fillings)


def _decisions(history: History, interval: np.ndarray, policy: Policy) -> list[Decision]:
    history = replace(history, compartments=replace(history.compartments, interval=interval))
    charges = cut(history)
    judgement = judge(history, charges, stretch_rates(history, charges), table())
    return decide(history, charges, judgement, table(), policy, [Terms(cap=CAP)] * len(interval))


def fixed(made: Made, seed: int, length: float) -> Year:
    """A year at one interval for everybody."""
    lives, count = _lives(made, seed), len(made.cv)
    out = _nothing_yet(count, np.full(count, length))
    for k in range(math.ceil(YEAR / length)):
        _live(lives, k, np.full(count, length), [], out, 1.0, False)
    return out


def by_vornet(made: Made, seed: int, noise: float, policy: Policy) -> Year:
    """A year under Vornet: what it proposes is done, longer ones after a trial; a bad bottle of a trial brings the drain forward."""
    lives, count = _lives(made, seed), len(made.cv)
    interval = np.full(count, MAKERS)
    out = _nothing_yet(count, interval)
    k = 0
    while (out.hours < YEAR).any() and k < 40:
        decisions = _decisions(lives.history, interval, policy)
        length, tried = interval.copy(), np.full(count, np.nan)
        steps: list[list[float]] = [[] for _ in range(count)]
        for c, d in enumerate(decisions):
            if d.outcome == SHORTEN and d.proposed:
                interval[c] = length[c] = max(d.proposed, 0.2 * INTERVAL)
            elif d.outcome == LENGTHEN and d.proposed and d.proposed > interval[c]:
                reach = min([CAP, *([d.safe] if d.safe is not None else [])])
                steps[c] = trials.steps(d.proposed, interval[c], reach)
                tried[c], length[c] = d.proposed, steps[c][-1]
        if k < 3:
            out.lengthened |= ~np.isnan(tried) | (interval > MAKERS)
        places = [np.where(np.isnan(tried), x * length, np.nan) for x in (0.5, 1.0)]
        for i in range(len(trials.STEPS)):
            places.append(np.array([s[i] if len(s) > i else np.nan for s in steps]))
        length = _stopped_early(lives, k, length, interval, tried, places, noise)
        good = ~np.isnan(tried) & (length >= tried * 0.999)
        running = np.where(out.hours < YEAR, length, 0.0)
        _live(lives, k, running, [np.where(at <= running + 1e-6, at, np.nan) for at in places], out, noise, True)
        interval = np.where(good, tried, interval)
        k += 1
    out.interval = interval
    return out


def _stopped_early(
    lives: _Lives, k: int, length: np.ndarray, interval: np.ndarray, tried: np.ndarray, places: list[np.ndarray], noise: float
) -> np.ndarray:
    """How long each charge runs: a trial with a bottle past a watch limit is drained at once, or at what was run before it."""
    out = length.copy()
    for part in range(2, len(places)):
        at = places[part]
        here = ~np.isnan(tried) & ~np.isnan(at) & (at < out)
        bad = here & _past_shown(lives, _shown(lives, k, part, np.nan_to_num(at, nan=1.0), noise))
        out = np.where(bad, np.minimum(out, np.maximum(at, interval)), out)
    return out


@dataclass(frozen=True)
class Result:
    """Three hands over the same fleets, and the truth of them: ``truly`` safe hours (C,)."""

    cell: Cell
    truly: np.ndarray
    vornet: Year
    maker: Year
    house: Year

    @property
    def longer(self) -> float:
        """Of compartments that could truly go 30 % longer, the share lengthened or on trial within three charges."""
        could = self.truly >= 1.3 * INTERVAL
        return float(self.vornet.lengthened[could].mean()) if could.any() else float("nan")

    @property
    def past_watch(self) -> float:
        """Share of Vornet's running time past a watch limit."""
        return float(self.vornet.past_watch.sum() / self.vornet.hours.sum())


def play(cell: Cell, seed: int, compartments: int = 400) -> Result:
    """One cell under all three hands."""
    made = ageing.make(cell, compartments, seed)
    truly = made.safe(ageing.futures(seed))
    policy = Policy(charges_needed=min(3, cell.charges), run_on_needed=min(3, cell.charges))
    return Result(cell, truly, by_vornet(made, seed, cell.noise, policy), fixed(made, seed, MAKERS), fixed(made, seed, HOUSE))
