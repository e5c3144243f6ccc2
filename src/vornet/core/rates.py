"""The ledger for whole fleets: the same arithmetic as ``ledger``, many stretches at once.

A stretch runs from the fill or a sample to the next sample of its charge. Each ends as
C = a·R + beta·C_before + gamma·C_new, which serves every metal alike. Judged as of its own last
sample: fillings after it are not known yet, so the level has not fallen since the last one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.history import Charges, History
from vornet.core.measurands import INDEX, WEAR_METALS
from vornet.core.precision import BETWEEN_DATES


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
    ``previous``: index of the sample the stretch starts from, −1 for the fill.
    """

    from_h: np.ndarray
    to_h: np.ndarray
    rate: np.ndarray
    se: np.ndarray
    rise_100h: np.ndarray
    reading_sd: np.ndarray
    previous: np.ndarray
    coefficients: Coefficients

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


def coefficients(
    system_l: np.ndarray,
    density: np.ndarray,
    from_h: np.ndarray,
    to_h: np.ndarray,
    filled_at: np.ndarray,
    first_filling: np.ndarray,
    fillings: np.ndarray,
    filling_h: np.ndarray,
    in_l: np.ndarray,
    out_l: np.ndarray,
) -> Coefficients:
    """Ledger coefficients of S stretches (metal leaves with the oil).

    ``filled_at``: hour of the last filling before ``from_h``; ``first_filling``: index into the fillings of
    the first one in the stretch, ``fillings`` how many; ``filling_h``, ``in_l``, ``out_l``: all fillings,
    by charge and hour. A filling with ``out_l`` > 0 is a part change and leaves the level as it is.
    """
    n = len(system_l)
    a, beta, gamma = np.zeros(n), np.ones(n), np.zeros(n)
    now, filled, volume = from_h.copy(), filled_at.copy(), system_l.copy()
    for r in range(int(fillings.max(initial=0)) if n else 0):
        active = np.flatnonzero(fillings > r)
        f = first_filling[active] + r
        h, v, out, full = filling_h[f], in_l[f], out_l[f], system_l[active]
        part = out > 0
        span = h - filled[active]
        with np.errstate(invalid="ignore", divide="ignore"):
            q = np.where(part | (span <= 0), 0.0, v / span)
        start = np.where(part, volume[active], full - q * (now[active] - filled[active]))
        start = np.where(q > 0, np.clip(start, 0.05 * full, None), volume[active])
        run = np.maximum(h - now[active], 0)
        end = np.clip(start - q * run, 0.05 * full, None)
        with np.errstate(invalid="ignore", divide="ignore"):
            lost = np.log(start / end) / (density[active] * q)
        a[active] += np.where(q * run > 1e-12 * full, lost, run / (density[active] * start))
        keep = np.where(
            part, (end - out) / np.maximum(end - out + v, 1e-9), np.where(span > 0, 1 - v / full, 1.0)
        )
        keep = np.clip(keep, 0.0, 1.0)
        a[active], beta[active] = a[active] * keep, beta[active] * keep
        gamma[active] = gamma[active] * keep + (1 - keep)
        now[active] = h
        filled[active] = np.where(part, filled[active], h)
        volume[active] = np.where(part, np.minimum(end - out + v, full), full)
    a += np.maximum(to_h - now, 0) / (density * volume)
    return Coefficients(a, beta, gamma)


def _steady(
    system_l: np.ndarray, density: np.ndarray, hours: np.ndarray, litres: np.ndarray
) -> Coefficients:
    """Only the litres of the stretch are known: steady make-up q = litres / hours."""
    with np.errstate(invalid="ignore", divide="ignore"):
        q = litres / hours
        beta = np.exp(-litres / system_l)
        a = (1 - beta) / (density * q)
    return Coefficients(a, beta, 1 - beta)


def without_top_ups(start: float, rise_100h: np.ndarray, from_h: np.ndarray, to_h: np.ndarray) -> np.ndarray:
    """What the samples of one charge would have shown without top-ups (mg/kg): its start and the undiluted rises added up.

    ``rise_100h`` mg/kg per 100 h of the stretches in order, NaN where one cannot be told (and from there on).
    """
    return start + np.cumsum(rise_100h / 100 * (to_h - from_h))


def stretch_rates(history: History, charges: Charges) -> StretchRates:
    """Wear rate of the stretch that ends in each sample; none starts from a sample drawn after the oil had stood."""
    samples, fillings, comps = history.samples, history.fillings, history.compartments
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
    fill_order = np.lexsort((charges.filling_hours, charges.charge_of_filling))
    f_charge, f_h = charges.charge_of_filling[fill_order], charges.filling_hours[fill_order]
    span = 1e7
    key = f_charge * span + np.nan_to_num(f_h)
    low = np.searchsorted(key, charge * span + np.maximum(np.nan_to_num(begin), 1e-9), "left")
    high = np.searchsorted(key, charge * span + np.nan_to_num(hours), "left")
    inside = np.where(usable, np.maximum(high - low, 0), 0)
    at = np.clip(low - 1, 0, max(len(f_h) - 1, 0))
    has_before = (low > 0) & (f_charge[at] == charge) if len(f_h) else np.zeros(n, dtype=bool)
    filled_at = np.where(has_before, f_h[at], 0.0) if len(f_h) else np.zeros(n)
    c = coefficients(
        system, density, np.nan_to_num(begin), np.nan_to_num(hours), filled_at, low, inside,
        f_h, fillings.in_l[fill_order], fillings.out_l[fill_order],
    )  # fmt: skip
    recorded = np.bincount(charges.charge_of_filling, minlength=len(charges.comp)) > 0
    before_l = np.where(previous >= 0, np.nan_to_num(samples.topup_l[previous]), 0.0)
    told = np.nan_to_num(samples.topup_l) - before_l
    only_total = usable & ~recorded[charge] & (told > 0) & (hours > begin)
    steady = _steady(system, density, hours - begin, told)
    a = np.where(only_total, steady.a, c.a)
    beta, gamma = np.where(only_total, steady.beta, c.beta), np.where(only_total, steady.gamma, c.gamma)

    values = samples.values[:, metals]
    sd = history.precision.columns_sd(values, list(WEAR_METALS)) * BETWEEN_DATES
    at_start = np.where((previous >= 0)[:, None], values[previous], charges.start[charge][:, metals])
    sd_start = np.where((previous >= 0)[:, None], sd[previous], charges.start_sd[charge][:, metals])
    fresh = history.known.at(oil, samples.day).value[:, metals]
    with np.errstate(invalid="ignore", divide="ignore"):
        rate = (values - beta[:, None] * at_start - gamma[:, None] * fresh) / a[:, None]
        se = np.hypot(sd, beta[:, None] * sd_start) / a[:, None]
        rise = rate * 100 / (density * system)[:, None]
    told_apart = (usable & (a > 0))[:, None]
    return StretchRates(
        from_h, np.where(usable, hours, np.nan),
        np.where(told_apart, rate, np.nan), np.where(told_apart, se, np.nan),
        np.where(told_apart, rise, np.nan), sd, previous, Coefficients(a, beta, gamma),
    )  # fmt: skip
