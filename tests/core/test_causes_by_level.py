"""Causes that are there by level, and what a young history may say: worn-out additive, acid over base, first stretches."""

import numpy as np
import pytest
from test_history_and_decide import history

from vornet.core import judge as j
from vornet.core.causes import CAUSES
from vornet.core.charges import cut
from vornet.core.diagnose import OWN_STRETCHES, PROBABLE, STRONG
from vornet.core.limits import table
from vornet.core.measurands import INDEX
from vornet.core.rates import stretch_rates
from vornet.words.say import each

KEYS = [c.key for c in CAUSES]


def judged(h):
    charges = cut(h)
    rates = stretch_rates(h, charges)
    return j.judge(h, charges, rates, table()), rates


def strength(judgement, key, i=-1):
    return int(judgement.diagnosis.strength[i, KEYS.index(key)])


@pytest.mark.parametrize(
    ("last", "expected", "verdict"),
    [({"bn": 7.0}, 0, j.RUN_ON), ({"bn": 4.7}, PROBABLE, j.WATCH), ({"bn": 3.9, "an": 3.0}, STRONG, j.ACT),
     ({"bn": 3.6, "an": 5.4}, STRONG, j.ACT)],
)  # fmt: skip
def test_an_additive_worn_out_at_its_usual_pace_is_named(last, expected, verdict):
    """Long charges whose base number ends past its limit, charge after charge: nothing departs from the usual, and yet it is spent."""
    h = history(charges=7, bn_loss=10 - last["bn"])
    for key, value in last.items():
        h.samples.values[:, INDEX[key]] = value
    judgement, _ = judged(h)
    assert strength(judgement, "spent_additive") == expected
    assert judgement.proposed[-1] == verdict
    if expected:
        from vornet.core.diagnose import evidence_of

        said = each(evidence_of(judgement.diagnosis, KEYS.index("spent_additive"), 6))
        assert any("ase number past its watch limit" in text for text in said)


@pytest.mark.parametrize(("duty", "expected"), [(0, j.ACT), (2, j.RUN_ON), (3, j.RUN_ON)])
def test_acid_over_base_is_an_engine_rule_only(duty, expected):
    h = history(charges=7)
    h.compartments.duty[:] = duty
    values = h.samples.values
    values[:, :] = np.nan
    values[:, INDEX["bn"]], values[:, INDEX["an"]], values[:, INDEX["fe"]] = 1.0, 2.2, 12.0
    h.oils.new[0, INDEX["bn"]], h.oils.new[0, INDEX["an"]] = 1.1, 2.0
    if duty == 0:
        values[:, INDEX["bn"]] = 0.9
    judgement, _ = judged(h)
    assert judgement.proposed[-1] == expected
    assert judgement.an_above_bn[-1] == (duty == 0)


@pytest.mark.parametrize("charges", [4, 9])
def test_the_first_stretches_say_probable_at_most(charges):
    h = history(charges=charges, last={"na": 90.0, "k": 40.0, "water_ppm": 900.0})
    judgement, _ = judged(h)
    own = charges - 1
    assert strength(judgement, "coolant") == (STRONG if own >= OWN_STRETCHES else PROBABLE)


def test_an_act_that_no_cause_explains_says_so():
    h = history(charges=7, last={"v100": 10.9})
    judgement, rates = judged(h)
    if (judgement.diagnosis.strength[-1] >= PROBABLE).any():
        pytest.fail("this history was made to fit no cause")
    assert judgement.proposed[-1] == j.ACT
    assert any(text.startswith("No cause fits: viscosity 100 °C") for text in each(j.evidence(h, judgement, rates, 6)))
