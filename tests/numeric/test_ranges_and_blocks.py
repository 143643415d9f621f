"""Simultaneous distributions between their bounds, noncentral limits at their edge, counts drawn, work in blocks."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_ruler.numeric import blocks, chisquare, divergence, dunnett, fisher, student, studentized, tables

DF = st.floats(1, 1e5) | st.just(np.inf)


@settings(deadline=None, max_examples=40)
@given(st.floats(1e-9, 0.4), st.integers(2, 60), DF)
def test_the_range_lies_between_one_pair_and_the_sum_of_all(alpha, k, df):
    """Its quantile gives back the tail; one pair has less of it, all pairs added up have more; more means have more."""
    q = float(studentized.upper_quantile(alpha, k, df))
    assert float(studentized.sf(q, k, df)) == pytest.approx(alpha, rel=1e-9)
    pair = float(studentized.sf(q, 2, df))
    assert pair <= alpha * (1 + 1e-8)
    assert alpha <= k * (k - 1) / 2 * pair * (1 + 1e-8)
    assert float(studentized.sf(q, k + 1, df)) > alpha


def test_the_range_at_its_ends_and_in_arrays():
    """Never below 0 is certain, far out nothing is left, and an array is its elements."""
    assert studentized.sf([-1.0, 0.0], 4, 9.0).tolist() == [1.0, 1.0]
    assert 0 < float(studentized.sf(200.0, 4, 9.0)) < 1e-8
    q, df = np.array([[1.0], [3.0], [6.0]]), np.array([4.0, 70.0, np.inf])
    together = studentized.sf(q, 5, df)
    assert together.shape == (3, 3)
    for i, j in np.ndindex(3, 3):
        assert together[i, j] == pytest.approx(float(studentized.sf(q[i, 0], 5, df[j])), rel=1e-12)
    for t in (2.0, 30.0, 500.0, 1e4):  # of two means it is the t test, however far out
        for few in (1.0, 3.0, 40.0):
            assert float(studentized.sf(t * np.sqrt(2), 2, few)) == pytest.approx(
                2 * float(student.sf(t, few)), rel=1e-9
            )
    many = studentized.upper_quantile(np.full(600, 0.05), 5, np.linspace(3, 900, 600))
    assert np.all(np.diff(many) < 0)


@settings(deadline=None, max_examples=40)
@given(
    st.lists(st.floats(0.02, 0.999), min_size=1, max_size=8),
    st.floats(0.1, 9),
    DF,
    st.booleans(),
)
def test_dunnett_lies_between_the_widest_and_the_sum(loadings, c, df, two_sided):
    """More than any one has, less than all together; leaving one out takes some away; the order says nothing."""
    each = float(np.ravel(student.sf(c, min(df, 1e15)))[0]) * (2 if two_sided else 1)
    loadings = np.array(loadings)
    found = dunnett.sf(c, df, loadings, two_sided=two_sided)
    assert each * (1 - 1e-9) <= found <= loadings.size * each * (1 + 1e-9)
    assert dunnett.sf(c, df, loadings[::-1], two_sided=two_sided) == pytest.approx(found, rel=1e-12)
    assert dunnett.sf(c, df, loadings[:-1], two_sided=two_sided) <= found if loadings.size > 1 else True
    chance = min(found, 0.4)
    if chance > 1e-12:
        limit = dunnett.critical(chance, df, loadings, two_sided=two_sided)
        assert dunnett.sf(limit, df, loadings, two_sided=two_sided) == pytest.approx(chance, rel=1e-9)


@given(st.floats(0, 1), st.integers(1, 20), st.integers(3, 500))
def test_a_statistic_that_shows_nothing_has_limits_from_zero(share, df1, df2):
    """Where even no effect makes an F or chi-square likelier than the tail, the lower limit is 0, and found at once."""
    f = share * float(fisher.quantile(0.97, df1, df2))
    low, high = fisher.noncentrality_bounds(f, df1, df2, 0.025, 0.025)
    assert float(low) == 0
    if high > 0:
        assert float(fisher.noncentral_cdf(f, df1, df2, high)) == pytest.approx(0.025, rel=1e-8)
    x = share * float(chisquare.quantile(0.97, df1))
    low, high = chisquare.noncentrality_bounds(np.array([x, x + 60]), np.full(2, float(df1)), 0.025, 0.025)
    assert low[0] == 0 < low[1]
    assert float(chisquare.noncentral_sf(x + 60, df1, low[1])) == pytest.approx(0.025, rel=1e-8)


@settings(deadline=None, max_examples=20)
@given(st.lists(st.integers(0, 9), min_size=4, max_size=4).filter(lambda c: c[0] + c[1] > 0 < c[2] + c[3]))
def test_drawn_tables_are_close_to_fisher(cells):
    """Two by two, where the exact chance is known: within four Monte-Carlo errors."""
    a, b, c, d = cells
    exact = tables.fisher_tails(a, a + b, c, c + d)[2]
    drawn = divergence.drawn_tables(np.array([[a, b], [c, d]], dtype=float), 4_000, np.random.default_rng(a + 31 * d))
    assert abs(drawn - exact) <= 4 * np.sqrt(exact * (1 - exact) / 4_000) + 1e-3


@pytest.mark.parametrize(("n", "k"), [(0, 3), (4, 1), (5, 3), (7, 4)])
def test_compositions_are_all_ways(n, k):
    """As many as there are, each adding up, none twice."""
    found = divergence.compositions(n, k)
    assert len(found) == divergence.ways(n, k) == len({tuple(row) for row in found})
    assert np.all(found.sum(axis=1) == n)


@pytest.mark.parametrize("size", [0, 1, 7, 100, 1_001])
def test_blocks_cover_every_row_once_and_hand_errors_on(size):
    """In one thread or in several; what goes wrong in one is raised."""
    seen = np.zeros(size)

    def work(part):
        seen[part] += 1

    blocks.in_blocks(work, size, 10)
    assert np.all(seen == 1)

    def fails(part):
        if part.stop >= size:
            raise ValueError("the last part")

    if size:
        with pytest.raises(ValueError, match="the last part"):
            blocks.in_blocks(fails, size, 10)
