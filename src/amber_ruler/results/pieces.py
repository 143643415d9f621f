"""The pieces that results are put together from."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from amber_ruler.numeric.gate import Number, scalar_or_array
from amber_ruler.results.display import safe

__all__ = [
    "Axis",
    "Chances",
    "Check",
    "EffectSize",
    "Group",
    "Interval",
    "MarginTest",
    "PosteriorSummary",
    "SquaresRow",
    "Test",
    "Tested",
]


@dataclass(frozen=True, slots=True, eq=False)
class Interval:
    """Limits of a quantity at a confidence (or posterior) level; a one-sided limit is infinite.

    Attributes
    ----------
    low, high : float or ndarray
        The limits.
    level : float
        Such as 0.95.
    low_open, high_open : bool or ndarray
        Whether a limit is itself left out: it then lies at the tested value, which the test rejects.
    excludes : pair or None
        Where a ratio's control can't be told from 0: the values between these two are left out, and no others.
    """

    low: Number
    high: Number
    level: float
    low_open: bool | NDArray[np.bool_] = False
    high_open: bool | NDArray[np.bool_] = False
    excludes: tuple[Number, Number] | None = None

    def contains(self, value: Number) -> bool | NDArray[np.bool_]:
        """Whether the limits enclose `value`, ends included unless they are open."""
        if self.excludes is not None:
            outside = ~((np.asarray(self.excludes[0]) < value) & (np.asarray(self.excludes[1]) > value))
            inside = replace(self, excludes=None).contains(value) & outside
            return bool(inside) if np.ndim(inside) == 0 else inside
        if isinstance(value, float) and isinstance(self.low, float) and isinstance(self.high, float):
            above = self.low < value or (self.low == value and not self.low_open)
            return above and (self.high > value or (self.high == value and not self.high_open))
        low, high = np.asarray(self.low), np.asarray(self.high)
        above = (low < value) | ((low == value) & ~np.asarray(self.low_open))
        inside = above & ((high > value) | ((high == value) & ~np.asarray(self.high_open)))
        return bool(inside) if inside.ndim == 0 else inside

    def scaled(self, factor: float) -> Interval:
        """The interval of the quantity times a factor above 0."""

        def times(ends: tuple[Number, Number]) -> tuple[Number, Number]:
            low, high = (scalar_or_array(np.asarray(end) * factor) for end in ends)
            return low, high

        low, high = times((self.low, self.high))
        excludes = None if self.excludes is None else times(self.excludes)
        return Interval(low, high, self.level, self.low_open, self.high_open, excludes)


@dataclass(frozen=True, slots=True, eq=False)
class EffectSize:
    """An effect on a scale of its own, with its own interval.

    Attributes
    ----------
    value, interval, label
        The effect, its limits, and what it is called.
    unit : str
        "" where it has none (standardised effects), "share", "relative" (a lift) or "ratio".
    aside : bool
        Computed and kept with the others, and named but not tabled when the result is printed.
    """

    value: Number
    interval: Interval
    label: str
    unit: str = ""
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


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Test:
    """A test: what was computed, and what it says against the null.

    Attributes
    ----------
    p_value : float or ndarray
    alpha : float
        Error rate; the test rejects where p_value < alpha.
    statistic, name : float, ndarray or None, str
        The statistic and what it is called; an exact test may have none.
    df : float, ndarray, pair of float, or None
        Degrees of freedom: one number, or both of an F.
    critical : float, ndarray or None
        The statistic beyond which the test rejects.
    null : float or ndarray
        The value tested.
    alternative : str
        "two-sided", "greater", "less", or "any" where there is no direction.
    p_error : float or None
        Monte-Carlo standard error of the p-value, where it was drawn.
    margin_tests : mapping of str to MarginTest
        "not_worse" and "equivalent", where a margin was given.
    margin_interval : Interval or None
        The interval of level 1 - 2 alpha that these tests read: both hold where it lies within the margin.
    """

    __test__ = False  # no test of ours, whatever a test runner makes of the name

    p_value: Number
    alpha: float
    statistic: Number | None = None
    name: str = ""
    df: Number | tuple[Number, Number] | None = None
    critical: Number | None = None
    null: Number = 0.0
    alternative: str = "two-sided"
    p_error: float | None = None
    margin_tests: Mapping[str, MarginTest] = field(default_factory=dict)
    margin_interval: Interval | None = None


class Tested:
    """Reads a result's test as its own properties; without a test most are None."""

    __slots__ = ()

    @property
    def p_value(self) -> Number | None:
        """P-value of the test, if there is one."""
        return self._test.p_value if self._test else None

    @property
    def statistic(self) -> Number | None:
        """The test's statistic, if it has one."""
        return self._test.statistic if self._test else None

    @property
    def statistic_name(self) -> str:
        """What the statistic is called."""
        return self._test.name if self._test else ""

    @property
    def df(self) -> Number | tuple[Number, Number] | None:
        """Degrees of freedom: one number, or both of an F."""
        return self._test.df if self._test else None

    @property
    def critical(self) -> Number | None:
        """The statistic beyond which the test rejects."""
        return self._test.critical if self._test else None

    @property
    def margin_tests(self) -> Mapping[str, MarginTest]:
        """Tests against the margin, where one was given."""
        return self._test.margin_tests if self._test else {}

    @property
    def _test(self) -> Test | None:
        test: Test | None = getattr(self, "test")  # noqa: B009 - a field of the class that mixes this in
        return test


@dataclass(frozen=True, slots=True, eq=False)
class PosteriorSummary:
    """What is believed of one quantity after the data.

    Attributes
    ----------
    label, unit : str
        What it is, and "metric", "share", "relative" (a lift), "ratio", "rate", "correlation" or "" (without one).
    median : float or ndarray
    interval : Interval
        As much probability below as above.
    densest : Interval or None
        The shortest interval of that level.
    mean, sd : float, ndarray or None
        None where the posterior has none.
    """

    label: str
    unit: str
    median: Number
    interval: Interval
    densest: Interval | None = None
    mean: Number | None = None
    sd: Number | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Chances:
    """Posterior probabilities for prior odds of an effect against none, the null among them.

    Attributes
    ----------
    none, better, worse : float or ndarray
        That there is no effect, a good one, a bad one: 1 in all.
    within : float, ndarray or None
        That the effect lies within the margin, no effect included.
    """

    none: Number
    better: Number
    worse: Number
    within: Number | None = None


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class SquaresRow:
    """One line of a table of sums of squares: what varies, how much of it, and the test of it where there is one."""

    label: str
    squares: float
    df: float
    statistic: float | None = None
    p_value: float | None = None
    effects: Mapping[str, EffectSize] = field(default_factory=dict)
    mean_square: float = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "mean_square", self.squares / self.df if self.df > 0 else math.nan)

    def __repr__(self) -> str:
        tested = "" if self.statistic is None else f", F {self.statistic:.4g}, p {self.p_value:.3g}"
        return f"<{safe(self.label)}: squares {self.squares:.6g}, df {self.df:g}{tested}>"


@dataclass(frozen=True, slots=True)
class Axis:
    """What the comparisons of one result differ by: segment, pair, look, prior scale, variant, metric."""

    name: str
    labels: tuple[str, ...]

    def __post_init__(self) -> None:
        object.__setattr__(self, "labels", tuple(map(str, self.labels)))


@dataclass(frozen=True, slots=True)
class Check:
    """An assumption that was looked at: what was found, what to do.

    `severity` is "fine", "note", "warning" or "serious"; a serious one is printed above the result.
    """

    name: str
    finding: str
    advice: str = ""
    severity: str = "fine"
