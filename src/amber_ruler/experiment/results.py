"""What an experiment's steps bring: its plan, its analysis, and what to do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from amber_ruler.plan import PlanAnswer
from amber_ruler.results import Comparison, Family, Interval, MarginTest, Result
from amber_ruler.sequential import Monitoring


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class ExperimentPlan(Result):
    """How many units each metric takes, and which one drives the test.

    Attributes
    ----------
    answers : mapping of str to PlanAnswer
        The size for each metric that has an effect to plan for, or a guardrail's margin.
    driving : str
        The metric that takes the most units.
    n_total : int
        Units that it takes, in all variants together.
    days : int or None
        Days that this takes with the planned traffic.
    power_of_all : float or None
        At least: the chance that every primary metric and every guardrail shows what it was planned to, at `n_total`.
    """

    answers: Mapping[str, PlanAnswer]
    driving: str
    n_total: int
    days: int | None = None
    power_of_all: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Analysis(Result):
    """All metrics of an experiment, each treatment against the control.

    Attributes
    ----------
    primary, secondary, guardrails : Family or None
        By role. Primary comparisons are corrected together, secondary ones too and by themselves; guardrails are not,
        because all of them must hold.
    monitored : mapping of str to Monitoring
        With looks: the looks so far of each primary comparison.
    evidence : mapping of str to Comparison
        With a prior: what the data make of it, for each primary comparison.
    days_seen, days_planned : int or None
        How many days there are, and how many were planned.
    early : bool
        Whether it is before the planned end, without planned looks: no p is then final.
    shown : mapping of metric to mapping of key to str
        Texts of the experiment file that the report shows beside a metric.
    """

    primary: Family | None
    secondary: Family | None
    guardrails: Family | None
    monitored: Mapping[str, Monitoring]
    evidence: Mapping[str, Comparison]
    days_seen: int | None
    days_planned: int | None
    early: bool
    shown: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Reason:
    """One reason of a recommendation, in numbers.

    Attributes
    ----------
    kind : str
        "metric": what a primary metric or a guardrail shows. "accepted", "failed": a check. "early": before the planned
        end. Then the one that decides: "harm", "next look", "none better", "not shown" or "better".
    metrics : tuple of str
        The metric, or those that decide.
    role : str
        "primary" or "guardrail", of a metric.
    verdict : str
        As the comparison has it.
    estimate, interval, p_value, adjusted_p : float, Interval, float, float, or None
        As the comparison has them; no adjusted p where it was not corrected.
    unit : str
        What the estimate is counted in, as `Comparison.unit` has it.
    measured_in : str
        The metric's unit of measurement, where it was given.
    margin_test : MarginTest or None
        Of a guardrail: the test that treatment is not worse by its margin.
    note : str
        The check's name and finding, the reason why it was accepted, or how many days there are.
    """

    kind: str
    metrics: tuple[str, ...] = ()
    role: str = ""
    verdict: str = ""
    estimate: float | None = None
    interval: Interval | None = None
    p_value: float | None = None
    adjusted_p: float | None = None
    unit: str = "metric"
    measured_in: str = ""
    margin_test: MarginTest | None = None
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Recommendation(Result):
    """What to do with each treatment, and why.

    Attributes
    ----------
    words : mapping of str to str
        For each treatment: "ship" (primary better, every guardrail shown), "stop" (harm is shown), "hold" (neither),
        "wait" (it is too early) or "fix" (a check failed: nothing can be believed yet).
    reasons : mapping of str to tuple of Reason
        For each treatment; the last one decides.
    overridden : mapping of str to str
        Where someone decided otherwise: for each treatment the reason given.
    """

    words: Mapping[str, str]
    reasons: Mapping[str, tuple[Reason, ...]]
    overridden: Mapping[str, str]
