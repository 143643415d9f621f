"""Events over an exposure."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Number, scalar_or_array
from amber_ruler.results.pieces import Axis
from amber_ruler.samples.held import own_numbers

_LEAST, _MOST = 1e-75, 1e75  # whose squares, and the squares of those, floats hold


@dataclass(frozen=True, slots=True, eq=False)
class Events:
    """Events over an exposure in one group: calls in a month, complaints of so many travellers.

    Parameters
    ----------
    count : int or array_like
        Events.
    exposure : float or array_like
        What they are counted over: time, units, distance.
    label : str
        What the group is called in every output.
    missing : int
        Units left out because they had no value.
    metric : str
        What was counted, for the heading of a result.
    axis : Axis, optional
        What the comparisons differ by, where the counts are arrays.
    dispersion : float, optional
        Variance of the counts per unit over their mean, where it is known: 1 in a Poisson process.
    units : int, optional
        Units that the dispersion was seen in.

    Examples
    --------
    >>> Events(30, 120.0, "short").rate
    0.25
    """

    count: Number
    exposure: Number
    label: str = ""
    missing: int = 0
    metric: str = ""
    axis: Axis | None = None
    dispersion: float | None = None
    units: int | None = None

    def __post_init__(self) -> None:
        who = f" of {self.label!r}" if self.label else ""
        gate.whole(f"count{who}", self.count)
        exposure = gate.positive(f"exposure{who}", self.exposure)
        if np.any((exposure < _LEAST) | (exposure > _MOST)):
            raise InputError(f"The exposure{who} is out of reach ({_LEAST:g} to {_MOST:g}): change its unit.")
        own_numbers(self, ("count", "exposure"))

    @property
    def rate(self) -> Number:
        """Events for each unit of exposure."""
        return scalar_or_array(np.asarray(self.count, dtype=np.float64) / self.exposure)
