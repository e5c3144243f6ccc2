"""Stretch rates over several charges, rate shifts, meters and due dates, precision and measurands."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import due, judge, ledger, measurands, precision, screening
from vornet.core.charges import Charges, cut, hours_on_charge
from vornet.core.history import Compartments, Drains, Fillings, History, Oils, Samples
from vornet.core.limits import table
from vornet.core.measurands import COUNT, INDEX, dense
from vornet.core.meter import running_total
from vornet.core.rates import stretch_rates

DENSITY, SYSTEM = 0.87, 60.0


def engine(iron, topups=(), every=250.0, topup_l=None, hold=()):
    """An engine drained clean every two samples; ``iron`` one value a sample; ``topups`` (total, litres)."""
    n = len(iron)
    charges = (n + 1) // 2
    totals = 1000 + 2 * every * np.arange(charges + 1)
    days = 700000 + 60 * np.arange(charges + 1)
    nan = np.full(charges + 1, np.nan)
    drains = Drains(np.zeros(charges + 1, int), days, totals, np.full(charges + 1, SYSTEM), np.zeros(charges + 1),
                    np.zeros(charges + 1, int), nan)  # fmt: skip
    index = np.arange(n)
    total = 1000 + every * (index + 1)
    day = 700000 + 30 * (index + 1)
    values = np.array([dense({"fe": x}) for x in iron])
    usable = ~np.isin(index, hold)
    samples = Samples(np.zeros(n, int), day, total, np.full(n, np.nan), np.zeros(n) if topup_l is None else np.array(topup_l),
                      index % 2 == 1, usable, values, np.zeros(n, np.int64), np.zeros(n, np.int64))  # fmt: skip
    comps = Compartments(*(np.array([x]) for x in (0, 0, 0, SYSTEM, SYSTEM, 500.0, False, np.nan)))
    at = np.array([t for t, _ in topups], float)
    fill_day = np.interp(at, total, day).astype(int) if len(at) else np.zeros(0, int)
    fillings = Fillings(np.zeros(len(at), int), fill_day, at, np.array([v for _, v in topups], float), np.zeros(len(at)))
    return History(comps, Oils(np.array([dense({})]), np.array([DENSITY])), drains, fillings, samples)


def rates_of(history) -> tuple[Charges, np.ndarray]:
    charges = cut(history)
    return charges, stretch_rates(history, charges)


def test_each_charge_starts_anew_and_each_stretch_from_its_sample():
    _, r = rates_of(engine([10, 20, 10, 30]))
    expected = np.array([10, 10, 10, 20]) * DENSITY * SYSTEM / 250
    assert r.rate[:, 0] == pytest.approx(expected)
    assert r.from_h.tolist() == [0, 250, 0, 250]
    assert r.previous.tolist() == [-1, 0, -1, 2]


def test_no_stretch_starts_from_a_sample_of_standing_oil():
    """Its iron had sunk: a stretch from it would call the missing metal wear."""
    h = engine([4, 20, 10, 30])  # the first should have read 10
    _, naive = rates_of(h)
    assert naive.rate[1, 0] == pytest.approx(16 * DENSITY * SYSTEM / 250)
    _, r = rates_of(replace(h, samples=replace(h.samples, stood=np.array([True, False, False, False]))))
    assert r.previous.tolist() == [-1, -1, -1, 2]
    assert r.rate[1, 0] == pytest.approx(20 * DENSITY * SYSTEM / 500)
    assert r.rate[2:, 0] == pytest.approx(naive.rate[2:, 0])


def test_a_top_up_between_samples_equals_the_scalar_ledger():
    h = engine([10, 20], topups=[(1100, 4.0), (1350, 5.0)])
    _, r = rates_of(h)
    scalar = ledger.wear_rate(SYSTEM, 0, 0, [ledger.Point(250, 10), ledger.Point(500, 20)], [ledger.TopUp(100, 4), ledger.TopUp(350, 5)])
    # the first stretch is judged as of its own sample: the top-up at 350 h is not known yet
    alone = ledger.wear_rate(SYSTEM, 0, 0, [ledger.Point(250, 10)], [ledger.TopUp(100, 4)])
    assert r.rate[0, 0] == pytest.approx(alone.rate_mg_h)
    assert r.rate[1, 0] == pytest.approx(scalar.stretches[1].rate_mg_h, rel=1e-9)


def test_only_a_told_total_counts_as_steady_make_up():
    _, r = rates_of(engine([10, 20], topup_l=[10.0, 20.0]))
    rate = r.rate[0, 0]
    assert ledger.steady_make_up(250, rate, SYSTEM, 10 / 250) == pytest.approx(10)
    assert rate > 10 * DENSITY * SYSTEM / 250  # an engine that drinks oil looks healthier than it is


def test_a_top_up_written_down_later_does_not_rewrite_what_was_judged_before():
    """The lab was told of 10 L by the first sample; the first top-up on record comes after it."""
    told = [10.0, 20.0]
    _, before = rates_of(engine([10, 20], topup_l=told))
    _, after = rates_of(engine([10, 20], topup_l=told, topups=[(1300, 5.0)]))
    assert after.rate[0, 0] == pytest.approx(before.rate[0, 0])
    assert after.rate[1, 0] != pytest.approx(before.rate[1, 0])


def test_a_part_change_is_no_filling():
    """2 L out and in at the same level: nothing was lost before it, nothing is made up by it."""
    plain = engine([10, 20], topups=[(1400, 4.0)])
    fillings = plain.fillings
    changed = replace(plain, fillings=Fillings(
        np.zeros(2, int), np.array([fillings.day[0], fillings.day[0]]), np.array([1350.0, 1400.0]), np.array([2.0, 4.0]),
        np.array([2.0, 0.0]), np.array([True, False])))  # fmt: skip
    _, r = rates_of(changed)
    scalar = ledger.wear_rate(
        SYSTEM, 0, 0, [ledger.Point(250, 10), ledger.Point(500, 20)], [ledger.TopUp(400, 4)], part_changes=[ledger.PartChange(350, 2, 2)]
    )
    assert r.rate[1, 0] == pytest.approx(scalar.stretches[1].rate_mg_h, rel=1e-9)


def test_a_stretch_from_below_what_the_lab_sees_starts_in_the_middle_and_is_less_sure():
    plain = engine([8, 20, 10, 30])
    bits = np.array([1 << INDEX["fe"], 0, 0, 0], dtype=np.int64)
    _, r = rates_of(replace(plain, samples=replace(plain.samples, below=bits)))
    _, face = rates_of(plain)
    assert np.isnan(r.rate[0, 0])  # never itself a rise
    assert r.rate[1, 0] == pytest.approx((20 - 4) * DENSITY * SYSTEM / 250)
    assert r.se[1, 0] > 2 * face.se[1, 0]


def test_a_held_sample_teaches_nothing():
    _, r = rates_of(engine([10, 999, 10, 20], hold=(1,)))
    assert np.isnan(r.rate[1, 0])
    assert r.rate[3, 0] == pytest.approx(10 * DENSITY * SYSTEM / 250)


def test_a_shift_is_told_from_its_own_past_and_only_when_it_matters():
    steady = [10, 20, 11, 21, 10, 19, 11, 22, 10, 20]
    for last, real in ((20, False), (70, True)):
        h = engine([*steady, 10, last])
        charges, r = rates_of(h)
        assert judge.judge(h, charges, r, table()).shift.real[-1, 0] == real
    few = engine([10, 70])
    charges, r = rates_of(few)
    assert not judge.judge(few, charges, r, table()).shift.real.any()


def test_standard_error_carries_both_ends():
    _, r = rates_of(engine([40, 80]))
    sd = [precision.START.standard_deviation("fe", x) * precision.BETWEEN_DATES for x in (40, 80)]
    assert r.se[1, 0] == pytest.approx(np.hypot(*sd) * DENSITY * SYSTEM / 250, rel=1e-6)


def test_hours_on_the_running_charge():
    h = engine([10, 20, 10, 20])
    assert hours_on_charge(cut(h), np.array([2230.0])).tolist() == [230]


@pytest.mark.parametrize(("total", "reason"), [(900.0, "meter_back"), (99999.0, "meter_jump"), (1255.0, None), (1245.0, None)])
def test_meters_that_cannot_be(total, reason):
    h = engine([10, 20])
    h.samples.total[0] = total
    points = screening.MeterPoints(np.zeros(2, int), np.array([700000, 700020]), np.array([1000.0, 1200.0]))
    found = {f.sample: f.reason for f in screening.screen(h, cut(h), points)}
    assert found.get(0) == reason


@given(st.lists(st.tuples(st.integers(0, 50), st.floats(0, 5000)), max_size=5), st.floats(0, 9000), st.integers(0, 60))
def test_a_running_total_undoes_its_changes(raw, meter, day):
    changes = sorted((d, old, 0.0) for d, old in raw)
    expected = meter + sum(old for d, old, _ in changes if day > d or (day == d and meter < old))
    assert running_total(meter, day, changes) == pytest.approx(expected)


def test_due_by_meter_or_calendar_whichever_first():
    assert due.due(1000, 0, 500, 365, 1300, 100, 3.0).driver == "meter"
    assert due.due(1000, 0, 500, 120, 1300, 100, 3.0) == due.Due(1500, 120, "calendar")
    standing = due.due(1000, 0, 500, 365, 1300, 100, 0.0)
    assert (standing.driver, standing.day) == ("calendar", 365)


def test_recent_use_is_not_led_astray_by_one_reading():
    day = np.arange(0, 80, 10.0)
    total = 5 * day
    total[3] += 400
    assert due.recent_rate(day, total) == pytest.approx(5, rel=0.3)
    assert np.isnan(due.recent_rate(np.array([1.0]), np.array([1.0])))


def test_precision_values_and_floors():
    # ASTM D5185 repeatability 0.13·X^0.80 over 2.8 (exponents from memory, as in the table)
    assert precision.START.standard_deviation("fe", 100) == pytest.approx(0.13 * 100**0.8 / 2.8)
    assert precision.START.standard_deviation("cr", 0) == precision.ELEMENT_FLOOR_PPM
    assert precision.START.standard_deviation("bn", 10) == pytest.approx(0.4)
    assert precision.START.standard_deviation("bn", 1) == 0.2
    block = precision.START.columns_sd(np.full((1, COUNT), 50.0))
    assert block[0, INDEX["fe"]] == pytest.approx(precision.START.standard_deviation("fe", 50))
    assert {p.key for p in precision.PRECISION} == set(measurands.KEYS)


def test_storage_order_is_pinned():
    """Stored arrays follow this order: append only."""
    assert measurands.KEYS[:6] == ("fe", "cr", "ni", "al", "cu", "pb")
    assert (INDEX["v40"], INDEX["bn"], INDEX["p14"], COUNT) == (23, 26, 39, 40)


def bends(history):
    charges = cut(history)
    rates = stretch_rates(history, charges)
    from vornet.core.compare import past_limits

    return judge.rate_bend(history, charges, rates, past_limits(history, charges, table()))


def test_a_rate_that_rises_inside_its_charge_is_told_without_any_past():
    """75 mg/kg is iron's watch limit: a rise of the rate by 40 mg/kg an interval matters, one by 30 does not."""
    found = bends(engine([10, 40]))  # 20 per 500 h, then 60
    assert found.real[:, 0].tolist() == [False, True]
    assert found.before[1, 0] == pytest.approx(10 * DENSITY * SYSTEM / 250)
    assert not bends(engine([10, 35])).real.any()
    assert not bends(engine([40, 10 + 40])).real.any()  # it slows down
    assert not bends(engine([10, 40], hold=(0,))).real.any()  # held: nothing to set it against


def test_a_bend_is_set_against_the_stretch_before_in_the_same_charge_only():
    found = bends(engine([10, 20, 60, 70]))
    assert not found.real.any()  # the third began a charge; the fourth is slower
    assert np.isnan(found.before[[0, 2], 0]).all()


@pytest.mark.slow
def test_the_error_of_a_bend_counts_the_reading_that_both_stretches_share():
    """Monte Carlo: noise on three readings of one charge, the spread of the change against its formula (scipy's chi-square)."""
    from dataclasses import replace

    from scipy import stats

    h = engine([20, 40], topups=((1100, 4.0), (1400, 6.0)))
    _, r = rates_of(h)
    change, se = r.change()
    rng, n, drawn = np.random.default_rng(1), 4000, []
    for _ in range(n):
        values = h.samples.values.copy()
        values[:, INDEX["fe"]] += rng.standard_normal(2) * r.reading_sd[:, 0]
        drawn.append(rates_of(replace(h, samples=replace(h.samples, values=values)))[1].change()[0][1, 0])
    low, high = stats.chi2.ppf([0.0005, 0.9995], n - 1)
    # each redrawn reading has its own sd by the precision, which moves it by a few per cent only
    assert low < (n - 1) * np.var(drawn, ddof=1) / se[1, 0] ** 2 < high
    assert np.mean(drawn) == pytest.approx(change[1, 0], abs=4 * se[1, 0] / np.sqrt(n))
    apart = np.hypot(r.se[0, 0], r.se[1, 0])
    assert se[1, 0] > 1.1 * apart  # as if they were independent it would look surer than it is
    assert np.isnan(se[0, 0])
