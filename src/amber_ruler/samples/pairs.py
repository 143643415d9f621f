"""Two values of each unit, aligned."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments, check_finite
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Group, Result
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.results.result import HIDDEN
from amber_ruler.samples.held import changed, kept, own


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class Pairs(Shown):
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

    def __repr__(self) -> str:
        return f"<{len(self):,} pairs: {safe(self.labels[0])} and {safe(self.labels[1])}>"

    def _look(self) -> Look:
        sides = zip((*self.labels, "difference"), (self.treatment, self.control, self.differences), strict=True)
        rows = ((label, *(f"{v:,.6g}" for v in _told(values))) for label, values in sides)
        below = f"{len(self):,} pairs; {self.left_out:,} units had one side only"
        return Look(
            f"{self.metric or 'Pairs'}: {' and '.join(self.labels)}", ("", "mean", "smallest", "largest"), rows, below
        )

    def __post_init__(self) -> None:
        sides = [own(name, getattr(self, name)) for name in ("treatment", "control")]
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

    def without(self, positions: Iterable[int]) -> Pairs:
        """The same pairs without the units at some positions, counted from 0."""
        places = list(positions)
        both = {side: kept(getattr(self, side), places, "pairs") for side in ("treatment", "control")}
        return changed(self, **both)

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
            metric=self.metric,
            pairs=self,
        )


def _told(values: Floats) -> tuple[float, ...]:
    return (float(np.mean(values)), float(np.min(values)), float(np.max(values))) if values.size else (math.nan,) * 3


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
    metric : str
        What the values are.
    pairs : Pairs or None
        The values, for the figure; not part of JSON.
    """

    groups: tuple[Group, ...]
    correlation: float | None
    left_out: int
    metric: str = ""
    pairs: Pairs | None = field(default=None, metadata=HIDDEN)
