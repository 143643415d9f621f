"""Posterior distributions on a line, one a row: panels with Gauss-Legendre nodes, from which all else is read."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.polynomial import legendre
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import DataError
from amber_ruler.numeric.gate import Floats

SIZE = 16
NODES, WEIGHTS = legendre.leggauss(SIZE)
# From values at the nodes of a panel, -1..1, to the coefficients of the polynomial through them, ...
_COEFFICIENTS = (legendre.legvander(NODES, SIZE - 1) * WEIGHTS[:, None] * (np.arange(SIZE) + 0.5)).T
_LAST = _COEFFICIENTS[-2:].T  # (how much of the density it may miss)
# ... to its integral from the panel's start up to each node, and to its slope there.
TO_NODES = legendre.legvander(NODES, SIZE) @ legendre.legint(_COEFFICIENTS, lbnd=-1, axis=0)
_SLOPES = legendre.legvander(NODES, SIZE - 2) @ legendre.legder(_COEFFICIENTS, axis=0)


def _barycentric(points: Floats) -> Floats:
    return np.array([1 / np.prod(2 * (p - np.delete(points, k))) for k, p in enumerate(points)])


POINTS = np.append(-1.0, NODES)  # where an integral from the panel's start is known
NODE_WEIGHT, POINT_WEIGHT = _barycentric(NODES), _barycentric(POINTS)
_NEAR = 2.0 ** np.arange(-9, 5)
_FAR = 4.0 ** np.arange(3, 26)
_STEPS = np.arange(-40, 41) * 0.5
_FALLEN, _CLOSELY = 0.3, 4.0  # of a log density: between which a place tells how wide a peak is
_TAILS = (1 - np.cos(np.linspace(0, np.pi, 65))) / 2  # where the shortest interval is looked for
_END = 2e-3  # of what it leaves out, below which it may begin at an end

LogDensity = Callable[[Floats], Floats]
Flags = NDArray[np.bool_]


class Posterior(NamedTuple):
    """Edges of the panels, nodes, the probability at each (1 in all) and its log, and the log of what a row was before.

    Shapes are (rows, panels + 1), (rows, panels, nodes) three times, (rows,) twice; densities take nodes of that shape.
    """

    edges: Floats
    x: Floats
    mass: Floats
    log_mass: Floats
    log_total: Floats
    error: Floats  # of the total, relative to it

    @classmethod
    def of(
        cls,
        log_density: LogDensity,
        about: list[tuple[Floats, Floats]],
        *,
        cuts: list[Floats] | None = None,
        ends: tuple[ArrayLike, ArrayLike] = (-np.inf, np.inf),
        far: bool = True,
    ) -> Posterior:
        """From the logarithm of a density, not of mass 1, and centres and spreads that say where it may lie.

        Panels double away from each centre, and from each of `cuts`, between which chances may be asked; they lie close
        together around the largest value. `far`: whether a tail may fall so slowly that it needs panels far away.
        """
        low, high = (np.broadcast_to(np.asarray(end, dtype=float), about[0][0].shape)[:, None] for end in ends)
        steps = np.concatenate([_NEAR, _FAR] if far else [_NEAR, _FAR[:1]])
        both = np.concatenate([-steps[::-1], [0.0], steps])
        places = [centre[:, None] + spread[:, None] * both for centre, spread in about]
        scale = about[0][1][:, None]
        close = np.concatenate([-_NEAR[::-1], [0.0], _NEAR])
        places += [cut[:, None] + scale * close for cut in cuts or []]
        found = [e for e in (low, high) if np.isfinite(e).all()]
        edges = np.concatenate([*places, *found], axis=1)
        peak, width = _mode(log_density, edges, low, high)
        edges = np.concatenate([edges, peak + width * _STEPS], axis=1)
        edges = np.sort(np.clip(np.nan_to_num(edges, posinf=1e300, neginf=-1e300), low, high), axis=1)
        return cls.in_panels(log_density, edges)

    @classmethod
    def in_panels(cls, log_density: LogDensity, edges: Floats) -> Posterior:
        """From the logarithm of a density, in panels that are given; those of no width hold nothing.

        Edges of one row serve as many rows of densities.
        """
        half = np.diff(edges)[..., None] / 2
        x = (edges[:, 1:] + edges[:, :-1])[..., None] / 2 + half * NODES
        with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
            value = np.nan_to_num(log_density(x), nan=-np.inf, posinf=np.inf, neginf=-np.inf)
            log_mass = value + np.log(half * WEIGHTS)
        if len(log_mass) > len(edges):  # many densities in the same panels
            edges = np.broadcast_to(edges, (len(log_mass), edges.shape[1]))
            x = np.broadcast_to(x, log_mass.shape)
        top = log_mass.max(axis=(1, 2), keepdims=True)
        if not np.isfinite(top).all():
            raise DataError("Prior and data exclude each other: nothing is left that both allow.")
        mass = np.exp(log_mass - top)
        whole = mass.sum(axis=(1, 2), keepdims=True)
        missed = np.abs((mass / WEIGHTS) @ _LAST).sum(axis=(1, 2)) / whole[:, 0, 0]
        log_total = (top + np.log(whole))[:, 0, 0]
        # The log of the total is taken away in parts that keep their digits.
        return cls(edges, x, mass / whole, (log_mass - top) - np.log(whole), log_total, missed)

    @classmethod
    def stacked(cls, *parts: Posterior) -> Posterior:
        """Rows of several posteriors under each other."""
        rows, most = sum(len(part.x) for part in parts), max(part.x.shape[1] for part in parts)
        edges, x = np.empty((rows, most + 1)), np.empty((rows, most, SIZE))
        mass, log_mass = np.zeros((rows, most, SIZE)), np.full((rows, most, SIZE), -np.inf)
        at = 0
        for part in parts:  # panels of no width fill a row up
            here, size = slice(at, at + len(part.x)), part.x.shape[1]
            edges[here, : size + 1], edges[here, size + 1 :] = part.edges, part.edges[:, -1:]
            x[here, :size], x[here, size:] = part.x, part.edges[:, -1:, None]
            mass[here, :size], log_mass[here, :size] = part.mass, part.log_mass
            at = here.stop
        totals = (np.concatenate(v) for v in zip(*((part.log_total, part.error) for part in parts), strict=True))
        return cls(edges, x, mass, log_mass, *totals)

    def log_chance(self, low: ArrayLike, high: ArrayLike) -> Floats:
        """Log of the probability between two of the edges, a row each."""
        low, high = (
            np.broadcast_to(np.asarray(end, dtype=float), self.edges.shape[:1])[:, None] for end in (low, high)
        )
        inside = (self.edges[:, :-1] >= low) & (self.edges[:, 1:] <= high)
        value = np.where(inside[..., None], self.log_mass, -np.inf)
        top = value.max(axis=(1, 2), keepdims=True)
        top = np.where(np.isfinite(top), top, 0.0)
        with np.errstate(divide="ignore"):
            return np.asarray(np.minimum(top[:, 0, 0] + np.log(np.exp(value - top).sum(axis=(1, 2))), 0.0))

    def chance(self, low: ArrayLike, high: ArrayLike) -> Floats:
        """Probability between two of the edges, a row each."""
        return np.asarray(np.exp(self.log_chance(low, high)))

    def log_mean_beyond(self, side: float, edge: float = 0.0) -> Floats:
        """Log of the posterior mean of how far a value lies on one side of an edge, 0 on the other."""
        with np.errstate(divide="ignore"):
            value = self.log_mass + np.log(np.maximum(side * (self.x - edge), 0.0))
        top = np.maximum(value.max(axis=(1, 2), keepdims=True), -1e300)
        with np.errstate(divide="ignore"):
            return np.asarray(top[:, 0, 0] + np.log(np.exp(value - top).sum(axis=(1, 2))))

    def mean(self, of: Callable[[Floats], Floats] = lambda x: x) -> Floats:
        """Posterior mean of a function, a row each."""
        return np.asarray((self.mass * of(self.x)).sum(axis=(1, 2)))

    def mean_and_sd(self) -> tuple[Floats, Floats]:
        """Posterior mean and standard deviation."""
        mean = self.mean()
        return mean, np.sqrt(self.mean(lambda x: (x - mean[:, None, None]) ** 2))

    def _running(self) -> tuple[Floats, Floats]:
        """Probability below each edge, and at each node the integral from its panel's start."""
        mass = self.mass
        start = np.zeros(self.edges.shape)
        np.cumsum(mass.sum(axis=2), axis=1, out=start[:, 1:])
        return start, (mass / WEIGHTS) @ TO_NODES.T

    def quantiles(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The values with so much probability below, and then those with so much above; shape (rows, chances)."""
        mass = self.mass
        whole = mass.sum(axis=2)
        zero = np.zeros((len(whole), 1))
        start = np.concatenate([zero, np.cumsum(whole, axis=1)], axis=1)
        left = np.concatenate([np.cumsum(whole[:, ::-1], axis=1)[:, ::-1], zero], axis=1)
        goals = np.array([*below, *above])
        from_left = np.arange(goals.size) < len(below)
        count_low = (start[:, 1:, None] < goals).sum(axis=1)
        count_high = (left[:, 1:, None] >= goals).sum(axis=1)
        k = np.minimum(np.where(from_left, count_low, count_high), whole.shape[1] - 1)
        rows = np.arange(len(whole))[:, None]
        # From the panel's own end on that side from which the goal is counted.
        goal = np.where(from_left, goals - start[rows, k], whole[rows, k] - (goals - left[rows, k + 1]))
        u = _inverse(mass[rows, k] / WEIGHTS, goal)
        first, end = self.edges[rows, k], self.edges[rows, k + 1]
        return np.asarray((first + end) / 2 + (end - first) / 2 * u)

    def densest(self, level: float) -> tuple[Floats, Floats]:
        """The shortest interval with so much probability: as dense at one end as at the other, or from an end on."""
        running = self._running()
        low, high, tail = self._short(level, *running)
        at_low = at_high = np.zeros(low.shape, dtype=bool)
        if tail.min() < _END or tail.max() > 1 - _END:
            at_low, at_high = self._from_an_end(low, high, tail, *running)
        low, high = self._level(level, low, high, ~(at_low | at_high), *running)
        if at_low.any() or at_high.any():
            ends = self.quantiles((level,), (level,))
            low, high = np.where(at_low, self.edges[:, 0], low), np.where(at_low, ends[:, 0], high)
            low, high = np.where(at_high, ends[:, 1], low), np.where(at_high, self.edges[:, -1], high)
        return low, high

    def _short(self, level: float, start: Floats, inside: Floats) -> tuple[Floats, Floats, Floats]:
        """About the shortest interval, and which share of what it leaves out lies below it."""
        chances = np.concatenate([start[:, :-1, None], start[:, :-1, None] + inside], axis=2).reshape(len(start), -1)
        values = np.concatenate([self.edges[:, :-1, None], self.x], axis=2).reshape(len(start), -1)
        tails = (1 - level) * _TAILS
        found = np.empty((3, len(start)))
        for row, (chance, value) in enumerate(zip(chances, values, strict=True)):
            lows, highs = (np.interp(tails + add, chance, value) for add in (0.0, level))
            with np.errstate(invalid="ignore"):  # where nothing lies, an end is nowhere
                widths = np.nan_to_num(highs - lows, nan=np.inf, posinf=np.inf, neginf=np.inf)
            best = int(np.argmin(widths))
            found[:, row] = lows[best], highs[best], _TAILS[best]
        return found[0], found[1], found[2]

    def _from_an_end(
        self, low: Floats, high: Floats, tail: Floats, start: Floats, inside: Floats
    ) -> tuple[Flags, Flags]:
        """Whether the density falls from the lower end on, or rises up to the upper one."""
        held = np.flatnonzero(np.diff(self.edges).max(axis=0))
        ends = self.edges[:, held[0]], self.edges[:, held[-1] + 1]
        _, f, _ = self._at(np.stack([low, high, *ends], axis=1), start, inside)
        return (tail < _END) & (f[:, 2] >= f[:, 1]), (tail > 1 - _END) & (f[:, 3] >= f[:, 0])

    def _level(
        self, level: float, low: Floats, high: Floats, rows: Flags, start: Floats, inside: Floats
    ) -> tuple[Floats, Floats]:
        """Newton's steps to an interval with equal densities at its ends, in the rows that ask for one."""
        settled, span = ~rows, high - low
        for _ in range(60):
            if settled.all():
                break
            chance, f, slope = self._at(np.stack([low, high], axis=1), start, inside)
            f0, f1 = f.T
            with np.errstate(all="ignore"):
                tilt, (slope0, slope1) = np.nan_to_num(np.log(f1 / f0)), np.nan_to_num(slope / f).T
                miss = chance[:, 1] - chance[:, 0] - level
                # -f0 d0 + f1 d1 = -miss and -slope0 d0 + slope1 d1 = -tilt
                move0, move1 = tilt * f1 - miss * slope1, f0 * tilt - miss * slope0
                limit, size = 0.3 * (high - low), f1 * slope0 - f0 * slope1
                # Where it would move too far, in the same direction to the limit.
                share = limit / np.maximum(np.maximum(np.abs(move0), np.abs(move1)), np.abs(size) * limit)
                share = np.where(settled, 0.0, np.nan_to_num(share * np.sign(size)))
                move0, move1 = np.nan_to_num(share * move0), np.nan_to_num(share * move1)
            low, high = np.maximum(low + move0, self.edges[:, 0]), np.minimum(high + move1, self.edges[:, -1])
            settled = settled | (np.abs(move0) + np.abs(move1) < 1e-9 * span)  # the next step's error is its square
        return low, high

    def at(self, x: Floats) -> tuple[Floats, Floats, Floats]:
        """Probability below values of shape (rows, values), above them, and density there."""
        start, inside = self._running()
        below, density, _ = self._at(x, start, inside)
        return below, np.maximum(1 - below, 0.0), density

    def _at(self, x: Floats, start: Floats, inside: Floats) -> tuple[Floats, Floats, Floats]:
        """Probability below values of shape (rows, values), density there, and its slope."""
        rows, last = np.arange(len(x))[:, None], inside.shape[1] - 1
        k = np.minimum((self.edges[:, 1:, None] <= x[:, None, :]).sum(axis=1), last)
        empty = self.edges[rows, k + 1] <= self.edges[rows, k]  # at the upper end panels may have no width
        if empty.any():
            k = np.where(empty, np.minimum((self.edges[:, 1:, None] < x[:, None, :]).sum(axis=1), last), k)
        first, end = self.edges[rows, k], self.edges[rows, k + 1]
        half = np.maximum(end - first, 1e-100) / 2
        u = np.clip((x - first) / half - 1, -1, 1)
        value = self.mass[rows, k] / WEIGHTS
        known = np.concatenate([np.zeros((*k.shape, 1)), inside[rows, k]], axis=-1)
        f, slope = through(u, NODES, NODE_WEIGHT, value, value @ _SLOPES.T)
        (chance,) = through(u, POINTS, POINT_WEIGHT, known)
        return start[rows, k] + chance, f / half, slope / half**2


def through(u: Floats, points: Floats, weights: Floats, *values: Floats) -> list[Floats]:
    """Polynomials through values at points, at others; by the barycentric formula (Berrut & Trefethen, 2004)."""
    apart = u[..., None] - points
    terms = weights / np.where(apart == 0, 1e-30, apart)
    whole = terms.sum(axis=-1)
    return [(terms * value).sum(axis=-1) / whole for value in values]


def _inverse(value: Floats, goal: Floats) -> Floats:
    """Where in -1..1 the integral of the polynomial through `value` at the nodes reaches a goal."""
    known = np.concatenate([np.zeros((*goal.shape, 1)), value @ TO_NODES.T], axis=-1)
    k = np.clip((known[..., 1:] < goal[..., None]).sum(axis=-1), 0, SIZE)
    marks = np.append(POINTS, 1.0)
    low, high = marks[k], marks[k + 1]
    u = (low + high) / 2
    for _ in range(80):
        (reached,) = through(u, POINTS, POINT_WEIGHT, known)
        (slope,) = through(u, NODES, NODE_WEIGHT, value)
        low, high = np.where(reached < goal, u, low), np.where(reached < goal, high, u)
        with np.errstate(all="ignore"):
            moved = u - (reached - goal) / slope
        moved = np.where((moved >= low) & (moved <= high), moved, (low + high) / 2)
        small = np.abs(moved - u) < 1e-8  # the next step's error is the square
        u = moved
        if small.all():
            break
    return np.asarray(u)


def _mode(log_density: LogDensity, places: Floats, low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """Where each row's log density is largest, about, and how wide it is there."""
    x = np.sort(np.clip(np.nan_to_num(places), low, high), axis=1)
    rows = np.arange(len(x))
    for _ in range(60):
        with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
            value = np.nan_to_num(log_density(x[:, :, None])[..., 0], nan=-np.inf)
        top = value.argmax(axis=1)
        at, fall = x[rows, top][:, None], value[rows, top][:, None] - value
        # The nearest places on either side that are clearly lower, or the ends.
        left = np.where((x < at) & (fall > _FALLEN), x, x[:, :1]).max(axis=1)
        right = np.where((x > at) & (fall > _FALLEN), x, x[:, -1:]).min(axis=1)
        beyond = [np.where(x == end[:, None], fall, 0.0).max(axis=1) for end in (left, right)]
        if np.all((np.maximum(*beyond) < _CLOSELY) | (right - left <= 1e-15 * np.abs(x[rows, top]))):
            break
        x = left[:, None] + (right - left)[:, None] * np.linspace(0, 1, 17)
    return x[rows, top][:, None], np.maximum(right - left, 1e-300)[:, None] / 2
