"""Quantiles of a positive variable from its tail function."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.numeric.roots import bracketed_root, widened

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.numeric.gate import Floats

_FAR = 700.0
_SETTLED = 1e-13


def invert(tail: Callable[[Floats], Floats], target: Floats, guess: Floats, *, rising: bool) -> Floats:
    """Find x > 0 with tail(x) = target, for 0 < target < 1, starting at `guess`.

    Works on log x and on log probabilities, so both ends of the scale keep their relative digits.
    """
    sign = 1.0 if rising else -1.0
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        if np.all(np.abs(tail(guess) / target - 1) < _SETTLED):
            return guess
        guess = np.where((guess > 1e-290) & (guess < 1e290), guess, 1.0)
        log_target = np.log(target)

        def miss(w: Floats) -> Floats:
            log_tail = np.log(np.maximum(tail(guess * np.exp(w)), 1e-320))
            return np.asarray(sign * (log_tail - log_target))

        near = np.full(target.shape, 0.1)
        low, high = widened(miss, -near, near, step=0.2, ends=(-_FAR, _FAR))
        short_low, short_high = miss(low) > 0, miss(high) < 0
        x = guess * np.exp(bracketed_root(miss, low, high))
    # Beyond what a float can hold, the answer is an end of the scale.
    below, above = (target <= 0) | short_low, (target >= 1) | short_high
    if not rising:
        below, above = (target >= 1) | short_low, (target <= 0) | short_high
    x = np.where(below, 0.0, np.where(above, np.inf, x))
    return np.where((target >= 0) & (target <= 1), x, np.nan)
