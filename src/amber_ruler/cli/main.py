"""The commands, and what happens when one fails."""

from __future__ import annotations

import io
import os
import sys
import traceback
from contextlib import suppress
from typing import Annotated, Any

import typer

from amber_ruler.cli import data, demo, experiments, looking, plan, resampling
from amber_ruler.cli.build import HELP, lazy_group
from amber_ruler.cli.methods import ROOMS, room_app
from amber_ruler.cli.output import say_error, speak
from amber_ruler.errors import AmberRulerError, InputError

_EPILOG = (
    "Exit status: 0 all is well; 2 something in the call or the data must be fixed; 3 the data failed a check that"
    " makes the answer unbelievable; 1 a fault of the program."
)


def _made(name: str) -> Any:
    room = next(room for room in (data, experiments, looking, resampling) if name in room.NAMES)
    return room.made(name)


app = typer.Typer(
    cls=lazy_group(lambda: (*experiments.NAMES, *data.NAMES, *looking.NAMES, *resampling.NAMES), _made),
    no_args_is_help=True,
    context_settings=HELP,
    add_completion=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help=(
        "Plan a test, check its data, measure the difference, decide.\n\n"
        "A difference is always treatment − control, with both names beside it. The interval always agrees with the"
        " test: p is below alpha exactly when the interval leaves out the tested value.\n\n"
        "New here? Begin with:  amber-ruler demo --out ferry"
    ),
    epilog=_EPILOG,
)
app.command("demo")(demo.run)
for _room, _said in ROOMS.items():
    app.add_typer(room_app(_room, _said), name=_room)
app.add_typer(plan.app, name="plan")


def _version(wanted: bool) -> None:
    if wanted:
        from amber_ruler import __version__

        typer.echo(f"amber-ruler {__version__}")
        raise typer.Exit


@app.callback()
def _top(
    version: Annotated[  # noqa: ARG001 - answered by its callback
        bool, typer.Option("--version", "-V", help="Say which version this is.", callback=_version, is_eager=True)
    ] = False,
    quiet: Annotated[
        bool, typer.Option("--quiet", "-q", help="Say nothing beside answers and errors: no 'Written to …'.")
    ] = False,
    verbose: Annotated[
        bool, typer.Option("--verbose", "-v", help="Tell on the error stream what is done, and how long it takes.")
    ] = False,
) -> None:
    if quiet and verbose:
        raise InputError("--quiet and --verbose say opposite things: leave one of them out.")
    speak(quiet=quiet, verbose=verbose)


def main() -> None:
    """Run the command line; a fault of the user's input ends with 2 and no traceback."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")  # help and answers hold signs that not every stream can show
    os.environ["MPLBACKEND"] = "agg"  # figures are written to files: no window is opened
    status = _ended()
    try:
        if sys.stdout is not None:
            sys.stdout.flush()
    except OSError as error:
        status = _no_more_output(error)
    sys.exit(status)


def _ended() -> int:
    """Run a command; return the exit status."""
    try:
        app()
    except SystemExit as end:
        if isinstance(end.__context__, OSError):
            return _no_more_output(end.__context__)
        return end.code if isinstance(end.code, int) else 0
    except AmberRulerError as error:
        say_error(str(error))
        return 2
    except KeyboardInterrupt:
        return 130
    except MemoryError:
        say_error("There is not enough memory for this table.")
        return 2
    except OSError as error:
        return _no_more_output(error)
    except Exception:  # noqa: BLE001
        # The last resort: say that it is a fault of ours, and how to report it.
        if sys.stderr is not None:
            traceback.print_exc()
        say_error("This is a fault of Amber Ruler. Please report it with the lines above and the command you ran.")
        return 1
    return 0


def _no_more_output(error: OSError) -> int:
    """The reader has seen enough, which is fine; or the output can't be written."""
    if sys.stdout is not None:
        with suppress(OSError, ValueError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    if isinstance(error, BrokenPipeError):
        return 0
    where = f" {error.filename}" if error.filename else " the output"
    say_error(f"Can't write{where}: {error.strerror or error}.")
    return 2
