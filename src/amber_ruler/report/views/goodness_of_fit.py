"""Counts of several kinds against the shares expected."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.measured import effects, p_word
from amber_ruler.report.views.shared import alarms, checks_and_notes, counted_test, level, marked, test_terms

if TYPE_CHECKING:
    from amber_ruler.measure.counts import GoodnessOfFit


def layout(result: GoodnessOfFit) -> list[Block]:
    """Title, alarms, kinds, how far each share is from what was expected, test, effect, checks, sentence."""
    table = rows(result)
    cells = tuple(
        (
            label,
            numbers.whole(result.counts[k]),
            numbers.percent(float(table["share"][k])),
            f"{numbers.number(100 * float(result.low[k]))} to {numbers.percent(float(result.high[k]))}",
            *(numbers.number(float(table[name][k])) for name in ("expected", "contribution", "residual")),
            numbers.p_value(float(result.residual_p[k]), result.alpha),
            marked(float(result.residuals[k]), float(result.residual_p[k]), result.alpha),
        )
        for k, label in enumerate(result.labels)
    )
    limits_name = f"{level(1 - result.alpha)} together"
    header = ("", "count", "share", limits_name, "expected", "adds", "residual", "adj. p", "")
    return [
        Heading(result.title, f"{result.method} · {test_terms(result.alpha, '')}"),
        *alarms(result.checks),
        Grid(header, cells, left=(0, 8)),
        ruler(result),
        Lines((counted_test(result),)),
        *effects(result.effects),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: GoodnessOfFit) -> Ruler:
    """Each share less the one expected, with simultaneous limits."""
    table = rows(result)
    bars = (
        RulerRow(label, share - goal, low - goal, high - goal)
        for label, share, goal, low, high in zip(
            result.labels, *(table[name].tolist() for name in ("share", "planned", "low", "high")), strict=True
        )
    )
    return Ruler(tuple(bars), percent=True, unit="pp")


def sentence(result: GoodnessOfFit) -> str:
    """Whether the shares are as expected, and which are not."""
    p = p_word(float(result.test.p_value), result.alpha)
    if float(result.test.p_value) >= result.alpha:
        return f"{result.title}: that the shares are others than expected is not shown (p {p})."
    off = [
        f"{'more' if r > 0 else 'fewer'} {label}"
        for label, r, q in zip(result.labels, result.residuals, result.residual_p, strict=True)
        if q < result.alpha
    ]
    where = f": {', '.join(off)}" if off else "; no single kind stands out"
    return f"{result.title}: the shares are not those expected (p {p}){where}."


def rows(result: GoodnessOfFit) -> dict[str, Any]:
    """Columns of a tidy frame, a row for each kind."""
    return {
        "kind": list(result.labels),
        "count": result.counts,
        "share": result.counts / result.counts.sum(),
        "low": result.low,
        "high": result.high,
        "planned": result.planned,
        "expected": result.expected,
        "contribution": result.contributions,
        "residual": result.residuals,
        "residual_p": result.residual_p,
    }
