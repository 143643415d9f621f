"""A covariate-adjusted difference beside the raw one."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Lines, Ruler
from amber_ruler.report.numbers import safe
from amber_ruler.report.views import comparison
from amber_ruler.report.views.shared import alarms, checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.adjust import Adjusted


def layout(result: Adjusted) -> list[Block]:
    """Both intervals on one ruler, then what the covariate was worth."""
    rows = []
    for name, one in (("raw", result.raw), ("adjusted", result)):
        value, low, high = comparison.amounts(one)
        se = sum(float(g.se) ** 2 for g in one.groups) ** 0.5
        p = numbers.p_value(float(one.p_value or 0), one.alpha)
        rows.append((name, value, low, high, numbers.number(se), p))
    return [
        comparison.heading(result),
        *alarms(result.checks),
        Grid(("", safe(f"{result.treatment} − {result.control}"), "low", "high", "se", "p"), tuple(rows)),
        ruler(result),
        Lines((_worth(result),)),
        *comparison.effects(result.effects, result.alpha, result.alternative),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Adjusted) -> Ruler:
    """Raw and adjusted under each other."""
    both = (comparison.ruler_row(result.raw, "raw"), comparison.ruler_row(result, "adjusted"))
    return Ruler(both, float(result.null), result.margin, result.percent)


def sentence(result: Adjusted) -> str:
    """The adjusted answer in one sentence."""
    return f"Adjusted for {safe(result.covariate)}, {comparison.sentence(result)}"


def rows(result: Adjusted) -> dict[str, Any]:
    """Columns of a tidy frame: raw, then adjusted."""
    raw, own = comparison.rows(result.raw), comparison.rows(result)
    return {"kind": ["raw", "adjusted"], **{name: [raw[name][0], own[name][0]] for name in own if name in raw}}


def _worth(result: Adjusted) -> str:
    return (
        f"correlation {numbers.number(result.correlation)} within variants: {safe(result.covariate)} takes away"
        f" {numbers.percent(result.variance_removed)} of the variance, worth {numbers.whole(result.units_saved)}"
        " further units"
    )
