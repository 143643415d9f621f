"""The shape of a column, and how alike the units of a cluster are, computed where the rows are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import Any, NamedTuple

import narwhals as nw
import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.moments import Moments
from amber_ruler.tables.description import MOST_BINS, QUANTILES, Described
from amber_ruler.tables.findings import Bounds
from amber_ruler.tables.reduce import label_text, number, ones, rows_of

_AT_ONCE = 40  # columns in one question
_SOME = 100_000  # rows that tell whether units have several
MOST_CELLS = 100_000  # of day by variant, or stratum by variant


class Clusters(NamedTuple):
    """Number of clusters, mean and coefficient of variation of their sizes (k below), intraclass correlation."""

    clusters: int
    size: float
    cv: float
    icc: float


class Units(NamedTuple):
    """Rows with a unit, distinct units, those under several variants, and units of one variant by variant."""

    rows: int
    units: int
    crossed: int
    counts: dict[str, int]


def units(frame: nw.LazyFrame[Any], unit: str, by: str) -> Units:
    """Count units instead of rows."""
    named = frame.select(nw.col(unit).alias("unit"), nw.col(by).alias("low"), nw.col(by).alias("high"))
    named = named.filter(~nw.col("unit").is_null() & ~nw.col("low").is_null())
    single = _one_row_each(named)
    if single is not None:
        return single
    named = named.with_columns(row=nw.lit(1))
    each = named.group_by("unit").agg(nw.col("row").sum(), nw.col("low").min(), nw.col("high").max())
    each = each.with_columns(crossed=ones(nw.col("low") != nw.col("high")), one=nw.lit(1))
    found = rows_of(each.group_by("low").agg(nw.col("one").sum(), nw.col("row").sum(), nw.col("crossed").sum()))
    whole = {key: int(sum(row[key] for row in found)) for key in ("one", "row", "crossed")}
    counts = {label_text(row["low"]): int(row["one"]) - int(row["crossed"]) for row in found}
    counts = {label: n for label, n in sorted(counts.items()) if n}
    return Units(whole["row"], whole["one"], whole["crossed"], counts)


def _one_row_each(named: nw.LazyFrame[Any]) -> Units | None:
    """Units where each has one row, which is told at half the price."""

    def distinct(rows: nw.LazyFrame[Any]) -> int:
        return int(rows_of(rows.select("unit").unique().select(nw.len().alias("units")))[0]["units"])

    some = named.head(_SOME)
    if distinct(some) < int(rows_of(some.select(nw.len().alias("rows")))[0]["rows"]):
        return None
    found = rows_of(named.group_by("low").agg(nw.len().alias("rows")))
    rows = sum(int(row["rows"]) for row in found)
    if distinct(named) < rows:
        return None
    return Units(rows, rows, 0, dict(sorted((label_text(row["low"]), int(row["rows"])) for row in found)))


def by_part(frame: nw.LazyFrame[Any], by: str, part: str, unit: str | None) -> list[tuple[str, str, int]]:
    """Rows, or units on their first day, by part (a day, a stratum) and variant, in the order of the parts."""
    value = calendar_day(part, frame.collect_schema()[part])
    rows = frame.select(value.alias("part"), nw.col(by).alias("label"), *([nw.col(unit).alias("unit")] if unit else []))
    rows = rows.filter(~nw.col("part").is_null() & ~nw.col("label").is_null())
    if unit:
        rows = rows.filter(~nw.col("unit").is_null()).group_by("unit", "label").agg(nw.col("part").min())
    counts = rows.with_columns(one=nw.lit(1)).group_by("part", "label").agg(nw.col("one").sum())
    cells = rows_of(counts.head(MOST_CELLS + 1))
    if len(cells) > MOST_CELLS:
        raise DataError(f"Column {part!r} has tens of thousands of different values: give one with the day or stratum.")
    cells.sort(key=lambda row: (row["part"], str(row["label"])))
    return [(label_text(row["part"]), label_text(row["label"]), int(row["one"])) for row in cells]


def calendar_day(column: str, kind: Any) -> nw.Expr:
    """A column of points in time as days; any other as it is."""
    value = nw.col(column)
    return value.dt.to_string("%Y-%m-%d") if isinstance(kind, (nw.Datetime, nw.Date)) else value


def impossible(
    frame: nw.LazyFrame[Any], by: str, possible: Mapping[str, Bounds | None]
) -> dict[str, dict[str, tuple[int, int]]]:
    """For each column and variant, how many values are infinite, and how many outside their bounds."""
    if len(possible) > _AT_ONCE:
        first, rest = dict(list(possible.items())[:_AT_ONCE]), dict(list(possible.items())[_AT_ONCE:])
        return impossible(frame, by, first) | impossible(frame, by, rest)
    schema = frame.collect_schema()
    names = {column: f"v{k}" for k, column in enumerate(possible)}
    rows = frame.select(nw.col(by).alias("label"), *(number(nw.col(c), schema[c]).alias(n) for c, n in names.items()))
    signs = []
    for column, bounds in possible.items():
        value = nw.col(names[column])
        low, high = bounds or (None, None)
        outside = [value < low] * (low is not None) + [value > high] * (high is not None)
        beyond = nw.any_horizontal(*outside, ignore_nulls=True) if outside else nw.lit(value=False)
        signs += [
            ones(value.abs() == float("inf")).alias(f"{names[column]}_endless"),
            ones(beyond).alias(f"{names[column]}_outside"),
        ]
    signed = rows.filter(~nw.col("label").is_null()).select("label", *signs)
    sums = [nw.col(f"{name}_{sign}").sum() for name in names.values() for sign in ("endless", "outside")]
    found: dict[str, dict[str, tuple[int, int]]] = {column: {} for column in possible}
    for row in rows_of(signed.group_by("label").agg(*sums)):
        for column, name in names.items():
            counted = (int(row[f"{name}_endless"] or 0), int(row[f"{name}_outside"] or 0))
            found[column][label_text(row["label"])] = counted
    return found


def tops(frame: nw.LazyFrame[Any], columns: Sequence[str], level: float) -> dict[str, tuple[float, float]]:
    """For each column the value that a share `level` of all lies below, and the share of the total above it."""
    if len(columns) > _AT_ONCE:
        return tops(frame, columns[:_AT_ONCE], level) | tops(frame, columns[_AT_ONCE:], level)
    if not columns:
        return {}
    schema = frame.collect_schema()
    rows = frame.select(*(number(nw.col(c), schema[c]).alias(f"v{k}") for k, c in enumerate(columns)))
    names = [f"v{k}" for k in range(len(columns))]
    found = rows_of(rows.select(*(nw.col(n).quantile(level, interpolation="linear") for n in names)))[0]
    limits = [float(found[name]) for name in names]
    sizes = [nw.col(name).abs().alias(f"all{name}") for name in names]
    above = [
        nw.when(nw.col(name) > limit).then(nw.col(name).abs()).otherwise(nw.lit(0.0)).alias(f"above{name}")
        for name, limit in zip(names, limits, strict=True)
    ]
    sums = [nw.col(f"{part}{name}").sum() for name in names for part in ("all", "above")]
    found = rows_of(rows.select(*sizes, *above).select(*sums))[0]
    return {
        column: (limit, float(found[f"above{name}"] / found[f"all{name}"]) if found[f"all{name}"] else 0.0)
        for column, name, limit in zip(columns, names, limits, strict=True)
    }


def description(frame: nw.LazyFrame[Any], column: str, moments: Moments, unit: str | None) -> Described:
    """One variant's values, from its rows."""
    named = [nw.col(unit).alias("unit")] if unit else []
    value = number(nw.col(column), frame.collect_schema()[column])
    rows = frame.select(value.alias("v"), *named).filter(~nw.col("v").is_null())
    found = rows_of(
        rows.select(
            nw.col("v").min().alias("low"),
            nw.col("v").max().alias("high"),
            nw.col("v").sum().alias("total"),
            ones(nw.col("v") == 0).sum().alias("zeros"),
            *(nw.col("v").quantile(q, interpolation="linear").alias(f"q{k}") for k, q in enumerate(QUANTILES)),
        )
    )[0]
    n = moments.n
    sd = moments.sd(column) if n > 1 else 0.0
    return Described(
        n=n,
        missing=moments.missing,
        mean=moments.mean(column),
        sd=sd,
        se=sd / np.sqrt(n),
        skewness=moments.skewness(column) or 0.0,
        low=float(found["low"]),
        quantiles=tuple(float(found[f"q{k}"]) for k in range(len(QUANTILES))),
        high=float(found["high"]),
        zeros=float(found["zeros"]) / n,
        units=int(rows_of(rows.select("unit").unique().select(nw.col("unit").count()))[0]["unit"]) if unit else None,
        largest_share=float(found["high"] / found["total"]) if found["total"] and found["low"] >= 0 else None,
    )


def edges_of(groups: Sequence[Described], *, whole: bool) -> tuple[float, ...]:
    """Where values are counted between: equal steps, of whole numbers whole ones."""
    low, high = min(g.quantiles[0] for g in groups), max(g.quantiles[-1] for g in groups)
    if high <= low:
        return ()
    if not whole:
        return tuple(np.linspace(low, high, MOST_BINS + 1).tolist())
    low, high = np.floor(low), np.ceil(high)
    step = np.ceil((high - low + 1) / MOST_BINS)
    return tuple((low - 0.5 + step * np.arange(np.ceil((high - low + 1) / step) + 1)).tolist())


def all_whole(frame: nw.LazyFrame[Any], column: str) -> bool:
    """Whether a column holds whole numbers only."""
    value = number(nw.col(column), frame.collect_schema()[column])
    odd = frame.select(value.alias("v")).select(ones(nw.col("v") != nw.col("v").round(0)).sum().alias("odd"))
    return not rows_of(odd)[0]["odd"]


def histogram(frame: nw.LazyFrame[Any], column: str, by: str, edges: Sequence[float]) -> dict[str, tuple[int, ...]]:
    """Values other than 0 between edges, by variant: the values from each edge up, less those from the next."""
    value = number(nw.col(column), frame.collect_schema()[column])
    rows = frame.select(nw.col(by).alias("label"), value.alias("v"))
    rows = rows.filter(~nw.col("label").is_null() & ~nw.col("v").is_null() & (nw.col("v") != 0))
    from_edge = [ones(nw.col("v") >= edge).alias(f"e{k}") for k, edge in enumerate(edges[:-1])]
    marked = rows.select("label", *from_edge, ones(nw.col("v") > edges[-1]).alias(f"e{len(edges) - 1}"))
    sums = [nw.col(f"e{k}").sum() for k in range(len(edges))]
    found = {}
    for row in rows_of(marked.group_by("label").agg(*sums)):
        upward = [int(row[f"e{k}"] or 0) for k in range(len(edges))]
        found[label_text(row["label"])] = tuple(a - b for a, b in pairwise(upward))
    return found


def clusters(frame: nw.LazyFrame[Any], column: str, by: str, mean: float) -> Clusters:
    """Sizes of clusters, and the intraclass correlation by the analysis of variance (Donner 1986), at least 0."""
    value = number(nw.col(column), frame.collect_schema()[column])
    rows = frame.select(nw.col(by).alias("cluster"), (value - mean).alias("v"))
    rows = rows.filter(~nw.col("v").is_null() & ~nw.col("cluster").is_null()).with_columns(
        square=nw.col("v") * nw.col("v")
    )
    sums = (nw.col("v").count().alias("n"), nw.col("v").sum().alias("sum"), nw.col("square").sum().alias("squares"))
    each = rows.group_by("cluster").agg(*sums).with_columns(n=nw.col("n").cast(nw.Float64))
    found = rows_of(
        each.select(
            nw.col("n").count().alias("count"),
            nw.col("n").sum().alias("rows"),
            (nw.col("n") * nw.col("n")).sum().alias("sizes"),
            nw.col("sum").sum().alias("sum"),
            (nw.col("sum") * nw.col("sum") / nw.col("n")).sum().alias("between"),
            nw.col("squares").sum().alias("squares"),
        )
    )[0]
    k, rows_in = int(found["count"]), float(found["rows"])
    if k < 2 or rows_in <= k:
        raise DataError(
            f"Column {by!r} has {k:,} clusters of {rows_in:,.0f} rows: both must be more than one to compare."
        )
    between = (found["between"] - found["sum"] ** 2 / rows_in) / (k - 1)
    inside = (found["squares"] - found["between"]) / (rows_in - k)
    typical = (rows_in - found["sizes"] / rows_in) / (k - 1)
    icc = (between - inside) / (between + (typical - 1) * inside)
    size = rows_in / k
    cv = np.sqrt(max(found["sizes"] / k - size**2, 0.0)) / size
    return Clusters(k, size, float(cv), float(np.clip(icc, 0.0, 1.0)))
