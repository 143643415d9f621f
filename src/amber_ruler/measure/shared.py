"""What every two-group method does alike: p-values, limits that agree with them, and common checks."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Check, Interval
from amber_ruler.samples import Counts, Summary

if TYPE_CHECKING:
    from collections.abc import Callable

DIRECTIONS = ("higher", "lower")


def p_value(statistic: Floats, tail: Callable[[Floats], Floats], alternative: str) -> Floats:
    """Tail probability of a statistic symmetric about 0, in the direction asked."""
    if alternative == "greater":
        return tail(statistic)
    if alternative == "less":
        return tail(-statistic)
    return np.minimum(2 * tail(np.abs(statistic)), 1.0)


def agreeing(low: Floats, high: Floats, p: Floats, null: Floats, alpha: float, estimate: Floats) -> Interval:
    """Settle rounding ties so that the limits exclude `null` exactly when p < alpha.

    Test and limits solve one equation by two routes; on the last digit they may differ.
    """
    reject = p < alpha
    above = estimate > null
    low = np.where(~reject, np.minimum(low, null), np.where(above & (low <= null), np.nextafter(null, np.inf), low))
    high = np.where(
        ~reject, np.maximum(high, null), np.where(~above & (high >= null), np.nextafter(null, -np.inf), high)
    )
    return Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)


def check_labels(treatment: Summary | Counts, control: Summary | Counts) -> None:
    """Refuse two groups under one label: the direction could not be said."""
    if treatment.label == control.label:
        raise InputError(f"Treatment and control are both labelled {control.label!r}: give them different labels.")


def settle_margin(margin: float | None) -> float | None:
    """Return a margin as a float not below 0, or None."""
    return None if margin is None else float(gate.at_least("margin", margin, 0))


def missing_check(treatment: Summary | Counts, control: Summary | Counts) -> tuple[Check, ...]:
    """Say how many units had no value, in which variant."""
    if not treatment.missing and not control.missing:
        return ()
    parts = ", ".join(
        f"{g.label} {g.missing:,} of {g.missing + int(np.sum(size)):,}"
        for g, size in ((treatment, _size(treatment)), (control, _size(control)))
    )
    return (
        Check(
            "missing values",
            f"left out: {parts}",
            "The result speaks for units with a value; if the variants lose different units, it can mislead.",
            "note",
        ),
    )


def _size(group: Summary | Counts) -> Floats:
    return np.asarray(group.n if isinstance(group, Summary) else group.trials)
