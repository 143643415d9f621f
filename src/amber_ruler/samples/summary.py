"""Published numbers of one group."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from amber_ruler.moments import check_reach
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.results.pieces import Axis
from amber_ruler.samples.held import own_numbers


@dataclass(frozen=True, slots=True, eq=False)
class Summary:
    """Published numbers of one group; arrays stand for many comparisons at once.

    Parameters
    ----------
    n : int or array_like
        Units.
    mean, sd : float or array_like
        Mean and standard deviation (with n - 1 below), in the metric's unit.
    label : str
        What the group is called in every output.
    missing : int
        Units left out because they had no value.
    metric : str
        What was measured, for the heading of a result.
    axis : Axis, optional
        What the comparisons differ by, where the numbers are arrays: a name, and a label for each.
    mean_tail : float or array_like
        What the float64 mean rounds away; filled in by a reduction from rows.
    skewness, excess_kurtosis : float or array_like, optional
        Third and fourth standardised moments (n below; the fourth less 3): with them a method says how much they may
        matter.
    ends : pair, optional
        The smallest and the largest value: with them a method says whether one value decides.
    values : ndarray, optional
        The values behind the numbers; filled in by a reduction from a Sample.

    Examples
    --------
    >>> Summary(n=4, mean=2.5, sd=1.0, label="current").n
    4
    """

    n: Number
    mean: Number
    sd: Number
    label: str = ""
    missing: int = 0
    metric: str = ""
    axis: Axis | None = None
    mean_tail: Number = field(default=0.0, repr=False)
    values: Floats | None = field(default=None, repr=False)
    skewness: Number | None = field(default=None, repr=False)
    excess_kurtosis: Number | None = field(default=None, repr=False)
    ends: tuple[Number, Number] | None = field(default=None, repr=False)

    def __post_init__(self) -> None:
        who = f" of {self.label!r}" if self.label else ""
        gate.whole(f"n{who}", self.n, 1)
        mean, sd = gate.finite(f"mean{who}", self.mean), gate.at_least(f"sd{who}", self.sd, 0)
        own_numbers(self, ("n", "mean", "sd", "mean_tail", "skewness", "excess_kurtosis"))
        check_reach(self.label or "group", np.maximum(np.abs(mean), sd), sd)

    def without_value(self, value: float) -> Summary:
        """The same group without one unit that has this value."""
        n, mean, sd, tail = (float(v) for v in (self.n, self.mean, self.sd, self.mean_tail))
        away = (value - mean) - tail
        squares = sd * sd * (n - 1) - away * away * n / (n - 1)
        shift = tail - away / (n - 1)
        left = mean + shift
        # What is left of the squares may be rounding only.
        sd = math.sqrt(max(squares, 0.0) / (n - 2)) if squares > 1e-12 * sd * sd * n else 0.0
        return Summary(int(n) - 1, left, sd, self.label, self.missing, self.metric, mean_tail=shift - (left - mean))
