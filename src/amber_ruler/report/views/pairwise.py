"""Pairs of several groups."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.numbers import safe
from amber_ruler.report.views import comparison
from amber_ruler.report.views.shared import alarms, checks_and_notes, level, test_terms

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.measure.simultaneous import Pairwise

_MOST_ROWS = 30


def layout(result: Pairwise) -> list[Block]:
    """Title, what the overall test says, the pairs in a table and on a ruler, letters, checks, sentence."""
    unit = " of mean ranks" if result.quantity == "rank" else ""
    header = ("", f"difference{unit}", f"{level(1 - result.alpha)} together", "adjusted p", *_g_header(result), "")
    cells = tuple(_cells(result, k) for k in _order(result)[:_MOST_ROWS])
    left = f"{len(result.first) - _MOST_ROWS:,} more pairs in .to_frame()" if len(result.first) > _MOST_ROWS else ""
    return [
        Heading(safe(result.title), f"{result.method} · {test_terms(result.alpha, result.alternative)}"),
        *alarms(result.checks),
        Lines((_overall(result),)),
        Grid(header, cells),
        *([Lines((left,))] if left else []),
        ruler(result),
        *([_letters(result)] if result.letters else []),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def _order(result: Pairwise) -> list[int]:
    """Those that differ first, each kind from the largest difference down."""
    return sorted(range(len(result.first)), key=lambda k: (not result.differ[k], -abs(result.estimate[k])))


def _g_header(result: Pairwise) -> tuple[str, ...]:
    return () if result.g is None else ("Hedges g",)


def _cells(result: Pairwise, k: int) -> tuple[str, ...]:
    low, high = float(result.low[k]), float(result.high[k])
    reach = (
        (high - low) / 2
        if np.isfinite(high - low)
        else abs(float(result.estimate[k]) - (low if np.isfinite(low) else high))
    )
    value, *ends = numbers.together(float(result.estimate[k]), low, high, width=reach)
    g = () if result.g is None else (numbers.number(float(result.g[k])),)
    return (
        _label(result, k),
        value,
        comparison.span(ends[0], ends[1], result.alternative),
        numbers.p_value(float(result.adjusted[k]), result.alpha),
        *g,
        "differ" if result.differ[k] else "",
    )


def _label(result: Pairwise, k: int) -> str:
    return safe(f"{result.first[k]} − {result.second[k]}")


def _overall(result: Pairwise) -> str:
    p = comparison.p_word(result.overall_p, result.alpha)
    if result.overall_p < result.alpha:
        return f"The groups are not all alike (overall test: p {p})."
    return f"The overall test finds nothing (p {p}): take a pair that differs with care."


def _letters(result: Pairwise) -> Grid:
    rows_ = sorted(((letters, safe(label)) for label, letters in result.letters.items()), key=lambda row: row[0])
    return Grid(
        ("group", "letters: those who share one can't be told apart"),
        tuple((label, letters) for letters, label in rows_),
        left=(0, 1),
    )


def ruler(result: Pairwise) -> Ruler:
    """The pairs under each other, sorted, those that differ marked."""
    bars = (
        RulerRow(
            _label(result, k),
            float(result.estimate[k]),
            float(result.low[k]),
            float(result.high[k]),
            "differ" if result.differ[k] else "",
        )
        for k in _order(result)[:_MOST_ROWS]
    )
    return Ruler(tuple(bars))


def draw(result: Pairwise, ax: Axes | None = None) -> Axes:
    """The pairs on one ruler, with the method in the title: it is what makes the intervals hold together."""
    from amber_ruler.report.drawing import draw_rulers

    title = f"{result.title} ({result.method}; {level(1 - result.alpha)} intervals together)"
    return draw_rulers(ruler(result), ax=ax, title=title)


def sentence(result: Pairwise) -> str:
    """Which group stands out; of the others nothing is said."""
    differ = int(result.differ.sum())
    start = (
        f"{safe(result.metric)}: {differ} of {len(result.first)} {'pairs' if not result.control else 'groups'} differ"
    )
    if result.control:
        start += f" from {safe(result.control)}"
        names = [result.first[k] for k in _order(result) if result.differ[k]]
        named = f": {', '.join(map(safe, names))}" if names else ""
    else:
        alone = [label for label, apart in _apart(result).items() if apart == len(result.letters) - 1]
        named = (
            f"; {' and '.join(map(safe, alone))} from every other group" if alone and len(result.letters) > 2 else ""
        )
    rest = " Of the rest a difference is not shown, nor that there is none." if differ < len(result.first) else ""
    return f"{start}{named}.{rest}"


def _apart(result: Pairwise) -> dict[str, int]:
    """From how many others each group differs."""
    count = dict.fromkeys(result.letters, 0)
    for one, two, differ in zip(result.first, result.second, result.differ, strict=True):
        count[one] += bool(differ)
        count[two] += bool(differ)
    return count


def rows(result: Pairwise) -> dict[str, Any]:
    """Columns of a tidy frame, a row for each pair."""
    table: dict[str, Any] = {
        "metric": [result.metric] * len(result.first),
        "first": list(result.first),
        "second": list(result.second),
        "estimate": result.estimate,
        "low": result.low,
        "high": result.high,
        "p_value": result.p_values,
        "adjusted": result.adjusted,
        "differ": result.differ,
    }
    if result.g is not None:
        table |= {"hedges_g": result.g, "hedges_g_low": result.g_low, "hedges_g_high": result.g_high}
    return table
