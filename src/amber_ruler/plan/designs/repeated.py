"""Planning tests of units that are measured several times: before and after, and in crossed orders."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import TwoGroups
from amber_ruler.plan.designs.means import MEAN_WAYS, MOST_SPREADS, TwoMeans, mean_told, mean_ways
from amber_ruler.plan.planned import Units, Ways


@dataclass(frozen=True, kw_only=True)
class RepeatedMeans(TwoMeans):
    """A test of treatment against control by the mean of several measurements of each unit, after some before.

    Parameters
    ----------
    before, after : int
        Measurements of each unit before and after the treatment begins.
    correlation : float, between -1 and 1
        Of any two measurements of one unit.
    analysed_by : "after", "change" or "covariance"
        The mean after; the mean after less the mean before; or the mean after, adjusted for the mean before.
    sd : float
        Standard deviation of one measurement within each group.
    sd_treatment : float, optional
        Standard deviation in treatment, where it differs; `sd` is then that of control.
    baseline : float, optional
        Mean of control: needed to give or say the effect as a lift or as a treatment mean.
    skewness : float, optional
        As for `TwoMeans`.
    distribution, welch
        As for `TwoMeans`.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    As `TwoMeans`, of a value whose variance is sd² times: (1 + (k - 1) r) / k after; with the change
    (1 + (m - 1) r) / m - 2 r more; with covariance m r² / (1 + (m - 1) r) less. Covariance costs a degree of freedom;
    the chance imbalance of the mean before is left out, as the source has it.

    References
    ----------
    .. [1] Frison & Pocock (1992), Statistics in Medicine 11, 1685-1704.

    Examples
    --------
    >>> plan = RepeatedMeans(sd=10, before=3, after=2, correlation=0.6).sample_size(effect=4, power=0.8)
    >>> plan.n_control, round(plan.design.variance_factor, 4)
    (32, 0.3091)
    """

    title = "Repeated means"
    method = "two means of repeated measurements, equal variances, noncentral t"
    source = "Frison & Pocock (1992), Statistics in Medicine 11, 1685-1704"
    allowed: ClassVar[frozenset[type]] = TwoGroups.allowed - {change.Covariate}

    before: int = 1
    after: int = 1
    correlation: float
    analysed_by: Literal["after", "change", "covariance"] = "covariance"

    def __post_init__(self) -> None:
        gate.whole("before", self.before, 1)
        gate.whole("after", self.after, 1)
        gate.between("correlation", self.correlation, -1, 1)
        gate.choice("analysed_by", self.analysed_by, ("after", "change", "covariance"))
        super().__post_init__()
        least = max(self.before, self.after)
        if np.any(1 + (least - 1) * np.asarray(self.correlation) <= 0) or np.any(np.asarray(self.variance_factor) <= 0):
            raise DesignError(
                f"Not all of {least} measurements of a unit can have a correlation of {self.correlation}."
            )

    @property
    def variance_factor(self) -> float:
        """The variance of what is compared, as a multiple of that of one measurement."""
        m, k, r = self.before, self.after, self.correlation
        after, before = (1 + (k - 1) * r) / k, (1 + (m - 1) * r) / m
        if self.analysed_by == "change":
            return after + before - 2 * r
        return after - (r * r / before if self.analysed_by == "covariance" else 0.0)

    def _variance_factor(self) -> float:
        return super()._variance_factor() * self.variance_factor

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Means after, adjusted for means before where that is the analysis; otherwise what is compared itself."""
        if self.analysed_by != "covariance":
            return super()._draw(rng, effect, units, runs)
        draws.plain(self)
        after, before = ((1 + (k - 1) * self.correlation) / k for k in (self.after, self.before))
        arms = (
            (effect, "treatment", self._treated_sd() * np.sqrt(after), units[0]),
            (0.0, "control", self.sd * np.sqrt(after), units[1]),
        )
        found = draws.adjusted(rng, arms, self.correlation / float(np.sqrt(after * before)), runs)
        return found, {"variances": "equal" if self.sd_treatment is None else "unequal"}

    def _least(self) -> float:
        return super()._least() + (self.analysed_by == "covariance")

    def _own_df(self, units: Units) -> Floats | None:
        df = super()._own_df(units)
        return df if df is None or self.analysed_by != "covariance" else df - 1


@dataclass(frozen=True, kw_only=True)
class Crossover(TwoGroups):
    """A test of treatment against control where each unit has both, in one of two orders.

    Parameters
    ----------
    sd_within : float, optional
        Standard deviation of a measurement within a unit. Or instead:
    sd, correlation : float, optional
        Standard deviation of one measurement, and the correlation of a unit's two.
    baseline : float, optional
        Mean of control: needed to give or say the effect as a lift or as a mean.
    ratio : float
        Units of the first order (treatment first) for each of the second.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The effect is half the difference of the two orders in their mean difference between the periods, so that a change
    from period to period cancels out: its variance is sd_within² / 2 (1 / n1 + 1 / n2), with n1 + n2 - 2 degrees of
    freedom. No carry-over is taken to be there. `n` is the units of the second order (of each, if equal). The
    standardised effect is in units of `sd_within`.

    References
    ----------
    .. [1] Senn (2002), Cross-over Trials in Clinical Research, 2nd ed., chapter 3.

    Examples
    --------
    >>> plan = Crossover(sd=10, correlation=0.6).sample_size(effect=3, power=0.8)
    >>> plan.n, plan.n_total, round(plan.power, 4)
    (36, 72, 0.8015)
    """

    title = "Crossover"
    measured_by = "means"
    method = "two conditions in crossed orders, noncentral t"
    source = "Senn (2002), Cross-over Trials in Clinical Research, 2nd ed., chapter 3"
    ways = MEAN_WAYS
    allowed: ClassVar[frozenset[type]] = TwoGroups.allowed - {change.Covariate, change.Clusters, change.Variants}

    sd_within: float | None = None
    sd: float | None = None
    correlation: float | None = None
    baseline: float | None = None

    def __post_init__(self) -> None:
        given = tuple(v is not None for v in (self.sd_within, self.sd, self.correlation))
        if given not in {(True, False, False), (False, True, True)}:
            raise DesignError("A crossover needs sd_within, or sd and correlation.")
        for name in ("sd_within", "sd"):
            if getattr(self, name) is not None:
                gate.positive(name, getattr(self, name))
        if self.correlation is not None:
            gate.between("correlation", self.correlation, -1, 1)
        if self.baseline is not None:
            gate.finite("baseline", self.baseline)
        super().__post_init__()

    def _spread(self) -> Floats:
        if self.sd is None or self.correlation is None:
            return np.asarray(self.sd_within, dtype=np.float64)
        return np.asarray(self.sd * np.sqrt(1 - np.asarray(self.correlation)))

    def _ways(self) -> Ways:
        return mean_ways(self._spread(), self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        return mean_told(effect, float(self._spread()), self.baseline, "treatment mean", standardised="standardised")

    def _most(self, sign: float) -> Floats:
        return MOST_SPREADS * self._spread()

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = self._spread() * np.sqrt((1 / units[0] + 1 / units[1]) / 2)
        return error, error

    def _errors_of_ratio(self, ratio: float, effect: Floats, units: Units) -> Any:
        raise DesignError("A margin of a crossover is in the unit of the effect.")

    def _own_df(self, units: Units) -> Floats | None:
        return units[0] + units[1] - 2

    def _group_names(self) -> tuple[str, ...]:
        return "treatment first", "control first"

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Half of the differences between the periods, whose means differ by the effect."""
        draws.plain(self)
        sd = float(self._spread()) / float(np.sqrt(2))
        halves = zip((effect / 2, -effect / 2), units, ("treatment first", "control first"), strict=True)
        return tuple(draws.summaries(rng, mean, sd, size, runs, label) for mean, size, label in halves), {
            "variances": "equal"
        }
