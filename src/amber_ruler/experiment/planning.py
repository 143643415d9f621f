"""How many units an experiment takes: of each metric that has an effect to plan for, and of every guardrail."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler.errors import DataError, DesignError
from amber_ruler.experiment.kinds import explained
from amber_ruler.experiment.resolve import Request, Resolved, no_effect
from amber_ruler.experiment.results import ExperimentPlan
from amber_ruler.plan import PlanAnswer


def plan(source: Any, asked: Resolved) -> ExperimentPlan:
    """The size for each metric, by the standard deviation and the baseline of the control, as the test will be run."""
    answers: dict[str, PlanAnswer] = {}
    designs: dict[str, tuple[Any, dict[str, Any]]] = {}
    notes: list[str] = []
    for name, one in asked.metrics.items():
        guardrail = one.role == "guardrail"
        if not (guardrail or one.effect):
            continue
        if one.kind.design is None:
            notes.append(f"{name} is left out of the plan: {one.kind.plural} are not planned yet.")
            continue
        design, shares, said = _design(source, asked, one)
        effect = dict(one.effect) or {"effect": 0.0}
        answers[name] = _in_all(design.sample_size(power=asked.power, **effect), shares, asked.control)
        designs[name] = design, effect
        notes += said
    if not answers:
        raise DesignError("No metric has an effect to plan for: metrics.….effect or lift, or a guardrail's margin.")
    driving = max(answers, key=lambda name: answers[name].n_total)
    total, days = answers[driving].n_total, None
    if asked.per_day is not None:
        days = math.ceil(total / asked.per_day)
    n = answers[driving].n
    power = {name: float(design.power(n=n, **effect).power or 0.0) for name, (design, effect) in designs.items()}
    together = 1.0 - sum(1 - one for one in power.values())  # whatever they have to do with each other
    return ExperimentPlan(
        title=f"{asked.title}: the plan",
        method="each metric's own size, by the standard deviation and baseline of the control",
        source="",
        notes=tuple(dict.fromkeys([*notes, *_unplanned(asked)])),
        answers=answers,
        driving=driving,
        n_total=int(total),
        days=days,
        power_of_all=max(together, 0.0),
    )


def _unplanned(asked: Resolved) -> list[str]:
    """What of the test the sizes do not count."""
    notes, listed = [], ", ".join(asked.metrics)
    if asked.method != "frequentist":
        notes.append(no_effect("method", "the plan", listed, "sizes are those of tests, not of posterior intervals"))
    if asked.prior is not None:
        notes.append(no_effect("prior", "the plan", listed, "sizes are those of tests"))
    if asked.strata is not None:
        notes.append(no_effect("strata", "the plan", listed, "what strata gain is not counted, so the size is safe"))
    return notes


def _design(source: Any, asked: Resolved, one: Request) -> tuple[Any, dict[str, float], list[str]]:
    """The design of a metric, the planned share of each variant, and what the design does not count."""
    guardrail, notes = one.role == "guardrail", list[str]()
    rows = source.capped(one.column, one.steps["cap"]) if "cap" in one.steps else source
    arms = rows.moments(list(one.set.columns), by=asked.by)
    base, shares = arms[asked.control], _shares(asked, list(arms))
    smallest = min(share for label, share in shares.items() if label != asked.control)
    assert one.kind.design is not None  # noqa: S101 - the caller has asked
    design = one.kind.design(base, one.column, one.per, ratio=smallest / shares[asked.control], alpha=one.alpha)
    if one.covariates:
        found = explained(base, one.column, one.per, one.covariates)
        design = design.with_covariate(found, len(one.covariates))
    if asked.clusters is not None:
        whole = source.clusters(one.column, by=asked.clusters)
        design = design.with_clusters(whole.size, whole.icc, whole.cv)
    if guardrail:
        design, said = _with_margin(design, one, base)
        notes += said
    others = len(arms) - 1
    corrected = not guardrail and asked.correction != "none"
    primaries = len(asked.named("primary")) if one.role == "primary" else 1
    if corrected and primaries > 1:
        design = replace(design, alpha=design.alpha / primaries)
    if others > 1:
        design = design.with_variants(others, "bonferroni" if corrected else "none")
    if one.role == "primary" and asked.looks:
        design = design.with_looks(list(asked.looks), spending=asked.spending, parameter=asked.parameter)
    return design, shares, notes


def _with_margin(design: Any, one: Request, base: Any) -> tuple[Any, list[str]]:
    """A guardrail's design: not worse by its margin."""
    good = one.settings.get("good", "higher")
    if "margin_lift" not in one.settings:
        return design.with_margin(one.settings["margin"], good=good), []
    if one.per is None:
        return design.with_margin(good=good, lift=one.settings["margin_lift"]), []
    ratio = float(base.mean(one.column)) / float(base.mean(one.per))
    margin = one.settings["margin_lift"] * ratio
    if not margin > 0:
        raise DataError(f"metrics.{one.name}.margin_lift is a share of the control's ratio, which is {ratio:.4g}.")
    said = f"margin_lift of {one.name}: the plan takes it as {margin:.4g}, a share of the control's observed ratio."
    return design.with_margin(margin, good=good), [said]


def _shares(asked: Resolved, labels: list[str]) -> dict[str, float]:
    """What each variant is to have of all units."""
    shares = dict(zip(labels, asked.shares(labels), strict=True))
    for label, share in shares.items():
        if share <= 0:
            raise DataError.unknown("assignment.split", label, list(asked.split))
    return shares


def _in_all(answer: PlanAnswer, shares: Mapping[str, float], control: str) -> PlanAnswer:
    """With all variants counted: of several treatments of unequal size the smallest one sets the size of all."""
    treated = [share for label, share in shares.items() if label != control]
    if np.ptp(treated) <= 1e-12:
        return answer
    units = {label: math.ceil(answer.n * share / shares[control] - 1e-9) for label, share in shares.items()}
    smallest = min(units[label] for label in units if label != control)
    return replace(answer, units=units, n_total=sum(units.values()), n_treatment=smallest)
