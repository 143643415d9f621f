"""The studentized range: the distance of the largest from the smallest of k independent means, over their spread."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np
from numpy.polynomial import chebyshev
from scipy import special

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.roots import bracketed_root

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

_STEP = 0.125
_LEAST = -8.5  # below it lies no normal deviate that counts
_MOST = 50.0  # a range of normal values so wide that the bound over all pairs is exact
_DEGREE = 300
_SMALLEST = 3e-13  # coefficients that are no more than rounding
_BLOCK = 256  # statistics at a time


def sf(q: ArrayLike, k: int, df: ArrayLike) -> Floats:
    """P(Q > q) for the range of k means; df may be infinite.

    Notes
    -----
    With S the spread, P(Q > q) is the mean over S of R(q S), where R(w) = k times the integral of
    phi(z) [Phi(z)^(k-1) - (Phi(z) - Phi(z - w))^(k-1)]: all terms are positive, so that far tails keep their digits.
    R depends on k only, and is kept as a Chebyshev series of its ratio to the bound over all pairs.

    References
    ----------
    .. [1] Hartley (1942), Biometrika 32, 334-348.
    .. [2] Copenhaver & Holland (1988), Journal of Statistical Computation and Simulation 30, 1-15.
    """
    q, df = aligned(q, df)
    flat_q, flat_df = np.maximum(np.ravel(q), 0.0), np.ravel(df)
    result = np.empty(flat_q.size)
    finite = np.where(np.isfinite(flat_df), flat_df, 1e12)
    far = flat_q > student.FAR * np.sqrt(2)
    for rows, outside in ((np.flatnonzero(~far), False), (np.flatnonzero(far), True)):
        for start in range(0, rows.size, _BLOCK):
            some = rows[start : start + _BLOCK]
            df_, t = finite[some], flat_q[some] / np.sqrt(2)
            s, weight = student.far_spread_nodes(df_, t) if outside else student.spread_nodes(df_)
            result[some] = np.einsum("ij,ij->i", np.exp(_log_range_sf(flat_q[some, None] * s, k)), weight)
    return np.asarray(np.minimum(result, 1.0).reshape(np.shape(q)))


def upper_quantile(tail: ArrayLike, k: int, df: ArrayLike) -> Floats:
    """The q with P(Q > q) = tail."""
    tail, df = aligned(tail, df)

    def t_limit(share: Floats) -> Floats:
        with np.errstate(invalid="ignore"):
            return np.where(np.isinf(df), normal.upper_quantile(share), student.upper_quantile(share, df))

    def miss(q: Floats) -> Floats:
        return np.asarray(np.log(tail) - np.log(sf(q, k, df)))

    # Between the range of two means and Bonferroni's bound over all pairs.
    low, high = (np.sqrt(2) * t_limit(tail / 2 / pairs) for pairs in (1, k * (k - 1) / 2))
    return low if k == 2 else bracketed_root(miss, low, high, rtol=1e-13)


def _log_range_sf(w: Floats, k: int) -> Floats:
    """Log of P(range of k standard normal values > w)."""
    within = np.minimum(w, _MOST) * (2 / _MOST) - 1
    return np.asarray(_log_pairs(w, k) + chebyshev.chebval(within, _series(k)))


def _log_pairs(w: Floats, k: int) -> Floats:
    """Log of the bound: the chances of all pairs to lie so far apart, added up."""
    return np.asarray(special.log_ndtr(-w / np.sqrt(2)) + np.log(k * (k - 1)))


@lru_cache(maxsize=64)
def _series(k: int) -> Floats:
    """Chebyshev coefficients of log R(w) less its bound, for w from 0 to its most."""
    x = chebyshev.chebpts1(_DEGREE + 1)
    w = (x + 1) / 2 * _MOST
    z = np.arange(_LEAST, _MOST / 2 + 9, _STEP)
    below, gap = special.ndtr(z), special.ndtr(z - w[:, None])
    with np.errstate(divide="ignore"):
        lost = -np.expm1((k - 1) * np.log1p(-np.minimum(gap / below, 1.0)))
    ratio = np.log(lost @ (k * _STEP * normal.pdf(z) * below ** (k - 1))) - _log_pairs(w, k)
    # The discrete cosine transform of the values at these points.
    cosines = np.cos(np.outer(np.arange(_DEGREE + 1), np.arccos(x)))
    series = 2 / (_DEGREE + 1) * (cosines @ ratio)
    series[0] /= 2
    counts = np.flatnonzero(np.abs(series) > _SMALLEST)
    return np.asarray(series[: counts[-1] + 1 if counts.size else 1])
