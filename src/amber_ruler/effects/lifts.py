"""Relative differences of two means."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler.effects.scale import Alternative, effect
from amber_ruler.numeric.alike import alike
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import EffectSize


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
