"""amber-ruler check, describe, daily, digest, units: a table looked at, reduced, and brought into shape."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from amber_ruler.cli.build import command, labelled_numbers, maybe, needed, number, written
from amber_ruler.cli.experiments import experiment_of
from amber_ruler.cli.output import note, save_text, tell, whole, write_results
from amber_ruler.cli.reading import SPLIT, asked_of_file, file_argument, open_table, planned_shares, reading_options
from amber_ruler.errors import InputError

_SAID = {
    "check": (
        "Find out whether a table can be believed, before anything is compared.\n\n"
        "Looks at the split, the unit of analysis, units under two variants, missing values and balance before the"
        " test. Ends with 3 when something makes answers unbelievable."
    ),
    "describe": "What do the values of a column look like in each variant: spread, quantiles, zeros, the largest?",
    "daily": "How did the mean of a column go from day to day in each variant?",
    "compare": (
        "What is different from the control, in one metric or several?\n\n"
        "Metrics of 0 and 1 are compared as shares, others as means, unless --method says otherwise."
    ),
    "digest": (
        "Reduce a table to moments by variant, stratum and day: a small file without any row.\n\n"
        "Files of several days merge in the library (`+`) and serve every method that compares means, and monitor."
    ),
    "units": "Turn a log of events into one row a unit: CSV or Parquet.",
}
EXAMPLES = {
    "check": """  amber-ruler check travellers.csv --by form --unit traveller --day day \\
      --covariates prior_spend,prior_trips --metrics fare,booked --possible fare=0:
  amber-ruler check days/*.parquet --by form --split current=50,short=25,guided=25""",
    "describe": "  amber-ruler describe travellers.csv --value fare --by form --where 'day >= 8' --figure fares.png",
    "daily": "  amber-ruler daily travellers.csv --value booked --by form --day day --figure booked.png",
    "compare": "  amber-ruler compare travellers.csv --value fare,booked,complaint --by form --control current \\\n"
    "      --margin fare=0.3,booked=1% --good complaint=lower --figure day.png",
    "digest": """  amber-ruler digest travellers.csv --by form --day day --strata home_port \\
      --metrics fare,booked --covariates prior_spend --out day.json""",
    "units": """  amber-ruler units events.csv --unit traveller --by form --out units.parquet \\
      --take "searches: count where event = search" --take "spent: total amount\"""",
}


_BY = "Column with the variant labels."
_UNIT = "Column that names the unit, what was randomised."


def _options(name: str) -> dict[str, tuple[Any, Any]]:
    """What each command takes beside the file and how it is read."""
    if name == "check":
        return {
            "by": maybe(str, _BY),
            "unit": maybe(str, _UNIT),
            "day": maybe(str, "Column with the day."),
            "split": maybe(str, SPLIT),
            "covariates": maybe(str, "Columns known before the test, separated by commas."),
            "metrics": maybe(str, "Columns to be measured, separated by commas."),
            "strata": maybe(str, "Column with the strata."),
            "clusters": maybe(str, "Column with what was assigned as a whole, where that is many units."),
            "possible": maybe(str, "What values can be: fare=0:500,minutes_to_book=0: (open ends empty)."),
        }
    if name in ("describe", "daily"):
        more = {"day": needed(str, "Column with the day.")} if name == "daily" else {"unit": maybe(str, _UNIT)}
        return {"value": needed(str, "Column with the metric."), "by": needed(str, _BY), **more}
    if name == "compare":
        return {
            "value": needed(str, "Columns with the metrics, separated by commas."),
            "by": needed(str, _BY),
            "control": needed(str, "Label of the control."),
            "treatment": maybe(str, "Label of the treatment; every other variant unless given."),
            "method": maybe(str, "For all of them: means, proportions, ranks, superiority, ..."),
            "family": maybe(str, "How they are corrected: holm (unless given), none, ...", "--correct"),
            "margin": maybe(str, "Smallest differences that matter: fare=0.3,booked=1%."),
            "good": maybe(str, "Directions in which metrics are good, where lower: complaint=lower."),
            "alpha": maybe(float, "Error rate of the tests; 0.05 unless given."),
        }
    if name == "digest":
        return {
            "by": needed(str, _BY),
            "metrics": needed(str, "Columns to be measured, separated by commas."),
            "out": needed(Path, "The JSON file to write."),
            "covariates": maybe(str, "Columns known before the test, separated by commas."),
            "strata": maybe(str, "Column with the strata."),
            "day": maybe(str, "Column with the day."),
        }
    taken = "A column to make: 'searches: count where event = search', 'spent: total amount', 'any', 'largest', ..."
    listed = "Table with the units and the variants they were assigned to: units without events are kept."
    return {
        "unit": needed(str, _UNIT),
        "by": needed(str, _BY),
        "take": needed(list[str], taken),
        "out": needed(Path, "The CSV or Parquet file to write."),
        "assignment": maybe(Path, listed),
    }


def made(name: str) -> Any:
    """One of these commands."""
    options = {"file": file_argument(), **_options(name), **reading_options()}
    if name in ("compare", "describe", "daily"):
        options |= written()
    if name == "check":
        options["as_json"] = (Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")], False)
    run: Any = {"check": _check, "compare": _compare, "digest": _digest, "units": _units}.get(name, _looked_at(name))
    return command(name, run, options, _SAID[name], f"\b\nExamples:\n{EXAMPLES[name]}\n")


NAMES = tuple(_SAID)


def _check(**given: Any) -> None:
    file = given["file"]
    if file is not None and file.suffix.lower() == ".toml":
        beside = [*(f"--{name}" for name in _options("check") if given[name]), *asked_of_file(given)]
        if beside:
            raise InputError(f"An experiment file says itself what is looked at: leave {beside[0]} out.")
        status = write_results([experiment_of(file).check()], as_json=given["as_json"])
        raise typer.Exit(status)
    if given["by"] is None:
        raise InputError("Say which column holds the variants: --by form. Of an experiment file give the file alone.")
    source = open_table(given, values=tuple(_listed(given["metrics"])))
    split = given["split"]
    found = source.check(
        by=given["by"],
        unit=given["unit"],
        day=given["day"],
        split=None if split is None else planned_shares(split, source, given["by"]),
        covariates=_listed(given["covariates"]),
        metrics=_listed(given["metrics"]),
        strata=given["strata"],
        clusters=given["clusters"],
        possible=_bounds(given["possible"]),
    )
    status = write_results([found], as_json=given["as_json"])
    if status:
        raise typer.Exit(status)


def _looked_at(name: str) -> Any:
    """Describe or daily."""

    def run(**given: Any) -> None:
        source = open_table(given, values=(given["value"],))
        more = {"day": given["day"]} if name == "daily" else {"unit": given["unit"]}
        found: Any = getattr(source, name)(given["value"], by=given["by"], **more)
        tell(found, given)

    return run


def _compare(**given: Any) -> None:
    metrics = _listed(given["value"])
    margins = {} if given["margin"] is None else labelled_numbers("--margin", given["margin"])
    good = dict(part.split("=", 1) for part in _listed(given["good"]) if "=" in part)
    if len(good) < len(_listed(given["good"])):
        raise InputError("--good takes metric=lower, separated by commas.")
    for flag, named in (("--margin", margins), ("--good", good)):
        for name in named:
            if name not in metrics:
                raise InputError.unknown(flag, name, metrics)
    own: dict[str, dict[str, Any]] = {name: {} for name in metrics}
    for name, margin in margins.items():
        own[name]["margin"] = margin
    for name, direction in good.items():
        own[name]["good"] = direction
    more = {name: given[name] for name in ("treatment", "method", "alpha") if given[name] is not None}
    found = open_table(given, values=tuple(metrics)).compare(
        own, by=given["by"], control=given["control"], correct=given["family"] or "holm", **more
    )
    tell(found, given)


def _digest(**given: Any) -> None:
    metrics = _listed(given["metrics"])
    found = open_table(given, values=tuple(metrics)).digest(
        metrics,
        by=given["by"],
        covariates=_listed(given["covariates"]),
        strata=given["strata"] or "",
        day=given["day"] or "",
    )
    save_text(given["out"], found.to_json())
    note(f"Written to {given['out']}: {len(found.cells):,} cells of {', '.join(found.metrics)}.")


def _units(**given: Any) -> None:
    from amber_ruler.tables import grammar

    taken = [grammar.taken(text) for text in given["take"]]
    measures = dict(taken)
    if len(measures) < len(taken):
        raise InputError("--take makes two columns of one name: give each a name of its own.")
    listed = None if given["assignment"] is None else open_table({"file": given["assignment"]})
    source = open_table(given)
    found = source.units(unit=given["unit"], by=given["by"], measures=measures, assignment=listed)
    out: Path = given["out"]
    if out.suffix.lower() not in (".csv", ".parquet"):
        raise InputError(f"Units are written as .csv or .parquet; got {out.name!r}.")
    import duckdb

    from amber_ruler.tables import profile

    rows = duckdb.from_df(found.fetched(*found.columns))
    with whole(out) as part:
        (rows.write_csv if out.suffix.lower() == ".csv" else rows.write_parquet)(str(part))
    note(f"Written to {out}: {rows.count('*').fetchall()[0][0]:,} units with {', '.join(measures)}.")
    if listed is None:
        crossed = profile.units(source.frame.lazy(), given["unit"], given["by"]).crossed
        if crossed:
            note(f"{crossed:,} units were seen under more than one variant, and are left out.")


def _bounds(text: str | None) -> dict[str, tuple[float | None, float | None]]:
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


def _listed(text: str | None) -> list[str]:
    return [part.strip() for part in (text or "").split(",") if part.strip()]
