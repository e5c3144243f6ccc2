"""Where a measurand is heading over the running charge and the next, and whether its pace changes from charge to charge."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.drain import start_value
from vornet.core.errors import InputError
from vornet.core.history import History
from vornet.core.measurands import INDEX
from vornet.core.precision import BETWEEN_DATES
from vornet.core.trend import Trend, trend

#: points along a cone
STEPS = 6
#: one-sided confidence of a cone's edge
CONE = 0.95


@dataclass(frozen=True)
class Forecast:
    """Mean slope of ``n`` charges (a value per meter unit), the sd of the next one's, the reading's ``sd``, and Student's t."""

    slope: float
    slope_sd: float
    sd: float
    t: float
    n: int

    def after(self, hours: float, level: float, noise: float) -> tuple[float, float, float]:
        """(low, middle, high) after so many hours more, from a level known to ``noise``; none is below zero but the middle may fall
        short of it.

        >>> Forecast(0.1, 0.01, 1.0, 2.0, 5).after(100, 20.0, 0.0)
        (28.0, 30.0, 32.0)
        """
        middle = level + self.slope * hours
        reach = self.t * math.sqrt((self.slope_sd * hours) ** 2 + noise**2)
        return max(middle - reach, 0.0), max(middle, 0.0), middle + reach


def forecast(history: History, charges: Charges, key: str) -> Forecast | None:
    """Slope of a measurand over the charges of one compartment, through each charge's own start; None below two."""
    from scipy import special

    samples, m = history.samples, INDEX[key]
    h, x = charges.oil_hours, samples.values[:, m]
    start = charges.start[charges.charge_of, m]
    ok = samples.usable & ~np.isnan(x) & ~np.isnan(start) & (h > 0)
    if not ok.any():
        return None
    total, of = len(charges.comp), charges.charge_of[ok]
    hh = np.bincount(of, h[ok] ** 2, total)
    hy = np.bincount(of, h[ok] * (x - start)[ok], total)
    slopes = hy[hh > 0] / hh[hh > 0]
    n = len(slopes)
    if n < 2:
        return None
    sd = history.precision.standard_deviation(key, float(np.median(x[ok]))) * BETWEEN_DATES
    spread = float(slopes.std(ddof=1)) * math.sqrt(1 + 1 / n)
    return Forecast(float(slopes.mean()), spread, sd, float(special.stdtrit(n - 1, CONE)), n)


@dataclass(frozen=True)
class Cone:
    """(meter, low, middle, high) along a forecast; ``running`` charge, or the one after it."""

    points: tuple[tuple[float, float, float, float], ...]
    running: bool


def cones(history: History, charges: Charges, key: str, interval: float, latest: float, share: float) -> list[Cone]:
    """The running charge's forecast, from its last sample on, and the next charge's; none where it cannot be told.

    ``interval`` in meter units; ``latest``: the meter now; ``share``: left behind at a drain.
    """
    guess, samples, m = forecast(history, charges, key), history.samples, INDEX[key]
    running = len(charges.comp) - 1
    fill = float(charges.fill[running])
    if guess is None or math.isnan(fill):
        return []
    mine = np.flatnonzero((charges.charge_of == running) & samples.usable & ~np.isnan(samples.values[:, m]))
    begin, level, noise = 0.0, float(charges.start[running, m]), 0.0
    if len(mine):
        i = mine[np.argmax(charges.oil_hours[mine])]
        begin, level, noise = float(charges.oil_hours[i]), float(samples.values[i, m]), guess.sd
    if math.isnan(level):
        return []
    end = max(interval, latest - fill)

    def along(origin: float, at: float, y: float, sd: float, until: float, now: bool) -> list[Cone]:
        if until <= at:
            return []
        hours = ((until - at) * step / STEPS for step in range(STEPS + 1))
        return [Cone(tuple((origin + at + h, *guess.after(h, y, sd)) for h in hours), now)]

    fresh = float(np.nan_to_num(history.known.at(charges.oil[[running]]).value[0, m]))
    following = start_value(share, level + guess.slope * max(end - begin, 0), fresh)
    return along(fill, begin, level, noise, end, True) + along(fill + end, 0.0, following, 0.0, interval, False)


def pace(history: History, charges: Charges, key: str) -> Trend | None:
    """Whether a measurand's slope over its charges rises or falls from charge to charge; None below two charges."""
    samples, m = history.samples, INDEX[key]
    points = []
    for h in np.flatnonzero(charges.number > 0):
        rows = np.flatnonzero((charges.charge_of == h) & samples.usable & ~np.isnan(samples.values[:, m]) & (charges.oil_hours > 0))
        if len(rows) and not math.isnan(charges.start[h, m]):
            hours = charges.oil_hours[rows]
            slope = float(np.sum(hours * (samples.values[rows, m] - charges.start[h, m])) / np.sum(hours**2))
            points.append((float(charges.fill[h]), slope))
    if len(points) < 2:
        return None
    try:
        return trend(points)
    except InputError:
        return None
