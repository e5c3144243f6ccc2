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


@settings(max_examples=60)
@given(
    st.floats(20, 200),
    st.lists(st.tuples(st.floats(1, 900), st.floats(0.2, 5)), max_size=6, unique_by=lambda t: round(t[0], 1)),
    st.floats(300, 1000),
)
def test_the_columnar_ledger_equals_the_scalar_one(system, raw, at):
    tops = sorted((TopUp(round(h, 1), v) for h, v in raw), key=lambda t: t.h)
    scalar = ledger.wear_rate(system, 12, 3, [Point(at, 60)], tops)
    inside = [t for t in tops if 0 < t.h < at]
    c = rates.coefficients(
        np.array([system]), np.array([0.87]), np.zeros(1), np.array([at]), np.zeros(1), np.zeros(1, int),
        np.array([len(inside)]), np.array([t.h for t in inside]), np.array([t.litres for t in inside]),
        np.zeros(len(inside)),
    )  # fmt: skip
    assert c.a[0] == pytest.approx(scalar.a, rel=1e-9)
    assert c.beta[0] * 12 + c.gamma[0] * 3 == pytest.approx(scalar.b, rel=1e-9)
