"""When the next drain is due: by meter, by calendar, whichever comes first; and how a unit is used."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError

#: readings that tell how a unit is used now
RECENT_READINGS = 8


@dataclass(frozen=True)
class Due:
    """Next drain: ``total`` on the meter, ``day`` ordinal (NaN unknown), ``driver`` meter or calendar."""

    total: float
    day: float
    driver: str


def recent_rate(day: np.ndarray, total: np.ndarray) -> float:
    """Meter gain per day from the latest readings: median of pairwise slopes; NaN when it cannot be told.

    ``day``, ``total``: ascending by day, shape (n,).
    """
    d, m = np.asarray(day, float)[-RECENT_READINGS:], np.asarray(total, float)[-RECENT_READINGS:]
    i, j = np.triu_indices(len(d), 1)
    apart = d[j] > d[i]
    if not apart.any():
        return float("nan")
    return float(np.median((m[j][apart] - m[i][apart]) / (d[j][apart] - d[i][apart])))


def due(
    last_drain_total: float,
    last_drain_day: float,
    interval: float,
    interval_days: float,
    latest_total: float,
    latest_day: float,
    rate_per_day: float,
) -> Due:
    """Earliest of the meter and the calendar limit. NaN for whatever is unknown; a unit that stands is due by calendar.

    >>> due(1000, 0, 500, 365, 1300, 100, 3.0)
    Due(total=1500, day=166.66666666666669, driver='meter')
    """
    total = last_drain_total + interval
    by_meter = latest_day + (total - latest_total) / rate_per_day if rate_per_day > 0 else float("nan")
    by_calendar = last_drain_day + interval_days
    if np.isnan(by_meter) or by_calendar < by_meter:
        return Due(total, by_calendar, "calendar" if not np.isnan(by_calendar) else "meter")
    return Due(total, by_meter, "meter")


def running_total(meter: float, day: int, changes: list[tuple[int, float, float]]) -> float:
    """A meter's figure as the unit's running total, over meter replacements.

    ``changes``: (day, figure on the old meter, figure the new one starts at). On the day of a change a
    figure at or above the old meter's is read as the old meter.

    >>> running_total(120, 50, [(40, 9000, 0)])
    9120.0
    """
    total = float(meter)
    for changed, old, new in changes:
        if day > changed or (day == changed and meter < old):
            total += old - new
    return total


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


def forecast(
    day: np.ndarray, total: np.ndarray, drain_total: float, drain_day: int, interval: float | None, interval_days: int | None
) -> Forecast:
    """Due by meter or calendar, forecast from the latest reading with the recent robust rate.

    ``day``, ``total``: readings, ascending by day, shape (n,), n ≥ 1. The band comes from the 90 % interval
    of the Theil–Sen slope over the last ``RECENT_READINGS`` (Sen 1968); three readings are the fewest that
    give one. Both ends are capped by the calendar limit.

    Raises InputError when neither limit is given.
    """
    from scipy import stats

    if interval is None and interval_days is None:
        raise InputError("interval", "give meter, days or both: a drain without a limit never comes due")
    calendar = None if interval_days is None else drain_day + interval_days
    due_total = None if interval is None else drain_total + interval
    d, m = np.asarray(day, float)[-RECENT_READINGS:], np.asarray(total, float)[-RECENT_READINGS:]
    by_meter = first = last = None
    if due_total is not None and len(np.unique(d)) >= 2:
        rate = recent_rate(d, m)
        rest = due_total - m[-1]

        def when(rate: float) -> float | None:
            return d[-1] + rest / rate if rate > 0 else None

        by_meter = when(rate)
        if len(d) >= 3:
            band = stats.theilslopes(m, d, alpha=0.90)
            ends = [when(float(band.high_slope)), when(float(band.low_slope))]
            first, last = (ends if rest >= 0 else ends[::-1]) if by_meter is not None else (None, None)
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
    return Forecast(due_total, capped(by_meter), capped(first) if first is not None else None, capped(last), "meter")
