"""What is measured: of one group, or of treatment against control."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Self, TypeVar

import numpy as np
from numpy.typing import NDArray

from amber_ruler.numeric.gate import Number
from amber_ruler.results.parts import Adjustment, Correction, Draws, Evidence, Looks, Part
from amber_ruler.results.pieces import Axis, EffectSize, Group, Interval, Test, Tested
from amber_ruler.results.result import Result
from amber_ruler.results.verdicts import read_verdict

P = TypeVar("P", bound=Part)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Measurement(Result, Tested):
    """What is measured, of one group or two.

    Attributes
    ----------
    metric : str
        What was measured.
    estimate : float or ndarray
        The quantity asked for, in the metric's unit.
    se : float, ndarray or None
        Standard error of the estimate, where the method has one.
    interval : Interval
        Inverts the test shown: it excludes `null` exactly when p_value < alpha.
    test : Test or None
        The test, where there is one; `p_value`, `statistic`, `df`, `alpha`, `null`, `critical`, `alternative` and
        `margin_tests` read it. Without one alpha is 1 - level, null is 0 (1 for a ratio), the rest None.
    effects : mapping of str to EffectSize
        Effect sizes with intervals of their own.
    groups : tuple of Group
        One group, or treatment and then control.
    facts : mapping of str to float
        Further numbers of the method, such as the pooled spread or the correlation of pairs.
    quantity : "mean", "share", "rate", "quantile", "rank", "spread", "superiority" or "correlation"
        What is measured.
    good : "higher", "lower" or "neither"
        The direction in which the metric is good.
    margin : float or None
        The smallest difference that matters, in the metric's unit.
    axis : Axis or None
        What the comparisons differ by, where the numbers are arrays.
    parts : tuple of Part
        What else is said of it: `evidence`, `adjustment`, `correction`, `looks` and `draws` read them.
    """

    metric: str
    estimate: Number
    se: Number | None = None
    interval: Interval
    test: Test | None = None
    effects: Mapping[str, EffectSize] = field(default_factory=dict)
    groups: tuple[Group, ...] = ()
    facts: Mapping[str, Number] = field(default_factory=dict)
    quantity: str = "mean"
    good: str = "higher"
    margin: float | None = None
    axis: Axis | None = None
    parts: tuple[Part, ...] = ()

    @property
    def percent(self) -> bool:
        """Whether the estimate is a share or a difference of shares."""
        return self.quantity in ("share", "superiority")

    @property
    def unit(self) -> str:
        """What the estimate is counted in: "share", "ratio", "correlation", "rate", or "metric" for its own unit."""
        own = {"share": "share", "superiority": "share", "correlation": "correlation", "rate": "rate"}
        return "ratio" if getattr(self, "scale", "") == "ratio" else own.get(self.quantity, "metric")

    @property
    def alpha(self) -> float:
        """Error rate of the test; without one, 1 less the interval's level."""
        return self.test.alpha if self.test else round(1 - self.interval.level, 12)

    @property
    def null(self) -> Number:
        """The value tested; without a test, that of no effect."""
        if self.test is None and self.evidence is not None and not isinstance(self, Comparison):
            return self.evidence.null
        return self.test.null if self.test else self.no_effect

    @property
    def no_effect(self) -> float:
        """What the estimate is where there is no effect."""
        return 1.0 if self.unit == "ratio" else 0.5 if self.quantity == "superiority" else 0.0

    @property
    def alternative(self) -> str:
        """Direction of the test; without one, of the interval."""
        if self.test:
            return self.test.alternative
        if np.all(np.isinf(self.interval.high)) and not np.any(np.isinf(self.interval.low)):
            return "greater"
        return (
            "less" if np.all(np.isinf(self.interval.low)) and not np.any(np.isinf(self.interval.high)) else "two-sided"
        )

    @property
    def verdict(self) -> str | NDArray[np.str_]:
        """Read off the interval and the tests against the margin, as `read_verdict` says; empty if nothing is asked."""
        if self.quantity == "correlation" or (self.test is None and not isinstance(self, Comparison)):
            return ""
        against = self.margin_tests.get("equivalent")
        return read_verdict(
            self.interval,
            null=self.null,
            margin=self.margin,
            good=self.good,
            equivalent=None if against is None else against.holds,
        )

    def part(self, kind: type[P]) -> P | None:
        """The part of a kind, if there is one."""
        return next((p for p in self.parts if isinstance(p, kind)), None)

    def with_part(self, part: Part) -> Self:
        """The same with one more part, in the place of another of its kind."""
        return replace(self, parts=(*(p for p in self.parts if type(p) is not type(part)), part))

    @property
    def evidence(self) -> Evidence | None:
        """What the data make of a prior, if that was asked."""
        return self.part(Evidence)

    @property
    def adjustment(self) -> Adjustment | None:
        """How the difference was sharpened, if it was."""
        return self.part(Adjustment)

    @property
    def correction(self) -> Correction | None:
        """How it was corrected for others beside it, if it was."""
        return self.part(Correction)

    @property
    def looks(self) -> Looks | None:
        """At which planned look it stands, if there are several."""
        return self.part(Looks)

    @property
    def draws(self) -> Draws | None:
        """What was drawn at random, if anything was."""
        return self.part(Draws)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Estimate(Measurement):
    """A quantity of one group, tested against a value where one is given.

    Attributes
    ----------
    label : str
        The group.
    """

    label: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Comparison(Measurement):
    """Treatment against control: the estimate is always treatment minus control, or treatment over control.

    Attributes
    ----------
    treatment, control : str
        Labels of the two groups; of pairs of several groups, both stand in the axis.
    scale : "difference" or "ratio"
        Whether the estimate is treatment minus control, or treatment over control.
    paired : bool
        Whether both groups are of the same units; a third group then holds the differences.
    """

    treatment: str
    control: str
    scale: str = "difference"
    paired: bool = False
