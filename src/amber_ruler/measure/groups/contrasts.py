"""Contrasts of several groups: any weighted difference of their means."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal, TypeAlias

import numpy as np

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import InputError
from amber_ruler.measure import shared
from amber_ruler.measure.groups.simultaneous import (
    CORRECTIONS,
    SCHEFFE,
    Asked,
    Differences,
    Several,
    Step,
    by_correction,
    result,
)
from amber_ruler.numeric import fisher, gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Axis, Comparison

Weights: TypeAlias = Mapping[str, float] | Sequence[float]
ContrastMethod: TypeAlias = Literal["scheffe"] | Step

_METHODS = {"scheffe": SCHEFFE, **CORRECTIONS}


def contrasts(
    asked: Several, weights: Mapping[str, Weights], method: ContrastMethod, alternative: Alternative
) -> Comparison:
    """See `Groups.contrasts`."""
    gate.choice("method", method, _METHODS)
    effects.tails(asked.alpha, alternative)
    if method == "scheffe" and asked.compared in ("ranks", "same-units"):
        raise InputError("Scheffé is for independent groups and their means: take a correction such as 'holm'.")
    if method == "scheffe" and alternative != "two-sided":
        raise InputError("Scheffé's intervals are of two sides: take a correction such as 'holm' for one.")
    if not isinstance(weights, Mapping) or not weights:
        raise InputError("Contrasts are a mapping, at least one name with the weights of the groups.")
    labels = [g.label for g in asked.groups]
    by = np.array([_of_labels(name, each, labels) for name, each in weights.items()])
    found = _differences(asked, by)
    raw = shared.p_value(found.t, lambda t: student.sf(t, found.df), alternative)
    if method == "scheffe":
        k = len(labels) - 1
        adjusted = fisher.sf(found.t**2 / k, k, found.df)
        critical = np.sqrt(k * fisher.upper_quantile(asked.alpha, k, found.df))
    else:
        adjusted, critical = by_correction(raw, found.df, method, asked.alpha, alternative)
    shown = Asked(
        title=f"{asked.metric}: contrasts of {len(labels)} groups",
        words="contrasts",
        axis=Axis("contrast", tuple(weights)),
        treatment="the groups with weights above 0",
        control="those with weights below",
        groups=(),
        effects={},
        letters={},
    )
    return result(asked, shown, found, raw, adjusted, critical, method, _METHODS[method], alternative=alternative)


def _of_labels(name: str, weights: Weights, labels: Sequence[str]) -> Floats:
    """The weights of one contrast in the order of the groups; a group that is not named has 0."""
    if isinstance(weights, Mapping):
        for label in weights:
            gate.choice(f"a label of the contrast {name!r}", label, labels)
        each = gate.finite(f"weights of {name!r}", [weights.get(label, 0.0) for label in labels])
    else:
        each = gate.finite(f"weights of {name!r}", weights)
    if each.shape != (len(labels),):
        raise InputError(f"weights of {name!r} must be one for each of the {len(labels)} groups, not {each.size}.")
    size = float(np.abs(each).sum())
    if size == 0 or abs(float(each.sum())) > 1e-9 * size:
        raise InputError(f"weights of {name!r} must add up to 0 and not all be 0, not to {float(each.sum()):.6g}.")
    return each


def _differences(asked: Several, by: Floats) -> Differences:
    spreads = asked.spreads
    if spreads.covariance is not None:
        variance = np.einsum("ci,ij,cj->c", by, spreads.covariance, by)
        if np.any(variance <= 1e-14 * (by**2 @ spreads.variance)):
            raise InputError("A contrast is the same in every unit: there is no spread to test by.")
        df = np.full(len(by), spreads.df[0])
    else:
        parts = by**2 * spreads.variance
        variance = parts.sum(axis=1)
        if spreads.shared:
            df = np.full(len(by), spreads.df[0])
        else:
            df = variance**2 / (parts**2 / (spreads.n - 1)).sum(axis=1)
    return Differences(by @ spreads.away, np.sqrt(variance), df)
