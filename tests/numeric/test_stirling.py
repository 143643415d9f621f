"""Gamma functions and Poisson weights that keep their digits."""

import numpy as np
import pytest

from amber_ruler.numeric.stirling import expm1_less, poisson_weight, stirling_error
from truth import mp


@pytest.mark.parametrize("a", [0.5, 1.0, 3.7, 9.99, 10.0, 400.5, 1e6, 5e8])
def test_the_error_of_stirlings_formula(a):
    """What the formula leaves out, to an absolute 1e-15, where plain subtraction would lose it all."""
    with mp.workdps(40):
        expected = mp.loggamma(a) - ((mp.mpf(a) - mp.mpf("0.5")) * mp.log(a) - a + mp.log(2 * mp.pi) / 2)
    assert float(stirling_error(np.asarray(a))) == pytest.approx(float(expected), abs=4e-15)


@pytest.mark.parametrize("w", [-30.0, -0.2, -1e-3, -1e-9, 0.0, 1e-12, 0.05, 0.3, 20.0])
def test_the_exponential_less_its_line(w):
    """exp(w) - 1 - w without cancellation near 0."""
    with mp.workdps(50):
        expected = mp.expm1(w) - mp.mpf(w)
    assert float(expm1_less(np.asarray(w))) == pytest.approx(float(expected), rel=1e-13)


@pytest.mark.parametrize(("j", "mean"), [(0, 0.3), (0.4, 2.0), (3, 3.0), (50, 80.0), (1e6, 1.003e6), (5e7, 4.99e7)])
def test_poisson_weights(j, mean):
    """Relative digits hold at large means, and between whole numbers."""
    with mp.workdps(40):
        expected = mp.exp(j * mp.log(mp.mpf(mean)) - mp.mpf(mean) - mp.loggamma(mp.mpf(j) + 1))
    assert float(poisson_weight(np.asarray(float(j)), np.asarray(mean))) == pytest.approx(float(expected), rel=1e-11)
