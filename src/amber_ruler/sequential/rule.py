"""The rule by which looks stop: what is kept of a plan, so that it can be applied to looks as they came."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

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
from amber_ruler.sequential.spending import OWN, Spending, called, parameter_of, source, spent


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
    spending: str = "obrien-fleming"
    parameter: float | None = None
    skip: tuple[int, ...] = ()
    harm: float | None = None
    shape: str | None = None
    interim: float | None = None
    futility: str | None = None
    futility_parameter: float | None = None
    futility_skip: tuple[int, ...] = ()
    binding: bool = False
    own: Callable[[Floats], Floats] | None = field(default=None, metadata=HIDDEN, compare=False)
    own_futility: Callable[[Floats], Floats] | None = field(default=None, metadata=HIDDEN, compare=False)

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

    def level_of(self, z: float, k: int, fractions: Floats, spending: Floats, futile: Floats | None = None) -> float:
        """The error rate whose upper boundary at look k is |z| (z of one side); at most 1.

        Parameters
        ----------
        z, k : float, int
            What was seen, and the look from 0.
        fractions, spending : ndarray
            All looks, and the share of information by which each spends: 1 at the last one, however much was seen.
        futile : ndarray, optional
            Binding futility at these looks.
        """
        size = abs(z) if self.sides == 2 else z
        if k + 1 in self.skip:
            return 1.0
        if self.shape == "haybittle-peto":
            return self._level_held_back(size, k, fractions)

        def miss(x: float) -> float:
            rule = replace(self, alpha=min(self.sides * float(normal.sf(x)), 1 - 1e-12), skip=self._skips(k))
            if self.shape is not None:
                return float(rule._profile(fractions)[k]) - size
            up, down = rule.used(spending[: k + 1])
            some = None if futile is None else futile[: k + 1]
            found = recursion.solved(fractions[: k + 1], up, down, some, wedge=self.sides == 2)
            return max(float(found.regions.high[k]), -1e3) - size

        least, most = (0.0 if self.sides == 2 else -6.0), 37.0
        guess = min(max(size * math.sqrt(fractions[k]) if self.spending != "pocock" else size, least), most)
        found = nearly_straight(miss, guess, max(1.0, 1 / math.sqrt(fractions[k])))
        if found is None or not least <= found <= most:
            if miss(least) >= 0:
                return 1.0
            if miss(most) <= 0:
                return self.sides * float(normal.sf(most))
            found = bracketed_number(miss, least, most, rtol=1e-13)
        return min(self.sides * float(normal.sf(found)), 1.0)

    def _level_held_back(self, size: float, k: int, fractions: Floats) -> float:
        """Of Haybittle-Peto: what the looks with the fixed boundary use up, and at the last look what is beyond z."""
        interim, last = self.interim or 3.0, k == fractions.size - 1
        high = np.full(k + 1, interim)
        if last:
            high[-1] = size
        elif size <= interim:
            return 1.0
        found = recursion.crossing(fractions[: k + 1], high, -high if self.sides == 2 else None)
        return min(float(found.above.sum() + found.below.sum()), 1.0)

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
        how = self._function(str(self.futility), self.own_futility)
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

    def _function(self, name: str, own: Callable[[Floats], Floats] | None) -> Spending:
        if name != OWN:
            return name  # type: ignore[return-value]
        if own is None:
            raise InputError("These boundaries were read back: their own spending function was not saved with them.")
        return own


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


def named_spending(name: str, spending: Spending, parameter: float | None) -> tuple[str, float | None, object]:
    """A spending function as its name, its parameter, and the function where it is the caller's own."""
    value = parameter_of(spending, parameter, name)
    return (spending, value, None) if isinstance(spending, str) else (OWN, value, spending)
