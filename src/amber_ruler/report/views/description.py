"""What the values of a column look like in each variant."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes
from amber_ruler.samples.variants import printed

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.tables import Description
    from amber_ruler.tables.description import Described

_BARS, _SIGNS = " ▁▂▃▄▅▆▇█", 12
_QUANTILES = ("1%", "25%", "median", "75%", "99%")


def layout(result: Description) -> list[Block]:
    """A column a variant, a line a number: variants are few, numbers many."""
    labels = tuple(printed(result.groups, result.by).values())
    columns = [_lines(g) for g in result.groups.values()]
    rows = tuple((name, *(column[name] for column in columns)) for name in columns[0])
    return [
        Heading(result.title, result.method),
        Grid(("", *labels), rows),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def sentence(result: Description) -> str:
    """Where the values lie, in one sentence."""
    parts = [
        f"{label} {numbers.number(g.mean)} (median {numbers.number(g.quantiles[2])}, n {g.n:,})"
        for label, g in zip(printed(result.groups, result.by).values(), result.groups.values(), strict=True)
    ]
    return f"{result.metric} on average: {'; '.join(parts)}."


def rows(result: Description) -> dict[str, Any]:
    """Columns of a tidy frame: a variant a row."""
    flat: dict[str, list[Any]] = {"variant": list(result.groups)}
    for g in result.groups.values():
        values = asdict(g)
        quantiles, _ = values.pop("quantiles"), values.pop("counts")
        for name, value in {**values, **dict(zip(_QUANTILES, quantiles, strict=True))}.items():
            flat.setdefault(name, []).append(value)
    return flat


def draw(result: Description, ax: Axes | None = None) -> Axes:
    """For each variant the shape of its values, and under it a box from quartile to quartile and the mean."""
    from amber_ruler.report.drawing import new_axes, write_beside

    axes = new_axes(ax, height=1.9 + 1.0 * len(result.groups))
    edges = np.array(result.edges)
    highest = max((max(g.counts, default=0) / g.n for g in result.groups.values()), default=0.0)
    for k, g in enumerate(result.groups.values()):
        floor = k + 0.22
        if highest:
            share = np.array(g.counts) / g.n / highest
            axes.bar(edges[:-1], -0.7 * share, np.diff(edges), floor, align="edge", color=palette.SAND,
                     edgecolor="white", linewidth=0.6, zorder=1)  # fmt: skip
        if g.zeros:
            tall = min(g.zeros / highest, 1.0) if highest else 1.0
            axes.plot([0, 0], [floor, floor - 0.7 * tall], color=palette.DUNE, linewidth=7, solid_capstyle="butt")
            axes.annotate(f"{numbers.percent(g.zeros)} are 0", (0, floor - 0.7 * tall), xytext=(8, -2),
                          textcoords="offset points", va="top", color=palette.INK, fontsize=10)  # fmt: skip
        _box(axes, g, k + 0.34)
    lines = [
        {"n": numbers.whole(g.n), "mean": numbers.number(g.mean), "median": numbers.number(g.quantiles[2]),
         "largest": numbers.number(g.high)}
        for g in result.groups.values()
    ]  # fmt: skip
    write_beside(axes, lines)
    axes.set_yticks(range(len(result.groups)), list(printed(result.groups, result.by).values()))
    axes.set_ylim(len(result.groups) - 0.4, -0.6)
    axes.set_xlabel(f"{result.metric}: share of values in each step; line to 1% and 99%, box between quartiles, mean")
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    axes.margins(x=0.04)
    return axes


def _box(axes: Axes, g: Described, at: float) -> None:
    """Quantiles, and the mean with its interval."""
    first, lower, middle, upper, last = g.quantiles
    axes.plot([first, last], [at, at], "-", color=palette.STONE, linewidth=1.6, zorder=1)
    axes.barh(at, upper - lower, left=lower, height=0.13, color="white", edgecolor=palette.INK, zorder=2)
    axes.plot([middle, middle], [at - 0.065, at + 0.065], "-", color=palette.INK, linewidth=2.4, zorder=3)
    reach = 1.96 * g.se
    axes.plot([g.mean - reach, g.mean + reach], [at, at], "-", color=palette.AMBER, linewidth=4, zorder=4)
    axes.plot([g.mean], [at], "o", color=palette.AMBER, markersize=8, markeredgecolor="white", zorder=5)


def _shape(g: Described) -> str:
    """The shape of the values in one line, the zeros first."""
    if not g.counts:
        return ""
    parts = np.array_split(np.array(g.counts), min(_SIGNS, len(g.counts)))
    heights = np.array([part.mean() for part in parts])
    steps = np.ceil(heights / heights.max() * (len(_BARS) - 1)).astype(int) if heights.max() else heights.astype(int)
    return "".join(_BARS[step] for step in steps)


def _lines(g: Described) -> dict[str, str]:
    said = {"n": numbers.whole(g.n), "missing": numbers.whole(g.missing)}
    if g.units is not None:
        said["units"] = numbers.whole(g.units)
    said |= {"mean": numbers.number(g.mean), "sd": numbers.number(g.sd), "se": numbers.number(g.se)}
    said |= {"skewness": numbers.number(g.skewness), "smallest": numbers.number(g.low)}
    said |= dict(zip(_QUANTILES, map(numbers.number, g.quantiles), strict=True))
    said |= {"largest": numbers.number(g.high), "zeros": numbers.percent(g.zeros)}
    if g.counts:
        said["shape"] = _shape(g)
    said["largest of total"] = "—" if g.largest_share is None else numbers.percent(g.largest_share)
    return said
