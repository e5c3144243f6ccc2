"""Policies: the nearest says each rule, what cannot be and what cannot be together is refused in words, and each compartment is decided
by its own."""

from dataclasses import replace

import numpy as np
import pytest
from test_decide_with_causes import judged
from test_outcome import answer, case, decided, guard, reason
from test_screening import fleet

from vornet.core.decide import decide
from vornet.core.decision import HOLD, LENGTHEN, SHORTEN, Policy, Terms
from vornet.core.errors import InputError
from vornet.core.limits import table
from vornet.core.policy import RULES, checked, contradictions, nearest
from vornet.words.say import say


def test_the_nearest_says_each_rule_and_the_page_can_say_who():
    policy, where = nearest({
        "fleet": {"confidence": 0.9, "step_h": 50.0, "limit": "act"}, "duty": {"step_h": 100.0}, "family": {"confidence": 0.99},
        "unit": {"run_on_needed": 5},
    })  # fmt: skip
    assert (policy.confidence, policy.step_h, policy.limit, policy.run_on_needed) == (0.99, 100.0, "act", 5)
    assert {k: w.scope for k, w in where.items() if w.scope} == {
        "confidence": "family", "step_h": "duty", "limit": "fleet", "run_on_needed": "unit",
    }  # fmt: skip
    assert nearest({})[0] == Policy()


TOGETHER = [
    ({"most_at_once": 0.04, "least_gain": 0.0}, [(500.0, "h")], "step_too_fine"),
    ({"step_km": 20_000.0}, [(20_000.0, "km")], "step_too_fine"),
    ({"least_gain": 0.3}, [], "gain_beyond_step"), ({"limit": "act", "confidence": 0.9}, [], "act_unsure"),
    ({"run_on_needed": 12, "charges_needed": 2}, [], "more_verdicts_than_bottles"),
    ({"school": "house_rule", "house_share": 1.0}, [], "house_beyond_cap"), ({"beyond_sampled": 1.0}, [], "no_room_to_learn"),
]  # fmt: skip


@pytest.mark.parametrize(("rules", "intervals", "kind"), TOGETHER)
def test_what_cannot_be_together_is_said_in_words(rules, intervals, kind):
    found = contradictions(replace(Policy(), **rules), intervals)
    assert [f.kind for f in found] == [kind] and len(say(found[0]).split()) > 8


def test_the_start_values_contradict_nothing():
    assert contradictions(Policy(), [(200.0, "h"), (500.0, "h"), (20_000.0, "km")]) == []


CANNOT = [("confidence", 0.5), ("confidence", 1.0), ("confidence", "sure"), ("run_on_needed", 0), ("run_on_needed", 2.5), ("limit", "stop"),
          ("school", "astrology"), ("most_at_once", float("nan")), ("beyond_sampled", 0.9), ("step_h", True), ("magic", 1)]  # fmt: skip


@pytest.mark.parametrize(("key", "value"), CANNOT)
def test_what_cannot_be_is_said_by_its_rule(key, value):
    with pytest.raises(InputError) as refused:
        checked({key: value})
    assert refused.value.field == key


def test_every_rule_of_a_policy_can_be_said():
    assert set(RULES) == set(Policy.__dataclass_fields__)
    assert checked({k: getattr(Policy(), k) for k in RULES}) == {k: getattr(Policy(), k) for k in RULES}


def test_a_school_that_rules_is_never_gone_beyond_and_pulls_back_at_once():
    ruled = replace(Policy(), school="house_rule")
    within = decided(case(answer(safe=900.0), policy=ruled, schools={"house_rule": 550.0}))
    assert (within.outcome, within.proposed) == (LENGTHEN, 550.0)
    assert guard(within, "school").bites
    assert "house rule" in reason(decided(case(answer(safe=900.0), policy=ruled, schools={"house_rule": 510.0})))
    back = decided(case(answer(safe=900.0), policy=ruled, schools={"house_rule": 400.0}))
    assert (back.outcome, back.proposed) == (SHORTEN, 400.0)
    assert "house rule" in reason(back)
    silent = decided(case(answer(safe=900.0), policy=ruled, schools={"house_rule": None}))
    assert (silent.outcome, silent.proposed) == (HOLD, 500.0)  # a rule whose figure nobody knows is no leave to go on
    assert reason(silent) == "The policy never goes beyond the house rule, and none is on record"
    shorter = decided(case(answer(safe=400.0), policy=ruled, schools={"house_rule": None}))
    assert (shorter.outcome, shorter.proposed) == (SHORTEN, 400.0)  # and keeps nobody from a shorter one
    lower = decided(case(answer(safe=450.0), policy=ruled, schools={"house_rule": 480.0}))
    assert lower.proposed <= 450.0  # and never flatters what the oil says


def test_each_compartment_is_decided_by_its_own():
    history, _ = fleet(0)
    charges, judgement = judged(history)
    count = len(history.compartments.duty)
    terms = [Terms(cap=1000.0)] * count

    def safe(policy):
        return np.array([d.safe or np.nan for d in decide(history, charges, judgement, table(), policy, terms)])

    usual, sure, act = safe(Policy()), safe(replace(Policy(), confidence=0.99)), safe(replace(Policy(), limit="act"))
    mixed = safe([replace(Policy(), confidence=0.99) if c % 3 == 1 else replace(Policy(), limit="act") if c % 3 == 2 else Policy()
                  for c in range(count)])  # fmt: skip
    wanted = np.choose(np.arange(count) % 3, [usual, sure, act])
    np.testing.assert_allclose(mixed, wanted, rtol=1e-9)
    known = ~np.isnan(usual)
    assert (sure[known] <= usual[known]).all() and (act[known & ~np.isnan(act)] >= usual[known & ~np.isnan(act)]).all()


def test_surer_never_lengthens_more():
    strict = decided(case(answer(safe=520.0)))
    assert strict.outcome in (HOLD, SHORTEN)
