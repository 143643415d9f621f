"""What an experiment is, as its file says it: names, columns, roles, margins, looks and the plan."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

Name = Annotated[str, Field(min_length=1)]
Positive = Annotated[float, Field(gt=0)]
Share = Annotated[float, Field(gt=0, lt=1)]
Alpha = Annotated[float, Field(gt=0, lt=0.5)]
KINDS = ("mean", "share", "ratio", "rate", "quantile", "two-part")


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
            raise ValueError(f"a digest is read as it is: {beside} would not be obeyed. Leave it out")
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
    per: Name | None = Field(default=None, description="Of a ratio its denominator, of a rate the exposure.")
    at: Share = Field(default=0.5, description="Of a quantile which one.")
    role: Literal["primary", "secondary", "guardrail"] = "secondary"
    good: Literal["higher", "lower"] = "higher"
    margin: Positive | None = Field(default=None, description="Smallest difference that matters, in the metric's unit.")
    margin_lift: Share | None = Field(default=None, description="Or instead: the same as a share of the control.")
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
        if self.margin is not None and self.kind == "two-part":
            raise ValueError("a two-part comparison is of ratios and has no margin")
        if self.per is not None and self.kind not in ("ratio", "rate"):
            raise ValueError(f"per is of a ratio or a rate, and this is a {self.kind}")
        if self.kind == "ratio" and self.per is None:
            raise ValueError("a ratio needs per, the column of its denominator")
        if self.kind in ("rate", "quantile", "two-part") and (self.covariates or self.cap is not None):
            raise ValueError(f"covariates and cap are of means, shares and ratios, and this is a {self.kind}")
        if self.margin_lift is not None and self.kind in ("quantile", "two-part"):
            raise ValueError(f"margin_lift is of means, shares, ratios and rates, and this is a {self.kind}")
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
            raise ValueError("prior is of method = 'both' or 'bayesian'")
        if self.looks is not None and self.method == "bayesian":
            raise ValueError("looks spend the alpha of tests: they go with method = 'frequentist' or 'both'")
        for role in ("primary", "secondary"):
            rates = sorted({m.alpha or self.alpha for m in self.named(role).values()})
            if len(rates) > 1 and self.correction != "none":
                raise ValueError(
                    f"{role} metrics are corrected together, and have alphas of {', '.join(f'{a:g}' for a in rates)}:"
                    " give them one, or correction = 'none' and alphas that share out what may be erred"
                )
        return self._whole()

    def _whole(self) -> Self:
        """Clusters go with what allows for them."""
        if self.clusters is None:
            return self
        if self.looks is not None or self.segments or self.method != "frequentist":
            what = "looks" if self.looks is not None else "segments" if self.segments else f"method = {self.method!r}"
            raise ValueError(f"clusters don't go with {what}: units of a cluster are not independent, and that is lost")
        for name, metric in self.metrics.items():
            if metric.kind in ("rate", "two-part"):
                raise ValueError(f"clusters go with means, shares, ratios and quantiles; {name} is a {metric.kind}")
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


def plain(description: Description) -> dict[str, Any]:
    """What differs from the usual, in plain types."""
    found: Mapping[str, Any] = description.model_dump(exclude_defaults=True, exclude_none=True)
    return dict(found)
