"""A quantity of one group."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.numbers import safe
from amber_ruler.report.views import comparison
from amber_ruler.report.views.shared import alarms, checks_and_notes, test_terms

if TYPE_CHECKING:
    from amber_ruler.results import Estimate

_MOST_ROWS = 20


def layout(result: Estimate) -> list[Block]:
    """Title, alarms, the group, estimate, ruler, test, effects, checks, notes, sentence."""
    if np.ndim(result.estimate):
        return _many(result)
    value, low, high = comparison.amounts(result)
    return [
        comparison.heading(result),
        *alarms(result.checks),
        *([comparison.groups(result)] if result.groups else []),
        Lines((f"{safe(result.label)}  {value}   {comparison.limits_in_words(result, low, high)}",), strong=True),
        ruler(result),
        *comparison.test(result),
        *comparison.effects(result.effects, result.alpha, result.alternative),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Estimate) -> Ruler:
    """The interval on the ruler, with the value tested where there is one."""
    centre = None if result.null is None else float(np.min(result.null))
    if np.ndim(result.estimate):
        table = rows(result)
        each = zip(*(table[name].tolist() for name in ("estimate", "low", "high")), strict=True)
        bars = tuple(RulerRow(str(k), *values) for k, values in enumerate(each, start=1))[:_MOST_ROWS]
    else:
        bars = (comparison.ruler_row(result, result.label),)
    return Ruler(bars, centre, result.margin, result.percent, "%" if result.percent else "")


def sentence(result: Estimate) -> str:
    """The answer in one sentence."""
    if np.ndim(result.estimate):
        return f"{np.size(result.estimate):,} estimates of {safe(result.metric)}."
    value, low, high = comparison.amounts(result)
    said = f"{safe(result.title)} is {value} ({comparison.limits_in_words(result, low, high)}"
    if result.p_value is None or result.null is None:
        return f"{said})."
    null = numbers.percent(float(result.null)) if result.percent else numbers.number(float(result.null))
    p = comparison.p_word(float(result.p_value), result.alpha)
    differs = "differs from" if float(result.p_value) < result.alpha else "is in line with"
    return f"{said}), which {differs} {null} (p {p})."


def rows(result: Estimate) -> dict[str, Any]:
    """Columns of a tidy frame."""
    shape = np.shape(result.estimate) or (1,)
    found: dict[str, Any] = {
        "metric": result.metric,
        "label": result.label,
        "estimate": result.estimate,
        "low": result.interval.low,
        "high": result.interval.high,
        "level": result.interval.level,
        "p_value": np.nan if result.p_value is None else result.p_value,
    }
    return {name: np.broadcast_to(np.asarray(value), shape).ravel() for name, value in found.items()}


def _many(result: Estimate) -> list[Block]:
    table = rows(result)
    factor = 100.0 if result.percent else 1.0
    body = []
    for k in range(min(len(table["estimate"]), _MOST_ROWS)):
        texts = numbers.together(*(float(table[name][k]) * factor for name in ("estimate", "low", "high")))
        p = "" if result.p_value is None else numbers.p_value(float(table["p_value"][k]), result.alpha)
        body.append((str(k + 1), *texts, p))
    unit = ", %" if result.percent else ""
    return [
        Heading(safe(result.title), f"{result.method} · {test_terms(result.alpha, result.alternative)}"),
        *alarms(result.checks),
        Grid(("", f"estimate{unit}", "low", "high", "p"), tuple(body)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]
