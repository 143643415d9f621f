"""Planning the difference of two proportions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import solve
from amber_ruler.plan.answer import PlanAnswer


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoProportions:
    """A test of treatment against control by the share of successes.

    Parameters
    ----------
    baseline : float, between 0 and 1
        Share of successes in control.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    Power of the score test, which pools the shares under "no difference" and not under the effect, by the normal
    distribution; both tails count when the test is two-sided. Effects are differences of shares: 0.01 is one
    percentage point. `n` is the units in control, or a pair (treatment, control).

    References
    ----------
    .. [1] Fleiss, Levin & Paik (2003), Statistical Methods for Rates and Proportions, 3rd ed., section 4.2.

    Examples
    --------
    >>> plan = TwoProportions(baseline=0.10).sample_size(effect=0.02, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (3841, 7682, 0.8001)
    """

    baseline: float
    ratio: float = 1.0
    alpha: float = 0.05
    alternative: Alternative = "two-sided"

    def __post_init__(self) -> None:
        gate.between("baseline", self.baseline, 0, 1)
        gate.positive("ratio", self.ratio)
        effects.tails(self.alpha, self.alternative)

    def sample_size(self, *, effect: float, power: float = 0.8) -> PlanAnswer:
        """How many units does it take to find `effect` with a chance of `power`?"""
        value = self._checked_effect(effect)
        target = solve.checked_power(power, self.alpha)

        def power_at(control: int) -> float:
            return self._power(value, solve.treated(control, self.ratio), control)

        control = solve.smallest_control(power_at, target, max(effects.tails(self.alpha, self.alternative)))
        return self._answer("sample size", value, solve.treated(control, self.ratio), control, target)

    def power(self, *, effect: float, n: int | tuple[int, int]) -> PlanAnswer:
        """How likely are `n` units to find `effect`?"""
        return self._answer("power", self._checked_effect(effect), *solve.sizes_of(n, self.ratio), None)

    def detectable_effect(self, *, n: int | tuple[int, int], power: float = 0.8) -> PlanAnswer:
        """What is the smallest effect that `n` units find with a chance of `power`?"""
        target = solve.checked_power(power, self.alpha)
        one, two = solve.sizes_of(n, self.ratio)
        sign = -1.0 if self.alternative == "less" else 1.0
        most = (1 - self.baseline if sign > 0 else self.baseline) * (1 - 1e-9)
        size = solve.smallest_effect(lambda e: self._power(sign * e, one, two), target, most)
        return self._answer("detectable effect", sign * size, one, two, target)

    def _checked_effect(self, effect: float) -> float:
        value = solve.checked_effect(effect, self.alternative)
        if not 0 < self.baseline + value < 1:
            raise DesignError(
                f"A baseline of {self.baseline:g} and an effect of {value:g} give a share of {self.baseline + value:g},"
                " which is not between 0 and 1. Effects are differences of shares: 0.01 is one percentage point."
            )
        return value

    def _power(self, effect: float, one: int, two: int) -> float:
        return float(power_of_score(self.baseline, effect, one, two, self.alpha, self.alternative))

    def _answer(self, question: str, effect: float, one: int, two: int, target: float | None) -> PlanAnswer:
        return PlanAnswer(
            title=f"Two proportions: {question}",
            method="two proportions, score test, normal distribution",
            source="Fleiss, Levin & Paik (2003), Statistical Methods for Rates and Proportions, section 4.2",
            question=question,
            n_treatment=one,
            n_control=two,
            effect=effect,
            power=self._power(effect, one, two),
            target_power=target,
            alpha=self.alpha,
            alternative=self.alternative,
            design={
                "baseline": self.baseline,
                "treatment share": self.baseline + effect,
                "lift": effect / self.baseline,
            },
            percent=True,
        )


def power_of_score(
    baseline: ArrayLike, effect: ArrayLike, n1: ArrayLike, n0: ArrayLike, alpha: float, alternative: str
) -> Floats:
    """Power of the score test for a difference of shares; broadcasts."""
    p0, effect, one, two = (np.asarray(v, dtype=np.float64) for v in (baseline, effect, n1, n0))
    p1 = p0 + effect
    pooled = (one * p1 + two * p0) / (one + two)
    under_none = np.sqrt(pooled * (1 - pooled) * (1 / one + 1 / two))
    under_effect = np.sqrt(p1 * (1 - p1) / one + p0 * (1 - p0) / two)
    below, above = effects.critical_z(effects.tails(alpha, alternative))
    power = normal.sf((below * under_none - effect) / under_effect)
    return np.asarray(power + normal.cdf((-above * under_none - effect) / under_effect))
