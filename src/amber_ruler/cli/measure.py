"""amber-ruler measure: the difference between variants of a table."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.output import write_blocks, write_results
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from amber_ruler.moments import Moments
    from amber_ruler.results import Check, Comparison
    from amber_ruler.tables import ByVariant, Table

app = typer.Typer(
    no_args_is_help=True,
    rich_markup_mode=None,
    help="Measure the difference between variants.",
)

File = Annotated[Path, typer.Argument(help="A CSV, Parquet or JSON Lines file, one row a unit.", show_default=False)]
Value = Annotated[str, typer.Option(help="Column with the metric.", show_default=False)]
By = Annotated[str, typer.Option(help="Column with the variant labels.", show_default=False)]
Control = Annotated[str, typer.Option(help="Label of the control.", show_default=False)]
Alpha = Annotated[float, typer.Option(help="Error rate of the test; the interval has level 1 - alpha.")]
Null = Annotated[float, typer.Option(help="Tested difference.")]
Alternative = Annotated[str, typer.Option(help="two-sided, greater or less.")]
Margin = Annotated[float | None, typer.Option(help="Smallest difference that matters.", show_default=False)]
Good = Annotated[str, typer.Option(help="Direction in which the metric is good: higher or lower.")]
Planned = Annotated[
    str | None,
    typer.Option(
        "--split", help="Planned shares, such as current=50,short=50: the split is checked first.", show_default=False
    ),
]
Json = Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")]

_MEANS_EXAMPLES = """\b
Examples:
  amber-ruler measure means travellers.csv \\
      --value fare --by form --control current
  amber-ruler measure means travellers.csv --json \\
      --value fare --by form --control current --margin 0.30
"""
_SHARES_EXAMPLES = """\b
Examples:
  amber-ruler measure proportions travellers.csv \\
      --value booked --by form --control current
  amber-ruler measure proportions travellers.csv --good lower \\
      --value complaint --by form --control current
"""


@app.command("means", epilog=_MEANS_EXAMPLES)
def means(
    file: File,
    value: Value,
    by: By,
    control: Control,
    alpha: Alpha = 0.05,
    null: Null = 0.0,
    alternative: Alternative = "two-sided",
    variances: Annotated[str, typer.Option(help="unequal or equal between the variants.")] = "unequal",
    margin: Margin = None,
    good: Good = "higher",
    split: Planned = None,
    as_json: Json = False,
) -> None:
    """Compare the mean of each variant with that of the control.

    Every other variant is a treatment. Rows without a value are left out and counted.
    """
    from amber_ruler import measure

    settings: dict[str, Any] = {
        "alpha": alpha,
        "null": null,
        "alternative": alternative,
        "margin": margin,
        "good": good,
        "variances": variances,
    }
    _compare(file, value, by, control, split, as_json, lambda a, b: measure.means(a, b, **settings))


@app.command("proportions", epilog=_SHARES_EXAMPLES)
def proportions(
    file: File,
    value: Value,
    by: By,
    control: Control,
    alpha: Alpha = 0.05,
    null: Null = 0.0,
    alternative: Alternative = "two-sided",
    margin: Margin = None,
    good: Good = "higher",
    split: Planned = None,
    as_json: Json = False,
) -> None:
    """Compare the share of 1s (or true) in each variant with that in the control.

    Every other variant is a treatment. Rows without a value are left out and counted.
    """
    from amber_ruler import measure

    settings: dict[str, Any] = {
        "alpha": alpha,
        "null": null,
        "alternative": alternative,
        "margin": margin,
        "good": good,
    }
    _compare(file, value, by, control, split, as_json, lambda a, b: measure.proportions(a, b, **settings))


def _compare(
    file: Path,
    value: str,
    by: str,
    control: str,
    split: str | None,
    as_json: bool,
    method: Callable[[Moments, Moments], Comparison],
) -> None:
    from amber_ruler.tables import table

    source = table(file)
    arms = source.moments(value, by=by)
    findings = _findings(source, arms, by, split)
    results = [_with(method(arm, base), findings) for arm, base in arms.against(control)]
    status = write_results(results, as_json=as_json)
    if len(results) > 1 and not as_json:
        _write_together(results)
    if status:
        raise typer.Exit(status)


def _findings(source: Table, arms: ByVariant[Moments], by: str, split: str | None) -> tuple[Check, ...]:
    from amber_ruler.results import Check

    found: list[Check] = []
    if split is not None:
        found.append(source.check_split(by=by, planned=planned_shares(split)).as_check)
    if arms.unassigned:
        rows = f"{arms.unassigned:,} rows have no label in {by!r}"
        found.append(Check("variant labels", rows, "They belong to no variant and are left out.", "note"))
    return tuple(found)


def _with(result: Comparison, findings: tuple[Check, ...]) -> Comparison:
    from dataclasses import replace

    return replace(result, checks=(*findings, *result.checks))


def planned_shares(text: str) -> dict[str, float]:
    """Read shares such as current=50,short=50."""
    shares: dict[str, float] = {}
    for part in text.split(","):
        label, sign, share = part.rpartition("=")
        try:
            shares[label.strip()] = float(share)
        except ValueError:
            sign = ""
        if not sign:
            raise InputError(
                f"--split takes label=share, separated by commas, such as current=50,short=50; got {part!r}."
            )
    return shares


def _write_together(results: list[Comparison]) -> None:
    from amber_ruler.multiplicity import adjust
    from amber_ruler.report.blocks import Heading, Lines, Ruler
    from amber_ruler.report.views import comparison

    rows = tuple(comparison.ruler_row(r, f"{r.treatment} − {r.control}") for r in results)
    family = adjust({r.treatment: float(r.p_value or 0.0) for r in results}, alpha=results[0].alpha)
    first = results[0]
    write_blocks(
        [
            Heading(f"\n{len(results)} variants against {first.control}", f"p-values corrected by {family.method}"),
            Ruler(rows, float(first.null), first.margin, first.percent, "pp" if first.percent else ""),
            Lines((family.sentence(),), strong=True),
        ]
    )
