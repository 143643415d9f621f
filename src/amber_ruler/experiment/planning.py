"""How many units an experiment takes: of each metric that has an effect to plan for, and of every guardrail."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from amber_ruler import plan as plans
from amber_ruler.errors import DesignError
from amber_ruler.experiment.description import Description, Metric
from amber_ruler.experiment.kept import Kept
from amber_ruler.experiment.results import ExperimentPlan
from amber_ruler.plan import PlanAnswer
from amber_ruler.tables import Table


def plan(table: Table | Kept, asked: Description) -> ExperimentPlan:
    """The size for each metric, by the spread and the baseline of the control."""
    answers: dict[str, PlanAnswer] = {}
    designs: dict[str, tuple[Any, dict[str, Any]]] = {}
    for name, metric in asked.metrics.items():
        design = _design(table, asked, name, metric)
        if design is None:
            continue
        effect = {"effect": metric.effect} if metric.effect is not None else {"lift": metric.lift}
        if metric.role == "guardrail" and metric.effect is None and metric.lift is None:
            effect = {"effect": 0.0}
        answers[name] = design.sample_size(power=asked.plan.power, **effect)
        designs[name] = design, effect
    if not answers:
        raise DesignError("No metric has an effect to plan for: metrics.….effect or lift, or a guardrail's margin.")
    driving = max(answers, key=lambda name: answers[name].n_total)
    total, days = answers[driving].n_total, None
    if asked.plan.per_day is not None:
        days = math.ceil(total / asked.plan.per_day)
    n = answers[driving].n
    power = {name: float(design.power(n=n, **effect).power or 0.0) for name, (design, effect) in designs.items()}
    together = 1.0 - sum(1 - one for one in power.values())  # whatever they have to do with each other
    return ExperimentPlan(
        title=f"{asked.name}: the plan",
        method="each metric's own size, by the spread and baseline of the control",
        source="",
        answers=answers,
        driving=driving,
        n_total=int(total),
        days=days,
        power_of_all=max(together, 0.0),
    )


def _design(table: Table | Kept, asked: Description, name: str, metric: Metric) -> Any:
    """The design of a metric, or None where nothing of it is to be planned."""
    guardrail = metric.role == "guardrail"
    if metric.kind not in ("mean", "share") or not (guardrail or metric.effect is not None or metric.lift is not None):
        return None
    column, control = metric.column or name, str(asked.assignment.control)
    arms = table.moments([column, *_covariates(metric)], by=asked.assignment.column)
    base = arms[control]
    settings: dict[str, Any] = {"alpha": metric.alpha or asked.alpha}
    design: Any
    if metric.kind == "share":
        design = plans.TwoProportions(baseline=base.mean(column), **settings)
    else:
        design = plans.TwoMeans(sd=base.sd(column), baseline=base.mean(column), **settings)
    if len(metric.covariates) == 1 and " per " not in metric.covariates[0] and metric.kind == "mean":
        design = design.with_covariate(abs(base.correlation(column, metric.covariates[0])))
    if asked.clusters is not None:
        whole = table.clusters(column, by=asked.clusters)
        design = design.with_clusters(whole.size, whole.icc, whole.cv)
    if guardrail:
        by_lift = {"lift": metric.margin_lift} if metric.margin_lift is not None else {"margin": metric.margin}
        design = design.with_margin(good=metric.good, **by_lift)
    others = len(arms) - 1
    if not guardrail:
        primaries = len(asked.named("primary")) if metric.role == "primary" else 1
        if others * primaries > 1 and asked.correction != "none":
            design = replace(design, alpha=design.alpha / primaries)
    if others == 1:
        return design
    return design.with_variants(others, "none" if guardrail or asked.correction == "none" else "bonferroni")


def _covariates(metric: Metric) -> list[str]:
    plain = [c for c in metric.covariates if " per " not in c]
    return plain[:1] if len(metric.covariates) == 1 else []
