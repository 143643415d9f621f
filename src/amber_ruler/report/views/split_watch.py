"""The split of units, watched."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow

if TYPE_CHECKING:
    from amber_ruler.sequential import SplitWatch

_MOST = 15


def layout(result: SplitWatch) -> list[Block]:
    """Counts and p by moment, and the finding."""
    size = result.p_value.size
    shown = np.unique(np.round(np.linspace(0, size - 1, min(size, _MOST))).astype(int))
    lines = tuple(
        (str(k + 1), *(numbers.whole(c[k]) for c in result.counts.values()), numbers.p_value(float(result.p_value[k])))
        for k in shown
    )
    sign = palette.SEVERITIES["fine" if result.sound else "serious"]
    return [
        Heading(result.title, result.method),
        Grid(("moment", *result.counts, "p so far"), lines),
        Lines((sentence(result),), (sign,), strong=True),
    ]


def ruler(result: SplitWatch) -> Ruler:
    """Shares at the last moment less their plan, with three standard errors."""
    total = sum(float(c[-1]) for c in result.counts.values())
    lines = []
    for label, seen in result.counts.items():
        share = result.planned[label]
        gap, reach = float(seen[-1]) / total - share, 3 * (share * (1 - share) / total) ** 0.5
        lines.append(RulerRow(label, gap, gap - reach, gap + reach))
    return Ruler(tuple(lines), percent=True, unit="pp")


def sentence(result: SplitWatch) -> str:
    """The finding in one sentence."""
    last = numbers.p_value(float(result.p_value[-1]))
    p = f"p {'' if last.startswith('<') else '= '}{last}, valid at every moment"
    if result.sound:
        return f"By moment {result.p_value.size} the split is sound ({p})."
    return (
        f"Sample ratio mismatch from moment {result.moment} on ({p}): units are lost or doubled somewhere. Do not"
        " believe any difference between these variants until the cause is found."
    )


def rows(result: SplitWatch) -> dict[str, Any]:
    """Columns of a tidy frame."""
    table: dict[str, Any] = {"moment": range(1, result.p_value.size + 1), **result.counts}
    return table | {"p_value": result.p_value, "log_e": result.log_e}
