"""What the values of a column look like in each variant."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from amber_ruler.errors import DataError
from amber_ruler.results import Group, Result

if TYPE_CHECKING:
    from collections.abc import Mapping

    from amber_ruler.tables.digest import Digest

QUANTILES = (0.01, 0.25, 0.5, 0.75, 0.99)


@dataclass(frozen=True, slots=True)
class Described:
    """The values of one variant.

    Attributes
    ----------
    n, missing : int
        Rows with and without a value.
    mean, sd, se, skewness : float
        Moments; se is that of the mean.
    low, high : float
        Smallest and largest value.
    quantiles : tuple of float
        The 1 %, 25 %, 50 %, 75 % and 99 % quantiles.
    zeros : float
        Share of zeros.
    largest_share : float or None
        The largest value's share of the total, where no value is negative.
    units : int or None
        Distinct units, where their column was named.
    """

    n: int
    missing: int
    mean: float
    sd: float
    se: float
    skewness: float
    low: float
    quantiles: tuple[float, ...]
    high: float
    zeros: float
    largest_share: float | None
    units: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Description(Result):
    """A column's values by variant.

    Attributes
    ----------
    metric : str
        The column.
    groups : mapping of label to Described
        What each variant's values look like.
    """

    kind: ClassVar[str] = "description"

    metric: str
    groups: Mapping[str, Described]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Daily(Result):
    """A column's mean by day and variant.

    Attributes
    ----------
    metric : str
        The column.
    days : tuple of str
        The days, in their order.
    groups : mapping of label to tuple of (Group or None)
        For each variant and day the count, mean, sd and standard error; None on a day without a value.
    """

    kind: ClassVar[str] = "daily"

    metric: str
    days: tuple[str, ...]
    groups: Mapping[str, tuple[Group | None, ...]]


def daily(digest: Digest, metric: str) -> Daily:
    """A metric's series by variant, from moments by day."""
    if not digest.day:
        raise DataError("This digest has no days: make it with day=, the column that holds them.")
    days = sorted({cell[2] for cell in digest.cells if cell[2]}, key=_in_order)
    series: dict[str, list[Group | None]] = {}
    for k, day in enumerate(days):
        for label, m in digest.moments(metric, days=(day,)).items():
            sd = m.sd(metric) if m.n > 1 else 0.0
            own = series.setdefault(label, [None] * len(days))
            own[k] = Group(day, m.n, m.mean(metric), sd, sd / m.n**0.5)
    return Daily(
        title=f"{metric} by {digest.day}",
        method="mean of each variant on each day, with its 95% interval",
        source="",
        metric=metric,
        days=tuple(days),
        groups={label: tuple(groups) for label, groups in sorted(series.items())},
    )


def _in_order(day: str) -> tuple[float, str]:
    """Numbers by size, dates and names by their text."""
    try:
        return float(day), day
    except ValueError:
        return math.inf, day
