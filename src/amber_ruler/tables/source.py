"""Opening a file or a dataframe, and saying what is wrong with it."""

from __future__ import annotations

import csv
import gzip
import logging
import os
import re
import shutil
import weakref
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from glob import glob
from itertools import islice
from pathlib import Path
from tempfile import mkdtemp
from typing import Any, NamedTuple

import narwhals as nw

from amber_ruler.errors import AmberRulerError, DataError, EngineError, InputError
from amber_ruler.tables.dialect import Dialect

_LOG = logging.getLogger(__name__)
_KINDS = {
    ".csv": "csv",
    ".tsv": "csv",
    ".txt": "csv",
    ".parquet": "parquet",
    ".pq": "parquet",
    ".jsonl": "json",
    ".ndjson": "json",
}
_PLAIN = (".csv", ".tsv", ".txt")
_PACKED = (".gz", ".zst")
_HERE = Path(__file__).parents[1]
_VALUE = re.compile(r"Could not convert string \"(.*)\" to", re.DOTALL)
_MISFITS = """select s.file_path, e.line, e.column_name, e.error_message, count(*) over ()
from reject_errors e join reject_scans s using (scan_id, file_id) order by 1, 2 limit 3"""
_SNIFF = "select Delimiter, HasHeader, DateFormat, TimestampFormat, Columns from sniff_csv($path, skip = $skip)"
_SNIFF_APART = _SNIFF.replace("$skip", "$skip, delim = $separator")
_MOST_ENTRIES = 20_000  # of a folder that is looked through for tables
_SMALL = 64 << 20  # bytes of text that are parsed once and kept
# Nothing is fetched while a file is read.
NOTHING_FETCHED: dict[str, Any] = {"autoinstall_known_extensions": "false", "autoload_known_extensions": "false"}


class Source(NamedTuple):
    """An opened table."""

    frame: nw.DataFrame[Any] | nw.LazyFrame[Any]
    name: str  # for messages
    connection: Any = None  # the engine's, which must live as long as the frame
    stamps: tuple[tuple[Path, int, int], ...] = ()  # the files, when they were written, and their sizes
    dialect: Dialect = Dialect()  # how its text is written
    kept: Any = None  # a folder with the same text in another encoding, which must live as long
    misfits: Callable[[], str] = str  # says which values don't fit their columns, once an engine has met one

    def check_unchanged(self) -> None:
        """Say so if a file was written while it was being read: two passes over it would not be of the same rows."""
        for path, written, size in self.stamps:
            now = path.stat() if path.exists() else None
            if now is None or (now.st_mtime_ns, now.st_size) != (written, size):
                raise DataError(f"{path} changed while it was being read: open the table again when it is at rest.")


def open_source(source: Any, dialect: Dialect = Dialect()) -> Source:  # noqa: B008 - it can't be changed
    """Open a path or take a dataframe."""
    _LOG.info("opening %s", source if isinstance(source, (str, os.PathLike)) else f"a {type(source).__name__}")
    if isinstance(source, (str, os.PathLike)):
        files = found = _found(str(source))
        if not dialect.usual and _kind(files[0]) != "csv":
            raise InputError(f"{source} says itself how it is written: leave separator, decimal and the like out.")
        stamps = tuple((file, file.stat().st_mtime_ns, file.stat().st_size) for file in files)
        kept = None
        if dialect.encoding.casefold().replace("_", "-") not in ("utf-8", "utf8"):
            kept = _Folder()
            files = [_in_utf8(file, kept.path / f"{k}.csv", dialect.encoding) for k, file in enumerate(files)]
        relation, connection, nameless = _read(str(source), files, dialect)
        misfits = partial(_misfits, connection, dict(zip(map(_literal, files), found, strict=True)), dialect)
        frame = nw.from_native(relation)
        if nameless:
            with engine_errors(str(source)):
                frame = _without_last(frame, str(source))
        return Source(frame, str(source), connection, stamps, dialect, kept, misfits)
    if not dialect.usual:
        raise InputError("A dataframe is read already: separator, decimal and the like are for files.")
    try:
        frame = nw.from_native(source)
        frame.collect_schema()
    except TypeError:
        raise InputError(
            "A table is a path, a dataframe (pandas, Polars, PyArrow, DuckDB, PySpark) or a table of Ibis, got"
            f" {type(source).__name__}."
        ) from None
    except nw.exceptions.DuplicateError as error:
        twins = " ".join(str(error).split())
        raise DataError(f"The dataframe has more than one column of a name ({twins}): rename all but one.") from None
    if not frame.collect_schema():
        raise DataError("The dataframe has no columns.")
    if isinstance(frame, nw.DataFrame) and not frame.implementation.is_pandas_like():
        # Eager frames of the others reduce on an engine, in parallel.
        frame = frame.lazy() if frame.implementation.is_polars() else frame.lazy(backend="duckdb")
    in_warehouse = getattr(source.op(), "name", "the warehouse's table") if frame.implementation.is_ibis() else None
    return Source(frame, in_warehouse or "the dataframe")


@contextmanager
def engine_errors(name: str, misfits: Callable[[], str] = str) -> Iterator[None]:
    """Turn an engine's own error into one that says which table it was; its text may hold SQL, and stays behind."""
    try:
        yield
    except AmberRulerError:
        raise
    except Exception as error:
        if type(error).__module__ == "builtins" and _raised_here(error):
            raise  # a fault of ours
        _heed_interrupt(error)
        if "OutOfRange" in type(error).__name__:
            raise DataError(f"{name}: its values are too large to add up: are they of the unit you think?") from None
        engine, kind = type(error).__module__.partition(".")[0].lstrip("_"), type(error).__name__
        if any(word in kind for word in ("Conversion", "InvalidInput", "InvalidOperation", "ArrowInvalid", "Parse")):
            said = misfits() or "a value does not fit its column"
            raise DataError(f"{name}: {said}. Fix what stands there, or give the column one type.") from None
        by = "" if engine == "builtins" else f" by {engine}"
        raise EngineError(
            f"{name} can't be read{by} ({kind}). Are its columns of plain types, and is the file whole?"
        ) from None


@contextmanager
def _opening(name: str, kind: str) -> Iterator[None]:
    """Say that a file is not what its name says."""
    try:
        yield
    except AmberRulerError:
        raise
    except Exception as error:
        _heed_interrupt(error)
        if type(error).__module__ == "builtins":
            raise
        if any(words in str(error).casefold() for words in ("invalid unicode", "not utf-8", "can't decode")):
            raise DataError(
                f"{name} is not text in UTF-8: name its encoding, encoding='latin-1' (--encoding latin-1), say."
            ) from None
        said = {
            "csv": "CSV, columns kept apart by one sign under a line of names",
            "json": "JSON Lines, an object a line",
        }
        raise DataError(f"{name} can't be read as {said.get(kind, kind)}: is the file whole?") from None


def _heed_interrupt(error: Exception) -> None:
    """An engine that was interrupted says so by an error of its own."""
    if "Interrupt" in type(error).__name__ or str(error).startswith("Query interrupted"):
        raise KeyboardInterrupt from None


def _raised_here(error: BaseException) -> bool:
    """Whether an error arose in this package's own code rather than in an engine's."""
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    return trace is not None and Path(trace.tb_frame.f_code.co_filename).is_relative_to(_HERE)


class _Folder:
    """A folder that lasts as long as this object."""

    def __init__(self) -> None:
        self.path = Path(mkdtemp(prefix="amber-ruler-"))
        weakref.finalize(self, shutil.rmtree, self.path, ignore_errors=True)


def _kind(file: Path) -> str | None:
    """The format that a file's name says, compressed or not."""
    ending = file.suffix.lower()
    return _KINDS.get(Path(file.stem).suffix.lower() if ending in _PACKED else ending)


def _in_utf8(file: Path, there: Path, encoding: str) -> Path:
    """The same text in UTF-8."""
    if file.suffix.lower() in _PACKED:
        raise InputError(f"{file} is compressed and in {encoding}: unpack it first.")
    try:
        with file.open(encoding=encoding, newline="") as old, there.open("w", encoding="utf-8", newline="") as new:
            shutil.copyfileobj(old, new)
    except UnicodeError:
        raise DataError(f"{file} is not text in {encoding}: name the encoding in which it was saved.") from None
    return there


def _read(name: str, files: list[Path], dialect: Dialect) -> tuple[Any, Any, bool]:
    """Return DuckDB's relation over files of one format, its connection, and whether the last column has no name."""
    kind, nameless = str(_kind(files[0])), False
    for file in files:
        if file.stat().st_size == 0:
            raise DataError(f"{file} is empty: it has no header and no rows.")
    import duckdb

    connection: Any = duckdb.connect(":memory:", config=NOTHING_FETCHED)  # its stubs differ from release to release
    # A path must not be read as a pattern, and no other file be read at all.
    literals = [_literal(file) for file in files]
    allowed = [*map(str, (file.resolve() for file in files)), *literals]
    connection.execute("set allowed_paths = ?", [allowed])
    connection.execute("set enable_external_access = false")
    connection.execute("set lock_configuration = true")
    with _opening(name, kind):
        if kind == "csv":
            heads = {file: _head(connection, file, dialect) for file in files}
            for file, (header, _) in heads.items():
                if header != heads[files[0]][0]:
                    raise DataError(f"{file} has other columns than {files[0]}: {', '.join(header)}. Read them apart.")
            as_text = {column for _, odd in heads.values() for column in odd}
            relation = connection.read_csv(literals, dtype=dict.fromkeys(as_text, "VARCHAR"), **_said(dialect))
            nameless = not heads[files[0]][0][-1].strip()  # a sign too many at the end of every line
        elif kind == "parquet":
            relation = connection.read_parquet(literals)
        else:
            relation = connection.read_json(literals, format="newline_delimited")
        if kind != "parquet" and sum(file.stat().st_size for file in files) <= _SMALL:
            # Text is parsed once, unless some value stands in the way: then only questions that meet it fail.
            try:
                relation.create("rows")
                relation = connection.table("rows")
            except duckdb.Error as error:
                _heed_interrupt(error)
    return relation, connection, nameless


def _misfits(connection: Any, files: Mapping[str, Path], dialect: Dialect) -> str:
    """Which values don't fit their columns, by file, line and column: what the engine rejects on one more reading."""
    import duckdb

    try:
        connection.read_csv(list(files), store_rejects=True, **_said(dialect)).aggregate("max(columns(*))").fetchall()
        found = connection.execute(_MISFITS).fetchall()
    except duckdb.Error as error:
        _heed_interrupt(error)
        return ""
    if not found:
        return ""
    places = []
    for path, line, column, message, _ in found:
        value = _VALUE.search(message)
        file = next((own for read, own in files.items() if Path(read) == Path(path)), path)
        places.append(f"{file}, line {line:,}, column {column!r}" + (f", {value[1]!r}" if value else ""))
    of = found[0][-1]
    more = f"; and {of - len(places):,} more" if of > len(places) else ""
    fits = "value does not fit its column" if of == 1 else "values do not fit their columns"
    return f"{of:,} {fits}: {'; '.join(places)}{more}"


def _found(source: str) -> list[Path]:
    """The files that text stands for; what no file system takes for a path is an error as well."""
    if not source:
        raise InputError("A table has an empty path: name its file.")
    if not source.isprintable() and source.encode(errors="replace").decode() != source:
        raise InputError(f"The file name {source!r} is no text in UTF-8: rename the file.")
    try:
        return _files(Path(source))
    except AmberRulerError:
        raise
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "it is no path"
        raise DataError(f"{source[:200]!r} can't be opened: {reason}.") from None


def _files(path: Path) -> list[Path]:
    """The files that a path, a folder or a pattern stands for, all of one format."""
    if path.is_dir():
        looked_at = list(islice(path.rglob("*"), _MOST_ENTRIES + 1))
        if len(looked_at) > _MOST_ENTRIES:
            raise DataError(
                f"{path} holds more than {_MOST_ENTRIES:,} files and folders: name the folder of the table."
            )
        files = sorted(file for file in looked_at if _kind(file))
        if not files:
            raise DataError(f"{path} is a folder without any table in it. Known endings: {', '.join(_KINDS)}.")
    elif path.exists():
        files = [path]
    elif path.is_symlink():
        raise DataError(f"{path} is a link to {path.readlink()}, which is not there.")
    else:
        files = sorted(Path(found) for found in glob(str(path), recursive=True))  # noqa: PTH207 - the pattern may be absolute
    if not files:
        raise DataError.unknown(f"file in {path.parent}", path.name, sorted(_neighbours(path)))
    strange = next((file for file in files if not _kind(file)), None)
    if strange is not None:
        raise InputError(
            f"{strange}: can't tell the format from {strange.suffix!r}. Known endings: {', '.join(_KINDS)}, and those"
            f" of text with {' or '.join(_PACKED)} behind."
        )
    formats = sorted({str(_kind(file)) for file in files})
    if len(formats) > 1:
        raise DataError(f"{path} holds tables of several formats ({', '.join(formats)}): name those of one.")
    return files


def _literal(file: Path) -> str:
    literal = str(file.resolve())
    for sign in "[*?":
        literal = literal.replace(sign, f"[{sign}]")
    return literal


def _said(dialect: Dialect) -> dict[str, Any]:
    """What the engine has to know."""
    said: dict[str, Any] = {}
    if dialect.separator is not None:
        said["sep"] = dialect.separator
    if dialect.decimal is not None:
        said["decimal"] = dialect.decimal
    if dialect.missing:
        said["na_values"] = ["", *dialect.missing]
    if dialect.skip:
        said |= {"skiprows": dialect.skip, "header": True}
    return said


def _without_last(frame: Any, name: str) -> Any:
    """Without the nameless column behind the last sign, where that is empty."""
    last = frame.collect_schema().names()[-1]
    filled = nw.to_native(frame.select(nw.col(last).count().alias("filled"))).fetchall()
    if filled[0][0]:
        raise DataError(f"The last column of {name} has values and no name: name it in the first line.")
    return frame.drop(last)


def _head(connection: Any, path: Path, dialect: Dialect) -> tuple[list[str], list[str]]:
    """The columns, and those with dates that DuckDB would read by a guess of its own: 01/09/2026 stays text.

    DuckDB renames a second column of the same name: the header is looked at by itself.
    """
    query, given = _SNIFF, {"path": _literal(path), "skip": dialect.skip}
    if dialect.separator is not None:
        query, given = _SNIFF_APART, {**given, "separator": dialect.separator}
    [(delimiter, has_header, day, moment, kinds)] = connection.execute(query, given).fetchall()
    if not has_header:
        raise DataError(f"{path}: its first line does not look like column names. Add a header line.")
    columns = [kind["name"] for kind in kinds]
    if path.suffix.lower() != ".zst":
        with _text(path) as lines:
            for _ in range(dialect.skip):
                lines.readline()
            columns = next(csv.reader(lines, delimiter=delimiter or ","))
    twins = [c for c, times in Counter(columns).items() if times > 1]
    if twins:
        raise DataError(f"{path} has more than one column called {', '.join(map(repr, twins))}: rename all but one.")
    guessed = [
        kind for kind, form in (("DATE", day), ("TIMESTAMP", moment)) if form and not form.startswith("%Y-%m-%d")
    ]
    guessed.append("BOOLEAN")  # yes and no stay words: only true and false are what they say
    return columns, [kind["name"] for kind in kinds if kind["type"] in guessed]


def line_of(source: Source, row: int) -> str:
    """Say on which line of its CSV file a row begins; nothing for other sources."""
    if len(source.stamps) != 1 or source.stamps[0][0].suffix.lower() not in _PLAIN or source.kept is not None:
        return ""
    with _text(source.stamps[0][0]) as lines:
        for _ in range(source.dialect.skip):
            lines.readline()
        head = lines.readline()
        delimiter = max(",;\t|", key=head.count)
        reader = csv.reader(lines, delimiter=delimiter)
        seen = 0
        while seen < row:
            begins = reader.line_num + 2 + source.dialect.skip
            seen += bool(next(reader, ["the end"]))
    return f", line {begins:,} of the file"


def _text(path: Path) -> Any:
    """A file of text, compressed or not."""
    if path.suffix.lower() == ".gz":
        return gzip.open(path, "rt", encoding="utf-8-sig", errors="replace", newline="")
    return path.open(encoding="utf-8-sig", errors="replace", newline="")


def _neighbours(path: Path) -> list[str]:
    try:
        return [p.name for p in path.parent.iterdir() if _kind(p)]
    except OSError:
        return []
