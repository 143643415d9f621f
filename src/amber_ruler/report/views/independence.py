"""A table of counts, and whether its rows and columns go together."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.measured import effects, p_word
from amber_ruler.report.views.shared import alarms, checks_and_notes, counted_test, marked, test_terms

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.measure.counts import Independence

_MOST_ROWS = 60


def layout(result: Independence) -> list[Block]:
    """Title, alarms, counts, each cell against what was expected, test, effects, checks, sentence."""
    return [
        Heading(result.title, f"{result.method} · {test_terms(result.alpha, '')}"),
        *alarms(result.checks),
        _counts(result),
        _cells(result),
        Lines((counted_test(result),)),
        *effects(result.effects),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def _counts(result: Independence) -> Grid:
    """The counts with both margins."""
    o = result.table.counts
    rows_ = [(label, *map(numbers.whole, [*row, row.sum()])) for label, row in zip(result.table.rows, o, strict=True)]
    rows_.append(("in total", *map(numbers.whole, [*o.sum(axis=0), o.sum()])))
    return Grid(("", *result.table.columns, "in total"), tuple(rows_))


def _cells(result: Independence) -> Grid:
    """A line a cell under its row: shares of row and column, what was expected, and how far off it is."""
    table = rows(result)
    cells: list[tuple[str, ...]] = []
    for k, (row, column) in enumerate(zip(table["row"][:_MOST_ROWS], table["column"], strict=False)):
        if k % len(result.table.columns) == 0:
            cells.append((row, *("" for _ in range(8))))
        cells.append(
            (
                f"  {column}",
                numbers.whole(table["count"][k]),
                *(numbers.percent(float(table[name][k])) for name in ("share_of_row", "share_of_column")),
                *(numbers.number(float(table[name][k])) for name in ("expected", "contribution", "residual")),
                numbers.p_value(float(table["residual_p"][k]), result.alpha),
                marked(float(table["residual"][k]), float(table["residual_p"][k]), result.alpha),
            )
        )
    return Grid(
        ("", "count", "of row", "of col.", "expected", "adds", "residual", "adj. p", ""), tuple(cells), left=(0, 8)
    )


def draw(result: Independence, ax: Axes | None = None) -> Axes:
    """The table as tiles: counts, and how many standard errors each lies above or below what was expected."""
    from matplotlib.colors import LinearSegmentedColormap

    from amber_ruler.report.drawing import new_axes

    o = result.table.counts
    axes = new_axes(ax, height=1.6 + 0.8 * len(o))
    shades = LinearSegmentedColormap.from_list("residuals", [palette.BRICK, "white", palette.SEA])
    most = max(4.0, float(np.abs(result.residuals).max()))
    tiles = axes.imshow(result.residuals, cmap=shades, vmin=-most, vmax=most, aspect="auto")
    for (i, j), count in np.ndenumerate(o):
        sign = marked(float(result.residuals[i, j]), float(result.residual_p[i, j]), result.alpha)
        dark = abs(result.residuals[i, j]) > 0.6 * most
        colour = "white" if dark else palette.INK
        said = f"{numbers.whole(count)}\n{numbers.number(float(result.residuals[i, j]))} {sign}"
        axes.text(j, i, said.strip(), ha="center", va="center", color=colour)
    axes.set_xticks(range(o.shape[1]), result.table.columns)
    axes.set_yticks(range(o.shape[0]), result.table.rows)
    said = "below the count: standard errors from the count expected (▲▼ beyond chance)"
    axes.set_xlabel(f"{result.table.column_name}\n{said}", color=palette.INK)
    axes.set_ylabel(result.table.row_name, color=palette.INK)
    axes.tick_params(length=0, labelcolor=palette.INK)
    for side in axes.spines.values():
        side.set_visible(False)
    bar = axes.figure.colorbar(tiles, ax=axes)
    bar.outline.set_visible(False)
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    return axes


def sentence(result: Independence) -> str:
    """Whether they go together, and in which cells."""
    p = p_word(float(result.test.p_value), result.alpha)
    title = result.title
    if float(result.test.p_value) >= result.alpha:
        return f"{title}: that they go together is not shown (p {p})."
    table = rows(result)
    order = np.argsort(-np.abs(result.residuals).ravel())
    off = [k for k in order if table["residual_p"][k] < result.alpha][:3]
    cells = [
        f"{'more' if table['residual'][k] > 0 else 'fewer'} {table['column'][k]} in {table['row'][k]}" for k in off
    ]
    where = f"; than expected: {', '.join(cells)}" if cells else "; no single cell stands out"
    v = numbers.number(float(result.effects["cramers_v"].value))
    return f"{title}: they go together (p {p}, Cramér's V {v}){where}."


def rows(result: Independence) -> dict[str, Any]:
    """Columns of a tidy frame, a row for each cell."""
    o = result.table.counts
    return {
        "row": np.repeat(result.table.rows, o.shape[1]),
        "column": np.tile(result.table.columns, o.shape[0]),
        "count": o.ravel(),
        "share_of_row": (o / o.sum(axis=1, keepdims=True)).ravel(),
        "share_of_column": (o / o.sum(axis=0)).ravel(),
        "expected": result.expected.ravel(),
        "contribution": result.contributions.ravel(),
        "residual": result.residuals.ravel(),
        "residual_p": result.residual_p.ravel(),
    }
