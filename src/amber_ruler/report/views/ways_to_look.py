"""Ways to look at one test, a line each."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.plan import WaysToLook


def layout(result: WaysToLook) -> list[Block]:
    """Units at most and on average, and what each way allows."""
    lines = tuple(
        (
            way.name,
            numbers.whole(way.n_total),
            numbers.percent(way.power),
            *(numbers.whole(n) for n in (way.expected_none, way.expected_half, way.expected_planned)),
        )
        for way in result.ways
    )
    header = ("", "at most", "power", "mean, no effect", "half", "as planned")
    return [
        Heading(result.title, f"{result.method} · alpha {result.alpha:g}"),
        Lines(("Units in all groups: at most, and on average under no effect, half of it, and all of it.",)),
        Grid(header, lines),
        Grid(("", "what may be done"), tuple((way.name, way.allows) for way in result.ways), left=(0, 1)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def sentence(result: WaysToLook) -> str:
    """The fewest units on average, and what they cost at most."""
    single = result.ways[0]
    best = min(result.ways, key=lambda way: way.expected_planned)
    return (
        f"If the effect is as planned, {best.name} take{'s' if best is single else ''} the fewest units on average:"
        f" {numbers.whole(best.expected_planned)} instead of {numbers.whole(single.n_total)}, and"
        f" {numbers.whole(best.n_total)} at most."
    )


def rows(result: WaysToLook) -> dict[str, Any]:
    """Columns of a tidy frame."""
    names = ("name", "n_total", "power", "expected_none", "expected_half", "expected_planned", "allows")
    return {name: [getattr(way, name) for way in result.ways] for name in names}


def draw(result: WaysToLook, ax: Axes | None = None) -> Axes:
    """Units at most, and on average under three effects, way by way."""
    from amber_ruler.report.drawing import finish, new_axes

    axes = new_axes(ax)
    marks = (("expected_none", "no effect", "s", palette.INK), ("expected_half", "half of it", "D", palette.SEA),
             ("expected_planned", "as planned", "o", palette.AMBER))  # fmt: skip
    for k, way in enumerate(result.ways):
        axes.barh(k, way.n_total, height=0.62, color=palette.SAND, zorder=1, label="at most" if k == 0 else None)
        axes.annotate(f"{way.n_total:,} at most", (way.n_total, k), xytext=(14, 0), textcoords="offset points",
                      va="center", fontsize=11, color=palette.INK)  # fmt: skip
        for row, (name, said, sign, colour) in enumerate(marks):
            value, place = getattr(way, name), k + 0.2 * (row - 1)
            axes.plot([value], [place], sign, color=colour, markersize=9, zorder=3,
                      label=f"on average, {said}" if k == 0 else None)  # fmt: skip
            axes.annotate(f"{value:,.0f}", (value, place), xytext=(-8, 0), textcoords="offset points", ha="right",
                          va="center", fontsize=9, color=palette.INK)  # fmt: skip
    axes.set_yticks(range(len(result.ways)), [way.name for way in result.ways])
    axes.set_ylim(len(result.ways) - 0.5, -0.5)
    axes.set_xlim(0, 1.25 * max(way.n_total for way in result.ways))
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    axes.set_xlabel("units in all groups", color=palette.INK)
    axes.legend(frameon=False, labelcolor=palette.INK, loc="upper center", bbox_to_anchor=(0.5, -0.1), ncols=4)
    effect = f"{100 * result.effect:.3g} pp" if result.percent else f"{result.effect:.4g}"
    axes.grid(visible=False)
    return finish(axes, f"{result.title}, effect {effect}, power {result.power:.0%}, alpha {result.alpha:g}")
