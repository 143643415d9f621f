"""Boundaries for a series of looks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.sequential import Boundaries


def layout(result: Boundaries) -> list[Block]:
    """One line a look, then what the looks do."""
    two = result.sides == 2
    harm = bool(np.any(np.isfinite(result.lower))) and not two

    def told(z: float, sign: str = "") -> str:
        return f"{sign}{z:.4f}" if np.isfinite(z) else "skipped"

    planned = result.operating[2]
    columns: dict[str, list[str]] = {"look": [str(k + 1) for k in range(result.z.size)]}
    if result.days is not None:
        columns["day"] = [f"{day:.0f}" for day in result.days]
    columns["information"] = [numbers.percent(t) for t in result.fractions]
    columns["stop at z"] = [told(z, "± " if two else "") for z in result.z]
    if harm:
        columns["harm below"] = [told(z) for z in result.lower]
    if result.futility is not None:
        columns["give up within" if two else "give up at"] = [told(z, "± " if two else "") for z in result.futility]
    columns["as a p"] = [numbers.number(p) for p in result.p]
    columns["alpha used"] = [numbers.number(a) for a in result.spent]
    if result.beta_spent is not None:
        columns["beta used"] = [numbers.number(b) for b in result.beta_spent]
    columns["ends here"] = [numbers.percent(e) for e in planned.ending]
    return [
        Heading(result.title, f"{result.method} · alpha {result.alpha:g} over all looks"),
        Grid(tuple(columns), tuple(zip(*columns.values(), strict=True))),
        Grid(("if the effect is", "crosses", "information used on average"), _effects(result)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def _effects(result: Boundaries) -> tuple[tuple[str, ...], ...]:
    named = zip(("none", "half as planned", "as planned"), result.operating, strict=True)
    return tuple((name, numbers.percent(o.power), numbers.percent(o.expected_fraction)) for name, o in named)


def ruler(result: Boundaries) -> Ruler:
    """The range of z within which the test goes on, look by look."""
    each = enumerate(zip(result.lower.tolist(), result.z.tolist(), strict=True))
    rows_ = tuple(RulerRow(f"look {k + 1}", 0.0, low, z) for k, (low, z) in each)
    return Ruler(rows_, unit="z", numbered=False)


def draw(result: Boundaries, ax: Axes | None = None) -> Axes:
    """The boundaries against information."""
    from amber_ruler.report.looks import draw_boundaries

    return draw_boundaries(result, ax)


def sentence(result: Boundaries) -> str:
    """The plan of looks in one sentence."""
    first, last = result.z[np.isfinite(result.z)][[0, -1]]
    most, mean = result.inflation - 1, 1 - result.inflation * result.operating[2].expected_fraction
    average = f"{numbers.percent(mean)} fewer" if mean >= 0 else f"{numbers.percent(-mean)} more"
    ignored = ""
    if result.alpha_if_ignored > result.alpha * (1 + 1e-9):
        ignored = f" If futility is not obeyed the error rate is {numbers.number(result.alpha_if_ignored)}."
    return (
        f"With {result.z.size} look{'s' if result.z.size > 1 else ''} the test stops for a difference beyond"
        f" z = {first:.3f} at the first and {last:.3f} at the last, and keeps its error rate of {result.alpha:g}. It"
        f" takes {numbers.percent(most)} more units at most than one with a single look, and {average} on average if"
        f" the effect is as planned.{ignored}"
    )


def rows(result: Boundaries) -> dict[str, Any]:
    """Columns of a tidy frame."""
    none, half, planned = result.operating
    columns: dict[str, Any] = {
        "look": range(1, result.z.size + 1),
        "fraction": result.fractions,
        "z": result.z,
        "lower": result.lower,
        "p": result.p,
        "spent": result.spent,
    }
    for name in ("futility", "beta_spent", "days", "units"):
        if getattr(result, name) is not None:
            columns[name] = getattr(result, name)
    named = (("none", none), ("half", half), ("planned", planned))
    return columns | {f"ending_{name}": o.ending for name, o in named}
