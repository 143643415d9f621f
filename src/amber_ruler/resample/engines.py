"""Ways to a statistic's resamples: by sums, by order statistics, or by calling it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import combinations_with_replacement
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric.gate import Floats
from amber_ruler.resample.drawing import poisson_table
from amber_ruler.resample.statistics import Origin, Statistic
from amber_ruler.resample.units import Units

CELLS = 1 << 22  # numbers that are held at once
_FEW = 128  # different rows that are drawn as counts
_GROUPS = 500  # groups of units that are left out one by one, where there are more units

Found = tuple[Floats, Floats | None, int, str]  # values (b, k), their errors, calls that failed, and why one did


class Engine(Protocol):
    """What a bootstrap asks: the statistic as it is, of resamples, without one unit, and of every resample."""

    names: tuple[str, ...]

    def observed(self) -> Floats:
        """The statistic, (k,)."""

    def draw(self, rng: np.random.Generator, size: int) -> Found:
        """The statistic of so many resamples."""

    def without_one(self) -> list[Floats]:
        """For every stratum the statistic without one unit, or one group of them, (u, k)."""

    def every(self) -> Iterator[tuple[Floats, Floats]]:
        """The statistic of every resample, and its chance, in blocks."""


@dataclass
class ByOrder:
    """A quantile by the order statistics of uniform places, which are beta variates: exact, without a resample.

    David & Nagaraja (2003), Order Statistics, section 2.5. The quantile is that of type 7.
    """

    units: tuple[Units, ...]
    column: str
    at: float
    names: tuple[str, ...] = ()

    @cached_property
    def _sorted(self) -> list[Floats]:
        return [np.sort(u.numbers(self.column)) for u in self.units]

    def observed(self) -> Floats:
        """See `Engine`."""
        return np.atleast_1d(_difference([np.quantile(x, self.at) for x in self._sorted]))

    def draw(self, rng: np.random.Generator, size: int) -> Found:
        """See `Engine`."""
        drawn = []
        for x in self._sorted:
            n = len(x)
            place = (n - 1) * self.at
            below = min(int(place), n - 1)
            first = rng.beta(below + 1, n - below, size)
            later = max(n - below - 1, 1)
            second = first + (1 - first) * -np.expm1(np.log1p(-rng.random(size)) / later)
            low, high = (x[np.minimum((n * u).astype(np.intp), n - 1)] for u in (first, second))
            drawn.append(low + (place - below) * (high - low) if below < n - 1 else low)
        return np.asarray(_difference(drawn))[:, None], None, 0, ""

    def without_one(self) -> list[Floats]:
        """See `Engine`."""
        whole = [np.quantile(x, self.at) for x in self._sorted]
        found = []
        for k, x in enumerate(self._sorted):
            n = len(x)
            if n == 1:
                raise DataError(f"{self.units[k].label!r} has 1 unit: none can be left out.")
            place = (n - 2) * self.at
            below = min(int(place), n - 2)
            gone = np.arange(n)
            low, high = (np.where(gone > j, x[j], x[min(j + 1, n - 1)]) for j in (below, min(below + 1, n - 2)))
            own = low + (place - below) * (high - low)
            each = [np.broadcast_to(w, own.shape) for w in whole]
            each[k] = own
            found.append(np.asarray(_difference(each))[:, None])
        return found

    def every(self) -> Iterator[tuple[Floats, Floats]]:
        """See `Engine`."""

        def one(x: Floats, counts: NDArray[np.intp]) -> float:
            return float(np.quantile(np.repeat(x, counts), self.at))

        parts = [(x, *_compositions(len(x))) for x in self._sorted]
        values = [np.array([one(x, c) for c in counts]) for x, counts, _ in parts]
        for at, chance in _together([(len(v), p) for v, (_, _, p) in zip(values, parts, strict=True)]):
            yield np.asarray(_difference([v[i] for v, i in zip(values, at, strict=True)]))[:, None], chance


@dataclass
class BySums:
    """A function of sums over units: a resample is a sum of drawn rows, or of counts times rows."""

    units: tuple[Units, ...]
    statistic: Statistic
    weights: Literal["resampled", "poisson"] = "resampled"
    studentised: bool = False
    names: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        self.names = self.statistic.names

    @cached_property
    def _origin(self) -> Origin:
        return {c: float(np.mean(np.concatenate([u.numbers(c) for u in self.units]))) for c in self.statistic.needed}

    @cached_property
    def _totals(self) -> list[Floats]:
        """Of each sample, by unit, its number of rows and the sums of its features."""
        found = []
        for u in self.units:
            features = self.statistic.features(u, self._origin)
            features = features if self.studentised else features[: self.statistic.short]
            found.append(u.totals(np.column_stack([np.ones(len(u)), *features])))
        return found

    @cached_property
    def _kinds(self) -> list[list[tuple[Floats, NDArray[np.intp]] | None]]:
        """Of each sample and stratum its different rows and how often each is there, where these are few."""
        return [[few_kinds(part) for part in parts] for parts in self._parts]

    @cached_property
    def _whole(self) -> list[Floats]:
        return [np.array([t[:, j].sum() for j in range(t.shape[1])]) for t in self._totals]

    @cached_property
    def _parts(self) -> list[list[Floats]]:
        """Of each sample the units of each stratum."""
        return [
            [t if len(u.strata) == 1 else t[part] for part in u.strata]
            for u, t in zip(self.units, self._totals, strict=True)
        ]

    @cached_property
    def _columns(self) -> list[list[list[Floats]]]:
        """Of each sample and stratum the columns after the first, each in one piece; none where kinds are drawn."""
        return [
            [
                [] if few is not None else [np.ascontiguousarray(part[:, j]) for j in range(1, part.shape[1])]
                for part, few in zip(parts, kinds, strict=True)
            ]
            for parts, kinds in zip(self._parts, self._kinds, strict=True)
        ]

    @property
    def quick(self) -> bool:
        """Whether a resample costs next to nothing, and nobody need help."""
        return self.weights != "poisson" and all(few is not None for kinds in self._kinds for few in kinds)

    def _value(self, sums: Sequence[Floats]) -> Floats:
        with np.errstate(divide="ignore", invalid="ignore"):
            found = np.asarray(self.statistic.value(self._origin, *sums))
        return found if self.statistic.names else found[..., None]

    def observed(self) -> Floats:
        """See `Engine`."""
        return self._value(self._whole)

    def observed_error(self) -> float:
        """The standard error by the formula."""
        assert self.statistic.error is not None  # noqa: S101 - asked for before
        return float(self.statistic.error(*self._whole))

    def prepare(self) -> None:
        """What all blocks share, made before they work side by side."""
        _ = self._kinds, self._columns

    def draw(self, rng: np.random.Generator, size: int) -> Found:
        """See `Engine`."""
        sums = [self._drawn(k, rng, size) for k in range(len(self.units))]
        errors = None
        if self.studentised and self.statistic.error is not None:
            with np.errstate(divide="ignore", invalid="ignore"):
                errors = np.asarray(self.statistic.error(*sums))[:, None]
        return self._value(sums), errors, 0, ""

    def _drawn(self, k: int, rng: np.random.Generator, size: int) -> Floats:
        u = self.units[k]
        found = np.zeros((size, self._totals[k].shape[1]))
        for totals, few, columns in zip(self._parts[k], self._kinds[k], self._columns[k], strict=True):
            n = len(totals)
            if self.weights == "poisson":
                found += _poisson(totals, rng, size)
            elif few is not None:
                rows, often = few
                found += rng.multinomial(n, often / n, size) @ rows
            elif len(columns) <= 2 and u.whole:
                found[:, 0] += n
                taken = np.empty(n)
                for b in range(size):
                    picked = rng.integers(0, n, n)
                    for j, column in enumerate(columns, start=1):
                        found[b, j] += column.take(picked, mode="clip", out=taken).sum()
            else:
                for b in range(size):
                    found[b] += np.bincount(rng.integers(0, n, n), minlength=n) @ totals
        return found

    def without_one(self) -> list[Floats]:
        """See `Engine`."""
        arms = enumerate(zip(self.units, self._totals, strict=True))
        return [self._less(k, t[part]) for k, (u, t) in arms for part in u.strata]

    def without_group(self, groups: int) -> list[Floats]:
        """For every stratum the statistic without every k-th unit together."""
        return [
            self._less(k, np.array([t[part[g::groups]].sum(axis=0) for g in range(groups)]))
            for k, (u, t) in enumerate(zip(self.units, self._totals, strict=True))
            for part in u.strata
        ]

    def _less(self, k: int, gone: Floats) -> Floats:
        sums: list[Floats] = [np.broadcast_to(w, (len(gone), len(w))) for w in self._whole]
        sums[k] = self._whole[k] - gone
        return self._value(sums)

    def every(self) -> Iterator[tuple[Floats, Floats]]:
        """See `Engine`."""
        factors = []
        for k, (u, t) in enumerate(zip(self.units, self._totals, strict=True)):
            for part in u.strata:
                counts, chance = _compositions(len(part))
                factors.append((k, counts @ t[part], chance))
        for at, chance in _together([(len(sums), p) for _, sums, p in factors]):
            each = [np.zeros((len(chance), t.shape[1])) for t in self._totals]
            for (k, sums, _), i in zip(factors, at, strict=True):
                each[k] = each[k] + sums[i]
            yield self._value(each), chance


@dataclass
class ByCalls:
    """A statistic of one's own, called with each resample's rows, or with the rows and their weights."""

    units: tuple[Units, ...]
    statistic: Callable[..., Any]
    takes: Literal["rows", "weights"] = "rows"
    names: tuple[str, ...] = ()
    size: int = field(default=0, init=False)

    def observed(self) -> Floats:
        """See `Engine`."""
        found = self._called([np.arange(u.count) for u in self.units])
        if not np.all(np.isfinite(found)):
            raise DataError("The statistic of the rows as they are is no finite number.")
        self.size = len(found)
        if self.names and len(self.names) != self.size:
            raise InputError(f"The statistic gives {self.size} numbers, and {len(self.names)} names were given.")
        return found

    def spot_check(self, seed: int) -> None:
        """Say so where a statistic gives two answers to the same rows."""
        rng = np.random.default_rng(seed)
        picked = [rng.integers(0, u.count, u.count) for u in self.units]
        one, two = (self._tried(picked)[0] for _ in range(2))
        if not np.array_equal(one, two, equal_nan=True):
            raise InputError(
                f"The statistic gives {one.tolist()} and then {two.tolist()} for the same rows: it rests on something"
                " else, such as random numbers of its own or a state that it changes."
            )

    def _called(self, picked: Sequence[NDArray[np.intp]]) -> Floats:
        rows = [u.rows_of(p) for u, p in zip(self.units, picked, strict=True)]
        if self.takes == "rows":
            given = [u.taken(r) for u, r in zip(self.units, rows, strict=True)]
        else:
            weights = [np.bincount(r, minlength=len(u)).astype(float) for u, r in zip(self.units, rows, strict=True)]
            given = [*(u.all_rows() for u in self.units), *weights]
        found = self.statistic(*given)
        if isinstance(found, Mapping):
            self.names = self.names or tuple(map(str, found))
            found = list(found.values())
        return np.atleast_1d(np.asarray(found, dtype=np.float64))

    def _tried(self, picked: Sequence[NDArray[np.intp]]) -> tuple[Floats, str]:
        try:
            found = self._called(picked)
        except KeyboardInterrupt:
            raise
        except Exception as error:  # noqa: BLE001 - whatever a statistic of one's own raises is counted and told
            return np.full(max(self.size, 1), np.nan), f"{type(error).__name__}: {error}"
        if self.size and len(found) != self.size:
            raise InputError(f"The statistic gives {self.size} numbers, and of a resample {len(found)}.")
        return found, "" if np.all(np.isfinite(found)) else "it gives no finite number"

    def draw(self, rng: np.random.Generator, size: int) -> Found:
        """See `Engine`."""
        values, failed, why = np.empty((size, self.size)), 0, ""
        for b in range(size):
            picked = [np.concatenate([p[rng.integers(0, len(p), len(p))] for p in u.strata]) for u in self.units]
            values[b], said = self._tried(picked)
            failed, why = failed + bool(said), why or said
        return values, None, failed, why

    def without_one(self, groups: int | None = None) -> list[Floats]:
        """See `Engine`."""
        every = [np.arange(u.count) for u in self.units]
        found = []
        for k, u in enumerate(self.units):
            for part in u.strata:
                count = min(len(part), groups or _GROUPS)
                each = []
                for g in range(count):
                    picked = list(every)
                    picked[k] = np.setdiff1d(every[k], part[g::count], assume_unique=True)
                    each.append(self._tried(picked)[0])
                found.append(np.array(each))
        return found

    def every(self) -> Iterator[tuple[Floats, Floats]]:
        """See `Engine`."""
        factors = [(k, part, *_compositions(len(part))) for k, u in enumerate(self.units) for part in u.strata]
        for at, chance in _together([(len(p), p) for _, _, _, p in factors]):
            values = np.empty((len(chance), self.size))
            for row in range(len(chance)):
                picked: list[list[NDArray[np.intp]]] = [[] for _ in self.units]
                for (k, part, counts, _), i in zip(factors, at, strict=True):
                    picked[k].append(np.repeat(part, counts[i[row]]))
                values[row] = self._tried([np.concatenate(p) for p in picked])[0]
            yield values, chance


def _difference(each: Sequence[Any]) -> Any:
    return each[0] if len(each) == 1 else each[0] - each[1]


def few_kinds(rows: Floats) -> tuple[Floats, NDArray[np.intp]] | None:
    """Different rows and how often each is there, where there are few of them."""
    if rows.shape[1] == 2 and rows[0, 0] == 1:  # often: rows of 0 and 1, by the number of rows and their sum
        low, high = rows[:, 1].min(), rows[:, 1].max()
        top = np.count_nonzero(rows[:, 1] == high)
        if top + np.count_nonzero(rows[:, 1] == low) == len(rows) and np.all(rows[:, 0] == 1):
            return np.array([[1.0, low], [1.0, high]]), np.array([len(rows) - top, top])
    # One number that is different for different rows, whatever their unit, of which some rows tell which there are.
    largest = np.maximum(rows.max(axis=0), -rows.min(axis=0))
    key = rows @ (np.sqrt(np.arange(2, 2 + rows.shape[1])) / np.where(largest > 0, largest, 1.0))
    _, some = np.unique(key[:: max(1, len(rows) // 1024)], return_index=True)
    if len(some) > _FEW:
        return None
    some = some * max(1, len(rows) // 1024)
    kinds = rows[some]
    at = np.minimum(np.searchsorted(key[some], key), len(some) - 1)
    if not np.array_equal(kinds[at], rows):  # there are rare ones too
        _, some, at = np.unique(key, return_index=True, return_inverse=True)
        kinds = rows[some]
        if len(some) > _FEW or not np.array_equal(kinds[at], rows):
            return None
    return kinds, np.bincount(at, minlength=len(some))


def _poisson(totals: Floats, rng: np.random.Generator, size: int) -> Floats:
    """Sums with independent weights of mean and variance 1, in place of a resample."""
    table, n = poisson_table(), len(totals)
    step = max(1, min(4, CELLS // n))
    columns = [np.ascontiguousarray(totals[:, j]) for j in range(totals.shape[1])]
    ones = bool(np.all(columns[0] == 1))  # units of one row each: the weights are whole numbers
    found = np.empty((size, len(columns)))
    for at in range(0, size, step):
        some = min(step, size - at)
        weights = table.take(rng.integers(0, 65536, (some, n), dtype=np.uint16), mode="clip")
        for j, column in enumerate(columns):
            plain = ones and j == 0
            found[at : at + some, j] = (
                weights.sum(axis=1, dtype=np.uint32) if plain else np.einsum("bn,n->b", weights, column)
            )
    return found


def _compositions(n: int) -> tuple[NDArray[np.intp], Floats]:
    """How often each of n units may be drawn, (c, n), and the chance of each."""
    if n > 7:
        raise InputError(f"Every resample of {n} units is too many: at most 7 are enumerated.")
    drawn = np.array(list(combinations_with_replacement(range(n), n)))
    counts = np.array([np.bincount(row, minlength=n) for row in drawn])
    factorial = np.array([math.factorial(k) for k in range(n + 1)], dtype=float)
    return counts, factorial[n] / np.prod(factorial[counts], axis=1) / float(n) ** n


def enumerable(units: Sequence[Units]) -> int | None:
    """How many different resamples there are, if every stratum has at most 7 units."""
    sizes = [len(part) for u in units for part in u.strata]
    if max(sizes) > 7:
        return None
    return math.prod(math.comb(2 * n - 1, n) for n in sizes)


def _together(factors: Sequence[tuple[int, Floats]]) -> Iterator[tuple[list[NDArray[np.intp]], Floats]]:
    """Every combination of one of each factor, in blocks: their places, and the chance."""
    sizes = [n for n, _ in factors]
    total = math.prod(sizes)
    for start in range(0, total, CELLS // 16):
        at = list(np.unravel_index(np.arange(start, min(total, start + CELLS // 16)), sizes))
        yield at, np.prod([p[i] for (_, p), i in zip(factors, at, strict=True)], axis=0)
