"""Is what is proposed safe in truth? Simulated families of known ageing, decided from their bottles; a short form of what
`make bench` prints cell by cell."""

import numpy as np
import pytest
from scipy import stats

from vornet.sim import ageing, interval_trial
from vornet.sim.interval_trial import Cell

pytestmark = pytest.mark.slow

SEED = 3301  # nothing was set on it


@pytest.fixture(scope="module")
def found():
    cells = (Cell(1, 5, 0.5, 1.0), Cell(5, 5, 1.0, 1.0), Cell(5, 3, 1.0, 2.0), Cell(1, 5, 1.0, 1.5), Cell(5, 10, 1.0, 1.0, "drift"),
             Cell(1, 10, 1.0, 1.0, "oil"), Cell(1, 5, 1.0, 1.0, "censored"))  # fmt: skip
    return [interval_trial.run(cell, SEED, 150, 3) for cell in cells]


def test_the_chance_of_being_past_a_limit_stays_what_was_promised(found):
    for f in found:
        assert f.proposals >= 100, f.cell
        assert f.mean_chance <= 0.06, f.cell
        assert f.wrongly <= 0.10, f.cell


def test_caution_does_not_eat_up_what_the_oil_allows(found):
    straight = next(f for f in found if f.held_to)
    assert straight.close >= 0.75
    assert straight.rightly >= 0.8


def test_the_gain_of_a_charge_is_the_integral_it_says():
    """Against scipy's quadrature of the same integral."""
    from scipy import integrate

    for x, p, u in ((1.0, 1.0, 0.0), (1.2, 2.0, 0.15), (0.7, 1.5, 0.2)):
        whole = integrate.quad(lambda s, x=x, p=p, u=u: np.exp(-u * (x - s)) * p * s ** (p - 1), 0, x)[0]
        assert ageing.gain(np.array([x]), np.array([p]), np.array([u]))[0] == pytest.approx(whole, rel=1e-6)


def test_the_truth_of_one_plain_property_is_the_normal_one():
    """One property, no make-up, nothing left behind, a log-normal pace: the closed form of its chance (scipy.stats)."""
    made = ageing.make(Cell(1, 2, 1.0, 1.0), 40, 5)
    way = np.full((40, len(ageing.KEYS)), np.inf)
    way[:, 0] = 5.0
    plain = ageing.Made(made.history, np.full((40, len(ageing.KEYS)), 3.5), way, np.full(40, 0.1), np.zeros(40), np.zeros(40),
                        np.ones((40, len(ageing.KEYS))))  # fmt: skip
    hours = np.full(40, 640.0)
    expected = stats.norm.sf(np.log(5.0 / (3.5 * 640 / 500)) / 0.1)
    assert plain.chance(hours, ageing.futures(1))[0] == pytest.approx(expected, abs=0.04)  # of 400 draws
