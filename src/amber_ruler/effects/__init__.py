"""Effect sizes and their intervals."""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import chisquare, fisher, gate, normal, score, student
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.numeric.stirling import stirling_error
from amber_ruler.results import EffectSize, Interval

__all__ = [
    "Alternative",
    "cohen_h",
    "convert",
    "customary_word",
    "from_chi_square",
    "from_f",
    "lift",
    "odds_ratio",
    "risk_ratio",
    "small_sample_factor",
    "standardised",
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
    return _tails(alpha if isinstance(alpha, float) else float(gate.floats("alpha", alpha)), alternative)


@lru_cache(maxsize=256)
def _tails(alpha: float, alternative: str) -> tuple[float, float]:
    alpha = float(gate.between("alpha", alpha, 0, 0.5))
    return {"two-sided": (alpha / 2, alpha / 2), "greater": (alpha, 0.0), "less": (0.0, alpha)}[alternative]


@lru_cache(maxsize=256)
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
    above, below = stirling_error(np.array([a, a - 0.5]))
    log_factor = -(a - 1) * np.log1p(-1 / (2 * a)) - 0.5 + above - below
    return scalar_or_array(np.exp(log_factor))


def standardised(
    t: Number,
    n1: Number,
    n0: Number,
    *,
    difference_in_control_sd: Number | None = None,
    alpha: float = 0.05,
    alternative: Alternative = "two-sided",
) -> dict[str, EffectSize]:
    """Every standardised difference of two means, from the pooled t statistic.

    Parameters
    ----------
    t : float or array_like
        Two-sample t statistic with the pooled standard deviation, treatment minus control.
    n1, n0 : float or array_like
        Units in treatment and control.
    difference_in_control_sd : float or array_like, optional
        Difference of means over the control's standard deviation; Glass Δ is given with it only.
    alpha : float
        One minus the level of the intervals.
    alternative : "two-sided", "greater" or "less"
        A one-sided interval has its one limit on the side that matters.

    Returns
    -------
    dict of str to EffectSize
        `hedges_g` (d times the exact correction), `cohen_d`, `glass_delta`, `r` (point-biserial), `superiority` (the
        chance that a unit of treatment has more than one of control) and `overlap` (of the two distributions). The
        last two are those of normal groups with equal spreads.

    Notes
    -----
    All intervals but that of Glass Δ are of the population effect and come from one inversion of the noncentral t, so
    that they exclude "no effect" exactly when the pooled t test rejects. Glass Δ inverts the noncentral t with the
    control's degrees of freedom, which is exact where the spreads are equal.

    References
    ----------
    .. [1] Hedges (1981), Journal of Educational Statistics 6, 107-128.
    .. [2] Steiger & Fouladi (1997), Noncentrality interval estimation, for the inversion.
    .. [3] McGraw & Wong (1992), Psychological Bulletin 111, 361-365, for superiority.
    .. [4] Reiser & Faraggi (1999), The Statistician 48, 413-418, for overlap.

    Examples
    --------
    >>> found = standardised(2.0, 50, 50)
    >>> g = found["hedges_g"]
    >>> round(g.value, 4), round(g.interval.low, 4), round(g.interval.high, 4)
    (0.3969, 0.003, 0.795)
    >>> round(found["superiority"].value, 3)
    0.611
    """
    by_control = None if difference_in_control_sd is None else gate.finite("Glass Δ", difference_in_control_sd)
    raw = (gate.finite("t", t), gate.at_least("n1", n1, 1), gate.at_least("n0", n0, 1))
    t_, first, second, glass = gate.aligned(*raw, 0.0 if by_control is None else by_control)
    unit = np.sqrt(1 / first + 1 / second)
    df = first + second - 2
    tail = tails(alpha, alternative)
    level = 1 - alpha
    if by_control is None:
        bounds = student.shift_bounds(t_, df, *tail)
        low, high = bounds.low * unit, bounds.high * unit
    else:
        # One inversion for both, since it costs by the call.
        both = student.shift_bounds(np.array([t_, glass / unit]), np.array([df, second - 1]), tail[0], tail[1])
        (low, glass_low), (high, glass_high) = both.low * unit, both.high * unit
    d = t_ * unit
    found = {
        "hedges_g": _effect(d * small_sample_factor(scalar_or_array(df)), low, high, level, "Hedges g"),
        "cohen_d": _effect(d, low, high, level, "Cohen d", aside=True),
    }
    if by_control is not None:
        found["glass_delta"] = _effect(glass, glass_low, glass_high, level, "Glass Δ", aside=True)
    scale = (first + second) / np.sqrt(first * second)
    ends = np.array([d, low, high])
    _, r_low, r_high = np.tanh(np.arcsinh(ends / scale))
    found["r"] = _effect(t_ / np.sqrt(t_ * t_ + df), r_low, r_high, level, "r", aside=True)
    wins, wins_low, wins_high = normal.cdf(ends / np.sqrt(2))
    found["superiority"] = _effect(wins, wins_low, wins_high, level, "superiority", unit="share", aside=True)
    shared, at_low, at_high = 2 * normal.cdf(-np.abs(ends) / 2)
    most = np.where((low <= 0) & (high >= 0), 1.0, np.maximum(at_low, at_high))
    least = np.minimum(at_low, at_high)
    found["overlap"] = _effect(shared, least, most, level, "overlap", unit="share", aside=True)
    return found


def _effect(
    value: Floats, low: Floats, high: Floats, level: float, label: str, *, unit: str = "", aside: bool = False
) -> EffectSize:
    interval = Interval(scalar_or_array(low), scalar_or_array(high), level)
    return EffectSize(scalar_or_array(value), interval, label, unit, aside)


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
        control) with its normal interval. NaN where the control's mean is not above 0, and for `log_ratio` where
        treatment's is not either. Fieller's limits are infinite where the control's mean can't be told from 0: then no
        finite limit covers the ratio.

    Notes
    -----
    A ratio r is inside Fieller's interval when (m1 - r m0)^2 <= c^2 (v1 - 2 r v10 + r^2 v0): the same test as for the
    difference, so it excludes a lift of 0 exactly when the test of no difference rejects; the others are approximate.

    References
    ----------
    .. [1] Fieller (1954), Journal of the Royal Statistical Society B 16, 175-185.
    .. [2] Hedges, Gurevitch & Curtis (1999), Ecology 80, 1150-1156, for the log ratio.
    """
    (m1, m0), (v1, v0) = means, variances
    square = critical * critical
    a, b, c = m0 * m0 - square * v0, m1 * m0 - square * covariance, m1 * m1 - square * v1
    with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
        # b^2 - a c, written without the cancellation of m1^2 m0^2.
        spread = m1 * m1 * v0 + m0 * m0 * v1 - 2 * m1 * m0 * covariance
        root = critical * np.sqrt(np.maximum(spread - square * (v1 * v0 - covariance * covariance), 0))
        far = b + np.copysign(root, b)
        one, two = far / a, np.where(far == 0, 0.0, c / far)
        value = (m1 - m0) / m0
        ratio = m1 / m0
        usable = (m0 > 0) & np.isfinite(value)
        hidden = np.where(usable, 0.0, np.nan)
        bounded = a > 0
        low = np.where(bounded, np.minimum(one, two) - 1, -np.inf) + hidden
        high = np.where(bounded, np.maximum(one, two) - 1, np.inf) + hidden
        reach = critical * np.sqrt(np.maximum(v1 - 2 * ratio * covariance + ratio * ratio * v0, 0)) / m0
        log_reach = reach / ratio
        log_ratio = np.where(usable & (m1 > 0), np.log(np.abs(ratio)), np.nan)
    below, above = {"greater": (1.0, np.inf), "less": (np.inf, 1.0)}.get(alternative, (1.0, 1.0))
    value = value + hidden
    if alternative == "greater":
        high = np.inf + hidden
    if alternative == "less":
        low = -np.inf + hidden
    level = 1 - alpha
    with np.errstate(invalid="ignore"):
        delta = value - below * reach, value + above * reach
        logs = log_ratio - below * log_reach, log_ratio + above * log_reach
    return {
        "lift": _effect(value, low, high, level, "lift", unit="relative"),
        "lift_delta": _effect(value, *delta, level, "lift by the delta method", unit="relative", aside=True),
        "log_ratio": _effect(log_ratio, *logs, level, "log ratio", aside=True),
    }


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
    return EffectSize(scalar_or_array(value), interval, label, "ratio")


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


def convert(value: Number, start: str, end: str, *, ratio: float = 1.0, share: float | None = None) -> Number:
    """Turn one effect size of two groups into another.

    Parameters
    ----------
    value : float or array_like
        The effect size.
    start, end : "d", "r", "odds ratio", "f" or "h"
        What it is, and what is wanted. f has no sign.
    ratio : float
        Units in treatment over units in control; r and f depend on it.
    share : float between 0 and 1, optional
        Share of successes in control; needed for h only.

    Returns
    -------
    float or ndarray

    Notes
    -----
    With k the ratio: r = d / sqrt(d^2 + (1 + k)^2 / k), f = |d| sqrt(k) / (1 + k), odds ratio = exp(pi d / sqrt(3)).
    The last takes a logistic distribution behind the yes and no, and is an approximation. h follows from the odds ratio
    and the share.

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed.
    .. [2] Hasselblad & Hedges (1995), Psychological Bulletin 117, 167-178, for the odds ratio.

    Examples
    --------
    >>> round(convert(0.5, "d", "r"), 4), round(convert(0.5, "d", "odds ratio"), 3)
    (0.2425, 2.477)
    """
    known = ("d", "r", "odds ratio", "f", "h")
    gate.choice("start", start, known)
    gate.choice("end", end, known)
    x, k = gate.finite("value", value), float(gate.positive("ratio", ratio))
    scale = (1 + k) / np.sqrt(k)
    base = 0.5 if share is None else float(gate.between("share", share, 0, 1))
    if "h" in (start, end) and share is None:
        raise InputError("h depends on where the shares lie: give share, that of control.")
    angle, log_odds, slope = np.arcsin(np.sqrt(base)), np.log(base / (1 - base)), np.pi / np.sqrt(3)
    if start == "r":
        gate.between("value", value, -1, 1)
        d = scale * x / np.sqrt((1 - x) * (1 + x))
    elif start == "odds ratio":
        d = np.log(gate.positive("value", value)) / slope
    elif start == "f":
        d = gate.at_least("value", value, 0) * scale
    elif start == "h":
        at = gate.between("the share of treatment that h leads to", (x / 2 + angle) * 2 / np.pi, 0, 1) * np.pi / 2
        d = (2 * np.log(np.tan(at)) - log_odds) / slope
    else:
        d = x
    if end == "r":
        return scalar_or_array(d / np.sqrt(d * d + scale * scale))
    if end == "odds ratio":
        return scalar_or_array(np.exp(slope * d))
    if end == "f":
        return scalar_or_array(np.abs(d) / scale)
    if end == "h":
        return scalar_or_array(2 * (np.arctan(np.exp((log_odds + slope * d) / 2)) - angle))
    return scalar_or_array(d)


def from_f(f: float, df1: float, df2: float, *, alpha: float = 0.05) -> dict[str, EffectSize]:
    """Effect sizes behind a published F: partial eta squared, omega squared and Cohen f.

    Parameters
    ----------
    f : float
        The statistic, not below 0.
    df1, df2 : float
        Its degrees of freedom; df1 = 1 and f = t^2 for a t.
    alpha : float
        One minus the level of the intervals.

    Returns
    -------
    dict of str to EffectSize
        `cohen_f`, `eta_squared` and `omega_squared`. The intervals invert the noncentral F at alpha / 2 on each side;
        a lower limit of 0 says that the F test does not reject at alpha / 2.

    References
    ----------
    .. [1] Steiger (2004), Psychological Methods 9, 164-182.
    .. [2] Olejnik & Algina (2003), Psychological Methods 8, 434-447, for omega squared.

    Examples
    --------
    >>> found = from_f(5.0, 2, 57)
    >>> round(found["eta_squared"].value, 4), round(found["omega_squared"].value, 4)
    (0.1493, 0.1176)
    """
    value = float(gate.at_least("f", f, 0))
    one, two = float(gate.positive("df1", df1)), float(gate.positive("df2", df2))
    tail = tails(alpha, "two-sided")
    low, high = (float(end) for end in fisher.noncentrality_bounds(value, one, two, *tail))
    n = one + two + 1
    eta = one * value / (one * value + two)
    omega = max(0.0, one * (value - 1) / (one * (value - 1) + n))
    shares = Interval(low / (low + n), high / (high + n), 1 - alpha)
    roots = Interval(float(np.sqrt(low / n)), float(np.sqrt(high / n)), 1 - alpha)
    return {
        "cohen_f": EffectSize(float(np.sqrt(one * value / two)), roots, "Cohen f"),
        "eta_squared": EffectSize(eta, shares, "partial η²"),
        "omega_squared": EffectSize(omega, shares, "partial ω²"),
    }


def from_chi_square(statistic: float, n: float, df: float, *, alpha: float = 0.05) -> EffectSize:
    """Cohen w (φ of a two by two table) behind a published chi-square of n units.

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed., chapter 7.
    .. [2] Smithson (2003), Confidence Intervals, for the inversion of the noncentral chi-square.

    Examples
    --------
    >>> w = from_chi_square(9.0, 100, 1)
    >>> w.value, round(w.interval.low, 4), round(w.interval.high, 4)
    (0.3, 0.104, 0.496)
    """
    x, size = float(gate.at_least("statistic", statistic, 0)), float(gate.positive("n", n))
    low, high = chisquare.noncentrality_bounds(x, float(gate.positive("df", df)), *tails(alpha, "two-sided"))
    ends = Interval(float(np.sqrt(low / size)), float(np.sqrt(high / size)), 1 - alpha)
    return EffectSize(float(np.sqrt(x / size)), ends, "Cohen w")


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
