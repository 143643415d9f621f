"""Boundaries for a series of looks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.sequential import Boundaries


def layout(result: Boundaries) -> list[Block]:
    """One line a look."""
    sign = "± " if result.sides == 2 else ""
    harm = bool(np.any(np.isfinite(result.lower))) and result.sides == 1

    def told(z: float) -> str:
        return f"{z:.4f}" if np.isfinite(z) else "skipped"

    rows_ = []
    each = zip(result.fractions, result.z, result.lower, result.p, result.spent, strict=True)
    for k, (t, z, low, p, used) in enumerate(each, start=1):
        stop = [f"{sign if np.isfinite(z) else ''}{told(z)}", *([told(low)] if harm else [])]
        rows_.append((str(k), numbers.percent(t), *stop, numbers.number(p), numbers.number(used)))
    header = ("look", "information", "stop at z", *(["harm below"] if harm else []), "as a p", "alpha used")
    return [
        Heading(result.title, f"{result.method} · alpha {result.alpha:g} over all looks"),
        Grid(header, tuple(rows_)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Boundaries) -> Ruler:
    """The range of z within which the test goes on, look by look."""
    each = enumerate(zip(result.lower.tolist(), result.z.tolist(), strict=True))
    rows_ = tuple(RulerRow(f"look {k + 1}", 0.0, low, z) for k, (low, z) in each)
    return Ruler(rows_, unit="z")


def sentence(result: Boundaries) -> str:
    """The plan of looks in one sentence."""
    first, last = result.z[np.isfinite(result.z)][[0, -1]]
    return (
        f"With {result.z.size} looks the test stops for a difference beyond z = {first:.3f} at the first"
        f" and {last:.3f} at the last, and keeps its error rate of {result.alpha:g}."
    )


def rows(result: Boundaries) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {
        "look": range(1, result.z.size + 1),
        "fraction": result.fractions,
        "z": result.z,
        "lower": result.lower,
        "p": result.p,
        "spent": result.spent,
    }
