"""Effects by segment, and metrics from day to day."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from amber_ruler import adjust
from amber_ruler.digest import Daily
from amber_ruler.errors import InputError
from amber_ruler.experiment.resolve import Request, Resolved, further, no_effect
from amber_ruler.results import Comparison


def segments(source: Any, asked: Resolved) -> dict[str, dict[str, Comparison]]:
    """Each primary metric by every segment: by segment column, then by metric and treatment."""
    if not asked.segments:
        return {}
    named, notes = _possible(asked, "segments", lambda one: one.kind.adjusted)
    found: dict[str, dict[str, Comparison]] = {}
    for segment in asked.segments:
        found[segment] = {}
        for name, one in named.items():
            steps = {key: value for key, value in one.steps.items() if key != "strata"}
            said = [*notes]
            if "strata" in one.steps:
                said.append(no_effect("strata", "segments", name, "each segment is compared as a whole"))
            if asked.method != "frequentist":
                said.append(no_effect("method", "segments", name, "segments are compared by tests"))
            arms = source.records(list(dict.fromkeys([*one.set.columns, segment])), by=asked.by)
            for arm, base in arms.against(asked.control):
                each = adjust.segments(
                    arm,
                    base,
                    value=one.column,
                    segment=segment,
                    others=further(arms, arm, base),
                    metric=name,
                    correction=asked.correction,
                    **steps,
                    **one.settings,
                )
                found[segment][f"{name}, {arm.label}"] = replace(each, notes=(*each.notes, *said))
    return found


def daily(source: Any, asked: Resolved) -> dict[str, Daily]:
    """Each primary metric from day to day."""
    if asked.day is None:
        return {}
    named, notes = _possible(asked, "daily", lambda one: not one.kind.values)
    found = {}
    for name, one in named.items():
        rows = source.capped(one.column, one.steps["cap"]) if "cap" in one.steps else source
        more = {} if one.per is None else {"per": one.per}
        series = rows.daily(one.column, by=asked.by, day=asked.day, **more)
        said = [*notes]
        if "cluster" in one.steps:
            said.append(no_effect("clusters", "daily", name, "the interval of a day takes its units as independent"))
        found[name] = replace(series, notes=(*series.notes, *said))
    return found


def _possible(asked: Resolved, question: str, can: Any) -> tuple[dict[str, Request], list[str]]:
    """The primary metrics that a question can be asked of, and what is said of the others."""
    primary = asked.named("primary")
    named = {name: one for name, one in primary.items() if can(one)}
    left = {name: one.kind.plural for name, one in primary.items() if name not in named}
    if not named:
        listed = "; ".join(f"metrics.{name}.kind is of {plural}" for name, plural in left.items())
        raise InputError(f"{question} can't be had of any primary metric yet: {listed}. Name a mean or a proportion.")
    return named, [f"{name} is left out of {question}: {plural} have none yet." for name, plural in left.items()]
