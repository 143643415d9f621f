"""Writing to the terminal, to a pipe, or to a file."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from amber_ruler.report.blocks import Block
    from amber_ruler.results import Result

UNBELIEVABLE = 3


def colours() -> bool:
    """Whether to write colours: to a terminal that has not asked for none."""
    return (
        sys.stdout is not None
        and sys.stdout.isatty()
        and not os.environ.get("NO_COLOR")
        and os.environ.get("TERM") != "dumb"
    )


def write(text: str) -> None:
    """Write a line or more."""
    if sys.stdout is None:
        raise InputError("The output is closed: there is nowhere to write the answer to.")
    sys.stdout.write(text + "\n")


def note(text: str) -> None:
    """Say what was done beside the answer, unless --quiet."""
    if logging.getLogger("amber_ruler").isEnabledFor(logging.WARNING):
        write(text)


def speak(*, quiet: bool, verbose: bool) -> None:
    """Log to the error stream what is done and how long it takes; or say nothing but answers and errors."""
    log = logging.getLogger("amber_ruler")
    log.setLevel(logging.ERROR if quiet else logging.DEBUG if verbose else logging.WARNING)
    if verbose:
        logging.basicConfig(format="%(relativeCreated)7.0f ms  %(message)s")


@contextmanager
def progress(of: str) -> Iterator[Callable[[int, int], None] | None]:
    """A bar on the error stream of a terminal for what takes long; nothing elsewhere, nor with --quiet."""
    shown = sys.stderr is not None and sys.stderr.isatty()
    if not shown or not logging.getLogger("amber_ruler").isEnabledFor(logging.WARNING):
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = BarColumn(), MofNCompleteColumn(), TextColumn(of), TimeRemainingColumn()
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(of, total=None)
        yield lambda done, whole: bar.update(task, completed=done, total=whole)


def write_blocks(blocks: Sequence[Block]) -> None:
    """Write laid-out blocks."""
    from amber_ruler.report.terminal import draw

    write(draw(blocks, colour=colours()))


def write_results(results: Sequence[Result], *, as_json: bool) -> int:
    """Write results, one under the other or as one JSON document; return the exit status they deserve."""
    from amber_ruler.report import text
    from amber_ruler.report.document import json_text

    if as_json:
        write(json_text(results))
    else:
        for k, result in enumerate(results):
            write(("\n" if k else "") + text(result, colour=colours()))
    return UNBELIEVABLE if any(c.severity == "serious" for r in results for c in r.checks) else 0


def tell(result: Result, given: Mapping[str, Any]) -> None:
    """Draw a result where that was asked, and write it; end with the status that it deserves."""
    if given["figure"] is not None:
        save_figure(given["figure"], result)
    status = write_results([result], as_json=given["as_json"])
    if status:
        raise typer.Exit(status)


def say_error(message: str) -> None:
    """Write an error on the error stream, control characters made visible."""
    from amber_ruler.results.display import safe

    printable = "\n".join(safe(line) for line in message.splitlines())
    with suppress(OSError, AttributeError):  # a closed or full error stream: the exit status says it
        sys.stderr.write(f"amber-ruler: {printable}\n")
        sys.stderr.flush()


def writable_folder(path: Path) -> Path:
    """Make a folder, or say why that can't be."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"Can't make the folder {path}: {error.strerror or error}.") from None
    return path


@contextmanager
def whole(path: Path) -> Iterator[Path]:
    """Where to write, so that the file is there whole or not at all; or say why that can't be."""
    part = path.with_name(f"{path.stem}.part{path.suffix}")
    try:
        if path.exists() and not path.is_file():
            yield path  # a device, or a folder, which will be refused
            return
        try:
            yield part
            part.replace(path)
        except BaseException:
            part.unlink(missing_ok=True)
            raise
    except (OSError, ValueError) as error:
        raise InputError(f"Can't write {path}: {getattr(error, 'strerror', None) or error}.") from None


def save_text(path: Path, text: str) -> None:
    """Write a text file."""
    with whole(path) as part:
        part.write_text(text + "\n", encoding="utf-8")


def save_figure(path: Path, *results: Result) -> None:
    """Draw results under each other into a PNG or SVG file, 1280 pixels wide and as high as they need."""
    from matplotlib import style

    from amber_ruler.report.drawing import results_figure, save

    if path.suffix.lower() not in (".png", ".svg"):
        raise InputError(f"A figure is written as .png or .svg; got {path.name!r}.")
    with style.context("amber_ruler.report.amber"), whole(path) as part:
        figure = results_figure(results)
        save(figure, part, said=" ".join(result.sentence() for result in results))
