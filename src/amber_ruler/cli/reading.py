"""How a command reads its table: the options that say how a file is written, and what is done to its rows first."""

from __future__ import annotations

import inspect
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.build import maybe
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Mapping

    from amber_ruler.tables import Table

_FILE = "A CSV, Parquet or JSON Lines file, a folder, or a pattern in quotes."
_WRITTEN = ("separator", "decimal", "thousands", "encoding")


def file_argument(*, needed: bool = True) -> tuple[Any, Any]:
    """The file itself."""
    argument = typer.Argument(help=_FILE, show_default=False)
    return (Annotated[Path, argument], inspect.Parameter.empty) if needed else (Annotated[Path | None, argument], None)


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
    }


def asked_of_file(given: Mapping[str, Any]) -> list[str]:
    """The flags of those that were given."""
    flags = {"missing_text": "--missing", "skip_lines": "--skip-lines"}
    return [flags.get(name, f"--{name}") for name in reading_options() if given.get(name)]


def open_table(given: Mapping[str, Any], *, values: tuple[str, ...] = ()) -> Table:
    """The table as the options say it; `values` are the columns that a bare --success is for."""
    from amber_ruler.tables import grammar, table

    written: dict[str, Any] = {name: given[name] for name in _WRITTEN if given.get(name) is not None}
    if given.get("missing_text"):
        written["missing"] = list(given["missing_text"])
    if given.get("skip_lines"):
        written["skip"] = given["skip_lines"]
    source = table(given["file"], dates=dict(_date(text) for text in given.get("dates") or ()), **written)
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


def _date(text: str) -> tuple[str, str]:
    column, sign, form = text.partition(":")
    if not sign:
        raise InputError(f"--dates takes 'column: %d/%m/%Y'; got {text!r}.")
    return column.strip(), form.strip()
