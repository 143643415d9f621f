"""Power against truth: mpmath integrals written from the definitions, and brute force."""

import itertools
import math

import numpy as np
import pytest

import truth
from amber_ruler import DesignError, plan
from truth import mp

ALPHA = mp.mpf("0.05")


def quantile(upper, target, start):
    """The point whose upper tail is `target`."""
    return mp.findroot(lambda c: mp.log(upper(c)) - mp.log(target), start)


def t_power(effect, n1, n0, alpha, sides):
    """Power of the two-sample t test from the definition of the noncentral t."""
    df = n1 + n0 - 2
    return noncentral_t_power(mp.mpf(effect) * mp.sqrt(mp.mpf(n1) * n0 / (n1 + n0)), df, alpha, sides)


def noncentral_t_power(shift, df, alpha, sides):
    start = mp.mpf(12.7) if df < 3 else mp.mpf(2.3)
    critical = quantile(lambda c: truth.t_upper(c, df), mp.mpf(alpha) / sides, start)
    small = critical > shift
    above = truth.noncentral_t(critical, df, shift, upper=small)
    power = above if small else 1 - above
    return power + (truth.noncentral_t(-critical, df, shift, upper=False) if sides == 2 else 0)


@pytest.mark.parametrize(
    ("effect", "n", "alternative"),
    [
        (0.5, 64, "two-sided"),
        (5.0, 2, "two-sided"),
        (0.3, (30, 90), "greater"),
        (1e-3, 10_000_000, "two-sided"),
        (1e-4, 10_000_000, "greater"),
        (-0.8, 20, "less"),
    ],
)
def test_two_means(effect, n, alternative):
    """Agrees with high-precision noncentral t to 1e-9."""
    answer = plan.TwoMeans(alternative=alternative).power(effect=effect, n=n)
    expected = t_power(abs(effect), answer.n_treatment, answer.n_control, 0.05, 2 if alternative == "two-sided" else 1)
    assert answer.power == pytest.approx(float(expected), rel=1e-9)


@pytest.mark.parametrize(("effect", "n"), [(0.5, 2), (0.3, 90), (0.002, 1_000_000)])
def test_one_group_of_means(effect, n):
    """One mean and pairs are the one-sample t test; known spread is the normal one; sides and correlation add up."""
    expected = noncentral_t_power(mp.mpf(effect) * mp.sqrt(n), n - 1, 0.05, 2)
    assert plan.OneMean().power(effect=effect, n=n).power == pytest.approx(float(expected), rel=1e-9)
    pairs = plan.PairedMeans(sd=3, sd_treatment=4, correlation=0.7).power(standardised=effect, n=n)
    assert pairs.power == pytest.approx(float(expected), rel=1e-9)
    assert pairs.effect == pytest.approx(effect * math.sqrt(9 + 16 - 2 * 0.7 * 12), rel=1e-12)
    z, shift = mp.sqrt(2) * mp.erfinv(mp.mpf("0.95")), mp.mpf(effect) * mp.sqrt(n)
    known = plan.OneMean(distribution="normal").power(effect=effect, n=n).power
    assert known == pytest.approx(float(mp.ncdf(shift - z) + mp.ncdf(-shift - z)), rel=1e-12)


def test_unequal_spreads():
    """The noncentral t with Satterthwaite's degrees of freedom."""
    answer = plan.TwoMeans(sd=1, sd_treatment=3).power(effect=1.0, n=(40, 20))
    v1, v0 = mp.mpf(9) / 40, mp.mpf(1) / 20
    df = (v1 + v0) ** 2 / (v1**2 / 39 + v0**2 / 19)
    assert answer.power == pytest.approx(float(noncentral_t_power(1 / mp.sqrt(v1 + v0), df, 0.05, 2)), rel=1e-9)
    assert answer.effects["standardised (d)"] == pytest.approx(1 / math.sqrt(5))


def fisher_power(df1, df2, shift):
    central = truth.fisher(df1, df2)
    critical = quantile(lambda x: truth.tail(central, mp.log(x), upper=True), ALPHA, mp.mpf(3))

    def below(j):
        a, b = mp.mpf(df1) / 2 + j, mp.mpf(df2) / 2
        return mp.betainc(a, b, 0, df1 * critical / (df2 + df1 * critical), regularized=True)

    return 1 - truth.poisson_mixture(below, shift, terms=int(shift) + 150)


@pytest.mark.parametrize(("groups", "f", "n"), [(2, 5.0, 2), (4, 0.25, 45), (6, 0.05, 400), (3, 1e-2, 40_000)])
def test_many_means(groups, f, n):
    """Agrees with the noncentral F; two groups are the two-sided t test."""
    answer = plan.ManyMeans(groups=groups).power(effect=f, n=n)
    expected = fisher_power(groups - 1, groups * (n - 1), mp.mpf(f) ** 2 * groups * n)
    assert answer.power == pytest.approx(float(expected), rel=1e-9)
    if groups == 2:
        assert answer.power == pytest.approx(plan.TwoMeans().power(effect=2 * f, n=n).power, rel=1e-9)


@pytest.mark.parametrize(
    ("predictors", "others", "explained", "added", "n"), [(3, 2, 0.2, 0.05, 168), (1, 0, 0.0, 0.3, 5)]
)
def test_regression(predictors, others, explained, added, n):
    """Agrees with the noncentral F of f² n."""
    answer = plan.Regression(predictors=predictors, others=others, explained=explained).power(effect=added, n=n)
    f2 = mp.mpf(added) / (1 - mp.mpf(explained) - mp.mpf(added))
    expected = fisher_power(predictors, n - predictors - others - 1, f2 * n)
    assert answer.power == pytest.approx(float(expected), rel=1e-9)
    again = plan.Regression(predictors=predictors, others=others, explained=explained).power(standardised=f2, n=n)
    assert again.power == pytest.approx(answer.power, rel=1e-12)


@pytest.mark.parametrize(("rows", "columns", "w", "n"), [(2, 3, 0.3, 108), (1, 5, 1e-3, 10_000_000), (4, 4, 0.9, 5)])
def test_association(rows, columns, w, n):
    """Agrees with the noncentral chi-square; one row has columns - 1 degrees of freedom."""
    df = max(rows - 1, 1) * (columns - 1)
    critical = quantile(lambda x: mp.gammainc(mp.mpf(df) / 2, x / 2, mp.inf, regularized=True), ALPHA, mp.mpf(df + 4))
    shift = mp.mpf(w) ** 2 * n
    below = truth.poisson_mixture(lambda j: mp.gammainc(mp.mpf(df) / 2 + j, 0, critical / 2, regularized=True), shift)
    answer = plan.Association(rows=rows, columns=columns).power(effect=w, n=n)
    assert answer.power == pytest.approx(float(1 - below), rel=1e-9)


@pytest.mark.parametrize(("rho", "null", "n"), [(0.3, 0.0, 84), (0.6, 0.2, 40)])
def test_correlation(rho, null, n):
    """Agrees with the integral of Hotelling's density; Fisher's z by hand."""

    def upper(r, rho):
        n_, rho = mp.mpf(n), mp.mpf(rho)
        constant = (n_ - 2) * mp.gamma(n_ - 1) / (mp.sqrt(2 * mp.pi) * mp.gamma(n_ - mp.mpf(1) / 2))

        def density(w):
            x = mp.tanh(w)
            series = mp.hyp2f1(0.5, 0.5, n_ - mp.mpf(1) / 2, (1 + rho * x) / 2)
            log = (n_ - 1) / 2 * mp.log(1 - rho**2) + (n_ - 2) / 2 * mp.log(1 - x**2) - (n_ - 1.5) * mp.log(1 - rho * x)
            return constant * mp.exp(log) * series

        start, step = mp.atanh(r), 3 / mp.sqrt(n_ - 2)
        return mp.quad(density, [start + k * step for k in range(30)])

    sign = 1 if rho > null else -1
    answer = plan.Correlation(null=null, alternative="greater" if sign > 0 else "less").power(treatment=rho, n=n)
    z = mp.sqrt(2) * mp.erfinv(mp.mpf("0.9"))
    start = mp.tanh(mp.atanh(sign * null) + z / mp.sqrt(n - 2))
    critical = quantile(lambda r: upper(r, sign * null), ALPHA, (start, start * mp.mpf("1.01")))
    assert answer.power == pytest.approx(float(upper(critical, sign * rho)), rel=1e-8)
    fisher = plan.Correlation(null=null, power_from="fisher-z").power(treatment=rho, n=n).power
    shift, z = (mp.atanh(rho) - mp.atanh(null)) * mp.sqrt(n - 3), mp.sqrt(2) * mp.erfinv(mp.mpf("0.95"))
    assert fisher == pytest.approx(float(mp.ncdf(shift - z) + mp.ncdf(-shift - z)), rel=1e-12)


def normal_power(null_error, error, effect):
    z = mp.sqrt(2) * mp.erfinv(mp.mpf("0.95"))
    return float(mp.ncdf((effect - z * null_error) / error) + mp.ncdf((-effect - z * null_error) / error))


def test_shares_rates_and_ratios_by_hand():
    """The textbook formulas, done in mpmath."""
    p0, p1, n = mp.mpf("0.1"), mp.mpf("0.12"), 3_841
    pooled, both = (p0 + p1) / 2, mp.sqrt((p1 * (1 - p1) + p0 * (1 - p0)) / n)
    answer = plan.TwoProportions(baseline=0.1).power(effect=0.02, n=n)
    assert answer.power == pytest.approx(normal_power(mp.sqrt(2 * pooled * (1 - pooled) / n), both, p1 - p0), rel=1e-12)
    assert answer.half_width == pytest.approx(float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.95")) * both), rel=1e-12)
    unpooled = plan.TwoProportions(baseline=0.1, test="unpooled").power(lift=0.2, n=n)
    assert unpooled.power == pytest.approx(normal_power(both, both, p1 - p0), rel=1e-12)
    one = plan.OneProportion(baseline=0.1, power_from="normal").power(treatment=0.12, n=n)
    errors = [mp.sqrt(p * (1 - p) / n) for p in (p0, p1)]
    assert one.power == pytest.approx(normal_power(*errors, p1 - p0), rel=1e-12)
    pairs = plan.PairedProportions(discordant=0.3).power(effect=0.1, n=234)
    apart = mp.mpf("0.3")
    expected = normal_power(mp.sqrt(apart / 234), mp.sqrt((apart - mp.mpf("0.01")) / 234), mp.mpf("0.1"))
    assert pairs.power == pytest.approx(expected, rel=1e-12)
    rates = plan.TwoRates(baseline=0.5, exposure=28).power(treatment=0.55, n=118)
    low, high, time = mp.mpf("0.5"), mp.mpf("0.55"), 118 * 28
    expected = normal_power(mp.sqrt((low + high) / time), mp.sqrt((low + high) / time), high - low)
    assert rates.power == pytest.approx(expected, rel=1e-12)
    ratio = plan.RatioMetric(
        numerator_mean=0.6, numerator_variance=0.8, denominator_mean=3, denominator_variance=5, covariance=1.1
    )
    error = mp.sqrt((mp.mpf("0.8") - mp.mpf("0.4") * mp.mpf("1.1") + mp.mpf("0.04") * 5) / 9 * 2 / 9768)
    assert ratio.power(effect=0.01, n=9768).power == pytest.approx(
        normal_power(error, error, mp.mpf("0.01")), rel=1e-12
    )


def test_paired_shares_from_sides_and_correlation():
    """The discordant share is what a 2 by 2 table with these margins and correlation has."""
    design = plan.PairedProportions(baseline=0.3, correlation=0.4)
    p0, p1 = 0.3, 0.4
    both = p0 * p1 + 0.4 * math.sqrt(p0 * (1 - p0) * p1 * (1 - p1))
    assert design.power(treatment=0.4, n=100).effects["discordant pairs"] == pytest.approx(p0 + p1 - 2 * both)


def binomial(n, p):
    return [math.comb(n, x) * p**x * (1 - p) ** (n - x) for x in range(n + 1)]


@pytest.mark.parametrize("alternative", ["two-sided", "greater", "less"])
@pytest.mark.parametrize(("p0", "p1", "n"), [(0.5, 0.7, 53), (0.05, 0.2, 30), (0.9, 0.8, 41), (0.3, 0.4, 1)])
def test_exact_test_of_one_share(alternative, p0, p1, n):
    """Equals the sum over all outcomes whose own tail probability is small enough."""
    if (alternative == "less") == (p1 > p0) and alternative != "two-sided":
        p0, p1 = p1, p0
    null, real = binomial(n, p0), binomial(n, p1)
    alpha = 0.025 if alternative == "two-sided" else 0.05
    power = 0.0
    for x in range(n + 1):
        above = alternative != "less" and math.fsum(null[x:]) <= alpha
        below = alternative != "greater" and math.fsum(null[: x + 1]) <= alpha
        power += real[x] * (above or below)
    answer = plan.OneProportion(baseline=p0, alternative=alternative).power(treatment=p1, n=n)
    assert answer.power == pytest.approx(power, rel=1e-10, abs=1e-15)


@pytest.mark.parametrize("test", ["score", "unpooled"])
@pytest.mark.parametrize("alternative", ["two-sided", "greater"])
def test_exact_power_of_two_shares(test, alternative):
    """Equals the sum over every pair of counts whose z is beyond the critical value."""
    n1, n0, p1, p0 = 17, 11, 0.6, 0.25
    critical = float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.95" if alternative == "two-sided" else "0.9")))
    power = 0.0
    for x1, x0 in itertools.product(range(n1 + 1), range(n0 + 1)):
        a, b, share = x1 / n1, x0 / n0, (x1 + x0) / (n1 + n0)
        pooled, own = share * (1 - share) * (1 / n1 + 1 / n0), a * (1 - a) / n1 + b * (1 - b) / n0
        variance = pooled if test == "score" else own
        z = 0.0 if a == b else (a - b) / math.sqrt(variance) if variance else math.copysign(math.inf, a - b)
        if z > critical or (alternative == "two-sided" and z < -critical):
            power += binomial(n1, p1)[x1] * binomial(n0, p0)[x0]
    design = plan.TwoProportions(baseline=p0, test=test, power_from="outcomes", alternative=alternative)
    assert design.power(treatment=p1, n=(n1, n0)).power == pytest.approx(power, rel=1e-10)


@pytest.mark.parametrize(("effect", "margin", "n"), [(0.0, 0.3, 242), (0.1, 0.5, 30), (0.05, 1.5, 3)])
def test_equivalence_of_means(effect, margin, n):
    """Both one-sided tests reject: an integral over the pooled spread, from its chi distribution."""
    df, error = 2 * n - 2, mp.sqrt(mp.mpf(2) / n)
    c = quantile(lambda c: truth.t_upper(c, df), ALPHA, mp.mpf(2))

    def integrand(s):
        log_density = mp.log(2) + mp.mpf(df) / 2 * mp.log(mp.mpf(df) / 2) - mp.loggamma(mp.mpf(df) / 2)
        log_density += (df - 1) * mp.log(s) - df * s * s / 2
        inside = mp.ncdf((margin - effect) / error - c * s) - mp.ncdf((-margin - effect) / error + c * s)
        return mp.exp(log_density) * inside

    top = margin / error / c
    expected = mp.quad(integrand, mp.linspace(0, min(top, 1 + 12 / mp.sqrt(df)), 40))
    answer = plan.TwoMeans().with_margin(margin, "equivalence").power(effect=effect, n=n)
    assert answer.power == pytest.approx(float(expected), rel=1e-9, abs=1e-15)


def test_non_inferiority_is_a_shifted_one_sided_test():
    """Against minus the margin the power is that of a one-sided test of effect + margin, in either direction."""
    shifted = plan.TwoMeans(alternative="greater").power(effect=0.4, n=90).power
    design = plan.TwoMeans()
    assert design.with_margin(0.3).power(effect=0.1, n=90).power == pytest.approx(shifted, rel=1e-12)
    assert design.with_margin(0.3, good="lower").power(effect=-0.1, n=90).power == pytest.approx(shifted, rel=1e-12)
    p0, n, z = 0.1, 3869, float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.9")))
    unpooled = plan.TwoProportions(baseline=p0, test="unpooled").with_margin(0.02).power(n=n)
    error = math.sqrt(2 * p0 * (1 - p0) / n)
    assert unpooled.power == pytest.approx(float(mp.ncdf(0.02 / error - z)), rel=1e-12)


def test_margins_take_the_likelihood_under_the_margin():
    """Shares and rates under the margin are those of greatest likelihood, found by brute force."""
    n1, n0, p1, p0, null = 300, 200, 0.25, 0.2, -0.05
    x1, x0 = n1 * p1, n0 * p0

    def shares(a, b):
        with np.errstate(divide="ignore", invalid="ignore"):
            return x1 * np.log(a) + (n1 - x1) * np.log(1 - a) + x0 * np.log(b) + (n0 - x0) * np.log(1 - b)

    grid = np.linspace(0.05, 1, 4_000_001)[1:-1]
    low = grid[np.nanargmax(shares(grid + null, grid))]
    high = low + null
    null_error = math.sqrt(high * (1 - high) / n1 + low * (1 - low) / n0)
    error = math.sqrt(p1 * (1 - p1) / n1 + p0 * (1 - p0) / n0)
    z = float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.9")))
    answer = plan.TwoProportions(baseline=p0).with_margin(0.05).power(treatment=p1, n=(n1, n0))
    assert answer.power == pytest.approx(float(mp.ncdf((p1 - p0 - null - z * null_error) / error)), rel=1e-6)
    grid = np.linspace(0.05, 2, 4_000_001)[1:]
    rates = x1 * np.log(grid + null) - n1 * (grid + null) + x0 * np.log(grid) - n0 * grid
    low = grid[np.argmax(rates)]
    null_error, error = math.sqrt((low + null) / n1 + low / n0), math.sqrt(p1 / n1 + p0 / n0)
    answer = plan.TwoRates(baseline=p0).with_margin(0.05).power(treatment=p1, n=(n1, n0))
    assert answer.power == pytest.approx(float(mp.ncdf((p1 - p0 - null - z * null_error) / error)), rel=1e-6)


@pytest.mark.parametrize(
    ("design", "good"),
    [
        (plan.TwoMeans(sd=21, baseline=14, ratio=2), "higher"),
        (plan.TwoMeans(sd=9, sd_treatment=12, baseline=14), "lower"),
        (plan.TwoProportions(baseline=0.03), "lower"),
        (plan.TwoProportions(baseline=0.4), "higher"),
        (plan.TwoRates(baseline=0.8, exposure=2), "lower"),
    ],
)
def test_a_margin_as_a_lift(design, good):
    """What is planned is what the test does with drawn data; its size goes with the baseline."""
    against = design.with_margin(lift=0.2, good=good)
    answer = against.sample_size(effect=0.0)
    drawn = against.simulate(n=answer.n_control, effect=0.0, runs=20_000, seed=1)
    assert drawn.rate == pytest.approx(answer.power, abs=0.01)
    sizes = against.grid(baseline=[0.01, float(design.baseline)], effect=0.0)
    assert sizes.to_frame()["units_in_total"].iloc[1] == answer.n_total
    assert "by 20%" in answer.sentence()


@pytest.mark.parametrize(
    ("refused", "says"),
    [
        (lambda: plan.TwoMeans(sd=1).with_margin(lift=0.1), "baseline"),
        (lambda: plan.TwoMeans(sd=1, baseline=2).with_margin(lift=0.1, kind="equivalence"), "Equivalence is planned"),
        (lambda: plan.TwoMeans(sd=1, baseline=2).with_margin(0.1, lift=0.1), "either"),
        (lambda: plan.TwoMeans(sd=1, baseline=2).with_margin(), "either"),
        (lambda: plan.OneMean(sd=1, baseline=2).with_margin(lift=0.1), "needs a control"),
    ],
)
def test_a_margin_as_a_lift_that_can_not_be(refused, says):
    """A share of what is not known, or in two units at once."""
    with pytest.raises(DesignError, match=says):
        refused()


@pytest.mark.parametrize(("lift", "ratio"), [(-0.3, 1.0), (0.4, 1.0), (-0.35, 2.0)])
def test_two_times_by_their_formula_and_by_simulated_log_rank_tests(lift, ratio):
    """Schoenfeld's events; 4,000 tests of exponential times cut at 1, with a log-rank test written out here."""
    design = plan.TwoTimes(baseline=0.4, ratio=ratio)
    answer = design.sample_size(lift=lift)
    one, two, hazard = answer.n_treatment, answer.n_control, -math.log(0.6)
    events = one * -math.expm1(-hazard * (1 + lift)) + two * 0.4
    error = (one + two) / math.sqrt(events * one * two)
    assert answer.power == pytest.approx(normal_power(error, error, math.log1p(lift)), rel=1e-10)
    assert design.power(treatment=answer.effects["treatment share"], n=(one, two)).power == pytest.approx(answer.power)
    assert f"{math.ceil(events)} are expected" in str(answer)
    rng, runs = np.random.default_rng(5), 4_000
    times = np.hstack(
        [rng.exponential(1 / (hazard * (1 + lift)), (runs, one)), rng.exponential(1 / hazard, (runs, two))]
    )
    order = np.argsort(times, axis=1)
    treated = order < one
    seen = np.take_along_axis(times, order, axis=1) < 1
    risk = np.arange(one + two, 0, -1)
    share = np.cumsum(treated[:, ::-1], axis=1)[:, ::-1] / risk
    z = (seen * (treated - share)).sum(axis=1) / np.sqrt((seen * share * (1 - share)).sum(axis=1))
    found = np.mean(np.abs(z) > 1.959964)
    assert found == pytest.approx(answer.power, abs=0.012 + 3 * math.sqrt(0.16 / runs))


def test_times_have_no_margin_as_a_lift():
    """Whose unit is the logarithm of a ratio."""
    with pytest.raises(DesignError, match="logarithm of the ratio"):
        plan.TwoTimes(baseline=0.4).with_margin(lift=0.1)
