"""Fisher's F distribution, central and noncentral."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.inverse import invert
from amber_ruler.numeric.mixture import Ladder, bounds_of, poisson_mixture
from amber_ruler.numeric.stirling import stirling_error
from amber_ruler.numeric.tails import outward

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

# Above this, scipy's incomplete beta keeps fewer than 11 digits; the quadrature keeps them.
_LARGE = 1e4


def cdf(x: ArrayLike, df1: ArrayLike, df2: ArrayLike) -> Floats:
    """P(F <= x)."""
    return _tail(x, df1, df2, lower=True)


def sf(x: ArrayLike, df1: ArrayLike, df2: ArrayLike) -> Floats:
    """P(F > x), without the loss of 1 - cdf."""
    return _tail(x, df1, df2, lower=False)


def quantile(p: ArrayLike, df1: ArrayLike, df2: ArrayLike) -> Floats:
    """The x with P(F <= x) = p."""
    p, a, b = aligned(p, df1, df2)
    with np.errstate(divide="ignore"):
        guess = 1 / _library_quantile(p, b, a)
    return invert(lambda x: cdf(x, a, b), p, guess, rising=True)


def upper_quantile(q: ArrayLike, df1: ArrayLike, df2: ArrayLike) -> Floats:
    """The x with P(F > x) = q."""
    q, a, b = aligned(q, df1, df2)
    return invert(lambda x: sf(x, a, b), q, _library_quantile(q, a, b), rising=False)


def _library_quantile(q: Floats, df1: Floats, df2: Floats) -> Floats:
    """The x with P(F > x) = q, to the digits of the library."""
    # P(F > x) is both a lower tail of b / (b + a x) and an upper tail of its complement: the smaller share has digits.
    rest, share = special.betaincinv(df2 / 2, df1 / 2, q), special.betainccinv(df1 / 2, df2 / 2, q)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(df2 / df1 * np.where(share < 0.5, share / (1 - share), (1 - rest) / rest))


def noncentral_cdf(x: ArrayLike, df1: ArrayLike, df2: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """P(F <= x) with noncentrality >= 0 in the numerator: a Poisson mixture of central distributions."""
    return _mixture(cdf, x, df1, df2, noncentrality)


def noncentral_sf(
    x: ArrayLike, df1: ArrayLike, df2: ArrayLike, noncentrality: ArrayLike, *, central: Floats | None = None
) -> Floats:
    """P(F > x) with noncentrality >= 0 in the numerator; `central` is that of noncentrality 0, where it is known."""
    return _mixture(sf, x, df1, df2, noncentrality, central)


def _mixture(
    tail: Callable[..., Floats],
    x: ArrayLike,
    df1: ArrayLike,
    df2: ArrayLike,
    noncentrality: ArrayLike,
    central: Floats | None = None,
) -> Floats:
    def kernel(j: Floats | float, x: Floats, a: Floats, b: Floats) -> Floats:
        return tail(x * (a / (a + 2 * j)), a + 2 * j, b)

    ladder = Ladder(_first_step, _step_ratio, lower=tail is cdf, central=central)
    return poisson_mixture(kernel, ladder, noncentrality, x, df1, df2)


def _first_step(x: Floats, df1: Floats, df2: Floats) -> Floats:
    """What two more degrees of freedom above move from the lower tail to the upper: y^a (1 - y)^b / (a B(a, b))."""
    a, b, top = df1 / 2, df2 / 2, df1 * np.maximum(x, 0.0)
    # log B(a, b) with the large logarithms cancelled beforehand.
    log_beta = special.gammaln(a) + a - a * np.log(a + b) - (b - 0.5) * np.log1p(a / b)
    log_beta += stirling_error(b) - stirling_error(a + b)
    return np.asarray(np.exp(a * np.log(top / (df2 + top)) - b * np.log1p(top / df2) - log_beta) / a)


def _step_ratio(j: Floats, x: Floats, df1: Floats, df2: Floats) -> Floats:
    a, top = df1 / 2 + j, df1 * np.maximum(x, 0.0)
    return top / (df2 + top) * (a + df2 / 2) / (a + 1)


def noncentral_quantile(p: ArrayLike, df1: ArrayLike, df2: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """The x with P(F <= x) = p."""
    p, a, b, nc = aligned(p, df1, df2, noncentrality)
    return invert(lambda x: noncentral_cdf(x, a, b, nc), p, 1 + nc / a, rising=True)


def noncentral_upper_quantile(q: ArrayLike, df1: ArrayLike, df2: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """The x with P(F > x) = q."""
    q, a, b, nc = aligned(q, df1, df2, noncentrality)
    return invert(lambda x: noncentral_sf(x, a, b, nc), q, 1 + nc / a, rising=False)


def noncentrality_bounds(
    f: ArrayLike, df1: ArrayLike, df2: ArrayLike, low_tail: float, high_tail: float
) -> tuple[Floats, Floats]:
    """The noncentralities at which an observed F would just be too large, or too small.

    P(F > f | low) = low_tail and P(F <= f | high) = high_tail; 0 where even no effect makes it less likely.
    """
    f, a, b = aligned(f, df1, df2)
    upper, lower = (lambda nc: noncentral_sf(f, a, b, nc)), (lambda nc: noncentral_cdf(f, a, b, nc))
    return bounds_of(upper, lower, np.sqrt(a * f) + 3, low_tail, high_tail)


def _tail(x: ArrayLike, df1: ArrayLike, df2: ArrayLike, *, lower: bool) -> Floats:
    x, a, b = aligned(x, df1, df2)
    top = a * np.maximum(x, 0.0)
    with np.errstate(invalid="ignore", over="ignore"):
        share, rest = top / (b + top), np.where(np.isinf(top), 0.0, b / (b + top))
        share = np.where(np.isinf(top), 1.0, share)
    # The smaller of the two shares carries the digits.
    first, second = (special.betainc, special.betaincc) if lower else (special.betaincc, special.betainc)
    low = share < 0.5
    result = np.empty(x.shape)
    result[low] = first(a[low] / 2, b[low] / 2, share[low])
    result[~low] = second(b[~low] / 2, a[~low] / 2, rest[~low])
    large = (np.maximum(a, b) > _LARGE) & (x > 0) & np.isfinite(x)
    if np.any(large):
        result[large] = _large_tail(x[large], a[large], b[large], lower=lower)
    return result


def _large_tail(x: Floats, df1: Floats, df2: Floats, *, lower: bool) -> Floats:
    # On the scale w = log x the log density is -(A + B) (log(1 - p + p e^w) - p w) with p = A / (A + B),
    # mode at 0. Turning the scale round where p > 1/2 keeps p the small one, so that nothing cancels.
    a, b = df1 / 2, df2 / 2
    turn = np.where(a > b, -1.0, 1.0)
    p, total = np.minimum(a, b) / (a + b), a + b
    w = turn * np.log(x)
    side = np.where(w > 0, 1.0, -1.0)
    slope = p * (1 - p) * np.expm1(w) / (1 + p * np.expm1(w))
    scale = 1 / (total * np.abs(slope) + np.sqrt(total * p * (1 - p)))

    def log_density(w: Floats) -> Floats:
        p_, w = p[..., None], np.minimum(w, 700.0)
        return -total[..., None] * (np.log1p(p_ * np.expm1(w)) - p_ * w)

    constant = np.sqrt(a * b / (2 * np.pi * total))
    constant = constant * np.exp(stirling_error(total) - stirling_error(a) - stirling_error(b))
    tail = constant * outward(log_density, w, side, scale)
    return np.asarray(np.where((side * turn < 0) == lower, tail, 1 - tail))
