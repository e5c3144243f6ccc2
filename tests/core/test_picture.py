"""The picture's tables: the same chance as decisions are made by, and cones that mean what they show."""

import numpy as np
import pytest
from test_decide_with_causes import decided, judged
from test_screening import fleet

from vornet.core import reckoning
from vornet.core.decision import Policy
from vornet.core.limits import table
from vornet.core.picture import along


@pytest.fixture(scope="module")
def drawn():
    history, _ = fleet(0)
    charges, judgement = judged(history)
    found, _ = decided(history)
    reckoned = reckoning.of(history, charges, judgement, table(), Policy(), 0)
    return history, charges, judgement, found, along(reckoned, 1500.0, 0.95)


def test_at_the_safe_hours_the_chance_is_what_the_policy_leaves(drawn):
    *_, found, picture = drawn
    assert found[0].safe is not None
    assert picture.chance(found[0].safe) == pytest.approx(0.05, abs=5e-4)
    assert picture.properties[0].key == found[0].limiting


def test_fifty_lengths_read_off_the_table_are_what_core_says(drawn):
    history, charges, judgement, found, picture = drawn
    worked = reckoning.of(history, charges, judgement, table(), Policy(), 0)
    kept = reckoning.unpacked(found[0].reckoning)  # as the decision left it
    for hours in np.linspace(20, 1480, 50):
        assert picture.chance(float(hours)) == pytest.approx(worked.chance(float(hours)), abs=2e-3)
        assert kept.chance(float(hours)) == pytest.approx(worked.chance(float(hours)), abs=2e-6)


def test_what_is_kept_of_a_decision_draws_the_same_picture(drawn):
    history, charges, judgement, found, _ = drawn
    for c in range(len(found)):
        worked = reckoning.of(history, charges, judgement, table(), Policy(), c)
        if worked is None:
            assert found[c].reckoning == b""
            continue
        one, other = along(worked, 1200.0, 0.95), along(reckoning.unpacked(found[c].reckoning), 1200.0, 0.95)
        assert [p.key for p in one.properties] == [p.key for p in other.properties]
        assert other.any_past == pytest.approx(one.any_past, abs=2e-6) and other.any_act == pytest.approx(one.any_act, abs=2e-6)
        assert (one.as_is is None) == (other.as_is is None)
        for a, b in zip(one.properties, other.properties, strict=True):
            assert b.high == pytest.approx(a.high, rel=1e-5) and len(a.past) == len(b.past)


def test_another_version_s_bytes_are_refused():
    with pytest.raises(ValueError, match="another version"):
        reckoning.unpacked(b"\x09\x00\x00\x23")


def test_chances_begin_at_nothing_and_never_fall(drawn):
    picture = drawn[-1]
    for chance in (picture.any_past, picture.any_act, *(p.chance for p in picture.properties)):
        assert chance[0] == 0
        assert (np.diff(chance) >= -1e-9).all() and chance.max() <= 1
    assert (picture.any_act <= picture.any_past + 1e-9).all()  # the act limit lies beyond
    assert (picture.any_past >= np.max([p.chance for p in picture.properties], axis=0) - 1e-12).all()


def test_where_the_cone_s_edge_meets_the_limit_one_charge_in_twenty_is_past_it(drawn):
    checked = 0
    for p in drawn[-1].properties:
        side = 1 if p.side == "high" else -1
        edge = side * (p.high if side > 0 else p.low)
        if p.watch is None or not (edge >= side * p.watch).any():
            continue
        at = int(np.argmax(edge >= side * p.watch))
        assert p.chance[at - 1] - 0.01 <= 0.05 <= p.chance[at] + 0.01, p.key
        assert (p.low <= p.middle + 1e-9).all() and (p.middle <= p.high + 1e-9).all()
        assert p.low[0] == p.high[0] == p.new_oil
        checked += 1
    assert checked


def test_what_was_measured_lies_behind_it(drawn):
    picture = drawn[-1]
    for p in picture.properties:
        assert p.past and all(h > 0 and np.isfinite(x) for _, h, x in p.past)


def test_a_compartment_nobody_measured_has_no_picture():
    history, _ = fleet(0)
    nothing = history.samples.values.copy()
    nothing[:] = np.nan
    from dataclasses import replace

    empty = replace(history, samples=replace(history.samples, values=nothing))
    charges, judgement = judged(empty)
    assert reckoning.of(empty, charges, judgement, table(), Policy(), 0) is None
