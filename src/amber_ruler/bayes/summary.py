"""Posteriors as results tell them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.measure.shared import Question
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results import Interval, PosteriorSummary
from amber_ruler.results.parts import LARGEST


class Believed(Protocol):
    """A posterior: rows of a `Posterior`, or a difference of two."""

    def quantiles(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The values with so much probability below, and then those with so much above."""

    def densest(self, level: float) -> tuple[Floats, Floats]:
        """The shortest interval with so much probability."""

    def mean_and_sd(self) -> tuple[Floats | None, Floats | None]:
        """Mean and standard deviation, where there are such."""


def figures(ask: Question, posterior: Believed, *, moments: bool = True) -> Floats:
    """Mean, standard deviation, median, central and densest interval of each row; shape (7, rows)."""
    low, median, high = posterior.quantiles((ask.tail[0], 0.5), (ask.tail[1],)).T
    mean, sd = posterior.mean_and_sd() if moments else (None, None)
    none = np.full(low.shape, np.nan)
    first = (none if mean is None else mean, none if sd is None else sd)
    return np.stack([*first, median, low, high, *posterior.densest(ask.level)])


def summary(
    ask: Question,
    known: Floats,
    label: str,
    unit: str = "metric",
    *,
    shape: tuple[int, ...] = (),
    factor: ArrayLike = 1.0,
    shift: ArrayLike = 0.0,
) -> PosteriorSummary:
    """What `figures` holds, times a factor, and shifted; rows take `shape`. What a posterior lacks is None."""
    mean, sd, median, low, high, first, last = (
        scalar_or_array(np.reshape(row * factor + (0.0 if k == 1 else shift), shape)) for k, row in enumerate(known)
    )
    return PosteriorSummary(
        label,
        unit,
        median,
        Interval(low, high, ask.level),
        Interval(first, last, ask.level),
        None if np.isnan(mean).all() else mean,
        None if np.isnan(sd).all() else sd,
    )


def stacked(rows: Sequence[PosteriorSummary], shape: tuple[int, ...]) -> PosteriorSummary:
    """One quantity of many questions, as arrays of a shape."""
    if shape == ():
        return rows[0]

    def told(values: list[Number | None]) -> Floats:
        return np.reshape([np.nan if v is None else v for v in values], shape)

    first = rows[0]
    mean, sd = told([r.mean for r in rows]), told([r.sd for r in rows])
    central, densest = (
        Interval(told([i.low for i in each]), told([i.high for i in each]), first.interval.level)
        for each in ([r.interval for r in rows], [r.densest or r.interval for r in rows])
    )
    return PosteriorSummary(
        first.label,
        first.unit,
        told([r.median for r in rows]),
        central,
        densest,
        None if np.isnan(mean).all() else mean,
        None if np.isnan(sd).all() else sd,
    )


def exp(log: ArrayLike) -> Number:
    """A number from its log; what is beyond floats stays at the largest that is told."""
    return scalar_or_array(np.exp(np.minimum(np.asarray(log), LARGEST)))
