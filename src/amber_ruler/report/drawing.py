"""Rulers as a figure."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from amber_ruler.report import palette
from amber_ruler.report.numbers import together
from amber_ruler.report.scale import Scale, scale_of
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    import os

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from amber_ruler.report.blocks import Ruler, RulerRow


def draw_rulers(ruler: Ruler, *, ax: Axes | None = None, title: str = "") -> Axes:
    """Draw intervals under each other on one scale, with the zero mark and the margin's band."""
    axes = new_axes(ax, height=1.3 + 0.55 * len(ruler.rows))
    scale = scale_of(ruler)
    if ruler.centre is not None:
        if ruler.margin:
            ends = (ruler.centre - ruler.margin, ruler.centre + ruler.margin)
            axes.axvspan(*ends, color=palette.SAND, zorder=0, label="margin")
        axes.axvline(ruler.centre, color=palette.INK, linewidth=1.2, zorder=1)
    for k, row in enumerate(ruler.rows):
        _draw_row(axes, row, k, ruler, scale)
    axes.set_ylim(len(ruler.rows) - 0.4, -0.6)
    axes.set_xlim(scale.low, scale.high)
    axes.set_yticks(range(len(ruler.rows)), [row.label for row in ruler.rows])
    _graduate(axes, ruler, scale)
    if title:
        axes.set_title(title, loc="left", color=palette.INK, fontweight="bold")
    return axes


def rulers_figure(panels: list[tuple[str, Ruler]], *, title: str = "") -> Figure:
    """Draw several rulers, each with a scale of its own, as one figure of 1280 by 800 pixels or taller."""
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    rows = [len(ruler.rows) for _, ruler in panels]
    figure = Figure(
        figsize=(12.8, max(8.0, 0.6 * sum(rows) + 1.1 * len(rows))),
        dpi=100,
        layout=ConstrainedLayoutEngine(h_pad=0.15, w_pad=0.12),
    )
    axes = figure.subplots(len(panels), 1, squeeze=False, height_ratios=[n + 0.9 for n in rows])[:, 0]
    for ax, (name, ruler) in zip(axes, panels, strict=True):
        draw_rulers(ruler, ax=ax, title=name)
        inert(ax)
    if title:
        figure.suptitle(title, x=0.01, ha="left", color=palette.AMBER, fontweight="bold", fontsize=15)
    return figure


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


def save(figure: Figure, path: str | os.PathLike[str]) -> None:
    """Write a figure as PNG or SVG, by the path's ending."""
    figure.savefig(path)


def new_axes(ax: Axes | None, *, height: float = 5.6) -> Axes:
    """The caller's axes, or new ones of the usual width."""
    if ax is not None:
        return ax
    import matplotlib.pyplot as plt

    _, axes = plt.subplots(figsize=(9, height), layout="constrained")
    return axes


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


def _draw_row(axes: Axes, row: RulerRow, k: int, ruler: Ruler, scale: Scale) -> None:
    sign, colour = palette.VERDICTS.get(row.verdict, ("", palette.AMBER))
    low, high = max(row.low, scale.low), min(row.high, scale.high)
    axes.plot([low, high], [k, k], color=colour, linewidth=5, solid_capstyle="butt", zorder=2)
    for end, at, arrow in ((row.low, low, "<"), (row.high, high, ">")):
        finite = math.isfinite(end)
        axes.plot([at], [k], marker="|" if finite else arrow, color=colour, markersize=14 if finite else 9, zorder=3)
    axes.plot([row.estimate], [k], "o", color=colour, markersize=11, markeredgecolor="white", zorder=4, clip_on=False)
    beside: dict[str, Any] = {"xycoords": ("axes fraction", "data"), "annotation_clip": False}
    told = _numbers(row, ruler) if ruler.numbered else ""
    said = "   ".join(part for part in (told, row.note) if part)
    place = (1.01, k)
    axes.annotate(said, place, xytext=(0, 8 if row.verdict else 0), textcoords="offset points", va="center",
                  color=palette.INK, fontsize=10, **beside)  # fmt: skip
    if row.verdict:
        axes.annotate(f"{sign} {row.verdict}", place, xytext=(0, -8), textcoords="offset points", va="center",
                      color=colour, fontweight="bold", fontsize=11, **beside)  # fmt: skip


def _numbers(row: RulerRow, ruler: Ruler) -> str:
    """Estimate and limits, as they stand beside a row."""
    factor = 100.0 if ruler.percent else 1.0
    width = row.high - row.low if math.isfinite(row.high - row.low) else None
    apart = None if ruler.centre is None else factor * ruler.centre
    value, low, high = together(
        *(factor * v for v in (row.estimate, row.low, row.high)),
        width=None if not width else factor * width / 2,
        apart=apart,
    )
    unit = f" {ruler.unit}" if ruler.unit in ("pp", "%") else ""
    return f"{value} ({low} to {high}){unit}"


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
