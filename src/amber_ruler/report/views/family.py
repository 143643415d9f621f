"""Comparisons of several metrics, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler
from amber_ruler.report.views import many
from amber_ruler.report.views import parts as views_of_parts
from amber_ruler.report.views.measured import amounts, limits, ruler_row, scale_said
from amber_ruler.report.views.shared import alarms, checks_and_notes, standing_words
from amber_ruler.results import Estimate, Family, Measurement

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_ROWS = 40


def layout(result: Family) -> list[Block]:
    """One table, one ruler for each unit of measurement, sentence."""
    corrected = any(r.correction for r in result.results)
    header = [
        "comparison",
        *(["family"] if result.families else []),
        "estimate",
        "interval",
        *(["p"] if _any(result, "p_value") else []),
        *(["adjusted p"] if corrected else []),
        *views_of_parts.evidence_headers(result.results),
        *(["verdict"] if _any(result, "verdict") else []),
    ]
    cells = [_cells(result, k, corrected=corrected) for k in range(min(len(result), _MOST_ROWS))]
    left = (0, *((1,) if result.families else ()), *((len(header) - 1,) if _any(result, "verdict") else ()))
    keeps = next(
        (f" · keeps {r.correction.keeps} at {r.correction.alpha:g}" for r in result.results if r.correction), ""
    )
    serious = [c for r in result.results for c in r.checks if c.severity == "serious"]
    notes = dict.fromkeys(f"{label}: {n}" for label, r in _each(result) for n in r.notes if "ends at" in n)
    return [
        Heading(result.title, f"{result.method}{keeps}"),
        *alarms(serious),
        Grid(tuple(header), tuple(cells), left=left),
        *[block for name, ruler in panels(result) for block in (Lines((name,)), ruler)],
        *([Lines(tuple(notes))] if notes else []),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def panels(result: Family) -> list[tuple[str, Ruler]]:
    """A ruler for each unit of measurement: differences of shares on one, of each other metric on its own."""
    grouped: dict[tuple[str, str], list[tuple[str, Measurement]]] = {}
    for label, one in list(_each(result))[:_MOST_ROWS]:
        own = one.metric if one.unit in ("metric", "rate") else one.quantity
        grouped.setdefault((one.unit, own), []).append((label, one))
    found = []
    for (unit, metric), members in grouped.items():
        first = members[0][1]
        margins = {one.margin for _, one in members}
        rows_ = tuple(ruler_row(one, label) for label, one in members)
        chance = first.quantity == "superiority"
        named_unit = f"{metric} ({first.measured_in})" if first.measured_in else metric
        said = {"share": "percentage points", "ratio": "ratio", "correlation": "correlation"}.get(unit, named_unit)
        said = "chance to have more" if chance else said
        marks = "%" if chance else {"share": "pp", "ratio": "times"}.get(unit, "")
        margin = first.margin if len(margins) == 1 else None
        null: float | None = float(np.min(first.null))
        if isinstance(first, Estimate):
            said, marks = ("share", "%") if unit == "share" else (said, marks)
            null = null if first.test else None  # nothing to hold it against
        named = scale_said(first) | ({"counts": said} if len({one.metric for _, one in members}) > 1 else {})
        if len({one.good for _, one in members}) > 1:
            named["ends"] = ("less", "more")
        found.append((said, Ruler(rows_, null, margin, first.percent, marks, **named)))
    return found


def draw(result: Family, ax: Axes | None = None) -> Axes:
    """A panel for each unit of measurement."""
    from amber_ruler.report.drawing import draw_rulers, new_axes, widths_of

    parts = panels(result)
    heights = [len(ruler.rows) + 0.9 for _, ruler in parts]
    axes = new_axes(ax, height=0.8 + 0.55 * sum(heights) + 0.45 * len(heights))
    place = axes.get_subplotspec()
    if place is None or len(parts) == 1:
        ((_, ruler), *_) = parts
        return draw_rulers(ruler, ax=axes, title=result.title)
    stack = place.subgridspec(len(parts), 1, height_ratios=heights)
    axes.set_subplotspec(stack[0, 0])
    each = [axes, *(axes.figure.add_subplot(stack[k, 0]) for k in range(1, len(parts)))]
    widths = widths_of(ruler for _, ruler in parts)
    for own, (_, ruler) in zip(each, parts, strict=True):
        draw_rulers(ruler, ax=own, title=result.title if own is axes else "", widths=widths)
    return axes


def sentence(result: Family) -> str:
    """How many comparisons stand, or what each says."""
    if all(r.evidence and r.evidence.chance_best is not None for r in result.results):
        return views_of_parts.best_words(result)
    if not any(r.correction for r in result.results):
        verdicts = "; ".join(f"{label} {r.verdict}" for label, r in _each(result) if r.verdict)
        return f"{len(result):,} comparisons, none corrected for their number: {verdicts}."
    standing = [label for label, r in _each(result) if r.correction and r.correction.stands]
    return standing_words(standing, len(result), result.method)


def rows(result: Family) -> list[dict[str, Any]]:
    """A row for each comparison."""
    found = []
    for k, (label, one) in enumerate(_each(result)):
        own = {name: values[0] for name, values in many.rows(one).items()} if np.ndim(one.estimate) == 0 else {}
        family = {"family": result.families[k]} if result.families else {}
        found.append({"comparison": label, **family, **own})
    return found


def _each(result: Family) -> Sequence[tuple[str, Measurement]]:
    return tuple(zip(result.labels, result.results, strict=True))


def _cells(result: Family, k: int, *, corrected: bool) -> tuple[str, ...]:
    one = result.results[k]
    value, low, high = amounts(one)
    cells = [result.labels[k], *([result.families[k]] if result.families else []), value]
    cells.append(limits(one, low, high, ("> ", "< ")))
    if _any(result, "p_value"):
        cells.append("" if one.p_value is None else numbers.p_value(float(one.p_value), one.alpha))
    if corrected:
        part = one.correction
        cells.append("" if part is None else numbers.p_value(float(part.adjusted), part.alpha))
    cells += views_of_parts.evidence_cells(one, result.results)
    return (*cells, *((str(one.verdict),) if _any(result, "verdict") else ()))


def _any(result: Family, name: str) -> bool:
    """Whether any of the results has such a thing to tell."""
    return any(getattr(one, name) not in (None, "") for one in result.results)
