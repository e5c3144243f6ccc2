"""New oil that nobody recorded: estimated once, from the past only, and used in starts, limits and decisions alike."""

from dataclasses import replace

import numpy as np
import pytest
import statsmodels.api as sm
from test_history_and_decide import history
from test_screening import fleet

from vornet.core import judge as j
from vornet.core.charges import as_known_now, cut
from vornet.core.decide import decide
from vornet.core.decision import Policy, Terms
from vornet.core.fresh import NOW, Fresh, Step
from vornet.core.history import part_of, rows_of
from vornet.core.limits import table
from vornet.core.measurands import COUNT, INDEX
from vornet.core.new_oil import effective_hours, intercept, with_estimates
from vornet.core.rates import stretch_rates
from vornet.core.screening import MeterPoints, screen
from vornet.words.say import say

OX, BN = INDEX["oxidation"], INDEX["bn"]


def gappy(seed=0, key="oxidation"):
    """A fleet of two families whose engine oil's record does not know one property."""
    made, at = fleet(seed)
    made.oils.new[0, INDEX[key]] = np.nan
    return made, at


def test_shared_intercept_and_its_error_are_those_of_clustered_least_squares():
    """Against statsmodels: least squares with one slope a compartment and cluster-robust errors by charge (Liang & Zeger)."""
    rng = np.random.default_rng(4)
    comp = np.repeat(np.arange(4), 20)
    charge = np.repeat(np.arange(40), 2)
    x = rng.uniform(50, 500, 80)
    y = 2.0 + np.array([0.002, 0.003, 0.001, 0.004])[comp] * x + rng.uniform(-0.1, 0.1, 80)  # nothing far out
    value, error = intercept(x, y, comp, charge)
    design = np.column_stack([np.ones(80), *(np.where(comp == c, x, 0.0) for c in range(4))])
    plain = sm.OLS(y, design).fit(cov_type="cluster", cov_kwds={"groups": charge, "use_correction": False})
    assert value == pytest.approx(plain.params[0], abs=0.3 * plain.bse[0])
    assert error == pytest.approx(plain.bse[0] * np.sqrt(40 / 39), rel=0.1)


def test_a_few_sick_samples_do_not_move_it():
    rng = np.random.default_rng(5)
    comp, charge = np.repeat(np.arange(4), 15), np.repeat(np.arange(60), 1)
    x = rng.uniform(50, 500, 60)
    y = 2.0 + 0.002 * x + rng.normal(0, 0.05, 60)
    y[[3, 20, 41]] += 5.0
    value, error = intercept(x, y, comp, charge)
    assert value == pytest.approx(2.0, abs=3 * error)
    assert error < 0.2


def test_of_samples_at_one_oil_age_it_cannot_be_told():
    x = np.full(30, 400.0)
    assert intercept(x, 3 + 0.001 * x, np.repeat([0, 1, 2], 10), np.arange(30))[1] == np.inf


def test_what_a_drain_left_behind_counts_as_hours_run_already():
    charges = cut(history())  # 4 L of 60 stay behind, every 500 h: f(H + fH + ...) as a series
    f = 4 / 60
    behind = effective_hours(charges)
    assert behind[3] == pytest.approx(f * (500 + f * (500 + f * 500)))


def test_it_is_found_and_known_from_a_day_on_only():
    made, _ = gappy()
    told = with_estimates(made)
    steps = [s for s in told.known.steps if s.measurand == OX and s.oil == 0]
    assert steps
    assert min(s.day for s in steps) > np.sort(made.samples.day)[8]  # ten samples first
    known = told.known.at(np.array([0, 0, 0]), np.array([0.0, steps[0].day, steps[0].day + 1]))
    assert np.isnan(known.value[:2, OX]).all()
    assert known.value[2, OX] == pytest.approx([s.value for s in steps if s.day == steps[0].day][-1])
    last = told.known.at(np.array([0]), NOW)
    assert last.value[0, OX] == pytest.approx(8.0, abs=3 * last.sd[0, OX])  # what these samples were made from


def test_later_samples_change_no_earlier_estimate_and_no_earlier_judgement():
    made, _ = gappy()
    day = float(np.quantile(made.samples.day, 0.7))
    rows = made.samples.day <= day
    early = replace(made, samples=rows_of(made.samples, rows))
    whole, part = with_estimates(made), with_estimates(early)
    assert [s for s in whole.known.steps if s.day < day] == [s for s in part.known.steps if s.day < day]
    proposals = [j.judge(h, cut(h), stretch_rates(h, cut(h)), table()).proposed for h in (whole, part)]
    assert (proposals[0][rows] == proposals[1]).all()


def test_one_figure_serves_starts_limits_and_deciding():
    made, _ = gappy()
    told = with_estimates(made)
    charges = cut(told)
    now = as_known_now(told, charges)
    value = told.known.at(np.array([0])).value[0, OX]
    engines = told.compartments.duty == 0
    running = now.first[engines] + np.bincount(now.comp)[engines] - 1
    assert not np.isnan(now.start[running, OX]).any()
    assert (now.start_sd[running, OX] > 0).all()
    judgement = j.judge(told, charges, stretch_rates(told, charges), table())
    last = np.flatnonzero(told.samples.comp == 0)[-1]
    at_day = told.known.at(np.array([0]), told.samples.day[[last]]).value[0, OX]
    assert judgement.past.limits["high"][0][last, OX] == pytest.approx(at_day + 20)
    terms = [Terms()] * len(told.compartments.duty)
    answer = next(p for p in decide(told, charges, judgement, table(), Policy(), terms)[0].properties if p.key == "oxidation")
    assert (answer.new_oil, answer.new_oil_estimated, answer.limit) == (pytest.approx(value), True, pytest.approx(value + 20))


def test_without_record_and_estimate_a_limit_above_new_does_not_speak():
    """A healthy oil with an acid number of its own, above what the limit adds to nothing: no Watch for life."""
    made, _ = fleet(1)
    gear = np.flatnonzero(made.compartments.duty == 2)
    made.oils.new[:, INDEX["an"]] = np.nan
    keep = np.zeros(len(made.compartments.duty), dtype=bool)
    keep[gear[:1]] = True
    alone, _ = part_of(made, keep)  # one compartment tells no new oil
    alone.samples.values[:, INDEX["an"]] = 2.4
    told = with_estimates(alone)
    charges = cut(told)
    judgement = j.judge(told, charges, stretch_rates(told, charges), table())
    assert not judgement.past.watch[:, INDEX["an"]].any()
    assert np.isnan(judgement.past.limits["high"][0][:, INDEX["an"]]).all()
    decision = decide(told, charges, judgement, table(), Policy(), [Terms()])[0]
    assert next(p for p in decision.properties if p.key == "an").state == "no_limit"
    assert (decision.next_sample.kind, "acid number" in say(decision.next_sample.fact)) == ("new_oil", True)


def test_an_estimated_limit_is_passed_only_beyond_its_own_error():
    made = history(last={"oxidation": 28.4})
    made.oils.new[0, OX] = np.nan
    fresh = Fresh(made.oils.new, (Step(0, OX, 0.0, 8.0, 0.5, True),))
    for sd, expected in ((0.2, True), (0.6, False)):
        told = replace(made, fresh=Fresh(made.oils.new, (replace(fresh.steps[0], sd=sd),)))
        charges = cut(told)
        assert j.judge(told, charges, stretch_rates(told, charges), table()).past.watch[-1, OX] == expected


def test_a_sample_of_new_oil_wins_over_an_estimate_and_a_record_over_both():
    blank = np.full((1, COUNT), np.nan)
    fresh = Fresh(blank, (Step(0, OX, 10.0, 7.0, 1.0, True), Step(0, OX, 20.0, 8.0, 0.5, False)))
    assert fresh.at(np.array([0, 0, 0]), np.array([10.0, 15.0, 25.0])).value[:, OX].tolist() == pytest.approx([np.nan, 7, 8], nan_ok=True)
    recorded = blank.copy()
    recorded[0, OX] = 9.0
    known = Fresh(recorded, fresh.steps).at(np.array([0]))
    assert (known.value[0, OX], known.estimated[0, OX]) == (9.0, False)


@pytest.mark.parametrize("value", [38.0, 50.0])
def test_oxidised_oil_is_not_taken_for_a_slip_of_the_decimal_point(value):
    made, at = gappy(2)
    made.samples.values[at[(0, 13)], OX] = value
    told = with_estimates(made)
    empty = MeterPoints(np.zeros(0, int), np.zeros(0), np.zeros(0))
    found = screen(told, cut(told), empty, np.arange(len(told.samples.comp)))
    assert not [f for f in found if f.reason == "unit_slip" and "xidation" in say(f.detail)]


def test_the_units_hundred_is_still_seen():
    made, at = fleet(2)
    i = at[(0, 13)]
    made.samples.values[i, OX] = round(made.samples.values[i, OX] / 100, 2)  # A/0.1 mm
    empty = MeterPoints(np.zeros(0, int), np.zeros(0), np.zeros(0))
    found = screen(made, cut(made), empty, np.arange(len(made.samples.comp)))
    assert any(f.sample == i and f.reason == "unit_slip" and "xidation" in say(f.detail) for f in found)
