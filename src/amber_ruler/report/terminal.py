"""Blocks as text, with or without colours."""

from __future__ import annotations

import math
import shutil
import sys
from io import StringIO
from typing import TYPE_CHECKING, Any, Literal

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from amber_ruler.report import palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow, reworded
from amber_ruler.report.numbers import fixed
from amber_ruler.report.scale import Scale, scale_of
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

_NARROWEST, _USUAL, _WIDEST = 50, 80, 120
_INDENT = 2
_LEAST_LABEL = 12  # cells that a label keeps, with its space, however many numbers stand beside it


def draw(
    blocks: Iterable[Block], *, width: int | None = None, colour: bool = False, ascii_only: bool | None = None
) -> str:
    """Lay blocks out under each other."""
    columns = min(max(width or shutil.get_terminal_size((_USUAL, 24)).columns, _NARROWEST), _WIDEST)
    out = StringIO()
    console = Console(
        file=out,
        width=columns,
        color_system="truecolor" if colour else None,
        force_terminal=colour,
        no_color=not colour,
        highlight=False,
        emoji=False,
        markup=False,
        legacy_windows=False,
    )
    plain = needs_ascii() if ascii_only is None else ascii_only
    for k, raw in enumerate(blocks):
        if k:
            console.print()
        block = reworded(raw, safe)
        _DRAW[type(block)](console, _plain(block) if plain else block)
    text = "\n".join(line.rstrip() for line in out.getvalue().splitlines())
    return text.translate(palette.PLAIN) if plain else text


def _plain(block: Block) -> Block:
    """Words in ASCII before they are laid out, since some become longer; a ruler's marks stay one cell each."""
    words = isinstance(block, (Grid, Lines))
    return reworded(block, lambda text: text.translate(palette.PLAIN)) if words else block


def needs_ascii() -> bool:
    """Whether the standard output can't show the house's signs."""
    encoding = getattr(sys.stdout, "encoding", None) or "ascii"
    try:
        "−━●░▲✓".encode(encoding)
    except (UnicodeEncodeError, LookupError):
        return True
    return False


def _heading(console: Console, block: Heading) -> None:
    line = Text(block.title, style=f"bold {palette.AMBER}")
    if block.verdict:
        sign, colour = palette.VERDICTS[block.verdict]
        line.append("   ").append(f"{sign} {block.verdict}", style=f"bold {colour}")
    console.print(line)
    if block.below:
        console.print(Text(block.below, style=palette.STONE))


def _grid(console: Console, block: Grid) -> None:
    for columns in _fitting(block, console.width - _INDENT):
        table = Table(
            box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=palette.STONE, show_header=any(block.header)
        )
        for k in columns:
            left = k in block.left
            justify: Literal["left", "right"] = "left" if left else "right"
            table.add_column(Text(block.header[k]), justify=justify, no_wrap=not left, overflow="fold")
        for row in block.rows:
            table.add_row(*(Text(row[k]) for k in columns))
        console.print(Padding(table, (0, 0, 0, _INDENT)))


def _fitting(block: Grid, cells: int) -> list[list[int]]:
    """The columns in parts that fit beside their labels, so that a number is never cut."""
    size = len(block.header)
    widths = [max(len(block.header[k]), *(len(row[k]) for row in block.rows), 0) + 2 for k in range(size)]
    labels = next((k for k in range(size) if k not in block.left), size)
    least = sum(min(width, _LEAST_LABEL) for width in widths[:labels])
    parts: list[list[int]] = [[]]
    for k in range(labels, size):
        taken = sum(min(w, _LEAST_LABEL) if j in block.left else w for j, w in enumerate(widths) if j in parts[-1])
        if parts[-1] and least + taken + widths[k] - 2 > cells:
            parts.append([])
        parts[-1].append(k)
    return [[*range(labels), *part] for part in parts]


def _lines(console: Console, block: Lines) -> None:
    signs = block.signs or ((("", ""),) * len(block.lines))
    for line, (sign, colour) in zip(block.lines, signs, strict=True):
        table = Table.grid(padding=(0, 1, 0, 0))
        style = "bold" if block.strong else ""
        if sign:
            table.add_row(Text(sign, style=f"bold {colour}"), Text(line, style=style))
        else:
            table.add_row(Text(line, style=style))
        console.print(Padding(table, (0, 0, 0, _INDENT)))


def _ruler(console: Console, block: Ruler) -> None:
    label_width = min(max((len(r.label) for r in block.rows), default=0), 2 * console.width // 5)
    cells = console.width - label_width - _INDENT - 3
    scale = scale_of(block, most_ticks=max(4, cells // 8))
    for row in block.rows:
        line = Text(" " * _INDENT + _shortened(row.label, label_width).rjust(label_width) + "  ")
        console.print(line.append_text(_bar(row, block, scale, cells)), no_wrap=True)
    margin = " " * (_INDENT + label_width + 2)
    for graduated in _graduation(block, scale, cells):
        console.print(Text(margin).append(graduated, style=palette.STONE), no_wrap=True)


def _shortened(label: str, width: int) -> str:
    """A label without its middle, where it is too long: what tells rows apart stands at the ends."""
    if len(label) <= width:
        return label
    tail = (width - 1) // 2
    return f"{label[: width - 1 - tail]}…{label[-tail:]}"


def _bar(row: RulerRow, ruler: Ruler, scale: Scale, cells: int) -> Text:
    signs, styles = [" "] * cells, [""] * cells
    if ruler.margin and ruler.centre is not None:
        for k in range(
            scale.place(ruler.centre - ruler.margin, cells), scale.place(ruler.centre + ruler.margin, cells) + 1
        ):
            signs[k], styles[k] = "░", palette.DUNE
    zero = -1 if ruler.centre is None else scale.place(ruler.centre, cells)
    if zero >= 0:
        signs[zero], styles[zero] = "│", palette.STONE
    colour = palette.VERDICTS[row.verdict][1] if row.verdict else palette.AMBER
    low, high = (scale.place(v, cells) for v in (row.low, row.high))
    for k in range(low, high + 1):
        signs[k], styles[k] = "┿" if k == zero else "━", colour
    for end, at, closed, open_ in ((row.low, low, "├", "◀"), (row.high, high, "┤", "▶")):
        signs[at] = closed if math.isfinite(end) else open_
    dot = scale.place(row.estimate, cells)
    signs[dot], styles[dot] = "●", f"bold {colour}"
    bar = Text()
    for sign, style in zip(signs, styles, strict=True):
        bar.append(sign, style=style)
    return bar


def _graduation(ruler: Ruler, scale: Scale, cells: int) -> tuple[str, str]:
    line, below = ["─"] * cells, [" "] * cells
    if ruler.margin and ruler.centre is not None:
        # Said on the scale too: in a row the band may lie under the interval.
        first, last = (scale.place(ruler.centre + side * ruler.margin, cells) for side in (-1, 1))
        line[first : last + 1] = "═" * (last + 1 - first)
    free_from = 0
    decimals = max(0, scale.decimals - 2) if ruler.percent else scale.decimals
    for tick in scale.ticks:
        at = scale.place(tick, cells)
        banded = line[at] == "═"
        line[at] = ("╪" if banded else "┼") if tick == ruler.centre else ("╧" if banded else "┴")
        text = "0" if tick == 0 else fixed(tick * (100 if ruler.percent else 1), decimals)
        if tick == scale.ticks[-1] and ruler.unit:
            text += f" {ruler.unit}"
        start = min(max(0, at - len(text) // 2), cells - len(text))
        if start >= free_from:
            below[start : start + len(text)] = text
            free_from = start + len(text) + 1
    return "".join(line), "".join(below)


_DRAW: dict[type, Callable[[Console, Any], None]] = {Heading: _heading, Grid: _grid, Ruler: _ruler, Lines: _lines}
