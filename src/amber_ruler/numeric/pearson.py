"""The sample correlation of bivariate normal pairs.

On Fisher's scale w = atanh r, with omega = atanh rho, the density (Hotelling, 1953) becomes

    C sqrt(cosh w / cosh omega) sech(w - omega)^(n - 3/2) F(1/2, 1/2; n - 1/2; (1 + rho r) / 2),

in which nothing large cancels, however many pairs there are.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from scipy import special

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.roots import bracketed_root, widened
from amber_ruler.numeric.stirling import stirling_error
from amber_ruler.numeric.tails import outward

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

_SERIES_FROM = 15.0
_TERMS = ((30.0, 30), (60.0, 16), (300.0, 11), (np.inf, 8))  # terms that leave less than 1e-15, for c below so much
_BLOCK = 64  # rows of nodes at a time: they stay in the processor's cache


def cdf(r: ArrayLike, n: ArrayLike, rho: ArrayLike) -> Floats:
    """P(R <= r) for n >= 3 pairs with correlation rho in the population."""
    return _tail(r, n, rho, lower=True)


def sf(r: ArrayLike, n: ArrayLike, rho: ArrayLike) -> Floats:
    """P(R > r) for n >= 3 pairs with correlation rho in the population."""
    return _tail(r, n, rho, lower=False)


def upper_quantile(q: ArrayLike, n: ArrayLike, rho: ArrayLike) -> Floats:
    """The r with P(R > r) = q."""
    q, n, rho = aligned(q, n, rho)
    if not np.any(rho):
        # Without correlation r sqrt((n - 2) / (1 - r^2)) is Student's t.
        t = student.upper_quantile(q, n - 2)
        return np.asarray(t / np.sqrt(n - 2 + t * t))
    goal, near = normal.upper_quantile(q), 0.3 / np.sqrt(n - 1)

    def miss(w: Floats) -> Floats:
        return np.asarray(normal.upper_quantile(np.maximum(sf(np.tanh(w), n, rho), 1e-300)) - goal)

    guess = np.arctanh(rho) + goal / np.sqrt(n - 1)
    low, high = widened(miss, guess - near, guess + near, step=near, ends=(-18.0, 18.0))
    return np.tanh(bracketed_root(miss, low, high, rtol=1e-14))


def bounds(r: float, n: int, tails: tuple[float, float]) -> tuple[float, float]:
    """The population correlations under which r or more, or r or less, has just the chance of a tail; -1 or 1 for 0."""
    centre, step = float(np.arctanh(r)), 2 / np.sqrt(n - 1)
    ends = []
    for side, tail, function in ((-1.0, tails[0], sf), (1.0, tails[1], cdf)):
        if tail == 0:
            ends.append(side)
            continue
        goal = float(normal.upper_quantile(tail))

        def miss(away: Floats, side: float = side, function: Any = function, goal: float = goal) -> Floats:
            chance = function(r, n, np.tanh(centre + side * away))
            return np.asarray(normal.upper_quantile(np.maximum(chance, 1e-300)) - goal)

        low, high = widened(miss, np.zeros(1), np.full(1, goal * step), step=step, ends=(0.0, 18.0))
        ends.append(float(np.tanh(centre + side * bracketed_root(miss, low, high, rtol=1e-14)[0])))
    return ends[0], ends[1]


def _tail(r: ArrayLike, n: ArrayLike, rho: ArrayLike, *, lower: bool) -> Floats:
    r, n, rho = aligned(r, n, rho)
    with np.errstate(divide="ignore"):
        w, omega = np.clip(np.arctanh(r), -300.0, 300.0), np.arctanh(rho)
    away = w - omega
    side = np.where(away > 0, 1.0, -1.0)
    scale = 1 / ((n - 2) * np.tanh(np.abs(away)) + np.sqrt(n - 2))
    area = np.empty(w.shape)
    # By size, so that few pairs, which take the slow series, stand together.
    order = np.argsort(n, axis=None)
    for start in range(0, order.size, _BLOCK):
        part = order[start : start + _BLOCK]
        area.flat[part] = _area(*(v.flat[part] for v in (w, side, scale, n, rho, omega)))
    # (n - 2) Gamma(n - 1) / (sqrt(2 pi) Gamma(n - 1/2)), the large logarithms cancelled beforehand.
    a = n - 1
    log_constant = np.log((n - 2) / np.sqrt(2 * np.pi * (a + 0.5))) - a * np.log1p(0.5 / a) + 0.5
    log_constant += stirling_error(a) - stirling_error(a + 0.5) + np.log1p(0.5 / a) * 0.5
    tail = np.exp(log_constant - 0.5 * _log_cosh(omega)) * area
    return np.where((side < 0) == lower, tail, 1 - tail)


def _area(w: Floats, side: Floats, scale: Floats, n: Floats, rho: Floats, omega: Floats) -> Floats:
    c, rho_, omega_ = (v[:, None] for v in (n - 0.5, rho, omega))

    def log_density(w: Floats) -> Floats:
        series = _series(c, (1 + rho_ * np.tanh(w)) / 2)
        return np.log(series) + 0.5 * _log_cosh(w) - (c - 1) * _log_cosh(w - omega_)

    return outward(log_density, w, side, scale)


def _series(c: Floats, x: Floats) -> Floats:
    """F(1/2, 1/2; c; x) for x in 0..1: for large c a few terms of its own series."""
    smallest = np.min(c)
    if smallest < _SERIES_FROM:
        return np.asarray(special.hyp2f1(0.5, 0.5, c, x))
    total = np.ones(x.shape)
    terms = next(count for most, count in _TERMS if smallest < most)
    for k in range(terms, -1, -1):
        total = 1 + total * x * ((k + 0.5) ** 2 / ((c + k) * (k + 1)))
    return total


def _log_cosh(w: Floats) -> Floats:
    size = np.abs(w)
    return np.asarray(size + np.log1p(np.expm1(-2 * size) / 2))
