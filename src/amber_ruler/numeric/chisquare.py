"""The chi-square distribution, central and noncentral."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.inverse import invert
from amber_ruler.numeric.mixture import Ladder, bounds_of, poisson_mixture
from amber_ruler.numeric.stirling import expm1_less, poisson_weight, stirling_error
from amber_ruler.numeric.tails import outward

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

# Above this, scipy's lower incomplete gamma loses digits in the tail; the quadrature does not.
_LARGE = 1e4


def cdf(x: ArrayLike, df: ArrayLike) -> Floats:
    """P(X <= x)."""
    return _tail(x, df, lower=True)


def sf(x: ArrayLike, df: ArrayLike) -> Floats:
    """P(X > x), without the loss of 1 - cdf."""
    return _tail(x, df, lower=False)


def quantile(p: ArrayLike, df: ArrayLike) -> Floats:
    """The x with P(X <= x) = p."""
    p, df = aligned(p, df)
    return invert(lambda x: cdf(x, df), p, 2 * special.gammaincinv(df / 2, p), rising=True)


def upper_quantile(q: ArrayLike, df: ArrayLike) -> Floats:
    """The x with P(X > x) = q."""
    q, df = aligned(q, df)
    return invert(lambda x: sf(x, df), q, 2 * special.gammainccinv(df / 2, q), rising=False)


def noncentral_cdf(x: ArrayLike, df: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """P(X <= x) with noncentrality >= 0: a Poisson mixture of central distributions."""
    ladder = Ladder(_first_step, _step_ratio, lower=True)
    return poisson_mixture(lambda j, x, df: cdf(x, df + 2 * j), ladder, noncentrality, x, df)


def noncentral_sf(x: ArrayLike, df: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """P(X > x) with noncentrality >= 0."""
    ladder = Ladder(_first_step, _step_ratio, lower=False)
    return poisson_mixture(lambda j, x, df: sf(x, df + 2 * j), ladder, noncentrality, x, df)


def _first_step(x: Floats, df: Floats) -> Floats:
    """What two more degrees of freedom move from the lower tail to the upper: a Poisson probability."""
    return poisson_weight(df / 2, np.maximum(x, 0.0) / 2)


def _step_ratio(j: Floats, x: Floats, df: Floats) -> Floats:
    return np.maximum(x, 0.0) / (df + 2 * j + 2)


def noncentral_quantile(p: ArrayLike, df: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """The x with P(X <= x) = p."""
    p, df, nc = aligned(p, df, noncentrality)
    return invert(lambda x: noncentral_cdf(x, df, nc), p, df + nc, rising=True)


def noncentral_upper_quantile(q: ArrayLike, df: ArrayLike, noncentrality: ArrayLike) -> Floats:
    """The x with P(X > x) = q."""
    q, df, nc = aligned(q, df, noncentrality)
    return invert(lambda x: noncentral_sf(x, df, nc), q, df + nc, rising=False)


def noncentrality_bounds(x: ArrayLike, df: ArrayLike, low_tail: float, high_tail: float) -> tuple[Floats, Floats]:
    """The noncentralities at which an observed chi-square would just be too large, or too small; 0 where none is."""
    x, df = aligned(x, df)
    upper, lower = (lambda nc: noncentral_sf(x, df, nc)), (lambda nc: noncentral_cdf(x, df, nc))
    return bounds_of(upper, lower, np.sqrt(x) + 3, low_tail, high_tail)


def _tail(x: ArrayLike, df: ArrayLike, *, lower: bool) -> Floats:
    x, df = aligned(x, df)
    library = special.gammainc if lower else special.gammaincc
    result = np.asarray(library(df / 2, np.maximum(x, 0.0) / 2))
    large = (df > _LARGE) & (x > 0) & np.isfinite(x)
    if np.any(large):
        result = np.array(result)
        result[large] = _large_tail(x[large], df[large], lower=lower)
    return result


def _large_tail(x: Floats, df: Floats, *, lower: bool) -> Floats:
    # On the scale w = log(x / df) the density is exp(-df/2 (e^w - 1 - w)) times a constant, mode at 0.
    half = df / 2
    w = np.log1p((x - df) / df)
    side = np.where(w > 0, 1.0, -1.0)
    scale = 1 / (half * np.abs(np.expm1(w)) + np.sqrt(half))
    area = outward(lambda w: -half[..., None] * expm1_less(w), w, side, scale)
    tail = area * np.sqrt(half / (2 * np.pi)) * np.exp(-stirling_error(half))
    return np.asarray(np.where((side < 0) == lower, tail, 1 - tail))
