"""The values of one group."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.moments import check_finite
from amber_ruler.numeric.gate import Floats
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.samples.held import changed, kept, own


@dataclass(frozen=True, slots=True, eq=False)
class Sample(Shown):
    """The values of one group, one a unit.

    Parameters
    ----------
    values : array_like, shape (n,)
        Numbers, or true/false: a list, an array, or a column of a dataframe.
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
        values = own(f"values of {self.label!r}" if self.label else "values", self.values)
        if values.ndim != 1:
            raise InputError(f"A Sample takes one-dimensional values, got shape {values.shape}.")
        missing = self.missing
        if missing == "leave out":
            known = values[~np.isnan(values)]
            missing, values = len(values) - len(known), known
        elif missing == "refuse":
            missing = 0
        elif isinstance(missing, str):
            raise InputError.unknown("missing", missing, ("refuse", "leave out"))
        check_finite("values", values, self.label)
        object.__setattr__(self, "values", values)
        object.__setattr__(self, "missing", missing)

    def __repr__(self) -> str:
        metric = f" of {safe(self.metric)}" if self.metric else ""
        return f"<sample {safe(self.label)}: {len(self.values):,} values{metric}, {int(self.missing):,} missing>"

    def _look(self) -> Look:
        middle = np.quantile(self.values, (0, 0.25, 0.5, 0.75, 1)) if self.values.size else np.full(5, np.nan)
        mean = float(np.mean(self.values)) if self.values.size else math.nan
        told = (("n", len(self.values)), ("missing", int(self.missing)), ("mean", mean))
        named = ("smallest", "25%", "median", "75%", "largest")
        rows = [*told, *zip(named, middle.tolist(), strict=True)]
        return Look(f"{self.metric or 'Sample'}: {self.label}", ("", ""), ((k, f"{v:,.6g}") for k, v in rows))

    def __len__(self) -> int:
        return len(self.values)

    def without(self, positions: Iterable[int]) -> Sample:
        """The same group without the values at some positions, counted from 0."""
        return changed(self, values=kept(self.values, positions, self.label))
