"""What is known of a meter through time: trusted points, recent use, the latest figure, and a figure that was not written down."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from vornet.core.due import recent_rate
from vornet.core.meter import MOST_PER_DAY

#: a believable sample gains at most so many times the recent use over the days since the last reading, or a day's hours a day;
#: common practice, no source
BELIEVED_TIMES_USUAL, BELIEVED_A_DAY = 3.0, MOST_PER_DAY["h"]


class Points(NamedTuple):
    """Readings, shape (P,): meter's number, ordinal day, running total."""

    meter: np.ndarray
    day: np.ndarray
    total: np.ndarray


class Standing(NamedTuple):
    """Of C compartments: ``points`` of their meters, one row a compartment and reading, sorted by compartment, then day (``meter``
    holds the compartment); ``per_day`` recent use, ``total`` and ``day`` the latest reading; NaN where none is known."""

    points: Points
    per_day: np.ndarray
    total: np.ndarray
    day: np.ndarray


def standing(points: Points, meter_of: np.ndarray) -> Standing:
    """Where meters stand. ``meter_of`` (C,): each compartment's meter. What is on record twice counts once."""
    order = np.lexsort((points.total, points.day, points.meter))
    meter, day, total = (x[order] for x in points)
    keep = np.ones(len(meter), dtype=bool)
    if len(meter) > 1:
        keep[1:] = (np.diff(meter) != 0) | (np.diff(day) != 0) | (np.diff(total) != 0)
    meter, day, total = meter[keep], day[keep], total[keep]
    count = len(meter_of)
    per_day, latest, latest_day = (np.full(count, np.nan) for _ in range(3))
    known = np.unique(meter)
    first, last = np.searchsorted(meter, known), np.searchsorted(meter, known, "right")
    span_of = {int(m): (int(a), int(b)) for m, a, b in zip(known, first, last, strict=True)}
    rate_of: dict[int, float] = {}
    comp, days, totals = [], [], []
    for c in range(count):
        mine = int(meter_of[c])
        if mine not in span_of:
            continue
        a, b = span_of[mine]
        if mine not in rate_of:
            rate_of[mine] = recent_rate(day[a:b], total[a:b])
        per_day[c], latest[c], latest_day[c] = rate_of[mine], total[b - 1], day[b - 1]
        comp.append(np.full(b - a, c))
        days.append(day[a:b])
        totals.append(total[a:b])

    def joined(parts: list[np.ndarray]) -> np.ndarray:
        return np.concatenate(parts) if parts else np.zeros(0)

    return Standing(Points(joined(comp).astype(int), joined(days), joined(totals)), per_day, latest, latest_day)


def with_samples(known: Standing, comp: np.ndarray, day: np.ndarray, total: np.ndarray, today: int) -> Standing:
    """A believable sample (``comp``, ``day``, ``total``: (N,)) is a reading too: only forwards, and not faster than the clock.

    >>> empty = standing(Points(np.array([7]), np.array([100]), np.array([500.0])), np.array([7]))
    >>> with_samples(empty, np.array([0, 0]), np.array([110, 120]), np.array([560.0, 9000.0]), 130).total
    array([500.])
    >>> with_samples(empty, np.array([0]), np.array([110]), np.array([560.0]), 130).total
    array([560.])
    """
    latest, latest_day = known.total.copy(), known.day.copy()
    recent = np.flatnonzero(~np.isnan(total) & (day <= today))
    newest = np.full(len(latest), -np.inf)
    np.maximum.at(newest, comp[recent], day[recent])
    for i in recent[day[recent] == newest[comp[recent]]]:
        c = comp[i]
        gap, gain = day[i] - latest_day[c], total[i] - latest[c]
        most = max(BELIEVED_A_DAY, BELIEVED_TIMES_USUAL * np.nan_to_num(known.per_day[c])) * gap
        if np.isnan(latest_day[c]) or (gap > 0 and 0 <= gain <= min(most, MOST_PER_DAY["km"] * gap)):
            latest[c], latest_day[c] = total[i], day[i]
    return known._replace(total=latest, day=latest_day)


def read_off(points: Points, meter: np.ndarray, day: np.ndarray, total: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """Running totals (N,) with those ``wanted`` (N,) bool read off the meter's own readings around their day, where there are any."""
    out = total.copy()
    blank = np.flatnonzero(wanted)
    for number in np.unique(meter[blank]):
        mine = points.meter == number
        at = blank[meter[blank] == number]
        if mine.sum() >= 2:
            by_day = np.argsort(points.day[mine], kind="stable")
            days, totals = points.day[mine][by_day], points.total[mine][by_day]
            inside = (day[at] >= days[0]) & (day[at] <= days[-1])
            out[at[inside]] = np.interp(day[at[inside]], days, totals)
    return out
