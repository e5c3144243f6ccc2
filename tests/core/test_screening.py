"""Can it be true? Each check on a small history where the answer is plain, and the statistics against scipy."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from vornet.core import expected, swaps
from vornet.core.charges import cut
from vornet.core.checks import CHECKS
from vornet.core.history import Compartments, Drains, Fillings, History, Oils, Samples
from vornet.core.limits import DUTIES
from vornet.core.measurands import COUNT, INDEX, dense
from vornet.core.screening import MeterPoints, screen
from vornet.core.viscosity import blend
from vornet.words.say import say

DIESEL, GEAR = DUTIES.index("diesel_engine"), DUTIES.index("gear")
ENGINE_OIL = {"ca": 2400, "mg": 20, "zn": 1200, "p": 1050, "b": 5, "mo": 40, "s": 3800, "v40": 105, "v100": 14.2, "bn": 10, "an": 2,
              "si": 5, "oxidation": 8, "nitration": 5, "sulfation": 0}  # fmt: skip
GEAR_OIL = {
    "ca": 20,
    "mg": 4,
    "zn": 30,
    "p": 1350,
    "b": 210,
    "mo": 1,
    "s": 21000,
    "v40": 142,
    "v100": 14.8,
    "an": 1.9,
    "si": 8,
}
OTHER_ENGINE_OIL = {**ENGINE_OIL, "ca": 1500, "mg": 900, "zn": 800, "p": 700, "b": 60, "mo": 2, "s": 2500}
HYDRAULIC_OIL = {"ca": 45, "mg": 2, "zn": 430, "p": 340, "b": 1, "mo": 1, "s": 1300, "v40": 46.2, "v100": 6.9, "an": 0.6, "si": 2}
NAMES = ["engine oil", "gear oil", "other engine oil"]
#: gained per 500 h by an engine, per 500 h by a gearbox
ENGINE_MOVES = {"fe": 30, "cr": 1.6, "ni": 0.6, "al": 5, "cu": 7, "pb": 4, "sn": 1.4, "si": 4, "na": 3, "k": 1, "bn": -2.9, "an": 0.9,
                "oxidation": 7.5, "nitration": 5.5, "sulfation": 8, "soot_pct": 0.85}  # fmt: skip
GEAR_MOVES = {"fe": 20, "cr": 0.5, "cu": 6, "pb": 1.5, "si": 3, "an": 0.15}
DAY = 738000
CHARGES, EVERY_H, EVERY_D = 8, 500.0, 60


def fleet(seed: int = 0, engines: int = 3, gears: int = 3) -> tuple[History, dict[tuple[int, int], int]]:
    """Engines and gearboxes drained every 500 h and sampled at every drain and half way; (history, place → sample)."""
    rng = np.random.default_rng(seed)
    count = engines + gears
    duty = np.array([DIESEL] * engines + [GEAR] * gears)
    comps = Compartments(
        duty, np.array([0] * engines + [1] * gears), np.array([0] * engines + [1] * gears), np.full(count, 60.0), np.full(count, 55.0),
        np.full(count, EVERY_H), np.zeros(count, dtype=bool), np.full(count, np.nan),
    )  # fmt: skip
    oils = Oils(np.array([dense(ENGINE_OIL), dense(GEAR_OIL), dense(OTHER_ENGINE_OIL)]), np.full(3, 0.87))
    comp, day, total, hours, values, drained = [], [], [], [], [], []
    d_comp, d_day, d_total = [], [], []
    at: dict[tuple[int, int], int] = {}
    for c in range(count):
        engine = c < engines
        oil, moves = (ENGINE_OIL, ENGINE_MOVES) if engine else (GEAR_OIL, GEAR_MOVES)
        own = rng.lognormal(0, 0.1)
        for k in range(CHARGES):
            start = 10_000 + k * EVERY_H
            d_comp.append(c), d_day.append(DAY + k * EVERY_D), d_total.append(start)
            pace = own * rng.lognormal(0, 0.1)
            for half, h in ((0, 250.0), (1, EVERY_H)):
                if k == CHARGES - 1 and half:
                    continue
                row = {key: oil.get(key, 0.0) for key in (*oil, *moves)}
                for key, gain in moves.items():
                    row[key] += gain * h / 500 * pace
                row |= {"water_ppm": 120.0, "fuel_pct": 0.4} if engine else {"water_ppm": 120.0}
                noisy = {key: max(x * (1 + 0.015 * rng.standard_normal()) + 0.1 * rng.standard_normal(), 0) for key, x in row.items()}
                at[(c, 2 * k + half)] = len(comp)
                (
                    comp.append(c),
                    day.append(DAY + k * EVERY_D + 30 * (half + 1)),
                    total.append(start + h),
                    hours.append(h),
                )
                values.append(dense(noisy)), drained.append(half == 1)
    n = len(comp)
    samples = Samples(np.array(comp), np.array(day), np.array(total, float), np.array(hours, float), np.full(n, np.nan), np.array(drained),
                      np.ones(n, dtype=bool), np.array(values), np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64))  # fmt: skip
    m = len(d_comp)
    drains = Drains(np.array(d_comp), np.array(d_day), np.array(d_total, float), np.full(m, 54.0), np.full(m, 2.0), np.full(m, -1),
                    np.full(m, np.nan))  # fmt: skip
    none = np.zeros(0)
    return History(comps, oils, drains, Fillings(none.astype(int), none, none, none, none), samples), at


def no_points() -> MeterPoints:
    return MeterPoints(np.zeros(0, dtype=int), np.zeros(0), np.zeros(0))


def found(history: History, group=None, points: MeterPoints | None = None) -> dict[int, list]:
    group = np.full(len(history.samples.comp), -1) if group is None else group
    out: dict[int, list] = {}
    for f in screen(history, cut(history), points or no_points(), group, NAMES):
        out.setdefault(f.sample, []).append(f)
    return out


def changed(history: History, sample: int, **values: float) -> History:
    block = history.samples.values.copy()
    for key, x in values.items():
        block[sample, INDEX[key]] = x
    return replace(history, samples=replace(history.samples, values=block))


def together(history: History, *samples: int) -> np.ndarray:
    group = np.full(len(history.samples.comp), -1)
    group[list(samples)] = 1
    return group


@pytest.mark.parametrize("seed", range(4))
def test_a_healthy_fleet_is_let_in(seed):
    history, _ = fleet(seed)
    assert found(history) == {}


def test_every_reason_has_a_name_a_remedy_and_ready_phrases():
    for check in CHECKS.values():
        assert check.name
        assert check.remedy.endswith(".")
        assert check.release
        assert check.reject
    assert {"swapped_bottle", "wrong_oil", "dirty_bottle"} <= set(CHECKS)


# ---- swapped ---------------------------------------------------------------------------------------------


def swapped(history: History, a: int, b: int) -> History:
    block = history.samples.values.copy()
    block[[a, b]] = block[[b, a]]
    return replace(history, samples=replace(history.samples, values=block))


def test_an_engine_and_a_gearbox_with_each_others_labels():
    history, at = fleet()
    a, b = at[(0, 12)], at[(4, 12)]
    out = found(swapped(history, a, b), together(history, a, b, at[(1, 12)]))
    assert {k: [f.reason for f in v] for k, v in out.items()} == {a: ["swapped_bottle"], b: ["swapped_bottle"]}
    assert out[a][0].facts["other"] == b
    assert out[a][0].facts["pairs"] == 3
    assert "times likelier swapped, 3 pairs tried" in say(out[a][0].detail)


def test_two_like_engines_are_told_apart_by_their_hours():
    history, at = fleet()
    a, b = at[(0, 12)], at[(1, 13)]  # 250 h and 500 h on the oil
    out = found(swapped(history, a, b), together(history, a, b))
    assert [f.reason for f in out[a]] == ["swapped_bottle"]
    assert out[b][0].facts["other"] == a


def test_two_like_engines_at_like_hours_cannot_be_told_and_are_left_alone():
    history, at = fleet()
    a, b = at[(0, 12)], at[(1, 12)]
    assert found(swapped(history, a, b), together(history, a, b)) == {}


def test_bottles_of_different_parcels_are_not_swapped_but_do_not_fit():
    history, at = fleet()
    a, b = at[(0, 12)], at[(4, 12)]
    parcels = np.arange(len(history.samples.comp))
    out = found(swapped(history, a, b), parcels)
    assert [f.reason for f in out[a]] == ["wrong_oil"]


@pytest.mark.parametrize(("apart", "reason"), [(0, "swapped_bottle"), (swaps.DAYS_TOGETHER, "swapped_bottle"), (20, "wrong_oil")])
def test_where_no_parcel_is_known_days_bring_bottles_together(apart, reason):
    history, at = fleet()
    a, b = at[(0, 12)], at[(4, 12)]
    day = history.samples.day.copy()
    day[b] += apart
    apart_in_time = replace(history, samples=replace(history.samples, day=day))
    out = found(swapped(apart_in_time, a, b))
    assert [f.reason for f in out[a]] == [reason]
    if reason == "swapped_bottle":  # the pair speaks, not the oil
        assert out[a][0].facts["other"] == b and [f.reason for f in out[b]] == ["swapped_bottle"]


def test_a_bottle_that_cannot_be_told_from_two_like_ones_says_so():
    """An engine's bottle and a gearbox's are changed over; a second gearbox at the same hours could be the one."""
    history, at = fleet(gears=3)
    engine, one, twin = at[(0, 12)], at[(3, 12)], at[(4, 12)]
    twice = swapped(history, engine, one)
    block = twice.samples.values.copy()
    block[twin] = block[one] * 1.002  # the twin's own label lies on an engine's bottle as well
    twice = replace(twice, samples=replace(twice.samples, values=block))
    out = found(twice, together(twice, engine, one, twin))
    assert [f.reason for f in out[engine]] == ["swapped_bottle"]
    assert "cannot be told which of the two" in say(out[engine][0].detail)
    assert {out[engine][0].facts["other"], out[engine][0].facts["like"]} == {one, twin}


@pytest.mark.parametrize("share", [0.15, 0.3])
def test_a_share_of_an_oil_that_only_lowers_everything_together(share):
    """Hydraulic oil in an engine: no single additive is far out, all of them are down (GLS of the share)."""
    history, at = fleet()
    history = replace(history, oils=Oils(np.vstack([history.oils.new, dense(HYDRAULIC_OIL)]), np.full(4, 0.87)))
    i = at[(0, 12)]
    v = history.samples.values[i]
    mixed = {k: (1 - share) * v[INDEX[k]] + share * HYDRAULIC_OIL[k] for k in ("ca", "mg", "zn", "p", "b", "mo", "s")}
    mixed["v100"] = blend([(1 - share, float(v[INDEX["v100"]])), (share, HYDRAULIC_OIL["v100"])])
    broken = changed(history, i, **mixed)
    out = [f for f in screen(broken, cut(broken), no_points(), None, [*NAMES, "hydraulic oil"]) if f.sample == i]
    assert [f.reason for f in out] == ["wrong_oil"]
    assert out[0].facts["shares"]["hydraulic oil"] == pytest.approx(share, abs=0.05)


def test_thin_oil_by_fuel_is_no_other_oil():
    history, at = fleet()
    i = at[(0, 12)]
    v100 = history.samples.values[i, INDEX["v100"]]
    assert found(changed(history, i, v100=v100 * 0.8, fuel_pct=5.0)) == {}


@pytest.mark.parametrize("fault", [{"fe": 90, "cr": 9}, {"na": 140, "k": 50, "b": 40}, {"pb": 40, "sn": 12, "cu": 30}, {"al": 45, "fe": 80}])
def test_a_real_fault_is_no_swap(fault):
    history, at = fleet()
    a = at[(0, 13)]
    out = found(changed(history, a, **fault), together(history, *(at[(c, 13)] for c in range(6))))
    assert not any(f.reason == "swapped_bottle" for v in out.values() for f in v)


def test_a_fault_that_goes_on_is_known_in_the_other_place():
    """The engine with the fault and a gearbox change labels: its bottle is found by the fault it has had."""
    history, at = fleet()
    for k in (10, 11, 12):
        history = changed(history, at[(0, k)], fe=75, cr=8)
    a, b = at[(0, 12)], at[(4, 12)]
    out = found(swapped(history, a, b), together(history, a, b))
    assert [f.reason for f in out[a]] == ["swapped_bottle"]


def test_chances_are_those_of_chi_square():
    """scipy.stats, the general reference."""
    d, n = np.array([3.0, 20.0, 40.0]), np.array([2, 20, 20])
    assert swaps.chance(d, n) == pytest.approx(stats.chi2.sf(d, n))


def test_likelihood_is_that_of_the_normal_with_a_shared_part():
    """Against scipy.stats.multivariate_normal with the covariance written out."""
    history, at = fleet()
    charges = cut(history)
    known = expected.usual(history, charges)
    i = np.array([at[(0, 12)], at[(4, 13)]])
    s = history.samples
    e = expected.at_places(history, known, charges.charge_of[i], s.comp[i], charges.oil_hours[i])
    values = s.values[i][:, expected.COLUMNS]
    distance, number, ll = expected.misfit(values, e)
    for j in range(2):
        seen = ~np.isnan(values[j]) & ~np.isnan(e.mean[j]) & (e.sd[j] > 0)
        shared = np.zeros((len(expected.EXPECTED),) * 2)
        for group in (expected.WEAR, expected.AGEING):
            u = np.where(np.isin(expected.EXPECTED, group), e.shared[j], 0.0)
            shared += np.outer(u, u)
        cov = np.diag(e.sd[j] ** 2) + shared
        full = stats.multivariate_normal(e.mean[j][seen], cov[np.ix_(seen, seen)])
        assert number[j] == seen.sum()
        assert ll[j] == pytest.approx(full.logpdf(values[j][seen]) + 0.5 * seen.sum() * np.log(2 * np.pi), rel=1e-9)
        left = values[j][seen] - e.mean[j][seen]
        assert distance[j] == pytest.approx(left @ np.linalg.solve(cov[np.ix_(seen, seen)], left), rel=1e-9)


def test_medians_are_numpys():
    rng = np.random.default_rng(3)
    x, group = rng.standard_normal((60, 3)), rng.integers(0, 5, 60)
    x[rng.random((60, 3)) < 0.2] = np.nan
    medians, number = expected.medians(x, group, 6)
    for g in range(6):
        for k in range(3):
            mine = x[group == g, k][~np.isnan(x[group == g, k])]
            assert number[g, k] == len(mine)
            assert medians[g, k] == pytest.approx(np.median(mine)) if len(mine) else np.isnan(medians[g, k])


# ---- which oil -------------------------------------------------------------------------------------------


def mixed(history: History, sample: int, share: float, oil: dict) -> History:
    values = history.samples.values[sample]
    return changed(history, sample, **{k: float(values[INDEX[k]]) * (1 - share) + oil.get(k, 0) * share
                                       for k in ("ca", "mg", "zn", "p", "b", "mo", "s", "v40", "v100")})  # fmt: skip


@pytest.mark.parametrize("share", [0.15, 0.4, 1.0])
def test_another_oil_is_named_with_its_share(share):
    history, at = fleet()
    i = at[(0, 12)]
    [finding] = found(mixed(history, i, share, GEAR_OIL))[i]
    assert finding.reason == "wrong_oil"
    assert finding.facts["shares"]["gear oil"] == pytest.approx(share, abs=0.04)
    assert "gear oil" in say(finding.detail)


def test_an_oil_that_is_in_no_library_fits_nothing():
    history, at = fleet()
    i = at[(0, 12)]
    [finding] = found(changed(history, i, ca=300, mg=1800, zn=90, p=2500, b=400, mo=300, s=9000))[i]
    assert finding.reason == "wrong_oil"
    assert "nor any mixture" in say(finding.detail)
    assert finding.facts["shares"] == {}


def test_a_leak_of_coolant_is_no_other_oil():
    history, at = fleet()
    i = at[(0, 13)]
    assert found(changed(history, i, na=150, k=55, b=45, water_ppm=600)) == {}


def test_what_service_takes_away_of_an_additive_is_no_other_oil():
    history, at = fleet()
    i = at[(0, 13)]
    v = history.samples.values[i]
    assert found(changed(history, i, b=v[INDEX["b"]] * 0.6, p=v[INDEX["p"]] * 0.9, zn=v[INDEX["zn"]] * 0.9)) == {}


# ---- units -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("key", "factor", "word"), [("ca", 1e-4, "in %?"), ("zn", 1e-3, "in g/kg?"), ("oxidation", 0.01, "in A/0.1 mm?"),
                                                     ("water_ppm", 1e-4, "in %?"), ("bn", 10, "off by 10?")])  # fmt: skip
def test_a_column_in_another_unit(key, factor, word):
    history, at = fleet()
    i = at[(0, 13)]
    x = history.samples.values[i, INDEX[key]]
    [finding] = [f for f in found(changed(history, i, **{key: x * factor}))[i] if f.reason == "unit_slip"]
    assert word in say(finding.detail)
    assert finding.facts["factors"] == {key: pytest.approx(1 / factor)}


def test_a_metal_ten_times_as_high_is_wear_not_a_slip():
    history, at = fleet()
    i = at[(0, 13)]
    x = history.samples.values[i, INDEX["pb"]]
    assert not any(f.reason == "unit_slip" for f in found(changed(history, i, pb=10 * x)).get(i, []))


# ---- dirt, falls -----------------------------------------------------------------------------------------


def test_dust_in_the_bottle_once_and_alone():
    history, at = fleet()
    i = at[(1, 9)]
    v = history.samples.values[i]
    [finding] = found(changed(history, i, si=v[INDEX["si"]] + 35, al=v[INDEX["al"]] + 8))[i]
    assert finding.reason == "dirty_bottle"
    assert "the next sample is clean" in say(finding.detail)


def test_dust_past_the_filter_comes_with_wear():
    history, at = fleet()
    i = at[(1, 13)]
    v = history.samples.values[i]
    assert found(changed(history, i, si=v[INDEX["si"]] + 35, al=v[INDEX["al"]] + 8, fe=95, cr=6)) == {}


def test_a_later_sample_of_the_same_charge_settles_a_dirty_bottle_even_beside_water():
    """What a charge has taken up does not leave it: salt that is gone 250 h later was in the bottle."""
    history, at = fleet()
    i, after = at[(0, 12)], at[(0, 13)]
    wet = changed(history, i, na=60, water_ppm=700)
    assert [f.reason for f in found(wet).get(i, [])] == ["dirty_bottle"]
    assert "later sample of the same charge" in say(found(wet)[i][0].detail)
    stays = changed(wet, after, na=100, water_ppm=900)  # it is there again, and more: a leak
    assert i not in found(stays)


def test_wear_that_was_there_before_comes_with_no_dust():
    history, at = fleet()
    for k in range(8, 13):
        history = changed(history, at[(0, k)], fe=100 if k % 2 else 60, cr=9 if k % 2 else 5)
    i = at[(0, 12)]
    assert [f.reason for f in found(changed(history, i, si=60, al=16)).get(i, [])] == ["dirty_bottle"]


def test_dust_twice_is_no_dirty_bottle():
    history, at = fleet()
    for k in (12, 13):
        v = history.samples.values[at[(1, k)]]
        history = changed(history, at[(1, k)], si=v[INDEX["si"]] + 35, al=v[INDEX["al"]] + 8)
    assert found(history) == {}


def test_salt_with_its_company_is_a_leak_and_alone_a_dirty_bottle():
    history, at = fleet()
    i = at[(1, 13)]
    assert found(changed(history, i, na=60, k=25, b=25)) == {}
    assert [f.reason for f in found(changed(history, i, na=60))[i]] == ["dirty_bottle"]


def fallen(history: History, at: dict, share: float) -> tuple[History, int]:
    """The second sample of a charge, thinned by so much new oil."""
    i, before = at[(2, 13)], at[(2, 12)]
    v = history.samples.values[before]
    oil = history.oils.new[0]
    keys = ("fe", "cr", "al", "cu", "pb", "sn", "bn", "soot_pct", "oxidation")
    return changed(history, i, **{k: float(v[INDEX[k]]) * (1 - share) + float(np.nan_to_num(oil[INDEX[k]])) * share for k in keys}), i


def test_metals_that_fall_speak_of_a_drain_or_a_top_up():
    history, at = fleet()
    history = changed(history, at[(2, 12)], fe=40, cr=4, al=12, cu=18, pb=14, sn=9)
    thinned, i = fallen(history, at, 0.8)
    [drain] = [f for f in found(thinned)[i] if f.reason.startswith("unrecorded")]
    assert drain.reason == "unrecorded_drain"
    assert drain.facts["share"] == pytest.approx(0.8, abs=0.05)
    thinned, i = fallen(history, at, 0.3)
    [top_up] = [f for f in found(thinned)[i] if f.reason.startswith("unrecorded")]
    assert top_up.reason == "unrecorded_top_up"
    assert top_up.facts["litres"] == pytest.approx(18, abs=4)  # 30 % of 60 L
    assert top_up.facts["after"] == at[(2, 12)]


def test_a_fall_that_a_recorded_top_up_explains_is_none():
    history, at = fleet()
    history = changed(history, at[(2, 12)], fe=40, cr=4, al=12, cu=18, pb=14, sn=9)
    thinned, i = fallen(history, at, 0.3)
    between = float(history.samples.total[i]) - 100
    fill = Fillings(np.array([2]), np.array([history.samples.day[i] - 5]), np.array([between]), np.array([18.0]), np.array([0.0]))
    assert not any(f.reason.startswith("unrecorded") for f in found(replace(thinned, fillings=fill)).get(i, []))


# ---- what no oil and no meter can do ---------------------------------------------------------------------


@pytest.mark.parametrize(("values", "reason"), [
    ({"v40": 13.0, "v100": 14.0}, "viscosity_order"), ({"bn": 15.0}, "bn_above_new"),
    ({"v40": 60.0, "v100": 20.0}, "viscosity_index"), ({"fe": -3.0}, "negative_value"),
])  # fmt: skip
def test_what_no_oil_can_do(values, reason):
    history, at = fleet()
    i = at[(0, 13)]
    assert reason in [f.reason for f in found(changed(history, i, **values))[i]]


def points(history: History, readings: list[tuple[int, float]], per_day: float = 8.3) -> MeterPoints:
    return MeterPoints(np.zeros(len(readings), dtype=int), np.array([d for d, _ in readings]), np.array([t for _, t in readings]),
                       np.full(len(history.compartments.duty), per_day))  # fmt: skip


def test_meters_that_cannot_be():
    history, at = fleet()
    i = at[(0, 14)]
    day, total = int(history.samples.day[i]), float(history.samples.total[i])

    def reason(meter: float, *readings: tuple[int, float]) -> list[str]:
        block = history.samples.total.copy()
        block[i] = meter
        there = replace(history, samples=replace(history.samples, total=block))
        return [f.reason for f in found(there, points=points(there, list(readings))).get(i, []) if f.reason.startswith("meter")]

    assert reason(total, (day - 10, total - 80)) == []
    assert reason(total / 10, (day - 10, total - 80)) == ["meter_back"]
    assert reason(total + 400, (day - 10, total - 80), (day + 5, total + 40)) == ["meter_ahead"]
    assert reason(total + 4000, (day - 10, total - 80)) == ["meter_jump"]
    assert reason(total - 80 + 235, (day - 10, total - 80)) == []  # under 24 h a day, and not four times its use for long
    assert reason(total - 80 + 230, (day - 3, total - 80)) == ["meter_jump"]


def test_far_beyond_usual_use_is_asked_about():
    history, at = fleet()
    i = at[(0, 14)]
    day, total = int(history.samples.day[i]), float(history.samples.total[i])
    lazy = points(history, [(day - 40, total - 700)], per_day=2.0)
    assert "meter_beyond_use" in [f.reason for f in found(history, points=lazy).get(i, [])]


def test_a_censored_value_is_no_value():
    """``<0.5`` calcium would be another oil if it were 0.5."""
    history, at = fleet()
    i = at[(0, 13)]
    below = history.samples.below.copy()
    below[i] = 1 << INDEX["mo"]
    there = changed(history, i, mo=1.0)
    assert found(replace(there, samples=replace(there.samples, below=below))) == {}


@pytest.mark.parametrize("spoil", ["all_blank", "one_value", "no_family", "constant"])
def test_too_little_to_go_by_holds_nothing_and_breaks_nothing(spoil):
    history, at = fleet(engines=1, gears=1)
    block = history.samples.values.copy()
    if spoil == "all_blank":
        block[:] = np.nan
    elif spoil == "one_value":
        block[:, [m for m in range(COUNT) if m != INDEX["fe"]]] = np.nan
    elif spoil == "constant":
        block[:] = block[at[(0, 0)]]
    there = replace(history, samples=replace(history.samples, values=block))
    with np.errstate(all="raise", under="ignore"):
        out = found(there)
    if spoil != "constant":
        assert out == {}
