"""amber-ruler measure: one command for each question, from a table or from published numbers.

The settings of a command are those of the library's function, said as in its docstring.
"""

from __future__ import annotations

import inspect
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from amber_ruler.cli.build import command, lazy_group, numbers, parameters
from amber_ruler.cli.output import save_figure, write_blocks, write_results
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from amber_ruler.results import Check, Comparison, Measurement
    from amber_ruler.samples import Pairs
    from amber_ruler.tables import Table


class _Kind(NamedTuple):
    """What a command takes (two groups, one, pairs, columns), as moments or values, and which published numbers."""

    takes: str
    reads: str
    published: tuple[str, ...]
    examples: tuple[str, ...]


_SUMMARY, _COUNTS, _EVENTS = ("n", "mean", "sd"), ("successes", "trials"), ("events", "exposure")
_FARES = "travellers.csv --value fare --by form --control current"
_MINUTES = "travellers.csv --value minutes_to_book --by form --control current"
_VESSELS = "turnarounds.csv --value minutes --by when --unit vessel --control before"
_SHARES = "travellers.csv --value booked --by form --control current"
KINDS = {
    "mean": _Kind("one", "moments", _SUMMARY, ("travellers.csv --value fare --by form --null 14",)),
    "means": _Kind("two", "moments", _SUMMARY, (f"{_FARES} --margin 0.30", "--n 90,90 --mean 21,14 --sd 20,20")),
    "pairs": _Kind(
        "pairs", "values", _SUMMARY, (f"{_VESSELS} --good lower", "wide.csv --treatment after --control before")
    ),
    "proportion": _Kind("one", "moments", _COUNTS, ("--successes 15 --trials 50 --null 0.2 --test exact",)),
    "proportions": _Kind("two", "moments", _COUNTS, (_SHARES, "--successes 60,40 --trials 400,400 --test fisher")),
    "paired-proportions": _Kind("pairs", "values", ("counts",), ("--counts 20,15,5,60 --labels after,before",)),
    "rate": _Kind("one", "moments", _EVENTS, ("--events 30 --exposure 120 --null 0.3",)),
    "rates": _Kind("two", "moments", _EVENTS, ("--events 40,60 --exposure 120,130",)),
    "ranks": _Kind("two", "values", (), (f"{_MINUTES} --good lower",)),
    "signed-ranks": _Kind("pairs", "values", (), (f"{_VESSELS} --good lower",)),
    "spread": _Kind("one", "values", _SUMMARY, ("travellers.csv --value minutes_to_book --by form",)),
    "spreads": _Kind("two", "values", _SUMMARY, (_MINUTES,)),
    "quantiles": _Kind("two", "values", (), (f"{_MINUTES} --at 0.9 --good lower",)),
    "groups": _Kind(
        "many",
        "values",
        _SUMMARY,
        (
            "crossings.csv --value delay --by route",
            "crossings.csv --value delay --by route --control Amble",
            "turnarounds.csv --value minutes --by when --unit vessel",
            "--n 20,20,25 --mean 10.2,12.9,10.8 --sd 3.0,3.4,2.9 --labels Amble,Brae,Cairn",
        ),
    ),
    "factors": _Kind(
        "factors",
        "values",
        (),
        (
            "crossings.csv --value delay --by route,season",
            "crossings.csv --value delay --by route,season --kind III --figure delays.png",
        ),
    ),
    "independence": _Kind(
        "table",
        "counts",
        ("counts",),
        (
            "tickets.csv --row port --column ticket --count count",
            "travellers.csv --row form --column booked",
            "--counts '30,10; 20,40' --test exact",
        ),
    ),
    "shares": _Kind(
        "kinds",
        "counts",
        ("counts",),
        ("travellers.csv --value form", "--counts 120,80,100 --labels foot,bicycle,car --expected 50,20,30"),
    ),
    "correlation": _Kind("columns", "moments", (), ("travellers.csv --value fare --second prior_spend",)),
}
_PUBLISHED = {
    "n": "Published: units of treatment, control (of one group its own).",
    "mean": "Published: means of treatment, control.",
    "sd": "Published: standard deviations of treatment, control.",
    "successes": "Published: successes of treatment, control.",
    "trials": "Published: trials of treatment, control.",
    "events": "Published: events of treatment, control.",
    "exposure": "Published: what they are counted over.",
    "counts": "Published: units with success on both sides, in treatment only, in control only, on neither.",
}
_COUNTS_OF = {
    "table": "Published: rows of counts, such as '30,10; 20,40'.",
    "kinds": "Published: the count of each kind, such as 120,80,100.",
}

By = Annotated[str, typer.Option(help="Column with the variant labels.", show_default=False)]
Json = Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")]


def _command(name: str) -> Any:
    from amber_ruler import measure

    kind = KINDS[name]
    method = getattr(measure, name.replace("-", "_"))
    doc = inspect.getdoc(method) or ""

    def run(**given: Any) -> None:
        _run(name, method, given)

    examples = "\n".join(f"  amber-ruler measure {name} {example}" for example in kind.examples)
    options = {**_sources(kind), **_settings(method)}
    return command(name, run, options, doc.splitlines()[0], f"\b\nExamples:\n{examples}\n")


def _sources(kind: _Kind) -> dict[str, tuple[Any, Any]]:
    """Where the numbers come from."""

    def maybe(help_: str, *names: str, of: Any = str) -> tuple[Any, Any]:
        return Annotated[of | None, typer.Option(*names, help=help_, show_default=False)], None

    file = typer.Argument(
        help="A CSV, Parquet or JSON Lines file, a folder, or a pattern in quotes.", show_default=False
    )
    options: dict[str, tuple[Any, Any]] = {"file": (Annotated[Path | None, file], None)}
    if kind.takes == "table":
        options["row"] = maybe("Column whose values make the rows; without it the file itself is a table of counts.")
        options["column"] = maybe("Column whose values make the columns.")
    else:
        options["value"] = maybe("Column with the kinds." if kind.takes == "kinds" else "Column with the metric.")
    if kind.takes in ("table", "kinds"):
        options["count"] = maybe("Column that holds how many units a row stands for.")
    elif kind.takes == "columns":
        options["second"] = maybe("The other column.")
    else:
        several = "The two or three columns that hold the factors, such as route,season."
        options["by"] = maybe(several if kind.takes == "factors" else "Column with the variant labels.")
    if kind.takes in ("two", "pairs", "many"):
        options["control"] = maybe("Label of the control; of a wide table its column.")
    if kind.takes in ("pairs", "many"):
        options["unit"] = maybe("Column that names the unit, measured under every condition: rows are aligned by it.")
    if kind.takes == "pairs":
        options["treatment"] = maybe("Column with the treatment side of a wide table, instead of --value and --by.")
    for name in kind.published:
        options[name] = maybe(_COUNTS_OF.get(kind.takes, _PUBLISHED[name]), f"--{name}")
    if kind.published and kind.takes != "table":
        options["labels"] = maybe("What the published groups are called, such as short,current.")
    if kind.takes == "many":
        options["pairs"] = maybe("How pairs are corrected, such as tukey-kramer, dunnett or holm.", "--pairs")
    if kind.takes == "two":
        options["split"] = maybe("Planned shares, such as current=50,short=50: the split is checked first.")
    return options


def _settings(method: Any) -> dict[str, tuple[Any, Any]]:
    """The keyword settings of the library's function."""
    said = parameters(method)
    options: dict[str, tuple[Any, Any]] = {}
    for name, item in inspect.signature(method).parameters.items():
        if item.kind is not inspect.Parameter.KEYWORD_ONLY or name in ("metric", "labels", "same_units", "names"):
            continue
        hint = str(item.annotation)
        text = name in _LISTED or not any(word in hint for word in ("float", "ArrayLike", "bool", "int"))
        of: Any = {"bool": bool, "int": int}.get(hint, str if text else float)
        help_ = said.get(name, _COMMON.get(name, ""))
        flag = f"--{name.replace('_', '-')}"
        if hint == "bool" and item.default is True:
            flag = f"{flag}/--no-{name.replace('_', '-')}"
        option = typer.Option(flag, help=help_, show_default=item.default not in (None, False))
        options[name] = (Annotated[of | None if item.default is None else of, option], item.default)
    figure = typer.Option(help="Draw the result into this PNG or SVG file.", show_default=False)
    options["figure"] = (Annotated[Path | None, figure], None)
    options["as_json"] = (Json, False)
    return options


# Settings that are several numbers in one text.
_LISTED = ("known_sd", "scores", "expected")

# Settings whose docstring stands with another function.
_COMMON = {
    "alpha": "Error rate of the test; the interval has level 1 - alpha.",
    "null": "Tested value.",
    "alternative": "Direction of the test: two-sided, greater or less.",
    "margin": "Smallest difference that matters.",
    "good": "Direction in which the metric is good: higher or lower.",
}


def _run(name: str, method: Any, given: dict[str, Any]) -> None:
    kind = KINDS[name]
    settings = {k: given[k] for k in _settings(method) if k not in ("figure", "as_json")}
    for listed in _LISTED:
        if settings.get(listed) is not None:
            settings[listed] = _several(f"--{listed.replace('_', '-')}", settings[listed])
    if given["file"] is None:
        results: list[Any] = [_published(kind, method, given, settings)]
    else:
        results = list(_from_table(kind, method, given, settings))
    if kind.takes == "many":
        more = {} if given["pairs"] is None else {"method": given["pairs"]}
        first: Any = results[0]
        control = given["control"]
        results.append(first.pairwise(**more) if control is None else first.against(control, **more))
    if given["figure"] is not None:
        save_figure(results[-1] if kind.takes == "many" else results[0], given["figure"])
    status = write_results(results, as_json=given["as_json"])
    if len(results) > 1 and kind.takes == "two" and not given["as_json"]:
        _write_together(results)
    if status:
        raise typer.Exit(status)


def _several(flag: str, text: str) -> Any:
    """One number, several, or several with labels."""
    if "=" in text:
        return labelled_numbers(flag, text)
    known = numbers(flag, text)
    return known[0] if len(known) == 1 else tuple(known)


def _published(kind: _Kind, method: Any, given: dict[str, Any], settings: dict[str, Any]) -> Any:
    """From numbers, a group each."""
    from amber_ruler.samples import Counts, Events, Summary

    listed = {name: given[name] for name in kind.published if given[name] is not None}
    missing = [f"--{name}" for name in kind.published if name not in listed]
    if not kind.published or missing:
        instead = (
            f", or published numbers: {', '.join(f'--{name}' for name in kind.published)}" if kind.published else ""
        )
        raise InputError(f"Give a file{instead}. Missing: {', '.join(missing) or 'the file'}.")
    if kind.takes == "table":
        return method([numbers("--counts", row) for row in listed["counts"].split(";")], **settings)
    values = {name: numbers(f"--{name}", text) for name, text in listed.items()}
    if kind.takes == "kinds":
        counts = values["counts"]
        named = dict(zip(_labels(given["labels"], len(counts)), counts, strict=True)) if given["labels"] else counts
        return method(named, **settings)
    if "counts" in values:
        more = {} if given["labels"] is None else {"labels": _labels(given["labels"], 2)}
        return method(tuple(values["counts"]), **more, **settings)
    size = 1 if kind.takes == "one" else 2 if kind.takes == "two" else len(next(iter(values.values())))
    for name, each in values.items():
        if len(each) != size:
            raise InputError(f"--{name} takes {size} {'number' if size == 1 else 'numbers'} here, got {len(each)}.")
    usual = {"one": "group", "many": ",".join(str(k + 1) for k in range(size))}.get(kind.takes, "treatment,control")
    labels = _labels(given["labels"] or usual, size)
    make = {"n": Summary, "successes": Counts, "events": Events}[kind.published[0]]
    groups = [make(*row, label) for row, label in zip(zip(*values.values(), strict=True), labels, strict=True)]
    return method(groups, **settings) if kind.takes == "many" else method(*groups, **settings)


def _labels(text: str, size: int) -> tuple[str, ...]:
    labels = tuple(part.strip() for part in text.split(","))
    if len(labels) != size:
        raise InputError(f"--labels takes {size} {'name' if size == 1 else 'names'}, got {len(labels)}.")
    return labels


def _from_table(kind: _Kind, method: Any, given: dict[str, Any], settings: dict[str, Any]) -> Iterator[Measurement]:
    from amber_ruler.tables import table

    source = table(given["file"])
    if kind.takes == "pairs":
        yield method(_pairs(source, given), **{k: v for k, v in settings.items() if k != "correlation"})
        return
    if kind.takes in ("table", "kinds", "many", "factors"):
        yield _of_many(kind, source, method, given, settings)
        return
    value = _needed(given, "value")
    if kind.takes == "columns":
        columns = [value, _needed(given, "second")]
        if settings.get("kind") == "spearman":
            yield method(source.wide_pairs(*columns), labels=tuple(columns), **settings)
        else:
            yield method(source.overall(columns), **settings)
        return
    by = given["by"] if kind.takes == "one" else _needed(given, "by")
    if by is None:
        one = source.overall(value).relabel("all rows")
        if kind.reads == "values":
            raise InputError("Give --by as well: the values are read by variant.")
        yield method(one, metric=value, **settings)
        return
    arms: Any = source.moments(value, by=by) if kind.reads == "moments" else source.split(value, by=by)
    if kind.takes == "one":
        for arm in arms.values():
            yield method(arm, **settings)
        return
    found = _findings(source, arms.unassigned, by, given["split"])
    for arm, base in arms.against(_needed(given, "control")):
        yield _with(method(arm, base, **settings), found)


def _of_many(kind: _Kind, source: Table, method: Any, given: dict[str, Any], settings: dict[str, Any]) -> Any:
    """Counts, or the values of several groups."""
    if kind.takes == "table":
        return method(source.counts(row=given["row"], column=given["column"], count=given["count"]), **settings)
    value = _needed(given, "value")
    if kind.takes == "kinds":
        return method(source.sizes(by=value, count=given["count"]), metric=value, **settings)
    if kind.takes == "factors":
        columns = [name.strip() for name in _needed(given, "by").split(",")]
        return method(source.split(value, by=columns), **settings)
    samples = source.split(value, by=_needed(given, "by"), unit=given["unit"])
    return method(samples, same_units=given["unit"] is not None, **settings)


def _pairs(source: Table, given: dict[str, Any]) -> Pairs:
    """Long pairs when a unit is named, wide ones when two columns are."""
    if given["treatment"] is not None:
        return source.wide_pairs(given["treatment"], _needed(given, "control"))
    value, by, unit, control = (_needed(given, name) for name in ("value", "by", "unit", "control"))
    return source.pairs(value, by=by, unit=unit, control=control)


def _needed(given: dict[str, Any], name: str) -> str:
    if given[name] is None:
        wide = ", or --treatment and --control with the columns of a wide table" if "treatment" in given else ""
        raise InputError(f"--{name} is needed with a file{wide}.")
    return str(given[name])


def _findings(source: Table, unassigned: int, by: str, split: str | None) -> tuple[Check, ...]:
    from amber_ruler.results import Check

    found: list[Check] = []
    if split is not None:
        found.append(source.check_split(by=by, planned=planned_shares(split)).as_check)
    if unassigned:
        rows = f"{unassigned:,} rows have no label in {by!r}"
        found.append(Check("variant labels", rows, "They belong to no variant and are left out.", "note"))
    return tuple(found)


def _with(result: Comparison, findings: tuple[Check, ...]) -> Comparison:
    from dataclasses import replace

    return replace(result, checks=(*findings, *result.checks))


def planned_shares(text: str) -> dict[str, float]:
    """Read shares such as current=50,short=50."""
    return labelled_numbers("--split", text)


def labelled_numbers(flag: str, text: str) -> dict[str, float]:
    """Read numbers with labels, such as current=50,short=50."""
    shares: dict[str, float] = {}
    for part in text.split(","):
        label, sign, share = part.rpartition("=")
        try:
            shares[label.strip()] = float(share)
        except ValueError:
            sign = ""
        if not sign:
            raise InputError(
                f"{flag} takes label=share, separated by commas, such as current=50,short=50; got {part!r}."
            )
    return shares


def _write_together(results: Sequence[Comparison]) -> None:
    from amber_ruler.multiplicity import adjust
    from amber_ruler.report.blocks import Heading, Lines, Ruler
    from amber_ruler.report.views import comparison

    sign = "/" if results[0].ratio else "−"
    rows = tuple(comparison.ruler_row(r, f"{r.treatment} {sign} {r.control}") for r in results)
    family = adjust({r.treatment: float(r.p_value or 0.0) for r in results}, alpha=results[0].alpha)
    first = results[0]
    write_blocks(
        [
            Heading(f"\n{len(results)} variants against {first.control}", f"p-values corrected by {family.method}"),
            Ruler(rows, float(first.null), first.margin, first.percent, "pp" if first.percent else ""),
            Lines((family.sentence(),), strong=True),
        ]
    )


app = typer.Typer(
    cls=lazy_group(KINDS, _command),
    no_args_is_help=True,
    rich_markup_mode=None,
    help="Measure: means, shares, rates, ranks, spreads, quantiles, correlations.",
)


@app.callback()
def _measure() -> None:
    pass
