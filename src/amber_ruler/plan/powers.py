"""Power of tests that compare an estimate with its standard error, and what a covariate's imbalance does to it."""

from __future__ import annotations

import numpy as np

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import Floats, Number


def power_of_estimate(
    effect: Number,
    null_error: Floats,
    error: Floats,
    df: Floats | None,
    low: Number,
    high: Number,
    *,
    correction: Number = 0.0,
) -> Floats:
    """Power of a test that rejects above its critical value with error rate `low`, below it with `high`; broadcasts.

    A normal test may be corrected: the estimate has to be so much further off.
    """
    if df is None:
        below, above = (normal.upper_quantile(t) * null_error + correction for t in (low, high))
        return np.asarray(normal.sf((below - effect) / error) + normal.sf((above + effect) / error))
    # The lower tail is the upper one of the mirrored problem: both in one call.
    sides = [(t, sign) for t, sign in ((low, 1.0), (high, -1.0)) if np.any(np.asarray(t) > 0)]
    shape = np.broadcast_shapes(np.shape(effect), np.shape(error), np.shape(df), np.shape(low), np.shape(high))
    critical = np.stack([np.broadcast_to(student.upper_quantile(t, df), shape) for t, _ in sides])
    shift = np.stack([np.broadcast_to(sign * effect / error, shape) for _, sign in sides])
    return np.asarray(student.noncentral_sf(critical, df, shift).sum(axis=0))


def imbalance(df: Floats, effect: Floats) -> tuple[Floats, Floats]:
    """What a covariate's chance imbalance does to a standard error: factors, and the weight of each, on a first axis.

    A slope estimated beside the difference multiplies its variance by 1 + T²/df, where T, by which the groups differ
    in a normal covariate, is Student's t. With T/sqrt(df) = tan(a) the density of a is that of cos(a)^(df - 1).

    References
    ----------
    .. [1] Cox & McCullagh (1982), Biometrics 38, 541-561, for the variance given the covariate.
    """
    df = np.broadcast_to(df, np.broadcast_shapes(df.shape, effect.shape))
    nodes, weight = (v.reshape(-1, *[1] * df.ndim) for v in np.polynomial.legendre.leggauss(32))
    angle = (nodes + 1) / 2 * np.minimum(np.pi / 2, 9 / np.sqrt(df))
    weight = weight * np.cos(angle) ** (df - 1)
    return 1 / np.cos(angle), weight / weight.sum(axis=0)


def tails(alpha: Floats, alternative: str) -> tuple[Number, Number]:
    """Error rates of rejecting above and below."""
    if alternative == "two-sided":
        return alpha / 2, alpha / 2
    return (alpha, 0.0) if alternative == "greater" else (0.0, alpha)


def power_between(
    effect: Floats,
    edges: tuple[float, float],
    null_errors: tuple[Floats, Floats],
    error: Floats,
    df: Floats | None,
    alpha: Floats,
) -> Floats:
    """Power of two one-sided tests, against both edges, that both have to reject."""
    if df is not None:
        critical = student.upper_quantile(alpha, df)
        return student.noncentral_between(critical, df, (edges[0] - effect) / error, (edges[1] - effect) / error)
    critical = normal.upper_quantile(alpha)
    low = (edges[0] - effect + critical * null_errors[0]) / error
    high = (edges[1] - effect - critical * null_errors[1]) / error
    return np.asarray(np.maximum(normal.cdf(high) - normal.cdf(low), 0.0))
