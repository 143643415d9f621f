"""Poisson mixtures: the noncentral chi-square and F distributions."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats, aligned
from amber_ruler.numeric.roots import bracketed_root, widened
from amber_ruler.numeric.stirling import poisson_weight

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import ArrayLike

_BLOCK = 256  # mixtures at a time
_LADDER = 100.0  # largest Poisson mean whose terms are worth taking one by one
_TINY = 1e-250
_BOTH = 1e-8  # tails above which one tail says what the other is


class Ladder(NamedTuple):
    """Central tails for all j at once: neighbours differ by a term that has a simple ratio to the one before.

    `first` is that term at j = 0, `ratio(j, *args)` the next one over it; `central` is the upper tail at j = 0, where
    it is known.
    """

    first: Callable[..., Floats]
    ratio: Callable[..., Floats]
    lower: bool
    central: Floats | None = None


def poisson_mixture(
    kernel: Callable[..., Floats], ladder: Ladder, noncentrality: ArrayLike, *args: ArrayLike
) -> Floats:
    """Return the sum over j of Poisson(j; noncentrality / 2) times kernel(j, *args).

    All terms are positive, so tails keep their relative digits as long as the terms around the largest are
    summed. Where the weights are wide the sum over whole j equals a sum with a longer step, since both are
    trapezoid rules of the same smooth function (Poisson's summation formula): the work does not grow with
    the noncentrality. Where they are not, the ladder needs one central tail instead of one for every j.
    """
    nc, *rest = aligned(noncentrality, *args)
    shape = nc.shape
    mean = nc.ravel() / 2
    flat = [v.ravel() for v in rest]
    result = np.empty(mean.shape)
    with np.errstate(all="ignore"):
        first = ladder.first(*flat)
    climbs = (mean <= _LADDER) & (first > _TINY) & np.isfinite(first)
    # Neighbours in noncentrality need about as many rungs.
    order = np.flatnonzero(climbs)
    order = order[np.argsort(mean[order])]
    for start in range(0, order.size, _BLOCK):
        part = order[start : start + _BLOCK]
        known = None if ladder.central is None else np.broadcast_to(ladder.central, shape).ravel()[part]
        result[part] = _climb(kernel, ladder._replace(central=known), first[part], mean[part], [v[part] for v in flat])
    others = np.flatnonzero(~climbs)
    for start in range(0, others.size, _BLOCK):
        part = others[start : start + _BLOCK]
        result[part] = _around(kernel, mean[part], mean[part], [v[part] for v in flat])
    # Far in a tail the terms that count lie off the weights' own centre: find it, and sum there.
    far = (result < 1e-9) & (mean > 0)
    if np.any(far):
        there = [v[far] for v in flat]
        result[far] = _around(kernel, mean[far], _largest_term(kernel, mean[far], there), there)
    return np.minimum(result.reshape(shape), 1.0)  # rounding


def _climb(kernel: Callable[..., Floats], ladder: Ladder, first: Floats, mean: Floats, args: list[Floats]) -> Floats:
    most = float(mean.max())
    j = np.arange(np.ceil(most + 9 * np.sqrt(most) + 14))
    steps = np.empty((mean.size, j.size))
    steps[:, 0] = first
    steps[:, 1:] = ladder.ratio(j[:-1], *(v[:, None] for v in args))
    np.cumprod(steps, axis=1, out=steps)
    if ladder.lower:
        tails = kernel(j[-1] + 1, *args)[:, None] + np.cumsum(steps[:, ::-1], axis=1)[:, ::-1]
    else:
        start = kernel(0.0, *args) if ladder.central is None else ladder.central
        tails = start[:, None] + np.cumsum(steps, axis=1) - steps
    return np.asarray(np.einsum("ij,ij->i", poisson_weight(j, mean[:, None]), tails))


def _around(kernel: Callable[..., Floats], mean: Floats, centre: Floats, args: list[Floats]) -> Floats:
    reach = 9 * np.sqrt(centre) + 14
    step = np.where(centre > 300, np.maximum(1.0, np.floor(0.25 * np.sqrt(centre))), 1.0)
    first = np.maximum(0.0, np.floor(centre - reach))
    # The number of terms differs from one mixture to the next: all of them stand in one row.
    terms = np.where(mean > 0, np.ceil((centre + reach - first) / step) + 4, 1).astype(np.intp)
    starts = np.cumsum(terms) - terms
    owner = np.repeat(np.arange(mean.size), terms)
    j = first[owner] + step[owner] * (np.arange(owner.size) - starts[owner])
    with np.errstate(divide="ignore", invalid="ignore"):
        weights = np.where(mean[owner] > 0, poisson_weight(j, mean[owner]), 1.0)
    values = kernel(j, *(v[owner] for v in args))
    return step * np.add.reduceat(weights * values, starts)


def _largest_term(kernel: Callable[..., Floats], mean: Floats, args: list[Floats]) -> Floats:
    reach = 40 * np.sqrt(mean) + 800
    low, high = np.maximum(0.0, mean - reach), mean + reach
    for _ in range(7):
        j = low[:, None] + (high - low)[:, None] * np.linspace(0, 1, 41)
        with np.errstate(divide="ignore", under="ignore"):
            term = np.log(poisson_weight(j, mean[:, None])) + np.log(kernel(j, *(v[:, None] for v in args)))
        best = np.argmax(term, axis=1)
        spacing = (high - low) / 40
        middle = low + best * spacing
        low, high = np.maximum(0.0, middle - spacing), middle + spacing
    return np.asarray(middle)


def bounds_of(
    upper: Callable[[Floats], Floats],
    lower: Callable[[Floats], Floats],
    reach: Floats,
    low_tail: float,
    high_tail: float,
) -> tuple[Floats, Floats]:
    """The noncentralities at which each tail has its chance, sought on their square roots up from 0."""
    if reach.size == 1 and min(low_tail, high_tail) > _BOTH:
        both = _both_bounds(upper, float(np.ravel(reach)[0]) - 3, low_tail, high_tail)
        if both is not None:
            low, high = (np.full(reach.shape, float(root) ** 2) for root in both)
            return low, high

    def bound(tail: Callable[[Floats], Floats], chance: float, sign: float) -> Floats:
        goal = float(normal.quantile(chance))

        def miss(root: Floats) -> Floats:
            return np.asarray(sign * (normal.quantile(np.clip(tail(root**2), 1e-300, 1 - 1e-16)) - goal))

        zero = np.zeros(reach.shape)
        none = miss(zero) >= 0
        if none.all():
            return zero

        def sought(root: Floats) -> Floats:
            return np.where(none, root - reach / 2, miss(root))  # a root where none is sought ends the search there

        low, high = widened(sought, zero, reach, step=2.0, ends=(0.0, np.inf))
        return np.where(none, 0.0, bracketed_root(sought, low, high, rtol=1e-13) ** 2)

    return bound(upper, low_tail, 1.0), bound(lower, high_tail, -1.0)


def _both_bounds(upper: Callable[[Floats], Floats], middle: float, low_tail: float, high_tail: float) -> Floats | None:
    """Roots of both bounds at once, by secants; None if that does not settle soon at roots above 0.

    The deviate of the upper tail is nearly a line of slope 1 in the root. Where neither tail is tiny, it says both.
    """
    goals = np.array([normal.quantile(low_tail), -normal.quantile(high_tail)])
    x, slope = np.maximum(middle + goals, 0.5), np.ones(2)
    none = False  # no lower bound, as the tail is large enough without any effect

    def miss(roots: Floats) -> Floats:
        gap = normal.quantile(np.clip(upper(roots**2), 1e-300, 1 - 1e-16)) - goals
        return np.asarray(np.where([none, False], 0.0, gap))

    gap = miss(x)
    for _ in range(14):
        step = -gap / slope
        if np.all(np.abs(step) <= 1e-14 * x):
            return x
        new = x + step
        if new[0] <= 0 and not none:
            x[0] = new[0] = 0.0
            none = bool(miss(x)[0] >= 0)
        if new[1] <= 0 or (new[0] <= 0 and not none):
            return None
        there = miss(new)
        moved = new != x
        slope = np.where(moved, (there - gap) / np.where(moved, new - x, 1.0), slope)
        x, gap = new, there
        if not slope[1] > 0 or not (none or slope[0] > 0):
            break  # both have met their goals to the last digit, or there is no line
        slope[0] = 1.0 if none else slope[0]
    return x if np.all(np.abs(gap) <= 1e-12) else None
