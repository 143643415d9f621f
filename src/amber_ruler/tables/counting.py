"""Rows counted and reduced where they are."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import narwhals as nw
import numpy as np

from amber_ruler.digest import Digest
from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.samples import ByVariant, CountTable
from amber_ruler.samples.held import JOINT
from amber_ruler.tables import profile, reduce
from amber_ruler.tables.frame import Held, names
from amber_ruler.tables.pairing import codes, floats

_APART = "\x1f"  # the separator of units in ASCII


def moments(table: Held, columns: str | Sequence[str], *, by: str | Sequence[str]) -> ByVariant[Moments]:
    """See `Table.moments`."""
    if not isinstance(by, str):
        return moments(table.together(by), columns, by=JOINT.join(by))
    wanted = names("columns", columns)
    table.need(wanted, by)
    with table.reading():
        return _with_own_rows(_reducer(table, wanted, by), wanted)


def _reducer(table: Held, wanted: list[str], by: str) -> Callable[[list[str]], ByVariant[Moments]]:
    """What reduces some of these columns over their joint rows."""
    if isinstance(table.frame, nw.LazyFrame):
        frame = table.frame
        return lambda columns: reduce.from_engine(frame, columns, by)
    coded, labels = codes(table.frame[by].to_native())
    values = {c: floats(table.frame[c].to_native()) for c in wanted}
    return lambda columns: reduce.from_memory(coded, labels, [values[c] for c in columns], columns, by)


def overall(table: Held, columns: str | Sequence[str]) -> Moments:
    """See `Table.overall`."""
    wanted = names("columns", columns)
    table.need(wanted)
    with table.reading():
        if isinstance(table.frame, nw.LazyFrame):
            one = "all" + "_" * max(map(len, table.columns))  # a name that no column has
            frame = table.frame.with_columns(nw.lit("all rows").alias(one))
            return _with_own_rows(lambda columns: reduce.from_engine(frame, columns, one), wanted)["all rows"]
        values = {c: floats(table.frame[c].to_native()) for c in wanted}
        coded = np.zeros(len(values[wanted[0]]), dtype=np.intp)
        return _with_own_rows(
            lambda columns: reduce.from_memory(coded, ["all rows"], [values[c] for c in columns], columns, "all"),
            wanted,
        )["all rows"]


def _with_own_rows(reduced: Callable[[list[str]], ByVariant[Moments]], columns: list[str]) -> ByVariant[Moments]:
    """Joint moments; where rows lack one of several columns, also those of each column by itself."""
    joint = reduced(columns)
    if len(columns) == 1 or not any(m.missing for m in joint.values()):
        return joint
    alone = {c: reduced([c]) for c in columns}
    found = {
        label: replace(m, own={c: each[label] for c, each in alone.items() if each[label].n > m.n})
        for label, m in joint.items()
    }
    return ByVariant(found, column=joint.column, unassigned=joint.unassigned)


def sizes(table: Held, *, by: str, count: str | None = None) -> ByVariant[int]:
    """See `Table.sizes`."""
    names("by", by)
    table.need([] if count is None else [count], by)
    with table.reading():
        each = nw.lit(1) if count is None else nw.col(count)
        named = table.frame.lazy().select(nw.col(by).alias("label"), each.alias("rows"))
        found = named.group_by("label").agg(nw.col("rows").sum())
        rows = {row["label"]: int(row["rows"]) for row in reduce.rows_of(found)}
    unassigned = rows.pop(None, 0)
    labelled = {reduce.label_text(key): count for key, count in rows.items()}
    return ByVariant(dict(sorted(labelled.items())), column=by, unassigned=unassigned)


def counts(table: Held, *, row: str | None = None, column: str | None = None, count: str | None = None) -> CountTable:
    """See `Table.counts`."""
    if row is None and column is None and count is None:
        first, *others = table.columns
        table.need(others, first)
        native = table.fetched(first, *others)
        counts = np.column_stack([floats(native[name]) for name in others])
        return CountTable(counts, tuple(map(reduce.label_text, native[first])), tuple(others), first)
    if row is None or column is None:
        raise InputError("counts needs both row and column, or neither for a table of counts.")
    table.need([] if count is None else [count], row, column)
    with table.reading():
        each = nw.lit(1) if count is None else nw.col(count)
        named = table.frame.lazy().select(nw.col(row).alias("row"), nw.col(column).alias("column"), each.alias("n"))
        named = named.filter(~nw.col("row").is_null() & ~nw.col("column").is_null() & ~nw.col("n").is_null())
        found = reduce.rows_of(named.group_by("row", "column").agg(nw.col("n").sum()))
    if not found:
        raise DataError(f"No row of {table.name} has both {row!r} and {column!r}.")
    rows, columns = (
        sorted({item[part] for item in found}, key=lambda v: (isinstance(v, str), v)) for part in ("row", "column")
    )
    counts = np.zeros((len(rows), len(columns)))
    for item in found:
        counts[rows.index(item["row"]), columns.index(item["column"])] = item["n"]
    row_labels, column_labels = (tuple(map(reduce.label_text, labels)) for labels in (rows, columns))
    return CountTable(counts, row_labels, column_labels, row, column)


def _none_complete(columns: list[str], alone: Moments) -> Moments:
    """Moments of a cell where the metric is known and a covariate never is."""
    k = len(columns)
    return Moments(tuple(columns), 0, np.zeros(k), np.zeros((k, k)), own={columns[0]: alone})


def digest(
    table: Held,
    metrics: str | Sequence[str],
    *,
    by: str,
    covariates: str | Sequence[str] = (),
    strata: str = "",
    day: str = "",
) -> Digest:
    """See `Table.digest`."""
    metrics = [metrics] if isinstance(metrics, str) else list(metrics)
    covariates = [covariates] if isinstance(covariates, str) else list(covariates)
    named = [*names("by", by), *(c for c in (strata, day) if c)]
    table.need([*metrics, *covariates], *named)
    table.need_order(day)
    # A key column of our own, whose parts are kept apart by a sign that no label has. An unknown stratum or day is
    # one of its own; rows without a variant belong to none.
    key = "cell" + "_" * max(map(len, table.columns))
    parts = [profile.calendar_day(c, table.schema[c]).cast(nw.String) for c in named]
    parts = [text if c == by else text.fill_null("") for c, text in zip(named, parts, strict=True)]
    with table.reading():
        keyed = table.shaped(table.frame.with_columns(nw.concat_str(*parts, separator=_APART).alias(key)))
    rows = sizes(keyed, by=key)
    cells: dict[tuple[str, str, str], dict[str, Moments]] = {}
    for metric in dict.fromkeys(metrics):
        columns = [metric, *(c for c in covariates if c != metric)]
        complete = keyed
        for column in columns:
            complete = complete.shaped(complete.frame.filter(complete.condition(column, missing=False)))
        known = keyed.shaped(keyed.frame.filter(keyed.condition(metric, missing=False)))
        joint = moments(complete, columns, by=key)
        for label, alone in moments(known, metric, by=key).items():
            values = dict(zip(named, label.split(_APART), strict=True))
            cell = (values[by], values.get(strata, ""), values.get(day, ""))
            found = joint[label] if label in joint else _none_complete(columns, alone)
            own = {metric: alone.relabel(values[by])} if alone.n > found.n else {}
            missing = rows[label] - found.n
            cells.setdefault(cell, {})[metric] = replace(found, label=values[by], missing=missing, own=own)
    return Digest(by, strata, day, tuple(dict.fromkeys(metrics)), tuple(covariates), cells, rows.unassigned)
