"""Effects of two shares: ratios, and the distance on the arcsine scale."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.effects.scale import Alternative, critical_z, tails
from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, score
from amber_ruler.numeric.exact import arcsine_distance, difference_of_shares
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import EffectSize, Interval


def risk_ratio(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, *, alpha: float, alternative: Alternative = "two-sided"
) -> EffectSize:
    """Ratio of two shares with Koopman's score interval; infinite or NaN where control has no success.

    References
    ----------
    .. [1] Koopman (1984), Biometrics 40, 513-517.
    """
    x1, n1, x0, n0 = _counts(x1, n1, x0, n0)
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
    x1, n1, x0, n0 = _counts(x1, n1, x0, n0)
    with np.errstate(divide="ignore", invalid="ignore"):
        value = (x1 * (n0 - x0)) / ((n1 - x1) * x0)
    return _ratio_effect(score.log_odds_ratio, (x1, n1, x0, n0), value, "odds ratio", alpha, alternative)


def _counts(*counts: ArrayLike) -> list[Floats]:
    """Successes and trials of treatment and control; what comes from a method has been looked at."""
    if all(isinstance(c, (np.ndarray, np.floating)) for c in counts):
        return list(counts)  # type: ignore[arg-type]
    for k, name in enumerate(("x1", "n1", "x0", "n0")):
        gate.at_least(name, counts[k], 0 if name.startswith("x") else 1)
    x1, n1, x0, n0 = gate.aligned(*counts)
    if np.any(x1 > n1) or np.any(x0 > n0):
        raise InputError("There can't be more successes than trials.")
    return [x1, n1, x0, n0]


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
    x1, n1, x0, n0 = _counts(x1, n1, x0, n0)
    value = np.asarray(arcsine_distance(x1 / n1, x0 / n0, difference_of_shares(x1, n1, x0, n0)))
    spread = np.sqrt(1 / n1 + 1 / n0)
    below, above = critical_z(tails(alpha, alternative))
    interval = Interval(scalar_or_array(value - below * spread), scalar_or_array(value + above * spread), 1 - alpha)
    return EffectSize(scalar_or_array(value), interval, "Cohen h")
