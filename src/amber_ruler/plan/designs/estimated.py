"""Designs whose test compares an estimate with its standard error: t and normal tests."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self, Unpack

import numpy as np

from amber_ruler.effects import Alternative
from amber_ruler.errors import DesignError
from amber_ruler.numeric import chisquare, gate, normal, student
from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.numeric.stirling import log_half_step
from amber_ruler.plan import looked, splitting
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import LookPlan, PlanAnswer
from amber_ruler.plan.choices import WaysToLook, ways_to_look
from amber_ruler.plan.modifiers import Modifier
from amber_ruler.plan.planned import SMALLEST_SHARE, EffectGiven, Units
from amber_ruler.plan.powers import imbalance, power_between, power_of_estimate, tails
from amber_ruler.plan.questions import Design


@dataclass(frozen=True, kw_only=True)
class Estimated(Design):
    """A design whose effect is a signed difference with a standard error.

    Parameters
    ----------
    alternative : "two-sided", "greater" or "less"
        Direction of the test.
    """

    allowed: ClassVar[frozenset[type]] = frozenset(
        {change.Covariate, change.Clusters, change.Margin, change.Traffic, change.Attrition, change.LookSchedule}
    )

    alternative: Alternative = "two-sided"

    def __post_init__(self) -> None:
        super().__post_init__()
        gate.choice("alternative", self.alternative, gate.ALTERNATIVES)

    @abstractmethod
    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        """Standard errors of the estimate: as the test of `null` has it, and under the effect."""

    def _own_df(self, units: Units) -> Floats | None:
        """Degrees of freedom of a t test without a covariate; None for a normal test."""
        return None

    def _df(self, units: Units) -> Floats | None:
        """Degrees of freedom of a t test, slopes of covariates taken off; None for a normal test."""
        df = self._own_df(units)
        return None if df is None else df - self._slopes()

    def _checked_effect(self, effect: Floats) -> Floats:
        if np.any(effect == 0):
            raise DesignError("An effect of 0 can't be planned for: name the smallest difference that would matter.")
        wrong = {"greater": effect < 0, "less": effect > 0}.get(self.alternative, np.asarray(False))
        if np.any(wrong):
            culprit = float(np.extract(wrong, effect)[0])
            raise DesignError(
                f"The alternative {self.alternative!r} can't find an effect of {culprit:g}: the {self.effect_name} is"
                f" {'below' if culprit < 0 else 'above'} 0. Turn the alternative or the sign round."
            )
        return effect

    def ways_to_look(
        self, *, power: float = 0.8, looks: int = 5, moments: int = 28, **effect: Unpack[EffectGiven]
    ) -> WaysToLook:
        """One look, several planned ones, or any moment: which suits this test?

        Parameters
        ----------
        power : float, between alpha and 1
            Chance to find the effect.
        looks : int
            Looks of the ways with planned looks, equally spaced.
        moments : int
            How often the way that allows any moment is looked at until its end, such as once a day.
        effect, standardised, lift, treatment
            How large the effect is; see `sample_size`.

        Returns
        -------
        WaysToLook
            Units at most, and on average under no effect, half of it and all of it; what may be done when.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> found = plan.TwoMeans(sd=20).ways_to_look(effect=1.3)
        >>> [(way.n_total, round(way.expected_planned)) for way in found.ways[::3]]
        [(7434, 7434), (12802, 8218)]
        """
        value, target = self._effect(effect), self._target(gate.single("power", power))
        if self._modifier(change.Margin) is not None:
            raise DesignError("Ways to look are compared for a test of a difference, not of a margin.")
        return ways_to_look(self, float(value), float(target), looks, moments)

    def _with(self, modifier: Modifier) -> Self:
        found = super()._with(modifier)
        margin, schedule = found._modifier(change.Margin), found._modifier(change.LookSchedule)
        if margin is not None and margin.lift is not None and margin.kind == "equivalence":
            raise DesignError("Equivalence is planned with a margin in the unit of the effect, not with a lift.")
        if margin is not None and schedule is not None:
            if margin.kind == "equivalence":
                raise DesignError("Looks are not planned for equivalence: plan for non-inferiority.")
            if schedule.rule.sides == 2:
                raise DesignError("A margin is tested on one side: put it on before the looks.")
        return found

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        if self._modifier(change.LookSchedule) is not None:
            return looked.power(self, effect, units)
        own = self._own_df(units)
        if own is None or not self._slopes():
            return self._power_at(effect, units, np.asarray(1.0))
        growth, weight = imbalance(own, effect, self._slopes())
        return np.asarray((weight * self._power_at(effect, units, growth)).sum(axis=0))

    def _power_at(self, effect: Floats, units: Units, growth: Floats) -> Floats:
        """Power where the standard error is so many times as large."""
        margin, df = self._modifier(change.Margin), self._df(units)
        alpha = self._single_alpha(units)
        if margin is None:
            null_error, error = self._errors(effect, np.asarray(0.0), units)
            sides = tails(alpha, self.alternative)
            return power_of_estimate(effect, growth * null_error, growth * error, df, *sides)
        if margin.kind == "equivalence":
            found = (self._errors(effect, np.asarray(edge), units) for edge in margin.edges)
            (low_error, error), (high_error, _) = ((growth * one, growth * two) for one, two in found)
            return power_between(effect, margin.edges, (low_error, high_error), error, df, alpha)
        null_error, error = (growth * e for e in self._errors_at_edge(effect, units))
        sides = (alpha, 0.0) if margin.good == "higher" else (0.0, alpha)
        return power_of_estimate(effect - margin.edge, null_error, error, df, *sides)

    def _endless(self, effect: float) -> float:
        margin = self._modifier(change.Margin)
        if margin is not None:
            inside = float(margin.inside(np.asarray(effect)))
        elif self.alternative == "two-sided":
            inside = abs(effect)
        else:
            inside = effect if self.alternative == "greater" else -effect
        return float(self.alpha) if inside == 0 else float(inside > 0)

    def _errors_at_edge(self, effect: Floats, units: Units) -> tuple[Floats, Floats]:
        """Standard errors at the margin and at the effect: of the difference, or of what tests a lift."""
        margin = self._modifier(change.Margin)
        assert margin is not None  # noqa: S101
        if margin.lift is None:
            return self._errors(effect, np.asarray(margin.edge), units)
        return self._errors_of_ratio(1 + float(np.sign(np.min(margin.edge))) * margin.lift, effect, units)

    def _errors_of_ratio(self, ratio: float, effect: Floats, units: Units) -> tuple[Floats, Floats]:
        """The same of treatment less `ratio` times control."""
        raise NotImplementedError

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        # Against a margin the test is one-sided on each side: the interval that decides it has level 1 - 2 alpha.
        tail = self._single_alpha(units) / (1 if self._modifier(change.Margin) else 2)
        schedule = self._modifier(change.LookSchedule)
        if schedule is not None:  # that of the last look
            at_end = looked.boundaries(self, self._single_alpha(units))
            halved = 2 / looked.sides_of(self) if self._modifier(change.Margin) is None else 1
            tail = np.reshape([float(normal.sf(b.z[-1])) / halved for b in at_end], np.shape(tail))
        df = self._df(units)
        error = self._errors(effect, effect, units)[1]
        if df is None:
            return np.asarray(normal.upper_quantile(tail) * error)
        if self._slopes():
            if np.any(df <= 1):
                raise DesignError("With so few units a covariate leaves the width without an expectation.")
            error = error * np.sqrt((df + self._slopes() - 1) / (df - 1))  # the mean square of `imbalance`
        return np.asarray(student.upper_quantile(tail, df) * error)

    def _left(self, units: Units, *, lost: float = 0.0) -> Floats:
        """What sampling without replacement leaves of a variance: 1 - n / N, or (N - n) / (N - 1) with `lost` 1."""
        population = self._modifier(change.Population)
        if population is None:
            return np.asarray(1.0)
        return np.maximum((population.size - units[0]) / (population.size - lost), 1e-300)

    def _widening(self, effect: Floats, units: Units, assurance: float | None) -> Floats:
        df = self._df(units)
        if df is None:
            raise DesignError(f"{self.title}: the width is known beforehand, without a chance of its own.")
        if self._slopes():
            raise DesignError("With a covariate only the planned width is known.")
        if assurance is None:
            # The mean of a standard deviation of normal values, in units of the true one.
            return np.asarray(np.exp(log_half_step(df / 2)))
        return np.sqrt(chisquare.quantile(assurance, df) / df)

    def _single_alpha(self, units: Units) -> Floats:
        variants = self._modifier(change.Variants)
        if variants is None:
            return np.asarray(self.alpha)
        margin, df = self._modifier(change.Margin), self._df(units)
        two_sided = self.alternative == "two-sided" and margin is None
        if margin is not None and margin.kind == "equivalence" and variants.correction == "dunnett":
            raise DesignError("Dunnett's correction is not known for equivalence: take sidak or bonferroni.")
        return variants.single_alpha(
            self.alpha, np.asarray(np.inf) if df is None else df, self._shared(units), two_sided=two_sided
        )

    def _shared(self, units: Units) -> Floats:
        """Correlation of two comparisons with one control: its share in the variance of a difference."""
        return np.asarray(units[0] / (units[0] + units[1]))

    def _look_plan(self, effect: float, units: Units, power: float) -> LookPlan | None:
        return None if self._modifier(change.LookSchedule) is None else looked.plan(self, effect, units, power)

    def _average_share(self, effect: Floats, units: Units) -> Floats | None:
        return None if self._modifier(change.LookSchedule) is None else looked.average_share(self, effect, units)

    def _distance(self, effect: Floats) -> Floats:
        """Size of the effect on the scale of its standard error."""
        return np.abs(effect)

    def _guess(self, effect: Floats, target: Floats) -> Floats:
        margin = self._modifier(change.Margin)
        tail = self.alpha / (2 if self.alternative == "two-sided" and margin is None else 1)
        z = normal.upper_quantile(tail) + normal.quantile(np.maximum(target, 0.5))
        gap = self._distance(effect) if margin is None else np.maximum(margin.inside(effect), 1e-3 * margin.size)
        some = 1e6
        error = self._errors(effect, np.asarray(0.0), self._analysed(self._recruits(np.asarray(some))))[1]
        with np.errstate(over="ignore", divide="ignore"):
            n = some * (z * error / gap) ** 2
        if self._modifier(change.LookSchedule) is not None:
            n = n * looked.boundaries(self, np.atleast_1d(self._single_alpha(self._recruits(n))))[0].inflation
        return np.broadcast_to(n + 1, np.broadcast_shapes(n.shape, target.shape))

    def _where_to_look(self, sign: float | None) -> tuple[float, Floats, Floats]:
        margin = self._modifier(change.Margin)
        if margin is None:
            return super()._where_to_look(sign)
        sign = 1.0 if margin.good == "higher" else -1.0
        if margin.kind == "equivalence":
            low, high = margin.edges if sign > 0 else (-margin.edges[1], -margin.edges[0])
            return sign, np.asarray(low), np.asarray((low + high) / 2)
        return sign, np.asarray(sign * margin.edge), self._most(sign)

    def _method_said(self) -> str:
        margin = self._modifier(change.Margin)
        return self.method if margin is None else f"{self.method}; {margin}, good is {margin.good}"


@dataclass(frozen=True, kw_only=True)
class TwoGroups(Estimated):
    """Treatment against control.

    Parameters
    ----------
    ratio : float
        Treatment units for each control unit.
    """

    allowed: ClassVar[frozenset[type]] = Estimated.allowed | {change.Variants}

    ratio: float = 1.0

    def __post_init__(self) -> None:
        super().__post_init__()
        gate.positive("ratio", self.ratio)

    def _of_control(self, lift: float) -> Any:
        baseline = getattr(self, "baseline", None)
        if baseline is None or np.any(np.asarray(baseline) <= 0):
            raise DesignError(f"A margin as a lift is a share of control: {type(self).__name__}(baseline=…) above 0.")
        return lift * np.asarray(baseline) if np.ndim(baseline) else float(lift * baseline)

    def _recruits(self, n: Floats) -> Units:
        """Treatment units that go with so many control units, rounded up to whole units or clusters."""
        size = self._cluster_size()
        # A whole number of clusters whose mean size is not whole has been rounded up to units.
        whole = np.floor(n / size * (1 + 1e-14))
        clusters = np.where(np.ceil(whole * size * (1 - 1e-14)) == n, whole, n / size)
        # The nudge keeps 1.1 * 10 at 11 rather than 12.
        treated = np.ceil(np.ceil(self.ratio * clusters * (1 - 1e-14)) * size * (1 - 1e-14))
        treated = np.where(np.asarray(self.ratio) == 1, n, treated)
        n = np.broadcast_to(n, treated.shape)
        return np.maximum(self._least(), treated), n

    def _parts(self, n: Floats) -> Units:
        return self.ratio * n, n

    def sample_size_beside(
        self,
        *,
        n_treatment: int | None = None,
        n_control: int | None = None,
        power: float = 0.8,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """How many units must the other group have, where one group's are given?

        Parameters
        ----------
        n_treatment, n_control : int
            Units of the group that is given: one of them.
        power : float, between alpha and 1
            Chance to find the effect.
        effect, standardised, lift, treatment
            How large the effect is; see `sample_size`. The design's ratio plays no part.

        Returns
        -------
        PlanAnswer
            The smallest whole number of units of the other group that reaches the power.

        Raises
        ------
        DesignError
            If the power stays below, however many units the other group has.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> plan.TwoMeans(sd=1).sample_size_beside(n_control=50, effect=0.5, power=0.8).n_treatment
        88
        """
        return splitting.beside(
            self, self._effect(effect), self._target(gate.single("power", power)), n_treatment, n_control
        )

    def smallest_total(self, *, power: float = 0.8, **effect: Unpack[EffectGiven]) -> PlanAnswer:
        """How few units in total do it, where the groups need not be just equal?

        Parameters
        ----------
        power : float, between alpha and 1
            Chance to find the effect.
        effect, standardised, lift, treatment
            How large the effect is; see `sample_size`.

        Returns
        -------
        PlanAnswer
            An odd total gives control one unit more; with a ratio, treatment has its share of the total rounded down.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> plan.TwoMeans(sd=1).smallest_total(effect=0.7, power=0.8).n_total
        67
        """
        return splitting.smallest_total(self, self._effect(effect), self._target(gate.single("power", power)))

    def best_split(
        self,
        *,
        cost_treatment: float = 1.0,
        cost_control: float = 1.0,
        power: float = 0.8,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """Which split of the units does it at the least cost?

        Parameters
        ----------
        cost_treatment, cost_control : float
            What a unit costs in each group; equal costs ask for the fewest units.
        power : float, between alpha and 1
            Chance to find the effect.
        effect, standardised, lift, treatment
            How large the effect is; see `sample_size`.

        Returns
        -------
        PlanAnswer
            The sample size at the ratio sd1 / sd0 times the root of cost0 / cost1 (spreads under the effect), which is
            best for a given standard error; `design.ratio` is that ratio. A note says what it saves against the
            design's own ratio.

        References
        ----------
        .. [1] Cochran (1977), Sampling Techniques, 3rd ed., section 5.5, for units by spread and cost.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> plan.TwoMeans(sd=1, sd_treatment=2).best_split(effect=0.5, power=0.8).units
        {'treatment': 190, 'control': 95}
        """
        value, target = self._effect(effect), self._target(gate.single("power", power))
        splitting.one_by_one(self)
        ratio = splitting.best_ratio(self, value, cost_treatment, cost_control)
        answer = replace(self, ratio=ratio).sample_size(power=float(target), effect=float(value))
        own = self.sample_size(power=float(target), effect=float(value))

        def cost(plan: PlanAnswer) -> float:
            return cost_treatment * (plan.n_treatment or 0) + cost_control * (plan.n_control or 0)

        said = f"At the design's ratio of {self.ratio:g} it costs {cost(own):,.6g}, at this one {cost(answer):,.6g}."
        return replace(answer, notes=(*answer.notes, said))

    def split_cost(self, **effect: Unpack[EffectGiven]) -> float:
        """What does the design's ratio cost, against the best split: units in total, as a multiple of the fewest?

        Parameters
        ----------
        effect, standardised, lift, treatment
            How large the effect is, where the spread depends on it; none is no effect.

        Returns
        -------
        float
            At one standard error: 1 is the best; with equal spreads (1 + ratio)² / (4 ratio).

        Examples
        --------
        >>> from amber_ruler import plan
        >>> plan.TwoMeans(ratio=4).split_cost()
        1.5625
        """
        return splitting.split_cost(self, self._effect(effect, check=False) if effect else np.asarray(0.0))

    def _pooled_df(self, one: Floats, two: Floats) -> Floats:
        """Degrees of freedom of the spread within groups, of all treatments, as `groups(…).against` has it."""
        variants = self._modifier(change.Variants)
        k = 1 if variants is None else variants.count
        return k * one + two - (k + 1)

    def _group_names(self) -> tuple[str, ...]:
        variants = self._modifier(change.Variants)
        several = variants is not None and variants.count > 1
        return (f"each of {variants.count} treatments" if several and variants else "treatment"), "control"

    def _groups_of(self) -> tuple[float, ...]:
        variants = self._modifier(change.Variants)
        return (1.0 if variants is None else float(variants.count)), 1.0


def room(sign: float, baseline: Number) -> Floats:
    """The largest difference that a share has room for."""
    return np.asarray((1 - np.asarray(baseline) if sign > 0 else np.asarray(baseline)) * (1 - SMALLEST_SHARE))
