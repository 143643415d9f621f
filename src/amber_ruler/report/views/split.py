"""The split of units between variants."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.samples.variants import printed

if TYPE_CHECKING:
    from amber_ruler.tables import SplitCheck


def layout(result: SplitCheck) -> list[Block]:
    """Counts seen and expected, the test, the finding."""
    names = printed(result.counts, result.by)
    rows_ = [
        (
            names[label],
            numbers.whole(seen),
            numbers.whole(round(result.expected[label])),
            numbers.percent(seen / sum(result.counts.values())),
            numbers.percent(result.planned[label]),
        )
        for label, seen in result.counts.items()
    ]
    rows_.append(("in total", numbers.whole(sum(result.counts.values())), "", "", ""))
    sign = palette.SEVERITIES["fine" if result.sound else "serious"]
    return [
        Heading(result.title, result.method),
        Grid(("", "seen", "expected", "share", "planned"), tuple(rows_)),
        Lines((sentence(result),), (sign,), strong=True),
    ]


def ruler(result: SplitCheck) -> Ruler:
    """Shares less their plan, with three standard errors."""
    total, names = sum(result.counts.values()), printed(result.counts, result.by)
    rows_ = []
    for label, seen in result.counts.items():
        gap, share = seen / total - result.planned[label], result.planned[label]
        reach = 3 * (share * (1 - share) / total) ** 0.5
        rows_.append(RulerRow(names[label], gap, gap - reach, gap + reach))
    return Ruler(tuple(rows_), percent=True, unit="pp")


def sentence(result: SplitCheck) -> str:
    """The finding in one sentence."""
    test = f"chi-square {numbers.number(result.statistic)}, df {result.df}, p {numbers.p_value(result.p_value)}"
    if result.sound:
        return f"The split is sound: the counts fit the plan ({test})."
    return (
        f"Sample ratio mismatch ({test}): units are lost or doubled somewhere."
        " Do not believe any difference between these variants until the cause is found."
    )


def rows(result: SplitCheck) -> dict[str, Any]:
    """Columns of a tidy frame."""
    labels = list(result.counts)
    return {
        "variant": labels,
        "seen": [result.counts[v] for v in labels],
        "expected": [result.expected[v] for v in labels],
        "planned": [result.planned[v] for v in labels],
    }
