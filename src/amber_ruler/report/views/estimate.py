"""A quantity of one group."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Lines, Ruler
from amber_ruler.report.views import many
from amber_ruler.report.views import parts as views_of_parts
from amber_ruler.report.views.measured import (
    amounts,
    effects,
    groups,
    heading,
    limits_in_words,
    p_word,
    ruler_row,
    scale_said,
    test,
)
from amber_ruler.report.views.shared import alarms, checks_and_notes
from amber_ruler.results import Estimate

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def layout(result: Estimate) -> list[Block]:
    """Title, alarms, the group, estimate, ruler, test, parts, effects, checks, notes, sentence."""
    if np.ndim(result.estimate):
        return many.layout(result)
    value, low, high = amounts(result)
    return [
        heading(result),
        *alarms(result.checks),
        *([groups(result)] if result.groups else []),
        Lines((f"{result.label}  {value}   {limits_in_words(result, low, high)}",), strong=True),
        ruler(result),
        *test(result),
        *views_of_parts.blocks(result),
        *effects(result.effects, result.alternative),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Estimate) -> Ruler:
    """The interval on the ruler, with the value tested where there is one."""
    if np.ndim(result.estimate):
        return many.ruler(result)
    centre = None if result.test is None and result.evidence is None else float(result.null)
    row = ruler_row(result, result.label)
    unit = "%" if result.percent else ""
    return Ruler((row,), centre, result.margin, result.percent, unit, **scale_said(result))


def caption(result: Estimate) -> tuple[str, str]:
    """A figure's title, and what its data make of a prior."""
    return result.title, "" if np.ndim(result.estimate) else views_of_parts.weighed(result)


def draw(result: Estimate, ax: Axes | None = None) -> Axes:
    """What a part has to show, or the ruler."""
    from amber_ruler.report.drawing import draw_rulers

    drawn = views_of_parts.figure(result, ruler, ax)
    return draw_rulers(ruler(result), ax=ax, title=result.title) if drawn is None else drawn


def sentence(result: Estimate) -> str:
    """The answer in one sentence."""
    if np.ndim(result.estimate):
        return many.sentence(result)
    value, low, high = amounts(result)
    said = f"{result.title} is {value} ({limits_in_words(result, low, high)}"
    clauses = "".join(views_of_parts.clauses(result))
    if result.p_value is None:
        return f"{said}){clauses}."
    null = numbers.percent(float(result.null)) if result.percent else numbers.number(float(result.null))
    p = p_word(float(result.p_value), result.alpha)
    differs = "differs from" if float(result.p_value) < result.alpha else "is in line with"
    return f"{said}), which {differs} {null} (p {p}){clauses}."


def rows(result: Estimate) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return many.rows(result)
