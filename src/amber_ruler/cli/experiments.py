"""amber-ruler start, analyse, decide, report, schema: an experiment from its file."""

from __future__ import annotations

import inspect
import json
import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.build import command, maybe, needed, written
from amber_ruler.cli.output import note, save_text, tell, write, write_results
from amber_ruler.cli.reading import as_source, file_argument, open_table, reading_options
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from amber_ruler.experiment import Experiment

_SAID = {
    "start": "Write an experiment file to fill in, from the columns of your own table.",
    "analyse": "Compare every metric of an experiment file with the control, by role.",
    "decide": "Say what to do with each treatment of an experiment file, and why.",
    "report": "Write the report of an experiment file: HTML, Markdown, JSON or CSV.",
    "schema": "Print the JSON Schema of experiment files, or of results.",
}
EXAMPLES = {
    "start": "  amber-ruler start travellers.csv --unit traveller --by form --control current --day day \\\n"
    "      --out experiment.toml",
    "analyse": "  amber-ruler analyse experiment.toml --figure rulers.png",
    "decide": "  amber-ruler decide experiment.toml",
    "report": "  amber-ruler report experiment.toml --out report.html\n"
    "  amber-ruler report june.toml july.toml august.toml --index --out index.html",
    "schema": "  amber-ruler schema experiment",
}
NAMES = tuple(_SAID)
_ARGUMENT = typer.Argument(help="The experiment file (TOML).", show_default=False)
_SEVERAL = typer.Argument(help="The experiment file (TOML); several with --index.", show_default=False)
_FILE = (Annotated[Path, _ARGUMENT], inspect.Parameter.empty)
_OVERRIDE = "Do otherwise with a treatment, and why: 'guided: it replaces an unsupported page'; repeatable."


def made(name: str) -> Any:
    """One of these commands."""
    as_json = (Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")], False)
    force = (Annotated[bool, typer.Option("--force", help="Overwrite an existing file.")], False)
    override = maybe(list[str], _OVERRIDE, "--override")
    options: dict[str, tuple[Any, Any]] = {
        "start": {
            "file": file_argument(),
            "unit": needed(str, "Column that names the unit, what was randomised."),
            "by": needed(str, "Column with the variant labels."),
            "control": needed(str, "Label of the control."),
            "day": maybe(str, "Column with the day."),
            "out": needed(Path, "The TOML file to write."),
            "force": force,
            **reading_options(),
        },
        "analyse": {"file": _FILE, **written()},
        "decide": {"file": _FILE, "override": override, "as_json": as_json},
        "report": {
            "files": (Annotated[list[Path], _SEVERAL], inspect.Parameter.empty),
            "out": needed(Path, "The file to write: .html, .md, .json or .csv."),
            "index": (Annotated[bool, typer.Option("--index", help="One page of several experiments.")], False),
            "override": override,
            "force": force,
        },
        "schema": {
            "of": (Annotated[str, typer.Argument(help="experiment or results.")], "experiment"),
        },
    }[name]
    run: Any = {"start": _start, "analyse": _analyse, "decide": _decide, "report": _report, "schema": _schema}[name]
    return command(name, run, options, _SAID[name], f"\b\nExamples:\n{EXAMPLES[name]}\n")


def experiment_of(path: Path) -> Experiment:
    """The experiment that a file describes."""
    from amber_ruler.experiment import Experiment

    return Experiment.from_file(path)


def _start(**given: Any) -> None:
    from amber_ruler.experiment import starting

    if given["out"].exists() and not given["force"]:
        raise InputError(f"{given['out']} is there already: --force overwrites it.")
    asked = {name: given[name] for name in ("unit", "by", "control", "day")}
    out = given["out"]
    read, source = as_source(given), open_table(given)
    place = os.path.relpath(given["file"], out.parent)  # from the file's own folder
    save_text(out, starting.start(source, place, read=read, **asked).rstrip("\n"))
    note(
        f"Written to {out}. Fill in hypothesis, roles and margins, then:\n  amber-ruler report {out} --out report.html"
    )


def _analyse(**given: Any) -> None:
    tell(experiment_of(given["file"]).analyse(), given)


def _decide(**given: Any) -> None:
    found = experiment_of(given["file"]).decide(_overridden(given["override"]))
    write_results([found], as_json=given["as_json"])
    if "fix" in found.words.values():
        raise typer.Exit(3)


def _report(**given: Any) -> None:
    files = given["files"]
    if given["index"]:
        from amber_ruler.report.many_experiments import write_index

        if given["override"]:
            raise InputError("--override is of one experiment: leave it out of an index.")
        path = write_index([experiment_of(file) for file in files], given["out"], force=given["force"])
        note(f"Written to {path}: {len(files):,} experiments.")
        return
    if len(files) > 1:
        raise InputError("A report is of one experiment: --index writes one page of several.")
    experiment = experiment_of(files[0])
    overridden = _overridden(given["override"])
    path = experiment.report(given["out"], overridden=overridden, force=given["force"])
    decision = experiment.decide(overridden)
    write(decision.sentence())
    note(f"Written to {path}.")
    if "fix" in decision.words.values():
        raise typer.Exit(3)


def _schema(**given: Any) -> None:
    from amber_ruler.experiment import Experiment
    from amber_ruler.report import schema

    if given["of"] not in ("experiment", "results"):
        raise InputError.unknown("schema of", given["of"], ("experiment", "results"))
    found = Experiment.schema() if given["of"] == "experiment" else schema()
    write(json.dumps(found, indent=2, ensure_ascii=False))


def _overridden(texts: list[str] | None) -> dict[str, str]:
    found = {}
    for text in texts or ():
        treatment, sign, reason = text.partition(":")
        if not sign or not reason.strip():
            raise InputError(f"--override takes 'treatment: reason'; got {text!r}.")
        found[treatment.strip()] = reason.strip()
    return found
