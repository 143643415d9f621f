"""What to look at before a result is believed, from the raw values where there are any."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler import effects
from amber_ruler.results import Check

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.samples import Counts, Events, Sample, Summary

_FEW = 30


def missing(*groups: Summary | Counts | Sample | Events) -> tuple[Check, ...]:
    """Say how many units had no value, in which variant."""
    if not any(g.missing for g in groups):
        return ()
    parts = ", ".join(f"{g.label} {g.missing:,} of {int(g.missing) + size(g):,}" for g in groups)
    advice = "The result speaks for units with a value; if the variants lose different units, it can mislead."
    return (Check("missing values", f"left out: {parts}", advice, "note"),)


def size(group: Summary | Counts | Sample | Events) -> int:
    """Units with a value, over all comparisons."""
    known = next(
        (v for v in (getattr(group, name, None) for name in ("n", "trials", "exposure")) if v is not None), None
    )
    return int(np.sum(known)) if known is not None else len(group)  # type: ignore[arg-type]


def without_pair(left_out: int) -> tuple[Check, ...]:
    """Say how many units had a value on one side only."""
    if not left_out:
        return ()
    finding = f"{left_out:,} left out: they have a value on one side only"
    return (Check("units without a pair", finding, "The result speaks for units with both sides.", "note"),)


def few(*sizes: Floats) -> tuple[Check, ...]:
    """Say that a small group leans on normal values."""
    smallest = int(min(n.min() for n in sizes))
    if smallest >= _FEW:
        return ()
    which = {1: "", 2: "the smaller group has "}.get(len(sizes), "the smallest group has ")
    finding = f"{which}{smallest:,} units"
    advice = "With so few, p and interval rest on values that are roughly normal: look at them."
    return (Check("group sizes", finding, advice, "note"),)


def skewed(samples: dict[str, Floats]) -> tuple[Check, ...]:
    """Are there enough units for a test of means, given how skewed the values are?"""
    found = []
    for label, values in samples.items():
        away = values - values.mean()
        variance = float(np.mean(away**2))
        if variance == 0 or len(values) < _FEW:
            continue  # few units are said by themselves
        skewness = float(np.mean(away**3)) / variance**1.5
        needed = effects.units_for_skewness(skewness)
        if len(values) < needed:
            found.append(
                f"{label} has skewness {skewness:.3g}, which wants about {needed:,.0f} units, and {len(values):,}"
            )
    if not found:
        return ()
    advice = "The normal approximation can't be trusted (Kohavi et al. 2014): cap the metric, or compare ranks as well."
    return (Check("skewness", "; ".join(found), advice, "warning"),)


def one_value_turns_it(
    samples: dict[str, Floats], p: float, alpha: float, retest: Callable[[dict[str, Floats]], float]
) -> tuple[Check, ...]:
    """Does one outlying value alone decide? The value farthest from its group's median is left out."""
    distance = {label: np.abs(values - np.median(values)) for label, values in samples.items() if len(values) > 3}
    if not distance:
        return ()
    label = max(distance, key=lambda name: float(distance[name].max()))
    at = int(np.argmax(distance[label]))
    again = retest({**samples, label: np.delete(samples[label], at)})
    if (again < alpha) == (p < alpha):
        return ()
    finding = f"without the value {samples[label][at]:g} of {label} alone, p would be {again:.3g} instead of {p:.3g}"
    return (
        Check("one value", finding, "A single value decides: make sure of it, and compare ranks as well.", "warning"),
    )
