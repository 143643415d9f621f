"""Power over several comparisons."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.plan import FamilyPower


def layout(result: FamilyPower) -> list[Block]:
    """Chances of any, all and each, and of a false alarm."""
    facts = [
        *([("units", ", ".join(numbers.whole(n) for n in result.units))] if result.units else []),
        ("any is found", numbers.percent(result.any)),
        ("all are found", numbers.percent(result.all)),
        *((f"comparison {k + 1} is found", numbers.percent(p)) for k, p in enumerate(result.each)),
        ("found on average", numbers.number(result.expected)),
        ("any false alarm", numbers.percent(result.error)),
        ("alpha of each comparison", numbers.number(result.single_alpha)),
        ("critical value", numbers.fixed(result.critical, 3)),
    ]
    return [
        Heading(result.title, f"{result.method} · alpha {result.alpha:.4g}"),
        Grid(("", ""), tuple(facts)),
        ruler(result),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: FamilyPower) -> Ruler:
    """Every chance on one scale; its zero mark is the chance of a false alarm."""
    found = [("any", result.any), ("all", result.all)]
    found += [(f"comparison {k + 1}", p) for k, p in enumerate(result.each)]
    rows = tuple(RulerRow(name, p, p, p) for name, p in found)
    return Ruler(rows, centre=result.error, percent=True, unit="%")


def sentence(result: FamilyPower) -> str:
    """The chances in one sentence."""
    found, every = numbers.percent(result.any), numbers.percent(result.all)
    return (
        f"Of {len(result.each)} effects at least one is found with a chance of {found}, and all with {every}; if there"
        f" were none, a false alarm would come with {numbers.percent(result.error)}."
    )


def rows(result: FamilyPower) -> dict[str, Any]:
    """Columns of a tidy frame: a row for each comparison."""
    count = len(result.each)
    return {
        "comparison": list(range(1, count + 1)),
        "power": list(result.each),
        "any": [result.any] * count,
        "all": [result.all] * count,
        "error": [result.error] * count,
    }
