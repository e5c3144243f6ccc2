"""A trial's bottles, what stops it and when it may be adopted."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import trial
from vornet.core.fact import told
from vornet.core.trial import Bottle, progress, steps

PLAN = [300.0, 450.0, 600.0, 660.0]
FAULT = told("open_rate", of="fe")


def good(*hours):
    return [Bottle(h, 0) for h in hours]


def states(found):
    return [s.state for s in found.steps]


@pytest.mark.parametrize(
    ("length", "today", "reach", "expected"),
    [(600, 500, 1000, [300, 450, 600, 660]), (600, 500, 659, [300, 450, 600]), (600, 500, 660, [300, 450, 600, 660]),
     (500, 500, 1000, []), (400, 500, 1000, []), (600, None, 600, [300, 450, 600])],
)  # fmt: skip
def test_the_last_bottle_lies_within_safe_hours_and_caps_or_is_none(length, today, reach, expected):
    assert steps(length, today, reach) == pytest.approx(expected)


def test_a_bottle_counts_for_the_step_it_was_drawn_at_and_no_other():
    found = progress(600, PLAN, good(318, 455), 470, False, 700)
    assert states(found) == ["drawn", "drawn", "ahead", "ahead"]
    assert found.next_at == 600
    far = progress(600, PLAN, good(375.5), 380, False, 700)  # 75 h from either
    assert states(far)[0] == "missed" or states(far)[0] == "late"


def test_of_two_bottles_the_nearer_one_counts():
    found = progress(600, PLAN, [Bottle(260, 1), Bottle(301, 0)], 320, False, 700)
    assert (found.steps[0].drawn_at, found.steps[0].verdict) == (301, 0)


@pytest.mark.parametrize(("on_oil", "first"), [(300, "ahead"), (323, "ahead"), (330, "late"), (385, "missed")])
def test_a_bottle_is_late_then_missed(on_oil, first):
    found = progress(600, PLAN, [], on_oil, False, 700)
    assert states(found)[0] == first
    assert found.next_at == (450 if first == "missed" else 300)


@pytest.mark.parametrize(
    ("bottles", "on_oil", "ended", "word"),
    [(good(300, 450), 470, False, "running"), (good(300, 450, 600), 605, False, "ripe"), (good(300, 450, 655), 660, True, "ripe"),
     ([*good(300, 450), Bottle(600, None)], 610, False, "running"), ([*good(300, 450), Bottle(600, None)], 610, True, "running"),
     ([Bottle(300, None), *good(450, 600)], 610, False, "running"),
     (good(300, 450), 600, True, "unread"), ([], 0, False, "running"), (good(600), 600, False, "ripe")],
)  # fmt: skip
def test_it_is_ripe_once_the_bottle_at_the_new_length_was_read_and_good(bottles, on_oil, ended, word):
    assert progress(600, PLAN, bottles, on_oil, ended, 700).word == word


@pytest.mark.parametrize(
    ("more", "kind"),
    [({"bottles": [Bottle(450, 1, ("soot",))]}, "trial_past"), ({"bottles": [Bottle(300, 2)]}, "trial_verdict"),
     ({"bottles": [Bottle(300, 3)]}, "trial_verdict"), ({"faults": (FAULT,)}, "trial_fault"), ({"safe": 440.0}, "trial_forecast"),
     ({"gone": True}, "trial_sold")],
)  # fmt: skip
def test_each_rule_stops_it(more, kind):
    given_ = {"bottles": good(300), "on_oil": 320, "ended": False, "safe": 700.0, **more}
    found = progress(600, PLAN, given_.pop("bottles"), given_.pop("on_oil"), given_.pop("ended"), given_.pop("safe"), **given_)
    assert (found.word, found.stop.kind, found.next_at) == ("stop", kind, None)


def test_a_watch_alone_does_not_stop_it_nor_does_oil_that_lasts_to_the_next_bottle():
    assert progress(600, PLAN, [Bottle(300, 1)], 320, False, 460).word == "running"
    assert progress(600, PLAN, good(300, 450), 460, True, 100).word == "unread"  # what is drained is no longer forecast


@given(
    st.lists(st.tuples(st.floats(1, 800), st.sampled_from([None, 0, 1, 2, 3]), st.booleans()), max_size=8),
    st.floats(0, 800), st.booleans(), st.one_of(st.none(), st.floats(1, 2000)),
)  # fmt: skip
def test_nothing_bad_is_ever_ripe_and_every_step_has_a_state(drawn, on_oil, ended, safe):
    bottles = [Bottle(at, verdict, ("bn",) if past and verdict is not None else ()) for at, verdict, past in drawn]
    found = progress(600, PLAN, bottles, on_oil, ended, safe)
    assert [s.at for s in found.steps] == PLAN
    assert {s.state for s in found.steps} <= {trial.DRAWN, trial.WAITS, trial.AHEAD, trial.LATE_NOW, trial.MISSED}
    if any(b.past or (b.verdict or 0) >= 2 for b in bottles):
        assert found.word == "stop"
    if found.word == "ripe":
        assert any(s.at >= 600 and s.state == "drawn" and s.verdict in (0, 1) for s in found.steps)
    if found.next_at is not None:
        assert not ended and found.next_at in PLAN
