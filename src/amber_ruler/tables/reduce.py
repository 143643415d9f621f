"""Rows to moments by variant, in two passes: where are the values, and how do they spread around there?

Rows in memory are summed with NumPy; everything else is asked of the engine that holds it. Both bring back, for every
variant, the count and the sums of deviations (and of their products) from an origin near the means.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import narwhals as nw
import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.moments import Moments
from amber_ruler.tables.variants import ByVariant

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from narwhals.dtypes import DType
    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats

_ROWS = 1 << 14  # a block of rows that stays in the processor's cache
# An origin this many spreads away would cost digits: such a variant is summed again around its own mean.
_FAR = 30.0


@dataclass(frozen=True, slots=True)
class Sums:
    """What a pass brings back for one variant."""

    n: int
    missing: int
    sums: Floats
    products: Floats


def from_engine(frame: nw.LazyFrame[Any], columns: Sequence[str], by: str) -> ByVariant[Moments]:
    """Reduce on the engine; only sums come back."""
    schema = frame.collect_schema()
    values = [number(nw.col(c), schema[c]) for c in columns]
    names = [f"v{i}" for i in range(len(columns))]
    rows = frame.select(nw.col(by).alias("label"), *(v.alias(n) for v, n in zip(values, names, strict=True)))
    complete = nw.all_horizontal(*(~nw.col(n).is_null() for n in names), ignore_nulls=False)
    rows = rows.with_columns(ok=complete)
    first = rows_of(rows.filter(nw.col("ok")).select(*(nw.col(n).mean() for n in names)))[0]
    origin = np.array([0.0 if first[n] is None else first[n] for n in names], dtype=np.float64)
    for name, column, middle in zip(names, columns, origin, strict=True):
        if not np.isfinite(middle):
            endless = rows.filter(nw.col(name).abs() == float("inf")).group_by("label").agg(nw.len().alias("rows"))
            _refuse_endless(column, by, {row["label"]: row["rows"] for row in rows_of(endless)})

    def sums_around(origin: Floats, rows: nw.LazyFrame[Any]) -> dict[Any, Sums]:
        # Only complete rows count, so deviations of the others are made empty.
        around = [nw.when(nw.col("ok")).then(nw.col(n) - float(o)).alias(n) for n, o in zip(names, origin, strict=True)]
        pairs = [(i, j) for i in range(len(names)) for j in range(i, len(names))]
        squares = [(nw.col(names[i]) * nw.col(names[j])).alias(f"p{i}_{j}") for i, j in pairs]
        found = (
            rows.with_columns(*around)
            .with_columns(*squares)
            .group_by("label")
            .agg(
                nw.len().alias("rows"),
                nw.col(names[0]).count().alias("n"),
                *(nw.col(n).sum() for n in names),
                *(nw.col(f"p{i}_{j}").sum() for i, j in pairs),
            )
        )
        result = {}
        for row in rows_of(found):
            products = np.zeros((len(names), len(names)))
            for i, j in pairs:
                products[i, j] = products[j, i] = row[f"p{i}_{j}"] or 0.0
            n = int(row["n"])
            sums = np.array([row[name] or 0.0 for name in names])
            result[row["label"]] = Sums(n, int(row["rows"]) - n, sums, products)
        return result

    found = sums_around(origin, rows)

    def again(key: Any, own: Floats) -> Sums:
        return sums_around(own, rows.filter(nw.col("label") == key))[key]

    return _moments(found, columns, by, origin, again)


def from_memory(
    codes: NDArray[np.intp], labels: Sequence[Any], values: Sequence[Floats], columns: Sequence[str], by: str
) -> ByVariant[Moments]:
    """Reduce arrays: `codes` is -1 or an index into `labels`; `values` holds an array for each column."""
    complete = None
    if not all(np.isfinite(np.sum(v)) for v in values):
        complete = np.ones(len(codes), dtype=np.bool_)
        for column, v in zip(columns, values, strict=True):
            finite = np.isfinite(v)
            if not finite.all() and np.isinf(v[~finite]).any():
                held = np.bincount(codes[np.isinf(v)] + 1, minlength=len(labels) + 1)
                _refuse_endless(column, by, {k: int(c) for k, c in zip([None, *labels], held, strict=True) if c})
            complete &= finite
    origin = np.array([_near_mean(v) for v in values])
    keys = [None, *labels]

    def sums_around(origin: Floats, codes: NDArray[np.intp]) -> dict[Any, Sums]:
        size, width = len(keys), len(columns)
        n, missing = np.zeros(size, dtype=np.int64), np.zeros(size, dtype=np.int64)
        sums, products = np.zeros((size, width)), np.zeros((size, width, width))
        short = np.int16 if size < 2**15 else np.int64  # short codes sort in linear time
        pairs = [(i, j) for i in range(width) for j in range(i, width)]
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
            around = [v[part][order] - o for v, o in zip(values, origin, strict=True)]
            seen = np.flatnonzero(counts)
            if seen.size == 0:
                continue
            starts = np.cumsum(counts)[seen] - counts[seen]
            for i in range(width):
                sums[seen, i] += np.add.reduceat(around[i], starts)
            for i, j in pairs:
                products[seen, i, j] += np.add.reduceat(around[i] * around[j], starts)
        for i, j in pairs:
            products[:, j, i] = products[:, i, j]
        return {
            key: Sums(int(n[k]), int(missing[k]), sums[k], products[k])
            for k, key in enumerate(keys)
            if n[k] + missing[k]
        }

    def again(key: Any, own: Floats) -> Sums:
        return sums_around(own, np.where(codes == keys.index(key) - 1, codes, -1))[key]

    return _moments(sums_around(origin, codes), columns, by, origin, again)


def _near_mean(values: Floats) -> float:
    """A value near the mean, from up to 100,000 rows spread over the column."""
    some = values[:: max(1, len(values) // 100_000)]
    some = some[np.isfinite(some)]
    return float(np.mean(some)) if some.size else 0.0


def _moments(
    found: dict[Any, Sums], columns: Sequence[str], by: str, origin: Floats, again: Callable[[Any, Floats], Sums]
) -> ByVariant[Moments]:
    nobody = found.pop(None, None)
    unassigned = nobody.n + nobody.missing if nobody else 0
    if not found:
        raise DataError(f"Column {by!r} holds no variant label in any of its {unassigned:,} rows.")
    result = {}
    for key, sums in found.items():
        label, middle = label_text(key), origin
        if sums.n == 0:
            raise DataError(
                f"Variant {label!r} has no row with a value in {' and '.join(map(repr, columns))}:"
                f" all {sums.missing:,} rows are missing one."
            )
        own, shift = sums, sums.sums / sums.n
        spread = np.sqrt(np.maximum(np.diag(sums.products) / sums.n - shift**2, 0))
        if np.any(np.abs(shift) > _FAR * spread):
            middle = origin + shift
            own = again(key, middle)
        result[label] = Moments.from_sums(
            columns, own.n, middle, own.sums, own.products, label=label, missing=own.missing
        )
    return ByVariant(dict(sorted(result.items())), column=by, unassigned=unassigned)


def label_text(key: Any) -> str:
    """A variant's label as text; whole numbers stored as floats lose their point."""
    if isinstance(key, float) and key.is_integer():
        return str(int(key))
    return str(key)


def number(column: nw.Expr, kind: DType) -> nw.Expr:
    """A column as floats, NaN counted as missing."""
    if kind == nw.Boolean:
        # Not a cast: an engine may push that into its file reader, which then meets "true" in a number column.
        return nw.when(~column.is_null()).then(nw.when(column).then(1.0).otherwise(0.0))
    value = column.cast(nw.Float64)
    return nw.when(~value.is_nan()).then(value)


def rows_of(frame: nw.LazyFrame[Any]) -> list[dict[str, Any]]:
    """Fetch a small result as plain rows, missing values as None."""
    collected = frame.collect() if frame.implementation.is_polars() else frame.collect(backend="pandas")
    return [{k: (None if _absent(v) else v) for k, v in row.items()} for row in collected.iter_rows(named=True)]


def _absent(value: Any) -> bool:
    return value is None or type(value).__name__ == "NAType" or (isinstance(value, float) and math.isnan(value))


def _refuse_endless(column: str, by: str, held: dict[Any, int]) -> None:
    listed = ", ".join(f"{'no variant' if k is None else repr(label_text(k))}: {c:,}" for k, c in held.items())
    raise DataError(
        f"Column {column!r} holds infinite values ({by} {listed} rows). Find out where they come from and mend them."
    )
