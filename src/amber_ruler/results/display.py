"""What is shown of anything that is no result: made inert, and handed to the report floor."""

from __future__ import annotations

from collections.abc import Iterable
from importlib import import_module
from typing import NamedTuple


def safe(label: object) -> str:
    r"""Make a label printable: control characters become visible escapes and can do nothing.

    Examples
    --------
    >>> safe("a" + chr(27) + "[31mb")
    'a\\x1b[31mb'
    """
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode("ascii") for c in str(label))


class Look(NamedTuple):
    """A small table: what is shown of data."""

    title: str
    header: tuple[str, ...]
    rows: Iterable[tuple[str, ...]]
    below: str = ""


class Shown:
    """Data that print as a small table, and a notebook shows as one."""

    __slots__ = ()

    def _look(self) -> Look:
        raise NotImplementedError

    def __str__(self) -> str:
        return str(import_module("amber_ruler.report").display(*self._look(), html=False))

    def _repr_html_(self) -> str:
        return str(import_module("amber_ruler.report").display(*self._look(), html=True))
