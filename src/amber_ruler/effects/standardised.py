"""Standardised differences of two means."""

from __future__ import annotations

from typing import Any

import numpy as np

from amber_ruler.effects.scale import Alternative, effect, tails
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.alike import alike
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.numeric.stirling import stirling_error
from amber_ruler.results import EffectSize


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
    xp, (clean,) = alike(gate.positive("df", df))
    return scalar_or_array(_factor(clean, xp))


def _factor(df: Any, xp: Any) -> Any:
    a = df / 2
    # Gamma(a) / (sqrt(a) Gamma(a - 1/2)) with the large logarithms of both cancelled beforehand.
    above, below = stirling_error(a), stirling_error(a - 0.5)
    return xp.exp(-(a - 1) * xp.log1p(-1 / (2 * a)) - 0.5 + above - below)


def standardised(
    t: Number,
    n1: Number,
    n0: Number,
    *,
    difference_in_control_sd: Number | None = None,
    unequal: tuple[Number, Number, Number] | None = None,
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
    unequal : difference and both standard deviations, optional
        Superiority without equal spreads is given with them only.
    alpha : float
        One minus the level of the intervals.
    alternative : "two-sided", "greater" or "less"
        A one-sided interval has its one limit on the side that matters.

    Returns
    -------
    dict of str to EffectSize
        `hedges_g` (d times the exact correction), `cohen_d`, `glass_delta`, `r` (point-biserial), `superiority` (the
        chance that a unit of treatment has more than one of control) and `overlap` (of the two distributions). The
        last two are those of normal groups with equal spreads. Beside them `glass_delta_corrected` (Glass Δ times the
        correction of the control's degrees of freedom), and `superiority_unequal`, of normal groups whose spreads
        differ.

    Notes
    -----
    All intervals but that of Glass Δ are of the population effect and come from one inversion of the noncentral t, so
    that they exclude "no effect" exactly when the pooled t test rejects. Glass Δ inverts the noncentral t with the
    control's degrees of freedom, which is exact where the spreads are equal. Superiority with unequal spreads is of
    D = difference / sqrt(s1² + s0²); D sqrt(M), with M = (s1² + s0²) / (s1²/n1 + s0²/n0), is taken as a noncentral t of
    (s1² + s0²)² / (s1⁴/(n1 - 1) + s0⁴/(n0 - 1)) degrees of freedom.

    References
    ----------
    .. [1] Hedges (1981), Journal of Educational Statistics 6, 107-128.
    .. [2] Steiger & Fouladi (1997), Noncentrality interval estimation, for the inversion.
    .. [3] McGraw & Wong (1992), Psychological Bulletin 111, 361-365, for superiority.
    .. [4] Reiser & Faraggi (1999), The Statistician 48, 413-418, for overlap.
    .. [5] Reiser & Guttman (1986), Technometrics 28, 253-257, for superiority with unequal spreads.

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
    df, unit = first + second - 2, np.sqrt(1 / first + 1 / second)
    tail, level = tails(alpha, alternative), 1 - alpha
    rows = [(t_, df)]
    if by_control is not None:
        rows.append((glass / unit, second - 1))
    if unequal is not None:
        apart, root, own_df = _apart(unequal, first, second)
        rows.append((apart * root, own_df))
    # One inversion for all, since it costs by the call.
    shifted, with_df = (np.stack(np.broadcast_arrays(*part)) for part in zip(*rows, strict=True))
    low, high = student.shift_bounds(shifted, with_df, *tail)
    xp, (t_, unit, df, low_d, high_d) = alike(t_, unit, df, low[0] * unit, high[0] * unit)
    d = (t_ * unit, low_d, high_d)
    found = {
        "hedges_g": effect((d[0] * _factor(df, xp), low_d, high_d), level, "Hedges g"),
        "cohen_d": effect(d, level, "Cohen d", aside=True),
    }
    if by_control is not None:
        own = (glass, low[1] * unit, high[1] * unit)
        found["glass_delta"] = effect(own, level, "Glass Δ", aside=True)
        if not gate.some(second < 3):
            own = (glass * _factor(second - 1, xp), *own[1:])
            found["glass_delta_corrected"] = effect(own, level, "corrected Glass Δ", aside=True)
    scale = (df + 2) / xp.sqrt(first * second)
    r = (t_ / xp.sqrt(t_ * t_ + df), *(xp.tanh(xp.arcsinh(end / scale)) for end in d[1:]))
    found["r"] = effect(r, level, "r", aside=True)
    wins = [normal.cdf(end / np.sqrt(2)) for end in d]
    found["superiority"] = effect(wins, level, "superiority", "share", aside=True)
    if unequal is not None:
        wins = [normal.cdf(end) for end in (apart, low[-1] / root, high[-1] / root)]
        found["superiority_unequal"] = effect(wins, level, "superiority with spreads apart", "share", aside=True)
    shared, at_low, at_high = (2 * normal.cdf(-xp.size(end) / 2) for end in d)
    most = xp.where(xp.both(low_d <= 0, high_d >= 0), 1.0, xp.most(at_low, at_high))
    found["overlap"] = effect((shared, xp.least(at_low, at_high), most), level, "overlap", "share", aside=True)
    return found


def _apart(unequal: tuple[Number, Number, Number], n1: Floats, n0: Floats) -> tuple[Floats, Floats, Floats]:
    """Difference over the root of the sum of both variances, the root of M, and the degrees of freedom."""
    difference, sd1, sd0 = (np.asarray(v, dtype=np.float64) for v in unequal)
    whole = np.hypot(sd1, sd0)
    share1, share0 = (sd1 / whole) ** 2, (sd0 / whole) ** 2
    root = 1 / np.sqrt(share1 / n1 + share0 / n0)
    df = 1 / (share1**2 / np.maximum(n1 - 1, 1) + share0**2 / np.maximum(n0 - 1, 1))
    return difference / whole, root, df
