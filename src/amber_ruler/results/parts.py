"""What else may be said of a measurement; each part stands for itself and needs nothing of the others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.results.pieces import Interval

if TYPE_CHECKING:
    from amber_ruler.results.measurement import Comparison


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Part:
    """Base of the parts."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Evidence(Part):
    """What the data make of a prior.

    Attributes
    ----------
    prior : str
        The prior, in words.
    chance_better : float or ndarray
        Posterior probability that treatment is better, in the metric's good direction.
    expected_loss : float, ndarray or None
        What choosing treatment costs on average if it is the worse one, in the metric's unit.
    bayes_factor : float, ndarray or None
        How many times likelier the data are under a difference than under none; below 1 they speak for none.
    log_bayes_factor : float, ndarray or None
        Its natural logarithm, where the factor itself would overflow.
    factor_error : float or None
        Bound on the factor's relative numerical error.
    chance_worse, chance_within : float or None
        Posterior probability of the other side, and of lying within the margin.
    chance_none : float or None
        Posterior probability that there is no effect, for the prior odds that were given.
    posterior_mean, posterior_sd : float or None
        Mean and standard deviation of the effect, given that there is one.
    densest : Interval or None
        The shortest interval of the posterior at the level of the central one.
    threshold, scales_beyond : float and pair, or None
        The factor from which on evidence counts, and the scales of the prior over which it stays beyond; no upper end
        where it goes on.
    best_scale, best_log_factor : float or None
        The scale that favours an effect most, and the log of the factor there.
    null : float
        The value from which better and worse are counted.
    """

    prior: str
    chance_better: Number
    expected_loss: Number | None = None
    bayes_factor: Number | None = None
    log_bayes_factor: Number | None = None
    factor_error: float | None = None
    chance_worse: Number | None = None
    chance_within: Number | None = None
    chance_none: Number | None = None
    posterior_mean: Number | None = None
    posterior_sd: Number | None = None
    densest: Interval | None = None
    threshold: float | None = None
    scales_beyond: tuple[float, float | None] | None = None
    best_scale: float | None = None
    best_log_factor: float | None = None
    null: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Adjustment(Part):
    """How a difference was sharpened, and what that was worth.

    Attributes
    ----------
    steps : tuple of str
        What was done, in order.
    raw : Comparison
        The same metric without it.
    slopes : mapping of str to float
        Metric per unit of each covariate.
    correlation : float or None
        Of metric and covariates, within variants.
    variance_removed : float
        Share of the difference's variance that was taken away.
    units_saved : int
        Further units that the raw comparison would have needed, in total, for an interval as narrow.
    """

    steps: tuple[str, ...]
    raw: Comparison
    slopes: Mapping[str, float] = field(default_factory=dict)
    correlation: float | None = None
    variance_removed: float
    units_saved: int


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Correction(Part):
    """How a comparison was corrected for the number of those it stands with.

    Attributes
    ----------
    method, source : str
        The correction, and the citation of its formula.
    adjusted : float or ndarray
        Adjusted p-value, to be held against `alpha`.
    alpha : float
        Error rate of the whole family.
    keeps : str
        What the correction keeps at or below alpha.
    size : int
        How many comparisons were corrected together.
    family : str
        Which family of several; empty where there is one.
    letters : mapping of label to str
        Of all pairs: groups that share a letter do not differ significantly.
    """

    method: str
    source: str
    adjusted: Number
    alpha: float
    keeps: str
    size: int
    family: str = ""
    letters: Mapping[str, str] = field(default_factory=dict)

    @property
    def stands(self) -> bool | NDArray[np.bool_]:
        """Whether the comparison stands after the correction."""
        below = np.asarray(self.adjusted) < self.alpha
        return bool(below) if below.ndim == 0 else below


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Looks(Part):
    """At which of the planned looks a comparison stands, and what the plan allows there.

    Attributes
    ----------
    look, planned : int
        This look, counted from 1, and the looks planned in all.
    fraction : float
        Share of the planned information that has been seen.
    boundary : float
        The z beyond which the test stops here.
    nominal_p : float
        Two-sided p as if this were the only look; not to be held against alpha.
    alpha : float
        Error rate over all looks.
    decision : str
        What the looks so far allow.
    """

    look: int
    planned: int
    fraction: float
    boundary: float
    nominal_p: float
    alpha: float
    decision: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Draws(Part):
    """What was drawn at random to get at an answer.

    Attributes
    ----------
    replicates : int
        How many draws.
    error : float
        Monte-Carlo standard error of the estimate's standard error.
    seed : int or None
        What replays them.
    quantiles : ndarray, optional
        The 1 %, 2.5 %, 5 %, 25 %, 50 %, 75 %, 95 %, 97.5 % and 99 % quantiles of the drawn estimates.
    """

    replicates: int
    error: float
    seed: int | None = None
    quantiles: Floats | None = None
