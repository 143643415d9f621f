"""Score statistics of two binomial groups, and the limits at which they reach a critical value."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np

from amber_ruler.numeric.alike import ARRAYS, NUMBERS
from amber_ruler.numeric.exact import difference_of_shares
from amber_ruler.numeric.roots import bracketed_root

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

Statistic: TypeAlias = Callable[..., Any]

_BLOCK = 8192  # comparisons at a time
_STEPS = 7  # before a limit is bracketed and searched for
_ENOUGH = 0.98  # share of a block after which the few others go on by themselves
_ROUNDING = 1e-15  # each step is less than the square of the one before, over the one before that
_STEPS_OF_SHARES = 60  # four do but in the most lopsided groups
_NO_WIDTH, _NOTHING = 1e-100, 1e-300  # in place of a 0 below a line, where what is above is 0 too
_SETTLED = 3e-8  # a step is about the square of the one before
_FAR = 80.0  # log of a ratio beyond any that counts below 1e15 could tell apart


def difference(x1: Any, n1: Any, x0: Any, n0: Any, delta: Any, xp: Any = ARRAYS) -> Any:
    """Score z for p1 - p0 = delta, with both shares at their maximum likelihood under it.

    References
    ----------
    .. [1] Mee (1984), Biometrics 40, 1175-1176.
    .. [2] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226, appendix I, for the cubic.
    """
    return _difference(x1, n1, x0, n0, difference_of_shares(x1, n1, x0, n0), delta, xp)


def _difference(x1: Any, n1: Any, x0: Any, n0: Any, estimate: Any, delta: Any, xp: Any = ARRAYS) -> Any:
    p1, q1, p0, q0 = constrained_shares(x1, n1, x0, n0, delta, xp)
    return _ratio(estimate - delta, xp.sqrt(p1 * q1 / n1 + p0 * q0 / n0), xp)


def log_risk_ratio(x1: Any, n1: Any, x0: Any, n0: Any, log_ratio: Any, xp: Any = ARRAYS) -> Any:
    """Score z for p1 / p0 = exp(log_ratio).

    References
    ----------
    .. [1] Koopman (1984), Biometrics 40, 513-517.
    """
    p1, q1, _p0, q0 = shares_of_ratio(x1, n1, x0, n0, log_ratio, xp)
    gap = difference_of_shares(x1, n1, x0, n0) - xp.expm1(log_ratio) * x0 / n0
    return _ratio(gap, xp.sqrt(p1 * q1 / n1 + xp.exp(log_ratio) * p1 * q0 / n0), xp)


def shares_of_ratio(x1: Any, n1: Any, x0: Any, n0: Any, log_ratio: Any, xp: Any = ARRAYS) -> tuple[Any, Any, Any, Any]:
    """Maximum likelihood under p1 = exp(log_ratio) p0, as p1, 1 - p1, p0, 1 - p0, each to its own last digits."""
    turn = log_ratio > 0  # the larger share is taken for p0
    x1, x0 = xp.where(turn, x0, x1), xp.where(turn, x1, x0)
    n1, n0 = xp.where(turn, n0, n1), xp.where(turn, n1, n0)
    ratio, less = xp.exp(-xp.size(log_ratio)), -xp.expm1(-xp.size(log_ratio))
    f1, f0, n = n1 - x1, n0 - x0, n1 + n0
    # n r p0^2 - b p0 + x = 0, its discriminant as a sum of positive terms; and the same in 1 - p0, and in 1 - p1.
    root = xp.hypot(f1 - f0 - less * (n1 + x0), 2 * xp.sqrt(ratio * f1 * f0))
    p0 = xp.least(2 * (x1 + x0) / ((n1 + x0) * ratio + n0 + x1 + root), 1.0)
    c = f1 + f0 - less * (n + f0)
    q0 = xp.where(c > 0, xp.quotient(c + root, 2 * n * ratio), 2 * less * f0 / xp.most(root - c, 1e-300))
    q1 = (ratio * (f1 + f0) + less * (n + f1) + root) / (2 * n)
    p1, q0, q1 = ratio * p0, xp.least(q0, 1.0), xp.least(q1, 1.0)
    return xp.where(turn, p0, p1), xp.where(turn, q0, q1), xp.where(turn, p1, p0), xp.where(turn, q1, q0)


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
    estimate = np.asarray(difference_of_shares(x1, n1, x0, n0))
    spread = np.sqrt(x1 * (n1 - x1) / n1**3 + x0 * (n0 - x0) / n0**3)
    low, high = _limits(_difference, (x1, n1, x0, n0, estimate), (estimate, estimate), 1.0, critical, spread, stretch)
    return low, high


def ratio_limits(
    statistic: Statistic,
    x1: Floats,
    n1: Floats,
    x0: Floats,
    n0: Floats,
    estimate: Floats,
    critical: tuple[float, float],
    *,
    stretch: Floats | float = 1.0,
) -> tuple[Floats, Floats]:
    """Ratios at which a score z of the log ratio equals critical[0] and -critical[1], stretched; 0 or inf for none."""
    with np.errstate(divide="ignore", invalid="ignore"):
        centre = np.log(estimate)
    # Where the estimate is 0, infinite or undefined, each limit is sought over the whole scale.
    unknown, inside = np.isnan(centre), np.minimum(np.maximum(centre, -_FAR), _FAR)
    starts = np.where(unknown, _FAR, inside), np.where(unknown, -_FAR, inside)
    spread = _ratio_spread(statistic, x1, n1, x0, n0)
    log_low, log_high = _limits(statistic, (x1, n1, x0, n0), starts, _FAR, critical, spread, stretch)
    with np.errstate(over="ignore"):
        lower = np.where((estimate == 0) | unknown | (log_low <= -_FAR), 0.0, np.exp(log_low))
        upper = np.where(np.isinf(estimate) | unknown | (log_high >= _FAR), np.inf, np.exp(log_high))
    return lower, upper


def _ratio_spread(statistic: Statistic, x1: Floats, n1: Floats, x0: Floats, n0: Floats) -> Floats:
    """Standard error at the estimate, from which a limit is not far; 0 where a limit has to be looked for."""
    f1, f0 = n1 - x1, n0 - x0
    inner = (x1 > 0) & (x0 > 0) & (f1 > 0) & (f0 > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        of_odds = statistic is log_odds_ratio
        square = (1 / x1 + 1 / f1 + 1 / x0 + 1 / f0) if of_odds else (f1 / (x1 * n1) + f0 / (x0 * n0))
    return np.sqrt(np.where(inner, square, 0.0))


def _limits(
    statistic: Statistic,
    counts: tuple[Floats, ...],
    starts: tuple[Floats, Floats],
    end: float,
    critical: tuple[float, float],
    spread: Floats,
    stretch: Floats | float = 1.0,
) -> Floats:
    """Both limits, along the first axis: where the statistic, falling, meets its critical values, or an end."""
    goals = critical[0] * stretch, -critical[1] * stretch
    if np.ndim(spread) == 0:
        numbers = tuple(float(c) for c in counts)
        sides = zip(starts, (-end, end), goals, strict=True)
        return np.array([_limit(statistic, numbers, float(at), to, float(z), float(spread)) for at, to, z in sides])
    found = np.empty((2, spread.size))
    for side, start, to, target in zip(found, starts, (-end, end), goals, strict=True):
        flat = [np.ravel(v) for v in (*counts, start, np.broadcast_to(target, spread.shape), spread)]
        for first in range(0, spread.size, _BLOCK):
            part = slice(first, first + _BLOCK)
            *some, at, goal, reach = (v[part] for v in flat)
            side[part] = _block(statistic, tuple(some), at, to, goal, reach)
    return found.reshape(2, *spread.shape)


def _interpolated(z: Any, at: Any, seen: list[Any], row: list[Any], target: Any) -> list[Any]:
    """Where z meets its target by the polynomial in z through all points seen (Neville's scheme, a row of it)."""
    new = [at]
    for old_z, old in zip(reversed(seen), row, strict=True):
        new.append(((target - old_z) * new[-1] - (target - z) * old) / (z - old_z))
    return new


def _block(
    statistic: Statistic, counts: tuple[Floats, ...], start: Floats, end: float, target: Floats, spread: Floats
) -> Floats:
    """One limit of so many comparisons as fit the processor's cache, by the steps of a single one."""
    seen, row = [np.zeros(start.shape)], [np.zeros(start.shape)]
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        away, settled = -target * spread, np.zeros(start.shape, dtype=np.bool_)
        last = away
        for _ in range(_STEPS):
            away = np.where((away != 0) & (np.abs(start + away) < abs(end)), away, np.nan)
            z = statistic(*counts, start + away)
            row = _interpolated(z, away, seen, row, target)
            seen.append(z)
            step = np.where(settled, 0.0, row[-1] - away)
            away = away + step
            settled |= np.isfinite(step) & (step * step <= _ROUNDING * np.abs(away * last))
            last = step
            if settled.mean() > _ENOUGH:
                break
        found = start + away
        rest = np.flatnonzero(~settled)
        if rest.size:
            some = [c[rest] for c in counts]
            found[rest] = _searched(lambda at: statistic(*some, at), start[rest], end, target[rest])
    return found


def _searched(z_at: Callable[[Floats], Floats], start: Floats, end: float, target: Floats) -> Floats:
    """Limits between their start and the end of the scale, or the end where z doesn't come so far."""
    goal = np.arctan(target)

    def miss(value: Floats) -> Floats:
        # The arctangent keeps interpolation tame where z runs off to infinity at an end, and takes infinite targets.
        return np.asarray(np.arctan(z_at(value)) - goal)

    ends = np.full(start.shape, end)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        reached = np.sign(miss(ends)) * np.sign(target) > 0
        return np.where(reached, bracketed_root(miss, start, ends, rtol=1e-14), end)


def _limit(
    statistic: Statistic, counts: tuple[float, ...], start: float, end: float, target: float, spread: float
) -> float:
    """One limit of one comparison: z is nearly a straight line, so that few steps along it do."""
    if math.isinf(target):
        return end
    away, seen, row = -target * spread, [0.0], [0.0]
    last = away
    for _ in range(_STEPS if spread else 0):
        z = statistic(*counts, start + away, NUMBERS) if abs(start + away) < abs(end) else math.nan
        if z in seen or not math.isfinite(z):
            break
        row = _interpolated(z, away, seen, row, target)
        seen.append(z)
        step, away = row[-1] - away, row[-1]
        if step * step <= _ROUNDING * abs(away * last):
            return start + away
        last = step
    return float(_searched(lambda at: statistic(*counts, at), np.array(start), end, np.array(target)))


def _ratio(top: Any, bottom: Any, xp: Any) -> Any:
    return xp.where(top == 0, 0.0, xp.quotient(top, bottom))


def constrained_shares(x1: Any, n1: Any, x0: Any, n0: Any, delta: Any, xp: Any = ARRAYS) -> tuple[Any, Any, Any, Any]:
    """Maximum likelihood under p1 = p0 + delta, as p1, 1 - p1, p0, 1 - p0, each to its own last digits.

    The unknown is the distance t of a share from the nearer end of its range, so that neither tiny shares nor tiny
    failures are lost: a / t + b / (t + d) = c / (u + d) + e / u with u = 1 - d - t. The right side N hardly moves where
    t is small; times t (t + d) the equation is concave, and Newton's steps from N(0) come down to its root.
    """
    d = abs(delta)
    width = xp.most(1 - d, _NO_WIDTH)
    half = width / 2
    down = delta < 0
    xa, xb, na, nb = (xp.where(down, *pair) for pair in ((x1, x0), (x0, x1), (n1, n0), (n0, n1)))  # the smaller share's
    fa, fb = na - xa, nb - xb
    far = (xa - fb) * (half + d) + (xb - fa) * half > 0  # nearer to the upper end
    a, b, c, e = (xp.where(far, *pair) for pair in ((fb, xa), (fa, xb), (xb, fa), (xa, fb)))
    both = a + b
    right = c + e / width
    base = right * d - both
    root = xp.sqrt(base * base + 4 * right * a * d)
    low = base >= 0
    t = xp.where(low, 2 * a * d, root - base) / (xp.where(low, base + root, 2 * right) + _NOTHING)
    t = xp.where(d == 0, both / (n1 + n0), xp.least(t, half))
    for _ in range(_STEPS_OF_SHARES):
        u, above = width - t, t + d
        less, more = c / (u + d), e / u
        falls, square = less + more, t * above
        over = a * above + b * t - falls * square
        step = over / (both - falls * (t + above) - (less / (u + d) + more / u) * square - _NOTHING)
        t = t - step
        if xp.all(abs(step) <= _SETTLED * t):
            break
    t = xp.where(d < 1, xp.least(xp.most(t, 0.0), half), 0.0)
    u = (1 - d) - t
    pa, qa, pb, qb = (xp.where(far, *pair) for pair in ((u, t), (t + d, u + d), (u + d, t + d), (t, u)))
    p1, q1, p0, q0 = (xp.where(down, *pair) for pair in ((pa, pb), (qa, qb), (pb, pa), (qb, qa)))
    return p1, q1, p0, q0
