"""Spending functions: how much of alpha may be used by a share of the information."""

from __future__ import annotations

import numpy as np

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats

SPENDING = {
    "obrien-fleming": "O'Brien–Fleming-like",
    "pocock": "Pocock-like",
}


def spent(name: str, fractions: Floats, alpha: float) -> Floats:
    """Two-sided alpha used up by each information fraction.

    References
    ----------
    .. [1] Lan & DeMets (1983), Biometrika 70, 659-663.
    """
    if name == "obrien-fleming":
        # Each side spends 2 (1 - Phi(z / sqrt t)) of its alpha / 2, with z the upper alpha / 4 point.
        return 4 * normal.sf(normal.upper_quantile(alpha / 4) / np.sqrt(fractions))
    return alpha * np.log1p((np.e - 1) * fractions)
