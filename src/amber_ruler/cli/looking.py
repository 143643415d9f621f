"""amber-ruler boundaries, monitor, peeking: looking early without fooling oneself."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.build import command, maybe, needed, numbers, written
from amber_ruler.cli.output import tell
from amber_ruler.cli.reading import asked_of_file, file_argument, open_table, reading_options
from amber_ruler.errors import DataError, InputError

if TYPE_CHECKING:
    from amber_ruler.digest import Digest
    from amber_ruler.results import Comparison

EXAMPLES = {
    "boundaries": """  amber-ruler boundaries --looks 5 --futility hwang-shih-decani
  amber-ruler boundaries --looks 7,14,28 --per-day 900 --spending pocock --figure looks.png""",
    "monitor": """  amber-ruler monitor travellers.csv --day day --by form --value booked --control current \\
      --treatment short --at 7,14 --planned 8000 --looks 4
  amber-ruler monitor june.json --value fare --control current --treatment short --planned 8000""",
    "peeking": "  amber-ruler peeking --looks 5",
}
_SAID = {
    "boundaries": "How extreme must a result be at each look, so that looking early stays honest?",
    "monitor": "May a running test stop? Its data by day, or a digest, against boundaries; ends with 0 either way.",
    "peeking": "How often does a test claim a difference that is not there, if one looks and stops at p < alpha?",
}


def looking() -> dict[str, tuple[Any, Any]]:
    """What looks take; names and words as `sequential.boundaries` has them."""
    functions = "obrien-fleming, obrien-fleming-total, pocock, power, hwang-shih-decani"
    return {
        "looks": maybe(str, "Look before the end: a number of looks, or shares of the units such as 0.25,0.5,1."),
        "spending": maybe(str, f"How the looks use up alpha: {functions}; obrien-fleming unless given."),
        "parameter": maybe(float, "Parameter of that function, or of the shape wang-tsiatis."),
        "shape": maybe(str, "A classical shape instead: obrien-fleming, pocock, wang-tsiatis, haybittle-peto."),
        "interim": maybe(float, "z (or p) of the shape haybittle-peto before the last look."),
        "skip": maybe(str, "Looks that may not stop for a difference, such as 1,2."),
        "futility": maybe(str, "Give up early: how the looks use up beta, by one of the same functions."),
        "futility_parameter": maybe(float, "Parameter of that function."),
        "futility_skip": maybe(str, "Looks that may not give up."),
        "binding": maybe(bool, "Whether alpha counts on giving up being obeyed.", "--binding/--not-binding"),
    }


def looks_of(given: dict[str, Any]) -> dict[str, Any]:
    """What was said of the looks, as `boundaries` takes it."""
    found = {name: given[name] for name in looking() if given.get(name) is not None}
    for name in ("looks", "skip", "futility_skip"):
        if name in found:
            found[name] = numbers(f"--{name.replace('_', '-')}", found[name])
    if "looks" in found and len(found["looks"]) == 1 and found["looks"][0] >= 1:
        found["looks"] = found["looks"][0]
    return found


def _test() -> dict[str, tuple[Any, Any]]:
    return {
        "sides": (Annotated[int, typer.Option(help="2 or 1: either direction, or treatment above control only.")], 2),
        "harm": maybe(float, "Error rate of the lower side by itself, with --sides 1."),
        "alpha": (Annotated[float, typer.Option(help="Error rate over all looks.")], 0.05),
        "power": (Annotated[float, typer.Option(help="Chance to find the planned effect.")], 0.8),
    }


def _plan(given: dict[str, Any], **more: Any) -> Any:
    from amber_ruler.sequential import boundaries

    asked = looks_of(given)
    own = {name: given[name] for name in ("sides", "harm", "alpha", "power") if given.get(name) is not None}
    return boundaries(asked.pop("looks", 1), **asked, **own, **more)


def _boundaries(**given: Any) -> None:
    more = {}
    if given["per_day"] is not None:
        each = numbers("--per-day", given["per_day"])
        more["per_day"] = each[0] if len(each) == 1 else each
        days = [] if given["looks"] is None else numbers("--looks", given["looks"])
        if len(days) == 1:
            given["looks"] = f"{given['looks']},"  # one day is a day, and not a number of looks
    if given["units"] is not None:
        more["planned"] = given["units"]
    if given["looks"] is None:
        raise InputError("Say when to look: --looks 5, or --looks 0.25,0.5,1.")
    tell(_plan(given, **more), given)


def _peeking(**given: Any) -> None:
    from amber_ruler.sequential import peeking

    looks = looks_of({"looks": given["looks"]})["looks"]
    tell(peeking(looks, sides=given["sides"], alpha=given["alpha"]), given)


def _monitor(**given: Any) -> None:
    from amber_ruler.sequential import looks_by_day, monitor

    digest, by = _digest(given), given["by"]
    control, treatment = _two(digest, given["control"], given["treatment"], by)
    days = None if given["at"] is None else [part.strip() for part in given["at"].split(",")]
    method, settings = _method(given)
    found: list[Comparison] = looks_by_day(
        digest, given["value"], treatment=treatment, control=control, days=days, method=method, **settings
    )
    plan = _plan(given)
    held: dict[str, Any] = {}
    if given["information"] is not None:
        held["information"] = numbers("--information", given["information"])
    if given["planned"] is None and not held:
        raise InputError("Say how many units are planned in both groups: --planned 8000 (or --information 0.25,0.5).")
    tell(monitor(plan, found, maximum=given["planned"], last=given["last"], **held), given)


def _method(given: dict[str, Any]) -> tuple[Any, dict[str, Any]]:
    settings: dict[str, Any] = {} if given["margin"] is None else {"margin": given["margin"]}
    if given["good"] is not None:
        settings["good"] = given["good"]
    if given["covariate"] is None:
        return None, settings
    from amber_ruler.adjust import cuped

    return cuped, {**settings, "value": given["value"], "covariate": given["covariate"]}


def _digest(given: dict[str, Any]) -> Digest:
    """A digest as it was saved, or made from the rows."""
    from amber_ruler.digest import Digest

    path: Path | None = given["file"]
    if path is not None and path.suffix.lower() == ".json" and path.is_file():
        text = path.read_text(encoding="utf-8")
        if _is_digest(text):
            beside = [*(f"--{name}" for name in ("by", "day") if given[name] is not None), *asked_of_file(given)]
            if beside:
                raise InputError(f"A digest knows its own columns, and has no rows: leave {', '.join(beside)} out.")
            return Digest.from_json(text)
    if given["by"] is None or given["day"] is None:
        raise InputError("Say which columns hold the variant and the day: --by form --day day.")
    covariates = [] if given["covariate"] is None else [given["covariate"]]
    source = open_table(given, values=(given["value"],))
    return source.digest(given["value"], by=given["by"], day=given["day"], covariates=covariates)


def _is_digest(text: str) -> bool:
    try:
        held = json.loads(text)
    except ValueError:
        return False
    return isinstance(held, dict) and str(held.get("schema", "")).startswith("amber-ruler digest")


def _two(digest: Digest, control: str, treatment: str | None, by: str | None) -> tuple[str, str]:
    labels = sorted({cell[0] for cell in digest.cells})
    if control not in labels:
        raise DataError.unknown("--control", control, labels)
    others = [label for label in labels if label != control]
    if treatment is None:
        if len(others) != 1:
            raise InputError(f"{by or digest.by} has {len(labels)} variants: say which one with --treatment.")
        return control, others[0]
    if treatment not in others:
        raise DataError.unknown("--treatment", treatment, others)
    return control, treatment


def made(name: str) -> Any:
    """One of these commands."""
    if name == "boundaries":
        options = {**looking(), **_test()}
        options["per_day"] = maybe(
            str, "Units that arrive each day, or on each one, separated by commas: looks are days."
        )
        options["units"] = maybe(float, "Units of the whole test, with --per-day.")
        run: Any = _boundaries
    elif name == "peeking":
        options = {
            "looks": needed(str, "A number of looks, or shares of the units such as 0.25,0.5,1."),
            **{key: option for key, option in _test().items() if key in ("sides", "alpha")},
        }
        run = _peeking
    else:
        options = {
            "file": file_argument("A table with a row a unit, or a digest saved as JSON."),
            "value": needed(str, "Column with the metric."),
            "control": needed(str, "Label of the control."),
            "treatment": maybe(str, "Label of the treatment, where there are several."),
            "by": maybe(str, "Column with the variant labels, of a table."),
            "day": maybe(str, "Column with the day, of a table."),
            "at": maybe(str, "Last day of each look so far, such as 7,14; every day unless given."),
            "planned": maybe(float, "Units planned in both groups together."),
            "information": maybe(str, "Share of the planned information at each look, instead."),
            "last": (Annotated[bool, typer.Option("--last", help="The last look here is the end of the test.")], False),
            "covariate": maybe(str, "Column known before the test: the difference is sharpened by it."),
            "margin": maybe(float, "Smallest difference that matters."),
            "good": maybe(str, "Direction in which the metric is good: higher or lower."),
            **looking(),
            **_test(),
        }
        options["looks"] = maybe(str, "Looks as they were planned, a number or shares; one at the end unless given.")
        options |= reading_options()
        run = _monitor
    return command(name, run, {**options, **written()}, _SAID[name], f"\b\nExamples:\n{EXAMPLES[name]}\n")


NAMES = tuple(_SAID)
