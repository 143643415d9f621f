"""The experiment file: read with the place of each mistake, and written back."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import BaseModel, ValidationError
from tomlkit.exceptions import TOMLKitError

from amber_ruler.errors import ExperimentFileError
from amber_ruler.experiment.description import Description, plain

_HEADER = re.compile(r"\s*\[\[?([^\[\]]+)\]\]?\s*(#.*)?$")
_KEY = re.compile(r"""\s*([A-Za-z0-9_-]+|"[^"]*"|'[^']*')\s*(?:\.|=)""")
_MOST = 5  # mistakes that are told at once


def read(text: str, name: str) -> Description:
    """The experiment that a file describes, or every mistake in it with its line."""
    try:
        held = tomlkit.parse(text).unwrap()
    except TOMLKitError as error:
        raise ExperimentFileError(f"{name} is no TOML: {' '.join(str(error).split())}.") from None
    return checked(held, lambda path: _where(text, path, name))


def checked(held: Mapping[str, Any], where: Any) -> Description:
    """A description of plain values, or what is wrong with them and where."""
    try:
        return Description.model_validate(dict(held))
    except ValidationError as error:
        mistakes = error.errors(include_url=False)
        told = [_told(one["loc"], one, held, where) for one in mistakes[:_MOST]]
        more = f"\nand {len(mistakes) - _MOST:,} more" if len(mistakes) > _MOST else ""
        raise ExperimentFileError("\n".join(dict.fromkeys(told)) + more) from None


def written(description: Description) -> str:
    """The same as TOML."""
    found = tomlkit.document()
    for key, value in plain(description).items():
        if key != "metrics":
            found[key] = value
    metrics = tomlkit.table(is_super_table=True)
    for name, metric in plain(description)["metrics"].items():
        metrics[name] = metric
    found["metrics"] = metrics
    return tomlkit.dumps(found)


def _told(loc: Sequence[str | int], one: Any, held: Mapping[str, Any], where: Any) -> str:
    path = [part for part in loc if not (isinstance(part, str) and part.startswith(("function-", "constrained-")))]
    path = [part for part in path if part not in ("str", "int", "float", "none", "[key]")]
    key = ".".join(str(part) for part in path)
    place, kind, said = where(path), one["type"], one["msg"]
    if kind == "extra_forbidden":
        known = _known(path[:-1])
        near = get_close_matches(str(path[-1]), known, n=1)
        hint = f" Did you mean {near[0]!r}?" if near else ""
        return f"{place}: {key} is not known. There is: {', '.join(known)}.{hint}"
    if kind == "missing":
        return f"{place}: {key} is needed."
    if kind == "value_error":
        return f"{place}: {f'{key}: ' if key else ''}{said.removeprefix('Value error, ')}."
    given = _value(held, path)
    return f"{place}: {key} = {given!r}: {said[0].lower()}{said[1:]}."


def _known(path: Sequence[str | int]) -> list[str]:
    """The keys that a table of the file may have."""
    kind: Any = Description
    for part in path:
        if isinstance(part, int):
            continue
        hint = kind.model_fields[part].annotation if part in getattr(kind, "model_fields", {}) else kind
        kind = next((k for k in _models(hint)), kind)
    return list(kind.model_fields)


def _models(hint: Any) -> list[Any]:
    if isinstance(hint, type) and issubclass(hint, BaseModel):
        return [hint]
    return [model for arg in getattr(hint, "__args__", ()) for model in _models(arg)]


def _value(held: Any, path: Sequence[str | int]) -> Any:
    for part in path:
        try:
            held = held[part]
        except (KeyError, IndexError, TypeError):
            return None
    return held


def _where(text: str, path: Sequence[str | int], name: str) -> str:
    """The line of a key, or of the nearest table above it."""
    wanted = [str(part) for part in path if not isinstance(part, int)]
    table: list[str] = []
    best, best_depth = 1, 0
    for number, line in enumerate(text.splitlines(), start=1):
        header = _HEADER.match(line)
        if header:
            table = _parts(header[1])
            here = table
        else:
            key = _KEY.match(line)
            if key is None:
                continue
            here = [*table, *_parts(line.partition("=")[0])]
        depth = len(here) if wanted[: len(here)] == here else 0
        if depth > best_depth:
            best, best_depth = number, depth
    return f"{Path(name).name}, line {best}"


def _parts(dotted: str) -> list[str]:
    return [part.strip().strip("\"'") for part in dotted.split(".")]
