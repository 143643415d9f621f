"""What a method takes for a group: raw values, published numbers, counts, or moments."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar, TypeAlias

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments, check_finite
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results import Group, Result

__all__ = ["CountTable", "Counts", "Events", "Pairs", "Sample", "Summary"]

JOINT = " · "  # between the levels of several columns in one label


@dataclass(frozen=True, slots=True, eq=False)
class Sample:
    """The values of one group, one a unit.

    Parameters
    ----------
    values : array_like, shape (n,)
        Numbers, or true/false.
    label : str
        What the group is called in every output.
    missing : "refuse" or "leave out", or int
        What to do with NaN: refuse (the default), or leave out and count. A number states how many values
        were already left out.
    metric : str
        What the values are, for the heading of a result.

    Examples
    --------
    >>> Sample([3.0, 4.0, float("nan")], "short", missing="leave out").missing
    1
    """

    values: Floats
    label: str = ""
    missing: int | str = "refuse"
    metric: str = ""

    def __post_init__(self) -> None:
        values = gate.floats("values", self.values)
        if values.ndim != 1:
            raise InputError(f"A Sample takes one-dimensional values, got shape {values.shape}.")
        missing = self.missing
        if missing == "leave out":
            kept = values[~np.isnan(values)]
            missing, values = len(values) - len(kept), kept
        elif missing == "refuse":
            missing = 0
        elif isinstance(missing, str):
            raise InputError.unknown("missing", missing, ("refuse", "leave out"))
        check_finite("values", values, self.label)
        object.__setattr__(self, "values", values)
        object.__setattr__(self, "missing", missing)

    def __len__(self) -> int:
        return len(self.values)


@dataclass(frozen=True, slots=True, eq=False)
class Summary:
    """Published numbers of one group; arrays stand for many comparisons at once.

    Parameters
    ----------
    n : int or array_like
        Units.
    mean, sd : float or array_like
        Mean and standard deviation (with n - 1 below), in the metric's unit.
    label : str
        What the group is called in every output.
    missing : int
        Units left out because they had no value.
    mean_tail : float or array_like
        What the float64 mean rounds away; filled in by a reduction from rows.

    Examples
    --------
    >>> Summary(n=4, mean=2.5, sd=1.0, label="current").n
    4
    """

    n: Number
    mean: Number
    sd: Number
    label: str = ""
    missing: int = 0
    metric: str = ""
    mean_tail: Number = field(default=0.0, repr=False)

    def __post_init__(self) -> None:
        who = f" of {self.label!r}" if self.label else ""
        gate.whole(f"n{who}", self.n, 1)
        gate.finite(f"mean{who}", self.mean)
        gate.at_least(f"sd{who}", self.sd, 0)


@dataclass(frozen=True, slots=True, eq=False)
class Counts:
    """Successes among trials in one group; arrays stand for many comparisons at once.

    Examples
    --------
    >>> Counts(30, 200, "short").share
    0.15
    """

    successes: Number
    trials: Number
    label: str = ""
    missing: int = 0
    metric: str = ""

    def __post_init__(self) -> None:
        who = f" of {self.label!r}" if self.label else ""
        successes, trials = gate.whole(f"successes{who}", self.successes), gate.whole(f"trials{who}", self.trials, 1)
        if np.any(successes > trials):
            raise InputError(f"successes{who} must not exceed trials, got {self.successes} of {self.trials}.")

    @property
    def share(self) -> Number:
        """Successes over trials."""
        return scalar_or_array(np.asarray(self.successes, dtype=np.float64) / self.trials)


@dataclass(frozen=True, slots=True, eq=False)
class Events:
    """Events over an exposure in one group: calls in a month, complaints of so many travellers.

    Parameters
    ----------
    count : int or array_like
        Events.
    exposure : float or array_like
        What they are counted over: time, units, distance.
    label : str
        What the group is called in every output.
    dispersion : float, optional
        Variance of the counts per unit over their mean, where it is known: 1 in a Poisson process.
    units : int, optional
        Units that the dispersion was seen in.

    Examples
    --------
    >>> Events(30, 120.0, "short").rate
    0.25
    """

    count: Number
    exposure: Number
    label: str = ""
    missing: int = 0
    metric: str = ""
    dispersion: float | None = None
    units: int | None = None

    def __post_init__(self) -> None:
        who = f" of {self.label!r}" if self.label else ""
        gate.whole(f"count{who}", self.count)
        gate.positive(f"exposure{who}", self.exposure)

    @property
    def rate(self) -> Number:
        """Events for each unit of exposure."""
        return scalar_or_array(np.asarray(self.count, dtype=np.float64) / self.exposure)


@dataclass(frozen=True, slots=True, eq=False)
class CountTable:
    """Counts by two columns: how many units have this and that.

    Parameters
    ----------
    counts : array_like, shape (r, c)
        Whole numbers, a row for each row label.
    rows, columns : tuple of str
        Labels of rows and columns.
    row_name, column_name : str
        What rows and columns are.

    Examples
    --------
    >>> CountTable([[30, 10], [20, 40]], ("Gullhaven", "Tern Quay"), ("single", "return")).total
    100
    """

    counts: Floats
    rows: tuple[str, ...]
    columns: tuple[str, ...]
    row_name: str = ""
    column_name: str = ""

    def __post_init__(self) -> None:
        counts = gate.whole("counts", self.counts)
        if counts.shape != (len(self.rows), len(self.columns)):
            raise InputError(
                f"{len(self.rows)} by {len(self.columns)} labels don't fit counts of shape {counts.shape}."
            )
        object.__setattr__(self, "counts", counts)

    @property
    def total(self) -> int:
        """Units in all cells."""
        return int(self.counts.sum())


@dataclass(frozen=True, slots=True, eq=False)
class Pairs:
    """Two values of each unit, aligned: treatment and control of the same vessel, after and before.

    Parameters
    ----------
    treatment, control : array_like, shape (n,)
        Values of both sides, in the same order of units.
    labels : pair of str
        What the two sides are called.
    left_out : int
        Units that had a value on one side only.
    metric : str
        What the values are, for the heading of a result.

    Examples
    --------
    >>> Pairs([39.0, 41.5], [42.0, 44.0], ("after", "before")).differences.tolist()
    [-3.0, -2.5]
    """

    treatment: Floats
    control: Floats
    labels: tuple[str, str] = ("treatment", "control")
    left_out: int = 0
    metric: str = ""

    def __post_init__(self) -> None:
        sides = [gate.floats(name, getattr(self, name)) for name in ("treatment", "control")]
        if sides[0].ndim != 1 or sides[0].shape != sides[1].shape:
            raise InputError(
                f"Pairs take two arrays of equal length, got shapes {sides[0].shape} and {sides[1].shape}."
            )
        for name, label, values in zip(("treatment", "control"), self.labels, sides, strict=True):
            check_finite(name, values, label)
            object.__setattr__(self, name, values)

    def __len__(self) -> int:
        return len(self.treatment)

    @property
    def differences(self) -> Floats:
        """Treatment minus control, unit by unit."""
        return self.treatment - self.control

    def describe(self) -> PairsDescription:
        """How do the two sides lie, and how closely do they go together? `plot()` draws a line for each unit.

        Examples
        --------
        >>> both = Pairs([39.0, 41.5, 40.0], [42.0, 44.0, 43.5], ("after", "before"))
        >>> round(both.describe().correlation, 3)
        0.923
        """
        if len(self) < 2:
            raise DataError(f"Pairs of {len(self)} units have no spread: at least 2 are needed.")
        sides = {"treatment": self.treatment, "control": self.control, "difference": self.differences}
        together = Moments.from_arrays(sides)

        def group(side: str, label: str) -> Group:
            sd = together.sd(side)
            return Group(label, together.n, together.mean(side), sd, sd / together.n**0.5)

        still = min(together.sd("treatment"), together.sd("control")) == 0
        return PairsDescription(
            title=f"{self.metric or 'value'}: {self.labels[1]} and {self.labels[0]}",
            method="two values of each unit, and how they go together",
            source="",
            groups=(*map(group, ("control", "treatment"), self.labels[::-1]), group("difference", "difference")),
            correlation=None if still else together.correlation("treatment", "control"),
            left_out=self.left_out,
            pairs=self,
        )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class PairsDescription(Result):
    """Two values of each unit, side by side.

    Attributes
    ----------
    groups : tuple of Group
        Control, treatment, and their difference.
    correlation : float or None
        Pearson correlation of the two sides; None where one of them never varies.
    left_out : int
        Units that had a value on one side only.
    pairs : Pairs
        The values.
    """

    kind: ClassVar[str] = "pairs_description"

    groups: tuple[Group, ...]
    correlation: float | None
    left_out: int
    pairs: Pairs


MeanGroup: TypeAlias = Sample | Summary | Moments | ArrayLike
ShareGroup: TypeAlias = Sample | Counts | Moments | ArrayLike
RateGroup: TypeAlias = Sample | Events | Moments | ArrayLike


def values_of(group: MeanGroup, label: str) -> Sample:
    """The values themselves, for methods that need them; `label` serves where the group has none."""
    if isinstance(group, (Summary, Moments)):
        raise InputError(f"{type(group).__name__} holds no values: give the values, such as table.split(…) does.")
    sample = _sample_of(group, label)
    if len(sample) == 0:
        raise DataError(f"Variant {sample.label!r} is empty ({int(sample.missing):,} values missing).")
    return sample


def raw_values(**groups: MeanGroup) -> dict[str, Floats]:
    """Values by label, where every group has them; otherwise nothing."""
    if any(isinstance(group, (Summary, Moments)) for group in groups.values()):
        return {}
    samples = [_sample_of(group, role) for role, group in groups.items()]
    return {sample.label: sample.values for sample in samples}


def summary_of(group: MeanGroup, label: str, *, rows: int = 2) -> Summary:
    """Reduce a group to count, mean and spread; `label` serves where the group has none."""
    if isinstance(group, Summary):
        return group if group.label else replace(group, label=label)
    moments = _moments_of(group, label)
    if moments.n < rows:
        raise DataError(f"Variant {moments.label!r} has {moments.n} row with a value: a spread needs at least 2.")
    (column,) = moments.columns
    sd = moments.sd(column) if moments.n > 1 else 0.0
    tail = float(moments.tails[0])
    return Summary(moments.n, moments.mean(column), sd, moments.label, moments.missing, column, tail)


def counts_of(group: ShareGroup, label: str) -> Counts:
    """Reduce a group of 0/1 values to successes and trials."""
    if isinstance(group, Counts):
        return group if group.label else replace(group, label=label)
    if isinstance(group, Summary):
        raise InputError("Proportions take Counts(successes, trials) or 0/1 values, not a Summary.")
    if not isinstance(group, Moments):
        group = _sample_of(group, label)
        odd = group.values[(group.values != 0) & (group.values != 1)]
        if odd.size:
            raise DataError(_not_binary(f"{odd.size:,} other values such as {odd[0]:g}", group.label))
    moments = _moments_of(group, label)
    # Of values within 0..1, only zeros and ones have a sum of squares equal to their sum.
    mean = float(moments.means[0])
    successes = round(moments.n * mean)
    squares = moments.comoments[0, 0] + moments.n * mean * mean
    slack = 1e-6 * max(1.0, moments.n * 1e-6)
    if not 0 <= mean <= 1 or abs(moments.n * mean - successes) > slack or abs(squares - successes) > slack:
        raise DataError(_not_binary(f"other values (their mean is {mean:g})", moments.label))
    return Counts(successes, moments.n, moments.label, moments.missing, moments.columns[0])


def events_of(group: RateGroup, label: str) -> Events:
    """Reduce counts per unit, each with an exposure of 1, to events over units."""
    if isinstance(group, Events):
        return group if group.label else replace(group, label=label)
    if isinstance(group, (Summary, Counts)):
        raise InputError(f"Rates take Events(count, exposure) or counts per unit, not {type(group).__name__}.")
    moments = _moments_of(group, label)
    total = moments.n * (float(moments.means[0]) + float(moments.tails[0]))
    whole = round(total)
    if total < 0 or abs(total - whole) > 1e-6 * max(1.0, whole * 1e-6):
        raise DataError(f"A rate takes counts, whole and not below 0; those of {moments.label!r} add up to {total:g}.")
    mean = float(moments.means[0])
    dispersion = None
    if moments.n > 1 and mean > 0:
        dispersion = float(moments.comoments[0, 0]) / (moments.n - 1) / mean
    (column,) = moments.columns
    return Events(whole, float(moments.n), moments.label, moments.missing, column, dispersion, moments.n)


def _not_binary(found: str, label: str) -> str:
    return (
        f"A proportion takes values 0 and 1 (or false and true); variant {label!r} has {found}."
        " Turn the column into a yes or no first, or compare means."
    )


def _moments_of(group: MeanGroup, label: str) -> Moments:
    if isinstance(group, Moments):
        if len(group.columns) != 1:
            raise InputError(f"These moments hold the columns {list(group.columns)}: pick one with .select(name).")
        return group if group.label else group.relabel(label)
    sample = values_of(group, label)
    missing = int(sample.missing)  # a count by now: Sample has settled the rule
    return Moments.from_arrays({sample.metric or "value": sample.values}, label=sample.label, missing=missing)


def _sample_of(group: MeanGroup, label: str) -> Sample:
    if isinstance(group, Sample):
        return group if group.label else replace(group, label=label)
    return Sample(gate.floats(f"values of {label!r}", group), label)  # type: ignore[arg-type]
