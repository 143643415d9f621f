"""Many scenarios of one plan, a line each."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.plan import PlanGrid

_MOST_LINES = 60
_SHARES = {"power", "target power"}
_HEADERS = {"target power": "target", "units in total": "in total"}


def layout(result: PlanGrid) -> list[Block]:
    """The scenarios as a table."""
    shown = _shown(result)
    size = len(next(iter(shown.values())))
    cells = [[_cell(name, v, percent=result.percent) for v in values[:_MOST_LINES]] for name, values in shown.items()]
    names = tuple(_HEADERS.get(name, name.replace("_", " ")) for name in shown)
    blocks: list[Block] = [
        Heading(result.title, result.method),
        Grid(names, tuple(zip(*cells, strict=True)), left=()),
    ]
    if size > _MOST_LINES:
        blocks.append(Lines((f"The first {_MOST_LINES} of {size:,} scenarios; to_frame() has them all.",)))
    return [*blocks, *checks_and_notes(result), Lines((sentence(result),), strong=True)]


def sentence(result: PlanGrid) -> str:
    """What the scenarios span, in one sentence."""
    name = {"sample size": "units in total", "power": "power"}.get(result.question, "effect")
    found = [v for v in result.columns[name] if v is not None]
    size = len(result.columns[name])
    lost = f" {size - len(found):,} of them can't be reached." if len(found) < size else ""
    if not found:
        return f"None of the {size:,} scenarios can be reached."
    low, high = (_cell(name, v, percent=result.percent) for v in (min(found), max(found)))
    units = " units in total" if result.question == "sample size" else ""
    return f"Over {size:,} scenarios the {result.question} runs from {low} to {high}{units}.{lost}"


def rows(result: PlanGrid) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {
        name.replace(" ", "_"): [np.nan if v is None else v for v in values] for name, values in result.columns.items()
    }


def draw(result: PlanGrid, ax: Axes | None = None) -> Axes:
    """Power against units for several effects, or the detectable effect against weeks or units."""
    from amber_ruler.report import curves

    if result.question == "detectable effect":
        return curves.effect_by_time(result, ax)
    return curves.scenarios(result, ax)


def _shown(result: PlanGrid) -> dict[str, tuple[float | None, ...]]:
    """The columns of the table: equal groups once, and no power beside a target that it equals."""
    shown = dict(result.columns)
    first = next((name for name in shown if name == "treatment" or name.startswith("each of")), None)
    if first is not None and shown.get("control") == shown[first]:
        del shown["control"]
        shown = {"each group" if name == first else name: values for name, values in shown.items()}
    if result.question == "detectable effect":
        del shown["power"]
    if "n" in result.varied:
        shown.pop("each group", None)
    return shown


def _cell(name: str, value: float | None, *, percent: bool) -> str:
    if value is None:
        return "out of reach"
    if name in _SHARES:
        return numbers.percent(value)
    if name in {"n", "treatment", "control", "units in total", "on average", "days", "weeks"} or name.startswith(
        "each"
    ):
        return numbers.whole(value)
    if percent and name in {"effect", "baseline", "treatment share"}:
        return f"{numbers.number(100 * value)}{' pp' if name == 'effect' else '%'}"
    return numbers.percent(value) if name == "lift" else numbers.number(value)
