"""History played through several ways of judging: leads, idle calls and misses on histories small enough to count by hand;
what counts as healthy; what a charge would have shown without top-ups."""

from dataclasses import replace

import numpy as np
import pytest
from test_causes import added, departed, worked
from test_screening import fleet

from vornet.core import ledger
from vornet.core.backtest import ABOUT_DAYS, Found, against_findings, by_family, by_fixed_limits, by_rates
from vornet.core.judge import ACT, RUN_ON, WATCH
from vornet.core.limits import FEWEST, healthy_rows, table
from vornet.core.measurands import INDEX
from vornet.core.rates import without_top_ups


@pytest.fixture
def history():
    return fleet(engines=2, gears=1)


def codes(history, *called):
    out = np.full(len(history.samples.comp), RUN_ON)
    for i, code in called:
        out[i] = code
    return out


def test_a_finding_is_called_from_the_first_call_before_it(history):
    h, at = history
    first, second, last = at[(0, 10)], at[(0, 11)], at[(0, 12)]
    day = int(h.samples.day[last]) + 5
    way = against_findings("k", "n", codes(h, (first, WATCH), (second, ACT)), h, [Found(0, day, "engine")])
    assert (way.findings, way.spoken, way.watch, way.act) == (1, 1, 1, 1)
    assert way.lead_days == day - h.samples.day[first]
    assert way.lead_samples == 3  # the two that called and the one after them
    assert (way.idle, way.missed) == (0.0, ())


def test_calls_elsewhere_or_long_before_are_idle(history):
    h, at = history
    i, other = at[(0, 1)], at[(1, 12)]
    day = int(h.samples.day[i]) + ABOUT_DAYS
    way = against_findings("k", "n", codes(h, (i, WATCH), (other, ACT)), h, [Found(0, day, "engine")])
    assert (way.spoken, way.missed, way.lead_days, way.lead_samples) == (0, ("engine",), None, None)
    assert way.idle == pytest.approx(100 * 2 / h.samples.usable.sum())


def test_a_call_after_the_finding_is_not_idle_and_one_on_a_held_sample_is_none(history):
    h, at = history
    after, held = at[(0, 12)], at[(1, 5)]
    usable = h.samples.usable.copy()
    usable[held] = False
    h = replace(h, samples=replace(h.samples, usable=usable))
    found = [Found(0, int(h.samples.day[after]) - 1, "engine")]
    way = against_findings("k", "n", codes(h, (after, WATCH), (held, ACT)), h, found)
    assert (way.idle, way.act, way.spoken) == (0.0, 0, 0)


def test_no_findings_and_no_calls_say_nothing(history):
    h, _ = history
    way = against_findings("k", "n", codes(h), h, [])
    assert (way.findings, way.spoken, way.lead_days, way.idle, way.watch) == (0, 0, None, 0.0, 0)


def test_fixed_limits_alone_speak_by_margin(history):
    h, at = history
    broken, i = added(h, at, (0, 13), pb=18)  # past watch 20, by far not past act 50
    assert by_fixed_limits(worked(broken).past)[i] == WATCH
    broken, i = added(h, at, (0, 13), pb=70)
    assert by_fixed_limits(worked(broken).past)[i] == ACT


def test_the_family_way_is_mean_and_two_or_three_s_of_what_went_before(history):
    h, at = history
    broken, i = added(h, at, (0, 13), fe=400)
    family = h.compartments.family[h.samples.comp] == h.compartments.family[0]
    before = broken.samples.values[family & (h.samples.day // 30 < h.samples.day[i] // 30), INDEX["fe"]]
    assert len(before) >= FEWEST
    every = np.ones(len(h.samples.comp), dtype=bool)
    assert by_family(broken, every, table())[i] == ACT
    assert broken.samples.values[i, INDEX["fe"]] > before.mean() + 3 * before.std(ddof=1)
    early = at[(0, 0)]
    assert by_family(broken, every, table())[early] == RUN_ON  # nothing is known yet


def test_running_in_and_what_was_found_faulty_teach_the_family_nothing(history):
    h, at = history
    broken, i = added(h, at, (0, 13), fe=400)
    nothing = np.zeros(len(h.samples.comp), dtype=bool)
    assert by_family(broken, nothing, table())[i] == RUN_ON


def test_rates_alone_see_dirt_and_not_age(history):
    h, at = history
    dirty, i = added(h, at, (0, 13), si=60)
    assert by_rates(departed(dirty))[i] == ACT
    aged, i = added(h, at, (0, 13), oxidation=40)
    assert by_rates(departed(aged))[i] == RUN_ON


@pytest.mark.parametrize(("change", "stays"), [
    ({}, True), ({"usable": False}, False), ({"settled": True}, False), ({"break_in": True}, False), ({"signed": 1}, True),
    ({"signed": 2}, False), ({"signed": 3}, False), ({"signed": -1}, True), ({"found": True}, False),
])  # fmt: skip
def test_what_says_what_is_usual(change, stays):
    row = {"usable": True, "settled": False, "break_in": False, "signed": 0, "found": False} | change
    assert healthy_rows(**{k: np.array([v]) for k, v in row.items()}).tolist() == [stays]


def test_without_top_ups_equals_the_ledger_s_undiluted_rise():
    """A charge integrated numerically: V 40, top-ups 5, 6 and 7 L, start 8, new oil 2, R = 20 mg/h: 249.179, undiluted 287.36."""
    top_ups = [ledger.TopUp(100, 5), ledger.TopUp(220, 6), ledger.TopUp(360, 7)]
    found = ledger.wear_rate(40, 8, 2, [ledger.Point(500, 249.179)], top_ups, density_kg_l=0.87)
    per_100h = found.undiluted_rise_ppm / 5
    shown = without_top_ups(8.0, np.array([per_100h, per_100h]), np.array([0.0, 250.0]), np.array([250.0, 500.0]))
    assert shown[-1] == pytest.approx(8 + 20 * 500 / (0.87 * 40), rel=1e-4)
    assert np.isnan(without_top_ups(8.0, np.array([np.nan, 1.0]), np.zeros(2), np.ones(2))).all()
