"""Commands made from what the library's own signatures and docstrings say."""

from __future__ import annotations

import inspect
import re
from typing import TYPE_CHECKING, Any, get_args

import typer
from typer.core import TyperGroup

from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping


def lazy_group(kinds: Callable[[], Iterable[str]], make: Callable[[str], Any]) -> type[TyperGroup]:
    """A group whose commands are named and made when they are asked for: a plain --help needn't load the library."""

    class Group(TyperGroup):
        def list_commands(self, ctx: Any) -> list[str]:
            return [*super().list_commands(ctx), *kinds()]

        def get_command(self, ctx: Any, cmd_name: str) -> Any:
            return make(cmd_name) if cmd_name in kinds() else super().get_command(ctx, cmd_name)

    return Group


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
    one = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None)
    one.command(name, epilog=epilog)(wrapped)
    return typer.main.get_command(one)


def parameters(documented: Any) -> dict[str, str]:
    """What a docstring says of each parameter."""
    section = (inspect.getdoc(documented) or "").partition("Parameters\n----------\n")[2]
    section = re.split(r"\n(?:Notes|Returns)\n", section)[0]
    found: dict[str, str] = {}
    for names, kind, text in re.findall(r"^(\w[\w, ]*) : (.*)\n((?:    .*\n?)+)", section, flags=re.MULTILINE):
        choices = f" {kind.replace(chr(34), '').removesuffix(', optional')}." if kind.startswith('"') else ""
        for name in names.split(", "):
            found[name] = " ".join(text.replace("Or instead:", "").split()) + choices
    return found


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
