"""Viscosity, grades, blends, cleanliness and identity against standards, worked examples and a reference library."""

import numpy as np
import pytest
from chemicals.viscosity import viscosity_index as reference_index
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import brentq

from vornet.core import contamination, identity, viscosity
from vornet.core.errors import InputError


def test_viscosity_index_worked_examples():
    """ASTM D2270: 73.30 and 8.86 mm²/s give 92 (procedure A), 22.83 and 5.05 give 156 (procedure B)."""
    assert round(viscosity.viscosity_index(73.30, 8.86)) == 92
    assert round(viscosity.viscosity_index(22.83, 5.05)) == 156


def test_viscosity_index_over_a_wide_grid_against_a_reference_library():
    """The package ``chemicals`` reads the standard's table; ours is its equations: within 0.3 everywhere."""
    apart, count = 0.0, 0
    for y in [*np.arange(2, 70, 0.37), *np.arange(70, 150, 7.0)]:
        for ratio in (3, 5, 8, 12, 16, 20):
            ours, theirs = viscosity.viscosity_index(y * ratio, y), reference_index(y * ratio * 1e-6, y * 1e-6)
            if theirs is not None and -50 < ours < 350:
                apart, count = max(apart, abs(ours - theirs)), count + 1
    assert count > 500
    assert apart < 0.3


def test_viscosity_line_goes_through_its_points_and_domains_values():
    """Derived: 105 and 14.2 mm²/s give 227.35 at 25 °C and 9.238 at 120 °C."""
    assert viscosity.viscosity_at(40, 105, 100, 14.2, 40) == pytest.approx(105)
    assert viscosity.viscosity_at(40, 105, 100, 14.2, 25) == pytest.approx(227.35, abs=0.005)
    assert viscosity.viscosity_at(40, 105, 100, 14.2, 120) == pytest.approx(9.238, abs=0.0005)


@given(st.floats(3, 40), st.floats(3, 20), st.floats(-10, 140))
def test_hotter_is_thinner(kv100, ratio, t):
    here = viscosity.viscosity_at(40, kv100 * ratio, 100, kv100, t)
    assert viscosity.viscosity_at(40, kv100 * ratio, 100, kv100, t + 5) < here


@pytest.mark.parametrize(
    ("args", "field"),
    [((40, 105, 40, 14, 25), "t2_c"), ((40, 14, 100, 105, 25), "kv2_cst"), ((40, 0, 100, 14, 25), "kv1_cst"),
     ((40, 105, 100, 14.2, 9000), "t_c"), ((40, 105, 100, 0.2, 25), "kv2_cst")],
)  # fmt: skip
def test_lines_that_cannot_be(args, field):
    with pytest.raises(InputError) as refused:
        viscosity.viscosity_at(*args)
    assert refused.value.field == field


@pytest.mark.parametrize(
    ("kv100", "engine", "gear"),
    [
        # SAE J300 and J306 (edition before 2019), from memory: the lower end belongs to a grade, the upper to the next
        (6.1, ["12", "16"], []), (6.9, ["12", "16", "20"], []), (9.29, ["20"], ["80"]), (9.3, ["30"], ["80"]), (12.5, ["40"], ["85"]),
        (13.5, ["40"], ["90"]), (26.1, [], ["140"]), (45.0, [], ["250"]), (3.9, [], []),
    ],
)  # fmt: skip
def test_grades_at_their_edges(kv100, engine, gear):
    assert viscosity.grades(kv100, None)[:2] == (engine, gear)


def test_iso_grades_reach_ten_per_cent_either_way():
    """ISO 3448: VG 46 is 41.4 to 50.6 mm²/s at 40 °C."""
    got = [viscosity.grades(None, x)[2] for x in (41.4, 50.6, 41.3, 50.7, 4.6, 3520)]
    assert got == [46, 46, None, None, 5, 3200]


def test_blends_and_the_fuel_in_them():
    """Derived from the Refutas index: 50/50 of 10 and 100 gives 26.672; 3 % of fuel takes 14.2 to 12.578."""
    assert viscosity.blend([(0.5, 10), (0.5, 100)]) == pytest.approx(26.672, abs=0.0005)
    assert viscosity.blend([(0.97, 14.2), (0.03, 1.1)]) == pytest.approx(12.578, abs=0.0005)
    assert viscosity.fuel_share(14.2, 12.5, 1.1) == pytest.approx(0.03156, abs=0.00001)
    with pytest.raises(InputError, match="thicker than the new"):
        viscosity.fuel_share(14.2, 15, 1.1)


@given(st.floats(0, 0.2))
def test_fuel_share_is_the_blends_inverse(share):
    used = viscosity.blend([(1 - share, 14.2), (share, 1.3)])
    assert viscosity.fuel_share(14.2, min(used, 14.2), 1.3) == pytest.approx(share, abs=1e-6)
    if share > 0.001:  # and a root-finder on the blend finds the same
        root = brentq(lambda x: viscosity.blend([(1 - x, 14.2), (x, 1.3)]) - used, 0, 0.5)
        assert root == pytest.approx(share, abs=1e-6)


@pytest.mark.parametrize(
    ("counts", "code"),
    [
        # ISO 4406: a code covers from just above the limit below it up to its own limit
        ((2100, 340, 42), "18/16/13"),
        ((2500, 640, 80), "18/16/13"),
        ((2501, 641, 81), "19/17/14"),
        ((0, 0, 0), "0/0/0"),
        ((160_000, 20, 0.01), "24/11/0"),
        ((None, 1300, None), "-/17/-"),
    ],
)
def test_cleanliness_codes(counts, code):
    assert contamination.cleanliness(dict(zip(contamination.SIZES, counts, strict=True))) == code


@pytest.mark.parametrize("counts", [{"4": 10, "6": 20}, {"4": 3e6}, {"4": -1}, {}, {"4": 5, "14": 6}])
def test_counts_that_cannot_be(counts):
    with pytest.raises(InputError):
        contamination.cleanliness(counts)


def test_every_limit_of_the_scale_doubles_as_printed():
    """Each printed limit is twice the one before it, to the standard's own rounding (1.28 → 1.3, 2.56 → 2.5)."""
    for below, limit in zip(contamination.UPPER, contamination.UPPER[1:], strict=False):
        assert limit / below == pytest.approx(2, rel=0.04)


HOUSE = {"ca": 2400, "mg": 20, "zn": 1200, "p": 1050, "b": 5, "mo": 40, "s": 3800}
GEAR = {"ca": 20, "mg": 4, "zn": 30, "p": 1350, "b": 210, "mo": 1, "s": 21000}
HYDRO = {"ca": 45, "mg": 2, "zn": 430, "p": 340, "b": 1, "mo": 1, "s": 1300}
LIBRARY = [("House 15W-40", HOUSE), ("Gear 80W-90", GEAR), ("Hydro 46", HYDRO)]


def test_a_mixed_oil_is_told_apart():
    mixed = {k: 0.78 * HOUSE[k] + 0.22 * GEAR[k] for k in HOUSE}
    got = identity.identify(mixed, LIBRARY)
    assert [n for n, _ in got.shares] == ["House 15W-40", "Gear 80W-90"]
    assert dict(got.shares)["House 15W-40"] == pytest.approx(0.78, abs=0.001)
    assert got.residual < 0.01
    assert got.runner_up[1] > 10


@given(st.floats(0, 1), st.integers(0, 2**31))
def test_shares_are_shares_whatever_the_noise(share, seed):
    rng = np.random.default_rng(seed)
    noisy = {k: max(share * HOUSE[k] + (1 - share) * HYDRO[k] + rng.normal(0, 1), 0) for k in HOUSE}
    got = identity.identify(noisy, LIBRARY)
    assert sum(s for _, s in got.shares) == pytest.approx(1)
    assert all(s >= 0 for _, s in got.shares)
    assert len(got.shares) <= identity.MOST_OILS


def test_what_is_explained_otherwise_is_left_out():
    """Sodium borate coolant lifts boron: without it the house oil fits, with it nothing does."""
    salted = {**HOUSE, "b": 140}
    assert identity.identify(salted, LIBRARY).residual > 3
    assert identity.identify(salted, LIBRARY, without=["b"]).residual == pytest.approx(0, abs=1e-6)
    with pytest.raises(InputError, match="at least 2 additives"):
        identity.identify({"ca": 5}, LIBRARY)
