"""Crew hours: what work takes, learned from what it took; a depot's hours by weekday; the days a unit is there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from vornet.core.errors import InputError

#: crew hours a piece of work takes where nobody has said, by kind; common practice, no source
USUAL_H: dict[str, float] = {
    "engine": 2.0, "gearbox": 1.0, "primary": 1.0, "final_drive": 1.0, "differential": 1.0, "axle": 1.0, "hydraulics": 2.5,
    "compressor": 1.0, "other": 1.0, "item": 0.5, "bottle": 0.25, "look": 0.5,
}  # fmt: skip
KIND_WORDS = {
    "engine": "engine drain", "gearbox": "gearbox drain", "primary": "primary drive drain", "final_drive": "final drive drain",
    "differential": "differential drain", "axle": "axle drain", "hydraulics": "hydraulics drain", "compressor": "compressor drain",
    "other": "other drain", "item": "service item", "bottle": "bottle alone", "look": "look or check",
}  # fmt: skip
#: what was planned counts like so many jobs; what a job took counts within this much of its plan (longer or shorter: it was interrupted)
PRIOR_JOBS, LEAST_RATIO, MOST_RATIO = 3.0, 0.25, 4.0
#: crew hours on Monday to Sunday where nobody has said; common practice, no source
USUAL_WEEK = (8.0, 8.0, 8.0, 8.0, 8.0, 0.0, 0.0)


@dataclass(frozen=True)
class Took:
    """One visit that is done: planned hours by kind, and the hours it took."""

    planned: Mapping[str, float]
    hours: float


def factors(done: Iterable[Took]) -> dict[str, float]:
    """By kind, what work takes over what was planned: each visit's ratio counts for a kind by that kind's share of its plan.

    Ten two-hour jobs that took three:

    >>> round(2 * factors([Took({"engine": 2.0}, 3.0)] * 10)["engine"], 2)
    2.77
    """
    weight: dict[str, float] = {}
    sums: dict[str, float] = {}
    for visit in done:
        planned = sum(visit.planned.values())
        if planned <= 0 or visit.hours <= 0:
            continue
        ratio = min(max(visit.hours / planned, LEAST_RATIO), MOST_RATIO)
        for kind, hours in visit.planned.items():
            share = hours / planned
            weight[kind] = weight.get(kind, 0.0) + share
            sums[kind] = sums.get(kind, 0.0) + share * ratio
    return {k: (PRIOR_JOBS + sums[k]) / (PRIOR_JOBS + w) for k, w in weight.items()}


def hours_of(kind: str, said: Mapping[str, float], learned: Mapping[str, float]) -> float:
    """Crew hours of a piece of work: as the fleet says or as is usual, corrected by what such work took."""
    return said.get(kind, USUAL_H.get(kind, USUAL_H["other"])) * learned.get(kind, 1.0)


@dataclass(frozen=True)
class Week:
    """A depot's crew hours and bays from Monday to Sunday (``bays`` None: not counted), and the days that are different."""

    hours: tuple[float, ...] = USUAL_WEEK
    bays: tuple[int, ...] | None = None
    other: Mapping[int, tuple[float, int | None]] | None = None

    def on(self, day: int) -> tuple[float, int | None]:
        """(hours, bays) of a day.

        >>> Week().on(date(2026, 1, 17).toordinal()), Week(other={5: (3.0, None)}).on(5)
        ((0.0, None), (3.0, None))
        """
        weekday = (day - 1) % 7
        bays = self.bays[weekday] if self.bays else None
        if self.other and day in self.other:
            hours, other_bays = self.other[day]
            return hours, other_bays if other_bays is not None and self.bays else bays
        return self.hours[weekday], bays


ROTA_KINDS = ("weekdays", "rotation", "days")
#: days that a rota may name at most
MOST_DAYS = 2000


@dataclass(frozen=True)
class Rota:
    """On which days a unit is at its depot. ``weekdays`` (Monday 0), or a ``rotation``: from a day on so many days there and so many
    away, or ``days`` by name."""

    kind: str
    weekdays: tuple[int, ...] = ()
    anchor: int = 0
    there: int = 0
    away: int = 0
    days: tuple[int, ...] = ()

    def is_there(self, day: int) -> bool:
        """
        >>> Rota("rotation", anchor=100, there=2, away=5).is_there(108), Rota("rotation", anchor=100, there=2, away=5).is_there(109)
        (True, False)
        """
        if self.kind == "weekdays":
            return (day - 1) % 7 in self.weekdays
        if self.kind == "rotation":
            return (day - self.anchor) % (self.there + self.away) < self.there
        return day in self.days

    def among(self, first: int, count: int) -> list[int]:
        """The days of a span on which it is there."""
        if self.kind == "days":
            return [d for d in self.days if first <= d < first + count]
        return [d for d in range(first, first + count) if self.is_there(d)]


def rota_of(rule: Mapping[str, object]) -> Rota:
    """A rota from its plain form. Raises InputError by field."""
    kind = rule.get("kind")
    if kind == "weekdays":
        days = rule.get("weekdays")
        if not isinstance(days, Sequence) or not days or not all(isinstance(d, int) and 0 <= d <= 6 for d in days):
            raise InputError("weekdays", "choose at least one day of the week")
        return Rota("weekdays", weekdays=tuple(sorted(set(days))))
    if kind == "rotation":
        there, away = rule.get("there"), rule.get("away")
        if not isinstance(there, int) or not isinstance(away, int) or not 1 <= there <= 366 or not 0 <= away <= 366:
            raise InputError("there", "days there from 1 to 366, days away from 0 to 366")
        return Rota("rotation", anchor=_ordinal(rule.get("anchor"), "anchor"), there=there, away=away)
    if kind == "days":
        days = rule.get("days")
        if not isinstance(days, Sequence) or isinstance(days, str) or len(days) > MOST_DAYS:
            raise InputError("days", f"at most {MOST_DAYS} days")
        return Rota("days", days=tuple(sorted({_ordinal(d, "days") for d in days})))
    raise InputError("kind", f"one of {', '.join(ROTA_KINDS)}")


def _ordinal(text: object, field: str) -> int:
    try:
        return date.fromisoformat(str(text)).toordinal()
    except ValueError:
        raise InputError(field, f"{str(text)[:30]!r} is not a date") from None
