"""Planning tests of rates, and of ratios of two sums."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws
from amber_ruler.plan.designs.estimated import TwoGroups
from amber_ruler.plan.designs.means import MEAN_WAYS, MOST_SPREADS, mean_told, mean_ways
from amber_ruler.plan.planned import SMALLEST_SHARE, Units, Ways
from amber_ruler.samples import Events

_MOST_EVENTS = 1e18


@dataclass(frozen=True, kw_only=True)
class TwoRates(TwoGroups):
    """A test of treatment against control by the rate of events.

    Parameters
    ----------
    baseline : float
        Events in control for each unit of exposure.
    exposure : float
        Exposure of each unit, such as days: a unit of control has baseline × exposure events on average.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    Counts are taken to be Poisson. The score test, which pools the rates under "no difference" and not under the
    effect, by the normal distribution. The effect is the difference of the rates. Against a margin both rates are
    at their maximum likelihood under the margin.

    References
    ----------
    .. [1] Ng & Tang (2005), Statistics in Medicine 24, 955-965.

    Examples
    --------
    >>> plan = TwoRates(baseline=0.5, exposure=28).sample_size(lift=0.10, power=0.8)
    >>> plan.n_control, plan.n_total, plan.effects["treatment rate"]
    (118, 236, 0.55)
    """

    title = "Two rates"
    method = "two Poisson rates, score test, normal distribution"
    source = "Ng & Tang (2005), Statistics in Medicine 24, 955-965"
    ways = ("effect", "lift", "treatment")
    measured_by = "rates"

    baseline: float
    exposure: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("baseline", self.baseline)
        gate.positive("exposure", self.exposure)
        super().__post_init__()

    def _least(self) -> float:
        return 1.0

    def _ways(self) -> Ways:
        return mean_ways(1.0, self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        return {"treatment rate": self.baseline + effect, "lift": effect / self.baseline}

    def _possible(self, effect: Floats) -> Floats:
        if np.any(self.baseline + effect <= 0):
            raise DesignError(f"A rate can't fall to 0 or below: the baseline is {np.min(self.baseline):g}.")
        return effect

    def _most(self, sign: float) -> Floats:
        return np.asarray(self.baseline) * (MOST_SPREADS if sign > 0 else 1 - SMALLEST_SHARE)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        one, two = (u * self.exposure for u in units)
        rate, factor = self.baseline + effect, self._variance_factor()
        error = np.sqrt(factor * (rate / one + self.baseline / two))
        # The likelihood equation of the control's rate when treatment's is higher by `null`.
        time, events = one + two, one * rate + two * self.baseline
        b = time * null - events
        low = (np.sqrt(b * b + 4 * time * two * self.baseline * null) - b) / (2 * time)
        return np.sqrt(factor * ((low + null) / one + low / two)), error

    def _errors_of_ratio(self, ratio: float, effect: Floats, units: Units) -> tuple[Floats, Floats]:
        one, two = (u * self.exposure for u in units)
        rate, factor = self.baseline + effect, self._variance_factor()
        low = (one * rate + two * self.baseline) / (ratio * one + two)  # the control's rate where it is a share of it
        spread = (
            factor * (high / one + ratio**2 * base / two) for high, base in ((ratio * low, low), (rate, self.baseline))
        )
        null, error = map(np.sqrt, spread)
        return null, error

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Poisson counts over the exposure of all units."""
        draws.independent(self)
        if max(self.baseline + effect, self.baseline) * max(units) * self.exposure > _MOST_EVENTS:
            raise DesignError(f"More than {_MOST_EVENTS:g} events can't be drawn: simulate fewer units.")
        arms = zip((self.baseline + effect, self.baseline), units, ("treatment", "control"), strict=True)
        times = ((rate, size * self.exposure, label) for rate, size, label in arms)
        return tuple(
            Events(rng.poisson(rate * time, runs).astype(float), np.full(runs, time), label)
            for rate, time, label in times
        ), {}


@dataclass(frozen=True, kw_only=True)
class RatioMetric(TwoGroups):
    """A test of treatment against control by a ratio of two sums, such as bookings for each search.

    Parameters
    ----------
    numerator_mean, denominator_mean : float
        Means of both over units, in control.
    numerator_variance, denominator_variance : float
        Their variances over units.
    covariance : float
        Their covariance over units.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    A ratio R of means is as precise as the mean of (numerator − R denominator) / mean denominator (the delta method):
    a normal test for many units. The effect is the difference of the ratios; units are what was randomised.

    References
    ----------
    .. [1] Deng, Knoblich & Lu (2018), KDD '18, 233-242.

    Examples
    --------
    >>> design = RatioMetric(numerator_mean=0.6, numerator_variance=0.8, denominator_mean=3, denominator_variance=5,
    ...                      covariance=1.1)
    >>> design.sample_size(lift=0.05).n_control
    9768
    """

    title = "Ratio metric"
    method = "ratio of two means, delta method, normal distribution"
    source = "Deng, Knoblich & Lu (2018), KDD '18, 233-242"
    ways = MEAN_WAYS

    numerator_mean: float
    numerator_variance: float
    denominator_mean: float
    denominator_variance: float
    covariance: float

    def __post_init__(self) -> None:
        super().__post_init__()
        for name in ("numerator_variance", "denominator_variance"):
            gate.at_least(name, getattr(self, name), 0)
        gate.finite("numerator_mean", self.numerator_mean)
        gate.positive("denominator_mean", self.denominator_mean)
        gate.finite("covariance", self.covariance)
        most = np.sqrt(np.asarray(self.numerator_variance) * self.denominator_variance)
        if np.any(np.abs(self.covariance) > most * (1 + 1e-12)):
            raise DesignError(f"A covariance beyond ±{np.min(most):.4g} would be a correlation beyond ±1.")
        if np.any(self._spread() <= 0):
            raise DesignError("The ratio has no spread: numerator and denominator move in step.")

    def _baseline(self) -> float:
        return self.numerator_mean / self.denominator_mean

    def _spread(self) -> float:
        """Standard deviation of the linearised ratio."""
        r = self._baseline()
        variance = self.numerator_variance - 2 * r * self.covariance + r * r * self.denominator_variance
        return np.sqrt(np.maximum(variance, 0)) / self.denominator_mean  # type: ignore[no-any-return]

    def _ways(self) -> Ways:
        return mean_ways(self._spread(), self._baseline())

    def _told(self, effect: float) -> dict[str, float]:
        return {"baseline ratio": self._baseline()} | mean_told(
            effect, self._spread(), self._baseline(), "treatment ratio", standardised="standardised"
        )

    def _most(self, sign: float) -> Floats:
        return np.asarray(MOST_SPREADS * self._spread())

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = self._spread() * np.sqrt(self._variance_factor() * (1 / units[0] + 1 / units[1]))
        return error, error
