"""What an experiment is, as its file says it: names, columns, roles, margins, looks and the plan."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from amber_ruler.experiment.kinds import KINDS, OWN, those

Name = Annotated[str, Field(min_length=1)]
Positive = Annotated[float, Field(gt=0)]
Share = Annotated[float, Field(gt=0, lt=1)]
Alpha = Annotated[float, Field(gt=0, lt=0.5)]


class _Part(BaseModel):
    """A table of the file: nothing in it is unknown, and nothing is taken for something else."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, allow_inf_nan=False)


class Source(_Part):
    """Where the rows are: a file that `tables.table` reads, or a log of events that become one row a unit."""

    table: Name | None = Field(default=None, description="File, folder or pattern, from the experiment file's folder.")
    digest: Name | None = Field(default=None, description="Or instead: a file that `digest` wrote, without any row.")
    separator: str | None = None
    decimal: str | None = None
    thousands: str | None = None
    missing: list[str] = Field(default=[], description="Text that stands for a missing value.")
    encoding: str | None = None
    skip: Annotated[int, Field(ge=0)] = 0
    dates: dict[str, str] = Field(default={}, description="How columns of dates are written, such as '%d/%m/%Y'.")
    where: list[str] = Field(default=[], description="Rows to keep, such as 'day >= 8'.")
    relabel: list[str] = Field(default=[], description="Names of values, such as 'form: 0=current, 1=short'.")
    take: list[str] = Field(default=[], description="Of a log: columns of a unit, 'searches: count where event = x'.")
    assigned: Name | None = Field(default=None, description="Of a log: the table with all units and their variants.")

    @model_validator(mode="after")
    def _one(self) -> Self:
        if self.digest is not None and self.model_fields_set - {"digest"}:
            beside = min(self.model_fields_set - {"digest"})
            raise ValueError(f"{beside} is ignored for a digest; remove it")
        if self.assigned is not None and not self.take:
            raise ValueError("assigned names all units of a log: say what to take of each, source.take")
        return self


class Assignment(_Part):
    """Who was given what."""

    column: Name = Field(description="Column with the variant labels.")
    control: Name | int = Field(description="Label of the control.")
    split: dict[str, Positive] = Field(default={}, description="Planned shares by label, in any unit; else equal.")


class Metric(_Part):
    """One quantity that is compared."""

    kind: Literal["mean", "share", "ratio", "rate", "quantile", "two-part"] = "mean"
    column: Name | None = Field(default=None, description="Its column; the metric's own name unless given.")
    per: Name | None = Field(default=None, description="Of a ratio: the column of its denominator.")
    at: Share = Field(default=0.5, description="Of a quantile which one.")
    role: Literal["primary", "secondary", "guardrail"] = "secondary"
    good: Literal["higher", "lower"] = "higher"
    margin: Positive | None = Field(default=None, description="Smallest difference that matters, in the metric's unit.")
    margin_lift: Share | None = Field(default=None, description="Or instead: the same as a share of the control.")
    measured_in: Name | None = Field(default=None, description="Its unit of measurement, such as '€'.")
    reference: Name | None = Field(default=None, description="Where it is defined: a text or a link, which is printed.")
    covariates: list[Name] = Field(default=[], description="Columns known before the test, which sharpen it.")
    cap: Annotated[float, Field(ge=0.5, lt=1)] | None = Field(
        default=None, description="Quantile at which it is capped."
    )
    alpha: Alpha | None = Field(default=None, description="Its own error rate, instead of the experiment's.")
    effect: float | None = Field(default=None, description="The effect to plan for, in the metric's unit.")
    lift: float | None = Field(default=None, description="Or instead: as a share of the control.")

    @model_validator(mode="after")
    def _together(self) -> Self:
        if self.margin is not None and self.margin_lift is not None:
            raise ValueError("margin and margin_lift say the same thing in two units: keep one of them")
        if self.effect is not None and self.lift is not None:
            raise ValueError("effect and lift say the same thing in two units: keep one of them")
        if self.role == "guardrail" and self.margin is None and self.margin_lift is None:
            raise ValueError("a guardrail is shown to be not worse by a margin: give margin or margin_lift")
        kind = KINDS[self.kind]
        for key in sorted(OWN - kind.takes):
            if getattr(self, key) != usual(self, key):
                raise ValueError(f"{key} is for {those(key)}, and this is a {self.kind}")
        if "per" in kind.takes and self.per is None:
            raise ValueError(f"a {self.kind} needs per, the column of its denominator")
        return self


class Days(_Part):
    """When units came."""

    column: Name = Field(description="Column with the day.")
    planned: Annotated[int, Field(gt=0)] | None = Field(default=None, description="Days that the whole test takes.")


class Looks(_Part):
    """Looks before the end."""

    after: Annotated[list[Annotated[int, Field(gt=0)]], Field(min_length=1)] = Field(
        description="After how many of the days that occur one looks, the last at the end, such as [7, 14, 28]."
    )
    spending: Literal["obrien-fleming", "pocock", "power", "hwang-shih-decani"] = "obrien-fleming"
    parameter: float | None = None


class Planning(_Part):
    """What the test was planned for."""

    power: Share = 0.8
    per_day: Positive | None = Field(default=None, description="Units that arrive each day.")


class Accepted(_Part):
    """A failed check that does not stop the analysis, and why."""

    check: Name
    reason: Name


class Description(_Part):
    """An experiment."""

    name: Name
    hypothesis: str = ""
    unit: Name = Field(description="Column that names what was randomised.")
    source: Source = Field(default_factory=Source)
    assignment: Assignment
    days: Days | None = None
    metrics: Annotated[dict[Name, Metric], Field(min_length=1)]
    strata: Name | None = Field(default=None, description="Column with the strata.")
    clusters: Name | None = Field(
        default=None, description="Column with what was assigned as a whole, where that is many units (ports, weeks)."
    )
    segments: list[Name] = Field(default=[], description="Columns along which effects are looked at.")
    alpha: Alpha = 0.05
    correction: Literal["holm", "hochberg", "bonferroni", "benjamini-hochberg", "none"] = Field(
        default="holm", description="How the tests of metrics of one role and of all variants are corrected."
    )
    method: Literal["frequentist", "bayesian", "both"] = Field(
        default="frequentist",
        description="What primary metrics are judged by: tests; the posterior interval of level 1 - alpha, which is not"
        " corrected; or tests, with the posterior beside them. Other metrics are judged by tests.",
    )
    prior: str | None = Field(default=None, description="Prior of the standardised effect, such as 'cauchy 0.1'.")
    looks: Looks | None = None
    plan: Planning = Field(default_factory=Planning)
    accepted: list[Accepted] = []

    @model_validator(mode="after")
    def _together(self) -> Self:
        if not any(m.role == "primary" for m in self.metrics.values()):
            raise ValueError("no metric is primary: the decision rests on one, role = 'primary'")
        if self.looks is not None:
            if self.days is None or self.days.planned is None:
                raise ValueError("looks need [days] with column and planned")
            if self.looks.after != sorted(set(self.looks.after)) or self.looks.after[-1] != self.days.planned:
                raise ValueError(f"looks.after must rise to the planned end, {self.days.planned}")
            if self.correction not in ("bonferroni", "none"):
                raise ValueError(
                    f"correction = {self.correction!r} can't go with looks: alpha is split first, then spent over the"
                    " looks. Take 'bonferroni'"
                )
        if self.prior is not None and self.method == "frequentist":
            raise ValueError("prior goes with method = 'both' or 'bayesian'")
        if self.looks is not None and self.method == "bayesian":
            raise ValueError("looks spend the alpha of tests: they go with method = 'frequentist' or 'both'")
        for name, metric in self.named("primary").items() if self.looks is not None else ():
            if not KINDS[metric.kind].looks:
                raise ValueError(
                    f"metrics.{name}.kind = {metric.kind!r} can't be primary with looks yet: {those('looks')} can"
                )
            if metric.cap is not None:
                raise ValueError(
                    f"metrics.{name}.cap can't go with looks yet: the quantile of each look's data would change what is"
                    " compared. Remove cap, or looks"
                )
        for role in ("primary", "secondary"):
            rates = sorted({m.alpha or self.alpha for m in self.named(role).values()})
            if len(rates) > 1 and self.correction != "none":
                raise ValueError(
                    f"{role} metrics are corrected together, and have alphas of {', '.join(f'{a:g}' for a in rates)}:"
                    " give them one, or correction = 'none' and alphas that split the error budget"
                )
        return self._whole()

    def _whole(self) -> Self:
        """Clusters go with what allows for them."""
        if self.clusters is None:
            return self
        if self.looks is not None or self.segments or self.method != "frequentist":
            what = "looks" if self.looks is not None else "segments" if self.segments else f"method = {self.method!r}"
            raise ValueError(f"clusters don't go with {what} yet: they would treat clustered units as independent")
        for name, metric in self.metrics.items():
            if not KINDS[metric.kind].clustered:
                listed = those("clustered")
                raise ValueError(f"clusters go with {listed}; metrics.{name} is a {metric.kind}")
        return self

    def named(self, role: str) -> dict[str, Metric]:
        """The metrics of a role, in the order of the file."""
        return {name: metric for name, metric in self.metrics.items() if metric.role == role}

    def columns(self) -> dict[str, str]:
        """Every column that is named, and where."""
        found = {self.unit: "unit", self.assignment.column: "assignment.column"}
        if self.days is not None:
            found.setdefault(self.days.column, "days.column")
        for name, metric in self.metrics.items():
            found.setdefault(metric.column or name, f"metrics.{name}.column")
            if metric.per is not None:
                found.setdefault(metric.per, f"metrics.{name}.per")
            for covariate in metric.covariates:
                for part in covariate.split(" per "):
                    found.setdefault(part.strip(), f"metrics.{name}.covariates")
        for key in ("strata", "clusters"):
            if getattr(self, key) is not None:
                found.setdefault(getattr(self, key), key)
        for segment in self.segments:
            found.setdefault(segment, "segments")
        return found


def usual(part: BaseModel, key: str) -> Any:
    """The value that a key has where the file says nothing."""
    return type(part).model_fields[key].get_default(call_default_factory=True)


def plain(description: Description) -> dict[str, Any]:
    """What differs from the usual, in plain types."""
    found: Mapping[str, Any] = description.model_dump(exclude_defaults=True, exclude_none=True)
    return dict(found)
