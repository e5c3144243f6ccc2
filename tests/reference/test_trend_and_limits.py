"""Trend and limits against scipy, statsmodels, pymannkendall and NIST's published conversion factors."""

import numpy as np
import pymannkendall
import pytest
import statsmodels.api as sm
from scipy import stats
from statsmodels.base.model import GenericLikelihoodModel

from vornet.core import conversion, limits, trend
from vornet.core.errors import InputError

RNG = np.random.default_rng(3)
SERIES = [np.cumsum(RNG.normal(0.4, 1, n)) for n in (5, 12, 40)] + [np.round(RNG.normal(0, 1, 25), 0)]


@pytest.mark.parametrize("y", SERIES, ids=str)
def test_mann_kendall_and_sen_equal_pymannkendall(y):
    ours = trend.trend(list(enumerate(y.tolist())))
    theirs = pymannkendall.original_test(y)
    assert ours.mann_kendall.p == pytest.approx(theirs.p, rel=1e-9)
    assert ours.mann_kendall.tau == pytest.approx(theirs.Tau, rel=1e-9)
    assert ours.theil_sen.slope == pytest.approx(theirs.slope, rel=1e-9)
    word = {"increasing": "rising", "decreasing": "falling", "no trend": "none"}[theirs.trend]
    assert ours.verdict == word


@pytest.mark.parametrize("y", SERIES, ids=str)
def test_least_squares_equals_statsmodels(y):
    x = np.arange(len(y)) ** 1.2
    fit = sm.OLS(y, sm.add_constant(x)).fit()
    ours = trend.trend(list(zip(x.tolist(), y.tolist(), strict=True))).ols
    assert (ours.intercept, ours.slope) == pytest.approx(tuple(fit.params), rel=1e-7)
    assert (ours.se, ours.p) == pytest.approx((fit.bse[1], fit.pvalues[1]), rel=1e-6)


def test_too_few_points_are_never_a_reassurance():
    t = trend.trend([(0, 1), (1, 2), (2, 3), (3, 4)])
    assert (t.verdict, t.too_few) == ("none", True)


def test_all_points_at_one_x():
    with pytest.raises(InputError):
        trend.trend([(1, 1), (1, 2)])


def test_normal_and_robust_limits_by_their_definitions():
    x = RNG.normal(50, 5, 60)
    n = limits.statistical_limits(x.tolist())
    assert (n.watch, n.act) == pytest.approx((x.mean() + 2 * x.std(ddof=1), x.mean() + 3 * x.std(ddof=1)))
    mad = stats.median_abs_deviation(x, scale=1 / 1.4826)
    r = limits.statistical_limits(x.tolist(), "robust", "low")
    assert r.watch == pytest.approx(np.median(x) - 2 * mad)


def test_percentile_interval_is_the_exact_binomial_one():
    # scipy.stats.quantile_test builds the same order-statistic interval (Conover 1999, section 3.2)
    x = np.sort(RNG.normal(0, 1, 400))
    ours = limits.statistical_limits(x.tolist(), "percentile")
    ci = stats.quantile_test(x, p=0.95).confidence_interval(0.95)
    assert ours.watch_ci == pytest.approx((ci.low, ci.high))
    assert ours.watch == pytest.approx(np.quantile(x, 0.95, method="median_unbiased"))


def test_a_bound_the_sample_cannot_give_is_none():
    assert limits.statistical_limits(list(range(30)), "percentile").act_ci[1] is None


@pytest.mark.parametrize("method", ["normal", "lognormal", "percentile", "robust"])
def test_fewer_than_ten_are_refused_and_fewer_than_thirty_provisional(method):
    with pytest.raises(InputError):
        limits.statistical_limits([1.0] * 9, method)
    assert limits.statistical_limits([1.0 + i for i in range(10)], method).provisional
    assert not limits.statistical_limits([1.0 + i for i in range(30)], method).provisional


def test_lognormal_refuses_zero():
    with pytest.raises(InputError):
        limits.statistical_limits([0.0] + [1.0] * 12, "lognormal")


@pytest.mark.parametrize(
    ("value", "unit", "to", "expected"),
    [  # NIST SP 811 (2008), appendix B.8
        (1, "us_gal", "L", 3.785411784), (1, "us_qt", "L", 0.946352946), (1, "imp_gal", "L", 4.54609),
        (1, "us_floz", "mL", 29.5735295625), (1, "lbf_ft", "N*m", 1.3558179483314004), (1, "mile", "km", 1.609344),
        (1, "cSt", "mm**2/s", 1), (100, "degC", "degF", 212), (17, "L", "us_qt", 17.9636995),
    ],
)  # fmt: skip
def test_units(value, unit, to, expected):
    assert conversion.convert(value, unit, to) == pytest.approx(expected, rel=1e-7)


@pytest.mark.parametrize(("unit", "to", "field"), [("furlongz", "m", "from"), ("L", "N*m", "to"), ("L", "", "to")])
def test_units_that_do_not_fit(unit, to, field):
    with pytest.raises(InputError) as error:
        conversion.convert(1, unit, to)
    assert error.value.field == field


def test_every_fixed_limit_has_watch_before_act_and_a_source():
    for row in limits.FIXED_LIMITS:
        limits.check_limit(row)
        assert row.source
    with pytest.raises(InputError):
        limits.table([limits.FixedLimit("gear", "fe", "high", "absolute", 400, 200)])


def test_censored_limits_by_maximum_likelihood_against_statsmodels():
    """A left-censored normal sample: the same likelihood maximised by statsmodels' GenericLikelihoodModel (Tobit)."""
    rng = np.random.default_rng(3)
    true = rng.normal(3.0, 1.2, 80)
    seen, unseen = true[true >= 2.0], np.full((true < 2.0).sum(), 2.0)
    everything = np.concatenate([seen, unseen])
    hidden = np.r_[np.zeros(len(seen), dtype=bool), np.ones(len(unseen), dtype=bool)]

    class Tobit(GenericLikelihoodModel):
        def nloglikeobs(self, params):
            m, s = params[0], np.exp(params[1])
            return -np.where(hidden, stats.norm.logcdf((self.endog - m) / s), stats.norm.logpdf(self.endog, m, s))

    fit = Tobit(everything, sm.add_constant(np.zeros(len(everything)))[:, :1], extra_params_names=["log_s"]).fit(
        start_params=[3.0, 0.0], disp=0
    )
    m, s = limits.censored_moments(seen, unseen)
    assert m == pytest.approx(fit.params[0], rel=1e-4)
    assert s == pytest.approx(np.exp(fit.params[1]), rel=1e-4)
    found = limits.statistical_limits(seen.tolist(), "normal", below=unseen.tolist())
    assert (found.n, found.watch) == (80, pytest.approx(m + 2 * s * np.sqrt(80 / 79)))  # as ddof = 1 of measured ones


def test_censored_ranks_are_kaplan_and_meiers_of_the_sample_turned_round():
    """statsmodels' SurvfuncRight on M − x, where ``<L`` becomes right-censored."""
    rng = np.random.default_rng(8)
    x = np.round(rng.lognormal(2.5, 0.5, 60), 1)
    limit = np.where(rng.random(60) < 0.35, rng.choice([5.0, 8.0, 50.0], 60), 0.0)
    hidden = x < limit
    known, count = limits.ranked(x[~hidden], limit[hidden])
    assert count.sum() == pytest.approx(60)
    turned = 1000 - np.where(hidden, limit, x)
    survival = sm.SurvfuncRight(turned, (~hidden).astype(int))
    for value in np.unique(x[~hidden]):
        at_most = count[known <= value].sum() / 60  # share at or below
        beyond = survival.surv_prob[survival.surv_times <= 1000 - value]
        below = survival.surv_prob[survival.surv_times < 1000 - value]
        assert at_most == pytest.approx(1.0 if not len(below) else below[-1], abs=1e-9)
        assert len(beyond)


def test_a_few_values_below_a_high_limit_do_not_make_the_limit():
    """Three bottles a lab could only read as <50 say nothing of the largest ones."""
    values = [8, 9, 10, 10, 11, 11, 12, 12, 12, 13, 13, 13, 14, 14, 14, 15, 15, 16, 17, 18] * 2
    plain = limits.statistical_limits(values, "percentile")
    found = limits.statistical_limits(values, "percentile", below=[50.0] * 3)
    assert (found.n, found.watch) == (43, pytest.approx(plain.watch, abs=0.5))
    assert found.act_ci is not None and found.act_ci[1] is None and found.watch_ci[1] in (None, 18.0)
    robust = limits.statistical_limits(values, "robust", below=[50.0] * 3)
    assert robust.watch == pytest.approx(limits.statistical_limits(values, "robust").watch, rel=0.05)


def test_no_school_believes_a_spread_below_the_methods():
    same = [10.0, 10.0, 10.1, 10.0, 9.9] * 4
    for method in ("normal", "robust"):
        assert limits.statistical_limits(same, method, method_sd=1.5).watch == pytest.approx(13.0, abs=0.02)
    lognormal = limits.statistical_limits(same, "lognormal", method_sd=1.5)
    assert lognormal.watch == pytest.approx(10 * np.exp(2 * np.sqrt(np.log(1 + 0.15**2))), rel=1e-3)  # lognormal of cv 0.15


def test_censored_values_count_by_rank_and_over_half_leaves_percentiles_only():
    seen, unseen = list(range(10, 20)), [5.0] * 12
    found = limits.statistical_limits(seen, "percentile", below=unseen)
    assert found.n == 22
    assert found.watch == pytest.approx(np.quantile([*seen, *unseen], 0.95, method="median_unbiased"))  # none of them is smaller
    for method in ("normal", "lognormal", "robust"):
        with pytest.raises(InputError, match="over half"):
            limits.statistical_limits(seen, method, below=unseen)
