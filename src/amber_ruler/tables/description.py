"""What the values of a column look like in each variant."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from amber_ruler.results import Result

MOST_DESCRIBED = 50  # variants, each with queries of its own
QUANTILES = (0.01, 0.25, 0.5, 0.75, 0.99)
MOST_BINS = 30


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
    counts : tuple of int
        Values other than 0 between the description's `edges`.
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
    counts: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Description(Result):
    """A column's values by variant.

    Attributes
    ----------
    metric : str
        The column.
    groups : mapping of label to Described
        What each variant's values look like.
    edges : tuple of float
        Ends of the intervals in which values are counted, alike for all variants: from the smallest 1 % quantile to
        the largest 99 %; between whole numbers, where there are no others. Each holds its lower end, the last both.
    by : str
        The column with the variant labels.
    """

    metric: str
    groups: Mapping[str, Described]
    edges: tuple[float, ...] = ()
    by: str = ""
