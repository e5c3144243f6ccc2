"""What is known of a meter: points that count once, recent use, the latest figure, and one that was read off the others."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core.meter_points import Points, read_off, standing, with_samples
from vornet.core.proposed_drains import Drawn, proposed_drains

NAN = float("nan")


def points(*rows):
    meter, day, total = zip(*rows, strict=True) if rows else ((), (), ())
    return Points(np.array(meter, dtype=np.int64), np.array(day, dtype=np.int64), np.array(total, dtype=float))


# ---- where meters stand ------------------------------------------------------------------------------------------------
def test_what_is_on_record_twice_counts_once_and_in_order():
    got = standing(points((7, 20, 200), (7, 10, 100), (7, 20, 200), (9, 15, 50)), np.array([9, 7, 7, 4]))
    assert got.points.meter.tolist() == [0, 1, 1, 2, 2]  # compartments; the last one's meter was never read
    assert got.points.day.tolist() == [15, 10, 20, 10, 20]
    assert got.points.total.tolist() == [50, 100, 200, 100, 200]
    assert got.total.tolist()[:3] == [50, 200, 200]
    assert got.day.tolist()[:3] == [15, 20, 20]
    assert np.isnan([got.total[3], got.day[3], got.per_day[3]]).all()


def test_two_figures_of_one_day_are_both_kept():
    got = standing(points((7, 20, 200), (7, 20, 210)), np.array([7]))
    assert got.points.total.tolist() == [200, 210]
    assert (got.total[0], got.day[0]) == (210, 20)


def test_recent_use_is_one_meter_s_for_all_on_it():
    got = standing(points(*((7, 100 + d, 500 + 6 * d) for d in range(0, 60, 10))), np.array([7, 7]))
    assert got.per_day.tolist() == pytest.approx([6, 6])


def test_nothing_on_record_is_nothing_known():
    got = standing(points(), np.array([1, 2]))
    assert len(got.points.day) == 0
    assert np.isnan(got.total).all()


@pytest.fixture
def read():
    """A unit that runs 10 h a day, read last on day 100 at 1,000 h."""
    return standing(points(*((1, day, 10.0 * day) for day in range(40, 101, 10))), np.array([1]))


@pytest.mark.parametrize(
    ("day", "total", "latest"),
    [
        (110, 1090, 1090),  # as it usually runs
        (110, 1300, 1300),  # three times as much, once
        (110, 1301, 1000),  # more than that is not believed
        (110, 999, 1000),  # nor what goes back
        (100, 1005, 1000),  # nor what is of the same day
        (99, 1090, 1000),
        (131, 1400, 1000),  # tomorrow's is not known yet
        (130, NAN, 1000),
    ],
)
def test_a_believable_sample_is_a_reading_too(read, day, total, latest):
    got = with_samples(read, np.array([0]), np.array([day]), np.array([total]), today=130)
    assert got.total[0] == latest
    assert got.day[0] == (day if latest != 1000 else 100)
    assert read.total[0] == 1000  # what was handed over is as it was


def test_a_unit_that_hardly_runs_may_run_the_clock_round():
    idle = standing(points((1, 10, 100), (1, 100, 101)), np.array([1]))
    assert with_samples(idle, np.array([0]), np.array([102]), np.array([149.0]), 130).total[0] == 149
    assert with_samples(idle, np.array([0]), np.array([102]), np.array([149.5]), 130).total[0] == 101


def test_only_the_newest_sample_is_asked(read):
    got = with_samples(read, np.array([0, 0]), np.array([110, 112]), np.array([1090.0, 500.0]), 130)
    assert got.total[0] == 1000  # the newest goes back; the one before it says nothing any more


def test_a_meter_never_read_takes_the_sample_s_word():
    got = with_samples(standing(points(), np.array([1])), np.array([0]), np.array([5]), np.array([77.0]), 130)
    assert (got.total[0], got.day[0]) == (77, 5)


# ---- a figure nobody wrote down -----------------------------------------------------------------------------------------
def test_a_missing_figure_is_read_off_the_readings_around_its_day():
    known = points((1, 10, 100), (1, 20, 200), (2, 10, 0))
    meter, day = np.array([1, 1, 1, 2, 1]), np.array([15, 9, 21, 10, 12])
    total = np.array([NAN, NAN, NAN, NAN, 5.0])
    got = read_off(known, meter, day, total, np.array([True, True, True, True, False]))
    assert got[0] == 150
    assert np.isnan(got[1:4]).all()  # outside the readings, or of one reading only
    assert got[4] == 5
    assert np.isnan(total[0])


@given(st.lists(st.integers(0, 400), min_size=2, max_size=8, unique=True), st.integers(0, 400))
def test_what_is_read_off_lies_between_its_neighbours(days, day):
    known = points(*((1, d, 3.0 * d) for d in days))
    got = read_off(known, np.array([1]), np.array([day]), np.array([NAN]), np.array([True]))[0]
    inside = min(days) <= day <= max(days)
    assert got == pytest.approx(3.0 * day) if inside else np.isnan(got)


# ---- drains that samples speak of ---------------------------------------------------------------------------------------
def drawn(*rows):
    comp, day, total, hours, drained = zip(*rows, strict=True)
    return Drawn(np.array(comp), np.array(day), np.array(total, dtype=float), np.array(hours, dtype=float), np.array(drained, dtype=bool))


def proposed(samples, *drains, interval=500.0, count=2):
    comp, day = zip(*drains, strict=True) if drains else ((), ())
    return [tuple(p) for p in proposed_drains(np.array(comp, int), np.array(day, int), samples, np.full(count, interval))]


@pytest.mark.parametrize(("on", "there"), [(100, True), (97, True), (103, True), (96, False), (104, False)])
def test_a_sample_drawn_at_a_drain_nobody_recorded_proposes_it(on, there):
    assert proposed(drawn((0, 100, 500, 500, True)), (0, on)) == ([] if there else [(0, 100, 500)])


def test_another_compartment_s_drain_is_not_this_one_s():
    assert proposed(drawn((0, 100, 500, 500, True)), (1, 100)) == [(0, 100, 500)]


def test_two_samples_of_one_drain_propose_it_once():
    assert proposed(drawn((0, 100, 500, 500, True), (0, 102, 503, 503, True))) == [(0, 100, 500)]


def test_a_compartment_without_any_drain_takes_its_fills_from_the_oil_hours():
    rows = drawn((0, 100, 1000, 200, False), (0, 130, 1200, 400, False), (0, 160, 1400, 50, False))
    assert proposed(rows) == [(0, 99, 800), (0, 159, 1350)]


@pytest.mark.parametrize(("hours", "fills"), [(181, [(0, 99, 800)]), (174, [(0, 99, 800), (0, 129, 826)])])
def test_oil_hours_that_differ_a_little_tell_no_new_fill(hours, fills):
    """25 h of a 500 h interval lie within what people write down."""
    assert proposed(drawn((0, 100, 1000, 200, False), (0, 130, 1000, hours, False))) == fills


def test_without_an_interval_twenty_hours_are_slack():
    rows = drawn((0, 100, 1000, 200, False), (0, 130, 1000, 179, False))
    assert proposed(rows, interval=NAN) == [(0, 99, 800), (0, 129, 821)]
    assert proposed(drawn((0, 100, 1000, 200, False), (0, 130, 1000, 181, False)), interval=NAN) == [(0, 99, 800)]


def test_a_fill_is_never_before_the_sample_that_the_old_oil_was_in():
    rows = drawn((0, 100, 1000, 200, False), (0, 101, 1100, 10, False), (0, 101, 1200, 5, False))
    assert proposed(rows) == [(0, 99, 800), (0, 100, 1090), (0, 101, 1195)]


@pytest.mark.parametrize(("total", "hours"), [(NAN, 200), (1000, NAN), (1000, 0)])
def test_what_the_label_does_not_say_proposes_nothing(total, hours):
    assert proposed(drawn((0, 100, total, hours, False))) == []
