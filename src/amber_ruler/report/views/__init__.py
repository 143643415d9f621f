"""How each kind of result is laid out: one view a kind, found by the result's type."""

from __future__ import annotations

from importlib import import_module
from typing import Any, Protocol

from amber_ruler.report.blocks import Block
from amber_ruler.results.result import Result, type_tag


class View(Protocol):
    """What a kind of result needs to be seen; a `ruler` or a `draw` makes its figure."""

    def layout(self, result: Any) -> list[Block]:
        """Blocks, from the title to the sentence."""

    def sentence(self, result: Any) -> str:
        """One plain sentence."""

    def rows(self, result: Any) -> Any:
        """Columns of a tidy frame, or a row for each."""


# The module here that views each type of result.
VIEWS = {
    "analysis": "analysis",
    "assurance": "assurance",
    "boundaries": "boundaries",
    "comparison": "comparison",
    "corrected": "corrected",
    "daily": "daily",
    "decision": "decision",
    "description": "description",
    "earlier_study": "earlier",
    "estimate": "estimate",
    "family_power": "family_power",
    "evidence_forecast": "evidence_forecast",
    "experiment_plan": "experiment_plan",
    "factors": "factors",
    "family": "family",
    "findings": "findings",
    "goodness_of_fit": "goodness_of_fit",
    "groups": "groups",
    "independence": "independence",
    "monitoring": "monitoring",
    "pairs_description": "pairs_description",
    "peeking": "peeking",
    "plan_answer": "plan",
    "plan_grid": "plan_grid",
    "recommendation": "recommendation",
    "replay": "replay",
    "replays": "replays",
    "simulation": "simulation",
    "split_check": "split",
    "split_watch": "split_watch",
    "stopping_by_evidence": "stopping_by_evidence",
    "ways_to_look": "ways_to_look",
}


def view_of(result: Result) -> Any:
    """The module that knows how a result of this type is laid out."""
    return import_module(f"amber_ruler.report.views.{VIEWS[type_tag(type(result))]}")
