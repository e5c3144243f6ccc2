"""What falls due put together into visits: when joining wins and when it loses, and that it never makes anything late."""

import itertools
import math
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import crew, kept_plan, kit
from vornet.core.errors import InputError
from vornet.core.visits import (
    GRACE_DAYS,
    LATE,
    Task,
    before_lay_up,
    best_day,
    bottle_window,
    drain_window,
    item_window,
    join,
)

TODAY = 1000


def keys(visits):
    return [[t.key for t in v.tasks] for v in visits]


def drain(key, due, worth=5.0, life=100.0, hours=2.0, earliest=None, latest=None):
    return Task(key, hours, due, math.floor(due - 25) if earliest is None else earliest, due if latest is None else latest, worth, life, 1.0)


# ---- joining ---------------------------------------------------------------------------------------------------
def test_joining_wins_where_the_oil_lost_is_less_than_a_visit():
    """10 days of a 100-day life of 5 h: half an hour, against the hour and a half that a visit of its own takes."""
    [visit] = join([drain("port", 1040), drain("starboard", 1050)], set_up=0.5, visit_worth=1.0)
    assert keys([visit]) == [["port", "starboard"]]
    assert (visit.cost, visit.saved, visit.hours) == (pytest.approx(0.5), 1.5, 4.5)


def test_joining_loses_where_the_oil_lost_is_more():
    """20 days of a 60-day life worth 12 h are four hours of it: two visits."""
    one, two = join([drain("port", 1040), drain("starboard", 1060, worth=12.0, life=60.0, earliest=1030)], set_up=0.5, visit_worth=1.0)
    assert keys([one, two]) == [["port"], ["starboard"]] and one.cost == two.cost == 0 == two.saved


def test_a_visit_saved_is_no_reason_to_run_oil_past_its_day():
    """Past due and to be done today; the other thing's window opens in five days: they are not put together, however cheap it were."""
    past = Task("past", 2.0, TODAY, TODAY, TODAY + GRACE_DAYS, 0.1, 400.0, 1.2)
    later = Task("later", 0.5, TODAY + 12, TODAY + 5, TODAY + 20, 0.5, 100.0)
    assert keys(join([past, later], visit_worth=50.0)) == [["past"], ["later"]]
    soon = Task("soon", 0.5, TODAY + 12, TODAY, TODAY + 20, 0.5, 100.0)
    assert keys(join([past, soon], visit_worth=50.0)) == [["past", "soon"]]
    # a unit that is away until then has no other choice
    assert keys(join([past, later], days=[TODAY + 6, TODAY + 7], visit_worth=50.0)) == [["past", "later"]]


@given(
    st.lists(st.tuples(st.integers(0, 40), st.integers(5, 200), st.floats(0.5, 20), st.integers(0, 6)), min_size=1, max_size=6),
    st.floats(0, 4), st.one_of(st.none(), st.sets(st.integers(TODAY, TODAY + 60), min_size=1, max_size=12)),
)  # fmt: skip
def test_joined_visits_cost_least_of_all_cuts_and_make_nothing_later(rows, worth, there):
    """Against every way to cut the things, in the order they fall due, into visits."""
    tasks = [Task(f"t{i}", 1.0, TODAY + due, TODAY + max(due - life // 4, 0), TODAY + due + slack, w, life)
             for i, (due, life, w, slack) in enumerate(rows)]  # fmt: skip
    days = None if there is None else sorted(there)
    found = join(tasks, days=days, set_up=0.5, visit_worth=worth)
    assert sorted(t.key for v in found for t in v.tasks) == sorted(t.key for t in tasks)
    inside = sorted(tasks, key=lambda t: (t.due, t.key))

    def cost(groups):
        out = 0.0
        for g in groups:
            at = best_day(g, days)
            if at is None and len(g) > 1:
                return math.inf
            out += 0.5 + worth + (at[1] if at else 0.0)
        return out

    cuts = range(1, len(inside))
    ways = (c for n in range(len(inside)) for c in itertools.combinations(cuts, n))
    least = min(cost([inside[a:b] for a, b in itertools.pairwise((0, *c, len(inside)))]) for c in ways)
    assert cost([v.tasks for v in found]) == pytest.approx(least, abs=1e-9)
    for v in found:
        at = best_day(v.tasks, days)
        if len(v.tasks) > 1:
            assert at is not None and all(at[0] <= t.last_of(days) for t in v.tasks)


def test_no_visit_is_longer_than_a_day_holds():
    assert all(v.hours <= 4.5 for v in join([drain(str(i), 1040) for i in range(5)], most_hours=4.5))
    [alone] = join([drain("long", 1040, hours=9.0)], most_hours=4.5)
    assert alone.hours == 9.5  # it is one thing: it cannot be cut


# ---- windows ---------------------------------------------------------------------------------------------------
@given(st.integers(-60, 200), st.integers(5, 700), st.one_of(st.none(), st.integers(-30, 300)), st.one_of(st.none(), st.integers(-30, 300)))
def test_no_window_of_a_drain_ends_behind_its_safe_life_or_its_cap(due, life, safe, hard):
    """Nothing in the dangerous direction: what is past is due today; else the last day is inside every end that is known."""
    found = drain_window(
        TODAY + due, life, TODAY, safe_day=None if safe is None else TODAY + safe, hard_day=None if hard is None else TODAY + hard
    )
    ends = [TODAY + x for x in (due, safe, hard) if x is not None]
    assert TODAY <= found.earliest <= found.latest
    if min(ends) < TODAY:
        assert (found.due, found.earliest, found.why) == (TODAY, TODAY, "past")
        return
    assert found.due == min(ends) and found.earliest <= found.due <= found.latest
    assert safe is None or found.latest <= TODAY + safe
    assert hard is None or found.latest <= TODAY + hard
    assert safe is not None or found.latest == found.due  # no safe hours: not a day past the approved interval


def test_what_runs_late_costs_more_than_what_is_early():
    t = drain("x", 1040)
    assert t.loss(1039) == pytest.approx(0.05) and t.loss(1041) == pytest.approx(LATE * 0.05)
    assert t.share(1040) == 1.0 and t.share(1020) == pytest.approx(0.8)


def test_windows_of_items_and_bottles_stand_around_their_day():
    assert (item_window(1100, 40, TODAY).earliest, item_window(1100, 40, TODAY).latest) == (1090, 1104)
    assert bottle_window(1010, 4.6, TODAY).latest == 1014 and bottle_window(990, 4.6, TODAY).why == "past"
    assert before_lay_up(1080, (1040, 1100)) == 1039


# ---- crew ------------------------------------------------------------------------------------------------------
def test_ten_two_hour_jobs_that_took_three_plan_the_next_at_more_than_two_point_seven():
    learned = crew.factors([crew.Took({"engine": 2.0}, 3.0)] * 10)
    assert crew.hours_of("engine", {}, learned) >= 2.7
    assert crew.hours_of("engine", {}, {}) == crew.USUAL_H["engine"] and crew.hours_of("engine", {"engine": 4.0}, {}) == 4.0


def test_one_job_that_was_left_open_overnight_does_not_plan_the_next_at_a_day():
    assert crew.factors([crew.Took({"engine": 2.0}, 26.0)])["engine"] < 2


@pytest.mark.parametrize(
    ("rule", "field"),
    [({"kind": "weekdays", "weekdays": []}, "weekdays"), ({"kind": "rotation", "there": 0, "away": 3, "anchor": "2026-01-05"}, "there"),
     ({"kind": "rotation", "there": 2, "away": 3, "anchor": "soon"}, "anchor"), ({"kind": "days", "days": ["2026-02-30"]}, "days"),
     ({"kind": "moon"}, "kind"), ({"kind": "days", "days": ["2026-01-05"] * 2001}, "days")],
)  # fmt: skip
def test_a_rota_that_cannot_be_is_refused_by_field(rule, field):
    with pytest.raises(InputError) as wrong:
        crew.rota_of(rule)
    assert wrong.value.field == field


def test_rotas_name_their_days():
    monday = date(2026, 1, 5).toordinal()
    rota = crew.rota_of({"kind": "rotation", "there": 2, "away": 5, "anchor": "2026-01-06"})
    assert [d - monday for d in rota.among(monday, 14)] == [1, 2, 8, 9]
    assert [d - monday for d in crew.rota_of({"kind": "weekdays", "weekdays": [5, 0]}).among(monday, 8)] == [0, 5, 7]
    assert [d - monday for d in crew.rota_of({"kind": "days", "days": ["2026-01-07"]}).among(monday, 8)] == [2]


def test_a_holiday_has_no_hours_and_the_weekdays_bays_go_on():
    week = crew.Week((8,) * 5 + (0, 0), (2,) * 7, {10: (0.0, None), 11: (12.0, 5)})
    assert (week.on(10), week.on(11), week.on(1)) == ((0.0, 2), (12.0, 5), (8, 2))


# ---- kit and stock ---------------------------------------------------------------------------------------------
def test_oil_in_packs_says_what_stays_in_the_last():
    assert kit.packs(40, 20) == kit.Packs(20, 2, 0) and kit.packs(40.0000000001, 20).packs == 2
    assert kit.packs(56, 20) == kit.Packs(20, 3, 4)


def test_wrenches_cover_every_torque():
    asked = [(65, 80), (24, 28), (45, 55), (190, 260)]
    found = kit.wrenches(asked)
    assert all(any(a <= low and high <= b for a, b in found) for low, high in asked) and len(found) == 2


def test_what_a_kit_holds_is_the_registers():
    document = {"oil": "Test 15W-40", "capacity_l": 55, "filters": [{"part": "F-1", "count": 2, "approved": ["G-1"], "barred": ["G-2"]}],
                "seals": [{"place": "plug", "part": "CW-26", "kind": "washer"}, {"place": "cap", "part": "O-9", "single_use": False}],
                "drain_points": [{"place": "sump", "wrench": "27 mm", "torque_min_nm": 65, "torque_max_nm": 80}], "fill_method": "pump",
                "fill_points": [{"place": "cover", "size": "M30"}]}  # fmt: skip
    found = {t.name: t for t in kit.things(document, True)}
    assert {n: t.amount for n, t in found.items()} == {"oil Test 15W-40": 55, "F-1": 2, "washer CW-26": 1, kit.BOTTLE_THING: 1}
    assert (found["F-1"].instead, found["F-1"].never) == (("G-1",), ("G-2",))
    assert kit.tools(document) == ["fill plug key M30", "filter wrench", "pump", "socket 27 mm"]
    assert [t.name for t in kit.things(document, True, "sample")] == [kit.BOTTLE_THING]


def test_what_is_missing_is_said_before_it_is():
    found = kit.outlook(5, [kit.Use(1010, 4, "a"), kit.Use(1003, 2, "b"), kit.Use(1005, 1, "c")], TODAY, 7)
    assert (found.runs_out, found.short, found.waits, found.order_by, found.too_late) == (1010, 2, ("a",), 1003, False)
    late = kit.outlook(1, [kit.Use(1003, 2, "b")], TODAY, 7)
    assert (late.too_late, late.order_by) == (True, TODAY)
    assert kit.outlook(5, [], TODAY, 7).order == 0


# ---- looked back on --------------------------------------------------------------------------------------------
def test_early_late_and_not_done_cost_what_they_cost():
    early = kept_plan.kept(100, 96, 120, 110, 70, 35)
    assert (early.word, early.days, early.unused_l, early.over_l) == ("early", -4, 7.0, 0.0)
    late = kept_plan.kept(100, 117, 120, 110, 70, 35)
    assert (late.word, late.days, late.unused_l, late.over_l) == ("late", 17, 0.0, 3.5)
    assert kept_plan.kept(125, None, 120, 130, 70, 35) == kept_plan.Kept("open", None, 0.0, 0.0)
