"""Opening a file or a dataframe, and saying what is wrong with it."""

from __future__ import annotations

import csv
import os
from collections import Counter
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import narwhals as nw

from amber_ruler.errors import DataError, EngineError, InputError

if TYPE_CHECKING:
    from collections.abc import Iterator

_KINDS = {
    ".csv": "csv",
    ".tsv": "csv",
    ".txt": "csv",
    ".parquet": "parquet",
    ".pq": "parquet",
    ".jsonl": "json",
    ".ndjson": "json",
}
# Nothing is fetched while a file is read.
_CONFIG: dict[str, Any] = {"autoinstall_known_extensions": "false", "autoload_known_extensions": "false"}


class Source(NamedTuple):
    """An opened table."""

    frame: nw.DataFrame[Any] | nw.LazyFrame[Any]
    name: str  # for messages
    connection: Any = None  # the engine's, which must live as long as the frame


def open_source(source: Any) -> Source:
    """Open a path or take a dataframe."""
    if isinstance(source, (str, os.PathLike)):
        path = Path(source)
        relation, connection = _read(path)
        return Source(nw.from_native(relation), str(path), connection)
    try:
        frame = nw.from_native(source)
        frame.collect_schema()
    except TypeError:
        raise InputError(
            f"A table is a path or a dataframe (pandas, Polars, PyArrow, DuckDB, PySpark), got {type(source).__name__}."
        ) from None
    except nw.exceptions.DuplicateError as error:
        twins = " ".join(str(error).split())
        raise DataError(f"The dataframe has more than one column of a name ({twins}): rename all but one.") from None
    if isinstance(frame, nw.DataFrame) and not frame.implementation.is_pandas_like():
        # Eager frames of the others reduce on an engine, in parallel.
        frame = frame.lazy() if frame.implementation.is_polars() else frame.lazy(backend="duckdb")
    return Source(frame, "the dataframe")


@contextmanager
def engine_errors(name: str) -> Iterator[None]:
    """Turn an engine's own error into one that says which table it was."""
    try:
        yield
    except Exception as error:
        kind = type(error)
        if kind.__module__.partition(".")[0] not in {"duckdb", "_duckdb"}:
            raise
        first = " ".join(line.strip() for line in str(error).splitlines()[:4] if line.strip())
        if kind.__name__ in {"ConversionException", "InvalidInputException"}:
            raise DataError(
                f"{name}: a value does not fit its column: {first[:500]}. Mend the value, or give the column one type."
            ) from None
        raise EngineError(f"{name}: {first[:500]}") from None


def _read(path: Path) -> tuple[Any, Any]:
    """Return DuckDB's relation over a file, and its connection."""
    kind = _KINDS.get(path.suffix.lower())
    if not path.exists():
        raise DataError.unknown(f"file in {path.parent}", path.name, sorted(_neighbours(path)))
    if path.is_dir():
        raise DataError(f"{path} is a folder: name one file in it.")
    if kind is None:
        raise InputError(f"{path}: can't tell the format from {path.suffix!r}. Known endings: {', '.join(_KINDS)}.")
    if path.stat().st_size == 0:
        raise DataError(f"{path} is empty: it has no header and no rows.")
    import duckdb

    connection = duckdb.connect(":memory:", config=_CONFIG)
    # The path must not be read as a pattern.
    literal = str(path.resolve())
    for sign in "[*?":
        literal = literal.replace(sign, f"[{sign}]")
    with engine_errors(str(path)):
        if kind == "csv":
            _check_header(connection, path, literal)
            relation = connection.read_csv(literal)
        elif kind == "parquet":
            relation = connection.read_parquet(literal)
        else:
            relation = connection.read_json(literal, format="newline_delimited")
    return relation, connection


def _check_header(connection: Any, path: Path, literal: str) -> None:
    """DuckDB renames a second column of the same name: look at the header first."""
    query = "select Delimiter, HasHeader from sniff_csv(?)"
    [(delimiter, has_header)] = connection.execute(query, [literal]).fetchall()
    if not has_header:
        raise DataError(f"{path}: its first line does not look like column names. Add a header line.")
    with path.open(encoding="utf-8-sig", errors="replace", newline="") as lines:
        columns = next(csv.reader(lines, delimiter=delimiter or ","))
    twins = [c for c, times in Counter(columns).items() if times > 1]
    if twins:
        raise DataError(f"{path} has more than one column called {', '.join(map(repr, twins))}: rename all but one.")


def _neighbours(path: Path) -> list[str]:
    try:
        return [p.name for p in path.parent.iterdir() if p.suffix.lower() in _KINDS]
    except OSError:
        return []
