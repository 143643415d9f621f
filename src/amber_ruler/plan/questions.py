"""A design that is asked questions: how many units, how much power, which effect, alpha or width."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal, Self, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.bayes.priors import Prior
from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number
from amber_ruler.plan import assurance as averaged
from amber_ruler.plan import modifiers as change
from amber_ruler.plan import search
from amber_ruler.plan.answers import Assurance, Cost, PlanAnswer, PlanGrid, Simulation
from amber_ruler.plan.grid import grid
from amber_ruler.plan.needed import needed
from amber_ruler.plan.planned import EffectGiven, Planned, Units
from amber_ruler.plan.simulation import simulated
from amber_ruler.sequential import boundaries
from amber_ruler.sequential.shapes import Shape
from amber_ruler.sequential.spending import Spending


@dataclass(frozen=True, kw_only=True)
class Design(Planned):
    """A test that is still to be run; a subclass says what is measured."""

    @property
    def smallest_n(self) -> int:
        """The fewest units that this test can do with."""
        return int(self._least())

    def sample_size(self, *, power: float = 0.8, **effect: Unpack[EffectGiven]) -> PlanAnswer:
        """How many units does it take to find the effect with a chance of `power`?

        Parameters
        ----------
        power : float, between alpha and 1
            Chance to find the effect.
        effect : float
            How large it is, in the unit of the design: treatment minus control where there are two groups; not 0,
            and on the side that the alternative looks at. Or instead, where the design knows them:
            `standardised`, in standard deviations; `lift`, relative to the baseline; `treatment`, the value that
            would replace the baseline; `means`, of all groups; `shares`, a table.

        Returns
        -------
        PlanAnswer
            The smallest whole number of units that reaches the power, with the power it has.

        Raises
        ------
        DesignError
            If the effect is 0 or on the wrong side, or more than 1e12 units would be needed.
        """
        value, target = self._effect(effect), self._target(gate.single("power", power))
        design = self._for_power(float(target))
        n, reached = design._solve_n(value, target)
        if not np.isfinite(n):
            self._refuse_endless(float(value))
        costs = design._costs(lambda d: d._total(d._recruits(n if d is design else d._solve_n(value, target)[0])))
        notes = self._size_notes(value, target, n)
        exact = None
        if design._continuous():
            exact = design._unrounded(float(n), lambda units: design._power_of(value, units) - target)
        return design._answer(
            "sample size", value, self._recruits(n), target, costs, notes=notes, power=reached, exact=exact
        )

    def power(
        self, *, n: int | tuple[int, ...] | None = None, weeks: int | None = None, **effect: Unpack[EffectGiven]
    ) -> PlanAnswer:
        """How likely are `n` units to find the effect?

        Serves before a test, and after it for an effect that matters; never for the effect that was observed, whose
        power says no more than its p-value.

        Parameters
        ----------
        n : int, or pair of int
            Units in control (in each of equal groups, in the one group, or pairs), or units in treatment and in
            control.
        weeks : int
            Weeks of traffic instead of `n`, for a design `with_traffic`.
        effect, standardised, lift, treatment, means, shares
            How large the effect is; see `sample_size`. Of no effect, or one on the side that a one-sided test does not
            look at, the power is the chance to reject all the same.

        Returns
        -------
        PlanAnswer
        """
        value, units = self._effect(effect, check=False), self._given_units(n, weeks)
        costs = self._costs(lambda d: d._power_with(value, units))
        return self._answer("power", value, units, None, costs)

    def detectable_effect(
        self, *, n: int | tuple[int, ...] | None = None, weeks: int | None = None, power: float = 0.8
    ) -> PlanAnswer:
        """What is the smallest effect that `n` units find with a chance of `power`?

        Parameters
        ----------
        n : int, or pair of int
            Units, as for `power`.
        weeks : int
            Weeks of traffic instead of `n`, for a design `with_traffic`.
        power : float, between alpha and 1
            Chance to find it.

        Returns
        -------
        PlanAnswer
            The effect is above 0, unless the alternative is "less" or there is room below only; a note says how far a
            two-sided test sees on the other side, where that differs. With a margin it is the least favourable true
            difference that still gives the power.

        Raises
        ------
        DesignError
            If no effect is large enough for so few units.
        """
        target, units = self._target(gate.single("power", power)), self._given_units(n, weeks)
        design = self._for_power(float(target))
        sign, effect = None, design._solve_effect(units, target)
        notes: tuple[str, ...] = ()
        if self.alternative == "two-sided" and self._modifier(change.Margin) is None:
            below = design._solve_effect(units, target, -1.0)
            notes = self._other_side(float(effect), float(below))
            if not np.isfinite(effect):
                sign, effect = -1.0, below
        if not np.isfinite(effect):
            raise DesignError(
                f"With {self._total(units):,.0f} units no effect has a power of {power:g}. Plan for more units."
            )
        costs = design._costs(lambda d: d._solve_effect(units, target, sign))
        return design._answer("detectable effect", effect, units, target, costs, notes=notes)

    def alpha_for(
        self,
        *,
        n: int | tuple[int, ...] | None = None,
        weeks: int | None = None,
        power: float = 0.8,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """Which error rate would `n` units need to find the effect with a chance of `power`?

        Parameters
        ----------
        n, weeks
            Units, as for `power`.
        power : float, between 0 and 1
            Chance to find the effect.
        effect, standardised, lift, treatment, means, shares
            How large the effect is; see `sample_size`.

        Returns
        -------
        PlanAnswer
            With the smallest such alpha; the design's own alpha plays no part.

        Raises
        ------
        DesignError
            If even an alpha of one half is too strict.
        """
        value, units = self._effect(effect), self._given_units(n, weeks)
        target = np.asarray(gate.between("power", gate.single("power", power), 0, 1))

        def solved(design: Planned) -> Floats:
            return search.smallest_alpha(lambda a: design._with_numbers({"alpha": a})._power_with(value, units), target)

        alpha = solved(self)
        if not np.isfinite(alpha):
            raise DesignError(
                f"With {self._total(units):,.0f} units even an alpha of 0.5 leaves the power below {power:g}."
                " Plan for more units or a larger effect."
            )
        design = replace(self, alpha=float(alpha))
        return design._answer("alpha", value, units, target, self._costs(solved))

    def precision(
        self,
        *,
        n: int | tuple[int, ...] | None = None,
        weeks: int | None = None,
        width: Literal["planned", "expected"] = "planned",
        assurance: float | None = None,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """How far will the interval reach to each side with `n` units?

        Parameters
        ----------
        n, weeks
            Units, as for `power`.
        width : "planned" or "expected"
            The half-width if the spread is seen as planned, or its mean over what may be seen.
        assurance : float, between 0 and 1, optional
            Instead: the half-width that is not passed with such a chance.
        effect, standardised, lift, treatment, means, shares
            How large the effect will be, where the width depends on it; none is no effect.

        Returns
        -------
        PlanAnswer
            Its `half_width` is the answer.

        Raises
        ------
        DesignError
            If the design has no such interval, or its width no chance of its own.

        References
        ----------
        .. [1] Beal (1989), Biometrics 45, 969-977, for the chance that an interval is no wider.
        """
        value = self._effect(effect, check=False) if effect else np.asarray(0.0)
        units = self._given_units(n, weeks)
        _check_width(width, assurance)
        costs = self._costs(lambda d: d._reach(value, d._analysed(units), width, assurance))
        answer = self._answer("precision", value, units, None, costs, tested=False)
        reach = float(self._reach(value, self._analysed(units), width, assurance))
        return replace(
            answer, half_width=reach, assurance=assurance, notes=(*answer.notes, *_width_said(width, assurance))
        )

    def sample_size_for_width(
        self,
        *,
        half_width: float,
        width: Literal["planned", "expected"] = "planned",
        assurance: float | None = None,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """How many units make the interval reach no further than `half_width` to each side?

        Parameters
        ----------
        half_width : float
            Half of the width of the two-sided interval, in the unit of the effect.
        width : "planned" or "expected"
            The half-width if the spread is seen as planned, so that half of all intervals come out a little wider; or
            its mean over what may be seen.
        assurance : float, between 0 and 1, optional
            Instead: the chance that the interval comes out no wider.
        effect, standardised, lift, treatment, means, shares
            How large the effect will be, where the width depends on it; none is no effect.

        Returns
        -------
        PlanAnswer
            The smallest whole number of units.

        Raises
        ------
        DesignError
            If the design has no such interval, or more than 1e12 units would be needed.

        References
        ----------
        .. [1] Beal (1989), Biometrics 45, 969-977, for the chance that an interval is no wider.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> design = plan.OneMean(sd=15)
        >>> design.sample_size_for_width(half_width=3).n, design.sample_size_for_width(half_width=3, assurance=0.9).n
        (99, 116)
        """
        goal = np.asarray(self._own_unit("half_width", gate.single("half_width", half_width)))
        value = self._effect(effect, check=False) if effect else np.asarray(0.0)
        _check_width(width, assurance)
        first = self._analysed(self._recruits(np.asarray(self._least() * self._cluster_size() + 1)))
        self._reach(value, first, width, assurance)  # or say that there is none
        n = self._solve_width(value, goal, width, assurance)
        if not np.isfinite(n):
            raise DesignError(
                f"More than {search.MOST_UNITS:.0e} units a group: the half-width asked for is too small."
            )
        costs = self._costs(lambda d: d._total(d._recruits(d._solve_width(value, goal, width, assurance))))
        exact = None
        if self._smooth_width(planned=width == "planned" and assurance is None):
            exact = self._unrounded(float(n), lambda units: goal - self._reach(value, units, width, assurance))
        units = self._recruits(n)
        answer = self._answer("sample size for width", value, units, None, costs, tested=False, exact=exact)
        reach = float(self._reach(value, self._analysed(units), width, assurance))
        return replace(
            answer, half_width=reach, assurance=assurance, notes=(*answer.notes, *_width_said(width, assurance))
        )

    def alpha_for_width(
        self,
        *,
        half_width: float,
        n: int | tuple[int, ...] | None = None,
        weeks: int | None = None,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """At which level does the interval of `n` units reach just so far to each side?

        Parameters
        ----------
        half_width : float
            Half of the width of the two-sided interval, in the unit of the effect.
        n, weeks
            Units, as for `power`.
        effect, standardised, lift, treatment, means, shares
            How large the effect will be, where the width depends on it; none is no effect.

        Returns
        -------
        PlanAnswer
            Its `alpha` is the answer: the level is 1 - alpha.

        Raises
        ------
        DesignError
            If the design has no such interval, or no level from 0.5 to 1 - 1e-100 has that width.
        """
        width = float(self._own_unit("half_width", gate.single("half_width", half_width)))
        value = self._effect(effect, check=False) if effect else np.asarray(0.0)
        units = self._given_units(n, weeks)

        def gap(log: float) -> float:
            return float(self._with_numbers({"alpha": np.exp(log)})._half_width(value, self._analysed(units))) - width

        low, high = np.log(1e-100), np.log(0.5 * (1 - 1e-12))
        if not gap(high) <= 0 <= gap(low):
            raise DesignError(f"With {self._total(units):,.0f} units no level gives a half-width of {half_width:g}.")
        design = replace(self, alpha=float(np.exp(bracketed_number(gap, low, high, rtol=1e-15))))
        return design._answer("alpha for width", value, units, None, (), tested=False)

    def needed(
        self,
        number: str,
        *,
        n: int | tuple[int, ...] | None = None,
        weeks: int | None = None,
        clusters: int | None = None,
        power: float = 0.8,
        **effect: Unpack[EffectGiven],
    ) -> PlanAnswer:
        """What would one number of the design have to be, for `n` units to find the effect with that power?

        Parameters
        ----------
        number : str
            A number of the design itself, such as "sd", "baseline" or "correlation"; or of a modifier: "margin",
            "covariate" (its correlation), "cluster_size", "icc", "attrition". The design's own value, or the
            modifier that is on it, is where the search begins.
        n, weeks
            Units, as for `power`.
        clusters : int
            Clusters in control (in each of equal groups) instead, whose size may change: for "cluster_size".
        power : float, between alpha and 1
            Chance to find the effect.
        effect, standardised, lift, treatment, means, shares
            How large the effect is; see `sample_size`.

        Returns
        -------
        PlanAnswer
            `solved` is the number, and `design` has it: the power is just what was asked, with units as they are.

        Raises
        ------
        InputError
            If the design has no such number.
        DesignError
            If no value of it gives that power.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> round(plan.TwoMeans(sd=1).with_margin(0.3).needed("margin", n=100, effect=0).solved, 4)
        0.3528
        >>> clustered = plan.TwoMeans(sd=1).with_clusters(20, 0.05)
        >>> round(clustered.needed("cluster_size", clusters=20, effect=0.3).solved, 2)
        16.13
        """
        target = float(self._target(gate.single("power", power)))
        self._effect(effect)
        if clusters is None:
            units = self._given_units(n, weeks)
        elif number != "cluster_size" or self._modifier(change.Clusters) is None or (n, weeks) != (None, None):
            raise DesignError("clusters= goes with number='cluster_size' of a design with clusters, instead of n.")
        else:
            gate.whole("clusters", gate.single("clusters", clusters), self._least())

        def of(design: Self) -> Units:
            if clusters is not None:
                return design._parts(np.asarray(clusters * design._cluster_size()))
            return units if n is not None and np.ndim(n) else design._parts(units[-1])

        def power_of(design: Self) -> Floats:
            attrition = design._modifier(change.Attrition)
            kept = 1.0 if attrition is None else 1 - attrition.share
            analysed = tuple(u * kept for u in of(design))
            if min(analysed) <= (design._least() - 1) * design._cluster_size():
                return np.asarray(0.0)
            return design._power_of(design._effect(effect, check=False), analysed)

        design, solved = needed(self, number, power_of, target)
        value = design._effect(effect, check=False)
        answer = design._answer(number.replace("_", " "), value, of(design), np.asarray(target), ())
        return replace(answer, solved=solved, power=float(power_of(design)))

    def power_limit(self, *, clusters: int | None = None, **effect: Unpack[EffectGiven]) -> float:
        """What does the power come to as units grow without end?

        Parameters
        ----------
        clusters : int, optional
            So many clusters in control (in each of equal groups), whose sizes grow without end: their number then
            holds the power down. Otherwise the number of units grows.
        effect, standardised, lift, treatment, means, shares
            How large the effect is; see `sample_size`.

        Returns
        -------
        float
            Without `clusters` 1, 0, or alpha where the effect is just at the edge of what is tested.

        Examples
        --------
        >>> from amber_ruler import plan
        >>> round(plan.TwoMeans(sd=1).with_clusters(20, 0.05).power_limit(clusters=10, effect=0.2), 4)
        0.4734
        """
        value = self._effect(effect, check=False)
        if clusters is None:
            return self._endless(float(value))
        modifier = self._modifier(change.Clusters)
        if modifier is None:
            raise DesignError("clusters= goes with a design with clusters.")
        count = gate.whole("clusters", gate.single("clusters", clusters), self._least())
        large = replace(modifier, size=1e15)
        design = replace(self, modifiers=tuple(large if m is modifier else m for m in self.modifiers))
        return float(design._power_of(value, design._parts(count * large.size)))

    # --- many scenarios, and the check

    def assurance(
        self,
        *,
        prior: Prior,
        n: int | tuple[int, ...] | None = None,
        weeks: int | None = None,
        direction: Literal["right", "either"] = "right",
    ) -> Assurance:
        """How likely are `n` units to find an effect that is known only by a prior?

        Parameters
        ----------
        prior : Prior
            Of the effect, in the unit of the design; a difference of shares is cut to what there can be.
        n, weeks
            Units, as for `power`.
        direction : "right" or "either"
            Whether only finding an effect in its true direction counts.

        Returns
        -------
        Assurance
            The power averaged over the prior, and what it comes to with units without end.

        References
        ----------
        .. [1] O'Hagan, Stevens & Campbell (2005), Pharmaceutical Statistics 4, 187-201.
        """
        return averaged.assurance(self, self._given_units(n, weeks), prior, direction)

    def sample_size_for_assurance(
        self, *, prior: Prior, assurance: float = 0.8, direction: Literal["right", "either"] = "right"
    ) -> Assurance:
        """How many units find an effect that is known only by a prior with such a chance?

        Parameters
        ----------
        prior, direction
            As for `assurance`.
        assurance : float, between 0 and 1
            The power averaged over the prior.

        Returns
        -------
        Assurance

        Raises
        ------
        DesignError
            If even units without end would not do: a test that looks to one side finds no effect on the other.
        """
        return averaged.units_for(self, assurance, prior, direction)

    def grid(self, **scenarios: ArrayLike) -> PlanGrid:
        """Ask one question for every combination of the values given.

        Parameters
        ----------
        **scenarios : float or sequence of float
            Values of `effect` (or another way to say it), `power`, `n`, `weeks`, and any number of the design itself,
            such as `sd` or `alpha`. Units are solved for where there is an effect and no `n`, the effect where
            there is an `n` and no effect, and the power where there are both.

        Returns
        -------
        PlanGrid
            A row for every combination; what nothing reaches is None.

        Raises
        ------
        InputError
            If a name is not known.
        DesignError
            If there is nothing left to solve for, or too much.
        """
        return grid(self, scenarios)

    def simulate(
        self,
        *,
        n: int | tuple[int, ...] | None = None,
        weeks: int | None = None,
        runs: int = 2_000,
        seed: int | np.random.Generator = 0,
        **effect: Unpack[EffectGiven],
    ) -> Simulation:
        """Does the real test find the effect as often as the formula says?

        Parameters
        ----------
        n, weeks
            Units, as for `power`.
        runs : int
            Tests to simulate.
        seed : int or Generator
            What replays the draws.
        effect, standardised, lift, treatment, means, shares
            How large the effect is; see `sample_size`.

        Returns
        -------
        Simulation
            The rate of rejection with its Monte-Carlo error, beside the formula's power.
        """
        value, units = self._effect(effect, check=False), self._given_units(n, weeks)
        return simulated(self, value, units, runs=runs, seed=seed)

    # --- the modifiers

    def with_covariate(self, correlation: float, count: int = 1) -> Self:
        """Adjust for covariates known before: the variance shrinks by the square of their (multiple) correlation.

        Each of the `count` slopes costs a t test a degree of freedom, and some precision, as the groups differ in the
        covariates by chance: the power is averaged over that, exact for normal covariates.
        """
        return self._with(change.Covariate(correlation, count))

    def with_clusters(
        self, size: float, icc: float | None = None, cv: float = 0.0, *, between_cv: float | None = None
    ) -> Self:
        """Randomise whole clusters of `size` units with intraclass correlation `icc`; `cv` is that of the sizes.

        The variance grows by the design effect 1 + ((1 + cv²) size − 1) icc (Eldridge, Ashby & Kerry 2006), and
        a t test has the degrees of freedom of the clusters. Instead of `icc`, `between_cv` is the coefficient of
        variation of the clusters' true means (shares, rates) around the baseline of the design: with it the icc is the
        variance between clusters over that of single units (Hayes & Bennett 1999).
        """
        if (icc is None) == (between_cv is None):
            raise DesignError("Say how alike units of a cluster are: icc or between_cv.")
        if icc is None:
            share = gate.at_least("between_cv", gate.single("between_cv", between_cv), 0)
            icc = float((share * self._of_control(1.0)) ** 2 / self._spread_of_control())
            if icc > 1:
                raise InputError.rule("between_cv", between_cv, "a smaller one: clusters would vary more than units")
        return self._with(change.Clusters(size, icc, cv))

    def with_variants(self, count: int, correction: change.Correction = "dunnett") -> Self:
        """Compare `count` treatments with the one control; the power is that of each comparison.

        `correction` is "dunnett" (the closest), "sidak", "bonferroni" or "none".
        """
        return self._with(change.Variants(count, correction))

    def with_margin(
        self,
        margin: float | None = None,
        kind: change.MarginKind = "non-inferiority",
        good: str | None = None,
        *,
        lift: float | None = None,
        above: float | None = None,
    ) -> Self:
        """Show that treatment is not worse ("non-inferiority") or not different ("equivalence") by `margin`.

        Or that it is better by more than that ("superiority"). `alpha` is then the error rate of each one-sided test.
        `good` is the direction in which the metric is good, "higher" unless said or unless the alternative is "less".
        Instead of `margin`, `lift` gives it as a share of control, as `margin_lift` of `measure.means` has it: what is
        then tested is m1 - (1 - lift) m0, or with good lower m1 - (1 + lift) m0 (of two means, shares or rates with
        a baseline; the other way round for superiority). Equivalence may have another limit above than below: `above`.
        """
        wanted = good or ("lower" if self.alternative == "less" else "higher")
        if {"greater": "higher", "less": "lower"}.get(self.alternative, wanted) != wanted:
            raise DesignError(f"The alternative {self.alternative!r} and good={wanted!r} contradict each other.")
        if (margin is None) == (lift is None):
            raise DesignError("Give the margin either in the unit of the effect or as a lift.")
        if lift is not None:
            return self._with(change.Margin(self._of_control(lift), kind, wanted, lift, above))  # type: ignore[arg-type]
        return self._with(change.Margin(margin, kind, wanted, None, above))  # type: ignore[arg-type]

    def with_looks(
        self,
        looks: int | Sequence[float],
        *,
        spending: Spending = "obrien-fleming",
        parameter: float | None = None,
        shape: Shape | None = None,
        interim: float | None = None,
        skip: Sequence[int] = (),
        futility: Spending | None = None,
        futility_parameter: float | None = None,
        futility_skip: Sequence[int] = (),
        binding: bool = False,
        power: float = 0.8,
    ) -> Self:
        """Look before the end, and stop early for a difference, or for futility.

        Parameters
        ----------
        looks, spending, parameter, shape, interim, skip, futility, futility_parameter, futility_skip, binding
            As `sequential.boundaries` takes them; alpha and sides are those of the design. The last look is at the
            end.
        power : float
            With futility: the power that it keeps, where the question does not ask for one itself.

        Notes
        -----
        At each look the nominal p of the boundary is held against the test's own p. Power comes from the drift at which
        a test with one look, at the alpha of one side, has the power that this one has there: exact where the test is
        normal, close where it is a t test (`simulate` says how close).
        """
        sides: Literal[1, 2] = 2 if self.alternative == "two-sided" and self._modifier(change.Margin) is None else 1
        plan = boundaries(
            looks, sides=sides, spending=spending, parameter=parameter, shape=shape, interim=interim, skip=skip,
            futility=futility, futility_parameter=futility_parameter, futility_skip=futility_skip, binding=binding,
            alpha=float(np.min(self.alpha)), power=power,
        )  # fmt: skip
        if plan.fractions[-1] != 1:
            raise DesignError("The last look of a plan is at its end: let the last fraction be 1.")
        return self._with(change.LookSchedule(tuple(plan.fractions.tolist()), plan.rule))

    def with_traffic(self, per_day: float, share: float = 1.0) -> Self:
        """Say how many units arrive each day, and which share of them enters the test: answers then say how long."""
        return self._with(change.Traffic(per_day, share))

    def with_population(self, size: int) -> Self:
        """Draw the units from a population of so many, none twice: what is left to chance shrinks with what is drawn.

        The variance of a mean, whose `sd` has N - 1 in its denominator, is multiplied by 1 - n / N; that of a share by
        (N - n) / (N - 1) (Cochran 1977, sections 2.6 and 3.2).
        """
        return self._with(change.Population(size))

    def with_attrition(self, share: float) -> Self:
        """Allow for a share of units that will have no value at the end: units are then those to recruit."""
        return self._with(change.Attrition(share))

    # --- how an answer comes about

    def _costs(self, measure: Callable[[Self], Floats]) -> tuple[Cost, ...]:
        """The answer without modifiers, then with one after the other in the order they were put on."""
        margin = tuple(m for m in self.modifiers if isinstance(m, change.Margin))
        rest = [m for m in self.modifiers if not isinstance(m, change.Margin | change.Traffic)]
        rest.sort(key=lambda m: isinstance(m, change.LookSchedule))  # what looks cost is told of all else that there is
        if not rest:
            return ()
        found = [Cost("without modifiers", float(measure(replace(self, modifiers=margin))))]
        for k, last in enumerate(rest, start=1):
            design = self if k == len(rest) else replace(self, modifiers=(*margin, *rest[:k]))
            found.append(Cost(str(last), float(measure(design))))
        return tuple(found)

    def _answer(
        self,
        question: str,
        effect: Floats,
        units: Units,
        target: Floats | None,
        costs: tuple[Cost, ...],
        *,
        notes: tuple[str, ...] = (),
        power: Floats | None = None,
        tested: bool = True,
        exact: float | None = None,
    ) -> PlanAnswer:
        total, analysed = self._total(units), self._analysed(units)
        taken = self._days(total)
        days = None if taken is None else int(taken)
        try:
            half_width = float(self._half_width(effect, analysed))
        except DesignError:
            half_width = None
        clusters = self._modifier(change.Clusters)
        value, two = float(effect), len(units) == 2
        if power is None and tested:
            power = self._power_with(effect, units)
        return PlanAnswer(
            title=f"{self.title}: {question}",
            method=self._method_said(),
            source=self.source,
            question=question,
            n=int(units[-1]),
            units={name: int(u) for name, u in self._named_units(units).items()},
            n_total=int(total),
            n_treatment=int(units[0]) if two else None,
            n_control=int(units[1]) if two else None,
            effect=value,
            effect_name=self.effect_name,
            effects=self._told(value),
            power=None if power is None else float(power),
            target_power=None if target is None else float(target),
            alpha=float(self.alpha),
            single_alpha=float(self._single_alpha(analysed)),
            alternative=self.alternative,
            n_exact=exact,
            n_total_exact=None if exact is None else float(self._total(self._parts(np.asarray(exact)))),
            n_effective=None if clusters is None else float(total / clusters.variance_factor),
            half_width=half_width,
            days=days,
            weeks=None if days is None else -(-days // 7),
            costs=costs,
            design=self,
            percent=self.percent,
            looks=None if power is None else self._look_plan(value, units, float(power if target is None else target)),
            checks=self._checks(analysed),
            notes=(*notes, *self._notes()),
        )

    def _other_side(self, above: float, below: float) -> tuple[str, ...]:
        """What a two-sided test sees below 0, where that is not what it sees above."""
        if np.isclose(below, -above, rtol=1e-6) or not np.isfinite(below):
            return ()
        if not np.isfinite(above):
            return ("There is no room for such an effect above 0: this is the one below.",)
        size = f"{100 * below:.3g} percentage points" if self.percent else f"{below:.4g}"
        return (f"Below 0 the smallest effect of that power is {size}.".replace("-", "−"),)

    def _refuse_endless(self, effect: float) -> None:
        told = ", ".join(f"{name} {value:.3g}" for name, value in self._told(effect).items())
        raise DesignError(
            f"More than {search.MOST_UNITS:.0e} units a group would be needed: an effect of {effect:.3g}"
            f"{f' ({told})' if told else ''} is too small for the spread. Ask for a larger effect, less power, or"
            " a sharper metric."
        )


def _check_width(width: str, assurance: float | None) -> None:
    gate.choice("width", width, ("planned", "expected"))
    if assurance is not None:
        gate.between("assurance", gate.single("assurance", assurance), 0, 1)
        if width == "expected":
            raise DesignError("Ask for the mean width or for an assured one: leave width or assurance out.")


def _width_said(width: str, assurance: float | None) -> tuple[str, ...]:
    if assurance is not None:
        return (f"With a chance of {100 * assurance:g}% the interval is no wider than that.",)
    return ("That is the mean width, over what may be seen.",) if width == "expected" else ()
