"""Score statistics of two binomial groups, and the limits at which they reach a critical value."""

from __future__ import annotations

import math
from collections.abc import Callable
from types import SimpleNamespace
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np

from amber_ruler.numeric.roots import bracketed_number, bracketed_root

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

Statistic: TypeAlias = Callable[..., Any]

_BLOCK = 4096  # comparisons at a time
_FAR = 80.0  # log of a ratio beyond any that counts below 1e15 could tell apart


def _quotient(top: float, bottom: float) -> float:
    """Divide floats as arrays do."""
    if bottom:
        return top / bottom
    return math.copysign(math.inf, top) if top else math.nan


def _quotients(top: Any, bottom: Any) -> Any:
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        return np.divide(top, bottom)


# Each formula stands once and is written for arrays and for single numbers, which are 20 times faster by themselves.
ARRAYS = SimpleNamespace(
    sqrt=np.sqrt, exp=np.exp, hypot=np.hypot, least=np.minimum, most=np.maximum, where=np.where,
    quotient=_quotients, copysign=np.copysign, cos=np.cos, arccos=np.arccos,
)  # fmt: skip
NUMBERS = SimpleNamespace(
    sqrt=math.sqrt, exp=math.exp, hypot=math.hypot, least=min, most=max, where=lambda test, a, b: a if test else b,
    quotient=_quotient, copysign=math.copysign, cos=math.cos, arccos=math.acos,
)  # fmt: skip


def difference(x1: Any, n1: Any, x0: Any, n0: Any, delta: Any, xp: Any = ARRAYS) -> Any:
    """Score z for p1 - p0 = delta, with both shares at their maximum likelihood under it.

    References
    ----------
    .. [1] Mee (1984), Biometrics 40, 1175-1176.
    .. [2] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226, appendix I, for the cubic.
    """
    p0 = constrained_share(x1, n1, x0, n0, delta, xp)
    p1 = xp.least(xp.most(p0 + delta, 0.0), 1.0)
    variance = p1 * (1 - p1) / n1 + p0 * (1 - p0) / n0
    return _ratio(x1 / n1 - x0 / n0 - delta, xp.sqrt(variance), xp)


def log_risk_ratio(x1: Any, n1: Any, x0: Any, n0: Any, log_ratio: Any, xp: Any = ARRAYS) -> Any:
    """Score z for p1 / p0 = exp(log_ratio).

    References
    ----------
    .. [1] Koopman (1984), Biometrics 40, 513-517.
    """
    ratio, x = xp.exp(log_ratio), x1 + x0
    # The discriminant of n r p0^2 - b p0 + x = 0 as a sum of positive terms, so that nothing cancels.
    b = (n1 + x0) * ratio + (n0 + x1)
    root = xp.hypot((n1 + x0) * ratio - (n0 + x1), 2 * xp.sqrt(ratio * (n1 - x1) * (n0 - x0)))
    p0 = xp.least(2 * x / (b + root), 1.0)
    p1 = xp.least(ratio * p0, 1.0)
    spread = xp.sqrt(p1 * (1 - p1) / n1 + ratio**2 * p0 * (1 - p0) / n0)
    return _ratio(x1 / n1 - ratio * x0 / n0, spread, xp)


def log_odds_ratio(x1: Any, n1: Any, x0: Any, n0: Any, log_ratio: Any, xp: Any = ARRAYS) -> Any:
    """Score z for an odds ratio of exp(log_ratio).

    References
    ----------
    .. [1] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226, equation 14 without its N / (N - 1).
    """
    ratio, x = xp.exp(log_ratio), x1 + x0
    # Successes and failures each from an equation of their own: either may be so rare that 1 - p loses it.
    p0, q0 = _odds_share(x, n1, n0, ratio, xp), _odds_share(n1 + n0 - x, n1, n0, 1 / ratio, xp)
    p1, q1 = ratio * p0 / (ratio * p0 + q0), q0 / (ratio * p0 + q0)
    # Observed less expected is the same in all four cells but for its sign: the smallest cell has it exactly.
    gap, least = x1 - n1 * p1, n1 * p1
    for expected, away in ((n1 * q1, n1 * q1 - (n1 - x1)), (n0 * p0, n0 * p0 - x0), (n0 * q0, (n0 - x0) - n0 * q0)):
        gap, least = xp.where(expected < least, away, gap), xp.least(expected, least)
    spread = xp.sqrt(xp.quotient(1.0, n1 * p1 * q1) + xp.quotient(1.0, n0 * p0 * q0))
    return xp.where(gap == 0, 0.0, gap * spread)


def _odds_share(x: Any, n1: Any, n0: Any, ratio: Any, xp: Any) -> Any:
    """The p0 in (0, 1) with n1 p1 + n0 p0 = x and odds of p1 = ratio times odds of p0."""
    a, b = n0 * (ratio - 1), n1 * ratio + n0 - x * (ratio - 1)
    # For ratios below 1 the discriminant b^2 + 4 a x as a sum of positive terms.
    less = x * (1 - ratio)
    square = xp.where(ratio < 1, (n0 + n1 * ratio - less) ** 2 + 4 * n1 * ratio * less, b * b + 4 * a * x)
    root = xp.sqrt(xp.most(square, 0.0))
    return xp.where(b >= 0, xp.quotient(2 * x, b + root), xp.quotient(root - b, 2 * a))


def difference_z(x1: Floats, n1: Floats, x0: Floats, n0: Floats, delta: Floats) -> Floats:
    """The score z of a difference, by numbers where there is one comparison."""
    if np.ndim(x1) == 0 and np.ndim(delta) == 0:
        return np.asarray(difference(float(x1), float(n1), float(x0), float(n0), float(delta), NUMBERS))
    return np.asarray(difference(x1, n1, x0, n0, delta))


def difference_limits(
    x1: Floats,
    n1: Floats,
    x0: Floats,
    n0: Floats,
    critical: tuple[float, float],
    *,
    stretch: Floats | float = 1.0,
) -> tuple[Floats, Floats]:
    """Differences at which the score z equals critical[0] (lower limit) and -critical[1] (upper limit), stretched."""
    estimate = x1 / n1 - x0 / n0
    ends = np.stack([np.full(estimate.shape, -1.0), np.full(estimate.shape, 1.0)])
    low, high = _limits(difference, (x1, n1, x0, n0), np.stack([estimate, estimate]), ends, critical, stretch)
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
    stretch: Floats | float = 1.0,
) -> Floats:
    """Both limits at once, along the first axis: where the statistic, falling, meets its critical values."""
    if starts.ndim == 1:
        numbers = tuple(float(c) for c in counts)
        goals = (critical[0] * float(stretch), -critical[1] * float(stretch))
        sides = zip(starts.tolist(), ends.tolist(), goals, strict=True)
        return np.array([_limit(statistic, numbers, start, end, target) for start, end, target in sides])
    flat = [np.ravel(c) for c in counts]
    start, end = starts.reshape(2, -1), ends.reshape(2, -1)
    target = np.broadcast_to(np.array([[critical[0]], [-critical[1]]]) * np.ravel(stretch), start.shape)
    found = np.empty(start.shape)
    for first in range(0, start.shape[1], _BLOCK):
        part = slice(first, first + _BLOCK)
        found[:, part] = _block(statistic, [c[part] for c in flat], start[:, part], end[:, part], target[:, part])
    return found.reshape(starts.shape)


def _block(statistic: Statistic, counts: list[Floats], start: Floats, end: Floats, target: Floats) -> Floats:
    """Both limits of so many comparisons as fit the processor's cache, by the steps of a single one."""
    goal = np.arctan(target)

    def z_at(value: Floats) -> Floats:
        return np.asarray(statistic(*counts, value))

    def miss(value: Floats) -> Floats:
        # The arctangent keeps interpolation tame where z runs off to infinity at an end, and takes infinite targets.
        return np.asarray(np.arctan(z_at(value)) - goal)

    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        reached = np.sign(miss(end)) * np.sign(target) > 0
        low, high, reach = start.copy(), end.copy(), 1e-4 * np.sign(end - start)
        straight = reached & np.isfinite(target)
        for _ in range(3):
            z = z_at(start + reach)
            straight &= (z * target > 0) & (np.abs(reach * target) < np.abs((end - start) * z))
            reach = np.where(straight, reach * target / z, reach)
        for factor in (0.995, 1.005):
            at = start + factor * reach
            beyond = miss(at) * target > 0
            high = np.where(straight & beyond & (np.abs(at - start) < np.abs(high - start)), at, high)
            low = np.where(straight & ~beyond, at, low)
        return np.where(reached, bracketed_root(miss, low, high, rtol=1e-14), end)


def _limit(statistic: Statistic, counts: tuple[float, ...], start: float, end: float, target: float) -> float:
    """One limit of one comparison: z, falling, is nearly a straight line in between, so that few steps do."""
    goal = math.atan(target)

    def miss(value: float) -> float:
        return math.atan(statistic(*counts, value, NUMBERS)) - goal

    if not miss(end) * math.copysign(1.0, target) > 0:
        return end
    low, high = start, end
    reach = 1e-4 * math.copysign(1.0, end - start)
    for _ in range(3):
        # Along the line through the start, which is closer to the curve each time.
        z = math.tan(miss(start + reach) + goal)
        if not (z * target > 0 and math.isfinite(target) and abs(reach * target) < abs((end - start) * z)):
            break
        reach *= target / z
    else:
        for at in (start + 0.995 * reach, start + 1.005 * reach):
            if miss(at) * target > 0:
                high = at
                break
            low = at
    return bracketed_number(miss, low, high, rtol=1e-14)


def _ratio(top: Any, bottom: Any, xp: Any) -> Any:
    return xp.where(top == 0, 0.0, xp.quotient(top, bottom))


def constrained_share(x1: Any, n1: Any, x0: Any, n0: Any, delta: Any, xp: Any = ARRAYS) -> Any:
    """Maximum likelihood of p0 under p1 = p0 + delta: the middle root of a cubic."""
    n, x = n1 + n0, x1 + x0
    c2 = ((n1 + 2 * n0) * delta - n - x) / n
    c1 = ((n0 * delta - n - 2 * x0) * delta + x) / n
    c0 = x0 * delta * (1 - delta) / n
    q = c2 * c2 * c2 / 27 - c1 * c2 / 6 + c0 / 2
    p = xp.copysign(xp.sqrt(xp.most(c2 * c2 / 9 - c1 / 3, 0.0)), q)
    cosine = xp.where(p == 0, 0.0, xp.quotient(q, p * p * p))
    share = 2 * p * xp.cos((math.pi + xp.arccos(xp.least(xp.most(cosine, -1.0), 1.0))) / 3) - c2 / 3
    # The cosine leaves an absolute error of one rounding; Newton steps make it a relative one.
    for _ in range(2):
        step = xp.quotient(((share + c2) * share + c1) * share + c0, (3 * share + 2 * c2) * share + c1)
        share = share - xp.where(abs(step) < 1e-6, step, 0.0)
    return xp.least(xp.most(share, xp.most(-delta, 0.0)), xp.least(1.0 - delta, 1.0))
