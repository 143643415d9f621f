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


def plain(design: Planned) -> None:
    """Refuse modifiers that change how units are drawn."""
    for kind in (change.Clusters, change.LookSchedule, change.Covariate):
        if design._modifier(kind) is not None:
            raise DesignError(f"{design.title}: simulated without {design._modifier(kind)}; leave it out.")


def counts(rng: np.random.Generator, share: float, size: int, runs: int, label: str) -> Counts:
    """Binomial counts."""
    if not 0 <= share <= 1:
        raise DesignError(f"The effect gives a share of {share:g} in the {label}, which is not between 0 and 1.")
    return Counts(rng.binomial(size, share, runs).astype(float), np.full(runs, float(size)), label)


def adjusted(
    rng: np.random.Generator, arms: tuple[tuple[float, str, float, int], ...], correlation: float, runs: int
) -> tuple[Summary, ...]:
    """Means and spreads of values adjusted for a normal covariate by its pooled slope; an arm is mean, label, sd, n."""
    size = sum(n for _, _, _, n in arms)
    if size * runs > _MOST_VALUES:
        raise DesignError(f"{size * runs:.2g} values would have to be drawn: simulate fewer runs, or fewer units.")
    found: list[list[Floats]] = []
    step = max(1, _BLOCK // size)
    for start in range(0, runs, step):
        times = min(step, runs - start)
        parts = []
        for mean, _, sd, n in arms:
            x, noise = rng.normal(size=(2, times, n))
            y = mean + sd * (correlation * x + np.sqrt(1 - correlation**2) * noise)
            centre = [v.mean(axis=1) for v in (x, y)]
            x, y = x - centre[0][:, None], y - centre[1][:, None]
            parts.append((*centre, *(np.einsum("ij,ij->i", *pair) for pair in ((x, x), (x, y), (y, y)))))
        slope = sum(p[3] for p in parts) / sum(p[2] for p in parts)
        found.append(
            [
                value
                for (mx, my, xx, xy, yy), (_, _, _, n) in zip(parts, arms, strict=True)
                for value in (my - slope * mx, np.sqrt((yy - 2 * slope * xy + slope**2 * xx) / (n - 1)))
            ]
        )
    columns = [np.concatenate(part) for part in zip(*found, strict=True)]
    return tuple(
        Summary(np.full(runs, float(n)), columns[2 * k], columns[2 * k + 1], label)
        for k, (_, label, _, n) in enumerate(arms)
    )


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
