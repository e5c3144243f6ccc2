"""No interval may be wrong on the dangerous side: each of these histories once made it longer than it may be.

One engine, new base number 10, watch at 5, 500 h today, about 7 at 500 h unless said. Invented histories; the figures that
matter are worked beside them.
"""

from dataclasses import replace

import numpy as np
import pytest
from test_history_and_decide import decided, history

from vornet.core import judge as j
from vornet.core.charges import cut
from vornet.core.decide import decide
from vornet.core.decision import HOLD, LENGTHEN, NOT_ENOUGH, SHORTEN, Policy, Terms
from vornet.core.faults import open_faults
from vornet.core.history import Drains, Oils, Samples
from vornet.core.limits import FIXED_LIMITS, FixedLimit, table
from vornet.core.measurands import COUNT, INDEX, bit, dense
from vornet.core.rates import stretch_rates
from vornet.words.say import say


def with_samples(h, **columns):
    return replace(h, samples=replace(h.samples, **columns))


def answer(h, terms=None, limits=None, policy=None, names=None):
    charges = cut(h)
    known = limits or table()
    judgement = j.judge(h, charges, stretch_rates(h, charges), known)
    return decide(h, charges, judgement, known, policy or Policy(), [terms or Terms()], oil_names=names)[0]


def of(decision, key):
    return next(p for p in decision.properties if p.key == key)


def guard(decision, key):
    return next((g for g in decision.guards if g.key == key), None)


# ---- oil hours -------------------------------------------------------------------------------------------------
def sampled_at(h, hours):
    """The same charges with bottles drawn between drains, at so many oil hours."""
    n = len(h.samples.comp)
    return with_samples(h, total=h.drains.total[:n] + hours, oil_hours=np.full(n, hours), drained=np.zeros(n, bool),
                        day=h.drains.day[:n] + 30)  # fmt: skip


def test_a_row_without_meter_is_as_old_as_the_lab_was_told():
    h = sampled_at(history(bn_loss=1.8), 300.0)
    total = h.samples.total.copy()
    total[2] = np.nan
    blind = with_samples(h, total=total)
    assert cut(blind).oil_hours == pytest.approx([300.0] * 5)
    assert answer(h).outcome == NOT_ENOUGH  # 1.25 x 300 h does not reach 500
    assert (answer(blind).outcome, answer(blind).evidence_cap) == (NOT_ENOUGH, pytest.approx(375))


def test_oil_is_never_older_than_its_charge():
    h = sampled_at(history(), 300.0)
    total, hours = h.samples.total.copy(), h.samples.oil_hours.copy()
    total[1], hours[1] = np.nan, 9000.0
    assert cut(with_samples(h, total=total, oil_hours=hours)).oil_hours[1] == 500.0


@pytest.mark.parametrize("odd", [np.inf, -5.0, np.nan])
def test_figures_that_are_no_hours_are_none(odd):
    h = sampled_at(history(), 300.0)
    total, hours = h.samples.total.copy(), h.samples.oil_hours.copy()
    total[1], hours[1] = np.nan, odd
    charges = cut(with_samples(h, total=total, oil_hours=hours))
    assert np.isnan(charges.oil_hours[1])
    assert np.isfinite(np.delete(charges.oil_hours, 1)).all()


def added(h, total, hours, **values):
    """One more sample at the end of the history, in the running charge unless its meter says otherwise."""
    s, row = h.samples, dense(values)
    return replace(h, samples=Samples(
        np.append(s.comp, 0), np.append(s.day, h.drains.day[-1] + 40), np.append(s.total, total), np.append(s.oil_hours, hours),
        np.append(s.topup_l, 0.0), np.append(s.drained, False), np.append(s.usable, True), np.vstack([s.values, row]),
        np.append(s.below, 0), np.append(s.above, 0)))  # fmt: skip


def test_a_late_bottle_with_iron_alone_does_not_reach_further_for_the_base_number():
    h = sampled_at(history(bn_loss=1.5), 400.0)
    fill = h.drains.total[-1]
    late = added(h, fill + 900, 900.0, fe=30.0)
    assert of(answer(late), "bn").deepest == 400.0
    assert answer(late).evidence_cap == pytest.approx(1.25 * 400)


def test_oil_hours_that_were_only_typed_do_not_reach_further():
    h = sampled_at(history(bn_loss=1.5), 400.0)
    values = {"bn": 8.6, "an": 2.3, "oxidation": 12.0, "nitration": 8.0, "soot_pct": 0.5, "v100": 14.3, "fe": 20.0}
    typed = added(h, np.nan, 900.0, **values)
    assert of(answer(typed), "bn").deepest == 400.0
    metered = added(h, h.drains.total[-1] + 450, 450.0, **values)
    assert of(answer(metered), "bn").deepest == 450.0


# ---- oils ------------------------------------------------------------------------------------------------------
def changed_oil(h, last=1):
    """The last ``last`` fills poured another oil."""
    oil = h.drains.oil.copy()
    oil[-last:] = 1
    new = np.vstack([h.oils.new, h.oils.new])
    return replace(h, drains=replace(h.drains, oil=oil), oils=Oils(new, np.full(2, 0.87)))


def test_another_oil_starts_from_nothing():
    decision = answer(changed_oil(history()), names=["mild", "harsh"])
    assert decision.outcome == NOT_ENOUGH
    assert decision.charges == 0
    assert "harsh" in say(decision.reason)
    assert decision.sample_at == (425, 500)


def test_the_same_oil_again_counts_its_earlier_charges():
    h = history()
    oil = h.drains.oil.copy()
    oil[2] = 1
    back = replace(h, drains=replace(h.drains, oil=oil), oils=Oils(np.vstack([h.oils.new, h.oils.new]), np.full(2, 0.87)))
    assert answer(back).charges == 4


def test_what_another_oil_may_run_shortens_at_once():
    """How an approval on another oil's evidence ends stands in test_in_force; the oil's own cap is asked whatever stands."""
    decision = answer(changed_oil(history(interval=625.0)), Terms(oil_cap=400.0), names=["mild", "harsh"])
    assert (decision.outcome, decision.proposed) == (SHORTEN, 400.0)


@pytest.mark.parametrize("since", [-1, -2])
def test_an_exchanged_engine_starts_from_nothing(since):
    h = history()
    renewed = replace(h, compartments=replace(h.compartments, overhaul=np.array([h.drains.total[since]])))
    assert answer(renewed).outcome == NOT_ENOUGH
    assert answer(renewed).charges == -since - 1


def test_others_charges_of_the_new_oil_are_borrowed_and_said_so():
    """Two like engines have run the other oil for long, this one has just been filled with it."""
    parts = [changed_oil(history(), last=1), changed_oil(history(bn_loss=3.2), last=6), changed_oil(history(bn_loss=2.9), last=6)]
    columns = {
        name: np.concatenate([getattr(p.samples, name) for p in parts])
        for name in ("day", "total", "oil_hours", "topup_l", "drained", "usable", "values", "below", "above")
    }  # fmt: skip
    one = parts[0]
    h = replace(
        one, samples=Samples(np.repeat([0, 1, 2], 5), **columns),
        drains=Drains(np.repeat([0, 1, 2], 6), *(np.concatenate([getattr(p.drains, f) for p in parts]) for f in
                                                  ("day", "total", "out_l", "missing_l", "oil", "magnet"))),
        compartments=type(one.compartments)(*(x if x is None else np.repeat(x, 3) for x in vars(one.compartments).values())),
    )  # fmt: skip
    charges = cut(h)
    judgement = j.judge(h, charges, stretch_rates(h, charges), table())
    decision = decide(h, charges, judgement, table(), Policy(), [Terms()] * 3, oil_names=["mild", "harsh"])[0]
    assert of(decision, "bn").borrowed
    assert (decision.outcome, of(decision, "bn").n) == (NOT_ENOUGH, 0)
    assert 300 < of(decision, "bn").safe < 800  # told by the others, less surely
    assert "family" in say(decision.reason)


# ---- what is known only as a bound -----------------------------------------------------------------------------
def bounded(h, key, rows, figure, side):
    values, bits = h.samples.values.copy(), getattr(h.samples, side).copy()
    values[rows, INDEX[key]] = figure
    bits[rows] |= bit(key)
    return with_samples(h, values=values, **{side: bits})


@pytest.mark.parametrize(("key", "figure", "side"), [("bn", 4.0, "below"), ("oxidation", 30.0, "above"), ("nitration", 28.0, "above")])
def test_a_bound_on_the_limits_side_is_a_slope_at_least_that_steep(key, figure, side):
    h = bounded(history(), key, [0, 1], figure, side)
    decision = answer(h)
    assert decision.outcome == SHORTEN
    assert of(decision, key).n == 5  # none has vanished
    assert of(decision, key).bounded == 2
    assert decision.limiting == key


def test_an_acid_number_beyond_what_is_reported_counts_against_the_base_number():
    h = bounded(history(), "an", [0, 1], 6.0, "above")
    assert of(answer(h), "bn_minus_an").bounded == 2


def test_a_bound_short_of_the_limit_lengthens_nothing():
    h = bounded(history(bn_loss=1.5), "bn", [1], 8.0, "below")  # anything below 8 is possible, also 2
    decision = answer(h)
    assert decision.outcome == HOLD
    assert guard(decision, "bounded").bites


def test_a_bound_on_the_good_side_errs_towards_the_limit():
    fine = answer(history(bn_loss=1.5))
    kept = answer(bounded(history(bn_loss=1.5), "bn", [2], 8.0, "above"))  # over 8: at best as good as it was
    assert of(kept, "bn").n == 5
    assert of(kept, "bn").safe <= of(fine, "bn").safe


# ---- what cannot be answered -----------------------------------------------------------------------------------
def only(h, key, rows):
    values = h.samples.values.copy()
    values[[i for i in range(len(values)) if i not in rows], INDEX[key]] = np.nan
    return with_samples(h, values=values)


def test_a_property_measured_once_stops_lengthening_and_is_named():
    h = history()
    h.samples.values[2, INDEX["bn"]] = 5.2
    decision = answer(only(h, "bn", [2]))
    assert decision.outcome == NOT_ENOUGH
    assert "base number" in say(decision.reason)
    assert "base number" in say(decision.next_sample.fact)


def test_a_shortening_by_an_answered_property_stands_in_full():
    h = only(history(), "bn", [2])
    h.samples.values[:, INDEX["oxidation"]] = [32, 33, 31.5, 32.5, 33]  # 24 above new in 500 h: 20 are reached at about 415
    decision = answer(h)
    assert (decision.outcome, decision.limiting) == (SHORTEN, "oxidation")
    assert decision.proposed < 425


def test_what_was_never_measured_is_named_and_not_weighed():
    h = only(history(), "nitration", [])
    decision = answer(h)
    assert decision.outcome == LENGTHEN
    assert "nitration" in say(guard(decision, "unmeasured").fact)


def test_a_limit_that_hangs_on_an_unknown_new_oil_lets_lengthening_wait():
    h = history()
    h.oils.new[0, INDEX["oxidation"]] = np.nan
    decision = answer(h, names=["Plain 15W-40"])
    assert decision.outcome == HOLD
    assert of(decision, "oxidation").state == "no_limit"
    assert decision.next_sample.kind == "new_oil"
    assert "Plain 15W-40" in say(decision.next_sample.fact)
    h.samples.values[:, INDEX["bn"]] -= 2.5  # what is known still shortens
    assert answer(h).outcome == SHORTEN


def test_new_oil_past_an_absolute_limit_gives_no_figure():
    rows = [r for r in FIXED_LIMITS if not (r.key == "bn" and r.duty == "diesel_engine")]
    limits = table([*rows, FixedLimit("diesel_engine", "bn", "low", "absolute", 11.0, 9.0)])
    decision = answer(history(), limits=limits)
    assert of(decision, "bn").state == "impossible"
    assert "cannot hold for this oil" in say(guard(decision, "impossible").fact)
    assert decision.proposed == 500
    assert decision.outcome != LENGTHEN


# ---- how oil ages ----------------------------------------------------------------------------------------------
def bent(power, middle=True, charges=5, end=24.0, noise=0.3):
    """Oxidation that gains like oil hours to a power, 8 to ``end`` at 500 h, sampled half way as well or only at the end."""
    h = history(charges=charges, bn_loss=1.0)
    rng = np.random.default_rng(3)
    rows, totals, hours, days, drained = [], [], [], [], []
    for i in range(charges):
        pace = 1 + 0.04 * (-1) ** i
        for share in (0.5, 1.0) if middle else (1.0,):
            values = h.samples.values[i].copy()
            values[INDEX["bn"]] = 10 - 1.0 * share
            values[INDEX["oxidation"]] = 8 + (end - 8) * pace * share**power + noise * rng.standard_normal()
            rows.append(values)
            totals.append(h.drains.total[i] + 500 * share)
            hours.append(500 * share)
            days.append(h.drains.day[i] + 60 * share)
            drained.append(share == 1.0)
    n = len(rows)
    return replace(h, samples=Samples(np.zeros(n, int), np.array(days, int), np.array(totals), np.array(hours), np.zeros(n),
                                      np.array(drained), np.ones(n, bool), np.array(rows), np.zeros(n, np.int64),
                                      np.zeros(n, np.int64)))  # fmt: skip


@pytest.mark.parametrize("power", [1.0, 2.0])
def test_the_bend_that_bottles_show_is_followed(power):
    """Where 28 is truly met, with a fifteenth carried over: 8 + 16·u/(1 − f) = 28, u = (h/500)^p."""
    decision = answer(bent(power))
    found = of(decision, "oxidation")
    truly = 500 * (20 / 16 * (1 - 4 / 60)) ** (1 / power)
    assert found.bend == pytest.approx(power, abs=0.5)
    assert 0.8 * truly < found.safe < truly
    assert found.mean_crossing == pytest.approx(truly, rel=0.06)


def test_a_bend_that_nobody_could_see_is_allowed_for():
    """Bottles at the end only: what accelerates is not lengthened as if it were straight."""
    unseen, straight = of(answer(bent(1.0, middle=False)), "oxidation"), of(answer(bent(1.0)), "oxidation")
    assert unseen.safe < straight.safe
    assert unseen.safe < 500 * (20 / 16 * (1 - 4 / 60)) ** 0.5 * 1.02  # hardly beyond what a square would allow


def test_a_late_change_of_pace_decides():
    h = history(charges=7)
    values = h.samples.values.copy()
    values[-3:, INDEX["bn"]] = 10 - 1.45 * 3.0 * np.array([1.0, 1.02, 0.98])
    decision = answer(with_samples(h, values=values))
    assert of(decision, "bn").pace == pytest.approx(1.45, abs=0.15)
    assert decision.outcome == SHORTEN
    assert "1.4 times as fast" in say(decision.reason) or "1.5 times as fast" in say(decision.reason)
    # the first ones faster, the last ones slower: nothing is believed of it yet
    early = h.samples.values.copy()
    early[:3, INDEX["bn"]] = 10 - 1.45 * 3.0
    assert of(answer(with_samples(h, values=early)), "bn").pace is None


def test_several_properties_near_their_limits_share_one_risk():
    h = history()
    lone = answer(h)
    values = h.samples.values.copy()
    wobble = np.array([1.0, 1.05, 0.96, 1.02, 0.98])
    values[:, INDEX["oxidation"]] = 8 + 12.2 * wobble[::-1]
    values[:, INDEX["nitration"]] = 5 + 12.2 * wobble[[2, 0, 4, 1, 3]]
    values[:, INDEX["soot_pct"]] = 1.22 * wobble
    both = answer(with_samples(h, values=values))
    least = min(p.safe for p in both.properties if p.safe is not None)
    assert both.safe < least
    assert both.safe < lone.safe
    assert lone.safe <= min(p.safe for p in lone.properties if p.safe is not None) + 1e-6


# ---- what a charge hands on ------------------------------------------------------------------------------------
def half_behind(h):
    """A sump of which 40 % stay behind, so that a start that is wrong is wrong by much."""
    return replace(h, drains=replace(h.drains, out_l=np.full(len(h.drains.comp), 34.0)))  # 60 L, 2 low, 34 out: 24 stay


def carried(charges_of_bn):
    """Values at 500 h where 40 % of the end stays behind and each charge loses 3: 10 − 3 − 0.4·(what the last had lost)."""
    lost = 0.0
    for _ in range(charges_of_bn):
        lost = 3.0 + 0.4 * lost
    return 10 - lost


def test_an_unsampled_charge_hands_on_what_its_rate_says():
    h = half_behind(history(charges=6, spread=False))
    values = h.samples.values.copy()
    values[:, INDEX["bn"]] = [carried(k + 1) for k in range(6)]
    full = with_samples(h, values=values)
    usable = np.ones(6, bool)
    usable[4] = False
    without = with_samples(full, usable=usable)
    at = INDEX["bn"]
    assert cut(full).start[6, at] == pytest.approx(cut(without).start[6, at], abs=0.15)  # not new oil's 10
    assert cut(without).start_sd[6, at] > cut(full).start_sd[6, at]
    assert of(answer(without), "bn").mean_slope == pytest.approx(of(answer(full), "bn").mean_slope, rel=0.08)


def test_one_early_bottle_does_not_set_the_end():
    h = half_behind(history(charges=6, spread=False))
    values, total, hours, drained = (x.copy() for x in (h.samples.values, h.samples.total, h.samples.oil_hours, h.samples.drained))
    values[:, INDEX["bn"]] = [carried(k + 1) for k in range(6)]
    at = INDEX["bn"]
    plain = cut(with_samples(h, values=values)).start[6, at]
    total[4] -= 490
    hours[4], drained[4] = 10.0, False
    values[4, at] = cut(with_samples(h, values=values)).start[5, at] - 0.4  # a reading off by its own scatter
    early = with_samples(h, values=values, total=total, oil_hours=hours, drained=drained)
    assert cut(early).start[6, at] == pytest.approx(plain, abs=0.3)


def test_errors_of_the_start_reach_the_decision():
    h = half_behind(history())
    sure = replace(h, drains=replace(h.drains, estimated=np.zeros(6, bool)))
    guessed = replace(h, drains=replace(h.drains, estimated=np.ones(6, bool)))
    assert of(answer(guessed), "bn").mean_se > of(answer(sure), "bn").mean_se


# ---- faults ----------------------------------------------------------------------------------------------------
def test_with_every_charge_moved_the_least_of_both_is_taken():
    h = history(bn_loss=6.0)
    h.samples.values[:, INDEX["na"]] = 90.0  # salts in every charge
    h.samples.values[:, INDEX["k"]] = 40.0
    h.samples.values[:, [INDEX["soot_pct"], INDEX["nitration"]]] = np.nan  # what salts leave alone was not measured
    decision = answer(h)
    assert decision.open_faults
    assert of(decision, "bn").n == 0
    assert decision.outcome == SHORTEN
    assert decision.proposed <= decision.safe_as_is < 450


def salted(h, sodium):
    values = h.samples.values.copy()
    values[:, INDEX["na"]] = sodium
    return with_samples(h, values=values)


def half_way(h, i, share):
    total, hours, drained = h.samples.total.copy(), h.samples.oil_hours.copy(), h.samples.drained.copy()
    total[i] -= 500 * (1 - share)
    hours[i], drained[i] = 500 * share, False
    return with_samples(h, total=total, oil_hours=hours, drained=drained)


def faults_of(h):
    charges = cut(h)
    return [say(f.fact) for f in open_faults(h, charges, j.judge(h, charges, stretch_rates(h, charges), table()))[0]]


def test_a_leak_is_not_over_because_the_oil_is_younger():
    """60 mg/kg of sodium at 500 h, 36 at 300 h: the same leak, below its watch limit of 40 for want of hours."""
    quiet = [3.0, 3.0, 3.0, 3.0, 3.0]
    still = half_way(salted(history(charges=7), [*quiet, 60.0, 38.0]), 6, 0.6)
    assert any("Sodium" in f for f in faults_of(still))
    mended = half_way(salted(history(charges=7), [*quiet, 60.0, 6.0]), 6, 0.6)  # 4 of them carried over
    assert not any("Sodium" in f for f in faults_of(mended))


@pytest.mark.parametrize(("share", "open_"), [(0.3, True), (0.6, False)])
def test_what_comes_and_goes_closes_by_level_at_half_the_hours(share, open_):
    h = history(charges=7)
    values = h.samples.values.copy()
    values[:, INDEX["fuel_pct"]] = [0.4] * 5 + [3.2, 0.4]
    found = faults_of(half_way(with_samples(h, values=values), 6, share))
    assert any("Fuel 3.2" in f for f in found) == open_


def test_the_measurands_of_an_open_fault_are_named():
    decision = answer(salted(history(charges=7), [3.0] * 5 + [4.0, 90.0]))
    assert decision.open_measurands[0] == "na"


# ---- why not longer, and what would move it --------------------------------------------------------------------
def test_every_guard_that_bites_says_what_lifts_it_and_what_that_is_worth():
    policy = Policy(run_on_needed=6)
    decision = answer(history(), policy=policy)
    assert decision.outcome == HOLD
    bites = [g for g in decision.guards if g.bites]
    assert {"verdicts", "step", "sampled"} <= {g.key for g in bites}
    assert all(g.lifts for g in bites)
    assert guard(decision, "verdicts").worth == 125  # then +25 % at once
    assert guard(decision, "step").worth == 0  # the verdicts still stand in the way
    lengthened = answer(history(), Terms(cap=550.0))
    assert (lengthened.proposed, guard(lengthened, "cap").worth) == (550, 75)


def test_the_next_best_bottle_is_the_one_that_would_move_the_answer():
    few = answer(history(charges=2))
    assert few.next_sample.at == (425, 500)
    near = answer(history(bn_loss=3.9))  # too close to call: one more charge may tip it
    assert near.next_sample.kind == "used"
    assert 0 < near.next_sample.chance <= 1
    assert "base number" in say(near.next_sample.fact)


def test_too_little_above_today_is_not_worth_moving_for():
    decision = answer(history(bn_loss=4.1))
    assert 500 < decision.safe < 535
    assert decision.outcome == HOLD
    assert "too little above" in say(decision.reason)


def test_an_empty_history_answers_plainly():
    h = history(charges=1)
    values = np.full((1, COUNT), np.nan)
    decision, _ = decided(with_samples(h, values=values))
    assert decision.outcome == NOT_ENOUGH


def test_a_bend_that_nobody_saw_shortens_nothing_by_itself():
    h = sampled_at(history(bn_loss=1.8), 300.0)  # oxidation 7 above new at 300 h: 20 by 500 h if it went like the square
    decision = answer(h)
    assert decision.safe < 500
    assert (decision.outcome, decision.proposed) == (NOT_ENOUGH, 500)
    later = sampled_at(history(bn_loss=2.0), 420.0)
    later.samples.values[:, INDEX["oxidation"]] = 8 + 13.6 * np.array([1.0, 1.03, 0.97, 1.02, 0.98])
    unseen = answer(later)
    assert (unseen.outcome, "half way" in say(unseen.next_sample.fact)) == (NOT_ENOUGH, True)
