"""Groups reduced to arrays, and what every way to compare them needs."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, Group
from amber_ruler.samples import Summary


class Reduced(NamedTuple):
    """The groups as arrays; `away` is each mean less the first one, to the last digit."""

    labels: tuple[str, ...]
    n: Floats
    mean: Floats
    away: Floats
    sd: Floats
    summaries: tuple[Summary, ...]

    @classmethod
    def of(cls, found: tuple[Summary, ...]) -> Reduced:
        """From what the gate read."""
        n, mean, sd, tail = (np.array([float(getattr(s, k)) for s in found]) for k in ("n", "mean", "sd", "mean_tail"))
        away = (mean - mean[0]) + (tail - tail[0])
        return cls(tuple(s.label for s in found), n, mean, away, sd, found)

    def limited(self, sd: Floats, reach: Floats) -> tuple[Group, ...]:
        """Each group with the limits of its mean."""
        rows = zip(self.labels, self.n, self.mean, self.sd, sd / np.sqrt(self.n), reach, strict=True)
        return tuple(
            Group(label, float(n), float(m), float(s), float(se), {"low": float(m - d), "high": float(m + d)})
            for label, n, m, s, se, d in rows
        )


def uneven_spreads(r: Reduced) -> tuple[Check, ...]:
    """Say that one spread is more than twice another where the test takes them as equal."""
    some = r.sd[r.n > 1]
    if some.size == 0 or some.max() <= 2 * some.min():
        return ()
    said = f"the standard deviations go from {some.min():.3g} to {some.max():.3g}"
    advice = "The test takes them as equal: of several groups variances='unequal' does not, and costs next to nothing."
    return (Check("spreads", said, advice, "warning"),)
