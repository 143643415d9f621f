"""What a plan answers."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes, test_terms

if TYPE_CHECKING:
    from amber_ruler.plan import PlanAnswer


def layout(result: PlanAnswer) -> list[Block]:
    """Units by group and in total, the effect on the ruler, power, assumptions."""
    units = (
        ("treatment", numbers.whole(result.n_treatment)),
        ("control", numbers.whole(result.n_control)),
        ("in total", numbers.whole(result.n_total)),
    )
    facts = [("power", numbers.percent(result.power)), ("effect", _amount(result, result.effect))]
    facts.append(("interval to be expected", f"± {_amount(result, result.half_width)}"))
    facts += [(name, _assumption(name, value)) for name, value in result.design.items()]
    return [
        Heading(result.title, f"{result.method} · {test_terms(result.alpha, result.alternative)}"),
        Grid(("", "units"), units),
        ruler(result),
        Grid(("", ""), tuple(facts)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: PlanAnswer) -> Ruler:
    """The effect, with the interval to be expected around it if it is real."""
    row = RulerRow("effect", result.effect, result.effect - result.half_width, result.effect + result.half_width)
    return Ruler((row,), percent=result.percent, unit="pp" if result.percent else "")


def sentence(result: PlanAnswer) -> str:
    """The plan in one sentence."""
    sizes = (
        f"{numbers.whole(result.n_control)} units in each group"
        if result.n_treatment == result.n_control
        else f"{numbers.whole(result.n_treatment)} units in treatment and {numbers.whole(result.n_control)} in control"
    )
    return (
        f"{sizes} ({numbers.whole(result.n_total)} in total) find a difference of {_amount(result, result.effect)}"
        f" with a power of {numbers.percent(result.power)} ({test_terms(result.alpha, result.alternative)})."
    )


def rows(result: PlanAnswer) -> dict[str, Any]:
    """Columns of a tidy frame."""
    names = ("question", "n_treatment", "n_control", "n_total", "effect", "power", "alpha", "alternative")
    return {name: [getattr(result, name)] for name in names}


def _amount(result: PlanAnswer, value: float) -> str:
    return f"{numbers.number(100 * value)} pp" if result.percent else numbers.number(value)


def _assumption(name: str, value: Any) -> str:
    shares = {"baseline", "treatment share", "lift"}
    return numbers.percent(value) if name in shares else numbers.number(value)
