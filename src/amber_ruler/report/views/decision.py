"""Which variant to choose, and whether more data pay."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.bayes import Decision


def layout(result: Decision) -> list[Block]:
    """Losses of each choice, then the value of more data."""
    table = tuple(
        (label, _size(result, loss), numbers.number(result.horizon * loss), "chosen" if label == result.chosen else "")
        for label, loss in result.losses.items()
    )
    header = ("choice", "expected loss per unit", f"over {result.horizon:,.6g} units", "")
    return [
        Heading(result.title, result.method),
        Grid(header, table, left=(0, 3)),
        *([Grid(("", ""), tuple(_facts(result)))] if result.sizes.size else []),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def sentence(result: Decision) -> str:
    """The choice, and what more data would be worth."""
    loss = _size(result, result.losses[result.chosen])
    said = f"{result.metric}: choose {result.chosen}, which loses {loss} per unit on average"
    if not result.sizes.size:
        return f"{said}."
    if not result.best_n:
        return f"{said}; no more data are worth their cost."
    return f"{said}; {numbers.whole(result.best_n)} further units in each group pay best."


def rows(result: Decision) -> dict[str, Any]:
    """Columns of a tidy frame: what more data are worth, or where that is not told the losses."""
    if not result.sizes.size:
        return {"choice": list(result.losses), "expected_loss": list(result.losses.values())}
    return {"further_n": result.sizes, "worth_per_unit": result.sample_values, "worth_less_cost": result.net_values}


def ruler(result: Decision) -> Ruler:
    """What each choice loses."""
    return Ruler(
        tuple(RulerRow(label, loss, 0.0, loss) for label, loss in result.losses.items()),
        0.0,
        None,
        result.percent,
        numbered=False,
    )


def draw(result: Decision, ax: Axes | None = None) -> Axes:
    """What more data are worth against how many they are; losses where that is not told."""
    from amber_ruler.report import beliefs
    from amber_ruler.report.drawing import draw_rulers

    if not result.sizes.size:
        return draw_rulers(ruler(result), ax=ax, title=f"{result.title}: expected loss")
    return beliefs.value_by_units(result, ax)


def _facts(result: Decision) -> list[tuple[str, str]]:
    stops = "beyond what was looked at" if result.stops_paying_at is None else numbers.whole(result.stops_paying_at)
    best = max((v for v in result.net_values), default=0.0)
    return [
        ("knowing the truth would be worth, per unit", _size(result, result.perfect_information)),
        (f"and over {result.horizon:,.6g} units", numbers.number(result.horizon * result.perfect_information)),
        ("further units in each group that pay best", numbers.whole(result.best_n)),
        ("what they are worth, less their cost", numbers.number(max(float(best), 0.0))),
        ("they stop paying at", stops if result.best_n else "none pay"),
    ]


def _size(result: Decision, value: float) -> str:
    return f"{numbers.number(100 * value)} pp" if result.percent else numbers.number(value)
