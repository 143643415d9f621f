"""Drawing data under a design and running the real test on them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler import measure
from amber_ruler.errors import DesignError
from amber_ruler.plan import modifiers as change
from amber_ruler.samples import Counts, Summary

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan.estimates import TwoGroups
    from amber_ruler.plan.means import TwoMeans
    from amber_ruler.plan.proportions import TwoProportions
    from amber_ruler.results import Comparison

    Drawn = tuple[NDArray[np.bool_], str]

_BLOCK = 2**22  # values drawn at a time
_MOST_VALUES = 4e9


def two_means(
    design: TwoMeans, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int, alpha: float
) -> Drawn:
    """Normal values in both groups, tested with `measure.means`; with clusters their means are tested."""
    _within_reach(sum(units) * runs)
    shrink = np.sqrt(design._variance_factor())
    clusters = design._modifier(change.Clusters)
    if clusters is not None:
        # A cluster's mean spreads as sd times the root of the design effect over its size.
        shrink /= np.sqrt(clusters.size)
        units = tuple(int(u // clusters.size) for u in units)
    spreads = (design._treated_sd() * shrink, design.sd * shrink)
    settings: dict[str, Any] = {"variances": "equal" if design.sd_treatment is None else "unequal"}
    if design.known:
        settings = {"known_sd": spreads}
    treatment = _summary(rng, effect, spreads[0], units[0], runs, "treatment")
    control = _summary(rng, 0.0, spreads[1], units[1], runs, "control")
    rejected = _decide(design, alpha, lambda **how: measure.means(treatment, control, **settings, **how))
    return rejected, "measure.means"


def two_proportions(
    design: TwoProportions, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int, alpha: float
) -> Drawn:
    """Binomial counts in both groups, tested with `measure.proportions`."""
    if design.test == "unpooled" or design._variance_factor() != 1:
        raise DesignError("Only the score test of independent units can be simulated: leave out what changes that.")
    base = float(design._needed())
    treatment = _counts(rng, base + effect, units[0], runs, "treatment")
    control = _counts(rng, base, units[1], runs, "control")
    return _decide(design, alpha, lambda **how: measure.proportions(treatment, control, **how)), "measure.proportions"


def _decide(design: TwoGroups, alpha: float, test: Callable[..., Comparison]) -> NDArray[np.bool_]:
    """Whether each run rejects: the test itself, or one or two one-sided tests against a margin."""

    def rejects(null: float, alternative: str) -> NDArray[np.bool_]:
        return np.asarray(test(null=null, alternative=alternative, alpha=alpha).p_value) < alpha

    margin = design._modifier(change.Margin)
    if margin is None:
        return rejects(0.0, design.alternative)
    above, below = (-margin.size, "greater"), (margin.size, "less")
    if margin.kind == "equivalence":
        return rejects(*above) & rejects(*below)
    return rejects(*(above if margin.good == "higher" else below))


def _counts(rng: np.random.Generator, share: float, size: int, runs: int, label: str) -> Counts:
    return Counts(rng.binomial(size, share, runs).astype(float), np.full(runs, float(size)), label)


def _summary(rng: np.random.Generator, centre: float, sd: float, size: int, runs: int, label: str) -> Summary:
    means, spreads = [], []
    step = max(1, _BLOCK // size)
    for start in range(0, runs, step):
        values: Floats = rng.normal(centre, sd, (min(step, runs - start), size))
        means.append(values.mean(axis=1))
        spreads.append(values.std(axis=1, ddof=1))
    return Summary(np.full(runs, float(size)), np.concatenate(means), np.concatenate(spreads), label)


def _within_reach(values: float) -> None:
    if values > _MOST_VALUES:
        raise DesignError(f"{values:.2g} values would have to be drawn: simulate fewer runs, or fewer units.")
