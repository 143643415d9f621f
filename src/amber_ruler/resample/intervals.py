"""From drawn estimates to intervals."""

from __future__ import annotations

from typing import Literal, NamedTuple, TypeAlias

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats

Kind: TypeAlias = Literal["bca", "percentile", "basic", "normal", "studentised"]
SOURCES = {
    "bca": "Efron (1987), Journal of the American Statistical Association 82, 171-185",
    "percentile": "Efron & Tibshirani (1993), An Introduction to the Bootstrap, section 13.3",
    "basic": "Davison & Hinkley (1997), Bootstrap Methods and their Application, section 2.4",
    "normal": "Efron & Tibshirani (1993), An Introduction to the Bootstrap, section 12.3",
    "studentised": "Hall (1988), Annals of Statistics 16, 927-953",
}


class Drawn(NamedTuple):
    """Estimates of resamples, each column in order, and the chance that one is no greater."""

    values: Floats  # (b, k)
    below: Floats  # (b, k)

    @classmethod
    def of(cls, values: Floats, chances: Floats | None = None) -> Drawn:
        """From estimates in any order; without chances all are as likely."""
        order = np.argsort(values, axis=0, kind="stable")
        ordered = np.take_along_axis(values, order, axis=0)
        if chances is None:
            steps = np.arange(1, len(values) + 1) / len(values)
            return cls(ordered, np.repeat(steps[:, None], values.shape[1], axis=1))
        return cls(ordered, np.cumsum(chances[order], axis=0))

    def quantile(self, p: Floats) -> Floats:
        """The smallest value with at least p below or at it, p of each column."""
        at = [int(np.searchsorted(self.below[:, j], p[j] - 1e-12)) for j in range(len(p))]
        return np.array([self.values[min(i, len(self.values) - 1), j] for j, i in enumerate(at)])

    def share_below(self, value: Floats) -> Floats:
        """The chance of less than a value of each column, and half that of the value itself."""
        found = []
        for j, v in enumerate(value):
            column = self.values[:, j]
            near = 1e-12 * max(abs(v), abs(column[0]), abs(column[-1]))
            under, upto = (
                int(np.searchsorted(column, v - near, "left")),
                int(np.searchsorted(column, v + near, "right")),
            )
            low, high = (0.0 if i == 0 else float(self.below[i - 1, j]) for i in (under, upto))
            found.append((low + high) / 2)
        return np.array(found)


def acceleration(without: list[Floats]) -> Floats:
    """Σ d³ / (6 (Σ d²)^1.5), where d = (n − 1)/n (mean of what is left without a unit, less that without this one)."""
    cubes, squares = np.zeros(without[0].shape[1]), np.zeros(without[0].shape[1])
    for each in without:
        n = len(each)
        d = (n - 1) / n * (np.nanmean(each, axis=0) - each)
        cubes, squares = cubes + np.nansum(d**3, axis=0), squares + np.nansum(d**2, axis=0)
    return np.where(squares > 0, cubes / (6 * np.where(squares > 0, squares, 1.0) ** 1.5), 0.0)


def levels(drawn: Drawn, estimate: Floats, a: Floats, tails: tuple[float, float]) -> tuple[list[Floats], Floats]:
    """The levels of the two BCa limits, and the bias correction z0."""
    share = drawn.share_below(estimate)
    if np.any((share <= 0) | (share >= 1)):
        raise DataError(
            "All resamples lie on one side of the estimate: a BCa interval has no bias correction. Take another"
            " interval, such as 'basic'."
        )
    z0 = normal.quantile(share)
    found = []
    for tail in (tails[0], 1 - tails[1]):
        z = z0 + normal.quantile(tail)
        with np.errstate(invalid="ignore"):
            moved = normal.cdf(z0 + z / (1 - a * z))
        found.append(np.where(np.isfinite(z), moved, tail))
    return found, z0


def ends_error(drawn: Drawn, p: Floats, count: int) -> Floats:
    """Monte-Carlo standard error of a quantile of the draws, from the draws a standard error of p to either side."""
    spread = np.sqrt(p * (1 - p) / count)
    return (drawn.quantile(np.minimum(p + spread, 1.0)) - drawn.quantile(np.maximum(p - spread, 0.0))) / 2
