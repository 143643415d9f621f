"""The rows of a variant: several columns, for what needs more of each unit than one value."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, Self

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments, check_finite, check_lengths
from amber_ruler.numeric.gate import Floats
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.samples.held import changed, kept, own

Columns = Mapping[str, Any]
Form = tuple[Sequence[float], Mapping[str, Sequence[float]]]  # constant and slopes, one number a variant
Make = Callable[[Columns], Any]  # arithmetic on columns: NumPy's here, an engine's own expressions elsewhere


class Rows(Protocol):
    """Rows of several variants together, wherever they are; `columns` names what they hold.

    `labels` are the variants, in the order in which they were put together, `left_out` the rows of each that went.
    """

    @property
    def labels(self) -> tuple[str, ...]:
        """The variants."""

    @property
    def names(self) -> tuple[str, ...]:
        """The columns."""

    @property
    def left_out(self) -> tuple[int, ...]:
        """Rows of each variant that lacked what was needed."""

    @property
    def sizes(self) -> tuple[int, ...]:
        """Rows of each variant."""

    def known(self, names: Sequence[str], *, labels: Sequence[str] = ()) -> Self:
        """Only rows with a value in all of these: columns of numbers, and columns of labels."""

    def only(self, name: str) -> Self:
        """Only rows where a column of 0 and 1 is 1."""

    def lacking(self, names: Sequence[str]) -> dict[str, tuple[int, ...]]:
        """Rows of each variant without a value in columns of numbers, one by one."""

    def later(self, one: str, two: str) -> tuple[int, ...]:
        """Rows of each variant where one column is greater than the other."""

    def filled(self, name: str, marked: str, by: float) -> Self:
        """Missing values of a column filled by one, and one more column that is 1 there and 0 elsewhere."""

    def derived(self, name: str, make: Make) -> Self:
        """With one more column, made of the others."""

    def moments(self, names: Sequence[str], *, by: str | None = None) -> list[dict[str, Moments]]:
        """Of each variant the moments by the levels of a column; without one under the level ""."""

    def totals(self, names: Sequence[str], unit: str, *, count: str, within: str | None = None) -> Self:
        """One row a unit: sums of columns, its number of rows as `count`, and its one level of `within`."""

    def sums(self, makes: Sequence[Mapping[str, Make]]) -> list[dict[str, float]]:
        """Of each variant sums over its rows, in one pass."""

    def lines(self, made: Mapping[str, Form]) -> Self:
        """With further columns, each a constant and a sum of columns times numbers, of each variant its own."""

    def by_unit(self, names: Sequence[str], unit: str) -> tuple[NDArray[np.intp], NDArray[np.intp], Floats, Floats]:
        """Of each unit in each variant: its number, the variant's, its number of rows, and sums of columns, (k, n)."""

    def column(self, name: str) -> list[list[Any]]:
        """Of each variant a column of labels, in memory."""

    def values(self, name: str) -> list[Floats]:
        """Of each variant the values of a column, in memory."""

    def spanning(self, unit: str) -> int:
        """Units that have rows in more than one variant."""


@dataclass(frozen=True, slots=True, eq=False)
class Records(Shown):
    """The rows of one variant, several columns of each: the metric, what was known before, the stratum, the unit.

    Parameters
    ----------
    columns : mapping of str to array_like
        Columns of equal length: numbers or true/false, with NaN for missing values; or text.
    label : str
        What the variant is called in every output.

    Examples
    --------
    >>> short = Records({"fare": [12.0, 0.0, 9.5], "port": ["Amble", "Tern Quay", "Amble"]}, "short")
    >>> len(short), list(short.columns)
    (3, ['fare', 'port'])
    """

    columns: Mapping[str, Any]
    label: str = ""

    def __post_init__(self) -> None:
        if not isinstance(self.columns, Mapping) or not all(isinstance(name, str) for name in self.columns):
            raise InputError.rule("columns", self.columns, "a mapping of name to values")
        held = {name: _column(name, values) for name, values in self.columns.items()}
        check_lengths(held)
        object.__setattr__(self, "columns", held)

    def __len__(self) -> int:
        return len(next(iter(self.columns.values())))

    def __repr__(self) -> str:
        return f"<records {safe(self.label)}: {len(self):,} rows of {safe(', '.join(self.columns))}>"

    def _look(self) -> Look:
        kinds = ((name, "numbers" if v.dtype.kind == "f" else "text") for name, v in self.columns.items())
        return Look(f"Records: {self.label}", ("column", "holds"), kinds, f"{len(self):,} rows")

    def without(self, positions: Iterable[int]) -> Records:
        """The same variant without the rows at some positions, counted from 0."""
        places = list(positions)
        return changed(self, columns={name: kept(v, places, self.label) for name, v in self.columns.items()})

    def together(self, others: Sequence[Any], names: Sequence[str]) -> Rows:
        """These rows and those of other variants, with the columns that are needed."""
        arms = [self, *others]
        for arm in arms:
            if not isinstance(arm, Records):
                raise InputError(f"The rows of {self.label!r} are in memory: give the other variant's as Records too.")
            for name in names:
                if name not in arm.columns:
                    raise DataError.unknown(f"column of {arm.label or 'the records'!r}", name, arm.columns)
        codes = np.repeat(np.arange(len(arms)), [len(arm) for arm in arms])
        columns = {name: np.concatenate([arm.columns[name] for arm in arms]) for name in dict.fromkeys(names)}
        return HeldRows(tuple(arm.label for arm in arms), codes, columns, (0,) * len(arms))


def _column(name: str, values: ArrayLike) -> NDArray[Any]:
    """Numbers as floats, anything else as objects, its missing values as None."""
    try:
        numbers = own(f"column {name!r}", values)
    except InputError:
        listed: Any = values
        found = np.empty(len(listed), dtype=object)
        found[:] = [None if v is None or v != v else v for v in listed]  # noqa: PLR0124 - what is not itself is missing
        found.setflags(write=False)
        return found
    if numbers.ndim != 1:
        raise InputError(f"Column {name!r} must be one-dimensional, got shape {numbers.shape}.")
    return numbers


@dataclass(frozen=True, slots=True, eq=False)
class HeldRows:
    """Rows of several variants in memory; see `Rows`."""

    labels: tuple[str, ...]
    codes: NDArray[np.intp]
    columns: Mapping[str, NDArray[Any]]
    left_out: tuple[int, ...]

    @property
    def names(self) -> tuple[str, ...]:
        """The columns."""
        return tuple(self.columns)

    @property
    def sizes(self) -> tuple[int, ...]:
        """Rows of each variant."""
        return tuple(int(n) for n in np.bincount(self.codes, minlength=len(self.labels)))

    def numbers(self, name: str) -> Floats:
        """A column of numbers."""
        found = self.columns[name]
        if found.dtype.kind != "f":
            raise DataError(f"Column {name!r} holds text, such as {found[0]!r}: numbers are needed.")
        check_finite(name, found[~np.isnan(found)], "")
        return found

    def known(self, names: Sequence[str], *, labels: Sequence[str] = ()) -> HeldRows:
        """See `Rows`."""
        known = np.ones(len(self.codes), dtype=np.bool_)
        for name in names:
            known &= ~np.isnan(self.numbers(name))
        for name in labels:
            column = self.columns[name]
            known &= ~np.isnan(column) if column.dtype.kind == "f" else np.array([v is not None for v in column])
        kept = self._picked(known)
        for k, label in enumerate(self.labels):
            if not np.any(kept.codes == k):
                listed = " and ".join(map(repr, (*names, *labels)))
                raise DataError(f"Variant {label!r} has no row with a value in {listed}.")
        return kept

    def only(self, name: str) -> HeldRows:
        """See `Rows`."""
        return self._picked(self.numbers(name) == 1, count=False)

    def _picked(self, which: NDArray[np.bool_], *, count: bool = True) -> HeldRows:
        if which.all():
            return self
        lost = np.bincount(self.codes[~which], minlength=len(self.labels)) if count else np.zeros(len(self.labels), int)
        columns = {name: values[which] for name, values in self.columns.items()}
        left_out = tuple(int(a + b) for a, b in zip(self.left_out, lost, strict=True))
        return HeldRows(self.labels, self.codes[which], columns, left_out)

    def lacking(self, names: Sequence[str]) -> dict[str, tuple[int, ...]]:
        """See `Rows`."""
        size = len(self.labels)
        lost = {name: np.bincount(self.codes[np.isnan(self.numbers(name))], minlength=size) for name in names}
        return {name: tuple(int(n) for n in each) for name, each in lost.items()}

    def later(self, one: str, two: str) -> tuple[int, ...]:
        """See `Rows`."""
        pairs = zip(self.columns[one].tolist(), self.columns[two].tolist(), strict=True)
        try:
            late = np.array([a is not None and b is not None and a > b for a, b in pairs], dtype=np.bool_)
        except TypeError:
            raise DataError(f"{one!r} and {two!r} hold different kinds of values: days can't be compared.") from None
        return tuple(int(n) for n in np.bincount(self.codes[late], minlength=len(self.labels)))

    def filled(self, name: str, marked: str, by: float) -> HeldRows:
        """See `Rows`."""
        values = self.numbers(name)
        lacks = np.isnan(values)
        return self._with({name: np.where(lacks, by, values), marked: lacks.astype(float)})

    def derived(self, name: str, make: Make) -> HeldRows:
        """See `Rows`."""
        return self._with({name: np.asarray(make(self.columns), dtype=float)})

    def _with(self, columns: Mapping[str, NDArray[Any]]) -> HeldRows:
        return HeldRows(self.labels, self.codes, {**self.columns, **columns}, self.left_out)

    def levels(self, name: str) -> tuple[NDArray[np.intp], list[str]]:
        """A column of labels as whole numbers, and the labels as text, in their order."""
        column = self.columns[name]
        if column.dtype.kind == "f":
            found, codes = np.unique(column, return_inverse=True)
            return codes, [str(int(v)) if v.is_integer() else str(v) for v in found.tolist()]
        text = np.array([str(v) for v in column])
        found, codes = np.unique(text, return_inverse=True)
        return codes, found.tolist()

    def moments(self, names: Sequence[str], *, by: str | None = None) -> list[dict[str, Moments]]:
        """See `Rows`."""
        codes, levels = (np.zeros(len(self.codes), dtype=np.intp), [""]) if by is None else self.levels(by)
        cells = self.codes * len(levels) + codes
        order = np.argsort(cells, kind="stable")
        ends = np.searchsorted(cells[order], np.arange(len(self.labels) * len(levels) + 1))
        columns = [self.numbers(name)[order] for name in names]
        found: list[dict[str, Moments]] = []
        for k, label in enumerate(self.labels):
            found.append({})
            for j, level in enumerate(levels):
                rows = slice(*ends[k * len(levels) + j : k * len(levels) + j + 2])
                if rows.start < rows.stop:
                    part = {name: values[rows] for name, values in zip(names, columns, strict=True)}
                    missing = self.left_out[k] if by is None else 0
                    found[-1][level] = Moments.from_arrays(part, label=label, missing=missing, checked=True)
        return found

    def totals(self, names: Sequence[str], unit: str, *, count: str, within: str | None = None) -> HeldRows:
        """See `Rows`."""
        units, ids = self.levels(unit)
        cells, at, codes = np.unique(self.codes * len(ids) + units, return_index=True, return_inverse=True)
        columns: dict[str, NDArray[Any]] = {
            name: np.bincount(codes, weights=self.numbers(name), minlength=cells.size).astype(float) for name in names
        }
        columns[count] = np.bincount(codes, minlength=cells.size).astype(float)
        columns[unit] = np.array(ids, dtype=object)[cells % len(ids)]
        if within is not None:
            levels, named = self.levels(within)
            if not np.array_equal(levels[at][codes], levels):
                odd = columns[unit][codes[np.argmax(levels[at][codes] != levels)]]
                raise DataError(f"{unit} {odd!r} has rows in more than one stratum of {within!r}.")
            columns[within] = np.array(named, dtype=object)[levels[at]]
        return HeldRows(self.labels, self.codes[at], columns, self.left_out)

    def sums(self, makes: Sequence[Mapping[str, Make]]) -> list[dict[str, float]]:
        """See `Rows`."""
        found = []
        for k, made in enumerate(makes):
            mine = self.codes == k
            columns = {name: v[mine] for name, v in self.columns.items() if v.dtype.kind == "f"}
            found.append({name: float(np.sum(make(columns) * np.ones(int(mine.sum())))) for name, make in made.items()})
        return found

    def lines(self, made: Mapping[str, Form]) -> HeldRows:
        """See `Rows`."""
        columns = {}
        for name, (constants, slopes) in made.items():
            found = np.asarray(constants, dtype=float)[self.codes]
            for column, each in slopes.items():
                found = found + np.asarray(each, dtype=float)[self.codes] * self.numbers(column)
            columns[name] = found
        return self._with(columns)

    def by_unit(self, names: Sequence[str], unit: str) -> tuple[NDArray[np.intp], NDArray[np.intp], Floats, Floats]:
        """See `Rows`."""
        units, ids = self.levels(unit)
        cells, codes = np.unique(self.codes * len(ids) + units, return_inverse=True)
        size = cells.size
        sums = [np.bincount(codes, weights=self.numbers(name), minlength=size) for name in names]
        rows = np.bincount(codes, minlength=size).astype(float)
        return cells % len(ids), cells // len(ids), rows, np.array(sums, dtype=np.float64)

    def column(self, name: str) -> list[list[Any]]:
        """See `Rows`."""
        return [self.columns[name][self.codes == k].tolist() for k in range(len(self.labels))]

    def values(self, name: str) -> list[Floats]:
        """See `Rows`."""
        return [self.numbers(name)[self.codes == k] for k in range(len(self.labels))]

    def spanning(self, unit: str) -> int:
        """See `Rows`."""
        units, ids = self.levels(unit)
        seen = np.unique(self.codes * len(ids) + units) % len(ids)
        return int(np.sum(np.bincount(seen) > 1))
