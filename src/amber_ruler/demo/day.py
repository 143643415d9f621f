"""An analyst's whole day on the shipped travellers: one step after the other."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from amber_ruler import adjust, bayes, measure, multiplicity, plan, sequential
from amber_ruler.demo.shipped import path
from amber_ruler.moments import Moments, merge
from amber_ruler.report.blocks import Ruler
from amber_ruler.report.views.measured import ruler_row, scale_said
from amber_ruler.tables import table

if TYPE_CHECKING:
    from amber_ruler.results import Comparison, Result
    from amber_ruler.samples import ByVariant

CONTROL, WEEKS = "current", 4
_PLANNED = {"current": 1.0, "guided": 1.0, "short": 1.0}
_SMALL_EFFECTS = bayes.Cauchy(scale=0.1)


@dataclass(frozen=True, slots=True)
class Step:
    """One question of the day, and what answers it."""

    heading: str
    question: str
    results: tuple[Result, ...]
    whole: bool = False  # whether to show the first result whole, or each by its ruler and sentence


@dataclass(frozen=True, slots=True)
class Day:
    """All steps, and the rulers of what was measured."""

    steps: tuple[Step, ...]
    rulers: tuple[tuple[str, Ruler], ...]


def run() -> Day:
    """Plan, check, measure, sharpen, look early, weigh the evidence, correct for many."""
    travellers = table(path("travellers"))
    fares = travellers.moments(["fare", "prior_spend"], by="form")
    fare = travellers.moments("fare", by="form")
    booked = travellers.moments("booked", by="form")
    complaint = travellers.moments("complaint", by="form")

    planned = plan.TwoMeans(sd=20.0).sample_size(effect=1.30, power=0.8)
    split = travellers.check_split(by="form", planned=_PLANNED)
    by_fare = [measure.means(arm, base, margin=0.30) for arm, base in fare.against(CONTROL)]
    by_booked = [measure.proportions(arm, base, margin=0.01) for arm, base in booked.against(CONTROL)]
    complaints = [
        measure.proportions(arm, base, margin=0.005, good="lower") for arm, base in complaint.against(CONTROL)
    ]
    sharper = [
        adjust.cuped(arm, base, value="fare", covariate="prior_spend", margin=0.30, others=_others(fares, arm.label))
        for arm, base in fares.against(CONTROL)
    ]
    bounds = sequential.boundaries(WEEKS)
    watched = sequential.monitor(bounds, _weekly_looks())
    short, base = fare["short"], fare[CONTROL]
    evidence = (
        bayes.means(short, base, prior=_SMALL_EFFECTS),
        bayes.proportions(booked["short"], booked[CONTROL]),
    )
    family = multiplicity.correct({f"{r.metric}, {r.treatment}": r for r in (*sharper, *by_booked, *complaints)})
    steps = (
        Step("Plan", "How many travellers does it take to see 1.30 more in fares?", (planned,)),
        Step("Check", "Did each form get its third of the travellers?", (split,)),
        Step("Measure", "Do travellers with the short form pay more?", (by_fare[1], by_fare[0]), whole=True),
        Step("Measure", "Do more of them book? And do more complain?", (*by_booked[::-1], *complaints[::-1])),
        Step("Sharpen", "What does spending before the test explain?", (sharper[1], sharper[0])),
        Step("Look early", "Could the test have stopped after one of its weekly looks?", (watched,), whole=True),
        Step("Weigh", "How strong is the evidence, and what would a wrong choice cost?", evidence),
        Step("Correct", "Which of all these comparisons stand together?", (family,), whole=True),
    )
    return Day(steps, _rulers(by_fare, sharper, by_booked, complaints))


def _rulers(
    fare: list[Comparison], sharper: list[Comparison], booked: list[Comparison], complaints: list[Comparison]
) -> tuple[tuple[str, Ruler], ...]:
    rows = []
    for raw, sharp in zip(fare[::-1], sharper[::-1], strict=True):
        rows.append(ruler_row(raw, f"{raw.treatment} − {raw.control}"))
        rows.append(ruler_row(sharp, f"{raw.treatment} − {raw.control}, adjusted"))
    panels = [("fare per traveller", Ruler(tuple(rows), margin=0.30, **scale_said(fare[0])))]
    for name, family in (("share who booked", booked), ("share who complained (lower is better)", complaints)):
        own = tuple(ruler_row(r, f"{r.treatment} − {r.control}") for r in family[::-1])
        panels.append((name, Ruler(own, margin=family[0].margin, percent=True, unit="pp", **scale_said(family[0]))))
    return tuple(panels)


def _others(arms: ByVariant[Moments], treatment: str) -> list[Moments]:
    """The variants beside one and the control: all share one slope."""
    return [arm for label, arm in arms.items() if label not in (treatment, CONTROL)]


def _weekly_looks() -> list[Comparison]:
    """The fares as they stood after each week: the moments of the weeks so far, merged."""
    import pandas as pd

    rows = pd.read_csv(path("travellers"), usecols=["form", "day", "fare"])
    weeks = [table(rows[(rows["day"] - 1) // 7 == week]).moments("fare", by="form") for week in range(WEEKS)]

    def so_far(form: str, week: int) -> Moments:
        return merge(w[form] for w in weeks[: week + 1])

    return [measure.means(so_far("short", k), so_far(CONTROL, k)) for k in range(WEEKS)]
