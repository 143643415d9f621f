"""Power of tests that compare an estimate with its standard error, and what a covariate's imbalance does to it."""

from __future__ import annotations

import numpy as np
from scipy import special

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.plan.planned import Units

_NODES = 96


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


def imbalance(df: Floats, effect: Floats, count: int = 1) -> tuple[Floats, Floats]:
    """What the chance imbalance of covariates does to a standard error: factors and their weights, on a first axis.

    Slopes estimated beside the difference multiply its variance by 1 + T²/df, where T², by which the groups differ in
    normal covariates, is Hotelling's (with one covariate T is Student's t). With T/sqrt(df) = tan(a) the density of
    a is that of sin(a)^(count - 1) cos(a)^(df - count).

    References
    ----------
    .. [1] Cox & McCullagh (1982), Biometrics 38, 541-561, for the variance given the covariate.
    .. [2] Hotelling (1931), Annals of Mathematical Statistics 2, 360-378.
    """
    df = np.broadcast_to(df, np.broadcast_shapes(df.shape, effect.shape))
    nodes, weight = (v.reshape(-1, *[1] * df.ndim) for v in np.polynomial.legendre.leggauss(32))
    angle = (nodes + 1) / 2 * np.minimum(np.pi / 2, (9 + np.sqrt(count - 1)) / np.sqrt(np.maximum(df - count + 1, 1)))
    weight = weight * np.sin(angle) ** (count - 1) * np.cos(angle) ** (df - count)
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


def power_of_unequal(effect: Number, variances: Units, dfs: Units, low: Number, high: Number) -> Floats:
    """Power of the t test of unequal variances (Welch), whatever the two spreads come out as; broadcasts.

    `variances` are those of both means. Of the two chi-squares of the spreads, the sum is that of a noncentral t, and
    the share B of the first is beta: given B, degrees of freedom and critical value are known numbers. With
    B = sin(a)² the density of a is that of sin(a)^(df1 - 1) cos(a)^(df0 - 1).

    References
    ----------
    .. [1] Welch (1947), Biometrika 34, 28-35, for the test.
    """
    arrays = np.broadcast_arrays(effect, *variances, *dfs, low, high)
    effect, v1, v0, f1, f0, low, high = (np.asarray(v, dtype=np.float64) for v in arrays)
    total = f1 + f0
    nodes, weight = (v.reshape(-1, *[1] * effect.ndim) for v in np.polynomial.legendre.leggauss(_NODES))
    mode, reach = np.arctan2(np.sqrt(f1), np.sqrt(f0)), 14 / np.sqrt(2 * total)
    start, end = np.maximum(mode - reach, 0.0), np.minimum(mode + reach, np.pi / 2)
    angle = (start + end) / 2 + (end - start) / 2 * nodes
    sine, cosine = np.sin(angle) ** 2, np.cos(angle) ** 2
    # The density relative to its height at the mode, so that large degrees of freedom do not underflow.
    log_density = special.xlog1py((f1 - 1) / 2, sine / np.sin(mode) ** 2 - 1)
    log_density = log_density + special.xlog1py((f0 - 1) / 2, cosine / np.cos(mode) ** 2 - 1)
    weight = weight * np.exp(log_density)
    weight = weight / weight.sum(axis=0)
    seen1, seen0 = v1 * sine / f1, v0 * cosine / f0  # squared standard errors seen, for a sum of 1
    df = (seen1 + seen0) ** 2 / (seen1**2 / f1 + seen0**2 / f0)
    spread, error = np.sqrt(total * (seen1 + seen0) / (v1 + v0)), np.sqrt(v1 + v0)
    power = np.zeros(effect.shape)
    for tail, sign in ((low, 1.0), (high, -1.0)):
        if np.any(tail > 0):
            critical = student.upper_quantile(np.broadcast_to(tail, df.shape), df) * spread
            power = power + (weight * student.noncentral_sf(critical, total, sign * effect / error)).sum(axis=0)
    return power
