"""What a plan answers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from amber_ruler.results import Result

if TYPE_CHECKING:
    from collections.abc import Mapping


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class PlanAnswer(Result):
    """Effect, units, power and alpha that belong together; `question` says which was solved for.

    Attributes
    ----------
    question : str
        "sample size", "power" or "detectable effect".
    n_treatment, n_control : int
        Units in each group.
    effect : float
        Treatment minus control, in the metric's unit.
    power : float
        Chance to find that effect with these units.
    target_power : float or None
        The power asked for, where units or effect were solved for; `power` is at least that.
    alpha : float
        Error rate of the test.
    alternative : str
        Its direction.
    half_width : float
        Half of the width of the interval to be expected, at level 1 - alpha (two-sided), if the effect is real.
    design : mapping
        What was assumed of the metric.
    percent : bool
        Whether the effect is a difference of shares.
    """

    kind: ClassVar[str] = "plan"

    question: str
    n_treatment: int
    n_control: int
    effect: float
    power: float
    alpha: float
    alternative: str
    half_width: float
    target_power: float | None = None
    design: Mapping[str, Any] = field(default_factory=dict)
    percent: bool = False

    @property
    def n_total(self) -> int:
        """Units in both groups together."""
        return self.n_treatment + self.n_control
