"""The normal distribution."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

_ROOT_TWO_PI = np.sqrt(2.0 * np.pi)


def pdf(z: ArrayLike) -> Floats:
    """Density at z."""
    z = np.asarray(z, dtype=np.float64)
    return np.asarray(np.exp(-0.5 * z * z) / _ROOT_TWO_PI)


def cdf(z: ArrayLike) -> Floats:
    """P(Z <= z)."""
    return np.asarray(special.ndtr(z))


def sf(z: ArrayLike) -> Floats:
    """P(Z > z), without the loss of 1 - cdf."""
    return np.asarray(special.ndtr(np.negative(z)))


def quantile(p: ArrayLike) -> Floats:
    """The z with P(Z <= z) = p."""
    return np.asarray(special.ndtri(p))


def upper_quantile(q: ArrayLike) -> Floats:
    """The z with P(Z > z) = q."""
    return np.asarray(-special.ndtri(q))
