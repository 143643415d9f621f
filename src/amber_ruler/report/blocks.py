"""What a view is made of, before any medium draws it: blocks of text, tables and rulers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeAlias


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


@dataclass(frozen=True, slots=True)
class Ruler:
    """Intervals under each other on one scale, with its zero mark and the band of the margin."""

    rows: tuple[RulerRow, ...]
    centre: float | None = 0.0  # None where no value is tested
    margin: float | None = None
    percent: bool = False
    unit: str = ""


@dataclass(frozen=True, slots=True)
class Lines:
    """Plain paragraphs, each with an optional sign and colour before it."""

    lines: tuple[str, ...]
    signs: tuple[tuple[str, str], ...] = field(default=())
    strong: bool = False


Block: TypeAlias = Heading | Grid | Ruler | Lines
