"""From the roles of metrics to what should be done."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.experiment.description import Description
from amber_ruler.experiment.results import Analysis, Recommendation
from amber_ruler.results import Check, Comparison

RULES = (
    "A treatment is to be shipped if a primary metric is better, none is worse, and every guardrail is shown to be not"
    " worse by its margin, one-sided at alpha; with method = 'bayesian' primary metrics are judged by their posterior"
    " intervals instead of tests. A guardrail that is not shown is no pass: hold. Harm that is shown in a"
    " primary metric or a guardrail: stop. Before the planned end, without planned looks: wait. A failed check that"
    " nobody accepted: fix the data first. Guardrails must all hold, so their number needs no correction (Berger 1982)."
)


def decide(
    asked: Description, analysis: Analysis, failed: Sequence[Check], overridden: Mapping[str, str]
) -> Recommendation:
    """Each treatment by itself."""
    words, reasons = {}, {}
    for treatment in treatments(analysis):
        words[treatment], reasons[treatment] = _one(asked, analysis, failed, treatment)
    for treatment in overridden:
        if treatment not in words:
            raise InputError.unknown("overridden", treatment, words)
    return Recommendation(
        title=f"{asked.name}: what to do",
        method=RULES,
        source="Berger (1982), Technometrics 24, 295-300, for the guardrails",
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
    asked: Description, analysis: Analysis, failed: Sequence[Check], treatment: str
) -> tuple[str, tuple[str, ...]]:
    accepted = {one.check: one.reason for one in asked.accepted}
    said = [f"Accepted: {c.name}, because {accepted[c.name]}." for c in failed if c.name in accepted]
    broken = [c for c in failed if c.name not in accepted]
    if broken:
        said += [f"Failed: {c.name}: {c.finding}." for c in broken]
        return "fix", tuple(said)
    if analysis.early:
        return "wait", (
            *said,
            f"Day {analysis.days_seen} of {analysis.days_planned}: no look was planned, so nothing is final yet.",
        )
    primary = _of(analysis.primary, treatment)
    guardrails = _of(analysis.guardrails, treatment)
    better = [name for name, one in primary.items() if one.verdict == "better"]
    harm = [name for name, one in {**primary, **guardrails}.items() if one.verdict == "worse"]
    shown = {name: _not_worse(one) for name, one in guardrails.items()}
    going = [label for label, watched in analysis.monitored.items() if watched.stopped_at is None and label in primary]
    said += [f"Primary {name}: {_told(one)}." for name, one in primary.items()]
    said += [
        f"Guardrail {name}: {'shown' if shown[name] else 'not shown'} to be not worse by its margin"
        f" (p {_p(one)}); {_told(one)}."
        for name, one in guardrails.items()
    ]
    if harm:
        return "stop", (*said, f"Harm is shown in {', '.join(harm)}.")
    if going and not better:
        return "wait", (*said, f"The boundary is not crossed yet for {', '.join(going)}: go on to the next look.")
    missing = [name for name, holds in shown.items() if not holds]
    if not better:
        return "hold", (*said, "No primary metric is shown to be better.")
    if missing:
        return "hold", (*said, f"{', '.join(missing)} could be worse by more than allowed: more units would tell.")
    who = f"{' and '.join(better)} {'is' if len(better) == 1 else 'are'} better"
    rest = ", and every guardrail holds" if guardrails else ""
    return "ship", (*said, f"{who[:1].upper()}{who[1:]}, no harm is shown{rest}.")


def _of(family: Any, treatment: str) -> dict[str, Comparison]:
    if family is None:
        return {}
    return {one.metric: one for one in family.results if one.treatment == treatment}


def _not_worse(one: Comparison) -> bool:
    test = one.margin_tests.get("not_worse")
    return bool(test is not None and np.all(test.holds))


def _p(one: Comparison) -> str:
    test = one.margin_tests.get("not_worse")
    return "unknown" if test is None else f"{float(test.p_value):.3g}"


def _told(one: Comparison) -> str:
    """The comparison in one clause, as the report writes it."""
    return one.sentence().removesuffix(".").partition(": ")[2]
