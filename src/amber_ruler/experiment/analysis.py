"""All metrics of an experiment against the control, by role."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from amber_ruler.experiment.looking import looks
from amber_ruler.experiment.resolve import Resolved, no_effect
from amber_ruler.experiment.results import Analysis
from amber_ruler.experiment.weighing import weighed
from amber_ruler.results import Comparison, Family
from amber_ruler.tables.comparing import together
from amber_ruler.tables.shared import Shared

Labelled = Mapping[str, tuple[str, Comparison]]  # by label: the metric, and its comparison


def analyse(source: Any, asked: Resolved, *, days: tuple[Any, ...], shared: Shared) -> Analysis:
    """Every metric, by role; `days` are those that there are, in order."""
    found = {name: one.against_control(source, shared) for name, one in asked.metrics.items()}
    labelled = _labelled(asked, found, "primary")
    primary = {label: one for label, (_, one) in labelled.items()}
    monitored = looks(source, asked, labelled, days) if asked.looks else {}
    primary |= {label: one.latest for label, one in monitored.items() if one.latest is not None}
    evidence, notes = {}, _notes(asked)
    for label, (name, one) in labelled.items() if asked.method != "frequentist" else ():
        evidence[label], said = weighed(source, asked.metrics[name], one, shared)
        notes += said
    if asked.method == "bayesian":
        primary = evidence
    seen = len(days) if asked.day else None
    planned = asked.days_planned
    return Analysis(
        title=asked.title,
        method=f"each treatment against {asked.control}, by {asked.by}",
        source="",
        notes=tuple(dict.fromkeys(notes)),
        primary=_family(primary, "none" if asked.looks else asked.correction, "Primary"),
        secondary=_family(_of_role(asked, found, "secondary"), asked.correction, "Secondary"),
        guardrails=_family(_of_role(asked, found, "guardrail"), "none", "Guardrails"),
        monitored=monitored,
        evidence=evidence if asked.method == "both" else {},
        shown={name: dict(one.shown) for name, one in asked.metrics.items() if one.shown},
        days_seen=seen,
        days_planned=planned,
        early=not asked.looks and planned is not None and seen is not None and seen < planned,
    )


def _notes(asked: Resolved) -> list[str]:
    """What of the description has no effect on the analysis."""
    notes = [note for one in asked.metrics.values() for note in one.notes]
    if asked.method == "bayesian" and asked.correction != "holm" and len(asked.named("primary")) > 0:
        listed = ", ".join(asked.named("primary"))
        notes.append(no_effect("correction", "the analysis", listed, "posterior intervals are not corrected"))
    return notes


def _labelled(asked: Resolved, found: Mapping[str, Mapping[str, Comparison]], role: str) -> Labelled:
    """Comparisons of a role by what each is called."""
    named = asked.named(role)
    several = len({label for name in named for label in found[name]}) > 1
    return {
        (f"{name}, {label}" if several else name): (name, _noted(one, asked, name))
        for name in named
        for label, one in found[name].items()
    }


def _noted(one: Comparison, asked: Resolved, name: str) -> Comparison:
    return replace(one, notes=(*one.notes, *asked.metrics[name].notes))


def _of_role(asked: Resolved, found: Mapping[str, Mapping[str, Comparison]], role: str) -> dict[str, Comparison]:
    return {label: one for label, (_, one) in _labelled(asked, found, role).items()}


def _family(found: Mapping[str, Comparison], correct: str, title: str) -> Family | None:
    if not found:
        return None
    single = len(found) == 1 or any(one.test is None for one in found.values())
    return together(found, correct="none" if single else correct, title=title)
