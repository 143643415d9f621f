"""Rows to moments by variant: where are the values, seen from some rows, and how do they spread around there?

Rows in memory are summed with NumPy; everything else is asked of the engine that holds it. Both bring back, for every
variant, the count and the sums of deviations (and of their products) from an origin near the means.
"""

from __future__ import annotations

import logging
import math
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, TypeAlias

import narwhals as nw
import numpy as np
from narwhals.dtypes import DType
from numpy.typing import NDArray

from amber_ruler.errors import DataError
from amber_ruler.moments import Moments, too_large
from amber_ruler.numeric.gate import Floats
from amber_ruler.samples import ByVariant
from amber_ruler.shape import Shape

_LOG = logging.getLogger(__name__)
_SOME = 100_000  # rows that tell where the values are
_ROWS = 1 << 14  # a block of rows that stays in the processor's cache
# An origin this many spreads away would cost digits: such a variant is summed again around its own mean.
_FAR = 30.0


@dataclass(frozen=True, slots=True)
class Sums:
    """What a pass brings back for one variant, or one cell of several labels.

    Attributes
    ----------
    n, missing : int
        Rows that were added up, and rows that were left out because a column had no value.
    origin, sums, products, shape
        Sums of deviations from an origin, of their products and powers, by column.
    gaps : frozenset of int
        Columns whose sums say nothing, for a row that was not left out had no finite value.
    """

    n: int
    missing: int
    origin: Floats
    sums: Floats
    products: Floats
    shape: Shape
    gaps: frozenset[int] = frozenset()

    @property
    def mean(self) -> Floats:
        """The means of the columns."""
        return self.origin + self.sums / max(self.n, 1)

    @property
    def far(self) -> bool:
        """Whether the origin is so far off that it costs digits."""
        with np.errstate(invalid="ignore"):  # in a gap
            shift = self.sums / self.n
            spread = np.sqrt(np.maximum(np.diag(self.products) / self.n - shift**2, 0))
        return any(abs(shift[i]) > _FAR * spread[i] for i in range(len(shift)) if i not in self.gaps)

    def at(self, places: Sequence[int]) -> Sums:
        """Some of the columns, without gaps."""
        some = list(places)
        products = self.products[np.ix_(some, some)]
        return Sums(self.n, self.missing, self.origin[some], self.sums[some], products, self.shape.at(some))

    def moments(self, columns: Sequence[str], label: str) -> Moments:
        """The moments of all columns."""
        return Moments.from_sums(
            columns, self.n, self.origin, self.sums, self.products, self.shape, label=label, missing=self.missing
        )


Cells: TypeAlias = "dict[tuple[Any, ...], Sums]"  # by the values of one or several columns of labels


def from_engine(frame: nw.LazyFrame[Any], columns: Sequence[str], by: str) -> ByVariant[Moments]:
    """Reduce on the engine the rows that are complete in all columns; only sums come back."""
    whole = range(len(columns))
    found = _on_engine(frame, columns, [by], [whole], joint=True)
    return _moments({key: part for (key,), part in found.items()}, columns, by)


def sets_from_engine(
    frame: nw.LazyFrame[Any], columns: Sequence[str], by: Sequence[str], sets: Sequence[Sequence[int]]
) -> Cells:
    """Sums of all columns, and of the products within each set, by several labels, in one scan of the rows."""
    return _on_engine(frame, columns, by, sets, joint=False)


def _on_engine(
    frame: nw.LazyFrame[Any], columns: Sequence[str], by: Sequence[str], sets: Sequence[Sequence[int]], *, joint: bool
) -> Cells:
    schema = frame.collect_schema()
    names = [f"v{i}" for i in range(len(columns))]
    labels = [f"label{i}" for i in range(len(by))]
    values = [as_float(nw.col(c), schema[c]).alias(n) for c, n in zip(columns, names, strict=True)]
    rows = frame.select(*(nw.col(c).alias(label) for c, label in zip(by, labels, strict=True)), *values)
    known = [
        here
        for c, n in zip(columns, names, strict=True)
        for here in (~nw.col(n).is_null(), *([~nw.col(n).is_nan()] if may_be_nan(schema[c]) else []))
    ]
    complete = nw.all_horizontal(*known, ignore_nulls=False)
    # A warehouse inlines what is named once and used often: there complete rows are filtered, all are counted apart.
    apart = joint and frame.implementation.is_ibis()
    if joint:
        rows = rows.with_columns(ok=complete)
    origins = [f"o{i}" for i in range(len(columns))]
    pairs = sorted({(min(i, j), max(i, j)) for places in sets for i in places for j in places})

    def sums_around(rows: nw.LazyFrame[Any]) -> Cells:
        counts = {_key(row, labels): row["rows"] for row in rows_of(_lengths(rows, labels))} if apart else {}
        rows = rows.filter(nw.col("ok")) if apart else rows

        def masked(value: nw.Expr) -> nw.Expr:
            return nw.when(nw.col("ok")).then(value) if joint and not apart else value

        around = [masked(nw.col(n) - nw.col(o)).alias(n) for n, o in zip(names, origins, strict=True)]
        raw = [masked(nw.col(n)).alias(f"raw{i}") for i, n in enumerate(names)]
        squares = [(nw.col(names[i]) * nw.col(names[j])).alias(f"p{i}_{j}") for i, j in pairs]
        powers = [
            expression
            for i, n in enumerate(names)
            for expression in (
                (nw.col(f"p{i}_{i}") * nw.col(n)).alias(f"c{i}"),
                (nw.col(f"p{i}_{i}") * nw.col(f"p{i}_{i}")).alias(f"f{i}"),
            )
        ]
        counted = names[:1] if joint else names
        found = (
            rows.with_columns(*raw, *around)
            .with_columns(*squares)
            .with_columns(*powers)
            .group_by(*labels)
            .agg(
                nw.len().alias("rows"),
                *(nw.col(n).count().alias(f"n{i}") for i, n in enumerate(counted)),
                *(nw.col(o).max() for o in origins),
                *(nw.col(n).sum() for n in names),
                *(nw.col(f"p{i}_{j}").sum() for i, j in pairs),
                *(nw.col(f"{power}{i}").sum() for i in range(len(names)) for power in "cf"),
                *(nw.col(f"raw{i}").min().alias(f"l{i}") for i in range(len(names))),
                *(nw.col(f"raw{i}").max().alias(f"h{i}") for i in range(len(names))),
            )
        )
        nothing = np.zeros(len(names))
        empty = Shape(nothing, nothing, nothing, nothing)
        result = {key: Sums(0, int(n), nothing, nothing, np.diag(nothing), empty) for key, n in counts.items()}
        for row in rows_of(found):
            products = np.zeros((len(names), len(names)))
            for i, j in pairs:
                products[i, j] = products[j, i] = row[f"p{i}_{j}"] or 0.0
            n = int(row["n0"]) if joint else int(row["rows"])
            origin, sums = (np.array([row[name] or 0.0 for name in part]) for part in (origins, names))
            cubes, fourths, low, high = (
                np.array([row[f"{part}{i}"] or 0.0 for i in range(len(names))]) for part in "cflh"
            )
            missing = int(counts.get(_key(row, labels), row["rows"])) - n
            # A sum that met a NaN comes back as None, one that met an infinite value as no finite number.
            unknown = {i for i in range(len(counted)) if row[f"n{i}"] != n or row[f"p{i}_{i}"] is None}
            gaps = frozenset(unknown | set(np.flatnonzero(~np.isfinite(np.diag(products))).tolist()))
            part = Sums(n, missing, origin, sums, products, Shape(cubes, fourths, low, high), gaps)
            result[_key(row, labels)] = part
        return result

    first = _origin(rows.filter(nw.col("ok")) if joint else rows, names)
    found = sums_around(rows.with_columns(*(real(v).alias(o) for v, o in zip(first, origins, strict=True))))
    if joint and not all(np.isfinite(part.products).all() for part in found.values()):
        for name, column in zip(names, columns, strict=True):
            endless = _lengths(rows.filter(nw.col(name).abs() == float("inf")), labels)
            _refuse_endless(column, by[0], {row["label0"]: row["rows"] for row in rows_of(endless)})
        raise too_large(columns)

    def again(keys: list[tuple[Any, ...]]) -> Cells:
        mine = rows.filter(nw.col("label0").is_in([key[0] for key in keys]))
        means = [nw.col(n).mean().alias(o) for n, o in zip(names, origins, strict=True)]
        own = (mine.filter(nw.col("ok")) if joint else mine).group_by(*labels).agg(*means)
        return sums_around(mine.join(own, on=labels, how="left"))

    return _settled(found, again)


def _settled(found: Cells, again: Callable[[list[Any]], Cells]) -> Cells:
    """Cells that lie far from the origin summed again, each around its own means."""
    far = [key for key, part in found.items() if None not in key and part.n and part.far]
    return found | ({key: part for key, part in again(far).items() if key in far} if far else {})


def _key(row: dict[str, Any], labels: Sequence[str]) -> tuple[Any, ...]:
    return tuple(row[label] for label in labels)


def _lengths(rows: nw.LazyFrame[Any], labels: Sequence[str]) -> nw.LazyFrame[Any]:
    return rows.group_by(*labels).agg(nw.len().alias("rows"))


def _origin(rows: nw.LazyFrame[Any], names: Sequence[str]) -> Floats:
    """Values near the means, from the first complete rows; a variant that lies far from them is summed again."""
    finite = nw.all_horizontal(*(nw.col(n).abs() < float("inf") for n in names), ignore_nulls=False)
    some = rows_of(rows.filter(finite).head(_SOME).select(*(nw.col(n).mean() for n in names)))[0]
    return np.array([some[n] or 0.0 for n in names], dtype=np.float64)


def from_memory(
    codes: NDArray[np.intp], labels: Sequence[Any], values: Sequence[Floats], columns: Sequence[str], by: str
) -> ByVariant[Moments]:
    """Reduce arrays: `codes` is -1 or an index into `labels`; `values` holds an array for each column."""
    complete = _complete(codes, labels, values, columns, by)
    found = _in_memory(codes, [(label,) for label in labels], values, [range(len(columns))], complete)
    if not all(np.isfinite(part.products).all() for part in found.values()):
        raise too_large(columns)
    return _moments({key: part for (key,), part in found.items()}, columns, by)


def sets_from_memory(
    codes: NDArray[np.intp], labels: Sequence[tuple[Any, ...]], values: Sequence[Floats], sets: Sequence[Sequence[int]]
) -> Cells:
    """Sums of all columns, and of the products within each set, by several labels."""
    return _in_memory(codes, labels, values, sets, None)


def _in_memory(
    codes: NDArray[np.intp],
    labels: Sequence[tuple[Any, ...]],
    values: Sequence[Floats],
    sets: Sequence[Sequence[int]],
    complete: NDArray[np.bool_] | None,
) -> Cells:
    keys = [(None,), *labels]
    width = len(values)
    pairs = sorted({(min(i, j), max(i, j)) for places in sets for i in places for j in places})

    def sums_around(origin: Floats, codes: NDArray[np.intp]) -> Cells:
        size = len(keys)
        n, missing = np.zeros(size, dtype=np.int64), np.zeros(size, dtype=np.int64)
        sums, products = np.zeros((size, width)), np.zeros((size, width, width))
        cubes, fourths = np.zeros((size, width)), np.zeros((size, width))
        low, high = np.full((size, width), np.inf), np.full((size, width), -np.inf)
        short = np.int16 if size < 2**15 else np.int64  # short codes sort in linear time
        for start in range(0, len(codes), _ROWS):
            part = slice(start, start + _ROWS)
            code = (codes[part] + 1).astype(short)
            if complete is not None:
                ok = complete[part]
                missing += np.bincount(code[~ok], minlength=size)
                code[~ok] = size  # past the last variant
            counts = np.bincount(code, minlength=size + 1)[:size]
            n += counts
            # Sorted by variant, each sum is one run over neighbours.
            order = np.argsort(code, kind="stable")[: counts.sum()]
            seen = np.flatnonzero(counts)
            if seen.size == 0:
                continue
            starts = np.cumsum(counts)[seen] - counts[seen]
            away = [np.repeat(o[seen], counts[seen]) if o.size > 1 else o for o in origin]
            raw = [v[part][order] for v in values]
            around = [v - o for v, o in zip(raw, away, strict=True)]
            for i in range(width):
                sums[seen, i] += np.add.reduceat(around[i], starts)
            for i, j in pairs:
                product = around[i] * around[j]
                products[seen, i, j] += np.add.reduceat(product, starts)
                if i == j:
                    cubes[seen, i] += np.add.reduceat(product * around[i], starts)
                    fourths[seen, i] += np.add.reduceat(product * product, starts)
                    low[seen, i] = np.minimum(low[seen, i], np.minimum.reduceat(raw[i], starts))
                    high[seen, i] = np.maximum(high[seen, i], np.maximum.reduceat(raw[i], starts))
        for i, j in pairs:
            products[:, j, i] = products[:, i, j]
        at = np.broadcast_to(origin, (width, size))
        return {
            key: Sums(
                int(n[k]),
                int(missing[k]),
                at[:, k],
                sums[k],
                products[k],
                Shape(cubes[k], fourths[k], low[k], high[k]),
                frozenset(np.flatnonzero(~np.isfinite(np.diag(products[k]))).tolist()),
            )
            for k, key in enumerate(keys)
            if n[k] + missing[k]
        }

    def again(far: list[tuple[Any, ...]]) -> Cells:
        own = np.array([found[k].mean if k in found else np.zeros(width) for k in keys]).T
        return sums_around(own, np.where(np.isin(codes, [keys.index(k) - 1 for k in far]), codes, -1))

    with np.errstate(over="ignore", invalid="ignore"):
        found = sums_around(np.array([[_near_mean(v)] for v in values]), codes)
        return _settled(found, again)


def _complete(
    codes: NDArray[np.intp], labels: Sequence[Any], values: Sequence[Floats], columns: Sequence[str], by: str
) -> NDArray[np.bool_] | None:
    """Which rows have a value in every column; None where all have."""
    if all(np.isfinite(np.sum(v)) for v in values):
        return None
    complete = np.ones(len(codes), dtype=np.bool_)
    for column, v in zip(columns, values, strict=True):
        finite = np.isfinite(v)
        if not finite.all() and np.isinf(v[~finite]).any():
            held = np.bincount(codes[np.isinf(v)] + 1, minlength=len(labels) + 1)
            _refuse_endless(column, by, {k: int(c) for k, c in zip([None, *labels], held, strict=True) if c})
        complete &= finite
    return complete


def _near_mean(values: Floats) -> float:
    """A value near the mean, from rows spread over the column."""
    some = values[:: max(1, len(values) // _SOME)]
    some = some[np.isfinite(some)]
    return float(np.mean(some)) if some.size else 0.0


def _moments(found: dict[Any, Sums], columns: Sequence[str], by: str) -> ByVariant[Moments]:
    nobody = found.pop(None, None)
    unassigned = nobody.n + nobody.missing if nobody else 0
    if not found:
        raise DataError(f"Column {by!r} holds no variant label in any of its {unassigned:,} rows.")
    for key, sums in found.items():
        if sums.n == 0:
            raise DataError(
                f"Variant {label_text(key)!r} has no row with a value in {' and '.join(map(repr, columns))}:"
                f" all {sums.missing:,} rows are missing one."
            )
    result = {(label := label_text(key)): s.moments(columns, label) for key, s in found.items()}
    return ByVariant(dict(sorted(result.items())), column=by, unassigned=unassigned)


def label_text(key: Any) -> str:
    """A variant's label as text; whole numbers stored as floats lose their point."""
    whole = isinstance(key, float) and key.is_integer()
    if whole or (isinstance(key, Decimal) and key == key.to_integral_value()):
        return str(int(key))
    return str(key)


def as_float(column: nw.Expr, kind: DType) -> nw.Expr:
    """A column as floats."""
    if kind == nw.Boolean:
        # Not a cast: an engine may push that into its file reader, which then meets "true" in a number column.
        return nw.when(~column.is_null()).then(nw.when(column).then(real(1.0)).otherwise(real(0.0)))
    return column.cast(nw.Float64)


def may_be_nan(kind: DType) -> bool:
    """Whether a column's kind has a NaN."""
    return not (kind.is_integer() or kind == nw.Boolean)


def number(column: nw.Expr, kind: DType) -> nw.Expr:
    """A column as floats, NaN counted as missing."""
    value = as_float(column, kind)
    return nw.when(~value.is_nan()).then(value) if may_be_nan(kind) else value


def real(value: float) -> nw.Expr:
    """A number as an engine's float: some take the number itself for a decimal, whose products have no end."""
    return nw.lit(repr(float(value))).cast(nw.Float64)


def ones(condition: nw.Expr) -> nw.Expr:
    """1 where a condition is met, else 0, to be added up: not every engine casts true to 1."""
    return nw.when(condition).then(nw.lit(1)).otherwise(nw.lit(0))


def rows_of(frame: nw.LazyFrame[Any]) -> list[dict[str, Any]]:
    """Fetch a small result as plain rows, missing values as None."""
    return [{k: (None if _absent(v) else v) for k, v in row.items()} for row in collected(frame).iter_rows(named=True)]


def collected(frame: nw.LazyFrame[Any]) -> nw.DataFrame[Any]:
    """Compute a lazy frame, by the way that costs its engine least."""
    began = time.perf_counter()
    if frame.implementation.is_polars():
        found = frame.collect()
    else:
        found = frame.collect(backend="pyarrow" if frame.implementation.is_spark_like() else "pandas")
    taken, engine = time.perf_counter() - began, frame.implementation.value
    _LOG.debug("%s: %d columns, %d rows in %.2f s", engine, len(found.columns), len(found), taken)
    return found


def _absent(value: Any) -> bool:
    return value is None or type(value).__name__ == "NAType" or (isinstance(value, float) and math.isnan(value))


def _refuse_endless(column: str, by: str, held: dict[Any, int]) -> None:
    if not held:
        return
    listed = ", ".join(f"{'no variant' if k is None else repr(label_text(k))}: {c:,}" for k, c in held.items())
    raise DataError(
        f"Column {column!r} holds infinite values ({by} {listed} rows). Find out where they come from and fix them."
    )
