"""Planning tests of rates, and of ratios of two sums."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, Self

import numpy as np
from scipy import special

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan import outcomes as exactly
from amber_ruler.plan.designs.estimated import Estimated, TwoGroups
from amber_ruler.plan.designs.means import MEAN_WAYS, MOST_SPREADS, mean_told, mean_ways
from amber_ruler.plan.planned import SMALLEST_SHARE, Units, Ways
from amber_ruler.plan.powers import power_of_estimate, tails
from amber_ruler.plan.search import MOST_UNITS
from amber_ruler.samples import Events

_MOST_EVENTS = 1e18
_MOST_LOG = 50.0  # logarithm of a ratio of rates


@dataclass(frozen=True, kw_only=True)
class TwoRates(TwoGroups):
    """A test of treatment against control by the rate of events.

    Parameters
    ----------
    baseline : float
        Events in control for each unit of exposure.
    exposure : float
        Exposure of each unit, such as days: a unit of control has baseline × exposure events on average.
    scale : "difference", "log" or "root"
        What is tested: the rates themselves, by the score; their logarithms; or their square roots.
    overdispersion : float
        By what the variance of a count is a multiple of Poisson's (quasi-Poisson); 1 is Poisson.
    dispersion : float
        Or k of a negative binomial, whose counts of mean m have the variance m + k m²; 0 is Poisson.
    power_from : "normal" or "outcomes"
        Whether the power is approximated by the normal distribution, or that of the exact conditional test of Poisson
        counts, all outcomes counted.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    On the scale of the difference it is the score test, which pools the rates under "no difference" and not under the
    effect; the effect is the difference of the rates. Against a margin both rates are at their maximum likelihood under
    the margin. The logarithms have the variance of rates over the squares of the rates, 1 / events for Poisson counts,
    under no effect too: the effect, and a margin and a half-width, is then the logarithm of the ratio. Twice the square
    roots have the variance of rates over the rates. The exact test gives each tail half of alpha.

    References
    ----------
    .. [1] Ng & Tang (2005), Statistics in Medicine 24, 955-965, for differences and logarithms.
    .. [2] Huffman (1984), Applied Statistics 33, 224-226, for square roots.
    .. [3] Zhu & Lakkis (2014), Statistics in Medicine 33, 376-387, for the negative binomial.
    .. [4] Przyborowski & Wilenski (1940), Biometrika 31, 313-323, for the conditional test.

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
    scale: Literal["difference", "log", "root"] = "difference"
    overdispersion: float = 1.0
    dispersion: float = 0.0
    power_from: Literal["normal", "outcomes"] = "normal"

    def __post_init__(self) -> None:
        gate.positive("baseline", self.baseline)
        gate.positive("exposure", self.exposure)
        gate.choice("scale", self.scale, ("difference", "log", "root"))
        gate.positive("overdispersion", self.overdispersion)
        gate.at_least("dispersion", self.dispersion, 0)
        gate.choice("power_from", self.power_from, ("normal", "outcomes"))
        super().__post_init__()
        spread = np.any(np.asarray(self.overdispersion) != 1) or np.any(np.asarray(self.dispersion) != 0)
        if self._exact() and (spread or self.scale != "difference"):
            raise DesignError("The exact test is one of Poisson counts: leave scale, overdispersion, dispersion out.")

    def _exact(self) -> bool:
        return self.power_from == "outcomes"

    def _continuous(self) -> bool:
        return not self._exact() and super()._continuous()

    @property
    def effect_name(self) -> str:  # type: ignore[override]
        """What the effect is: it is a logarithm on that scale."""
        return "log of the ratio of rates" if self.scale == "log" else "difference"

    def _with(self, modifier: change.Modifier) -> Self:
        if self._exact() and not isinstance(modifier, change.Traffic | change.Attrition | change.Variants):
            raise DesignError(f"Exact power counts independent units: {modifier} needs power_from='normal'.")
        if isinstance(modifier, change.Margin) and (self.scale == "root" or (modifier.lift and self.scale == "log")):
            raise DesignError("A margin is planned on the scale of the difference, or in the unit of the logarithm.")
        return super()._with(modifier)

    def _least(self) -> float:
        return 1.0

    def _spread_of_control(self) -> float:
        return float(self._variance(np.asarray(self.baseline)))

    def _ways(self) -> Ways:
        ways = mean_ways(1.0, self.baseline)
        if self.scale != "log":
            return ways
        return {
            "effect": lambda e: e,
            "lift": lambda share: np.log1p(gate.at_least("lift", share, -1 + 1e-15)),
            "treatment": lambda rate: np.log(gate.positive("treatment", rate) / np.asarray(self.baseline)),
        }

    def _treated(self, effect: Floats) -> Floats:
        """Rate of treatment under the effect."""
        return np.asarray(self.baseline * np.exp(effect) if self.scale == "log" else self.baseline + effect)

    def _told(self, effect: float) -> dict[str, float]:
        rate = float(self._treated(np.asarray(effect)))
        return {
            "treatment rate": rate,
            "lift": effect / self.baseline if self.scale != "log" else float(np.expm1(effect)),
        }

    def _possible(self, effect: Floats) -> Floats:
        if self.scale != "log" and np.any(self.baseline + effect <= 0):
            raise DesignError(f"A rate can't fall to 0 or below: the baseline is {np.min(self.baseline):g}.")
        return effect

    def _most(self, sign: float) -> Floats:
        if self.scale == "log":
            return np.asarray(_MOST_LOG)
        return np.asarray(self.baseline) * (MOST_SPREADS if sign > 0 else 1 - SMALLEST_SHARE)

    def _variance(self, rate: Floats) -> Floats:
        """Variance of the rate of one unit."""
        return np.asarray(rate * self.overdispersion / self.exposure + self.dispersion * rate**2)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        (one, two), rate, base = units, self._treated(effect), np.asarray(self.baseline)
        factor = self._variance_factor()
        v1, v0 = self._variance(rate), self._variance(base)
        if self.scale == "log":
            error = np.sqrt(factor * (v1 / rate**2 / one + v0 / base**2 / two))
            return error, error
        error = np.sqrt(factor * (v1 / one + v0 / two))
        # The likelihood equation of the control's rate when treatment's is higher by `null`, of Poisson counts.
        total, events = one + two, one * rate + two * base
        b = total * null - events
        low = (np.sqrt(b * b + 4 * total * two * base * null) - b) / (2 * total)
        return np.sqrt(factor * (self._variance(low + null) / one + self._variance(low) / two)), error

    def _errors_of_ratio(self, ratio: float, effect: Floats, units: Units) -> tuple[Floats, Floats]:
        (one, two), rate, factor = units, self.baseline + effect, self._variance_factor()
        low = (one * rate + two * self.baseline) / (ratio * one + two)  # the control's rate where it is a share of it
        spread = (
            factor * (self._variance(high) / one + ratio**2 * self._variance(base) / two)
            for high, base in ((ratio * low, low), (rate, np.asarray(self.baseline)))
        )
        null, error = map(np.sqrt, spread)
        return null, error

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        if self._exact():
            times = tuple(u * self.exposure for u in units)
            alpha = self._single_alpha(units)
            return exactly.power_of_counts(self._treated(effect), self.baseline, times, *tails(alpha, self.alternative))
        if self.scale != "root":
            return super()._power_of(effect, units)
        base, rate = np.asarray(self.baseline), self._treated(effect)
        away = 2 * effect / (np.sqrt(rate) + np.sqrt(base))
        variance = self._variance(rate) / rate / units[0] + self._variance(base) / base / units[1]
        error = np.sqrt(self._variance_factor() * variance)
        return power_of_estimate(away, error, error, None, *tails(self._single_alpha(units), self.alternative))

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        if self.scale == "root":
            raise DesignError("The interval of a difference of square roots has no half-width in the rates' unit.")
        return super()._half_width(effect, units)

    def _solve_n(
        self, effect: Floats, target: Floats, recruits: Callable[[Floats], Units] | None = None
    ) -> tuple[Floats, Floats]:
        if not self._exact() or recruits is not None:
            return super()._solve_n(effect, target, recruits)
        n = exactly.lasting_sizes(self, effect, target, replace(self, power_from="normal")._solve_n(effect, target)[0])
        return n, self._power_with(effect, self._recruits(np.minimum(n, MOST_UNITS)))

    def _method_said(self) -> str:
        said = super()._method_said()
        if self._exact():
            return said.replace("score test, normal distribution", "exact conditional test, by enumeration")
        words = {"difference": "score test", "log": "logarithms", "root": "square roots"}
        said = said.replace("score test", words[self.scale])
        if np.any(np.asarray(self.dispersion) != 0):
            return said.replace("Poisson", "negative binomial")
        return said.replace("Poisson", "overdispersed") if np.any(np.asarray(self.overdispersion) != 1) else said

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Poisson counts over the exposure of all units."""
        rates = self.baseline, float(self._treated(np.asarray(effect)))
        draws.independent(self)
        if max(rates) * max(units) * self.exposure > _MOST_EVENTS:
            raise DesignError(f"More than {_MOST_EVENTS:g} events can't be drawn: simulate fewer units.")
        arms = zip(rates[::-1], units, ("treatment", "control"), strict=True)
        times = ((rate, size * self.exposure, label) for rate, size, label in arms)
        return tuple(
            Events(rng.poisson(rate * time, runs).astype(float), np.full(runs, time), label)
            for rate, time, label in times
        ), ({"test": "exact"} if self._exact() else {})

    @property
    def simulated_by(self) -> str | None:  # type: ignore[override]
        """Ratios of rates have a function of their own, as counts that spread more have."""
        if np.any(np.asarray(self.dispersion) != 0) and self.scale == "log":
            return "measure.count_ratio"
        return "measure.rate_ratio" if self.scale != "difference" else None

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        rates = float(self._treated(np.asarray(effect))), self.baseline
        if self.simulated_by == "measure.count_ratio" and self.overdispersion == 1:
            return replicates.overdispersed(rng, rates, self.exposure, self.dispersion, units, runs, self.alternative)
        if self.overdispersion != 1 or self.dispersion != 0:
            raise DesignError("Of counts that spread more only negative binomial ones are simulated, by logarithms.")
        groups, _ = self._draw(rng, effect, units, runs)
        test = "log-wald" if self.scale == "log" else "root"
        return replicates.ratio_of_rates(test, groups, self.alternative)


@dataclass(frozen=True, kw_only=True)
class OneRate(Estimated):
    """A test of one rate of events against a fixed value.

    Parameters
    ----------
    baseline : float
        The tested rate: events for each unit of exposure.
    exposure : float
        Exposure of each unit, such as days.
    power_from : "outcomes" or "normal"
        Whether the test is the exact Poisson one, every outcome counted, or the score test by the normal distribution.
    interval : "wald", "exact" or "log"
        Whose width is planned: the estimate ± z sqrt(rate / exposure), Garwood's at the events expected, or the
        logarithm ± z / sqrt(events), whose half-width is one of the logarithm.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The power of an exact test goes up and down as units are added: the size is the smallest from which it never falls
    below the target again. A two-sided exact test gives each tail half of alpha, as Garwood's interval.

    References
    ----------
    .. [1] Garwood (1936), Biometrika 28, 437-442.

    Examples
    --------
    >>> plan = OneRate(baseline=0.5, exposure=28).sample_size(lift=0.3, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (8, 0.8421)
    """

    title = "One rate"
    method = "one Poisson rate, exact test"
    source = "Garwood (1936), Biometrika 28, 437-442"
    effect_name = "rate − tested rate"
    ways = ("effect", "lift", "treatment")
    measured_by = "rate"
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    baseline: float
    exposure: float = 1.0
    power_from: Literal["normal", "outcomes"] = "outcomes"
    interval: Literal["wald", "exact", "log"] = "wald"

    def __post_init__(self) -> None:
        gate.positive("baseline", self.baseline)
        gate.positive("exposure", self.exposure)
        gate.choice("power_from", self.power_from, ("normal", "outcomes"))
        gate.choice("interval", self.interval, ("wald", "exact", "log"))
        super().__post_init__()

    def _exact(self) -> bool:
        return self.power_from == "outcomes"

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        if self.interval == "wald":
            return super()._half_width(effect, units)
        time, tail = units[0] * self.exposure, float(self.alpha) / 2
        events = (self.baseline + effect) * time
        if self.interval == "log":
            return np.asarray(normal.upper_quantile(tail) / np.sqrt(events))
        low = np.where(events > 0, special.gammaincinv(np.maximum(events, 1e-300), tail), 0.0)
        return np.asarray((special.gammainccinv(events + 1, tail) - low) / (2 * time))

    def _continuous(self) -> bool:
        return not self._exact()

    def _least(self) -> float:
        return 1.0

    def _ways(self) -> Ways:
        return mean_ways(1.0, self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        return {"rate": self.baseline + effect, "lift": effect / self.baseline}

    def _possible(self, effect: Floats) -> Floats:
        if np.any(self.baseline + effect <= 0):
            raise DesignError(f"A rate can't fall to 0 or below: the tested one is {np.min(self.baseline):g}.")
        return effect

    def _most(self, sign: float) -> Floats:
        return np.asarray(self.baseline) * (MOST_SPREADS if sign > 0 else 1 - SMALLEST_SHARE)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        time = units[0] * self.exposure
        return np.sqrt((self.baseline + null) / time), np.sqrt((self.baseline + effect) / time)

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        if not self._exact():
            return super()._power_of(effect, units)
        time, (low, high) = units[0] * self.exposure, tails(np.asarray(self.alpha), self.alternative)
        return exactly.power_of_poisson(self.baseline * time, (self.baseline + effect) * time, low, high)

    def _solve_n(
        self, effect: Floats, target: Floats, recruits: Callable[[Floats], Units] | None = None
    ) -> tuple[Floats, Floats]:
        if not self._exact():
            return super()._solve_n(effect, target)
        n = exactly.lasting_sizes(self, effect, target, self._approximate_n(effect, target))
        return n, self._power_with(effect, self._recruits(np.minimum(n, MOST_UNITS)))

    def _approximate_n(self, effect: Floats, target: Floats) -> Floats:
        return replace(self, power_from="normal")._solve_n(effect, target)[0]

    def _size_notes(self, effect: Floats, target: Floats, n: Floats) -> tuple[str, ...]:
        if not self._exact():
            return ()
        return exactly.saw_tooth(self, effect, target, n, self._approximate_n(effect, target))

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        time = units[0] * self.exposure
        events = rng.poisson((self.baseline + effect) * time, runs).astype(float)
        return (Events(events, np.full(runs, time), "group"),), {"test": "exact" if self._exact() else "score"}

    def _null(self, difference: float) -> float:
        return float(self.baseline) + difference

    def _method_said(self) -> str:
        said = super()._method_said()
        return said if self._exact() else said.replace("exact test", "score test, normal distribution")


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

    simulated_by = "adjust.ratio"
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

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.ratio_metric(self, rng, effect, units, runs)
