"""Tails of a log-concave density by one quadrature, where library functions lose digits."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.numeric.gate import Floats

# Double-exponential rule for a half line (Takahasi and Mori, 1974): u = exp(v - exp(-v)).
_V = np.arange(-4.6, 5.3, 0.08)
_U = np.exp(_V - np.exp(-_V))
_WEIGHT = 0.08 * _U * (1 + np.exp(-_V))


def outward(log_density: Callable[[Floats], Floats], start: Floats, side: Floats, scale: Floats) -> Floats:
    """Integrate exp(log_density) from `start` away from the mode: up where side is 1, down where -1.

    `scale` is the length over which the density falls by a factor of about e.
    """
    w = start[..., None] + (side * scale)[..., None] * _U
    with np.errstate(over="ignore", under="ignore"):
        return np.asarray(scale * (np.exp(log_density(w)) @ _WEIGHT))
