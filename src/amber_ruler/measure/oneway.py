"""How much of the squares lies between groups: the classical F, which stands here once."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.numeric import fisher
from amber_ruler.numeric.gate import Floats


class OneWay(NamedTuple):
    """Sums of squares between and within groups, with their degrees of freedom."""

    between: float
    within: float
    df1: float
    df2: float

    @classmethod
    def of(cls, n: Floats, away: Floats, sd: Floats) -> OneWay:
        """From sizes, means less one common value, and standard deviations."""
        centre = float(n @ away) / float(n.sum())
        between = float(n @ (away - centre) ** 2)
        return cls(between, float((n - 1) @ sd**2), n.size - 1.0, float(n.sum()) - n.size)

    @property
    def f(self) -> float:
        """The mean square between over that within."""
        return self.between / self.df1 / (self.within / self.df2)

    @property
    def p(self) -> float:
        """Its p-value."""
        return float(fisher.sf(self.f, self.df1, self.df2))


def about_centres(values: list[Floats], test: str) -> tuple[float, float]:
    """F and p of the distances from each group's mean ("levene") or median ("brown-forsythe")."""
    centre = np.mean if test == "levene" else np.median
    away = [np.abs(v - centre(v)) for v in values]
    first = float(away[0].mean())
    n, mean, sd = (
        np.array([part(a) for a in away])
        for part in (
            len,
            lambda a: a.mean() - first,
            lambda a: np.sqrt(np.sum((a - a.mean()) ** 2) / max(a.size - 1, 1)),
        )
    )
    found = OneWay.of(n.astype(float), mean, sd)
    if found.within == 0:
        raise DataError("All values lie equally far from their group's centre: there is no spread to compare.")
    return found.f, found.p
