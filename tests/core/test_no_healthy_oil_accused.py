"""Faults by their names and healthy oil left alone: what each rule is for, on the invented fleet of test_screening."""

from dataclasses import replace

import numpy as np
import pytest
from test_causes import KEYS, added, departed, first, worked
from test_screening import CHARGES, changed, fleet

from vornet.core import departures, diagnose
from vornet.core import judge as j
from vornet.core.charges import cut
from vornet.core.departures import AT, AT_CHARGE, NEVER_TEACHES, SURELY_TEACHES
from vornet.core.diagnose import PROBABLE, STRONG
from vornet.core.limits import table
from vornet.core.measurands import INDEX
from vornet.core.precision import BETWEEN_LABS
from vornet.core.rates import stretch_rates
from vornet.sim import steady
from vornet.words.say import each

HALVES = 2 * CHARGES - 1


def many(history, at, engine, halves, **gains):
    """So much more of each measurand, half of it at mid-charge, in some half-charges of an engine."""
    for half in halves:
        history, _ = added(history, at, (engine, half), **{k: x * (1.0 if half % 2 else 0.5) for k, x in gains.items()})
    return history


def strength(judgement, i, key):
    return int(judgement.diagnosis.strength[i, KEYS.index(key)])


# ---- labs ------------------------------------------------------------------------------------------------


def other_lab(history, at, since, lean):
    """From half-charge ``since`` on everything of every engine goes to another lab, which reads iron so much higher."""
    lab = np.ones(len(history.samples.comp), dtype=np.int64)
    values = history.samples.values.copy()
    for (c, half), i in at.items():
        if half >= since:
            lab[i] = 2
            if c < 3:
                values[i, INDEX["fe"]] += lean
    return replace(history, samples=replace(history.samples, values=values, lab=lab)), lab


def test_a_change_of_lab_is_no_shift():
    history, at = fleet()
    moved, _ = other_lab(history, at, 10, 6.0)
    unknown = replace(moved, samples=replace(moved.samples, lab=None))
    z = [departed(h).z[at[(0, 10)], AT_CHARGE["fe"]] for h in (moved, unknown)]
    assert 0 < z[0] < z[1]  # of two labs' readings less is told
    for half in range(10, HALVES):
        assert worked(moved).proposed[at[(0, half)]] == j.RUN_ON


def test_a_rate_across_two_labs_carries_reproducibility():
    """ASTM D7669 idea: the difference of two results scatters by their method's, of two labs by reproducibility."""
    history, at = fleet()
    moved, _ = other_lab(history, at, 11, 0.0)
    charges = cut(moved)
    rates, same = stretch_rates(moved, charges), stretch_rates(history, cut(history))
    i = at[(0, 11)]
    assert rates.across[i] and not same.across[i]
    assert rates.se[i, 0] == pytest.approx(same.se[i, 0] * BETWEEN_LABS / 1.5, rel=1e-9)


# ---- a baseline learns no fault, a fault keeps its name ------------------------------------------------------


def test_a_baseline_does_not_learn_a_fault_while_it_lasts():
    history, at = fleet()
    broken = many(history, at, 0, range(6, HALVES), pb=30, sn=8, cu=14)
    d = departed(broken)
    before, last = d.usual[at[(0, 6)], AT_CHARGE["pb"]], d.usual[at[(0, HALVES - 1)], AT_CHARGE["pb"]]
    assert last == pytest.approx(before, rel=0.1)
    assert first(worked(broken), at[(0, HALVES - 1)])[0] == "bearing"


def test_a_person_who_signs_run_on_against_the_proposal_teaches_it():
    history, at = fleet()
    broken = many(history, at, 0, range(6, HALVES), cu=14)
    said = np.zeros(len(history.samples.comp), dtype=int)
    said[[at[(0, half)] for half in range(6, HALVES)]] = SURELY_TEACHES
    charges = cut(broken)
    rates = stretch_rates(broken, charges)
    past = j.past_limits(broken, charges, table())
    taught, plain = (departures.departures(broken, charges, rates, past, t) for t in (said, None))
    i, column = at[(0, HALVES - 1)], AT_CHARGE["cu"]
    assert taught.usual[i, column] > 1.5 * plain.usual[i, column]
    said[:] = 0
    said[at[(0, 3)]] = NEVER_TEACHES
    assert departures.departures(broken, charges, rates, past, said).n[i, AT["fe"]] < plain.n[i, AT["fe"]]


def test_what_was_named_stays_named_while_it_falls_and_is_above_twice_the_family():
    history, at = fleet()
    broken = many(history, at, 0, range(8, 11), pb=34, sn=9, cu=16)
    falling = many(broken, at, 0, (11, 12), pb=9, sn=2, cu=4)
    judgement = worked(falling)
    assert strength(judgement, at[(0, 10)], "bearing") >= PROBABLE
    assert strength(judgement, at[(0, 12)], "bearing") >= PROBABLE
    assert strength(worked(broken), at[(0, HALVES - 1)], "bearing") < PROBABLE  # back at the usual it is over


# ---- salt, copper, aluminium -----------------------------------------------------------------------------


def test_sodium_with_water_alone_is_not_strong_coolant():
    history, at = fleet()
    alone, i = added(history, at, (0, 13), na=120, water_ppm=900)
    assert strength(worked(alone), i, "coolant") <= PROBABLE
    company, i = added(history, at, (0, 13), na=120, k=45, water_ppm=900)
    assert strength(worked(company), i, "coolant") == STRONG


@pytest.mark.parametrize(("mg", "named", "other"), [(120 / 8.35, "sea_water", "coolant"), (0.0, "coolant", "sea_water")])
def test_magnesium_tells_sea_water_from_coolant(mg, named, other):
    """Standard sea water, S = 35: 10.77 g/kg of sodium to 1.29 of magnesium."""
    history, at = fleet()
    broken, i = added(history, at, (0, 13), na=120, mg=mg)
    judgement = worked(broken)
    assert strength(judgement, i, named) >= PROBABLE > strength(judgement, i, other)


@pytest.mark.parametrize("interval_count", [3.5, 4.5, 6.0, 9.0])
def test_copper_of_a_new_cooler_has_no_day_on_which_it_ends(interval_count):
    history, at = fleet()
    overhaul = history.compartments.overhaul.copy()
    overhaul[0] = history.samples.total[at[(0, 13)]] - interval_count * 500
    new = replace(history, compartments=replace(history.compartments, overhaul=overhaul))
    broken, i = added(new, at, (0, 13), cu=40)
    assert strength(worked(broken), i, "cooler_leaching") >= PROBABLE


def test_copper_that_fades_charge_by_charge_is_the_cooler_not_a_bushing():
    history, at = fleet()
    for charge, cu in enumerate((60, 43, 31, 22)):
        history = many(history, at, 0, (6 + 2 * charge, 7 + 2 * charge), cu=cu)
    judgement = worked(history)
    assert first(judgement, at[(0, 12)])[0] == "cooler_leaching"
    assert strength(judgement, at[(0, 12)], "cooler_leaching") >= PROBABLE
    assert judgement.proposed[at[(0, 12)]] == j.WATCH


def test_copper_clearly_up_alone_is_spoken_of():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), cu=26)
    judgement = worked(broken)
    assert first(judgement, i) == ("bushing", PROBABLE)
    assert judgement.proposed[i] == j.WATCH
    assert any("brass" in t for t in each(diagnose.evidence_of(judgement.diagnosis, KEYS.index("bushing"), i)))


def test_scuffing_does_not_wait_for_iron_to_reach_half_its_limit():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), al=30, fe=16)
    key, strong = first(worked(broken), i)
    assert key == "scuffing" and strong >= PROBABLE


def test_two_signs_of_a_worn_out_additive_add_up():
    """Base number plainly faster, acid number a little: together they are more than the lesser of the two."""
    history, at = fleet()
    broken = many(history, at, 0, range(8, HALVES), bn=-1.6, an=0.7)
    assert strength(worked(broken), at[(0, 9)], "spent_additive") >= PROBABLE


def test_a_rise_of_boron_shows_where_no_record_tells_what_new_oil_holds():
    history, at = fleet(engines=1)
    oils = history.oils.new.copy()
    oils[:, INDEX["b"]] = np.nan
    unknown = replace(history, oils=replace(history.oils, new=oils))
    i = at[(0, 13)]
    broken = changed(unknown, i, b=float(history.samples.values[i, INDEX["b"]]) + 40)
    d = departed(broken)
    assert d.z[i, AT["b"]] > 4
    assert abs(d.z[at[(0, 11)], AT["b"]]) < 3


# ---- unlike, young, steady ---------------------------------------------------------------------------------


def unlike(times, halves=range(HALVES)):
    """Engine 0 wears so many times as fast as its family, from its first bottle on."""
    history, at = fleet(engines=5)
    values = history.samples.values.copy()
    for half in halves:
        i = at[(0, half)]
        values[i, INDEX["fe"]] = values[i, INDEX["fe"]] * times
    return replace(history, samples=replace(history.samples, values=values)), at


def test_a_steady_but_unlike_engine_does_not_alarm_for_being_unlike():
    history, at = unlike(1.7)
    iron = history.samples.values[at[(0, 13)], INDEX["fe"]]
    rows = [replace(r, watch=iron - 6, act=2 * iron) if (r.key, r.side) == ("fe", "high") else r for r in j_limits()]
    charges = cut(history)
    judgement = j.judge(history, charges, stretch_rates(history, charges), table(rows))
    i = at[(0, 13)]
    assert judgement.past.watch_high[i, INDEX["fe"]] and judgement.steady[i, INDEX["fe"]]
    assert judgement.proposed[i] == j.RUN_ON
    said = each(j.evidence(history, judgement, stretch_rates(history, charges), i))
    assert any("as always here" in t and "stands against lengthening" in t for t in said)
    early = at[(0, 3)]  # nobody knows it yet: the limit speaks
    if judgement.past.watch_high[early, INDEX["fe"]]:
        assert judgement.proposed[early] == j.WATCH
    more = changed(history, i, fe=iron * 1.5)  # the same engine, wearing faster than it used to
    charges = cut(more)
    assert j.judge(more, charges, stretch_rates(more, charges), table(rows)).proposed[i] >= j.WATCH


def j_limits():
    from vornet.core.limits import FIXED_LIMITS

    return [r for r in FIXED_LIMITS if r.duty == "diesel_engine"]


def test_ill_from_the_first_bottle_is_not_steady():
    """Three times the family's wear is no likeness: the limit speaks however steady it is."""
    history, at = unlike(3.5)
    i = at[(0, 13)]
    judgement = worked(history)
    assert judgement.past.watch_high[i, INDEX["fe"]] and not judgement.steady[i, INDEX["fe"]]
    assert judgement.proposed[i] >= j.WATCH


# ---- false alarms of shifts --------------------------------------------------------------------------------


@pytest.mark.parametrize("samples_a_charge", [1, 3])
@pytest.mark.parametrize("lab_changes", [False, True])
def test_engines_that_wear_as_always_do_not_shift(samples_a_charge, lab_changes):
    """One-sided CUSUM, k = 0.5, h = 5: about 930 values between false alarms (Montgomery, ch. 9); a charge counts once."""
    history = steady.history(11, samples_a_charge, compartments=40, lab_changes=lab_changes)
    charges = cut(history)
    rates = stretch_rates(history, charges)
    past = j.past_limits(history, charges, table())
    n = len(history.samples.comp)
    assert j.rate_shift(history, charges, rates, past).real.any(axis=1).sum() <= 0.001 * n
    drift = np.nan_to_num(departures.departures(history, charges, rates, past).drift[:, AT_CHARGE["fe"]])
    begins = (drift[1:] >= 5) & (drift[:-1] < 5) & (np.diff(history.samples.comp) == 0)
    assert begins.sum() <= 0.005 * n


def test_a_true_shift_is_still_told_with_three_samples_a_charge():
    history = steady.history(12, 3, compartments=20)
    values = history.samples.values.copy()
    late = history.samples.total > 3000 + 18 * steady.INTERVAL
    values[late, INDEX["fe"]] *= 3.0
    shifted = replace(history, samples=replace(history.samples, values=values))
    charges = cut(shifted)
    rates = stretch_rates(shifted, charges)
    real = j.rate_shift(shifted, charges, rates, j.past_limits(shifted, charges, table())).real[:, 0]
    assert len(np.unique(shifted.samples.comp[real & late])) >= 15
    assert real[~late].sum() <= 2


@pytest.mark.parametrize(("lab", "passed"), [(1, True), (2, False)])
def test_a_limit_above_estimated_new_oil_carries_what_labs_differ_by(lab, passed):
    """The acid number of new oil was estimated from one lab's bottles; another lab's reading a little past it proves nothing."""
    from vornet.core.compare import past_limits
    from vornet.core.fresh import Fresh, Step

    history, at = fleet()
    gear = at[(3, 13)]
    values = history.samples.values.copy()
    for (c, half), i in at.items():
        if c >= 3:
            values[i, INDEX["an"]] = 2.0 if half < 13 else 3.15
    record = history.oils.new.copy()
    record[1, INDEX["an"]] = np.nan
    labs = np.ones(len(history.samples.comp), dtype=np.int64)
    labs[gear] = lab
    known = Fresh(record, (Step(1, INDEX["an"], 0.0, 2.0, 0.05, True),))
    seen = replace(history, oils=replace(history.oils, new=record), fresh=known, samples=replace(history.samples, values=values, lab=labs))
    past = past_limits(seen, cut(seen), table())
    assert past.limits["high"][0][gear, INDEX["an"]] == pytest.approx(3.0)
    assert bool(past.watch_high[gear, INDEX["an"]]) is passed
