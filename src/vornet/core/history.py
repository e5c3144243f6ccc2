"""A fleet's history as columns, and its cutting into charges.

A charge runs from one drain to the next. Charge 0 of every compartment is what ran before its first
recorded drain: its start is unknown, so nothing is fitted through it. Hours stand for the meter's unit.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields, replace
from typing import Any, TypeVar

import numpy as np

from vornet.core.measurands import COUNT, INDEX, MEASURANDS
from vornet.core.precision import START, PrecisionTable
from vornet.core.volumes import SPREAD, UNMEASURED

#: a sample marked as drawn at the drain belongs to a drain at most this many days away
DRAIN_MATCH_DAYS = 3
#: engines and gears run in over about this much after new or overhauled; common practice, no source
BREAK_IN_H, BREAK_IN_KM = 250.0, 5000.0
#: minutes after stopping from which what sinks is no longer in the stream; common practice, no source
STOOD_AFTER_MIN = 30.0
#: nothing of these is in new oil unless its record says otherwise
_ABSENT_WHEN_NEW = np.array(
    [m.group in ("wear", "contaminant", "particles") or m.key == "soot_pct" for m in MEASURANDS]
)


@dataclass(frozen=True)
class Compartments:
    """Shape (C,). ``duty`` index into limits.DUTIES; litres; ``interval``/``cap`` in meter units, NaN unknown;
    ``overhaul`` running total of the last overhaul or exchange, NaN none; ``distance`` counts km."""

    duty: np.ndarray
    family: np.ndarray
    oil: np.ndarray
    system_l: np.ndarray
    refill_l: np.ndarray
    interval: np.ndarray
    distance: np.ndarray
    overhaul: np.ndarray


@dataclass(frozen=True)
class Oils:
    """``new``: (O, COUNT) new-oil values, NaN unknown; ``density`` kg/L, shape (O,)."""

    new: np.ndarray
    density: np.ndarray


@dataclass(frozen=True)
class Drains:
    """Sorted by compartment, then day. ``day`` ordinal; ``total`` running total of the meter; litres, NaN unknown;
    ``estimated``: litres out were estimated, not measured."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    out_l: np.ndarray
    missing_l: np.ndarray
    oil: np.ndarray
    magnet: np.ndarray
    estimated: np.ndarray | None = None


@dataclass(frozen=True)
class Fillings:
    """Top-ups (``out_l`` 0) and part changes inside charges, sorted by compartment, then running total."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    in_l: np.ndarray
    out_l: np.ndarray


@dataclass(frozen=True)
class Samples:
    """Sorted by compartment, then day. ``values`` (N, COUNT); ``below``/``above`` bit masks of censored values;
    ``usable`` False while held; ``stood``: drawn after the oil had stood or cooled, so what sinks reads low."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    oil_hours: np.ndarray
    topup_l: np.ndarray
    drained: np.ndarray
    usable: np.ndarray
    values: np.ndarray
    below: np.ndarray
    above: np.ndarray
    stood: np.ndarray | None = None

    @property
    def settled(self) -> np.ndarray:
        """``stood`` with nothing on record read as drawn warm and running; shape (N,), bool."""
        return np.zeros(len(self.comp), dtype=bool) if self.stood is None else self.stood


@dataclass(frozen=True)
class Levels:
    """Levels read with nothing added, sorted by compartment, then running total. ``missing_l`` below MAX (L)."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    missing_l: np.ndarray


def has_stood(warmth: str | None, minutes: float | None) -> bool:
    """Was a bottle drawn from oil that had cooled, or stood longer than ``STOOD_AFTER_MIN`` minutes?"""
    return warmth == "cool" or (minutes is not None and minutes > STOOD_AFTER_MIN)


def no_levels() -> Levels:
    return Levels(np.zeros(0, dtype=int), np.zeros(0, dtype=int), np.zeros(0), np.zeros(0))


@dataclass(frozen=True)
class History:
    compartments: Compartments
    oils: Oils
    drains: Drains
    fillings: Fillings
    samples: Samples
    levels: Levels = field(default_factory=no_levels)
    precision: PrecisionTable = field(default=START, repr=False)


_Block = TypeVar("_Block", Compartments, Drains, Fillings, Samples, Levels)


def _rows_of(block: _Block, keep: np.ndarray, renamed: np.ndarray | None = None) -> _Block:
    columns: dict[str, Any] = {f.name: getattr(block, f.name) for f in fields(block)}
    kept: dict[str, Any] = {name: None if x is None else x[keep] for name, x in columns.items()}
    if renamed is not None:
        kept["comp"] = renamed[kept["comp"]]
    return type(block)(**kept)


def part_of(history: History, keep: np.ndarray) -> tuple[History, np.ndarray]:
    """Some compartments of a history (``keep``: (C,) bool), numbered anew, families too; and which samples they have, (N,)."""
    number = np.cumsum(keep) - 1
    comps = _rows_of(history.compartments, keep)
    comps = replace(comps, family=np.unique(comps.family, return_inverse=True)[1])
    samples = keep[history.samples.comp]
    return replace(
        history, compartments=comps, samples=_rows_of(history.samples, samples, number),
        drains=_rows_of(history.drains, keep[history.drains.comp], number),
        fillings=_rows_of(history.fillings, keep[history.fillings.comp], number),
        levels=_rows_of(history.levels, keep[history.levels.comp], number),
    ), samples  # fmt: skip


@dataclass(frozen=True)
class Charges:
    """Shape (H,), H = compartments + drains; charge ``first[c] + k`` starts at compartment c's drain k − 1.

    ``fill``/``end`` running totals (NaN: unknown start, still running); ``share`` residual share at its
    start and ``share_measured``; ``start`` (H, COUNT) values it starts with, ``start_sd`` what the volumes'
    uncertainty makes of them (one standard deviation); ``magnet`` grade at its end.
    ``charge_of`` and ``oil_hours`` (N,) place each sample; ``charge_of_filling`` each filling.
    """

    first: np.ndarray
    comp: np.ndarray
    number: np.ndarray
    oil: np.ndarray
    fill: np.ndarray
    fill_day: np.ndarray
    end: np.ndarray
    end_day: np.ndarray
    share: np.ndarray
    share_measured: np.ndarray
    start: np.ndarray
    start_sd: np.ndarray
    magnet: np.ndarray
    break_in: np.ndarray
    charge_of: np.ndarray
    oil_hours: np.ndarray
    charge_of_filling: np.ndarray
    filling_hours: np.ndarray


_SPREADS = (SPREAD["estimated"], SPREAD["measured"])
_KEY = 10_000_000  # days fit below this


def offsets(comp: np.ndarray, count: int) -> np.ndarray:
    """Where each compartment's rows start in an array sorted by ``comp``; shape (count + 1,)."""
    return np.searchsorted(comp, np.arange(count + 1))


def new_oil(oils: Oils) -> np.ndarray:
    """New-oil values (O, COUNT) with what new oil does not contain set to 0 where unknown."""
    return np.where(np.isnan(oils.new) & _ABSENT_WHEN_NEW, 0.0, oils.new)


def _place(comp: np.ndarray, day: np.ndarray, total: np.ndarray, drains: Drains) -> np.ndarray:
    """Drains of the same compartment before each row (same-day drains count when the meter is past them)."""
    key = drains.comp.astype(np.int64) * _KEY + drains.day
    wanted = comp.astype(np.int64) * _KEY + day
    left, right = np.searchsorted(key, wanted, "left"), np.searchsorted(key, wanted, "right")
    for _ in range(int(np.max(right - left, initial=0))):
        same = left < right
        at = np.minimum(left, max(len(key) - 1, 0))
        left = left + (same & (total > drains.total[at]))
        right = np.where(same & ~(total > drains.total[at]), left, right)
    return left


def _match_drained(samples: Samples, drains: Drains, place: np.ndarray, start: np.ndarray) -> np.ndarray:
    """Put a sample marked as drawn at a drain into the charge that this drain ended."""
    if not len(drains.comp):
        return place
    best, distance = place.copy(), np.full(len(place), DRAIN_MATCH_DAYS + 1)
    for step in (-1, 0):  # the drain just before the sample's day, or the one on or after it
        at = np.clip(place + step, 0, len(drains.comp) - 1)
        inside = (place + step >= start[samples.comp]) & (drains.comp[at] == samples.comp)
        gap = np.abs(drains.day[at] - samples.day)
        better = inside & samples.drained & (gap < distance)
        best, distance = np.where(better, place + step, best), np.where(better, gap, distance)
    return best


def cut(history: History) -> Charges:
    """Cut a history into charges: place samples and fillings, then carry residual oil from charge to charge."""
    comps, drains, samples, fillings = (
        history.compartments, history.drains, history.samples, history.fillings,
    )  # fmt: skip
    count = len(comps.duty)
    start = offsets(drains.comp, count)
    per = np.diff(start)
    first = start[:-1] + np.arange(count)
    total = count + len(drains.comp)
    comp = np.repeat(np.arange(count), per + 1)
    number = np.arange(total) - first[comp]
    started = number > 0
    drain_at_start = np.where(started, np.arange(total) - comp - 1, 0)
    running = number == per[comp]
    drain_at_end = np.where(running, 0, np.arange(total) - comp)

    def at_drain(column: np.ndarray, index: np.ndarray, known: np.ndarray, otherwise: float) -> np.ndarray:
        if not len(column):
            return np.full(total, otherwise)
        return np.where(known, column[index].astype(float), otherwise)

    fill = at_drain(drains.total, drain_at_start, started, np.nan)
    end = at_drain(drains.total, drain_at_end, ~running, np.nan)
    oil = at_drain(drains.oil, drain_at_start, started, -1).astype(int)
    oil = np.where(oil < 0, comps.oil[comp], oil)
    unit_break_in = np.where(comps.distance, BREAK_IN_KM, BREAK_IN_H)[comp]
    since = fill - comps.overhaul[comp]
    with np.errstate(invalid="ignore"):
        break_in = (fill < unit_break_in) | ((since >= -1) & (since < unit_break_in))
        break_in |= (number == 0) & (end <= np.fmax(comps.interval[comp], unit_break_in))

    place = _match_drained(samples, drains, _place(samples.comp, samples.day, samples.total, drains), start)
    charge_of = place + samples.comp
    with np.errstate(invalid="ignore"):
        by_meter = np.fmin(samples.total, np.where(samples.drained, end[charge_of], np.inf)) - fill[charge_of]
    oil_hours = np.where(np.isnan(by_meter), samples.oil_hours, np.maximum(by_meter, 0))
    filling_place = _place(fillings.comp, fillings.day, fillings.total, drains)
    charge_of_filling = filling_place + fillings.comp
    filling_hours = np.maximum(fillings.total - fill[charge_of_filling], 0)

    share, measured, values, start_sd = _carry(
        history, first, per, fill, end, oil, charge_of, oil_hours, charge_of_filling, filling_hours
    )
    return Charges(
        first, comp, number, oil, fill, at_drain(drains.day, drain_at_start, started, np.nan),
        end, at_drain(drains.day, drain_at_end, ~running, np.nan), share, measured, values, start_sd,
        at_drain(drains.magnet, drain_at_end, ~running, np.nan), break_in,
        charge_of, oil_hours, charge_of_filling, filling_hours,
    )  # fmt: skip


def _carry(
    history: History,
    first: np.ndarray,
    per: np.ndarray,
    fill: np.ndarray,
    end: np.ndarray,
    oil: np.ndarray,
    charge_of: np.ndarray,
    oil_hours: np.ndarray,
    charge_of_filling: np.ndarray,
    filling_hours: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Residual share and start values, charge by charge, using nothing later than each drain.

    Oil before the drain = system less the level found; unread, less what the last level check in the
    charge found missing and the usual loss since then, or since the last filling. Litres out
    unknown: the compartment's own usual share so far, else system less refill.
    """
    comps, samples, drains = history.compartments, history.samples, history.drains
    fresh = new_oil(history.oils)
    total = len(fill)
    usable = samples.usable & ~np.isnan(oil_hours)
    last_value = np.full((total, COUNT), np.nan)
    last_hours = np.full((total, COUNT), np.nan)
    for m in range(COUNT):
        seen = usable & ~np.isnan(samples.values[:, m])
        last_value[charge_of[seen], m] = samples.values[seen, m]
        last_hours[charge_of[seen], m] = oil_hours[seen]
    last_filling = np.zeros(total)
    made_up = np.bincount(charge_of_filling, history.fillings.in_l - history.fillings.out_l, total)
    np.maximum.at(last_filling, charge_of_filling, np.nan_to_num(filling_hours))

    levels = history.levels
    level_hours, level_missing = np.full(total, np.nan), np.full(total, np.nan)
    if len(levels.comp):
        at = _place(levels.comp, levels.day, levels.total, drains) + levels.comp
        level_hours[at] = np.maximum(levels.total - fill[at], 0)  # the last one of a charge stands
        level_missing[at] = levels.missing_l

    system = comps.system_l
    with np.errstate(invalid="ignore", divide="ignore"):
        assumed = np.clip(1 - comps.refill_l / system, 0.0, 0.9)
    assumed = np.where(np.isnan(assumed), 0.1, assumed)
    share = np.full(total, np.nan)
    measured = np.zeros(total, dtype=bool)
    values = np.full((total, COUNT), np.nan)
    start_sd = np.zeros((total, COUNT))
    guessed = np.zeros(len(drains.comp), dtype=bool) if drains.estimated is None else drains.estimated
    seen_share, seen_count = np.zeros(len(first)), np.zeros(len(first))
    used_l, used_h = np.zeros(len(first)), np.zeros(len(first))
    for k in range(1, int(per.max(initial=0)) + 1):
        c = np.flatnonzero(per >= k)
        before, now = first[c] + k - 1, first[c] + k
        d = now - c - 1  # the drain that ends `before` and starts `now`
        hours = end[before] - fill[before]
        known = ~np.isnan(hours) & (hours > 0)
        used_l[c] += np.where(known, made_up[before], 0)
        used_h[c] += np.where(known, last_filling[before], 0)
        with np.errstate(invalid="ignore", divide="ignore"):
            q = np.where(used_h[c] > 0, used_l[c] / used_h[c], 0.0)
            since = np.where(known, hours - last_filling[before], 0.0)
            usual_missing = np.clip(np.maximum(q, 0) * since, 0, 0.3 * system[c])
            read = ~np.isnan(level_missing[before]) & (level_hours[before] >= last_filling[before])
            from_check = level_missing[before] + np.maximum(q, 0) * np.maximum(hours - level_hours[before], 0)
            usual_missing = np.where(read & known, np.clip(from_check, 0, 0.5 * system[c]), usual_missing)
            missing = np.where(np.isnan(drains.missing_l[d]), usual_missing, drains.missing_l[d])
            found = 1 - (missing + drains.out_l[d]) / system[c]
        own = np.where(seen_count[c] >= 2, seen_share[c] / np.maximum(seen_count[c], 1), assumed[c])
        got = ~np.isnan(found)
        share[now] = np.where(got, np.clip(found, 0.0, 0.95), own)
        measured[now] = got
        seen_share[c] += np.where(got, share[now], 0.0)
        seen_count[c] += got
        new = fresh[oil[now]]
        with np.errstate(invalid="ignore", divide="ignore"):
            slope = (last_value[before] - values[before]) / last_hours[before]
            rest = np.clip(hours[:, None] - last_hours[before], 0, None)
            ended = last_value[before] + np.where(np.isfinite(slope * rest), slope * rest, 0.0)
        ended = np.where(np.isnan(ended), new, np.maximum(ended, 0))
        values[now] = share[now][:, None] * ended + (1 - share[now][:, None]) * new
        rel, least = np.where(guessed[d], *(s[0] for s in _SPREADS)), np.where(guessed[d], *(s[1] for s in _SPREADS))
        with np.errstate(invalid="ignore", divide="ignore"):
            usual_sd = UNMEASURED * np.fmax(own, 0.02)
            volume_sd = np.fmax(rel * drains.out_l[d], least) / system[c]
            # an estimate is never worse than not knowing at all
            share_sd = np.where(got, 1 / np.sqrt(volume_sd**-2 + usual_sd**-2), usual_sd)
        start_sd[now] = np.nan_to_num(share_sd)[:, None] * np.nan_to_num(np.abs(ended - new))
    return share, measured, values, start_sd


def hours_on_charge(charges: Charges, latest_total: np.ndarray) -> np.ndarray:
    """Oil hours of each compartment's running charge, given its unit's latest running total. Shape (C,)."""
    per = np.bincount(charges.comp)
    running = charges.first + per - 1
    return np.maximum(latest_total - charges.fill[running], 0)


def column(samples: Samples, key: str) -> np.ndarray:
    """One measurand of all samples, shape (N,)."""
    return samples.values[:, INDEX[key]]
