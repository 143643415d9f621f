"""Distribution functions against high-precision integrals, from far tails to the middle."""

import numpy as np
import pytest

import truth
from amber_ruler.numeric import chisquare, fisher, normal, student
from truth import mp

DEGREES = (1, 1.5, 30.3, 1000.5, 1.2e4, 1e7, 1e9)


def relative(got, expected):
    return abs(float(mp.mpf(float(got)) / expected - 1))


@pytest.mark.parametrize("z", [-37.0, -8.5, -1e-9, 0.3, 5.0])
def test_normal_tails(z):
    """Both tails of the normal, and their inverses, agree with the error function."""
    below = mp.erfc(-mp.mpf(z) / mp.sqrt(2)) / 2
    assert relative(normal.cdf(z), below) < 1e-12
    assert relative(normal.sf(-z), below) < 1e-12
    assert float(normal.quantile(float(below))) == pytest.approx(z, rel=1e-10, abs=1e-9)
    assert float(normal.upper_quantile(normal.sf(2.5))) == pytest.approx(2.5, rel=1e-12)


@pytest.mark.parametrize("df", DEGREES)
@pytest.mark.parametrize("t", [1e-8, 1e-4, 0.9, 5.0, 37.0])
def test_t_tail(t, df):
    """The t tail keeps 1e-10 relative from the middle to 1e-300, and both tails mirror each other."""
    expected = truth.t_upper(t, df)
    assert relative(student.sf(t, df), expected) < 1e-10
    assert relative(student.cdf(-t, df), expected) < 1e-10
    if 1e-280 < expected < 0.4:
        assert float(student.upper_quantile(float(expected), df)) == pytest.approx(t, rel=1e-10)
        assert float(student.quantile(float(expected), df)) == pytest.approx(-t, rel=1e-10)


@pytest.mark.parametrize("df", DEGREES)
@pytest.mark.parametrize("z", [-30.0, -8.0, -1.0, 0.1, 8.0, 30.0])
def test_chi_square_tails(z, df):
    """Both chi-square tails keep their relative digits, and quantiles invert them."""
    spread = np.sqrt(2 / (9 * df))
    x = df * max(1e-12, 1 - 2 / (9 * df) + z * spread) ** 3  # Wilson and Hilferty: about z spreads out
    for upper, function, inverse in (
        (True, chisquare.sf, chisquare.upper_quantile),
        (False, chisquare.cdf, chisquare.quantile),
    ):
        expected = truth.tail(truth.chi_square(df), mp.log(mp.mpf(x)), upper=upper)
        if 1e-290 < expected < 0.999:
            assert relative(function(x, df), expected) < 1e-10
            assert float(inverse(float(expected), df)) == pytest.approx(x, rel=1e-9)


F_CASES = [
    (z, df1, df2)
    for df1 in (1, 3.5, 2e4, 1e9)
    for df2 in (1, 60, 1.5e4, 1e9)
    for z in (-15.0, -1.0, 12.0)
    if abs(z) * np.sqrt(2 / df1 + 2 / df2) < 15  # further out the truth takes minutes
]


@pytest.mark.parametrize(("z", "df1", "df2"), F_CASES)
def test_f_tails(z, df1, df2):
    """Both F tails keep their relative digits, also with huge degrees of freedom; quantiles invert them."""
    x = float(np.exp(z * np.sqrt(2 / df1 + 2 / df2) * 0.7))
    for upper, function, inverse in ((True, fisher.sf, fisher.upper_quantile), (False, fisher.cdf, fisher.quantile)):
        expected = truth.tail(truth.fisher(df1, df2), mp.log(mp.mpf(x)), upper=upper)
        if 1e-290 < expected < 0.999:
            assert relative(function(x, df1, df2), expected) < 1e-10
            # Where the tail is flat in x, a probability of 16 digits holds fewer digits of x.
            assert float(function(inverse(float(expected), df1, df2), df1, df2)) == pytest.approx(
                float(expected), rel=1e-9
            )


@pytest.mark.parametrize("df", [1, 2.5, 33.3, 50, 1e4, 1e9])
@pytest.mark.parametrize(("t", "shift"), [(-3, 0.5), (0.7, -3), (2, 3), (5, 20), (40, 3), (14.9, 14.9), (1e-4, 8)])
def test_noncentral_t_tails(t, df, shift):
    """The noncentral t agrees with its definition in both tails."""
    # The smaller tail is integrated; the other is what is left.
    upper_is_small = t > shift
    small = truth.noncentral_t(t, df, shift, upper=upper_is_small)
    upper, lower = (small, 1 - small) if upper_is_small else (1 - small, small)
    assert relative(student.noncentral_sf(t, df, shift), upper) < 1e-10
    assert relative(student.noncentral_cdf(t, df, shift), lower) < 1e-10


@pytest.mark.parametrize("chance", [1e-200, 1e-12, 0.025, 0.5, 0.9])
@pytest.mark.parametrize(("df", "shift"), [(1.0, 0.5), (7.5, -2.0), (80.0, 3.0), (1e6, 40.0)])
def test_noncentral_t_quantiles(chance, df, shift):
    """Noncentral quantiles invert both tails."""
    low, high = (f(chance, df, shift) for f in (student.noncentral_quantile, student.noncentral_upper_quantile))
    assert float(student.noncentral_cdf(low, df, shift)) == pytest.approx(chance, rel=1e-8)
    assert float(student.noncentral_sf(high, df, shift)) == pytest.approx(chance, rel=1e-8)


def test_noncentral_t_density_is_the_slope_of_its_distribution():
    """The density integrates to the difference of the distribution function, near and far."""
    for df, shift, a, b in ((1.0, 0.3, -2.0, 1.5), (12.5, 3.0, 2.0, 6.0), (1e7, -2.0, -3.0, -1.0)):
        t = np.linspace(a, b, 2001)
        density = student.noncentral_pdf(t, df, shift)
        simpson = (t[1] - t[0]) / 3 * (density[0] + density[-1] + 4 * density[1::2].sum() + 2 * density[2:-1:2].sum())
        difference = student.noncentral_cdf(b, df, shift) - student.noncentral_cdf(a, df, shift)
        assert float(simpson) == pytest.approx(float(difference), rel=1e-9)


@pytest.mark.parametrize("tails", [(0.025, 0.025), (0.05, 0.0), (0.0, 0.3), (1e-9, 1e-9)])
def test_shift_bounds_invert_the_noncentral_t(tails):
    """Each bound puts exactly its tail beyond the observed t, for few and many degrees of freedom."""
    t = np.array([-3.0, -0.2, 0.0, 1.7, 9.0, 60.0, 700.0])
    df = np.array([1.0, 3.5, 9.0, 51.0, 400.0, 1e5, 1e9])
    bounds = student.shift_bounds(t, df, *tails)
    if tails[0]:
        assert student.noncentral_sf(t, df, bounds.low) == pytest.approx(np.full(7, tails[0]), rel=1e-9)
    else:
        assert np.all(np.isneginf(bounds.low))
    if tails[1]:
        assert student.noncentral_cdf(t, df, bounds.high) == pytest.approx(np.full(7, tails[1]), rel=1e-9)
    else:
        assert np.all(np.isposinf(bounds.high))


@pytest.mark.parametrize(("x", "df", "nc"), [(0.5, 3.0, 10.0), (12.0, 3.0, 10.0), (90.0, 2.5, 8.0), (40.0, 7.0, 60.0)])
def test_noncentral_chi_square(x, df, nc):
    """The noncentral chi-square agrees with its Poisson mixture, and quantiles invert it."""
    upper = truth.poisson_mixture(
        lambda j: mp.gammainc(mp.mpf(df) / 2 + j, mp.mpf(x) / 2, mp.inf, regularized=True), nc
    )
    lower = truth.poisson_mixture(lambda j: mp.gammainc(mp.mpf(df) / 2 + j, 0, mp.mpf(x) / 2, regularized=True), nc)
    assert relative(chisquare.noncentral_sf(x, df, nc), upper) < 1e-10
    assert relative(chisquare.noncentral_cdf(x, df, nc), lower) < 1e-10
    # Which of the two inverts well depends on which tail is the small one.
    inverse = chisquare.noncentral_upper_quantile if upper < lower else chisquare.noncentral_quantile
    assert float(inverse(float(min(upper, lower)), df, nc)) == pytest.approx(x, rel=1e-9)


@pytest.mark.parametrize(("x", "df1", "df2", "nc"), [(0.2, 3, 20.5, 12), (3.0, 4, 40, 10), (60.0, 2, 15, 5)])
def test_noncentral_f(x, df1, df2, nc):
    """The noncentral F agrees with its Poisson mixture, and quantiles invert it."""
    y = mp.mpf(df1) * x / (df2 + mp.mpf(df1) * x)

    def central(a, b):
        return lambda j: mp.betainc(mp.mpf(df1) / 2 + j, mp.mpf(df2) / 2, a, b, regularized=True)

    upper, lower = (truth.poisson_mixture(central(*ends), nc, 200) for ends in ((y, 1), (0, y)))
    assert relative(fisher.noncentral_sf(x, df1, df2, nc), upper) < 1e-10
    assert relative(fisher.noncentral_cdf(x, df1, df2, nc), lower) < 1e-10
    inverse = fisher.noncentral_upper_quantile if upper < lower else fisher.noncentral_quantile
    assert float(inverse(float(min(upper, lower)), df1, df2, nc)) == pytest.approx(x, rel=1e-9)


def test_large_noncentrality_meets_its_normal_limit_and_its_special_case():
    """With a wide Poisson weight the thinned sum equals the full one; at 1 degree it is a squared normal."""
    for nc in (900.0, 4e4, 1e7):
        root = np.sqrt(nc)
        z = root + np.array([-20.0, -3.0, 0.5, 6.0])
        x = z**2
        expected_upper = normal.sf(z - root) + normal.cdf(-z - root)
        expected_lower = normal.cdf(z - root) - normal.cdf(-z - root)
        keep = expected_lower > 1e-200
        assert chisquare.noncentral_sf(x, 1.0, nc) == pytest.approx(expected_upper, rel=1e-9)
        assert chisquare.noncentral_cdf(x[keep], 1.0, nc) == pytest.approx(expected_lower[keep], rel=1e-8)


def test_distribution_functions_broadcast():
    """Arrays in, arrays of the broadcast shape out, equal to the scalar calls."""
    t, df = np.array([[0.5], [2.0]]), np.array([3.0, 60.0, 1e5])
    grid = student.noncentral_sf(t, df, 1.2)
    assert grid.shape == (2, 3)
    assert grid == pytest.approx(
        np.array([[float(student.noncentral_sf(a, b, 1.2)) for b in df] for a in t[:, 0]]), rel=1e-13
    )
    assert chisquare.noncentral_sf(np.array([1.0, 5.0]), 2.0, np.array([[0.0], [3.0]])).shape == (2, 2)


@pytest.mark.parametrize("module", [chisquare, fisher])
def test_ends_of_the_scale(module):
    """Certain and impossible events, and quantiles beyond what a float can hold, have honest ends."""
    df = (3.0,) if module is chisquare else (3.0, 5.0)
    assert float(module.sf(0.0, *df)) == 1.0
    assert float(module.cdf(0.0, *df)) == 0.0
    assert float(module.sf(np.inf, *df)) == 0.0
    assert float(module.quantile(0.0, *df)) == 0.0
    assert float(module.quantile(1.0, *df)) == np.inf
    assert float(module.upper_quantile(1.0, *df)) == 0.0
    assert np.isnan(float(module.quantile(-0.1, *df)))
    assert float(module.quantile(1e-250, 1.0, *df[1:])) == 0.0  # about 1e-500
