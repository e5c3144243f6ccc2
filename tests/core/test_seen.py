"""What is seen at a drain: its words to signs, lists that are none, and what speaks of the job before."""

from datetime import date

import pytest

from vornet.core import seen
from vornet.core.causes import CAUSES


@pytest.mark.parametrize(("field", "word"), seen.AT_DRAIN)
def test_every_word_of_a_drain_is_the_sign_it_stands_for_alone_or_in_a_list(field, word):
    sign = seen.AT_DRAIN[(field, word)]
    assert seen.signs_at_drain(None, {field: [word]}) == {sign: 1.0} == seen.signs_at_drain(None, {field: word})


NO_WORDS = [{}, {"oil_looks": None}, {"oil_looks": 7}, {"oil_looks": [7, None]}, {"oil_looks": {"milky": 1}}, {"as_found": ["nothing"]}]


@pytest.mark.parametrize("facts", NO_WORDS)
def test_what_is_no_word_is_no_sign(facts):
    assert seen.signs_at_drain("clean", facts) == {}


def test_several_readings_of_one_item_count_each_for_itself():
    assert seen.signs_read("plug_look", ["light tan"] * 5 + ["oily"]) == {"plug_dark": 1.0}
    assert seen.signs_read("plug_look", ["light tan"] * 6) == {}
    assert seen.signs_read("air_filter", ["clean", "dusty"]) == {"air_filter": 0.6}
    assert seen.signs_read("coolant_level", ["low"]) == {"coolant_low": 1.0}
    assert seen.signs_read("belt_look", ["cracked"]) == {}


def test_an_air_filter_is_counted_from_when_it_was_new():
    assert [seen.blown_out(a) for a in ([], ["blown"], ["blown"] * 3, ["blown"] * 9, ["blown", "replaced"])] == [0, 1 / 3, 1, 1, 0]


@pytest.mark.parametrize(
    ("on", "meter", "unit", "speaks"),
    [(5, 5050.0, "h", True), (5, 5101.0, "h", False), (5, 5100.0, "km", True), (5, 9100.0, "km", False), (5, None, "h", True),
     (40, None, "h", False), (-1, 4990.0, "h", False), (5, 4000.0, "h", True)],
)  # fmt: skip
def test_a_symptom_of_the_first_hundred_hours_speaks_of_the_job(on, meter, unit, speaks):
    drained = date(2026, 3, 2)
    assert seen.speaks_of_job(date.fromordinal(drained.toordinal() + on), meter, drained, 5000.0, unit) is speaks


def test_what_is_too_coarse_for_the_lab_names_a_cause_too():
    """Whatever raises a proposal by eye also supports some cause, so that the analyst is told what it may be."""
    supports = {s.keys[0] for c in CAUSES for s, _ in c.supports if s.kind == "fact"}
    assert set(seen.COARSE) | set(seen.WATER) <= supports
