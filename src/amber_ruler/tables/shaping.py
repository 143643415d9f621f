"""Tables in another shape: names for values, one row a unit."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

import narwhals as nw
import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import gate
from amber_ruler.tables import reduce
from amber_ruler.tables.conditions import fitting
from amber_ruler.tables.frame import Held, names
from amber_ruler.tables.pairing import floats
from amber_ruler.tables.per_unit import Measure

T = TypeVar("T", bound=Held)


def relabel(table: T, column: str, names: Mapping[Any, str]) -> T:
    """See `Table.relabel`."""
    table.need_columns(column)
    if not names:
        raise InputError(f"Give the values of {column!r} names, such as {{0: 'current', 1: 'short'}}.")
    kind = table.schema[column]
    keys = {fitting(column, kind, key): str(name) for key, name in names.items()}
    value = nw.col(column)
    with table.reading():
        strange = table.frame.lazy().filter(~(value.is_null() | value.is_in(list(keys))))
        strange = strange.select(value.alias("value")).head(1_000)
        others = sorted({str(row["value"]) for row in reduce.rows_of(strange)})
    if others:
        raise DataError.unknown(f"name for a value of column {column!r}", others[0], keys)
    named: Any = nw.lit(None, dtype=nw.String)
    for key, name in keys.items():
        named = nw.when(value == key).then(nw.lit(name)).otherwise(named)
    return table.shaped(table.frame.with_columns(named.alias(column)))


def distinct(table: T) -> T:
    """See `Table.distinct`."""
    with table.reading():
        lazy = table.frame.lazy()
        [before] = reduce.rows_of(lazy.select(nw.len().alias("n")))
        once = table.frame.unique()
        [after] = reduce.rows_of(once.lazy().select(nw.len().alias("n")))
    found = table.shaped(once)
    found.dropped = table.dropped + int(before["n"]) - int(after["n"])
    return found


def two_valued(table: T, column: str, success: Any) -> T:
    """See `Table.two_valued`."""
    table.need_columns(column)
    wanted, value = fitting(column, table.schema[column], success), nw.col(column)
    with table.reading():
        distinct = table.frame.lazy().select(value.alias("value")).filter(~nw.col("value").is_null()).unique().head(4)
        found = [row["value"] for row in reduce.rows_of(distinct)]
    if len(found) > 2:
        listed = ", ".join(sorted(repr(v) for v in found))
        raise DataError(f"Column {column!r} holds more than two values ({listed}, ...): derive one that has two.")
    if wanted not in found:
        raise DataError.unknown(f"value of column {column!r}", str(wanted), map(str, found))
    made = nw.when(~value.is_null()).then(nw.when(value == wanted).then(nw.lit(1)).otherwise(nw.lit(0)))
    with table.reading():
        return table.shaped(table.frame.with_columns(made.alias(column)))


def capped(table: T, column: str, cap: float) -> T:
    """See `Table.capped`."""
    share = float(gate.between("cap", gate.single("cap", cap), 0.5, 1))
    table.need([column])
    values = floats(table.fetched(column)[column])
    top = float(np.quantile(values[~np.isnan(values)], share))
    number = reduce.number(nw.col(column), table.schema[column])
    with table.reading():
        return table.shaped(table.frame.with_columns(number.clip(None, top).alias(column)))


def days_since_first(table: T, name: str, *, unit: str, day: str) -> T:
    """See `Table.days_since_first`."""
    table.need_columns(unit, day)
    if name in table.schema:
        raise InputError(f"There is a column {name!r} already: choose another name.")
    kind = table.schema[day]
    when = nw.col(day)
    if isinstance(kind, (nw.Date, nw.Datetime)):
        since = (when.cast(nw.Date) - when.cast(nw.Date).min().over(unit)).dt.total_minutes() / (24 * 60)
    else:
        table.need([day])
        since = when - when.min().over(unit)
    with table.reading():
        return table.shaped(table.frame.with_columns(since.alias(name)))


def units(table: T, *, unit: str, by: str, measures: Mapping[str, Measure], assignment: Held | None = None) -> T:
    """See `Table.units`."""
    if not measures:
        raise InputError("Say what to take of each unit's events, such as {'searches': tables.count()}.")
    taken = {f"{name}": f"measure_{k}" for k, name in enumerate(measures)}
    for name, measure in measures.items():
        table.need_columns(*measure.columns)
        table.need_order(measure.order)
        table.need([measure.column] if measure.how == "total" and measure.column else [])
        if name in (unit, by):
            raise InputError(f"The measure {name!r} has the name of a column that is kept: choose another.")
    if len(names("columns", [unit, by])) < 2:
        raise InputError(f"The unit and the variant are two columns, got {unit!r} for both.")
    table.need_columns(unit, by)
    rows = table.frame.filter(~nw.col(unit).is_null())
    rows = rows.select(unit, by, *(m.of_rows(unit, table.condition).alias(taken[n]) for n, m in measures.items()))
    rows = rows.with_columns(nw.col(by).alias("variant_low"), nw.col(by).alias("variant_high"))
    each = rows.group_by(unit).agg(
        nw.col("variant_low").min(),
        nw.col("variant_high").max(),
        *(m.of_units(taken[n]) for n, m in measures.items()),
    )
    counted = [nw.col(taken[n]).cast(nw.Int64) for n, m in measures.items() if m.how in ("count", "any")]
    each = each.with_columns(*counted) if counted else each  # whole numbers, whatever an engine adds them up as
    found = [nw.col(taken[n]).alias(n) for n in measures]
    if assignment is None:
        each = each.filter(nw.col("variant_low") == nw.col("variant_high"))
        return table.shaped(each.select(unit, nw.col("variant_low").alias(by), *found))
    assignment.need_columns(unit, by)
    known = table.beside(assignment.frame.select(unit, by).unique())
    joined = known.join(each.drop("variant_low", "variant_high"), on=unit, how="left")
    nothing = {n: m.without_events for n, m in measures.items()}
    filled = [
        nw.col(taken[n]).alias(n) if nothing[n] is None else nw.col(taken[n]).fill_null(nothing[n]).alias(n)
        for n in measures
    ]
    return table.shaped(joined.select(unit, by, *filled))
