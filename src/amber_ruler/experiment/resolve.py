"""From a description to what is asked of each metric: the one place where settings are put together.

`KEYS` has a row for every key of the description that this reads, and `kinds.KINDS` one for every kind of metric. What
analysis, looks, evidence, segments, plan, replay and report need of the description they take from here.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from importlib import import_module
from typing import Any, Literal

from pydantic import BaseModel

from amber_ruler.errors import AmberRulerError, DataError, InputError
from amber_ruler.experiment.description import Description, Metric, usual
from amber_ruler.experiment.kinds import KINDS, Kind
from amber_ruler.register import Method, registered
from amber_ruler.results import Comparison
from amber_ruler.samples import ByVariant
from amber_ruler.sequential.spending import Spending
from amber_ruler.tables.shared import Set, Shared

PER = " per "  # between the two columns of a covariate that is itself a ratio


@dataclass(frozen=True, slots=True)
class Key:
    """Where a key of the description goes, and what it is called there (its own name, unless given).

    "test": what the whole experiment is; "metric": what a metric is; "setting": a setting of its method; "step": what
    is done before the comparison; "plan": the effect to plan for; "shown": text that the report shows beside it.
    """

    to: Literal["test", "metric", "setting", "step", "plan", "shown"]
    name: str = ""


KEYS: Mapping[str, Key] = {
    "assignment.split": Key("test"),
    "days": Key("test"),
    "looks": Key("test"),
    "segments": Key("test"),
    "correction": Key("test"),
    "method": Key("test"),
    "prior": Key("test"),
    "alpha": Key("test"),
    "plan.power": Key("test"),
    "plan.per_day": Key("test"),
    "accepted": Key("test"),
    "strata": Key("step"),
    "clusters": Key("step", "cluster"),
    "metrics.kind": Key("metric"),
    "metrics.column": Key("metric"),
    "metrics.role": Key("metric"),
    "metrics.covariates": Key("step", "covariate"),
    "metrics.cap": Key("step"),
    "metrics.per": Key("step"),
    "metrics.at": Key("setting"),
    "metrics.alpha": Key("setting"),
    "metrics.margin": Key("setting"),
    "metrics.margin_lift": Key("setting"),
    "metrics.good": Key("setting"),
    "metrics.measured_in": Key("setting"),
    "metrics.reference": Key("shown"),
    "metrics.effect": Key("plan"),
    "metrics.lift": Key("plan"),
}


@dataclass(frozen=True, kw_only=True)
class Request:
    """What is asked of one metric.

    Attributes
    ----------
    name, role, column : str
        What it is called, its role, and its column.
    kind : Kind
        What it is.
    by, control : str
        The column with the variants, and the label of the control.
    steps : mapping
        What is done before the comparison, as `adjust.sharpen` calls it: cap, covariate, strata, per, cluster.
    settings : mapping
        Of the method: alpha, margin, good and so on.
    effect : mapping
        The effect to plan for, or nothing.
    shown : mapping
        Texts that the report shows beside it, by key.
    prior : str or None
        The prior that it is weighed by, as it is written.
    notes : tuple of str
        What of the description has no effect on this metric, and why.
    """

    name: str
    role: str
    column: str
    kind: Kind
    by: str
    control: str
    steps: Mapping[str, Any]
    settings: Mapping[str, Any]
    effect: Mapping[str, float] = field(default_factory=dict)
    shown: Mapping[str, str] = field(default_factory=dict)
    prior: str | None = None
    notes: tuple[str, ...] = ()

    @property
    def alpha(self) -> float:
        """Error rate of its tests."""
        return float(self.settings["alpha"])

    @property
    def per(self) -> str | None:
        """Its denominator, if it has one."""
        return self.steps.get("per")

    @property
    def covariates(self) -> list[tuple[str, ...]]:
        """Columns of each covariate: one, or the two of a ratio."""
        return [tuple(part.strip() for part in one.split(PER, 1)) for one in self.steps.get("covariate", ())]

    @cached_property
    def set(self) -> Set:
        """The columns of numbers that it is compared by."""
        needed = tuple(dict.fromkeys([self.column, *([self.per] if self.per else [])]))
        alone = [part for parts in self.covariates if len(parts) == 1 for part in parts if part not in needed]
        halves = [p for parts in self.covariates if len(parts) == 2 for p in parts if p not in (*needed, *alone)]
        return Set(needed, *(tuple(dict.fromkeys(parts)) for parts in (alone, halves)))

    @property
    def reducible(self) -> bool:
        """Whether moments are enough."""
        return not (self.kind.values or {"cap", "cluster"} & set(self.steps))

    @property
    def call(self) -> str:
        """The method that compares two variants, by room and name."""
        done = set(self.steps)
        if "cluster" in done and not done & {"strata", "cap", "per"}:
            return self.kind.clustered
        return "adjust.sharpen" if done and self.kind.adjusted else self.kind.plain

    @cached_property
    def known(self) -> Method:
        """What the register knows of that method."""
        return registered(*self.call.split("."))

    @cached_property
    def question(self) -> dict[str, Any]:
        """Everything that its method is told beside the data."""
        known = self.known.settings
        named = {"value": self.column} if "value" in known else {}
        asked = {**named, **self.steps, **self.settings, "metric": self.name}
        for key in asked:
            if key not in known:
                raise InputError(f"metrics.{self.name}: {self.call} can't obey {key} yet: leave it out.", name=key)
        return asked

    def method(self) -> Any:
        """The method itself."""
        return getattr(import_module(f"amber_ruler.{self.known.room}"), self.known.name)

    def arms(self, source: Any, shared: Shared) -> ByVariant[Any]:
        """Each variant's data, as the method reads them."""
        labels = [self.steps[key] for key in ("cluster", "strata") if key in self.steps]
        found: Any = None
        if self.reducible:
            found = shared.arms(self.set, within="strata" in self.steps)
        if found is None and self.call.startswith("adjust.") and not (self.kind.values and not labels):
            found = source.records(list(dict.fromkeys([*self.set.columns, *labels])), by=self.by)
        elif found is None and self.kind.values:
            found = source.samples(self.column, by=self.by)
        elif found is None:
            found = source.moments(self.column, by=self.by)
        arms: ByVariant[Any] = found
        if self.control not in arms:
            raise DataError.unknown(f"control in column {self.by!r}", self.control, arms)
        if len(arms) < 2:
            raise DataError(
                f"Column {self.by!r} holds one variant only, {self.control!r}: there is nothing to compare it with."
            )
        return arms

    def against_control(self, source: Any, shared: Shared) -> dict[str, Comparison]:
        """Each treatment against the control, by its label."""
        try:
            return self._against_control(source, shared)
        except AmberRulerError as error:
            if f"metrics.{self.name}" in str(error):
                raise
            raise type(error)(f"metrics.{self.name}: {error}") from error

    def _against_control(self, source: Any, shared: Shared) -> dict[str, Comparison]:
        arms, call = self.arms(source, shared), self.method()
        return {str(arm.label): call(arm, base, **self.question, **self.others(arms, arm, base))
                for arm, base in arms.against(self.control)}  # fmt: skip

    def others(self, arms: ByVariant[Any], *pair: Any) -> dict[str, Any]:
        """The further variants of the test, where the method takes them."""
        return {"others": further(arms, *pair)} if "others" in self.known.settings else {}


@dataclass(frozen=True, kw_only=True)
class Resolved:
    """What is asked of an experiment, whole.

    Attributes
    ----------
    title, unit, by, control : str
        Its name; the columns with the units and the variants; the label of the control.
    metrics : mapping of str to Request
        In the order of the file.
    split : mapping of label to share
        As planned; empty where every variant is to have as many.
    day : str or None
        Column with the day.
    days_planned : int or None
        Days that the whole test takes.
    look_days : tuple of int
        Days after which one looks; none where no look is planned.
    spending, parameter : str, float or None
        How alpha is spent over them.
    segments : tuple of str
        Columns along which effects are looked at.
    strata, clusters : str or None
        Columns.
    correction, method, prior, alpha, power, per_day, accepted
        As the description has them.
    """

    title: str
    unit: str
    by: str
    control: str
    metrics: Mapping[str, Request]
    split: Mapping[str, float]
    day: str | None
    days_planned: int | None
    look_days: tuple[int, ...]
    spending: Spending
    parameter: float | None
    segments: tuple[str, ...]
    strata: str | None
    clusters: str | None
    correction: Literal["holm", "hochberg", "bonferroni", "benjamini-hochberg", "none"]
    method: str
    prior: str | None
    alpha: float
    power: float
    per_day: float | None
    accepted: Mapping[str, str]

    def named(self, role: str) -> dict[str, Request]:
        """The metrics of a role, in the order of the file."""
        return {name: one for name, one in self.metrics.items() if one.role == role}

    def shares(self, labels: Sequence[str]) -> list[float]:
        """What each variant is to have of all units; nothing where a split is planned without it."""
        planned = [float(self.split.get(label, 0.0 if self.split else 1.0)) for label in labels]
        return [share / sum(planned) for share in planned]

    @property
    def columns(self) -> list[str]:
        """The columns of all metrics, denominators among them."""
        named = (column for one in self.metrics.values() for column in one.set.needed)
        return list(dict.fromkeys(named))

    @property
    def covariates(self) -> list[str]:
        """The columns of all covariates."""
        return sorted({part for one in self.metrics.values() for parts in one.covariates for part in parts})

    @property
    def looks(self) -> tuple[float, ...]:
        """The fractions of the test at which one looks."""
        return tuple(day / self.days_planned for day in self.look_days) if self.days_planned else ()

    def sets(self, metrics: Mapping[str, Request] | None = None) -> list[Set]:
        """Columns whose joint moments metrics (all of them) are compared by, and single ones that checks look at."""
        found: list[Set] = []
        for one in (self.metrics if metrics is None else metrics).values():
            found += [one.set] if one.reducible else [Set((column,)) for column in one.set.columns]
        return found


def resolve(description: Description) -> Resolved:
    """What a description asks for."""
    days, looks = _read(description, "days"), _read(description, "looks")
    metrics = {name: _request(description, name, metric) for name, metric in description.metrics.items()}
    return Resolved(
        title=description.name,
        unit=description.unit,
        by=description.assignment.column,
        control=str(description.assignment.control),
        metrics=metrics,
        split=dict(_read(description.assignment, "split", "assignment.")),
        day=None if days is None else days.column,
        days_planned=None if days is None else days.planned,
        look_days=() if looks is None else tuple(looks.after),
        spending="obrien-fleming" if looks is None else looks.spending,
        parameter=None if looks is None else looks.parameter,
        segments=tuple(_read(description, "segments")),
        strata=_read(description, "strata"),
        clusters=_read(description, "clusters"),
        correction=_read(description, "correction"),
        method=_read(description, "method"),
        prior=_read(description, "prior"),
        alpha=_read(description, "alpha"),
        power=_read(description.plan, "power", "plan."),
        per_day=_read(description.plan, "per_day", "plan."),
        accepted={one.check: one.reason for one in _read(description, "accepted")},
    )


def _request(description: Description, name: str, metric: Metric) -> Request:
    kind = KINDS[_read(metric, "kind", "metrics.")]
    steps = _gathered(description, metric, "step")
    notes = []
    if not kind.adjusted and "strata" in steps:
        del steps["strata"]
        notes.append(no_effect("strata", "the analysis", name, f"{kind.plural} are compared without strata"))
    prior, role = _read(description, "prior"), _read(metric, "role", "metrics.")
    if prior is not None and role == "primary" and kind.weighed == "bayes.proportions" and not steps:
        notes.append(no_effect("prior", "the analysis", name, "each proportion has a uniform prior"))
    settings = {"alpha": _read(description, "alpha"), **_gathered(description, metric, "setting")}
    return Request(
        name=name,
        role=role,
        column=_read(metric, "column", "metrics.") or name,
        kind=kind,
        by=description.assignment.column,
        control=str(description.assignment.control),
        steps=steps,
        settings=settings,
        effect=_gathered(description, metric, "plan"),
        shown=_gathered(description, metric, "shown"),
        prior=prior,
        notes=tuple(notes),
    )


def further(arms: ByVariant[Any], *pair: Any) -> tuple[Any, ...]:
    """The variants beside a pair."""
    return tuple(arm for arm in arms.values() if all(arm is not one for one in pair))


def no_effect(key: str, question: str, metric: str, why: str) -> str:
    """The note that a key does nothing to a metric."""
    return f"{key} has no effect on {question} of {metric}: {why}."


def _gathered(description: Description, metric: Metric, to: str) -> dict[str, Any]:
    """What is set of the keys that go to one place, under the names that they have there."""
    found = {}
    for key, row in KEYS.items():
        if row.to != to:
            continue
        part, own = (metric, key.removeprefix("metrics.")) if key.startswith("metrics.") else (description, key)
        value = getattr(part, own)
        if value != usual(part, own):
            found[row.name or own] = (
                list(value) if isinstance(value, Sequence) and not isinstance(value, str) else value
            )
    return found


def _read(part: BaseModel, key: str, above: str = "") -> Any:
    """The value of a key; the usual one where no row knows it."""
    return getattr(part, key) if f"{above}{key}" in KEYS else usual(part, key)
