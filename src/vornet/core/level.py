"""Levelling: visits on days, so that as few as can be stay without one, and as little oil life as can be is lost.

An integer programme solved by HiGHS. A day of a depot holds so many crew hours and, where it counts them, so many bays; a job takes one
bay for the whole day. First as few unplaced as can be, then the least loss; where a plan stands already, the one with the fewest moves
among those within CALM of the least loss.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError

#: a calmer plan may lose so much more, as a share of the least loss
CALM = 0.02
#: sums of hours are met to this, h; rows are scaled so that the solver's own tolerance is finer
EXACT, SCALE = 1e-9, 1000.0
#: s of the clock for one levelling, and how much of it the calmer plan may take
SECONDS, CALM_SHARE = 60.0, 0.4
#: plans that the solver's tolerance let pass are cut away so many times at most
MOST_CUTS = 200


@dataclass(frozen=True)
class Depot:
    """``hours`` and ``bays`` of each day (None: bays are not counted)."""

    hours: tuple[float, ...]
    bays: tuple[int, ...] | None = None


@dataclass(frozen=True)
class Job:
    """A visit: where, how long (h), between which days (both counted), when it would be due, what each day before and behind that loses,
    and the only days it may be on (None: any in its window). ``beside``: (due, early, late) of what else is done in the visit;
    ``apart``: jobs of one such name are never on one day (a unit is in one place at a time; '' none)."""

    id: str
    depot: str
    hours: float
    earliest: int
    latest: int
    due: float
    loss_early: float
    loss_late: float
    days: tuple[int, ...] | None = None
    beside: tuple[tuple[float, float, float], ...] = ()
    apart: str = ""

    def loss(self, day: int) -> float:
        """What is lost on a day.

        >>> Job("a", "Quay", 2, 0, 9, 5, 1.0, 3.0).loss(7)
        6.0
        """
        all_of = ((self.due, self.loss_early, self.loss_late), *self.beside)
        return sum(early * max(due - day, 0.0) + late * max(day - due, 0.0) for due, early, late in all_of)

    def may(self, days: int) -> list[int]:
        """Days it may be on, of 0 … days − 1."""
        window = range(max(self.earliest, 0), min(self.latest, days - 1) + 1)
        return [d for d in window if self.days is None or d in self.days]


@dataclass(frozen=True)
class Plan:
    """``placed``: day by job id; ``optimal`` False where a time limit was hit."""

    placed: dict[str, int]
    unplaced: tuple[str, ...]
    loss: float
    optimal: bool


def checked(days: int, depots: Mapping[str, Depot], jobs: Sequence[Job]) -> None:
    """Raise InputError by field for what cannot be levelled."""
    if days < 0:
        raise InputError("days", "is below zero")
    for name, depot in depots.items():
        for what, row in (("hours", depot.hours), ("bays", depot.bays)):
            if row is not None and len(row) != days:
                raise InputError(f"depots.{name}.{what}", f"has {len(row)} days of {days}")
            if row is not None and any(x < 0 for x in row):
                raise InputError(f"depots.{name}.{what}", "is below zero")
    seen: set[str] = set()
    for i, job in enumerate(jobs):
        if job.id in seen:
            raise InputError(f"jobs[{i}].id", f"{job.id!r} is there twice")
        seen.add(job.id)
        if job.depot not in depots:
            raise InputError(f"jobs[{i}].depot", f"there is no depot {job.depot!r}")
        if job.hours < 0:
            raise InputError(f"jobs[{i}].hours", "is below zero")
        for name, loss in (("loss_early_per_day", job.loss_early), ("loss_late_per_day", job.loss_late)):
            if loss < 0:
                raise InputError(f"jobs[{i}].{name}", "is below zero: waiting never wins back oil life")


class _Programme:
    """The integer programme: a column a job and day that it may be on."""

    def __init__(self, days: int, depots: Mapping[str, Depot], jobs: Sequence[Job], every: bool = False) -> None:
        """``every``: every job gets a day, or there is no plan."""
        self.days, self.depots, self.jobs = days, depots, jobs
        self.at = [(j, d) for j, job in enumerate(jobs) for d in job.may(days)]
        self.loss = np.array([jobs[j].loss(d) for j, d in self.at])
        self.rows: list[tuple[np.ndarray, np.ndarray, float, float]] = []  # columns, factors, low, high
        of_job: dict[int, list[int]] = {}
        of_day: dict[tuple[str, int], list[int]] = {}
        of_unit: dict[tuple[str, int], list[int]] = {}
        for k, (j, d) in enumerate(self.at):
            of_job.setdefault(j, []).append(k)
            of_day.setdefault((jobs[j].depot, d), []).append(k)
            if jobs[j].apart:
                of_unit.setdefault((jobs[j].apart, d), []).append(k)
        for columns in of_job.values():
            self.add(np.array(columns), np.ones(len(columns)), 1.0 if every else -np.inf, 1.0)
        for columns in of_unit.values():
            if len(columns) > 1:
                self.add(np.array(columns), np.ones(len(columns)), -np.inf, 1.0)
        for (name, d), columns in of_day.items():
            depot, each = depots[name], np.array([jobs[self.at[k][0]].hours for k in columns])
            if each.sum() > depot.hours[d]:
                self.add(np.array(columns), each * SCALE, -np.inf, depot.hours[d] * SCALE)
            if depot.bays is not None and len(columns) > depot.bays[d]:
                self.add(np.array(columns), np.ones(len(columns)), -np.inf, float(depot.bays[d]))

    def add(self, columns: np.ndarray, factors: np.ndarray, low: float, high: float) -> None:
        self.rows.append((columns, factors, low, high))

    def solve(self, cost: np.ndarray, until: float) -> tuple[np.ndarray | None, bool]:
        """(chosen columns as 0 and 1, whether that is proven the least) by a moment of the clock; None where none was found in time."""
        from scipy import optimize, sparse

        for _ in range(MOST_CUTS):
            left = until - time.monotonic()
            if left <= 0:
                return None, False
            place = np.concatenate([np.full(len(c), i) for i, (c, *_) in enumerate(self.rows)]) if self.rows else np.zeros(0, dtype=int)
            columns = np.concatenate([c for c, *_ in self.rows]) if self.rows else np.zeros(0, dtype=int)
            factors = np.concatenate([f for _, f, *_ in self.rows]) if self.rows else np.zeros(0)
            matrix = sparse.csr_array((factors, (place, columns)), shape=(len(self.rows), len(self.at)))
            limits = optimize.LinearConstraint(matrix, [r[2] for r in self.rows], [r[3] for r in self.rows])
            found = optimize.milp(
                cost, integrality=np.ones(len(self.at)), bounds=optimize.Bounds(0, 1), constraints=limits if self.rows else None,
                options={"time_limit": left, "mip_rel_gap": 0.0},
            )  # fmt: skip
            if found.x is None:
                return None, False
            x = np.round(found.x)
            if not self._cut_away(x):
                return x, found.status == 0
        return None, False

    def _cut_away(self, x: np.ndarray) -> bool:
        """Whether a day holds more than it may by more than EXACT (the solver's tolerance let it pass): that choice is forbidden then."""
        over = False
        held: dict[tuple[str, int], list[int]] = {}
        for k in np.flatnonzero(x).tolist():
            j, d = self.at[k]
            held.setdefault((self.jobs[j].depot, d), []).append(k)
        for (name, d), columns in held.items():
            if sum(self.jobs[self.at[k][0]].hours for k in columns) > self.depots[name].hours[d] + EXACT:
                self.add(np.array(columns), np.ones(len(columns)), -np.inf, float(len(columns) - 1))
                over = True
        return over


def level(
    days: int, depots: Mapping[str, Depot], jobs: Sequence[Job], standing: Mapping[str, int] | None = None, seconds: float = SECONDS
) -> Plan:  # fmt: skip
    """Place jobs on days. ``standing``: the plan that stands (day by id); then the calmest of the plans that lose hardly more. Depots share
    nothing and are levelled one by one. Raises InputError."""
    checked(days, depots, jobs)
    until = time.monotonic() + seconds
    mine = {name: [j for j in jobs if j.depot == name] for name in depots}
    todo = sorted((name for name in mine if mine[name]), key=lambda name: len(mine[name]))
    placed: dict[str, int] = {}
    loss, optimal = 0.0, True
    for i, name in enumerate(todo):
        share = (until - time.monotonic()) * len(mine[name]) / sum(len(mine[n]) for n in todo[i:])
        found = _one_depot(days, {name: depots[name]}, mine[name], standing, max(share, 0.5))
        placed |= found.placed
        loss, optimal = loss + found.loss, optimal and found.optimal
    return Plan(placed, tuple(j.id for j in jobs if j.id not in placed), loss, optimal)


def _one_depot(days: int, depots: Mapping[str, Depot], jobs: Sequence[Job], standing: Mapping[str, int] | None, seconds: float) -> Plan:
    began = time.monotonic()
    p = _Programme(days, depots, jobs)
    if not p.at:
        return Plan({}, tuple(j.id for j in jobs), 0.0, True)
    # a job without a day weighs more than everything that days can lose: as few as can be come first
    most: dict[int, float] = {}
    for (j, _), x in zip(p.at, p.loss.tolist(), strict=True):
        most[j] = max(most.get(j, 0.0), x)
    weight = 1.0 + sum(most.values())
    plain = _greedy(p)
    until = began + seconds * (1 - CALM_SHARE if standing else 1.0)
    found, proven = None, False
    if len(most) == len(jobs):  # mostly everybody can have a day, and that is found much sooner
        found, proven = _Programme(days, depots, jobs, every=True).solve(p.loss, began + 0.6 * (until - began))
    if found is None:
        found, proven = p.solve(p.loss - weight, until)
    chosen = plain if found is None or (p.loss - weight) @ plain < (p.loss - weight) @ found else found
    if standing and proven:
        p.add(np.arange(len(p.at)), np.ones(len(p.at)), float(chosen.sum()), np.inf)
        p.add(np.arange(len(p.at)), p.loss, -np.inf, float(p.loss @ chosen) * (1 + CALM) + 1e-6)
        stays = np.array([0.0 if standing.get(jobs[j].id, d) == d else 1.0 for j, d in p.at])
        # fewest moves; among those the least loss, which counts for less than a move
        calm, _ = p.solve(stays + 0.5 * p.loss / max(float(np.abs(p.loss).sum()), 1e-9), began + seconds)
        chosen = chosen if calm is None else calm
    placed = {jobs[p.at[k][0]].id: p.at[k][1] for k in np.flatnonzero(chosen).tolist()}
    return Plan(placed, tuple(j.id for j in jobs if j.id not in placed), float(p.loss @ chosen), proven)


def _greedy(p: _Programme) -> np.ndarray:
    """Earliest due first, each on the day that loses least of those with room: what one has when time is up, and what plans are compared
    with."""
    x = np.zeros(len(p.at))
    by_job: dict[int, list[int]] = {}
    for k, (j, _) in enumerate(p.at):
        by_job.setdefault(j, []).append(k)
    hours: dict[tuple[str, int], float] = {}
    count: dict[tuple[str, int], int] = {}
    taken: set[tuple[str, int]] = set()
    for j in sorted(by_job, key=lambda j: (p.jobs[j].due, p.jobs[j].latest)):
        job = p.jobs[j]
        depot = p.depots[job.depot]
        for k in sorted(by_job[j], key=lambda k: (p.loss[k], p.at[k][1])):
            day = (job.depot, p.at[k][1])
            room = hours.get(day, 0.0) + job.hours <= depot.hours[day[1]] + EXACT and (job.apart, day[1]) not in taken
            if room and (depot.bays is None or count.get(day, 0) < depot.bays[day[1]]):
                x[k] = 1.0
                hours[day], count[day] = hours.get(day, 0.0) + job.hours, count.get(day, 0) + 1
                if job.apart:
                    taken.add((job.apart, day[1]))
                break
    return x


def earliest_due_first(days: int, depots: Mapping[str, Depot], jobs: Sequence[Job]) -> Plan:
    """The plan that a list sorted by due day gives."""
    p = _Programme(days, depots, jobs)
    x = _greedy(p)
    placed = {jobs[p.at[k][0]].id: p.at[k][1] for k in np.flatnonzero(x).tolist()}
    return Plan(placed, tuple(j.id for j in jobs if j.id not in placed), float(p.loss @ x) if len(p.at) else 0.0, False)


@dataclass(frozen=True)
class WayOut:
    """How a job without a day could get one: ``kind`` hours (so many more on ``day``), bay (one more on ``day``), later or earlier (on
    ``day``, outside its window), depot (at ``depot`` on ``day``), or none; ``cost``: hours of crew, or oil life lost."""

    job: str
    kind: str
    day: int | None = None
    amount: float = 0.0
    depot: str = ""


def ways_out(days: int, depots: Mapping[str, Depot], jobs: Sequence[Job], plan: Plan) -> list[WayOut]:
    """For each job without a day the cheapest way to one: the fewest hours more of a crew, or the nearest day outside its window with room,
    or another depot; whichever asks for less, hours before days before depots."""
    used: dict[tuple[str, int], float] = {}
    count: dict[tuple[str, int], int] = {}
    of = {j.id: j for j in jobs}
    for name, day in plan.placed.items():
        key = (of[name].depot, day)
        used[key], count[key] = used.get(key, 0.0) + of[name].hours, count.get(key, 0) + 1

    def lacks(depot: str, day: int, hours: float) -> tuple[float, bool]:
        d = depots[depot]
        return (max(used.get((depot, day), 0.0) + hours - d.hours[day], 0.0),
                d.bays is not None and count.get((depot, day), 0) >= d.bays[day])  # fmt: skip

    out = []
    for name in plan.unplaced:
        job = of[name]
        found: list[tuple[float, WayOut]] = []
        for day in job.may(days):
            more, bay = lacks(job.depot, day, job.hours)
            open_day = depots[job.depot].hours[day] > 0
            if more > EXACT and not bay:  # a crew that is there may stay longer; one that is not has to come
                found.append(((1.0 if open_day else 2.0) * more, WayOut(name, "hours", day, more)))
            elif bay and more <= EXACT:
                found.append((job.hours, WayOut(name, "bay", day, 1.0)))
        outside = [d for d in range(days) if d not in job.may(days) and (job.days is None or d in job.days)
                   and lacks(job.depot, d, job.hours) == (0.0, False)]  # fmt: skip
        for day in outside:
            away = day - job.latest if day > job.latest else job.earliest - day
            found.append((4.0 * away, WayOut(name, "later" if day > job.latest else "earlier", day, float(away))))
        for other in depots:
            for day in job.may(days) if other != job.depot else ():
                if lacks(other, day, job.hours) == (0.0, False):
                    found.append((6.0, WayOut(name, "depot", day, 0.0, other)))
                    break
        out.append(min(found, key=lambda f: (f[0], f[1].day or 0))[1] if found else WayOut(name, "none"))
    return out
