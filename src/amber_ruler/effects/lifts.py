"""Relative differences of two means."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from amber_ruler.effects.scale import Alternative, effect
from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.alike import alike
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import EffectSize


class FiellerSet(NamedTuple):
    """The ratios that a test does not reject, by the roots of its equation.

    Attributes
    ----------
    ratio : float
        The ratio of the means.
    g : float
        Squared critical value times the squared relative error of the lower mean: from 1 on it can't be told from 0.
    low, high : float
        Both roots; NaN where there are none.
    kind : str
        "interval" (from low to high), "outside" (below low or above high), or "all" (every ratio).
    """

    ratio: float
    g: float
    low: float
    high: float
    kind: str


def fieller(
    means: tuple[float, float], ses: tuple[float, float], critical: float, *, covariance: float = 0.0
) -> FiellerSet:
    """Which ratios of two means does a test not reject? Fieller's g, both roots, and what they bound.

    Parameters
    ----------
    means : pair of float
        The mean above and the mean below.
    ses : pair of float
        Their standard errors.
    critical : float
        Critical value of the test, such as 1.96.
    covariance : float
        Covariance of the two means, where both are of the same units.

    Returns
    -------
    FiellerSet

    References
    ----------
    .. [1] Fieller (1954), Journal of the Royal Statistical Society B 16, 175-185.

    Examples
    --------
    >>> found = fieller((12.0, 10.0), (0.8, 0.6), 1.96)
    >>> found.kind, round(found.g, 4), round(found.low, 4), round(found.high, 4)
    ('interval', 0.0138, 1.0037, 1.4299)
    """
    (m1, m0), (s1, s0) = gate.finite("means", means), gate.at_least("ses", ses, 0)
    c = float(gate.positive("critical", gate.single("critical", critical)))
    covariance = float(gate.finite("covariance", covariance))
    if abs(covariance) > s1 * s0 * (1 + 1e-12):
        raise InputError.rule("covariance", covariance, f"within ±{s1 * s0:.4g}, a correlation of 1")
    if m0 == 0 and m1 == 0:
        raise InputError("Both means are 0: there is no ratio.")
    _, (low, high) = _roots(float(m1), float(m0), float(s1) ** 2, float(s0) ** 2, covariance, c)
    a = m0 * m0 - c * c * s0 * s0
    g = float(c * c * s0 * s0 / (m0 * m0)) if m0 else math.inf
    kind = "interval" if a > 0 else "all" if math.isnan(low) else "outside"
    return FiellerSet(float(m1 / m0) if m0 else math.nan, g, low, high, kind)


def _roots(
    m1: float, m0: float, v1: float, v0: float, covariance: float, critical: float
) -> tuple[float, tuple[float, float]]:
    """What the roots are of: a, and both, in order."""
    square = critical * critical
    a, b, c = m0 * m0 - square * v0, m1 * m0 - square * covariance, m1 * m1 - square * v1
    under = m1 * m1 * v0 + m0 * m0 * v1 - 2 * m1 * m0 * covariance - square * (v1 * v0 - covariance * covariance)
    if under < 0:
        return a, (math.nan, math.nan)
    far = b + math.copysign(critical * math.sqrt(under), b)
    roots = (far / a if a else math.inf, c / far if far else 0.0)
    return a, (min(roots), max(roots))


def lift(
    means: tuple[Floats, Floats],
    variances: tuple[Floats, Floats],
    critical: Floats,
    *,
    covariance: Floats | float = 0.0,
    alpha: float,
    alternative: Alternative = "two-sided",
) -> dict[str, EffectSize]:
    """Relative difference, treatment over control minus 1, with three intervals.

    Parameters
    ----------
    means : pair of ndarray
        Means of treatment and control.
    variances : pair of ndarray
        Squared standard errors of those means.
    critical : ndarray
        Critical value of the test that the interval goes with.
    covariance : ndarray, optional
        Covariance of the two means, where both are of the same units.
    alpha, alternative
        As for the test.

    Returns
    -------
    dict of str to EffectSize
        `lift` with Fieller's interval, `lift_delta` with that of the delta method, `log_ratio` (log of treatment over
        control) with its normal interval. NaN where the control's mean is 0, and for `log_ratio` where the means differ
        in sign. Fieller's limits are infinite where the control's mean can't be told from 0: then no
        finite limit covers the ratio, and `excludes` says between which two values it is not, if the data say that.

    Notes
    -----
    A ratio r is inside Fieller's interval when (m1 - r m0)^2 <= c^2 (v1 - 2 r v10 + r^2 v0): the same test as for the
    difference, so it excludes a lift of 0 exactly when the test of no difference rejects; the others are approximate.
    Of a control below 0 the lift is still treatment over control less 1: above 0 where treatment is further below. A
    one-sided interval then opens to the other side.

    References
    ----------
    .. [1] Fieller (1954), Journal of the Royal Statistical Society B 16, 175-185.
    .. [2] Hedges, Gurevitch & Curtis (1999), Ecology 80, 1150-1156, for the log ratio.
    """
    xp, (m1, m0, v1, v0, c, k) = alike(*means, *variances, covariance, critical)
    with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
        lifts, inside = _three(m1, m0, v1, v0, c, k, xp)
    if alternative != "two-sided":
        upward = (m0 > 0) if alternative == "greater" else (m0 < 0)
        for one in lifts:
            one[1] = xp.where(upward, one[1], -math.inf) + 0 * one[0]
            one[2] = xp.where(upward, math.inf, one[2]) + 0 * one[0]
    fieller, delta, logs = lifts
    level = 1 - alpha
    lift = effect(fieller, level, "lift", "relative")
    # One-sided, the values left out are those on the side that the test looks to.
    left, right = (np.asarray(end) for end in inside)
    side = True if alternative == "two-sided" else np.where(upward, right <= fieller[0], left >= fieller[0])
    known = side & np.isfinite(left) & np.isfinite(right) & np.isfinite(fieller[0])
    if np.any(known):
        low, high = (scalar_or_array(np.where(known, end, math.nan)) for end in (left, right))
        lift = replace(lift, interval=replace(lift.interval, excludes=(low, high)))
    return {
        "lift": lift,
        "lift_delta": effect(delta, level, "lift by the delta method", "relative", aside=True),
        "log_ratio": effect(logs, level, "log ratio", aside=True),
    }


def _three(
    m1: Any, m0: Any, v1: Any, v0: Any, covariance: Any, critical: Any, xp: Any
) -> tuple[list[list[Any]], tuple[Any, Any]]:
    """Value and limits by Fieller, by the delta method, and of the log ratio; and what Fieller's set leaves out."""
    square = critical * critical
    a, b, c = m0 * m0 - square * v0, m1 * m0 - square * covariance, m1 * m1 - square * v1
    # b^2 - a c, written without the cancellation of m1^2 m0^2.
    spread = m1 * m1 * v0 + m0 * m0 * v1 - 2 * m1 * m0 * covariance
    under = spread - square * (v1 * v0 - covariance * covariance)
    root = critical * xp.sqrt(xp.most(under, 0.0))
    far = b + xp.copysign(root, b)
    one, two = xp.quotient(far, a), xp.where(far == 0, 0.0, xp.quotient(c, far))
    ratio, value = xp.quotient(m1, m0), xp.quotient(m1 - m0, m0)
    hidden = xp.where(xp.isfinite(value * value), 0.0, math.nan)
    low, high = xp.where(a > 0, xp.least(one, two) - 1, -math.inf), xp.where(a > 0, xp.most(one, two) - 1, math.inf)
    variance = xp.most(v1 - 2 * ratio * covariance + ratio * ratio * v0, 0.0)
    reach = xp.quotient(critical * xp.sqrt(variance), abs(m0))
    logs, log_reach = xp.log(xp.where(ratio > 0, ratio, math.nan)), xp.quotient(reach, ratio)
    lifts = [
        [hidden + value, hidden + low, hidden + high],
        [hidden + value, hidden + (value - reach), hidden + (value + reach)],
        [hidden + logs, hidden + (logs - log_reach), hidden + (logs + log_reach)],
    ]
    outside = xp.where(xp.both(a < 0, under > 0), 0.0, math.nan)
    return lifts, (outside + (xp.least(one, two) - 1), outside + (xp.most(one, two) - 1))
