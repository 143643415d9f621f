"""What every answer is made of: numbers and labels, frozen; the report floor draws them."""

from __future__ import annotations

import dataclasses
import json
import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from importlib import import_module
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Number

__all__ = [
    "Check",
    "Comparison",
    "EffectSize",
    "Estimate",
    "Group",
    "Interval",
    "MarginTest",
    "Measurement",
    "Result",
    "SquaresRow",
]

SCHEMA = "amber-ruler result 1"

BETTER, WORSE = "better", "worse"
SAME, UNDECIDED = "no difference that matters", "undecided"


@dataclass(frozen=True, slots=True, eq=False)
class Interval:
    """Limits of a quantity at a confidence (or posterior) level; a one-sided limit is infinite."""

    low: Number
    high: Number
    level: float

    def contains(self, value: Number) -> bool | NDArray[np.bool_]:
        """Whether the limits enclose `value`, ends included."""
        inside = (np.asarray(self.low) <= value) & (np.asarray(self.high) >= value)
        return bool(inside) if inside.ndim == 0 else inside


@dataclass(frozen=True, slots=True, eq=False)
class EffectSize:
    """An effect on a scale of its own, with its own interval.

    `aside` ones are computed and kept with the others, and named but not tabled when the result is printed.
    """

    value: Number
    interval: Interval
    label: str
    percent: bool = False
    aside: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Group:
    """One group as the method saw it: units (or exposure), mean (or share, rate, quantile), and what else it used."""

    label: str
    n: Number
    mean: Number
    sd: Number = math.nan
    se: Number = math.nan
    more: Mapping[str, Number] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if np.ndim(self.n) == 0 and float(self.n).is_integer():
            object.__setattr__(self, "n", int(self.n))


@dataclass(frozen=True, slots=True, eq=False)
class MarginTest:
    """One-sided test against the margin: whether treatment is not worse by as much, or equivalent within it."""

    label: str
    p_value: Number
    holds: bool | NDArray[np.bool_]


@dataclass(frozen=True, slots=True, eq=False)
class SquaresRow:
    """One line of a table of sums of squares: what varies, how much of it, and the test of it where there is one."""

    label: str
    squares: float
    df: float
    statistic: float | None = None
    p_value: float | None = None
    effects: Mapping[str, EffectSize] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Check:
    """An assumption that was looked at: what was found, what to do.

    `severity` is "fine", "note", "warning" or "serious"; a serious one is printed above the result.
    """

    name: str
    finding: str
    advice: str = ""
    severity: str = "fine"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Result:
    """Base of every answer.

    Attributes
    ----------
    title : str
        What was asked.
    method, source : str
        How it was computed, and the citation of the formula.
    checks : tuple of Check
        Assumptions looked at.
    notes : tuple of str
        What the reader must know besides.
    seed : int or None
        What replays the answer, where chance was used.
    """

    kind: ClassVar[str] = ""

    title: str
    method: str
    source: str
    checks: tuple[Check, ...] = ()
    notes: tuple[str, ...] = ()
    seed: int | None = None

    def __str__(self) -> str:
        return str(_report().text(self))

    __repr__ = __str__

    def sentence(self) -> str:
        """Return the answer as one plain sentence that fits into a report."""
        return str(_report().sentence(self))

    def to_dict(self) -> dict[str, Any]:
        """Return plain JSON types under stable keys; what is not a finite number becomes None."""
        return {"schema": SCHEMA, "kind": self.kind, **_plain_fields(self)}

    def to_json(self, *, indent: int | None = 2) -> str:
        """Return `to_dict` as JSON text."""
        return json.dumps(self.to_dict(), indent=indent, ensure_ascii=False, allow_nan=False)

    def to_frame(self) -> pd.DataFrame:
        """Return a tidy pandas frame, one row a comparison."""
        frame: pd.DataFrame = _report().frame(self)
        return frame

    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the result, on `ax` if given, and return the Axes."""
        axes: Axes = _report().figure(self, ax)
        return axes

    def _repr_html_(self) -> str:
        return str(_report().html(self))

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self.to_dict() == other.to_dict()

    __hash__ = None  # type: ignore[assignment]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Measurement(Result):
    """What is measured, of one group or two.

    Attributes
    ----------
    metric : str
        What was measured.
    estimate : float or ndarray
        The quantity asked for, in the metric's unit.
    interval : Interval
        Inverts the test shown: it excludes `null` exactly when p_value < alpha.
    p_value, statistic, df, critical : float, ndarray or None
        The test, where there is one; `statistic_name` says which. It rejects beyond `critical`.
    alpha, alternative : float, str
        Error rate and direction.
    effects : mapping of str to EffectSize
        Effect sizes with intervals of their own.
    groups : tuple of Group
        One group, or treatment and then control.
    facts : mapping of str to float
        Further numbers of the method, such as the correlation of pairs.
    quantity : "mean", "share", "rate", "quantile", "rank", "spread" or "correlation"
        What is measured; `mean` of a group holds it, but for the last two.
    good : "higher" or "lower"
        The direction in which the metric is good.
    margin : float or None
        The smallest difference that matters, in the metric's unit.
    """

    metric: str
    estimate: Number
    interval: Interval
    p_value: Number | None = None
    statistic: Number | None = None
    statistic_name: str = ""
    df: Number | None = None
    critical: Number | None = None
    alpha: float = 0.05
    alternative: str = "two-sided"
    effects: Mapping[str, EffectSize] = field(default_factory=dict)
    groups: tuple[Group, ...] = ()
    facts: Mapping[str, Number] = field(default_factory=dict)
    quantity: str = "mean"
    good: str = "higher"
    margin: float | None = None

    @property
    def percent(self) -> bool:
        """Whether the estimate is a share or a difference of shares."""
        return self.quantity == "share"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Estimate(Measurement):
    """A quantity of one group, tested against a value where one is given.

    Attributes
    ----------
    label : str
        The group.
    null : float or None
        The value tested against, if there is one.
    """

    kind: ClassVar[str] = "estimate"

    label: str
    null: Number | None = None

    @property
    def verdict(self) -> str | NDArray[np.str_]:
        """Read off the interval: better or worse than the value tested, as for a comparison; empty without one."""
        if self.null is None or self.quantity == "correlation":
            return ""
        return read_verdict(self.interval, null=self.null, margin=self.margin, good=self.good)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Comparison(Measurement):
    """Treatment against control: the estimate is always treatment minus control, or treatment over control.

    Attributes
    ----------
    treatment, control : str
        Labels of the two groups.
    null : float or ndarray
        The difference (or ratio) tested.
    ratio : bool
        Whether the estimate is treatment over control.
    paired : bool
        Whether both groups are of the same units; a third group then holds the differences.
    margin_tests : mapping of str to MarginTest
        "not_worse" and "equivalent", where a margin was given.
    """

    kind: ClassVar[str] = "comparison"

    treatment: str
    control: str
    null: Number = 0.0
    ratio: bool = False
    paired: bool = False
    margin_tests: Mapping[str, MarginTest] = field(default_factory=dict)

    @property
    def verdict(self) -> str | NDArray[np.str_]:
        """Read off the interval: better, worse, no difference that matters, or undecided."""
        return read_verdict(self.interval, null=self.null, margin=self.margin, good=self.good)


def read_verdict(
    interval: Interval, *, null: Number = 0.0, margin: float | None = None, good: str = "higher"
) -> str | NDArray[np.str_]:
    """Say what an interval decides.

    Within `margin` of `null` on both sides it is no difference that matters; wholly on the good side of `null`
    it is better, on the other side worse; else undecided.
    """
    low, high = np.asarray(interval.low) - null, np.asarray(interval.high) - null
    up, down = (BETTER, WORSE) if good == "higher" else (WORSE, BETTER)
    room = margin or 0.0
    words = np.select([(low > -room) & (high < room), low > 0, high < 0], [SAME, up, down], UNDECIDED)
    return str(words) if words.ndim == 0 else words


def _report() -> Any:
    return import_module("amber_ruler.report")


def _plain_fields(item: Any) -> dict[str, Any]:
    plain = {f.name: _plain(getattr(item, f.name)) for f in dataclasses.fields(item)}
    if hasattr(item, "verdict"):
        plain["verdict"] = _plain(item.verdict)
    return plain


def _plain(value: Any) -> Any:
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return value.to_dict() if isinstance(value, Result) else _plain_fields(value)
    if isinstance(value, Mapping):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(v) for v in value]
    if isinstance(value, (np.ndarray, np.generic)):
        return _plain(value.tolist())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value
