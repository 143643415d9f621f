"""amber-ruler inspect: what a table holds, and whether it can be believed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amber_ruler.cli.build import number
from amber_ruler.cli.methods import By, Json, planned_shares
from amber_ruler.cli.output import save_text, write, write_results
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from amber_ruler.tables import Table

Source = Annotated[
    Path,
    typer.Argument(help="A CSV, Parquet or JSON Lines file, a folder, or a pattern in quotes.", show_default=False),
]
EXAMPLES = """\b
Examples:
  amber-ruler inspect travellers.csv --by form --unit traveller --day day \\
      --covariates prior_spend,prior_trips --metrics fare,booked --possible fare=0:
  amber-ruler inspect days/*.parquet --by form --split current=50,short=25,guided=25
"""
DIGEST_EXAMPLES = """\b
Example:
  amber-ruler digest travellers.csv --by form --day day --strata home_port \\
      --metrics fare,booked --covariates prior_spend --out day.json
"""


def run(
    file: Source,
    by: By,
    unit: Annotated[str | None, typer.Option(help="Column that names the unit.", show_default=False)] = None,
    day: Annotated[str | None, typer.Option(help="Column with the day.", show_default=False)] = None,
    split: Annotated[
        str | None,
        typer.Option(
            help="Planned shares: current=50,short=50, or 50,50 in the labels' alphabetical order.", show_default=False
        ),
    ] = None,
    covariates: Annotated[
        str, typer.Option(help="Columns known before the test, separated by commas.", show_default=False)
    ] = "",
    metrics: Annotated[str, typer.Option(help="Columns to be measured, separated by commas.", show_default=False)] = "",
    strata: Annotated[str | None, typer.Option(help="Column with the strata.", show_default=False)] = None,
    possible: Annotated[
        str,
        typer.Option(help="What values can be: fare=0:500,minutes_to_book=0: (open ends empty).", show_default=False),
    ] = "",
    as_json: Json = False,
) -> None:
    """Find out whether a table can be believed, before anything is compared.

    Looks at the split, the unit of analysis, units under two variants, missing values and balance before the test.
    Ends with 3 when something makes answers unbelievable.
    """
    from amber_ruler.tables import table

    source = table(file)
    found = source.check(
        by=by,
        unit=unit,
        day=day,
        split=None if split is None else _shares(split, source, by),
        covariates=_listed(covariates),
        metrics=_listed(metrics),
        strata=strata,
        possible=_bounds(possible),
    )
    status = write_results([found], as_json=as_json)
    if status:
        raise typer.Exit(status)


def digest(
    file: Source,
    by: By,
    metrics: Annotated[str, typer.Option(help="Columns to be measured, separated by commas.", show_default=False)],
    out: Annotated[Path, typer.Option(help="The JSON file to write.", show_default=False)],
    covariates: Annotated[
        str, typer.Option(help="Columns known before the test, separated by commas.", show_default=False)
    ] = "",
    strata: Annotated[str, typer.Option(help="Column with the strata.", show_default=False)] = "",
    day: Annotated[str, typer.Option(help="Column with the day.", show_default=False)] = "",
) -> None:
    """Reduce a table to moments by variant, stratum and day: a small file without any row.

    Files of several days merge in the library (`+`) and serve every method that compares means.
    """
    from amber_ruler.tables import table

    found = table(file).digest(_listed(metrics), by=by, covariates=_listed(covariates), strata=strata, day=day)
    save_text(out, found.to_json())
    write(f"Written to {out}: {len(found.cells):,} cells of {', '.join(found.metrics)}.")


def _shares(text: str, source: Table, by: str) -> dict[str, float]:
    if "=" in text:
        return planned_shares(text)
    labels, parts = list(source.sizes(by=by)), text.split(",")
    if len(labels) != len(parts):
        raise InputError(f"--split has {len(parts)} shares for {len(labels)} variants: {', '.join(labels)}.")
    return planned_shares(",".join(f"{label}={share}" for label, share in zip(labels, parts, strict=True)))


def _bounds(text: str) -> dict[str, tuple[float | None, float | None]]:
    found = {}
    for part in _listed(text):
        column, equals, ends = part.partition("=")
        low, colon, high = ends.partition(":")
        try:
            found[column.strip()] = (number(low) if low.strip() else None, number(high) if high.strip() else None)
        except ValueError:
            equals = ""
        if not (equals and colon):
            raise InputError.rule("--possible", part, "column=smallest:largest, where an end may be empty")
    return found


def _listed(text: str) -> list[str]:
    return [part.strip() for part in text.split(",") if part.strip()]
