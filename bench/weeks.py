"""Levelling against a list sorted by due day, against every plan there is, and against the clock; a large fleet's month and its page."""

from __future__ import annotations

import itertools
import statistics
import time

import numpy as np

from vornet.core.level import Depot, Job, earliest_due_first, level
from vornet.flows.judge.settle import settling
from vornet.flows.weeks import levelling


def depot_of(rng: np.random.Generator, days: int, jobs: int, name: str = "Quay") -> tuple[dict[str, Depot], list[Job]]:
    """A depot that could just do its jobs, if they fell due evenly; they do not."""
    hours = rng.choice([1.0, 1.5, 2.0, 2.5, 4.0], jobs)
    open_days = np.array([d % 7 < 5 for d in range(days)])
    a_day = float(np.ceil(hours.sum() / open_days.sum() * rng.uniform(0.95, 1.3)))
    due = rng.integers(0, days, jobs)
    made = []
    for i, (h, at) in enumerate(zip(hours, due, strict=True)):
        before, after = int(rng.integers(2, 15)), int(rng.integers(0, 8))
        early = float(rng.uniform(0.02, 0.4))
        there = None if rng.random() < 0.7 else tuple(int(d) for d in range(days) if (d + i) % 7 < 3)
        made.append(Job(f"{name} {i}", name, float(h), int(at) - before, int(at) + after, float(at), early, 3 * early, there))
    return {name: Depot(tuple(np.where(open_days, max(a_day, 4.0), 0.0)))}, made


def brute(days: int, depots: dict[str, Depot], jobs: list[Job]) -> tuple[int, float]:
    """The best there is, by trying everything."""
    best = (len(jobs) + 1, 0.0)
    depot = next(iter(depots.values()))
    for choice in itertools.product(*([None, *j.may(days)] for j in jobs)):
        used = [0.0] * days
        for j, d in zip(jobs, choice, strict=True):
            if d is not None:
                used[d] += j.hours
        if all(u <= h + 1e-9 for u, h in zip(used, depot.hours, strict=True)):
            placed = [(j, d) for j, d in zip(jobs, choice, strict=True) if d is not None]
            best = min(best, (len(jobs) - len(placed), sum(j.loss(d) for j, d in placed)))
    return best


def compare(depots: int = 200, small: int = 60) -> bool:
    """False where a plan is worse than the sorted list's, or than the best there is."""
    rng = np.random.default_rng(15)
    worse, gained, placed = 0, [], [0, 0]
    for _ in range(depots):
        where, jobs = depot_of(rng, 28, int(rng.integers(10, 45)))
        ours, plain = level(28, where, jobs, seconds=20), earliest_due_first(28, where, jobs)
        worse += (len(ours.unplaced), ours.loss - 1e-6) > (len(plain.unplaced), plain.loss)
        placed = [placed[0] + len(ours.placed), placed[1] + len(plain.placed)]
        if len(ours.unplaced) == len(plain.unplaced) and plain.loss > 0:
            gained.append(1 - ours.loss / plain.loss)
    print(f"plans of {depots} random depots worse than earliest due first: {worse} (asked 0); placed {placed[0]} against {placed[1]}; where "
          f"both place as many, {100 * statistics.median(gained):.0f} % less oil life lost (median)")  # fmt: skip
    different = 0
    for _ in range(small):
        where, jobs = depot_of(rng, 5, 5)
        found, best = level(5, where, jobs), brute(5, where, jobs)
        different += (len(found.unplaced), round(found.loss, 6)) != (best[0], round(best[1], 6))
    print(f"plans of {small} small depots that are not the best there is: {different} (asked 0)")
    return worse == 0 and different == 0


def clock() -> bool:
    """Four weeks of 200 jobs over three depots, and 1,000 jobs; False when slower than asked."""
    fine = True
    for jobs, depots, days, asked in ((200, 3, 28, 10), (1000, 6, 28, 60), (1000, 6, 91, 60)):
        rng = np.random.default_rng(jobs + days)
        where, all_jobs = {}, []
        for d in range(depots):
            one, mine = depot_of(rng, days, jobs // depots, f"D{d}")
            where |= one
            all_jobs += mine
        began = time.perf_counter()
        found = level(days, where, all_jobs, seconds=50)
        took = time.perf_counter() - began
        print(f"{jobs} jobs, {depots} depots, {days} days: {took:.1f} s (asked {asked}), {len(found.unplaced)} without a day, "
              f"{'proven the least' if found.optimal else 'a good plan, not proven'}")  # fmt: skip
        fine &= took <= asked
    return fine


def month(db, fleet_id: int, today) -> float:
    """A month of a large fleet worked out and taken; s."""
    began = time.perf_counter()
    with settling(db, fleet_id, today) as c:
        number = levelling.ask(c, fleet_id, today, 28, "bench")
    levelling.work_out(db, fleet_id, number)
    with settling(db, fleet_id, today) as c:
        found = levelling.proposal(c, number)
        levelling.accept(c, fleet_id, number, "bench", today)
    sums = found["plan"]["sums"]
    print(f"a month of the large fleet: {sums['visits']} visits, {found['plan']['unplaced']} without a day, "
          f"{time.perf_counter() - began:.1f} s")  # fmt: skip
    return time.perf_counter() - began
