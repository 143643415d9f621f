"""Designs against truths that share no code with them: integrals, sums over outcomes, other designs, simulation."""

import itertools

import mpmath as mp
import numpy as np
import pytest
from scipy import integrate, special, stats
from tests.plan.test_plan import RATIO

import amber_ruler as ar
from amber_ruler import Counts, DesignError, InputError, plan

Z = stats.norm.isf(0.025)


def chi_rule(df, size=200):
    """Nodes and weights for means over a chi-square."""
    x, w = np.polynomial.legendre.leggauss(size)
    high = np.sqrt(stats.chi2.isf(1e-17, df))
    root = (x + 1) / 2 * high
    return root**2, w / 2 * high * 2 * root * stats.chi2.pdf(root**2, df)


@pytest.mark.parametrize(
    "case", [(5, 9, 2.0, 1.0, 2.0), (3, 4, 1.0, 3.0, 3.0), (2, 9, 1.0, 2.0, 4.0), (60, 20, 5.0, 2.0, 3.0)]
)
def test_exact_power_of_the_unequal_variance_test(case):
    """Against a double integral over both variances seen."""
    n1, n0, s1, s0, effect = case
    (q1, w1), (q0, w0) = chi_rule(n1 - 1), chi_rule(n0 - 1)
    a, b = (s1**2 * q1 / (n1 - 1) / n1)[:, None], (s0**2 * q0 / (n0 - 1) / n0)[None]
    df = (a + b) ** 2 / (a * a / (n1 - 1) + b * b / (n0 - 1))
    reach, se = stats.t.isf(0.025, df) * np.sqrt(a + b), np.sqrt(s1**2 / n1 + s0**2 / n0)
    rejects = stats.norm.sf((reach - effect) / se) + stats.norm.cdf((-reach - effect) / se)
    found = plan.TwoMeans(sd=s0, sd_treatment=s1, power_from="exact").power(effect=effect, n=(n1, n0)).power
    assert found == pytest.approx(float(w1 @ rejects @ w0), rel=1e-9)


@pytest.mark.parametrize(("n", "count"), [(8, 2), (12, 3), (40, 5)])
def test_covariates_by_an_integral_over_their_imbalance(n, count):
    """Hotelling's share of imbalance is beta; given it the t is noncentral."""
    own, delta = 2 * n - 2, 0.8 / np.sqrt(2 / n * (1 - 0.49))
    df = own - count
    t = stats.t.isf(0.025, df)

    def given(b):
        shift = delta * np.sqrt(1 - b)
        power = stats.nct.sf(t, df, shift) + stats.nct.cdf(-t, df, shift)
        return stats.beta.pdf(b, count / 2, (own - count + 1) / 2) * power

    truth = integrate.quad(given, 0, 1, limit=300, epsabs=1e-12)[0]
    assert plan.TwoMeans().with_covariate(0.7, count).power(effect=0.8, n=n).power == pytest.approx(truth, rel=1e-7)


@pytest.mark.parametrize(("n", "predictors", "others"), [(8, 3, 2), (30, 3, 2), (90, 1, 0)])
def test_random_predictors(n, predictors, others):
    """Over the chi-square that a noncentrality is drawn from; with one predictor the exact test of a correlation."""
    design = plan.Regression(predictors=predictors, others=others, explained=0.2, predictors_are="random")
    f2, df2 = 0.05 / 0.75, n - predictors - others - 1
    c, df = stats.f.isf(0.05, predictors, df2), n - 1 - others
    q, w = chi_rule(df, 600)
    truth = float(w @ stats.ncf.sf(c, predictors, df2, f2 * q))
    assert design.power(effect=0.05, n=n).power == pytest.approx(truth, rel=1e-9)
    rho = 0.3
    same = plan.Correlation().power(effect=rho, n=n).power
    one = plan.Regression(predictors_are="random").power(effect=rho**2, n=n).power
    line = plan.Slope(sd_predictor=2, sd_error=5, predictors_are="random").power(standardised=rho, n=n).power
    assert [one, line] == pytest.approx([same, same], rel=1e-9)


ONE_SHARE = [
    ("exact", {"test": "exact"}), ("mid-p", {"test": "mid-p"}), ("score", {"test": "score"}),
    ("wald", {"test": "wald"}),
    ("corrected", {"test": "score", "continuity": "half"}),
]  # fmt: skip


@pytest.mark.parametrize(("test", "measured"), ONE_SHARE)
@pytest.mark.parametrize("side", ["two-sided", "greater", "less"])
def test_every_outcome_of_one_share_is_what_the_measure_says(test, measured, side):
    """The power is the chance of the outcomes that the real test rejects."""
    n, p0, effect = 31, *((0.3, 0.2) if side != "less" else (0.6, -0.2))
    x = np.arange(1, n)  # Wald's standard error is 0 beyond
    p = ar.measure.proportion(Counts(x, n), null=p0, alternative=side, **measured).p_value
    inner = stats.binom.pmf(x, n, p0 + effect)[p < 0.05].sum()
    ends = stats.binom.pmf([0, n], n, p0 + effect).sum()
    found = plan.OneProportion(baseline=p0, test=test, alternative=side).power(effect=effect, n=n).power
    assert inner - 1e-12 <= found <= inner + ends + 1e-12
    assert ends < 1e-4


def test_likelihood_and_arcsine_of_one_share():
    """Outcome by outcome against their definitions."""
    n, x = 40, np.arange(41)
    told = 2 * (special.xlogy(x, x / (n * 0.3)) + special.xlogy(n - x, (n - x) / (n * 0.7)))
    chances = stats.binom.pmf(x, n, 0.5)
    found = plan.OneProportion(baseline=0.3, test="likelihood").power(effect=0.2, n=n).power
    assert found == pytest.approx(chances[told > Z**2].sum(), rel=1e-12)
    h = 2 * (np.arcsin(np.sqrt(0.5)) - np.arcsin(np.sqrt(0.3)))
    normal = plan.OneProportion(baseline=0.3, test="arcsine", power_from="normal", alternative="greater")
    answer = normal.sample_size(effect=0.2, power=0.9)
    assert answer.n_exact == pytest.approx((stats.norm.isf(0.05) + stats.norm.ppf(0.9)) ** 2 / h**2, rel=1e-10)
    two = plan.TwoProportions(baseline=0.3, test="arcsine", alternative="greater").sample_size(effect=0.2, power=0.9)
    assert two.n_exact == pytest.approx(2 * answer.n_exact, rel=1e-10)


def test_corrected_shares_have_the_textbook_size():
    """Casagrande, Pike and Smith: n'/4 (1 + sqrt(1 + 4 / (n' d)))² of the size n' without the correction."""
    plain = plan.TwoProportions(baseline=0.3, alternative="greater").sample_size(effect=0.1).n_exact
    found = plan.TwoProportions(baseline=0.3, alternative="greater", test="corrected").sample_size(effect=0.1).n_exact
    assert found == pytest.approx(plain / 4 * (1 + np.sqrt(1 + 4 / (plain * 0.1))) ** 2, rel=1e-10)


@pytest.mark.parametrize("kind", ["non-inferiority", "superiority", "equivalence"])
@pytest.mark.parametrize("good", ["higher", "lower"])
def test_outcomes_against_a_margin_are_what_the_measure_says(kind, good):
    """All pairs of counts, each by the real test against the margin."""
    n1, n0, p0, effect = 14, 11, 0.6, {"superiority": 0.25}.get(kind, 0.05) * (1 if good == "higher" else -1)
    x1, x0 = (v.ravel() for v in np.meshgrid(np.arange(n1 + 1), np.arange(n0 + 1), indexing="ij"))
    size, above = 0.3, 0.35
    edge = {"non-inferiority": -size, "superiority": 0.1, "equivalence": -size}[kind]
    edge = edge if good == "higher" or kind == "equivalence" else -edge

    def rejects(null, side):
        return ar.measure.proportions(Counts(x1, n1), Counts(x0, n0), null=null, alternative=side).p_value < 0.05

    hit = rejects(edge, "greater" if good == "higher" or kind == "equivalence" else "less")
    if kind == "equivalence":
        hit &= rejects(above, "less")
    truth = (stats.binom.pmf(x1, n1, p0 + effect) * stats.binom.pmf(x0, n0, p0))[hit].sum()
    more = {"above": above} if kind == "equivalence" else {}
    design = plan.TwoProportions(baseline=p0, power_from="outcomes")
    design = design.with_margin(0.1 if kind == "superiority" else size, kind, good, **more)
    assert design.power(effect=effect, n=(n1, n0)).power == pytest.approx(truth, rel=1e-10)


def test_margins_turned_round():
    """Superiority by a margin is a one-sided test moved; two limits are two one-sided tests, by an integral."""
    moved = plan.TwoMeans(alternative="greater").power(effect=0.5, n=40).power
    assert plan.TwoMeans().with_margin(0.3, "superiority").power(effect=0.8, n=40).power == pytest.approx(moved)
    lower = plan.TwoMeans().with_margin(0.3, "superiority", "lower").power(effect=-0.8, n=40).power
    assert lower == pytest.approx(moved)
    n, low, high, effect = 25, -0.6, 0.9, 0.2
    q, w = chi_rule(2 * n - 2, 400)
    se = np.sqrt(2 / n)
    reach = stats.t.isf(0.05, 2 * n - 2) * np.sqrt(q / (2 * n - 2)) * se
    inside = stats.norm.cdf((high - reach - effect) / se) - stats.norm.cdf((low + reach - effect) / se)
    found = plan.TwoMeans().with_margin(0.6, "equivalence", above=0.9).power(effect=effect, n=n).power
    assert found == pytest.approx(float(w @ np.maximum(inside, 0)), rel=1e-5)
    with pytest.raises(InputError, match="second limit"):
        plan.TwoMeans().with_margin(0.3, above=0.5)


def test_exact_rates_by_their_sums():
    """One Poisson count, and two given their sum, with tails of scipy's."""
    for n in (3, 8, 200):
        mean, moved = 14.0 * n, 14.0 * n * 1.3
        k = stats.poisson.isf(0.025, mean) + 1
        low = int(stats.poisson.ppf(0.025, mean))
        low -= stats.poisson.cdf(low, mean) > 0.025
        truth = stats.poisson.sf(k - 1, moved) + stats.poisson.cdf(low, moved)
        found = plan.OneRate(baseline=0.5, exposure=28).power(lift=0.3, n=n).power
        assert found == pytest.approx(truth, rel=1e-10)
    a, b, truth = 30 * 0.9, 20 * 0.5, 0.0
    for total in range(1, 120):
        even = stats.binom(total, 30 / 50)
        x = np.arange(total + 1)
        hit = (even.sf(x - 1) <= 0.025) | (even.cdf(x) <= 0.025)
        truth += stats.poisson.pmf(total, a + b) * stats.binom.pmf(x, total, a / (a + b))[hit].sum()
    exact = plan.TwoRates(baseline=0.5, power_from="outcomes")
    assert exact.power(effect=0.4, n=(30, 20)).power == pytest.approx(truth, rel=1e-10)


def test_rates_on_other_scales_have_closed_forms():
    """Log rates with Poisson, quasi-Poisson and negative binomial variances; square roots."""
    goal = (stats.norm.isf(0.025) + stats.norm.ppf(0.9)) ** 2
    mean0, mean1 = 0.5 * 4, 0.5 * 4 * 1.3

    def size(**how):
        design = plan.TwoRates(baseline=0.5, exposure=4, alternative="greater", alpha=0.025, **how)
        return design.sample_size(lift=0.3, power=0.9).n_exact

    log = np.log(1.3) ** 2
    assert size(scale="log") == pytest.approx(goal * (1 / mean1 + 1 / mean0) / log, rel=1e-9)
    assert size(scale="log", overdispersion=1.7) == pytest.approx(1.7 * goal * (1 / mean1 + 1 / mean0) / log, rel=1e-9)
    assert size(scale="log", dispersion=0.4) == pytest.approx(goal * (1 / mean1 + 1 / mean0 + 0.8) / log, rel=1e-9)
    root = 2 * (np.sqrt(0.65) - np.sqrt(0.5))
    assert size(scale="root") == pytest.approx(goal * (2 / 4) / root**2, rel=1e-9)
    width = plan.TwoRates(baseline=0.5, exposure=4, scale="log").precision(n=100).half_width
    assert width == pytest.approx(Z * np.sqrt(2 / (100 * mean0)), rel=1e-12)


def test_designs_that_are_others():
    """Two groups by a contrast, by an F, by all pairs; two by two cells, and the effect among cells."""
    two = plan.TwoMeans(sd=2).power(effect=1, n=(12, 24)).power
    assert plan.Contrast(weights=(1, -1), sd=2, split=(1, 2)).power(effect=1, n=24).power == pytest.approx(two)
    assert plan.ManyMeans(groups=2, sd=2).power(means=[1, 0], n=(12, 24)).power == pytest.approx(two)
    even = plan.TwoMeans(sd=2).power(effect=1, n=20).power
    for correction in ("studentized", "bonferroni", "none"):
        assert plan.AllPairs(groups=2, sd=2, correction=correction).power(effect=1, n=20).power == pytest.approx(even)
    scheffe = plan.Contrast(weights=(1, -1), sd=2, correction="scheffe").power(effect=1, n=20)
    assert scheffe.power == pytest.approx(even)
    cells = plan.Factorial(levels=(2, 2), tested=(1,), sd=2).power(means=[1, 1, 0, 0], n=10)
    shift, df = 10 * 4 * (0.5 / 2) ** 2, 36
    assert cells.power == pytest.approx(stats.ncf.sf(stats.f.isf(0.05, 1, df), 1, df, shift), rel=1e-9)
    crossed = plan.Factorial(levels=(2, 3), sd=1.5)
    table = np.array([[3.0, 5, 1], [2, 9, 4]])
    away = table - table.mean(axis=0) - table.mean(axis=1)[:, None] + table.mean()
    assert crossed.power(means=table.ravel(), n=5).effect == pytest.approx(np.sqrt(np.mean(away**2)) / 1.5)
    with pytest.raises(DesignError, match="no such effect"):
        plan.Factorial(levels=(2, 2)).power(means=[1, 2, 3, 4], n=5)


def test_spreads_ranks_correlations_and_orders_by_their_formulas():
    """F and chi-square of spreads, Noether's variance, Fisher's z, Frison and Pocock's factors, a crossover's t."""
    one = plan.OneSpread(baseline=3).power(treatment=4, n=30).power
    low, high = stats.chi2.ppf([0.025, 0.975], 29) * 9 / 16
    assert one == pytest.approx(stats.chi2.sf(high, 29) + stats.chi2.cdf(low, 29), rel=1e-10)
    two = plan.TwoSpreads(baseline=3).power(treatment=4, n=(30, 20)).power
    low, high = stats.f.ppf([0.025, 0.975], 29, 19) * 9 / 16
    assert two == pytest.approx(stats.f.sf(high, 29, 19) + stats.f.cdf(low, 29, 19), rel=1e-10)
    shares = np.array([[0.2, 0.3, 0.5], [0.4, 0.3, 0.3]])
    tied = float(np.sum(shares.mean(axis=0) ** 3))
    design = plan.TwoRanks.of_categories(shares)
    chance = sum(
        shares[0, i] * shares[1, j] * ((i > j) + (i == j) / 2) for i, j in itertools.product(range(3), repeat=2)
    )
    se = np.sqrt(101 / (12 * 50 * 50) * (1 - tied))
    truth = stats.norm.sf(Z - (chance - 0.5) / se) + stats.norm.cdf(-Z - (chance - 0.5) / se)
    assert design.power(shares=shares, n=50).power == pytest.approx(truth, rel=1e-10)
    with pytest.raises(DesignError, match="of_categories"):
        plan.TwoRanks().power(shares=shares, n=50)
    away = np.arctanh(0.5) - np.arctanh(0.3)
    found = plan.TwoCorrelations(baseline=0.3, alternative="greater").sample_size(treatment=0.5)
    assert found.n_exact == pytest.approx(3 + 2 * ((stats.norm.isf(0.05) + stats.norm.ppf(0.8)) / away) ** 2, rel=1e-9)
    r, m, k = 0.6, 3, 2
    after, before = (1 + (k - 1) * r) / k, (1 + (m - 1) * r) / m
    factors = {"after": after, "change": after + before - 2 * r, "covariance": after - m * r * r / (1 + (m - 1) * r)}
    for how, factor in factors.items():
        design = plan.RepeatedMeans(before=m, after=k, correlation=r, analysed_by=how)
        assert design.variance_factor == pytest.approx(factor)
    n, effect = 12, 0.5
    shift = effect / (0.8 * np.sqrt((1 / n + 1 / n) / 2))
    t = stats.t.isf(0.025, 2 * n - 2)
    truth = stats.nct.sf(t, 2 * n - 2, shift) + stats.nct.cdf(-t, 2 * n - 2, shift)
    assert plan.Crossover(sd_within=0.8).power(effect=effect, n=n).power == pytest.approx(truth, rel=1e-9)
    icc = (0.25 * 0.2) ** 2 / 0.16
    by_cv = plan.TwoProportions(baseline=0.2).with_clusters(50, between_cv=0.25).sample_size(effect=0.05)
    assert by_cv.n == plan.TwoProportions(baseline=0.2).with_clusters(50, icc).sample_size(effect=0.05).n
    assert by_cv.n_effective == pytest.approx(by_cv.n_total / (1 + 49 * icc))


def test_widths_expected_and_assured():
    """The chi-square of a spread, its mean, and all outcomes of a share; a population that is drawn from."""
    n = plan.OneMean(sd=15).sample_size_for_width(half_width=3, assurance=0.9).n
    chances = [stats.chi2.cdf((m - 1) * m * (3 / stats.t.isf(0.025, m - 1)) ** 2 / 225, m - 1) for m in (n - 1, n)]
    assert chances[0] < 0.9 <= chances[1]
    mean = plan.TwoMeans(sd=2).precision(n=6, width="expected").half_width
    c4 = np.sqrt(2 / 10) * special.gamma(11 / 2) / special.gamma(5)
    assert mean == pytest.approx(stats.t.isf(0.025, 10) * 2 * np.sqrt(2 / 6) * c4, rel=1e-12)
    many = plan.TwoMeans(sd=2)  # of which the mean spread differs from the true one by 1 / (4 df)
    share = many.precision(n=10**12, width="expected").half_width / many.precision(n=10**12).half_width
    assert share == pytest.approx(1 - 1 / 8e12, rel=1e-15)
    x, p = np.arange(51), stats.binom.pmf(np.arange(51), 50, 0.2)
    for kind in ("wald", "wilson", "clopper-pearson"):
        found = [ar.measure.proportion(Counts(int(k), 50), interval=kind, test={"wald": "score"}.get(kind, "score"))
                 for k in x if kind != "wald" or 0 < k < 50]  # fmt: skip
        half = np.array([(r.interval.high - r.interval.low) / 2 for r in found])
        half = half if kind != "wald" else np.array([0.0, *half, 0.0])
        design = plan.OneProportion(baseline=0.2, interval=kind)
        assert design.precision(n=50, width="expected").half_width == pytest.approx(p @ half, rel=1e-9)
        assured = design.precision(n=50, assurance=0.8).half_width
        assert p[half <= assured * (1 + 1e-12)].sum() >= 0.8 > p[half < assured * (1 - 1e-12)].sum()
        size = design.sample_size_for_width(half_width=0.06, assurance=0.8).n
        reached = [design.precision(n=m, assurance=0.8).half_width <= 0.06 for m in range(size - 1, size + 25)]
        assert not reached[0]
        assert all(reached[1:])
    garwood = ar.measure.rate(ar.Events(20, 40.0)).interval
    rate = plan.OneRate(baseline=0.5, interval="exact").precision(n=40).half_width
    assert rate == pytest.approx((garwood.high - garwood.low) / 2, rel=1e-10)
    assert plan.OneRate(baseline=0.5, interval="log").precision(n=40).half_width == pytest.approx(Z / np.sqrt(20))
    n0 = 0.25 * (Z / 0.05) ** 2
    found = plan.OneProportion().with_population(2000).sample_size_for_width(half_width=0.05)
    assert found.n_exact == pytest.approx(2000 * n0 / (n0 + 1999), rel=1e-9)
    drawn = plan.OneMean(sd=15, distribution="normal").with_population(300).sample_size_for_width(half_width=3)
    assert drawn.n_exact == pytest.approx(1 / (1 / (Z * 5) ** 2 + 1 / 300), rel=1e-9)
    for call, says in (
        (lambda: plan.TwoProportions(baseline=0.2).precision(n=50, assurance=0.8), "chance of its own"),
        (lambda: plan.OneMean().precision(n=50, assurance=0.8, width="expected"), "leave width or assurance"),
        (lambda: plan.OneProportion(baseline=0.3).with_population(500).power(effect=0.1, n=50), "power_from='normal'"),
    ):
        with pytest.raises(DesignError, match=says):
            call()


def test_power_over_several_treatments_and_metrics():
    """Each is the plain power; independent metrics multiply; the rest against drawn statistics."""
    design = plan.TwoMeans(sd=1).with_variants(3)
    same = design.family_power(n=80, effects=0.5)
    assert same.each == pytest.approx([design.power(n=80, effect=0.5).power] * 3, rel=1e-9)
    assert same.error == pytest.approx(0.05, rel=1e-7)
    metrics = plan.several_metrics([0.8, 0.6, 0.05])
    assert metrics.each == pytest.approx([0.8, 0.6, 0.05], rel=1e-9)
    assert (metrics.all, metrics.any) == pytest.approx((0.8 * 0.6 * 0.05, 1 - 0.2 * 0.4 * 0.95), rel=1e-9)
    assert metrics.error == pytest.approx(1 - 0.95**3, rel=1e-9)
    assert plan.several_metrics([0.9, 0.9], correction="sidak").error == pytest.approx(0.05, rel=1e-9)
    one = plan.several_metrics([0.8, 0.7], alternative="greater", alpha=0.025, correlation=0.4)
    shift = stats.norm.isf(0.025) + stats.norm.ppf([0.8, 0.7])
    both = stats.multivariate_normal(shift, [[1, 0.4], [0.4, 1]]).cdf([1e9, 1e9])
    below = stats.multivariate_normal(-shift, [[1, 0.4], [0.4, 1]]).cdf([-stats.norm.isf(0.025)] * 2)
    assert both == pytest.approx(1)
    assert one.all == pytest.approx(below, abs=1e-7)
    sizes, effects = np.array([60, 40, 50, 90]), np.array([0.5, 0.4, 0.0])
    found = design.family_power(n=tuple(sizes), effects=effects)
    rng, runs = np.random.default_rng(5), 200_000
    means = rng.normal(size=(runs, 4)) / np.sqrt(sizes) + np.append(effects, 0.0)
    spread = np.sqrt(rng.chisquare(sizes.sum() - 4, runs) / (sizes.sum() - 4))
    t = (means[:, :3] - means[:, 3:]) / (spread[:, None] * np.sqrt(1 / sizes[:3] + 1 / sizes[3]))
    hit = np.abs(t) > found.critical
    seen = np.array([hit.any(axis=1).mean(), hit.all(axis=1).mean(), hit.sum(axis=1).mean()])
    assert np.all(np.abs(seen - [found.any, found.all, found.expected]) < 4 * 0.9 / np.sqrt(runs))
    answer = plan.TwoMeans(sd=1).with_variants(2).sample_size_for_family(wanted="all", effects=0.5)
    fewer = plan.TwoMeans(sd=1).with_variants(2).family_power(n=answer.units[-1] - 1, effects=0.5)
    assert fewer.all < 0.8 <= answer.all
    assert "any false alarm" in str(answer)


def test_earlier_studies_by_other_statistics():
    """F of two groups is t squared; p leads back to its t; chi-square to w; spreads out of errors and intervals."""
    t = plan.EarlierStudy.of_t(2.5, (30, 30))
    assert plan.EarlierStudy.of_f(2.5**2, 1, 58).effect == pytest.approx(2.5 / np.sqrt(58))
    p = 2 * stats.t.sf(2.5, 58)
    assert plan.EarlierStudy.of_p(p, (30, 30)).cautious == pytest.approx(t.cautious, rel=1e-9)
    assert plan.EarlierStudy.of_p(p / 2, (30, 30), alternative="less").effect == pytest.approx(-t.effect, rel=1e-9)
    assert plan.EarlierStudy.of_chi_square(12.0, 150).effect == pytest.approx(np.sqrt(12 / 150))
    assert plan.sd_from(n=(40, 60), se=0.8) == pytest.approx(0.8 / np.sqrt(1 / 40 + 1 / 60))
    values = np.array([3.0, 7, 4, 9, 2, 6])
    r = ar.measure.mean(values)
    assert plan.sd_from(n=6, interval=(r.interval.low, r.interval.high)) == pytest.approx(values.std(ddof=1))
    assert plan.sd_from(n=100, interval=(1, 2), level=0.9, distribution="normal") == pytest.approx(
        5 / stats.norm.isf(0.05)
    )
    laws = {
        ar.effects.noncentrality(5.0, 2, 57, test="f"): lambda nc: stats.ncf.sf(5.0, 2, 57, nc),
        ar.effects.noncentrality(9.0, 2, test="chi-square"): lambda nc: stats.ncx2.sf(9.0, 2, nc),
        ar.effects.noncentrality(2.2, 30, test="t"): lambda nc: stats.nct.sf(2.2, 30, nc),
    }
    for shift, law in laws.items():
        assert [law(shift.interval.low), law(shift.interval.high)] == pytest.approx([0.025, 0.975], rel=1e-6)


SIMULATED = [
    (plan.ManyMeans(groups=3, split=(1, 2, 1)), {"effect": 0.3}, 30),
    (plan.Contrast(weights=(1, -0.5, -0.5)), {"effect": 0.6}, 30),
    (plan.AllPairs(groups=3), {"effect": 0.8}, 30),
    (plan.Factorial(levels=(2, 2)), {"effect": 0.3}, 20),
    (plan.Association(rows=2, columns=3), {"effect": 0.25}, 120),
    (plan.Association(rows=1, columns=4), {"effect": 0.25}, 120),
    (plan.Regression(predictors=2, others=1, explained=0.2), {"effect": 0.1}, 60),
    (plan.Slope(predictors_are="random"), {"effect": 0.5}, 20),
    (plan.Correlation(coefficient="kendall"), {"effect": 0.3}, 30),
    (plan.TwoCorrelations(baseline=0.2), {"effect": 0.3}, 90),
    (plan.TwoRanks(), {"effect": 0.15}, 50),
    (plan.TwoTimes(baseline=0.4), {"lift": -0.4}, 150),
    (RATIO, {"lift": 0.2}, 600),
    (plan.RepeatedMeans(correlation=0.6, before=2, after=3), {"effect": 0.4}, 40),
    (plan.RepeatedMeans(correlation=0.6, analysed_by="change"), {"effect": 0.4}, 60),
    (plan.Crossover(sd=1, correlation=0.5), {"effect": 0.4}, 20),
    (plan.OneSpread(), {"treatment": 1.3}, 50),
    (plan.TwoSpreads(), {"treatment": 1.3}, 90),
    (plan.OneRate(baseline=0.5), {"lift": 0.3}, 60),
    (plan.TwoRates(baseline=0.5, scale="root"), {"lift": 0.3}, 200),
    (plan.TwoRates(baseline=0.5, scale="log", dispersion=0.5), {"lift": 0.4}, 200),
    (plan.TwoRates(baseline=0.5, power_from="outcomes"), {"lift": 0.3}, 200),
    (plan.TwoProportions(baseline=0.3, test="corrected"), {"effect": 0.1}, 200),
]


@pytest.mark.parametrize(("design", "effect", "n"), SIMULATED)
def test_the_real_test_finds_it_as_often_as_planned(design, effect, n):
    """Within four Monte-Carlo errors, or two points where the formula is an approximation."""
    found = design.simulate(n=n, runs=300, seed=11, **effect)
    assert abs(found.rate - found.power) < 4 * found.error + 0.02
    assert found.power == pytest.approx(design.power(n=n, **effect).power)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: plan.Contrast(weights=(1, 1)), "sum to 0"),
        (lambda: plan.Contrast(weights=(1, -1), split=(1, 2, 3)), "one for each group"),
        (lambda: plan.Contrast(weights=(1, -1), correction="scheffe", alternative="less"), "two-sided"),
        (lambda: plan.AllPairs(groups=3, alternative="less"), "two-sided"),
        (lambda: plan.Factorial(levels=(2,), tested=(2,)), "from 1 to 1"),
        (lambda: plan.TwoMeans(power_from="exact"), "give sd_treatment"),
        (lambda: plan.OneProportion(baseline=0.3, test="exact", power_from="normal"), "is counted"),
        (lambda: plan.TwoRates(baseline=1, scale="log", power_from="outcomes"), "leave scale"),
        (lambda: plan.RepeatedMeans(correlation=-0.9, after=4), "can have a correlation"),
        (plan.Crossover, "sd_within"),
        (lambda: plan.TwoMeans().with_clusters(5), "icc or between_cv"),
        (lambda: plan.TwoMeans(baseline=1.0).with_clusters(5, between_cv=3), "smaller one"),
        (lambda: plan.TwoMeans().family_power(n=9, effects=1), "with_variants"),
        (lambda: plan.TwoMeans().with_variants(2).family_power(n=(9, 9, 9, 9), effects=1), "last, of control"),
        (lambda: plan.several_metrics([0.01]), "at least 0.05"),
        (lambda: plan.sd_from(n=9), "one of se and interval"),
        (lambda: plan.TwoRanks(ties=0.3).simulate(effect=0.1, n=9), "ties=0"),
        (lambda: plan.Slope(others=1).simulate(effect=0.1, n=9), "without other"),
    ],
)
def test_what_can_not_be_is_said(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises((DesignError, InputError), match=says):
        call()


@pytest.mark.parametrize("gap", [1e-9, -1e-6, 0.1])
def test_small_effects_keep_their_digits(gap):
    """Sizes before rounding from distances with forty digits: arcsines, likelihoods, Fisher's z, roots of rates."""
    side = {"alternative": "greater" if gap > 0 else "less", "alpha": 0.025}
    with mp.workdps(40):
        goal = (mp.sqrt(2) * (mp.erfinv(mp.mpf("0.95")) + mp.erfinv(mp.mpf("0.8")))) ** 2
        low = mp.mpf(0.3)
        p = low + mp.mpf(gap)
        h = 2 * (mp.asin(mp.sqrt(p)) - mp.asin(mp.sqrt(low)))
        told = 2 * (p * mp.log(p / low) + (1 - p) * mp.log((1 - p) / (1 - low)))
        q = mp.atanh(p) - mp.atanh(low)
        root = 2 * (mp.sqrt(p) - mp.sqrt(low))
        expected = [2 * goal / h**2, goal / told, goal / q**2 + 3, 2 * goal / q**2 + 3, 2 * goal / root**2]
    for design, many in zip(
        (
            plan.TwoProportions(baseline=0.3, test="arcsine", **side),
            plan.OneProportion(baseline=0.3, test="likelihood", power_from="normal", **side),
            plan.Correlation(null=0.3, power_from="fisher-z", **side),
            plan.TwoCorrelations(baseline=0.3, **side),
            plan.TwoRates(baseline=0.3, scale="root", **side),
        ),
        expected,
        strict=True,
    ):
        units = tuple(np.asarray(float(many)) for _ in range(len(design._recruits(np.asarray(9.0)))))
        assert float(design._power_of(np.asarray(gap), units)) == pytest.approx(0.9, abs=1e-11)
