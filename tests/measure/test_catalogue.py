"""Exact tests by rank, tables counted, signs, distributions, covariance: against enumeration or algebra."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import special, stats

import amber_ruler as ar
from amber_ruler.numeric import ranks as order

SIDES = ["two-sided", "greater", "less"]
few = st.lists(st.integers(0, 5), min_size=2, max_size=5)


def doubled(above, below, side):
    return {"greater": above, "less": below}.get(side, min(1.0, 2 * min(above, below)))


@settings(max_examples=40, deadline=None)
@given(few, few, st.sampled_from(SIDES))
def test_exact_rank_sums_with_ties(x, y, side):
    """All ways to deal the values out."""
    if len(set(x + y)) == 1:
        return
    both = np.array(x + y, dtype=float)

    def wins(chosen):
        one, two = both[list(chosen)], np.delete(both, list(chosen))
        return float(np.sum((one[:, None] > two) + (one[:, None] == two) / 2))

    own = wins(range(len(x)))
    every = np.array([wins(c) for c in itertools.combinations(range(both.size), len(x))])
    truth = doubled(np.mean(every >= own), np.mean(every <= own), side)
    found = ar.measure.ranks(np.array(x, float), np.array(y, float), test="exact", alternative=side)
    assert found.p_value == pytest.approx(truth, rel=1e-12)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(-4, 4), min_size=2, max_size=8), st.sampled_from(SIDES))
def test_exact_signed_ranks_with_ties_and_signs(values, side):
    """All signs of the ranks; and of the values themselves."""
    away = np.array([v for v in values if v], dtype=float)
    if away.size == 0:
        return
    ranks, _ = order.mean_ranks(np.abs(away))
    own = ranks[away > 0].sum()
    every = np.array([np.dot(s, ranks) for s in itertools.product((0, 1), repeat=away.size)])
    truth = doubled(np.mean(every >= own), np.mean(every <= own), side)
    r = ar.measure.signed_ranks(np.array(values, float), test="exact", alternative=side)
    assert r.p_value == pytest.approx(truth, rel=1e-12)
    effect = r.effects["rank_biserial"]
    assert effect.value == pytest.approx((2 * own - ranks.sum()) / ranks.sum(), abs=1e-12)
    assert effect.interval.low <= effect.value + 1e-12
    up = int(np.sum(away > 0))
    truth = doubled(stats.binom.sf(up - 1, away.size, 0.5), stats.binom.cdf(up, away.size, 0.5), side)
    signs = ar.measure.signs(np.array(values, float), alternative=side)
    assert signs.p_value == pytest.approx(truth, rel=1e-12)
    assert (signs.facts["above"], signs.facts["same"]) == (up, len(values) - away.size)


@given(st.lists(st.floats(-50, 50), min_size=6, max_size=40, unique=True), st.sampled_from([0.05, 0.2]))
def test_limits_of_a_median_attain_their_level(values, alpha):
    """The level by the binomial distribution; one place further in would fall short of it."""
    r = ar.measure.signs(np.array(values), alpha=alpha)
    ordered = np.sort(values)
    if math.isinf(r.interval.low):
        assert 2 * 0.5 ** len(values) > alpha
        return
    k = int(np.searchsorted(ordered, r.interval.low)) + 1
    missed = [2 * stats.binom.cdf(j - 1, len(values), 0.5) for j in (k, k + 1)]
    assert r.facts["attained_level"] == pytest.approx(1 - missed[0], rel=1e-12)
    assert missed[0] <= alpha * (1 + 1e-12)
    assert missed[1] > alpha or k + 1 > len(values) / 2
    assert r.interval.high == ordered[len(values) - k]


@settings(max_examples=30, deadline=None)
@given(few, few, st.sampled_from(SIDES))
def test_the_largest_distance_of_two_distributions(x, y, side):
    """All ways to deal the values out, with ties as they are."""
    both, places = np.array(x + y, dtype=float), np.unique(x + y)

    def distance(chosen):
        one, two = both[list(chosen)], np.delete(both, list(chosen))
        gap = [np.mean(two <= v) - np.mean(one <= v) for v in places]
        return {"greater": max(gap), "less": -min(gap)}.get(side, max(map(abs, gap)))

    own = distance(range(len(x)))
    every = np.array([distance(c) for c in itertools.combinations(range(both.size), len(x))])
    r = ar.measure.distributions(np.array(x, float), np.array(y, float), alternative=side)
    assert r.p_value == pytest.approx(np.mean(every >= max(own, 0) - 1e-12), rel=1e-10)
    assert r.facts["D"] == pytest.approx(max(own, 0.0), abs=1e-12)
    assert (r.p_value < 0.05) == (not r.interval.contains(0.0))


def test_asymptotic_distances_are_those_of_the_bridge():
    """Kolmogorov's series, and Smirnov's exponential on one side."""
    rng = np.random.default_rng(1)
    x, y = rng.normal(size=300), rng.normal(0.2, 1, 200)
    r = ar.measure.distributions(x, y, test="asymptotic")
    scaled = r.facts["D"] * math.sqrt(300 * 200 / 500)
    series = 2 * sum((-1) ** (k - 1) * math.exp(-2 * k * k * scaled**2) for k in range(1, 60))
    assert r.p_value == pytest.approx(series, rel=1e-10)
    with pytest.raises(ar.InputError, match="too many"):
        ar.measure.distributions(np.arange(2000.0), np.arange(2000.0), test="exact")


def test_kruskal_and_wallis_counted():
    """All ways to deal eleven values, some tied, to three groups."""
    groups = {"a": [1.0, 3, 5, 5], "b": [2.0, 3, 8, 9], "c": [7.0, 10, 5]}
    both = np.concatenate(list(groups.values()))
    ranks, _ = order.mean_ranks(both)

    def size(marks):
        return sum(ranks[marks == k].sum() ** 2 / np.sum(marks == k) for k in range(3))

    own, hit, ways = size(np.repeat([0, 1, 2], [4, 4, 3])), 0, 0
    for one in itertools.combinations(range(11), 4):
        for two in itertools.combinations([k for k in range(11) if k not in one], 4):
            marks = np.full(11, 2)
            marks[list(one)], marks[list(two)] = 0, 1
            hit, ways = hit + (size(marks) >= own - 1e-9), ways + 1
    r = ar.measure.groups(groups, compare="ranks", test="exact")
    assert r.p_value == pytest.approx(hit / ways, rel=1e-12)
    assert "exact" in str(r)
    with pytest.raises(ar.InputError, match="too many ways"):
        ar.measure.groups(
            [np.arange(30.0), np.arange(30.0) + 0.3, np.arange(25.0) - 0.2], compare="ranks", test="exact"
        )


@pytest.mark.parametrize("how", ["likelihood", "chi-square"])
def test_exact_tables_counted_one_by_one(how):
    """All tables of two rows and three columns with the margins; larger ones against draws."""
    o = np.array([[4, 1, 2], [0, 5, 3]])
    rows, columns = o.sum(axis=1), o.sum(axis=0)
    expected = np.outer(rows, columns) / o.sum()

    def numbers(t):
        chance = -special.gammaln(t + 1.0).sum()
        return chance, np.sum((t - expected) ** 2 / expected)

    every = []
    for a, b in itertools.product(range(columns[0] + 1), range(columns[1] + 1)):
        c = rows[0] - a - b
        if 0 <= c <= columns[2]:
            first = np.array([a, b, c])
            every.append(numbers(np.array([first, columns - first])))
    log_chance, square = np.array(every).T
    own_chance, own_square = numbers(o)
    chance = np.exp(log_chance - log_chance.max())
    extreme = log_chance <= own_chance + 1e-9 if how == "likelihood" else square >= own_square - 1e-9
    truth = chance[extreme].sum() / chance.sum()
    r = ar.measure.independence(o, test="exact", order=how)
    assert r.p_value == pytest.approx(truth, rel=1e-10)
    wide = np.array([[3, 1, 2, 4], [0, 4, 2, 1], [5, 0, 3, 2]])
    counted, drawn = (ar.measure.independence(wide, test="exact", order=how, **k) for k in ({}, {"draws": 40_000}))
    assert abs(counted.p_value - drawn.p_value) < 4 * drawn.test.p_error
    assert counted.test.p_error is None


def test_small_things_of_tables():
    """Pearson's residuals, the contingency coefficient, a trend's side, Williams for goodness of fit."""
    r = ar.measure.independence([[30, 10], [20, 40]])
    assert np.sum(r.pearson**2) == pytest.approx(r.statistic, rel=1e-12)
    assert r.effects["contingency"].value == pytest.approx(math.sqrt(r.statistic / (r.statistic + 100)), rel=1e-12)
    trend = [ar.measure.independence([[3, 9], [10, 4], [9, 1]], test="trend", alternative=s).p_value for s in SIDES]
    assert trend[0] == pytest.approx(2 * min(trend[1:]), rel=1e-12)
    assert sum(trend[1:]) == pytest.approx(1, rel=1e-12)
    plain, fixed = (ar.measure.goodness_of_fit([20, 30, 14], statistic="g", correction=c).statistic
                    for c in ("none", "williams"))  # fmt: skip
    assert fixed == pytest.approx(plain / (1 + 4 / (6 * 64)), rel=1e-12)


def test_covariance_by_least_squares():
    """F, adjusted means, pairs, contrasts and slopes against two fits; one covariate, and two."""
    rng = np.random.default_rng(3)
    marks = np.repeat([0, 1, 2], [12, 15, 9])
    x = rng.normal(10, 3, (36, 2))
    y = 2 + x @ [0.8, -0.3] + np.array([0, 1, 2.0])[marks] + rng.normal(size=36)
    dummies = np.equal.outer(marks, np.arange(3)).astype(float)
    for q in (1, 2):
        names = ["fare", "prior"][:q]
        groups = {
            label: ar.Moments.from_arrays({"y": y[marks == k], **{c: x[marks == k, j] for j, c in enumerate(names)}})
            for k, label in enumerate("abc")
        }
        r = ar.measure.groups(groups, covariates=names)
        design = np.hstack([dummies, x[:, :q]])
        b, rest = np.linalg.lstsq(design, y, rcond=None)[:2]
        whole = np.linalg.lstsq(np.hstack([np.ones((36, 1)), x[:, :q]]), y, rcond=None)[1]
        df = 33 - q
        assert r.statistic == pytest.approx(float(((whole - rest) / 2 / (rest / df))[0]), rel=1e-9)
        assert r.p_value == pytest.approx(stats.f.sf(r.statistic, 2, df), rel=1e-9)
        at = b[:3] + x[:, :q].mean(axis=0) @ b[3:]
        assert [g.mean for g in r.groups] == pytest.approx(at, rel=1e-10)
        covariance = np.linalg.inv(design.T @ design) * rest / df
        weights = np.zeros(3 + q)
        weights[:3] = 1, -0.5, -0.5
        found = r.contrasts({"first": (1, -0.5, -0.5)}, "none")
        assert float(found.estimate[0]) == pytest.approx(weights @ b, rel=1e-9)
        assert float(found.se[0]) == pytest.approx(math.sqrt(weights @ covariance @ weights), rel=1e-9)
        own = np.hstack([dummies, *(dummies * x[:, [j]] for j in range(q))])
        alone = np.linalg.lstsq(own, y, rcond=None)[1]
        f = ((rest - alone) / (2 * q) / (alone / (36 - 3 * (q + 1))))[0]
        assert r.facts["slopes_f"] == pytest.approx(f, rel=1e-8)
    with pytest.raises(ar.InputError, match="same rows"):
        ar.measure.groups({"a": [1.0, 2], "b": [2.0, 3]}, covariates="fare")


def test_brown_and_forsythes_f():
    """Of two groups it is Welch's t squared, with its degrees of freedom."""
    one, two = ar.Summary(10, 3.0, 1.0, "a"), ar.Summary(17, 4.0, 2.5, "b")
    facts, t = ar.measure.groups([one, two]).facts, ar.measure.means(one, two)
    assert facts["brown_forsythe_f"] == pytest.approx(t.statistic**2, rel=1e-12)
    assert (facts["brown_forsythe_df"], facts["brown_forsythe_p"]) == pytest.approx((t.df, t.p_value), rel=1e-10)


def test_effect_sizes_of_means_and_pairs():
    """Corrections by gamma functions; superiority apart with equal spreads; pairs by hand; Fieller's roots solve it."""

    def j(df):
        return math.exp(math.lgamma(df / 2) - math.lgamma((df - 1) / 2)) / math.sqrt(df / 2)

    one, two = ar.Summary(20, 14.0, 4.0), ar.Summary(15, 12.0, 2.0)
    found = ar.measure.means(one, two).effects
    assert found["glass_delta_corrected"].value == pytest.approx(j(14), rel=1e-12)
    apart = found["superiority_unequal"]
    assert apart.value == pytest.approx(stats.norm.cdf(2 / math.sqrt(20)), rel=1e-12)
    root, df = math.sqrt(20 / (16 / 20 + 4 / 15)), 400 / (256 / 19 + 16 / 14)
    for end, tail in ((apart.interval.low, 0.025), (apart.interval.high, 0.975)):
        shift = stats.norm.ppf(end) * root
        assert stats.nct.sf(2 / math.sqrt(16 / 20 + 4 / 15), df, shift) == pytest.approx(tail, rel=1e-6)
    values = np.array([3.0, 5, 6, 7, 4])
    both = ar.measure.pairs(ar.Pairs(values, [2.0, 5, 4, 4, 5])).effects
    d = values - [2.0, 5, 4, 4, 5]
    assert both["g_z"].value == pytest.approx(d.mean() / d.std(ddof=1) * j(4), rel=1e-12)
    r = np.corrcoef(values, [2.0, 5, 4, 4, 5])[0, 1]
    assert both["d_rm"].value == pytest.approx(d.mean() / d.std(ddof=1) * math.sqrt(2 * (1 - r)), rel=1e-12)
    assert both["wins"].value == pytest.approx(3.5 / 5)
    single = ar.measure.mean(values, null=3.0).effects
    assert single["hedges_g"].value == pytest.approx(single["cohen_d"].value * j(4), rel=1e-12)
    t = ar.effects.from_t(ar.measure.mean(values, null=3.0).statistic, 5)
    assert t["hedges_g"].value == pytest.approx(single["hedges_g"].value, rel=1e-12)
    assert ar.effects.from_t(2.0, (50, 40))["cohen_d"].value == pytest.approx(2 * math.sqrt(1 / 50 + 1 / 40))
    for means, kind in (((12.0, 10.0), "interval"), ((12.0, 1.0), "outside"), ((0.1, 0.2), "all")):
        got = ar.effects.fieller(means, (0.8, 0.6), 1.96)
        assert got.kind == kind
        for ratio in (got.low, got.high):
            if not math.isnan(ratio):
                gap = (means[0] - ratio * means[1]) ** 2 - 1.96**2 * (0.64 + ratio**2 * 0.36)
                assert abs(gap) < 1e-9 * (1 + ratio**2)


def test_two_correlations():
    """Fisher's z by hand, through both doors; Zou's interval from both correlations' own."""
    rng = np.random.default_rng(8)
    arms, known = [], []
    for n, rho in ((60, 0.7), (50, 0.2)):
        x = rng.normal(size=n)
        y = rho * x + rng.normal(size=n)
        arms.append(ar.Records({"fare": x, "prior": y}, f"v{n}"))
        known.append((float(np.corrcoef(x, y)[0, 1]), n))
    r = ar.measure.correlations(arms[0], arms[1], value="fare", other="prior")
    (r1, n1), (r0, n0) = known
    z = (math.atanh(r1) - math.atanh(r0)) / math.sqrt(1 / (n1 - 3) + 1 / (n0 - 3))
    assert r.statistic == pytest.approx(z, rel=1e-10)
    plain = ar.effects.compare_correlations(*known)
    assert (plain.p_value, plain.interval.low) == pytest.approx((2 * stats.norm.sf(abs(z)), r.interval.low), rel=1e-9)
    (l1, u1), (l0, u0) = (
        [math.tanh(math.atanh(c) + s * stats.norm.isf(0.025) / math.sqrt(n - 3)) for s in (-1, 1)] for c, n in known
    )
    assert plain.interval.low == pytest.approx(r1 - r0 - math.hypot(r1 - l1, u0 - r0), rel=1e-10)
    assert plain.interval.high == pytest.approx(r1 - r0 + math.hypot(u1 - r1, r0 - l0), rel=1e-10)


def test_a_ratio_of_shares_is_not_the_same_in_all_strata():
    """Weighted squares of logarithms, by hand."""
    tables = [(10, 40, 5, 45), (20, 30, 22, 28), (6, 24, 2, 28)]
    columns = {"booked": [], "port": []}
    other = {"booked": [], "port": []}
    for k, (a, b, c, d) in enumerate(tables):
        for rows, hits, misses in ((columns, a, b), (other, c, d)):
            rows["booked"] += [1.0] * hits + [0.0] * misses
            rows["port"] += [f"port {k}"] * (hits + misses)
    r = ar.adjust.common_ratio(
        ar.Records(columns, "short"), ar.Records(other, "current"), value="booked", strata="port", ratio="risk"
    )
    logs = np.array(
        [math.log(a / 50 / (c / 50)) if k < 2 else math.log(a / c) for k, (a, _, c, _) in enumerate(tables)]
    )
    weight = 1 / np.array([1 / a - 1 / (a + b) + 1 / c - 1 / (c + d) for a, b, c, d in tables])
    square = float(weight @ (logs - weight @ logs / weight.sum()) ** 2)
    assert r.facts["homogeneity chi-square"] == pytest.approx(square, rel=1e-10)
    assert r.facts["homogeneity p"] == pytest.approx(stats.chi2.sf(square, 2), rel=1e-10)
