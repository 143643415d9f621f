"""Posteriors of quantities that can't be negative: shares on the log-odds scale, rates and means on the log scale.

On those scales every such density is smooth, however few or many the data, and its tails fall exponentially.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple, TypeAlias

import numpy as np
from scipy import special

from amber_ruler.bayes.posterior import NODE_WEIGHT, NODES, POINT_WEIGHT, POINTS, TO_NODES, WEIGHTS, Posterior, through
from amber_ruler.numeric import beta
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.stirling import expm1_less

Scale: TypeAlias = Literal["log odds", "log"]
# How far the log of a density has fallen from its largest value at the edges of panels.
_FALLS = np.array([0.7, 3.5, 8.0, 14.0, 21.0, 28.0, 35.0, 42.0, 50.0, 58.0, 66.0, 74.0])
_BEND = np.concatenate([-(2.0 ** np.arange(6, -1, -1)), [0.0], 2.0 ** np.arange(7)])
_OUTWARDS = np.append(0.0, 2.0 ** np.arange(-4, 13.0))  # in units of how fast a density falls
_TOLD = 46.0
_SEARCH = 7
_STEEPEST = 6.0  # change of a log density over a panel in which it is told by a polynomial
_MOST_PIECES = 40
_WIDEST = 3.0  # panel on either scale where something of the quantity itself is summed up
_SEEN = 745.0  # on either scale, beyond which a quantity is 0 in floats


class Curve(NamedTuple):
    """A density on a scale, its highest place, and its panels with what lies below and above each edge.

    Places are counted from an origin on the scale, so that those of two close curves keep their digits. `log_density`
    has mass 1; `centre`, `width`: where it is highest, and how wide it is there.
    """

    scale: Scale
    origin: float
    log_density: Callable[[Floats], Floats]
    centre: float
    width: float
    edges: Floats
    below: Floats  # at each edge
    above: Floats
    inside: Floats  # from each panel's start to there, at the start and at its nodes
    row: Posterior

    @property
    def inner_edges(self) -> Floats:
        """Those between which there is all that floats tell from 1."""
        log_density = self.log_density(self.edges)
        return np.asarray(self.edges[log_density > log_density.max() - _TOLD])

    @classmethod
    def of(
        cls,
        scale: Scale,
        log_density: Callable[[Floats], Floats],
        centre: float,
        width: float,
        origin: float = 0.0,
    ) -> Curve:
        """From the log of a density of any mass with one peak."""
        edges = edges_by_fall(log_density, centre, width)
        if scale == "log odds" and width > 1:  # log(1 + e^y) bends within a few units of 0, whatever the width
            bend = _BEND - origin
            edges = np.unique(np.append(edges, bend[(edges[0] < bend) & (edges[-1] > bend)]))
        row = Posterior.in_panels(log_density, edges[None, :])
        total, mass = float(row.log_total[0]), row.mass[0]
        whole = mass.sum(axis=1)
        below, above = np.append(0.0, np.cumsum(whole)), np.append(np.cumsum(whole[::-1])[::-1], 0.0)
        inside = np.concatenate([np.zeros((whole.size, 1)), (mass / WEIGHTS) @ TO_NODES.T], axis=1)
        return cls(scale, origin, lambda y: log_density(y) - total, centre, width, edges, below, above, inside, row)

    def log_tails(self, y: float) -> tuple[float, float]:
        """Logs of the probabilities below and above one place, however far out it lies."""
        step = 1e-4 * self.width
        before, here, after = self.log_density(y + step * np.array([-1.0, 0.0, 1.0]))
        if not np.isfinite(here):
            return (-np.inf, 0.0) if y < 0 else (0.0, -np.inf)
        side = 1.0 if y > 0 else -1.0  # its peak lies at about the origin, or between
        side = np.sign(before - after) or side  # outwards, where the density falls
        scale = 1 / max(abs(after - before) / (2 * step), 1 / self.width)
        edges = np.sort(y + side * scale * _OUTWARDS)
        far = float(Posterior.in_panels(self.log_density, edges[None, :]).log_total[0])
        rest = float(np.log(-np.expm1(min(far, -1e-17))))
        return (rest, far) if side > 0 else (far, rest)

    def place(self, values: Floats) -> Floats:
        """Where values lie on the curve's scale, from its origin."""
        with np.errstate(divide="ignore"):
            return np.asarray((special.logit(values) if self.scale == "log odds" else np.log(values)) - self.origin)

    def tabulated(self) -> Curve:
        """The same with its log density read off the panels: where it is dear to compute."""
        log_mass, half = self.row.log_mass[0], np.diff(self.edges)[:, None] / 2
        table = np.maximum(log_mass - np.log(half * WEIGHTS), -1e4)

        def log_density(y: Floats) -> Floats:
            y = np.asarray(y, dtype=float)
            k = np.clip(np.searchsorted(self.edges, y, side="right") - 1, 0, len(table) - 1)
            first, end = self.edges[k], self.edges[k + 1]
            (found,) = through(np.clip(2 * (y - first) / (end - first) - 1, -1, 1), NODES, NODE_WEIGHT, table[k])
            return np.where((y < self.edges[0]) | (y > self.edges[-1]), -np.inf, found)

        return self._replace(log_density=log_density)

    def tails(self, y: Floats) -> tuple[Floats, Floats]:
        """Probabilities below and above values, each as exact as the other."""
        last = self.edges.size - 2
        k = np.clip(np.searchsorted(self.edges, y, side="right") - 1, 0, last)
        first, end = self.edges[k], self.edges[k + 1]
        (part,) = through(np.clip(2 * (y - first) / (end - first) - 1, -1, 1), POINTS, POINT_WEIGHT, self.inside[k])
        rest = np.where(self.below[k + 1] < 0.5, self.below[k + 1] - self.below[k], self.above[k] - self.above[k + 1])
        return np.maximum(self.below[k] + part, 0.0), np.maximum(self.above[k + 1] + rest - part, 0.0)


def share(a: float, b: float, beside: tuple[float, float] | None = None) -> Curve:
    """A share with a beta distribution, on the log-odds scale; its origin is its own mean, or that of another one."""
    n, mean, side = a + b, min(a, b) / (a + b), 1.0 if a <= b else -1.0  # of what is the rarer
    first, second = beside or (a, b)
    centre = _log_ratio(a, first) - _log_ratio(b, second)
    width = float(np.sqrt(1 / a + 1 / b))
    origin = float(np.log(first / second))
    return Curve.of("log odds", lambda y: -n * beta.divergence(mean, side * (y - centre)), centre, width, origin)


def rate(a: float, b: float, beside: tuple[float, float] | None = None) -> Curve:
    """A rate with a gamma distribution (shape, inverse scale), on the log scale; its origin likewise."""
    first, second = beside or (a, b)
    centre = _log_ratio(a, first) - _log_ratio(b, second)
    return Curve.of(
        "log", lambda y: -a * expm1_less(y - centre), centre, float(np.sqrt(1 / a)), float(np.log(first / second))
    )


def narrowest(*known: tuple[float, float]) -> tuple[float, float]:
    """Of the parameters of several shares those that are best known: from their mean places keep the most digits."""
    return min(known, key=lambda ab: (1 / ab[0] + 1 / ab[1], *ab))


def _log_ratio(x: float, y: float) -> float:
    """log(x / y), with its digits where the two are close."""
    return float(np.log1p((x - y) / y)) if abs(x - y) < 0.5 * y else float(np.log(x / y))


def log_value(scale: Scale, y: Floats) -> tuple[Floats, Floats]:
    """Log of the quantity, and of its slope along the scale."""
    if scale == "log":
        return y, y
    return special.log_expit(y), special.log_expit(y) + special.log_expit(-y)


def edges_by_fall(log_density: Callable[[Floats], Floats], centre: float, width: float) -> Floats:
    """Where a log density with one peak has fallen by certain amounts, about, on either side of it."""
    top = float(log_density(np.array([centre]))[0])
    goal, sides = np.log(_FALLS), np.array([[-1.0], [1.0]])
    x = np.broadcast_to(np.log(2 * _FALLS) / 2, (2, _FALLS.size))
    slope, before = np.full(x.shape, 2.0), None
    with np.errstate(all="ignore"):
        for _ in range(_SEARCH):  # Newton's steps in logs of distance and fall
            fallen = np.log(np.clip(top - log_density(centre + sides * width * np.exp(x)), 1e-6, 1e9))
            if before is not None:
                slope = np.clip(np.nan_to_num((fallen - before[1]) / (x - before[0]), nan=2.0), 1.0, 60.0)
            before = x, fallen
            x = x + np.clip((goal - fallen) / slope, -3.0, 3.0)
    return np.unique(np.append(centre + sides * width * np.exp(x), centre))


def _edges_at_crossing(one: Curve, two: Curve) -> Floats:
    """Edges around where the product of two densities is highest: it is there that one may lie beyond the other."""

    def log_density(y: Floats) -> Floats:
        return one.log_density(y) + two.log_density(y)

    low, high = sorted((one.centre, two.centre))
    for _ in range(60):
        y = np.linspace(low, high, 17)
        k = int(np.argmax(log_density(y)))
        low, high = y[max(k - 1, 0)], y[min(k + 1, 16)]
        if high - low < 1e-2 * min(one.width, two.width):
            break
    centre = (low + high) / 2
    step = 1e-2 * min(one.width, two.width)
    left, middle, right = log_density(np.array([centre - step, centre, centre + step]))
    bend = max((2 * middle - left - right) / step**2, 1e-12)
    edges = edges_by_fall(log_density, centre, float(1 / np.sqrt(bend)))
    # Far from both each is steep, though the product is not.
    steep = np.maximum(*(np.abs(np.diff(c.log_density(edges))) for c in (one, two))) / _STEEPEST
    pieces = np.clip(np.ceil(np.nan_to_num(steep, posinf=_MOST_PIECES)), 1, _MOST_PIECES).astype(int)
    parts = [np.linspace(a, b, k, endpoint=False) for a, b, k in zip(edges[:-1], edges[1:], pieces, strict=True)]
    return np.append(np.concatenate(parts), edges[-1])


class Line(NamedTuple):
    """Several curves at the same nodes: logs of their densities and of what lies below and above, shape (k, nodes)."""

    scale: Scale
    origin: float
    y: Floats
    log_width: Floats
    log_density: Floats
    log_below: Floats
    log_above: Floats

    @classmethod
    def of(cls, curves: list[Curve]) -> Line:
        """Panels where any of them, or any two at once, have something to say."""
        if len({c.origin for c in curves}) > 1:
            raise ValueError("Curves on one line count their places from one origin.")
        best = max(curves, key=lambda c: c.centre)
        worst = min(curves, key=lambda c: c.centre)
        pairs = {(id(c), id(end)): (c, end) for c in curves for end in (best, worst) if c is not end}
        edges = [c.edges for c in curves]
        edges += [_edges_at_crossing(one, two) for one, two in pairs.values()]
        every = np.unique(np.concatenate(edges))
        origin = curves[0].origin
        low, high = max(every[0], -_SEEN - origin), min(every[-1], _SEEN - origin)
        more = np.linspace(low, high, int((high - low) / _WIDEST) + 2) if high > low else every[:1]
        every = np.unique(np.concatenate([every, more]))
        half = np.diff(every)[:, None] / 2
        y = (every[1:] + every[:-1])[:, None] / 2 + half * NODES
        log_width = np.log(half * WEIGHTS)
        log_density = np.stack([c.log_density(y) for c in curves])
        value = log_density + log_width
        top = np.maximum(value.max(axis=-1), -1e300)
        with np.errstate(divide="ignore"):
            whole = top + np.log(np.exp(value - top[..., None]).sum(axis=-1))
        nothing = np.full((len(curves), 1), -np.inf)
        start = np.concatenate([nothing, np.logaddexp.accumulate(whole, axis=1)[:, :-1]], axis=1)
        rest = np.concatenate([np.logaddexp.accumulate(whole[:, ::-1], axis=1)[:, ::-1][:, 1:], nothing], axis=1)
        scaled = np.exp(value - top[..., None]) / WEIGHTS
        with np.errstate(divide="ignore"):
            inside = np.log(np.maximum(scaled @ TO_NODES.T, 0.0)) + top[..., None]
            outside = np.log(np.maximum(scaled[..., ::-1] @ TO_NODES.T, 0.0))[..., ::-1] + top[..., None]
        below, above = np.logaddexp(start[..., None], inside), np.logaddexp(rest[..., None], outside)
        flat = (len(curves), -1)
        return cls(
            curves[0].scale,
            origin,
            y.ravel(),
            log_width.ravel(),
            log_density.reshape(flat),
            np.minimum(below, 0.0).reshape(flat),
            np.minimum(above, 0.0).reshape(flat),
        )

    def log_chance_highest(self) -> Floats:
        """Log of each one's chance to be the highest."""
        return self._log_sum(self.log_density + _without(self.log_below))

    def log_chance_lowest(self) -> Floats:
        """Log of each one's chance to be the lowest."""
        return self._log_sum(self.log_density + _without(self.log_above))

    def log_loss(self, *, lowest: bool = False) -> Floats:
        """Log of how far each lies below the highest on average, or above the lowest: in the quantity's own unit."""
        _, slope = log_value(self.scale, self.y + self.origin)
        own, others = (self.log_above, self.log_below) if lowest else (self.log_below, self.log_above)
        # Some other lies beyond a value that this one does not reach.
        none = np.log1p(-np.exp(np.minimum(others, -1e-16)))
        rest = _without(none)
        with np.errstate(divide="ignore"):
            some = np.log(-np.expm1(np.minimum(rest, 0.0)))
        if len(own) == 2:
            some = others[::-1]
        return self._log_sum(own + some + slope)

    def _log_sum(self, log_value: Floats) -> Floats:
        value = log_value + self.log_width
        top = np.maximum(value.max(axis=-1), -1e300)
        return np.asarray(top + np.log(np.exp(value - top[:, None]).sum(axis=-1)))


def _without(each: Floats) -> Floats:
    """Sums over all but one, for each one; minus infinities count as such."""
    finite = np.isfinite(each)
    lost = (~finite).sum(axis=0) - ~finite
    with np.errstate(invalid="ignore"):
        known = np.where(finite, each, 0.0)
        return np.where(lost > 0, -np.inf, known.sum(axis=0) - known)
