"""Error rates on either side of an interval, and effect sizes put together from their numbers."""

from __future__ import annotations

import math
from collections.abc import Iterable
from functools import lru_cache
from typing import Any, Literal, TypeAlias

import numpy as np

from amber_ruler.numeric import gate, normal
from amber_ruler.results import EffectSize, Interval

Alternative: TypeAlias = Literal["two-sided", "greater", "less"]


def tails(alpha: float, alternative: str) -> tuple[float, float]:
    """Error rate below the lower and above the upper limit of an interval; 0 where there is no limit."""
    gate.choice("alternative", alternative, gate.ALTERNATIVES)
    return _tails(alpha if isinstance(alpha, float) else float(gate.floats("alpha", alpha)), alternative)


@lru_cache(maxsize=256)
def _tails(alpha: float, alternative: str) -> tuple[float, float]:
    alpha = float(gate.between("alpha", alpha, 0, 0.5))
    return {"two-sided": (alpha / 2, alpha / 2), "greater": (alpha, 0.0), "less": (0.0, alpha)}[alternative]


@lru_cache(maxsize=256)
def critical_z(tail: tuple[float, float]) -> tuple[float, float]:
    """Normal critical values for two tails; infinite where a tail is 0."""
    low, high = (float(normal.upper_quantile(t)) if t > 0 else np.inf for t in tail)
    return low, high


def known(effect: EffectSize) -> bool:
    """Whether an effect has a value, in any of its comparisons."""
    return math.isfinite(effect.value) if isinstance(effect.value, float) else bool(np.any(np.isfinite(effect.value)))


def effect(three: Iterable[Any], level: float, label: str, unit: str = "", *, aside: bool = False) -> EffectSize:
    """An effect from its value and both limits."""
    value, low, high = map(gate.scalar_or_array, three)
    return EffectSize(value, Interval(low, high, level), label, unit, aside)
