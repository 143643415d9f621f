"""Ranks of two samples: exact chances of their sum, and the ordered differences of all pairs without making them."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from scipy import special

from amber_ruler.numeric.blocks import in_blocks
from amber_ruler.numeric.divergence import filled

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats

_COARSE, _FINE = 512, 16_384  # rows that show where an ordered difference lies, at first and then
_PAIRS = 200_000  # pairs that are looked at one by one, at first
_MERGED = 65_536  # rows that are merged with others at a time


class Values(NamedTuple):
    """Distinct values in their order, how often each occurs, and how many lie before each (with all of them last)."""

    at: Floats
    times: Floats
    before: Floats

    @property
    def total(self) -> float:
        """How many values there are."""
        return float(self.before[-1])

    @property
    def tied(self) -> bool:
        """Whether any value occurs twice."""
        return self.total > self.at.size

    def upto(self, places: NDArray[np.intp]) -> NDArray[Any]:
        """How many values lie before each place in their order."""
        return self.before[places] if self.tied else places

    def quantile(self, share: float) -> float:
        """The value below which so large a share lies, on the line between its two neighbours."""
        place = share * (self.total - 1)
        least = math.floor(place)
        below, above = self.at[np.searchsorted(self.before, (least, math.ceil(place)), side="right") - 1].tolist()
        return float(below + (place - least) * (above - below))


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
    same = np.flatnonzero(y.at[np.minimum(low, y.at.size - 1)] == x.at)
    a, b = x.times[same], y.times[low[same]]
    below = y.upto(low).astype(np.float64)
    below[same] += 0.5 * b
    # An x is above the y at j when its own position lies beyond j.
    each: NDArray[Any] = np.bincount(low, weights=x.times if x.tied else None, minlength=y.at.size + 1)
    above: Floats = x.total - np.cumsum(each, dtype=np.float64)[:-1]
    above[low[same]] += 0.5 * a
    of_x, of_y = below / y.total, above / x.total
    together = float(np.sum((a + b) ** 3 - a**3 - b**3))
    together += sum(float(np.sum(v.times**3 - v.times)) for v in (x, y) if v.tied)
    return Wins(float(x.times @ below), of_x, of_y, together)


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


def tied_chances(sizes: Sequence[int], n1: int) -> Floats:
    """Chances of 0, 1/2, 1, ... wins of n1 values among groups of so many equal values, in their order, ties by half.

    The shift algorithm: group after group, how many of it are among the n1, and which sum of ranks they bring.

    References
    ----------
    .. [1] Streitberg & Röhmel (1986), Statistical Software Newsletter 12, 10-17.
    """
    total = int(sum(sizes))
    most = n1 * (total - n1) * 2
    # A value's wins over all others, doubled: those below it twice, its equals once; wins among the n1 are a constant.
    chance, before = np.zeros((n1 + 1, most + n1 * n1 + 1)), 0
    chance[0, 0] = 1.0
    seen = 0
    for size in sizes:
        worth = 2 * before + size  # twice the values below, and half of the equals twice (itself among them)
        grown = np.zeros_like(chance)
        for k in range(min(n1, seen) + 1):
            left = total - seen
            for j in range(max(0, size - (left - (n1 - k))), min(size, n1 - k) + 1):
                # Hypergeometric: j of this group, where n1 - k are still to be drawn from those left.
                weight = math.comb(size, j) * math.comb(left - size, n1 - k - j) / math.comb(left, n1 - k)
                shift = j * worth
                grown[k + j, shift:] += weight * chance[k, : chance.shape[1] - shift]
        chance, before, seen = grown, before + size, seen + size
    return chance[n1, n1 * n1 : n1 * n1 + most + 1]


def tied_signed_chances(ranks: Floats) -> Floats:
    """Chances of 0, 1/2, 1, ... for the sum of (mean) ranks with a positive sign."""
    chance = np.array([1.0])
    for doubled in np.rint(2 * np.sort(ranks)).astype(int):
        longer = np.zeros(chance.size + doubled)
        longer[: chance.size] += 0.5 * chance
        longer[doubled:] += 0.5 * chance
        chance = longer
    return chance


def kruskal_chance(sizes: NDArray[np.intp], groups: NDArray[np.intp], least: float) -> float | None:
    """Chance of at least so large a sum of squared (mean) rank sums over group sizes; None for too many ways.

    `sizes` are those of the runs of equal values, in order. Run after run is dealt out to the groups; ways that have
    dealt as much to each group and given it as large a sum of ranks go on as one.

    References
    ----------
    .. [1] Kruskal & Wallis (1952), Journal of the American Statistical Association 47, 583-621.
    """
    left, sums = groups[None, :].astype(np.int64), np.zeros((1, groups.size), dtype=np.int64)
    chance: Floats = np.ones(1)
    before = 0
    for size in sizes.tolist():
        doubled = 2 * before + size + 1
        found = filled(left, size)
        if found is None:
            return None
        cells, of = found[0].astype(np.int64), found[1]
        # Chances of the multivariate hypergeometric distribution.
        log = special.gammaln(left[of] + 1) - special.gammaln(cells + 1) - special.gammaln(left[of] - cells + 1)
        total = int(left[0].sum())
        log_all = special.gammaln(total + 1) - special.gammaln(size + 1) - special.gammaln(total - size + 1)
        left, sums, chance = (
            left[of] - cells,
            sums[of] + doubled * cells,
            chance[of] * np.exp(log.sum(axis=1) - log_all),
        )
        # One number for each state; what the last group has follows from the others.
        key = np.zeros(chance.size, dtype=np.int64)
        for column in (*left.T[:-1], *sums.T[:-1]):
            key = key * (int(column.max()) + 1) + column
        _, first, where = np.unique(key, return_index=True, return_inverse=True)
        left, sums = left[first], sums[first]
        chance = np.bincount(np.ravel(where), weights=chance).astype(np.float64)
        before += size
    value = ((sums / 2) ** 2 / groups).sum(axis=1)
    return min(float(chance[value >= least * (1 - 1e-12)].sum()), 1.0)


def ordered_differences(x: Values, y: Values, ranks: Sequence[int]) -> list[tuple[float, float]]:
    """The differences x - y that stand at some ranks (from 1) among all pairs, each with the next, in time n log n.

    Every so many rows show about where each lies; one pass over all rows counts exactly what is below; and the pairs in
    between are looked at one by one.
    """
    levels = _levels(x, y)
    return [_kth(x, y, levels, rank, halves=False) for rank in ranks]


def ordered_sums(values: Values, ranks: Sequence[int]) -> list[tuple[float, float]]:
    """The sums of two values (each also with itself) at some ranks among all n (n + 1) / 2, each with the next."""
    mirrored = Values(-values.at[::-1], values.times[::-1], np.append(0.0, np.cumsum(values.times[::-1])))
    levels = _levels(values, mirrored)
    return [_kth(values, mirrored, levels, rank, halves=True) for rank in ranks]


def _levels(x: Values, y: Values) -> list[tuple[Values, Values]]:
    """Every so many rows of both sides, few and then more, that show about where a difference stands."""
    return [(_thinned(x, _COARSE), _thinned(y, _COARSE)), (_thinned(x, _FINE), y)]


def _kth(x: Values, y: Values, levels: list[tuple[Values, Values]], rank: int, *, halves: bool) -> tuple[float, float]:
    # With halves, x + x' is taken over ordered pairs: every sum of two different units counts twice, and one of a unit
    # with itself once, so the count wanted is half of that of ordered pairs and of units together.
    low, high = float(x.at[0] - y.at[-1]), float(x.at[-1] - y.at[0])
    top = np.nextafter(high + abs(high) * 1e-15, np.inf)
    low = np.nextafter(low - abs(low) * 1e-15, -np.inf)
    if x.at.size * y.at.size <= _PAIRS:
        return _among(x, y, _positions(y.at, x.at - top), low, rank, halves=halves) or (0.0, 0.0)
    # Differences are no finer than the rounding of the values.
    finest = 1e-14 * max(abs(float(v)) for v in (x.at[0], x.at[-1], y.at[0], y.at[-1]))
    guess, slope = _search(x, y, levels, rank, low, top, halves=halves)
    at, high = min(max(guess + _PAIRS / 4 / slope, low + finest), top), top
    for _ in range(200):
        upto = _positions(y.at, x.at - at)
        count = _counted(x, y, upto, at, halves=halves)
        if count <= rank and at < top:  # the next one is wanted, too
            low = at if count < rank else low
            at += (1.1 * (rank - count) + 1_000) / slope
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
    return float(high), float(high)


def _counted(x: Values, y: Values, upto: NDArray[np.intp], t: float, *, halves: bool) -> float:
    """How many differences are at most t, given where x - t would stand among y."""
    before = y.upto(upto)
    counted = x.total * y.total - float(x.times @ before if x.tied else before.sum())
    return (counted + _own(x, t)) / 2 if halves else counted


def _among(
    x: Values, y: Values, upto: NDArray[np.intp], a: float, rank: float, *, halves: bool
) -> tuple[float, float] | None:
    """Of the pairs above a, the difference at a rank and the next; from the top where the rank is not above 0.

    None if it is not there.
    """
    differences, times = _between(x, y, upto, a, halves=halves)
    whole = float(times.sum())
    left = rank if rank > 0 else whole + rank
    if left <= 0:
        return None
    if whole == times.size:  # no ties
        at = min(max(math.ceil(left - 1e-6), 1), times.size) - 1
        after = min(at + 1, times.size - 1)
        one, two = np.partition(differences, (at, after))[[at, after]].tolist()
        return one, two
    order = np.argsort(differences)
    places = np.searchsorted(np.cumsum(times[order]), (left - 1e-6, left + 1 - 1e-6))
    one, two = differences[order[np.minimum(places, order.size - 1)]].tolist()
    return one, two


def _own(x: Values, t: float) -> float:
    """Units whose own double is at most t."""
    return float(x.before[np.searchsorted(x.at, t / 2, side="right")])


def _search(
    x: Values, y: Values, levels: list[tuple[Values, Values]], rank: float, low: float, high: float, *, halves: bool
) -> tuple[float, float]:
    """About where the count of differences meets the rank, from every so many rows, and how steep it is there."""

    def about(t: float, level: int) -> float:
        some_x, some_y = levels[level]
        share = (x.total / some_x.total) * (y.total / some_y.total)
        below = share * float(some_x.times @ (some_y.total - some_y.before[np.searchsorted(some_y.at, some_x.at - t)]))
        return (below + _own(x, t)) / 2 if halves else below

    every = x.total * y.total / (2 if halves else 1)

    def crossing(goal: float) -> float:
        left, right, below, above = low, high, 0.0, every
        for _ in range(60):
            if above - below <= 1e-4 * every:
                break
            middle = (left + right) / 2
            count = about(middle, 0)
            left, right, below, above = (middle, right, count, above) if count < goal else (left, middle, below, count)
        return right

    # The way to a rank a little nearer to the middle is the scale on which the count is nearly a straight line.
    guess = crossing(rank)
    width = abs(crossing(rank + math.copysign(0.002 * every, every / 2 - rank)) - guess) or (high - low) * 1e-9
    least = 1e-6 * every / (high - low)
    for _ in range(2):
        below, above = about(guess - width, 1), about(guess + width, 1)
        slope = max((above - below) / (2 * width), least)
        guess -= ((below + above) / 2 - rank) / slope
        width /= 4
    return guess - (about(guess, 1) - rank) / slope, slope


def _thinned(values: Values, rows: int) -> Values:
    """Every so many values, each for its neighbours."""
    step = max(1, values.at.size // rows)
    first = np.arange(0, values.at.size, step)
    before = np.append(values.before[first], values.total)
    last = np.append(first[1:], values.at.size) - 1
    middle = (values.at[(first + last) // 2] + values.at[(first + last + 1) // 2]) / 2
    return Values(middle, np.diff(before), before)


def _between(x: Values, y: Values, start: NDArray[np.intp], a: float, *, halves: bool) -> tuple[Floats, Floats]:
    """Differences of the pairs from each row's start on that are at least a, and how often each occurs."""
    inner = int(np.searchsorted(start, y.at.size))  # the rows after these have no pair left
    edge = x.at[:inner] - a
    rows = np.flatnonzero(y.at[start[:inner]] <= edge)
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
        at, last = np.minimum(at + 1, y.at.size - 1), at
        keep = (at > last) & (y.at[at] <= edge)
        rows, at, edge = rows[keep], at[keep], edge[keep]
    return np.concatenate(found), np.concatenate(times)


def _positions(values: Floats, sought: Floats) -> NDArray[np.intp]:
    """Where sought values would stand; both are in order, and long lists are merged."""
    if sought.size < _MERGED or values.size < _MERGED:
        return np.searchsorted(values, sought)
    found = np.empty(sought.size, dtype=np.intp)

    def merge(part: slice) -> None:
        some = sought[part]
        first, last = np.searchsorted(values, (some[0], some[-1]))
        # A stable sort of two runs merges them, each sought value before its equals.
        order = np.argsort(np.concatenate([some, values[first:last]]), kind="stable")
        found[part] = np.flatnonzero(order < some.size) - np.arange(some.size) + first

    in_blocks(merge, sought.size, _MERGED)
    return found
