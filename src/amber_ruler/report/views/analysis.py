"""All metrics of an experiment, by role."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views import family
from amber_ruler.report.views.shared import checks_and_notes
from amber_ruler.results import Family

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.experiment import Analysis

ROLES = {"primary": "Primary metrics", "guardrails": "Guardrails", "secondary": "Secondary metrics"}


def families(result: Analysis) -> dict[str, Family]:
    """The families that there are, the primary one first."""
    found = ((role, getattr(result, role)) for role in ROLES)
    return {role: one for role, one in found if one is not None}


def layout(result: Analysis) -> list[Block]:
    """Each family whole, under the name of its role."""
    blocks: list[Block] = [Heading(result.title, result.method), *early_said(result)]
    for role, one in families(result).items():
        heading, *rest = family.layout(one)
        below = heading.below if isinstance(heading, Heading) else ""
        blocks += [Heading(ROLES[role], below), *rest]
    for label, watched in result.monitored.items():
        blocks.append(Lines((f"{label}: {watched.sentence()}",)))
    blocks += [Lines((one.sentence(),)) for one in result.evidence.values()]
    return [*blocks, *shown(result), *checks_and_notes(result), Lines((sentence(result),), strong=True)]


def shown(result: Analysis) -> list[Block]:
    """What the experiment file says beside a metric, for people."""
    rows_ = [(metric, key, text) for metric, each in result.shown.items() for key, text in each.items()]
    return [Grid(("metric", "", ""), tuple(rows_), left=(0, 1, 2))] if rows_ else []


def early_said(result: Analysis) -> list[Block]:
    """That it is before the planned end."""
    if not result.early:
        return []
    said = f"Day {result.days_seen} of {result.days_planned}: no p here is final, for no look was planned."
    return [Lines((said,), (palette.SEVERITIES["serious"],), strong=True)]


def sentence(result: Analysis) -> str:
    """What stands in each role."""
    parts = [f"{ROLES[role].lower()}: {one.sentence()}" for role, one in families(result).items()]
    early = f"Before the planned end (day {result.days_seen} of {result.days_planned}). " if result.early else ""
    return f"{early}{result.title}: {' '.join(parts)}"


def rows(result: Analysis) -> list[dict[str, Any]]:
    """A row for each comparison, with its role and what the file says beside its metric."""
    beside = dict.fromkeys((key for each in result.shown.values() for key in each), "")
    return [
        {"role": role, **row, **beside, **result.shown.get(metric, {})}
        for role, one in families(result).items()
        for metric, row in zip((r.metric for r in one.results), family.rows(one), strict=True)
    ]


def together(result: Analysis) -> Family:
    """All comparisons as one family for a figure, primary ones first."""
    found = families(result)
    labels = [(role, label, one) for role, f in found.items() for label, one in zip(f.labels, f.results, strict=True)]
    first = next(iter(found.values()))
    return Family(
        title=result.title,
        method=first.method,
        source="",
        labels=tuple(label for _, label, _ in labels),
        results=tuple(one for _, _, one in labels),
        families=tuple(role for role, _, _ in labels),
    )


def draw(result: Analysis, ax: Axes | None = None) -> Axes:
    """Rulers for all metrics, one panel a unit of measurement."""
    return family.draw(together(result), ax)
