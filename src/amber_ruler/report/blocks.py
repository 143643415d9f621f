"""What a view is made of, before any medium draws it: blocks of text, tables and rulers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields, is_dataclass, replace
from typing import Any, TypeAlias


@dataclass(frozen=True, slots=True)
class Heading:
    """The title, what stands beside it, and the line below."""

    title: str
    below: str = ""
    verdict: str = ""


@dataclass(frozen=True, slots=True)
class Grid:
    """A table of finished cells; the first column is text, the others are numbers."""

    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    left: tuple[int, ...] = (0,)


@dataclass(frozen=True, slots=True)
class RulerRow:
    """One interval on a ruler."""

    label: str
    estimate: float
    low: float
    high: float
    verdict: str = ""
    beside: tuple[tuple[str, str], ...] = ()  # what a figure says beside the numbers, such as ("p", "0.0037")


@dataclass(frozen=True, slots=True)
class Ruler:
    """Intervals under each other on one scale, with its zero mark and the band of the margin."""

    rows: tuple[RulerRow, ...]
    centre: float | None = 0.0  # None where no value is tested
    margin: float | None = None
    percent: bool = False
    unit: str = ""
    numbered: bool = True  # whether a figure has the numbers beside each row: estimate and limits, where they are such
    counts: str = ""  # what the scale counts, for a figure's axis
    ends: tuple[str, str] = ("", "")  # what lies to the left and to the right
    interval: str = "interval"  # what a figure calls the limits


@dataclass(frozen=True, slots=True)
class Lines:
    """Plain paragraphs, each with an optional sign and colour before it."""

    lines: tuple[str, ...]
    signs: tuple[tuple[str, str], ...] = field(default=())
    strong: bool = False


Block: TypeAlias = Heading | Grid | Ruler | Lines


def reworded(part: Any, change: Callable[[str], str]) -> Any:
    """A block, or a part of one, with a change made to each of its texts."""
    if isinstance(part, str):
        return change(part)
    if isinstance(part, tuple):
        return tuple(reworded(item, change) for item in part)
    if is_dataclass(part) and not isinstance(part, type):
        return replace(part, **{f.name: reworded(getattr(part, f.name), change) for f in fields(part)})
    return part
