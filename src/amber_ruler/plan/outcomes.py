"""Exact power of tests on counts: every outcome counted, no approximation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from amber_ruler.errors import DesignError
from amber_ruler.numeric import normal
from amber_ruler.numeric.binomial import at_least, chance
from amber_ruler.numeric.gate import Floats, Number, aligned
from amber_ruler.plan.planned import Planned, Units
from amber_ruler.plan.search import MOST_UNITS

_REACH = 9.0  # spreads of a binomial count beyond which nothing is left that counts
_MOST_OUTCOMES = 50_000  # of control that are gone through
_MOST_SIZES, _MOST_WORK = 1_000_000, 2e6  # sizes looked at, one by one, and outcomes of all of them


def power_of_binomial(baseline: Floats, effect: Floats, n: Floats, low: Number, high: Number) -> Floats:
    """Power of the exact test of one share that rejects above with error rate `low`, below with `high`; broadcasts.

    Examples
    --------
    >>> round(float(power_of_binomial(0.5, 0.2, 53, 0.025, 0.025)), 4)
    0.7844
    """
    p0, effect, n, low, high = aligned(baseline, effect, n, low, high)
    above = _reject_from(n, p0, low)
    below = n - _reject_from(n, 1 - p0, high)
    share = p0 + effect
    return at_least(above, n, share) + at_least(n - below, n, 1 - share)


def _reject_from(n: Floats, share: Floats, tail: Floats) -> Floats:
    """The smallest count x with P(X >= x) at most `tail`."""
    z = normal.upper_quantile(np.maximum(tail, 1e-300))
    middle = np.floor(n * share + z * np.sqrt(n * share * (1 - share)))
    enough = _first(lambda x: at_least(x, n, share) <= tail, middle, n + 1)
    return np.where(tail > 0, enough, n + 1)


def _first(holds: Callable[[Floats], NDArray[np.bool_]], guess: Floats, last: Floats) -> Floats:
    """The smallest whole x in 0..last from which on a rising condition holds; it is taken to hold at `last`."""
    low, high, width = np.clip(guess, 0, last), np.clip(guess, 0, last), 2.0
    while True:
        wide_low, wide_high = holds(low) & (low > 0), ~holds(high) & (high < last)
        if not (np.any(wide_low) or np.any(wide_high)):
            break
        low, high = (
            np.where(wide_low, np.maximum(low - width, 0), low),
            np.where(wide_high, np.minimum(high + width, last), high),
        )
        width *= 2
    low = np.where(holds(low), low - 1, low)
    while np.any(high - low > 1):
        middle = np.floor((low + high) / 2)
        inside = high - low > 1
        good = holds(middle)
        low, high = np.where(inside & ~good, middle, low), np.where(inside & good, middle, high)
    return high


def power_of_two(
    baseline: Floats, effect: Floats, units: Units, alpha: Floats, alternative: str, *, pooled: bool
) -> Floats:
    """Power of the score (pooled) or unpooled test of two shares, summed over all outcomes; broadcasts.

    For each count in control the counts in treatment that reject lie at the ends: two binomial tails each.
    """
    arrays = aligned(baseline, effect, *units, alpha)
    power = np.empty(arrays[0].shape)
    for at in np.ndindex(power.shape):
        p0, gap, n1, n0, tail = (float(v[at]) for v in arrays)
        power[at] = _power_of_pair(p0, gap, n1, n0, tail, alternative, pooled=pooled)
    return power


def _power_of_pair(
    baseline: float, effect: float, n1: float, n0: float, alpha: float, alternative: str, *, pooled: bool
) -> float:
    centre, reach = n0 * baseline, _REACH * np.sqrt(n0 * baseline * (1 - baseline)) + 20
    if 2 * reach > _MOST_OUTCOMES:
        raise DesignError(f"{n0:,.0f} units have too many outcomes to count: take power_from='normal'.")
    x0 = np.arange(max(0.0, np.floor(centre - reach)), min(n0, np.ceil(centre + reach)) + 1)
    critical = float(normal.upper_quantile(alpha / 2 if alternative == "two-sided" else alpha))

    def z(x1: Floats) -> Floats:
        p1, p0 = x1 / n1, x0 / n0
        share = (x1 + x0) / (n1 + n0)
        variance = share * (1 - share) * (1 / n1 + 1 / n0) if pooled else p1 * (1 - p1) / n1 + p0 * (1 - p0) / n0
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(p1 == p0, 0.0, (p1 - p0) / np.sqrt(variance))

    low, high = _edges(x0, n1, n0, critical, pooled=pooled)
    last, share = np.full(x0.shape, n1 + 1), baseline + effect
    rejected = np.zeros(x0.shape)
    if alternative != "less":
        above = _first(lambda x: (x > n1) | (z(np.minimum(x, n1)) > critical), np.floor(high) + 1, last)
        rejected += at_least(above, np.asarray(n1), np.asarray(share))
    if alternative != "greater":
        below = _first(lambda x: (x > n1) | (z(np.minimum(x, n1)) >= -critical), np.ceil(low), last)
        rejected += 1 - at_least(below, np.asarray(n1), np.asarray(share))
    return float(np.sum(chance(x0, n0, baseline) * rejected))


def _edges(x0: Floats, n1: float, n0: float, critical: float, *, pooled: bool) -> tuple[Floats, Floats]:
    """About where the test begins to reject below and above, as successes in treatment: z² = critical² is quadratic."""
    share, square = x0 / n0, critical**2
    if pooled:
        n, spread, shift = n1 + n0, square * (1 / n1 + 1 / n0), x0
        a, b = 1 / n1**2 + spread / n**2, 2 / n1 * (x0 / n1 + share) + spread / n
        c = (x0 / n1 + share) ** 2
    else:
        a, b, shift = 1 / n1**2 + square / n1**3, 2 * share / n1 + square / n1**2, np.zeros(x0.shape)
        c = share**2 - square * share * (1 - share) / n0
    root = np.sqrt(np.maximum(b * b - 4 * a * c, 0.0))
    low, high = (np.clip((b + side * root) / (2 * a) - shift, 0, n1) for side in (-1, 1))
    return low, high


def lasting_sizes(design: Planned, effect: Floats, target: Floats, guess: Floats) -> Floats:
    """The smallest sizes from which the power never falls below the target again."""
    effect, target, guess = aligned(effect, target, guess)
    found = np.empty(effect.shape)
    for at in np.ndindex(effect.shape):
        numbers = {f.name: getattr(design, f.name) for f in fields(design)}
        own = {name: float(v[at]) for name, v in numbers.items() if isinstance(v, np.ndarray)}
        found[at] = _window(design._with_numbers(own), float(effect[at]), float(target[at]), float(guess[at]))[1]
    return found


def saw_tooth(design: Planned, effect: Floats, target: Floats, n: Floats, guess: Floats) -> tuple[str, ...]:
    """Say that a smaller size reaches the target too, though a larger one falls below it again."""
    first = _window(design, float(effect), float(target), float(guess))[0]
    if first >= n:
        return ()
    power = float(design._power_with(effect, design._recruits(np.asarray(first))))
    said = f"n = {int(first):,} already has a power of {power:.4f}, but some sizes between it and {int(n):,} fall"
    return (f"{said} below the target again: counts are whole.",)


@lru_cache(maxsize=16)  # the size and what is said of it both ask
def _window(design: Planned, effect: float, target: float, guess: float) -> tuple[float, float]:
    """First size that reaches the target, and first from which all do, from every size around a guess.

    A tooth is about 1 / effect units wide: the window grows until its first and last quarters are settled.
    """
    if not np.isfinite(guess):
        return np.inf, np.inf
    least = design._least()
    low, high = max(least, guess - np.ceil(2 / abs(effect)) - 20), guess + np.ceil(4 / abs(effect)) + 30
    while True:
        outcomes = 1.0 if len(design._recruits(np.asarray(high))) == 1 else 2 * _REACH * np.sqrt(high) / 2
        if high - low > _MOST_SIZES or high > MOST_UNITS or (high - low) * outcomes > _MOST_WORK:
            raise DesignError(
                f"The exact power would have to be worked out for {high - low:,.0f} sizes around {guess:,.0f}: for"
                " effects as small as this one take power_from='normal'."
            )
        n = np.arange(low, high + 1)
        reached = design._power_with(np.asarray(effect), design._recruits(n)) >= target
        quarter = max(1, n.size // 4)
        if low > least and reached[:quarter].any():
            low = max(least, low - (high - low))
        elif not reached[-quarter:].all():
            high += high - low
        else:
            fails = np.flatnonzero(~reached)
            lasting = n[fails[-1] + 1] if fails.size else n[0]
            return float(n[np.argmax(reached)]), float(lasting)
