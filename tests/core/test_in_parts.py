"""A fleet worked in parts answers as the whole does; medians and packed slopes against plain computations."""

import math
from dataclasses import fields

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_screening import fleet

from vornet.core import judge as j
from vornet.core.charges import cut
from vornet.core.decide import decide
from vornet.core.decision import Policy, Terms, charge_slopes_of
from vornet.core.expected import medians
from vornet.core.history import part_of
from vornet.core.limits import table
from vornet.core.measurands import INDEX
from vornet.core.new_oil import with_estimates
from vornet.core.paths import BATCH_SPREAD
from vornet.core.precision import BETWEEN_DATES
from vornet.core.rates import stretch_rates
from vornet.core.seen import nothing_seen


def worked(history, only=None):
    charges = cut(history)
    rates = stretch_rates(history, charges)
    judgement = j.judge(history, charges, rates, table(), nothing_seen(len(history.samples.comp)))
    terms = [Terms(cap=1000.0)] * len(history.compartments.duty)
    return judgement, decide(history, charges, judgement, table(), Policy(), terms, only=only)


@pytest.mark.parametrize("seed", range(3))
def test_families_worked_apart_answer_as_the_whole_does(seed):
    history, _ = fleet(seed)
    judgement, decisions = worked(history)
    for family in (0, 1):
        keep = history.compartments.family == family
        part, rows = part_of(history, keep)
        assert part.compartments.family.max() == 0
        own, answers = worked(part)
        assert (own.proposed == judgement.proposed[rows]).all()
        np.testing.assert_allclose(own.diagnosis.score, judgement.diagnosis.score[rows])
        assert answers == [d for d, mine in zip(decisions, keep, strict=True) if mine]


def test_a_part_keeps_its_own_rows_and_numbers_them_anew():
    history, at = fleet(0, engines=2, gears=2)
    keep = np.array([False, True, False, True])
    part, rows = part_of(history, keep)
    assert sorted(set(part.samples.comp.tolist())) == [0, 1]
    assert (np.flatnonzero(rows)[part.samples.comp == 0] == [at[(1, k)] for k in range(15)]).all()
    assert np.array_equal(part.samples.values, history.samples.values[rows], equal_nan=True)
    assert len(part.drains.comp) == 16
    assert part.samples.stood is None
    assert part.compartments.evaporates is None and part.compartments.limit_row is None
    for name in (f.name for f in fields(part.compartments) if f.name not in ("evaporates", "limit_row")):
        assert len(getattr(part.compartments, name)) == 2, name


def test_decisions_of_some_are_those_of_all():
    history, _ = fleet(1)
    _, decisions = worked(history)
    _, some = worked(history, only=[4, 0])
    assert some == [decisions[4], decisions[0]]


def test_slopes_kept_beside_a_decision_are_those_of_its_charges():
    history, at = fleet(2)
    _, decisions = worked(history)
    rows = [s for s in decisions[0].charge_slopes() if s.key == "bn"]
    charges = cut(history)
    assert [s.charge for s in rows] == list(range(1, 9))
    first = rows[0]
    own = [at[(0, 0)], at[(0, 1)]]
    h, y = charges.oil_hours[own], history.samples.values[own, INDEX["bn"]]
    start = charges.start[charges.charge_of[own[0]], INDEX["bn"]]
    assert first.start == pytest.approx(start, rel=1e-6)
    # generalised least squares (Aitken) through the start, whose own error all samples of the charge share
    sd = BETWEEN_DATES * history.precision.columns_sd(y[:, None], ["bn"])[:, 0]
    shared = charges.start_sd[charges.charge_of[own[0]], INDEX["bn"]] ** 2 + (BATCH_SPREAD * 10.0) ** 2
    inverse = np.linalg.inv(np.diag(sd**2) + shared)
    assert first.slope == pytest.approx(h @ inverse @ (y - start) / (h @ inverse @ h), rel=1e-4)
    assert first.se == pytest.approx((h @ inverse @ h) ** -0.5, rel=1e-4)
    assert (first.samples, first.used) == (2, True)
    assert charge_slopes_of(b"") == []
    used = [s.slope for s in rows if s.used]
    answer = next(p for p in decisions[0].properties if p.key == "bn")
    assert answer.n == len(used)
    assert min(used) <= answer.mean_slope <= max(used)


def test_an_oil_without_figures_of_its_own_is_read_off_its_samples():
    history, _ = fleet(0)
    history.oils.new[0, INDEX["oxidation"]] = math.nan
    known = with_estimates(history).known.at(np.array([0, 2]))
    assert known.estimated[0, INDEX["oxidation"]]
    assert known.value[0, INDEX["oxidation"]] == pytest.approx(8.0, abs=1.5)  # what the samples were made from, carry-over apart
    assert not known.estimated[1].any()  # an oil in nobody's sump stays as it is


@given(st.data())
def test_medians_are_numpys(data):
    rows = data.draw(st.integers(0, 60))
    groups = data.draw(st.integers(1, 6))
    seed = data.draw(st.integers(0, 10_000))
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(rows, 3))
    x[rng.random(x.shape) < data.draw(st.sampled_from([0.0, 0.3, 0.9]))] = np.nan
    group = rng.integers(0, groups, rows)
    got, number = medians(x, group, groups)
    for g in range(groups):
        for k in range(3):
            mine = x[group == g, k]
            mine = mine[~np.isnan(mine)]
            assert number[g, k] == len(mine)
            assert math.isnan(got[g, k]) if not len(mine) else got[g, k] == np.median(mine)
