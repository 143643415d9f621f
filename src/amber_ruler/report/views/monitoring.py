"""The looks so far against their boundaries."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.sequential import Monitoring


def layout(result: Monitoring) -> list[Block]:
    """One line a look, then what may be done."""
    rows_ = [
        (str(k + 1), numbers.percent(t), numbers.number(z), f"± {b:.3f}", "crossed" if abs(z) >= b else "within")
        for k, (t, z, b) in enumerate(zip(result.fractions, result.z, result.bounds, strict=True))
    ]
    return [
        Heading(result.title, f"{result.method} · alpha {result.alpha:g} over all looks"),
        Grid(("look", "information", "z", "boundary", ""), tuple(rows_), left=(0, 4)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Monitoring) -> Ruler:
    """Observed z within its boundaries, look by look."""
    return Ruler(
        tuple(
            RulerRow(f"look {k + 1}", z, -b, b)
            for k, (z, b) in enumerate(zip(result.z.tolist(), result.bounds.tolist(), strict=True))
        ),
        unit="z",
    )


def sentence(result: Monitoring) -> str:
    """What the looks allow, in one sentence."""
    look = result.z.size
    if result.crossed_at is not None:
        k = result.crossed_at
        return (
            f"At look {k} of {result.planned}, z = {result.z[k - 1]:.3f} is beyond the boundary of"
            f" {result.bounds[k - 1]:.3f}: the test may stop, a difference is shown at alpha {result.alpha:g}."
        )
    if result.decision.startswith("end"):
        return f"All {result.planned} looks are done and no boundary was crossed: no difference is shown."
    return f"After look {look} of {result.planned} no boundary is crossed: the test goes on."


def rows(result: Monitoring) -> dict[str, Any]:
    """Columns of a tidy frame."""
    return {
        "look": range(1, result.z.size + 1),
        "fraction": result.fractions,
        "z": result.z,
        "boundary": result.bounds,
        "nominal_p": result.nominal_p,
    }
