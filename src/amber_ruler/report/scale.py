"""The graduated scale under every ruler."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from amber_ruler.report.blocks import Ruler


@dataclass(frozen=True, slots=True)
class Scale:
    """Ends of a ruler and the marks between them."""

    low: float
    high: float
    ticks: tuple[float, ...]
    decimals: int

    def place(self, value: float, cells: int) -> int:
        """The cell, from 0 to cells - 1, that holds a value; values beyond the ends go to the ends."""
        share = (min(max(value, self.low), self.high) - self.low) / (self.high - self.low)
        return min(cells - 1, round(share * (cells - 1)))


def scale_of(ruler: Ruler, *, most_ticks: int = 7) -> Scale:
    """Fit a scale to all rows, the zero mark and the margin."""
    points = [] if ruler.centre is None else [ruler.centre + side * (ruler.margin or 0) for side in (-1, 0, 1)]
    for row in ruler.rows:
        points += [v for v in (row.low, row.estimate, row.high) if math.isfinite(v)]
    low, high = min(points), max(points)
    room = (high - low) or abs(high) or 1.0
    low, high = low - 0.08 * room, high + 0.08 * room
    step = _nice_step((high - low) / most_ticks)
    first = math.ceil(low / step)
    ticks = tuple(k * step for k in range(first, math.floor(high / step) + 1))
    decimals = max(0, -math.floor(math.log10(step) + 1e-9)) + (
        1 if str(step / 10 ** math.floor(math.log10(step)))[:3] == "2.5" else 0
    )
    return Scale(low, high, ticks, decimals)


def _nice_step(rough: float) -> float:
    magnitude = 10.0 ** math.floor(math.log10(rough))
    return next(m * magnitude for m in (1.0, 2.0, 2.5, 5.0, 10.0) if m * magnitude >= rough * (1 - 1e-9))
