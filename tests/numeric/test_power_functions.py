"""What power needs besides t, F and chi-square: correlations, the largest of several t, two opposite t tests."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import special

import truth
from amber_ruler.numeric import chisquare, dunnett, fisher, normal, pearson, score, student
from amber_ruler.plan import outcomes as exactly
from truth import mp


def hotelling(r, n, rho):
    """P(R > r) by the density on its own scale, as published."""
    n, rho, r = mp.mpf(n), mp.mpf(rho), mp.mpf(r)
    constant = (n - 2) * mp.gamma(n - 1) / (mp.sqrt(2 * mp.pi) * mp.gamma(n - mp.mpf(1) / 2))
    constant *= (1 - rho**2) ** ((n - 1) / 2)

    def density(x):
        series = mp.hyp2f1(0.5, 0.5, n - mp.mpf(1) / 2, (rho * x + 1) / 2)
        return constant * (1 - x * x) ** ((n - 4) / 2) * (1 - rho * x) ** (mp.mpf(3) / 2 - n) * series

    steps = [min(mp.mpf(1), r + k * (1 - rho**2) / (2 * mp.sqrt(n))) for k in range(40)]
    return mp.quad(density, sorted({r, mp.mpf(1), *steps}))


@pytest.mark.parametrize(
    ("r", "n", "rho"),
    [
        (0.3, 20, 0.5),
        (0.6, 20, 0.5),
        (0.9, 5, 0.0),
        (0.1, 4, 0.8),
        (0.45, 500, 0.5),
        (0.999, 10, 0.99),
        (0.99, 3, 0.2),
        (0.513, 20_000, 0.5),
        (0.999, 17, 0.99),
        (-0.2, 18, -0.9),
        (0.41, 84, 0.3),
    ],
)
def test_distribution_of_a_correlation(r, n, rho):
    """Agrees with the integral of the published density; the two tails are mirrored and add to 1; quantiles invert."""
    expected = hotelling(r, n, rho)
    upper = float(pearson.sf(r, n, rho))
    assert upper == pytest.approx(float(expected), rel=1e-10)
    assert float(pearson.cdf(-r, n, -rho)) == pytest.approx(upper, rel=1e-12)
    assert float(pearson.cdf(r, n, rho)) + upper == pytest.approx(1, rel=1e-12)
    assert float(pearson.upper_quantile(upper, n, rho)) == pytest.approx(r, rel=1e-9, abs=1e-12)


@settings(max_examples=50, deadline=None)
@given(st.floats(-0.99, 0.99), st.integers(3, 10**7))
def test_without_correlation_it_is_students_t(r, n):
    """The r of independent values is a t with n - 2 degrees of freedom, for few and for many pairs."""
    t = r * math.sqrt((n - 2) / (1 - r * r))
    expected = float(student.sf(t, n - 2))
    assert float(pearson.sf(r, n, 0.0)) == pytest.approx(expected, rel=1e-9, abs=1e-300)
    if 1e-12 < expected < 1 - 1e-12:
        assert float(pearson.upper_quantile(expected, n, 0.0)) == pytest.approx(r, rel=1e-6, abs=1e-9)


def test_many_correlations_at_once():
    """Any mixture of sizes gives what each gives alone."""
    rng = np.random.default_rng(2)
    n, rho = rng.integers(4, 3_000, 300), rng.uniform(-0.9, 0.9, 300)
    r = np.tanh(np.arctanh(rho) + rng.normal(size=300) / np.sqrt(n - 3))
    together = pearson.sf(r, n, rho)
    assert together == pytest.approx([float(pearson.sf(*one)) for one in zip(r, n, rho, strict=True)], rel=1e-12)


@pytest.mark.parametrize(
    ("critical", "df", "low", "high"),
    [
        (1.7, 30, -4.0, 4.0),
        (1.66, 126, -2.0, 3.0),
        (6.31, 1, -3.0, 3.0),
        (2.9, 2, -20.0, 15.0),
        (2.1, 3, -300.0, 250.0),
        (1.645, 20_000, -3.0, 3.0),
        (1.8, 10, -1.0, 1.0),
        (1.8, 10, 1.0, 0.5),
    ],
)
def test_two_opposite_t_tests(critical, df, low, high):
    """Agrees with the integral over the spread's distribution; limits that have crossed leave nothing."""
    c, d, low_, high_ = (mp.mpf(v) for v in (critical, df, low, high))

    def integrand(s):
        density = 2 * (d / 2) ** (d / 2) / mp.gamma(d / 2) * s ** (d - 1) * mp.exp(-d * s * s / 2)
        return density * (mp.ncdf(high_ - c * s) - mp.ncdf(low_ + c * s))

    meet = max((high_ - low_) / (2 * c), mp.mpf(0))
    expected = mp.quad(integrand, mp.linspace(0, min(meet, 1 + 14 / mp.sqrt(d)), 41)) if meet else 0
    assert float(student.noncentral_between(critical, df, low, high)) == pytest.approx(float(expected), abs=1e-13)


@pytest.mark.parametrize(("k", "df", "rho"), [(2, 5, 0.5), (4, 30, 0.2), (3, math.inf, 0.7), (1, 9, 0.5)])
@pytest.mark.parametrize("two_sided", [True, False])
def test_the_largest_of_several_t(k, df, rho, two_sided):
    """Agrees with a plain double Gauss-Legendre sum over the control's mean and the spread."""
    nodes, weights = np.polynomial.legendre.leggauss(160)
    z = 9 * nodes[:, None]
    if math.isinf(df):
        s, chance = np.ones(1), np.ones(1)
    else:
        reach = 1 + 9 / math.sqrt(df)
        s = reach * (nodes + 1) / 2
        log_density = math.log(2) + df / 2 * math.log(df / 2) - math.lgamma(df / 2) + (df - 1) * np.log(s)
        chance = reach / 2 * weights * np.exp(log_density - df * s * s / 2)
    inside = special.ndtr((2.2 * s + math.sqrt(rho) * z) / math.sqrt(1 - rho))
    if two_sided:
        inside = inside - special.ndtr((-2.2 * s + math.sqrt(rho) * z) / math.sqrt(1 - rho))
    density = np.exp(-(z[:, 0] ** 2) / 2) / math.sqrt(2 * math.pi)
    expected = (9 * weights * density) @ inside**k @ chance
    assert 1 - dunnett.sf(2.2, df, np.full(k, np.sqrt(rho)), two_sided=two_sided) == pytest.approx(
        float(expected), rel=1e-8
    )
    alpha = float(dunnett.single_alpha(0.05, k, df, rho, two_sided=two_sided))
    assert 0.05 / k * (1 - 1e-9) <= alpha <= 0.05 * (1 + 1e-9)
    tail = alpha / 2 if two_sided else alpha
    critical = normal.upper_quantile(tail) if math.isinf(df) else student.upper_quantile(tail, df)
    assert 1 - dunnett.sf(critical, df, np.full(k, np.sqrt(rho)), two_sided=two_sided) == pytest.approx(0.95, rel=1e-10)


@pytest.mark.parametrize(
    ("df1", "df2", "nc"), [(1, 4, 0.3), (3, 126, 11.0), (12, 5e4, 25.0), (2, 9e6, 150.0), (5, 30, 0)]
)
def test_the_ladder_of_a_mixture_is_its_sum(df1, df2, nc):
    """Both tails add to 1, agree with the sum of central tails, and start from a tail that is known."""
    x = 1 + nc / df1
    j = np.arange(600.0)
    weight = np.exp(-nc / 2 + j * np.log(nc / 2) - np.array([math.lgamma(i + 1) for i in j])) if nc else (j == 0) * 1.0
    upper = float(np.sum(weight * fisher.sf(x * df1 / (df1 + 2 * j), df1 + 2 * j, df2)))
    assert float(fisher.noncentral_sf(x, df1, df2, nc)) == pytest.approx(upper, rel=1e-10)
    assert float(fisher.noncentral_cdf(x, df1, df2, nc)) == pytest.approx(1 - upper, rel=1e-9)
    known = fisher.sf(x, df1, df2)
    assert float(fisher.noncentral_sf(x, df1, df2, nc, central=known)) == pytest.approx(upper, rel=1e-10)
    square = x * df1
    upper = float(np.sum(weight * chisquare.sf(square, df1 + 2 * j)))
    assert float(chisquare.noncentral_sf(square, df1, nc)) == pytest.approx(upper, rel=1e-10)
    assert float(chisquare.noncentral_cdf(square, df1, nc)) == pytest.approx(1 - upper, rel=1e-9)


def test_bounds_of_the_noncentrality_of_f():
    """Each bound puts exactly its tail beyond the observed F, or is 0 where even no effect does not."""
    f, df1, df2 = np.array([4.0, 0.2, 50.0, 1.1]), np.array([3.0, 3.0, 1.0, 8.0]), np.array([60.0, 60.0, 9.0, 1e6])
    low, high = fisher.noncentrality_bounds(f, df1, df2, 0.025, 0.05)
    upper, lower = fisher.noncentral_sf(f, df1, df2, low), fisher.noncentral_cdf(f, df1, df2, high)
    assert upper[low > 0] == pytest.approx(0.025, rel=1e-9)
    assert lower[high > 0] == pytest.approx(0.05, rel=1e-9)
    assert np.all(fisher.sf(f, df1, df2)[low == 0] >= 0.025)
    assert low[1] == 0 < low[0]


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 3_000), st.floats(0.001, 0.999))
def test_binomial_chances(n, share):
    """Single chances and tails agree with mpmath to the last digits."""
    x = np.array([0, 1, n // 3, n // 2, n - 1, n])
    exact = [mp.binomial(n, int(k)) * mp.mpf(share) ** int(k) * (1 - mp.mpf(share)) ** (n - int(k)) for k in x]
    assert exactly.chance(x.astype(float), float(n), share) == pytest.approx(
        [float(e) for e in exact], rel=1e-9, abs=1e-307
    )
    tail = float(exactly.at_least(np.asarray(float(n // 3)), np.asarray(float(n)), np.asarray(share)))
    expected = mp.betainc(n // 3, n - n // 3 + 1, 0, share, regularized=True) if n >= 3 else 1
    assert tail == pytest.approx(float(expected), rel=1e-10, abs=1e-300)


@settings(max_examples=60, deadline=None)
@given(st.floats(1, 400), st.floats(1, 400), st.floats(0.02, 0.98), st.floats(0.02, 0.98), st.floats(-0.5, 0.5))
def test_shares_of_greatest_likelihood(n1, n0, p1, p0, null):
    """The slope of the likelihood is 0 at the constrained share, with counts that need not be whole."""
    x1, x0 = np.asarray(n1 * p1), np.asarray(n0 * p0)
    high, _, low, _ = map(float, score.constrained_shares(x1, np.asarray(n1), x0, np.asarray(n0), np.asarray(null)))
    if not (1e-6 < low < 1 - 1e-6 and 1e-6 < high < 1 - 1e-6):
        return
    slope = float(x1) / high - (n1 - float(x1)) / (1 - high) + float(x0) / low - (n0 - float(x0)) / (1 - low)
    curvature = n1 / (high * (1 - high)) + n0 / (low * (1 - low))
    assert abs(slope / curvature) < 1e-9


def test_poisson_mixture_of_the_oracle_is_the_definition():
    """The oracle's own mixture gives the noncentral chi-square at 1 degree of freedom: a squared shifted normal."""
    x, shift = mp.mpf("5.3"), mp.mpf("1.7")
    mixed = truth.poisson_mixture(lambda j: mp.gammainc(mp.mpf(1) / 2 + j, x / 2, mp.inf, regularized=True), shift**2)
    direct = mp.ncdf(shift - mp.sqrt(x)) + mp.ncdf(-shift - mp.sqrt(x))
    assert abs(mixed / direct - 1) < mp.mpf(10) ** -20
