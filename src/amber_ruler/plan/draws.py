"""Drawing data under a design."""

from __future__ import annotations

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.planned import Planned
from amber_ruler.samples import Counts, Summary

_BLOCK = 2**22  # values drawn at a time
_MOST_VALUES = 4e9


def independent(design: Planned) -> None:
    """Refuse what changes the spread of independent units."""
    if design._modifier(change.Clusters) is not None or design._variance_factor() != 1:
        raise DesignError(
            "Only independent units without a covariate can be simulated here: leave out what changes that."
        )


def counts(rng: np.random.Generator, share: float, size: int, runs: int, label: str) -> Counts:
    """Binomial counts."""
    if not 0 <= share <= 1:
        raise DesignError(f"The effect gives a share of {share:g} in the {label}, which is not between 0 and 1.")
    return Counts(rng.binomial(size, share, runs).astype(float), np.full(runs, float(size)), label)


def summaries(rng: np.random.Generator, centre: float, sd: float, size: int, runs: int, label: str) -> Summary:
    """Means and spreads of so many sets of normal values."""
    if size * runs > _MOST_VALUES:
        raise DesignError(f"{size * runs:.2g} values would have to be drawn: simulate fewer runs, or fewer units.")
    means, spreads = [], []
    step = max(1, _BLOCK // size)
    for start in range(0, runs, step):
        values: Floats = rng.normal(centre, sd, (min(step, runs - start), size))
        means.append(values.mean(axis=1))
        spreads.append(values.std(axis=1, ddof=1) if size > 1 else np.zeros(len(values)))
    return Summary(np.full(runs, float(size)), np.concatenate(means), np.concatenate(spreads), label)
