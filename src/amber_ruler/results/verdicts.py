"""What an interval decides."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from amber_ruler.numeric.gate import Number
from amber_ruler.results.pieces import Interval

BETTER, WORSE, DIFFER = "better", "worse", "differ"
SAME, UNDECIDED = "no difference that matters", "undecided"
DIRECTIONS = ("higher", "lower", "neither")


def read_verdict(
    interval: Interval,
    *,
    null: Number = 0.0,
    margin: float | None = None,
    good: str = "higher",
    equivalent: bool | NDArray[np.bool_] | None = None,
) -> str | NDArray[np.str_]:
    """Say what an interval decides.

    Within `margin` of `null` on both sides it is no difference that matters: where there are tests against the margin
    they say so (`equivalent`), at alpha each, which is to read the interval of level 1 - 2 alpha. Wholly on the good
    side of `null` it is better, on the other side worse (of two groups of which neither is to be better, they differ);
    else undecided.
    """
    low, high = np.asarray(interval.low) - null, np.asarray(interval.high) - null
    up, down = {"higher": (BETTER, WORSE), "lower": (WORSE, BETTER)}.get(good, (DIFFER, DIFFER))
    room = margin or 0.0
    above = (low > 0) | ((low == 0) & np.asarray(interval.low_open))
    below = (high < 0) | ((high == 0) & np.asarray(interval.high_open))
    same = (low > -room) & (high < room) if equivalent is None else np.asarray(equivalent)
    words = np.select([same, above, below], [SAME, up, down], UNDECIDED)
    if interval.excludes is not None:  # on which side is not known
        words = np.where((words == UNDECIDED) & ~np.asarray(interval.contains(null)), DIFFER, words)
    return str(words) if words.ndim == 0 else words


def evidence_band(log_factor: float) -> str:
    """Say how strong a Bayes factor is, either way: the customary bands.

    Up to 3 anecdotal, to 10 moderate, to 30 strong, to 100 very strong, beyond extreme (Lee & Wagenmakers, 2013,
    Bayesian Cognitive Modeling, after Jeffreys, 1961). They are for orientation: nothing is decided at their ends.
    """
    return _BANDS[int(np.searchsorted(_LOG_BANDS, abs(log_factor), side="right"))]


_BANDS = ("anecdotal", "moderate", "strong", "very strong", "extreme")
_LOG_BANDS = np.log([3.0, 10.0, 30.0, 100.0])
