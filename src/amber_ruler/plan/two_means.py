"""Planning the difference of two means."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler import effects
from amber_ruler.numeric import gate, student
from amber_ruler.plan.design import TwoGroups

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoMeans(TwoGroups):
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

    _title = "Two means"
    _method = "two means, equal variances, noncentral t"
    _source = "Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31"

    sd: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("sd", self.sd)
        TwoGroups.__post_init__(self)

    def _power(self, effect: float, one: int, two: int) -> float:
        return float(power_of_t(effect / self.sd, one, two, self.alpha, self.alternative))

    def _most(self, sign: float) -> float:  # noqa: ARG002 - means have room both ways
        return 1e3 * self.sd

    def _half_width(self, effect: float, one: int, two: int) -> float:  # noqa: ARG002 - the same for all effects
        critical = float(student.upper_quantile(self.alpha / 2, one + two - 2))
        return critical * self.sd * float(np.sqrt(1 / one + 1 / two))

    def _assumed(self, effect: float) -> dict[str, float]:
        return {"sd": self.sd, "standardised effect": effect / self.sd}


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
