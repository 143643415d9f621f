"""Solving power functions for units, for the effect, or for alpha: many scenarios at once."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root

MOST_UNITS = 1e12
_SMALLEST_ALPHA = 1e-100
_LOOKS = 25


def smallest_count(
    value_at: Callable[[Floats], Floats], target: Floats, progress: Callable[[Floats], Floats], guess: Floats
) -> tuple[Floats, Floats]:
    """The smallest whole numbers, from 1 up, at which a rising value reaches the target, and the value there.

    The number is inf where none up to `MOST_UNITS` does.

    `progress` turns a value into something that is 1 at the target and grows about like sqrt(n): a secant on that scale
    lands on the answer or beside it. A bracket of whole numbers is kept, and halved where the steps do not get ahead.
    """
    short, enough, kept = np.zeros(target.shape), np.full(target.shape, np.inf), np.zeros(target.shape)
    n = np.clip(np.ceil(guess), 1, MOST_UNITS)
    root_before, share_before = np.zeros(target.shape), np.zeros(target.shape)
    for turn in range(200):
        value = value_at(n)
        reached = value >= target
        kept = np.where(reached & (n < enough), value, kept)
        enough, short = np.where(reached, np.minimum(enough, n), enough), np.where(reached, short, np.maximum(short, n))
        if np.all((enough - short <= 1) | (short >= MOST_UNITS)):
            break
        root, share = np.sqrt(n), np.clip(progress(value), 0.1, 10)
        with np.errstate(divide="ignore", invalid="ignore"):
            slope = (share - share_before) / (root - root_before)
            step = root + (1 - share) / slope
        # A secant that leads away from what has been seen is a line through no units at no progress instead.
        step = np.where((slope > 0) & (step > root / 8) & (step < root * 8), step, root / share) ** 2
        root_before, share_before = root, share
        # From below, the next whole number above the step; from above the one that should just fall short.
        step = np.where(reached, np.ceil(step) - 1, np.ceil(step))
        if turn % 4 == 3:
            step = np.where(np.isfinite(enough), np.floor((short + enough) / 2), 4 * n)
        n = np.clip(step, short + 1, np.minimum(np.maximum(enough - 1, short + 1), MOST_UNITS))
    return np.where(short >= MOST_UNITS, np.inf, enough), kept


def smallest_effect(power_of: Callable[[Floats], Floats], target: Floats, least: Floats, most: Floats) -> Floats:
    """The smallest effects between `least` and `most` whose rising power reaches the target; inf where none does."""
    out_of_reach = power_of(most) < target
    if np.any(out_of_reach):
        # With very few units the power of a share may fall again towards the end of the scale: look in between.
        steps = [least + (most - least) * k / _LOOKS for k in range(1, _LOOKS)]
        reach = np.stack([power_of(step) >= target for step in steps])
        found = out_of_reach & reach.any(axis=0)
        most = np.where(found, np.choose(np.argmax(reach, axis=0), steps), most)
        out_of_reach &= ~found
    at_once = power_of(least) >= target

    def miss(effect: Floats) -> Floats:
        gap = power_of(effect) - target
        return np.where(out_of_reach | at_once, effect - least, gap)

    effect = bracketed_root(miss, least, most, rtol=1e-14)
    # Rounding may leave the power a hair below its target.
    nudge = 1e-15 * np.maximum(np.abs(effect), 1e-3 * (most - least))
    for _ in range(60):
        short = (power_of(effect) < target) & ~out_of_reach
        if not np.any(short):
            break
        effect, nudge = np.where(short, effect + nudge, effect), 2 * nudge
    return np.where(out_of_reach, np.inf, effect)


def smallest_alpha(power_at: Callable[[Floats], Floats], target: Floats) -> Floats:
    """The smallest alphas, below 1/2, at which the power reaches the target; inf where none does."""
    low, high = np.full(target.shape, np.log(_SMALLEST_ALPHA)), np.full(target.shape, np.log(0.5 * (1 - 1e-12)))
    return np.exp(smallest_effect(lambda w: power_at(np.exp(w)), target, low, high))
