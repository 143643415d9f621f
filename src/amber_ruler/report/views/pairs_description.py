"""Two values of each unit."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.results import Group
    from amber_ruler.samples import PairsDescription

_MOST_LINES = 400  # more would be a blot


def layout(result: PairsDescription) -> list[Block]:
    """Both sides and the difference, a line each."""
    return [
        Heading(result.title, result.method),
        Grid(("", "n", "mean", "sd", "se"), tuple(map(_line, result.groups))),
        Lines((sentence(result),), strong=True),
    ]


def _line(group: Group) -> tuple[str, ...]:
    numbered = (numbers.number(float(v)) for v in (group.mean, group.sd, group.se))
    return (group.label, numbers.whole(float(group.n)), *numbered)


def sentence(result: PairsDescription) -> str:
    """The mean difference, how the sides go together, and who was left out."""
    control, treatment, difference = result.groups
    together = "one side never varies" if result.correlation is None else f"correlation {result.correlation:.3f}"
    units = "unit with one side only is" if result.left_out == 1 else "units with one side only are"
    alone = f"; {result.left_out:,} {units} left out" if result.left_out else ""
    return (
        f"{treatment.label} less {control.label} is"
        f" {numbers.number(float(difference.mean))} on average of {difference.n:,} pairs; {together}{alone}."
    )


def rows(result: PairsDescription) -> dict[str, Any]:
    """Columns of a tidy frame: a side a row."""
    return {name: [getattr(g, name) for g in result.groups] for name in ("label", "n", "mean", "sd", "se")}


def draw(result: PairsDescription, ax: Axes | None = None) -> Axes:
    """A line from control to treatment for each unit, the means with their intervals."""
    from amber_ruler.report.drawing import finish, new_axes

    axes = new_axes(ax)
    if result.pairs is None:
        raise InputError("This description was read back and holds no values: its lines can't be drawn.")
    before, after = result.pairs.control, result.pairs.treatment
    some = np.linspace(0, len(before) - 1, min(len(before), _MOST_LINES)).round().astype(int)
    # Never colour alone: falling lines are dashed.
    for mine, colour, dash in ((after >= before, palette.SEA, "-"), (after < before, palette.INK, "--")):
        shown = some[mine[some]]
        axes.plot([0.0, 1.0], [before[shown], after[shown]], dash, color=colour, linewidth=1.0, alpha=0.55, zorder=2)
    for at, group in enumerate(result.groups[:2]):
        reach = 1.96 * float(group.se)
        mean = float(group.mean)
        axes.plot([at, at], [mean - reach, mean + reach], color=palette.AMBER, linewidth=5, zorder=4)
        axes.plot([at], [mean], "o", color=palette.AMBER, markersize=12, markeredgecolor="white", zorder=5)
    axes.set_xlim(-0.35, 1.35)
    axes.set_xticks([0, 1], [group.label for group in result.groups[:2]])
    shown_of = f", {len(some):,} of {len(before):,} units" if len(some) < len(before) else ""
    axes.set_ylabel(f"{result.metric or 'value'}: a line a unit{shown_of}, means with 95% intervals")
    title = result.title if result.correlation is None else f"{result.title} (correlation {result.correlation:.2f})"
    return finish(axes, title)
