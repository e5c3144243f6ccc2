"""Where a compartment stands today: what is left of its oil's safe life, and how soon it needs somebody."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True)
class Headroom:
    """Safe hours less oil hours, once repaired and as it is now (None: no fault open); ``is_safe`` False where no safe hours
    are known and the interval stands in; ``open_end``: at least so much, the evidence reaches no further."""

    repaired: float | None
    as_is: float | None
    is_safe: bool
    open_end: bool

    @property
    def now(self) -> float | None:
        """What holds today."""
        known = [x for x in (self.repaired, self.as_is) if x is not None]
        return min(known) if known else None


def headroom(
    oil_hours: float, safe: float | None, safe_as_is: float | None, evidence_cap: float | None, interval: float | None, faulty: bool
) -> Headroom:
    """Headroom of a running charge; NaN oil hours: none to tell. ``safe``: hours the charge is safe for, repaired; never
    shown beyond what was sampled or is approved."""
    if not math.isfinite(oil_hours):
        return Headroom(None, None, safe is not None, False)
    ceiling = max(evidence_cap or 0.0, interval or 0.0) or math.inf

    def left(hours: float | None) -> float | None:
        return None if hours is None else min(hours, ceiling) - oil_hours

    repaired = left(safe)
    if repaired is None and interval is not None:
        repaired = interval - oil_hours
    as_is = left(safe_as_is) if faulty else None
    if faulty and as_is is None:
        as_is = repaired
    return Headroom(repaired, as_is, safe is not None, safe is not None and math.isfinite(ceiling) and safe > ceiling)


def days_left(now: float | None, to_due: float, rate_per_day: float, interval: float | None) -> float:
    """The lesser of headroom and hours to due, in days of recent use, so that hours and kilometres stand in one list; a unit that
    stands still as if an interval lasted a year. A large number where nothing is known.

    >>> days_left(120.0, 80.0, 8.0, 500.0)
    10.0
    """
    least = min([x for x in (now, to_due) if x is not None and math.isfinite(x)], default=1e9)
    return least / (rate_per_day if rate_per_day > 0 else max(interval or 365.0, 1.0) / 365)
