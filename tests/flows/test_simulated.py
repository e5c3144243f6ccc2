"""The simulator by itself: seeded, physical, and of a spread that one can count on; its mistakes and its lab."""

from datetime import date

import numpy as np
import pytest
from scipy import stats

from vornet.sim import engine, mistakes, trial_fleets
from vornet.sim import fleet as fleets
from vornet.sim.fleet import UNITS

START, UNTIL = date(2023, 1, 15), date(2026, 1, 15)
OILS = {o.name: o for o in fleets.OILS}


def a_row(**more) -> dict:
    return {"sample_no": "A1", "unit": "U", "compartment": "engine", "oil": "x", "meter": 1234.0, "fe": 30.0, "cr": 1.5, "al": 5.0,
            "cu": 7.0, "pb": 4.0, "si": 9.0, "na": 3.0, "k": 1.0, "ca": 2400.0, "mg": 20.0, "zn": 1200.0, "p": 1050.0, "b": 5.0,
            "v40": 105.0, "v100": 14.2, "oxidation": 15.0, "nitration": 10.0, "water_ppm": 120.0, **more}  # fmt: skip


def test_the_same_seed_lives_the_same_life():
    unit = next(u for u in UNITS if any(c.kind == "engine" for c in u.compartments))
    first, again = (engine.live(unit, 0, OILS, START, UNTIL, seed=7) for _ in range(2))
    other = engine.live(unit, 0, OILS, START, UNTIL, seed=8)
    assert first == again
    assert first != other


def test_scatter_is_what_it_says():
    """Sample standard deviation of many readings of one oil: within its chi-square interval (Student's theory; scipy)."""
    rng = np.random.default_rng(3)
    n = 4000
    for key, value in (("fe", 40.0), ("ca", 2400.0), ("v100", 14.2)):
        said = engine.scatter(key, value)
        drawn = value + said * rng.standard_normal(n)
        low, high = stats.chi2.ppf([0.0005, 0.9995], n - 1)
        assert low < (n - 1) * drawn.var(ddof=1) / said**2 < high
        assert said > 0


@pytest.mark.parametrize("ranges", [trial_fleets.TUNED, trial_fleets.OTHER], ids=["tuned", "other"])
def test_drawn_faults_are_of_the_ranges_asked_for(ranges):
    planted, kinds, compartments = [], set(), 0
    for seed in range(12):
        units, faults = trial_fleets.fleet(seed, 1096, ranges)
        compartments += sum(c.kind in trial_fleets.KINDS for u in units for c in u.compartments)
        planted += [amplitude for _, amplitude in faults.values()]
        kinds |= {kind for kind, _ in faults.values()}
        for u in units:
            for c in u.compartments:
                assert len(c.faults) == ((u.name, c.name) in faults)
                for f in c.faults:
                    assert 0.3 * 1096 <= f.start <= 0.88 * 1096
                    assert f.end is None or f.end > f.start
    low, high = ranges.amplitude
    assert low <= min(planted) < low + 0.1 * (high - low)
    assert high - 0.1 * (high - low) < max(planted) <= high
    # about the share asked for: a binomial count within its interval (scipy)
    few, many = stats.binom.ppf([0.0005, 0.9995], compartments, ranges.share)
    assert few <= len(planted) <= many
    assert len(kinds) > 12


def test_sea_water_is_sea_water_and_gas_engines_have_no_diesels_faults():
    for seed in range(20):
        units, _ = trial_fleets.fleet(seed, 1096, trial_fleets.OTHER)
        for u in units:
            for c in u.compartments:
                for f in c.faults:
                    if f.kind == "sea_water":
                        assert f.adds["na"] / f.adds["mg"] == pytest.approx(8.35)
                        assert u.meter_unit == "h"
                    if c.fuel in ("gas", "biogas"):
                        assert f.kind not in trial_fleets.GAS_NOT


def test_bottles_changed_over_change_all_figures_and_nothing_else():
    a, b = a_row(), a_row(sample_no="B1", unit="V", oil="y", fe=80.0, ca=20.0, zn=30.0, p=1350.0, v40=142.0)
    kept = dict(a), dict(b)
    made = mistakes.swap(a, b)
    for key in engine.KEYS:
        assert (a.get(key, ""), b.get(key, "")) == (kept[1].get(key, ""), kept[0].get(key, ""))
    assert (a["sample_no"], a["unit"], a["meter"]) == ("A1", "U", 1234.0)
    assert (made.kind, made.sample_nos, made.plain) == ("swapped", ("A1", "B1"), True)
    twin, other = a_row(), a_row(sample_no="B2")
    assert not mistakes.swap(twin, other).plain  # two bottles of the same figures: nobody could tell


def test_the_wrong_can_shows_by_its_share():
    can = max(OILS.values(), key=lambda o: abs((o.v.get("ca") or 0) - 2400))
    row = a_row()
    made = mistakes.mix(row, can, 0.5)
    assert row["ca"] == pytest.approx(1200 + can.v["ca"] / 2, abs=1)
    assert made.plain
    assert (row["fe"], row["v40"]) == (15.0, 105.0) if "fe" in can.v else row["v40"] == 105.0
    assert not mistakes.mix(a_row(), can, 0.001).plain


@pytest.mark.parametrize(("dust", "salt", "plain"), [(50.0, 0.0, True), (0.0, 40.0, True), (2.0, 0.0, False), (0.0, 3.0, False)])
def test_dirt_in_the_bottle(dust, salt, plain):
    row = a_row()
    made = mistakes.dirty(row, dust, salt, np.random.default_rng(1))
    assert row["si"] == pytest.approx(9 + dust, abs=0.51)
    assert row["na"] == pytest.approx(3 + salt, abs=0.51)
    assert 3 <= dust / max(row["al"] - 5, 1e-9) <= 8 if dust > 10 else row["al"] <= 6
    assert made.plain == plain


def test_other_units_and_a_missing_digit():
    for which, (key, factor, digits) in enumerate(mistakes.OTHER_UNITS):
        row = a_row()
        was = row[key]
        made = mistakes.other_unit(row, which)
        assert row[key] == round(was * factor, digits)
        assert made.sample_nos == ("A1",)
    empty = mistakes.other_unit(a_row(ca=""), 0)
    assert not empty.plain
    row = a_row()
    mistakes.wrong_digit(row)
    assert row["meter"] == 123.4


def test_no_bottle_suffers_two_mistakes():
    rng = np.random.default_rng(5)
    oil = next(iter(OILS))
    parcels = [[a_row(sample_no=f"P{p}-{i}", oil=oil) for i in range(9)] for p in range(60)]
    made = mistakes.make(parcels, OILS, 0.3, rng)
    touched = [n for m in made for n in m.sample_nos]
    assert len(touched) == len(set(touched))
    assert {m.kind for m in made} == {"swapped", "mixed", "dirty", "unit"}
    assert mistakes.make([[a_row()]], OILS, 0.0, rng) == []
