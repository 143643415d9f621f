"""What a design is made of: its numbers, what a subclass has to say, and how effects and units are found."""

from __future__ import annotations

import dataclasses
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self, TypeAlias, TypedDict, TypeVar, cast

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number, root_of_smooth
from amber_ruler.plan import modifiers as change
from amber_ruler.plan import search
from amber_ruler.plan.answers import LookPlan
from amber_ruler.plan.modifiers import Modifier
from amber_ruler.results import Check

Units: TypeAlias = tuple[Floats, ...]
Ways: TypeAlias = Mapping[str, Callable[[Any], ArrayLike]]
M = TypeVar("M")
SMALLEST_SHARE = 1e-9


class EffectGiven(TypedDict, total=False):
    """The ways to say how large the effect is; each design takes some of them, and one at a time."""

    effect: float
    standardised: float
    lift: float
    treatment: float
    means: Sequence[float]
    shares: ArrayLike


class Column(np.ndarray):
    """Values of a design's number in many scenarios: only a grid makes them."""


def within_reach(name: str, value: ArrayLike) -> Floats:
    """Numbers whose squares, and the squares of those, floats hold."""
    size = np.abs(gate.floats(name, value))
    if np.any((size > 1e75) | ((size > 0) & (size < 1e-75))):
        raise InputError.rule(name, value, "within reach (1e-75 to 1e75)", "Change its unit.")
    return np.asarray(value, dtype=np.float64)


@dataclass(frozen=True, kw_only=True)
class Planned(ABC):
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
    measured_by: ClassVar[str | None] = None  # the function of `measure` that this plans for
    simulated_by: ClassVar[str | None] = None  # what gives its p-values, where the test takes one data set at a time
    lists: ClassVar[tuple[str, ...]] = ()  # fields with a number for each group
    alternative: str = dataclasses.field(init=False, repr=False, default="any")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    alpha: float = 0.05
    modifiers: tuple[Modifier, ...] = ()

    def __post_init__(self) -> None:
        for field in dataclasses.fields(self):
            value = getattr(self, field.name)
            if isinstance(value, (list, np.ndarray)) and field.name in self.lists:
                object.__setattr__(self, field.name, tuple(value))
                continue
            if field.name not in ("modifiers", *self.lists) and np.ndim(value) and not isinstance(value, Column):
                raise InputError.rule(field.name, value, "one number", "grid(…) takes several.")
            if isinstance(value, (int, float, np.ndarray)) and field.name != "alpha":  # whose own bounds follow
                within_reach(field.name, value)
        gate.at_least("alpha", gate.between("alpha", self.alpha, 0, 0.5), 1e-300)

    def _with(self, modifier: Modifier) -> Self:
        if type(modifier) not in self.allowed:
            raise DesignError(f"{self.title}: {modifier} does not apply to this design.")
        if self._modifier(type(modifier)) is not None:
            raise DesignError(f"The design already has {self._modifier(type(modifier))}.")
        if isinstance(modifier, change.Margin):
            self._own_unit("margin", modifier.size)
        return replace(self, modifiers=(*self.modifiers, modifier))

    def _with_numbers(self, numbers: Mapping[str, Any]) -> Self:
        """Many designs at once: fields may be arrays, which every formula broadcasts over."""
        columns: dict[str, Any] = {n: np.asarray(v).view(Column) if np.ndim(v) else v for n, v in numbers.items()}
        found, margin = replace(self, **columns), self._modifier(change.Margin)
        if margin is None or margin.lift is None:
            return found
        again = replace(margin, size=found._of_control(margin.lift))
        return replace(found, modifiers=tuple(again if m is margin else m for m in found.modifiers))

    def _of_control(self, lift: float) -> Any:
        """So much of the control's mean, share or rate, in the unit of the effect."""
        raise DesignError(f"{self.title}: a margin as a lift needs a control to be a share of.")

    def _spread_of_control(self) -> Any:
        """Variance of one unit of control, all clusters taken together."""
        raise DesignError(f"{self.title}: clusters are given by their icc.")

    def _modifier(self, kind: type[M]) -> M | None:
        return next((m for m in self.modifiers if isinstance(m, kind)), None)

    def _variance_factor(self) -> float:
        return float(
            np.prod([m.variance_factor for m in self.modifiers if isinstance(m, change.Covariate | change.Clusters)])
        )

    def _slopes(self) -> int:
        """How many covariates there are."""
        covariate = self._modifier(change.Covariate)
        return 0 if covariate is None else int(covariate.count)

    def _cluster_size(self) -> float:
        clusters = self._modifier(change.Clusters)
        return 1.0 if clusters is None else clusters.size

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
        """Return effects that the test can find, or say why it can't."""

    def _possible(self, effect: Floats) -> Floats:
        """Return effects that there can be, or say why there can't."""
        return effect

    def _own_unit(self, name: str, size: ArrayLike) -> Floats:
        """A width or a margin in the unit of the effect: of shares below 1."""
        if self.percent:
            return gate.between(name, size, 0, 1, "Shares are from 0 to 1: 3 percentage points are 0.03.")
        return gate.positive(name, size)

    def _recruits(self, n: Floats) -> Units:
        """Units of each group that go with `n`."""
        return (n,)

    def _parts(self, n: Floats) -> Units:
        """The same, not rounded to whole units."""
        return (n,)

    def _continuous(self) -> bool:
        """Whether the power is a smooth function of the units."""
        return self._modifier(change.LookSchedule) is None

    def _smooth_width(self, *, planned: bool) -> bool:
        """Whether the width is a smooth function of the units."""
        return self._modifier(change.LookSchedule) is None

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

    def _widening(self, effect: Floats, units: Units, assurance: float | None) -> Floats:
        """The width that is kept with such a chance (of None the mean one), over the planned one."""
        raise DesignError(f"{self.title}: only the planned width is known.")

    def _reach(self, effect: Floats, units: Units, width: str, assurance: float | None) -> Floats:
        """The half-width: with the spread as planned, its mean, or the one kept with such a chance."""
        planned = self._half_width(effect, units)
        if width == "planned" and assurance is None:
            return planned
        return planned * self._widening(effect, units, assurance)

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

    def _endless(self, effect: float) -> float:
        """Power with units without end."""
        return 1.0 if effect > 0 else float(np.max(self.alpha))

    def _size_notes(self, effect: Floats, target: Floats, n: Floats) -> tuple[str, ...]:
        return ()

    def _fallback_effect(self) -> float:
        """An effect that every power function takes."""
        return 0.0

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Draw the data of so many tests: what the measure takes, and its settings."""
        raise DesignError(f"{self.title}: there is no measuring function to simulate this design with yet.")

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        """P-values of the real test on so many data sets, where it takes one at a time."""
        raise NotImplementedError

    def _null(self, difference: float) -> float:
        """The value that the measure is asked about, where a difference is tested."""
        return difference

    def _for_power(self, power: float) -> Self:
        """The design as a plan for such a power has it: only futility depends on it."""
        schedule = self._modifier(change.LookSchedule)
        if schedule is None or schedule.rule.futility is None:
            return self
        with_power = replace(schedule, rule=replace(schedule.rule, power=power))
        return replace(self, modifiers=tuple(with_power if m is schedule else m for m in self.modifiers))

    def _look_plan(self, effect: float, units: Units, power: float) -> LookPlan | None:
        """What there is at each look."""
        return None

    def _average_share(self, effect: Floats, units: Units) -> Floats | None:
        """Share of the units that a test with looks takes on average under an effect; broadcasts."""
        return None

    # --- the machinery

    def _effect(self, given: EffectGiven, *, check: bool = True, many: bool = False) -> Floats:
        for name in given:
            if name not in self.ways:
                raise InputError.unknown(f"ways to say the effect of {self.title.lower()}", name, self.ways)
        margin = self._modifier(change.Margin)
        if not given and margin is not None and margin.kind != "superiority":
            return np.asarray(0.0)
        if len(given) != 1:
            listed = ", ".join(self.ways)
            got = "none" if not given else " and ".join(given)
            raise DesignError(f"Say how large the effect is in one way ({listed}); got {got}.")
        ((name, value),) = given.items()
        numbers = gate.finite(name, cast("ArrayLike", value))
        if numbers.ndim and not many and name not in ("means", "shares"):
            raise InputError.rule(name, value, "one number", "grid(…) takes several.")
        effect = gate.finite(name, self._ways()[name](within_reach(name, numbers)))
        effect = self._possible(within_reach(name, np.asarray(effect)))
        return self._checked_effect(effect) if check and margin is None else effect

    def _target(self, power: ArrayLike) -> Floats:
        target = gate.between("power", power, 0, 1)
        low = target <= self.alpha
        if np.any(low):
            culprit = float(np.extract(low, np.broadcast_to(target, low.shape))[0])
            rule = f"above alpha ({np.max(self.alpha):g})"
            raise InputError.rule("power", culprit, rule, "A test without any data reaches alpha.")
        return target

    def _given_units(self, n: int | tuple[int, ...] | None, weeks: int | None) -> Units:
        if (n is None) == (weeks is None):
            raise DesignError("Say how many units: one of n and weeks.")
        if weeks is not None:
            units = self._recruits(self._n_of_weeks(gate.positive("weeks", gate.single("weeks", weeks))))
        else:
            whole = gate.whole("n", cast("ArrayLike", n), self._least())
            if whole.ndim == 0:
                units = self._recruits(whole)
            elif len(self._group_names()) > 1 and whole.shape == (len(self._group_names()),):
                units = tuple(whole)
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
        return np.where(enough, np.clip(power, 0.0, 1.0), 0.0)

    def _solve_n(
        self, effect: Floats, target: Floats, recruits: Callable[[Floats], Units] | None = None
    ) -> tuple[Floats, Floats]:
        """The smallest n, in whole clusters if there are any, and its power; `recruits` says what an n stands for."""
        recruits = recruits or self._recruits
        effect, target = gate.aligned(effect, target)
        size, offset = self._cluster_size(), self._least() - 1
        alpha = np.broadcast_to(self.alpha, target.shape)
        one_sided = self.alternative in ("greater", "less")
        goal, critical = normal.quantile(target), normal.upper_quantile(alpha / (1 if one_sided else 2))

        def progress(power: Floats) -> Floats:
            score = normal.quantile(np.clip(power, 1e-15, 1 - 1e-15))
            return np.asarray((score + critical) / (goal + critical))

        k, power = search.smallest_count(
            lambda k: self._power_with(effect, recruits(np.ceil((k + offset) * size))),
            target,
            progress,
            self._guess(effect, target) / size - offset,
        )
        return np.ceil((k + offset) * size), power

    def _unrounded(self, n: float, gain: Callable[[Units], Floats]) -> float | None:
        """The n, not rounded, at which something that rises with the units is 0; near a whole n at which it is above.

        None where even the fewest units that a formula takes are more than enough.
        """
        attrition, size = self._modifier(change.Attrition), self._cluster_size()
        kept = 1.0 if attrition is None else 1 - attrition.share
        smallest = min(float(u) for u in self._parts(np.asarray(1.0)))  # of the groups, for each n
        floor = (self._least() - 1) * size / (kept * smallest)
        if n - floor < 0.05 * size:
            return None

        def gaps(v: Floats) -> Floats:
            return gain(tuple(u * kept for u in self._parts(v)))

        def gap(v: float) -> float:
            return float(gaps(np.asarray(v)))

        low, high = n - min((n - floor) / 2, size / kept + 2), n + 1.0
        near = root_of_smooth(gaps, low, high, smooth_above=floor, atol=1e-13 * n)
        if near is not None:
            return near
        while low - floor > 0.05 * size and gap(low) > 0:
            low = (low + floor) / 2
        while gap(high) < 0 and high < 3 * n + 10:
            high += high - n
        if not gap(low) <= 0 <= gap(high):
            return None
        return bracketed_number(gap, low, high, rtol=1e-14)

    def _solve_width(
        self, effect: Floats, width: Floats, kind: str = "planned", assurance: float | None = None
    ) -> Floats:
        size, offset = self._cluster_size(), self._least() - 1

        def reached(k: Floats) -> Floats:
            units = self._recruits(np.ceil((k + offset) * size))
            analysed = self._analysed(units)
            enough = np.all([u >= self._least() * size for u in np.broadcast_arrays(*analysed)], axis=0)
            reach = self._reach(effect, tuple(np.maximum(u, self._least() * size) for u in analysed), kind, assurance)
            return np.where(enough, width / reach, 0.0)

        k, _ = search.smallest_count(reached, np.ones(width.shape), lambda share: share, np.full(width.shape, 100.0))
        return np.ceil((k + offset) * size)

    def _solve_effect(self, units: Units, target: Floats, sign: float | None = None) -> Floats:
        """The smallest effects that reach the power, towards a sign or the usual one; inf where none does."""
        sign, least, most = self._where_to_look(sign)
        shape = np.broadcast_shapes(units[-1].shape, target.shape, np.shape(most))
        units, target = tuple(np.broadcast_to(u, shape) for u in units), np.broadcast_to(target, shape)
        least, most = (np.broadcast_to(np.asarray(end, dtype=np.float64), shape) for end in (least, most))
        return sign * search.smallest_effect(lambda e: self._power_with(sign * e, units), target, least, most)

    def _where_to_look(self, sign: float | None) -> tuple[float, Floats, Floats]:
        """The direction of a detectable effect, and the least and the most it can be in that direction."""
        sign = sign or (-1.0 if self.alternative == "less" else 1.0)
        return sign, np.asarray(0.0), self._most(sign)

    def _total(self, units: Units) -> Floats:
        return np.asarray(sum(k * u for k, u in zip(self._groups_of(), units, strict=True)))

    def _days(self, total: Floats) -> Floats | None:
        """Days until so many units have arrived, where the traffic is known."""
        traffic = self._modifier(change.Traffic)
        return None if traffic is None else np.ceil(total / traffic.daily * (1 - 1e-14))

    def _named_units(self, units: Units) -> dict[str, Floats]:
        return dict(zip(self._group_names(), units, strict=True))
