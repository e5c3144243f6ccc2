"""A year under Vornet against the maker's interval and the house rule, on fleets whose truth is known (the longer run is `make bench`'s)."""

import numpy as np
import pytest

from vornet.sim import ageing, interval_year
from vornet.sim.ageing import Cell


@pytest.fixture(scope="module")
def played():
    return interval_year.play(Cell(5, 5, 1.0, 1.0), 907, 100)


@pytest.mark.slow
def test_who_could_run_longer_does_and_hardly_an_hour_is_past_watch(played):
    assert (played.truly >= 1.3 * ageing.INTERVAL).sum() > 10
    assert played.longer >= 0.8
    assert played.past_watch <= 0.05
    assert played.past_watch < played.maker.past_watch.sum() / played.maker.hours.sum()


@pytest.mark.slow
def test_the_truth_is_the_same_for_all_three(played):
    assert played.maker.per_year(played.maker.drains) == pytest.approx(8.0)
    assert played.house.per_year(played.house.drains) == pytest.approx(16.0)
    # half the hours of a charge, half the chance to be past: never more
    assert (played.house.past_watch <= played.maker.past_watch + 1e-9).all()
    again = interval_year.fixed(ageing.make(Cell(5, 5, 1.0, 1.0), 100, 907), 907, ageing.INTERVAL)
    assert np.array_equal(again.past_watch, played.maker.past_watch)


@pytest.mark.slow
def test_what_must_be_shorter_is(played):
    short = played.truly < 0.8 * ageing.INTERVAL
    assert short.any() and np.median(played.vornet.interval[short]) < ageing.INTERVAL
