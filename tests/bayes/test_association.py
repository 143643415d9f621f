"""Associations: factors of tables against gamma functions, of correlations against mpmath's hypergeometric series."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import CountTable
from amber_ruler.bayes import correlation, independence
from truth import mp


def log_dirichlet(values):
    return mp.fsum(mp.loggamma(v) for v in values) - mp.loggamma(mp.fsum(values))


def table_factor(counts, a, fixed, rate=None):
    """Log of the factor of an association, each term as Gunel and Dickey have it."""
    y = [[mp.mpf(int(v)) for v in row] for row in counts]
    r, c, a = len(y), len(y[0]), mp.mpf(a)
    rows, columns = [mp.fsum(row) for row in y], [mp.fsum(col) for col in zip(*y, strict=True)]
    of_row, of_column = c * a - (c - 1), r * a - (r - 1)
    by_column = log_dirichlet([v + of_column for v in columns]) - log_dirichlet([of_column] * c)
    if fixed == "rows":
        apart = mp.fsum(log_dirichlet([v + a for v in row]) - log_dirichlet([a] * c) for row in y)
        return apart - by_column
    by_row = log_dirichlet([v + of_row for v in rows]) - log_dirichlet([of_row] * r)
    apart = log_dirichlet([v + a for row in y for v in row]) - log_dirichlet([a] * (r * c))
    if fixed == "total":
        return apart - by_column - by_row
    total, free, b = mp.fsum(rows), (r - 1) * (c - 1), mp.mpf(rate)
    cells, margins = r * c * a, r * c * a - free
    growth = mp.loggamma(total + margins) - mp.loggamma(margins) - mp.loggamma(total + cells) + mp.loggamma(cells)
    return apart - by_column - by_row - growth - free * mp.log(1 + 1 / b)


TABLES = [
    [[30, 10], [20, 40]],
    [[3, 0, 2], [1, 5, 9]],
    [[10**8, 2 * 10**8], [3 * 10**8, 6 * 10**8 + 10**5]],
    [[4, 0], [0, 3], [2, 2]],
]


@pytest.mark.parametrize("counts", TABLES)
@pytest.mark.parametrize("a", [1.0, 1.7, 0.9])
def test_factors_of_tables(counts, a):
    """To 1e-10 of the log, a billion units included; columns fixed are rows fixed of the turned table."""
    with mp.workdps(40):
        for fixed in ("total", "rows", "nothing"):
            more = {"gamma_rate": 0.3} if fixed == "nothing" else {}
            found = independence(counts, fixed=fixed, concentration=a, draws=100, **more).evidence
            expected = float(table_factor(counts, a, fixed, 0.3))
            assert found.log_bayes_factor == pytest.approx(expected, rel=1e-10, abs=1e-10)
    turned = np.array(counts).T.tolist()
    columns = independence(turned, fixed="columns", concentration=a, draws=100).evidence
    rows = independence(counts, fixed="rows", concentration=a, draws=100).evidence
    assert columns.log_bayes_factor == pytest.approx(rows.log_bayes_factor, rel=1e-12)


def test_cramers_v_is_drawn_and_replayed():
    """The same seed, the same answer; with many units it is narrow around what was seen; the factor is exact."""
    table = CountTable([[3000, 1000], [2000, 4000]], ("Gullhaven", "Tern Quay"), ("single", "return"), "port", "ticket")
    r, again, other = independence(table), independence(table), independence(table, seed=5)
    assert r == again
    assert other.estimate != r.estimate
    assert other.evidence.log_bayes_factor == r.evidence.log_bayes_factor
    assert r.estimate == pytest.approx(ar.measure.independence(table).effects["cramers_v"].value, abs=0.002)
    assert r.draws.replicates == 20_000
    text = " ".join(str(r).split())
    assert "port by ticket" in text
    assert "extreme, for an association" in text
    rows = independence(table, fixed="rows")
    assert rows.estimate == pytest.approx(r.estimate, abs=0.005)


def rho_factor(r, n, width):
    """Log of the factor of a correlation, by the exact density of r."""
    r, k = mp.mpf(r), mp.mpf(width)

    def likelihood(rho):
        series = mp.hyp2f1(0.5, 0.5, n - mp.mpf(1) / 2, (1 + r * rho) / 2)
        return (1 - rho * rho) ** (mp.mpf(n - 1) / 2) * (1 - r * rho) ** (mp.mpf(3) / 2 - n) * series

    def prior(rho):
        return (1 - rho * rho) ** (1 / k - 1) / (mp.beta(1 / k, 1 / k) * 2 ** (2 / k - 1))

    marks = [-1, -0.95, -0.8, -0.6, -0.4, -0.2, 0, 0.2, 0.4, 0.6, 0.8, 0.9, 0.96, 0.99, 1]
    return mp.log(mp.quad(lambda x: likelihood(x) * prior(x), marks)) - mp.log(likelihood(mp.mpf(0)))


def pair_with(r, n, seed=3):
    """Two columns whose correlation is r to the last digit but a few."""
    rng = np.random.default_rng(seed)
    x, z = rng.normal(size=(2, n))
    x -= x.mean()
    z -= z.mean() + x * (z @ x) / (x @ x)
    z -= z.mean()
    return x / np.sqrt(x @ x), r * x / np.sqrt(x @ x) + np.sqrt(1 - r * r) * z / np.sqrt(z @ z)


@pytest.mark.parametrize(
    ("r", "n", "width"), [(0.3, 20, 1.0), (0.9, 50, 0.3), (-0.5, 300, 2.0), (0.0, 5, 1.0), (0.97, 4, 0.5)]
)
def test_factors_and_posteriors_of_correlations(r, n, width):
    """Factor to 1e-9; directions average to it; limits and mean agree with a fine sum."""
    x, y = pair_with(r, n)
    found = correlation(x, y, width=width, margin=0.2)
    part = found.evidence
    seen = found.facts["r"]
    assert part.log_bayes_factor == pytest.approx(float(rho_factor(seen, n, width)), rel=1e-9, abs=1e-9)
    halves = np.exp([part.log_factor_above, part.log_factor_below])
    assert halves.mean() == pytest.approx(part.bayes_factor, rel=1e-11)
    rho = np.tanh(np.linspace(-9, 9, 40_001))
    log_f = (
        (n - 1) / 2 * np.log1p(-rho * rho) - (n - 1.5) * np.log1p(-seen * rho) + (1 / width - 1) * np.log1p(-rho * rho)
    )
    from scipy.special import hyp2f1

    log_f += np.log(hyp2f1(0.5, 0.5, n - 0.5, (1 + seen * rho) / 2))
    f = np.exp(log_f - log_f.max())
    chance = np.concatenate([[0.0], np.cumsum((f[1:] + f[:-1]) / 2 * np.diff(rho))])
    below = np.interp([found.interval.low, found.estimate, found.interval.high, 0.0], rho, chance / chance[-1])
    assert below[:3] == pytest.approx([0.025, 0.5, 0.975], abs=1e-5)
    assert part.chance_worse == pytest.approx(below[3], rel=1e-3, abs=1e-7)
    densest = part.posterior["correlation"].densest
    held = np.diff(np.interp([densest.low, densest.high], rho, chance / chance[-1]))[0]
    assert held == pytest.approx(0.95, abs=2e-5)
    greater = correlation(x, y, width=width, alternative="greater")
    assert greater.evidence.log_bayes_factor == pytest.approx(part.log_factor_above, rel=1e-11, abs=1e-11)
    assert greater.interval.low > 0


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: independence([[1, 2], [3, 4]], concentration=0.5), "above 0.5"),
        (lambda: independence([[1, 2], [3, 4]], gamma_rate=1), "with total fixed"),
        (lambda: independence([[1, 2], [3, 4]], fixed="margins"), "fixed"),
        (lambda: independence([[0, 0], [0, 0]]), "no unit"),
        (lambda: independence([[1, 2]]), "2 rows"),
        (lambda: independence([[1, 2], [3, 4]], odds=0), "above 0"),
        (lambda: correlation([1.0, 2.0, 3.0], [1.0, 2.0, 3.0]), "exactly"),
        (lambda: correlation([1.0, 2.0, 4.0], [1.0, 2.0, 3.0], width=3), "at most 2"),
        (lambda: correlation([1.0, 2.0, 4.0], [1.0, 2.0, 3.0], margin=1), "below 1"),
        (lambda: correlation([1.0, 2.0], [1.0, 3.0]), "too few"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises(ar.AmberRulerError, match=says):
        call()
