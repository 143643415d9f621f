"""Planning the difference of two proportions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, normal
from amber_ruler.plan import solve
from amber_ruler.plan.design import TwoGroups

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats, Number


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoProportions(TwoGroups):
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
    (3841, 7682, 0.8)
    """

    _title = "Two proportions"
    _method = "two proportions, score test, normal distribution"
    _source = "Fleiss, Levin & Paik (2003), Statistical Methods for Rates and Proportions, section 4.2"
    _percent = True

    baseline: float

    def __post_init__(self) -> None:
        gate.between("baseline", self.baseline, 0, 1)
        TwoGroups.__post_init__(self)

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

    def _most(self, sign: float) -> float:
        return (1 - self.baseline if sign > 0 else self.baseline) * (1 - 1e-9)

    def _half_width(self, effect: float, one: int, two: int) -> float:
        return float(normal.upper_quantile(self.alpha / 2) * _spread(self.baseline, effect, one, two))

    def _assumed(self, effect: float) -> dict[str, float]:
        share = self.baseline + effect
        return {"baseline": self.baseline, "treatment share": share, "lift": effect / self.baseline}


def power_of_score(
    baseline: ArrayLike, effect: ArrayLike, n1: ArrayLike, n0: ArrayLike, alpha: float, alternative: str
) -> Floats:
    """Power of the score test for a difference of shares; broadcasts."""
    p0, effect, one, two = (np.asarray(v, dtype=np.float64) for v in (baseline, effect, n1, n0))
    p1 = p0 + effect
    pooled = (one * p1 + two * p0) / (one + two)
    under_none = np.sqrt(pooled * (1 - pooled) * (1 / one + 1 / two))
    under_effect = _spread(p0, effect, one, two)
    below, above = effects.critical_z(effects.tails(alpha, alternative))
    power = normal.sf((below * under_none - effect) / under_effect)
    return np.asarray(power + normal.cdf((-above * under_none - effect) / under_effect))


def _spread(baseline: Number, effect: Number, n1: Number, n0: Number) -> Floats:
    """Standard error of the difference of shares under the effect."""
    share = baseline + effect
    return np.sqrt(share * (1 - share) / n1 + baseline * (1 - baseline) / n0)
