"""From the roles of metrics to what should be done, by numbers: the words are the report's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.experiment.resolve import Resolved
from amber_ruler.experiment.results import Analysis, Reason, Recommendation
from amber_ruler.results import Check, Comparison

RULES = (
    "Ship a treatment if a primary metric is better, none is worse, and every guardrail shows non-inferiority by its"
    " margin, one-sided at alpha; with method = 'bayesian' primary metrics are judged by their posterior intervals"
    " instead of tests. Hold where non-inferiority is not shown. Stop where a primary metric or a guardrail is worse."
    " Wait before the planned end, unless looks were planned. Fix the data first where a check failed that nobody"
    " accepted. Guardrails must all hold, so their number needs no correction (Berger 1982)."
)


def decide(
    asked: Resolved, analysis: Analysis, failed: Sequence[Check], overridden: Mapping[str, str]
) -> Recommendation:
    """Each treatment by itself."""
    words, reasons = {}, {}
    for treatment in treatments(analysis):
        words[treatment], reasons[treatment] = _one(asked, analysis, failed, treatment)
    for treatment in overridden:
        if treatment not in words:
            raise InputError.unknown("overridden", treatment, words)
    return Recommendation(
        title=f"{asked.title}: what to do",
        method=RULES,
        source="Berger (1982), Technometrics 24, 295-300, for the guardrails",
        notes=analysis.notes,
        words=words,
        reasons=reasons,
        overridden=dict(overridden),
    )


def treatments(analysis: Analysis) -> list[str]:
    """The labels of all treatments."""
    families = [f for f in (analysis.primary, analysis.secondary, analysis.guardrails) if f is not None]
    found: dict[str, None] = dict.fromkeys(
        one.treatment for family in families for one in family.results if isinstance(one, Comparison)
    )
    return list(found)


def _one(
    asked: Resolved, analysis: Analysis, failed: Sequence[Check], treatment: str
) -> tuple[str, tuple[Reason, ...]]:
    accepted = [c for c in failed if c.name in asked.accepted]
    said = [Reason(kind="accepted", note=f"{c.name}, because {asked.accepted[c.name]}") for c in accepted]
    broken = [c for c in failed if c.name not in asked.accepted]
    if broken:
        return "fix", (*said, *(Reason(kind="failed", note=f"{c.name}: {c.finding}") for c in broken))
    if analysis.early:
        note = f"{analysis.days_seen} of {analysis.days_planned}"
        return "wait", (*said, Reason(kind="early", note=note))
    primary = _of(analysis.primary, treatment)
    guardrails = _of(analysis.guardrails, treatment)
    said += [_reason(name, one, "primary") for name, one in primary.items()]
    said += [_reason(name, one, "guardrail") for name, one in guardrails.items()]
    word, decisive = _decided(analysis, treatment, primary, guardrails)
    return word, (*said, decisive)


def _decided(
    analysis: Analysis, treatment: str, primary: Mapping[str, Comparison], guardrails: Mapping[str, Comparison]
) -> tuple[str, Reason]:
    """The word, and the reason that decides."""
    better = tuple(name for name, one in primary.items() if one.verdict == "better")
    harm = tuple(name for name, one in {**primary, **guardrails}.items() if one.verdict == "worse")
    missing = tuple(name for name, one in guardrails.items() if not _not_worse(one))
    going = tuple(
        one.latest.metric
        for one in analysis.monitored.values()
        if one.stopped_at is None and one.latest is not None and one.latest.treatment == treatment
    )
    if harm:
        return "stop", Reason(kind="harm", metrics=harm)
    if going and not better:
        return "wait", Reason(kind="next look", metrics=going)
    if not better:
        return "hold", Reason(kind="none better")
    if missing:
        return "hold", Reason(kind="not shown", metrics=missing, role="guardrail")
    note = "every guardrail holds" if guardrails else ""
    return "ship", Reason(kind="better", metrics=better, role="primary", note=note)


def _of(family: Any, treatment: str) -> dict[str, Comparison]:
    if family is None:
        return {}
    return {one.metric: one for one in family.results if one.treatment == treatment}


def _not_worse(one: Comparison) -> bool:
    test = one.margin_tests.get("not_worse")
    return bool(test is not None and np.all(test.holds))


def _reason(name: str, one: Comparison, role: str) -> Reason:
    """What a metric shows."""
    return Reason(
        kind="metric",
        metrics=(name,),
        role=role,
        verdict=str(one.verdict),
        estimate=float(one.estimate),
        interval=one.interval,
        p_value=None if one.p_value is None else float(one.p_value),
        adjusted_p=None if one.correction is None else float(one.correction.adjusted),
        unit=one.unit,
        measured_in=one.measured_in,
        margin_test=one.margin_tests.get("not_worse") if role == "guardrail" else None,
    )
