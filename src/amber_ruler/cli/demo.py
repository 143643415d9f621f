"""amber-ruler demo: the whole day on made-up data."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amber_ruler.cli.output import save_text, whole, writable_folder, write, write_blocks

if TYPE_CHECKING:
    from amber_ruler.demo.day import Day, Step
    from amber_ruler.experiment import Experiment
    from amber_ruler.report.blocks import Block

_STORY = (
    "Saltmarsh Ferries (made up) tries two new booking forms, short and guided, against the current one: 12,000"
    " travellers, one row each, over 28 days."
)


def run(
    out: Annotated[
        Path | None,
        typer.Option(
            help="Folder for the report, the experiment file and the demo's tables; made if need be.",
            show_default=False,
        ),
    ] = None,
) -> None:
    """See the whole day on made-up data.

    Plan, check, measure, sharpen, look early, weigh the evidence, correct for many comparisons, decide: step by step,
    with a summary on one ruler at the end, and the report of the shipped experiment file.
    """
    from amber_ruler.demo import experiment
    from amber_ruler.demo.day import run as run_day
    from amber_ruler.experiment import Experiment
    from amber_ruler.report.blocks import Heading, Lines

    folder = writable_folder(out) if out is not None else None
    write_blocks([Heading("Amber Ruler: a day at Saltmarsh Ferries"), Lines((_STORY,))])
    day = run_day()
    for k, step in enumerate(day.steps, start=1):
        write("")
        write_blocks(_blocks(k, step))
    write("")
    test = Experiment.from_file(experiment())
    write_blocks(_decided(len(day.steps) + 1, test))
    write("")
    write_blocks(_summary(day))
    if folder is not None:
        _save(day, test, folder)
    where = str(folder / "travellers.csv") if folder is not None else "travellers.csv"
    ask = f"amber-ruler start {where} --unit traveller --by form --control current --out mine.toml"
    first = "" if folder is not None else "amber-ruler demo --out .        (writes travellers.csv to try things on)\n  "
    write(f"\nTry next:\n\n  {first}{ask}\n  amber-ruler plan two-means --sd 20 --effect 1.3 --power 0.9")


def _blocks(k: int, step: Step) -> list[Block]:
    from amber_ruler.plan import PlanAnswer
    from amber_ruler.report.blocks import Grid, Heading, Lines
    from amber_ruler.report.views import view_of
    from amber_ruler.results import Comparison
    from amber_ruler.tables import SplitCheck

    blocks: list[Block] = [Heading(f"{k} · {step.heading}", step.question)]
    rest = step.results
    if step.whole:
        whole, *others = step.results
        blocks += [b for b in view_of(whole).layout(whole) if not isinstance(b, Heading)]
        rest = tuple(others)
    for result in rest:
        view = view_of(result)
        if isinstance(result, PlanAnswer):
            blocks += [b for b in view.layout(result) if isinstance(b, Grid)][:1]
        elif isinstance(result, SplitCheck):
            blocks += [b for b in view.layout(result) if isinstance(b, Grid)]
        elif isinstance(result, Comparison) and result.adjustment:
            blocks.append(view.ruler(result))
        blocks.append(Lines((result.sentence(),), strong=True))
    return blocks


def _decided(k: int, test: Experiment) -> list[Block]:
    from amber_ruler.report.blocks import Heading, Lines
    from amber_ruler.report.views.recommendation import SAID, reason_words

    found = test.decide()
    blocks: list[Block] = [Heading(f"{k} · Decide", "What should be done with each form, by the experiment file?")]
    for treatment, word in found.words.items():
        sign, colour, said = SAID[word]
        last = f"{said.format(treatment)}: {reason_words(found.reasons[treatment][-1])}"
        blocks.append(Lines((last,), ((sign, colour),), strong=True))
    return blocks


def _summary(day: Day) -> list[Block]:
    from amber_ruler.report.blocks import Heading, Lines

    blocks: list[Block] = [
        Heading("Summary", "treatment − control; the shaded band is the margin: differences that do not matter")
    ]
    for name, ruler in day.rulers:
        blocks += [Lines((name,)), ruler]
    return blocks


def _save(day: Day, test: Experiment, folder: Path) -> None:
    from amber_ruler.demo import TABLES, experiment, path
    from amber_ruler.report.document import json_text
    from amber_ruler.report.drawing import rulers_figure, save

    save_text(folder / "results.json", json_text(r for step in day.steps for r in step.results))
    with whole(folder / "rulers.png") as part:
        save(rulers_figure(list(day.rulers), title="Booking forms at Saltmarsh Ferries"), part)
    for name in TABLES:
        with whole(folder / f"{name}.csv") as part:
            shutil.copyfile(path(name), part)
    with whole(folder / "experiment.toml") as part:
        shutil.copyfile(experiment(), part)
    for form in ("html", "md", "csv", "json"):
        test.report(folder / f"report.{form}", force=True)
    write(
        f"\nWritten to {folder}. Open first:\n"
        "  report.html       the decision, and everything it rests on\n"
        "  experiment.toml   the experiment's description, to copy for your own\n"
        "  rulers.png        the comparisons as one figure\n"
        f"Also report.md, report.csv, report.json, results.json, and as CSV: {', '.join(TABLES)}."
    )
