"""Ranks against brute force over all orders and all pairs."""

import itertools
from itertools import combinations, product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import amber_ruler as ar
from amber_ruler import DataError, InputError, Pairs, Sample
from amber_ruler.measure import ranks, signed_ranks
from amber_ruler.numeric import ranks as order
from truth import mp

RNG = np.random.default_rng(5)
ALTERNATIVES = ["two-sided", "greater", "less"]


def differences(x, y):
    return np.sort(np.subtract.outer(np.asarray(x), np.asarray(y)).ravel())


@pytest.mark.parametrize(("n1", "n0"), [(1, 4), (3, 3), (4, 6), (6, 5)])
def test_the_exact_test_counts_all_orders(n1, n0):
    """For every possible U; both tails and two-sided."""
    wins = np.zeros(n1 * n0 + 1)
    for places in combinations(range(n1 + n0), n1):
        wins[sum(places) - n1 * (n1 - 1) // 2] += 1
    wins /= wins.sum()
    y = np.arange(n0) * 10.0
    for u in range(n1 * n0 + 1):
        above = np.minimum(np.maximum(u - n0 * np.arange(n1), 0), n0)
        x = np.sort(10.0 * above - 5 + 0.5 * np.arange(n1))
        r = {a: ranks(x, y, alternative=a) for a in ALTERNATIVES}
        over, under = wins[u:].sum(), wins[: u + 1].sum()
        assert r["greater"].statistic == u
        assert r["greater"].p_value == pytest.approx(over, rel=1e-12)
        assert r["less"].p_value == pytest.approx(under, rel=1e-12)
        assert r["two-sided"].p_value == pytest.approx(min(1, 2 * min(over, under)), rel=1e-12)


@pytest.mark.parametrize("n", [1, 4, 9])
def test_signed_ranks_count_all_signs(n):
    """Every pattern of signs is equally likely."""
    sums = [sum(k for k, sign in enumerate(signs, 1) if sign) for signs in product((0, 1), repeat=n)]
    values = np.arange(1.0, n + 1) * np.where(np.arange(n) % 3 == 0, -1, 1)
    seen = values[values > 0].sum()
    over, under = np.mean(np.array(sums) >= seen), np.mean(np.array(sums) <= seen)
    assert signed_ranks(values).p_value == pytest.approx(min(1, 2 * min(over, under)), rel=1e-12)
    assert signed_ranks(values, alternative="greater").p_value == pytest.approx(over, rel=1e-12)


def test_ties_and_large_samples_take_the_corrected_normal():
    """Z with half a rank for continuity and the variance less its share of ties, as its formula says."""
    x, y = RNG.integers(0, 9, 70).astype(float), RNG.integers(1, 9, 60).astype(float)
    u = float(np.sum(np.subtract.outer(x, y) > 0) + 0.5 * np.sum(np.subtract.outer(x, y) == 0))
    _, times = np.unique(np.concatenate([x, y]), return_counts=True)
    variance = 70 * 60 / 12 * (131 - np.sum(times**3.0 - times) / (130 * 129))
    z = (abs(u - 2100) - 0.5) / np.sqrt(variance)
    r = ranks(x, y)
    assert abs(r.statistic) == pytest.approx(z, rel=1e-12)
    assert r.p_value == pytest.approx(float(mp.erfc(z / mp.sqrt(2))), rel=1e-11)
    assert r.effects["superiority"].value == pytest.approx(u / 4200, rel=1e-14)
    away = x - 4.0
    left = away[away != 0]
    sizes = np.abs(left)
    mean_ranks = np.array([np.mean(np.flatnonzero(np.sort(sizes) == s) + 1) for s in sizes])
    w, n = mean_ranks[left > 0].sum(), left.size
    _, times = np.unique(sizes, return_counts=True)
    variance = n * (n + 1) * (2 * n + 1) / 24 - np.sum(times**3.0 - times) / 48
    z = (abs(w - n * (n + 1) / 4) - 0.5) / np.sqrt(variance)
    assert abs(signed_ranks(x, null=4.0).statistic) == pytest.approx(z, rel=1e-12)
    assert "equal 4 and are left out" in signed_ranks(x, null=4.0).notes[0]


SIDE = st.lists(st.integers(-40, 40).map(lambda v: v / 4), min_size=1, max_size=40)


def at_ranks(whole, asked):
    """What stands at ranks from 1, each with the next."""
    return np.column_stack([whole[np.array(asked) - 1], whole[np.minimum(asked, whole.size - 1)]])


@given(SIDE, SIDE)
def test_ordered_differences_and_sums_are_those_of_all_pairs(x, y):
    """Whatever the ties: every rank asked for."""
    one, two = order.ordered(np.array(x)), order.ordered(np.array(y))
    whole = differences(x, y)
    asked = sorted({1, (whole.size + 1) // 2, whole.size})
    assert np.array_equal(order.ordered_differences(one, two, asked), at_ranks(whole, asked))
    sums = np.sort(np.add.outer(np.array(x), np.array(x))[np.triu_indices(len(x))])
    asked = sorted({1, (sums.size + 1) // 2, sums.size})
    assert np.array_equal(order.ordered_sums(one, asked), at_ranks(sums, asked))


@pytest.mark.parametrize("shape", ["continuous", "many zeros", "coarse"])
def test_ordered_differences_of_larger_samples(shape):
    """Where not all pairs are made: the same as making them."""
    x, y = RNG.lognormal(size=3_000), 1.1 * RNG.lognormal(size=2_000)
    if shape == "many zeros":
        x, y = np.where(RNG.random(3_000) < 0.5, 0, x), np.where(RNG.random(2_000) < 0.6, 0, y)
    if shape == "coarse":
        x, y = x.round(2), y.round(2)
    whole = differences(x, y)
    asked = [1, 77, whole.size // 4, whole.size // 2, whole.size * 9 // 10, whole.size]
    found = order.ordered_differences(order.ordered(x), order.ordered(y), asked)
    assert np.array(found) == pytest.approx(at_ranks(whole, asked), rel=1e-12, abs=1e-13)
    sums = np.sort(np.add.outer(y, y)[np.triu_indices(2_000)])
    asked = [3, sums.size // 3, sums.size // 2, sums.size - 5]
    assert np.array(order.ordered_sums(order.ordered(y), asked)) == pytest.approx(
        at_ranks(sums, asked), rel=1e-12, abs=1e-13
    )


@pytest.mark.parametrize("shape", ["lognormal", "standard_cauchy"])
def test_ordered_differences_of_long_samples_have_as_many_below_them_as_their_rank_says(shape):
    """Also where so many values are merged in parts, and some so far out that most of the range is empty."""
    x, y = getattr(RNG, shape)(size=200_000), getattr(RNG, shape)(size=150_000) + 0.2
    x[:50_000] = x[:50_000].round(1)
    y[:50_000] = (y[:50_000] - 0.2).round(1)
    ordered_x, ordered_y = np.sort(x), np.sort(y)
    asked = [x.size * y.size // 100, x.size * y.size // 2, x.size * y.size * 999 // 1_000]
    for rank, (at, after) in zip(
        asked, order.ordered_differences(order.ordered(x), order.ordered(y), asked), strict=True
    ):
        assert at <= after
        for value, place in ((at, rank), (after, rank + 1)):
            slack = 1e-12 * (1 + abs(value))
            below, upto = (int(np.searchsorted(ordered_x, ordered_y + value + s).sum()) for s in (-slack, slack))
            assert below < place <= upto


@given(
    st.lists(st.floats(-50, 50), min_size=3, max_size=30, unique=True),
    st.lists(st.floats(-50, 50), min_size=3, max_size=30, unique=True),
    st.sampled_from(ALTERNATIVES),
    st.floats(0.01, 0.3),
)
def test_shift_and_test_agree(x, y, alternative, alpha):
    """P < alpha exactly when the interval leaves out 0; the middle of all differences; swapping flips the sign."""
    r = ranks(Sample(x, "a"), Sample(y, "b"), alternative=alternative, alpha=alpha)
    assert (r.p_value < alpha) == (not r.interval.contains(0.0))
    assert r.estimate == pytest.approx(np.median(differences(x, y)), rel=1e-9, abs=1e-12)
    turned = {"greater": "less", "less": "greater"}.get(alternative, alternative)
    swapped = ranks(Sample(y, "b"), Sample(x, "a"), alternative=turned, alpha=alpha)
    assert (r.p_value, r.effects["superiority"].value) == pytest.approx(
        (swapped.p_value, 1 - swapped.effects["superiority"].value), rel=1e-9
    )
    one = signed_ranks(np.array(x), alternative=alternative, alpha=alpha)
    assert (one.p_value < alpha) == (not one.interval.contains(0.0))


def test_pairs_margins_and_separated_groups():
    """Signed ranks of pairs, the margin by shifted tests, and a superiority of 1 with an honest interval."""
    both = Pairs(RNG.normal(0.2, 1, 40), RNG.normal(0, 1, 40), ("after", "before"))
    r = signed_ranks(both, margin=0.6)
    assert r.p_value == signed_ranks(both.differences).p_value
    assert r.margin_tests["not_worse"].p_value == signed_ranks(both, null=-0.6, alternative="greater").p_value
    apart = ranks([5.0, 6, 7, 8], [1.0, 2, 3, 4], margin=1.0)
    limits = apart.effects["superiority"].interval
    assert (apart.effects["superiority"].value, limits.high) == (1.0, 1.0)
    assert limits.low == pytest.approx(0.025**0.25)
    assert "don't overlap" in apart.notes[0]
    shifted = ranks(np.array([5.0, 6, 7, 8]) + 1.0, [1.0, 2, 3, 4], alternative="greater").p_value
    assert apart.margin_tests["not_worse"].p_value == shifted


def test_coverage_of_the_superiority():
    """Over 1,000 samples of 30 and 40, 95 % intervals hold the truth within 4 Monte-Carlo errors of 94 %."""
    rng, held = np.random.default_rng(8), 0
    truth = float(mp.ncdf(0.5 / mp.sqrt(1 + 4)))
    for _ in range(1_000):
        r = ranks(rng.normal(0.5, 1, 30), rng.normal(0, 2, 40)).effects["superiority"].interval
        held += r.low <= truth <= r.high
    assert 0.94 - 4 * np.sqrt(0.05 * 0.95 / 1_000) < held / 1_000 < 0.98


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: ranks([2.0, 2.0], [2.0, 2.0]), "All 4 values are equal"),
        (lambda: signed_ranks([3.0, 3.0], null=3), "nothing to rank"),
        (lambda: ranks([], [1.0]), "empty"),
        (lambda: ranks([1.0, np.nan], [1.0]), "not finite"),
    ],
)
def test_what_has_no_order_is_said(call, says):
    """A group of ties only, nothing but zeros, no values."""
    with pytest.raises(DataError, match=says):
        call()


def test_a_shift_of_nothing_that_differs_all_the_same():
    """Nearly all values 0: limits and estimate are 0, and the test still knows more of them in one group."""
    few, more = np.r_[np.zeros(970), np.full(30, 2.0)], np.r_[np.zeros(920), np.full(80, 2.0)]
    for one, two, verdict in ((more, few, "better"), (few, more, "worse")):
        r = ranks(one, two)
        assert (r.p_value < 0.05, r.interval.contains(0.0)) == (True, False)
        assert r.interval.low <= r.interval.high
        assert (r.verdict, r.estimate) == (verdict, 0.0)
        assert f"{verdict}, a shift of 0 (95% interval next to" in " ".join(str(r).split())
        assert "e-324" not in str(r)
    above = str(ranks(more, few, alternative="greater"))
    assert "from above 0 up" in above


def test_values_left_out_of_signed_ranks_are_counted_by_name():
    """As values of their group, not as groups."""
    assert "3 values of group equal 0" in str(signed_ranks([0.0, 0.0, 0.0, 1.0, 2.5, -0.5, 3.0, 4.0]))


def kendall(x, y):
    """The definition, pair by pair."""
    n, s, tx, ty = len(x), 0, 0, 0
    for i in range(n):
        for j in range(i):
            a, b = np.sign(x[i] - x[j]), np.sign(y[i] - y[j])
            s, tx, ty = s + a * b, tx + (a != 0), ty + (b != 0)
    return s / np.sqrt(tx * ty), s


def test_kendalls_tau_is_its_definition_and_its_exact_p_takes_all_orders():
    """Ties and many units; all orders of seven; the normal approximation of a thousand against drawn orders."""
    rng = np.random.default_rng(6)
    for n, most in ((7, 100), (60, 5), (300, 1_000)):
        x = rng.integers(0, most, n).astype(float)
        y = np.round(x / 2 + rng.normal(0, most / 3, n))
        r = ar.measure.correlation(x, y, coefficient="kendall")
        assert r.estimate == pytest.approx(kendall(x, y)[0], rel=1e-12)
    x, y = np.array([1.0, 2, 3, 4, 5, 6, 7]), np.array([2.0, 1, 4, 3, 7, 5, 6])
    orders = {"kendall": lambda v: kendall(x, v)[1], "spearman": lambda v: float(np.dot(x, ranked(v)))}
    for values in (y, np.array([2.0, 1, 4, 4, 7, 5, 5])):
        for coefficient, order_ in orders.items():
            every = np.array([order_(np.array(v)) for v in itertools.permutations(values)])
            up, down = np.mean(every >= order_(values) - 1e-9), np.mean(every <= order_(values) + 1e-9)
            ask = {"coefficient": coefficient, "distribution": "exact"}
            both = ar.measure.correlation(x, values, **ask)
            assert both.p_value == pytest.approx(min(1, 2 * min(up, down)), rel=1e-12)
            one = ar.measure.correlation(x, values, **ask, alternative="greater")
            assert one.p_value == pytest.approx(up, rel=1e-12)
    a, b = rng.normal(size=40), rng.normal(size=40)
    ask = {"coefficient": "kendall"}
    exact, usual = (ar.measure.correlation(a, b, **ask, distribution=d).p_value for d in ("exact", "usual"))
    assert exact == pytest.approx(usual, abs=0.02)
    with pytest.raises(InputError, match="at most 9"):
        ar.measure.correlation(a, b, coefficient="spearman", distribution="exact")
    with pytest.raises(InputError, match="null = 0"):
        ar.measure.correlation(a, b, coefficient="kendall", distribution="exact", null=0.2)


def ranked(values):
    return np.array([np.sum(values < v) + (np.sum(values == v) + 1) / 2 for v in values])


def test_a_correlation_is_tested_against_any_other():
    """Pearson's p is that of the exact distribution, below alpha exactly where the interval leaves the null out."""
    rng = np.random.default_rng(7)
    x = rng.normal(size=30)
    y = 0.6 * x + rng.normal(size=30)
    for coefficient in ("pearson", "spearman", "kendall"):
        plain = ar.measure.correlation(x, y, coefficient=coefficient)
        for end, out in ((plain.interval.low, -1e-6), (plain.interval.high, 1e-6)):
            beyond, within = (ar.measure.correlation(x, y, coefficient=coefficient, null=end + d) for d in (out, -out))
            assert beyond.p_value < 0.05 < within.p_value
            assert not beyond.interval.contains(end + out)
    r = ar.measure.correlation(x, y, null=0.5, alternative="greater")
    drawn = []
    for _ in range(4_000):
        a = rng.normal(size=30)
        drawn.append(np.corrcoef(a, 0.5 * a + np.sqrt(0.75) * rng.normal(size=30))[0, 1])
    assert r.p_value == pytest.approx(np.mean(np.array(drawn) >= r.estimate), abs=4 * 0.5 / np.sqrt(4_000))
