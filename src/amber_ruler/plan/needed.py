"""Solving a plan for one of the design's own numbers: its margin, a correlation, a spread, the size of clusters."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, replace
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from amber_ruler.errors import AmberRulerError, DesignError, InputError
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number
from amber_ruler.plan import modifiers as change

if TYPE_CHECKING:
    from amber_ruler.plan.questions import Design

    D = TypeVar("D", bound=Design)

_OF_MODIFIERS: dict[str, tuple[type[Any], str, float, float]] = {
    # What it belongs to, its name there, and the values between which it is looked for.
    "margin": (change.Margin, "size", 1e-60, 1e60),
    "covariate": (change.Covariate, "correlation", 1e-9, 1 - 1e-12),
    "cluster_size": (change.Clusters, "size", 1.0, 1e12),
    "icc": (change.Clusters, "icc", 1e-15, 1.0),
    "attrition": (change.Attrition, "share", 1e-15, 1 - 1e-12),
}
_DOUBLINGS = 120


def numbers_of(design: Design) -> tuple[str, ...]:
    """What a design can be solved for."""
    given = (f.name for f in fields(design) if "float" in str(f.type) and getattr(design, f.name) is not None)
    own = [name for name in given if name != "alpha"]
    return (*own, *(name for name, (kind, *_) in _OF_MODIFIERS.items() if kind in design.allowed))


def needed(design: D, name: str, power_of: Callable[[D], Floats], target: float) -> tuple[D, float]:
    """The design at which the power is just the target, and its number there."""
    if name not in numbers_of(design):
        raise InputError.unknown(f"numbers to solve {design.title.lower()} for", name, numbers_of(design))
    if not design._continuous():
        raise DesignError("A number is solved for where the power is smooth: take power_from='normal', and no looks.")
    if name in _OF_MODIFIERS:
        low, high, at = _of_modifier(design, name)
    else:
        low, high, at = _of_field(design, name)

    def miss(log: float) -> float:
        return float(power_of(at(float(np.exp(log))))) - target

    ends = np.log(low), np.log(high)
    if name not in _OF_MODIFIERS:
        ends = _around(miss, float(np.log(float(getattr(design, name)))))
    if not np.sign(miss(ends[0])) * np.sign(miss(ends[1])) < 0:
        raise DesignError(
            f"No {name.replace('_', ' ')} gives a power of {target:g}: the power is {miss(ends[0]) + target:.4g} at"
            f" {np.exp(ends[0]):.3g} and {miss(ends[1]) + target:.4g} at {np.exp(ends[1]):.3g}."
        )
    found = float(np.exp(bracketed_number(miss, *ends, rtol=1e-15)))
    return at(found), found


def _of_modifier(design: D, name: str) -> tuple[float, float, Callable[[float], D]]:
    kind, field, low, high = _OF_MODIFIERS[name]
    own = design._modifier(kind)
    if own is None and kind in (change.Margin, change.Clusters):
        way = "with_margin" if kind is change.Margin else "with_clusters"
        raise DesignError(f"To be solved for {name}, the design needs one to start from: design.{way}(…).")
    if isinstance(own, change.Margin) and own.lift is not None:
        raise DesignError("Solve for a margin in the unit of the effect: design.with_margin(margin).")
    others = tuple(m for m in design.modifiers if m is not own)

    def at(value: float) -> D:
        modifier = kind(value) if own is None else replace(own, **{field: value})
        return replace(design, modifiers=(*others, modifier))

    if isinstance(own, change.Margin):  # powers far off are as good as those that formulas can do with
        scale = float(own.size)
        low, high = scale * 2.0**-_DOUBLINGS, scale * 2.0**_DOUBLINGS
        high = min(high, 1 - 1e-12) if design.percent else high
    return low, high, at


def _of_field(design: D, name: str) -> tuple[float, float, Callable[[float], D]]:
    start = float(getattr(design, name))
    if start <= 0:
        raise DesignError(f"To be solved for {name}, the design needs a value above 0 to start from.")
    return start, start, lambda value: replace(design, **{name: value})


def _around(miss: Callable[[float], float], start: float) -> tuple[float, float]:
    """A bracket, by doubling up and down from where the design stands, as far as there are such designs."""
    here = np.sign(miss(start))
    ends, steps = [start, start], [-np.log(2), np.log(2)]
    for _ in range(_DOUBLINGS):
        for k in (0, 1):
            try:
                there = np.sign(miss(ends[k] + steps[k]))
            except AmberRulerError:  # beyond what there can be: nearer to the end
                steps[k] /= 2
                continue
            if there != here:
                return min(ends[k], ends[k] + steps[k]), max(ends[k], ends[k] + steps[k])
            ends[k] += steps[k]
    return ends[0], ends[1]
