"""The density of a path that has not stopped, carried from look to look.

On the scale s = z √t the path has independent normal increments with the variance t_k - t_(k-1) and, under a drift, the
mean drift (t_k - t_(k-1)). Between the limits of a look its density is kept on panels of Gauss-Legendre nodes that are
short beside the increments before and after, over the whole region and not only where the density is large: so shares
of error far below any that are planned keep their digits.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.polynomial.legendre import leggauss

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root

LEAST = 1e-300  # a share of error below any float is none: the look then stops beyond 37 standard deviations only
_NODES, _WEIGHTS = leggauss(32)
_PANEL = 12.0  # increments' standard deviations that a panel spans
_REACH = 39.0  # standard deviations beyond which floats hold no density


class Density(NamedTuple):
    """What is left of the path: places, and the probability at each."""

    places: Floats
    mass: Floats

    @property
    def total(self) -> float:
        """The chance of not having stopped."""
        return float(self.mass.sum())

    @property
    def turned(self) -> Density:
        """The mirror image."""
        return Density(-self.places[::-1], self.mass[::-1])


START = Density(np.zeros(1), np.ones(1))


class Crossed(NamedTuple):
    """Chances of first crossing at each look, above and below, and of neither at any."""

    above: Floats
    below: Floats
    never: float


def above(at: Density, gap: float, limit: Floats | float, shift: float = 0.0) -> Floats:
    """P(not stopped before, now above the limit)."""
    away = (np.asarray(limit)[..., None] - shift - at.places) / gap
    return np.asarray((normal.sf(away) * at.mass).sum(axis=-1))


def below(at: Density, gap: float, limit: Floats | float, shift: float = 0.0) -> Floats:
    """P(not stopped before, now below the limit)."""
    away = (at.places + shift - np.asarray(limit)[..., None]) / gap
    return np.asarray((normal.sf(away) * at.mass).sum(axis=-1))


def limit_for(at: Density, gap: float, share: float) -> float:
    """The limit with P(not stopped before, now above it) = share, under no drift."""
    wanted = np.log(max(share, LEAST))

    def miss(limit: Floats) -> Floats:
        return np.asarray(np.log(np.maximum(above(at, gap, limit), 1e-320)) - wanted)

    far = _REACH * gap
    return float(bracketed_root(miss, np.asarray(at.places.min() - far), np.asarray(at.places.max() + far)))


def carried(at: Density, gap: float, low: float, high: float, following: float, shift: float = 0.0) -> Density:
    """The density of going on between two limits; `following` is the standard deviation of the next increment."""
    low = max(low, float(at.places.min()) + shift - _REACH * gap)
    high = min(high, float(at.places.max()) + shift + _REACH * gap)
    if low >= high:
        return Density(np.zeros(1), np.zeros(1))
    panels = max(1, int(np.ceil((high - low) / (_PANEL * min(gap, following)))))
    half = (high - low) / (2 * panels)
    alike = low == -high and shift == 0 and np.array_equal(at.places, -at.places[::-1])
    middles = low + half * (2 * np.arange(panels) + 1)
    places = (middles[:, None] + half * _NODES).ravel()
    asked = places[places.size // 2 :] if alike else places  # of both sides alike the upper one is mirrored
    away = (asked[:, None] - (shift + at.places)) / gap
    density = np.exp(-0.5 * away * away) @ at.mass / (gap * np.sqrt(2 * np.pi))
    if alike:
        density = np.concatenate([density[::-1], density])
    return Density(places, density * np.tile(_WEIGHTS * half, panels))


def steps(fractions: Floats) -> Floats:
    """Standard deviations of the increments."""
    return np.sqrt(np.diff(fractions, prepend=0.0))


def crossing(fractions: Floats, high: Floats, low: Floats | None = None, drift: float = 0.0) -> Crossed:
    """Chances of first leaving (low, high), on the scale of z, at each look."""
    gaps = steps(fractions)
    roots = np.sqrt(fractions)
    floor = np.full(fractions.size, -np.inf) if low is None else low
    up, down = np.zeros(fractions.size), np.zeros(fractions.size)
    at = START
    for k, gap in enumerate(gaps):
        shift = drift * gap**2
        top, bottom = high[k] * roots[k], floor[k] * roots[k]
        up[k] = above(at, gap, top, shift) if np.isfinite(top) else 0.0
        down[k] = below(at, gap, bottom, shift) if np.isfinite(bottom) else 0.0
        at = carried(at, gap, bottom, top, gaps[min(k + 1, gaps.size - 1)], shift)
    return Crossed(up, down, at.total)


def solved(fractions: Floats, up: Floats, down: Floats) -> tuple[Floats, Floats]:
    """Upper and lower boundaries of z whose looks use up these shares of error; infinite where a share is 0."""
    gaps, roots = steps(fractions), np.sqrt(fractions)
    alike = np.array_equal(up, down)
    at = START
    high, low = np.full(fractions.size, np.inf), np.full(fractions.size, -np.inf)
    for k, gap in enumerate(gaps):
        top = limit_for(at, gap, float(up[k])) if up[k] > 0 else np.inf
        bottom = -top if alike else (-limit_for(at.turned, gap, float(down[k])) if down[k] > 0 else -np.inf)
        high[k], low[k] = top / roots[k], bottom / roots[k]
        at = carried(at, gap, bottom, top, gaps[min(k + 1, gaps.size - 1)])
    return high, low
