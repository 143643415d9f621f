"""What a table holds, and whether it can be believed."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import alarms, checks_and_notes
from amber_ruler.samples.variants import printed

if TYPE_CHECKING:
    from amber_ruler.tables import Findings

_ALARM_Z = 3.29  # two-sided 1 in 1,000


def layout(result: Findings) -> list[Block]:
    """Serious findings first, then the counts, then everything else that was looked at."""
    names = printed(result.counts, result.by)
    counts = [(names[label], numbers.whole(n)) for label, n in result.counts.items()]
    if len(counts) > 1:
        counts.append(("in total", numbers.whole(sum(result.counts.values()))))
    what = "rows" if result.units is None else "units"
    return [
        Heading(result.title, result.method),
        *alarms(result.checks),
        Grid(("", what), tuple(counts)),
        *(() if len(result.counts) < 2 else (Lines(("share less the planned one:",)), ruler(result))),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Findings) -> Ruler:
    """Each variant's share less the planned one, with an interval that a sound split leaves once in 1,000 times."""
    total = max(sum(result.counts.values()), 1)
    rows, names = [], printed(result.counts, result.by)
    for label, n in result.counts.items():
        planned = result.planned[label]
        away, reach = n / total - planned, _ALARM_Z * math.sqrt(planned * (1 - planned) / total)
        rows.append(RulerRow(names[label], away, away - reach, away + reach))
    return Ruler(tuple(rows), percent=True, unit="pp")


def sentence(result: Findings) -> str:
    """The verdict in one sentence."""
    serious = [c.name for c in result.checks if c.severity == "serious"]
    warnings = sum(c.severity == "warning" for c in result.checks)
    if serious:
        return f"Do not believe any difference in this table yet: {', '.join(serious)}."
    more = f" {warnings} {'warning' if warnings == 1 else 'warnings'} to read first." if warnings else ""
    return f"Nothing was found that makes this table unbelievable, in {len(result.checks)} looks.{more}"


def rows(result: Findings) -> dict[str, Any]:
    """Columns of a tidy frame: a finding a row."""
    return {key: [getattr(c, key) for c in result.checks] for key in ("name", "severity", "finding", "advice")}
