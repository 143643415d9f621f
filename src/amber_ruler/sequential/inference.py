"""What a path that was looked at says: stage-wise ordering, estimates without the bias of stopping, chances ahead."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.polynomial.hermite import hermgauss
from scipy import special

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number, nearly_straight
from amber_ruler.sequential import recursion
from amber_ruler.sequential.recursion import Density, Path, Regions

_POINTS, _WEIGHTS = hermgauss(64)


@dataclass(frozen=True, slots=True)
class Seen:
    """Where a path stopped, or stands.

    Attributes
    ----------
    path : Path
        As alpha counts on it: futility that is not binding left out.
    look : int
        The look, from 0.
    z : float
        What was seen there.
    """

    path: Path
    look: int
    z: float

    @property
    def t(self) -> float:
        """Information at the look."""
        return float(self.path.regions.fractions[self.look])

    def beyond(self, drift: float) -> tuple[float, float]:
        """Chances of an outcome at or above this one, and at or below it, in stage-wise order.

        Stopping above early is the largest outcome, stopping below early the smallest; at one look z decides
        (Tsiatis, Rosner & Mehta 1984). Having given up in the middle lies between.
        """
        path, k = self.path.near(drift), self.look
        at, gap = path.at(k, np.asarray(drift)), float(recursion.steps(path.regions.fractions)[k])
        limit, shift = self.z * math.sqrt(self.t), drift * gap**2
        found = path.chances(drift)
        gave_up = float(found.futile[:k].sum())
        return (
            float(found.above[:k].sum()) + self._share_above * gave_up + recursion.above(at, gap, limit, shift),
            float(found.below[:k].sum())
            + (1 - self._share_above) * gave_up
            + recursion.above(at.turned, gap, -limit, -shift),
        )

    @property
    def _share_above(self) -> float:
        """Which share of those that gave up before lies above: none on one side; around 0 it is beyond this."""
        regions, k = self.path.regions, self.look
        if not regions.wedge or self.z > regions.high[k]:
            return 0.0
        return 1.0 if self.z < regions.low[k] else 0.5

    def drift_with(self, chance: float) -> float:
        """The drift under which an outcome at or above this one has such a chance."""
        wanted, root = float(normal.quantile(chance)), math.sqrt(self.t)

        def miss(drift: float) -> float:
            above, below = self.beyond(drift)
            return (float(normal.quantile(above)) if above < 0.5 else float(normal.upper_quantile(below))) - wanted

        guess = (self.z + wanted) / root
        found = nearly_straight(miss, guess, root)
        if found is not None:
            return found
        least, most = guess - 1, guess + 1
        while miss(least) > 0 and least > -1e3:
            least -= 2 * (most - least)
        while miss(most) < 0 and most < 1e3:
            most += 2 * (most - least)
        return bracketed_number(miss, least, most, rtol=1e-13)

    def mean_of_estimate(self, drift: float) -> float:
        """What z/√t at the end of the test comes to on average under a drift."""
        path = self.path.near(drift)
        regions, gaps, total = path.regions, recursion.steps(path.regions.fractions), 0.0
        for k, gap in enumerate(gaps):
            at, t = path.at(k, np.asarray(drift)), float(regions.fractions[k])
            mean = at.places + drift * gap**2
            stopped = float(mean @ at.mass)
            for low, high in regions.going_on(k) if k < gaps.size - 1 else []:
                if low < high:
                    a, b = (low - mean) / gap, (high - mean) / gap
                    inside = mean * (special.ndtr(b) - special.ndtr(a)) + gap * (normal.pdf(a) - normal.pdf(b))
                    stopped -= float(inside @ at.mass)
            total += stopped / t
        return total

    def bias_adjusted(self) -> float:
        """The drift whose average estimate is the one that was seen (Whitehead 1986)."""
        seen = self.z / math.sqrt(self.t)

        def miss(drift: float) -> float:
            return self.mean_of_estimate(drift) - seen

        found = nearly_straight(miss, seen, 1.0)
        if found is not None:
            return found
        reach = 2 + abs(seen)
        return bracketed_number(miss, seen - 3 * reach, seen + 3 * reach, rtol=1e-12)


@dataclass(frozen=True, slots=True)
class Ahead:
    """The looks still to come, from what has been seen.

    Attributes
    ----------
    regions : Regions
        Of the looks to come.
    t, z : float
        Information so far, and what was seen there.
    """

    regions: Regions
    t: float
    z: float

    @property
    def _place(self) -> float:
        return self.z * math.sqrt(self.t)

    def first_crossed(self, drifts: Floats) -> Floats:
        """Chance that the upper boundary is first crossed at one of these looks."""
        start = Density(np.array([self._place]), np.ones(1))
        return recursion.walk(self.regions, start=start, begin=self.t).chances(drifts).crossed(1)

    def crossed_last(self, drifts: Floats) -> Floats:
        """Chance to be above the boundary at the last look, whatever happens before."""
        end, left = self._end
        return normal.sf((end - self._place - drifts * left) / math.sqrt(left))

    @property
    def _end(self) -> tuple[float, float]:
        last = float(self.regions.fractions[-1])
        return float(self.regions.high[-1]) * math.sqrt(last), last - self.t

    def predicted(self, prior: tuple[float, float] | None) -> tuple[float, float]:
        """Both chances averaged over what is believed of the drift now: of a flat prior, or of a normal one."""
        mean, variance = self.z / math.sqrt(self.t), 1 / self.t
        if prior is not None:
            weight = 1 / prior[1] ** 2
            mean, variance = (weight * prior[0] + self._place) / (weight + self.t), 1 / (weight + self.t)
        drifts = mean + math.sqrt(2 * variance) * _POINTS
        first = float(_WEIGHTS @ self.first_crossed(drifts)) / math.sqrt(math.pi)
        end, left = self._end
        last = float(normal.sf((end - self._place - mean * left) / math.sqrt(left + left**2 * variance)))
        return min(first, 1.0), last
