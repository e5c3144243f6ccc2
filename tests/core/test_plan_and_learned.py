"""When service items are due, what drives them; what pourings and levels teach."""

from datetime import date

import numpy as np
import pytest
from scipy import stats

from vornet.core import due, learned, plan
from vornet.core.errors import InputError

TODAY = date(2026, 1, 15).toordinal()


def due_of(item, last=None, total=2300.0, rate=3.0, **more):
    return plan.item_due(item, last, 0.0, total, TODAY, rate, TODAY, **more)


def test_whichever_comes_first_drives():
    item = plan.Item(every_meter=500, every_days=100)
    by_meter = due_of(item, plan.Last(TODAY - 10, 2250.0))
    assert (by_meter.driver, by_meter.rest, by_meter.day) == ("meter", 450.0, TODAY + 150) or by_meter.driver == "calendar"
    assert due_of(item, plan.Last(TODAY - 10, 2250.0)).day == TODAY + 90
    fast = due_of(item, plan.Last(TODAY - 10, 2250.0), rate=30)
    assert (fast.driver, fast.total, fast.day) == ("meter", 2750.0, TODAY + 15)


def test_a_unit_that_stands_is_due_by_calendar_only():
    found = due_of(plan.Item(every_meter=500, every_days=365), plan.Last(TODAY - 100, 2250.0), rate=0.0)
    assert (found.driver, found.day) == ("calendar", TODAY + 265)
    alone = due_of(plan.Item(every_meter=500), plan.Last(TODAY - 100, 2250.0), rate=0.0)
    assert (alone.driver, alone.day, alone.rest) == ("meter", None, 450.0)


def test_break_in_comes_early_and_only_once():
    item = plan.Item(every_meter=2000, first_meter=250)
    first = due_of(item, total=180.0)
    assert (first.driver, first.total, first.rest) == ("break-in", 250.0, 70.0)
    assert due_of(item, plan.Last(TODAY - 5, 260.0), total=300.0).total == 2260.0


def test_every_second_drain_counts_drains_since():
    item = plan.Item(every_nth=2, nth_of="oil drain")
    base = plan.Base(0, 2500.0, TODAY + 66.0, 500.0, 365.0)
    later = due_of(item, plan.Last(TODAY - 40, 2100.0), base=base)
    assert (later.total, later.driver) == (3000.0, "every 2nd oil drain")
    assert later.day == pytest.approx(TODAY + 66 + 500 / 3)
    now = due_of(item, plan.Last(TODAY - 400, 1400.0), base=plan.Base(1, 2500.0, TODAY + 66.0, 500.0, 365.0))
    assert (now.total, now.day) == (2500.0, TODAY + 66.0)


def test_seasons_come_round():
    october = (10, 31)
    assert plan.next_season(*october, None, TODAY) == date(2026, 10, 31).toordinal()
    late = date(2025, 11, 20).toordinal()  # done after the day: for the next one it is too early still
    assert plan.next_season(*october, late, TODAY) == date(2026, 10, 31).toordinal()
    forgotten = date(2024, 10, 20).toordinal()
    assert plan.next_season(*october, forgotten, TODAY) == date(2025, 10, 31).toordinal()
    assert plan.next_season(2, 29, None, TODAY) == date(2026, 2, 28).toordinal()


def test_condition_and_no_record():
    assert due_of(plan.Item(condition=True)).driver == "condition"
    assert due_of(plan.Item(condition=True), out_of_tolerance=True) == plan.ItemDue(None, TODAY, "out of tolerance")
    assert due_of(plan.Item(every_days=30)).driver == "no record yet"


def test_tolerances_of_figures_and_choices():
    assert plan.within(800.0, 780, 860, ())
    assert not plan.within(870.0, 780, 860, ())
    assert plan.within(-40.0, None, -20, ())
    assert not plan.within("cracked", None, None, ("sound",))
    assert plan.within("anything", None, None, ())
    assert [plan.ordinal_word(n) for n in (2, 3, 4, 11, 21)] == ["2nd", "3rd", "4th", "11th", "21st"]


def test_marks_are_the_slope_through_the_origin():
    """Against scipy's least squares through the origin, and Student's t of its standard error."""
    rng = np.random.default_rng(3)
    change = rng.uniform(0.2, 1.0, 9)
    litres = 1.4 * change + 0.05 * rng.standard_normal(9)
    got = learned.between_marks([learned.ToppedUp(v, 0.0, c) for v, c in zip(litres, change, strict=True)])
    slope = float(np.linalg.lstsq(change[:, None], litres, rcond=None)[0][0])
    rest = litres - slope * change
    se = np.sqrt(rest @ rest / 8 / (change @ change))
    assert got.value == pytest.approx(slope)
    assert got.high - got.value == pytest.approx(stats.t.ppf(0.975, 8) * se)
    assert got.low < 1.4 < got.high


def test_capacity_makes_up_for_the_level_found():
    pours = [learned.Pouring(27.0, 0.5), learned.Pouring(28.1, 1.0), learned.Pouring(27.5, 0.75), learned.Pouring(40, None, False)]
    got = learned.capacity(pours, 2.0, True)
    assert got.n == 3
    assert got.value == pytest.approx((28.0 + 28.1 + 28.0) / 3)
    assert learned.capacity(pours, 2.0, False) is None  # one refill without a filter is too few


def test_one_slip_of_the_pen_does_not_move_a_capacity():
    pours = [learned.Pouring(28 + 0.1 * (i % 3)) for i in range(8)]
    slipped = learned.capacity([*pours, learned.Pouring(282.0)], 1.0, True)
    assert slipped.value == pytest.approx(learned.capacity(pours, 1.0, True).value)


def test_only_what_would_be_seen_is_doubted():
    pours = [learned.Pouring(28 + 0.05 * (i % 3)) for i in range(9)]
    assert learned.doubts(28.2, None, None, pours, []) == []  # outside the band, but nobody would see it
    found = learned.doubts(24.0, None, None, pours, [])
    assert [(d.field, d.said) for d in found] == [("capacity_l", 24.0)]
    assert learned.doubts(24.0, None, None, pours[:2], []) == []


def test_forecast_follows_sens_slope_and_its_band_holds_it():
    """Due day and, inside the band, its 90 % interval of the slope alone against scipy.stats.theilslopes (Sen 1968)."""
    days = np.arange(0, 84, 7.0) + 739000
    totals = 5000 + 9 * (days - days[0]) + np.array([0, 5, -4, 9, 2, -6, 4, 1, -3, 7, 0, 2])
    got = due.forecast(days, totals, 4900, 738990, 1200, 365)
    band = stats.theilslopes(totals[-8:], days[-8:], alpha=0.90)
    rest = 6100 - totals[-1]
    assert got.due_total == 6100
    assert got.due_day == int(days[-1] + rest / band.slope)
    assert got.earliest <= int(days[-1] + rest / band.high_slope)  # future use comes on top of the slope's error
    assert got.latest >= int(days[-1] + rest / band.low_slope)
    assert got.latest - got.earliest < 0.5 * (got.due_day - days[-1])


def test_forecast_is_capped_by_the_calendar():
    days, totals = np.array([739000.0, 739010, 739020]), np.array([100.0, 101, 102])
    got = due.forecast(days, totals, 90, 738990, 500, 90)
    assert (got.driver, got.due_day, got.latest) == ("calendar", 739080, 739080)
    stands = due.forecast(days, np.array([100.0, 100, 100]), 90, 738990, 500, None)
    assert (stands.due_day, stands.earliest, stands.driver) == (None, None, "meter")
    with pytest.raises(InputError, match="never comes due"):
        due.forecast(days, totals, 90, 738990, None, None)
