"""The commands, and what happens when one fails."""

from __future__ import annotations

import sys
import traceback
from typing import Annotated

import typer

from amber_ruler.cli import demo, inspect, plan
from amber_ruler.cli.methods import ROOMS, room_app
from amber_ruler.cli.output import say_error
from amber_ruler.errors import AmberRulerError

_EPILOG = (
    "Exit status: 0 all is well; 2 something in the call or the data must be fixed; 3 the data failed a check that"
    " makes the answer unbelievable; 1 a fault of the program."
)

app = typer.Typer(
    no_args_is_help=True,
    add_completion=False,
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
app.command("inspect", epilog=inspect.EXAMPLES)(inspect.run)
app.command("digest", epilog=inspect.DIGEST_EXAMPLES)(inspect.digest)
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
    version: Annotated[
        bool, typer.Option("--version", help="Say which version this is.", callback=_version, is_eager=True)
    ] = False,
) -> None:
    pass


def main() -> None:
    """Run the command line; a fault of the user's input ends with 2 and no traceback."""
    try:
        app()
    except AmberRulerError as error:
        say_error(str(error))
        sys.exit(2)
    except MemoryError:
        say_error("There is not enough memory for this table.")
        sys.exit(2)
    except Exception:  # noqa: BLE001
        # The last resort: say that it is a fault of ours, and how to report it.
        traceback.print_exc()
        say_error("This is a fault of Amber Ruler. Please report it with the lines above and the command you ran.")
        sys.exit(1)
