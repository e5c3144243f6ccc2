"""When the next drain is due: by meter, by calendar, whichever comes first; and how a unit is used."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

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
