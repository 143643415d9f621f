"""Several treatments against one control: the largest of equally correlated t statistics."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.roots import bracketed_root

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

_STEP = 0.1
_Z = np.arange(-8.5, 8.55, _STEP)
_WEIGHT = _STEP * normal.pdf(_Z)


def cdf(c: ArrayLike, k: int, df: ArrayLike, correlation: ArrayLike, *, two_sided: bool) -> Floats:
    """P(all k statistics are below c, by their size if two-sided); df may be infinite.

    Given the control's mean and the spread the statistics are independent (Dunnett, 1955): one integral over each.

    References
    ----------
    .. [1] Dunnett (1955), Journal of the American Statistical Association 50, 1096-1121.
    """
    c, df, correlation = aligned(c, df, correlation)
    result = np.empty(c.shape)
    for at in np.ndindex(c.shape):
        s, weight = np.ones(1), np.ones(1)
        if np.isfinite(df[at]):
            nodes = student.spread_nodes(np.array([df[at]]))
            s, weight = nodes[0][0], nodes[1][0]
        shared, own = np.sqrt(correlation[at]) * _Z, np.sqrt(1 - correlation[at])
        inside = special.ndtr((c[at] * s[:, None] + shared) / own)
        if two_sided:
            inside = inside - special.ndtr((-c[at] * s[:, None] + shared) / own)
        result[at] = weight @ inside**k @ _WEIGHT
    return result


def single_alpha(alpha: ArrayLike, k: int, df: ArrayLike, correlation: ArrayLike, *, two_sided: bool) -> Floats:
    """Error rate of each of k comparisons that keeps the chance of any error at alpha."""
    alpha, df, correlation = aligned(alpha, df, correlation)
    if k == 1:
        return alpha
    sides = 2 if two_sided else 1

    def critical(tail: Floats) -> Floats:
        with np.errstate(invalid="ignore"):
            return np.where(np.isinf(df), normal.upper_quantile(tail), student.upper_quantile(tail, df))

    def miss(c: Floats) -> Floats:
        return cdf(c, k, df, correlation, two_sided=two_sided) - (1 - alpha)

    # Between no correction and Bonferroni's.
    c = bracketed_root(miss, critical(alpha / sides), critical(alpha / sides / k), rtol=1e-12)
    with np.errstate(invalid="ignore"):
        return sides * np.where(np.isinf(df), normal.sf(c), student.sf(c, df))
