"""Drain-and-fill arithmetic against hand-worked figures; every expected value follows from the mass balance."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import volumes
from vornet.core.errors import InputError


def test_residual_of_a_low_system():
    c = volumes.carry_over(40, 33, 100, 0, missing_l=3)
    assert (c.residual_l, c.residual_share, c.start_value) == (4.0, 0.1, pytest.approx(10.0))


def test_more_out_than_the_system_holds_names_the_field():
    with pytest.raises(InputError) as error:
        volumes.residual_l(40, 41)
    assert error.value.field == "drained_volume_l"


def test_flush_needs_three_drains_at_a_quarter():
    assert volumes.flush(40, 30, 0.05) == (3, pytest.approx(0.015625))


def test_flush_that_fits_exactly_needs_no_further_drain():
    assert volumes.flush(100, 90, 0.01)[0] == 2


def test_refill_in_quart_packs():
    # 6.7 US qt from one-quart packs: six whole and 22.4 fl oz of the seventh, leaving 9.6 (derived: a quart is 32 fl oz)
    qt, floz = 0.946352946, 0.0295735295625
    r = volumes.refill(6.7 * qt, qt)
    assert r.whole_packs == 6
    assert r.from_last_pack_l / floz == pytest.approx(22.4)
    assert r.left_in_last_pack_l / floz == pytest.approx(9.6)


def test_an_exact_refill_opens_no_further_pack():
    r = volumes.refill(20, 4)
    assert (r.whole_packs, r.from_last_pack_l, r.left_in_last_pack_l) == (5, 0, 0)


@given(st.floats(1, 500), st.floats(0, 1), st.floats(0, 1000), st.floats(0, 1000))
def test_the_start_value_lies_between_old_and_new(system, share, old, new):
    c = volumes.carry_over(system, system * (1 - share), old, new)
    assert min(old, new) - 1e-6 <= c.start_value <= max(old, new) + 1e-6
