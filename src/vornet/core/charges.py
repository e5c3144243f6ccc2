"""Charges cut out of a history: from fill to drain, each with its start, its carry-over and the oil hours of its samples."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from vornet.core.drain import start_value
from vornet.core.fresh import NOW
from vornet.core.history import (
    BREAK_IN_H,
    BREAK_IN_KM,
    CHARGE_SPREAD,
    COMES_AND_GOES,
    DRAIN_MATCH_DAYS,
    KEY,
    SPREADS,
    UNKNOWN_MOVE,
    Drains,
    History,
    Samples,
    offsets,
    read_as,
)
from vornet.core.measurands import COUNT, KEYS
from vornet.core.precision import BETWEEN_DATES
from vornet.core.volumes import UNMEASURED


@dataclass(frozen=True)
class Charges:
    """Shape (H,), H = compartments + drains; charge ``first[c] + k`` starts at compartment c's drain k − 1.

    ``fill``/``end`` running totals (NaN: unknown start, still running); ``share`` residual share at its
    start, ``share_measured`` and its ``share_sd``; ``start`` (H, COUNT) values it starts with, ``start_sd`` what the volumes'
    uncertainty makes of them (one standard deviation); ``magnet`` grade at its end.
    ``charge_of`` and ``oil_hours`` (N,) place each sample, hours NaN where neither a meter nor the lab tells them;
    ``metered`` (N,): they lie inside what meters bear out; ``charge_of_filling`` places each filling, ``charge_of_level``
    each level check.
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
    share_sd: np.ndarray
    magnet: np.ndarray
    break_in: np.ndarray
    charge_of: np.ndarray
    oil_hours: np.ndarray
    metered: np.ndarray
    charge_of_filling: np.ndarray
    filling_hours: np.ndarray
    charge_of_level: np.ndarray


def _place(comp: np.ndarray, day: np.ndarray, total: np.ndarray, drains: Drains) -> np.ndarray:
    """Drains of the same compartment before each row (same-day drains count when the meter is past them)."""
    key = drains.comp.astype(np.int64) * KEY + drains.day
    wanted = comp.astype(np.int64) * KEY + day
    left, right = np.searchsorted(key, wanted, "left"), np.searchsorted(key, wanted, "right")
    for _ in range(int(np.max(right - left, initial=0))):
        same = left < right
        at = np.minimum(left, max(len(key) - 1, 0))
        left = left + (same & (total > drains.total[at]))
        right = np.where(same & ~(total > drains.total[at]), left, right)
    return np.asarray(left)


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


def _oil_hours(samples: Samples, fill: np.ndarray, end: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(oil hours, whether meters bear them out) of samples whose charges run from ``fill`` to ``end``; all (N,).

    By the meter; without one a sample drawn at the drain is as old as the charge, another as old as the lab was told, but
    never older than its charge. Figures that are no hours are none.
    """
    with np.errstate(invalid="ignore"):
        at = np.where(samples.drained, np.fmin(samples.total, end), samples.total)
        by_meter = np.maximum(at - fill, 0)
        typed = np.where(np.isfinite(samples.oil_hours) & (samples.oil_hours >= 0), samples.oil_hours, np.nan)
        length = np.where(end >= fill, end - fill, np.nan)
        hours = np.where(np.isfinite(by_meter), by_meter, np.where(np.isnan(length), typed, np.minimum(typed, length)))
    return np.where(np.isfinite(hours), hours, np.nan), np.isfinite(by_meter) | (np.isfinite(hours) & ~np.isnan(length))


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
    oil_hours, metered = _oil_hours(samples, fill[charge_of], end[charge_of])
    filling_place = _place(fillings.comp, fillings.day, fillings.total, drains)
    charge_of_filling = filling_place + fillings.comp
    filling_hours = np.maximum(fillings.total - fill[charge_of_filling], 0)

    fill_day = at_drain(drains.day, drain_at_start, started, np.nan)
    blank = np.zeros(0)
    unfinished = Charges(
        first, comp, number, oil, fill, fill_day, end, at_drain(drains.day, drain_at_end, ~running, np.nan), blank, blank, blank, blank,
        blank, at_drain(drains.magnet, drain_at_end, ~running, np.nan), break_in, charge_of, oil_hours, metered, charge_of_filling,
        filling_hours, _place(history.levels.comp, history.levels.day, history.levels.total, drains) + history.levels.comp,
    )  # fmt: skip
    return _carried(history, unfinished)


def as_known_now(history: History, charges: Charges) -> Charges:
    """The charges with their starts by what is known of new oil now, not on the day each was filled."""
    return _carried(history, charges, NOW) if history.known.steps else charges


@dataclass
class _Usual:
    """How compartments' values moved in the charges so far, (C, COUNT): rise and hours summed, levels summed, how many."""

    rise: np.ndarray
    hours: np.ndarray
    level: np.ndarray
    n: np.ndarray


def _last_readings(history: History, charges: Charges, columns: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Last value of each charge, its standard deviation, its oil hours, and how long it still ran; (H, len(columns)), NaN none."""
    samples, of, total = history.samples, charges.charge_of, len(charges.comp)
    usable = samples.usable & (~np.isnan(charges.oil_hours) | samples.drained)
    with np.errstate(invalid="ignore"):
        rest = np.where(samples.drained, 0.0, charges.end[of] - np.where(
            np.isnan(samples.total), charges.fill[of] + charges.oil_hours, samples.total))  # fmt: skip
    value, sd, hours, left = (np.full((total, len(columns)), np.nan) for _ in range(4))
    rest = np.maximum(np.nan_to_num(rest), 0)
    block = samples.values[:, columns]
    read, read_sd = read_as(samples, columns, BETWEEN_DATES * history.precision.columns_sd(block, [KEYS[m] for m in columns]))
    for k, m in enumerate(columns.tolist()):
        seen = np.flatnonzero(usable & ~np.isnan(samples.values[:, m]))
        at = of[seen]
        value[at, k], sd[at, k], hours[at, k], left[at, k] = read[seen, k], read_sd[seen, k], charges.oil_hours[seen], rest[seen]
    return value, sd, hours, left


def _zero(x: np.ndarray) -> np.ndarray:
    """Zero for what is not known: a fraction of the time that numpy's own takes for small arrays."""
    return np.where(np.isnan(x), 0.0, x)


def _ends(
    start: np.ndarray, start_sd: np.ndarray, value: np.ndarray, sd: np.ndarray, hours: np.ndarray, left: np.ndarray,
    length: np.ndarray, new: np.ndarray, usual: _Usual, c: np.ndarray, levels: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """What charges end with, and its standard deviation, (c, K); ``levels`` (K,): what comes and goes.

    From the last reading on by this charge's own rate drawn towards the compartment's usual one, each by how well it is known;
    without a reading by the usual rate alone.
    """
    n = usual.n[c]
    with np.errstate(invalid="ignore", divide="ignore"):
        rate = np.where(n > 0, usual.rise[c] / usual.hours[c], 0.0)
        spread = np.where(n > 0, CHARGE_SPREAD * np.abs(rate) * np.sqrt(1 + 1 / np.maximum(n, 1)),
                          UNKNOWN_MOVE * np.fmax(np.fmax(np.abs(new), np.abs(_zero(value))), sd) / length[:, None])  # fmt: skip
        own, own_sd = (value - start) / hours, np.hypot(sd, start_sd) / hours
        weight = np.where(np.isfinite(own) & (own_sd > 0), spread**2 / (spread**2 + own_sd**2), 0.0)
        best = weight * np.where(np.isfinite(own), own, 0.0) + (1 - weight) * rate
        best_sd = np.sqrt(1 - weight) * spread
        from_reading = value + best * left, np.hypot(sd, best_sd * left)
        from_start = start + rate * length[:, None], np.hypot(start_sd, spread * length[:, None])
        level = np.where(n > 0, usual.level[c] / np.maximum(n, 1), new)
    read = ~np.isnan(value)
    end = np.where(read, np.where(levels, value, from_reading[0]), np.where(levels, level, from_start[0]))
    end_sd = np.where(read, np.where(levels, sd, from_reading[1]), np.where(levels, np.abs(level - new), from_start[1]))
    # nobody knows how long it ran, or what it began with: as new oil, less surely
    lost = np.isnan(end)
    return np.where(lost, new, np.maximum(end, 0)), np.where(lost | np.isnan(end_sd), UNKNOWN_MOVE * np.abs(_zero(new)), end_sd)


def _shares(history: History, charges: Charges) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Residual share at the start of each charge, whether it was measured, and its standard deviation; (H,).

    Oil before the drain = system less the level found; unread, less what the last level check in the charge found missing
    and the usual loss since then, or since the last filling. Litres out unknown: the compartment's own usual share so far,
    else system less refill. Nothing later than each drain is used.
    """
    comps, drains, first = history.compartments, history.drains, charges.first
    total = len(charges.comp)
    per = np.bincount(charges.comp, minlength=len(first)) - 1
    last_filling = np.zeros(total)
    made_up = np.bincount(charges.charge_of_filling, history.fillings.in_l - history.fillings.out_l, total)
    # a part change fills nothing up: the level is known again only after a top-up
    topped = ~history.fillings.parts
    np.maximum.at(last_filling, charges.charge_of_filling[topped], np.nan_to_num(charges.filling_hours[topped]))
    levels = history.levels
    level_hours, level_missing = np.full(total, np.nan), np.full(total, np.nan)
    if len(levels.comp):
        at = charges.charge_of_level
        level_hours[at] = np.maximum(levels.total - charges.fill[at], 0)  # the last one of a charge stands
        level_missing[at] = levels.missing_l
    net_out = np.zeros(total)  # by part changes since the level was last known
    parts, since_known = history.fillings.parts, np.fmax(last_filling, level_hours)
    of_part = charges.charge_of_filling[parts]
    later = np.nan_to_num(charges.filling_hours[parts]) > since_known[of_part]
    np.add.at(net_out, of_part[later], (history.fillings.out_l - history.fillings.in_l)[parts][later])
    system = comps.system_l
    with np.errstate(invalid="ignore", divide="ignore"):
        assumed = np.clip(1 - comps.refill_l / system, 0.0, 0.9)
    assumed = np.where(np.isnan(assumed), 0.1, assumed)
    share, share_sd, measured = np.full(total, np.nan), np.zeros(total), np.zeros(total, dtype=bool)
    guessed = np.zeros(len(drains.comp), dtype=bool) if drains.estimated is None else drains.estimated
    seen_share, seen_count = np.zeros(len(first)), np.zeros(len(first))
    used_l, used_h = np.zeros(len(first)), np.zeros(len(first))
    for k in range(1, int(per.max(initial=0)) + 1):
        c = np.flatnonzero(per >= k)
        before, now = first[c] + k - 1, first[c] + k
        d = now - c - 1  # the drain that ends `before` and starts `now`
        hours = charges.end[before] - charges.fill[before]
        known = ~np.isnan(hours) & (hours > 0)
        used_l[c] += np.where(known, made_up[before], 0)
        used_h[c] += np.where(known, last_filling[before], 0)
        with np.errstate(invalid="ignore", divide="ignore"):
            q = np.where(used_h[c] > 0, used_l[c] / used_h[c], 0.0)
            since = np.where(known, hours - last_filling[before], 0.0)
            usual_missing = np.clip(np.maximum(q, 0) * since + net_out[before], 0, 0.3 * system[c])
            read = ~np.isnan(level_missing[before]) & (level_hours[before] >= last_filling[before])
            from_check = level_missing[before] + np.maximum(q, 0) * np.maximum(hours - level_hours[before], 0) + net_out[before]
            usual_missing = np.where(read & known, np.clip(from_check, 0, 0.5 * system[c]), usual_missing)
            missing = np.where(np.isnan(drains.missing_l[d]), usual_missing, drains.missing_l[d])
            found = 1 - (missing + drains.out_l[d]) / system[c]
        own = np.where(seen_count[c] >= 2, seen_share[c] / np.maximum(seen_count[c], 1), assumed[c])
        got = ~np.isnan(found)
        share[now] = np.where(got, np.clip(found, 0.0, 0.95), own)
        measured[now] = got
        seen_share[c] += np.where(got, share[now], 0.0)
        seen_count[c] += got
        rel, least = np.where(guessed[d], *(s[0] for s in SPREADS)), np.where(guessed[d], *(s[1] for s in SPREADS))
        with np.errstate(invalid="ignore", divide="ignore"):
            usual_sd = UNMEASURED * np.fmax(own, 0.02)
            volume_sd = np.fmax(rel * drains.out_l[d], least) / system[c]
            # an estimate is never worse than not knowing at all
            share_sd[now] = _zero(np.where(got, 1 / np.sqrt(volume_sd**-2 + usual_sd**-2), usual_sd))
    return share, measured, share_sd


def _carried(history: History, charges: Charges, day: float | None = None) -> Charges:
    """The charges with residual share and start values, charge by charge, using nothing later than each drain. New oil by
    what is known of it on the day of the fill, or on ``day``."""
    first = charges.first
    share, measured, share_sd = (
        _shares(history, charges) if not len(charges.share) else (charges.share, charges.share_measured, charges.share_sd)
    )
    per = np.bincount(charges.comp, minlength=len(first)) - 1
    total, count = len(charges.comp), len(first)
    columns = np.flatnonzero(~np.isnan(history.samples.values).all(axis=0))  # what nobody measured is as in new oil
    value, sd, hours, left = _last_readings(history, charges, columns)
    known = history.known
    oil_now = known.at(charges.oil, charges.fill_day if day is None else day)
    new_all, new_sd_all = oil_now.value[:, columns], oil_now.sd[:, columns]
    levels = COMES_AND_GOES[columns]
    start, start_sd = np.full((total, len(columns)), np.nan), np.zeros((total, len(columns)))
    usual = _Usual(*(np.zeros((count, len(columns))) for _ in range(4)))
    for k in range(1, int(per.max(initial=0)) + 1):
        c = np.flatnonzero(per >= k)
        before, now = first[c] + k - 1, first[c] + k
        length = charges.end[before] - charges.fill[before]
        new, new_sd = new_all[now], new_sd_all[now]
        if k == 1:  # nobody saw it begin: its end is what was last read of it
            read = ~np.isnan(value[before])
            end = np.where(read, value[before], new)
            end_sd = np.where(read, sd[before], UNKNOWN_MOVE * np.abs(_zero(new)))
        else:
            end, end_sd = _ends(
                start[before], start_sd[before], value[before], sd[before], hours[before], left[before],
                np.where(length > 0, length, np.nan), new_all[before], usual, c, levels,
            )  # fmt: skip
            with np.errstate(invalid="ignore", divide="ignore"):
                # the longer a charge was followed the more its rate says; the first hours say next to nothing
                tells = ~np.isnan(value[before]) & (hours[before] >= 0.25 * length[:, None])
                rise = np.where(tells, value[before] - start[before], np.nan)
            told = ~np.isnan(rise)
            usual.rise[c] += np.where(told, rise, 0.0)
            usual.hours[c] += np.where(told, hours[before], 0.0)
            usual.level[c] += np.where(told, _zero(value[before]), 0.0)
            usual.n[c] += told
        f = share[now][:, None]
        start[now] = start_value(f, end, new)
        apart = _zero(np.abs(end - new))
        start_sd[now] = np.sqrt((share_sd[now][:, None] * apart) ** 2 + (f * _zero(end_sd)) ** 2 + ((1 - f) * new_sd) ** 2)
    whole, whole_sd = np.where((charges.number > 0)[:, None], oil_now.value, np.nan), np.zeros((total, COUNT))
    whole[:, columns], whole_sd[:, columns] = start, start_sd
    return replace(charges, share=share, share_measured=measured, share_sd=share_sd, start=whole, start_sd=whole_sd)


def hours_on_charge(charges: Charges, latest_total: np.ndarray) -> np.ndarray:
    """Oil hours of each compartment's running charge, given its unit's latest running total. Shape (C,)."""
    per = np.bincount(charges.comp)
    running = charges.first + per - 1
    return np.asarray(np.maximum(latest_total - charges.fill[running], 0))
