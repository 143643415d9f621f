"""The settings that methods have in common: each declared once, with its type, usual value, check and text.

A method takes those of one of the classes here, `**asked: Unpack[Tested]`, and writes down its own settings only. The
register fills in the usual values, checks what is given, and shows all of them in signature, docstring and commands.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal, TypeAlias, TypedDict, get_type_hints

from numpy.typing import ArrayLike

Alternative: TypeAlias = Literal["two-sided", "greater", "less"]
Good: TypeAlias = Literal["higher", "lower"]


class Nothing(TypedDict, total=False):
    """What a method takes that has none of them."""


class AtLevel(Nothing, total=False):
    """What every other method takes."""

    alpha: float


class Named(AtLevel, total=False):
    """What a method takes that speaks of one metric."""

    metric: str | None
    measured_in: str | None


class Directed(Named, total=False):
    """What a method takes whose metric has a good direction."""

    good: Good


class Tested(Directed, total=False):
    """What a method takes that tests a value."""

    null: ArrayLike | None
    alternative: Alternative


class WithMargin(Tested, total=False):
    """What a method takes that tests against a margin, too."""

    margin: float | None


class WithLift(WithMargin, total=False):
    """What a method takes whose margin may be a lift."""

    margin_lift: float | None


@dataclass(frozen=True, slots=True)
class Setting:
    """A common setting: its usual value, what it may be in words, and what it does."""

    default: Any
    kind: str
    text: str


COMMON: Mapping[str, Setting] = {
    "alpha": Setting(0.05, "float, between 0 and 0.5", "Error rate of the test; the interval has level 1 - alpha."),
    "null": Setting(0.0, "float or array_like", "Tested difference, in the metric's unit."),
    "alternative": Setting(
        "two-sided",
        '"two-sided", "greater" or "less"',
        "Direction of the test. A one-sided test carries a one-sided interval.",
    ),
    "margin": Setting(
        None,
        "float, optional",
        "The smallest difference that matters, in the metric's unit; the verdict is read against it.",
    ),
    "margin_lift": Setting(
        None,
        "float, between 0 and 1, optional",
        "The smallest difference that matters as a lift, a share of the control's mean, which must be above 0; in the"
        " place of margin.",
    ),
    "good": Setting("higher", '"higher" or "lower"', "The direction in which the metric is good."),
    "metric": Setting(None, "str, optional", "What was measured, for the heading."),
    "measured_in": Setting(
        None, "str, optional", "The unit of measurement, such as €, shown beside estimates and limits and on the axis."
    ),
    "seed": Setting(None, "int, optional", "What replays the draws."),
}


def taken(asked: Any) -> dict[str, Any]:
    """The settings of one of the classes here, with their types, in the order in which they are shown."""
    hints = get_type_hints(asked)
    return {name: hints[name] for name in COMMON if name in hints}
