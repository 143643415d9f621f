"""What a Bayesian answer holds."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from amber_ruler.results import Comparison


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Posterior(Comparison):
    """Treatment minus control after the data.

    Attributes
    ----------
    estimate : float
        Posterior median of the difference.
    interval : Interval
        Equal-tailed posterior interval at level 1 - alpha.
    prior : str
        The prior, in words.
    chance_better : float
        Posterior probability that treatment is better, in the metric's good direction.
    expected_loss : float or None
        What choosing treatment costs on average if it is the worse one, in the metric's unit.
    bayes_factor : float or None
        How many times likelier the data are under a difference than under none; below 1 they speak for none.
    log_bayes_factor : float or None
        Its natural logarithm, where the factor itself would overflow.
    """

    kind: ClassVar[str] = "posterior"

    prior: str
    chance_better: float
    expected_loss: float | None = None
    bayes_factor: float | None = None
    log_bayes_factor: float | None = None
