"""When an item of a service plan is due, and what drives it: meter, days, season, another service, break-in, condition.

Days are ordinals, totals the unit's running total in its meter's unit (h or km). Whichever comes first is due.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date

#: a seasonal item done this many days before its day counts for that season; common practice, no source
SEASON_AHEAD_DAYS = 90


@dataclass(frozen=True)
class Item:
    """What makes an item due. ``season`` (month, day); ``condition`` True when it is looked at and done as needed; ``since`` the day from
    which it stands in the plan."""

    every_meter: float | None = None
    every_days: int | None = None
    every_nth: int | None = None
    nth_of: str = ""
    first_meter: float | None = None
    season: tuple[int, int] | None = None
    condition: bool = False
    since: int | None = None


@dataclass(frozen=True)
class Last:
    """When it was last done: day, and total where the meter was noted."""

    day: int
    total: float | None


@dataclass(frozen=True)
class Base:
    """The service an item rides on: how often done since the item was, its next due, its own interval."""

    done_since: int
    due_total: float | None
    due_day: float | None
    interval: float | None
    interval_days: float | None


@dataclass(frozen=True)
class ItemDue:
    """``total`` and ``day`` (None unknown), ``driver`` in words, ``rest``: meter units to go (negative: past)."""

    total: float | None
    day: float | None
    driver: str
    rest: float | None = None


def next_season(month: int, day: int, last: int | None, today: int, since: int | None = None) -> int:
    """The day a seasonal item is due: the first such day that a doing on ``last`` was not already for; never done, the first since it
    stands in the plan (``since``, None: from today on), which is overdue once it has passed.

    >>> date.fromordinal(next_season(10, 31, date(2025, 10, 20).toordinal(), date(2026, 1, 15).toordinal())).isoformat()
    '2026-10-31'
    >>> date.fromordinal(next_season(10, 31, None, date(2026, 11, 1).toordinal(), date(2026, 1, 15).toordinal())).isoformat()
    '2026-10-31'
    """
    never = today if since is None else min(since, today)
    from_day = never if last is None else last + SEASON_AHEAD_DAYS + 1
    year = date.fromordinal(from_day).year
    for y in (year, year + 1, year + 2):
        at = _day_of(y, month, day)
        if at >= from_day:
            return at
    raise AssertionError("a year has every day but 29 February, which is moved")


def _day_of(year: int, month: int, day: int) -> int:
    if (month, day) == (2, 29) and not (year % 4 == 0 and (year % 100 or year % 400 == 0)):
        day = 28
    return date(year, month, day).toordinal()


def ordinal_word(n: int) -> str:
    return f"{n}{'th' if 10 <= n % 100 <= 20 else {1: 'st', 2: 'nd', 3: 'rd'}.get(n % 10, 'th')}"


def item_due(
    item: Item,
    last: Last | None,
    new_at: float,
    latest_total: float | None,
    latest_day: int | None,
    rate_per_day: float,
    today: int,
    base: Base | None = None,
    out_of_tolerance: bool = False,
) -> ItemDue:
    """The earliest of everything that makes the item due.

    ``new_at``: total at which the unit was new or overhauled (break-in counts from there). ``rate_per_day``
    0 or NaN: it stands still, so only days count. A reading out of tolerance makes it due at once.

    >>> item_due(Item(every_meter=500, every_days=365), Last(1000, 2000.0), 0, 2300.0, 1100, 3.0, 1100)
    ItemDue(total=2500.0, day=1166.6666666666667, driver='meter', rest=200.0)
    """
    if out_of_tolerance:
        return ItemDue(None, float(today), "out of tolerance")
    found: list[ItemDue] = []

    def by_meter(total: float, driver: str) -> None:
        if latest_total is None or latest_day is None:
            found.append(ItemDue(total, None, driver))
            return
        rest = total - latest_total
        moves = rate_per_day > 0
        day = latest_day + rest / rate_per_day if moves else (float(latest_day) if rest <= 0 else None)
        found.append(ItemDue(total, day, driver, rest))

    if last is None and item.first_meter is not None:
        by_meter(new_at + item.first_meter, "break-in")
    if last is not None and item.every_meter is not None and last.total is not None:
        by_meter(last.total + item.every_meter, "meter")
    if last is not None and item.every_days is not None:
        found.append(ItemDue(None, float(last.day + item.every_days), "calendar"))
    if item.season is not None:
        at = next_season(*item.season, last.day if last else None, today, item.since)
        found.append(ItemDue(None, float(at), "season"))
    if item.every_nth is not None and base is not None:
        more = max(item.every_nth - 1 - base.done_since, 0)
        total = None if base.due_total is None else base.due_total + more * (base.interval or 0.0)
        day = None if base.due_day is None else base.due_day + more * _days_each(base, rate_per_day)
        rest = None if total is None or latest_total is None else total - latest_total
        found.append(ItemDue(total, day, f"every {ordinal_word(item.every_nth)} {item.nth_of}", rest))
    dated = [f for f in found if f.day is not None and math.isfinite(f.day)]
    if dated:
        return min(dated, key=lambda f: f.day)  # type: ignore[arg-type, return-value]
    if found:
        return found[0]
    if item.condition:
        return ItemDue(None, None, "condition")
    return ItemDue(None, None, "no record yet")


def _days_each(base: Base, rate_per_day: float) -> float:
    """Days one interval of the base lasts: the sooner of its meter and its days."""
    by_meter = base.interval / rate_per_day if base.interval and rate_per_day > 0 else math.inf
    by_days = base.interval_days if base.interval_days else math.inf
    each = min(by_meter, by_days)
    return each if math.isfinite(each) else 0.0


def within(value: float | str, low: float | None, high: float | None, good: tuple[str, ...]) -> bool:
    """Whether a reading is within tolerance: a figure between low and high, a choice among the good ones."""
    if isinstance(value, str):
        return not good or value in good
    return (low is None or value >= low) and (high is None or value <= high)
