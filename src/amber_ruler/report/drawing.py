"""Rulers as a figure."""

from __future__ import annotations

import math
from contextlib import contextmanager
from contextvars import ContextVar
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, cast

from amber_ruler.report import palette
from amber_ruler.report.numbers import together
from amber_ruler.report.scale import Scale, scale_of
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    import os
    from collections.abc import Iterable, Iterator, Mapping, Sequence

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import LayoutEngine

    from amber_ruler.report.blocks import Ruler, RulerRow
    from amber_ruler.results import Result

WIDTH = 12.8  # of a figure that is written to a file, in inches of 100 pixels
_OWN = 11.0  # of one that a session shows
_GAP, _PER_SIGN = 16.0, 6.0  # between columns beside a ruler, and of a letter in them, in points
_MADE: ContextVar[list[Figure] | None] = ContextVar("_MADE", default=None)


def draw_rulers(
    ruler: Ruler, *, ax: Axes | None = None, title: str = "", widths: Mapping[str, int] = MappingProxyType({})
) -> Axes:
    """Draw intervals under each other on one scale, with the zero mark and the margin's band.

    `widths` are those that the columns beside it have at least, in letters.
    """
    axes = new_axes(ax, height=1.9 + 0.5 * len(ruler.rows))
    scale = scale_of(ruler)
    if ruler.centre is not None:
        if ruler.margin:
            ends = (ruler.centre - ruler.margin, ruler.centre + ruler.margin)
            axes.axvspan(*ends, color=palette.SAND, zorder=0, label="margin")
        axes.axvline(ruler.centre, color=palette.INK, linewidth=1.2, zorder=1)
    for k, row in enumerate(ruler.rows):
        _draw_row(axes, row, k, scale)
    write_beside(axes, [_told(row, ruler) for row in ruler.rows], [row.verdict for row in ruler.rows], widths)
    axes.set_ylim(len(ruler.rows) - 0.4, -0.6)
    axes.set_xlim(scale.low, scale.high)
    axes.set_yticks(range(len(ruler.rows)), [row.label for row in ruler.rows])
    _graduate(axes, ruler, scale)
    left, right = ruler.ends
    parts = (f"← {left}" if left else "", ruler.counts, f"{right} →" if right else "")
    axes.set_xlabel("   ·   ".join(part for part in parts if part), color=palette.INK)
    if title:
        axes.set_title(title, loc="left", color=palette.INK, fontweight="bold")
    return axes


def widths_of(rulers: Iterable[Ruler]) -> dict[str, int]:
    """How wide the columns beside several rulers are, for all of them to be in line."""
    found: dict[str, int] = {}
    for ruler in rulers:
        for line in (_told(row, ruler) for row in ruler.rows):
            found |= {name: max(len(text), found.get(name, 0)) for name, text in line.items()}
    return found


def write_beside(
    axes: Axes,
    lines: Sequence[Mapping[str, str]],
    verdicts: Sequence[str] = (),
    widths: Mapping[str, int] = MappingProxyType({}),
) -> None:
    """Numbers in aligned columns to the right of rows, each column under its name; verdicts behind them."""
    last = {"p": 1, "adjusted p": 2}
    columns = sorted(
        dict.fromkeys(name for line in lines for name in line),
        key=lambda name: last.get(name, 0 if name != "n" else -1),
    )
    place: dict[str, Any] = {
        "xycoords": ("axes fraction", "data"),
        "textcoords": "offset points",
        "annotation_clip": False,
    }
    head: dict[str, Any] = {
        "xycoords": ("axes fraction", "axes fraction"),
        "textcoords": "offset points",
        "annotation_clip": False,
    }
    at = _GAP
    for name in columns:
        texts = [line.get(name, "") for line in lines]
        at += max(*map(len, (name, *texts)), widths.get(name, 0)) * _PER_SIGN
        axes.annotate(name, (1, 1), xytext=(at, 2), ha="right", va="bottom", color=palette.STONE, fontsize=9, **head)
        for k, text in enumerate(texts):
            axes.annotate(
                text, (1, k), xytext=(at, 0), ha="right", va="center", color=palette.INK, fontsize=10, **place
            )
        at += _GAP
    for k, verdict in enumerate(verdicts):
        if verdict:
            sign, colour = palette.VERDICTS[verdict]
            said = f"{sign} {verdict}".replace("no difference that", "no difference\n   that")
            axes.annotate(said, (1, k), xytext=(at, 0), ha="left", va="center", color=colour, fontweight="bold",
                          fontsize=10, **place)  # fmt: skip


def rulers_figure(panels: list[tuple[str, Ruler]], *, title: str = "") -> Figure:
    """Draw several rulers, each with a scale of its own, as one figure of the house's width."""
    from matplotlib.figure import Figure

    rows = [len(ruler.rows) for _, ruler in panels]
    figure = Figure(
        figsize=(WIDTH, 0.55 * sum(rows) + 1.4 * len(rows) + 0.6),
        dpi=100,
        layout=_roomy(),
    )
    axes = figure.subplots(len(panels), 1, squeeze=False, height_ratios=[n + 0.9 for n in rows])[:, 0]
    widths = widths_of(ruler for _, ruler in panels)
    for ax, (name, ruler) in zip(axes, panels, strict=True):
        draw_rulers(ruler, ax=ax, title=name, widths=widths)
        inert(ax)
    if title:
        figure.suptitle(title, x=0.01, ha="left", color=palette.AMBER, fontweight="bold", fontsize=15)
    return figure


def results_figure(results: Sequence[Result]) -> Figure:
    """Draw results under each other as one figure of the house's width, as high as they need."""
    from matplotlib.figure import Figure

    heights = []
    for result in results:
        with _apart() as made:
            result.plot()
        heights.append(made[0].get_figheight())
    if len(results) == 1:
        return made[0]
    figure = Figure(figsize=(WIDTH, sum(heights)), dpi=100, layout=_roomy())
    for result, axes in zip(results, figure.subplots(len(results), height_ratios=heights), strict=True):
        result.plot(axes)
    return figure


def _roomy() -> LayoutEngine:
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    return ConstrainedLayoutEngine(h_pad=0.12, w_pad=0.15)


def headed(axes: Axes, title: str, below: str) -> None:
    """A title in words above a figure, and a grey line with method, units and level under it."""
    from textwrap import fill

    title, below = fill(title[:1].upper() + title[1:], 84), fill(below, 112)
    lines = below.count("\n") + 1
    axes.set_title(title, loc="left", color=palette.INK, fontweight="bold", pad=22 + 13 * lines)
    axes.annotate(below, (0, 1), xycoords="axes fraction", xytext=(0, 16), textcoords="offset points", va="bottom",
                  color=palette.STONE, fontsize=10, annotation_clip=False)  # fmt: skip


def inert(axes: Axes) -> None:
    """Labels are drawn as they are: no formula in them is set, and nothing else that they could do is done."""
    from matplotlib.text import Text
    from matplotlib.ticker import FixedLocator

    numbered: list[Text] = []
    for axis in (axes.xaxis, axes.yaxis):
        ticks = axis.get_ticklabels()
        if isinstance(axis.get_major_locator(), FixedLocator):
            axis.set_ticks(axis.get_majorticklocs(), [_inert(text.get_text()) for text in ticks], parse_math=False)
        else:
            numbered += ticks  # such as powers of ten
    for text in axes.findobj(Text):
        if isinstance(text, Text) and text not in numbered:
            text.set_parse_math(False)
            text.set_text(_inert(text.get_text()))


def _inert(text: str) -> str:
    return "\n".join(safe(line) for line in text.split("\n"))


def save(figure: Figure, path: str | os.PathLike[str], *, said: str = "") -> None:
    """Write a figure as PNG or SVG, by the path's ending, with what it says in words for those who can't see it."""
    figure.savefig(path, metadata={"Title": "Amber Ruler", "Description": _inert(said)} if said else None)


def new_axes(ax: Axes | None, *, height: float = 5.6) -> Axes:
    """The caller's axes, or new ones of the usual width."""
    if ax is not None:
        return ax
    made = _MADE.get()
    if made is not None:
        from matplotlib.figure import Figure

        made.append(Figure(figsize=(WIDTH, 1.15 * height), dpi=100, layout=_roomy()))
        return made[-1].subplots()
    import matplotlib.pyplot as plt

    _, axes = plt.subplots(figsize=(_OWN, height), layout="constrained")
    return axes


@contextmanager
def _apart() -> Iterator[list[Figure]]:
    """Figures of the house's width that no window shows, in place of those that pyplot would hold."""
    token = _MADE.set([])
    try:
        yield cast("list[Figure]", _MADE.get())
    finally:
        _MADE.reset(token)


def finish(axes: Axes, title: str) -> Axes:
    """Title, frame and grid of a figure with two scales."""
    axes.set_title(title, loc="left", color=palette.INK, fontweight="bold")
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("bottom", "left"):
        axes.spines[side].set_color(palette.INK)
    axes.tick_params(colors=palette.INK)
    axes.grid(axis="y", color=palette.SAND, linewidth=0.8)
    axes.set_axisbelow(True)
    return axes


def _draw_row(axes: Axes, row: RulerRow, k: int, scale: Scale) -> None:
    colour = palette.VERDICTS.get(row.verdict, ("", palette.AMBER))[1]
    low, high = max(row.low, scale.low), min(row.high, scale.high)
    axes.plot([low, high], [k, k], color=colour, linewidth=5, solid_capstyle="butt", zorder=2)
    for end, at, arrow in ((row.low, low, "<"), (row.high, high, ">")):
        finite = math.isfinite(end)
        axes.plot([at], [k], marker="|" if finite else arrow, color=colour, markersize=14 if finite else 9, zorder=3)
    axes.plot([row.estimate], [k], "o", color=colour, markersize=11, markeredgecolor="white", zorder=4, clip_on=False)


def _told(row: RulerRow, ruler: Ruler) -> dict[str, str]:
    """What stands beside a row, by the name of its column: n first, p last."""
    beside = dict(row.beside)
    first = {name: beside.pop(name) for name in ("n",) if name in beside}
    return first | (_numbers(row, ruler) if ruler.numbered else {}) | beside


def _numbers(row: RulerRow, ruler: Ruler) -> dict[str, str]:
    """Estimate and limits, as they stand beside a row."""
    factor = 100.0 if ruler.percent else 1.0
    width = row.high - row.low if math.isfinite(row.high - row.low) else None
    apart = None if ruler.centre is None else factor * ruler.centre
    value, low, high = together(
        *(factor * v for v in (row.estimate, row.low, row.high)),
        width=None if not width else factor * width / 2,
        apart=apart,
    )
    unit = {"pp": " pp", "%": "%"}.get(ruler.unit, "")
    decided = row.verdict in ("better", "worse", "differ")  # though both limits are drawn at the tested value
    limits = f"next to {low}" if row.low == row.high and decided else f"{low} to {high}"
    return {"estimate": value + unit, ruler.interval: limits + unit}


def _graduate(axes: Axes, ruler: Ruler, scale: Scale) -> None:
    """A scale like a ruler's: long marks with numbers, four short ones between."""
    ticks = list(scale.ticks)
    step = ticks[1] - ticks[0] if len(ticks) > 1 else 1.0
    factor = 100 if ruler.percent else 1
    decimals = max(0, scale.decimals - 2) if ruler.percent else scale.decimals
    unit = f" {ruler.unit}" if ruler.unit else ""
    labels = [
        f"{t * factor:.{decimals}f}".replace("-", "−") + (unit if k == len(ticks) - 1 else "")
        for k, t in enumerate(ticks)
    ]
    axes.set_xticks(ticks, labels)
    minor = [ticks[0] + step * j / 5 for j in range(-5, 5 * len(ticks) + 5)]
    axes.set_xticks([m for m in minor if scale.low <= m <= scale.high], minor=True)
    axes.tick_params(axis="x", which="major", length=9, color=palette.INK, labelcolor=palette.INK)
    axes.tick_params(axis="x", which="minor", length=4, color=palette.STONE)
    axes.tick_params(axis="y", length=0, labelcolor=palette.INK)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(palette.INK)
