"""The ledger where things fall together: at the fill, two in one hour, and how sure a stretch is. Closed forms of the mass balance."""

import math

import pytest

from vornet.core.ledger import LevelCheck, PartChange, Point, TopUp, trace, wear_rate

V, RHO = 40.0, 0.87


def line(hours, top_ups=(), **more):
    [(a, b)] = trace(V, 8.0, 2.0, [hours], list(top_ups), density_kg_l=RHO, **more)
    return a, b


def test_what_is_poured_at_the_fill_belongs_to_it():
    assert line(300, [TopUp(0.0, 5.0)]) == line(300)
    assert line(300, level_checks=[LevelCheck(0.0, 3.0)]) == line(300)
    # a part change at the fill does take oil out and brings new in
    a, b = line(300, part_changes=[PartChange(0.0, 10.0, 10.0)])
    assert (a, b) == pytest.approx((300 / (RHO * V), 8.0 * 0.75 + 2.0 * 0.25))


def test_two_top_ups_of_one_hour_are_one():
    assert line(300, [TopUp(100, 2), TopUp(100, 3)]) == pytest.approx(line(300, [TopUp(100, 5)]))
    assert line(300, [TopUp(100, 2), TopUp(100, 3)]) != pytest.approx(line(300, [TopUp(100, 5), TopUp(200, 5)]))


def test_a_level_read_before_it_is_made_up_in_the_same_hour_says_the_same_loss():
    """5 L low and 5 L poured: as the top-up alone tells it."""
    assert line(300, [TopUp(100, 5)], level_checks=[LevelCheck(100, 5.0)]) == pytest.approx(line(300, [TopUp(100, 5)]))


def test_a_part_change_comes_before_a_top_up_of_its_hour():
    """10 L out with their metal, 10 L poured at the same hour: no loss of the engine, a quarter of the oil is new."""
    a, b = line(200, [TopUp(100, 10)], part_changes=[PartChange(100, 10.0, 0.0)])
    assert a == pytest.approx(100 / (RHO * V) * 0.75 + 100 / (RHO * V))
    assert b == pytest.approx(8.0 * 0.75 + 2.0 * 0.25)


def test_two_part_changes_of_one_hour_follow_one_another():
    a, b = line(200, part_changes=[PartChange(100, 10.0, 10.0), PartChange(100, 20.0, 20.0)])
    keep = 0.75 * 0.5
    assert (a, b) == pytest.approx((100 / (RHO * V) * (keep + 1), 8.0 * keep + 2.0 * (1 - keep)))


def test_a_sample_comes_before_what_is_done_in_its_hour():
    [(a, b), _] = trace(V, 8.0, 2.0, [100.0, 200.0], [], density_kg_l=RHO, part_changes=[PartChange(100.0, 20.0, 20.0)])
    assert (a, b) == pytest.approx((100 / (RHO * V), 8.0))


def test_how_sure_a_stretch_is():
    """The first from the fill, known, the next from a measured value: the errors of both, over what a mg/h comes to."""
    found = wear_rate(V, 8.0, 2.0, [Point(100, 20.0, 1.0), Point(250, 41.0, 2.0)], density_kg_l=RHO)
    a1, a2 = 100 / (RHO * V), 150 / (RHO * V)
    assert [s.se_mg_h for s in found.stretches] == pytest.approx([1.0 / a1, math.hypot(2.0, 1.0) / a2])
    assert [s.rate_mg_h for s in found.stretches] == pytest.approx([12.0 / a1, 21.0 / a2])
    assert found.se_mg_h == pytest.approx((a1**2 / 1.0 + (a1 + a2) ** 2 / 4.0) ** -0.5)
    assert [s.se_mg_h for s in wear_rate(V, 8.0, 2.0, [Point(100, 20.0)], density_kg_l=RHO).stretches] == [None]
