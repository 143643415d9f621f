"""Tables of counts against definitions, enumeration and published examples."""

from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import amber_ruler as ar
from amber_ruler import Counts, CountTable, DataError, InputError
from amber_ruler.measure import goodness_of_fit, independence, proportions
from amber_ruler.numeric import divergence
from truth import mp

TICKETS = [[437, 120, 263], [301, 71, 138], [243, 66, 121], [120, 80, 100]]
tables = st.lists(st.lists(st.integers(1, 40), min_size=3, max_size=3), min_size=2, max_size=4)


def multinomial(counts, chances):
    """Chance of counts, in high precision."""
    value = mp.factorial(sum(counts))
    for c, p in zip(counts, chances, strict=True):
        value *= mp.mpf(p) ** c / mp.factorial(c)
    return value


@settings(deadline=None)
@given(tables, st.sampled_from(["chi-square", "g", "freeman-tukey", "cressie-read"]))
def test_statistics_are_their_definitions(o, statistic):
    """From the power divergence as it is written, and the tail in high precision."""
    o = np.array(o, dtype=float)
    expected = np.outer(o.sum(axis=1), o.sum(axis=0)) / o.sum()
    power = {"chi-square": 1, "freeman-tukey": -0.5, "cressie-read": 2 / 3}.get(statistic)
    if power is None:
        value = 2 * np.sum(o * np.log(o / expected))
    else:
        value = 2 / (power * (power + 1)) * np.sum(o * ((o / expected) ** power - 1))
    r = independence(o, test="asymptotic", statistic=statistic)
    assert r.statistic == pytest.approx(value, rel=1e-9, abs=1e-11)
    assert r.df == (len(o) - 1) * 2
    assert r.p_value == pytest.approx(float(mp.gammainc(r.df / 2, r.statistic / 2, regularized=True)), rel=1e-9)
    assert r.contributions.sum() == pytest.approx(np.sum((o - expected) ** 2 / expected))
    turned = independence(o.T, test="asymptotic", statistic=statistic)
    assert turned.statistic == pytest.approx(r.statistic, rel=1e-9, abs=1e-12)
    assert np.allclose(turned.residuals.T, r.residuals)


@settings(deadline=None)
@given(st.lists(st.integers(1, 60), min_size=4, max_size=4))
def test_two_by_two_is_the_test_of_two_shares(cells):
    """Chi-square is the pooled z squared, every residual is that z, and the trend too; the exact test is Fisher's."""
    a, b, c, d = cells
    r = independence([[a, b], [c, d]], test="asymptotic")
    two = proportions(Counts(a, a + b, "x"), Counts(c, c + d, "y"))
    assert r.statistic == pytest.approx(two.statistic**2, rel=1e-9, abs=1e-12)
    assert r.p_value == pytest.approx(two.p_value, rel=1e-9)
    assert np.abs(r.residuals) == pytest.approx(abs(two.statistic), rel=1e-7, abs=1e-9)
    trend = independence([[a, b], [c, d]], test="trend")
    assert abs(trend.statistic) == pytest.approx(abs(two.statistic), rel=1e-9, abs=1e-9)
    exact = independence([[a, b], [c, d]], test="exact")
    fisher = proportions(Counts(a, a + b, "x"), Counts(c, c + d, "y"), test="exact")
    assert exact.p_value == pytest.approx(fisher.p_value, rel=1e-12)


@settings(deadline=None)
@given(tables, st.integers(2, 9))
def test_more_of_the_same_is_stronger_evidence_of_the_same_strength(o, times):
    """Counts so many times as large: chi-square grows as much, V stays; the order of rows and columns says nothing."""
    o = np.array(o)
    once, often = (independence(t, test="asymptotic") for t in (o, times * o))
    assert often.statistic == pytest.approx(times * once.statistic, rel=1e-9, abs=1e-9)
    assert often.effects["cramers_v"].value == pytest.approx(once.effects["cramers_v"].value, rel=1e-9, abs=1e-7)
    mixed = independence(o[::-1, [2, 0, 1]], test="asymptotic")
    assert mixed.p_value == pytest.approx(once.p_value, rel=1e-9)
    assert np.allclose(mixed.residual_p, once.residual_p[::-1, [2, 0, 1]])
    assert once.expected.sum() == pytest.approx(o.sum())
    assert np.allclose((o - once.expected).sum(axis=0), 0)


def test_corrections_are_their_formulas():
    """Yates, Williams, and (n - 1)/n; and where they don't belong."""
    o = np.array([[30.0, 10], [20, 40]])
    n, a, b, c, d = 100, 30, 10, 20, 40
    yates = n * (abs(a * d - b * c) - n / 2) ** 2 / (40 * 60 * 50 * 50)
    assert independence(o, continuity="half").statistic == pytest.approx(yates)
    assert independence(o, correction="n-1").statistic == pytest.approx(0.99 * n * (a * d - b * c) ** 2 / 6e6)
    q = 1 + (n * (1 / 40 + 1 / 60) - 1) * (n * (1 / 50 + 1 / 50) - 1) / (6 * n)
    g = independence(o, statistic="g")
    assert independence(o, statistic="g", correction="williams").statistic == pytest.approx(g.statistic / q)
    for correction, statistic, words in (("williams", "chi-square", "'g'"), ("n-1", "g", "chi-square")):
        with pytest.raises(InputError, match=words):
            independence(o, correction=correction, statistic=statistic)
    with pytest.raises(InputError, match="two by two"):
        independence(TICKETS, continuity="half")


def test_strength_and_residuals_of_the_tickets():
    """Cramér's V, Bergsma's correction and Haberman's residuals by hand; the figure and the text mark the cells."""
    o = np.array(TICKETS, dtype=float)
    r = independence(CountTable(o, tuple("GMST"), ("foot", "bicycle", "car"), "port", "ticket"))
    n, chi = 2060, r.statistic
    assert r.effects["cramers_v"].value == pytest.approx(np.sqrt(chi / n / 2))
    rest, sides = chi / n - 6 / (n - 1), [k - (k - 1) ** 2 / (n - 1) for k in (4, 3)]
    assert r.effects["cramers_v_corrected"].value == pytest.approx(np.sqrt(rest / (min(sides) - 1)))
    row, column = o.sum(axis=1)[3] / n, o.sum(axis=0)[1] / n
    by_hand = (80 - n * row * column) / np.sqrt(n * row * column * (1 - row) * (1 - column))
    assert r.residuals[3, 1] == pytest.approx(by_hand)
    assert "more bicycle in T" in r.sentence()
    assert "▲" in str(r)
    assert r.to_frame().shape == (12, 9)
    assert len(r.plot().texts) == 13  # with the line under the title


def test_a_drawn_exact_test_is_close_to_enumeration():
    """All tables with the same margins, by brute force; the error said is the error made."""
    o = np.array([[3, 1, 4], [0, 5, 1], [2, 2, 0]])
    row, column = o.sum(axis=1), o.sum(axis=0)

    def weight(t):
        return mp.mpf(1) / mp.fprod(mp.factorial(int(c)) for c in np.ravel(t))

    total = unlikely = mp.mpf(0)
    for a, b, c, d in product(range(9), repeat=4):
        t = np.array([[a, b, row[0] - a - b], [c, d, row[1] - c - d], [0, 0, 0]])
        t[2] = column - t[0] - t[1]
        if (t >= 0).all():
            total += weight(t)
            unlikely += weight(t) if weight(t) <= weight(o) * (1 + 1e-9) else 0
    r = independence(o, seed=4)
    assert r.seed == 4
    assert r.test.p_error > 0
    assert abs(r.p_value - float(unlikely / total)) < 4 * r.test.p_error
    assert "exact" in r.method
    assert independence(o, seed=4).p_value == r.p_value


@pytest.mark.parametrize(("counts", "planned"), [([3, 1, 2], None), ([0, 4, 1, 1], [1, 2, 3, 4]), ([7, 0], [0.3, 0.7])])
def test_exact_shares_equal_enumeration(counts, planned):
    """All outcomes no likelier than the counts; a drawn one lies within its error."""
    chances = np.array(planned or [1] * len(counts), dtype=float)
    chances /= chances.sum()
    own, expected = multinomial(counts, chances), mp.mpf(0)
    for outcome in product(range(sum(counts) + 1), repeat=len(counts)):
        if sum(outcome) == sum(counts):
            chance = multinomial(outcome, chances)
            expected += chance if chance <= own * (1 + mp.mpf(10) ** -9) else 0
    r = goodness_of_fit(counts, expected=planned, test="exact")
    assert r.p_value == pytest.approx(float(expected), rel=1e-10)
    drawn = divergence.drawn_shares(np.array(counts, float), chances, 50_000, np.random.default_rng(1))
    assert abs(drawn - float(expected)) < 4 * np.sqrt(float(expected * (1 - expected)) / 50_000) + 3e-5


def test_mendels_peas():
    """Published: 315, 108, 101, 32 against 9 : 3 : 3 : 1, chi-square 0.470 with 3 degrees of freedom, p 0.925."""
    peas = {"round yellow": 315, "wrinkled yellow": 101, "round green": 108, "wrinkled green": 32}
    r = goodness_of_fit(peas, expected=dict(zip(peas, (9, 3, 3, 1), strict=True)))
    assert (round(r.statistic, 3), round(r.p_value, 3)) == (0.470, 0.925)
    assert "is not shown" in r.sentence()
    assert np.all((r.low <= r.counts / 556) & (r.counts / 556 <= r.high))
    assert goodness_of_fit(peas, statistic="g").statistic == pytest.approx(
        2 * sum(c * np.log(c / 139) for c in peas.values())
    )


def test_a_trend_along_ordered_kinds():
    """Cochran and Armitage: n times the squared correlation of score and outcome."""
    o, at = np.array([[10, 40], [18, 42], [30, 40]]), np.array([0, 1, 4])
    r = independence(o, test="trend", scores=at)
    score, outcome = np.repeat(at, 2).repeat(o.ravel()), np.tile([1, 0], 3).repeat(o.ravel())
    assert r.statistic == pytest.approx(np.sqrt(180) * np.corrcoef(score, outcome)[0, 1])
    assert independence(o.T, test="trend", scores=at).statistic == pytest.approx(r.statistic)
    for bad, words in (({"scores": [1, 1, 1]}, "no order"), ({"scores": [1, 2]}, "3 values")):
        with pytest.raises(InputError, match=words):
            independence(o, test="trend", **bad)
    with pytest.raises(InputError, match="two rows or two columns"):
        independence(TICKETS, test="trend")


@pytest.mark.parametrize(
    ("call", "kind", "words"),
    [
        (lambda: independence([[0.2, 0.8], [0.5, 0.5]]), InputError, "not shares"),
        (lambda: independence([[-1, 2], [3, 4]]), InputError, "at least 0"),
        (lambda: independence([[0, 0], [3, 4]]), DataError, "row '1' has no unit"),
        (lambda: independence([[0, 3], [0, 4]]), DataError, "column '1'"),
        (lambda: independence([[1, 2]]), InputError, "at least 2 rows"),
        (lambda: independence([[1, 2], [3, 4]], test="exactly"), InputError, "Did you mean 'exact'"),
        (lambda: goodness_of_fit([0.3, 0.7]), InputError, "not shares"),
        (lambda: goodness_of_fit([5]), InputError, "at least 2 kinds"),
        (lambda: goodness_of_fit([0, 0]), DataError, "nothing to compare"),
        (lambda: goodness_of_fit({"a": 3, "b": 4}, expected={"a": 1, "c": 1}), InputError, "a, c"),
        (lambda: goodness_of_fit([3, 4], expected=[1, 0]), InputError, "above 0"),
        (lambda: goodness_of_fit([3, 4], expected=[1, 2, 3]), InputError, "2 shares"),
    ],
)
def test_bad_input_is_named(call, kind, words):
    """What is wrong, and what to do."""
    with pytest.raises(kind, match=words):
        call()


def test_small_expected_counts_are_said_and_tested_exactly():
    """A warning, and the exact test unless another is asked for."""
    r = independence([[3, 1], [0, 5]])
    assert (r.checks[0].name, r.statistic) == ("expected counts", None)
    assert independence([[3, 1], [0, 5]], test="asymptotic").statistic == pytest.approx(5.625)
    assert independence([[30, 10], [20, 40]]).checks == ()


def test_counts_come_from_rows_from_a_counted_table_and_from_a_table_of_counts(tmp_path):
    """Whichever way they are written down."""
    counted = ar.table(ar.demo.path("tickets")).counts(row="port", column="ticket", count="count")
    assert counted.counts.sum(axis=1).tolist() == [820, 510, 430, 300]
    (tmp_path / "wide.csv").write_text("port,foot,car\nGullhaven,30,20\nTern Quay,10,40\n")
    wide = ar.table(tmp_path / "wide.csv").counts()
    assert (wide.rows, wide.columns, wide.counts.tolist()) == (
        ("Gullhaven", "Tern Quay"),
        ("foot", "car"),
        [[30, 20], [10, 40]],
    )
    with pytest.raises(InputError, match="both row and column"):
        ar.table(tmp_path / "wide.csv").counts(row="port")


def test_an_empty_cell_has_a_freeman_tukey_statistic():
    """4 Σ (√seen − √expected)², which an empty cell adds to by what was expected."""
    seen = np.array([[0.0, 5.0, 2.0], [3.0, 0.0, 4.0]]) * 20
    expected = seen.sum(axis=1, keepdims=True) * seen.sum(axis=0) / seen.sum()
    r = independence(seen, statistic="freeman-tukey", test="asymptotic")
    assert r.statistic == pytest.approx(4 * np.sum((np.sqrt(seen) - np.sqrt(expected)) ** 2), rel=1e-12)


def test_an_exact_test_of_too_many_tables_is_refused_with_what_to_ask():
    """Before any memory is taken."""
    with pytest.raises(InputError, match="take the score test"):
        independence([[715479116, 529875807], [28458643, 648817479]], test="exact")
    with pytest.raises(InputError, match="take the score test"):
        proportions(Counts(7 * 10**8, 10**9), Counts(6 * 10**8, 10**9), test="exact")
