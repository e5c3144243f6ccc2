"""Forecasts along the meter, the pace from charge to charge, and a change of oil, on histories small enough to check by hand."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats
from test_history_and_decide import FRESH, history

from vornet.core.charges import cut
from vornet.core.forecast import STEPS, cones, forecast, pace
from vornet.core.history import Oils
from vornet.core.measurands import INDEX, dense
from vornet.core.oil_change import TARGET, change_of_oil, drains_needed

FE = INDEX["fe"]


def cut_of(**how):
    h = history(**how)
    return h, cut(h)


# ---- where it is heading -------------------------------------------------------------------------------------------------
def test_the_slope_is_the_mean_of_the_charges_own_through_their_starts():
    h, charges = cut_of()
    got = forecast(h, charges, "fe")
    slopes = [(h.samples.values[i, FE] - charges.start[charges.charge_of[i], FE]) / 500 for i in range(5)]
    known = [s for s in slopes if np.isfinite(s)]
    assert got.n == len(known)
    assert got.slope == pytest.approx(np.mean(known))
    assert got.slope_sd == pytest.approx(np.std(known, ddof=1) * (1 + 1 / len(known)) ** 0.5)  # of the next one, not of the mean
    assert got.t == pytest.approx(stats.t.ppf(0.95, len(known) - 1))


def test_a_forecast_needs_two_charges_and_a_value():
    assert forecast(*cut_of(charges=1), "fe") is None
    assert forecast(*cut_of(), "ag") is None
    h, _ = cut_of()
    unusable = replace(h, samples=replace(h.samples, usable=np.zeros(5, bool)))
    assert forecast(unusable, cut(unusable), "fe") is None


def test_the_cone_opens_from_the_last_sample_and_the_next_charge_s_from_what_stays_behind():
    h, charges = cut_of()
    after_drain = cones(h, charges, "fe", 500.0, 3700.0, 0.1)
    assert [c.running for c in after_drain] == [True, False]
    running, following = after_drain
    assert len(running.points) == STEPS + 1
    begin, end = running.points[0], running.points[-1]
    assert begin[0] == 3500  # the last drain; no sample of this charge yet
    assert begin[1] == begin[2] == begin[3] == pytest.approx(charges.start[-1, FE])
    assert end[0] == 4000
    assert end[1] < end[2] < end[3]
    assert following.points[0][0] == 4000
    assert following.points[0][2] == pytest.approx(0.1 * end[2])  # a tenth of what it ended with; new oil has no iron
    assert following.points[-1][0] == 4500


def test_a_charge_that_runs_beyond_its_interval_is_drawn_to_where_it_is():
    h, charges = cut_of()
    assert cones(h, charges, "fe", 500.0, 4300.0, 0.1)[0].points[-1][0] == 4300


def test_no_cone_without_a_fill_or_a_start():
    h, charges = cut_of(charges=1)
    assert cones(h, charges, "fe", 500.0, 2000.0, 0.1) == []
    h, charges = cut_of()
    assert cones(h, replace(charges, fill=np.full(len(charges.fill), np.nan)), "fe", 500.0, 3700.0, 0.1) == []
    assert cones(h, replace(charges, start=np.full_like(charges.start, np.nan)), "fe", 500.0, 3700.0, 0.1) == []


def test_what_falls_is_drawn_downwards_and_never_below_nothing():
    h, charges = cut_of(bn_loss=6.5)
    running, _ = cones(h, charges, "bn", 2500.0, 3700.0, 0.0)
    middles = [p[2] for p in running.points]
    assert middles == sorted(middles, reverse=True)
    assert min(p[1] for p in running.points) == 0
    assert min(middles) == 0


# ---- pace from charge to charge --------------------------------------------------------------------------------------------
@pytest.mark.parametrize(("growth", "verdict"), [(0.25, "rising"), (0.0, "none"), (-0.12, "falling")])
def test_whether_each_charge_wears_faster_than_the_one_before(growth, verdict):
    h, _charges = cut_of(charges=8, spread=False)
    values = h.samples.values.copy()
    values[:, FE] = [30 * (1 + growth) ** i for i in range(8)]
    h = replace(h, samples=replace(h.samples, values=values))
    assert pace(h, cut(h), "fe").verdict == verdict


def test_one_charge_has_no_pace():
    assert pace(*cut_of(charges=1), "fe") is None
    assert pace(*cut_of(), "ag") is None


# ---- a change of oil -------------------------------------------------------------------------------------------------------
def changed(at, charges=6, calcium=(3000.0, 1000.0), last=None):
    """A history whose oil is another one from drain ``at`` on."""
    h = history(charges=charges, last=last)
    oils = Oils(np.array([dense({**FRESH, "ca": calcium[0]}), dense({**FRESH, "ca": calcium[1]})]), np.array([0.87, 0.87]))
    poured = np.where(np.arange(len(h.drains.comp)) >= at, 1, 0)
    h = replace(h, oils=oils, drains=replace(h.drains, oil=poured))
    return h, cut(h)


def test_a_change_of_oil_counts_its_drains_and_what_is_left_by_volume():
    h, charges = changed(at=5)
    got = change_of_oil(h, charges, ["Old", "New"])
    assert (got.old, got.new, got.drains) == ("Old", "New", 2)
    assert got.share == pytest.approx((4 / 60) ** 2)  # 58 L in there, 54 out, twice
    assert (got.target, got.needed) == (TARGET, drains_needed(4 / 60))


@pytest.mark.parametrize(("at", "spoken"), [(7, False), (6, True), (3, True), (2, False), (0, False)])
def test_it_is_spoken_of_for_four_charges(at, spoken):
    assert (change_of_oil(*changed(at=at), ["Old", "New"]) is not None) is spoken


def test_an_oil_that_is_not_in_the_library_has_no_change():
    assert change_of_oil(*changed(at=5), ["Old"]) is None
    assert change_of_oil(*cut_of(), ["Old", "New"]) is None


def test_what_tells_the_two_oils_apart_says_how_much_is_left():
    got = change_of_oil(*changed(at=4, last={"ca": 1200.0}), ["Old", "New"])
    share, sd, key = got.marker
    assert (key, share) == ("ca", pytest.approx(0.1))  # (1200 − 1000) / (3000 − 1000)
    assert 0 < sd < 0.2
    assert change_of_oil(*changed(at=4), ["Old", "New"]).marker is None  # calcium was not measured
    assert change_of_oil(*changed(at=4, calcium=(2000.0, 2000.0), last={"ca": 2000.0}), ["Old", "New"]).marker is None


@pytest.mark.parametrize("share", [0.02, 0.05, 0.1, 0.25, 0.4, 0.7])
def test_so_many_drains_reach_the_target_and_one_fewer_does_not(share):
    n = drains_needed(share)
    assert share**n <= TARGET + 1e-9
    assert n == 1 or share ** (n - 1) > TARGET
