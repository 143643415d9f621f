"""What a docstring says of each parameter, and a docstring with further ones."""

from __future__ import annotations

import inspect
import re
from collections.abc import Mapping
from functools import cache
from textwrap import fill
from typing import Any

from amber_ruler.settings import COMMON

_ENTRY = re.compile(r"^(\w[\w, ]*?)(?: : (.*))?\n((?:    .*\n?)+)", flags=re.MULTILINE)
_END = re.compile(r"\n(\w+)\n-+\n")


def described(documented: Any) -> dict[str, tuple[str, str]]:
    """Of each parameter what it may be and what it does, as the docstring has it."""
    section = (inspect.getdoc(documented) or "").partition("Parameters\n----------\n")[2]
    end = _END.search(section)
    section = section[: end.start()] if end else section
    return {
        name.strip(): (kind, " ".join(text.split()))
        for names, kind, text in _ENTRY.findall(f"{section}\n")
        for name in names.split(",")
    }


def with_choices(kind: str, text: str) -> str:
    """What a parameter does, and the words that it may be."""
    return f"{text} {kind.replace(chr(34), '').removesuffix(', optional')}." if kind.startswith('"') else text


def with_common(text: str | None, settings: Mapping[str, Any]) -> str | None:
    """A docstring with the common settings of which it says nothing; nothing where docstrings were left out."""
    if text is None:
        return None
    before, returns, after = text.partition("\n    Returns\n    -------\n")
    said = re.findall(r"^    ([a-z_][\w, ]*?)(?: :.*)?$", before, flags=re.MULTILINE)
    known = {name for names in said for name in names.split(", ")}
    lacking = [name for name in settings if name in COMMON and name not in known]
    return f"{before.rstrip()}\n{''.join(map(_entry, lacking))}{returns}{after}" if lacking and returns else text


@cache
def _entry(name: str) -> str:
    """A common setting, as a docstring has it."""
    said = fill(COMMON[name].text, 116, initial_indent=" " * 8, subsequent_indent=" " * 8)
    return f"    {name} : {COMMON[name].kind}\n{said}\n"
