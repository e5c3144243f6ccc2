"""Safe hours: the calculator's check value, its edges, and the decision's form against simulation."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from vornet.core import safe_hours as sh
from vornet.core.errors import InputError

SLOPES = [-0.0080, -0.0095, -0.0088, -0.0102, -0.0091]


def test_check_value():
    s = sh.safe_hours(10, 5, SLOPES, 0.25)
    assert s.mean_crossing_h == pytest.approx(548.25, abs=5e-3)
    assert s.safe_h == pytest.approx(439.35, abs=5e-3)


def test_the_root_really_has_that_chance():
    s = sh.safe_hours(10, 5, SLOPES, 0.25)
    m, v = np.mean(SLOPES), np.var(SLOPES, ddof=1) * (1 + 1 / 5)
    z = (10 + m * s.safe_h - 5) / math.sqrt(v * s.safe_h**2 + 0.25**2)
    assert stats.t.cdf(z, 4) == pytest.approx(0.95, abs=1e-9)


def test_too_close_to_tell_is_zero_and_past_the_limit_is_zero():
    assert sh.safe_hours(5.1, 5, SLOPES, 0.25).safe_h == 0
    assert sh.safe_hours(4.0, 5, SLOPES, 0.1, side="low").safe_h == 0


def test_moving_away_with_little_spread_is_never():
    s = sh.safe_hours(10, 5, [0.01, 0.0101, 0.0099], 0.1)
    assert (s.safe_h, s.limiting, s.mean_crossing_h) == (None, None, None)


def test_moving_away_with_a_large_spread_still_has_an_answer():
    assert sh.safe_hours(10, 5, [0.001, -0.02, 0.03], 0.1).safe_h > 0


@pytest.mark.parametrize("bad", [{"slopes_per_h": [1.0]}, {"confidence": 0.5}, {"sd": -1}])
def test_bad_input(bad):
    given_ = {"start": 10, "limit": 5, "slopes_per_h": SLOPES, "sd": 0.25} | bad
    with pytest.raises(InputError):
        sh.safe_hours(**given_)


@settings(max_examples=80)
@given(st.floats(0.5, 50), st.floats(0.0005, 0.05), st.floats(0.01, 0.9), st.floats(0, 0.2))
def test_a_wider_spread_never_gives_more_hours(margin, slope, spread, sd):
    t = np.array(2.0)
    one, two = (
        float(sh.first_crossing(np.array(margin), np.array(slope), np.array((k * spread * slope) ** 2), np.array(sd**2), t))
        for k in (1.0, 1.3)
    )
    assert two <= one + 1e-6
