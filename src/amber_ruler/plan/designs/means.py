"""Planning tests of means."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, several
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated, TwoGroups
from amber_ruler.plan.planned import Units, Ways
from amber_ruler.plan.powers import power_of_unequal, tails
from amber_ruler.plan.several import FamilyPower
from amber_ruler.results import Check

_SOURCE = "Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31"
MEAN_WAYS = ("effect", "standardised", "lift", "treatment")
MOST_SPREADS = 1e3  # a standardised effect beyond all experience


@dataclass(frozen=True, kw_only=True)
class OneMean(Estimated):
    """A test of one mean against a fixed value.

    Parameters
    ----------
    sd : float
        Standard deviation, in the metric's unit; 1 makes effects standardised.
    baseline : float, optional
        The tested value: needed to give or say the effect as a lift or as a mean.
    distribution : "t" or "normal"
        Of the statistic: normal where the standard deviation is known beforehand.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    Power of the t test by the noncentral t distribution; both tails count when the test is two-sided.

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31.

    Examples
    --------
    >>> plan = OneMean(sd=1).sample_size(effect=0.5, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (34, 0.8078)
    """

    title = "One mean"
    method = "one mean, noncentral t"
    source = _SOURCE
    ways = MEAN_WAYS
    measured_by = "mean"
    effect_name = "mean − tested value"
    allowed: ClassVar[frozenset[type]] = Estimated.allowed | {change.Population}

    sd: float = 1.0
    baseline: float | None = None
    distribution: Literal["t", "normal"] = "t"

    def __post_init__(self) -> None:
        gate.positive("sd", self.sd)
        gate.choice("distribution", self.distribution, ("t", "normal"))
        _check_baseline(self.baseline)
        super().__post_init__()

    def _ways(self) -> Ways:
        return mean_ways(self.sd, self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        return mean_told(effect, self.sd, self.baseline, "mean")

    def _least(self) -> float:
        return _least(self)

    def _most(self, sign: float) -> Floats:
        return np.asarray(MOST_SPREADS * self.sd)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = self.sd * np.sqrt(self._variance_factor() * self._left(units) / units[0])
        return error, error

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        draws.independent(self)
        return (draws.summaries(rng, effect, self.sd, units[0], runs, "group"),), (
            {"known_sd": self.sd} if self.distribution == "normal" else {}
        )

    def _own_df(self, units: Units) -> Floats | None:
        return None if self.distribution == "normal" else units[0] / self._cluster_size() - 1

    def _method_said(self) -> str:
        said = super()._method_said()
        return (
            said.replace("noncentral t", "known standard deviation, normal distribution")
            if self.distribution == "normal"
            else said
        )


@dataclass(frozen=True, kw_only=True)
class TwoMeans(TwoGroups):
    """A test of treatment against control by their means.

    Parameters
    ----------
    sd : float
        Standard deviation within each group, in the metric's unit; 1 makes effects standardised.
    sd_treatment : float, optional
        Standard deviation in treatment, where it differs; `sd` is then that of control.
    baseline : float, optional
        Mean of control: needed to give or say the effect as a lift or as a treatment mean.
    skewness : float, optional
        Skewness of the metric: the answer then says whether there are enough units for a t test.
    distribution : "t" or "normal"
        Of the statistic: normal where standard deviations are known beforehand.
    power_from : "approximate" or "exact"
        With two standard deviations: whether the unequal-variance test is taken as a t of Satterthwaite's degrees of
        freedom, or its power is averaged over what the spreads may come out as.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    Power is that of the equal-variance t test, by the noncentral t distribution; both tails count when the test is
    two-sided. A covariate's slope costs a degree of freedom and its chance imbalance some precision: both are averaged
    over a normal covariate. With two standard deviations it is that of the unequal-variance test, with Satterthwaite's
    degrees of freedom: an approximation, as the test itself; "exact" is the chance that this very test rejects, by one
    integral over the ratio of the two spreads. `n` is the units in control (in each group while `ratio`
    is 1), or a pair (treatment, control). The standardised effect is in units of the root of the mean of both
    variances.

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31.

    Examples
    --------
    >>> plan = TwoMeans(sd=1).sample_size(effect=0.5, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (64, 128, 0.8015)
    """

    title = "Two means"
    method = "two means, equal variances, noncentral t"
    measured_by = "means"
    source = _SOURCE
    ways = MEAN_WAYS

    sd: float = 1.0
    sd_treatment: float | None = None
    baseline: float | None = None
    skewness: float | None = None
    distribution: Literal["t", "normal"] = "t"
    power_from: Literal["approximate", "exact"] = "approximate"

    def __post_init__(self) -> None:
        gate.positive("sd", self.sd)
        gate.choice("power_from", self.power_from, ("approximate", "exact"))
        if self.power_from == "exact" and (self.sd_treatment is None or self.distribution == "normal"):
            raise DesignError("power_from='exact' is of a t test of two standard deviations: give sd_treatment.")
        if self.sd_treatment is not None:
            gate.positive("sd_treatment", self.sd_treatment)
        if self.skewness is not None:
            gate.finite("skewness", self.skewness)
        gate.choice("distribution", self.distribution, ("t", "normal"))
        _check_baseline(self.baseline)
        super().__post_init__()

    def _treated_sd(self) -> float:
        return self.sd if self.sd_treatment is None else self.sd_treatment

    def _common_sd(self) -> float:
        return self.sd if self.sd_treatment is None else np.hypot(self.sd, self.sd_treatment) / np.sqrt(2)

    def _spread_of_control(self) -> float:
        return self.sd**2

    def _ways(self) -> Ways:
        return mean_ways(self._common_sd(), self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        return mean_told(effect, self._common_sd(), self.baseline, "treatment mean")

    def _least(self) -> float:
        return _least(self)

    def _most(self, sign: float) -> Floats:
        return np.asarray(MOST_SPREADS * self._common_sd())

    def _variances(self, units: Units) -> Units:
        """Squared standard errors of both means."""
        factor = self._variance_factor()
        return self._treated_sd() ** 2 * factor / units[0], self.sd**2 * factor / units[1]

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = np.sqrt(sum(self._variances(units)))
        return error, error

    def _errors_of_ratio(self, ratio: float, effect: Floats, units: Units) -> tuple[Floats, Floats]:
        v1, v0 = self._variances(units)
        error = np.sqrt(v1 + ratio**2 * v0)
        return error, error

    def _own_df(self, units: Units) -> Floats | None:
        if self.distribution == "normal":
            return None
        one, two = (u / self._cluster_size() for u in units)
        if self.sd_treatment is not None:
            v1, v0 = self._variances(units)
            return np.asarray((v1 + v0) ** 2 / (v1**2 / (one - 1) + v0**2 / (two - 1)))
        return self._pooled_df(one, two)

    def _with(self, modifier: change.Modifier) -> Self:
        if self.power_from == "exact" and not isinstance(modifier, change.Traffic | change.Attrition | change.Clusters):
            raise DesignError(f"The exact power is of a plain test: {modifier} needs power_from='approximate'.")
        return super()._with(modifier)

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        if self.power_from != "exact":
            return super()._power_of(effect, units)
        dfs = tuple(u / self._cluster_size() - 1 for u in units)
        return power_of_unequal(effect, self._variances(units), dfs, *tails(np.asarray(self.alpha), self.alternative))

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Normal values in both groups; with clusters their means."""
        covariate = self._modifier(change.Covariate)
        margin = self._modifier(change.Margin)
        base = 0.0 if margin is None or margin.lift is None else float(self.baseline or 0.0)
        means = ((base + effect, "treatment"), (base, "control"))
        if covariate is not None:
            if covariate.count > 1:
                raise DesignError("One covariate is simulated at a time.")
            if self._modifier(change.LookSchedule) is not None:
                raise DesignError("Looks are simulated without a covariate only: its slope changes from look to look.")
            if self._modifier(change.Clusters) is not None or self.distribution == "normal":
                raise DesignError("A covariate is simulated with independent units and an unknown spread only.")
            arms = tuple((*m, sd, n) for m, sd, n in zip(means, (self._treated_sd(), self.sd), units, strict=True))
            equal = {"variances": "equal" if self.sd_treatment is None else "unequal"}
            return draws.adjusted(rng, arms, covariate.correlation, runs), equal
        shrink, clusters = np.sqrt(self._variance_factor()), self._modifier(change.Clusters)
        if clusters is not None:
            # A cluster's mean spreads as sd times the root of the design effect over its size.
            shrink /= np.sqrt(clusters.size)
            units = tuple(int(u // clusters.size) for u in units)
        spreads = (self._treated_sd() * shrink, self.sd * shrink)
        settings: dict[str, Any] = {"variances": "equal" if self.sd_treatment is None else "unequal"}
        if self.distribution == "normal":
            settings = {"known_sd": spreads}
        return tuple(
            draws.summaries(rng, mean, sd, size, runs, label)
            for (mean, label), sd, size in zip(means, spreads, units, strict=True)
        ), settings

    def family_power(self, *, n: int | Sequence[int], effects: float | Sequence[float]) -> FamilyPower:
        """How likely are several treatments to be found: any of them, all of them, how many?

        Parameters
        ----------
        n : int or sequence of int
            Units in control (treatments by the design's ratio), in treatments and in control, or in each treatment
            and, last, in control.
        effects : float or sequence of float
            Treatment minus control: one for all, or one for each treatment; 0 where there is none.

        Returns
        -------
        FamilyPower
            Of a design `with_variants`: its critical value has the correction of any such sizes, and `error` is the
            chance of any false alarm: without a correction it is above alpha.

        Raises
        ------
        DesignError
            If the design has no variants, or something else that changes the test.

        References
        ----------
        .. [1] Dunnett (1955), Journal of the American Statistical Association 50, 1096-1121.

        Examples
        --------
        >>> design = TwoMeans(sd=1).with_variants(3)
        >>> found = design.family_power(n=(60, 60, 60, 100), effects=[0.5, 0.5, 0.0])
        >>> round(found.any, 4), round(found.all, 4), round(found.error, 4)
        (0.9001, 0.0101, 0.05)
        """
        variants = self._modifier(change.Variants)
        if variants is None:
            raise DesignError("Power over several treatments needs them: design.with_variants(count).")
        count = int(variants.count)
        wanted = gate.finite("effects", effects)
        if wanted.shape not in ((), (count,)):
            raise InputError.rule("effects", effects, f"one number, or {count}, one for each treatment")
        return several.of_treatments(self, several.sizes_of(n, self.ratio, count), np.broadcast_to(wanted, (count,)))

    def sample_size_for_family(
        self, *, wanted: Literal["any", "all"], effects: float | Sequence[float], power: float = 0.8
    ) -> FamilyPower:
        """How many units find any, or all, of several treatments with that chance?

        Parameters
        ----------
        wanted : "any" or "all"
            What has to be found. For "any", treatments with an effect of 0 count as well, where they are found.
        effects : float or sequence of float
            As for `family_power`; "all" needs each to be other than 0.
        power : float, between alpha and 1
            Chance to find it.

        Returns
        -------
        FamilyPower
            With the smallest number of units in control (treatments by the design's ratio) that reaches the power.

        Examples
        --------
        >>> TwoMeans(sd=1).with_variants(2).sample_size_for_family(wanted="all", effects=0.5).units
        (93, 93, 93)
        """
        gate.choice("wanted", wanted, ("any", "all"))
        target = float(self._target(gate.single("power", power)))
        short, enough = 1, 2
        while getattr(self.family_power(n=enough, effects=effects), wanted) < target:
            short, enough = enough, 2 * enough
            if enough > 1e12:
                raise DesignError("No number of units finds that: with effects of 0, or against the alternative?")
        while enough - short > 1:
            middle = (short + enough) // 2
            reached = getattr(self.family_power(n=middle, effects=effects), wanted) >= target
            short, enough = (short, middle) if reached else (middle, enough)
        return self.family_power(n=enough, effects=effects)

    def _shared(self, units: Units) -> Floats:
        v1, v0 = self._variances(units)
        return np.asarray(v0 / (v1 + v0))

    def _method_said(self) -> str:
        said = super()._method_said()
        if self.sd_treatment is not None:
            said = said.replace("equal variances", "unequal variances")
        return said.replace("noncentral t", "known, normal distribution") if self.distribution == "normal" else said

    def _checks(self, units: Units) -> tuple[Check, ...]:
        if self.skewness is None:
            return ()
        needed = effects.units_for_skewness(self.skewness)
        finding = f"a skewness of {self.skewness:.3g} wants about {needed:,.0f} units in each group"
        if min(float(u) for u in units) >= needed:
            return (Check("normal approximation", f"{finding}, which there are"),)
        advice = "With fewer, a tail of 2.5% may really be above 3% (Kohavi et al. 2014): take more units."
        return (Check("normal approximation", finding, advice, "warning"),)


@dataclass(frozen=True, kw_only=True)
class PairedMeans(Estimated):
    """A test of two conditions on the same units, by the mean of the differences.

    Parameters
    ----------
    sd_difference : float, optional
        Standard deviation of the differences. Or instead:
    sd, correlation : float, optional
        Standard deviation of each side, and the correlation between the sides.
    sd_treatment : float, optional
        Standard deviation of the treatment side, where it differs from `sd`.
    baseline : float, optional
        Mean of the control side: needed to give or say the effect as a lift or as a mean.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The t test of the differences; `n` is the number of pairs. The standardised effect is in standard deviations of the
    differences (d_z); with `sd` the answer says it in those of one side too.

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31.

    Examples
    --------
    >>> plan = PairedMeans(sd=10, correlation=0.6).sample_size(effect=3, power=0.9)
    >>> plan.n, round(plan.power, 4)
    (96, 0.902)
    """

    title = "Paired means"
    method = "mean of paired differences, noncentral t"
    source = _SOURCE
    ways = MEAN_WAYS
    measured_by = "mean"

    sd_difference: float | None = None
    sd: float | None = None
    correlation: float | None = None
    sd_treatment: float | None = None
    baseline: float | None = None

    def __post_init__(self) -> None:
        given = tuple(v is not None for v in (self.sd_difference, self.sd, self.correlation))
        if given not in {(True, False, False), (False, True, True)}:
            raise DesignError("Paired means need sd_difference, or sd and correlation.")
        for name in ("sd_difference", "sd", "sd_treatment"):
            if getattr(self, name) is not None:
                gate.positive(name, getattr(self, name))
        if self.correlation is not None:
            gate.between("correlation", self.correlation, -1, 1)
        _check_baseline(self.baseline)
        super().__post_init__()

    def _spread(self) -> Floats:
        if self.sd is None or self.correlation is None:
            return np.asarray(self.sd_difference, dtype=np.float64)
        other = self.sd if self.sd_treatment is None else self.sd_treatment
        # (a - b)^2 + 2 a b (1 - r): no cancellation where the sides go together.
        return np.asarray(np.sqrt((self.sd - other) ** 2 + 2 * self.sd * other * (1 - self.correlation)))

    def _ways(self) -> Ways:
        return mean_ways(self._spread(), self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        told = mean_told(
            effect, float(self._spread()), self.baseline, "treatment mean", standardised="d of differences"
        )
        if self.sd is not None:
            told["d of one side"] = effect / self.sd
        return told

    def _least(self) -> float:
        return _least(self)

    def _most(self, sign: float) -> Floats:
        return MOST_SPREADS * self._spread()

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = self._spread() * np.sqrt(self._variance_factor() / units[0])
        return error, error

    def _own_df(self, units: Units) -> Floats | None:
        return units[0] / self._cluster_size() - 1

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Normal differences of pairs, which are tested as one mean."""
        draws.independent(self)
        return (draws.summaries(rng, effect, float(self._spread()), units[0], runs, "group"),), {}

    def _group_names(self) -> tuple[str, ...]:
        return ("pairs",)


def _least(design: OneMean | TwoMeans | PairedMeans) -> float:
    """A t test needs a spread; one with a covariate a slope too."""
    if getattr(design, "distribution", "t") == "normal":
        return 1.0
    return 2.0 + design._slopes()


def mean_ways(sd: float | Floats, baseline: float | None) -> Ways:
    """How the effect of a mean may be given."""
    return {
        "effect": lambda e: e,
        "standardised": lambda d: np.asarray(d) * sd,
        "lift": lambda share: np.asarray(share) * known_baseline(baseline, "lift"),
        "treatment": lambda mean: np.asarray(mean) - known_baseline(baseline, "treatment"),
    }


def mean_told(
    effect: float, sd: float, baseline: float | None, mean: str, *, standardised: str = "standardised (d)"
) -> dict[str, float]:
    """The effect of a mean in other words."""
    told = {standardised: effect / sd}
    if baseline is not None:
        told |= {mean: baseline + effect}
        if baseline != 0:
            told |= {"lift": effect / baseline}
    return told


def known_baseline(baseline: float | None, way: str) -> float:
    """The baseline, or that it's needed."""
    if baseline is None:
        raise DesignError(f"An effect given as {way}= needs the baseline: give baseline= to the design.")
    return baseline


def _check_baseline(baseline: float | None) -> None:
    if baseline is not None:
        gate.finite("baseline", baseline)
