"""A meter only goes up: its running total over replacements, and figures held against what is known around them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from vornet.core.errors import InputError

#: a meter gains at most this much a day (h, km)
MOST_PER_DAY = {"h": 24.0, "km": 2000.0}
#: what two readings of one figure may differ by
SLACK = 0.5


@dataclass(frozen=True)
class Known:
    """A figure that is on record: its ordinal day, what the meter showed, and its running total."""

    day: int
    shown: float
    total: float


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


def check(total: float, day: int, around: Iterable[Known], unit: str, field: str = "meter") -> None:
    """Raise InputError when a running total goes back, runs ahead of a later figure, or gains more than the days allow.

    ``unit``: h or km, as the meter counts.
    """
    for known in around:
        days, gain, on = day - known.day, total - known.total, date.fromordinal(known.day)
        if days >= 0 and gain < -SLACK:
            raise InputError(field, f"the meter goes back: it read {known.shown:.0f} {unit} on {on}")
        if days >= 0 and gain > MOST_PER_DAY[unit] * (days + 1):
            raise InputError(field, f"{gain:.0f} {unit} more in {days} days cannot be")
        if days < 0 and gain > SLACK:
            raise InputError(field, f"ahead of the reading of {on}: {known.shown:.0f} {unit}")


def first_fall(totals: Sequence[float]) -> int | None:
    """Where a run of totals first goes back; None when it never does.

    >>> first_fall([1.0, 2.0, 1.5])
    2
    """
    return next((i for i in range(1, len(totals)) if totals[i] < totals[i - 1]), None)


def longest_rising(points: list[tuple[int, float]]) -> list[bool]:
    """Which points belong to a longest never-falling run of totals; the fewest that contradict it are out.

    ``points``: (day, total) sorted by day. A single mistyped figure must not condemn all that follow it.
    """
    tails: list[float] = []
    tail_at: list[int] = []
    back = [-1] * len(points)
    for i, (_, total) in enumerate(points):
        k = bisect_right(tails, total)
        back[i] = tail_at[k - 1] if k else -1
        tails[k : k + 1] = [total]
        tail_at[k : k + 1] = [i]
    keep = [False] * len(points)
    at = tail_at[-1] if tail_at else -1
    while at >= 0:
        keep[at] = True
        at = back[at]
    return keep
