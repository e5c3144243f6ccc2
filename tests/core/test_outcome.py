"""The answer by itself: every outcome, guard and reason from plain safe hours, verdicts and terms, without any history.

The rules are common practice, no source; each test says one of them. On the dangerous side nothing is ever lengthened by what is
not known.
"""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from vornet.core.decision import (
    ANSWERED,
    HOLD,
    IMPOSSIBLE,
    LENGTHEN,
    NO_LIMIT,
    NOT_ENOUGH,
    SHORTEN,
    UNANSWERED,
    UNMEASURED,
    Policy,
    PropertyAnswer,
    Terms,
)
from vornet.core.decision_case import Case
from vornet.core.fact import told
from vornet.core.oil_properties import BY_PROPERTY, PROPERTY_COUNT
from vornet.core.outcome import outcome
from vornet.core.outlook import Outlook
from vornet.words.say import say

NONE = np.full(PROPERTY_COUNT, -1)
NOTHING = Outlook(*([np.zeros((0, 1))] * 4), np.zeros(1), *([np.zeros(0)] * 5))
FAULT = told("open_cause", cause="coolant", strength="strong")


def answer(key="bn", safe=800.0, state=ANSWERED, n=5, **more):
    p = BY_PROPERTY[key]
    known = {"new_oil": 10.0, "limit": 5.0, "deepest": 500.0, "chance_at_safe": 0.05, **more}
    blank = dict.fromkeys(PropertyAnswer.__dataclass_fields__, None)
    return PropertyAnswer(**{
        **blank, "new_oil_estimated": False, "never": False, "running_never": False, "borrowed": False, "bounded": 0, "key": key,
        "name": p.name, "unit": p.unit, "side": p.side, "state": state, "n": n, "safe": safe if state == ANSWERED else None, **known,
    })  # fmt: skip


def case(*answers, **more):
    """A healthy engine at 500 h: five charges told, three times Run on, safe for 800 h, sampled to 500 h."""
    answers = answers or (answer(),)
    told_safe = [a.safe for a in answers if a.state == ANSWERED and a.safe is not None]
    joint = min(told_safe, default=math.nan)
    deepest = [a.deepest for a in answers if a.state == ANSWERED and a.deepest is not None]
    plain = {
        "distance": False, "current": 500.0, "answers": tuple(answers), "policy": Policy(), "terms": Terms(), "verdicts": np.zeros(3, int),
        "unsigned": 0, "passed_over": 0, "joint": joint, "mild": joint, "joint_as_is": joint, "running": joint, "running_as_is": joint,
        "longest": min(deepest, default=None), "faults": (), "open_keys": (), "schools": {}, "share": 0.1, "slopes": b"",
        "held": (), "oil": "", "on_oil": 0.0,
    }  # fmt: skip
    return Case(**(plain | more))


def decided(it):
    return outcome(it, NOTHING, NONE, np.full(PROPERTY_COUNT, np.nan), 500.0)


def guard(decision, key):
    return next((g for g in decision.guards if g.key == key), None)


def reason(decision):
    return say(decision.reason)


# ---- lengthen ------------------------------------------------------------------------------------------------------------
def test_a_healthy_engine_goes_up_by_a_quarter_at_most():
    got = decided(case())
    assert (got.outcome, got.proposed, got.limiting) == (LENGTHEN, 625.0, "bn")
    assert reason(got) == "Safe for 800 h, limited by base number"
    step = guard(got, "step")
    assert (step.bites, say(step.fact)) == (True, "At most +25% at once: 625 h")
    assert step.worth == 0  # the evidence caps it at the same place


@pytest.mark.parametrize(
    ("safe", "result", "proposed"),
    [(534, HOLD, 500), (535, LENGTHEN, 525), (549, LENGTHEN, 525), (550, LENGTHEN, 550), (624, LENGTHEN, 600), (9e9, LENGTHEN, 625)],
)
def test_it_moves_in_whole_steps_and_only_for_seven_per_cent(safe, result, proposed):
    got = decided(case(answer(safe=safe)))
    assert (got.outcome, got.proposed) == (result, proposed)


def test_kilometres_step_by_a_thousand():
    got = decided(case(answer(safe=24_900.0, deepest=20_000.0), distance=True, current=20_000.0))
    assert (got.outcome, got.proposed) == (LENGTHEN, 24_000.0)
    assert reason(got) == "Safe for 24,900 km, limited by base number"


def test_nothing_is_proposed_far_beyond_what_was_sampled():
    got = decided(case(answer(safe=800.0, deepest=450.0)))
    assert (got.outcome, got.proposed) == (LENGTHEN, 550.0)  # 1.25 × 450
    assert say(guard(got, "sampled").fact) == "At most 1.25 × the longest oil hours sampled: 562 h"
    assert say(guard(got, "sampled").lifts) == "A bottle later than 450 h on one oil"
    assert guard(got, "sampled").worth == 75  # to the step's 625
    assert got.beyond_evidence


@pytest.mark.parametrize(("terms", "key", "said"), [
    (Terms(cap=550.0), "cap", "Maker's or warranty cap 550 h"), (Terms(oil_cap=550.0), "oil_cap", "What Tarn 40 may run at most 550 h"),
    (Terms(calendar=560.0), "calendar", "The calendar limit falls at about 560 h"),
    (Terms(filter=560.0), "filter", "What the oil filter may run: 560 h"),
    (Terms(bypass=560.0), "bypass", "What the bypass filter may run: 560 h"),
])  # fmt: skip
def test_caps_stand_above_the_oil(terms, key, said):
    got = decided(case(terms=terms, oil="Tarn 40"))
    assert (got.outcome, got.proposed) == (LENGTHEN, 550.0)
    assert (guard(got, key).bites, say(guard(got, key).fact)) == (True, said)
    assert say(guard(got, key).lifts)


def test_a_cap_that_is_far_away_does_not_bite():
    got = decided(case(terms=Terms(cap=5000.0, oil_cap=4000.0, calendar=3000.0)))
    assert [g.key for g in got.guards if g.bites] == ["sampled", "step"]


# ---- hold ----------------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("verdicts", "to_go"), [([0, 0], 1), ([], 3), ([1, 0, 0], 1), ([0, 0, 1], 3), ([0, 1, 0], 2), ([3, 0, 0, 0], 0)]
)  # fmt: skip
def test_three_times_run_on_in_a_row_or_it_stays(verdicts, to_go):
    got = decided(case(verdicts=np.array(verdicts, dtype=int)))
    if to_go:
        assert (got.outcome, got.proposed) == (HOLD, 500.0)
        assert reason(got) == f"Run on: {to_go} more samples to go"
        assert say(guard(got, "verdicts").lifts) == f"{to_go} more in a row that say Run on"
        assert guard(got, "verdicts").worth == 125
        assert say(got.next_sample.fact) == f"The next bottle from warm oil: {to_go} more in a row that say Run on"
    else:
        assert got.outcome == LENGTHEN


def test_what_is_only_proposed_and_what_does_not_count_is_said():
    got = decided(case(unsigned=2, passed_over=1))
    assert say(guard(got, "verdicts").fact) == (
        "Last 3 verdicts are Run on (2 of them only proposed, not signed); 1 drawn after the oil had stood not counted"
    )


def test_an_open_fault_holds_and_the_repaired_figure_never_counts():
    got = decided(case(faults=(FAULT,), joint_as_is=520.0))
    assert (got.outcome, got.proposed, got.safe, got.safe_as_is) == (HOLD, 500.0, 800.0, 520.0)
    assert reason(got) == "Open: Coolant in the oil (strong)"
    assert got.next_sample.at == (250.0, 500.0)
    late = decided(case(faults=(FAULT,), joint_as_is=520.0, on_oil=400.0))
    assert late.next_sample.at == (400.0, 500.0)  # never before what is in there already


def test_an_open_fault_that_bites_shortens():
    got = decided(case(faults=(FAULT,), joint_as_is=310.0))
    assert (got.outcome, got.proposed) == (SHORTEN, 300.0)
    assert reason(got) == "Safe for 310 h as it is now, with the fault open; 800 h once repaired"


def test_a_fault_without_any_property_told_still_holds_or_shortens():
    silent = answer(state=UNANSWERED, n=1)
    got = decided(case(silent, faults=(FAULT,), joint_as_is=900.0))
    assert (got.outcome, got.proposed, reason(got)) == (HOLD, 500.0, "Open: Coolant in the oil (strong)")
    got = decided(case(silent, faults=(FAULT,), joint_as_is=200.0))
    assert (got.outcome, got.proposed) == (SHORTEN, 200.0)
    assert reason(got) == "Safe for 200 h as it is now, with the fault open"


@pytest.mark.parametrize(("other", "key", "said", "lifts"), [
    (answer("an", state=NO_LIMIT), "no_limit", "Limit not known without the new oil's value: acid number",
     "A sample of new Tarn 40 with acid number measured"),
    (answer("an", state=IMPOSSIBLE, new_oil=3.0, limit=2.5), "impossible",
     "This limit cannot hold for this oil: acid number of new oil 3, limit 2.5 mg KOH/g", "Another limit for this oil"),
    (answer("an", safe=900.0, bounded=2), "bounded", "Known only to lie beyond what the lab reports in 2 charges: acid number",
     "Figures from the lab in place of bounds"),
])  # fmt: skip
def test_what_is_not_known_never_lengthens(other, key, said, lifts):
    got = decided(case(answer(), other, oil="Tarn 40"))
    assert (got.outcome, got.proposed) == (HOLD, 500.0)
    assert (guard(got, key).bites, say(guard(got, key).fact)) == (True, said)
    assert say(guard(got, key).lifts).startswith(lifts)
    assert said in reason(got)


def test_what_was_never_measured_is_said_and_not_weighed():
    got = decided(case(answer(), answer("nitration", state=UNMEASURED, n=0)))
    assert got.outcome == LENGTHEN
    assert say(guard(got, "unmeasured").fact) == "Never measured here, so not weighed: nitration"


def test_no_limit_in_reach_never_lengthens_by_itself():
    got = decided(case(answer(safe=None, never=True), joint=math.inf, mild=math.inf, joint_as_is=math.inf))
    assert (got.outcome, got.proposed, got.never, got.safe) == (HOLD, 500.0, True, None)
    assert reason(got) == "No limit is within reach: that alone never lengthens"


def test_several_reasons_are_all_given():
    got = decided(case(verdicts=np.array([0]), faults=(FAULT,)))
    assert reason(got) == "Open: Coolant in the oil (strong); Run on: 2 more samples to go"


# ---- shorten -------------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(("safe", "proposed"), [(499, 475), (476, 475), (40, 25), (20, 20), (1.5, 1), (0.4, None)])
def test_less_safe_than_it_runs_is_shortened_at_once_and_never_up(safe, proposed):
    got = decided(case(answer(safe=safe)))
    assert (got.outcome, got.proposed) == (SHORTEN, proposed)
    if safe < 1:
        assert reason(got) == "New oil lies too close to the limit of base number to run at all"
    else:
        assert reason(got).endswith("h of the 500 h it runs today, limited by base number")


@pytest.mark.parametrize(("terms", "said"), [
    (Terms(cap=400.0), "The maker's cap of 400 h lies below the 500 h it runs today"),
    (Terms(oil_cap=400.0), "The oil may run 400 h at most, and it runs 500 h today"),
    (Terms(cap=450.0, oil_cap=400.0), "The oil may run 400 h at most, and it runs 500 h today"),
    (Terms(filter=400.0), "The oil filter may run 400 h, less than the 500 h it runs today"),
    (Terms(bypass=400.0), "The bypass filter may run 400 h, less than the 500 h it runs today"),
])  # fmt: skip
def test_a_cap_below_what_it_runs_shortens_whatever_the_oil_says(terms, said):
    for it in (case(terms=terms), case(answer(state=UNANSWERED, n=0), terms=terms), case(answer(n=1), terms=terms)):
        got = decided(it)
        assert (got.outcome, got.proposed, reason(got)) == (SHORTEN, 400.0, said)


def test_a_bend_nobody_saw_does_not_shorten_but_asks():
    got = decided(case(answer("oxidation", safe=450.0), mild=620.0))
    assert (got.outcome, got.proposed) == (NOT_ENOUGH, 500.0)
    assert reason(got) == "Safe for 450 h should oxidation bend as it may, 620 h if it does not: no bottle half way has shown which"
    assert say(got.next_sample.fact).startswith("A bottle half way through a charge, and one at its end")
    assert got.next_sample.at == (250.0, 300.0)
    assert "without a limit in reach if it does not" in reason(decided(case(answer("oxidation", safe=450.0), mild=math.inf)))
    assert decided(case(answer("oxidation", safe=450.0), mild=499.0)).outcome == SHORTEN


# ---- not enough ------------------------------------------------------------------------------------------------------------
def test_too_few_charges_are_named_with_what_is_lacking():
    got = decided(case(answer(n=2)))
    assert (got.outcome, got.proposed, reason(got)) == (NOT_ENOUGH, 500.0, "2 of 3 charges sampled")
    assert say(guard(got, "charges").fact) == "2 of 3 charges sampled for the limiting property"
    assert say(guard(got, "charges").lifts) == "1 more charge of this oil, each sampled near its end"
    assert got.sample_at == (425.0, 500.0)
    other = decided(case(answer(safe=700.0), answer("an", safe=900.0, n=1)))
    assert reason(other) == "1 of 3 charges sampled (acid number)"
    assert decided(case(answer(safe=700.0), answer("an", safe=1001.0, n=1))).outcome == LENGTHEN  # too far off to matter


@pytest.mark.parametrize(("safe", "result"), [(451, NOT_ENOUGH), (450, NOT_ENOUGH), (449, SHORTEN)])
def test_few_charges_shorten_only_when_they_fall_clearly_short(safe, result):
    assert decided(case(answer(n=2, safe=safe))).outcome == result


@pytest.mark.parametrize(("answers", "said"), [
    ((answer(state=UNANSWERED, n=0),), "No charge of Tarn 40 has been sampled yet"),
    ((answer(state=UNANSWERED, n=1),), "Only one charge of Tarn 40 has been sampled, and of one no spread can be told"),
    ((answer(state=UNANSWERED, n=2),), "So few charges tell no spread: base number"),
    ((answer(state=IMPOSSIBLE, new_oil=4.0),), "This limit cannot hold for this oil: base number of new oil 4, limit 5 mg KOH/g"),
    ((answer(state=NO_LIMIT),), "Limits not known without the new oil's values: base number"),
    ((answer(state=UNMEASURED),), "No deciding property has been measured in a charge with a known start"),
])  # fmt: skip
def test_why_nothing_can_be_said(answers, said):
    got = decided(case(*answers, oil="Tarn 40"))
    assert (got.outcome, got.proposed, reason(got)) == (NOT_ENOUGH, 500.0, said)


def test_a_property_measured_too_seldom_stops_a_good_one():
    got = decided(case(answer(), answer("an", state=UNANSWERED, n=1)))
    assert (got.outcome, reason(got)) == (NOT_ENOUGH, "Measured too seldom to answer: acid number")
    assert say(got.next_sample.fact) == "A bottle late in this charge with acid number measured"


def test_never_sampled_where_it_runs():
    got = decided(case(answer(deepest=300.0)))
    assert (got.outcome, reason(got)) == (NOT_ENOUGH, "Never sampled beyond 300 h of a 500 h interval")
    got = decided(case(answer("oxidation", safe=450.0, deepest=300.0), mild=620.0))
    assert reason(got) == "Never sampled beyond 300 h of a 500 h interval"


def test_without_an_interval_there_is_nothing_to_move():
    got = decided(case(current=None, longest=None))
    assert (got.outcome, got.proposed, reason(got)) == (NOT_ENOUGH, None, "No interval on record to move")
    assert got.next_sample is None
    assert decided(case(answer(state=UNANSWERED, n=0), current=None, longest=None)).proposed is None


def test_what_else_is_said_beside_the_reason():
    got = decided(case(answer(pace=1.46, borrowed=True), oil="Tarn 40"))
    assert reason(got) == (
        "Safe for 800 h, limited by base number. The last charges age 1.5 times as fast as those before, and decide. "
        "Told by the family's charges of Tarn 40, none of its own yet"
    )
    assert reason(decided(case(answer(pace=1.0)))) == "Safe for 800 h, limited by base number"


def test_the_next_limiting_property_and_the_running_charge_s_own():
    bn, an = answer(safe=700.0, running_safe=720.0), answer("an", safe=650.0, running_safe=800.0)
    got = decided(case(bn, an))
    assert (got.limiting, got.next_limiting, got.next_safe, got.running_limiting) == ("an", "bn", 700.0, "bn")


def test_thickening_and_thinning_are_one_viscosity_in_a_list():
    got = decided(case(answer(), answer("v100_high", state=NO_LIMIT), answer("v100_low", state=NO_LIMIT)))
    assert say(guard(got, "no_limit").fact) == "Limit not known without the new oil's value: viscosity 100 °C"
    assert (got.next_sample.kind, say(got.next_sample.fact)) == (
        "new_oil", "A bottle of new oil: without it no limit for viscosity 100 °C",
    )  # fmt: skip


@example(450.0, 450.0, 0, [], 500.0, 450.0, False)
@given(
    st.floats(1, 5000), st.floats(1, 5000), st.integers(0, 6), st.lists(st.integers(0, 3), max_size=4), st.floats(50, 2000),
    st.one_of(st.none(), st.floats(50, 3000)), st.booleans(),
)  # fmt: skip
def test_no_answer_is_ever_wrong_on_the_dangerous_side(safe, as_is, n, verdicts, deepest, cap, faulty):
    """Whatever is handed over: a longer interval lies within safe hours, caps, the step and the evidence; a fault never lengthens."""
    it = case(answer(safe=safe, n=n, deepest=deepest), verdicts=np.array(verdicts, dtype=int), terms=Terms(cap=cap),
              faults=(FAULT,) if faulty else (), joint_as_is=min(as_is, safe))  # fmt: skip
    got = decided(it)
    assert got.outcome in (LENGTHEN, HOLD, SHORTEN, NOT_ENOUGH)
    if got.outcome == LENGTHEN:
        assert got.proposed > 500
        assert got.proposed <= min(safe, 625, 1.25 * deepest, cap or math.inf) + 1e-6
        assert not faulty
        assert n >= 3
        assert verdicts[-3:] == [0, 0, 0]
    elif got.outcome == SHORTEN:
        assert got.proposed is None or got.proposed < 500
    else:
        assert got.proposed == 500
        assert cap is None or cap >= 500  # never left running beyond a cap
    assert say(got.reason)
    assert all((g.lifts is not None) == g.bites for g in got.guards if g.key != "unmeasured")


def test_the_policy_of_a_fleet_is_its_own():
    strict = Policy(run_on_needed=4, charges_needed=6, most_at_once=0.1, least_gain=0.2, beyond_sampled=1.0, step_h=10.0)
    assert reason(decided(case(policy=strict))) == "5 of 6 charges sampled"
    enough = replace(strict, charges_needed=5, run_on_needed=3, beyond_sampled=2.0)
    assert (decided(case(policy=enough)).outcome, reason(decided(case(policy=enough)))) == (HOLD, "At most +10% at once: 550 h")
    assert decided(case(policy=replace(enough, least_gain=0.05))).proposed == 550.0
