"""What is measured: of one group, or of treatment against control."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Self, TypeVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Number
from amber_ruler.results.parts import (
    Adjustment,
    Anytime,
    Correction,
    Draws,
    Evidence,
    Influence,
    Looks,
    Part,
    Pooling,
    Strata,
    Survival,
    Trace,
)
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
    quantity : str
        "mean", "adjusted mean", "ratio", "share", "adjusted share", "rate", "quantile", "rank", "spread", "distance",
        "superiority" or "correlation": What is measured.
    measured_in : str
        The metric's unit of measurement, such as "€"; empty where none was given.
    good : "higher", "lower" or "neither"
        The direction in which the metric is good.
    margin : float or None
        The smallest difference that matters, in the metric's unit.
    margin_lift : float or None
        The same as a lift, where it was given so; `test.margin_interval` is then that of the lift.
    axis : Axis or None
        What the comparisons differ by, where the numbers are arrays.
    parts : tuple of Part
        What else is said of it: `evidence`, `trace`, `pooling`, `adjustment`, `strata`, `correction`, `looks`,
        `anytime`, `survival`, `influence` and `draws` read them.
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
    measured_in: str = ""
    good: str = "higher"
    margin: float | None = None
    margin_lift: float | None = None
    axis: Axis | None = None
    parts: tuple[Part, ...] = ()

    @property
    def percent(self) -> bool:
        """Whether the estimate is a share, a difference of shares, or a lift."""
        by_quantity = self.quantity in ("share", "adjusted share", "superiority", "lift", "distance")
        return by_quantity and getattr(self, "scale", "") != "ratio"

    @property
    def unit(self) -> str:
        """What the estimate is counted in: "share", "ratio", "correlation", "rate", or "metric" for its own unit."""
        own = {
            "share": "share",
            "adjusted share": "share",
            "superiority": "share",
            "distance": "share",
            "lift": "share",
            "correlation": "correlation",
            "rate": "rate",
        }
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
        equivalent = None if against is None else against.holds
        if against is None and self.margin_lift is not None:  # as at a look, whose interval of the lift is the one
            equivalent = self._within_the_lift(self.margin_lift)
        return read_verdict(self.interval, null=self.null, margin=self.margin, good=self.good, equivalent=equivalent)

    def _within_the_lift(self, size: float) -> bool | NDArray[np.bool_]:
        """Whether the interval of the lift lies within a margin that is one."""
        lift = self.effects.get("lift")
        if lift is None or lift.interval.excludes is not None:
            return False
        inside = (np.asarray(lift.interval.low) > -size) & (np.asarray(lift.interval.high) < size)
        return bool(inside) if inside.ndim == 0 else inside

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
    def trace(self) -> Trace | None:
        """How the evidence moves along prior scales or data, if that was asked."""
        return self.part(Trace)

    @property
    def pooling(self) -> Pooling | None:
        """What many estimates have in common, if they were pooled."""
        return self.part(Pooling)

    def across_priors(self, scales: ArrayLike | None = None, *, priors: Sequence[Any] | None = None) -> Self:
        """Ask again under many priors: does the prior drive the answer?

        Parameters
        ----------
        scales : array_like, optional
            Scales of the prior, in its own unit (of a uniform one its upper ends); 200 from a tenth of the chosen one
            to ten times it, if neither these nor priors are given.
        priors : sequence, optional
            Whole priors instead.

        Returns
        -------
        Measurement
            Of the same kind, an array along an axis of priors; in `trace` the Bayes factors with the chosen prior, one
            that is sqrt(2) times as wide and one twice as wide, the largest factor, and where the evidence passes a
            threshold of 3 (or the one that was asked), either way.

        Raises
        ------
        InputError
            If there is no Bayes factor, or the result can't be asked again.

        Examples
        --------
        >>> from amber_ruler import Summary, bayes
        >>> r = bayes.means(Summary(80, 5.5, 2.0, "short"), Summary(80, 4.5, 2.0, "current"))
        >>> r.across_priors([0.5, 1.0, 2.0]).evidence.bayes_factor.round(1)
        array([17.3, 13.2,  7.8])
        """
        evidence = self.evidence
        if self.asked is None:
            raise InputError("This result was read back, and holds no data to be asked again under other priors.")
        if evidence is None or evidence.log_bayes_factor is None or np.ndim(evidence.log_bayes_factor):
            raise InputError("Priors are laid open for one question with a Bayes factor.")
        if scales is not None and priors is not None:
            raise InputError("Give scales or priors, not both.")
        chosen = evidence.belief
        threshold = evidence.threshold or 3.0
        if priors is not None:
            each = [self.asked.again(bare=True, prior=prior) for prior in priors]
            found: Self = _side_by_side(each, Axis("prior", tuple(map(str, priors))))
            return found.with_part(Trace.of("prior", np.arange(1.0, len(each) + 1), _log_factors(found), threshold))
        if not hasattr(chosen, "scaled"):
            raise InputError(f"The prior {evidence.prior} has no one scale: give whole priors, as priors=[…].")
        own = float(chosen.scale_now)
        usual = own * np.geomspace(0.1, 10, 200)
        at = np.sort(usual if scales is None else np.ravel(gate.positive("scales", scales)))
        found = self.asked.again(bare=True, prior=chosen.scaled(at))
        found = replace(found, axis=Axis("prior scale", tuple(f"{v:.4g}" for v in at)))
        beside = {"chosen": own, "wide": own * np.sqrt(2), "very wide": 2 * own}
        there = self.asked.again(bare=True, prior=chosen.scaled(np.array([*beside.values()])))
        marks = {
            name: (float(scale), float(log_factor))
            for (name, scale), log_factor in zip(beside.items(), _log_factors(there), strict=True)
            if at[0] <= scale <= at[-1]
        }
        return found.with_part(Trace.of("prior scale", at, _log_factors(found), threshold, marks))

    @property
    def adjustment(self) -> Adjustment | None:
        """How the difference was sharpened, if it was."""
        return self.part(Adjustment)

    @property
    def strata(self) -> Strata | None:
        """The effect in each stratum or segment, if that was asked."""
        return self.part(Strata)

    @property
    def correction(self) -> Correction | None:
        """How it was corrected for others beside it, if it was."""
        return self.part(Correction)

    @property
    def looks(self) -> Looks | None:
        """At which planned look it stands, if there are several."""
        return self.part(Looks)

    @property
    def anytime(self) -> Anytime | None:
        """What holds at each moment by itself, if it was asked at any moment."""
        return self.part(Anytime)

    @property
    def survival(self) -> Survival | None:
        """The share without an event by each time."""
        return self.part(Survival)

    @property
    def influence(self) -> Influence | None:
        """The units that carry the result."""
        return self.part(Influence)

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


M = TypeVar("M", bound=Measurement)


def _log_factors(result: Measurement) -> Any:
    part = result.evidence
    return np.ravel(np.nan if part is None or part.log_bayes_factor is None else part.log_bayes_factor)


def _side_by_side(each: Sequence[M], axis: Axis) -> M:
    """Single results as one array along an axis: what all of them have."""
    first = each[0]

    def together(values: list[Any]) -> Any:
        return None if any(v is None for v in values) else np.array([float(v) for v in values])

    parts = [one.evidence for one in each]
    names = (
        "chance_better", "chance_worse", "chance_within", "expected_loss", "control_loss", "log_chance_better",
        "log_chance_worse", "log_expected_loss", "log_control_loss", "bayes_factor", "log_bayes_factor",
        "log_factor_above", "log_factor_below",
    )  # fmt: skip
    evidence = Evidence(
        prior="as the axis says", **{name: together([getattr(p, name) for p in parts]) for name in names}
    )
    low, high = (np.array([float(getattr(one.interval, end)) for one in each]) for end in ("low", "high"))
    return replace(
        first,
        estimate=np.array([float(one.estimate) for one in each]),
        interval=Interval(low, high, first.interval.level),
        effects={},
        axis=axis,
        parts=(evidence,),
    )
