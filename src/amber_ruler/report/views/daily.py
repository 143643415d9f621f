"""A metric from day to day."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes
from amber_ruler.samples.variants import printed

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.digest import Daily

_LETTERS = 84  # of dates that stand under a figure side by side
_SHADED = 3  # more variants than this would hide each other's intervals


def layout(result: Daily) -> list[Block]:
    """A day a line, a variant a column."""
    labels = tuple(printed(result.groups, result.by).values())
    cells = [["—" if g is None else numbers.number(float(g.mean)) for g in groups] for groups in result.groups.values()]
    lines = tuple((day, *means) for day, *means in zip(result.days, *cells, strict=True))
    return [
        Heading(result.title, result.method),
        Grid(("", *labels), lines),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def sentence(result: Daily) -> str:
    """Between what each variant went, in one sentence."""
    parts = []
    for label, groups in zip(printed(result.groups, result.by).values(), result.groups.values(), strict=True):
        known = [g for g in groups if g is not None]
        low, high = (choose(known, key=lambda g: float(g.mean)) for choose in (min, max))
        ends = (f"{numbers.number(float(g.mean))} (day {g.label})" for g in (low, high))
        parts.append(f"{label} between {' and '.join(ends)}")
    return f"{result.metric} on {len(result.days)} days: {'; '.join(parts)}."


def rows(result: Daily) -> dict[str, Any]:
    """Columns of a tidy frame: a day of a variant a row."""
    found: dict[str, list[Any]] = {name: [] for name in ("variant", "day", "n", "mean", "sd", "se")}
    for label, groups in result.groups.items():
        for g in (g for g in groups if g is not None):
            for name, value in zip(found, (label, g.label, g.n, g.mean, g.sd, g.se), strict=True):
                found[name].append(value)
    return found


def draw(result: Daily, ax: Axes | None = None) -> Axes:
    """A line a variant, its interval shaded."""
    from amber_ruler.report.drawing import finish, new_axes

    axes = new_axes(ax)
    at = np.arange(len(result.days))
    names = printed(result.groups, result.by)
    for k, (label, groups) in enumerate(result.groups.items()):
        colour, dash = palette.LINES[k % len(palette.LINES)]
        mean, se = np.array([(np.nan, np.nan) if g is None else (g.mean, g.se) for g in groups], dtype=np.float64).T
        axes.plot(at, mean, dash, color=colour, linewidth=2.2, label=names[label], zorder=3)
        if len(result.groups) <= _SHADED:
            axes.fill_between(at, mean - 1.96 * se, mean + 1.96 * se, color=colour, alpha=0.14, linewidth=0)
    widest = max(map(len, result.days), default=1)
    step = max(1, -(-len(at) * (widest + 3) // _LETTERS))
    axes.set_xticks(at[::step], result.days[::step])
    axes.set_xlabel("day", color=palette.INK)
    axes.set_ylabel(
        f"{result.metric}, {result.method.partition(' of each')[0]} with its 95% interval", color=palette.INK
    )
    axes.legend(frameon=False, labelcolor=palette.INK, handlelength=3, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    return finish(axes, result.title)
