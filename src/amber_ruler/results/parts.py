"""What else may be said of a measurement; each part stands for itself and needs nothing of the others."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results.pieces import Chances, Interval, PosteriorSummary, Test
from amber_ruler.results.result import HIDDEN

if TYPE_CHECKING:
    from amber_ruler.results.measurement import Comparison


LARGEST = 700.0  # log of a factor beyond which only the log is told


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Part:
    """Base of the parts."""


@dataclass(frozen=True, slots=True, eq=False)
class Curves:
    """Densities of the quantity that is estimated, as functions of its values.

    Attributes
    ----------
    quantiles : callable
        Of probabilities below and above, each a tuple: posterior quantiles of shape (1, chances).
    posterior, prior : callable
        Densities at values; no prior where it has no density.
    """

    quantiles: Callable[..., Floats]
    posterior: Callable[[Floats], Floats]
    prior: Callable[[Floats], Floats] | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Evidence(Part):
    """What the data make of a prior.

    Logarithms are natural ones; they keep their digits where the number itself is beyond floats.

    Attributes
    ----------
    prior : str
        The prior, in words.
    posterior : mapping of str to PosteriorSummary
        What is believed of each quantity, given that there is an effect; the first is the one that is estimated.
    chance_better, chance_worse : float, ndarray or None
        Posterior probability that treatment is better, or worse, in the metric's good direction, given an effect.
    chance_within : float, ndarray or None
        That the effect lies within the margin.
    chance_best, chance_lowest : float or None
        Of several variants: that this one has the highest value, or the lowest.
    expected_loss, control_loss : float, ndarray or None
        What choosing treatment costs on average if it is the worse one, and what keeping control costs; of several
        variants what choosing this one costs. In the metric's unit.
    log_chance_better, log_chance_worse, log_expected_loss, log_control_loss : float, ndarray or None
        Logarithms of those above.
    bayes_factor : float, ndarray or None
        How many times likelier the data are under an effect than under none; below 1 they speak for none.
    log_bayes_factor : float, ndarray or None
        Its logarithm.
    factor_error : float, ndarray or None
        Bound on the factor's relative numerical error.
    log_factor_above, log_factor_below : float, ndarray or None
        Logarithms of the factors of an effect above the null only, and below it only: the prior cut there, and doubled.
    odds : float or None
        Prior odds of an effect against none, if given.
    threshold, scales_beyond : float and pair, or None
        The factor from which on evidence counts, and the scales of the prior over which it stays beyond; no upper end
        where it goes on.
    best_scale, best_log_factor : float or None
        The scale that favours an effect most, and the log of the factor there.
    null : float or ndarray
        The value from which better and worse are counted.
    belief, curves : object
        The prior itself, and both densities as a figure draws them; they stay in memory.
    """

    prior: str
    posterior: Mapping[str, PosteriorSummary] = field(default_factory=dict)
    chance_better: Number | None = None
    chance_worse: Number | None = None
    chance_within: Number | None = None
    chance_best: Number | None = None
    chance_lowest: Number | None = None
    expected_loss: Number | None = None
    control_loss: Number | None = None
    log_chance_better: Number | None = None
    log_chance_worse: Number | None = None
    log_expected_loss: Number | None = None
    log_control_loss: Number | None = None
    bayes_factor: Number | None = None
    log_bayes_factor: Number | None = None
    factor_error: Number | None = None
    log_factor_above: Number | None = None
    log_factor_below: Number | None = None
    odds: float | None = None
    threshold: float | None = None
    scales_beyond: tuple[float, float | None] | None = None
    best_scale: float | None = None
    best_log_factor: float | None = None
    null: Number = 0.0
    belief: Any = field(default=None, metadata=HIDDEN)
    curves: Curves | None = field(default=None, metadata=HIDDEN)

    @property
    def factor_for_none(self) -> Number | None:
        """How many times likelier the data are under no effect than under one: the factor's inverse."""
        if self.log_bayes_factor is None:
            return None
        return scalar_or_array(np.exp(np.minimum(-np.asarray(self.log_bayes_factor), LARGEST)))

    @property
    def chance_none(self) -> Number | None:
        """Posterior probability that there is no effect, for the prior odds that were given."""
        return None if self.overall is None else self.overall.none

    @property
    def overall(self) -> Chances | None:
        """Posterior probabilities with the null among them, for the prior odds that were given."""
        return None if self.odds is None or self.log_bayes_factor is None else self.at_odds(self.odds)

    def at_odds(self, odds: float) -> Chances:
        """Posterior probabilities with the null among them, for any prior odds of an effect against none.

        Raises
        ------
        InputError
            If the odds are not above 0, or there is no Bayes factor.
        """
        gate.positive("odds", odds)
        if self.log_bayes_factor is None:
            raise InputError(f"odds {odds:g} make nothing of this prior: it gives no Bayes factor.")
        log_odds = np.asarray(self.log_bayes_factor) + np.log(odds)
        none, some = special.expit(-log_odds), special.expit(log_odds)

        def share(chance: Number | None) -> Number:
            return np.nan if chance is None else scalar_or_array(np.asarray(some * chance))

        within = None if self.chance_within is None else scalar_or_array(np.asarray(none + some * self.chance_within))
        return Chances(scalar_or_array(np.asarray(none)), share(self.chance_better), share(self.chance_worse), within)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Trace(Part):
    """How the evidence moves along something: the prior's scale, or the units that have come in.

    Attributes
    ----------
    along : str
        What it moves along.
    at : ndarray
        Its values, rising; of a list of priors their numbers from 1.
    log_factors : ndarray
        Log of the Bayes factor at each.
    threshold : float
        The factor from which on evidence counts, either way.
    marks : mapping of str to pair
        What stands out, such as the chosen prior: where it is, and the log of the factor there.
    largest : pair
        Where the factor is largest, and its log.
    changes : tuple of float
        Where it passes the threshold, either way.
    """

    along: str
    at: Floats
    log_factors: Floats
    threshold: float
    marks: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    largest: tuple[float, float]
    changes: tuple[float, ...] = ()

    @classmethod
    def of(
        cls,
        along: str,
        at: Floats,
        log_factors: Floats,
        threshold: float,
        marks: Mapping[str, tuple[float, float]] | None = None,
    ) -> Trace:
        """From the factors; between two the log factor is taken to be straight in the log of where it is."""
        changes = []
        for level in () if along == "prior" else (np.log(threshold), -np.log(threshold)):
            above = log_factors > level
            for k in np.flatnonzero(above[1:] != above[:-1]):
                share = (level - log_factors[k]) / (log_factors[k + 1] - log_factors[k])
                changes.append(float(at[k] * (at[k + 1] / at[k]) ** share))
        top = int(np.argmax(log_factors))
        return cls(
            along=along,
            at=at,
            log_factors=log_factors,
            threshold=threshold,
            marks=marks or {},
            largest=(float(at[top]), float(log_factors[top])),
            changes=tuple(sorted(changes)),
        )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Pooling(Part):
    """What many estimates have in common.

    Attributes
    ----------
    mean, se, interval : float, float, Interval
        Of the true effects.
    tau, method : float, str
        Their standard deviation, and how it was found.
    estimates, ses, shares : ndarray
        What was given, and the share of the common mean in each shrunken one.
    q, q_p_value, excess : float
        Scatter of the estimates around their mean in units of chance, how likely chance makes as much, and which share
        of it is more than chance (I squared).
    prediction, prediction_sd, prediction_df : Interval, float, float or None
        Where a next true effect may lie: the interval, and the scale and degrees of freedom that it is made of.
    """

    mean: float
    se: float
    interval: Interval
    tau: float
    method: str
    estimates: Floats
    ses: Floats
    shares: Floats
    q: float
    q_p_value: float
    excess: float
    prediction: Interval
    prediction_sd: float
    prediction_df: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Adjustment(Part):
    """How a difference was sharpened, and what that was worth.

    Attributes
    ----------
    steps : tuple of str
        What was done, in order.
    raw : Comparison or None
        The same metric without it; None of a ratio that nothing else was done to.
    slopes : mapping of str to float
        Metric per unit of each covariate.
    correlation : float or None
        Of metric and covariates, within variants (and strata); of one covariate with its sign.
    variance_removed : float or None
        Share of the difference's variance that was taken away; below 0 where the raw one was too small.
    units_saved : float or None
        Further units that the raw comparison would have needed, in total, for an interval as narrow.
    """

    steps: tuple[str, ...]
    raw: Comparison | None = None
    slopes: Mapping[str, Number] = field(default_factory=dict)
    correlation: Number | None = None
    variance_removed: Number | None = None
    units_saved: Number | None = None

    @property
    def as_if(self) -> Number | None:
        """How many times as many units it is as if there were: 1 / (1 - variance removed)."""
        return None if self.variance_removed is None else scalar_or_array(1 / (1 - np.asarray(self.variance_removed)))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Strata(Part):
    """The effect in each stratum or segment, and whether they differ.

    Attributes
    ----------
    column : str
        What the strata are of.
    effects : Comparison
        The difference in each, along an axis.
    weights : ndarray or None
        What each counts in the whole.
    interaction : Test or None
        Whether the effects differ: chi-square on one degree of freedom less than there are strata.
    """

    column: str
    effects: Comparison
    weights: Floats | None = None
    interaction: Test | None = None


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
    look, planned : int or ndarray, int
        This look, counted from 1 (each of several), and the looks in all.
    fraction : float or ndarray
        Share of the planned information that has been seen.
    boundary : float or ndarray
        The z beyond which the test stops here.
    nominal_p : float or ndarray
        p as if this were the only look, of as many sides as the boundaries; not to be held against alpha.
    alpha : float
        Error rate over all looks.
    decision : str
        What the looks so far allow.
    repeated_p, running_p : float or ndarray
        The error rate whose boundary is the z that was seen, and the smallest so far.
    repeated : Interval or None
        The interval that holds whatever makes the test stop.
    stagewise_p, stagewise : float and Interval, or None
        Once the test has ended: p and interval in stage-wise order.
    median_unbiased, bias_adjusted : float or None
        Then also estimates without the bias of having stopped.
    """

    look: int | Floats
    planned: int
    fraction: Number
    boundary: Number
    nominal_p: Number
    alpha: float
    decision: str
    repeated_p: Number
    running_p: Number
    repeated: Interval | None = None
    stagewise_p: float | None = None
    stagewise: Interval | None = None
    median_unbiased: float | None = None
    bias_adjusted: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Anytime(Part):
    """What holds at every moment: that of each moment by itself, beside what all so far have in common.

    Attributes
    ----------
    log_e : float or ndarray
        Log of the e-value against the null at the moment; e-values of independent tests multiply.
    p_now, now : float or ndarray, Interval
        p-value and interval of the moment by itself.
    wider : float, ndarray or None
        How many times as wide that interval is as one for a single look at this moment.
    empty : bool or ndarray
        Where all intervals so far have no point in common.
    """

    log_e: Number
    p_now: Number
    now: Interval
    wider: Number | None = None
    empty: bool | NDArray[np.bool_] = False


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Survival(Part):
    """The share without an event by each time, one curve a group; it falls at times with an event.

    Attributes
    ----------
    labels : tuple of str
        The groups.
    times, kept, low, high : tuple of ndarray
        Of each group the times with an event, the share without one after each, and its limits, one time at a time.
    last : tuple of float
        The largest time seen in each group.
    """

    labels: tuple[str, ...]
    times: tuple[Floats, ...]
    kept: tuple[Floats, ...]
    low: tuple[Floats, ...]
    high: tuple[Floats, ...]
    last: tuple[float, ...]

    def at(self, time: float) -> tuple[tuple[float, float, float], ...]:
        """Of each group the share without the event after a time, and its limits."""
        found = []
        for times, kept, low, high in zip(self.times, self.kept, self.low, self.high, strict=True):
            k = int(np.searchsorted(times, time, side="right")) - 1
            found.append((1.0, 1.0, 1.0) if k < 0 else (float(kept[k]), float(low[k]), float(high[k])))
        return tuple(found)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Influence(Part):
    """The units that carry a result.

    Attributes
    ----------
    units : tuple of str
        Their names, or their places among the rows, from 0; those that move it most first.
    moved, without : ndarray
        By how much each moves the estimate, and what it is without this one.
    """

    units: tuple[str, ...]
    moved: Floats
    without: Floats


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
    way : str
        What was drawn, in words; empty for draws from a posterior.
    left_out : int
        Draws that gave no value.
    """

    replicates: int
    error: float
    seed: int | None = None
    quantiles: Floats | None = None
    way: str = ""
    left_out: int = 0
