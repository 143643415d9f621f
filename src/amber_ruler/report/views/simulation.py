"""How often the real test rejected, beside what the formula says."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.plan import Simulation

_WIDE = 1.96  # Monte-Carlo errors to each side


def layout(result: Simulation) -> list[Block]:
    """Both rates, and the Monte-Carlo interval on a ruler around the formula's power."""
    facts = (
        ("rejected", numbers.percent(result.rate, digits=4)),
        ("Monte-Carlo error", f"{numbers.number(100 * result.error)} pp"),
        ("power by the formula", numbers.percent(result.power, digits=4)),
        ("seed", "of the caller's generator" if result.seed is None else str(result.seed)),
    )
    return [
        Heading(result.title, result.method),
        Grid(("", ""), facts),
        ruler(result),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Simulation) -> Ruler:
    """The rate of rejection with its Monte-Carlo interval; the zero mark is the formula's power."""
    reach = _WIDE * result.error
    row = RulerRow("rejected", result.rate, result.rate - reach, result.rate + reach)
    return Ruler((row,), centre=result.power, percent=True, unit="%")


def sentence(result: Simulation) -> str:
    """Both numbers in one sentence."""
    away = abs(result.rate - result.power) / result.error
    verdict = "they agree" if away < 3 else "they differ by more than chance"
    error = numbers.number(100 * result.error)
    return (
        f"Of {result.runs:,} simulated tests {numbers.percent(result.rate)} rejected (± {error} pp Monte-Carlo error);"
        f" the formula says {numbers.percent(result.power)}: {verdict}."
    )


def rows(result: Simulation) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {name: [getattr(result, name)] for name in ("rate", "error", "power", "runs", "n_total", "effect", "seed")}
