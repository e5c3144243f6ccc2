"""When the next drain is due: by meter, by calendar, whichever comes first; and how a unit is used."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from statistics import NormalDist

import numpy as np

from vornet.core.errors import InputError

#: filled so near to new or overhauled it is the first charge: meters are read to a tenth, and a trial run comes first; common practice
_NEW_AT = 2.0
#: readings that tell how a unit is used now
RECENT_READINGS = 8


@dataclass(frozen=True)
class Due:
    """Next drain: ``total`` on the meter, ``day`` ordinal (NaN unknown), ``driver`` meter, calendar or break-in."""

    total: float
    day: float
    driver: str


def recent_rate(day: np.ndarray, total: np.ndarray) -> float:
    """Meter gain per day from the latest readings: median of pairwise slopes; NaN when it cannot be told.

    ``day``, ``total``: ascending by day, shape (n,).
    """
    d, m = np.asarray(day, float)[-RECENT_READINGS:], np.asarray(total, float)[-RECENT_READINGS:]
    i, j = _pairs(len(d))
    days, gain = d[j] - d[i], m[j] - m[i]
    apart = days > 0
    slopes = np.sort(gain[apart] / days[apart])
    n = len(slopes)
    return float((slopes[(n - 1) // 2] + slopes[n // 2]) / 2) if n else float("nan")


@lru_cache(maxsize=256)
def _pairs(n: int) -> tuple[np.ndarray, np.ndarray]:
    """(earlier, later) of every pair of ``n`` readings."""
    return np.triu_indices(n, 1)


@lru_cache(maxsize=256)
def _tried_pairs(n: int) -> tuple[np.ndarray, np.ndarray]:
    """``_pairs`` whose earlier one has readings enough before it to tell a rate by."""
    k, later = _pairs(n)
    from_ = k >= min(RECENT_READINGS - 1, n // 2)
    return k[from_], later[from_]


def due(
    last_drain_total: float,
    last_drain_day: float,
    interval: float,
    interval_days: float,
    latest_total: float,
    latest_day: float,
    rate_per_day: float,
) -> Due:
    """Earliest of the meter and the calendar limit. NaN for whatever is unknown; a unit that stands is due by calendar, one that is
    past its meter limit already since it got there, whether it still runs or stands.

    >>> due(1000, 0, 500, 365, 1300, 100, 3.0)
    Due(total=1500, day=166.66666666666669, driver='meter')
    """
    total = last_drain_total + interval
    by_meter = latest_day + (total - latest_total) / rate_per_day if rate_per_day > 0 else float("nan")
    if np.isnan(by_meter) and total <= latest_total:
        by_meter = latest_day
    by_calendar = last_drain_day + interval_days
    if np.isnan(by_meter) or by_calendar < by_meter:
        return Due(total, by_calendar, "calendar" if not np.isnan(by_calendar) else "meter")
    return Due(total, by_meter, "meter")


def with_first_drain(usual: Due, early: Due) -> Due:
    """The earlier of an early first drain and of what is due as usual: what comes sooner drives, and the calendar's day is never lost.

    >>> with_first_drain(Due(500.0, 40.0, "calendar"), Due(50.0, 90.0, "meter"))
    Due(total=50.0, day=40.0, driver='calendar')
    >>> with_first_drain(Due(500.0, 40.0, "meter"), Due(50.0, 30.0, "meter"))
    Due(total=50.0, day=30.0, driver='break-in')
    """
    total = float(np.fmin(usual.total, early.total))
    if math.isnan(early.day) or usual.day < early.day:
        return Due(total, usual.day, usual.driver if not math.isnan(usual.day) else "break-in")
    return Due(total, early.day, "break-in")


def first_drain(first: float | None, fill_total: float, overhaul_total: float, latest_total: float, drained_before: bool) -> float | None:
    """The running total at which the first drain after new or overhauled is due, once; None where it is behind it, or nobody asks for one.

    ``fill_total``: where the running charge was filled (NaN never on record), ``overhaul_total``: where it was last overhauled or
    exchanged (NaN never), ``drained_before``: a drain is on record.

    >>> first_drain(50, math.nan, math.nan, 30, False), first_drain(50, 50, math.nan, 80, True), first_drain(50, 4000, 4000, 4020, True)
    (50.0, None, 4050)
    >>> first_drain(50, math.nan, math.nan, 9000, False) is None
    True
    """
    if first is None:
        return None
    if not math.isnan(overhaul_total):
        new_since = overhaul_total
    elif not drained_before or fill_total <= _NEW_AT:
        new_since = 0.0
        if not latest_total <= 2 * first:  # it has run for long, and what was drained before is not on record
            return None
    else:
        return None
    if not math.isnan(fill_total) and fill_total > new_since + _NEW_AT:
        return None
    return new_since + first


def estimated(total: float, day: int, today: int, per_day: float) -> float:
    """A unit's running total today where there is no meter: so much a day since the last figure on record.

    >>> estimated(120.0, 10, 30, 2.5)
    170.0
    """
    return total + per_day * max(today - day, 0)


@dataclass(frozen=True)
class Forecast:
    """When the next drain is due, as days (ordinals) with their 90 % band; None where it cannot be told."""

    due_total: float | None
    due_day: int | None
    earliest: int | None
    latest: int | None
    driver: str


#: how far forecasts go astray before a unit has shown it itself, squared, as logarithms: what stays (the rate itself is off, or
#: will drift) and what averages out over days; counted like so many spans. Set on simulated units
USUAL_STAYS, USUAL_AVERAGES, USUAL_COUNT = 0.002, 0.12, 0.1
#: how soon a lean of past forecasts to one side is believed, in spans; degrees of freedom beyond which nothing is gained
LEAN_COUNT, MOST_FREE = 8.0, 20.0
#: degrees of freedom a span is worth: spans of one history are not strangers to one another; set on simulated units
WORTH = 0.55
#: readings by which a unit's past forecasts are tried
TRIED_READINGS = 60
#: two-sided 90 %
_BAND = 1.645


def _rates_before(day: np.ndarray, total: np.ndarray) -> np.ndarray:
    """``recent_rate`` at every reading, of it and those before it; NaN when it cannot be told."""
    n = len(day)
    before = np.arange(n)[:, None] - np.arange(RECENT_READINGS - 1, -1, -1)
    known = before >= 0
    at = np.clip(before, 0, None)
    d, m = np.where(known, day[at], np.nan), np.where(known, total[at], np.nan)
    i, j = _pairs(RECENT_READINGS)
    with np.errstate(invalid="ignore", divide="ignore"):
        apart = d[:, j] - d[:, i]
        slope = np.sort(np.where(apart > 0, (m[:, j] - m[:, i]) / apart, np.nan), axis=1)
    count = (~np.isnan(slope)).sum(axis=1)  # NaN sorts last: the middle is found by counting
    low, high = np.maximum(count - 1, 0) // 2, count // 2
    rows = np.arange(n)
    return np.where(count > 0, (slope[rows, low] + slope[rows, np.minimum(high, slope.shape[1] - 1)]) / 2, np.nan)


def _past_errors(day: np.ndarray, total: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(log of days it took over days forecast, days it took) for every pair of an earlier reading and a later one: what a forecast
    from the earlier one would have said of when the later one's figure is reached."""
    k, later = _tried_pairs(len(day))
    rate = _rates_before(day, total)[k]
    with np.errstate(invalid="ignore", divide="ignore"):
        took, said = day[later] - day[k], (total[later] - total[k]) / rate
        ok = (rate > 0) & (took > 0) & (said > 0)
        return np.clip(np.log(took[ok] / said[ok]), -1.5, 1.5), took[ok]


@dataclass(frozen=True)
class Pace:
    """How a unit runs and how forecasts of it would have fared: ``rate`` a day (NaN it cannot be told), days that its readings span, and
    of every pair of readings the log error of the forecast and the days it was for."""

    rate: float
    count: int
    history: float
    errors: np.ndarray
    spans: np.ndarray


def pace_of(day: np.ndarray, total: np.ndarray) -> Pace:
    """A unit's pace from its readings, ascending by day; worked once for everything that one meter drives."""
    d, m = np.asarray(day, float)[-TRIED_READINGS:], np.asarray(total, float)[-TRIED_READINGS:]
    rate = recent_rate(d, m)
    if len(d) < 3 or not rate > 0:
        return Pace(rate, len(d), 0.0, np.zeros(0), np.zeros(0))
    return Pace(rate, len(d), float(d[-1] - d[0]), *_past_errors(d, m))


def days_band(day: np.ndarray, total: np.ndarray, rest: float) -> tuple[float, float] | None:
    """``band_of`` from readings, ascending by day."""
    return band_of(pace_of(day, total), rest)


def chance_due_within(band: tuple[float, float], days: float) -> float:
    """Chance that a drain is due within so many days from now, by its 90 % band in days from now; days to a meter scatter by ratio.

    >>> [round(chance_due_within((50.0, 200.0), d), 2) for d in (0, 50, 100, 200)], chance_due_within((-9, -2), 0)
    ([0.0, 0.05, 0.5, 0.95], 1.0)
    """
    if band[1] <= 0:
        return 1.0
    low, high = (math.log(max(edge, 0.5)) for edge in band)
    sd = max((high - low) / (2 * _BAND), 0.02)
    return NormalDist((low + high) / 2, sd).cdf(math.log(max(days, 0.5)))


def band_of(pace: Pace, rest: float) -> tuple[float, float] | None:
    """90 % band of the days until ``rest`` more is on the meter, from how forecasts of this unit would have fared before: the error
    of the rate and future use together. None below three readings, or where it stands still.

    The squared log error over a span of d days is taken as a + b/d: what stays and what averages out, each drawn towards the
    usual while little is known.
    """
    from scipy import optimize, special

    if pace.count < 3 or not pace.rate > 0:
        return None
    span = max(rest, 0.0) / pace.rate
    e, took = pace.errors, pace.spans
    # how often spans as long as can be seen have been seen through, apart from one another
    history = pace.history
    n = max(history / max(min(span, history / 3), 1.0) - 1, 1.0)
    stays, averages, lean = USUAL_STAYS, USUAL_AVERAGES, 0.0
    if len(e) >= 2:
        # nearest to the span that is asked about counts most
        w = 1 / (1 + np.abs(np.log(took / max(span, 1.0)))) ** 2
        lean = float((w * e).sum() / w.sum()) * n / (n + LEAN_COUNT)
        x = np.stack([np.ones_like(took), 1 / took], axis=1) * np.sqrt(w)[:, None]
        found = optimize.nnls(x, (e - lean) ** 2 * np.sqrt(w))[0]
        share = n / (n + USUAL_COUNT)
        stays, averages = (float(share * f + (1 - share) * u) for f, u in zip(found, (USUAL_STAYS, USUAL_AVERAGES), strict=True))
    # of what stays few spans tell little: Student's t; what averages out was seen over and over
    t = float(special.stdtrit(min(max(WORTH * n, 1.0), MOST_FREE), 0.95))
    reach = np.sqrt(t**2 * stays + _BAND**2 * averages / max(span, 1.0))
    return span * float(np.exp(lean - reach)), span * float(np.exp(lean + reach))


def forecast(
    day: np.ndarray, total: np.ndarray, drain_total: float, drain_day: int, interval: float | None, interval_days: int | None
) -> Forecast:
    """Due by meter or calendar, forecast from the latest reading with the recent robust rate; ``earliest`` and ``latest`` are the
    90 % band of the due day (``days_band``), None below three readings. Both are capped by the calendar limit; what is past due
    is due on the day of the last reading, by meter, even where the unit stands still.

    ``day``, ``total``: readings, ascending by day, shape (n,), n ≥ 1.
    Raises InputError when neither limit is given.
    """
    if interval is None and interval_days is None:
        raise InputError("interval", "give meter, days or both: a drain without a limit never comes due")
    calendar = None if interval_days is None else drain_day + interval_days
    due_total = None if interval is None else drain_total + interval
    d, m = np.asarray(day, float), np.asarray(total, float)
    by_meter = first = last = None
    if due_total is not None:
        rest, rate = due_total - m[-1], recent_rate(d, m)
        if rest <= 0:
            by_meter = first = last = d[-1] + (rest / rate if rate > 0 else 0.0)
            first, last = (first, last) if len(d) >= 3 else (None, None)
        elif rate > 0:
            by_meter = d[-1] + rest / rate
            band = days_band(d, m, rest)
            if band is not None:
                first, last = d[-1] + min(band[0], rest / rate), d[-1] + max(band[1], rest / rate)
    if by_meter is None and calendar is None:
        return Forecast(due_total, None, None, None, "meter")
    by_calendar = calendar is not None and (by_meter is None or calendar < by_meter)

    def capped(x: float | None) -> int | None:
        if x is None or (calendar is not None and x > calendar):
            return calendar
        return int(np.floor(x))

    if by_calendar:
        assert calendar is not None
        earliest = capped(first) if first is not None else calendar
        return Forecast(due_total, calendar, earliest, calendar, "calendar")
    known = first is not None
    return Forecast(due_total, capped(by_meter), capped(first) if known else None, capped(last) if known else None, "meter")
