"""Ranks of two samples: exact chances of their sum, and the ordered differences of all pairs without making them."""

from __future__ import annotations

import math
import os
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats

_THIN = 16_384  # rows that show where an ordered difference lies
_PAIRS = 400_000  # pairs that are looked at one by one, at first
_SHARED = 200_000  # rows from which on the processors share the work


class Values(NamedTuple):
    """Distinct values in their order, how often each occurs, and how many lie before each (with all of them last)."""

    at: Floats
    times: Floats
    before: Floats

    @property
    def total(self) -> float:
        """How many values there are."""
        return float(self.before[-1])


def ordered(values: Floats) -> Values:
    """Sort, and gather equal values."""
    at = np.sort(values)
    new = np.empty(at.size, dtype=np.bool_)
    new[0] = True
    np.not_equal(at[1:], at[:-1], out=new[1:])
    if new.all():
        return Values(at, np.ones(at.size), np.arange(at.size + 1.0))
    first = np.flatnonzero(new)
    before = np.append(first, at.size).astype(np.float64)
    return Values(at[first], np.diff(before), before)


def mean_ranks(values: Floats) -> tuple[Floats, Values]:
    """Ranks from 1, equal values sharing the mean of theirs; and the values in their order."""
    known = ordered(values)
    each = known.before[:-1] + (known.times + 1) / 2
    return each[np.searchsorted(known.at, values)], known


class Wins(NamedTuple):
    """How often x is above y over all pairs, half for ties; placements of each; what ties take from the variance."""

    above: float
    of_x: Floats  # for each distinct x: the share of y below it, half for ties
    of_y: Floats
    ties: float  # sum of t^3 - t over values that occur t times in both together


def wins(x: Values, y: Values) -> Wins:
    """Compare all pairs by their positions."""
    low = _positions(y.at, x.at)
    equal = np.zeros(x.at.size)
    inside = low < y.at.size
    same = np.flatnonzero(inside)[y.at[low[inside]] == x.at[inside]]
    equal[same] = y.times[low[same]]
    below = y.before[low] + 0.5 * equal
    # An x is above the y at j when its own position lies beyond j.
    not_above = np.cumsum(np.bincount(low, weights=x.times, minlength=y.at.size + 1))[:-1]
    equal_y = np.zeros(y.at.size)
    equal_y[low[same]] = x.times[same]
    together = float(np.sum(x.times**3 - x.times) + np.sum(y.times**3 - y.times))
    a, b = x.times[same], y.times[low[same]]
    together += float(np.sum((a + b) ** 3 - a**3 - b**3))
    return Wins(float(x.times @ below), below / y.total, (x.total - not_above + 0.5 * equal_y) / x.total, together)


@lru_cache(maxsize=64)
def exact_chances(n1: int, n0: int) -> Floats:
    """Chances of 0, 1, ..., n1 n0 wins when all orders are equally likely and there are no ties.

    References
    ----------
    .. [1] Mann & Whitney (1947), Annals of Mathematical Statistics 18, 50-60.
    """
    # Either the largest value is an x, which wins over all y, or a y: only sums of positive numbers, so that the
    # smallest chances keep their digits.
    row = [np.ones(1) for _ in range(n0 + 1)]
    for m in range(1, n1 + 1):
        longer = [np.ones(1)]
        for n in range(1, n0 + 1):
            chance = np.zeros(m * n + 1)
            chance[n:] += m / (m + n) * row[n]
            chance[: m * (n - 1) + 1] += n / (m + n) * longer[-1]
            longer.append(chance)
        row = longer
    return row[n0]


def exact_signed_chances(n: int) -> Floats:
    """Chances of 0, 1, ..., n (n + 1) / 2 for the sum of the ranks with a positive sign, without ties.

    References
    ----------
    .. [1] Wilcoxon (1945), Biometrics Bulletin 1, 80-83.
    """
    chance = np.array([1.0])
    for k in range(1, n + 1):
        longer = np.zeros(chance.size + k)
        longer[: chance.size] += 0.5 * chance
        longer[k:] += 0.5 * chance
        chance = longer
    return chance


def ordered_differences(x: Values, y: Values, ranks: Sequence[int]) -> list[float]:
    """The differences x - y that stand at some ranks (from 1) among all pairs, in time n log n.

    Every so many rows show about where each lies; one pass over all rows counts exactly what is below; and the pairs in
    between are looked at one by one.
    """
    return [_kth(x, y, rank, halves=False) for rank in ranks]


def ordered_sums(values: Values, ranks: Sequence[int]) -> list[float]:
    """The sums of two values (each also with itself) that stand at some ranks among all n (n + 1) / 2."""
    mirrored = Values(-values.at[::-1], values.times[::-1], np.append(0.0, np.cumsum(values.times[::-1])))
    return [_kth(values, mirrored, rank, halves=True) for rank in ranks]


def _kth(x: Values, y: Values, rank: int, *, halves: bool) -> float:
    # With halves, x + x' is taken over ordered pairs: every sum of two different units counts twice, and one of a unit
    # with itself once, so the count wanted is half of that of ordered pairs and of units together.
    low, high = float(x.at[0] - y.at[-1]), float(x.at[-1] - y.at[0])
    top = np.nextafter(high + abs(high) * 1e-15, np.inf)
    low = np.nextafter(low - abs(low) * 1e-15, -np.inf)
    if x.at.size * y.at.size <= _PAIRS:
        return _among(x, y, _positions(y.at, x.at - top), low, rank, halves=halves) or 0.0
    # Differences are no finer than the rounding of the values.
    finest = 1e-14 * max(abs(float(v)) for v in (x.at[0], x.at[-1], y.at[0], y.at[-1]))
    guess, slope = _search(x, y, rank, low, top, halves=halves)
    at, high = min(max(guess + _PAIRS / 2 / slope, low + finest), top), top
    for _ in range(200):
        upto = _positions(y.at, x.at - at)
        count = _counted(x, y, upto, at, halves=halves)
        if count < rank:
            low, at = at, at + (1.1 * (rank - count) + 1_000) / slope
        else:
            high = at
            start = max(low, at - max((1.2 * (count - rank) + 1_000) / slope, finest))
            if count - rank <= _PAIRS or high - low <= 8 * finest:
                found = _among(x, y, upto, start, rank - count, halves=halves)
                if found is not None:
                    return found
            at -= max((count - rank - _PAIRS / 4) / slope, 0.0)
        if not low < at < high:
            at = (low + high) / 2
    return float(high)


def _counted(x: Values, y: Values, upto: NDArray[np.intp], t: float, *, halves: bool) -> float:
    """How many differences are at most t, given where x - t would stand among y."""
    counted = float(x.times @ (y.total - y.before[upto]))
    return (counted + _own(x, t)) / 2 if halves else counted


def _among(x: Values, y: Values, upto: NDArray[np.intp], a: float, rank: float, *, halves: bool) -> float | None:
    """Of the pairs above a, the difference at a rank, from the top where that is not above 0; None if not there."""
    differences, times = _between(x, y, upto, a, halves=halves)
    whole = float(times.sum())
    left = rank if rank > 0 else whole + rank
    if left <= 0:
        return None
    if whole == times.size:  # no ties
        at = min(max(math.ceil(left - 1e-6), 1), times.size) - 1
        return float(np.partition(differences, at)[at])
    order = np.argsort(differences)
    at = int(np.searchsorted(np.cumsum(times[order]), left - 1e-6))
    return float(differences.item(order.item(min(at, order.size - 1))))


def _own(x: Values, t: float) -> float:
    """Units whose own double is at most t."""
    return float(x.before[np.searchsorted(x.at, t / 2, side="right")])


def _search(x: Values, y: Values, rank: float, low: float, high: float, *, halves: bool) -> tuple[float, float]:
    """About where the count of differences meets the rank, from every so many rows, and how steep it is there."""
    thin_x, thin_y = _thinned(x), _thinned(y)

    def about(t: float, others: Values) -> float:
        share = (x.total / thin_x.total) * (y.total / others.total)
        below = share * float(thin_x.times @ (others.total - others.before[np.searchsorted(others.at, thin_x.at - t)]))
        return (below + _own(x, t)) / 2 if halves else below

    start, end = low, high
    for _ in range(60):
        middle = (low + high) / 2
        if high - low < 1e-5 * (end - start):
            break
        low, high = (middle, high) if about(middle, thin_y) < rank else (low, middle)
    guess, width = (low + high) / 2, 1e-4 * (end - start)
    least = x.total * y.total / (end - start) * 1e-6
    for _ in range(2):
        slope = max((about(guess + width, y) - about(guess - width, y)) / (2 * width), least)
        guess -= (about(guess, y) - rank) / slope
        width /= 4
    return guess, slope


def _thinned(values: Values) -> Values:
    """Every so many values, each for its neighbours."""
    step = max(1, values.at.size // _THIN)
    times = np.add.reduceat(values.times, np.arange(0, values.at.size, step))
    at = values.at[np.minimum(np.arange(0, values.at.size, step) + step // 2, values.at.size - 1)]
    return Values(at, times, np.append(0.0, np.cumsum(times)))


def _between(x: Values, y: Values, start: NDArray[np.intp], a: float, *, halves: bool) -> tuple[Floats, Floats]:
    """Differences of the pairs from each row's start on that are at least a, and how often each occurs."""
    upto_end = np.append(y.at, np.inf)
    edge = x.at - a
    rows = np.flatnonzero(upto_end[start] <= edge)
    at, edge = start[rows], edge[rows]
    found, times = [np.empty(0)], [np.empty(0)]
    while rows.size:
        one, two, weight = rows, at, x.times[rows] * y.times[at]
        if halves:
            mine = rows <= y.at.size - 1 - at
            one, two, weight = rows[mine], at[mine], weight[mine]
            twin = one == y.at.size - 1 - two
            weight = np.where(twin, x.times[one] * (x.times[one] + 1) / 2, weight)
        found.append(x.at[one] - y.at[two])
        times.append(weight)
        keep = upto_end[at + 1] <= edge
        rows, at, edge = rows[keep], at[keep] + 1, edge[keep]
    return np.concatenate(found), np.concatenate(times)


def _positions(values: Floats, sought: Floats) -> NDArray[np.intp]:
    """Where sought values would stand; several processors share long lists."""
    workers = min(os.cpu_count() or 1, 8)
    if sought.size < _SHARED or workers == 1:
        return np.searchsorted(values, sought)
    parts = np.array_split(sought, workers)
    with ThreadPoolExecutor(workers) as pool:
        return np.concatenate(list(pool.map(lambda part: np.searchsorted(values, part), parts)))
