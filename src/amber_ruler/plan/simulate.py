"""Drawing data under a design and running the real test on them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler import measure
from amber_ruler.errors import DesignError
from amber_ruler.plan import modifiers as change
from amber_ruler.samples import Counts, Events, Summary

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan.design import Design
    from amber_ruler.plan.estimates import Estimated
    from amber_ruler.plan.means import OneMean, PairedMeans, TwoMeans
    from amber_ruler.plan.proportions import OneProportion, PairedProportions, TwoProportions
    from amber_ruler.plan.rates import TwoRates
    from amber_ruler.results import Estimate, Measurement

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


def one_mean(
    design: OneMean | PairedMeans,
    rng: np.random.Generator,
    effect: float,
    units: tuple[int, ...],
    runs: int,
    alpha: float,
) -> Drawn:
    """Normal values, or normal differences of pairs, tested with `measure.mean`."""
    _independent(design)
    _within_reach(units[0] * runs)
    sd = float(design._errors(np.asarray(effect), np.asarray(0.0), (np.asarray(1.0),))[1])
    settings: dict[str, Any] = {"known_sd": sd} if getattr(design, "known", False) else {}
    values = _summary(rng, effect, sd, units[0], runs, "group")
    return _decide(design, alpha, lambda **how: measure.mean(values, **settings, **how)), "measure.mean"


def one_proportion(
    design: OneProportion, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int, alpha: float
) -> Drawn:
    """Binomial counts against the tested share, with `measure.proportion`."""
    _independent(design)
    base = float(design._needed())
    counts = _counts(rng, base + effect, units[0], runs, "group")
    kind: Any = "exact" if design.exact else "score"

    def test(null: float, **how: Any) -> Estimate:
        return measure.proportion(counts, null=base + null, test=kind, **how)

    return _decide(design, alpha, test), "measure.proportion"


def paired_proportions(
    design: PairedProportions, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int, alpha: float
) -> Drawn:
    """Pairs that change in one direction, in the other, or not, tested with `measure.paired_proportions`."""
    _independent(design)
    apart = float(design._apart(np.asarray(effect)))
    up, down = (apart + effect) / 2, (apart - effect) / 2
    drawn = rng.multinomial(units[0], (up, down, 1 - apart), runs).T.astype(float)
    cells = (np.zeros(runs), drawn[0], drawn[1], drawn[2])
    rejected = _decide(design, alpha, lambda **how: measure.paired_proportions(cells, **how))
    return rejected, "measure.paired_proportions"


def two_rates(
    design: TwoRates, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int, alpha: float
) -> Drawn:
    """Poisson counts over the exposure of all units, tested with `measure.rates`."""
    _independent(design)
    times = [u * design.exposure for u in units]
    groups = [
        Events(rng.poisson(rate * time, runs).astype(float), np.full(runs, time), label)
        for rate, time, label in zip(
            (design.baseline + effect, design.baseline), times, ("treatment", "control"), strict=True
        )
    ]
    return _decide(design, alpha, lambda **how: measure.rates(*groups, **how)), "measure.rates"


def _independent(design: Design) -> None:
    if design._modifier(change.Clusters) is not None or design._variance_factor() != 1:
        raise DesignError(
            "Only independent units without a covariate can be simulated here: leave out what changes that."
        )


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


def _decide(design: Estimated, alpha: float, test: Callable[..., Measurement]) -> NDArray[np.bool_]:
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
