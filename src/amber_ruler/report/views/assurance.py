"""Power averaged over a prior of the effect."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.plan import Assurance


def layout(result: Assurance) -> list[Block]:
    """Units, assurance and its ceiling."""
    facts = [
        *((f"units in {name}" if name != "units" else name, numbers.whole(v)) for name, v in result.units.items()),
        ("assurance", numbers.percent(result.assurance)),
        ("with units without end", numbers.percent(result.ceiling)),
    ]
    counted = (
        "counted: an effect found in its true direction" if result.direction == "right" else "counted: any effect found"
    )
    return [
        Heading(result.title, f"{result.method} · prior {result.prior} · {counted}"),
        Grid(("", ""), tuple(facts)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def sentence(result: Assurance) -> str:
    """The chance in one sentence."""
    units = " and ".join(
        f"{numbers.whole(v)} in {name}" if name != "units" else numbers.whole(v) for name, v in result.units.items()
    )
    return (
        f"With {units} the test finds an effect with a probability of {numbers.percent(result.assurance)} over what is"
        f" believed of it, and of {numbers.percent(result.ceiling)} with units without end."
    )


def rows(result: Assurance) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {"n": result.curve_n, "assurance": result.curve, "ceiling": result.ceiling}


def draw(result: Assurance, ax: Axes | None = None) -> Axes:
    """Assurance against units."""
    from amber_ruler.report import beliefs

    return beliefs.assurance_by_units(result, ax)
