"""What an interval costs, against closed forms and a general library: Weibull age replacement (Barlow & Hunter 1960) by numeric
integration and minimisation with scipy, the normal chance with scipy.stats, and one case by hand."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import integrate, optimize, stats

from vornet.core import money
from vornet.core.errors import InputError
from vornet.flows.calc import calculate

shapes = st.floats(1.2, 6)
scales = st.floats(50, 5000)
costs = st.tuples(st.floats(10, 1000), st.floats(1.5, 40))


def numeric_cost(shape, scale, planned, failure, t):
    life = stats.weibull_min(shape, scale=scale)
    run = integrate.quad(life.sf, 0, t, limit=200)[0]
    return (planned * life.sf(t) + failure * life.cdf(t)) / run


@given(shapes, scales, costs)
def test_the_best_age_is_where_a_general_minimiser_finds_it(shape, scale, cost):
    planned, failure = cost[0], cost[0] * cost[1]
    found = money.age_replacement(shape, scale, planned, failure)
    assert found.run_to_failure == pytest.approx(failure / stats.weibull_min(shape, scale=scale).mean(), rel=1e-9)
    if found.optimum_h > 3 * scale:  # all but run to failure: the numeric integral is flat there
        return
    assert found.cost_per_h == pytest.approx(numeric_cost(shape, scale, planned, failure, found.optimum_h), rel=1e-6)
    least = optimize.minimize_scalar(
        lambda t: numeric_cost(shape, scale, planned, failure, t), bounds=(found.optimum_h / 3, found.optimum_h * 3), method="bounded"
    )
    assert found.cost_per_h <= least.fun * (1 + 1e-6)
    assert found.optimum_h == pytest.approx(least.x, rel=0.02)


def test_a_shape_of_two_in_its_own_closed_form():
    """Rayleigh life: ∫₀ᵀR = scale·√π/2·erf(T/scale), from any table of integrals."""
    t = np.array([100.0, 400.0, 900.0])
    life = 1000 * math.sqrt(math.pi) / 2 * np.vectorize(math.erf)(t / 1000)
    survive = np.exp(-((t / 1000) ** 2))
    assert money.age_replacement_cost(2, 1000, 50, 500, t) == pytest.approx((50 * survive + 500 * (1 - survive)) / life, rel=1e-12)


def test_what_does_not_age_runs_to_failure():
    for shape, planned, failure in ((1.0, 10, 100), (0.7, 10, 100), (3.0, 100, 100), (3.0, 100, 50)):
        found = money.age_replacement(shape, 500, planned, failure)
        assert (found.optimum_h, found.cost_per_h) == (None, found.run_to_failure)
    # a constant hazard costs the same at every age beyond what planning adds: failure/scale + planned·R/∫R
    assert money.age_replacement(1.0, 500, 10, 100).run_to_failure == pytest.approx(0.2)


@given(st.floats(0.5, 20), st.floats(1e-4, 0.05), st.floats(0, 0.02), st.floats(1, 1e4), st.floats(0, 1e5))
def test_the_cheapest_interval_is_cheaper_than_every_other_on_a_fine_grid(margin, slope, sd, drain, consequence):
    chance = money.straight_chance(margin, slope, sd)
    found = money.cheapest(chance, drain, consequence, 50, 2000, also=[margin / slope])
    t = np.arange(50, 2000, 0.1)
    with np.errstate(divide="ignore"):
        past = stats.norm.cdf((slope * t - margin) / (sd * t)) if sd else (t * slope > margin).astype(float)
    costs = (drain + past * consequence) / t
    assert found.cost <= costs.min() * (1 + 1e-9)
    assert 50 <= found.hours <= 2000


def test_by_hand():
    """BN from 10 to 3.3, 0.0091 ± 0.0009 per h: at 736.3 h the mean meets the limit, so half of all charges are past it."""
    answer = calculate("interval-cost", {
        "start": 10, "limit": 3.3, "slope_mean_per_h": -0.0091, "slope_sd_per_h": 0.0009, "drain_cost": 600, "consequence": 6000,
        "from_h": 100, "to_h": 1500, "hours": [300, 6.7 / 0.0091],
    })  # fmt: skip
    assert answer["at"][0] == {"h": 300, "chance": pytest.approx(0, abs=1e-9), "cost_per_h": pytest.approx(2.0)}
    assert answer["at"][1]["chance"] == pytest.approx(0.5)
    assert answer["at"][1]["cost_per_h"] == pytest.approx(3600 / 736.2637, rel=1e-6)
    assert 500 < answer["cheapest_h"] < 650


STEP = {"start": 0, "limit": 10, "slope_mean_per_h": 0.02, "slope_sd_per_h": 0, "drain_cost": 100, "consequence": 1000}


def test_a_line_without_scatter_is_a_step():
    answer = calculate("interval-cost", {**STEP, "from_h": 100, "to_h": 900, "hours": [500, 500.1]})
    assert answer["cheapest_h"] == pytest.approx(500)
    assert [a["chance"] for a in answer["at"]] == [0, 1]


def test_the_calendar_ends_what_the_meter_would_let_run():
    answer = calculate("interval-cost", {**STEP, "from_h": 100, "to_h": 900, "calendar_h": 300, "hours": [200, 300, 700]})
    assert answer["cheapest_h"] == 300  # of equals the shortest
    assert [round(a["cost_per_h"], 9) for a in answer["at"]] == [0.5, round(1 / 3, 9), round(1 / 3, 9)]


def test_a_start_past_its_limit_is_past_it_everywhere():
    answer = calculate("interval-cost", {**STEP, "start": 10, "side": "high", "from_h": 100, "to_h": 900, "hours": [1, 900]})
    assert [a["chance"] for a in answer["at"]] == [1, 1]
    assert answer["cheapest_h"] == 900
    low = calculate("interval-cost", {**STEP, "start": 2, "limit": 3, "side": "low", "from_h": 100, "to_h": 900, "hours": [100]})
    assert low["at"][0]["chance"] == 1  # two is below three already


def test_what_gets_better_is_never_past_and_runs_as_long_as_it_may():
    answer = calculate("interval-cost", {**STEP, "slope_mean_per_h": -0.02, "side": "high", "from_h": 100, "to_h": 900, "hours": [800]})
    assert (answer["cheapest_h"], answer["at"][0]["chance"]) == (900, 0)


WRONG = [
    ({"from_h": 900, "to_h": 100}, "to_h"),
    ({"from_h": 0, "to_h": 100}, "from_h"), ({"from_h": 1, "to_h": 9, "drain_cost": -1}, "drain_cost"),
    ({"from_h": 1, "to_h": 9, "slope_sd_per_h": -1}, "slope_sd_per_h"), ({"from_h": 1, "to_h": 9, "hours": [0]}, "hours"),
    ({"from_h": 1, "to_h": 9, "drain_cost": "12 crowns"}, "drain_cost"), ({"from_h": 1, "to_h": 9, "side": "up"}, "side"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "field"), WRONG)
def test_what_cannot_be_is_said_by_its_field(more, field):
    with pytest.raises(InputError) as refused:
        calculate("interval-cost", {**STEP, **more})
    assert refused.value.field.startswith(field)


def test_empty_lists_give_empty_answers():
    assert calculate("interval-cost", {**STEP, "from_h": 100, "to_h": 900})["at"] == []
    assert calculate("age-replacement", {"shape": 2, "scale_h": 100, "planned_cost": 1, "failure_cost": 9})["at"] == []
