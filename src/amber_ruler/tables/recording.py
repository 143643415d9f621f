"""The rows of each variant, left where they are: in memory, or on the engine that holds them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import narwhals as nw
import numpy as np
from narwhals.dtypes import DType
from numpy.typing import NDArray

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.numeric.gate import Floats
from amber_ruler.results.display import safe
from amber_ruler.samples import ByVariant, Records
from amber_ruler.samples.records import Form, Make
from amber_ruler.tables import reduce
from amber_ruler.tables.frame import Held, names
from amber_ruler.tables.pairing import codes, floats

_APART = "\x1f"  # the separator of units in ASCII


def records(table: Held, columns: str | Sequence[str], *, by: str) -> ByVariant[Any]:
    """See `Table.records`."""
    wanted = names("columns", columns)
    table.need_rows()
    table.need([], by)
    table.need_columns(*wanted)
    if by in wanted:
        raise InputError(f"{by!r} holds the variants: it can't be one of their columns.", name="by")
    if not isinstance(table.frame, nw.LazyFrame):
        return _held(table, wanted, by)
    with table.reading():
        lazy = table.frame.lazy().select(nw.col(by).alias("label"))
        found = {row["label"] for row in reduce.rows_of(lazy.unique())}
        unassigned = 0
        if None in found:
            lost = lazy.filter(nw.col("label").is_null()).select(nw.len().alias("n"))
            unassigned = int(reduce.rows_of(lost)[0]["n"])
    keys = {reduce.label_text(key): key for key in found if key is not None}
    if not keys:
        raise _nobody(by, unassigned)
    arms = {label: TableRecords(table, by, keys[label], label, tuple(wanted)) for label in sorted(keys)}
    return ByVariant(arms, column=by, unassigned=unassigned)


def _nobody(by: str, rows: int) -> DataError:
    return DataError(f"Column {by!r} holds no variant label in any of its {rows:,} rows.")


def _held(table: Held, wanted: list[str], by: str) -> ByVariant[Records]:
    native = table.fetched(by, *wanted)
    coded, labels = codes(native[by])
    if not labels:
        raise _nobody(by, len(coded))
    found = {}
    for k, key in enumerate(labels):
        mine = native[coded == k]
        label = reduce.label_text(key)
        found[label] = Records({name: _values(mine[name], table.schema[name]) for name in wanted}, label)
    return ByVariant(dict(sorted(found.items())), column=by, unassigned=int(np.sum(coded < 0)))


def _values(column: Any, kind: DType) -> Any:
    """Numbers and true or false as floats; anything else as it is, None where it is missing."""
    if kind.is_numeric() or isinstance(kind, nw.Boolean):
        return floats(column)
    return [None if missing else value for value, missing in zip(column, column.isna(), strict=True)]


@dataclass(frozen=True, slots=True, eq=False)
class TableRecords:
    """The rows of one variant on the engine that holds them; made by `Table.records`.

    Attributes
    ----------
    label : str
        The variant.
    columns : tuple of str
        The columns that may be asked for.
    """

    table: Held = field(repr=False)
    by: str
    key: Any = field(repr=False)
    label: str
    columns: tuple[str, ...]

    def __repr__(self) -> str:
        return f"<records {safe(self.label)} of {safe(self.table.name)}: {safe(', '.join(self.columns))}>"

    def together(self, others: Sequence[Any], names: Sequence[str]) -> TableRows:
        """These rows and those of other variants of the same table, with the columns that are needed."""
        arms = [self, *others]
        for arm in arms:
            if not isinstance(arm, TableRecords) or arm.table is not self.table or arm.by != self.by:
                raise InputError(
                    f"The rows of {self.label!r} are in {self.table.name}: give the other's from there too."
                )
        for name in names:
            if name not in self.columns:
                raise DataError.unknown(f"column of these records of {self.table.name}", name, self.columns)
        label = "variant" + "_" * max(map(len, self.table.columns))
        with self.table.reading():
            frame = self.table.frame.lazy()
            picked = nw.col(self.by).is_in([arm.key for arm in arms])
            frame = frame.filter(picked).select(nw.col(self.by).alias(label), *(nw.col(name) for name in names))
        keys, labels = tuple(arm.key for arm in arms), tuple(arm.label for arm in arms)
        return TableRows(self.table, frame, label, keys, labels, tuple(names), (0,) * len(arms))


@dataclass(frozen=True, slots=True, eq=False)
class TableRows:
    """Rows of several variants on their engine: every question is one pass over them; see `samples.records.Rows`."""

    table: Held
    frame: nw.LazyFrame[Any]
    by: str
    keys: tuple[Any, ...]
    labels: tuple[str, ...]
    names: tuple[str, ...]
    left_out: tuple[int, ...]
    made: frozenset[str] = frozenset()

    @property
    def sizes(self) -> tuple[int, ...]:
        """Rows of each variant."""
        return self.each(nw.len())

    def each(self, count: nw.Expr) -> tuple[int, ...]:
        """A whole number of each variant."""
        with self.table.reading():
            rows = reduce.rows_of(self.frame.group_by(self.by).agg(count.alias("count__")))
        found = {row[self.by]: int(row["count__"] or 0) for row in rows}
        return tuple(found.get(key, 0) for key in self.keys)

    def number(self, name: str) -> nw.Expr:
        """A column of numbers, missing ones as null."""
        if name in self.made:
            return nw.col(name)
        self.table.need([name])
        return reduce.number(nw.col(name), self.table.schema[name])

    def known(self, names: Sequence[str], *, labels: Sequence[str] = ()) -> TableRows:
        """See `Rows`."""
        numbers = [self.number(name) for name in names]
        ok = nw.all_horizontal(
            *(~number.is_null() for number in numbers),
            *(~nw.col(name).is_null() for name in labels),
            ignore_nulls=False,
        )
        with self.table.reading():
            marked = self.frame.with_columns(
                ok__=nw.when(ok).then(1).otherwise(0),
                **{f"e{k}": nw.when(n.abs() == float("inf")).then(1).otherwise(0) for k, n in enumerate(numbers)},
            )
            sums = [nw.col("ok__").sum(), *(nw.col(f"e{k}").sum() for k in range(len(numbers)))]
            rows = reduce.rows_of(marked.group_by(self.by).agg(nw.len().alias("all__"), *sums))
        found = {row[self.by]: row for row in rows}
        lost = []
        for key, label in zip(self.keys, self.labels, strict=True):
            row = found.get(key)
            for k, name in enumerate(names):
                if row is not None and row[f"e{k}"]:
                    raise DataError(
                        f"Column {name!r} holds infinite values in {int(row[f'e{k}']):,} rows of {label!r}."
                    )
            if row is None or not row["ok__"]:
                listed = " and ".join(map(repr, (*names, *labels)))
                raise DataError(f"Variant {label!r} has no row with a value in {listed}.")
            lost.append(int(row["all__"]) - int(row["ok__"]))
        left_out = tuple(a + b for a, b in zip(self.left_out, lost, strict=True))
        frame = self.frame.filter(ok) if any(lost) else self.frame
        return replace(self, frame=frame, left_out=left_out)

    def only(self, name: str) -> TableRows:
        """See `Rows`."""
        return replace(self, frame=self.frame.filter(self.number(name) == 1))

    def lacking(self, names: Sequence[str]) -> dict[str, tuple[int, ...]]:
        """See `Rows`."""
        if not names:
            return {}
        gone = {f"gone{k}": nw.when(self.number(name).is_null()).then(1) for k, name in enumerate(names)}
        with self.table.reading():
            frame = self.frame.select(nw.col(self.by), *(mark.alias(column) for column, mark in gone.items()))
            rows = reduce.rows_of(frame.group_by(self.by).agg(*(nw.col(column).sum() for column in gone)))
        found = {row[self.by]: row for row in rows}
        return {name: tuple(int(found[key][f"gone{k}"] or 0) for key in self.keys) for k, name in enumerate(names)}

    def later(self, one: str, two: str) -> tuple[int, ...]:
        """See `Rows`."""
        with self.table.reading():
            frame = self.frame.with_columns(late__=nw.when(nw.col(one) > nw.col(two)).then(1).otherwise(0))
        return replace(self, frame=frame).each(nw.col("late__").sum())

    def filled(self, name: str, marked: str, by: float) -> TableRows:
        """See `Rows`."""
        number = self.number(name)
        value = nw.when(number.is_null()).then(reduce.real(by)).otherwise(number).alias(name)
        mark = nw.when(number.is_null()).then(reduce.real(1)).otherwise(reduce.real(0)).alias(marked)
        frame = self.frame.with_columns(mark).with_columns(value)
        return replace(self, frame=frame, names=(*self.names, marked), made=self.made | {name, marked})

    def derived(self, name: str, make: Make) -> TableRows:
        """See `Rows`."""
        frame = self.frame.with_columns(make(self._columns()).cast(nw.Float64).alias(name))
        return replace(self, frame=frame, names=tuple(dict.fromkeys((*self.names, name))), made=self.made | {name})

    def _columns(self) -> Mapping[str, nw.Expr]:
        return _Numbers(self)

    def moments(self, names: Sequence[str], *, by: str | None = None) -> list[dict[str, Moments]]:
        """See `Rows`."""
        numbers = [self.number(name).alias(name) for name in names]
        found: list[dict[str, Moments]] = [{} for _ in self.labels]
        key = "cell" + self.by
        variant: Any = nw.lit(None, dtype=nw.String)
        for k, label in enumerate(self.keys):
            variant = nw.when(nw.col(self.by) == label).then(nw.lit(str(k))).otherwise(variant)
        parts = [variant] if by is None else [variant, self._level(by)]
        with self.table.reading():
            frame = self.frame.select(nw.concat_str(*parts, separator=_APART).alias(key), *numbers)
            reduced = reduce.from_engine(frame, list(names), key)
        for cell, m in reduced.items():
            at, _, level = cell.partition(_APART)
            missing = self.left_out[int(at)] if by is None else 0
            level = _plain(level) if by is not None and self.table.schema[by].is_float() else level
            found[int(at)][level] = replace(m, label=self.labels[int(at)], missing=missing)
        return found

    def _level(self, by: str) -> nw.Expr:
        """A column of labels as text, as the rows in memory have it."""
        if isinstance(self.table.schema[by], nw.Boolean):
            return nw.when(nw.col(by)).then(nw.lit("1")).otherwise(nw.lit("0"))
        return nw.col(by).cast(nw.String)

    def totals(self, names: Sequence[str], unit: str, *, count: str, within: str | None = None) -> TableRows:
        """See `Rows`."""
        numbers = [self.number(name).alias(name) for name in names]
        levels = [] if within is None else [nw.col(within).alias("low__"), nw.col(within).alias("high__")]
        frame = self.frame.select(nw.col(self.by), nw.col(unit), *numbers, *levels)
        ends = [] if within is None else [nw.col("low__").min(), nw.col("high__").max()]
        sums = [nw.col(name).sum() for name in names]
        frame = frame.group_by(self.by, unit).agg(nw.len().alias(count), *sums, *ends)
        if within is not None:
            with self.table.reading():
                odd = reduce.rows_of(frame.filter(nw.col("low__") != nw.col("high__")).select(unit).head(1))
            if odd:
                raise DataError(f"{unit} {odd[0][unit]!r} has rows in more than one stratum of {within!r}.")
            frame = frame.with_columns(nw.col("low__").alias(within))
        frame = frame.with_columns(nw.col(count).cast(nw.Float64))
        made = frozenset((*names, count))
        return replace(self, frame=frame, names=(*names, count, unit), made=made)

    def lines(self, made: Mapping[str, Form]) -> TableRows:
        """See `Rows`."""

        def own(numbers: Sequence[float]) -> Any:
            found: Any = reduce.real(numbers[0])
            for key, number in zip(self.keys[1:], numbers[1:], strict=True):
                found = nw.when(nw.col(self.by) == key).then(reduce.real(number)).otherwise(found)
            return found

        columns = {}
        for name, (constants, slopes) in made.items():
            found = own(constants)
            for column, each in slopes.items():
                alike = len(set(map(float, each))) == 1
                found = found + self.number(column) * (reduce.real(each[0]) if alike else own(each))
            columns[name] = found.alias(name)
        frame = self.frame.with_columns(*columns.values())
        names = tuple(dict.fromkeys((*self.names, *columns)))
        return replace(self, frame=frame, names=names, made=self.made | set(columns))

    def by_unit(self, names: Sequence[str], unit: str) -> tuple[NDArray[np.intp], NDArray[np.intp], Floats, Floats]:
        """See `Rows`."""
        numbers = [self.number(name).alias(f"v{k}") for k, name in enumerate(names)]
        frame = self.frame.select(nw.col(self.by), nw.col(unit).alias("unit__"), *numbers)
        sums = [nw.col(f"v{k}").sum() for k in range(len(names))]
        with self.table.reading():
            each = reduce.collected(frame.group_by(self.by, "unit__").agg(nw.len().alias("rows"), *sums))
        variants = {key: k for k, key in enumerate(self.keys)}
        variant = np.array([variants[key] for key in each[self.by].to_list()], dtype=np.intp)
        _, units = np.unique(np.array([str(v) for v in each["unit__"].to_list()]), return_inverse=True)
        found = np.array([each[f"v{k}"].to_numpy() for k in range(len(names))], dtype=np.float64)
        return units, variant, np.asarray(each["rows"].to_numpy(), dtype=np.float64), found

    def sums(self, makes: Sequence[Mapping[str, Make]]) -> list[dict[str, float]]:
        """See `Rows`."""
        columns = self._columns()
        made = {f"s{k}_{j}": make(columns) for k, each in enumerate(makes) for j, make in enumerate(each.values())}
        keys = [key for key, each in zip(self.keys, makes, strict=True) for _ in each]
        with self.table.reading():
            kinds = self.frame.select(**made).collect_schema()
            asked = {
                name: nw.when(nw.col(self.by) == key).then(reduce.as_float(value, kinds[name]))
                for key, (name, value) in zip(keys, made.items(), strict=True)
            }
            frame = self.frame.select(*(e.alias(name) for name, e in asked.items()))
            (row,) = reduce.rows_of(frame.select(*(nw.col(name).sum() for name in asked)))
        return [{name: float(row[f"s{k}_{j}"] or 0.0) for j, name in enumerate(each)} for k, each in enumerate(makes)]

    def values(self, name: str) -> list[Floats]:
        """See `Rows`."""
        found = []
        for key in self.keys:
            mine = self.frame.filter(nw.col(self.by) == key).select(self.number(name).alias(name))
            with self.table.reading():
                found.append(np.asarray(reduce.collected(mine)[name].to_numpy(), dtype=np.float64))
        return found

    def column(self, name: str) -> list[list[Any]]:
        """See `Rows`."""
        found = []
        for key in self.keys:
            mine = self.frame.filter(nw.col(self.by) == key).select(nw.col(name))
            with self.table.reading():
                found.append(reduce.collected(mine)[name].to_list())
        return found

    def spanning(self, unit: str) -> int:
        """See `Rows`."""
        with self.table.reading():
            each = self.frame.select(nw.col(self.by), nw.col(unit)).unique()
            several = each.group_by(unit).agg(nw.len().alias("n__")).filter(nw.col("n__") > 1)
            return int(reduce.rows_of(several.select(nw.len().alias("n__")))[0]["n__"])


class _Numbers(Mapping[str, nw.Expr]):
    """Columns of numbers as the engine's expressions, made when they are asked for."""

    def __init__(self, rows: TableRows) -> None:
        self.rows = rows

    def __getitem__(self, name: str) -> nw.Expr:
        return self.rows.number(name)

    def __iter__(self) -> Any:
        return iter(self.rows.names)

    def __len__(self) -> int:
        return len(self.rows.names)


def _plain(text: str) -> str:
    """A label as text; of whole numbers that an engine holds as floats without their point."""
    return text.removesuffix(".0")
