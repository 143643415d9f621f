"""The difference of two proportions against brute-force score inversion."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_ruler import Counts, DataError, InputError, Result, Sample, Summary
from amber_ruler.effects import cohen_h, risk_ratio
from amber_ruler.measure import proportion, proportions
from truth import mp  # at its precision

TABLES = [
    (60, 400, 40, 400),
    (0, 12, 3, 10),
    (7, 7, 2, 9),
    (0, 5, 0, 8),
    (9, 9, 4, 4),
    (3, 10_000_000, 9, 8_000_000),
    (1, 3, 2, 2),
]


def likelihood(p1, p0, table):
    x1, n1, x0, n0 = table

    def term(x, p):
        return mp.mpf(0) if x == 0 else x * mp.log(p) if p > 0 else -mp.inf

    return term(x1, p1) + term(n1 - x1, 1 - p1) + term(x0, p0) + term(n0 - x0, 1 - p0)


def constrained(table, p1_of, low, high):
    """Share of control that maximises the likelihood when treatment's is a function of it: golden section."""
    low, high = mp.mpf(low), mp.mpf(high)
    ratio = (mp.sqrt(5) - 1) / 2
    for _ in range(150):
        a, b = high - ratio * (high - low), low + ratio * (high - low)
        low, high = (a, high) if likelihood(p1_of(a), a, table) < likelihood(p1_of(b), b, table) else (low, b)
    return (low + high) / 2


def score_at(table, delta):
    """Score z for p1 - p0 = delta, from the definition."""
    x1, n1, x0, n0 = table
    delta = mp.mpf(delta)
    p0 = constrained(table, lambda p: p + delta, max(0, -delta), min(1, 1 - delta))
    p1 = p0 + delta
    return (mp.mpf(x1) / n1 - mp.mpf(x0) / n0 - delta) / mp.sqrt(p1 * (1 - p1) / n1 + p0 * (1 - p0) / n0)


def compare(table, **options):
    x1, n1, x0, n0 = table
    return proportions(Counts(x1, n1, "short"), Counts(x0, n0, "current"), **options)


@pytest.mark.parametrize("table", TABLES)
def test_limits_solve_the_score_equation(table):
    """At each limit inside (-1, 1) the score statistic equals the critical value; beyond it exceeds it."""
    r = compare(table)
    critical = mp.mpf("1.959963984540054235524594430520551527")
    for limit, side in ((r.interval.low, 1), (r.interval.high, -1)):
        assert abs(limit) <= 1
        if abs(limit) < 1:
            assert float(score_at(table, limit)) == pytest.approx(float(side * critical), rel=2e-8)


@pytest.mark.parametrize("alpha", [0.05, 0.003, 1e-6])
def test_many_tables_in_one_call_have_the_limits_that_each_has_by_itself(alpha):
    """Small and lopsided ones, where a limit lies near the end of the scale, far from a straight line."""
    tables = [
        (x1, n1, x0, n0)
        for n1, n0 in ((2, 3), (1, 60), (164, 2))
        for x1 in {0, 1, n1}
        for x0 in {0, 1, 2, n0}
        if x0 <= n0
    ]
    x1, n1, x0, n0 = np.array(tables).T
    together = compare((x1, n1, x0, n0), alpha=alpha)
    assert np.all(together.interval.low >= -1)
    assert np.all(together.interval.high <= 1)
    for i, table in enumerate(tables):
        alone = compare(table, alpha=alpha)
        ends = [(together.interval, alone.interval)]
        ends += [
            (together.effects[name].interval, e.interval)
            for name, e in alone.effects.items()
            if name in together.effects
        ]
        for many, one in ends:
            assert (many.low[i], many.high[i]) == pytest.approx((one.low, one.high), rel=1e-9, abs=1e-9)
        goal = float(mp.sqrt(2) * mp.erfinv(1 - mp.mpf(alpha)))
        for limit, side in ((alone.interval.low, 1), (alone.interval.high, -1)):
            if abs(limit) < 1 and 0 < alone.p_value < 1:
                assert float(score_at(table, limit)) == pytest.approx(side * goal, rel=1e-6)


@pytest.mark.parametrize("table", [t for t in TABLES if 0 < t[0] + t[2] < t[1] + t[3]])
def test_the_test_of_no_difference_is_the_pooled_z(table):
    """With a null of 0 the statistic is the pooled z."""
    x1, n1, x0, n0 = (mp.mpf(v) for v in table)
    pooled = (x1 + x0) / (n1 + n0)
    z = (x1 / n1 - x0 / n0) / mp.sqrt(pooled * (1 - pooled) * (1 / n1 + 1 / n0))
    r = compare(table)
    assert r.statistic == pytest.approx(float(z), rel=1e-10)
    assert r.p_value == pytest.approx(float(mp.erfc(abs(z) / mp.sqrt(2))), rel=1e-10)


def exact_score(table, delta):
    """Score z with 60 digits: the constrained share is where the slope of the likelihood crosses 0."""
    x1, n1, x0, n0 = table
    with mp.workdps(60):
        delta = mp.mpf(delta)
        low, high = max(mp.mpf(0), -delta), min(mp.mpf(1), 1 - delta)
        for _ in range(180):
            p0 = (low + high) / 2
            p1 = p0 + delta
            parts = ((x1, p1), (x1 - n1, 1 - p1), (x0, p0), (x0 - n0, 1 - p0))
            slope = sum(count / share for count, share in parts if count)
            low, high = (p0, high) if slope > 0 else (low, p0)
        spread = mp.sqrt(p1 * (1 - p1) / n1 + p0 * (1 - p0) / n0)
        return (mp.mpf(x1) / n1 - mp.mpf(x0) / n0 - delta) / spread


@settings(max_examples=100, deadline=None)
@given(
    st.tuples(st.floats(0.4, 15), st.floats(0.4, 15)),
    st.sampled_from(["few", "all but few", "any"]),
    st.tuples(st.integers(0, 12), st.integers(0, 12)),
    st.tuples(st.floats(0, 1), st.floats(0, 1)),
    st.sampled_from([0.0, 1e-12, -1e-6, 0.01, -0.3, 0.9, -0.999]),
)
def test_the_score_keeps_its_digits_at_any_count(sizes, kind, few, shares, null):
    n = [int(10**s) for s in sizes]
    x = [min(f, m) if kind != "any" else min(int(s * m), m) for f, s, m in zip(few, shares, n, strict=True)]
    if kind == "all but few":
        x = [m - v for v, m in zip(x, n, strict=True)]
    table = (x[0], n[0], x[1], n[1])
    r = proportions(Counts(*table[:2], "a"), Counts(*table[2:], "b"), null=null)
    if 0 < sum(x) < sum(n) or null:
        assert r.statistic == pytest.approx(float(exact_score(table, null)), rel=1e-10, abs=1e-12)
    assert r.interval.low <= r.estimate <= r.interval.high
    many = proportions(*(Counts([v], [m], label) for v, m, label in zip(x, n, "ab", strict=True)), null=null)
    assert (many.p_value[0], many.interval.low[0]) == pytest.approx((r.p_value, r.interval.low), rel=1e-9, abs=1e-300)


def test_one_share_of_a_huge_count_has_both_limits():
    """Wilson's limits to 12 digits where 1 less the share is 1 in floats."""
    r = proportion(Counts(3, 10**17, "a"))
    with mp.workdps(40):
        c, n = mp.sqrt(2) * mp.erfinv(mp.mpf("0.95")), mp.mpf(10) ** 17
        root = c * mp.sqrt(c**2 / 4 + 3 * (n - 3) / n)
        ends = [float((3 + c**2 / 2 + side * root) / (n + c**2)) for side in (-1, 1)]
    assert [r.interval.low, r.interval.high] == pytest.approx(ends, rel=1e-12)


@pytest.mark.parametrize("null", [-0.2, 0.05, 0.4])
def test_another_null_uses_its_own_shares(null):
    """The statistic of a shifted null agrees with a brute-force maximum of the likelihood."""
    table = (30, 80, 22, 90)
    assert compare(table, null=null).statistic == pytest.approx(float(score_at(table, null)), rel=1e-9)


def test_ratio_limits_solve_their_score_equations():
    """Koopman's limits for the risk ratio, and the score limits of the odds ratio, by brute force."""
    table = x1, n1, x0, n0 = 36, 40, 16, 80
    r = compare(table)
    for limit, side in ((r.effects["risk_ratio"].interval.low, 1), (r.effects["risk_ratio"].interval.high, -1)):
        ratio = mp.mpf(limit)
        p0 = constrained(table, lambda p, ratio=ratio: ratio * p, 0, 1 / max(ratio, 1))
        p1 = ratio * p0
        z = (mp.mpf(x1) / n1 - ratio * mp.mpf(x0) / n0) / mp.sqrt(p1 * (1 - p1) / n1 + ratio**2 * p0 * (1 - p0) / n0)
        assert float(z) == pytest.approx(side * 1.959963984540054, rel=1e-8)
    for limit, side in ((r.effects["odds_ratio"].interval.low, 1), (r.effects["odds_ratio"].interval.high, -1)):
        odds = mp.mpf(limit)
        p0 = constrained(table, lambda p, odds=odds: odds * p / (1 + p * (odds - 1)), 0, 1)
        p1 = odds * p0 / (1 + p0 * (odds - 1))
        z = n1 * (mp.mpf(x1) / n1 - p1) * mp.sqrt(1 / (n1 * p1 * (1 - p1)) + 1 / (n0 * p0 * (1 - p0)))
        assert float(z) == pytest.approx(side * 1.959963984540054, rel=1e-8)


counts = st.integers(1, 400).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n)))


@settings(max_examples=120, deadline=None)
@given(
    counts,
    counts,
    st.sampled_from(["two-sided", "greater", "less"]),
    st.sampled_from([0.0, 0.0, 0.03, -0.2]),
    st.sampled_from([0.05, 0.3, 1e-3, 1e-7]),
)
def test_p_is_below_alpha_exactly_when_the_interval_leaves_out_the_null(a, b, alternative, null, alpha):
    """Promise 2 of the house; the ratios keep it for a null of 0."""
    r = compare((*a, *b), alternative=alternative, null=null, alpha=alpha)
    assert (r.p_value < alpha) == (not r.interval.contains(null))
    assert -1 <= r.interval.low <= r.interval.high <= 1
    if null == 0 and abs(r.p_value - alpha) > 1e-9 * alpha:
        for name in ("risk_ratio", "odds_ratio"):
            if name in r.effects:
                assert (r.p_value < alpha) == (not r.effects[name].interval.contains(1.0)), name


@settings(deadline=None)
@given(counts, counts)
def test_swapping_groups_and_swapping_outcomes(a, b):
    """Swapping groups flips the sign and inverts the ratios; counting failures instead flips the sign."""
    r, s = compare((*a, *b)), proportions(Counts(*b, "current"), Counts(*a, "short"))
    failures = compare((a[1] - a[0], a[1], b[1] - b[0], b[1]))
    for other in (s, failures):
        assert other.estimate == pytest.approx(-r.estimate, abs=1e-15)
        assert other.p_value == pytest.approx(r.p_value, rel=1e-9)
        assert other.interval.low == pytest.approx(-r.interval.high, rel=1e-9, abs=1e-12)
    if "odds_ratio" in r.effects and r.effects["odds_ratio"].value > 0:
        assert s.effects["odds_ratio"].value == pytest.approx(1 / r.effects["odds_ratio"].value, rel=1e-12)


def test_without_any_success_the_interval_still_speaks():
    """Zero of both: z = 0, p = 1, an informative interval, and no ratio is made up."""
    r = compare((0, 50, 0, 60))
    assert (r.statistic, r.p_value, r.estimate) == (0.0, 1.0, 0.0)
    assert -0.08 < r.interval.low < 0 < r.interval.high < 0.08
    assert "risk_ratio" not in r.effects
    assert "no lift, risk ratio or odds ratio" in r.notes[0]
    assert r.checks[0].name == "expected counts"


def test_a_broadcast_call_equals_the_scalar_calls():
    """A thousand comparisons are one call."""
    rng = np.random.default_rng(4)
    n1, n0 = rng.integers(1, 500, 60), rng.integers(1, 500, 60)
    x1, x0 = rng.binomial(n1, 0.1), rng.binomial(n0, 0.15)
    many = proportions(Counts(x1, n1, "a"), Counts(x0, n0, "b"))
    for k in range(60):
        one = proportions(Counts(x1[k], n1[k], "a"), Counts(x0[k], n0[k], "b"))
        assert many.p_value[k] == pytest.approx(one.p_value, rel=1e-12)
        assert many.interval.low[k] == pytest.approx(one.interval.low, rel=1e-9, abs=1e-13)
        assert many.effects["odds_ratio"].interval.high[k] == pytest.approx(one_or_end(one), rel=1e-8)


def one_or_end(result):
    """Upper limit of the odds ratio, infinite where it has none."""
    effect = result.effects.get("odds_ratio")
    return np.inf if effect is None else effect.interval.high


def test_every_door_gives_the_same_answer():
    """0/1 values, true and false, samples and counts are one input."""
    x, y = np.r_[np.ones(30), np.zeros(70)], np.r_[np.ones(20), np.zeros(90)]
    doors = [(x, y), (x.astype(bool), y.astype(bool)), (Sample(x), Sample(y)), (Counts(30, 100), Counts(20, 110))]
    results = [proportions(*door) for door in doors]
    assert len({r.p_value for r in results}) == 1
    assert len({r.interval.high for r in results}) == 1


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: proportions([0, 1, 2], [0, 1]), "1 other values such as 2"),
        (lambda: proportions([0.5, 0.5], [0, 1]), "other values such as 0.5"),
        (lambda: Counts(5, 3), "must not exceed trials, got 5 of 3"),
        (lambda: Counts(-1, 3, "short"), "successes of 'short' must be at least 0"),
        (lambda: proportion(Counts(0, 0)), "at least 1"),
        (lambda: Counts(1.5, 3), "whole number"),
        (lambda: proportions(Summary(3, 0.5, 0.1), [0, 1]), "not a Summary"),
        (lambda: proportions([], [0, 1]), "'treatment' is empty"),
        (lambda: compare((1, 3, 2, 4), null=1.0), "null must be between -1 and 1"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what and where."""
    with pytest.raises((DataError, InputError), match=says):
        call()


def test_a_ratio_to_nothing_keeps_the_limit_that_it_has():
    """Infinite, with Koopman's lower limit, through every medium; counts that contradict themselves are refused."""
    r = proportions(Counts(8, 20, "a"), Counts(0, 20, "b"))
    ratio = r.effects["risk_ratio"]
    assert ratio.value == ratio.interval.high == np.inf
    assert 2 < ratio.interval.low < 3
    assert "infinite" in str(r)
    assert Result.from_json(r.to_json()).effects["lift"].value == np.inf
    assert risk_ratio(8, 20, 0, 20, alpha=0.05).interval.low == ratio.interval.low
    with pytest.raises(InputError, match="more successes"):
        cohen_h(34, 54, 47, 13, alpha=0.05)
