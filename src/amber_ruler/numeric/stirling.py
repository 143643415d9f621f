"""Gamma functions and Poisson weights that keep their digits at large arguments."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from scipy import special

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

# Coefficients of 1/a, 1/a^3, ...: Bernoulli numbers B(2k) / (2k (2k - 1)).
_SERIES = (1 / 12, -1 / 360, 1 / 1260, -1 / 1680, 1 / 1188, -691 / 360360, 1 / 156)
# 1/2!, 1/3!, ... of the exponential series from its square term on.
_EXP_SERIES = 1 / special.factorial(np.arange(2, 13))
_HALF_LOG_TWO_PI = 0.5 * np.log(2 * np.pi)


def stirling_error(a: Any) -> Any:
    """Return log Gamma(a) minus Stirling's formula (a - 1/2) log a - a + log(2 pi)/2, for a > 0.

    References
    ----------
    .. [1] Loader (2000), Fast and accurate computation of binomial probabilities.
    """
    if isinstance(a, float) and a >= 10.0:
        return _series(1.0 / a)
    a = np.asarray(a, dtype=np.float64)
    series = _series(1.0 / np.maximum(a, 10.0))
    if np.min(a, initial=10.0) >= 10.0:
        return np.asarray(series)
    small = np.minimum(a, 10.0)
    direct = special.gammaln(small) - (small - 0.5) * np.log(small) + small - _HALF_LOG_TWO_PI
    return np.where(a >= 10.0, series, direct)


def log_half_step(a: Any) -> Any:
    """Return log Gamma(a + 1/2) - log Gamma(a) - log(a) / 2, the large logarithms cancelled beforehand."""
    return a * np.log1p(0.5 / a) - 0.5 + stirling_error(a + 0.5) - stirling_error(a)


def _series(inverse: Any) -> Any:
    square, series = inverse * inverse, _SERIES[-1]
    for coefficient in _SERIES[-2::-1]:
        series = series * square + coefficient
    return series * inverse


def expm1_less(w: Floats) -> Floats:
    """Return exp(w) - 1 - w, whose plain form loses half the digits near 0."""
    w = np.asarray(w, dtype=np.float64)
    near = np.abs(w) < 0.1
    v = np.where(near, w, 0.0)
    series = v * v * np.polynomial.polynomial.polyval(v, _EXP_SERIES)
    return np.where(near, series, np.expm1(w) - w)


def log_divergence(x: float, expected: float) -> float:
    """X log(x / expected) - (x - expected), which is never negative, with its digits where x is close to what it is."""
    away = (expected - x) / x
    if abs(away) < 0.1:
        powers = np.arange(2, 26)
        return x * float(np.sum((-away) ** powers / powers))
    return float(x * np.log(x / expected) - (x - expected))


def poisson_weight(j: Floats, mean: Floats) -> Floats:
    """Poisson probability of j, extended to real j >= 0, in Loader's saddle-point form where terms are large."""
    if np.max(mean, initial=0.0) < 100 and np.max(j, initial=0.0) < 1000:
        return np.asarray(np.exp(special.xlogy(j, mean) - mean - special.gammaln(j + 1.0)))
    above = np.maximum(j, 1.0)
    deviance = above * expm1_less(np.log(mean / above))
    saddle = -stirling_error(above) - deviance - 0.5 * np.log(2 * np.pi * above)
    below = np.minimum(j, 1.0)
    direct = special.xlogy(below, mean) - mean - special.gammaln(below + 1.0)
    return np.asarray(np.exp(np.where(j >= 1.0, saddle, direct)))
