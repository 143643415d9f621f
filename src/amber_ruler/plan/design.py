"""What all designs have in common: the questions, the modifiers, and how an answer comes about."""

from __future__ import annotations

import dataclasses
from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from importlib import import_module
from typing import TYPE_CHECKING, Any, ClassVar, TypedDict, TypeVar, cast

import numpy as np

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.plan import modifiers as change
from amber_ruler.plan import solve
from amber_ruler.plan.answer import Cost, PlanAnswer, PlanGrid, Simulation

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from typing import Self, Unpack

    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan.modifiers import Modifier
    from amber_ruler.results import Check

    Units = tuple[Floats, ...]
    Ways = Mapping[str, Callable[[Any], ArrayLike]]

M = TypeVar("M")
SMALLEST_SHARE = 1e-9
MOST_SCENARIOS = 1_000_000


class EffectGiven(TypedDict, total=False):
    """The ways to say how large the effect is; each design takes some of them, and one at a time."""

    effect: float
    standardised: float
    lift: float
    treatment: float
    means: Sequence[float]
    shares: ArrayLike


@dataclass(frozen=True, kw_only=True)
class Design(ABC):
    """A test that is still to be run; a subclass says what is measured.

    Parameters
    ----------
    alpha : float, between 0 and 0.5
        Error rate of the test.
    modifiers : tuple, optional
        What the `with_...` methods put together.
    """

    title: ClassVar[str]
    method: ClassVar[str]
    source: ClassVar[str]
    effect_name: ClassVar[str] = "difference"
    percent: ClassVar[bool] = False
    ways: ClassVar[tuple[str, ...]] = ("effect",)
    drawn_by: ClassVar[str | None] = None  # the function of `plan.simulate`, where there is a test to run
    alternative: str = dataclasses.field(init=False, repr=False, default="any")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    alpha: float = 0.05
    modifiers: tuple[Modifier, ...] = ()

    def __post_init__(self) -> None:
        gate.between("alpha", self.alpha, 0, 0.5)

    # --- the questions

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
        value, target = self._effect(effect), self._target(power)
        n, reached = self._solve_n(value, target)
        if not np.isfinite(n):
            self._refuse_endless(float(value))
        costs = self._costs(lambda d: d._total(d._recruits(d._solve_n(value, target)[0])))
        notes = self._size_notes(value, target, n)
        return self._answer("sample size", value, self._recruits(n), target, costs, notes=notes, power=reached)

    def power(
        self, *, n: int | tuple[int, int] | None = None, weeks: int | None = None, **effect: Unpack[EffectGiven]
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
            How large the effect is; see `sample_size`.

        Returns
        -------
        PlanAnswer
        """
        value, units = self._effect(effect), self._given_units(n, weeks)
        costs = self._costs(lambda d: d._power_with(value, units))
        return self._answer("power", value, units, None, costs)

    def detectable_effect(
        self, *, n: int | tuple[int, int] | None = None, weeks: int | None = None, power: float = 0.8
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
            The effect is above 0, unless the alternative is "less". With a margin it is the least favourable true
            difference that still gives the power.

        Raises
        ------
        DesignError
            If no effect is large enough for so few units.
        """
        target, units = self._target(power), self._given_units(n, weeks)
        effect = self._solve_effect(units, target)
        if not np.isfinite(effect):
            raise DesignError(
                f"With {self._total(units):,.0f} units no effect has a power of {power:g}. Plan for more units."
            )
        costs = self._costs(lambda d: d._solve_effect(units, target))
        return self._answer("detectable effect", effect, units, target, costs)

    def alpha_for(
        self,
        *,
        n: int | tuple[int, int] | None = None,
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
        target = np.asarray(gate.between("power", power, 0, 1))

        def solved(design: Design) -> Floats:
            return solve.smallest_alpha(lambda a: design._with_numbers({"alpha": a})._power_with(value, units), target)

        alpha = solved(self)
        if not np.isfinite(alpha):
            raise DesignError(
                f"With {self._total(units):,.0f} units even an alpha of 0.5 leaves the power below {power:g}."
                " Plan for more units or a larger effect."
            )
        design = replace(self, alpha=float(alpha))
        return design._answer("alpha", value, units, target, self._costs(solved))

    def precision(
        self, *, n: int | tuple[int, int] | None = None, weeks: int | None = None, **effect: Unpack[EffectGiven]
    ) -> PlanAnswer:
        """How far will the interval reach to each side with `n` units?

        Parameters
        ----------
        n, weeks
            Units, as for `power`.
        effect, standardised, lift, treatment, means, shares
            How large the effect will be, where the width depends on it; none is no effect.

        Returns
        -------
        PlanAnswer
            Its `half_width` is the answer.

        Raises
        ------
        DesignError
            If the design has no such interval.
        """
        value = self._effect(effect, check=False) if effect else np.asarray(0.0)
        units = self._given_units(n, weeks)
        costs = self._costs(lambda d: d._half_width(value, d._analysed(units)))
        return self._answer("precision", value, units, None, costs, tested=False)

    def sample_size_for_width(self, *, half_width: float, **effect: Unpack[EffectGiven]) -> PlanAnswer:
        """How many units make the interval reach no further than `half_width` to each side?

        Parameters
        ----------
        half_width : float
            Half of the width of the two-sided interval, in the unit of the effect.
        effect, standardised, lift, treatment, means, shares
            How large the effect will be, where the width depends on it; none is no effect.

        Returns
        -------
        PlanAnswer
            The smallest whole number of units. The spread is taken as given, so half of all intervals come out a
            little wider.

        Raises
        ------
        DesignError
            If the design has no such interval, or more than 1e12 units would be needed.
        """
        width = np.asarray(gate.positive("half_width", half_width))
        value = self._effect(effect, check=False) if effect else np.asarray(0.0)
        self._half_width(value, self._recruits(np.asarray(self._least())))  # or say that there is none
        n = self._solve_width(value, width)
        if not np.isfinite(n):
            raise DesignError(f"More than {solve.MOST_UNITS:.0e} units a group: the half-width asked for is too small.")
        costs = self._costs(lambda d: d._total(d._recruits(d._solve_width(value, width))))
        return self._answer("sample size for width", value, self._recruits(n), None, costs, tested=False)

    # --- many scenarios, and the check

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
        own = {f.name for f in dataclasses.fields(self) if f.init and f.name not in ("alternative", "modifiers")}
        known = own | (set(self.ways) - {"means", "shares"}) | {"power", "n", "weeks"}
        for name in scenarios:
            if name not in known:
                raise InputError.unknown("grid", name, sorted(known))
        ways = [name for name in scenarios if name in self.ways]
        values = {name: np.atleast_1d(gate.finite(name, value)) for name, value in scenarios.items()}
        size = int(np.prod([v.size for v in values.values()]))
        if size > MOST_SCENARIOS:
            raise InputError(f"The grid has {size:,} scenarios: at most {MOST_SCENARIOS:,}.")
        columns = dict(zip(values, (m.ravel() for m in np.meshgrid(*values.values(), indexing="ij")), strict=True))
        design = self._with_numbers({name: column for name, column in columns.items() if name in own})
        return design._grid_answer(self, columns, ways, tuple(name for name, v in values.items() if v.size > 1))

    def _grid_answer(
        self, asked: Design, columns: dict[str, Floats], ways: list[str], varied: tuple[str, ...]
    ) -> PlanGrid:
        """Solve as arrays; the numbers of this design are columns."""
        size = next(iter(columns.values())).size if columns else 1
        sized = "n" in columns or "weeks" in columns
        target = np.broadcast_to(self._target(columns.get("power", np.asarray(0.8))), (size,))
        if sized:
            if "n" in columns and "weeks" in columns:
                raise DesignError("Give one of n and weeks, not both.")
            n = gate.whole("n", columns["n"], 1) if "n" in columns else self._n_of_weeks(columns["weeks"])
            units = self._recruits(np.maximum(n, self._least()))
        if not ways and not sized:
            raise DesignError("A grid needs an effect, or units (n or weeks), or both.")
        if sized and ways and "power" in columns:
            raise DesignError("Leave one of effect, units and power open: that one is solved for.")
        if ways:
            effect = np.broadcast_to(self._effect(cast("EffectGiven", {w: columns[w] for w in ways})), (size,))
        if not sized:
            question = "sample size"
            n, power = self._solve_n(effect, target)
            units = self._recruits(n)
        elif ways:
            question = "power"
        else:
            question = "detectable effect"
            effect = self._solve_effect(units, target)
        known = np.isfinite(effect) & np.isfinite(units[-1])
        if sized:
            power = self._power_with(np.where(known, effect, asked._fallback_effect()), units)
        table: dict[str, Floats] = dict(columns)
        if not sized:
            table.setdefault("power", target)
            table["target power"] = table.pop("power")
        elif not ways:
            table["target power"] = target
            table.pop("power", None)
        table["effect"] = effect
        named = self._named_units(units)
        table |= named if len(named) > 1 else {"n": units[-1]}
        table["units in total"] = self._total(units)
        table["power"] = np.where(known, power, np.nan)
        days = self._days(table["units in total"])
        if days is not None:
            table["days"] = days
        return PlanGrid(
            title=f"{self.title}: {question} in {size:,} scenarios",
            method=self._method_said(),
            source=self.source,
            question=question,
            varied=varied,
            columns={name: _column(np.broadcast_to(v, (size,))) for name, v in table.items()},
            design=asked,
            percent=self.percent,
        )

    def simulate(
        self,
        *,
        n: int | tuple[int, int] | None = None,
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
        count = int(gate.whole("runs", runs, 1))
        rng = np.random.default_rng(seed)
        analysed = tuple(int(u) for u in self._analysed(units))
        single = float(self._single_alpha(tuple(np.asarray(float(u)) for u in analysed)))
        if self.drawn_by is None:
            raise DesignError(f"{self.title}: there is no measuring function to simulate this design with yet.")
        draw = getattr(import_module("amber_ruler.plan.simulate"), self.drawn_by)
        rejected, test = draw(self, rng, float(value), analysed, count, single)
        rate = float(np.mean(rejected))
        return Simulation(
            title=f"{self.title}: {count:,} simulated tests",
            method=f"data drawn under the design, tested with {test}",
            source=self.source,
            rate=rate,
            error=float(np.sqrt(max(rate * (1 - rate), 1 / count) / count)),
            power=float(self._power_with(value, units)),
            runs=count,
            n_total=int(self._total(units)),
            effect=float(value),
            test=test,
            seed=seed if isinstance(seed, int) else None,
        )

    # --- the modifiers

    def with_covariate(self, correlation: float) -> Self:
        """Adjust for a covariate known before the test: the variance shrinks by the square of the correlation."""
        return self._with(change.Covariate(correlation))

    def with_clusters(self, size: float, icc: float, cv: float = 0.0) -> Self:
        """Randomise whole clusters of `size` units with intraclass correlation `icc`; `cv` is that of the sizes.

        The variance grows by the design effect 1 + ((1 + cv²) size − 1) icc (Eldridge, Ashby & Kerry 2006), and
        a t test has the degrees of freedom of the clusters.
        """
        return self._with(change.Clusters(size, icc, cv))

    def with_variants(self, count: int, correction: change.Correction = "dunnett") -> Self:
        """Compare `count` treatments with the one control; the power is that of each comparison.

        `correction` is "dunnett" (the closest), "sidak", "bonferroni" or "none".
        """
        return self._with(change.Variants(count, correction))

    def with_margin(self, margin: float, kind: change.MarginKind = "non-inferiority", good: str | None = None) -> Self:
        """Show that treatment is not worse ("non-inferiority"), or not different ("equivalence"), by `margin`.

        `alpha` is then the error rate of each one-sided test. `good` is the direction in which the metric is good,
        "higher" unless said or unless the alternative is "less".
        """
        wanted = good or ("lower" if self.alternative == "less" else "higher")
        if {"greater": "higher", "less": "lower"}.get(self.alternative, wanted) != wanted:
            raise DesignError(f"The alternative {self.alternative!r} and good={wanted!r} contradict each other.")
        return self._with(change.Margin(margin, kind, wanted))  # type: ignore[arg-type]

    def with_traffic(self, per_day: float, share: float = 1.0) -> Self:
        """Say how many units arrive each day, and which share of them enters the test: answers then say how long."""
        return self._with(change.Traffic(per_day, share))

    def with_attrition(self, share: float) -> Self:
        """Allow for a share of units that will have no value at the end: units are then those to recruit."""
        return self._with(change.Attrition(share))

    def _with(self, modifier: Modifier) -> Self:
        if type(modifier) not in self.allowed:
            raise DesignError(f"{self.title}: {modifier} does not apply to this design.")
        if self._modifier(type(modifier)) is not None:
            raise DesignError(f"The design already has {self._modifier(type(modifier))}.")
        return replace(self, modifiers=(*self.modifiers, modifier))

    def _with_numbers(self, numbers: Mapping[str, Any]) -> Self:
        """Many designs at once: fields may be arrays, which every formula broadcasts over."""
        return replace(self, **numbers)

    def _modifier(self, kind: type[M]) -> M | None:
        return next((m for m in self.modifiers if isinstance(m, kind)), None)

    def _variance_factor(self) -> float:
        return float(
            np.prod([m.variance_factor for m in self.modifiers if isinstance(m, change.Covariate | change.Clusters)])
        )

    def _cluster_size(self) -> float:
        clusters = self._modifier(change.Clusters)
        return 1.0 if clusters is None else clusters.size

    def _costs(self, measure: Callable[[Self], Floats]) -> tuple[Cost, ...]:
        """The answer without modifiers, then with one after the other in the order they were put on."""
        margin = tuple(m for m in self.modifiers if isinstance(m, change.Margin))
        rest = [m for m in self.modifiers if not isinstance(m, change.Margin | change.Traffic)]
        if not rest:
            return ()
        found = [Cost("without modifiers", float(measure(replace(self, modifiers=margin))))]
        for k, last in enumerate(rest, start=1):
            found.append(Cost(str(last), float(measure(replace(self, modifiers=(*margin, *rest[:k]))))))
        return tuple(found)

    # --- what a subclass has to say

    @abstractmethod
    def _ways(self) -> Ways:
        """The names under which an effect may be given, and how each becomes an effect."""

    @abstractmethod
    def _power_of(self, effect: Floats, units: Units) -> Floats:
        """Power for an effect with so many analysed units; broadcasts."""

    @abstractmethod
    def _most(self, sign: float) -> Floats:
        """The largest effect that there can be in the direction of `sign`."""

    @abstractmethod
    def _told(self, effect: float) -> dict[str, float]:
        """The effect in other words, by name."""

    @abstractmethod
    def _checked_effect(self, effect: Floats) -> Floats:
        """Return effects that can be planned for, or say why they can't."""

    def _recruits(self, n: Floats) -> Units:
        """Units of each group that go with `n`."""
        return (n,)

    def _least(self) -> float:
        """Units, or clusters, in the smallest group that the formula can do with."""
        return 2.0

    def _group_names(self) -> tuple[str, ...]:
        return ("units",)

    def _groups_of(self) -> tuple[float, ...]:
        """How many groups of each kind there are."""
        return (1.0,)

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        raise DesignError(f"{self.title}: this test has no single interval whose width could be planned.")

    def _guess(self, effect: Floats, target: Floats) -> Floats:
        """A number of units not too far from the answer."""
        return np.broadcast_to(50.0, np.broadcast_shapes(effect.shape, target.shape))

    def _single_alpha(self, units: Units) -> Floats:
        """Error rate of each comparison."""
        return np.asarray(self.alpha)

    def _method_said(self) -> str:
        return self.method

    def _notes(self) -> tuple[str, ...]:
        return ()

    def _checks(self, units: Units) -> tuple[Check, ...]:
        """Assumptions that can be looked at before there are data."""
        return ()

    def _size_notes(self, effect: Floats, target: Floats, n: Floats) -> tuple[str, ...]:
        return ()

    def _fallback_effect(self) -> float:
        """An effect that every power function takes."""
        return 0.0

    # --- the machinery

    def _effect(self, given: EffectGiven, *, check: bool = True) -> Floats:
        for name in given:
            if name not in self.ways:
                raise InputError.unknown(f"ways to say the effect of {self.title.lower()}", name, self.ways)
        if not given and self._modifier(change.Margin) is not None:
            return np.asarray(0.0)
        if len(given) != 1:
            listed = ", ".join(self.ways)
            got = "none" if not given else " and ".join(given)
            raise DesignError(f"Say how large the effect is in one way ({listed}); got {got}.")
        ((name, value),) = given.items()
        effect = gate.finite(name, self._ways()[name](value))
        return self._checked_effect(effect) if check and self._modifier(change.Margin) is None else effect

    def _target(self, power: ArrayLike) -> Floats:
        target = gate.between("power", power, 0, 1)
        low = target <= self.alpha
        if np.any(low):
            culprit = float(np.extract(low, np.broadcast_to(target, low.shape))[0])
            rule = f"above alpha ({np.max(self.alpha):g})"
            raise InputError.rule("power", culprit, rule, "A test without any data reaches alpha.")
        return target

    def _given_units(self, n: int | tuple[int, int] | None, weeks: int | None) -> Units:
        if (n is None) == (weeks is None):
            raise DesignError("Say how many units: one of n and weeks.")
        if weeks is not None:
            units = self._recruits(self._n_of_weeks(gate.positive("weeks", weeks)))
        else:
            whole = gate.whole("n", np.asarray(n), self._least())
            if whole.ndim == 0:
                units = self._recruits(whole)
            elif len(self._group_names()) == 2 and whole.shape == (2,):
                units = whole[0], whole[1]
            else:
                way_out = "Only a design of treatment and control takes a pair."
                raise InputError.rule("n", n, "one number of units", way_out)
        least, smallest = np.ceil(self._least() * self._cluster_size()), min(float(u) for u in self._analysed(units))
        if smallest < least:
            raise DesignError(f"{smallest:,.0f} units in the smallest group are too few: it takes {least:,.0f}.")
        return units

    def _n_of_weeks(self, weeks: Floats) -> Floats:
        """The largest n whose units the traffic of so many weeks holds."""
        traffic = self._modifier(change.Traffic)
        if traffic is None:
            raise DesignError("Weeks need the traffic: design.with_traffic(per_day=…).")
        room = np.floor(traffic.daily * 7 * weeks * (1 + 1e-14))
        n = np.floor(room / (self._total(self._recruits(np.asarray(1e9))) / 1e9) + 1)
        while np.any(self._total(self._recruits(n)) > room):
            n = np.where(self._total(self._recruits(n)) > room, n - 1, n)
        return n

    def _analysed(self, units: Units) -> Units:
        """Units that will have a value at the end."""
        attrition = self._modifier(change.Attrition)
        if attrition is None:
            return units
        return tuple(np.floor(u * (1 - attrition.share) * (1 + 1e-14)) for u in units)

    def _power_with(self, effect: Floats, units: Units) -> Floats:
        """Power with so many recruited units; 0 where too few are left for the formula."""
        analysed = self._analysed(units)
        least = self._least() * self._cluster_size()
        enough = np.all([u >= least for u in np.broadcast_arrays(*analysed)], axis=0)
        power = self._power_of(effect, tuple(np.maximum(u, least) for u in analysed))
        return np.where(enough, power, 0.0)

    def _solve_n(self, effect: Floats, target: Floats) -> tuple[Floats, Floats]:
        """The smallest n, in whole clusters if there are any, and its power."""
        effect, target = gate.aligned(effect, target)
        size, offset = self._cluster_size(), self._least() - 1
        alpha = np.broadcast_to(self.alpha, target.shape)
        one_sided = self.alternative in ("greater", "less")
        goal, critical = normal.quantile(target), normal.upper_quantile(alpha / (1 if one_sided else 2))

        def progress(power: Floats) -> Floats:
            score = normal.quantile(np.clip(power, 1e-15, 1 - 1e-15))
            return np.asarray((score + critical) / (goal + critical))

        k, power = solve.smallest_count(
            lambda k: self._power_with(effect, self._recruits(np.ceil((k + offset) * size))),
            target,
            progress,
            self._guess(effect, target) / size - offset,
        )
        return np.ceil((k + offset) * size), power

    def _solve_width(self, effect: Floats, width: Floats) -> Floats:
        size, offset = self._cluster_size(), self._least() - 1

        def reached(k: Floats) -> Floats:
            units = self._recruits(np.ceil((k + offset) * size))
            analysed = tuple(np.maximum(u, self._least() * size) for u in self._analysed(units))
            return np.asarray(width / self._half_width(effect, analysed))

        k, _ = solve.smallest_count(reached, np.ones(width.shape), lambda share: share, np.full(width.shape, 100.0))
        return np.ceil((k + offset) * size)

    def _solve_effect(self, units: Units, target: Floats) -> Floats:
        sign, least, most = self._where_to_look()
        shape = np.broadcast_shapes(units[-1].shape, target.shape, np.shape(most))
        units, target = tuple(np.broadcast_to(u, shape) for u in units), np.broadcast_to(target, shape)
        least, most = (np.broadcast_to(np.asarray(end, dtype=np.float64), shape) for end in (least, most))
        return sign * solve.smallest_effect(lambda e: self._power_with(sign * e, units), target, least, most)

    def _where_to_look(self) -> tuple[float, Floats, Floats]:
        """The direction of a detectable effect, and the least and the most it can be in that direction."""
        sign = -1.0 if self.alternative == "less" else 1.0
        return sign, np.asarray(0.0), self._most(sign)

    def _total(self, units: Units) -> Floats:
        return np.asarray(sum(k * u for k, u in zip(self._groups_of(), units, strict=True)))

    def _days(self, total: Floats) -> Floats | None:
        """Days until so many units have arrived, where the traffic is known."""
        traffic = self._modifier(change.Traffic)
        return None if traffic is None else np.ceil(total / traffic.daily * (1 - 1e-14))

    def _named_units(self, units: Units) -> dict[str, Floats]:
        return dict(zip(self._group_names(), units, strict=True))

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
    ) -> PlanAnswer:
        total, analysed = self._total(units), self._analysed(units)
        taken = self._days(total)
        days = None if taken is None else int(taken)
        try:
            half_width = float(self._half_width(effect, analysed))
        except DesignError:
            half_width = None
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
            half_width=half_width,
            days=days,
            weeks=None if days is None else -(-days // 7),
            costs=costs,
            design=self,
            percent=self.percent,
            checks=self._checks(analysed),
            notes=(*notes, *self._notes()),
        )

    def _refuse_endless(self, effect: float) -> None:
        told = ", ".join(f"{name} {value:.3g}" for name, value in self._told(effect).items())
        raise DesignError(
            f"More than {solve.MOST_UNITS:.0e} units a group would be needed: an effect of {effect:.3g}"
            f"{f' ({told})' if told else ''} is too small for the spread. Ask for a larger effect, less power, or"
            " a sharper metric."
        )


def _column(values: Floats) -> tuple[float | None, ...]:
    return tuple(None if not np.isfinite(v) else float(v) for v in values)
