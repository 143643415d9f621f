"""The rule by which looks stop: what is kept of a plan, so that it can be applied to looks as they came."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import NamedTuple, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number, nearly_straight
from amber_ruler.results.result import HIDDEN
from amber_ruler.sequential import recursion
from amber_ruler.sequential.futility import with_futility
from amber_ruler.sequential.operating import power_at
from amber_ruler.sequential.recursion import Path, Regions
from amber_ruler.sequential.shapes import SHAPES, delta_of, shaped
from amber_ruler.sequential.spending import OWN, Name, Spending, called, parameter_of, source, spent

_GRID = 33  # error rates at which boundaries are laid out
_EXACT = 40  # looks up to which each has its own root; of more, all but the last are read off the grid


Own: TypeAlias = Callable[[Floats], Floats]


class Solved(NamedTuple):
    """Boundaries at some looks."""

    path: Path
    spent: Floats
    beta_spent: Floats | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """How looks stop, whatever their times.

    Attributes
    ----------
    sides, alpha, power : int, float, float
        Sides of the test, its error rate over all looks, and the power that futility keeps.
    spending, parameter, skip, harm : str, float or None, tuple of int, float or None
        How alpha is used up; "own" is a function of the caller's.
    shape, interim : str or None, float or None
        A classical shape instead.
    futility, futility_parameter, futility_skip, binding : str or None, float or None, tuple of int, bool
        How beta is used up, and whether alpha counts on futility being obeyed.
    own, own_futility : callable or None
        Spending functions of the caller's; they stay in memory.
    """

    sides: int = 2
    alpha: float = 0.05
    power: float = 0.8
    spending: Name = "obrien-fleming"
    parameter: float | None = None
    skip: tuple[int, ...] = ()
    harm: float | None = None
    shape: str | None = None
    interim: float | None = None
    futility: Name | None = None
    futility_parameter: float | None = None
    futility_skip: tuple[int, ...] = ()
    binding: bool = False
    own: Own | None = field(default=None, metadata=HIDDEN, compare=False)
    own_futility: Own | None = field(default=None, metadata=HIDDEN, compare=False)

    @property
    def words(self) -> str:
        """What it is called."""
        if self.shape is not None:
            return SHAPES[self.shape][0] + (f", Δ = {self.parameter:g}" if self.shape == "wang-tsiatis" else "")
        return f"{called(self.spending, self.parameter)} alpha spending"

    @property
    def futility_words(self) -> str:
        """What its futility is called."""
        if self.futility is None:
            return ""
        bound = "binding" if self.binding else "not binding"
        return f"{called(self.futility, self.futility_parameter)} futility, {bound}"

    @property
    def source(self) -> str:
        """Where it comes from."""
        return SHAPES[self.shape][1] if self.shape is not None else source(self.spending)

    def levels_of(self, z: Floats, fractions: Floats, spending: Floats, futile: Floats | None = None) -> Floats:
        """The error rates whose upper boundaries at the looks so far are |z| (z of one side); at most 1.

        Parameters
        ----------
        z : ndarray, shape (looks so far,)
        fractions, spending : ndarray
            All looks, and the share of information by which each spends: 1 at the last one, however much was seen.
        futile : ndarray, optional
            Binding futility at these looks.
        """
        sizes, count = np.abs(z) if self.sides == 2 else z, z.size
        if count <= len(self.skip) and set(range(1, count + 1)) <= set(self.skip):
            return np.ones(count)
        if self.shape == "haybittle-peto":
            return np.array([self._level_held_back(float(size), k, fractions) for k, size in enumerate(sizes)])
        if self.shape is not None:  # of one constant: the error of all looks with the constant that was seen
            profile = fractions ** (float(delta_of(self.shape, self._delta) or 0.0) - 0.5)
            return np.array(
                [self._error(float(s) / p * profile, fractions) for s, p in zip(sizes, profile[:count], strict=True)]
            )

        def boundaries(x: float, k: int) -> Floats:
            rule = replace(self, alpha=min(self.sides * float(normal.sf(x)), 1 - 1e-12), skip=self._skips(k))
            up, down = rule.used(spending[: k + 1])
            some = None if futile is None else futile[: k + 1]
            path = recursion.solved(fractions[: k + 1], up, down, some, wedge=self.sides == 2)
            return np.maximum(path.regions.high, -1e3)

        # No boundary lies below the one of a single look, so none of the roots lies above what was seen.
        least = 0.0 if self.sides == 2 else -5.0
        grid = np.linspace(least, min(max(float(sizes.max()), least + 1), 37.0), _GRID)
        table = np.array([boundaries(float(x), count - 1) for x in grid])
        found = np.ones(count)
        for k, size in enumerate(sizes.tolist()):
            above = np.flatnonzero(table[:, k] >= size)
            if k + 1 in self.skip or (above.size and above[0] == 0):
                continue
            if not above.size:
                found[k] = self.sides * float(normal.sf(grid[-1]))
                continue
            j = int(above[0])
            if count > _EXACT and k < count - 1:
                x = _between(grid, table[:, k], size, j)
            else:
                miss = partial(lambda x, k, size: float(boundaries(x, k)[k]) - size, k=k, size=size)
                x = bracketed_number(miss, float(grid[j - 1]), float(grid[j]), rtol=1e-13, steps=40)
            found[k] = min(self.sides * float(normal.sf(x)), 1.0)
        return found

    def _error(self, high: Floats, fractions: Floats) -> float:
        """Chance to cross such boundaries where there is no effect; 1 where they lie below 0."""
        if self.sides == 2 and high[0] <= 0:
            return 1.0
        return float(recursion.crossing(fractions, high, -high if self.sides == 2 else None).crossed(self.sides))

    def _level_held_back(self, size: float, k: int, fractions: Floats) -> float:
        """Of Haybittle-Peto: what the looks with the fixed boundary use up, and at the last look what is beyond z."""
        interim, last = self.interim or 3.0, k == fractions.size - 1
        high = np.full(k + 1, interim)
        if last:
            high[-1] = size
        elif size <= interim:
            return 1.0
        return self._error(high, fractions[: k + 1])

    def _skips(self, last: int) -> tuple[int, ...]:
        return tuple(k for k in self.skip if k <= last + 1)

    def _profile(self, fractions: Floats) -> Floats:
        """A classical shape at this error rate."""
        return shaped(fractions, delta_of(str(self.shape), self._delta), self.interim or 3.0, self.alpha, self.sides)

    def used(self, fractions: Floats) -> tuple[Floats, Floats]:
        """Shares of error of the upper and the lower side at each look."""
        how = self._function(self.spending, self.own)
        used = due(spent(how, fractions, self.alpha, sides=self.sides, parameter=self.parameter), self.skip, "skip")
        up = np.diff(used, prepend=0.0) / self.sides
        down = up if self.sides == 2 else np.zeros(up.size)
        if self.harm is not None:
            harmed = spent(how, fractions, self.harm, sides=1, parameter=self.parameter)
            down = np.diff(due(harmed, self.skip, "skip"), prepend=0.0)
        # A first look may get a share below any float.
        up, down = (np.where(s > 0, np.maximum(s, recursion.LEAST), 0.0) for s in (up, down))
        return up, down

    def solve(self, fractions: Floats, *, last: bool = False) -> Solved:
        """Boundaries at looks; the last of them spends all that is left if it is the last of the test."""
        whole = np.append(fractions[:-1], 1.0) if last else fractions
        path: Path | None
        if self.shape is not None:
            high = self._profile(fractions)
            path = recursion.walk(Regions(fractions, high, -high if self.sides == 2 else np.full(high.size, -np.inf)))
            found = path.chances(0.0)
            up, down = found.above, found.below
        else:
            up, down = self.used(whole)
            path = None if self._bound else recursion.solved(fractions, up, down)
        if self.futility is None and path is not None:
            return Solved(path, np.cumsum(up + down), None)
        if whole[-1] != 1:
            raise InputError("Futility meets the other boundary at all information: let the last look be at 1.")
        how = self._function(self.futility or OWN, self.own_futility)
        beta = spent(how, whole, 1 - self.power, sides=1, parameter=self.futility_parameter)
        beta = due(beta, self.futility_skip, "futility_skip")
        if fractions.size > 1 and not np.any(np.diff(beta[:-1], prepend=0.0) > 0):
            raise InputError("Futility is skipped at every look before the last: leave it out.", name="futility_skip")
        if fractions.size in self.futility_skip:
            raise InputError("At the last look futility meets the other boundary: it can't be skipped there.")
        wedge = self.sides == 2
        fixed = None if path is None else (path.regions.high, path.regions.low)
        side = self.alpha / self.sides
        found_ = with_futility(fractions, up, down, beta, fixed, wedge=wedge, alpha=side)
        regions = Regions(fractions, found_.high, found_.low, found_.futile, wedge)
        return Solved(recursion.walk(regions), np.cumsum(up + down), beta)

    @property
    def _bound(self) -> bool:
        return self.futility is not None and self.binding

    @property
    def _delta(self) -> float | None:
        return self.parameter if self.shape == "wang-tsiatis" else None

    def _function(self, name: Name, own: Own | None) -> Spending:
        if name != OWN:
            return name
        if own is None:
            raise InputError("These boundaries were read back: their own spending function was not saved with them.")
        return own


def _between(grid: Floats, bounds: Floats, size: float, j: int) -> float:
    """Where boundaries on a grid reach a size: by a cubic through the four points around."""
    near = slice(max(j - 2, 0), min(j + 2, grid.size))
    x, y = grid[near], bounds[near]
    if np.any(np.diff(y) <= 0):
        return float(np.interp(size, bounds[j - 1 : j + 1], grid[j - 1 : j + 1]))
    weights = [np.prod([(size - y[m]) / (y[k] - y[m]) for m in range(y.size) if m != k]) for k in range(y.size)]
    return float(np.clip(np.dot(weights, x), grid[j - 1], grid[j]))


def drift_for(path: Path, power: float, alpha: float, *, sides: int) -> float:
    """The drift at which a path crosses with such a chance."""
    plain = float(normal.upper_quantile(alpha / sides) + normal.quantile(power))
    goal = float(normal.quantile(power))

    def miss(drift: float) -> float:
        chance = float(power_at(path, np.asarray(drift), sides=sides))
        return float(normal.quantile(min(max(chance, 1e-300), 1 - 1e-16))) - goal

    found = nearly_straight(miss, plain, 1.0)
    if found is not None:
        return found
    low, high = max(0.0, 0.9 * plain - 0.1), 1.3 * plain + 0.2
    while miss(high) < 0 and high < 1e3:
        high *= 1.5
    while low > 0 and miss(low) > 0:
        low = low / 2 if low > 1e-6 else 0.0
    return bracketed_number(miss, low, high, rtol=1e-14)


def due(used: Floats, skip: Sequence[int], name: str) -> Floats:
    """What is used up at each look, where some spend nothing and the next spends what is due."""
    if not len(skip):
        return used
    places = {int(k) for k in gate.whole(name, list(skip), 1)}
    if max(places) > used.size or len(places) == used.size:
        raise InputError.rule(name, list(skip), f"some of the looks 1 to {used.size}, not all of them")
    found, before = used.copy(), 0.0
    for k in range(used.size):
        before = found[k] = before if k + 1 in places else used[k]
    return found


def named_spending(name: str, spending: Spending, parameter: float | None) -> tuple[Name, float | None, Own | None]:
    """A spending function as its name, its parameter, and the function where it is the caller's own."""
    value = parameter_of(spending, parameter, name)
    return (spending, value, None) if isinstance(spending, str) else (OWN, value, spending)
