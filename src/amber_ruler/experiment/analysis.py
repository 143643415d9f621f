"""All metrics of an experiment against the control."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any

from amber_ruler import adjust, bayes, measure
from amber_ruler.errors import DataError, InputError
from amber_ruler.experiment.description import Description, Metric
from amber_ruler.experiment.kept import Kept
from amber_ruler.experiment.results import Analysis
from amber_ruler.results import Comparison, Family
from amber_ruler.sequential import Monitoring, boundaries, looks_by_day, monitor
from amber_ruler.tables import Table
from amber_ruler.tables.comparing import together
from amber_ruler.tables.shared import Set, Shared


def analyse(table: Table | Kept, asked: Description, *, days: tuple[str, ...], shared: Shared) -> Analysis:
    """Every metric, by role."""
    by, control = asked.assignment.column, str(asked.assignment.control)
    found = {name: against_control(table, asked, name, metric, shared) for name, metric in asked.metrics.items()}
    monitored = {} if asked.looks is None else _looks(table, asked, found, days)
    labelled = _labelled(asked, found, "primary")
    primary = {label: one for label, (_, _, one) in labelled.items()}
    if asked.looks is not None:
        primary = {label: monitored[label].latest or one for label, one in primary.items()}
    planned = None if asked.days is None else asked.days.planned
    seen = None if asked.days is None else len(days)
    evidence = {}
    if asked.method != "frequentist":
        evidence = {
            label: _weighed(table, asked, name, treatment, shared) for label, (name, treatment, _) in labelled.items()
        }
    if asked.method == "bayesian":
        primary = evidence
    correct = asked.correction if asked.looks is None else "none"
    return Analysis(
        title=asked.name,
        method=f"each treatment against {control}, by {by}",
        source="",
        primary=_family(primary, correct, "Primary"),
        secondary=_family(_of_role(asked, found, "secondary"), asked.correction, "Secondary"),
        guardrails=_family(_of_role(asked, found, "guardrail"), "none", "Guardrails"),
        monitored=monitored,
        evidence=evidence if asked.method == "both" else {},
        days_seen=seen,
        days_planned=planned,
        early=asked.looks is None and planned is not None and seen is not None and seen < planned,
    )


def against_control(
    table: Table | Kept, asked: Description, name: str, metric: Metric, shared: Shared
) -> dict[str, Comparison]:
    """One metric: each treatment against the control."""
    by, control = asked.assignment.column, str(asked.assignment.control)
    column = metric.column or name
    arms, ask, together = _method(table, asked, name, metric, column, by, shared)
    settings: dict[str, Any] = {"alpha": metric.alpha or asked.alpha, "good": metric.good, "metric": name}
    if metric.margin is not None:
        settings["margin"] = metric.margin
    if metric.margin_lift is not None:
        settings["margin_lift"] = metric.margin_lift
    if control not in arms:
        raise DataError.unknown(f"control in column {by!r}", control, arms)
    if len(arms) < 2:
        raise DataError(f"Column {by!r} holds one variant only, {control!r}: there is nothing to compare it with.")
    found = {}
    for arm, base in arms.against(control):
        others = tuple(a for a in arms.values() if a is not arm and a is not base)
        found[str(arm.label)] = ask(arm, base, **settings, **({"others": others} if together else {}))
    return found


def _reducible(asked: Description, metric: Metric) -> bool:
    """Whether moments are enough for a metric."""
    return metric.kind in ("mean", "share", "ratio") and metric.cap is None and asked.clusters is None


def _set(metric: Metric, name: str) -> Set:
    each = [[part.strip() for part in covariate.split(" per ", 1)] for covariate in metric.covariates]
    needed = list(dict.fromkeys([metric.column or name, *([metric.per] if metric.per else [])]))
    alone = [part for parts in each if len(parts) == 1 for part in parts if part not in needed]
    halves = [part for parts in each if len(parts) == 2 for part in parts if part not in (*needed, *alone)]
    return Set(tuple(needed), *(tuple(dict.fromkeys(parts)) for parts in (alone, halves)))


def _columns(metric: Metric, column: str) -> list[str]:
    return list(_set(metric, column).columns)


def sets(asked: Description) -> list[Set]:
    """Columns whose joint moments metrics are compared by, and single ones that only checks look at."""
    found: list[Set] = []
    for name, metric in asked.metrics.items():
        columns = _columns(metric, metric.column or name)
        found += [_set(metric, name)] if _reducible(asked, metric) else [Set((column,)) for column in columns]
    return found


def _method(
    table: Table | Kept, asked: Description, name: str, metric: Metric, column: str, by: str, shared: Shared
) -> tuple[Any, Any, bool]:
    """What the variants are read as, the question that is asked of two of them, and whether it takes the others too."""
    sharper: dict[str, Any] = {}
    if metric.kind in ("mean", "share", "ratio"):
        sharper = {"covariate": list(metric.covariates)} if metric.covariates else {}
        sharper |= {"strata": asked.strata} if asked.strata else {}
        sharper |= {"cap": metric.cap} if metric.cap is not None else {}
    if asked.clusters is not None:
        return _clustered(table, asked, metric, column, sharper)
    if metric.kind == "ratio" or sharper:
        if metric.kind == "ratio":
            sharper["per"] = str(metric.per)
        columns = _columns(metric, column)
        ask: Any = partial(adjust.sharpen, value=column, **sharper)
        whole = shared.arms(_set(metric, column), within=True) if _reducible(asked, metric) else None
        if whole is not None:
            return whole, ask, True
        columns += [asked.strata] if asked.strata else []
        return table.records(list(dict.fromkeys(columns)), by=by), ask, True
    if metric.kind == "quantile":
        return table.samples(column, by=by), partial(measure.quantiles, at=metric.at), False
    if metric.kind == "two-part":
        return table.samples(column, by=by), adjust.two_part, False
    ask = {"mean": measure.means, "share": measure.proportions, "rate": measure.rates}[metric.kind]
    if metric.kind == "rate" and metric.per is not None:
        raise InputError(f"metrics.{name}: a rate by an exposure column is a ratio: kind = 'ratio' compares it.")
    return shared.arms([column]) or table.moments(column, by=by), ask, False


def _clustered(
    table: Table | Kept, asked: Description, metric: Metric, column: str, sharper: Mapping[str, Any]
) -> tuple[Any, Any, bool]:
    """The same, of units that were assigned in whole clusters."""
    by, cluster = asked.assignment.column, str(asked.clusters)
    if metric.kind == "quantile":
        arms = table.records([column, cluster], by=by)
        return arms, partial(adjust.quantiles, value=column, cluster=cluster, at=metric.at), False
    columns = [*_columns(metric, column), cluster, *([asked.strata] if asked.strata else [])]
    arms = table.records(list(dict.fromkeys(columns)), by=by)
    if metric.kind == "ratio":
        sharper = {**sharper, "per": str(metric.per)}
    if metric.kind == "ratio" or asked.strata or metric.cap is not None:
        return arms, partial(adjust.sharpen, value=column, cluster=cluster, **sharper), True
    return arms, partial(adjust.clusters, value=column, cluster=cluster, **sharper), False


def _labelled(
    asked: Description, found: Mapping[str, Mapping[str, Comparison]], role: str
) -> dict[str, tuple[str, str, Comparison]]:
    """Comparisons of a role: what each is called, its metric, its treatment."""
    named = asked.named(role)
    several = len({label for name in named for label in found[name]}) > 1
    return {
        (f"{name}, {label}" if several else name): (name, label, one)
        for name in named
        for label, one in found[name].items()
    }


def _of_role(asked: Description, found: Mapping[str, Mapping[str, Comparison]], role: str) -> dict[str, Comparison]:
    return {label: one for label, (_, _, one) in _labelled(asked, found, role).items()}


def _family(found: Mapping[str, Comparison], correct: str, title: str) -> Family | None:
    if not found:
        return None
    single = len(found) == 1 or any(one.test is None for one in found.values())
    return together(found, correct="none" if single else correct, title=title)


def _looks(
    table: Table | Kept, asked: Description, found: Mapping[str, Mapping[str, Comparison]], days: tuple[str, ...]
) -> dict[str, Monitoring]:
    """The looks so far of each primary comparison: alpha is split over them, and each share is spent."""
    looks, planned = asked.looks, asked.days
    assert looks is not None  # noqa: S101
    assert planned is not None  # noqa: S101
    assert planned.planned is not None  # noqa: S101
    each = _labelled(asked, found, "primary")
    split = len(each) if asked.correction == "bonferroni" else 1
    reached = [day for day in looks.after if day <= len(days)]
    if not reached:
        raise DataError(f"The first look is after day {looks.after[0]}, and there are {len(days)} days.")
    shares = [day / planned.planned for day in looks.after]
    rules = {
        rate: boundaries(shares, spending=looks.spending, parameter=looks.parameter, alpha=rate / split)
        for rate in {m.alpha or asked.alpha for m in asked.named("primary").values()}
    }
    result = {}
    for label, (name, treatment, _) in each.items():
        metric = asked.metrics[name]
        if metric.kind not in ("mean", "share") or metric.cap is not None:
            raise InputError(f"metrics.{name}: looks are at means and shares without a cap.")
        by, column = asked.assignment.column, metric.column or name
        settings: dict[str, Any] = {"good": metric.good}
        settings |= {"margin": metric.margin} if metric.margin is not None else {}
        if metric.covariates:
            settings |= {"method": adjust.cuped, "value": column, "covariate": list(metric.covariates)}
        seen = looks_by_day(
            table, column, treatment=treatment, control=str(asked.assignment.control), by=by, day=planned.column,
            days=[days[day - 1] for day in reached], **settings,
        )  # fmt: skip
        named = [replace(one, metric=name) for one in seen]
        result[label] = monitor(rules[metric.alpha or asked.alpha], named, information=shares[: len(reached)])
    return result


def _weighed(table: Table | Kept, asked: Description, name: str, treatment: str, shared: Shared) -> Comparison:
    """What the data make of a prior."""
    metric = asked.metrics[name]
    column = metric.column or name
    arms = shared.arms([column]) or table.moments(column, by=asked.assignment.column)
    one, two = arms[treatment], arms[str(asked.assignment.control)]
    settings: dict[str, Any] = {"metric": name, "good": metric.good, "alpha": metric.alpha or asked.alpha}
    settings |= {"margin": metric.margin} if metric.margin is not None else {}
    if metric.kind == "share":  # whose prior is that of each share
        return bayes.proportions(one, two, **settings)
    if metric.kind != "mean":
        raise InputError(f"metrics.{name}: a prior is weighed for means and shares.")
    prior = {} if asked.prior is None else {"prior": bayes.prior_of(asked.prior, (bayes.Cauchy,))}
    return bayes.means(one, two, **prior, **settings)
