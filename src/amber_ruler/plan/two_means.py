"""Planning the difference of two means."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.numeric import gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import solve
from amber_ruler.plan.answer import PlanAnswer


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoMeans:
    """A test of treatment against control by their means.

    Parameters
    ----------
    sd : float
        Standard deviation within each group, in the metric's unit; 1 makes effects standardised.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    Power is that of the equal-variance t test, by the noncentral t distribution; both tails count when the test is
    two-sided. `n` is always the units in control (in each group while `ratio` is 1), or a pair
    (treatment, control).

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31.

    Examples
    --------
    >>> plan = TwoMeans(sd=1).sample_size(effect=0.5, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (64, 128, 0.8015)
    """

    sd: float = 1.0
    ratio: float = 1.0
    alpha: float = 0.05
    alternative: Alternative = "two-sided"

    def __post_init__(self) -> None:
        gate.positive("sd", self.sd)
        gate.positive("ratio", self.ratio)
        effects.tails(self.alpha, self.alternative)

    def sample_size(self, *, effect: float, power: float = 0.8) -> PlanAnswer:
        """How many units does it take to find `effect` with a chance of `power`?"""
        value = solve.checked_effect(effect, self.alternative)
        target = solve.checked_power(power, self.alpha)

        def power_at(control: int) -> float:
            return self._power(value, solve.treated(control, self.ratio), control)

        control = solve.smallest_control(power_at, target, max(effects.tails(self.alpha, self.alternative)))
        return self._answer("sample size", value, solve.treated(control, self.ratio), control, target)

    def power(self, *, effect: float, n: int | tuple[int, int]) -> PlanAnswer:
        """How likely are `n` units to find `effect`?"""
        return self._answer(
            "power", solve.checked_effect(effect, self.alternative), *solve.sizes_of(n, self.ratio), None
        )

    def detectable_effect(self, *, n: int | tuple[int, int], power: float = 0.8) -> PlanAnswer:
        """What is the smallest effect that `n` units find with a chance of `power`?"""
        target = solve.checked_power(power, self.alpha)
        one, two = solve.sizes_of(n, self.ratio)
        sign = -1.0 if self.alternative == "less" else 1.0
        most = 1e3 * self.sd
        size = solve.smallest_effect(lambda e: self._power(sign * e, one, two), target, most)
        return self._answer("detectable effect", sign * size, one, two, target)

    def _power(self, effect: float, one: int, two: int) -> float:
        return float(power_of_t(effect / self.sd, one, two, self.alpha, self.alternative))

    def _answer(self, question: str, effect: float, one: int, two: int, target: float | None) -> PlanAnswer:
        return PlanAnswer(
            title=f"Two means: {question}",
            method="two means, equal variances, noncentral t",
            source="Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31",
            question=question,
            n_treatment=one,
            n_control=two,
            effect=effect,
            power=self._power(effect, one, two),
            target_power=target,
            alpha=self.alpha,
            alternative=self.alternative,
            design={"sd": self.sd, "standardised effect": effect / self.sd},
        )


def power_of_t(effect: ArrayLike, n1: ArrayLike, n0: ArrayLike, alpha: float, alternative: str) -> Floats:
    """Power of the two-sample t test for a standardised effect; broadcasts."""
    effect, one, two = (np.asarray(v, dtype=np.float64) for v in (effect, n1, n0))
    df = one + two - 2
    shift = effect * np.sqrt(one * (two / (one + two)))
    low, high = effects.tails(alpha, alternative)
    critical = student.upper_quantile(max(low, high), df)
    power = np.zeros(np.broadcast_shapes(shift.shape, df.shape))
    if low > 0:
        power = power + student.noncentral_sf(critical, df, shift)
    if high > 0:
        power = power + student.noncentral_cdf(-critical, df, shift)
    return power
