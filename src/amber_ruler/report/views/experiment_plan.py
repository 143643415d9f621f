"""How many units an experiment takes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.plan import sentence as planned_sentence
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.experiment import ExperimentPlan


def layout(result: ExperimentPlan) -> list[Block]:
    """A line a metric, and which one drives."""
    told = [
        (
            name,
            numbers.whole(one.n_total),
            numbers.percent(one.power or 0.0),
            "drives the test" if name == result.driving else "",
        )
        for name, one in result.answers.items()
    ]
    return [
        Heading(result.title, result.method),
        Grid(("metric", "units in all", "power", ""), tuple(told), left=(0, 3)),
        Lines(tuple(f"{name}: {planned_sentence(one)}" for name, one in result.answers.items())),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: ExperimentPlan) -> Ruler:
    """Units of each metric."""
    rows_ = tuple(
        RulerRow(name, float(one.n_total), 0.0, float(one.n_total), beside=(("units", numbers.whole(one.n_total)),))
        for name, one in result.answers.items()
    )
    return Ruler(rows_, centre=0.0, numbered=False, counts="units in all variants")


def sentence(result: ExperimentPlan) -> str:
    """The size of the whole, in one sentence."""
    days = "" if result.days is None else f", which takes {result.days:,} days"
    power = ""
    if result.power_of_all is not None and len(result.answers) > 1:
        least = numbers.percent(result.power_of_all)
        power = f" All {len(result.answers)} together show what they are to show with at least {least}."
    return f"{result.driving} drives the test: {result.n_total:,} units in all variants{days}.{power}"


def rows(result: ExperimentPlan) -> list[dict[str, Any]]:
    """A row for each metric."""
    return [
        {
            "metric": name,
            "n_total": one.n_total,
            "power": one.power,
            "effect": one.effect,
            "drives": name == result.driving,
        }
        for name, one in result.answers.items()
    ]
