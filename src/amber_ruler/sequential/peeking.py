"""What looking early costs where nothing is corrected for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Result
from amber_ruler.sequential import recursion
from amber_ruler.sequential.boundaries import fractions_of, rate


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Peeking(Result):
    """The true error of looks that are each held against alpha.

    Attributes
    ----------
    fractions : ndarray, shape (k,)
        Information fraction at each look.
    error : ndarray, shape (k,)
        Chance of having claimed a difference by each look, where there is none.
    alpha : float
        What each look is held against.
    sides : int
        1 or 2.
    """

    fractions: Floats
    error: Floats
    alpha: float
    sides: int = 2


def peeking(looks: int | Sequence[float], *, sides: Literal[1, 2] = 2, alpha: float = 0.05) -> Peeking:
    """How often does a test claim a difference that is not there, if one looks early and stops at p < alpha?

    Parameters
    ----------
    looks : int or sequence of float
        A number of equally spaced looks, or rising information fractions in (0, 1].
    sides : 2 or 1
        Whether each look stops for a difference in either direction, or in one.
    alpha : float, above 0 and up to 0.5
        What the p-value of each look is held against.

    Returns
    -------
    Peeking

    References
    ----------
    .. [1] Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244.

    Examples
    --------
    >>> peeking(5).error.round(3).tolist()
    [0.05, 0.083, 0.107, 0.126, 0.142]
    """
    fractions = fractions_of(looks)
    alpha = rate("alpha", alpha)
    if sides not in (1, 2) or isinstance(sides, bool):
        raise InputError.rule("sides", sides, "1 or 2")
    high = np.full(fractions.size, float(normal.upper_quantile(alpha / sides)))
    crossed = recursion.crossing(fractions, high, -high if sides == 2 else None)
    return Peeking(
        title=f"{fractions.size} uncorrected look{'s' if fractions.size > 1 else ''}",
        method=f"each look held against {alpha:g}, {'two' if sides == 2 else 'one'}-sided",
        source="Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244",
        fractions=fractions,
        error=np.cumsum(crossed.above + crossed.below),
        alpha=alpha,
        sides=sides,
    )
