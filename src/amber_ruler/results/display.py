"""What is shown of anything that is no result: made inert, and handed to the report floor."""

from __future__ import annotations

from collections.abc import Iterable
from importlib import import_module


def safe(label: object) -> str:
    r"""Make a label printable: control characters become visible escapes and can do nothing.

    Examples
    --------
    >>> safe("a" + chr(27) + "[31mb")
    'a\\x1b[31mb'
    """
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode("ascii") for c in str(label))


def display(title: str, header: tuple[str, ...], rows: Iterable[tuple[str, ...]], below: str = "") -> str:
    """A small table as a piece of HTML: what a notebook shows of data."""
    report = import_module("amber_ruler.report")
    return str(report.display(title, header, rows, below))
