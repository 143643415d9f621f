"""What looks that stop by evidence do."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.sequential import StoppingByEvidence

_TRUTHS = {"none": "no effect", "design": "the one named", "prior": "from the prior"}
_MOST = 14


def layout(result: StoppingByEvidence) -> list[Block]:
    """What happens under each truth, then the boundaries."""
    lines = tuple(
        (
            _TRUTHS[one.truth],
            numbers.percent(float(one.for_effect.sum())),
            numbers.percent(float(one.for_none.sum())),
            numbers.percent(one.undecided),
            numbers.percent(one.misleading),
            numbers.percent(one.expected_fraction),
        )
        for one in (result.none, result.design, result.prior)
        if one is not None
    )
    header = ("effect", "stops for one", "for none", "neither", "misleads", "information used")
    looks = []
    size = result.fractions.size
    for k in np.unique(np.round(np.linspace(0, size - 1, min(size, _MOST))).astype(int)):
        t, none = result.fractions[k], "-"
        if result.none_low is not None and result.none_high is not None and np.isfinite(result.none_high[k]):
            none = f"{numbers.fixed(result.none_low[k], 3)} to {numbers.fixed(result.none_high[k], 3)}"
        ends = numbers.fixed(result.low[k], 3), numbers.fixed(result.high[k], 3)
        looks.append((str(k + 1), numbers.percent(t), *ends, none))
    return [
        Heading(result.title, result.method),
        Grid(header, lines),
        Grid(("look", "information", "effect below z", "above z", "none between"), tuple(looks)),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: StoppingByEvidence) -> Ruler:
    """The z within which the test goes on or shows none, look by look."""
    each = enumerate(zip(result.low.tolist(), result.high.tolist(), strict=True))
    return Ruler(tuple(RulerRow(f"look {k + 1}", 0.0, low, high) for k, (low, high) in each), unit="z", numbered=False)


def sentence(result: StoppingByEvidence) -> str:
    """How often it misleads, in one sentence."""
    named = ""
    if result.design is not None:
        named = f" Under the effect named it shows one in {numbers.percent(float(result.design.for_effect.sum()))}."
    return (
        f"Where there is no effect, this stops for one in {numbers.percent(result.none.misleading)} of tests; where one"
        f" is drawn from the prior, it misleads in {numbers.percent(result.prior.misleading)}.{named}"
    )


def rows(result: StoppingByEvidence) -> dict[str, Any]:
    """Columns of a tidy frame."""
    table: dict[str, Any] = {
        "look": range(1, result.fractions.size + 1),
        "fraction": result.fractions,
        "low": result.low,
        "high": result.high,
    }
    for one in (result.none, result.design, result.prior):
        if one is not None:
            table |= {f"for_effect_{one.truth}": one.for_effect, f"for_none_{one.truth}": one.for_none}
    return table
