"""Many p-values, corrected."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from amber_ruler.multiplicity import Corrected
from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes, standing_words

_MOST_ROWS = 40


def layout(result: Corrected) -> list[Block]:
    """One line a comparison, under its family where there are several."""
    header = ["comparison", *(["family"] if result.families else []), "p", "adjusted p", ""]
    columns: list[Sequence[str]] = [list(result.labels)]
    if result.families:
        columns.append(list(result.families))
    columns += [[numbers.p_value(p, result.alpha) for p in v.tolist()] for v in (result.p_values, result.adjusted)]
    columns.append(["stands" if stands else "" for stands in result.claims])
    rows_ = tuple(zip(*columns, strict=True))[:_MOST_ROWS]
    each = "in each family at" if result.families else "at"
    return [
        Heading(result.title, f"{result.method} · keeps {result.keeps} {each} {result.alpha:g}"),
        Grid(tuple(header), rows_, left=(0, 1, 4) if result.families else (0, 3)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Corrected) -> Ruler:
    """From raw to adjusted p, against alpha."""
    pairs = zip(result.labels, result.p_values.tolist(), result.adjusted.tolist(), strict=True)
    return Ruler(
        tuple(RulerRow(label, q, p, q) for label, p, q in pairs), centre=result.alpha, unit="p", numbered=False
    )


def sentence(result: Corrected) -> str:
    """How many comparisons stand."""
    standing = [label for label, stands in zip(result.labels, result.claims, strict=True) if stands]
    return standing_words(standing, len(result.labels), result.method)


def rows(result: Corrected) -> dict[str, Any]:
    """Columns of a tidy frame."""
    table: dict[str, Any] = {
        "comparison": list(result.labels),
        "p_value": result.p_values,
        "adjusted": result.adjusted,
        "stands": result.claims,
    }
    if result.families:
        table["family"] = list(result.families)
    return table
