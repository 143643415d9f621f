"""Chances of counts, at sizes where enumeration by factorials would overflow."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler.numeric import binomial, tables
from amber_ruler.numeric.roots import bracketed_number, bracketed_root
from truth import mp


@pytest.mark.parametrize(("n", "x", "share"), [(40, 12, 0.2), (40, 3, 0.2), (3_000, 31, 0.0073), (5_000, 2_440, 0.5)])
def test_counts_no_likelier_than_the_one_seen(n, x, share):
    """The two-sided convention by likelihood, as the sum of all such chances."""
    p = mp.mpf(share)
    chances = [mp.binomial(n, k) * p**k * (1 - p) ** (n - k) for k in range(n + 1)]
    expected = mp.fsum(c for c in chances if c <= chances[x] * (1 + mp.mpf(10) ** -12))
    found = binomial.as_unlikely(np.asarray(float(x)), np.asarray(float(n)), np.asarray(share))
    assert float(found) == pytest.approx(float(expected), rel=1e-11)
    low, high = binomial.exact_limits(np.asarray(float(x)), np.asarray(float(n)), 0.025, 0.025)
    assert float(binomial.at_least(np.asarray(float(x)), np.asarray(float(n)), low)) == pytest.approx(0.025, rel=1e-10)
    below = binomial.at_least(np.asarray(float(n - x)), np.asarray(float(n)), 1 - high)
    assert float(below) == pytest.approx(0.025, rel=1e-10)


@pytest.mark.parametrize("n", [1, 7, 300, 10**7])
def test_the_number_of_ways(n):
    """To the last digits also for large numbers."""
    for k in (0, 1, n // 3, n):
        with mp.workdps(40):
            expected = mp.loggamma(n + 1) - mp.loggamma(k + 1) - mp.loggamma(n - k + 1)
        assert float(tables.log_choose(np.asarray(float(n)), np.asarray(float(k)))) == pytest.approx(
            float(expected), rel=1e-12, abs=1e-12
        )


@given(st.floats(-8, 8), st.floats(0.1, 9), st.floats(0.1, 9))
def test_one_root_is_found_like_many(root, below, above):
    """A single number takes the same steps as an array of one."""
    one = bracketed_number(lambda x: (x - root) ** 3 + x - root, root - below, root + above)
    many = bracketed_root(lambda x: (x - root) ** 3 + x - root, np.array([root - below]), np.array([root + above]))
    assert one == pytest.approx(root, rel=1e-12, abs=1e-12)
    assert many[0] == pytest.approx(one, rel=1e-12, abs=1e-12)


@pytest.mark.parametrize("scale", [1, 100, 1_000])
def test_fishers_tails_at_large_counts(scale):
    """Neighbouring chances keep their ratio, and swapping the groups swaps the tails."""
    x1, n1, x0, n0 = 3 * scale, 10 * scale, 4 * scale, 11 * scale
    k, chance = tables.given_margins(x1, n1, x0, n0)
    at = int(np.flatnonzero(k == x1)[0])
    ratio = (n1 - x1) * (x0) / ((x1 + 1) * (n0 - x0 + 1))
    assert chance[at + 1] / chance[at] == pytest.approx(ratio, rel=1e-8)
    above, below, unlikely, own = tables.fisher_tails(x1, n1, x0, n0)
    assert above + below - own == pytest.approx(1.0, rel=1e-9)
    assert tables.fisher_tails(x0, n0, x1, n1)[:3] == pytest.approx((below, above, unlikely), rel=1e-8)
