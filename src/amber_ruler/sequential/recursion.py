"""The density of a path that has not stopped, carried from look to look.

On the scale s = z √t the path has independent normal increments with the variance t_k - t_(k-1) and, under a drift, the
mean drift (t_k - t_(k-1)). Between the limits of a look its density is kept on panels of Gauss-Legendre nodes that are
short beside the increments before and after, over the whole region and not only where the density is large: so shares
of error far below any that are planned keep their digits. A path under a drift has the density without one times
exp(drift s - drift² t / 2) (Jennison & Turnbull 2000, chapter 19): once carried, it answers for every drift.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.polynomial.legendre import leggauss
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number

LEAST = 1e-300  # a share of error below any float is none: the look then stops beyond 37 standard deviations only
_NODES, _WEIGHTS = leggauss(32)
_PANEL = 12.0  # increments' standard deviations that a panel spans
_REACH = 39.0  # standard deviations beyond which floats hold no density
_SHALLOW = 13.0  # below, where no boundary is: what lies deeper never matters for one above, to 38 digits
_MOST_DRIFT = 25.0  # up to which the density without a drift answers for one with it


class Density(NamedTuple):
    """What is left of the path: places, and the probability at each."""

    places: Floats
    mass: Floats

    @property
    def total(self) -> float:
        """The chance of not having stopped."""
        return float(self.mass.sum())

    @property
    def symmetric(self) -> bool:
        """Whether it is its own mirror image, to the last digit."""
        return np.array_equal(self.places, -self.places[::-1]) and np.array_equal(self.mass, self.mass[::-1])

    @property
    def turned(self) -> Density:
        """The mirror image."""
        return Density(-self.places[::-1], self.mass[::-1])


START = Density(np.zeros(1), np.ones(1))


def above(at: Density, gap: float, limit: float, shift: float = 0.0) -> float:
    """P(not stopped before, now above the limit)."""
    return float(special.ndtr((at.places + (shift - limit)) / gap) @ at.mass)


def limit_for(at: Density, gap: float, share: float, shift: float = 0.0) -> float:
    """The limit with P(not stopped before, now above it) = share.

    As a quantile of the normal distribution the chance is nearly a straight line in the limit: Newton's method on that
    scale takes three or four steps.
    """
    total = max(at.total, 1e-300)
    mean, mass = at.places + shift, at.mass / total
    wanted = float(special.ndtri_exp(min(math.log(max(share, LEAST) / total), -1e-16)))
    centre = float(mean @ mass)
    limit = centre - wanted * math.sqrt(gap**2 + float((mean - centre) ** 2 @ mass))
    for _ in range(25):
        away = (mean - limit) / gap
        chance = float(special.ndtr(away) @ mass)
        if not 1e-305 < chance < 1 - 1e-15:
            break
        score = float(special.ndtri(chance))
        slope = float(np.exp(-0.5 * away * away) @ mass) / gap * math.exp(0.5 * score * score)
        if not slope > 0:
            break
        step = (score - wanted) / slope
        limit += step
        if abs(step) < 1e-15 * abs(limit) + 1e-16:
            return limit
        if abs(step) < 1e-8 * gap:  # the next one would be below rounding
            return limit
    far = _REACH * gap

    def miss(limit: float) -> float:
        return math.log(max(above(at, gap, limit, shift), 1e-320)) - math.log(max(share, LEAST))

    return bracketed_number(miss, float(mean.min()) - far, float(mean.max()) + far)


def carried(
    at: Density, gap: float, low: float, high: float, following: float, shift: float = 0.0, floor: float = -np.inf
) -> Density:
    """The density of going on between two limits.

    `following` is the standard deviation of the next increment; below the `floor` lies nothing that matters.
    """
    low = max(low, float(at.places.min()) + shift - _REACH * gap, floor)
    high = min(high, float(at.places.max()) + shift + _REACH * gap)
    if low >= high:
        return Density(np.zeros(1), np.zeros(1))
    panels = max(1, int(np.ceil((high - low) / (_PANEL * min(gap, following)))))
    half = (high - low) / (2 * panels)
    alike = low == -high and shift == 0 and at.symmetric
    middles = low + half * (2 * np.arange(panels) + 1)
    places = (middles[:, None] + half * _NODES).ravel()
    asked = places[places.size // 2 :] if alike else places  # of both sides alike the upper one is mirrored
    away = (asked[:, None] - (shift + at.places)) / gap
    density = np.exp(-0.5 * away * away) @ at.mass / (gap * math.sqrt(2 * math.pi))
    if alike:
        density = np.concatenate([density[::-1], density])
    return Density(places, density * np.tile(_WEIGHTS * half, panels))


def steps(fractions: Floats, begin: float = 0.0) -> Floats:
    """Standard deviations of the increments."""
    return np.sqrt(np.diff(fractions, prepend=begin))


@dataclass(frozen=True, slots=True)
class Regions:
    """Where a path stops, on the scale of z.

    Attributes
    ----------
    fractions : ndarray, shape (k,)
        When it is looked at.
    high, low : ndarray, shape (k,)
        It stops above `high` and below `low`; infinite where it does not.
    futile : ndarray, shape (k,), optional
        It also stops from `low` up to this, or between minus this and this where `wedge` is set; minus infinity where
        it does not.
    wedge : bool
        Whether the region of futility lies in the middle.
    futile_low : ndarray, shape (k,), optional
        Then its lower end, where that is not minus the upper one.
    """

    fractions: Floats
    high: Floats
    low: Floats
    futile: Floats | None = None
    wedge: bool = False
    futile_low: Floats | None = None

    def middle(self, k: int) -> tuple[float, float]:
        """The region of futility in the middle at look k, on the scale of z."""
        high = -np.inf if self.futile is None else float(self.futile[k])
        return (-high if self.futile_low is None else float(self.futile_low[k])), high

    def going_on(self, k: int) -> list[tuple[float, float]]:
        """The pieces, on the scale of z √t, from which the path goes on after look k."""
        root = math.sqrt(self.fractions[k])
        low, high = float(self.low[k]) * root, float(self.high[k]) * root
        if self.futile is None or self.futile[k] == -np.inf:
            return [(low, high)]
        if self.wedge:
            start, end = (edge * root for edge in self.middle(k))
            return [(low, start), (end, high)]
        return [(max(float(self.futile[k]) * root, low), high)]

    def scenario(self, k: tuple[int, ...]) -> Regions:
        """One of many, where the looks are the last axis."""
        futile, start = (None if edge is None else edge[k] for edge in (self.futile, self.futile_low))
        return Regions(self.fractions, self.high[k], self.low[k], futile, self.wedge, start)

    @property
    def shallow(self) -> bool:
        """Whether there is no boundary below."""
        return not np.any(np.isfinite(self.low))

    def from_look(self, k: int) -> Regions:
        """The same from look k on."""
        futile, start = (None if edge is None else edge[k:] for edge in (self.futile, self.futile_low))
        return Regions(self.fractions[k:], self.high[k:], self.low[k:], futile, self.wedge, start)


class Chances(NamedTuple):
    """Chances of stopping at each look, above, below or for futility, and of stopping at none; drifts come first."""

    above: Floats
    below: Floats
    futile: Floats
    never: Floats

    def crossed(self, sides: int) -> Floats:
        """Chance to cross the upper boundary at any look, or either of both sides; a sum that rounds beyond 1 is 1."""
        either = self.above.sum(axis=-1) + (self.below.sum(axis=-1) if sides == 2 else 0.0)
        return np.asarray(np.minimum(either, 1.0))


def together(pieces: list[Density]) -> Density:
    """Several pieces as one density."""
    if len(pieces) == 1:
        return pieces[0]
    return Density(np.concatenate([p.places for p in pieces]), np.concatenate([p.mass for p in pieces]))


@dataclass(frozen=True, slots=True)
class Path:
    """The densities of not having stopped before each look, and after the last, under one drift.

    Attributes
    ----------
    regions : Regions
        Where it stops.
    before : tuple of Density
        One a look, and one after the last.
    begin : float
        The information at which it starts.
    drift, start : float
        The drift under which it was carried, and the place from which.
    """

    regions: Regions
    before: tuple[Density, ...]
    begin: float = 0.0
    drift: float = 0.0
    start: float = 0.0

    def near(self, drift: float) -> Path:
        """Itself, or the same carried under the drift where that is too far away for this one to answer."""
        return (
            walk(self.regions, drift, self.before[0], self.begin)
            if bool(np.any(self._far(np.asarray(drift))))
            else self
        )

    def _far(self, drifts: Floats) -> Floats:
        away = (drifts - self.drift) * math.sqrt(float(self.regions.fractions[-1]) - self.begin)
        return np.asarray((np.abs(away) > _MOST_DRIFT) | ((away < -4) & self.regions.shallow))

    def at(self, k: int, drifts: Floats) -> Density:
        """The density before look k under other drifts, a row each."""
        return self.tilted(self.before[k], self.begin if k == 0 else float(self.regions.fractions[k - 1]), drifts)

    def tilted(self, density: Density, t: float, drifts: Floats) -> Density:
        """A density at information t under other drifts, a row each."""
        more = drifts[..., None] - self.drift
        among = more * (density.places - self.start) - 0.5 * (drifts**2 - self.drift**2)[..., None] * (t - self.begin)
        return Density(density.places, density.mass * np.exp(np.minimum(among, 700.0)))

    def chances(self, drift: ArrayLike) -> Chances:
        """Chances of stopping under drifts."""
        drifts = np.asarray(drift, dtype=np.float64)
        if np.any(self._far(drifts)):
            own = [walk(self.regions, float(d), self.before[0], self.begin).chances(d) for d in drifts.ravel()]
            size = self.regions.fractions.size
            each = (np.reshape([c[i] for c in own], (*drifts.shape, *([size] if i < 3 else []))) for i in range(4))
            return Chances(*each)
        gaps = steps(self.regions.fractions, self.begin)
        up, down, between = (np.zeros((*drifts.shape, gaps.size)) for _ in range(3))
        for k, gap in enumerate(gaps):
            root, at = math.sqrt(self.regions.fractions[k]), self.at(k, drifts)
            moved = at.places + (drifts * gap**2)[..., None]
            high, low = self.regions.high[k] * root, self.regions.low[k] * root
            if np.isfinite(high):
                up[..., k] = (special.ndtr((moved - high) / gap) * at.mass).sum(axis=-1)
            if np.isfinite(low):
                down[..., k] = (special.ndtr((low - moved) / gap) * at.mass).sum(axis=-1)
            futile = -np.inf if self.regions.futile is None else self.regions.futile[k] * root
            if futile == -np.inf:
                continue
            if self.regions.wedge:
                start, end = (edge * root for edge in self.regions.middle(k))
                inside = carried(self.before[k], gap, start, end, gap, self.drift * gap**2)
                between[..., k] = self.tilted(inside, float(self.regions.fractions[k]), drifts).mass.sum(axis=-1)
            else:
                between[..., k] = (special.ndtr((futile - moved) / gap) * at.mass).sum(axis=-1) - down[..., k]
        return Chances(up, down, between, self.at(gaps.size, drifts).mass.sum(axis=-1))


def walk(regions: Regions, drift: float = 0.0, start: Density = START, begin: float = 0.0) -> Path:
    """Carry the density over all looks."""
    gaps = steps(regions.fractions, begin)
    before = [start]
    for k, gap in enumerate(gaps):
        following, shift = gaps[min(k + 1, gaps.size - 1)], drift * gap**2
        floor = -np.inf
        if regions.shallow:
            floor = lowest(float(regions.fractions[k]) - begin, drift, float(start.places.min()))
        pieces = [carried(before[-1], gap, low, high, following, shift, floor) for low, high in regions.going_on(k)]
        before.append(together(pieces))
    return Path(regions, tuple(before), begin, drift, float(start.places[0]))


def lowest(t: float, drift: float = 0.0, start: float = 0.0) -> float:
    """Where a path without a boundary below is cut, after information t."""
    return start + drift * t - _SHALLOW * math.sqrt(t)


def crossing(fractions: Floats, high: Floats, low: Floats | None = None, drift: float = 0.0) -> Chances:
    """Chances of first leaving (low, high), on the scale of z, at each look."""
    floor = np.full(fractions.size, -np.inf) if low is None else low
    return walk(Regions(fractions, high, floor), drift).chances(drift)


def solved(fractions: Floats, up: Floats, down: Floats, futile: Floats | None = None, *, wedge: bool = False) -> Path:
    """The path whose looks use up these shares of error above and below; boundaries are infinite where a share is 0.

    Futility, where it is given, is obeyed. Where less is left than the share, the boundary is minus infinity.
    """
    gaps, roots = steps(fractions), np.sqrt(fractions)
    alike, shallow = np.array_equal(up, down), not np.any(down > 0)
    high, low = np.full(fractions.size, np.inf), np.full(fractions.size, -np.inf)
    regions = Regions(fractions, high, low, futile, wedge)
    before = [START]
    for k, gap in enumerate(gaps):
        at = before[-1]
        if up[k] > 0:
            high[k] = limit_for(at, gap, float(up[k])) / roots[k] if at.total > up[k] else -np.inf
        if down[k] > 0:
            low[k] = -high[k] if alike else -limit_for(at.turned, gap, float(down[k])) / roots[k]
        floor = lowest(float(fractions[k])) if shallow else -np.inf
        following = gaps[min(k + 1, gaps.size - 1)]
        pieces = [carried(at, gap, a, b, following, floor=floor) for a, b in regions.going_on(k)]
        before.append(together(pieces))
    return Path(regions, tuple(before))
