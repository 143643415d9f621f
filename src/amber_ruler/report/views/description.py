"""What the values of a column look like in each variant."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.tables import Description
    from amber_ruler.tables.description import Described

_QUANTILES = ("1%", "25%", "median", "75%", "99%")


def layout(result: Description) -> list[Block]:
    """A column a variant, a line a number: variants are few, numbers many."""
    labels = tuple(label for label in result.groups)
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
        for label, g in result.groups.items()
    ]
    return f"{result.metric} on average: {'; '.join(parts)}."


def rows(result: Description) -> dict[str, Any]:
    """Columns of a tidy frame: a variant a row."""
    flat: dict[str, list[Any]] = {"variant": list(result.groups)}
    for g in result.groups.values():
        values = asdict(g)
        quantiles = values.pop("quantiles")
        for name, value in {**values, **dict(zip(_QUANTILES, quantiles, strict=True))}.items():
            flat.setdefault(name, []).append(value)
    return flat


def draw(result: Description, ax: Axes | None = None) -> Axes:
    """A box from quartile to quartile, whiskers to the 1% and 99% quantiles, the mean as a dot with its interval."""
    from amber_ruler.report.drawing import new_axes

    axes = new_axes(ax, height=1.6 + 0.8 * len(result.groups))
    for k, g in enumerate(result.groups.values()):
        first, lower, middle, upper, last = g.quantiles
        axes.plot([first, last], [k, k], color=palette.STONE, linewidth=1.6, zorder=1)
        axes.barh(k, upper - lower, left=lower, height=0.46, color=palette.SAND, edgecolor=palette.DUNE, zorder=2)
        axes.plot([middle, middle], [k - 0.23, k + 0.23], color=palette.INK, linewidth=2.2, zorder=3)
        reach = 1.96 * g.se
        axes.plot([g.mean - reach, g.mean + reach], [k, k], color=palette.AMBER, linewidth=5, zorder=4)
        axes.plot([g.mean], [k], "o", color=palette.AMBER, markersize=9, markeredgecolor="white", zorder=5)
        if g.high > last:
            said = f"up to {numbers.number(g.high)}"
            axes.annotate(said, (last, k), xytext=(8, 0), textcoords="offset points", va="center", color=palette.STONE)
    axes.set_yticks(range(len(result.groups)), list(result.groups))
    axes.set_ylim(len(result.groups) - 0.4, -0.6)
    axes.set_xlabel(f"{result.metric}: box from quartile to quartile, line to 1% and 99%, mean with its 95% interval")
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    axes.margins(x=0.08)
    return axes


def _lines(g: Described) -> dict[str, str]:
    said = {"n": numbers.whole(g.n), "missing": numbers.whole(g.missing)}
    if g.units is not None:
        said["units"] = numbers.whole(g.units)
    said |= {"mean": numbers.number(g.mean), "sd": numbers.number(g.sd), "se": numbers.number(g.se)}
    said |= {"skewness": numbers.number(g.skewness), "smallest": numbers.number(g.low)}
    said |= dict(zip(_QUANTILES, map(numbers.number, g.quantiles), strict=True))
    said |= {"largest": numbers.number(g.high), "zeros": numbers.percent(g.zeros)}
    said["largest of total"] = "—" if g.largest_share is None else numbers.percent(g.largest_share)
    return said
