"""Two-sided boundaries by recursive numerical integration."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.polynomial.legendre import leggauss

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.results import Result
from amber_ruler.sequential.spending import SPENDING, spent

_MOST_LOOKS = 200
_CLOSEST = 1e-4


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Boundaries(Result):
    """Critical values for a planned series of looks.

    Attributes
    ----------
    fractions : ndarray, shape (k,)
        Information fraction at each look, rising to 1.
    z : ndarray, shape (k,)
        Stop for a difference when abs(z) at the look is at least this.
    p : ndarray, shape (k,)
        The same as a two-sided p-value.
    spent : ndarray, shape (k,)
        Alpha used up by each look, under no difference.
    alpha : float
        Two-sided error rate over all looks.
    spending : str
        The spending function.
    """

    fractions: Floats
    z: Floats
    p: Floats
    spent: Floats
    alpha: float
    spending: str


def boundaries(
    looks: int | Sequence[float],
    *,
    alpha: float = 0.05,
    spending: Literal["obrien-fleming", "pocock"] = "obrien-fleming",
) -> Boundaries:
    """How extreme must a result be at each look, so that looking early stays honest?

    Parameters
    ----------
    looks : int or sequence of float
        A number of equally spaced looks, or rising information fractions in (0, 1] (the share of the planned
        units seen). If the last is below 1, the rest of alpha is kept for later.
    alpha : float, between 0 and 0.5
        Two-sided error rate over all looks together.
    spending : "obrien-fleming" or "pocock"
        Spend little of alpha early, or about evenly.

    Returns
    -------
    Boundaries

    Raises
    ------
    InputError
        If fractions do not rise, or leave (0, 1].

    Notes
    -----
    On the scale z sqrt(fraction) the process has independent normal increments. The density of not having stopped
    is carried from look to look by Gauss-Legendre quadrature, and each boundary solves for its share of alpha.
    It agrees with high-precision integration to better than 1e-9.

    References
    ----------
    .. [1] Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244.
    .. [2] Lan & DeMets (1983), Biometrika 70, 659-663.

    Examples
    --------
    >>> boundaries(5).z.round(4).tolist()
    [4.8769, 3.357, 2.6803, 2.2898, 2.031]
    """
    fractions = _fractions(looks)
    alpha = float(gate.between("alpha", alpha, 0, 0.5))
    gate.choice("spending", spending, SPENDING)
    used = spent(spending, fractions, alpha)
    z = _solve(fractions, np.diff(used, prepend=0.0))
    return Boundaries(
        title=f"Boundaries for {fractions.size} look{'s' if fractions.size > 1 else ''}",
        method=f"{SPENDING[spending]} alpha spending, two-sided",
        source="Lan & DeMets (1983), Biometrika 70, 659-663",
        fractions=fractions,
        z=z,
        p=2 * normal.sf(z),
        spent=used,
        alpha=alpha,
        spending=spending,
    )


def _fractions(looks: int | Sequence[float]) -> Floats:
    if np.ndim(looks) == 0:
        count = int(gate.whole("looks", looks, 1))
        if count > _MOST_LOOKS:
            raise InputError(f"looks must be 1 to {_MOST_LOOKS} looks, got {count}.")
        fractions = np.arange(1, count + 1) / count
    else:
        fractions = gate.finite("looks", looks)
    if fractions.ndim != 1 or not 1 <= fractions.size <= _MOST_LOOKS:
        raise InputError(f"looks must be 1 to {_MOST_LOOKS} looks, got {fractions.size}.")
    if fractions[0] <= 0 or fractions[-1] > 1 or np.any(np.diff(fractions) <= 0):
        raise InputError.rule("looks", fractions.tolist(), "information fractions that rise, above 0 and up to 1")
    gap = float(np.min(np.diff(fractions, prepend=0.0)))
    if gap < _CLOSEST:
        raise InputError(f"Looks must be at least {_CLOSEST:g} of the information apart, got {gap:.3g}.")
    return fractions


def _solve(fractions: Floats, shares: Floats) -> Floats:
    """Boundaries that use up `shares` of two-sided alpha, one look after the other."""
    gaps = np.sqrt(np.diff(fractions, prepend=0.0))
    # Before the first look all paths stand at 0.
    nodes, mass = np.zeros(1), np.ones(1)
    # An early look may get a share below any float: it then stops beyond z = 37 only.
    shares = np.maximum(shares, 1e-300)
    bounds = []
    for fraction, gap, share in zip(fractions, gaps, shares, strict=True):
        bound = _bound(nodes, mass, gap, share / 2)
        bounds.append(bound / np.sqrt(fraction))
        nodes, mass = _carry(nodes, mass, gap, bound)
    return np.array(bounds)


def _bound(nodes: Floats, mass: Floats, gap: float, share: float) -> float:
    """The b with P(not stopped before, now above b) = share."""

    def miss(b: Floats) -> Floats:
        crossed = np.sum(mass * normal.sf((b[..., None] - nodes) / gap), axis=-1)
        return np.asarray(np.log(np.maximum(crossed, 1e-320)) - np.log(share))

    high = np.max(nodes) + 40 * gap
    return float(bracketed_root(miss, np.array(-high), np.array(high)))


def _carry(nodes: Floats, mass: Floats, gap: float, bound: float) -> tuple[Floats, Floats]:
    """Masses at quadrature nodes of paths that stay within the boundary at this look."""
    reach = min(bound, float(np.max(nodes)) + 9 * gap)
    x, weight = _legendre(int(np.clip(32 + 6 * reach / gap, 48, 4000)))
    new = x * reach
    half = new.size // 2  # both sides are alike: the upper one is computed, and mirrored
    upper = normal.pdf((new[half:, None] - nodes) / gap) @ mass / gap
    density = np.concatenate([upper[::-1], upper])
    return new, density * weight * reach


@lru_cache(maxsize=64)
def _legendre(count: int) -> tuple[Floats, Floats]:
    """Nodes and weights of an even rule; their number is rounded up so that few rules serve many looks."""
    return leggauss(-(-count // 32) * 32)
