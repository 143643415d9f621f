"""A table as its engine holds it: what is read of it, and what must be so before anything is."""

from __future__ import annotations

import numbers
from collections.abc import Hashable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from decimal import Decimal
from types import MappingProxyType
from typing import Any, Self

import narwhals as nw

from amber_ruler.errors import DataError, EngineError, InputError
from amber_ruler.samples.held import JOINT
from amber_ruler.tables import conditions, reduce
from amber_ruler.tables.dialect import Dialect, guess
from amber_ruler.tables.source import engine_errors, line_of, open_source

_NUMBER = r"^\s*[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\s*$"


_USUAL = Dialect()


def _as_number(column: str, dialect: Dialect) -> nw.Expr:
    """A number as people write it; a percentage is a share."""
    text = nw.col(column).str.strip_chars()
    percent = text.str.contains("%")
    plain = text.str.replace_all("%", "", literal=True).str.replace_all(" ", "", literal=True)
    if dialect.thousands is not None:
        plain = plain.str.replace_all(dialect.thousands, "", literal=True)
    if dialect.decimal == ",":
        plain = plain.str.replace_all(",", ".", literal=True)
    number = plain.cast(nw.Float64)
    return nw.when(percent).then(number / 100).otherwise(number).alias(column)


def names(role: str, given: str | Sequence[str]) -> list[str]:
    """The names of columns, of one or of several."""
    listed = [given] if isinstance(given, str) else given
    if not isinstance(listed, (list, tuple)) or not listed or not all(isinstance(name, str) for name in listed):
        raise InputError.rule(role, given, "the name of a column, or a list of such names")
    return list(dict.fromkeys(listed))


class Held:
    """Rows that an engine holds; `Table` is its public face."""

    def __init__(self, source: Any, dates: Mapping[str, str] = MappingProxyType({}), dialect: Dialect = _USUAL) -> None:
        self.source = open_source(source, dialect)
        self.frame, self.name = self.source.frame, self.source.name
        with self.reading():
            self.schema = self.frame.collect_schema()
        self.columns = list(self.schema.names())
        self._refuse_odd_names()
        self._known_rows = False  # whether at least one row has been seen
        self.dropped = 0
        if dialect.people:
            self._read_numbers(dialect)
        if self.source.stamps:
            self._read_booleans()
        self._read_dates(dates)

    def _read_numbers(self, dialect: Dialect) -> None:
        """Columns of text whose values are all numbers as people write them: 2,113.87 or 21,5 %."""
        held = [c for c in self.columns if isinstance(self.schema[c], nw.String)]
        if not held:
            return
        fits = [(~nw.col(c).is_null() & ~nw.col(c).str.contains(dialect.pattern)).sum().alias(c) for c in held]
        known = [nw.col(c).count().alias(f"{c} known") for c in held]
        with self.reading():
            [found] = reduce.rows_of(self.frame.lazy().select(*fits, *known))
            written = [c for c in held if not found[c] and found[f"{c} known"]]
            if written:
                self.frame = self.frame.with_columns(*(_as_number(c, dialect) for c in written))
                self.schema = self.frame.collect_schema()

    def _read_booleans(self) -> None:
        """Columns of text of a file that hold true and false, and nothing else."""
        held = [c for c in self.columns if isinstance(self.schema[c], nw.String)]
        if not held:
            return
        with self.reading():
            some = reduce.rows_of(self.frame.lazy().select(*held).head(1))
            held = [c for c in held if some and str(some[0][c]).strip().casefold() in ("true", "false", "none")]
            if not held:
                return
            text = {c: nw.col(c).str.to_lowercase().str.strip_chars() for c in held}
            odd = [(~nw.col(c).is_null() & ~text[c].is_in(["true", "false"])).sum().alias(c) for c in held]
            known = [nw.col(c).count().alias(f"{c} known") for c in held]
            [found] = reduce.rows_of(self.frame.lazy().select(*odd, *known))
            made = [(text[c] == "true").alias(c) for c in held if not found[c] and found[f"{c} known"]]
            if made:
                self.frame = self.frame.with_columns(*made)
                self.schema = self.frame.collect_schema()

    def _read_dates(self, dates: Mapping[str, str]) -> None:
        """Columns of text as points in time."""
        self.need_columns(*dates)
        for column, form in dates.items():
            if not isinstance(form, str) or "%" not in form:
                raise InputError.rule(f"dates of {column!r}", form, "how they are written, such as '%d/%m/%Y'")
            if not isinstance(self.schema[column], nw.String):
                raise InputError(f"Column {column!r} of {self.name} holds {self.schema[column]}, not dates as text.")
            try:
                with self.reading():
                    read = self.frame.with_columns(nw.col(column).str.to_datetime(form))
                    reduce.rows_of(read.lazy().select(nw.col(column).count()))
                    self.frame, self.schema = read, read.collect_schema()
            except (DataError, EngineError):
                raise DataError(
                    f"Column {column!r} of {self.name} holds text that is not a date written as {form!r}."
                ) from None

    def _refuse_odd_names(self) -> None:
        """A name is a name: text, and what an engine would read as a pattern of names has to be renamed first."""
        odd = [column for column in self.columns if not isinstance(column, str)]
        if odd:
            raise DataError(
                f"Columns of {self.name} are called by other things than text, first {odd[0]!r}: rename them."
            )
        engine = self.frame.implementation
        for column in self.columns:
            polars = engine.is_polars() and column.startswith("^") and column.endswith("$")
            if polars or (column == "*" and not engine.is_pandas()):
                raise DataError(
                    f"Column {column!r} of {self.name}: {engine.value} reads such a name as a pattern. Rename it first."
                )

    @contextmanager
    def reading(self) -> Iterator[None]:
        """Say which table it was when its engine fails, or when its file changes under the reader."""
        with engine_errors(self.name, self.source.misfits):
            yield
        self.source.check_unchanged()

    def shaped(self, frame: Any) -> Self:
        """The same source in another shape; nothing is computed yet where the engine is lazy."""
        shaped = object.__new__(type(self))
        shaped.source, shaped.frame, shaped.name = self.source, frame, self.name
        with self.reading():
            shaped.schema = frame.collect_schema()
        shaped.columns = list(shaped.schema.names())
        shaped._known_rows, shaped.dropped = False, self.dropped
        return shaped

    def beside(self, other: Any) -> Any:
        """Another table's columns, where this one's engine can join them: moved there if they are elsewhere."""
        here, there = self.frame.implementation, other.implementation
        if here.is_duckdb():
            import duckdb

            rows = reduce.collected(other.lazy())
            rows = rows.to_native() if rows.implementation.is_pandas() else _to_pandas(rows)
            return nw.from_native(
                duckdb.from_df(rows, connection=self.source.connection or duckdb.default_connection())
            )
        if here is there and isinstance(self.frame, nw.LazyFrame) == isinstance(other, nw.LazyFrame):
            return other
        raise InputError(
            f"This table is held by {here.value} and the other one by {there.value}: give both as files, or both as the"
            " same kind of dataframe."
        )

    def together(self, by: Sequence[str]) -> Self:
        """With one more column that joins the labels of several; empty where one of them is."""
        self.need([], *names("by", by))
        parts = [nw.col(c).cast(nw.String) for c in by]
        with self.reading():
            return self.shaped(self.frame.with_columns(nw.concat_str(*parts, separator=JOINT).alias(JOINT.join(by))))

    def need(self, values: Sequence[str], *labels: str | None) -> None:
        """Say so where there are no rows, a column is absent, values are no numbers, or labels hold other values."""
        self.need_rows()
        labelled = [c for c in labels if c is not None]
        self.need_columns(*values, *labelled)
        for column in labelled:
            if self._nested(column):
                raise DataError(
                    f"Column {column!r} of {self.name} holds lists, records or bytes: labels are text or numbers."
                )
        for column in values:
            kind = self.schema[column]
            if isinstance(kind, (nw.String, nw.Categorical, nw.Enum, nw.Object)):
                self._refuse_text(column)
            elif not (kind.is_numeric() or isinstance(kind, nw.Boolean) or self._unknown_numbers(column)):
                raise DataError(f"Column {column!r} of {self.name} holds {kind}, not numbers.")

    def fetched(self, *columns: str, as_text: str = "") -> Any:
        """Columns in memory, as a pandas frame; long numbers keep their digits on the way as text."""
        wanted = [nw.col(c).cast(nw.String) if c == as_text else nw.col(c) for c in dict.fromkeys(columns)]
        frame = self.frame.select(*wanted)
        with self.reading():
            if isinstance(frame, nw.LazyFrame):
                frame = reduce.collected(frame)
            return frame.to_native() if frame.implementation.is_pandas() else _to_pandas(frame)

    def need_columns(self, *columns: str) -> None:
        """Say which column is absent, and which is nearest."""
        for column in columns:
            if not isinstance(column, str) or column not in self.schema:
                raise DataError.unknown(f"column of {self.name}", column, self.columns)

    def condition(self, column: str, **condition: Any) -> nw.Expr:
        """A condition on a column, once its values are known to be of the column's kind."""
        self.need_columns(column)
        if set(condition) & set(conditions.ORDERED):
            self.need_order(column)
        return conditions.expression(column, self.schema[column], **condition)

    def dates_as_text(self, column: str) -> str | None:
        """A date among the text of a column, written so that its letters don't sort by time."""
        if not isinstance(self.schema[column], (nw.String, nw.Categorical, nw.Enum, nw.Object)):
            return None
        some = self.frame.lazy().select(nw.col(column).alias("value")).filter(~nw.col("value").is_null())
        with self.reading():
            held = [row["value"] for row in reduce.rows_of(some.head(1_000))]
        return next((v for v in held if isinstance(v, str) and conditions.dated(v)), None)

    def need_order(self, column: str | None) -> None:
        """Say so where a column has to be in order and holds dates as text."""
        text = self.dates_as_text(column) if column else None
        if text is not None:
            raise DataError(
                f"Column {column!r} of {self.name} holds dates as text, such as {text!r}, and text goes by its letters:"
                f" say how to read them, as in ar.table(…, dates={{{column!r}: '%d/%m/%Y'}}), or write 2026-10-01."
            )

    def need_rows(self) -> None:
        """Say so where there are no rows."""
        if self._known_rows:
            return
        with self.reading():
            if not reduce.rows_of(self.frame.lazy().select(nw.col(self.columns[0]).alias("first")).head(1)):
                raise DataError(f"{self.name} has columns ({', '.join(self.columns)}) but no rows.")
        self._known_rows = True

    def _unknown_numbers(self, column: str) -> bool:
        """Whether a column of a kind that narwhals doesn't know holds numbers."""
        if not isinstance(self.schema[column], nw.Unknown):
            return False
        some = self.frame.lazy().select(nw.col(column).alias("value")).filter(~nw.col("value").is_null()).head(1)
        with self.reading():
            return all(isinstance(row["value"], (numbers.Real, Decimal)) for row in reduce.rows_of(some))

    def _nested(self, column: str) -> bool:
        """Whether values hold other values."""
        kind = self.schema[column]
        if not isinstance(kind, (nw.Object, nw.Unknown)):
            return isinstance(kind, (nw.Struct, nw.List, nw.Array, nw.Binary))
        some = self.frame.lazy().select(nw.col(column).alias("value")).filter(~nw.col("value").is_null()).head(1)
        return any(
            not isinstance(row["value"], Hashable) or isinstance(row["value"], (bytes, complex))
            for row in reduce.rows_of(some)
        )

    def _refuse_text(self, column: str) -> None:
        """Say which text stands in a column of numbers, and where."""
        lazy = self.frame.lazy().select(nw.col(column).alias("value"))
        with self.reading():
            head = reduce.rows_of(lazy.head(100_000))
        dialect = self.source.dialect
        for row, item in enumerate(head, start=1):
            if item["value"] is not None and not _is_number(item["value"]) and not dialect.holds(str(item["value"])):
                line = line_of(self.source, row) if self.frame is self.source.frame else ""
                texts = [str(each["value"]) for each in head[:1000] if each["value"] is not None]
                odd = [text for text in texts if not _is_number(text) and not dialect.holds(text)]
                way_out = guess(odd, column) or "Fix or empty such cells, or choose another column"
                raise DataError(
                    f"Column {column!r} of {self.name} holds text, first {str(item['value'])!r} in row {row:,}{line}:"
                    f" numbers are needed. {way_out}."
                )
        if isinstance(self.schema[column], nw.Object):
            if all(item["value"] is None for item in head):
                raise DataError(f"Column {column!r} of {self.name} is empty in all {len(head):,} rows looked at.")
            return
        text = nw.col("value")
        with self.reading():
            known = lazy.filter(~text.is_null())
            for said, found in (
                (", such as {!r}: numbers are needed", known.filter(~text.cast(nw.String).str.contains(_NUMBER))),
                (" such as {!r}: turn it into numbers first", known),
            ):
                some = reduce.rows_of(found.head(1))
                if some:
                    raise DataError(f"Column {column!r} of {self.name} holds text{said.format(some[0]['value'])}.")
        raise DataError(f"Column {column!r} of {self.name} is empty in all its rows.")


def _to_pandas(frame: nw.DataFrame[Any]) -> Any:
    import pandas as pd

    return pd.DataFrame({name: frame[name].to_list() for name in frame.columns})


def _is_number(value: Any) -> bool:
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True
