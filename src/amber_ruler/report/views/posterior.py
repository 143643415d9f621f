"""A posterior difference."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler
from amber_ruler.report.numbers import safe
from amber_ruler.report.views import comparison
from amber_ruler.report.views.shared import alarms, checks_and_notes, level

if TYPE_CHECKING:
    from amber_ruler.bayes import Posterior


def layout(result: Posterior) -> list[Block]:
    """Groups, ruler, chances, evidence."""
    value, low, high = comparison.amounts(result)
    name = safe(f"{result.treatment} − {result.control}")
    facts = [("chance that treatment is better", _chance(result.chance_better))]
    if result.expected_loss is not None:
        facts.append(("expected loss if treatment is chosen", _loss(result)))
    if result.log_bayes_factor is not None:
        facts.append(("Bayes factor for a difference", factor_text(result.log_bayes_factor)))
    return [
        Heading(safe(result.title), f"{result.method} · prior {result.prior}", str(result.verdict)),
        *alarms(result.checks),
        comparison.groups(result),
        Lines((f"{name}  {value}   {_interval(result, low, high)}",), strong=True),
        ruler(result),
        Grid(("", ""), tuple(facts)),
        *comparison.effects(result.effects, result.alpha, result.alternative),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Posterior) -> Ruler:
    """The posterior interval on the ruler."""
    return comparison.ruler(result)


def sentence(result: Posterior) -> str:
    """The posterior in one sentence."""
    value, low, high = comparison.amounts(result)
    said = (
        f"{safe(result.metric)}: {safe(result.treatment)} is better than {safe(result.control)} with a probability of"
        f" {_chance(result.chance_better)}; the difference is about {value} ({_interval(result, low, high)})"
    )
    if result.log_bayes_factor is None:
        return f"{said}."
    return f"{said}; the data are {evidence_words(result.log_bayes_factor)}."


def rows(result: Posterior) -> dict[str, Any]:
    """Columns of a tidy frame."""
    table = comparison.rows(result)
    del table["p_value"]
    extra = ("chance_better", "expected_loss", "bayes_factor")
    return table | {name: [getattr(result, name)] for name in extra}


def factor_text(log_factor: float) -> str:
    """A Bayes factor, as a power of ten where it is beyond a float."""
    if abs(log_factor) < 650:
        return numbers.number(math.exp(log_factor))
    return f"10^{log_factor / math.log(10):.1f}"


def evidence_words(log_factor: float) -> str:
    """Which way the evidence points, and how far."""
    way = "a difference than under none" if log_factor >= 0 else "no difference than under one"
    return f"{factor_text(abs(log_factor))} times likelier under {way}"


def _interval(result: Posterior, low: str, high: str) -> str:
    return f"{level(result.interval.level)} posterior interval {low} to {high}"


def _chance(chance: float) -> str:
    """A probability that is never rounded to certainty."""
    if chance > 0.9999:
        return "over 99.99%"
    if chance < 0.0001:
        return "under 0.01%"
    return f"{100 * chance:.2f}%"


def _loss(result: Posterior) -> str:
    loss = float(result.expected_loss or 0)
    return f"{numbers.number(100 * loss)} pp" if result.percent else numbers.number(loss)
