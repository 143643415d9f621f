"""Prior distributions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats

__all__ = ["Beta", "Cauchy"]


@dataclass(frozen=True, slots=True)
class Cauchy:
    """Cauchy distribution around 0: half of the effects lie within `scale`."""

    scale: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("scale", self.scale)

    def pdf(self, x: Floats) -> Floats:
        """Density at x."""
        return np.asarray(self.scale / (np.pi * (self.scale**2 + x * x)))

    def __str__(self) -> str:
        return f"Cauchy, scale {self.scale:.3g}"


@dataclass(frozen=True, slots=True)
class Beta:
    """Beta distribution of a share: worth `successes` and `failures` seen beforehand."""

    successes: float = 1.0
    failures: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("successes", self.successes)
        gate.positive("failures", self.failures)

    def __str__(self) -> str:
        return f"Beta({self.successes:g}, {self.failures:g})"
