"""Effect sizes and their intervals."""

from __future__ import annotations

from typing import Literal, TypeAlias

import numpy as np

from amber_ruler.numeric import gate, normal, score, student
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.numeric.stirling import stirling_error
from amber_ruler.results import EffectSize, Interval

__all__ = [
    "Alternative",
    "cohen_h",
    "customary_word",
    "hedges_g",
    "lift",
    "odds_ratio",
    "risk_ratio",
    "small_sample_factor",
    "tails",
]

Alternative: TypeAlias = Literal["two-sided", "greater", "less"]

# From where on an effect is customarily called small, medium, large.
_WORDS = {
    "d": (0.2, 0.5, 0.8),
    "h": (0.2, 0.5, 0.8),
    "r": (0.1, 0.3, 0.5),
    "w": (0.1, 0.3, 0.5),
    "f": (0.1, 0.25, 0.4),
    "f²": (0.02, 0.15, 0.35),
}


def tails(alpha: float, alternative: str) -> tuple[float, float]:
    """Error rate below the lower and above the upper limit of an interval; 0 where there is no limit."""
    gate.choice("alternative", alternative, gate.ALTERNATIVES)
    alpha = float(gate.between("alpha", alpha, 0, 0.5))
    return {"two-sided": (alpha / 2, alpha / 2), "greater": (alpha, 0.0), "less": (0.0, alpha)}[alternative]


def critical_z(tail: tuple[float, float]) -> tuple[float, float]:
    """Normal critical values for two tails; infinite where a tail is 0."""
    low, high = (float(normal.upper_quantile(t)) if t > 0 else np.inf for t in tail)
    return low, high


def small_sample_factor(df: Number) -> Number:
    """Exact factor that turns Cohen's d into Hedges's g, for df above 1.

    References
    ----------
    .. [1] Hedges (1981), Journal of Educational Statistics 6, 107-128, equation 6e.

    Examples
    --------
    >>> round(small_sample_factor(10.0), 6)
    0.922746
    """
    a = gate.positive("df", df) / 2
    # Gamma(a) / (sqrt(a) Gamma(a - 1/2)) with the large logarithms of both cancelled beforehand.
    log_factor = -(a - 1) * np.log1p(-1 / (2 * a)) - 0.5 + stirling_error(a) - stirling_error(a - 0.5)
    return scalar_or_array(np.exp(log_factor))


def hedges_g(
    t: Number, n1: Number, n0: Number, *, alpha: float = 0.05, alternative: Alternative = "two-sided"
) -> EffectSize:
    """Standardised difference of two means, corrected for small samples, from the pooled t statistic.

    Parameters
    ----------
    t : float or array_like
        Two-sample t statistic with the pooled standard deviation, treatment minus control.
    n1, n0 : float or array_like
        Units in treatment and control.
    alpha : float
        One minus the level of the interval.
    alternative : "two-sided", "greater" or "less"
        A one-sided interval has its one limit on the side that matters.

    Returns
    -------
    EffectSize
        The value is d times the exact correction. The interval is of the population effect: the noncentral t
        is inverted in its noncentrality, so it needs no correction and excludes 0 exactly when the pooled
        t test rejects.

    References
    ----------
    .. [1] Hedges (1981), Journal of Educational Statistics 6, 107-128.
    .. [2] Steiger & Fouladi (1997), Noncentrality interval estimation, for the inversion.

    Examples
    --------
    >>> g = hedges_g(2.0, 50, 50)
    >>> round(g.value, 4), round(g.interval.low, 4), round(g.interval.high, 4)
    (0.3969, 0.003, 0.795)
    """
    t_, first, second = gate.finite("t", t), gate.at_least("n1", n1, 1), gate.at_least("n0", n0, 1)
    unit = np.sqrt(1 / first + 1 / second)
    df = first + second - 2
    low_tail, high_tail = tails(alpha, alternative)
    bounds = student.shift_bounds(t_, df, low_tail, high_tail)
    value = t_ * unit * small_sample_factor(scalar_or_array(df))
    interval = Interval(scalar_or_array(bounds.low * unit), scalar_or_array(bounds.high * unit), 1 - alpha)
    return EffectSize(scalar_or_array(value), interval, "Hedges g")


def lift(
    means: tuple[Floats, Floats],
    variances: tuple[Floats, Floats],
    critical: Floats,
    *,
    alpha: float,
    alternative: Alternative = "two-sided",
) -> EffectSize:
    """Relative difference, treatment over control minus 1, with Fieller's interval.

    Parameters
    ----------
    means : pair of ndarray
        Means of treatment and control.
    variances : pair of ndarray
        Squared standard errors of those means.
    critical : ndarray
        Critical value of the test that the interval goes with.
    alpha, alternative
        As for the test.

    Returns
    -------
    EffectSize
        NaN where the control's mean is not above 0. Limits are infinite where the control's mean can't be told
        from 0: then no finite limit covers the ratio.

    Notes
    -----
    A ratio r is inside when (m1 - r m0)^2 <= c^2 (v1 + r^2 v0): the same test as for the difference, so the
    interval excludes a lift of 0 exactly when the test of no difference rejects.

    References
    ----------
    .. [1] Fieller (1954), Journal of the Royal Statistical Society B 16, 175-185.
    """
    (m1, m0), (v1, v0) = means, variances
    square = critical * critical
    a, b, c = m0 * m0 - square * v0, m1 * m0, m1 * m1 - square * v1
    with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
        # b^2 - a c, written without the cancellation of m1^2 m0^2.
        root = critical * np.sqrt(np.maximum(m1 * m1 * v0 + m0 * m0 * v1 - square * v1 * v0, 0))
        far = b + np.copysign(root, b)
        ends = np.sort(np.stack([far / a, np.where(far == 0, 0.0, c / far)]), axis=0)
        value = (m1 - m0) / m0
    usable = (m0 > 0) & np.isfinite(value)
    value = np.where(usable, value, np.nan)
    bounded = usable & (a > 0)
    low = np.where(bounded, ends[0] - 1, np.where(usable, -np.inf, np.nan))
    high = np.where(bounded, ends[1] - 1, np.where(usable, np.inf, np.nan))
    if alternative == "greater":
        high = np.where(usable, np.inf, np.nan)
    if alternative == "less":
        low = np.where(usable, -np.inf, np.nan)
    interval = Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)
    return EffectSize(scalar_or_array(value), interval, "lift", percent=True)


def risk_ratio(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, *, alpha: float, alternative: Alternative = "two-sided"
) -> EffectSize:
    """Ratio of two shares with Koopman's score interval; infinite or NaN where control has no success.

    References
    ----------
    .. [1] Koopman (1984), Biometrics 40, 513-517.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        value = (x1 / n1) / (x0 / n0)
    return _ratio_effect(score.log_risk_ratio, (x1, n1, x0, n0), value, "risk ratio", alpha, alternative)


def odds_ratio(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, *, alpha: float, alternative: Alternative = "two-sided"
) -> EffectSize:
    """Ratio of two odds with a score interval; infinite or NaN where an odds is 0 or infinite.

    References
    ----------
    .. [1] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        value = (x1 * (n0 - x0)) / ((n1 - x1) * x0)
    return _ratio_effect(score.log_odds_ratio, (x1, n1, x0, n0), value, "odds ratio", alpha, alternative)


def _ratio_effect(
    statistic: score.Statistic,
    counts: tuple[Floats, Floats, Floats, Floats],
    value: Floats,
    label: str,
    alpha: float,
    alternative: Alternative,
) -> EffectSize:
    limits = score.ratio_limits(statistic, *counts, value, critical_z(tails(alpha, alternative)))
    interval = Interval(scalar_or_array(limits[0]), scalar_or_array(limits[1]), 1 - alpha)
    return EffectSize(scalar_or_array(value), interval, label)


def cohen_h(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, *, alpha: float, alternative: Alternative = "two-sided"
) -> EffectSize:
    """Difference of two shares on the arcsine scale, where its standard error is sqrt(1/n1 + 1/n0).

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed., chapter 6.
    """
    value = 2 * (np.arcsin(np.sqrt(x1 / n1)) - np.arcsin(np.sqrt(x0 / n0)))
    spread = np.sqrt(1 / n1 + 1 / n0)
    below, above = critical_z(tails(alpha, alternative))
    interval = Interval(scalar_or_array(value - below * spread), scalar_or_array(value + above * spread), 1 - alpha)
    return EffectSize(scalar_or_array(value), interval, "Cohen h")


def units_for_skewness(skewness: float) -> float:
    """Units in each group from which on a t test of a metric so skewed can be trusted.

    References
    ----------
    .. [1] Kohavi, Deng, Longbotham & Xu (2014), KDD '14, rule 7.
    """
    return 355.0 * skewness**2


def customary_word(scale: str, value: float) -> str:
    """Say by which word an effect of this size is customarily called: a habit, no reason to plan for it.

    Parameters
    ----------
    scale : "d", "h", "r", "w", "f" or "f²"
        What the effect is measured by.
    value : float
        Its size, of either sign.

    Returns
    -------
    str
        "less than small", "small", "medium" or "large". What is small on paper may matter, and the other way round:
        the words were meant for lack of anything better.

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed.

    Examples
    --------
    >>> customary_word("d", -0.55)
    'medium'
    """
    gate.choice("scale", scale, _WORDS)
    size = abs(float(gate.finite("value", value)))
    words = ("less than small", "small", "medium", "large")
    return words[sum(size >= limit for limit in _WORDS[scale])]
