"""Levelling against every plan there is on small depots, and against what it must never do on any."""

import itertools
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vornet.core.errors import InputError
from vornet.core.level import CALM, Depot, Job, Plan, earliest_due_first, level, ways_out


def job(name, hours=5.0, earliest=0, latest=4, due=2.0, early=1.0, late=3.0, days=None, depot="Quay"):
    return Job(name, depot, hours, earliest, latest, due, early, late, days)


def fits(days, depots, jobs, placed):
    of = {j.id: j for j in jobs}
    for name, depot in depots.items():
        for d in range(days):
            here = [of[i] for i, at in placed.items() if at == d and of[i].depot == name]
            if sum(j.hours for j in here) > depot.hours[d] + 1e-9 or (depot.bays is not None and len(here) > depot.bays[d]):
                return False
    return all(d in of[i].may(days) for i, d in placed.items())


def best_there_is(days, depots, jobs):
    """By trying every plan."""
    best = (len(jobs) + 1, 0.0)
    for choice in itertools.product(*([None, *j.may(days)] for j in jobs)):
        placed = {j.id: d for j, d in zip(jobs, choice, strict=True) if d is not None}
        if fits(days, depots, jobs, placed):
            found = (len(jobs) - len(placed), sum(j.loss(placed[j.id]) for j in jobs if j.id in placed))
            best = min(best, found)
    return best


JOBS = st.lists(
    st.tuples(st.sampled_from([1.0, 2.5, 4.0, 2.6666668]), st.integers(-1, 3), st.integers(0, 4), st.integers(-1, 5),
              st.sampled_from([0.0, 0.5, 2.0]), st.sampled_from([0.0, 1.0, 4.0]), st.sampled_from(["Quay", "Town"])),
    max_size=5,
)  # fmt: skip


@settings(max_examples=60)
@given(JOBS, st.lists(st.sampled_from([0.0, 4.0, 8.0]), min_size=4, max_size=4), st.booleans())
def test_it_is_the_best_plan_there_is_on_every_small_depot(rows, hours, bays):
    jobs = [Job(str(i), depot, h, a, b, due, e, late) for i, (h, a, b, due, e, late, depot) in enumerate(rows)]
    depots = {"Quay": Depot(tuple(hours), (1, 2, 1, 2) if bays else None), "Town": Depot((8.0, 0.0, 4.0, 8.0))}
    found = level(4, depots, jobs)
    assert fits(4, depots, jobs, found.placed) and found.optimal
    unplaced, loss = best_there_is(4, depots, jobs)
    assert (len(found.unplaced), found.loss) == (unplaced, pytest.approx(loss, abs=1e-6))
    plain = earliest_due_first(4, depots, jobs)
    assert fits(4, depots, jobs, plain.placed)
    assert (len(found.unplaced), found.loss - 1e-6) <= (len(plain.unplaced), plain.loss)


def test_a_unit_is_in_one_place_at_a_time():
    two = [replace(job(n, hours=2.0, due=1.0), apart="MV One") for n in "ab"]
    found = level(5, {"Quay": Depot((8.0,) * 5)}, two)
    assert sorted(found.placed.values()) == [0, 1] and earliest_due_first(5, {"Quay": Depot((8.0,) * 5)}, two).placed == {"a": 1, "b": 0}
    assert level(1, {"Quay": Depot((8.0,))}, [replace(j, earliest=0) for j in two]).unplaced != ()


def test_hours_are_met_to_a_billionth():
    three = [job(n, 8 / 3 + 5e-8, 0, 0, 0) for n in "abc"]
    found = level(1, {"Quay": Depot((8.0,))}, three)
    assert len(found.placed) == 2
    exact = [job(n, 8 / 3, 0, 0, 0) for n in "abc"]
    assert len(level(1, {"Quay": Depot((8.0,))}, exact).placed) == 3


def test_of_plans_that_lose_hardly_more_the_one_with_the_fewest_moves():
    depots = {"Quay": Depot((10.0,) * 6)}
    jobs = [job(str(i), 5.0, 0, 5, 2.5, 0.01, 0.01) for i in range(6)]
    before = {str(i): i // 2 + 1 for i in range(6)}
    kept = level(6, depots, jobs, before)
    assert kept.placed == before
    more = level(6, depots, [*jobs, job("new", 5.0, 0, 5, 2.5, 0.01, 0.01)], before)
    assert len(more.placed) == 7 and sum(more.placed[i] != d for i, d in before.items()) <= 1
    least = level(6, depots, jobs)
    assert kept.loss <= least.loss * (1 + CALM) + 1e-6


def test_what_a_person_fixed_stays_where_it_is():
    found = level(5, {"Quay": Depot((8.0,) * 5)}, [job("fixed", days=(4,)), job("other"), job("third")])
    assert found.placed["fixed"] == 4


def test_what_could_not_be_placed_says_the_cheapest_way_out():
    depots = {"Quay": Depot((5.0, 5.0, 0.0, 8.0)), "Town": Depot((8.0,) * 4)}

    def way(jobs, placed):
        rest = tuple(j.id for j in jobs if j.id not in placed)
        return ways_out(4, depots, jobs, Plan(placed, rest, 0.0, True))[0]

    long = way([job("long", 6.0, 0, 0)], {})
    assert (long.kind, long.day, long.amount) == ("hours", 0, 1.0)
    late = way([job("a", 5.0, 0, 0), job("b", 5.0, 1, 1), job("late", 5.0, 0, 1)], {"a": 0, "b": 1})
    assert (late.kind, late.day) in (("hours", 0), ("depot", 0), ("later", 3)) and late.kind == "hours"
    none = way([job("never", 100.0, 0, 0, days=())], {})
    assert none.kind == "none"
    full = {"Quay": Depot((8.0,), (1,)), "Town": Depot((0.0,))}
    assert ways_out(1, full, [job("a", 2.0, 0, 0), job("b", 2.0, 0, 0)], Plan({"a": 0}, ("b",), 0.0, True))[0].kind == "bay"


@pytest.mark.parametrize(
    ("days", "depots", "jobs", "field"),
    [(2, {"Quay": Depot((8.0,))}, [], "depots.Quay.hours"), (1, {"Quay": Depot((8.0,), (1, 1))}, [], "depots.Quay.bays"),
     (1, {"Quay": Depot((8.0,))}, [job("a"), job("a")], "jobs[1].id"), (1, {}, [job("a")], "jobs[0].depot"),
     (1, {"Quay": Depot((8.0,))}, [job("a", early=-1.0)], "jobs[0].loss_early_per_day"), (-1, {}, [], "days")],
)  # fmt: skip
def test_what_cannot_be_levelled_is_named(days, depots, jobs, field):
    with pytest.raises(InputError) as wrong:
        level(days, depots, jobs)
    assert wrong.value.field == field


@pytest.mark.parametrize("jobs", [[], [job("a", days=())], [job("a", earliest=9, latest=12)], [job("a", earliest=3, latest=1)]])
def test_an_empty_window_is_one_without_a_day(jobs):
    found = level(2, {"Quay": Depot((8.0, 8.0))}, jobs)
    assert (found.placed, len(found.unplaced), found.loss, found.optimal) == ({}, len(jobs), 0.0, True)


def test_nothing_at_all():
    assert level(0, {}, []) == Plan({}, (), 0.0, True)
