"""A table of observations, wherever its rows are."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import narwhals as nw
import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.samples import Sample
from amber_ruler.tables import profile, reduce
from amber_ruler.tables.source import engine_errors, open_source
from amber_ruler.tables.split_check import SplitCheck, check_split
from amber_ruler.tables.variants import ByVariant

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from amber_ruler.moments import Moments
    from amber_ruler.numeric.gate import Floats
    from amber_ruler.tables.profile import Clusters, Shape


class Table:
    """Long data, one row an observation; made by `table`.

    Attributes
    ----------
    columns : list of str
        Column names, in order.
    name : str
        The file's path, or "the dataframe".
    """

    def __init__(self, source: Any) -> None:
        self._source = open_source(source)
        self._frame, self.name = self._source.frame, self._source.name
        with engine_errors(self.name):
            self._schema = self._frame.collect_schema()
        self.columns = list(self._schema.names())
        self._known_rows = False  # whether at least one row has been seen

    def __repr__(self) -> str:
        return f"<table {self.name}: {', '.join(self.columns)}>"

    def moments(self, columns: str | Sequence[str], *, by: str) -> ByVariant[Moments]:
        """Counts, means and co-moments of columns for each variant, computed where the rows are.

        Parameters
        ----------
        columns : str or sequence of str
            Number or true/false columns. Rows where one of them is missing are left out of all, and counted.
        by : str
            Column with the variant labels.

        Returns
        -------
        ByVariant of Moments

        Raises
        ------
        DataError
            If a column is absent, holds text or infinite values, or a variant has no complete row.
        """
        wanted = [columns] if isinstance(columns, str) else list(dict.fromkeys(columns))
        self._check(wanted, by)
        with engine_errors(self.name):
            if isinstance(self._frame, nw.LazyFrame):
                return reduce.from_engine(self._frame, wanted, by)
            codes, labels = _codes(self._frame[by].to_native())
            values = [_floats(self._frame[c].to_native()) for c in wanted]
            return reduce.from_memory(codes, labels, values, wanted, by)

    def overall(self, columns: str | Sequence[str]) -> Moments:
        """Counts, means and co-moments of columns over all rows, computed where the rows are."""
        wanted = [columns] if isinstance(columns, str) else list(dict.fromkeys(columns))
        self._check(wanted)
        with engine_errors(self.name):
            if isinstance(self._frame, nw.LazyFrame):
                one = "all" + "_" * max(map(len, self.columns))  # a name that no column has
                frame = self._frame.with_columns(nw.lit("all rows").alias(one))
                return reduce.from_engine(frame, wanted, one)["all rows"]
            values = [_floats(self._frame[c].to_native()) for c in wanted]
            codes = np.zeros(len(values[0]), dtype=np.intp)
            return reduce.from_memory(codes, ["all rows"], values, wanted, "all")["all rows"]

    def shape(self, value: str) -> Shape:
        """Skewness of a column over all rows, and whether it holds nothing but 0 and 1."""
        self._check([value])
        with engine_errors(self.name):
            return profile.shape(self._frame.lazy(), value, self.overall(value))

    def clusters(self, value: str, *, by: str) -> Clusters:
        """Number, size and intraclass correlation of the clusters that a column names."""
        self._check([value], by)
        with engine_errors(self.name):
            return profile.clusters(self._frame.lazy(), value, by, self.overall(value).mean(value))

    def split(self, value: str, *, by: str) -> ByVariant[Sample]:
        """The values of a column for each variant, in memory; missing ones left out and counted.

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str
            Column with the variant labels.

        Returns
        -------
        ByVariant of Sample
        """
        self._check([value], by)
        frame = self._frame.select(dict.fromkeys([by, value]))
        with engine_errors(self.name):
            if isinstance(frame, nw.LazyFrame):
                frame = frame.collect(backend="pandas") if not frame.implementation.is_polars() else frame.collect()
        native = _to_pandas(frame)
        codes, labels = _codes(native[by])
        numbers = _floats(native[value])
        samples = {}
        for k, key in enumerate(labels):
            mine = numbers[codes == k]
            missing = np.isnan(mine)
            samples[reduce.label_text(key)] = Sample(
                mine[~missing], reduce.label_text(key), missing=int(missing.sum()), metric=value
            )
        return ByVariant(dict(sorted(samples.items())), column=by, unassigned=int(np.sum(codes < 0)))

    def counts(self, *, by: str) -> ByVariant[int]:
        """Rows of each variant."""
        self._check([], by)
        with engine_errors(self.name):
            found = self._frame.lazy().select(nw.col(by).alias("label")).group_by("label").agg(nw.len().alias("rows"))
            rows = {row["label"]: int(row["rows"]) for row in reduce.rows_of(found)}
        unassigned = rows.pop(None, 0)
        labelled = {reduce.label_text(key): count for key, count in rows.items()}
        return ByVariant(dict(sorted(labelled.items())), column=by, unassigned=unassigned)

    def check_split(self, *, by: str, planned: Mapping[str, float] | None = None) -> SplitCheck:
        """Did the variants get the shares of rows that were planned? See `check_split`."""
        return check_split(self.counts(by=by), planned)

    def _check(self, values: Sequence[str], by: str | None = None) -> None:
        self._check_rows()
        for column in (*values, by) if by is not None else values:
            if column not in self._schema:
                raise DataError.unknown(f"column of {self.name}", column, self.columns)
        for column in values:
            kind = self._schema[column]
            if isinstance(kind, (nw.String, nw.Categorical, nw.Enum, nw.Object)):
                self._refuse_text(column)
            elif not (kind.is_numeric() or isinstance(kind, (nw.Boolean, nw.Unknown))):
                raise DataError(f"Column {column!r} of {self.name} holds {kind}, not numbers.")

    def _check_rows(self) -> None:
        if self._known_rows:
            return
        with engine_errors(self.name):
            if not reduce.rows_of(self._frame.lazy().select(nw.col(self.columns[0]).alias("first")).head(1)):
                raise DataError(f"{self.name} has columns ({', '.join(self.columns)}) but no rows.")
        self._known_rows = True

    def _refuse_text(self, column: str) -> None:
        """Say which text stands in a column of numbers, and where."""
        with engine_errors(self.name):
            head = reduce.rows_of(self._frame.lazy().select(nw.col(column).alias("value")).head(100_000))
        for row, item in enumerate(head, start=1):
            if item["value"] is not None and not _is_number(item["value"]):
                raise DataError(
                    f"Column {column!r} of {self.name} holds text, first {str(item['value'])!r} in row {row:,}:"
                    " numbers are needed. Mend or empty such cells, or choose another column."
                )
        if all(item["value"] is None for item in head):
            raise DataError(f"Column {column!r} of {self.name} is empty in all {len(head):,} rows looked at.")
        if not isinstance(self._schema[column], nw.Object):
            raise DataError(f"Column {column!r} of {self.name} is stored as text: turn it into numbers first.")


def table(source: Any) -> Table:
    """Open a table of observations.

    Parameters
    ----------
    source : path or dataframe
        A CSV, Parquet or JSON Lines file (read by DuckDB, in process), or any dataframe that narwhals knows.

    Returns
    -------
    Table

    Raises
    ------
    DataError
        If there is no such file, it is empty, or two columns share a name.
    InputError
        If the source is neither a path nor a dataframe.

    Examples
    --------
    >>> import pandas as pd
    >>> trips = table(pd.DataFrame({"form": ["short", "current"] * 3, "fare": [3.0, 1, 4, 1, 5, 9]}))
    >>> trips.moments("fare", by="form")["short"].mean("fare")
    4.0
    """
    return Table(source)


def _to_pandas(frame: nw.DataFrame[Any]) -> Any:
    if frame.implementation.is_pandas():
        return frame.to_native()
    import pandas as pd

    return pd.DataFrame({name: frame[name].to_list() for name in frame.columns})


def _codes(labels: Any) -> tuple[NDArray[np.intp], list[Any]]:
    import pandas as pd

    codes, found = pd.factorize(labels)
    return np.asarray(codes), list(found)


def _floats(column: Any) -> Floats:
    return np.asarray(column.to_numpy(dtype=np.float64, na_value=np.nan))


def _is_number(value: Any) -> bool:
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True
