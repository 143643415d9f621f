"""What to look at before a result is believed, from the raw values where there are any."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TypeVar

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, Measurement
from amber_ruler.samples import Counts, Events, Pairs, Sample, Summary

M = TypeVar("M", bound=Measurement)

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
    if not any(gate.some(n < _FEW) for n in sizes):
        return ()
    smallest = int(min(n.min() for n in sizes))
    which = {1: "", 2: "the smaller group has "}.get(len(sizes), "the smallest group has ")
    finding = f"{which}{smallest:,} units"
    advice = "With so few, p and interval rest on values that are roughly normal: look at them."
    return (Check("group sizes", finding, advice, "note"),)


def skewed(samples: Mapping[str, Floats]) -> tuple[Check, ...]:
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
                f"{label} has skewness {skewness:.3g} and {len(values):,} units; that wants about {needed:,.0f}"
            )
    if not found:
        return ()
    advice = "The normal approximation can't be trusted (Kohavi et al. 2014): cap the metric, or compare ranks as well."
    return (Check("skewness", "; ".join(found), advice, "warning"),)


def one_value_decides(result: M) -> M:
    """Does one outlying value alone decide? The value farthest from its group's median is left out."""
    if result.test is None or np.ndim(result.test.p_value):
        return result
    pairs = next((g for g in result.asked.groups if isinstance(g, Pairs)), None)
    values = raw_values(*result.asked.groups) if pairs is None else {"differences": pairs.differences}
    distance = {label: np.abs(v - np.median(v)) for label, v in values.items() if len(v) > 3}
    if not distance:
        return result
    label = max(distance, key=lambda name: float(distance[name].max()))
    at = int(np.argmax(distance[label]))
    said = f"without the value {values[label][at]:g} of {label} alone"
    try:
        again = result.asked.again(bare=True, without=[at] if pairs is not None else {label: [at]})
    except DataError:
        finding = f"{said}, there would be no spread to test by"
    else:
        p, q = float(result.test.p_value), float(again.p_value)
        if (q < result.alpha) == (p < result.alpha):
            return result
        finding = f"{said}, p would be {q:.3g} instead of {p:.3g}"
    advice = "A single value decides: make sure of it, and compare ranks as well."
    return replace(result, checks=(*result.checks, Check("one value", finding, advice, "warning")))


def raw_values(*groups: object) -> dict[str, Floats]:
    """Values by label, where every group has them; otherwise nothing."""
    found = {}
    for k, group in enumerate(groups):
        values = getattr(group, "values", None)
        if not isinstance(values, np.ndarray):
            return {}
        found[str(getattr(group, "label", "") or k)] = values
    return found
