"""What an experiment's steps bring: its plan, its analysis, and what to do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from amber_ruler.plan import PlanAnswer
from amber_ruler.results import Comparison, Family, Result
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
    """

    primary: Family | None
    secondary: Family | None
    guardrails: Family | None
    monitored: Mapping[str, Monitoring]
    evidence: Mapping[str, Comparison]
    days_seen: int | None
    days_planned: int | None
    early: bool


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Recommendation(Result):
    """What to do with each treatment, and why.

    Attributes
    ----------
    words : mapping of str to str
        For each treatment: "ship" (primary better, every guardrail shown), "stop" (harm is shown), "hold" (neither),
        "wait" (it is too early) or "fix" (a check failed: nothing can be believed yet).
    reasons : mapping of str to tuple of str
        Line by line.
    overridden : mapping of str to str
        Where someone decided otherwise: for each treatment the reason given.
    """

    words: Mapping[str, str]
    reasons: Mapping[str, tuple[str, ...]]
    overridden: Mapping[str, str]
