"""Cutting histories into charges, judging and deciding, on histories small enough to check by hand."""

from dataclasses import replace

import numpy as np
import pytest

from vornet.core import judge as j
from vornet.core.charges import cut
from vornet.core.decide import decide
from vornet.core.decision import HOLD, LENGTHEN, NOT_ENOUGH, SHORTEN, Policy, Terms
from vornet.core.history import Compartments, Drains, Fillings, History, Oils, Samples, has_stood
from vornet.core.limits import table
from vornet.core.measurands import COUNT, INDEX, dense
from vornet.core.rates import stretch_rates
from vornet.words.say import each, say

FRESH = {"bn": 10.0, "an": 2.0, "oxidation": 8.0, "nitration": 5.0, "v100": 14.2, "si": 5.0}


def history(charges=5, every=500.0, bn_loss=3.0, interval=500.0, last=None, magnet=None, spread=True, out_l=54.0):
    """One diesel engine drained every ``every`` h with a sample at each drain; ``last`` overrides the last sample."""
    n = charges
    total = 1000 + every * np.arange(n + 1)
    day = 700000 + 60 * np.arange(n + 1)
    nan = np.full(n + 1, np.nan)
    grades = nan.copy()
    if magnet is not None:
        grades[-1] = magnet
    drains = Drains(np.zeros(n + 1, int), day, total, np.full(n + 1, out_l), np.full(n + 1, 2.0), np.zeros(n + 1, int), grades)
    wobble = [1.0, 1.05, 0.96, 1.02, 0.98, 1.01] if spread else [1.0] * 6
    rows = []
    for i in range(n):
        w = wobble[i % 6]
        values = {"fe": 30 * w, "si": 8.0, "bn": 10 - bn_loss * w, "an": 2.9, "oxidation": 8 + 7 * w, "nitration": 10.0,
                  "soot_pct": 0.8 * w, "v100": 14.3, "fuel_pct": 0.4, "na": 3.0}  # fmt: skip
        if i == n - 1 and last:
            values |= last
        rows.append(dense(values))
    samples = Samples(
        np.zeros(n, int), day[1:], total[1:], np.full(n, every), np.zeros(n), np.ones(n, bool), np.ones(n, bool),
        np.array(rows).reshape(n, COUNT), np.zeros(n, np.int64), np.zeros(n, np.int64),
    )  # fmt: skip
    comps = Compartments(*(np.array([x]) for x in (0, 0, 0, 60.0, 55.0, interval, False, np.nan)))
    empty = np.zeros(0)
    fillings = Fillings(empty.astype(int), empty, empty, empty, empty)
    return History(comps, Oils(np.array([dense(FRESH)]), np.array([0.87])), drains, fillings, samples)


def decided(h, cap=1000.0, policy=None):
    charges = cut(h)
    judgement = j.judge(h, charges, stretch_rates(h, charges), table())
    return decide(h, charges, judgement, table(), policy or Policy(), [Terms(cap=cap)])[0], judgement


def test_charges_and_carry_over():
    h = history()
    c = cut(h)
    assert list(c.number) == [0, 1, 2, 3, 4, 5, 6]
    assert list(c.charge_of) == [1, 2, 3, 4, 5]
    assert c.oil_hours == pytest.approx([500] * 5)
    assert c.share[2] == pytest.approx(4 / 60)  # 60 L, 2 low, 54 out
    assert c.start[2, 0] == pytest.approx(4 / 60 * 30)  # iron carried over


def test_a_healthy_engine_is_lengthened_within_its_guards():
    decision, judgement = decided(history())
    assert set(judgement.proposed) == {j.RUN_ON}
    assert decision.outcome == LENGTHEN
    assert decision.limiting == "bn"
    assert decision.proposed == 625  # +25 % at once, in steps of 25 h
    assert decision.safe > decision.proposed
    assert decision.evidence_cap == pytest.approx(625)


def test_an_over_long_interval_is_shortened_in_full():
    decision, _ = decided(history(bn_loss=6.5))
    assert decision.outcome == SHORTEN
    assert decision.proposed <= decision.safe < 500
    assert decision.proposed % 25 == 0


def test_an_open_fault_never_lengthens():
    decision, judgement = decided(history(charges=7, last={"na": 60.0, "k": 25.0}))
    assert judgement.proposed[-1] == j.ACT  # sodium and potassium together: coolant, before any act limit
    assert decision.outcome == HOLD
    assert any("Sodium" in text for text in each(decision.open_faults))


def test_few_charges_are_not_enough():
    decision, _ = decided(history(charges=2))
    assert decision.outcome == NOT_ENOUGH
    assert decision.sample_at == (425, 500)


def test_one_charge_has_no_spread_to_tell():
    decision, _ = decided(history(charges=1))
    assert (decision.outcome, decision.safe) == (NOT_ENOUGH, None)


def test_the_makers_cap_holds():
    decision, _ = decided(history(), cap=550)
    assert decision.proposed == 550
    assert any(g.key == "cap" and g.bites for g in decision.guards)


def test_the_evidence_cap_shows_longer_hours_but_does_not_propose_them():
    decision, _ = decided(history(every=250.0, bn_loss=1.5, interval=250.0))
    assert decision.beyond_evidence
    assert decision.safe > 1.25 * 250
    assert decision.proposed == 300  # 1.25 x 250 sampled, down to a step


@pytest.mark.parametrize(
    ("last", "magnet", "expected"),
    [
        ({"fe": 76.0}, None, j.WATCH), ({"fe": 170.0}, None, j.ACT),
        ({"fe": 150.5}, None, j.WATCH),  # past act by less than two standard deviations
        ({"bn": 3.0, "an": 4.5}, None, j.ACT), ({}, 4, j.STOP), ({}, 3, j.WATCH), ({}, 2, j.RUN_ON),
        ({"v100": 11.0}, None, j.ACT), ({"fuel_pct": 3.0}, None, j.WATCH),
    ],
)  # fmt: skip
def test_the_verdict_follows_its_mapping(last, magnet, expected):
    h = history(last=last, magnet=magnet)
    h.samples.drained[:] = True
    charges = cut(h)
    judgement = j.judge(h, charges, stretch_rates(h, charges), table())
    assert judgement.proposed[-1] == expected
    if expected != j.RUN_ON:
        assert j.evidence(h, judgement, stretch_rates(h, charges), 4)


def test_nothing_measured_has_no_verdict():
    h = history()
    h.samples.values[-1] = np.nan
    charges = cut(h)
    assert j.judge(h, charges, stretch_rates(h, charges), table()).proposed[-1] == j.NONE


def test_a_judgement_uses_nothing_later_than_its_sample():
    full = history(charges=6, last={"fe": 400.0, "si": 80.0})
    short = history(charges=5)
    a, b = (j.judge(h, cut(h), stretch_rates(h, cut(h)), table()).proposed for h in (full, short))
    assert list(a[:5]) == list(b)


def test_censored_values_prove_only_what_they_prove():
    h = history(last={"fe": 200.0, "bn": 4.0})
    bit = 1 << 0
    h.samples.below[-1] = bit  # iron < 200: not a rise
    charges = cut(h)
    past = j.judge(h, charges, stretch_rates(h, charges), table()).past
    assert not past.act_high[-1, 0]
    h.samples.below[-1], h.samples.above[-1] = 0, bit  # iron > 200: past act 150 for certain
    past = j.judge(h, charges, stretch_rates(h, charges), table()).past
    assert past.act_clear[-1, 0]


def test_never_more_than_is_safe_is_proposed_not_even_one_step():
    decision, _ = decided(history(every=40.0, interval=40.0, bn_loss=9.5))
    assert decision.outcome == SHORTEN
    assert decision.proposed <= decision.safe < 25


def stood(h, *at):
    """The same history, the given samples drawn after the oil had stood."""
    flags = np.zeros(len(h.samples.comp), dtype=bool)
    flags[list(at)] = True
    return replace(h, samples=replace(h.samples, stood=flags))


@pytest.mark.parametrize(
    ("warmth", "minutes", "expected"),
    [("cool", 5.0, True), ("warm", 12.0, False), ("warm", 90.0, True), (None, None, False), (None, 30.0, False), ("hot", None, False)],
)
def test_when_oil_counts_as_stood(warmth, minutes, expected):
    """Half an hour: common practice, no source."""
    assert has_stood(warmth, minutes) is expected


def test_a_clean_sample_from_standing_oil_does_not_lengthen():
    firm, _ = decided(history())
    assert firm.outcome == LENGTHEN
    weak, judgement = decided(stood(history(), 2, 3, 4))
    assert weak.outcome == HOLD
    verdicts = next(g for g in weak.guards if g.key == "verdicts")
    assert verdicts.bites and "3 drawn after the oil had stood not counted" in say(verdicts.fact)
    # what is dissolved (base number, oxidation) is as good as ever: the safe hours do not move
    assert weak.safe == pytest.approx(firm.safe)
    # the samples themselves still stand as Run on, and say why they weigh little
    assert (judgement.proposed == j.RUN_ON).all()
    h = stood(history(), 4)
    charges = cut(h)
    rates = stretch_rates(h, charges)
    assert any("had stood" in text for text in each(j.evidence(h, j.judge(h, charges, rates, table()), rates, 4)))
    assert not any("had stood" in text for text in each(j.evidence(h, j.judge(h, charges, rates, table()), rates, 3)))


def test_standing_oil_shows_a_fault_but_does_not_close_one():
    wet = history()
    values = wet.samples.values.copy()
    values[:, INDEX["water_ppm"]] = 100.0
    values[3, INDEX["water_ppm"]] = 6000.0
    wet = replace(wet, samples=replace(wet.samples, values=values))
    assert decided(wet)[0].open_faults == ()
    assert any("Water" in f for f in each(decided(stood(wet, 4))[0].open_faults))
    worse = values.copy()
    worse[3, INDEX["water_ppm"]], worse[4, INDEX["water_ppm"]] = 100.0, 6000.0
    seen = stood(replace(wet, samples=replace(wet.samples, values=worse)), 4)
    assert any("Water" in f for f in each(decided(seen)[0].open_faults))
