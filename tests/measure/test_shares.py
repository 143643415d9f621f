"""Shares by every test and interval: against enumeration, mpmath, and each other."""

from math import comb

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler import Counts, DataError, InputError, Pairs
from amber_ruler.measure import paired_proportions, proportion, proportions
from truth import mp

Z = mp.sqrt(2) * mp.erfinv(mp.mpf("0.95"))
ALTERNATIVES = ["two-sided", "greater", "less"]
SMALL = [(x1, n1, x0, n0) for n1 in (1, 5, 12) for n0 in (3, 12) for x1 in range(n1 + 1) for x0 in range(n0 + 1)]


def limits(r):
    return r.interval.low, r.interval.high


def binomial(n, p):
    return [comb(n, k) * p**k * (1 - p) ** (n - k) for k in range(n + 1)]


@pytest.mark.parametrize("n", [1, 4, 12])
@pytest.mark.parametrize("share", [0.03, 0.3, 0.5, 0.9])
def test_the_exact_binomial_tests_are_enumeration(n, share):
    """Both two-sided conventions and both tails, for every count."""
    chances = binomial(n, share)
    for x in range(n + 1):
        above, below = sum(chances[x:]), sum(chances[: x + 1])
        likely = sum(c for c in chances if c <= chances[x] * (1 + 1e-9))
        expected = {"greater": above, "less": below, "two-sided": min(1, 2 * min(above, below))}
        for alternative, p in expected.items():
            found = proportion(Counts(x, n, "a"), null=share, test="exact", alternative=alternative)
            assert found.p_value == pytest.approx(p, rel=1e-12)
            halved = {"greater": above - chances[x] / 2, "less": below - chances[x] / 2}
            halved["two-sided"] = min(1, 2 * min(halved.values()))
            found = proportion(Counts(x, n, "a"), null=share, test="mid-p", alternative=alternative)
            assert found.p_value == pytest.approx(halved[alternative], rel=1e-10)
        found = proportion(Counts(x, n, "a"), null=share, test="exact", two_sided="likelihood")
        assert found.p_value == pytest.approx(min(likely, 1), rel=1e-12)


@pytest.mark.parametrize(("x", "n"), [(0, 9), (3, 11), (15, 50), (50, 50), (420, 1000), (7, 100_000)])
def test_the_intervals_of_one_share_solve_their_equations(x, n):
    """Wilson's ends have a critical z, Clopper and Pearson's a tail of alpha/2, Jeffreys' are quantiles of a beta."""
    group = Counts(x, n, "a")
    low, high = limits(proportion(group))
    for end, inside in ((low, x > 0), (high, x < n)):
        if inside:
            assert abs(x - n * end) / np.sqrt(n * end * (1 - end)) == pytest.approx(float(Z), rel=1e-10)
    low, high = limits(proportion(group, interval="clopper-pearson"))
    if x > 0:
        assert float(mp.betainc(x, n - x + 1, 0, mp.mpf(low), regularized=True)) == pytest.approx(0.025, rel=1e-10)
    if x < n:
        assert float(mp.betainc(x + 1, n - x, mp.mpf(high), 1, regularized=True)) == pytest.approx(0.025, rel=1e-10)
    low, high = limits(proportion(group, test="mid-p"))
    for end, inside, k in ((low, x > 0, x), (1 - high, x < n, n - x)):
        if inside:
            tails = [mp.betainc(j, n - j + 1, 0, mp.mpf(end), regularized=True) if j <= n else 0 for j in (k, k + 1)]
            assert float(sum(tails)) == pytest.approx(0.05, rel=1e-10)
    low, high = limits(proportion(group, interval="jeffreys"))
    if 0 < x < n:
        for end, chance in ((low, 0.025), (high, 0.975)):
            got = mp.betainc(x + mp.mpf(1) / 2, n - x + mp.mpf(1) / 2, 0, mp.mpf(end), regularized=True)
            assert float(got) == pytest.approx(chance, rel=1e-10)
        centre, more = (x + Z**2 / 2) / (n + Z**2), n + Z**2
        reach = float(Z * mp.sqrt(centre * (1 - centre) / more))
        found = proportion(group, interval="agresti-coull").interval
        assert (found.low, found.high) == pytest.approx(
            (max(float(centre) - reach, 0), float(centre) + reach), rel=1e-10
        )
        found = proportion(group, test="wald").interval
        assert found.high - x / n == pytest.approx(float(Z) * np.sqrt(x / n * (1 - x / n) / n), rel=1e-10)


@given(
    st.integers(1, 300).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))),
    st.floats(0.01, 0.99),
    st.floats(0.001, 0.3),
    st.sampled_from(ALTERNATIVES),
    st.sampled_from([("score", None), ("score", "half"), ("exact", None), ("mid-p", None)]),
)
def test_one_share_agrees_with_its_interval(counts, null, alpha, alternative, how):
    """The p is below alpha exactly when the interval leaves out the null, corrected for continuity or not."""
    test, continuity = how
    asked = {"alpha": alpha, "alternative": alternative, "test": test, "continuity": continuity}
    r = proportion(Counts(*counts, "a"), null=null, **asked)
    assert (r.p_value < alpha) == (not r.interval.contains(null))
    apart = proportion(Counts(*counts, "a"), **asked).interval
    assert (apart.low, apart.high) == pytest.approx((r.interval.low, r.interval.high), rel=1e-6, abs=1e-7)


@pytest.mark.parametrize("alternative", ALTERNATIVES)
def test_fishers_test_is_enumeration(alternative):
    """Small tables: both conventions, mid-p, and the exact interval of the odds ratio that goes with them."""
    for x1, n1, x0, n0 in SMALL[:: 4 if alternative == "two-sided" else 7]:
        total, k = x1 + x0, range(max(0, x1 + x0 - n0), min(n1, x1 + x0) + 1)
        chances = {j: comb(n1, j) * comb(n0, total - j) / comb(n1 + n0, total) for j in k}
        own = chances[x1]
        above, below = (sum(c for j, c in chances.items() if s * j >= s * x1) for s in (1, -1))
        likely = sum(c for c in chances.values() if c <= own * (1 + 1e-9))
        expected = {"greater": above, "less": below, "two-sided": likely}[alternative]
        groups = Counts(x1, n1, "a"), Counts(x0, n0, "b")
        r = proportions(*groups, test="exact", alternative=alternative)
        assert r.p_value == pytest.approx(min(expected, 1), rel=1e-11)
        mid = proportions(*groups, test="mid-p", alternative=alternative)
        assert mid.p_value == pytest.approx(expected - own / 2, rel=1e-10)
        if alternative == "two-sided":
            doubled = proportions(*groups, test="exact", two_sided="doubled")
            assert doubled.p_value == pytest.approx(min(1, 2 * min(above, below)), rel=1e-11)
            if "odds_ratio" in r.effects and r.effects["odds_ratio"].label.endswith("margins"):
                assert (doubled.p_value < 0.05) == (not r.effects["odds_ratio"].interval.contains(1.0))


@pytest.mark.parametrize("table", [(7, 12, 2, 12), (0, 5, 4, 9), (3, 3, 0, 4), (6, 12, 6, 12), (11, 12, 5, 10)])
def test_the_unconditional_test_is_the_largest_chance(table):
    """Over a fine grid of common shares nothing is larger, and at its peak it is as large."""
    x1, n1, x0, n0 = table
    outcomes = [(a, b) for a in range(n1 + 1) for b in range(n0 + 1)]

    def z(a, b):
        p = (a + b) / (n1 + n0)
        return 0.0 if p in (0, 1) else (a / n1 - b / n0) / np.sqrt(p * (1 - p) * (1 / n1 + 1 / n0))

    shares = np.linspace(0, 1, 4_001)
    one, two = (np.array([binomial(n, p) for p in shares]) for n in (n1, n0))
    for alternative in ALTERNATIVES:
        seen = z(x1, x0)
        keep = {
            "two-sided": lambda v, s=seen: abs(v) >= abs(s) - 1e-9,
            "greater": lambda v, s=seen: v >= s - 1e-9,
            "less": lambda v, s=seen: v <= s + 1e-9,
        }[alternative]
        chance = sum(one[:, a] * two[:, b] for a, b in outcomes if keep(z(a, b)))
        p = proportions(Counts(x1, n1, "a"), Counts(x0, n0, "b"), test="unconditional", alternative=alternative).p_value
        assert chance.max() <= p * (1 + 1e-12)
        assert p == pytest.approx(chance.max(), rel=1e-5)


@pytest.mark.parametrize("table", [(60, 400, 40, 400), (3, 12, 9, 14), (0, 20, 5, 30), (9, 10, 2, 8)])
def test_the_intervals_of_a_difference_solve_their_equations(table):
    """Miettinen and Nurminen's z carries N - 1; Newcombe's ends come from Wilson's; the others from their formulas."""
    x1, n1, x0, n0 = table
    groups = Counts(x1, n1, "a"), Counts(x0, n0, "b")
    d = x1 / n1 - x0 / n0
    found = proportions(*groups, interval="miettinen-nurminen").interval
    for end in (found.low, found.high):
        z = proportions(*groups, null=end).statistic * np.sqrt((n1 + n0 - 1) / (n1 + n0))
        assert abs(z) == pytest.approx(float(Z), rel=1e-9)
    (l1, u1), (l0, u0) = ((w.low, w.high) for w in (proportion(g).interval for g in groups))
    found = proportions(*groups, interval="newcombe").interval
    expected = (d - np.hypot(x1 / n1 - l1, u0 - x0 / n0), d + np.hypot(u1 - x1 / n1, x0 / n0 - l0))
    assert (found.low, found.high) == pytest.approx(expected, rel=1e-10)
    p1, p0 = (x1 + 1) / (n1 + 2), (x0 + 1) / (n0 + 2)
    reach = float(Z) * np.sqrt(p1 * (1 - p1) / (n1 + 2) + p0 * (1 - p0) / (n0 + 2))
    found = proportions(*groups, interval="agresti-caffo").interval
    assert (found.low, found.high) == pytest.approx((p1 - p0 - reach, p1 - p0 + reach), rel=1e-10)
    wald = proportions(*groups, test="wald")
    se = np.sqrt(x1 / n1 * (1 - x1 / n1) / n1 + x0 / n0 * (1 - x0 / n0) / n0)
    assert wald.statistic == pytest.approx(d / se, rel=1e-12)
    assert (wald.p_value < 0.05) == (not wald.interval.contains(0.0))


def test_z_is_shown_with_its_square_and_chosen_pairs_may_disagree():
    """Neither z nor chi-square surprises; an interval that contradicts its test is said; so is the number needed."""
    r = proportions(Counts(60, 400, "a"), Counts(40, 400, "b"))
    assert r.facts["chi_square"] == pytest.approx(r.statistic**2)
    assert "χ² 4.57" in str(r)
    needed = r.effects["number_needed"]
    assert (needed.value, needed.interval.low) == pytest.approx((20.0, 1 / r.interval.high))
    assert "number_needed" not in proportions(Counts(41, 400, "a"), Counts(40, 400, "b")).effects
    odd = proportions(Counts(6, 20, "a"), Counts(1, 20, "b"), test="exact")
    assert odd.p_value > 0.05
    assert "here disagree" in odd.notes[0]
    exact = proportions(Counts(60, 400, "a"), Counts(40, 400, "b"), test="exact", margin=0.02)
    assert "against the margin are score tests" in exact.notes[-1]
    assert exact.margin_tests["not_worse"].p_value == pytest.approx(
        proportions(Counts(60, 400, "a"), Counts(40, 400, "b"), null=-0.02, alternative="greater").p_value, rel=1e-12
    )
    many = proportions(Counts([60, 6], [400, 20], "a"), Counts([40, 1], [400, 20], "b"), interval="miettinen-nurminen")
    single = proportions(Counts(6, 20, "a"), Counts(1, 20, "b"), interval="miettinen-nurminen")
    assert many.interval.low[1] == pytest.approx(single.interval.low, rel=1e-9)


PAIRED = st.tuples(*(st.integers(0, 60) for _ in range(4))).filter(lambda cells: sum(cells) > 0)


@given(PAIRED, st.floats(-0.6, 0.6), st.floats(0.001, 0.3), st.sampled_from(ALTERNATIVES))
def test_paired_shares_agree_with_tangos_interval(cells, null, alpha, alternative):
    """The p is below alpha exactly when the interval leaves out the null; swapping the sides flips the sign."""
    r = paired_proportions(cells, null=null, alpha=alpha, alternative=alternative)
    assert (r.p_value < alpha) == (not r.interval.contains(null))
    yes, b, c, no = cells
    turned = {"greater": "less", "less": "greater"}.get(alternative, alternative)
    swapped = paired_proportions((yes, c, b, no), null=-null, alpha=alpha, alternative=turned)
    assert (r.estimate, r.p_value) == pytest.approx((-swapped.estimate, swapped.p_value), rel=1e-7, abs=1e-12)


@pytest.mark.parametrize("cells", [(20, 15, 5, 60), (3, 0, 7, 2), (0, 9, 1, 0), (5, 4, 4, 5), (10, 0, 0, 3)])
def test_changes_of_pairs_by_hand(cells):
    """McNemar's z, the binomial tails of the changes, mid-p, and Tango's likelihood at the limits."""
    _, b, c, _ = cells
    n, changes = sum(cells), b + c
    score = paired_proportions(cells)
    assert score.statistic == pytest.approx((b - c) / np.sqrt(changes) if changes else 0.0, rel=1e-12)
    tails = binomial(changes, 0.5)
    above, below = sum(tails[b:]), sum(tails[: b + 1])
    assert paired_proportions(cells, test="exact").p_value == pytest.approx(min(1, 2 * min(above, below)), rel=1e-12)
    mid = min(1, 2 * (min(above, below) - tails[b] / 2))
    assert paired_proportions(cells, test="mid-p").p_value == pytest.approx(mid, rel=1e-12)
    for d in (score.interval.low, score.interval.high):
        if abs(d) < 1 and changes:
            # The likeliest share of losses under p(win) = p(loss) + d, by its own equation.
            q = np.linspace(max(0, -d), min(1, (1 - d) / 2), 2_000_001)[1:-1]
            log_likelihood = b * np.log(q + d) + c * np.log(q) + (n - changes) * np.log1p(-2 * q - d)
            best = q[np.argmax(log_likelihood)]
            z = (b - c - n * d) / np.sqrt(n * (2 * best + d - d * d))
            assert abs(z) == pytest.approx(float(Z), rel=2e-4)
    one = np.repeat([1, 1, 0, 0], cells).astype(float)
    two = np.repeat([1, 0, 1, 0], cells).astype(float)
    assert paired_proportions(Pairs(one, two, ("a", "b"))).p_value == pytest.approx(score.p_value, rel=1e-12)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: proportion(Counts(0, 9, "a"), test="wald"), "standard error is 0"),
        (lambda: proportion([0, 1, 2]), "values 0 and 1"),
        (lambda: proportion(Counts(3, 9), null=1.2), "null"),
        (lambda: proportions(Counts(0, 9, "a"), Counts(0, 9, "b"), test="wald"), "standard error is 0"),
        (lambda: proportions(Counts(1, 9, "a"), Counts(2, 9, "b"), test="exact", null=0.1), "difference of 0 only"),
        (lambda: proportions(Counts([1, 2], 9, "a"), Counts(2, 9, "b"), test="exact"), "one comparison at a time"),
        (lambda: proportions(Counts(1, 9_000, "a"), Counts(2, 9_000, "b"), test="unconditional"), "too many"),
        (lambda: proportions(Counts(1, 9, "a"), Counts(2, 9, "b"), test="exakt"), "Did you mean 'exact'"),
        (lambda: paired_proportions((1, 2, 3)), "four counts"),
        (lambda: paired_proportions((0, 0, 0, 0)), "all four counts are 0"),
        (lambda: paired_proportions((1, -2, 3, 4)), "counts"),
        (lambda: paired_proportions(Pairs([1.0, 2.0], [0.0, 1.0], ("a", "b"))), "'a' has 1 others"),
        (lambda: paired_proportions((1, 2, 3, 4), test="exact", null=0.1), "difference of 0 only"),
    ],
)
def test_what_cannot_be_tested_is_said(call, says):
    """No NaN as an answer."""
    with pytest.raises((DataError, InputError), match=says):
        call()
