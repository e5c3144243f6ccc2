"""What is in force: one rule from what was said, the oil in use and overhauls to a length (or a calendar limit) for every day.

A length and a calendar limit are two facts, each with a history of its own; both go through ``history``. What is said for today or
before stands from its day on. What is said for a day to come waits until then, and

- a later word on the same fact ends it, unless its signer upholds it; so do a change of oil, an overhaul and being withdrawn;
- on its day what is no longer than what stands begins by itself; what is longer begins once the guards were asked on or after that day
  and let it (``begun_on``).

What rests on evidence (an approval, a trial, what a trial fell back to) rests on the oil that was in use and on the overhaul before it:
once another oil is poured, or the component is overhauled or exchanged, it falls back to the register's own figure where that is less. A
trial stands while its charge runs; after it what stood before it does again.

Days are ordinals. A figure is a length (h or km) or days; None says that there is none.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

REGISTER, STATED, APPROVED, TRIAL, FELL_BACK = "register", "stated", "approved", "trial", "fell_back"
#: what rests on an oil and on an overhaul
EVIDENCED = (APPROVED, TRIAL, FELL_BACK)
#: a span waits for its day, stands, stood, or ended before it began
WAITS, STANDS, STOOD, NEVER = "waits", "stands", "stood", "never"
#: why a span ended, as keys
LATER, OIL_CHANGE, OVERHAUL, WITHDRAWN, CHARGE_ENDED = "later", "oil_change", "overhaul", "withdrawn", "charge_ended"


@dataclass(frozen=True, kw_only=True)
class Said:
    """One statement of a fact. ``key`` rises in the order they were made; ``on`` the day it is for, ``said_on`` the day it was made;
    ``oil`` in use then, ``renewed`` the last overhaul then (None: none); ``upholds``: what waits still holds; ``begun_on``: the day the
    guards let it begin; ``ends_on``: of a trial, the day its charge was drained."""

    key: int
    on: int
    said_on: int
    origin: str
    value: float | None
    oil: int | None = None
    renewed: int | None = None
    upholds: bool = False
    begun_on: int | None = None
    withdrawn_on: int | None = None
    ends_on: int | None = None

    @property
    def ahead(self) -> bool:
        return self.on > self.said_on


@dataclass(frozen=True, kw_only=True)
class Ground:
    """What evidence rests on, both by day: ``oils`` (day from which, oil), ``renewals`` days of overhauls and exchanges."""

    oils: tuple[tuple[int, int], ...] = ()
    renewals: tuple[int, ...] = ()

    def oil_at(self, day: int) -> int | None:
        at = bisect_right([d for d, _ in self.oils], day) - 1
        return self.oils[at][1] if at >= 0 else None

    def gone_from(self, row: Said, day: int) -> str:
        """Why a statement's evidence no longer holds on a day; '' while it does."""
        if row.origin not in EVIDENCED:
            return ""
        oil = self.oil_at(day)
        if row.oil is not None and oil is not None and oil != row.oil:
            return OIL_CHANGE
        last = max((d for d in self.renewals if d <= day), default=None)
        return OVERHAUL if last is not None and last > (-math.inf if row.renewed is None else row.renewed) else ""


@dataclass(frozen=True, kw_only=True)
class Span:
    """What one statement came to: ``value`` from ``start`` until before ``end`` (None: open). ``why`` it ended, and ``by`` whose
    statement (a key; None: nobody's). ``state`` WAITS: begins on ``start`` at the earliest; NEVER: ended on ``end`` before it began."""

    key: int
    origin: str
    value: float | None
    start: int
    end: int | None = None
    state: str = STANDS
    why: str = ""
    by: int | None = None


@dataclass
class _Course:
    """The course of one fact, day by day."""

    ground: Ground
    spans: list[Span] = field(default_factory=list)
    now: Span | None = None
    row: Said | None = None
    before_trial: Said | None = None
    own: Said | None = None  # the register's, the latest

    def begin(self, row: Said, day: int, why: str, value: float | None = None) -> None:
        if self.now is not None:
            self.spans.append(replace(self.now, end=day, state=STOOD, why=why, by=row.key if why == LATER else None))
        self.before_trial = self.row if row.origin == TRIAL else None
        self.now, self.row = Span(key=row.key, origin=row.origin, value=row.value, start=day), row
        if row.origin not in EVIDENCED:
            self.own = row

    def end_trial(self, day: int) -> None:
        row, before = self.row, self.before_trial
        if row is not None and before is not None and row.ends_on is not None and row.ends_on <= day:
            self.begin(before, day, CHARGE_ENDED)

    def hold_to_evidence(self, day: int) -> None:
        """What stands falls back to the register's own where its evidence is gone and that is less."""
        row, own = self.row, self.own
        if row is None or own is None or own.value is None:
            return
        why = self.ground.gone_from(row, day)
        if why and (row.value is None or own.value < row.value):
            self.begin(own, day, why)


def history(said: Sequence[Said], ground: Ground) -> list[Span]:
    """Every statement's course, in order of its days: what stood from when until when and why it ended, what waits, what never began.

    At most one span is open and stands.

    >>> rows = [Said(key=1, on=0, said_on=0, origin=REGISTER, value=500),
    ...         Said(key=2, on=40, said_on=10, origin=APPROVED, value=625), Said(key=3, on=20, said_on=20, origin=APPROVED, value=400)]
    >>> [(s.value, s.start, s.end, s.state, s.why) for s in history(rows, Ground())]
    [(500, 0, 20, 'stood', 'later'), (400, 20, None, 'stands', ''), (625, 40, 20, 'never', 'later')]
    """
    rows = sorted(said, key=lambda r: r.key)
    days = {d for r in rows for d in (r.on, r.said_on, r.begun_on, r.withdrawn_on, r.ends_on) if d is not None}
    days |= {d for d, _ in ground.oils} | set(ground.renewals)
    it = _Course(ground)
    waiting: list[Said] = []
    never: list[Span] = []
    for day in sorted(days):
        for r in (x for x in rows if x.said_on == day):
            if not r.upholds:
                for w in [x for x in waiting if x.key < r.key and x.begun_on != day]:
                    waiting.remove(w)
                    never.append(_unbegun(w, day, LATER, r.key))
            if r.ahead:
                waiting.append(r)
        for w in list(waiting):
            why = WITHDRAWN if w.withdrawn_on is not None and w.withdrawn_on <= day else ground.gone_from(w, day)
            if why:
                waiting.remove(w)
                never.append(_unbegun(w, day, why, None))
        it.end_trial(day)
        starting = [r for r in rows if not r.ahead and r.on == day] + [w for w in waiting if _begins(w, day, it.now)]
        for r in sorted(starting, key=lambda r: r.key):
            it.begin(r, day, LATER)
        waiting = [w for w in waiting if w not in starting]
        it.hold_to_evidence(day)
    out = it.spans + ([it.now] if it.now is not None else []) + never
    out += [Span(key=w.key, origin=w.origin, value=w.value, start=w.on, state=WAITS) for w in waiting]
    return sorted(out, key=lambda s: s.start)


def _unbegun(row: Said, day: int, why: str, by: int | None) -> Span:
    return Span(key=row.key, origin=row.origin, value=row.value, start=row.on, end=day, state=NEVER, why=why, by=by)


def _begins(row: Said, day: int, now: Span | None) -> bool:
    """Whether what waits begins on a day: let by the guards, or no longer than what stands on the day it is for."""
    if row.begun_on is not None and row.begun_on >= row.on:
        return row.begun_on == day
    if row.on != day or row.value is None:
        return False
    return now is None or now.value is None or row.value <= now.value


def on_day(spans: Sequence[Span], day: int) -> Span | None:
    """What stands on a day; None where nothing does.

    >>> on_day(history([Said(key=1, on=5, said_on=5, origin=REGISTER, value=500)], Ground()), 4) is None
    True
    """
    found = [s for s in spans if s.state in (STANDS, STOOD) and s.start <= day and (s.end is None or day < s.end)]
    return found[-1] if found else None
