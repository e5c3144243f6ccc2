"""The ledger for whole fleets: the same arithmetic as ``ledger``, many stretches at once.

A stretch runs from the fill or a sample to the next sample of its charge. Each ends as
C = a·R + beta·C_before + gamma·C_new, which serves every metal alike. Judged as of its own last
sample: fillings after it are not known yet, so the level has not fallen since the last one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.history import History, read_as
from vornet.core.measurands import INDEX, WEAR_METALS
from vornet.core.precision import BETWEEN_DATES, BETWEEN_LABS


@dataclass(frozen=True)
class Coefficients:
    """Per stretch, shape (S,): C_end = a·R + beta·C_start + gamma·C_new."""

    a: np.ndarray
    beta: np.ndarray
    gamma: np.ndarray


@dataclass(frozen=True)
class StretchRates:
    """Per sample, metals in order of WEAR_METALS; NaN where no stretch can be told.

    ``from_h``/``to_h`` (N,); ``rate`` mg/h, ``se`` its standard error, ``rise_100h`` undiluted mg/kg per 100 h: (N, 7).
    ``reading_sd`` one standard deviation of the reading it ends in, mg/kg between dates, (N, 7).
    ``previous``: index of the sample the stretch starts from, −1 for the fill. ``across``: its two readings are of two
    labs, whose difference carries reproducibility; (N,), bool.
    """

    from_h: np.ndarray
    to_h: np.ndarray
    rate: np.ndarray
    se: np.ndarray
    rise_100h: np.ndarray
    reading_sd: np.ndarray
    previous: np.ndarray
    coefficients: Coefficients
    across: np.ndarray

    def change(self) -> tuple[np.ndarray, np.ndarray]:
        """(rate less that of the stretch before it in the charge, its standard error), mg/h, (N, 7); NaN without one.

        Neighbouring stretches share a reading, which puts one rate up and the other down: cov = −beta·sd²/(a·a_before).
        """
        p = self.previous
        has = (p >= 0)[:, None]
        a, beta = self.coefficients.a, self.coefficients.beta
        with np.errstate(invalid="ignore", divide="ignore"):
            shared = (beta / (a * a[p]))[:, None] * self.reading_sd[p] ** 2
            se = np.sqrt(self.se**2 + self.se[p] ** 2 + 2 * shared)
            return np.where(has, self.rate - self.rate[p], np.nan), np.where(has, se, np.nan)


@dataclass(frozen=True)
class Events:
    """What happened to the volume of oil, by charge, hour and order. Shape (E,).

    ``order`` LEVEL a level read (``missing`` L below full), PART a part change (``out_l``, then ``in_l``), TOP_UP a top-up back
    to full. ``q`` L/h lost up to the event since the level was last known, told by the level at hour ``closed``; inf where
    none has told it yet.
    """

    charge: np.ndarray
    h: np.ndarray
    order: np.ndarray
    in_l: np.ndarray
    out_l: np.ndarray
    missing: np.ndarray
    q: np.ndarray
    closed: np.ndarray


LEVEL, PART, TOP_UP = 1, 2, 3
#: a volume that bad litres would bring below this share of the system stays there
LEAST_VOLUME = 0.05


def events(
    system_l: np.ndarray, charge: np.ndarray, h: np.ndarray, order: np.ndarray, in_l: np.ndarray, out_l: np.ndarray, missing: np.ndarray
) -> Events:
    """Events in order, with what was lost up to each. ``system_l`` per charge (H,); the others (E,), any order. What happens
    at hour 0 belongs to the fill and is left out."""
    keep = np.flatnonzero(h > 0)
    keep = keep[np.lexsort((order[keep], h[keep], charge[keep]))]
    charge, h, order, in_l, out_l, missing = (x[keep] for x in (charge, h, order, in_l, out_l, missing))
    n = len(charge)
    q, closed = np.zeros(n), np.full(n, np.inf)
    first = np.searchsorted(charge, charge, "left") if n else np.zeros(0, dtype=int)
    rank = np.arange(n) - first
    level, since, net = system_l.astype(float).copy(), np.zeros(len(system_l)), np.zeros(len(system_l))
    opened = first.copy()  # first event that the next known level will tell the loss of
    start = np.zeros(len(system_l), dtype=int)
    if n:
        start[charge] = first
    for r in range(int(rank.max(initial=-1)) + 1):
        at = np.flatnonzero(rank == r)
        c = charge[at]
        opened[at] = start[c]
        part = order[at] == PART
        net[c] += np.where(part, in_l[at] - out_l[at], 0.0)
        end = system_l[c] - np.where(order[at] == LEVEL, missing[at], in_l[at])
        span = h[at] - since[c]
        with np.errstate(invalid="ignore", divide="ignore"):
            lost = np.where(span > 0, np.maximum(level[c] + net[c] - end, 0.0) / span, 0.0)
        told = ~part
        q[at[told]], closed[at[told]] = lost[told], h[at[told]]
        after = np.where(order[at] == LEVEL, end, level[c] + net[c] - lost * span + in_l[at])
        level[c] = np.where(told, after, level[c])
        since[c] = np.where(told, h[at], since[c])
        net[c] = np.where(told, 0.0, net[c])
        start[c] = np.where(told, at + 1, start[c])
    # part changes share the loss of the level that closed their span
    next_known = np.full(n, -1)
    for e in np.flatnonzero(order != PART)[::-1].tolist():
        next_known[opened[e] : e] = e
    waiting = np.flatnonzero((order == PART) & (next_known >= 0))
    q[waiting], closed[waiting] = q[next_known[waiting]], closed[next_known[waiting]]
    return Events(charge, h, order, in_l, out_l, missing, q, closed)


def coefficients(
    system_l: np.ndarray, density: np.ndarray, clean: np.ndarray, from_h: np.ndarray, to_h: np.ndarray, charge: np.ndarray, known: Events
) -> Coefficients:
    """Ledger coefficients of S stretches of charges (all arguments but ``known`` of shape (S,)).

    ``clean``: what is lost leaves its metal behind (evaporation), else it takes it along. Judged as of ``to_h``: what comes
    at that hour or later is not known yet, nor is a loss that only a later level tells.
    """
    n = len(system_l)
    a, beta, gamma = np.zeros(n), np.ones(n), np.zeros(n)
    now, volume = np.zeros(n), system_l.astype(float).copy()
    key = known.charge * _HOURS + known.h
    first = np.searchsorted(key, charge * _HOURS, "left")
    count = np.maximum(np.searchsorted(key, charge * _HOURS + to_h, "left") - first, 0)
    least = LEAST_VOLUME * system_l

    def run(i: np.ndarray, until: np.ndarray, q: np.ndarray) -> None:
        """Let the stretches ``i`` run to an hour; only what lies behind their beginning counts."""
        begin = np.clip(from_h[i], now[i], until)
        start = np.maximum(volume[i] - q * (begin - now[i]), least[i])
        span = until - begin
        end = np.maximum(start - q * span, least[i])
        straight = q * span <= 1e-12 * system_l[i]
        with np.errstate(invalid="ignore", divide="ignore"):
            lost = np.where(straight, span / (density[i] * start), np.log(start / end) / (density[i] * q))
        stays = np.where(clean[i], start / end, 1.0)
        a[i] = np.where(clean[i], a[i] * stays + span / (density[i] * end), a[i] + lost)
        beta[i], gamma[i] = beta[i] * stays, gamma[i] * stays
        now[i], volume[i] = until, end

    for r in range(int(count.max(initial=0))):
        i = np.flatnonzero(count > r)
        e = first[i] + r
        run(i, known.h[e], np.where(known.closed[e] < to_h[i], known.q[e], 0.0))
        check = known.order[e] == LEVEL
        out, poured = np.where(check, 0.0, known.out_l[e]), np.where(check, 0.0, known.in_l[e])
        left = np.maximum(volume[i] - out, least[i])
        keep = np.where(check | (known.h[e] < from_h[i]), 1.0, left / (left + poured))
        a[i], beta[i] = a[i] * keep, beta[i] * keep
        gamma[i] = gamma[i] * keep + (1 - keep)
        volume[i] = np.where(check, np.maximum(system_l[i] - known.missing[e], least[i]), left + poured)
    run(np.arange(n), np.maximum(to_h, now), np.zeros(n))
    return Coefficients(a, beta, gamma)


#: more hours than any charge has
_HOURS = 1e7


def events_of(history: History, charges: Charges) -> Events:
    """Fillings, part changes and level checks of a history, placed in its charges."""
    f, levels = history.fillings, history.levels
    part = f.parts
    at = charges.charge_of_level
    hours = np.maximum(levels.total - charges.fill[at], 0)
    empty, zero = np.zeros(len(f.comp)), np.zeros(len(at))
    return events(
        history.compartments.system_l[charges.comp], np.concatenate([charges.charge_of_filling, at]),
        np.nan_to_num(np.concatenate([charges.filling_hours, hours])),
        np.concatenate([np.where(part, PART, TOP_UP), np.full(len(at), LEVEL)]),
        np.concatenate([f.in_l, zero]), np.concatenate([np.where(part, f.out_l, 0.0), zero]), np.concatenate([empty, levels.missing_l]),
    )  # fmt: skip


def _steady(system_l: np.ndarray, density: np.ndarray, clean: np.ndarray, hours: np.ndarray, litres: np.ndarray) -> Coefficients:
    """Only the litres of the stretch are known: steady make-up q = litres / hours."""
    with np.errstate(invalid="ignore", divide="ignore"):
        q = litres / hours
        beta = np.where(clean, 1.0, np.exp(-litres / system_l))
        a = np.where(clean, hours / (density * system_l), (1 - beta) / (density * q))
        return Coefficients(a, beta, np.where(clean, litres / system_l, 1 - beta))


def without_top_ups(start: float, rise_100h: np.ndarray, from_h: np.ndarray, to_h: np.ndarray) -> np.ndarray:
    """What the samples of one charge would have shown without top-ups (mg/kg): its start and the undiluted rises added up.

    ``rise_100h`` mg/kg per 100 h of the stretches in order, NaN where one cannot be told (and from there on).
    """
    return start + np.cumsum(rise_100h / 100 * (to_h - from_h))


def stretch_rates(history: History, charges: Charges) -> StretchRates:
    """Wear rate of the stretch that ends in each sample; none starts from a sample drawn after the oil had stood."""
    samples, comps = history.samples, history.compartments
    n = len(samples.comp)
    metals = [INDEX[k] for k in WEAR_METALS]
    charge, hours = charges.charge_of, charges.oil_hours
    usable = samples.usable & ~np.isnan(hours) & ~np.isnan(charges.fill[charge])
    order = np.flatnonzero(usable)
    order = order[np.lexsort((hours[order], charge[order]))]
    previous = np.full(n, -1)
    if len(order) > 1:
        firm = np.where(samples.settled[order], -1, np.arange(len(order)))
        before = np.maximum.accumulate(firm)[:-1]
        same = (before >= 0) & (charge[order[1:]] == charge[order[before]])
        previous[order[1:][same]] = order[before[same]]
    begin = np.where(previous >= 0, hours[previous], 0.0)
    from_h = np.where(usable, begin, np.nan)

    system = comps.system_l[samples.comp]
    oil = charges.oil[charge]
    density = history.oils.density[oil]
    clean = comps.loses_clean[samples.comp]
    known = events_of(history, charges)
    to_h = np.where(usable, np.nan_to_num(hours), 0.0)
    c = coefficients(system, density, clean, np.minimum(np.nan_to_num(begin), to_h), to_h, charge, known)
    # of a charge in which nothing had been recorded by then, what the lab was told stands
    key = known.charge * _HOURS + known.h
    recorded = np.searchsorted(key, charge * _HOURS + to_h, "left") > np.searchsorted(key, charge * _HOURS, "left")
    before_l = np.where(previous >= 0, np.nan_to_num(samples.topup_l[previous]), 0.0)
    told = np.nan_to_num(samples.topup_l) - before_l
    only_total = usable & ~recorded & (told > 0) & (hours > begin)
    steady = _steady(system, density, clean, hours - begin, told)
    a = np.where(only_total, steady.a, c.a)
    beta, gamma = np.where(only_total, steady.beta, c.beta), np.where(only_total, steady.gamma, c.gamma)

    values = samples.values[:, metals]
    unseen = (samples.below[:, None] >> np.array(metals, dtype=np.int64)) & 1 == 1
    values = np.where(unseen, np.nan, values)  # below what the method sees: never itself a rise
    across = _across(history, charges, previous)
    once = history.precision.columns_sd(values, list(WEAR_METALS))
    times = np.where(across, BETWEEN_LABS, BETWEEN_DATES)[:, None]
    sd = once * times
    begun, begun_sd = read_as(samples, np.array(metals), history.precision.columns_sd(samples.values[:, metals], list(WEAR_METALS)))
    at_start = np.where((previous >= 0)[:, None], begun[previous], charges.start[charge][:, metals])
    sd_start = np.where((previous >= 0)[:, None], begun_sd[previous] * times, charges.start_sd[charge][:, metals])
    fresh = history.known.at(oil, samples.day).value[:, metals]
    with np.errstate(invalid="ignore", divide="ignore"):
        rate = (values - beta[:, None] * at_start - gamma[:, None] * fresh) / a[:, None]
        se = np.hypot(sd, beta[:, None] * sd_start) / a[:, None]
        rise = rate * 100 / (density * system)[:, None]
    told_apart = (usable & (a > 0))[:, None]
    return StretchRates(
        from_h, np.where(usable, hours, np.nan),
        np.where(told_apart, rate, np.nan), np.where(told_apart, se, np.nan),
        np.where(told_apart, rise, np.nan), once * BETWEEN_DATES, previous, Coefficients(a, beta, gamma), across,
    )  # fmt: skip


def _across(history: History, charges: Charges, previous: np.ndarray) -> np.ndarray:
    """Whose stretch runs from one lab's reading to another's, shape (N,): from the sample before in the charge, or from a
    fill whose start was carried over from the charge before."""
    labs = history.samples.labs
    n = len(labs)
    usable = np.flatnonzero(history.samples.usable)
    carried = np.full(n, -1)  # what the start of this charge was read from
    if len(usable) > 1:
        last_of = np.full(len(charges.comp), -1)
        last_of[charges.charge_of[usable]] = usable  # the last one of a charge stands
        before = np.maximum(charges.charge_of - 1, 0)
        same = charges.number[charges.charge_of] > 0
        carried = np.where(same, last_of[before], -1)
    start = np.where(previous >= 0, previous, carried)
    return np.asarray((start >= 0) & (labs >= 0) & (labs[start] >= 0) & (labs != labs[start]))
