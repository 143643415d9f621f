"""What the designs of two groups have in common: the questions, and how they are solved."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from amber_ruler import effects
from amber_ruler.numeric import gate
from amber_ruler.plan import solve
from amber_ruler.plan.answer import PlanAnswer

if TYPE_CHECKING:
    from amber_ruler.effects import Alternative


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoGroups:
    """A test of treatment against control; a subclass says what is measured.

    Parameters
    ----------
    ratio : float
        Treatment units for each control unit.
    alpha : float, between 0 and 0.5
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.
    """

    _title: ClassVar[str]
    _method: ClassVar[str]
    _source: ClassVar[str]
    _percent: ClassVar[bool] = False

    ratio: float = 1.0
    alpha: float = 0.05
    alternative: Alternative = "two-sided"

    def __post_init__(self) -> None:
        gate.positive("ratio", self.ratio)
        effects.tails(self.alpha, self.alternative)

    def sample_size(self, *, effect: float, power: float = 0.8) -> PlanAnswer:
        """How many units does it take to find `effect` with a chance of `power`?

        Parameters
        ----------
        effect : float
            Treatment minus control, in the metric's unit; not 0, and on the side that the alternative looks at.
        power : float, between alpha and 1
            Chance to find it.

        Returns
        -------
        PlanAnswer
            The smallest whole number of units that reaches the power, with the power it has.

        Raises
        ------
        DesignError
            If the effect is 0 or on the wrong side, or more than 1e12 units would be needed.
        """
        value = self._checked_effect(effect)
        target = solve.checked_power(power, self.alpha)

        def power_at(control: int) -> float:
            return self._power(value, solve.treated(control, self.ratio), control)

        control = solve.smallest_control(power_at, target, max(effects.tails(self.alpha, self.alternative)))
        return self._answer("sample size", value, solve.treated(control, self.ratio), control, target)

    def power(self, *, effect: float, n: int | tuple[int, int]) -> PlanAnswer:
        """How likely are `n` units to find `effect`?

        Parameters
        ----------
        effect : float
            Treatment minus control, in the metric's unit.
        n : int, or pair of int
            Units in control (in each group while `ratio` is 1), or units in treatment and in control.

        Returns
        -------
        PlanAnswer
        """
        return self._answer("power", self._checked_effect(effect), *solve.sizes_of(n, self.ratio), None)

    def detectable_effect(self, *, n: int | tuple[int, int], power: float = 0.8) -> PlanAnswer:
        """What is the smallest effect that `n` units find with a chance of `power`?

        Parameters
        ----------
        n : int, or pair of int
            Units in control (in each group while `ratio` is 1), or units in treatment and in control.
        power : float, between alpha and 1
            Chance to find it.

        Returns
        -------
        PlanAnswer
            The effect is above 0, unless the alternative is "less".

        Raises
        ------
        DesignError
            If no effect is large enough for so few units.
        """
        target = solve.checked_power(power, self.alpha)
        one, two = solve.sizes_of(n, self.ratio)
        sign = -1.0 if self.alternative == "less" else 1.0
        size = solve.smallest_effect(lambda e: self._power(sign * e, one, two), target, self._most(sign))
        return self._answer("detectable effect", sign * size, one, two, target)

    def _checked_effect(self, effect: float) -> float:
        return solve.checked_effect(effect, self.alternative)

    @abstractmethod
    def _power(self, effect: float, one: int, two: int) -> float:
        """Power for an effect with so many units in treatment and control."""

    @abstractmethod
    def _most(self, sign: float) -> float:
        """The largest effect that there can be in the direction of `sign`."""

    @abstractmethod
    def _half_width(self, effect: float, one: int, two: int) -> float:
        """Half of the width of the two-sided interval to be expected."""

    @abstractmethod
    def _assumed(self, effect: float) -> dict[str, float]:
        """What was assumed of the metric, by name."""

    def _answer(self, question: str, effect: float, one: int, two: int, target: float | None) -> PlanAnswer:
        return PlanAnswer(
            title=f"{self._title}: {question}",
            method=self._method,
            source=self._source,
            question=question,
            n_treatment=one,
            n_control=two,
            effect=effect,
            power=self._power(effect, one, two),
            target_power=target,
            alpha=self.alpha,
            alternative=self.alternative,
            half_width=self._half_width(effect, one, two),
            design=self._assumed(effect),
            percent=self._percent,
        )
