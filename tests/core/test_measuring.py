"""Weighed and still dripping: against the arithmetic done by hand, against numpy's least squares, and what cannot be."""

import json
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core.errors import InputError
from vornet.core.measuring import density_at, drip, weigh
from vornet.flows import calc


def test_forty_litres_at_sixty_degrees_are_thirty_eight_point_seven_cold():
    """ρ(60) = 0.87·(1 − 0.0007·45); a capacity is a cold figure."""
    found = weigh(40 * 0.87 * (1 - 0.0007 * 45) + 1.8, 1.8, 60)
    assert (round(found.litres, 6), round(found.litres_at_reference, 2)) == (40.0, 38.74)
    assert weigh(2, 2, 60).litres == 0.0 == weigh(2, 2, 60).litres_at_reference
    assert weigh(10, 0, 15).litres == weigh(10, 0, 15).litres_at_reference == pytest.approx(10 / 0.87)


def test_two_readings_tell_the_rest():
    """34.0 L at 4 min and 34.6 L at 16: 1/√t halves, so what is missing halves too: 35.2 at the end, 34.8 at 36 min."""
    found = drip([(16, 34.6), (4, 34.0)])  # in any order
    assert found.final_litres == pytest.approx(35.2) and found.at(36) == pytest.approx(34.8)


@given(
    st.lists(st.tuples(st.floats(0.5, 500), st.floats(0, 3)), min_size=2, max_size=8, unique_by=lambda r: round(r[0], 1)), st.floats(5, 60)
)
def test_it_is_numpys_least_squares_and_never_below_the_last_reading(rows, start):
    minutes = sorted(m for m, _ in rows)
    litres = np.maximum.accumulate(start + np.cumsum([v for _, v in rows]))
    found = drip(list(zip(minutes, litres.tolist(), strict=True)))
    slope, end = np.polyfit(1 / np.sqrt(minutes), litres, 1)
    if end >= litres[-1]:
        assert found.final_litres == pytest.approx(end, rel=1e-6) and found.k == pytest.approx(-slope, rel=1e-6, abs=1e-6)
    else:
        x = 1 / np.sqrt(minutes)
        assert found.final_litres == litres[-1] and found.k == pytest.approx(float(x @ (litres[-1] - litres) / (x @ x)))
    assert found.final_litres >= litres[-1] - 1e-6 and found.k >= -1e-9


@pytest.mark.parametrize(
    ("readings", "why"),
    [([(4, 34.0)], "two or more"), ([], "two or more"), ([(0, 30), (4, 34)], "more than zero"), ([(-1, 30), (4, 34)], "more than zero"),
     ([(4, 34), (4, 34.2)], "two readings at 4"), ([(4, 34.6), (16, 34.0)], "does not go back")],
)  # fmt: skip
def test_readings_that_cannot_be_are_refused(readings, why):
    with pytest.raises(InputError, match=why):
        drip(readings)


def test_a_scale_that_goes_back_and_a_density_that_is_none_are_refused():
    with pytest.raises(InputError, match="empty is more"):
        weigh(1, 2, 20)
    with pytest.raises(InputError, match="no density"):
        density_at(400, 0.87, 0.01)


def test_both_are_calculators():
    assert calc.calculate("weigh", {"gross_kg": 35.7038, "tare_kg": 2, "temperature_c": 60})["litres"] == pytest.approx(40.0, abs=1e-3)
    found = calc.calculate("drip", {"readings": [{"min": 4, "litres": 34}, {"min": 16, "litres": 34.6}], "at_min": [36]})
    assert found["at"] == [{"min": 36, "litres": pytest.approx(34.8), "still_to_come_l": pytest.approx(0.4)}]
    assert calc.calculate("drip", {"readings": [{"min": 4, "litres": 34}, {"min": 16, "litres": 34.6}], "at_min": []})["at"] == []
    sent = json.dumps({"gross_kg": 1, "tare_kg": 2, "temperature_c": 20})
    done = subprocess.run([sys.executable, "-m", "vornet", "calc", "weigh"], input=sent, capture_output=True, text=True)
    assert done.returncode == 2 and "tare_kg" in done.stderr
