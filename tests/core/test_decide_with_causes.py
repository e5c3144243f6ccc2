"""What a cause does to an interval: charges it moved are left out, it stays open until a later sample clears it, and it
blocks lengthening; what is only to be noted does none of this."""

from dataclasses import replace

import numpy as np
import pytest
from test_screening import changed, fleet

from vornet.core import judge as j
from vornet.core.causes import CAUSES
from vornet.core.charges import cut
from vornet.core.decide import decide
from vornet.core.decision import HOLD, LENGTHEN, SHORTEN, Policy, Terms
from vornet.core.diagnose import PROBABLE, STRONG
from vornet.core.faults import open_faults as faults_open
from vornet.core.limits import table
from vornet.core.measurands import INDEX
from vornet.core.rates import stretch_rates
from vornet.core.seen import nothing_seen
from vornet.words.say import say

KEYS = [c.key for c in CAUSES]


def open_faults(history, charges, judgement):
    """Open faults in words, compartment by compartment."""
    return [[say(f.fact) for f in mine] for mine in faults_open(history, charges, judgement)]


def judged(history, causes=True, seen=None):
    charges = cut(history)
    rates = stretch_rates(history, charges)
    return charges, j.judge(history, charges, rates, table(), seen or nothing_seen(len(history.samples.comp)), causes)


def decided(history, **more):
    charges, judgement = judged(history)
    terms = [Terms(cap=1000.0)] * len(history.compartments.duty)
    return decide(history, charges, judgement, table(), Policy(), terms, **more), judgement


def with_gain(history, at, place, **gains):
    i = at[place]
    return changed(history, i, **{k: float(np.nan_to_num(history.samples.values[i, INDEX[k]])) + x for k, x in gains.items()}), i


HOT = {"oxidation": 18.0, "v100": 1.6, "an": 1.2}
COOLANT = {"na": 60.0, "k": 20.0, "b": 8.0, "water_ppm": 600.0}


def test_a_charge_that_heat_moved_is_left_out_of_the_safe_hours():
    history, at = fleet(0)
    plain, _ = decided(history)
    hot, i = with_gain(history, at, (0, 9), **HOT)
    found, judgement = decided(hot)
    assert judgement.diagnosis.strength[i, KEYS.index("overheated_oil")] >= PROBABLE
    charge = int(cut(hot).number[cut(hot).charge_of[i]])
    left_out = {s.charge for s in found[0].charge_slopes() if s.key == "oxidation" and not s.used}
    assert left_out == {charge}
    assert all(s.used for s in plain[0].charge_slopes() if s.key == "oxidation")
    answer = next(p for p in found[0].properties if p.key == "oxidation")
    before = next(p for p in plain[0].properties if p.key == "oxidation")
    assert answer.n == before.n - 1
    assert answer.mean_slope == pytest.approx(before.mean_slope, rel=0.1)
    # as it is now, with the heat still on, it is safe for less
    assert answer.safe_as_is < answer.safe


def test_a_leak_stays_open_until_a_later_sample_is_clear_at_half_the_hours():
    history, at = fleet(1)
    leaking, i = with_gain(history, at, (1, 13), **COOLANT)
    charges, judgement = judged(leaking)
    assert judgement.diagnosis.strength[i, KEYS.index("coolant")] == STRONG
    [*others] = [f for c, f in enumerate(open_faults(leaking, charges, judgement)) if c != 1]
    assert others == [[]] * 5
    assert open_faults(leaking, charges, judgement)[1] == []  # the sample after it, drawn at 250 of 500 h, is clear
    last, i = with_gain(history, at, (1, 14), **COOLANT)
    charges, judgement = judged(last)
    faults = open_faults(last, charges, judgement)[1]
    assert any("Coolant" in f and "strong" in f for f in faults)


def test_a_clear_sample_soon_after_the_fill_closes_nothing():
    history, at = fleet(1)
    leaking, _ = with_gain(history, at, (1, 13), **COOLANT)
    early = at[(1, 14)]
    total = leaking.samples.total.copy()
    total[early] -= 200  # 50 h on the oil, less than half of the 500 h at which it was seen
    hours = leaking.samples.oil_hours.copy()
    hours[early] = 50
    leaking = replace(leaking, samples=replace(leaking.samples, total=total, oil_hours=hours))
    charges, judgement = judged(leaking)
    assert any("Coolant" in f for f in open_faults(leaking, charges, judgement)[1])


def test_an_open_fault_blocks_lengthening_and_says_so():
    history, at = fleet(2)
    plain, _ = decided(history)
    leaking, _ = with_gain(history, at, (2, 14), **COOLANT)
    found, _ = decided(leaking)
    assert (plain[2].outcome, plain[2].open_faults) == (LENGTHEN, ())
    assert found[2].outcome in (HOLD, SHORTEN)
    guard = next(g for g in found[2].guards if g.key == "open_fault")
    assert guard.bites
    assert "Coolant" in say(guard.fact)
    assert found[2].proposed <= found[2].current
    assert [d.outcome for c, d in enumerate(found) if c != 2] == [LENGTHEN] * 5


def test_what_is_only_noted_leaves_the_interval_alone():
    history, at = fleet(0)
    sealed = history
    for place in ((0, 12), (0, 13), (0, 14)):
        sealed, i = with_gain(sealed, at, place, si=14.0)
    charges, judgement = judged(sealed)
    assert judgement.diagnosis.strength[i, KEYS.index("silicone")] > 0
    assert not any("ilicone" in f or "ealant" in f for f in open_faults(sealed, charges, judgement)[0])


def test_signed_verdicts_stand_before_proposals():
    history, _ = fleet(0)
    proposals = judged(history)[1].proposed
    stands = proposals.copy()
    last = np.flatnonzero(history.samples.comp == 0)[-1]
    stands[last] = j.ACT
    signed = np.zeros(len(stands), dtype=bool)
    signed[last] = True
    found, _ = decided(history, verdicts=stands, signed=signed)
    guard = next(g for g in found[0].guards if g.key == "verdicts")
    assert guard.bites
    assert "3 more samples to go" in say(guard.fact)
    other = next(g for g in found[1].guards if g.key == "verdicts")
    assert not other.bites
    assert "3 of them only proposed" in say(other.fact)


def test_leaving_causes_out_leaves_limits_and_rates_as_they_are():
    history, at = fleet(3)
    leaking, _ = with_gain(history, at, (0, 13), **COOLANT)
    _, whole = judged(leaking)
    _, plain = judged(leaking, causes=False)
    for name in ("watch_high", "act_high", "watch_low", "act_low", "act_clear"):
        assert (getattr(whole.past, name) == getattr(plain.past, name)).all()
    assert (whole.shift.real == plain.shift.real).all()
    assert not plain.diagnosis.strength.any()
    assert (plain.proposed <= whole.proposed).all()  # a cause only ever adds
