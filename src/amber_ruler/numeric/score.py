"""Score statistics of two binomial groups, and the limits at which they reach a critical value."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

import numpy as np

from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root

Statistic: TypeAlias = Callable[[Floats, Floats, Floats, Floats, Floats], Floats]

_FAR = 80.0  # log of a ratio beyond any that counts below 1e15 could tell apart


def difference(x1: Floats, n1: Floats, x0: Floats, n0: Floats, delta: Floats) -> Floats:
    """Score z for p1 - p0 = delta, with both shares at their maximum likelihood under it.

    References
    ----------
    .. [1] Mee (1984), Biometrics 40, 1175-1176.
    .. [2] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226, appendix I, for the cubic.
    """
    p0 = constrained_share(x1, n1, x0, n0, delta)
    p1 = np.clip(p0 + delta, 0.0, 1.0)
    variance = p1 * (1 - p1) / n1 + p0 * (1 - p0) / n0
    return _ratio(x1 / n1 - x0 / n0 - delta, np.sqrt(variance))


def log_risk_ratio(x1: Floats, n1: Floats, x0: Floats, n0: Floats, log_ratio: Floats) -> Floats:
    """Score z for p1 / p0 = exp(log_ratio).

    References
    ----------
    .. [1] Koopman (1984), Biometrics 40, 513-517.
    """
    ratio, x = np.exp(log_ratio), x1 + x0
    # The discriminant of n r p0^2 - b p0 + x = 0 as a sum of positive terms, so that nothing cancels.
    b = (n1 + x0) * ratio + (n0 + x1)
    root = np.hypot((n1 + x0) * ratio - (n0 + x1), 2 * np.sqrt(ratio * (n1 - x1) * (n0 - x0)))
    p0 = np.minimum(2 * x / (b + root), 1.0)
    p1 = np.minimum(ratio * p0, 1.0)
    spread = np.sqrt(p1 * (1 - p1) / n1 + ratio**2 * p0 * (1 - p0) / n0)
    return _ratio(x1 / n1 - ratio * x0 / n0, spread)


def log_odds_ratio(x1: Floats, n1: Floats, x0: Floats, n0: Floats, log_ratio: Floats) -> Floats:
    """Score z for an odds ratio of exp(log_ratio).

    References
    ----------
    .. [1] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226, equation 14 without its N / (N - 1).
    """
    ratio, x = np.exp(log_ratio), x1 + x0
    # Successes and failures each from an equation of their own: either may be so rare that 1 - p loses it.
    p0, q0 = _odds_share(x, n1, n0, ratio), _odds_share(n1 + n0 - x, n1, n0, 1 / ratio)
    p1, q1 = ratio * p0 / (ratio * p0 + q0), q0 / (ratio * p0 + q0)
    # Observed less expected is the same in all four cells but for its sign: the smallest cell has it exactly.
    expected = np.stack([n1 * p1, n1 * q1, n0 * p0, n0 * q0])
    cells = ((x1, 1.0), (n1 - x1, -1.0), (x0, -1.0), (n0 - x0, 1.0))
    gaps = np.stack([sign * (cell - e) for (cell, sign), e in zip(cells, expected, strict=True)])
    gap = np.take_along_axis(gaps, np.argmin(expected, axis=0)[None], axis=0)[0]
    return np.where(gap == 0, 0.0, gap * np.sqrt(1 / (n1 * p1 * q1) + 1 / (n0 * p0 * q0)))


def _odds_share(x: Floats, n1: Floats, n0: Floats, ratio: Floats) -> Floats:
    """The p0 in (0, 1) with n1 p1 + n0 p0 = x and odds of p1 = ratio times odds of p0."""
    a, b = n0 * (ratio - 1), n1 * ratio + n0 - x * (ratio - 1)
    # For ratios below 1 the discriminant b^2 + 4 a x as a sum of positive terms.
    less = x * (1 - ratio)
    square = np.where(ratio < 1, (n0 + n1 * ratio - less) ** 2 + 4 * n1 * ratio * less, b * b + 4 * a * x)
    root = np.sqrt(np.maximum(square, 0))
    return np.where(b >= 0, 2 * x / (b + root), (root - b) / (2 * a))


def difference_limits(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, critical: tuple[float, float]
) -> tuple[Floats, Floats]:
    """Differences at which the score z equals critical[0] (lower limit) and -critical[1] (upper limit)."""
    estimate = x1 / n1 - x0 / n0
    ends = np.stack([np.full(estimate.shape, -1.0), np.full(estimate.shape, 1.0)])
    low, high = _limits(difference, (x1, n1, x0, n0), np.stack([estimate, estimate]), ends, critical)
    return low, high


def ratio_limits(
    statistic: Statistic,
    x1: Floats,
    n1: Floats,
    x0: Floats,
    n0: Floats,
    estimate: Floats,
    critical: tuple[float, float],
) -> tuple[Floats, Floats]:
    """Ratios at which a score z of the log ratio equals critical[0] and -critical[1]; 0 or inf where none does."""
    with np.errstate(divide="ignore", invalid="ignore"):
        centre = np.log(estimate)
    # Where the estimate is 0, infinite or undefined, each limit is sought over the whole scale.
    inside = np.clip(centre, -_FAR, _FAR)
    starts = np.stack([np.where(np.isnan(centre), _FAR, inside), np.where(np.isnan(centre), -_FAR, inside)])
    ends = np.stack([np.full(centre.shape, -_FAR), np.full(centre.shape, _FAR)])
    log_low, log_high = _limits(statistic, (x1, n1, x0, n0), starts, ends, critical)
    with np.errstate(over="ignore"):
        lower = np.where((estimate == 0) | np.isnan(estimate) | (log_low <= -_FAR), 0.0, np.exp(log_low))
        upper = np.where(np.isinf(estimate) | np.isnan(estimate) | (log_high >= _FAR), np.inf, np.exp(log_high))
    return lower, upper


def _limits(
    statistic: Statistic,
    counts: tuple[Floats, Floats, Floats, Floats],
    starts: Floats,
    ends: Floats,
    critical: tuple[float, float],
) -> Floats:
    """Both limits at once, along the first axis: where the statistic, falling, meets its critical values."""
    target = np.array([critical[0], -critical[1]]).reshape(2, *([1] * (starts.ndim - 1)))

    def miss(value: Floats) -> Floats:
        # The arctangent keeps interpolation tame where z runs off to infinity at an end, and takes infinite targets.
        return np.asarray(np.arctan(statistic(*counts, value)) - np.arctan(target))

    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        reached = np.sign(miss(ends)) * np.sign(target) > 0
        return np.where(reached, bracketed_root(miss, starts, ends), ends)


def _ratio(top: Floats, bottom: Floats) -> Floats:
    with np.errstate(divide="ignore", invalid="ignore"):
        z = top / bottom
    return np.where(top == 0, 0.0, z)


def constrained_share(x1: Floats, n1: Floats, x0: Floats, n0: Floats, delta: Floats) -> Floats:
    """Maximum likelihood of p0 under p1 = p0 + delta: the middle root of a cubic."""
    n, x = n1 + n0, x1 + x0
    c2 = ((n1 + 2 * n0) * delta - n - x) / n
    c1 = ((n0 * delta - n - 2 * x0) * delta + x) / n
    c0 = x0 * delta * (1 - delta) / n
    q = c2**3 / 27 - c1 * c2 / 6 + c0 / 2
    p = np.copysign(np.sqrt(np.maximum(c2**2 / 9 - c1 / 3, 0)), q)
    with np.errstate(divide="ignore", invalid="ignore"):
        cosine = np.where(p == 0, 0.0, q / p**3)
        angle = (np.pi + np.arccos(np.clip(cosine, -1, 1))) / 3
        share = 2 * p * np.cos(angle) - c2 / 3
        # The cosine leaves an absolute error of one rounding; Newton steps make it a relative one.
        for _ in range(2):
            step = (((share + c2) * share + c1) * share + c0) / ((3 * share + 2 * c2) * share + c1)
            share = share - np.where(np.abs(step) < 1e-6, step, 0.0)
    return np.asarray(np.clip(share, np.maximum(0.0, -delta), np.minimum(1.0, 1.0 - delta)))
