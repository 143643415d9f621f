"""What an earlier study says of the effect to plan for."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes, level

if TYPE_CHECKING:
    from amber_ruler.plan import EarlierStudy


def layout(result: EarlierStudy) -> list[Block]:
    """The estimate on its ruler, its cautious end, and the customary word with a caution."""
    said = _limits(result)
    facts = [
        ("as published", said[0]),
        (f"interval ({level(result.estimate.interval.level)})", f"{said[1]} to {said[2]}"),
        (f"{result.design.effect_name} as published", _amount(result, result.effect)),
        ("its cautious end", _amount(result, result.cautious) if result.cautious else "no effect"),
    ]
    named = "would not even be called small" if result.word == "less than small" else f"would be called {result.word}"
    word = f"By custom it {named}. That is a habit of words: plan for a difference that would matter here."
    return [
        Heading(result.title, result.source),
        ruler(result),
        Grid(("", ""), tuple(facts)),
        Lines((word,)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: EarlierStudy) -> Ruler:
    """The published effect with its interval."""
    found = result.estimate
    centre = 1.0 if found.label == "odds ratio" else 0.0
    row = RulerRow(found.label, float(found.value), float(found.interval.low), float(found.interval.high))
    return Ruler((row,), centre=centre, percent=result.percent, unit="pp" if result.percent else "")


def sentence(result: EarlierStudy) -> str:
    """What to plan for, in one sentence."""
    if not result.cautious:
        return "The earlier study does not tell its effect from none: plan for the smallest effect that matters."
    return (
        f"Published effects run large: plan for {_amount(result, result.cautious)}, the cautious end of the interval,"
        f" rather than for {_amount(result, result.effect)}, or for the smallest effect that matters."
    )


def rows(result: EarlierStudy) -> dict[str, Any]:
    """Columns of a tidy frame."""
    found = result.estimate
    return {
        "effect": [found.label],
        "value": [found.value],
        "low": [found.interval.low],
        "high": [found.interval.high],
        "cautious": [result.cautious],
        "word": [result.word],
    }


def _limits(result: EarlierStudy) -> list[str]:
    found = result.estimate
    factor = 100 if result.percent else 1
    values = (float(found.value) * factor, float(found.interval.low) * factor, float(found.interval.high) * factor)
    return [f"{text} pp" if result.percent else text for text in numbers.together(*values)]


def _amount(result: EarlierStudy, value: float) -> str:
    return f"{numbers.number(100 * value)} pp" if result.percent else numbers.number(value)
