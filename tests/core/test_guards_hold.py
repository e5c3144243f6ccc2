"""What stands against a length: guards that were wrong between the answers, each with the figures it was found with."""

import numpy as np
import pytest
from test_outcome import FAULT, answer, case, decided, guard

from vornet.core.against import caps_against, days_against, length_against
from vornet.core.decision import HOLD, LENGTHEN, NOT_ENOUGH, SHORTEN, Terms
from vornet.core.fact import told
from vornet.words.say import say


@pytest.mark.parametrize("key", ["cap", "oil_cap", "filter", "bypass"])
def test_a_cap_that_is_just_what_is_safe_still_pulls_back(key):
    """Cap 450, runs 500, safe exactly 450 with one charge: it stayed at 500, 'not enough evidence'."""
    got = decided(case(answer(safe=450.0, n=1), terms=Terms(**{key: 450.0})))
    assert (got.outcome, got.proposed) == (SHORTEN, 450.0)


def test_a_bottle_that_waits_to_be_settled_holds_a_longer_interval():
    for held in (told("held_newest"), told("held_act", of=("bn", "water_ppm", "fe"))):
        got = decided(case(held=(held,)))
        assert (got.outcome, got.proposed) == (HOLD, 500.0)
        assert say(guard(got, "held_bottle").lifts) == "Settling it in the lab inbox, or a later bottle"
        assert [say(f) for f in length_against(got, 625, "h")] != []
        assert decided(case(answer(safe=300.0), held=(held,))).outcome == SHORTEN  # and keeps nobody from a shorter one
    assert decided(case()).outcome == LENGTHEN


def test_what_stands_against_a_length_is_all_that_its_guards_say():
    got = decided(case(answer(safe=568.0), terms=Terms(cap=900.0)))
    assert length_against(got, 550, "h") == []
    assert [say(f) for f in length_against(got, 600, "h")] == ["Beyond its safe 568 h"]
    beyond = [say(f) for f in length_against(got, 1000, "h")]
    assert "Maker's or warranty cap 900 h" in beyond and "At most +25% at once: 625 h" in beyond
    assert length_against(got, 500, "h") == [] == length_against(got, 300, "h")
    faulty = decided(case(faults=(FAULT,), joint_as_is=420.0))
    assert "Open: Coolant in the oil (strong)" in [say(f) for f in length_against(faulty, 525, "h")]
    unknown = decided(case(answer(state="unanswered", n=0)))
    assert unknown.outcome == NOT_ENOUGH and length_against(unknown, 525, "h")


def test_caps_are_asked_of_a_shorter_one_too():
    got = decided(case(current=900.0, terms=Terms(cap=450.0)))
    assert [say(f) for f in caps_against(got, 600)] == ["Maker's or warranty cap 450 h"] == [say(f) for f in length_against(got, 600, "h")]
    assert length_against(got, 450, "h") == []


def test_days_are_guarded_as_hours_are():
    """365 to 3,650 days with faults open, and no reason."""
    well, ill = decided(case()), decided(case(faults=(FAULT,)))
    assert days_against(well, 400, 365, 0.25) == []
    assert [say(f) for f in days_against(well, 3650, 365, 0.25)] == ["At most +25% at once: 456 days"]
    assert "Open: Coolant in the oil (strong)" in [say(f) for f in days_against(ill, 370, 365, 0.25)]
    assert days_against(ill, 300, 365, 0.25) == [] == days_against(ill, 300, None, 0.25)
    assert days_against(decided(case(verdicts=np.array([0, 1, 0]))), 370, 365, 0.25)


def test_a_wall_keeps_its_place_whatever_its_sentence_is_called():
    """Walls are typed: nothing reads a figure out of a sentence."""
    got = decided(case(terms=Terms(cap=550.0, oil_cap=560.0, filter=570.0, bypass=580.0, calendar=590.0)))
    assert {g.key: g.limit for g in got.guards if g.limit is not None} == {
        "cap": 550, "oil_cap": 560, "filter": 570, "bypass": 580, "calendar": 590, "sampled": 625, "step": 625}  # fmt: skip
