"""Beta distributions with huge parameters, against high-precision integrals."""

import itertools

import numpy as np
import pytest

from amber_ruler import Counts, bayes
from amber_ruler.numeric import beta
from truth import mp


@pytest.mark.parametrize(("a", "b"), [(1.5e7, 4e7), (2e8, 1.2e7), (5e9, 5e9), (1e12, 3e12)])
@pytest.mark.parametrize("z", [-20.0, -6.0, -0.3, 0.0, 2.5, 8.0])
def test_tails_of_a_large_beta(a, b, z):
    """Both tails to 1e-9, the small one too; log densities far from the mean as well."""
    mean = a / (a + b)
    x = mean + z * np.sqrt(mean * (1 - mean) / (a + b))
    a_, b_, mean_ = mp.mpf(a), mp.mpf(b), mp.mpf(a) / (mp.mpf(a) + mp.mpf(b))
    spread = mp.sqrt(mean_ * (1 - mean_) / (a_ + b_))

    def density(u):
        at = mean_ + u * spread
        return mp.exp(a_ * mp.log(at / mean_) + b_ * mp.log((1 - at) / (1 - mean_))) / (at * (1 - at))

    start = (mp.mpf(x) - mean_) / spread
    marks = [start + k for k in (-30, -8, -3, -1, -0.2, 0, 0.2, 1, 3, 8, 30)]
    areas = [mp.quad(density, [lo, hi]) for lo, hi in itertools.pairwise(marks)]
    below, above = sum(areas[:5]), sum(areas[5:])
    assert float(beta.cdf(np.array(x), a, b)) == pytest.approx(
        float(below / (below + above)), rel=1e-7 if z < -9 else 1e-9
    )
    assert float(beta.sf(np.array(x), a, b)) == pytest.approx(float(above / (below + above)), rel=1e-9)


@pytest.mark.parametrize("t", [-30.0, -1.0, -0.029, 1e-9, 0.031, 2.0, 700.0])
def test_divergence_keeps_its_digits(t):
    """log(1 + m(e^t - 1)) - mt, whose terms cancel near 0."""
    for mean in (0.3, 1e-6, 0.999):
        m = mp.mpf(mean)
        expected = float(mp.log(1 + m * mp.expm1(mp.mpf(t))) - m * mp.mpf(t))
        assert float(beta.divergence(mean, np.array(t))) == pytest.approx(expected, rel=1e-10)


@pytest.mark.parametrize("n", [10**9, 10**12, 10**15])
def test_shares_at_any_count_mirror(n):
    """Swapping the groups mirrors the answer to 1e-12, and a huge prior costs no more than a small one."""
    one, two = Counts(n // 3, n, "a"), Counts(n // 3 + round(n**0.5), n, "b")
    for prior in (bayes.Beta(), bayes.Beta(float(n), float(n))):
        there, back = bayes.proportions(one, two, prior=prior), bayes.proportions(two, one, prior=prior)
        assert there.evidence.chance_better + back.evidence.chance_better == pytest.approx(1, abs=1e-12)
        assert there.interval.low == pytest.approx(-back.interval.high, rel=1e-9)
        mean = there.evidence.expected_loss - back.evidence.expected_loss
        assert mean == pytest.approx(-there.estimate, rel=1e-4)
