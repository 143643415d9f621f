"""Many p-values, corrected."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.numbers import safe
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.multiplicity import AdjustedPValues

_MOST_ROWS = 40


def layout(result: AdjustedPValues) -> list[Block]:
    """One line a comparison."""
    rows_ = [
        (safe(label), numbers.p_value(p, result.alpha), numbers.p_value(q, result.alpha), "stands" if stands else "")
        for label, p, q, stands in zip(
            result.labels, result.p_values.tolist(), result.adjusted.tolist(), result.claims.tolist(), strict=True
        )
    ]
    return [
        Heading(result.title, f"{result.method} · keeps {result.keeps} at {result.alpha:g}"),
        Grid(("comparison", "p", "adjusted p", ""), tuple(rows_[:_MOST_ROWS]), left=(0, 3)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: AdjustedPValues) -> Ruler:
    """Raw to adjusted p, against alpha."""
    pairs = zip(result.labels, result.p_values.tolist(), result.adjusted.tolist(), strict=True)
    return Ruler(tuple(RulerRow(safe(label), q, p, q) for label, p, q in pairs), centre=result.alpha, unit="p")


def sentence(result: AdjustedPValues) -> str:
    """How many comparisons stand."""
    standing = [safe(label) for label, stands in zip(result.labels, result.claims, strict=True) if stands]
    named = f": {'; '.join(standing)}" if 0 < len(standing) <= 6 else ""
    return f"{len(standing):,} of {len(result.labels):,} comparisons stand after the {result.method} correction{named}."


def rows(result: AdjustedPValues) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {
        "comparison": list(result.labels),
        "p_value": result.p_values,
        "adjusted": result.adjusted,
        "stands": result.claims,
    }
