"""The true error of uncorrected looks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.sequential import Peeking


def layout(result: Peeking) -> list[Block]:
    """One line a look."""
    rows_ = tuple(
        (str(k + 1), numbers.percent(t), numbers.percent(e), f"{e / result.alpha:.2f} times")
        for k, (t, e) in enumerate(zip(result.fractions, result.error, strict=True))
    )
    return [
        Heading(result.title, result.method),
        Grid(("look", "information", "error so far", f"of {result.alpha:g}"), rows_),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Peeking) -> Ruler:
    """What was asked for, and the error by each look."""
    rows_ = tuple(
        RulerRow(f"look {k + 1}", e, result.alpha, e, beside=(("error so far", numbers.percent(e)),))
        for k, e in enumerate(result.error.tolist())
    )
    counts = "chance of at least one false claim by then"
    return Ruler(rows_, result.alpha, percent=True, unit="%", numbered=False, counts=counts)


def sentence(result: Peeking) -> str:
    """The price in one sentence."""
    size = result.error.size
    looks = f"{size} look{'s' if size > 1 else ''}"
    error = numbers.percent(float(result.error[-1]))
    each = numbers.percent(result.alpha)
    return f"{looks} at {each} each make an error rate of {error} where there is no difference."


def rows(result: Peeking) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {"look": range(1, result.error.size + 1), "fraction": result.fractions, "error": result.error}
