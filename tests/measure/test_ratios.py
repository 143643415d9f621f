"""Ratios of shares, rates and counts, and tests of two shares: inverted, enumerated, published."""

import itertools
import math

import mpmath as mp
import numpy as np
import pytest
from scipy import optimize, special, stats

import amber_ruler as ar
from amber_ruler import Counts, Events, Summary

RATES = ["score", "exact", "mid-p", "log-wald", "root", "likelihood"]
SHARES = [(r, t) for r in ("risk", "odds") for t in ("score", "n-1", "log-wald")]


def ends_lead_back(ask, tail):
    """At each finite limit the one-sided test has just the tail."""
    limits = ask().interval
    for end, side in ((limits.low, "greater"), (limits.high, "less")):
        if 0 < end < math.inf:
            assert ask(null=float(end), alternative=side).p_value == pytest.approx(tail, rel=1e-8)


@pytest.mark.parametrize("test", RATES)
@pytest.mark.parametrize(
    "counts", [(40, 120.0, 60, 130.0), (3, 10.0, 1, 9.0), (4e11, 1e12, 6e11, 1.3e12), (0, 7.0, 5, 3.0)]
)
def test_limits_of_a_ratio_of_rates_invert_the_test(test, counts):
    """For small counts, huge ones, and none at all in treatment."""
    one, two = Events(*counts[:2]), Events(*counts[2:])
    if test == "log-wald" and counts[0] == 0:
        with pytest.raises(ar.DataError, match="logarithm is infinite"):
            ar.measure.rate_ratio(one, two, test=test)
        return
    ends_lead_back(lambda **k: ar.measure.rate_ratio(one, two, test=test, **k), 0.025)


@pytest.mark.parametrize(("ratio", "test"), SHARES)
@pytest.mark.parametrize("counts", [(60, 400, 40, 400), (3, 9, 2, 11), (5e11, 1e12, 4e11, 1e12)])
def test_limits_of_a_ratio_of_shares_invert_the_test(ratio, test, counts):
    """The same of shares and of odds."""
    one, two = Counts(*counts[:2]), Counts(*counts[2:])
    ends_lead_back(lambda **k: ar.measure.share_ratio(one, two, ratio=ratio, test=test, **k), 0.025)


def exact_z(kind, x1, n1, x0, n0, r):
    """Statistics with sixty digits, from their definitions."""
    x1, n1, x0, n0, r = map(mp.mpf, (x1, n1, x0, n0, r))
    if kind == "risk":
        b = n1 * r + x1 + n0 + x0 * r
        low = (b - mp.sqrt(b * b - 4 * (n1 + n0) * r * (x1 + x0))) / (2 * (n1 + n0) * r)
        spread = r * low * (1 - r * low) / n1 + r * r * low * (1 - low) / n0
        return (x1 / n1 - r * x0 / n0) / mp.sqrt(spread)
    if kind == "odds":
        a, b, c = n0 * (r - 1), n1 * r + n0 - (x1 + x0) * (r - 1), x1 + x0
        low = 2 * c / (b + mp.sqrt(b * b + 4 * a * c))
        high = r * low / (1 + low * (r - 1))
        return (x1 - n1 * high) * mp.sqrt(1 / (n1 * high * (1 - high)) + 1 / (n0 * low * (1 - low)))
    share, n = r * n1 / (r * n1 + n0), x1 + x0
    if kind == "score":
        return (x1 - n * share) / mp.sqrt(n * share * (1 - share))
    if kind == "root":
        q = r * n1 / n0
        return 2 * (mp.sqrt(x1 + 0.375) - mp.sqrt(q * (x0 + 0.375))) / mp.sqrt(1 + q)
    told = sum(x * mp.log(x / m) if x else mp.mpf(0) for x, m in ((x1, n * share), (x0, n * (1 - share))))
    return mp.sign(x1 - n * share) * mp.sqrt(2 * told)


@pytest.mark.parametrize("null", [1.0, 0.5, 3.0])
@pytest.mark.parametrize(
    ("kind", "counts"),
    [
        *itertools.product(
            ("risk", "odds"),
            [
                (3, 10, 1, 12),
                (500_000_000_123, 10**12, 499_999_000_000, 10**12),
                (5, 10**12, 1, 10**12),
                (10**12 - 3, 10**12, 10**12 - 9, 10**12),
                (1, 2, 2, 2),
                (300, 1000, 10, 1000),
            ],
        ),
        *itertools.product(
            ("score", "root", "likelihood"),
            [
                (3, 2.0, 1, 3.0),
                (10**12, 1.0, 10**12 + 3 * 10**6, 1.0),
                (0, 3.0, 5, 1e-3),
                (900, 1.0, 100, 1.0),
                (1, 1e-6, 1, 1e9),
            ],
        ),
    ],
)
def test_statistics_of_ratios_keep_their_digits(kind, counts, null):
    """At counts of 1e12, shares next to 0 and 1, exposures far apart, and far tails."""
    x1, n1, x0, n0 = counts
    if kind in ("risk", "odds"):
        r = ar.measure.share_ratio(Counts(x1, n1), Counts(x0, n0), ratio=kind, null=null)
    else:
        r = ar.measure.rate_ratio(Events(x1, n1), Events(x0, n0), test=kind, null=null)
    with mp.workdps(60):
        z = exact_z(kind, *counts, null)
        p = float(mp.erfc(abs(z) / mp.sqrt(2)))
    assert r.test.statistic == pytest.approx(float(z), rel=1e-12)
    assert r.p_value == pytest.approx(p, rel=1e-10, abs=1e-300)


def test_ratios_by_their_formulas():
    """The binomial tails of a rate ratio, the likelihood ratio by maximisation, logarithms by hand."""
    one, two = Events(7, 20.0), Events(12, 50.0)
    share = 1.5 * 20 / (1.5 * 20 + 50)
    above, below = stats.binom.sf(6, 19, share), stats.binom.cdf(7, 19, share)
    exact = ar.measure.rate_ratio(one, two, test="exact", null=1.5)
    assert exact.p_value == pytest.approx(min(1, 2 * min(above, below)), rel=1e-12)
    half = stats.binom.pmf(7, 19, share) / 2
    mid = ar.measure.rate_ratio(one, two, test="mid-p", null=1.5).p_value
    assert mid == pytest.approx(2 * min(above - half, below - half), rel=1e-12)

    def log_likelihood(rate0, ratio):
        return stats.poisson.logpmf(7, ratio * rate0 * 20) + stats.poisson.logpmf(12, rate0 * 50)

    free = log_likelihood(12 / 50, (7 / 20) / (12 / 50))
    tied = -optimize.minimize_scalar(lambda r: -log_likelihood(r, 1.5), bounds=(1e-3, 2), method="bounded",
                                     options={"xatol": 1e-12}).fun  # fmt: skip
    root = ar.measure.rate_ratio(one, two, test="likelihood", null=1.5).statistic
    assert root**2 == pytest.approx(2 * (free - tied), rel=1e-6)
    logs = ar.measure.share_ratio(Counts(60, 400), Counts(40, 400), ratio="odds", test="log-wald", null=1.2)
    se = math.sqrt(1 / 60 + 1 / 340 + 1 / 40 + 1 / 360)
    assert logs.statistic == pytest.approx(math.log(60 * 360 / (340 * 40) / 1.2) / se, rel=1e-12)
    plain, less = (
        ar.measure.share_ratio(Counts(60, 400), Counts(40, 400), test=t, null=1.3).statistic for t in ("score", "n-1")
    )
    assert less == pytest.approx(plain * math.sqrt(799 / 800), rel=1e-12)
    assert "150" not in str(ar.measure.share_ratio(Counts(60, 400), Counts(40, 400)))
    for wrong, says in ((lambda: ar.measure.share_ratio(Counts(1, 9), Counts(0, 9)), "no success"),
                        (lambda: ar.measure.share_ratio(Counts(9, 9), Counts(1, 9), ratio="odds"), "no failure"),
                        (lambda: ar.measure.rate_ratio(Events(1, 9.0), Events(0, 9.0)), "no event")):  # fmt: skip
        with pytest.raises(ar.DataError, match=says):
            wrong()


def test_counts_that_spread_more():
    """Pearson's phi and k by moments from single values; with k of 0 and phi of 1 Poisson's logarithm."""
    rng = np.random.default_rng(4)
    one, two = rng.negative_binomial(2, 0.3, 60), rng.negative_binomial(2, 0.4, 50)
    found = ar.measure.count_ratio(one, two)
    phi = (np.sum((one - one.mean()) ** 2) / one.mean() + np.sum((two - two.mean()) ** 2) / two.mean()) / 108
    se = math.sqrt(phi * (1 / one.sum() + 1 / two.sum()))
    assert found.facts["phi"] == pytest.approx(phi, rel=1e-12)
    assert found.statistic == pytest.approx(math.log(one.mean() / two.mean()) / se, rel=1e-12)
    assert found.p_value == pytest.approx(2 * stats.t.sf(abs(found.statistic), 108), rel=1e-10)
    k = ar.measure.count_ratio(one, two, spread="negative-binomial").facts["k"]
    over = sum(float(np.sum((v - v.mean()) ** 2) - (v.size - 1) * v.mean()) for v in (one, two))
    assert k == pytest.approx(over / sum((v.size - 1) * v.mean() ** 2 for v in (one, two)), rel=1e-12)
    even = ar.measure.count_ratio(Summary(50, 4.0, 2.0), Summary(40, 3.0, math.sqrt(3)), spread="negative-binomial")
    poisson = ar.measure.rate_ratio(Events(200, 50.0), Events(120, 40.0), test="log-wald")
    assert (even.statistic, even.facts["k"]) == pytest.approx((poisson.statistic, 0.0), abs=1e-9)


def test_corrections_of_two_shares():
    """Yates's chi-square, N - 1, and Boschloo by enumeration of every outcome and of many common shares."""
    a, b = Counts(60, 400), Counts(40, 400)
    table = [[60, 340], [40, 360]]
    yates = ar.measure.independence(table, continuity="half").statistic
    assert ar.measure.proportions(a, b, continuity="half").statistic ** 2 == pytest.approx(yates, rel=1e-12)
    n1 = ar.measure.independence(table, correction="n-1").statistic
    assert ar.measure.proportions(a, b, test="n-1").statistic ** 2 == pytest.approx(n1, rel=1e-12)
    wald = ar.measure.proportions(a, b, test="wald", continuity="half").interval
    reach = stats.norm.isf(0.025) * math.sqrt(0.15 * 0.85 / 400 + 0.1 * 0.9 / 400) + 1 / 400
    assert (wald.low, wald.high) == pytest.approx((0.05 - reach, 0.05 + reach), rel=1e-12)
    for side in ("two-sided", "greater", "less"):
        assert ar.measure.proportions(a, b, continuity="half", alternative=side).interval.contains(0.0) == (
            ar.measure.proportions(a, b, continuity="half", alternative=side).p_value >= 0.05
        )

    def fisher(x, n, y, m, side):
        k = np.arange(max(0, x + y - m), min(n, x + y) + 1)
        chance = special.comb(n, k) * special.comb(m, x + y - k) / special.comb(n + m, x + y)
        own = chance[k == x][0]
        return {"greater": chance[k >= x].sum(), "less": chance[k <= x].sum()}.get(
            side, chance[chance <= own * (1 + 1e-9)].sum()
        )

    n, m = 7, 9
    grid = np.linspace(0, 1, 4001)
    for side in ("two-sided", "greater"):
        p = {(x, y): fisher(x, n, y, m, side) for x, y in itertools.product(range(n + 1), range(m + 1))}
        extreme = [at for at, v in p.items() if v <= p[5, 2] * (1 + 1e-9)]
        chances = sum(stats.binom.pmf(x, n, grid) * stats.binom.pmf(y, m, grid) for x, y in extreme)
        found = ar.measure.proportions(
            Counts(5, n), Counts(2, m), test="unconditional-fisher", alternative=side
        ).p_value
        assert found == pytest.approx(chances.max(), abs=2e-6)
        assert found <= p[5, 2]


def test_paired_limits():
    """Newcombe's and Tango's published limits of 36, 12, 2, 0; Wald and Agresti and Min by hand."""
    cells = (36, 12, 2, 0)
    published = {"newcombe": (0.0569, 0.3404), "score": (0.0611, 0.3447)}
    for kind, ends in published.items():
        limits = ar.measure.paired_proportions(cells, interval=kind).interval
        assert (limits.low, limits.high) == pytest.approx(ends, abs=5e-5)
    z = stats.norm.isf(0.025)
    for kind, more in (("wald", 0.0), ("agresti-min", 0.5)):
        b, c, n = 12 + more, 2 + more, 50 + 4 * more
        reach = z * math.sqrt(b + c - (b - c) ** 2 / n) / n
        limits = ar.measure.paired_proportions(cells, interval=kind).interval
        assert (limits.low, limits.high) == pytest.approx(((b - c) / n - reach, (b - c) / n + reach), rel=1e-12)
    corrected = ar.measure.paired_proportions((20, 15, 5, 60), continuity="half")
    assert corrected.statistic == pytest.approx(9 / math.sqrt(20), rel=1e-12)
    with pytest.raises(ar.InputError, match="continuity"):
        ar.measure.paired_proportions(cells, test="exact", continuity="half")


def test_limits_of_one_table_are_those_of_many():
    """One comparison goes by numbers, several by arrays: corrected and paired limits are the same, empty cells too."""
    rng = np.random.default_rng(6)
    tables = [tuple(int(v) for v in rng.integers(0, 12, 4)) for _ in range(60)]
    tables += [(10, 5, 0, 0), (0, 5, 0, 0), (0, 0, 5, 0), (0, 0, 0, 7), (5 * 10**11, 10**6, 10**6 + 2000, 5 * 10**11)]
    tables = [t for t in tables if sum(t)]
    for side in ("two-sided", "greater", "less"):
        many = ar.measure.paired_proportions(tuple(np.array(tables).T), alternative=side).interval
        each = [ar.measure.paired_proportions(t, alternative=side).interval for t in tables]
        assert [r.low for r in each] == pytest.approx(many.low, abs=1e-12)
        assert [r.high for r in each] == pytest.approx(many.high, abs=1e-12)
    x1, x0 = rng.integers(0, 21, (2, 40))
    ask = {"continuity": "half", "alternative": "two-sided"}
    many = ar.measure.proportions(Counts(x1, 20), Counts(x0, 25), **ask).interval
    each = [
        ar.measure.proportions(Counts(int(a), 20), Counts(int(b), 25), **ask).interval
        for a, b in zip(x1, x0, strict=True)
    ]
    assert [r.low for r in each] == pytest.approx(many.low, abs=1e-11)
    assert [r.high for r in each] == pytest.approx(many.high, abs=1e-11)
