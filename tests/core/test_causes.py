"""Departures from what is usual, and causes: each sign where the answer is plain, the statistics against their formulas."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_screening import changed, fleet

from vornet.core import causes, departures, diagnose
from vornet.core import judge as j
from vornet.core.charges import cut
from vornet.core.compare import past_limits
from vornet.core.departures import AT, AT_CHARGE
from vornet.core.diagnose import POSSIBLE, PROBABLE, STRONG
from vornet.core.fact import told
from vornet.core.limits import table
from vornet.core.measurands import COUNT, INDEX
from vornet.core.rates import stretch_rates
from vornet.core.seen import SIGNS, Seen, nothing_seen
from vornet.words.say import each

KEYS = [c.key for c in causes.CAUSES]


def worked(history, seen=None):
    charges = cut(history)
    rates = stretch_rates(history, charges)
    return j.judge(history, charges, rates, table(), seen or nothing_seen(len(history.samples.comp)))


def departed(history):
    charges = cut(history)
    rates = stretch_rates(history, charges)
    return departures.departures(history, charges, rates, past_limits(history, charges, table()))


def added(history, at, place, **gains):
    """The history with so much more of each measurand in one sample."""
    i = at[place]
    now = {k: history.samples.values[i, INDEX[k]] for k in gains}
    return changed(history, i, **{k: (0.0 if np.isnan(now[k]) else now[k]) + x for k, x in gains.items()}), i


def first(judgement, i):
    best = judgement.diagnosis.best_first(i)
    return (KEYS[best[0]], int(judgement.diagnosis.strength[i, best[0]])) if best else ("", 0)


# what each fault adds to one sample at 500 h (invented; of the size a person would call plain)
PLAIN = {
    "dirt": ({"si": 40, "al": 10, "fe": 30, "cr": 3}, (0, 13)),
    "silicone": ({"si": 45}, (0, 13)),
    "coolant": ({"na": 90, "k": 35, "b": 25, "cu": 6}, (0, 13)),
    "sea_water": ({"na": 200, "mg": 24, "water_ppm": 900}, (0, 13)),
    "condensation": ({"water_ppm": 1400}, (0, 13)),
    "fuel": ({"fuel_pct": 5, "v100": -2.2}, (0, 13)),
    "combustion": ({"soot_pct": 2.4, "bn": -1.5, "fe": 12}, (0, 13)),
    "overheated_oil": ({"oxidation": 22, "an": 1.6, "v100": 1.4}, (0, 13)),
    "blow_by": ({"fe": 60, "cr": 10, "nitration": 9, "soot_pct": 1.2}, (0, 13)),
    "scuffing": ({"al": 30, "fe": 50, "cr": 2}, (0, 13)),
    "bearing": ({"pb": 35, "sn": 9, "cu": 15}, (0, 13)),
    "bushing": ({"cu": 45, "sn": 14}, (0, 13)),
    "gear_or_valve": ({"fe": 150, "ni": 5}, (4, 13)),
    "spent_additive": ({"bn": -3.2, "an": 2.6}, (0, 13)),
}


@pytest.mark.parametrize("key", PLAIN)
def test_a_plain_case_is_named_first(key):
    history, at = fleet()
    gains, place = PLAIN[key]
    broken, i = added(history, at, place, **gains)
    judgement = worked(broken)
    name, strength = first(judgement, i)
    assert name == key
    assert strength >= PROBABLE
    assert judgement.proposed[i] >= (j.WATCH if strength == STRONG or causes.BY_KEY[key].grave != "note" else j.RUN_ON)
    said = each(diagnose.evidence_of(judgement.diagnosis, KEYS.index(key), i, told("per", span=500, meter="h")))
    assert said
    assert all("nan" not in text.lower() for text in said)


def test_a_healthy_fleet_has_no_cause_and_runs_on():
    for seed in range(4):
        history, _ = fleet(seed)
        judgement = worked(history)
        assert (judgement.diagnosis.strength < PROBABLE).all()
        assert (judgement.proposed == j.RUN_ON).all()


def test_several_causes_hold_at_once():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), si=45, al=12, fe=30, cr=3, fuel_pct=5, v100=-2.2)
    found = {KEYS[k] for k in worked(broken).diagnosis.best_first(i)[:2]}
    assert found == {"dirt", "fuel"}


def test_thin_oil_alone_is_at_most_possible_fuel():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), v100=-2.0)
    judgement = worked(broken)
    assert first(judgement, i) == ("fuel", POSSIBLE)
    said = each(diagnose.evidence_of(judgement.diagnosis, KEYS.index("fuel"), i))
    assert any("shear" in text for text in said)


def test_salt_is_undecided_where_the_oil_is_full_of_magnesium():
    history, at = fleet()
    oils = history.oils.new.copy()
    oils[0, INDEX["mg"]] = 1000
    values = history.samples.values.copy()
    engine = history.samples.comp < 3
    rng = np.random.default_rng(5)
    values[engine, INDEX["mg"]] = 1000 + 25 * rng.standard_normal(engine.sum())
    rich = replace(history, oils=replace(history.oils, new=oils), samples=replace(history.samples, values=values))
    broken, i = added(rich, at, (0, 13), na=60, mg=7)
    judgement = worked(broken)
    names = {KEYS[k]: int(judgement.diagnosis.strength[i, k]) for k in judgement.diagnosis.best_first(i)}
    assert names.get("sea_water") == PROBABLE and names.get("coolant") == PROBABLE
    assert any("undecided" in t for t in each(diagnose.evidence_of(judgement.diagnosis, KEYS.index("sea_water"), i)))
    plain, i = added(history, at, (0, 13), na=60, mg=7)  # with 20 mg/kg of its own the same is plain
    assert first(worked(plain), i)[0] == "sea_water"


def test_what_was_seen_at_the_drain_counts():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), si=14, al=3.5)
    k = KEYS.index("dirt")
    before = worked(broken).diagnosis.score[i, k]
    n = len(history.samples.comp)
    air = np.zeros(n)
    air[i] = 1.0
    after = worked(broken, Seen(n, {"air_filter": air}))
    assert after.diagnosis.score[i, k] == pytest.approx(before + 0.4)
    assert any("air filter" in t.lower() for t in each(diagnose.evidence_of(after.diagnosis, k, i)))
    repaired = worked(broken, Seen(n, {"repair": np.ones(n)}))
    silicone = KEYS.index("silicone")
    assert repaired.diagnosis.score[i, silicone] == pytest.approx(worked(broken).diagnosis.score[i, silicone] + 0.3)


#: every sign of SIGNS that supports or opens a cause
SEEN_FOR = [(c.key, s.keys[0]) for c in causes.CAUSES for s, _ in c.supports if s.kind == "fact" and s.keys[0] in SIGNS]


#: what a contrary sign may look like beside a cause (invented)
CONTRARY = {
    "na": 90, "k": 35, "b": 25, "si": 40, "fe": 30, "cr": 3, "al": 10, "ni": 5, "fuel_pct": 3, "soot_pct": 2, "pb": 20, "oxidation": 15,
}  # fmt: skip


@lru_cache(maxsize=400)
def _without_it(key, n):
    """The n-th of the samples that may add up to a cause, with nothing seen: (history, its place, its strength)."""
    history, at = fleet()
    gains = list(_alike_but_for_one_thing(key))[n]
    broken, i = added(history, at, PLAIN[key][1], **gains)
    return broken, i, worked(broken).diagnosis.strength[i, KEYS.index(key)]


def _alike_but_for_one_thing(key):
    """What may add up to a cause without settling it: the plain case, its main signs only, either with something against it."""
    gains = PLAIN[key][0]
    main = {m: x for m, x in gains.items() if m in causes.main_keys(key)}
    contrary = [m for s, _ in causes.BY_KEY[key].against if s.kind == "up" for m in s.keys if m in CONTRARY]
    for base in (gains, main):
        for more in ("", *contrary):
            for share in np.arange(0.05, 1.25, 0.05):
                yield {m: x * share for m, x in base.items()} | ({more: CONTRARY[more] * 0.5} if more else {})


@pytest.mark.parametrize(("key", "sign"), SEEN_FOR)
def test_two_samples_equal_but_for_what_was_seen_differ_in_strength(key, sign):
    """Somewhere between nothing and the plain case that one thing seen makes the difference, and never downwards."""
    k = KEYS.index(key)
    for which in range(len(list(_alike_but_for_one_thing(key)))):
        broken, i, without = _without_it(key, which)
        degree = np.zeros(len(broken.samples.comp))
        degree[i] = 1.0
        with_it = worked(broken, Seen(len(degree), {sign: degree})).diagnosis.strength[i, k]
        assert with_it >= without
        if with_it > without:
            return
    raise AssertionError(f"{sign} never made {key} any stronger")


def test_every_sign_is_said_and_weighs_somewhere():
    weighs = {sign for _, sign in SEEN_FOR} | {"leaked"}  # a leak takes weight from oil use
    assert weighs == set(SIGNS)


def test_what_leaks_out_is_not_burnt():
    history, at = fleet()
    broken, _ = added(history, at, (0, 13), fe=60, cr=10)
    n = len(history.samples.comp)
    charges = cut(broken)
    found = worked(broken, Seen(n, {"leaked": np.ones(n)})).diagnosis
    use = diagnose.oil_use(broken, charges)
    assert found.signs[causes.fact("oil_use")].sum() == 0 <= use.sum()


def test_coolant_seen_in_the_oil_is_probable_whatever_the_lab_says():
    history, at = fleet()
    n, i = len(history.samples.comp), at[(0, 13)]
    seen = np.zeros(n)
    seen[i] = 1.0
    judgement = worked(history, Seen(n, {"oil_coolant": seen}, {"oil_coolant": seen}))
    assert first(judgement, i) == ("coolant", PROBABLE)
    assert judgement.proposed[i] == j.ACT
    assert worked(history).proposed[i] == j.RUN_ON


@pytest.mark.parametrize(
    ("sign", "proposed"),
    [("oil_glitter", j.WATCH), ("filter_metal", j.WATCH), ("oil_grit", j.WATCH), ("filter_collapsed", j.WATCH),
     ("strainer_chunks", j.ACT), ("oil_milky", j.WATCH), ("sludge", j.RUN_ON)],
)  # fmt: skip
def test_what_is_too_coarse_for_the_lab_is_not_run_on_unwatched(sign, proposed):
    history, at = fleet()
    n, i = len(history.samples.comp), at[(0, 13)]
    seen = np.zeros(n)
    seen[i] = 1.0
    judgement = worked(history, Seen(n, {sign: seen}, {sign: seen}))
    assert judgement.proposed[i] == proposed
    assert (np.delete(judgement.proposed, i) == j.RUN_ON).all()
    charges = cut(history)
    told_ = each(j.evidence(history, judgement, stretch_rates(history, charges), i))
    assert bool(told_) == (proposed != j.RUN_ON)


def test_metal_seen_while_a_thing_runs_in_says_one_step_less():
    young = np.array([True, False])
    for sign, watch, act in (("oil_glitter", [0, 1], [0, 0]), ("strainer_chunks", [1, 1], [0, 1]), ("oil_milky", [1, 1], [0, 0])):
        here = {sign: np.ones(2)}
        told_watch, told_act = j.told_by_eye(Seen(2, here, here), young)
        assert (told_watch.tolist(), told_act.tolist()) == ([bool(x) for x in watch], [bool(x) for x in act])


def test_a_bottle_from_standing_oil_teaches_nothing():
    history, _ = fleet()
    stood = np.zeros(len(history.samples.comp), dtype=bool)
    stood[:4] = True
    low = replace(history, samples=replace(history.samples, stood=stood))
    assert departed(low).n[4, AT["fe"]] < departed(history).n[4, AT["fe"]]


@pytest.mark.slow
@given(cutoff=st.integers(2, 13), seed=st.integers(0, 3))
def test_a_judgement_uses_nothing_later_than_its_sample(cutoff, seed):
    history, at = fleet(seed)
    broken, _ = added(history, at, (1, 9), na=90, k=35)
    day = broken.samples.day[at[(0, cutoff)]]
    keep, kept = broken.samples.day <= day, broken.drains.day <= day
    short = replace(
        broken, samples=type(broken.samples)(*(None if x is None else x[keep] for x in vars(broken.samples).values())),
        drains=type(broken.drains)(*(None if x is None else x[kept] for x in vars(broken.drains).values())),
    )  # fmt: skip
    whole, part = worked(broken), worked(short)
    assert (whole.proposed[keep] == part.proposed).all()
    assert (whole.diagnosis.strength[keep] == part.diagnosis.strength).all()
    np.testing.assert_allclose(whole.diagnosis.departures.z[keep], part.diagnosis.departures.z, rtol=1e-9)


def test_a_small_lasting_shift_is_caught_by_the_cusum():
    """Montgomery, Introduction to Statistical Quality Control, ch. 9: S = max(0, S + z − k), k = 0.5, signal above h = 5."""
    history, at = fleet(engines=6)
    values = history.samples.values.copy()
    for half in range(6, 15):  # sodium a little up from here on, by far less than any limit
        values[at[(0, half)], INDEX["na"]] += 6.4 if half % 2 else 3.2
    shifted = replace(history, samples=replace(history.samples, values=values))
    d, charges = departed(shifted), cut(shifted)
    rows = [at[(0, half)] for half in range(15)]
    column = AT_CHARGE["na"]
    z = np.clip(d.z[rows, column], -departures.CUSUM_MOST, departures.CUSUM_MOST)
    before_charge, last, charge, by_hand = 0.0, 0.0, -1, []
    for x, of in zip(z, charges.charge_of[rows], strict=True):  # a charge counts once, by its latest value
        if of != charge:
            before_charge, charge = last, of
        last = max(0.0, before_charge + x - 0.5) if not np.isnan(x) else last
        by_hand.append(last)
    seen = ~np.isnan(z)
    np.testing.assert_allclose(d.drift[rows, column][seen], np.array(by_hand)[seen])
    assert d.drift[rows[-1], column] > departures.CUSUM_LIMIT
    assert np.nanmax(departed(history).drift[:, column]) < departures.CUSUM_LIMIT


def test_own_past_and_family_are_weighed_as_a_normal_mean_with_a_normal_prior():
    """Gelman et al., Bayesian Data Analysis, eq. 2.11: posterior mean (n·ȳ/σ² + μ/τ²) / (n/σ² + 1/τ²)."""
    one = np.ones((1, len(departures.FOLLOWED)))
    within, between, n, own, family = 4.0, 9.0, 5.0, 12.0, 10.0
    s = departures._State(n * one, n * one, own * one, 1e9 * one, 1e9 * within * one, 1e9 * one, family * one,
                          1e9 * (within + between) * one, 1e9 * one, 1e9 * within * one, 0 * one)  # fmt: skip
    mean, sd, _ = departures._expected(s, np.array([0]), np.array([0]), 0 * one, one, 0 * one)
    expected = (n * own / within + family / between) / (n / within + 1 / between)
    oxidation = AT["oxidation"]  # wear rates differ by at least a half between engines, ageing by what it does
    assert mean[0, oxidation] == pytest.approx(expected, rel=1e-6)
    counts_as = within / between
    assert sd[0, oxidation] ** 2 == pytest.approx(within * (1 + 1 / (n + counts_as)) + (departures.LEAST_SPREAD * expected) ** 2, rel=1e-6)


def test_an_overhaul_starts_another_past():
    history, at = fleet()
    overhaul = history.compartments.overhaul.copy()
    overhaul[0] = 10_000 + 5 * 500
    renewed = replace(history, compartments=replace(history.compartments, overhaul=overhaul))
    assert departed(renewed).n[at[(0, 10)], AT["fe"]] == 0
    assert departed(renewed).n[at[(1, 10)], AT["fe"]] > 5


def test_below_what_the_lab_sees_is_never_a_rise():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), na=60)
    below = broken.samples.below.copy()
    below[i] = 1 << INDEX["na"]
    assert np.isnan(departed(replace(broken, samples=replace(broken.samples, below=below))).z[i, AT["na"]])


ODD = st.sampled_from([np.nan, 0.0, 1e-9, 1.0, 1e6, 1e12])


@pytest.mark.slow
@given(st.lists(ODD, min_size=COUNT, max_size=COUNT), st.integers(0, 20))
def test_absurd_values_never_end_in_a_nan(row, which):
    history, _ = fleet()
    values = history.samples.values.copy()
    values[which] = row
    judgement = worked(replace(history, samples=replace(history.samples, values=values)))
    assert np.isfinite(judgement.diagnosis.score).all()
    assert set(np.unique(judgement.proposed)) <= {j.NONE, j.RUN_ON, j.WATCH, j.ACT, j.STOP}
    for k in judgement.diagnosis.best_first(which):
        assert diagnose.evidence_of(judgement.diagnosis, k, which)


def test_nothing_measured_gives_no_verdict_and_no_cause():
    history, at = fleet()
    values = history.samples.values.copy()
    i = at[(0, 13)]
    values[i] = np.nan
    judgement = worked(replace(history, samples=replace(history.samples, values=values)))
    assert judgement.proposed[i] == j.NONE
    assert not judgement.diagnosis.strength[i].any()


def test_a_family_of_one_with_one_sample_is_judged_by_limits_alone():
    history, _ = fleet(engines=1, gears=0)
    one = np.arange(len(history.samples.comp)) == 0
    single = replace(history, samples=type(history.samples)(*(None if x is None else x[one] for x in vars(history.samples).values())))
    judgement = worked(single)
    assert judgement.proposed[0] == j.RUN_ON
    assert (judgement.diagnosis.strength[0] < PROBABLE).all()


def test_every_cause_has_its_words_and_its_place():
    assert set(KEYS) | {key for key, _ in causes.OF_HOLDS.values()} == set(causes.ORDER) == set(causes.NAMES) == set(causes.DO)
    for cause in causes.CAUSES:
        assert cause.do.endswith(".")
        assert set(cause.explains) <= set(KEYS)
        for sign in (*cause.main, *cause.otherwise, *(s for s, _ in (*cause.supports, *cause.against))):
            for part in sign.parts or (sign,):
                assert all((k in causes.FACTS) if part.kind == "fact" else (k in AT) for k in part.keys)
