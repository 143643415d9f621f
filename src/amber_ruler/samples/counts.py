"""Successes among trials, and tables of counts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.results.pieces import Axis
from amber_ruler.samples.held import own_numbers


@dataclass(frozen=True, slots=True, eq=False)
class Counts:
    """Successes among trials in one group; arrays stand for many comparisons at once.

    Parameters
    ----------
    successes, trials : int or array_like
        Whole numbers; successes at most trials. Only a Bayesian method takes a group without trials.
    label : str
        What the group is called in every output.
    missing : int
        Units left out because they had no value.
    metric : str
        What was counted, for the heading of a result.
    axis : Axis, optional
        What the comparisons differ by, where the counts are arrays.

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
    axis: Axis | None = None

    def __post_init__(self) -> None:
        who = f" of {self.label!r}" if self.label else ""
        successes, trials = gate.whole(f"successes{who}", self.successes), gate.whole(f"trials{who}", self.trials)
        own_numbers(self, ("successes", "trials"))
        if np.any(successes > trials):
            raise InputError(f"successes{who} must not exceed trials, got {self.successes} of {self.trials}.")

    @property
    def share(self) -> Number:
        """Successes over trials; NaN without any."""
        with np.errstate(invalid="ignore"):
            return scalar_or_array(np.asarray(self.successes, dtype=np.float64) / np.asarray(self.trials))


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class CountTable(Shown):
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

    def __repr__(self) -> str:
        return f"<counts of {safe(self.row_name or 'rows')} by {safe(self.column_name or 'columns')}: {self.total:,}>"

    def _look(self) -> Look:
        rows = [(label, *(f"{n:,.0f}" for n in row)) for label, row in zip(self.rows, self.counts, strict=True)]
        return Look(f"{self.row_name or 'Rows'} by {self.column_name or 'columns'}", ("", *self.columns), rows)

    def __post_init__(self) -> None:
        counts = gate.whole("counts", self.counts)
        if counts.shape != (len(self.rows), len(self.columns)):
            raise InputError(
                f"{len(self.rows)} by {len(self.columns)} labels don't fit counts of shape {counts.shape}."
            )
        own_numbers(self, ("counts",))

    @property
    def total(self) -> int:
        """Units in all cells."""
        return int(self.counts.sum())
