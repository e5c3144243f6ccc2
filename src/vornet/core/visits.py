"""Visits: what falls due on a unit, the days it may be done on, and which of it is done in one visit.

Days are ordinals. What is lost by doing a thing early is the share of its life that is thrown away times what that life is worth, in
crew hours, so that it can be held against the hours that a visit of its own takes.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

#: a day late costs so many times a day early: what runs past its day may harm; common practice, no source
LATE = 3.0
#: and so many times where the oil is past its safe life already; common practice, no source
PAST_LATE = 10.0
#: what is asked for may be done so many days behind its day, where the depot is closed; common practice, no source
ASKED_DAYS = 3
#: how far ahead of its due day a thing may be done, as a share of its life, and at most so many days; common practice, no source
AHEAD_SHARE, AHEAD_DAYS = 0.25, 60
#: how far past its due day oil may run, as a share of its life, and only within its safe hours and every cap; common practice, no source
PAST_SHARE = 0.1
#: what is past due, or asked for, is done within so many days; common practice, no source
GRACE_DAYS = 14
#: crew hours that every visit takes whatever is done: making ready, keys, paper; common practice, no source
SET_UP_H = 0.5
#: what one visit fewer is worth, crew hours: the unit off the road, the crew's way; common practice, no source
VISIT_WORTH_H = 1.0
#: oil and filter are worth about so many times the work of changing them, where no prices are set; common practice, no source
GOODS_TO_WORK = 1.5


@dataclass(frozen=True)
class Task:
    """One thing that falls due: ``hours`` of work, the days it may be done on, what the whole of its life is worth (crew hours) and how
    many days that life lasts. ``share_due``: the share of the oil's life that is used on the due day; None where it has none. ``late``: how
    many times a day late costs a day early; ``soon``: the day from which waiting costs, where that is not the due day."""

    key: str
    hours: float
    due: float
    earliest: int
    latest: int
    worth: float
    life_days: float
    share_due: float | None = None
    late: float = LATE
    soon: float | None = None

    @property
    def slopes(self) -> tuple[float, float, float]:
        """(the day that loses nothing, what a day before it loses, what a day behind it loses), crew hours."""
        each = self.worth / max(self.life_days, 1.0)
        return (self.due if self.soon is None else self.soon), each, self.late * each

    def loss(self, day: int) -> float:
        """What doing it on a day loses, crew hours."""
        at, early, late = self.slopes
        return early * max(at - day, 0.0) + late * max(day - at, 0.0)

    def last_of(self, days: Sequence[int] | None) -> float:
        """The last day that joining it with others may put it on: never behind its due day, unless the unit is not there before."""
        if days is None or any(self.earliest <= d <= self.due for d in days):
            return max(self.due, self.earliest)
        return next((d for d in days if d > self.due), self.due)

    def share(self, day: int) -> float | None:
        """Share of the oil's life that is used on a day, by the pace that leads to its due day."""
        return None if self.share_due is None else max(self.share_due - (self.due - day) * self.share_due / max(self.life_days, 1.0), 0.0)


@dataclass(frozen=True)
class Window:
    due: float
    earliest: int
    latest: int
    why: str  # due, safe (safe life ends before the interval does) or past (due already)


def drain_window(due: float, life_days: float, today: int, *, safe_day: float | None = None, hard_day: float | None = None) -> Window:
    """The days a drain may be done on. ``safe_day``: when its oil is at the end of its safe life if the unit runs as hard as its band
    says (None: not known, then the due day is the last); ``hard_day``: a cap or calendar limit that nothing goes past.

    >>> drain_window(1040, 100, 1000, safe_day=1200)
    Window(due=1040, earliest=1015, latest=1050, why='due')
    >>> drain_window(1040, 100, 1000, safe_day=1020)
    Window(due=1020, earliest=1000, latest=1020, why='safe')
    >>> drain_window(1040, 100, 1000)
    Window(due=1040, earliest=1015, latest=1040, why='due')
    >>> drain_window(990, 100, 1000)
    Window(due=1000, earliest=1000, latest=1014, why='past')
    """
    first = min(x for x in (due, safe_day, hard_day) if x is not None)
    if first < today:
        return Window(today, today, today + GRACE_DAYS, "past")
    latest = first if safe_day is None else min(first + PAST_SHARE * life_days, safe_day)
    if hard_day is not None:
        latest = min(latest, hard_day)
    earliest = max(today, math.floor(first - min(AHEAD_SHARE * life_days, AHEAD_DAYS)))
    return Window(first, earliest, max(math.floor(latest), math.floor(first), today), "due" if first >= due else "safe")


def item_window(due: float, life_days: float, today: int) -> Window:
    """The days a service item may be done on: some while before its day, a little after it; past it, soon.

    >>> item_window(1040, 365, 1000)
    Window(due=1040, earliest=1000, latest=1054, why='due')
    """
    if due < today:
        return Window(today, today, today + GRACE_DAYS, "past")
    earliest = max(today, math.floor(due - min(AHEAD_SHARE * life_days, AHEAD_DAYS)))
    return Window(due, earliest, math.floor(due + min(PAST_SHARE * life_days, GRACE_DAYS)), "due")


def bottle_window(due: float, days_each_way: float, today: int) -> Window:
    """The days on which a bottle of a trial counts for its step.

    >>> bottle_window(1010, 4.6, 1000)
    Window(due=1010, earliest=1006, latest=1014, why='due')
    """
    if due < today:
        return Window(today, today, today + GRACE_DAYS, "past")
    return Window(due, max(today, math.ceil(due - days_each_way)), max(math.floor(due + days_each_way), math.floor(due)), "due")


def asked_window(due: float | None, today: int) -> Window:
    """The days for what a fault or a signed action asks for: from now on, by its day.

    >>> asked_window(1010, 1000)
    Window(due=1010, earliest=1000, latest=1013, why='due')
    """
    if due is None or due < today:
        return Window(today, today, today + GRACE_DAYS, "past")
    return Window(due, today, math.floor(due) + ASKED_DAYS, "due")


def before_lay_up(due: float, lay_up: tuple[float, float] | None) -> float:
    """A day that would fall into a lay-up is brought forward to the last day before it: acids and water must not stand in old oil.

    >>> before_lay_up(1050, (1040, 1100)), before_lay_up(1030, (1040, 1100)), before_lay_up(1050, None)
    (1039, 1030, 1050)
    """
    if lay_up is None or not lay_up[0] <= due <= lay_up[1]:
        return due
    return lay_up[0] - 1


@dataclass(frozen=True)
class Visit:
    """Things done in one visit: ``cost`` of doing them together at the best common day, ``saved`` by not coming for each."""

    tasks: tuple[Task, ...]
    cost: float = 0.0
    saved: float = 0.0
    set_up: float = SET_UP_H

    @property
    def hours(self) -> float:
        return self.set_up + sum(t.hours for t in self.tasks)

    @property
    def earliest(self) -> int:
        return max(t.earliest for t in self.tasks)

    @property
    def latest(self) -> int:
        return min(t.latest for t in self.tasks)

    def loss(self, day: int) -> float:
        return sum(t.loss(day) for t in self.tasks)


def best_day(tasks: Sequence[Task], days: Sequence[int] | None = None) -> tuple[int, float] | None:
    """(day, loss) of the day that loses least for all of them; None where no day suits all. ``days``: those on which the unit is there.

    Several together are never put behind the due day of one of them: a visit saved is no reason to run oil longer. The loss is convex:
    its least is at the day that loses nothing for one of them, or at an end of the common window.
    """
    earliest, latest = max(t.earliest for t in tasks), min(t.latest for t in tasks)
    if len(tasks) > 1:
        latest = min(latest, math.floor(min(t.last_of(days) for t in tasks)))
    if days is None:
        kinks = {earliest, latest, *(d for t in tasks for d in (math.floor(t.slopes[0]), math.ceil(t.slopes[0])))}
        among = [d for d in kinks if earliest <= d <= latest]
    else:
        among = [d for d in days if earliest <= d <= latest]
    return min(((d, sum(t.loss(d) for t in tasks)) for d in sorted(among)), key=lambda x: x[1], default=None)


@dataclass
class _Best:
    cost: float = math.inf
    starts_at: int = 0
    visits: list[Visit] = field(default_factory=list)


def join(
    tasks: Sequence[Task], *, days: Sequence[int] | None = None, set_up: float = SET_UP_H, visit_worth: float = VISIT_WORTH_H,
    most_hours: float = math.inf,
) -> list[Visit]:  # fmt: skip
    """The visits of one unit that cost least: what doing things early or late loses, and ``set_up`` and ``visit_worth`` for every visit.

    Things that come one after another by due day are put together or not (a dynamic programme over where each visit ends); no visit
    is longer than ``most_hours``, unless one thing alone is.

    >>> oil, filter = Task("a", 2, 1040, 1015, 1050, 5, 100), Task("b", 1, 1046, 1016, 1060, 2, 100)
    >>> [[t.key for t in v.tasks] for v in join([oil, filter])]
    [['a', 'b']]
    >>> late = Task("b", 1, 1100, 1040, 1100, 40, 100)
    >>> [[t.key for t in v.tasks] for v in join([oil, late])]
    [['a'], ['b']]
    """
    inside = sorted(tasks, key=lambda t: (t.due, t.key))
    each = set_up + visit_worth
    alone = [best_day([t], days) for t in inside]
    best = [_Best(0.0)] + [_Best() for _ in inside]
    for end in range(1, len(inside) + 1):
        for start in range(end - 1, -1, -1):
            group = inside[start:end]
            if len(group) > 1 and set_up + sum(t.hours for t in group) > most_hours:
                break
            found = best_day(group, days)
            if found is None:
                if len(group) > 1:
                    if max(t.earliest for t in group) > min(t.latest for t in group):
                        break  # nor would more of them
                    continue
                found = (group[0].latest, 0.0)  # no day for it at all: a visit that will be said to have none
            cost = best[start].cost + each + found[1]
            if cost < best[end].cost - 1e-12:
                best[end] = _Best(cost, start)
    out: list[Visit] = []
    end = len(inside)
    while end > 0:
        start = best[end].starts_at
        group = inside[start:end]
        together = best_day(group, days)
        apart = sum(a[1] for a in alone[start:end] if a is not None)
        cost = (together[1] if together else 0.0) - apart
        out.append(Visit(tuple(group), max(cost, 0.0) if len(group) > 1 else 0.0, each * (len(group) - 1), set_up))
        end = start
    return out[::-1]


def worth(hours: float, drain_cost: float | None, labour_per_h: float | None) -> float:
    """What a whole life of a charge is worth, crew hours: its price over an hour's, or the work and what usually goes with it.

    >>> worth(2, 310, 62), worth(2, None, None)
    (5.0, 5.0)
    """
    if drain_cost and labour_per_h:
        return drain_cost / labour_per_h
    return hours * (1 + GOODS_TO_WORK)
