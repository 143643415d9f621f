"""Exact power of tests on counts: every outcome counted, no approximation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import special

from amber_ruler.errors import DesignError
from amber_ruler.numeric import normal, score
from amber_ruler.numeric.binomial import at_least, chance
from amber_ruler.numeric.gate import Floats, Number, aligned
from amber_ruler.numeric.stirling import poisson_weight
from amber_ruler.plan.modifiers import Margin
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


def power_of_one(test: str, baseline: Floats, effect: Floats, n: Floats, low: Number, high: Number) -> Floats:
    """Power of another test of one share than the exact one: every outcome that it rejects is counted; broadcasts."""
    arrays = aligned(baseline, effect, n, low, high)
    power = np.empty(arrays[0].shape)
    for at in np.ndindex(power.shape):
        p0, gap, size, above, below = (float(v[at]) for v in arrays)
        share = p0 + gap
        reach = _REACH * np.sqrt(size * share * (1 - share)) + 20
        if 2 * reach > _MOST_OUTCOMES:
            raise DesignError(f"{size:,.0f} units have too many outcomes to count: take power_from='normal'.")
        x = np.arange(max(0.0, np.floor(size * share - reach)), min(size, np.ceil(size * share + reach)) + 1)
        rejected = _rejected(test, x, size, p0, above, below)
        power[at] = float(np.sum(chance(x[rejected], size, share)))
    return power


def _rejected(test: str, x: Floats, n: float, p0: float, low: float, high: float) -> NDArray[np.bool_]:
    """Whether each count rejects."""
    if test == "mid-p":
        count, share = np.asarray(n), np.asarray(p0)
        more, less = at_least(x, count, share), at_least(n - x, count, 1 - share)
        next_up, next_down = at_least(x + 1, count, share), at_least(n - x + 1, count, 1 - share)
        return np.asarray(((more + next_up) / 2 <= low) | ((less + next_down) / 2 <= high))
    away = x - n * p0
    if test == "likelihood":
        told = special.xlogy(x, x / (n * p0)) + special.xlogy(n - x, (n - x) / (n * (1 - p0)))
        z = np.sign(away) * np.sqrt(2 * np.maximum(told, 0.0))
    elif test == "arcsine":
        z = 2 * np.sqrt(n) * (np.arcsin(np.sqrt(x / n)) - np.arcsin(np.sqrt(p0)))
    else:
        if test == "corrected":
            away = np.sign(away) * np.maximum(np.abs(away) - 0.5, 0.0)
        spread = np.sqrt(x * (n - x) / n if test == "wald" else np.full(x.shape, n * p0 * (1 - p0)))
        with np.errstate(divide="ignore", invalid="ignore"):
            z = np.where(away == 0, 0.0, away / spread)
    above, below = (float(normal.upper_quantile(t)) if t > 0 else np.inf for t in (low, high))
    return np.asarray((z > above) | (z < -below))


def power_against(
    baseline: Floats, effect: Floats, units: Units, alpha: Floats, margin: Margin, *, pooled: bool
) -> Floats:
    """Power of the score (or unpooled) test of two shares against a margin, summed over all outcomes; broadcasts."""
    arrays = aligned(baseline, effect, *units, alpha)
    power = np.empty(arrays[0].shape)
    for at in np.ndindex(power.shape):
        p0, gap, n1, n0, tail = (float(v[at]) for v in arrays)
        power[at] = _against(p0, gap, n1, n0, tail, margin, pooled=pooled)
    return power


def _against(
    baseline: float, effect: float, n1: float, n0: float, alpha: float, margin: Margin, *, pooled: bool
) -> float:
    x0, chances = outcomes(baseline, n0)
    critical = float(normal.upper_quantile(alpha))
    centre, last = np.clip(np.floor(n1 * (x0 / n0 + effect)), 0, n1), np.full(x0.shape, n1 + 1)

    def z(x1: Floats, null: float) -> Floats:
        if pooled:
            return np.asarray(score.difference(x1, n1, x0, n0, np.asarray(null)))
        spread = np.sqrt(x1 * (n1 - x1) / n1**3 + x0 * (n0 - x0) / n0**3)
        away = x1 / n1 - x0 / n0 - null
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(away == 0, 0.0, away / spread)

    def above(x1: Floats) -> NDArray[np.bool_]:
        return (x1 > n1) | (z(np.clip(x1, 0, n1), low) > critical)

    def not_below(x1: Floats) -> NDArray[np.bool_]:
        return (x1 > n1) | (z(np.clip(x1, 0, n1), high) >= -critical)

    count, share = np.asarray(n1), np.asarray(baseline + effect)
    both = margin.kind == "equivalence"
    low, high = margin.edges if both else (margin.edge, margin.edge)
    sure = np.ones(x0.shape)
    shown_above = at_least(_first(above, centre, last), count, share) if both or margin.good == "higher" else sure
    shown_below = (
        1 - at_least(_first(not_below, centre, last), count, share) if both or margin.good == "lower" else sure
    )
    return float(np.sum(chances * np.maximum(shown_above + shown_below - 1, 0.0)))


def outcomes(baseline: float, n: float) -> tuple[Floats, Floats]:
    """The counts in control that can come up, and the chance of each."""
    centre, reach = n * baseline, _REACH * np.sqrt(n * baseline * (1 - baseline)) + 20
    if 2 * reach > _MOST_OUTCOMES:
        raise DesignError(f"{n:,.0f} units have too many outcomes to count: take power_from='normal'.")
    x = np.arange(max(0.0, np.floor(centre - reach)), min(n, np.ceil(centre + reach)) + 1)
    return x, chance(x, n, baseline)


def power_of_poisson(null: Floats, mean: Floats, low: Number, high: Number) -> Floats:
    """Power of the exact test of one Poisson mean that rejects above with error rate `low`, below with `high`."""
    null, mean, low, high = aligned(null, mean, low, high)
    z = normal.upper_quantile(np.clip(low, 1e-300, 0.5)), normal.upper_quantile(np.clip(high, 1e-300, 0.5))
    last = np.ceil(null + 40 * np.sqrt(null) + 800)
    above = _first(lambda x: _poisson_at_least(x, null) <= low, np.floor(null + z[0] * np.sqrt(null)), last)
    # The largest count x with P(X <= x) at most `high`: the first count from which on it is more.
    guess = np.maximum(np.floor(null - z[1] * np.sqrt(null)), 0)
    below = _first(lambda x: special.gammaincc(x + 1, null) > high, guess, last) - 1
    found = np.where(low > 0, _poisson_at_least(above, mean), 0.0)
    return found + np.where((high > 0) & (below >= 0), special.gammaincc(np.maximum(below, 0) + 1, mean), 0.0)


def _poisson_at_least(x: Floats, mean: Floats) -> Floats:
    return np.where(x > 0, special.gammainc(np.maximum(x, 1), mean), 1.0)


def power_of_counts(rate: Floats, baseline: Number, times: Units, low: Number, high: Number) -> Floats:
    """Power of the test of two Poisson counts given their sum, summed over all sums; broadcasts."""
    arrays = aligned(rate, baseline, *times, low, high)
    power = np.empty(arrays[0].shape)
    for at in np.ndindex(power.shape):
        r1, r0, t1, t0, above, below = (float(v[at]) for v in arrays)
        mean = r1 * t1 + r0 * t0
        reach = _REACH * np.sqrt(mean) + 20
        if 2 * reach > _MOST_OUTCOMES:
            raise DesignError(f"{mean:,.0f} events have too many outcomes to count: take power_from='normal'.")
        total = np.arange(max(0.0, np.floor(mean - reach)), np.ceil(mean + reach) + 1)
        chances = poisson_weight(total, np.asarray(mean))
        even, share = t1 / (t1 + t0), r1 * t1 / mean
        more = at_least(_reject_from(total, np.asarray(even), np.asarray(above)), total, np.asarray(share))
        less = at_least(_reject_from(total, np.asarray(1 - even), np.asarray(below)), total, np.asarray(1 - share))
        power[at] = float(np.sum(chances * (more + less)))
    return power


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
    x0, chances = outcomes(baseline, n0)
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
    return float(np.sum(chances * rejected))


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

    A tooth is about 1 / effect (or margin) units wide: the window grows until its first and last quarters are settled.
    """
    if not np.isfinite(guess):
        return np.inf, np.inf
    least, margin = design._least(), design._modifier(Margin)
    tooth = 1 / (abs(effect) if margin is None else margin.size)
    low, high = max(least, guess - np.ceil(2 * tooth) - 20), guess + np.ceil(4 * tooth) + 30
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
