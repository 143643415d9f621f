"""Several treatments against one control: the largest of t statistics that share the control."""

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

_STEP = 0.3  # between normal deviates, where the tails rise slowly
_SHARP = 0.02  # a step below which panels take fewer nodes
_AROUND_EDGE = np.array([-8.5, -5.0, -2.5, 0.0, 2.5, 5.0, 8.5])
_TINY = 1e-25  # a node of the spread that never counts


def sf(c: float, df: float, loadings: Floats, *, two_sided: bool) -> float:
    """P(any of the statistics is above c, by its size if two-sided); df may be infinite.

    Statistics i and j are correlated by loadings[i] * loadings[j]; with a control of n0 units the loading of a
    treatment of n1 is sqrt(n1 / (n1 + n0)). Given the control's mean and the spread they are independent (Dunnett,
    1955): one integral over each, of positive terms only.

    References
    ----------
    .. [1] Dunnett (1955), Journal of the American Statistical Association 50, 1096-1121.
    .. [2] Dunnett & Tamhane (1991), Statistics in Medicine 10, 939-947, for unequal allocation and steps.
    """
    s, weight = np.ones(1), np.ones(1)
    if np.isfinite(df):
        at = np.array([df])
        nodes = student.far_spread_nodes(at, np.array([c])) if c > student.FAR else student.spread_nodes(at)
        counts = nodes[1][0] > _TINY
        s, weight = nodes[0][0][counts], nodes[1][0][counts]
    # Over z a tail rises with this steepness; the step follows it, as the trapezoid rule needs.
    sharpest = float(loadings.max())
    step = _STEP * np.sqrt((1 - sharpest) * (1 + sharpest))
    reach = min(7 + 0.5 * abs(c), 12.0)  # the further out, the more the control's mean has a part in it
    distinct, counts = np.unique(loadings, return_counts=True)
    if step < _SHARP:
        z, rule = _panels(distinct, c * s, reach)
    else:
        z = np.arange(-reach, reach + step, step)
        rule = np.full(z.shape, step)
    kept = np.zeros((s.size, z.shape[-1]))  # log of the chance that all are within
    for loading, times in zip(distinct, counts, strict=True):
        own, limit = np.sqrt((1 - loading) * (1 + loading)), c * s[:, None]
        beyond = special.ndtr((loading * z - limit) / own)
        if two_sided:
            beyond = beyond + special.ndtr((-loading * z - limit) / own)
        with np.errstate(divide="ignore"):
            kept += times * np.log1p(-np.minimum(beyond, 1.0))
    beyond_any = -np.expm1(kept) * (rule * normal.pdf(z))
    return min(float(weight @ beyond_any.sum(axis=1)), 1.0)


def _panels(loadings: Floats, limits: Floats, reach: float) -> tuple[Floats, Floats]:
    """Gauss-Legendre nodes and weights over z, for each limit, with panels that are narrow where a tail is an edge.

    A treatment far larger than its control goes with the control's mean: its tail rises within its own spread.
    """
    units = np.arange(-reach, reach + 1, 1.0)
    wide = np.broadcast_to(units, (limits.size, units.size))
    own = np.sqrt((1 - loadings) * (1 + loadings)) / loadings
    edges = limits[:, None, None, None] / loadings[:, None] * np.array([[-1.0], [1.0]])[:, None]
    edges = edges + own[:, None] * _AROUND_EDGE
    ends = np.sort(np.clip(np.concatenate([wide, edges.reshape(limits.size, -1)], axis=1), -reach, reach), axis=1)
    middle, half = (ends[:, 1:] + ends[:, :-1]) / 2, (ends[:, 1:] - ends[:, :-1]) / 2
    nodes, rule = np.polynomial.legendre.leggauss(16)
    return (
        (middle[:, :, None] + half[:, :, None] * nodes).reshape(limits.size, -1),
        (half[:, :, None] * rule).reshape(limits.size, -1),
    )


def critical(alpha: float, df: float, loadings: Floats, *, two_sided: bool) -> float:
    """The c with P(any statistic is beyond c) = alpha."""

    def single(tail: float) -> float:
        return float(normal.upper_quantile(tail) if np.isinf(df) else student.upper_quantile(tail, df))

    def miss(c: Floats) -> Floats:
        return np.array([np.log(alpha) - np.log(sf(float(v), df, loadings, two_sided=two_sided)) for v in c])

    tail = alpha / 2 if two_sided else alpha
    if loadings.size == 1:
        return single(tail)
    # Between no correction and Bonferroni's.
    return float(
        bracketed_root(miss, np.array([single(tail)]), np.array([single(tail / loadings.size)]), rtol=1e-13)[0]
    )


def single_alpha(alpha: ArrayLike, k: int, df: ArrayLike, correlation: ArrayLike, *, two_sided: bool) -> Floats:
    """Error rate of each of k equally correlated comparisons that keeps the chance of any error at alpha."""
    alpha, df, correlation = aligned(alpha, df, correlation)
    if k == 1:
        return alpha
    c = np.empty(np.shape(alpha))
    for at in np.ndindex(c.shape):
        loadings = np.full(k, np.sqrt(correlation[at]))
        c[at] = critical(float(alpha[at]), float(df[at]), loadings, two_sided=two_sided)
    with np.errstate(invalid="ignore"):
        return (2 if two_sided else 1) * np.where(np.isinf(df), normal.sf(c), student.sf(c, df))
