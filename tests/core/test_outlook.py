"""The one chance function: against Monte Carlo, root finding and closed forms; what a family may say; headroom made of it."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import optimize, stats

from vornet.core import outlook as o
from vornet.core.standing import days_left, headroom


def one(mean=3.0, spread=0.3, error=0.1, bend=1.0, groups=1):
    """An outlook of a single part: rise ± spread between charges, its mean known to ± error, along hours to the power bend."""
    full = np.ones((groups, 1))
    flags = np.zeros(groups, bool)
    return o.Outlook(full, mean * full, error**2 * full, spread**2 * full, np.array([bend]), np.full(groups, 5), ~flags, flags, flags,
                     np.ones(groups))  # fmt: skip


def standing(outlook, margin=5.0, share=0.0, new_sd=0.0, ref=500.0):
    n = len(outlook.n)
    return o.Standing(outlook, np.full(n, margin), np.full(n, new_sd**2), np.full(n, share), np.full(n, ref))


def rises(values, se, group=None, samples=1):
    """Charges with one rise each, straight."""
    values = np.asarray(values, float)
    block = np.repeat(values[:, None], len(o.BENDS), axis=1)
    return o.Rises(np.zeros(len(values), int) if group is None else np.asarray(group), block, np.full(block.shape, se**2),
                   np.zeros(block.shape), np.full(len(values), samples - 1.0))  # fmt: skip


@pytest.mark.parametrize(("share", "bend", "hours"), [(0.0, 1.0, 700.0), (0.2, 1.0, 600.0), (0.1, 2.0, 580.0)])
def test_the_chance_of_a_standing_interval_is_what_many_charges_in_a_row_show(share, bend, hours):
    """Monte Carlo: thirty charges one after another, each starting with what the last left behind."""
    rng = np.random.default_rng(1)
    u = (hours / 500) ** bend
    mean = 3.0 + 0.1 * rng.standard_normal(40_000)
    end = np.zeros(40_000)
    for _ in range(30):
        end = share * end + (mean + 0.3 * rng.standard_normal(40_000)) * u
    got = standing(one(bend=bend), share=share).chance(np.array([hours]))[0]
    assert got == pytest.approx((end > 5.0).mean(), abs=0.006)


def test_a_fifth_left_behind_makes_a_new_oil_start_a_quarter_too_hopeful():
    sure = one(spread=1e-9, error=1e-9)
    clean, fifth = (o.hours_until(standing(sure, share=f).chance, 0.5, np.array([500.0]))[0] for f in (0.0, 0.2))
    assert clean / fifth == pytest.approx(1.25, rel=1e-3)


def test_hours_are_where_the_chance_is_what_was_asked():
    s = standing(one(bend=1.6), share=0.1)
    found = o.hours_until(s.chance, 0.05, np.array([500.0]))[0]
    exact = optimize.brentq(lambda h: s.chance(np.array([h]))[0] - 0.05, 100, 2000)
    assert found == pytest.approx(exact, rel=2e-4)
    assert s.chance(np.array([found]))[0] == pytest.approx(0.05, abs=5e-4)


def test_what_never_comes_and_what_is_there_already():
    away = standing(one(mean=-1.0, spread=0.01, error=0.01))
    assert o.hours_until(away.chance, 0.05, np.array([500.0]))[0] == math.inf
    there = standing(one(), margin=-0.1)
    assert o.hours_until(there.chance, 0.05, np.array([500.0]))[0] == 0.0
    wide = standing(one(mean=-0.1, spread=2.0, error=1.0))  # moving away, but nobody knows how surely
    assert math.isfinite(o.hours_until(wide.chance, 0.05, np.array([500.0]))[0])


@settings(max_examples=60)
@given(st.floats(0.5, 8), st.floats(0.05, 1.5), st.floats(0.0, 0.4), st.floats(1.0, 2.5))
def test_longer_is_never_safer_and_wider_never_gives_more_hours(mean, spread, share, bend):
    s = standing(one(mean, spread, bend=bend), share=share)
    hours = np.geomspace(50, 5000, 25)
    chances = [s.chance(np.array([h]))[0] for h in hours]
    assert all(b >= a - 1e-12 for a, b in zip(chances, chances[1:], strict=False))
    narrow, wide = (standing(one(mean, k * spread, bend=bend), share=share) for k in (1.0, 1.4))
    ref = np.array([500.0])
    assert o.hours_until(wide.chance, 0.05, ref)[0] <= o.hours_until(narrow.chance, 0.05, ref)[0] * 1.001


def test_an_estimated_new_oil_costs_hours():
    sure, guessed = (o.hours_until(standing(one(), new_sd=sd).chance, 0.05, np.array([500.0]))[0] for sd in (0.0, 0.5))
    assert guessed < sure


def test_any_of_several_is_past():
    each = np.array([0.1, 0.2, 0.2, 0.05])
    comp, event = np.array([0, 0, 0, 1]), np.array([0, 1, 1, 0])  # the second and third are one thing seen twice
    assert o.any_chance(each, comp, event, 2) == pytest.approx([1 - 0.9 * 0.8, 0.05])


def test_mean_and_spread_of_many_charges_are_found(monkeypatch):
    monkeypatch.setattr(o, "DRIFT_PRIOR", 1e-9)  # a late change apart
    rng = np.random.default_rng(2)
    values = 3.0 + 0.45 * rng.standard_normal(400) + 0.3 * rng.standard_normal(400)
    found = o.fit(rises(values, 0.3), np.zeros(1, int), 1, np.zeros(1, bool))
    mean, between, error, bend = (float(x[0]) for x in found.moments())
    assert mean == pytest.approx(3.0, abs=0.08)
    assert between == pytest.approx(0.45, rel=0.15)
    assert error == pytest.approx(math.hypot(0.45, 0.3) / 20, rel=0.3)
    assert bend < 1.35
    assert found.weight.sum() == pytest.approx(1)


def test_a_lab_better_than_assumed_does_not_make_the_spread_vanish():
    """Scatter of 0.3 that the assumed error of 0.4 alone would more than explain: it may as well be the engine's."""
    rng = np.random.default_rng(3)
    spreads = []
    for _ in range(40):
        found = o.fit(rises(3.0 + 0.3 * rng.standard_normal(6), 0.4), np.zeros(1, int), 1, np.zeros(1, bool))
        spreads.append(float(found.moments()[1][0]))
    assert np.mean(spreads) > 0.25


def test_of_one_charge_no_spread_can_be_told_unless_the_family_lends_its_own():
    alone = o.fit(rises([3.0], 0.2), np.zeros(1, int), 1, np.zeros(1, bool))
    assert not alone.told[0]
    group = [0, 1, 1, 1, 2, 2, 2]
    family = o.fit(rises([3.0, 3.1, 2.8, 3.3, 3.0, 2.7, 3.2], 0.2, group), np.zeros(3, int), 1, np.zeros(3, bool))
    assert family.told.all()


def test_who_has_no_charge_borrows_the_familys_mean_less_surely():
    group = [1, 1, 1, 2, 2, 2, 3, 3, 3]
    found = o.fit(rises([3.1, 2.8, 3.3, 3.0, 2.7, 3.2, 3.4, 3.2, 3.5], 0.2, group), np.zeros(4, int), 1, np.zeros(4, bool))
    mean, _, error, _ = found.moments()
    assert found.borrowed.tolist() == [True, False, False, False]
    assert mean[0] == pytest.approx(np.mean(mean[1:]), rel=0.02)
    assert error[0] > 1.5 * error[1:].max()


def test_own_charges_count_once_and_the_family_no_more_than_its_weight():
    """A family that scatters widely widens a steady member's spread, but two hundred of them no more than a few."""
    steady = [3.0, 3.02, 2.99, 3.01, 3.0, 2.98]
    few, many = ([2.0, 4.0, 3.5] * n for n in (2, 70))
    spread = []
    for others in ([], few, many):
        group = [0] * 6 + [1 + i // 3 for i in range(len(others))]
        n = max(group) + 1
        found = o.fit(rises([*steady, *others], 0.1, group), np.zeros(n, int), 1, np.zeros(n, bool))
        spread.append(float(found.moments()[1][0]))
    assert spread[0] < spread[1]
    assert spread[2] < 2 * spread[1] + 0.05


def test_a_later_faster_pace_is_told_and_a_slower_one_is_not_believed():
    faster = o.fit(rises([3, 3.1, 2.9, 3.0, 4.5, 4.4], 0.2), np.zeros(1, int), 1, np.zeros(1, bool))
    assert faster.drifted[0]
    assert faster.pace[0] == pytest.approx(4.45 / 3.0, rel=0.03)
    assert faster.moments()[0][0] > 4.0
    slower = o.fit(rises([4.5, 4.4, 4.6, 4.5, 3.0, 3.1], 0.2), np.zeros(1, int), 1, np.zeros(1, bool))
    assert not slower.drifted[0]
    assert slower.moments()[0][0] > 3.8


@pytest.mark.parametrize("noise", [1.0, 0.5])
def test_the_promise_is_kept_over_many_engines(noise):
    """Five noisy charges, no family: the true chance of the next one's being past its limit at the safe hours, at most 6 %."""
    rng = np.random.default_rng(7)
    n, tau, se = 400, 0.3, 0.35
    mean = 3.0 * np.exp(0.15 * rng.standard_normal(n))
    true = mean[:, None] + tau * rng.standard_normal((n, 5))
    seen = (true + noise * se * rng.standard_normal(true.shape)).ravel()
    found = o.fit(rises(seen, se, np.repeat(np.arange(n), 5)), np.arange(n), n, np.zeros(n, bool))
    s = o.Standing(found, np.full(n, 3.8), np.zeros(n), np.zeros(n), np.full(n, 500.0))
    hours = o.hours_until(s.chance, 0.05, np.full(n, 500.0))
    past = stats.norm.sf((3.8 / (hours / 500) - mean) / tau)
    assert 0.005 < past.mean() < 0.06


def test_the_running_charge_leans_on_its_own_reading_by_how_well_it_is_known():
    usual = one(mean=3.0, spread=0.3, error=0.1)
    rise = np.array([4.0])
    for sd, expected in ((0.01, 4.0), (3.0, 3.0)):
        run = o.Running(usual, np.array([5.0]), np.zeros(1), rise, np.array([sd**2]), np.array([500.0]))
        assert run.moments()[0][0] == pytest.approx(expected, abs=0.05)
    blind = o.Running(usual, np.array([5.0]), np.zeros(1), np.array([np.nan]), np.array([np.nan]), np.array([500.0]))
    assert blind.moments()[0][0] == 3.0


def test_a_bend_feared_less_is_the_same_posterior_under_another_prior():
    """What ``mildly`` makes of a cautious outlook is what a fit with the milder width would have said."""
    rng = np.random.default_rng(9)
    charges = rises(3 + 0.4 * rng.standard_normal(5), 0.3)
    found = o.fit(charges, np.zeros(1, int), 1, np.ones(1, bool)).mildly(np.ones(1, bool))
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(o, "CAUTIOUS_BEND", o.MILD_BEND)
        anew = o.fit(charges, np.zeros(1, int), 1, np.ones(1, bool))
    assert found.moments()[3] == pytest.approx(anew.moments()[3], rel=1e-6)
    assert standing(found).chance(np.array([620.0])) == pytest.approx(standing(anew).chance(np.array([620.0])), rel=1e-3)


@pytest.mark.parametrize(
    ("safe", "as_is", "cap", "faulty", "repaired", "now", "open_end"),
    [(700.0, 450.0, 900.0, True, 500.0, 250.0, False), (700.0, None, 900.0, False, 500.0, 500.0, False),
     (2000.0, None, 625.0, False, 425.0, 425.0, True), (None, None, None, False, 300.0, 300.0, False),
     (700.0, None, 900.0, True, 500.0, 500.0, False)],
)  # fmt: skip
def test_headroom_now_and_once_repaired(safe, as_is, cap, faulty, repaired, now, open_end):
    found = headroom(200.0, safe, as_is, cap, 500.0, faulty)
    assert (found.repaired, found.now, found.open_end, found.is_safe) == (repaired, now, open_end, safe is not None)


def test_nothing_known_is_nothing_told_and_waits_longest():
    assert headroom(math.nan, 700.0, None, None, 500.0, False).now is None
    assert days_left(None, math.nan, 8.0, 500.0) > 1e6
    assert days_left(-40.0, 300.0, 8.0, 500.0) == -5.0
    assert days_left(100.0, math.nan, 0.0, 500.0) == pytest.approx(73.0)  # stands still: an interval as if it lasted a year
