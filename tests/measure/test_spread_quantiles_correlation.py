"""Spreads, quantiles and correlations against integrals, order statistics and simulation."""

import math

import mpmath
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import truth
from amber_ruler import DataError, InputError, Moments, Pairs, Sample, Summary
from amber_ruler.measure import correlation, quantiles, spread, spreads
from amber_ruler.multiplicity import correct
from amber_ruler.numeric import pearson
from amber_ruler.results import Comparison
from truth import mp

RNG = np.random.default_rng(6)


def test_spreads_have_the_tails_of_chi_square_and_f():
    """Each end is where one tail is alpha/2; the p is twice the smaller tail."""
    r = spread(Summary(25, 14.0, 4.0, "a"), null=5.0)
    for end, upper in ((r.interval.low, True), (r.interval.high, False)):
        x = mp.log(24 * 16 / mp.mpf(end) ** 2)
        assert float(truth.tail(truth.chi_square(24), x, upper=upper)) == pytest.approx(0.025, rel=1e-10)
    below = truth.tail(truth.chi_square(24), mp.log(24 * mp.mpf(16) / 25), upper=False)
    assert r.p_value == pytest.approx(float(2 * below), rel=1e-10)
    r = spreads(Summary(41, 0, 4.0, "a"), Summary(31, 0, 3.0, "b"))
    above = truth.tail(truth.fisher(40, 30), mp.log(mp.mpf(16) / 9), upper=True)
    assert r.p_value == pytest.approx(float(2 * above), rel=1e-10)
    for end, upper in ((r.interval.low, True), (r.interval.high, False)):
        x = mp.log(mp.mpf(16) / 9 / mp.mpf(end) ** 2)
        assert float(truth.tail(truth.fisher(40, 30), x, upper=upper)) == pytest.approx(0.025, rel=1e-10)
    assert r.effects["variance_ratio"].interval.high == pytest.approx(r.interval.high**2, rel=1e-14)


@given(
    st.integers(2, 300),
    st.integers(2, 300),
    st.floats(0.1, 9),
    st.floats(0.1, 9),
    st.floats(0.001, 0.3),
    st.sampled_from(["two-sided", "greater", "less"]),
)
def test_spreads_agree_with_their_intervals(n1, n0, sd1, sd0, alpha, alternative):
    """The p is below alpha exactly when 1 is left out; the ratio turned round is the other way round."""
    one, two = Summary(n1, 0, sd1, "a"), Summary(n0, 0, sd0, "b")
    r = spreads(one, two, alpha=alpha, alternative=alternative)
    assert (r.p_value < alpha) == (not r.interval.contains(1.0))
    turned = {"greater": "less", "less": "greater"}.get(alternative, alternative)
    swapped = spreads(two, one, alpha=alpha, alternative=turned)
    assert (r.p_value, r.estimate) == pytest.approx((swapped.p_value, 1 / swapped.estimate), rel=1e-8)
    single = spread(one, null=sd0, alpha=alpha, alternative=alternative)
    assert (single.p_value < alpha) == (not single.interval.contains(sd0))


@pytest.mark.parametrize(("test", "centre"), [("levene", np.mean), ("brown-forsythe", np.median)])
def test_distances_from_the_centre(test, centre):
    """F of the distances, by its definition; heavy tails bring it up by themselves; the reading is given."""
    x, y = RNG.standard_t(3, 80), 2 * RNG.standard_t(3, 60)
    a, b = np.abs(x - centre(x)), np.abs(y - centre(y))
    whole = np.concatenate([a, b]).mean()
    between = 80 * (a.mean() - whole) ** 2 + 60 * (b.mean() - whole) ** 2
    f = between / (80 * a.var() + 60 * b.var()) * 138
    r = spreads(Sample(x, "a"), Sample(y, "b"), test=test)
    assert r.statistic == pytest.approx(f, rel=1e-12)
    assert r.p_value == pytest.approx(float(truth.tail(truth.fisher(1, 138), mp.log(f), upper=True)), rel=1e-10)
    (check,) = (c for c in spreads(Sample(x, "a"), Sample(y, "b")).checks if c.name == "normal values")
    assert "believe Brown and Forsythe's" in check.advice
    assert "Which t test" in r.notes[0]


def test_quantiles_lie_between_their_order_statistics():
    """Each group's interval is the shortest symmetric one by the binomial; standard errors come from it."""
    x = RNG.lognormal(size=75)
    r = quantiles(Sample(x, "a"), Sample(x + 1.0, "b"), at=0.3)
    chances = [mp.binomial(75, k) * mp.mpf("0.3") ** k * mp.mpf("0.7") ** (75 - k) for k in range(76)]
    cumulated = [float(mp.fsum(chances[: k + 1])) for k in range(76)]
    lower = max(k for k in range(76) if k == 0 or cumulated[k - 1] <= 0.025)
    upper = min(k for k in range(1, 77) if cumulated[k - 1] >= 0.975)
    placed = np.sort(x)
    assert r.groups[0].more == {"low": placed[lower - 1], "high": placed[upper - 1]}
    level = cumulated[upper - 1] - cumulated[lower - 1]
    z = float(mp.sqrt(2) * mp.erfinv(level))
    assert r.groups[0].se == pytest.approx((placed[upper - 1] - placed[lower - 1]) / (2 * z), rel=1e-9)
    assert r.estimate == pytest.approx(-1.0, rel=1e-12)
    assert (r.p_value < 0.05) == (not r.interval.contains(0.0))


@pytest.mark.parametrize("kind", ["order", "maritz-jarrett", "density"])
def test_several_quantiles_are_each_of_them(kind):
    """Side by side, with their names, the same numbers as asked one by one, also after a JSON file."""
    one, two, shares = Sample(RNG.lognormal(size=90), "a"), Sample(RNG.lognormal(size=80), "b"), [0.25, 0.5, 0.9]
    many = quantiles(one, two, at=shares, spread=kind, margin=0.5)
    assert many.axis.labels == ("25% quantile", "median", "90% quantile")
    for k, share in enumerate(shares):
        r = quantiles(one, two, at=share, spread=kind, margin=0.5)
        assert (r.estimate, r.se, r.p_value) == (many.estimate[k], many.se[k], many.p_value[k])
        assert (r.interval.low, r.interval.high) == (many.interval.low[k], many.interval.high[k])
        assert r.margin_tests["equivalent"].p_value == many.margin_tests["equivalent"].p_value[k]
        assert r.groups[1].more["low"] == many.groups[1].more["low"][k]
    assert Comparison.from_json(many.to_json()).to_frame().equals(many.to_frame())
    assert correct(many, method="holm").correction.size == 3
    assert many.to_frame()["quantile"].tolist() == list(many.axis.labels)
    for wrong in ([], [[0.5]]):
        with pytest.raises(InputError, match="a list of numbers"):
            quantiles(one, two, at=wrong)


@pytest.mark.parametrize(("kind", "at"), [("order", 0.5), ("density", 0.5), ("order", 0.9), ("density", 0.9)])
def test_quantiles_cover(kind, at):
    """Over 600 pairs of skewed samples 95 % intervals hold the truth in 90 % to 99 %."""
    rng, held = np.random.default_rng(7), 0
    for _ in range(600):
        x, y = rng.gamma(2, 1, 200), rng.gamma(2, 1, 250)
        held += quantiles(Sample(x, "a"), Sample(y, "b"), at=at, spread=kind).interval.contains(0.0)
    assert 0.90 < held / 600 < 0.99


@pytest.mark.parametrize(("r", "n"), [(0.5, 12), (-0.2, 60), (0.93, 8), (0.02, 400)])
def test_pearsons_interval_inverts_the_exact_distribution(r, n):
    """At each end one tail of r is alpha/2; p is that of t; Fisher's interval stands beside it."""
    found = correlation(Moments(("a", "b"), n, np.zeros(2), np.array([[1.0, r], [r, 1.0]])))
    assert float(pearson.sf(r, n, found.interval.low)) == pytest.approx(0.025, rel=1e-9)
    assert float(pearson.cdf(r, n, found.interval.high)) == pytest.approx(0.025, rel=1e-9)
    t = mp.mpf(r) * mp.sqrt((n - 2) / (1 - mp.mpf(r) ** 2))
    assert found.p_value == pytest.approx(float(2 * truth.t_upper(abs(t), n - 2)), rel=1e-10)
    fisher = found.effects["fisher"].interval
    reach = float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.95")) / mp.sqrt(n - 3))
    assert np.arctanh([fisher.low, fisher.high]) == pytest.approx(np.arctanh(r) + np.array([-reach, reach]), rel=1e-9)
    assert found.verdict == ""


@settings(deadline=None)
@given(
    st.floats(-0.99, 0.99),
    st.integers(4, 300),
    st.floats(0.001, 0.3),
    st.sampled_from(["greater", "less", "two-sided"]),
)
def test_correlation_agrees_with_its_interval(r, n, alpha, alternative):
    """The p is below alpha exactly when the interval leaves out 0."""
    moments = Moments(("a", "b"), n, np.zeros(2), np.array([[1.0, r], [r, 1.0]]))
    found = correlation(moments, alpha=alpha, alternative=alternative)
    assert (found.p_value < alpha) == (not found.interval.contains(0.0))


def test_spearman_is_pearson_of_mean_ranks():
    """Ties share their rank; a rising map of either side changes nothing."""
    x, y = RNG.integers(0, 9, 50).astype(float), RNG.normal(size=50)
    ranked = [np.array([np.mean(np.flatnonzero(np.sort(v) == s) + 1) for s in v]) for v in (x, y)]
    found = correlation(x, y, coefficient="spearman")
    assert found.estimate == pytest.approx(np.corrcoef(*ranked)[0, 1], rel=1e-12)
    assert correlation(x**3, np.exp(y), coefficient="spearman").estimate == pytest.approx(found.estimate, rel=1e-12)
    se = np.sqrt((1 + found.estimate**2 / 2) / 47)
    assert np.arctanh(found.interval.high) - np.arctanh(found.estimate) == pytest.approx(
        1.959963984540054 * se, rel=1e-9
    )
    exact = correlation(Pairs(np.arange(9.0), 2 * np.arange(9.0), ("a", "b")))
    assert (exact.estimate, exact.p_value) == (1.0, 0.0)
    assert "exactly" in exact.notes[0]


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: spread(Summary(1, 1.0, 0.0)), "needs at least 2"),
        (lambda: spreads([1.0, 1.0], [1.0, 2.0]), "no spread"),
        (lambda: spreads(Summary(9, 0, 1, "a"), Summary(9, 0, 1, "b"), test="levene"), "needs the values"),
        (lambda: quantiles([1.0, 2.0, 3.0], [1.0, 2.0, 3.0]), "too few for the standard error of its 50% quantile"),
        (lambda: quantiles(Summary(9, 0, 1, "a"), [1.0]), "holds no values"),
        (lambda: quantiles([0.0] * 90 + [3.0] * 9, [0.0] * 80 + [2.0] * 9), "two_part"),
        (lambda: correlation([1.0, 2.0, 3.0], [1.0, 2.0, 4.0]), "too few"),
        (lambda: correlation([1.0, 2, 3, 4], [2.0, 2, 2, 2]), "never varies"),
        (lambda: correlation([1.0, 2, 3, 4]), "both quantities"),
    ],
)
def test_what_cannot_be_said_is_said(call, says):
    """No NaN as an answer."""
    with pytest.raises((DataError, InputError), match=says):
        call()


@pytest.mark.parametrize("at", [0.1, 0.5, 0.9])
def test_maritz_and_jarretts_standard_error_by_its_weights(at):
    """Beta weights a = m, b = n - m + 1, m = ⌊q n + ½⌋, by quadrature in mpmath; far from 0 as near it."""
    values = np.sort(np.random.default_rng(3).lognormal(size=29))
    n = values.size
    m = int(at * n + 0.5)
    density = mp.beta(m, n - m + 1)
    weights = [
        mp.quad(lambda x: x ** (m - 1) * (1 - x) ** (n - m), [mp.mpf(k) / n, mp.mpf(k + 1) / n]) / density
        for k in range(n)
    ]
    first, second = (
        sum(w * mp.mpf(v) ** power for w, v in zip(weights, values.tolist(), strict=True)) for power in (1, 2)
    )
    expected = float(mp.sqrt(second - first**2))
    how = {"at": at, "spread": "maritz-jarrett", "alpha": 0.3}
    r = quantiles(values, values + 1, **how)
    assert [g.se for g in r.groups] == pytest.approx([expected, expected], rel=1e-10)
    assert quantiles(values + 1e6, values + 1e6 + 1, **how).se == pytest.approx(r.se, rel=1e-8)
    assert r.source.startswith("Maritz & Jarrett")


def test_the_standard_error_of_a_quantile_does_not_depend_on_alpha():
    """By order statistics at one level of its own: p stays, and adjusted p and interval agree where it is near alpha.

    The truth of the standard error: Price & Bonett's distance over twice the normal quantile of the exact level.
    """
    rng = np.random.default_rng(4)
    one, two = np.sort(rng.gamma(2, 3, 61)), np.sort(rng.gamma(2, 3, 40) - 1)
    r = quantiles(one, two)
    errors = []
    for values in (one, two):
        n = values.size
        below = np.cumsum([math.comb(n, k) * 0.5**n for k in range(n + 1)])
        lower = int(np.searchsorted(below, 0.025))
        level = 1 - 2 * below[lower - 1]
        z = mpmath.sqrt(2) * mpmath.erfinv(level)
        errors.append(float((values[n - lower] - values[lower - 1]) / (2 * z)))
    assert r.se == pytest.approx(float(np.hypot(*errors)), rel=1e-12)
    assert r.again(se_level=0.9).p_value != r.p_value
    for alpha in (1e-6, 0.01, 0.2):
        other = r.again(alpha=alpha)
        assert other.p_value == r.p_value
        assert [g.se for g in other.groups] == [g.se for g in r.groups]
    assert np.isinf(quantiles(one[:12], two[:12], alpha=1e-9).groups[0].more["low"])
    with pytest.raises(InputError, match="se_level"):
        quantiles(one, two, spread="density", se_level=0.9)
