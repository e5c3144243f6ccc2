"""The ledger against its check values, against numerical integration, and scalar against columnar."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from vornet.core import ledger, rates
from vornet.core.errors import InputError
from vornet.core.ledger import PartChange, Point, TopUp

TOP_UPS = [TopUp(100, 5), TopUp(220, 6), TopUp(360, 7)]


def concentration(system, start, new, top_ups, at, rate, density=0.87, clean=False):
    """C(at) by scipy's integrator of dM/dh, dVol/dh between top-ups; an independent way to the same figure."""
    c, vol, now, filled = start, system, 0.0, 0.0
    stops = [t for t in top_ups if t.h < at]
    for stop in [*stops, None]:
        until = stop.h if stop else at
        q = stop.litres / (stop.h - filled) if stop else 0.0

        def slope(h, y, q=q, now=now, vol=vol):
            litres = vol - q * (h - now)
            return [rate / (density * litres) + (y[0] * q / litres if clean else 0.0)]

        c = solve_ivp(slope, (now, until), [c], rtol=1e-10, atol=1e-12).y[0, -1]
        if stop:
            c = (c * (system - stop.litres) + new * stop.litres) / system
            vol, filled = system, stop.h
        now = until
    return c


def test_check_values():
    w = ledger.wear_rate(40, 8, 2, [Point(500, 60)], TOP_UPS)
    assert w.a == pytest.approx(12.17488, abs=5e-6)
    assert w.b == pytest.approx(5.68156, abs=5e-6)
    assert w.a * 20 + w.b == pytest.approx(249.179, abs=5e-4)
    assert w.rate_mg_h == pytest.approx(4.46152, abs=5e-6)
    assert w.undiluted_rise_ppm == pytest.approx(64.102, abs=5e-4)


@pytest.mark.parametrize("clean", [False, True])
def test_against_numerical_integration(clean):
    w = ledger.wear_rate(40, 8, 2, [Point(500, 60)], TOP_UPS, loss="clean" if clean else "with_oil")
    for rate in (5.0, 20.0):
        assert w.a * rate + w.b == pytest.approx(concentration(40, 8, 2, TOP_UPS, 500, rate, clean=clean), rel=1e-6)


def test_steady_make_up_check_values():
    assert ledger.steady_make_up(1e9, 20, 40, 0.05) == pytest.approx(459.77, abs=5e-3)
    assert ledger.steady_make_up(500, 20, 40, 0.05) == pytest.approx(213.67, abs=5e-3)
    assert ledger.steady_make_up(500, 20, 40, 0) == pytest.approx(287.36, abs=5e-3)


def test_a_sample_between_top_ups_sees_the_level_fallen_so_far():
    both = ledger.wear_rate(40, 0, 0, [Point(50, 10), Point(150, 20)], [TopUp(100, 8)])
    q = 8 / 100
    a_mid = np.log(40 / (40 - q * 50)) / (0.87 * q)
    assert both.stretches[0].a == pytest.approx(a_mid)


def test_stretches_start_from_the_measured_value_and_find_the_change():
    values = [concentration(40, 0, 0, [], h, 5) for h in (100, 200)]
    values.append(values[-1] + 15 * 100 / (0.87 * 40))
    w = ledger.wear_rate(40, 0, 0, [Point(h, v) for h, v in zip((100, 200, 300), values, strict=True)])
    assert [round(s.rate_mg_h, 6) for s in w.stretches] == [5, 5, 15]
    assert [(s.from_h, s.to_h) for s in w.stretches] == [(0, 100), (100, 200), (200, 300)]


def test_weights_follow_the_given_sd():
    loose = ledger.wear_rate(40, 0, 0, [Point(100, 10, 100), Point(200, 40, 0.01)])
    assert loose.rate_mg_h == pytest.approx(40 * 0.87 * 40 / 200, rel=1e-3)


def test_a_part_change_takes_metal_and_adds_new_oil():
    w = ledger.wear_rate(40, 20, 0, [Point(100, 20)], part_changes=[PartChange(50, 10, 10)])
    assert w.b == pytest.approx(20 * 30 / 40)


@pytest.mark.parametrize(
    ("field", "call"),
    [
        ("top_ups[0].litres", lambda: ledger.wear_rate(40, 0, 0, [Point(10, 1)], [TopUp(5, 40)])),
        ("samples", lambda: ledger.wear_rate(40, 0, 0, [])),
        ("samples", lambda: ledger.wear_rate(40, 0, 0, [Point(0, 1)])),
        ("samples", lambda: ledger.wear_rate(40, 0, 0, [Point(1, 1, 1), Point(2, 1)])),
        ("system_volume_l", lambda: ledger.wear_rate(0, 0, 0, [Point(1, 1)])),
    ],
)
def test_bad_input_names_its_field(field, call):
    with pytest.raises(InputError) as error:
        call()
    assert error.value.field == field


def by_integration(system, density, start, new, rate, happened, at, clean):
    """C(at) by scipy's integrator over spans between events; the loss of a span told by the level that ends it, and only
    when it is read before ``at``. ``happened``: (h, "top" litres | "part" out, in | "level" missing)."""
    order = {"level": 1, "part": 2, "top": 3}
    happened = sorted((e for e in happened if 0 < e[0] < at), key=lambda e: (e[0], order[e[1]]))
    level, since, net, q_of, waiting = system, 0.0, 0.0, {}, []
    for i, (h, kind, *litres) in enumerate(happened):
        waiting.append(i)
        if kind == "part":
            net += litres[1] - litres[0]
            continue
        q = max(0.0, level + net - (system - litres[0])) / (h - since)
        q_of |= dict.fromkeys(waiting, q)
        level = system - litres[0] if kind == "level" else level + net - q * (h - since) + litres[0]
        since, net, waiting = h, 0.0, []
    c, volume, now = start, system, 0.0
    for i, (h, kind, *litres) in enumerate([*happened, (at, "end")]):
        q = q_of.get(i, 0.0)

        def slope(t, y, q=q, now=now, volume=volume):
            left = volume - q * (t - now)
            return [rate / (density * left) + (y[0] * q / left if clean else 0.0)]

        if h > now:
            c = solve_ivp(slope, (now, h), [c], rtol=1e-10, atol=1e-12).y[0, -1]
        volume, now = volume - q * (h - now), h
        if kind == "level":
            volume = system - litres[0]
        elif kind != "end":
            out, poured = (0.0, litres[0]) if kind == "top" else litres
            c = (c * (volume - out) + new * poured) / (volume - out + poured)
            volume += poured - out
    return c


UNBALANCED = [(80, "part", 5, 0), (150, "top", 6), (220, "part", 0, 3), (300, "level", 2), (380, "part", 4, 2), (450, "top", 4)]


def scalar(system, start, new, at, ppm, happened, clean=False):
    return ledger.wear_rate(
        system, start, new, [Point(at, ppm)], [TopUp(h, x[0]) for h, k, *x in happened if k == "top"],
        part_changes=[PartChange(h, *x) for h, k, *x in happened if k == "part"],
        level_checks=[ledger.LevelCheck(h, x[0]) for h, k, *x in happened if k == "level"], loss="clean" if clean else "with_oil",
    )  # fmt: skip


@pytest.mark.parametrize("clean", [False, True])
@pytest.mark.parametrize("at", [100, 200, 260, 320, 500])
def test_unbalanced_part_changes_and_levels_against_numerical_integration(clean, at):
    w = scalar(40, 8, 2, at, 60, UNBALANCED, clean)
    for rate in (0.0, 5.0, 20.0):
        assert w.a * rate + w.b == pytest.approx(by_integration(40, 0.87, 8, 2, rate, UNBALANCED, at, clean), rel=1e-6)


def test_what_a_part_change_took_out_is_no_loss_of_the_engine():
    """5 L out and none in, then 5 L topped up: the engine used nothing, so the level did not fall in between."""
    w = scalar(40, 10, 0, 300, 30, [(100, "part", 5, 0), (200, "top", 5)])
    after_part = 10.0  # what leaves takes its metal along
    assert w.b == pytest.approx(after_part * 35 / 40)
    assert w.a == pytest.approx(((100 / (0.87 * 40)) + 100 / (0.87 * 35)) * 35 / 40 + 100 / (0.87 * 40))
    assert w.rate_mg_h > 0


def test_more_out_than_there_is_says_so():
    with pytest.raises(InputError) as error:
        scalar(40, 10, 0, 300, 30, [(100, "part", 30, 0), (110, "part", 15, 0)])
    assert error.value.field == "part_changes" and "cannot leave" in str(error.value)


def columnar(system, happened, begin, at, clean=False):
    """(a, beta, gamma) of one stretch of one charge."""
    order = {"level": rates.LEVEL, "part": rates.PART, "top": rates.TOP_UP}
    n = len(happened)
    known = rates.events(
        np.array([system]), np.zeros(n, int), np.array([float(h) for h, *_ in happened]), np.array([order[k] for _, k, *_ in happened], int),
        np.array([float(x[-1]) if k != "level" else 0.0 for _, k, *x in happened]),
        np.array([float(x[0]) if k == "part" else 0.0 for _, k, *x in happened]),
        np.array([float(x[0]) if k == "level" else 0.0 for _, k, *x in happened]),
    )  # fmt: skip
    return rates.coefficients(
        np.array([system]), np.array([0.87]), np.array([clean]), np.array([float(begin)]), np.array([float(at)]), np.zeros(1, int), known
    )


event = st.one_of(
    st.tuples(st.floats(1, 900).map(lambda h: round(h, 1)), st.just("top"), st.floats(0.2, 4)),
    st.tuples(st.floats(1, 900).map(lambda h: round(h, 1)), st.just("part"), st.floats(0, 1.5), st.floats(0, 1.5)),
    st.tuples(st.floats(1, 900).map(lambda h: round(h, 1)), st.just("level"), st.floats(0, 3)),
)


@settings(max_examples=80)
@given(st.floats(25, 200), st.lists(event, max_size=7, unique_by=lambda e: e[0]), st.floats(300, 1000), st.booleans())
def test_the_columnar_ledger_equals_the_scalar_one(system, happened, at, clean):
    plain = scalar(system, 12, 3, at, 60, happened, clean)
    c = columnar(system, happened, 0, at, clean)
    assert c.a[0] == pytest.approx(plain.a, rel=1e-9)
    assert c.beta[0] * 12 + c.gamma[0] * 3 == pytest.approx(plain.b, rel=1e-9)


@pytest.mark.parametrize("clean", [False, True])
def test_stretches_one_after_another_make_the_charge(clean):
    """What two stretches say one after the other is what one over both says, when both know the same levels."""
    happened = UNBALANCED
    whole, one, two = (columnar(40, happened, a, b, clean) for a, b in ((0, 500), (0, 310), (310, 500)))
    assert two.a[0] + two.beta[0] * one.a[0] == pytest.approx(whole.a[0], rel=1e-9)
    assert two.beta[0] * one.beta[0] == pytest.approx(whole.beta[0], rel=1e-9)


def test_a_level_that_is_read_later_changes_nothing_told_before():
    happened = [(100, "top", 3), (250, "part", 2, 1)]
    before = columnar(40, happened, 0, 300)
    after = columnar(40, [*happened, (400, "top", 6), (420, "level", 1)], 0, 300)
    assert (before.a, before.beta, before.gamma) == (after.a, after.beta, after.gamma)


def test_what_is_poured_at_the_last_sample_or_after_it_changes_nothing():
    from vornet.core.ledger import Point, TopUp, wear_rate

    plain = wear_rate(40, 8, 2, [Point(500, 60)], [TopUp(100, 5)])
    for late in (500, 500.0, 700):
        assert wear_rate(40, 8, 2, [Point(500, 60)], [TopUp(100, 5), TopUp(late, 6)]) == plain
    assert wear_rate(40, 8, 2, [Point(500, 60)], [TopUp(100, 5), TopUp(499, 6)]).rate_mg_h > plain.rate_mg_h
