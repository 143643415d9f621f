"""Commands made from what the library's own signatures and docstrings say."""

from __future__ import annotations

import difflib
import inspect
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_args

import typer
from typer.core import TyperGroup

from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping


HELP = {"help_option_names": ["-h", "--help"]}
# Words of the trade, and the command that answers them.
ELSEWHERE = {
    "t-test": "measure means  (of the same units: measure pairs; of one group: measure mean)",
    "ttest": "measure means  (of the same units: measure pairs; of one group: measure mean)",
    "z-test": "measure proportions",
    "chi-square": "measure independence  (of two shares: measure proportions)",
    "chi2": "measure independence  (of two shares: measure proportions)",
    "anova": "measure groups  (several factors: measure factors)",
    "mann-whitney": "measure ranks",
    "wilcoxon": "measure signed-ranks  (of two groups: measure ranks)",
    "median": "measure quantiles --at 0.5",
    "variance": "measure spreads",
    "mean-difference": "measure means",
    "power": "plan two-means --find power  (or another design)",
    "sample-size": "plan two-means  (or another design)",
    "mde": "plan two-means --find effect  (or another design)",
    "srm": "check FILE --by COLUMN --split current=50,short=50",
    "inspect": "check",
    "bayes-factor": "bayes means",
    "sequential": "boundaries, monitor or peeking",
}


def maybe(kind: Any, help_: str, *names: str) -> tuple[Any, Any]:
    """An option that need not be given."""
    return Annotated[kind | None, typer.Option(*names, help=help_, show_default=False)], None


def needed(kind: Any, help_: str) -> tuple[Any, Any]:
    """An option that must be given."""
    return Annotated[kind, typer.Option(help=help_, show_default=False)], inspect.Parameter.empty


def written(drawn: str = "it") -> dict[str, tuple[Any, Any]]:
    """How an answer may be asked for: drawn, or as JSON."""
    return {
        "figure": maybe(Path, f"Draw {drawn} into this PNG or SVG file."),
        "as_json": (Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")], False),
    }


def lazy_group(kinds: Callable[[], Iterable[str]], make: Callable[[str], Any]) -> type[TyperGroup]:
    """A group whose commands are named and made when they are asked for: a plain --help needn't load the library."""

    class Group(TyperGroup):
        def format_commands(self, ctx: Any, formatter: Any) -> None:
            """Each command with the whole of its first sentence."""
            found = ((name, self.get_command(ctx, name)) for name in self.list_commands(ctx))
            rows = [(name, _first_sentence(one.help or "")) for name, one in found if one and not one.hidden]
            with formatter.section("Commands"):
                formatter.write_dl(rows)

        def list_commands(self, ctx: Any) -> list[str]:
            return [*super().list_commands(ctx), *kinds()]

        def resolve_command(self, ctx: Any, args: list[str]) -> Any:
            if args and self.get_command(ctx, args[0]) is None:
                asked = args[0].casefold().replace("_", "-")
                tries = [f"amber-ruler {ELSEWHERE[asked]}"] if asked in ELSEWHERE else self._near(ctx, asked)
                if tries:
                    raise InputError(f"{args[0]!r} is no command here. Try:  {',  '.join(tries)}")
            return super().resolve_command(ctx, args)

        def _near(self, ctx: Any, asked: str) -> list[str]:
            """Commands of that name one level down; else those here that have the word, or look like it."""
            here = self.list_commands(ctx)
            groups = {name: one for name in here if isinstance(one := self.get_command(ctx, name), TyperGroup)}
            found = [f"{name} {asked}" for name, group in groups.items() if asked in group.list_commands(ctx)]
            stem = asked.removesuffix("s")
            found = found or [name for name in here if stem in (part.removesuffix("s") for part in name.split("-"))]
            return [f"{ctx.command_path} {name}" for name in found or difflib.get_close_matches(asked, here)]

        def get_command(self, ctx: Any, cmd_name: str) -> Any:
            return make(cmd_name) if cmd_name in kinds() else super().get_command(ctx, cmd_name)

    return Group


def _first_sentence(text: str) -> str:
    return " ".join(text.partition("\n\n")[0].split())


def command(name: str, run: Callable[..., None], options: Mapping[str, tuple[Any, Any]], said: str, epilog: str) -> Any:
    """A command of these options, each with its annotation and default."""

    def wrapped(**given: Any) -> None:
        run(**given)

    wrapped.__doc__ = said
    wrapped.__annotations__ = {option: _of_numbers(hint) for option, (hint, _) in options.items()}
    wrapped.__signature__ = inspect.Signature(  # type: ignore[attr-defined]
        [
            inspect.Parameter(option, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=hint)
            for option, (hint, default) in options.items()
        ]
    )
    one = typer.Typer(
        add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None, context_settings=HELP
    )
    one.command(name, epilog=epilog)(wrapped)
    return typer.main.get_command(one)


def parameters(documented: Any) -> dict[str, str]:
    """What a docstring says of each parameter."""
    from amber_ruler.docstrings import described, with_choices

    return {name: with_choices(kind, text) for name, (kind, text) in described(documented).items()}


def number(text: str | float) -> float:
    """A number as people write it: 70% is 0.7."""
    if not isinstance(text, str):
        return text  # a default
    share = text.strip().removesuffix("%")
    return float(share) / 100 if share != text.strip() else float(text)


def _of_numbers(hint: Any) -> Any:
    """An option that takes a number, with percentages read as shares."""
    kind, option = get_args(hint)
    if kind is float or float in get_args(kind):
        option.parser, option.metavar = number, "NUMBER"
    return hint


def numbers(flag: str, text: str) -> list[float]:
    """Numbers separated by commas."""
    try:
        return [number(part) for part in text.split(",")]
    except ValueError:
        raise InputError(f"{flag} takes numbers separated by commas; got {text!r}.") from None


def labelled_numbers(flag: str, text: str) -> dict[str, float]:
    """Read numbers with labels, such as current=50,short=50."""
    shares: dict[str, float] = {}
    for part in text.split(","):
        label, sign, share = part.rpartition("=")
        try:
            shares[label.strip()] = number(share)
        except ValueError:
            sign = ""
        if not sign:
            raise InputError(
                f"{flag} takes label=number, separated by commas, such as current=50,short=50; got {part!r}."
            )
    return shares
