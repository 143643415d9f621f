"""How a command reads its table: the options that say how a file is written, and what is done to its rows first."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.build import labelled_numbers, maybe
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Mapping

    from amber_ruler.tables import Table

_FILE = "A CSV, Parquet or JSON Lines file, a folder, or a pattern in quotes."
_DATABASE = "AMBER_RULER_DATABASE"
SPLIT = "Planned shares: current=50,short=50, or 50,50 in the labels' alphabetical order."
_WRITTEN = ("separator", "decimal", "thousands", "encoding")


def file_argument(help_: str = _FILE) -> tuple[Any, Any]:
    """The file itself; a table of a database stands in its place."""
    return Annotated[Path | None, typer.Argument(help=help_, show_default=False)], None


def reading_options() -> dict[str, tuple[Any, Any]]:
    """What every command that reads a table takes, beside the file."""
    several = list[str]
    return {
        "distinct": (
            Annotated[bool, typer.Option("--distinct", help="Drop rows that repeat another in every column.")],
            False,
        ),
        "where": maybe(
            several, "Keep rows: 'day >= 15', 'port in (Amble, Tern)', 'fare present'; repeatable.", "--where"
        ),
        "relabel": maybe(several, "Name values: 'form: 0=current, 1=short'; before --where.", "--relabel"),
        "derive": maybe(several, "Add a column of 0 and 1: 'late: minutes > 15'; before --where.", "--derive"),
        "success": maybe(several, "Make a column of two values 1 and 0: 'yes', or 'booked=yes'.", "--success"),
        "separator": maybe(str, "Sign between the columns of a CSV file; found out unless given.", "--separator"),
        "decimal": maybe(str, "Decimal sign of a CSV file, . or a comma; 21,5% is then read as a share.", "--decimal"),
        "thousands": maybe(str, "Sign that keeps thousands apart in a CSV file.", "--thousands"),
        "missing_text": maybe(several, "Text that stands for a missing value in a CSV file, such as n/a.", "--missing"),
        "dates": maybe(several, "How a column of dates is written: 'day: %d/%m/%Y'.", "--dates"),
        "encoding": maybe(str, "Encoding of a CSV file, such as latin-1; utf-8 unless given.", "--encoding"),
        "skip_lines": maybe(int, "Lines of a CSV file above its column names.", "--skip-lines"),
        "database": maybe(
            str,
            f"A table of a database instead of a file: postgresql:// or duckdb://; or set {_DATABASE}.",
            "--database",
        ),
        "query_table": maybe(str, "The table's name there, with its schema: sales.travellers.", "--query-table"),
    }


def asked_of_file(given: Mapping[str, Any]) -> list[str]:
    """The flags of those that were given."""
    flags = {"missing_text": "--missing", "skip_lines": "--skip-lines", "query_table": "--query-table"}
    return [flags.get(name, f"--{name}") for name in reading_options() if given.get(name)]


def names_table(given: Mapping[str, Any]) -> bool:
    """Whether a table was named at all."""
    return given["file"] is not None or given.get("query_table") is not None


def open_table(given: Mapping[str, Any], *, values: tuple[str, ...] = ()) -> Table:
    """The table as the options say it; `values` are the columns that a bare --success is for."""
    from amber_ruler.tables import grammar

    source = _opened(given)
    if given.get("distinct"):
        source = source.distinct()
        typer.echo(f"{source.dropped:,} rows repeat another in every column, and are dropped.", err=True)
    for text in given.get("relabel") or ():
        source = source.relabel(*grammar.names(text))
    for text in given.get("success") or ():
        column, sign, word = text.rpartition("=")
        for one in (column,) if sign else values:
            source = source.two_valued(one, success=word.strip())
        if not sign and not values:
            raise InputError("Say which column has this success: --success booked=yes.")
    for text in given.get("derive") or ():
        name, asked = grammar.derived(text)
        source = source.derive(name, asked.column, **asked.condition)
    for text in given.get("where") or ():
        asked = grammar.condition(text)
        source = source.where(asked.column, **asked.condition)
    return source


def _opened(given: Mapping[str, Any]) -> Table:
    """The file, or the table of a database."""
    from amber_ruler.tables import from_database, table

    written = _as_written(given)
    file, name, database = given["file"], given.get("query_table"), given.get("database")
    if file is not None:
        if name is not None or database is not None:
            raise InputError("A file and a table of a database are two tables: give one of them.")
        return table(file, **written)
    if name is None:
        more = "" if database is None else " Which table of the database? --query-table says so."
        raise InputError(f"Give a file, or a table of a database: --database with --query-table.{more}")
    if written:
        raise InputError("A database says itself how its values are written: leave separator, dates and the like out.")
    database = database or os.environ.get(_DATABASE)
    if database is None:
        raise InputError(f"Where is {name}? Give --database, or set {_DATABASE} in the environment.")
    return from_database(database, name)


def as_source(given: Mapping[str, Any]) -> dict[str, Any]:
    """The same options as an experiment file has them."""
    for flag in asked_of_file(given):
        if flag in ("--distinct", "--success", "--derive", "--database", "--query-table"):
            raise InputError(f"An experiment file has no place for {flag}: write the table as it is to be read first.")
    return _as_written(given) | {name: given[name] for name in ("where", "relabel") if given.get(name)}


def _as_written(given: Mapping[str, Any]) -> dict[str, Any]:
    """How the values of a file are written, of what was said of it."""
    found = {name: given[name] for name in _WRITTEN if given.get(name) is not None}
    if given.get("missing_text"):
        found["missing"] = list(given["missing_text"])
    if given.get("skip_lines"):
        found["skip"] = given["skip_lines"]
    if given.get("dates"):
        found["dates"] = dict(_date(text) for text in given["dates"])
    return found


def planned_shares(text: str, source: Table, by: str) -> dict[str, float]:
    """Planned shares by label, or in the labels' order."""
    if "=" in text:
        return labelled_numbers("--split", text)
    labels, parts = list(source.sizes(by=by)), text.split(",")
    if len(labels) != len(parts):
        named = ", ".join(labels)
        raise InputError(
            f"--split has {len(parts)} shares for {len(labels)} variants, {named}: label=share names them."
        )
    return labelled_numbers("--split", ",".join(f"{label}={share}" for label, share in zip(labels, parts, strict=True)))


def _date(text: str) -> tuple[str, str]:
    column, sign, form = text.partition(":")
    if not sign:
        raise InputError(f"--dates takes 'column: %d/%m/%Y'; got {text!r}.")
    return column.strip(), form.strip()
