"""How far two independent quantities lie apart: posterior of their difference, ratio or odds ratio."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Literal, NamedTuple, TypeAlias

import numpy as np
from scipy import special

from amber_ruler.bayes.curve import Curve, log_value
from amber_ruler.bayes.posterior import NODES, WEIGHTS, Flags
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root

Join: TypeAlias = Literal["difference", "log ratio", "log odds ratio"]
# Around where the second quantity is as large as the difference, and down to where it is nothing beside it.
_KNEE = np.array([-46.0, -38.0, -30.0, -23.0, -17.0, -12.0, -8.0, -5.0, -2.5, 0.0, 2.5, 5.0, 8.0])
_NOTHING = 1e-25  # of the first quantity below the difference, so that the second need not be told near 0
_LEAST = 1e-300  # of a difference that is told from 0
_MOST = 1 - 1e-16  # of a difference of shares
_NEAR = 30.0  # of the log of a chance
_STEPS = 14
_NEWTON = 30
_MANY, _HALVINGS = 9, 30  # intervals of which the shortest is looked for, and steps from there


class Point(NamedTuple):
    """What lies below a place, above it, and there: logs of probabilities and density. Arrays of one shape."""

    log_below: Floats
    log_above: Floats
    log_density: Floats


class Quantity(ABC):
    """The posterior of one quantity, seen along a scale on which its density is smooth."""

    ends = (-np.inf, np.inf)  # of the quantity itself

    def __init__(self, mean: float | None = None, sd: float | None = None) -> None:
        self.mean, self.sd = mean, sd

    @abstractmethod
    def point(self, places: Floats) -> Point:
        """What lies on either side of places along the scale, and the density there."""

    @abstractmethod
    def places(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The places with so much probability below, and then those with so much above."""

    @abstractmethod
    def value(self, places: Floats) -> Floats:
        """The quantity itself at places."""

    @abstractmethod
    def log_slope(self, places: Floats) -> Floats:
        """Log of how fast it moves along the scale."""

    def density(self, places: Floats) -> Floats:
        """Density of the quantity itself at places along the scale."""
        with np.errstate(all="ignore"):
            return np.nan_to_num(np.exp(self._heights(places)[1]), nan=0.0, posinf=0.0)

    def mean_and_sd(self) -> tuple[Floats | None, Floats | None]:
        """Mean and standard deviation, where there are such."""
        mean, sd = (None if v is None else np.array([v]) for v in (self.mean, self.sd))
        return mean, sd

    def quantiles(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The values with so much probability below, and then those with so much above; shape (1, chances)."""
        return self.value(self.places(below, above))[None, :]

    def densest(self, level: float) -> tuple[Floats, Floats]:
        """The shortest interval with so much probability: as dense at one end as at the other, or from an end on.

        Newton's steps from the central one; where they don't settle, the shortest of many.
        """
        tail = (1 - level) / 2
        at = self.places((tail,), (tail,))
        step = 1e-3 * (at[1] - at[0])
        before, heights_before = at + step, self._heights(at + step)[1]
        for _ in range(_NEWTON):
            found, heights = self._heights(at)
            with np.errstate(all="ignore"):
                slopes = (heights - heights_before) / (at - before)
                f0, f1 = np.exp(found.log_density)
                miss = (1 - level) - float(np.exp(found.log_below[0]) + np.exp(found.log_above[1]))
                tilt = heights[1] - heights[0]
                det = f1 * slopes[0] - f0 * slopes[1]
                moves = np.array([tilt * f1 - miss * slopes[1], f0 * tilt - miss * slopes[0]]) / det
            before, heights_before = at, heights
            if not np.isfinite(moves).all() or slopes[0] <= 0 or slopes[1] >= 0:
                break
            moves *= min(1.0, 0.3 * (at[1] - at[0]) / max(float(np.max(np.abs(moves))), 1e-300))
            at = at + moves
            if np.abs(moves).sum() < 1e-7 * 1e3 * step:  # the next step's error is far smaller
                low, high = self.value(at)
                return np.array([low]), np.array([high])
        return self._from_an_end(level) or self._shortest_of_many(level)

    def _heights(self, places: Floats) -> tuple[Point, Floats]:
        found = self.point(places)
        return found, found.log_density - self.log_slope(places)

    def _from_an_end(self, level: float) -> tuple[Floats, Floats] | None:
        """From an end of what is possible, if the density falls from there on and none near it is shorter."""
        near = 1e-4 * (1 - level)
        places = self.places((near, level, level + near), (near, level, level + near))
        at_low, high, _, at_high, low, _ = self._heights(places)[1]
        from_low, first, beyond_low, from_high, last, beyond_high = self.value(places)
        if at_low >= high and at_low > low and first - self.ends[0] <= beyond_low - from_low:
            return np.array([self.ends[0]]), np.array([first])
        if at_high >= low and at_high > high and self.ends[1] - last <= from_high - beyond_high:
            return np.array([last]), np.array([self.ends[1]])
        return None

    def _shortest_of_many(self, level: float) -> tuple[Floats, Floats]:
        """The shortest of many, and of those between its neighbours that halve towards ends of one density."""
        tails = np.linspace(0, 1 - level, _MANY)
        ends = self.value(self.places((*tails[1:],), (*(1 - level - tails)[:-1],)))
        lows, highs = np.append(self.ends[0], ends[: _MANY - 1]), np.append(ends[_MANY - 1 :], self.ends[1])
        k = int(np.argmin(np.where(np.isfinite(highs - lows), highs - lows, np.inf)))
        best, first, last = (lows[k], highs[k]), tails[max(k - 1, 0)], tails[min(k + 1, _MANY - 1)]
        for _ in range(_HALVINGS):
            tail = (first + last) / 2
            at = self.places((tail,), (1 - level - tail,))
            low, high = self.value(at)
            best = min(best, (low, high), key=lambda pair: pair[1] - pair[0])
            at_low, at_high = self._heights(at)[1]
            first, last = (tail, last) if at_low < at_high else (first, tail)
        return np.array([best[0]]), np.array([best[1]])


class Single(Quantity):
    """One share, rate or mean."""

    def __init__(self, curve: Curve, *, mean: float | None = None, sd: float | None = None) -> None:
        super().__init__(mean, sd)
        self.curve, self.ends = curve, (0.0, 1.0 if curve.scale == "log odds" else np.inf)

    def point(self, places: Floats) -> Point:
        """What lies on either side of places along the scale, and the density there."""
        below, above = np.array([self.curve.log_tails(float(y)) for y in places]).T
        return Point(below, above, self.curve.log_density(places))

    def places(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The places with so much probability below, and then those with so much above."""
        return np.asarray(self.curve.row.quantiles(below, above)[0])

    def value(self, places: Floats) -> Floats:
        """The quantity itself."""
        return np.asarray(np.exp(log_value(self.curve.scale, places + self.curve.origin)[0]))

    def log_slope(self, places: Floats) -> Floats:
        """Log of how fast it moves along the scale."""
        return log_value(self.curve.scale, places + self.curve.origin)[1]


class Gap(Quantity):
    """One quantity joined to another: their difference, or a ratio along its logarithm.

    `lift`: whether a ratio is told less 1.
    """

    def __init__(
        self,
        curves: tuple[Curve, Curve],
        join: Join,
        log_chances: Floats,
        *,
        lift: bool = False,
        mean: float | None = None,
        sd: float | None = None,
    ) -> None:
        """`log_chances`: of the first to be the higher, and of the second."""
        super().__init__(mean, sd)
        self.one, self.two = curves
        self.join, self.log_chances, self.lift = join, log_chances, lift
        if join != "difference":
            self.ends = (-1.0 if lift else 0.0, np.inf)

    def point(self, places: Floats) -> Point:
        """What lies on either side of places along the scale, and the density there."""
        up = places >= 0
        points = [np.empty(places.shape) for _ in range(3)]
        for side, first, second in ((up, self.one, self.two), (~up, self.two, self.one)):
            if side.any():
                below, above, density = _beyond(first, second, self.join, np.abs(places[side]))
                points[0][side], points[1][side] = (below, above) if first is self.one else (above, below)
                points[2][side] = density
        return Point(*points)

    def chance_between(self, low: float, high: float) -> float:
        """Probability between two places, from whichever tails keep the digits."""
        found = self.point(np.array([low, high]))
        below, above = np.exp(found.log_below), np.exp(found.log_above)
        return float(max(below[1] - below[0] if below[1] < above[0] else above[0] - above[1], 0.0))

    def places(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The places with so much probability below, and then those with so much above."""
        first, second = self.log_chances
        with np.errstate(divide="ignore"):
            goals = np.log(np.array([*below, *above]))
            rest = np.log1p(-np.exp(goals))
        lower = np.arange(goals.size) < len(below)
        # Which side of 0 a quantile lies on, and its chance counted from that side's own far end.
        positive = np.where(lower, goals > second, goals < first)
        own = np.where(positive == lower, rest, goals)
        found = np.empty(goals.shape)
        for side, one, two in ((positive, self.one, self.two), (~positive, self.two, self.one)):
            if side.any():
                size = _far_quantiles(one, two, self.join, own[side])
                found[side] = size if one is self.one else -size
        return found

    def value(self, places: Floats) -> Floats:
        """The quantity itself."""
        with np.errstate(over="ignore"):
            if self.join == "difference":
                return places
            return np.asarray(np.expm1(places) if self.lift else np.exp(places))

    def log_slope(self, places: Floats) -> Floats:
        """Log of how fast it moves along the scale."""
        return np.zeros(places.shape) if self.join == "difference" else places


def _far_quantiles(one: Curve, two: Curve, join: Join, log_chance: Floats) -> Floats:
    """Differences, or logs of ratios, above 0 with such chances above them."""

    def miss(v: Floats) -> tuple[Floats, Floats]:
        below, above, density = _beyond(one, two, join, np.exp(v))
        # In the half that is the smaller, so that its log keeps the digits; both fall in v.
        small = log_chance < np.log(0.5)
        with np.errstate(divide="ignore", invalid="ignore"):
            other = np.log1p(-np.exp(log_chance))
            gap = np.where(small, above - log_chance, other - below)
            slope = -np.exp(density + v - np.where(small, above, below))
        return gap, slope

    mean, sd = _about(one, two, join)
    low, high = np.full(log_chance.shape, np.log(_LEAST)), np.full(log_chance.shape, _highest(one, join))
    start = mean - sd * special.ndtri_exp(np.minimum(log_chance, -1e-16))
    v = np.clip(np.log(np.maximum(start, 1e-3 * sd)), low + 1, high - 1e-6)
    settled = np.zeros(v.shape, dtype=bool)
    for _ in range(_STEPS):
        gap, slope = miss(v)
        gap = np.nan_to_num(gap, nan=np.inf)
        low, high = np.where(gap > 0, v, low), np.where(gap > 0, high, v)
        with np.errstate(all="ignore"):  # far out in a tail a curve is not told, and its slope no help
            moved = np.where(np.abs(gap) < _NEAR, v - gap / slope, np.nan)
        moved = np.where((moved >= low) & (moved <= high), moved, (low + high) / 2)
        settled |= np.abs(gap) < 1e-15
        v, before = np.where(settled, v, moved), v
        settled |= (np.abs(v - before) < 1e-11) | (high - low < 1e-14)
        if settled.all():
            break
    if not settled.all():  # a density with gaps or spikes: between the brackets that are left
        v = _bracketed(lambda at: miss(at)[0], v, low, high, settled)
    return np.where(v <= np.log(_LEAST) + 1e-6, 0.0, np.exp(v))


def _bracketed(falling: Callable[[Floats], Floats], v: Floats, low: Floats, high: Floats, settled: Flags) -> Floats:
    """Roots of a falling function between brackets; those that are settled stay where they are."""

    def rising(at: Floats) -> Floats:
        gap = np.clip(np.nan_to_num(-falling(at), nan=-1e300), -1e300, 1e300)
        return np.where(settled, at - v, gap)

    return bracketed_root(rising, np.where(settled, v - 1, low), np.where(settled, v + 1, high), rtol=1e-13, steps=45)


def _highest(one: Curve, join: Join) -> float:
    """Log of the largest value on the way."""
    if join == "difference" and one.scale == "log odds":
        return 0.0
    return min(float(one.edges[-1]) + one.origin + 1.0, 709.0) if join == "difference" else float(np.log(2e6))


def _about(one: Curve, two: Curve, join: Join) -> tuple[float, float]:
    """Roughly the mean and spread of what joins two curves."""
    centres = one.origin + np.array([one.centre, two.centre])
    if join == "log ratio" and one.scale == "log odds":
        rest = special.expit(-centres)  # a share's log moves by so much with its log odds
        logs = special.log_expit(centres)
        return float(logs[0] - logs[1]), float(np.hypot(*(rest * [one.width, two.width])))
    if join != "difference":
        return one.centre - two.centre, float(np.hypot(one.width, two.width))
    if one.scale == "log":
        means = np.exp(centres)
        return float(means[0] - means[1]), float(np.hypot(*(means * [one.width, two.width])))
    means = special.expit(centres)
    slopes = means * (1 - means) * [one.width, two.width]
    return float(means[0] - means[1]), float(np.hypot(*np.minimum(slopes, 0.5)))


def _beyond(one: Curve, two: Curve, join: Join, values: Floats) -> tuple[Floats, Floats, Floats]:
    """Logs of P(one joined to two is below values), above them, and the density there; values of at least 0."""
    if join == "difference" and one.scale == "log odds":
        values = np.minimum(values, _MOST)
    d = values[:, None]
    edges = np.sort(_edges(one, two, join, values), axis=1)
    half = np.diff(edges)[..., None] / 2
    z = ((edges[:, 1:] + edges[:, :-1])[..., None] / 2 + half * NODES).reshape(len(values), -1)
    with np.errstate(divide="ignore"):
        log_width = np.log(half * WEIGHTS).reshape(z.shape)
    y1, y0, log_slope, log_turn = _places(one, join, z, d)
    with np.errstate(divide="ignore", invalid="ignore"):
        log_weight = np.nan_to_num(one.log_density(y1) + log_slope + log_width, nan=-np.inf, posinf=-np.inf)
        below0, above0 = two.tails(y0)
        weight = np.exp(log_weight)
        above, below = (weight * below0).sum(axis=1), (weight * above0).sum(axis=1)
        density = np.exp(np.nan_to_num(log_weight + two.log_density(y0) + log_turn, nan=-np.inf)).sum(axis=1)
        if join == "difference":  # what is one's alone below the value
            below += one.tails(one.place(values))[0]
        return np.log(np.minimum(below, 1.0)), np.log(np.minimum(above, 1.0)), np.log(density)


def _places(one: Curve, join: Join, z: Floats, d: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """At nodes: both quantities on their scale, and logs of how fast the first moves along z, and the second with d."""
    if join == "log odds ratio" or (join == "log ratio" and one.scale == "log"):
        return z, z - d, np.zeros(z.shape), np.zeros(z.shape)
    origin = one.origin
    if join == "log ratio":  # z is the first; the second's share is its share over e^d
        log_q = special.log_expit(-z - origin)
        log_q0 = np.log(-np.expm1(-d) + np.exp(log_q - d))  # 1 - p e^-d
        return z, z - d + log_q - log_q0, np.zeros(z.shape), -log_q0
    with np.errstate(divide="ignore"):
        log_d = np.log(d)
    if one.scale == "log":  # z is the second
        y1 = np.logaddexp(log_d, z + origin) - origin
        return y1, z, z - y1, -z - origin
    log_room = np.log1p(-d)  # z: the second's share is expit(z) of the room that the difference leaves it
    log_p0 = log_room + special.log_expit(z)
    log_q0 = np.logaddexp(special.log_expit(-z), log_d + special.log_expit(z))
    log_p1, log_q1 = np.logaddexp(log_d, log_p0), log_room + special.log_expit(-z)
    log_slope = log_p0 + special.log_expit(-z) - log_p1 - log_q1
    return log_p1 - log_q1 - origin, log_p0 - log_q0 - origin, log_slope, -log_p0 - log_q0


def _edges(one: Curve, two: Curve, join: Join, values: Floats) -> Floats:
    """Panels along z, a row for each value, in which both curves are smooth."""
    d, own, other = values[:, None], one.inner_edges[None, :], two.inner_edges[None, :]
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        if join == "log odds ratio" or (join == "log ratio" and one.scale == "log"):
            found = [own + 0 * d, other + d]
        elif join == "log ratio":
            p0 = special.log_expit(other + one.origin) + d
            found = [own + 0 * d, p0 - np.log(-np.expm1(p0)) - one.origin]
        elif one.scale == "log":
            found = [np.log(np.exp(own + one.origin) - d) - one.origin, other + 0 * d]
            found += [np.log(d) + _KNEE - one.origin] if _some_below(one, values) else []
        else:
            own, other = own + one.origin, other + one.origin
            log_p0, log_q1 = special.log_expit(other), special.log_expit(-own)
            found = [np.log(special.expit(own) - d) - log_q1, log_p0 - np.log(special.expit(-other) - d)]
            found += [special.logit(d) + _KNEE] if _some_below(one, values) else []
    edges = np.concatenate(found, axis=1)
    first = np.min(np.where(np.isfinite(edges), edges, np.inf), axis=1, keepdims=True)
    return np.where(np.isfinite(edges), edges, np.where(np.isfinite(first), first, 0.0))


def _some_below(one: Curve, values: Floats) -> bool:
    """Whether the first quantity may lie below a value: the second is then told down to where it is nothing."""
    return bool(one.tails(one.place(values))[0].max() > _NOTHING)
