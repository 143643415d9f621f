"""The sample correlation of bivariate normal pairs.

On Fisher's scale w = atanh r, with omega = atanh rho, the density (Hotelling, 1953) becomes

    C sqrt(cosh w / cosh omega) sech(w - omega)^(n - 3/2) F(1/2, 1/2; n - 1/2; (1 + rho r) / 2),

in which nothing large cancels, however many pairs there are.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.roots import bracketed_root, widened
from amber_ruler.numeric.stirling import stirling_error
from amber_ruler.numeric.tails import outward

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats


def cdf(r: ArrayLike, n: ArrayLike, rho: ArrayLike) -> Floats:
    """P(R <= r) for n >= 3 pairs with correlation rho in the population."""
    return _tail(r, n, rho, lower=True)


def sf(r: ArrayLike, n: ArrayLike, rho: ArrayLike) -> Floats:
    """P(R > r) for n >= 3 pairs with correlation rho in the population."""
    return _tail(r, n, rho, lower=False)


def upper_quantile(q: ArrayLike, n: ArrayLike, rho: ArrayLike) -> Floats:
    """The r with P(R > r) = q."""
    q, n, rho = aligned(q, n, rho)

    goal, near = normal.upper_quantile(q), 0.3 / np.sqrt(n - 1)

    def miss(w: Floats) -> Floats:
        return np.asarray(normal.upper_quantile(np.maximum(sf(np.tanh(w), n, rho), 1e-300)) - goal)

    guess = np.arctanh(rho) + goal / np.sqrt(n - 1)
    low, high = widened(miss, guess - near, guess + near, step=near, ends=(-18.0, 18.0))
    return np.tanh(bracketed_root(miss, low, high, rtol=1e-14))


def _tail(r: ArrayLike, n: ArrayLike, rho: ArrayLike, *, lower: bool) -> Floats:
    r, n, rho = aligned(r, n, rho)
    with np.errstate(divide="ignore"):
        w, omega = np.clip(np.arctanh(r), -300.0, 300.0), np.arctanh(rho)
    away = w - omega
    side = np.where(away > 0, 1.0, -1.0)
    scale = 1 / ((n - 2) * np.tanh(np.abs(away)) + np.sqrt(n - 2))
    power, rho_ = (n - 1.5)[..., None], rho[..., None]

    def log_density(w: Floats) -> Floats:
        series = special.hyp2f1(0.5, 0.5, power + 1, (1 + rho_ * np.tanh(w)) / 2)
        return 0.5 * _log_cosh(w) - power * _log_cosh(w - omega[..., None]) + np.log(series)

    # (n - 2) Gamma(n - 1) / (sqrt(2 pi) Gamma(n - 1/2)), the large logarithms cancelled beforehand.
    a = n - 1
    log_constant = np.log((n - 2) / np.sqrt(2 * np.pi * (a + 0.5))) - a * np.log1p(0.5 / a) + 0.5
    log_constant += stirling_error(a) - stirling_error(a + 0.5) + np.log1p(0.5 / a) * 0.5
    tail = np.exp(log_constant - 0.5 * _log_cosh(omega)) * outward(log_density, w, side, scale)
    return np.where((side < 0) == lower, tail, 1 - tail)


def _log_cosh(w: Floats) -> Floats:
    # Near 0 through sinh, so that small squares are not lost beside 1.
    near = np.minimum(np.abs(w), 1.0)
    return np.where(np.abs(w) < 1, 0.5 * np.log1p(np.sinh(near) ** 2), np.logaddexp(w, -w) - np.log(2))
