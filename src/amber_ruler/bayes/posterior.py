"""A posterior distribution on a line: panels with Gauss-Legendre nodes, from which everything else is read."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.polynomial import legendre

from amber_ruler.errors import DataError
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root

_SIZE = 16
_NODES, _WEIGHTS = legendre.leggauss(_SIZE)
# From values at the nodes of a panel to their integral from the panel's start, as a polynomial on -1..1.
_INTEGRALS = legendre.legint(
    (legendre.legvander(_NODES, _SIZE - 1) * _WEIGHTS[:, None] * (np.arange(_SIZE) + 0.5)).T, lbnd=-1, axis=0
)
_DOUBLINGS = 2.0 ** np.arange(-6, 60)
_STEPS = np.arange(-40, 41) * 0.5


class Posterior(NamedTuple):
    """Nodes in panels, the probability at each (1 in all), the log of what the whole was before, and its error."""

    edges: Floats
    x: Floats  # shape (panels, nodes)
    mass: Floats
    log_total: float
    error: float

    @classmethod
    def of(
        cls,
        log_density: Callable[[Floats], Floats],
        about: list[tuple[float, float]],
        ends: tuple[float, float],
    ) -> Posterior:
        """From the logarithm of a density, not of mass 1, and centres and spreads that say where it may lie.

        Panels double away from each centre, and lie close together around the largest value.
        """
        edges = np.concatenate([c + s * np.concatenate([-_DOUBLINGS, [0.0], _DOUBLINGS]) for c, s in about])
        peak, width = _mode(log_density, edges, ends)
        edges = np.concatenate([edges, peak + width * _STEPS, [e for e in ends if np.isfinite(e)]])
        edges = np.unique(edges[(edges >= ends[0]) & (edges <= ends[1]) & np.isfinite(edges)])
        fine, log_total = _integrated(log_density, edges)
        middle = np.sort(np.concatenate([edges, (edges[1:] + edges[:-1]) / 2]))
        _, finer = _integrated(log_density, middle)
        if not np.isfinite(log_total):
            raise DataError("Prior and data exclude each other: nothing is left that both allow.")
        x, mass = fine
        return cls(edges, x, mass, log_total, abs(float(np.expm1(finer - log_total))))

    def chance(self, low: float, high: float) -> float:
        """Probability between two values."""
        whole = self.mass.sum(axis=1)
        inside = (self.edges[:-1] >= low) & (self.edges[1:] <= high)
        found = float(whole[inside].sum())
        for k in np.flatnonzero(~inside & (self.edges[1:] > low) & (self.edges[:-1] < high)):
            found += self._of_panel(int(k), low, high)
        return found

    def _of_panel(self, k: int, low: float, high: float) -> float:
        start, end = self.edges[k], self.edges[k + 1]
        inside = _INTEGRALS @ (self.mass[k] / _WEIGHTS)
        u = (2 * np.clip([low, high], start, end) - start - end) / (end - start)
        below, above = legendre.legval(u, inside)
        return max(float(above - below), 0.0)

    def quantile(self, chance: float) -> float:
        """The value below which there is so much probability."""
        return quantile_in_panels(self.edges, self.mass, chance, _INTEGRALS, _WEIGHTS)

    def mean(self, of: Callable[[Floats], Floats] = lambda x: x) -> float:
        """Posterior mean of a function."""
        return float(np.sum(self.mass * of(self.x)))

    def densest(self, level: float, log_density: Callable[[Floats], Floats]) -> tuple[float, float]:
        """The shortest interval with so much probability: as dense at one end as at the other, or from an end on."""

        def tilt(tail: Floats) -> Floats:
            low, high = (np.array([self.quantile(float(t) + add)]) for t in np.ravel(tail) for add in (0.0, level))
            return np.asarray(log_density(low) - log_density(high)).reshape(np.shape(tail))

        tiny = 1e-12 * (1 - level)
        if tilt(np.array(tiny)) >= 0:
            return float(self.edges[0]), self.quantile(level)
        if tilt(np.array(1 - level - tiny)) <= 0:
            return self.quantile(1 - level), float(self.edges[-1])
        tail = float(bracketed_root(tilt, np.array(tiny), np.array(1 - level - tiny)))
        return self.quantile(tail), self.quantile(tail + level)


def quantile_in_panels(edges: Floats, mass: Floats, chance: float, integrals: Any, weights: Any) -> float:
    """The value below which nodes in panels have so much mass; `integrals` and `weights` are those of the nodes."""
    below = np.concatenate([[0.0], np.cumsum(mass.sum(axis=1))])
    k = int(np.clip(np.searchsorted(below, chance) - 1, 0, len(mass) - 1))
    inside = integrals @ (mass[k] / weights)
    u = bracketed_root(
        lambda u: np.asarray(below[k] + legendre.legval(u, inside) - chance), np.array(-1.0), np.array(1.0)
    )
    start, end = edges[k], edges[k + 1]
    return float((start + end) / 2 + (end - start) / 2 * u)


def _mode(log_density: Callable[[Floats], Floats], places: Floats, ends: tuple[float, float]) -> tuple[float, float]:
    """Where a log density is largest, about, and how wide it is there."""
    x = np.unique(np.clip(places[np.isfinite(places)], *ends))
    for _ in range(60):
        with np.errstate(over="ignore", invalid="ignore"):
            value = np.nan_to_num(log_density(x), nan=-np.inf)
        top = int(np.argmax(value))
        low, high = x[max(top - 1, 0)], x[min(top + 1, x.size - 1)]
        near = value[np.isfinite(value)]
        if near.size > 2 and value[top] - min(value[max(top - 1, 0)], value[min(top + 1, x.size - 1)]) < 0.3:
            break
        x = np.linspace(low, high, 9)
    return float(x[top]), float(max(high - low, 1e-300)) * 2


def _integrated(log_density: Callable[[Floats], Floats], edges: Floats) -> tuple[tuple[Floats, Floats], float]:
    half = np.diff(edges)[:, None] / 2
    x = (edges[1:] + edges[:-1])[:, None] / 2 + half * _NODES
    with np.errstate(over="ignore", divide="ignore"):
        value = log_density(x) + np.log(half * _WEIGHTS)
    top = float(np.max(value))
    if not np.isfinite(top):
        return (x, np.zeros(x.shape)), -np.inf
    mass = np.exp(value - top)
    total = float(mass.sum())
    return (x, mass / total), top + float(np.log(total))
