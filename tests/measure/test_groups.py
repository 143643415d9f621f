"""Several groups and their pairs, against two-sample tests, exact fractions, closed testing and published tables."""

from fractions import Fraction
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import amber_ruler as ar
from amber_ruler import DataError, InputError, Pairs, Sample, Summary
from amber_ruler.measure import groups, means, pairs
from amber_ruler.numeric import dunnett, fisher, student, studentized
from truth import mp

RNG = np.random.default_rng(8)
SINGLE_STEP = ["games-howell", "tukey-kramer", "scheffe", "bonferroni", "sidak", "none"]
FOUR = [
    Summary(n, m, s, label)
    for n, m, s, label in ((12, 5.1, 1.1, "a"), (9, 6.3, 2.0, "b"), (30, 5.0, 0.8, "c"), (7, 8, 3, "d"))
]


def exact_f(samples):
    """F of the stored numbers, in fractions."""
    rows = [[Fraction(float(v)) for v in s] for s in samples]
    total, every = sum(len(r) for r in rows), [v for r in rows for v in r]
    grand = sum(every) / total
    means_ = [sum(r) / len(r) for r in rows]
    between = sum(len(r) * (m - grand) ** 2 for r, m in zip(rows, means_, strict=True)) / (len(rows) - 1)
    within = sum((v - m) ** 2 for r, m in zip(rows, means_, strict=True) for v in r) / (total - len(rows))
    return float(between / within)


@pytest.mark.parametrize(("offset", "digits"), [(0.0, 12), (1e6, 10), (1e12, 9)])
@pytest.mark.parametrize("size", [21, 201, 2_001])
def test_f_keeps_its_digits_far_from_zero(offset, digits, size):
    """Nine treatments around 1.4, 1.3, 1.5, 1.3, ..., whose values alternate by 0.1: the certified F is their size."""
    half = (size - 1) // 2
    samples = [
        Sample(offset + centre + np.array([0] + [-0.1, 0.1] * half), str(k))
        for k, centre in enumerate([1.4] + [1.3, 1.5] * 4)
    ]
    r = groups(samples, variances="equal")
    assert r.statistic == pytest.approx(exact_f([s.values for s in samples]), rel=10.0**-digits)
    if offset < 1e12:  # from there on the tenths themselves are rounded
        assert r.statistic == pytest.approx(size, rel=10.0**-digits)


@settings(deadline=None)
@given(
    st.tuples(*[st.lists(st.integers(-20, 20), min_size=3, max_size=8)] * 2).filter(
        lambda two: len(set(two[0])) > 1 and len(set(two[1])) > 1
    ),
    st.sampled_from(["unequal", "equal"]),
)
def test_two_groups_are_the_t_test_squared_whatever_the_pairwise_method(two, variances):
    """F is t squared with its p and degrees of freedom; every method for pairs then gives that interval."""
    a, b = (Sample(np.array(v, float), label) for v, label in zip(two, "ab", strict=True))
    t = means(a, b, variances=variances)
    r = groups([a, b], variances=variances)
    assert r.statistic == pytest.approx(t.statistic**2, rel=1e-9, abs=1e-12)
    assert r.df[1] == pytest.approx(t.df, rel=1e-9)
    assert r.p_value == pytest.approx(t.p_value, rel=1e-8)
    methods = ["holm", "hommel", "none", "games-howell" if variances == "unequal" else "tukey-kramer"]
    for found in [*(r.pairwise(m) for m in methods), r.against("b"), r.against("b", "step-down dunnett")]:
        assert found.correction.adjusted[0] == pytest.approx(t.p_value, rel=1e-8)
        assert (found.interval.low[0], found.interval.high[0]) == pytest.approx(
            (t.interval.low, t.interval.high), rel=1e-8, abs=1e-8
        )
    assert r.pairwise().effects["hedges_g"].value[0] == pytest.approx(t.effects["hedges_g"].value, rel=1e-9, abs=1e-12)


@settings(max_examples=30, deadline=None)
@given(
    st.lists(st.tuples(st.integers(2, 30), st.floats(-3, 3), st.floats(0.5, 3)), min_size=3, max_size=6),
    st.sampled_from(SINGLE_STEP),
    st.sampled_from(["unequal", "equal"]),
    st.floats(0.001, 0.3),
)
def test_an_adjusted_p_is_below_alpha_exactly_where_the_interval_leaves_out_zero(rows, method, variances, alpha):
    """For every single-step method, whatever the sizes and spreads; and adjusting never lowers a p-value."""
    r = groups([Summary(n, m, s, str(k)) for k, (n, m, s) in enumerate(rows)], variances=variances, alpha=alpha)
    for found in (r.pairwise(method), r.against("1")):
        outside = (found.interval.low > 0) | (found.interval.high < 0)
        assert (outside == found.correction.stands).all()
        assert np.all(found.correction.adjusted >= found.p_value * (1 - 1e-9))
        assert not any("by its steps" in note for note in found.notes)


@settings(max_examples=20, deadline=None)
@given(
    st.lists(
        st.lists(st.floats(-50, 50).map(lambda v: round(v, 2)), min_size=3, max_size=9), min_size=3, max_size=5
    ).filter(lambda rows: all(np.std(r) > 0.1 for r in rows)),
    st.floats(0.01, 100),
    st.floats(-1e3, 1e3),
    st.sampled_from([{}, {"variances": "equal"}, {"compare": "ranks"}]),
)
def test_units_and_order_change_nothing_but_the_scale(rows, scale, shift, how):
    """Another unit rescales differences and limits; turned signs and another order of groups only turn them."""
    named = {str(k): np.array(row) for k, row in enumerate(rows)}
    r = groups(named, **how)
    # Rounding may part or join values that were tied, so ranks keep to a shift of whole numbers.
    a, b = (1.0, round(shift)) if how.get("compare") else (scale, shift)
    moved = groups({label: a * v + b for label, v in named.items()}, **how)
    assert moved.statistic == pytest.approx(r.statistic, rel=1e-6)
    assert moved.effects["epsilon_squared"].value == pytest.approx(
        r.effects["epsilon_squared"].value, rel=1e-6, abs=1e-9
    )
    turned = groups({label: -named[label] for label in reversed(named)}, **how)
    assert turned.p_value == pytest.approx(r.p_value, rel=1e-8)
    one, other, back = r.pairwise(), moved.pairwise(), turned.pairwise()
    span = np.abs(one.estimate).max()
    assert other.estimate == pytest.approx(a * one.estimate, rel=1e-6, abs=1e-7 * a * (span + abs(b)))
    assert other.interval.high - other.interval.low == pytest.approx(
        a * (one.interval.high - one.interval.low), rel=1e-6
    )
    for k, label in enumerate(one.axis.labels):
        at = back.axis.labels.index(" − ".join(reversed(label.split(" − "))))
        # Both the sign of the values and the order within the pair have turned.
        assert back.estimate[at] == pytest.approx(one.estimate[k], rel=1e-9, abs=1e-9)
        assert back.correction.adjusted[at] == pytest.approx(one.correction.adjusted[k], rel=1e-7)
    assert sorted(back.correction.letters) == sorted(one.correction.letters)


def test_moments_summaries_and_samples_are_the_same_question():
    """Whichever door the groups come in by; a mapping's labels go before those of its samples."""
    values = {label: RNG.gamma(2, 10, n) for label, n in (("Amble", 40), ("Brae", 35), ("Cairn", 50))}
    sample = groups({label: Sample(v, "other") for label, v in values.items()})
    moments = groups([ar.Moments.from_arrays({"delay": v}, label=label) for label, v in values.items()])
    known = [Summary(v.size, v.mean(), v.std(ddof=1), label) for label, v in values.items()]
    for r in (moments, groups(known), groups(values)):
        assert r.statistic == pytest.approx(sample.statistic, rel=1e-10)
        assert [g.label for g in r.groups] == list(values)
    assert moments.metric == "delay"
    assert groups(values, metric="delay").title == "delay in 3 groups"
    empty = groups({"a": Sample([1, 2, np.nan], "a", missing="leave out"), "b": [2, 3], "c": [1, 5]})
    assert any(c.name == "missing values" for c in empty.checks)


def test_pairs_by_scheffe_cover_every_contrast():
    """Scheffé's p of the largest possible contrast is that of F itself; for pairs it is larger than Tukey's."""
    r = groups(FOUR, variances="equal")
    scheffe, tukey = r.pairwise("scheffe"), r.pairwise("tukey-kramer")
    assert np.all(scheffe.correction.adjusted >= tukey.correction.adjusted * (1 - 1e-9))
    n, m = (np.array([float(getattr(s, k)) for s in FOUR]) for k in ("n", "mean"))
    weights = n * (m - n @ m / n.sum())
    within = r.squares[1].squares / r.squares[1].df
    largest = (weights @ m) ** 2 / (within * np.sum(weights**2 / n)) / 3
    assert largest == pytest.approx(r.statistic)
    pair = (m[0] - m[1]) ** 2 / (within * (1 / n[0] + 1 / n[1])) / 3
    tail = mp.betainc(1.5, r.df[1] / 2, 3 * pair / (3 * pair + r.df[1]), 1, regularized=True)
    assert scheffe.correction.adjusted[0] == pytest.approx(float(tail), rel=1e-9)


@pytest.mark.parametrize("variances", ["unequal", "equal"])
def test_limits_lie_where_the_adjusted_p_is_alpha(variances):
    """The reach of each interval, put into the law of its own test, has the tail alpha."""
    r = groups(FOUR, variances=variances, alpha=0.03)

    def reach(found):
        return (found.interval.high - found.interval.low) / 2 / np.abs(found.estimate / found.statistic)

    for method in ("games-howell", "tukey-kramer"):
        found = r.pairwise(method)
        assert studentized.sf(np.sqrt(2) * reach(found), 4, found.df) == pytest.approx(0.03, rel=1e-9)
    found = r.pairwise("scheffe")
    assert fisher.sf(reach(found) ** 2 / 3, 3, found.df) == pytest.approx(0.03, rel=1e-9)
    for method, alone in (("bonferroni", 0.03 / 6), ("sidak", 1 - 0.97 ** (1 / 6)), ("none", 0.03)):
        found = r.pairwise(method)
        assert 2 * student.sf(reach(found), found.df) == pytest.approx(alone, rel=1e-9)
    found = r.against("c")
    v = np.array([s.sd**2 / s.n if variances == "unequal" else 1 / s.n for s in FOUR])
    loadings = np.sqrt(v[2] / (v[2] + v[[0, 1, 3]]))
    for c, df in zip(reach(found), found.df, strict=True):
        assert dunnett.sf(c, df, loadings, two_sided=True) == pytest.approx(0.03, rel=1e-9)


def test_classic_effects_and_squares_are_those_of_their_definitions():
    """By hand from the sums of squares."""
    values = [RNG.normal(m, 1, 15) for m in (0, 0.5, 1.2)]
    r = groups([Sample(v, str(k)) for k, v in enumerate(values)], variances="equal")
    every = np.concatenate(values)
    between = sum(15 * (v.mean() - every.mean()) ** 2 for v in values)
    within = sum(((v - v.mean()) ** 2).sum() for v in values)
    assert [row.squares for row in r.squares] == pytest.approx([between, within, between + within])
    square = within / 42
    share = r.effects["eta_squared"].value
    assert share == pytest.approx(between / (between + within))
    assert r.effects["epsilon_squared"].value == pytest.approx((between - 2 * square) / (between + within))
    assert r.effects["omega_squared"].value == pytest.approx((between - 2 * square) / (between + within + square))
    assert r.effects["cohen_f"].value == pytest.approx(np.sqrt(share / (1 - share)))


def test_kruskal_and_wallis_with_ties_from_the_ranks():
    """H by its definition, over the variance that ties leave; two groups are the squared z without continuity."""
    values = [RNG.integers(0, 6, n).astype(float) for n in (8, 11, 9)]
    every = np.concatenate(values)
    ranks = np.array([np.sum(every < v) + (np.sum(every == v) + 1) / 2 for v in every])
    parts = np.split(ranks, [8, 19])
    h = 27 * sum(len(p) * (p.mean() - 14.5) ** 2 for p in parts) / np.sum((ranks - 14.5) ** 2)
    r = groups([Sample(v, str(k)) for k, v in enumerate(values)], compare="ranks")
    assert r.statistic == pytest.approx(h, rel=1e-12)
    assert r.p_value == pytest.approx(float(mp.gammainc(1, h / 2, regularized=True)), rel=1e-10)
    assert r.effects["epsilon_squared"].value == pytest.approx(h / 27)
    z = r.pairwise("none").statistic
    spread = np.sum((ranks - 14.5) ** 2) / 27
    assert z[0] == pytest.approx((parts[0].mean() - parts[1].mean()) / np.sqrt(spread * (1 / 8 + 1 / 11)))


def test_the_same_units_under_each_condition():
    """Two conditions are the paired t; the correction of three is that of their covariance."""
    x = RNG.normal(size=(20, 3)) + RNG.normal(size=(20, 1)) + [0, 0.4, 0.9]
    a, b, c = (Sample(v, label) for v, label in zip(x.T, "abc", strict=True))
    two, t = groups([a, b], compare="same-units"), pairs(Pairs(x[:, 0], x[:, 1], ("a", "b")))
    assert two.statistic == pytest.approx(t.statistic**2)
    assert two.p_value == pytest.approx(t.p_value)
    assert two.facts["epsilon"] == 1
    r = groups([a, b, c], compare="same-units")
    contrasts = np.array([[1, -1, 0], [1, 1, -2]]) / np.sqrt([[2], [6]])
    spread = np.linalg.eigvalsh(contrasts @ np.cov(x, rowvar=False) @ contrasts.T)
    assert r.facts["epsilon"] == pytest.approx(spread.sum() ** 2 / (2 * (spread**2).sum()))
    found = r.pairwise("none")
    assert found.p_value[0] == pytest.approx(t.p_value)
    assert (found.interval.low[0], found.interval.high[0]) == pytest.approx((t.interval.low, t.interval.high))
    assert r.against("a").correction.adjusted == pytest.approx(r.against("a", "holm").correction.adjusted)
    for ask in (lambda: r.pairwise("tukey-kramer"), lambda: r.against("a", "dunnett")):
        with pytest.raises(InputError, match="independent groups"):
            ask()


# Published: Harter (1960) and Dunnett (1955, 1964), upper 5 % points.
@pytest.mark.parametrize(("k", "df", "point"), [(3, 10, 3.877), (20, np.inf, 5.012), (2, 5, 3.635), (10, 20, 5.008)])
def test_published_points_of_the_studentized_range(k, df, point):
    """To their printed digits, and back."""
    q = float(studentized.upper_quantile(0.05, k, df))
    assert q == pytest.approx(point, abs=6e-4)
    assert float(studentized.sf(q, k, df)) == pytest.approx(0.05, rel=1e-10)


@pytest.mark.parametrize(("k", "df", "two", "one"), [(3, 20, 2.54, 2.19), (2, 10, 2.57, 2.15)])
def test_published_points_of_dunnetts_distribution(k, df, two, one):
    """Groups as large as the control: to their printed digits."""
    loadings = np.full(k, np.sqrt(0.5))
    for two_sided, point in ((True, two), (False, one)):
        assert dunnett.critical(0.05, df, loadings, two_sided=two_sided) == pytest.approx(point, abs=6e-3)


@pytest.mark.parametrize("w", [0.3, 2.0, 5.0, 9.0])
@pytest.mark.parametrize("k", [3, 12, 200])
def test_the_range_of_normal_values_is_its_integral(w, k):
    """With no spread to estimate; and of two means the range is a t test at any distance."""

    def lost(z):
        return k * mp.npdf(z) * (mp.ncdf(z) ** (k - 1) - (mp.ncdf(z) - mp.ncdf(z - w)) ** (k - 1))

    expected = mp.quad(lost, [-9, -3, 0, 1, 2, 3, 4, 6, w / 2 + 6, w / 2 + 12])
    assert float(studentized.sf(w, k, np.inf)) == pytest.approx(float(expected), rel=1e-9)
    for df in (3.0, 47.0, 900.0):
        assert float(studentized.sf(w, 2, df)) == pytest.approx(2 * float(student.sf(w / np.sqrt(2), df)), rel=1e-10)


def test_the_studentized_range_averages_over_the_spread():
    """Gauss quadrature over the spread in place of the library's nodes, for many degrees of freedom."""
    x, weight = np.polynomial.legendre.leggauss(400)
    for df in (2.0, 9.0, 60.0, 4_000.0):
        low, high = max(0, 1 - 9 / np.sqrt(df)), 1 + 9 / np.sqrt(df)
        s = low + (high - low) * (x + 1) / 2
        log_density = (df - 1) * np.log(s) - df * s**2 / 2
        density = np.exp(log_density - log_density.max())
        inner = studentized.sf(3.1 * s, 5, np.inf)
        expected = (weight * density) @ inner / (weight @ density)
        assert float(studentized.sf(3.1, 5, df)) == pytest.approx(expected, rel=1e-9)


@pytest.mark.parametrize("two_sided", [True, False])
def test_dunnett_with_unequal_groups_against_simulation(two_sided):
    """The chance that any statistic is beyond 2.3, with its Monte-Carlo error."""
    n, df, draws = np.array([10, 20, 40]), 30, 400_000
    control = RNG.normal(size=draws) / np.sqrt(15)
    spread = np.sqrt(RNG.chisquare(df, draws) / df)
    t = (RNG.normal(size=(3, draws)) / np.sqrt(n)[:, None] - control) / np.sqrt(1 / n + 1 / 15)[:, None] / spread
    beyond = np.mean(np.max(np.abs(t) if two_sided else t, axis=0) > 2.3)
    chance = dunnett.sf(2.3, df, np.sqrt(n / (n + 15)), two_sided=two_sided)
    assert abs(chance - beyond) < 4 * np.sqrt(chance / draws)


def test_step_down_dunnett_is_closed_testing():
    """A group's adjusted p is the largest over all sets of treatments that hold it."""
    r = groups(FOUR, variances="equal")
    found = r.against("a", "step-down dunnett")
    n = np.array([9, 30, 7])
    loadings, t, df = np.sqrt(n / (n + 12)), np.abs(found.statistic), found.df[0]
    sets = [list(c) for size in (1, 2, 3) for c in combinations(range(3), size)]
    for i in range(3):
        expected = max(dunnett.sf(t[c].max(), df, loadings[c], two_sided=True) for c in sets if i in c)
        assert found.correction.adjusted[i] == pytest.approx(expected, rel=1e-9)
    assert np.all(found.correction.adjusted <= r.against("a").correction.adjusted * (1 + 1e-12))
    greater, less = (r.against("a", alternative=side) for side in ("greater", "less"))
    assert np.all(np.isinf(greater.interval.high))
    assert np.all(np.isinf(less.interval.low))
    assert greater.p_value + less.p_value == pytest.approx(1)


@settings(deadline=None)
@given(st.lists(st.integers(-6, 6), min_size=2, max_size=7), st.floats(0.3, 4))
def test_groups_share_a_letter_exactly_where_they_are_not_told_apart(levels, sd):
    """Whatever the pattern of differences, and no letter holds another."""
    r = groups([Summary(6 + k, m, sd, str(k)) for k, m in enumerate(levels)], variances="equal").pairwise()
    letters = r.correction.letters
    for label, differ in zip(r.axis.labels, r.correction.stands, strict=True):
        one, two = label.split(" − ")
        assert bool(set(letters[one]) & set(letters[two])) != differ
    assert all(letters.values())


def test_the_sentences_say_no_more_than_was_found():
    """Nothing overall is said first; one group that stands out is named; the others are not called equal."""
    none = groups([Summary(30, m, 1, str(m)) for m in (1.0, 1.1, 0.9)])
    assert "is not shown" in none.sentence()
    assert "differ" not in none.pairwise().verdict
    out = groups([Summary(30, m, 1, label) for m, label in ((1, "a"), (1.1, "b"), (4, "far"))]).pairwise()
    assert out.sentence() == (
        "value: 2 of 3 pairs differ after Games–Howell: a − far, b − far; far from every other group. Of the rest a"
        " difference is not shown, nor that there is none."
    )
    holm = groups(FOUR).pairwise("holm")
    order = [g.label for g in groups(FOUR).groups]
    assert holm.axis.labels == tuple(f"{a} − {b}" for k, a in enumerate(order) for b in order[k + 1 :])
    assert holm.to_frame()["adjusted"].tolist() == holm.correction.adjusted.tolist()
    assert [text.get_text() for text in out.plot().texts].count("≠ differ") == 2


def test_what_decides_is_said():
    """The other choice of variances, spreads that differ, few units, too many groups."""
    apart = [Summary(5, 0, 1, "a"), Summary(60, 1.5, 4, "b"), Summary(6, 3, 1, "c")]
    equal = groups(apart, variances="equal")
    assert any("choice of variances decides" in n for n in equal.notes)
    assert [c.name for c in equal.checks] == ["group sizes", "spreads"]
    many = groups([Summary(50, 0.1 * k, 1, str(k)) for k in range(201)])
    assert "20,100 pairs" in many.checks[0].finding


@pytest.mark.parametrize(
    ("samples", "options", "kind", "words"),
    [
        ([[1, 2, 3]], {}, InputError, "at least 2 groups"),
        ([Sample([1, 2], "a"), Sample([1, 3], "a")], {}, InputError, "both labelled 'a'"),
        ({"a": [1.0], "b": [2, 3], "c": [1, 4]}, {}, DataError, "'a' has 1 unit"),
        ({"a": [1, 1], "b": [2, 3]}, {}, DataError, "'a' equals the others"),
        ({"a": [1, 1], "b": [1, 1]}, {}, DataError, "no test"),
        ({"a": [1, 1], "b": [1, 1]}, {"compare": "ranks"}, DataError, "no order"),
        ({"a": [1, 2], "b": [1, 2, 3]}, {"compare": "same-units"}, DataError, "every unit"),
        ({"a": [1, 2], "b": [2, 3]}, {"compare": "same-units"}, DataError, "change alike"),
        ({"a": [1, np.nan], "b": [2, 3]}, {}, DataError, "values"),
        ({"a": [1, 2], "b": [2, 3]}, {"variances": "welch"}, InputError, "variances"),
        ([Summary(5, [1, 2], 1, "a"), Summary(5, 1, 1, "b")], {}, InputError, "one number"),
        (
            {"a": [1, 2], "b": [2, 3]},
            {"compare": "ranks", "variances": "equal"},
            InputError,
            "variances='equal' says nothing",
        ),
    ],
)
def test_bad_input_is_named(samples, options, kind, words):
    """What is wrong, and what to do."""
    with pytest.raises(kind, match=words):
        groups(samples, **options)


def test_a_group_of_one_counts_where_the_spread_is_shared():
    """The classic F takes it; unknown names of methods and controls are named."""
    r = groups({"a": [1.0], "b": [2, 3], "c": [1, 4]}, variances="equal")
    assert r.df[1] == 2
    assert r.pairwise().correction.adjusted.shape == (3,)
    with pytest.raises(InputError, match="Did you mean 'tukey-kramer'"):
        r.pairwise("tukey-kramr")
    with pytest.raises(InputError, match="control"):
        r.against("z")


def test_units_are_aligned_from_a_long_table():
    """The same order of units under each condition, those without every condition left out and counted."""
    table = ar.table(ar.demo.path("turnarounds"))
    sides = table.samples("minutes", by="when", unit="vessel")
    both = table.pairs("minutes", by="when", unit="vessel", control="before")
    assert sides["after"].values.tolist() == both.treatment.tolist()
    assert sides["before"].missing == both.left_out == 1


def test_contrasts_by_their_definitions():
    """Weights 1 and −1 are the pair; the sharpest contrast of all has the overall p of Scheffé; units by themselves."""
    values = {label: RNG.normal(mean, 2, n) for label, mean, n in (("a", 5, 9), ("b", 7, 14), ("c", 5.5, 11))}
    pair = {"a − b": {"a": 1, "b": -1}, "a − c": [1, 0, -1], "b − c": [0, 1, -1]}
    for settings_ in ({"variances": "unequal"}, {"variances": "equal"}, {"compare": "ranks"}):
        found = groups(values, **settings_)
        ours, theirs = found.contrasts(pair, "hommel"), found.pairwise("hommel")
        assert ours.axis.labels == theirs.axis.labels
        for name in ("estimate", "se", "df", "p_value"):
            np.testing.assert_allclose(getattr(ours, name), getattr(theirs, name), rtol=1e-12)
        np.testing.assert_allclose(ours.correction.adjusted, theirs.correction.adjusted, rtol=1e-12)
        np.testing.assert_allclose(ours.interval.low, theirs.interval.low, rtol=1e-12)
    equal = groups(values, variances="equal")
    n, mean = (np.array([f(v) for v in values.values()]) for f in (len, np.mean))
    sharpest = equal.contrasts({"any": n * (mean - n @ mean / n.sum())})
    assert sharpest.correction.adjusted[0] == pytest.approx(equal.p_value, rel=1e-10)
    assert sharpest.statistic[0] ** 2 == pytest.approx(2 * equal.statistic, rel=1e-10)
    same = {label: RNG.normal(mean, 1, 12) for label, mean in (("a", 0), ("b", 0.5), ("c", 2))}
    each = same["c"] - 0.25 * same["a"] - 0.75 * same["b"]
    one = groups(same, compare="same-units").contrasts({"c": [-0.25, -0.75, 1]}, "none", alternative="greater")
    t = each.mean() / (each.std(ddof=1) / np.sqrt(12))
    assert (one.statistic[0], one.df[0]) == (pytest.approx(t), 11)
    assert one.p_value[0] == pytest.approx(student.sf(t, 11))
    assert one.interval.low[0] == pytest.approx(each.mean() * (1 - student.upper_quantile(0.05, 11) / t))
    assert one.interval.high[0] == np.inf


@pytest.mark.parametrize(
    ("weights", "more", "says"),
    [
        ({"w": [1, 1, 1, 1]}, {}, "add up to 0"),
        ({"w": [1, -1]}, {}, "one for each of the 4 groups"),
        ({"w": {"a": 1, "z": -1}}, {}, "'z' is not there"),
        ({}, {}, "at least one name"),
        ({"w": [1, -1, 0, 0]}, {"alternative": "less"}, "two sides"),
        ({"w": [1, -1, 0, 0]}, {"method": "tukey-kramer"}, "scheffe"),
    ],
)
def test_contrasts_that_say_nothing_are_refused(weights, more, says):
    """With what is wrong."""
    with pytest.raises(InputError, match=says):
        groups(FOUR).contrasts(weights, **more)


@given(st.integers(2, 30), st.integers(2, 5), st.integers(0, 10**6), st.sampled_from([2, 5, 10**6]))
def test_ranks_within_units_by_their_definition(n, k, seed, kinds):
    """Q from sums of ranks with ties (Conover 1999), of two conditions the squared sign test."""
    x = np.random.default_rng(seed).integers(0, kinds, (n, k)).astype(float)
    samples = {f"c{j}": x[:, j] for j in range(k)}
    placed = np.array([[np.sum(row < v) + (np.sum(row == v) + 1) / 2 for v in row] for row in x])
    total, square = placed.sum(axis=0), np.sum(placed**2)
    if square == n * k * (k + 1) ** 2 / 4:
        with pytest.raises(DataError, match="no order"):
            groups(samples, compare="same-units-ranks")
        return
    r = groups(samples, compare="same-units-ranks")
    q = (k - 1) * np.sum((total - n * (k + 1) / 2) ** 2) / (square - n * k * (k + 1) ** 2 / 4)
    assert r.statistic == pytest.approx(q, rel=1e-10, abs=1e-10)
    assert r.p_value == pytest.approx(
        float(mp.gammainc((k - 1) / mp.mpf(2), mp.mpf(q) / 2, regularized=True)), rel=1e-9
    )
    assert r.facts["kendall_w"] == pytest.approx(q / (n * (k - 1)), abs=1e-12)
    won, lost = np.sum(x[:, 0] > x[:, 1]), np.sum(x[:, 0] < x[:, 1])
    if k == 2:
        assert r.statistic == pytest.approx((won - lost) ** 2 / (won + lost))
        assert r.pairwise("none").p_value[0] == pytest.approx(r.p_value, rel=1e-9)
    if kinds > 5 and len(set(map(len, map(set, x)))) == 1 and len(set(x[0])) == k:  # no ties
        assert r.statistic == pytest.approx(12 / (n * k * (k + 1)) * np.sum(total**2) - 3 * n * (k + 1), abs=1e-8)
        assert r.pairwise("none").se[0] == pytest.approx(np.sqrt(k * (k + 1) / (6 * n)))


def test_huynh_and_feldt_by_their_formula():
    """Nearer to 1 than Greenhouse and Geisser's epsilon, and never above it."""
    x = RNG.normal(0, 1, (9, 4)) + RNG.normal(0, 1, (9, 1)) * np.array([0, 0.5, 1, 2]) + np.arange(4)
    r = groups({f"c{j}": x[:, j] for j in range(4)}, compare="same-units")
    epsilon = r.facts["epsilon"]
    expected = min(1, (9 * 3 * epsilon - 2) / (3 * (8 - 3 * epsilon)))
    assert r.facts["huynh_feldt_epsilon"] == pytest.approx(expected)
    assert r.facts["huynh_feldt_p"] == pytest.approx(float(fisher.sf(r.statistic, 3 * expected, 24 * expected)))
    assert r.facts["uncorrected_p"] <= r.facts["huynh_feldt_p"] <= r.p_value
