"""Several groups by their ranks."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks
from amber_ruler.measure.groups.result import Groups
from amber_ruler.measure.groups.simultaneous import Spreads
from amber_ruler.measure.groups.units import aligned
from amber_ruler.measure.ranks import quartered
from amber_ruler.numeric import chisquare, fisher
from amber_ruler.numeric import ranks as order
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, EffectSize, Group, Interval, Test
from amber_ruler.samples import Sample
from amber_ruler.samples import gate as groups


def by_ranks(samples: Any, alpha: float, metric: str | None, test: str | None = None) -> Groups:
    """Compare ranks: Kruskal and Wallis's H, with the correction for ties."""
    found = groups.several(samples, "values")
    name = groups.named(metric, "value", *found)
    n = np.array([float(len(s)) for s in found])
    placed, known = order.mean_ranks(np.concatenate([s.values for s in found]))
    total, k = float(n.sum()), n.size
    lost = float(np.sum(known.times**3 - known.times))
    spread = (total * (total + 1) - lost / (total - 1)) / 12  # variance of one rank, times N - 1 over N
    if spread <= 0:
        raise DataError(f"All {int(total):,} values are equal: there is no order to compare.")
    each = np.split(placed, np.cumsum(n[:-1]).astype(int))
    mean = np.array([float(v.mean()) for v in each])
    h = float(n @ (mean - (total + 1) / 2) ** 2) / spread
    tested, exact = _chi_square("H", h, k - 1.0, alpha), test == "exact"
    if exact:
        sums = n * mean
        p = order.kruskal_chance(known.times.astype(int), n.astype(int), float(np.sum(sums**2 / n)))
        if p is None:
            raise InputError(
                f"{int(total):,} values in {k} groups can be dealt out in too many ways for the exact test: take"
                " test='asymptotic', which is good there."
            )
        tested = replace(tested, p_value=p, df=None, critical=None)
    low, high = (float(v) for v in chisquare.noncentrality_bounds(h, k - 1.0, alpha / 2, alpha / 2))
    limits = Interval(low / (low + total), high / (high + total), 1 - alpha)
    return Groups(
        title=f"{name} in {k} groups, by ranks",
        method=f"several groups by ranks{', exact' if exact else ''}",
        source="Kruskal & Wallis (1952), JASA 47, 583-621",
        metric=name,
        test=tested,
        groups=_ranked(found, mean),
        effects={"epsilon_squared": EffectSize(h / (total - 1), limits, "ε² of the ranks")},
        compared="ranks",
        spreads=Spreads(mean - mean[0], spread / n, np.full(k, np.inf), n, np.full(k, np.nan), shared=True),
        checks=(*(() if exact else _small_ranks(n)), *checks.missing(*found)),
    )


def by_ranks_of_units(samples: Any, alpha: float, metric: str | None) -> Groups:
    """Compare the ranks that conditions have within each unit: Friedman's test, with the correction for ties."""
    found = aligned(samples, "same-units-ranks")
    name = groups.named(metric, "value", *found)
    x = np.column_stack([s.values for s in found])
    n, k = x.shape
    placed = np.empty(x.shape)
    for j in range(k):
        below, same = ((compare(x, x[:, [j]])).sum(axis=1) for compare in (np.less, np.equal))
        placed[:, j] = below + (same + 1) / 2
    mean, spread = placed.mean(axis=0), float(np.sum((placed - (k + 1) / 2) ** 2)) / (n * (k - 1))
    if spread <= 0:
        raise DataError("Within each unit all values are equal: there is no order to compare.")
    q = n * float(np.sum((mean - (k + 1) / 2) ** 2)) / spread
    most = n * (k - 1.0)
    f = math.inf if q >= most * (1 - 1e-14) else (n - 1) * q / (most - q)
    return Groups(
        title=f"{name} under {k} conditions, by ranks",
        method="several conditions of the same units, by ranks within each",
        source="Friedman (1937), JASA 32, 675-701",
        metric=name,
        test=_chi_square("Q", q, k - 1.0, alpha),
        groups=_ranked(found, mean),
        effects={},
        compared="ranks",
        facts={"kendall_w": q / most, "f": f, "f_p": float(fisher.sf(f, k - 1.0, (k - 1.0) * (n - 1)))},
        spreads=Spreads(
            mean - mean[0], np.full(k, spread / n), np.full(k, np.inf), np.full(k, float(n)), np.full(k, np.nan),
            shared=True,
        ),
        checks=(*_few_units(n, k), *checks.missing(*found)),
    )  # fmt: skip


def _chi_square(name: str, statistic: float, df: float, alpha: float) -> Test:
    return Test(
        p_value=float(chisquare.sf(statistic, df)),
        alpha=alpha,
        statistic=statistic,
        name=name,
        df=df,
        critical=float(chisquare.upper_quantile(alpha, df)),
        alternative="any",
    )


def _ranked(samples: Sequence[Sample], mean: Floats) -> tuple[Group, ...]:
    """Each group's quartiles with its mean rank."""
    each = zip((quartered(s.label, order.ordered(s.values)) for s in samples), mean.tolist(), strict=True)
    return tuple(replace(g, more={**g.more, "mean rank": m}) for g, m in each)


def _few_units(n: int, k: int) -> tuple[Check, ...]:
    if n * k >= 30:
        return ()
    advice = "The chi-square of Q is an approximation that wants more; the F in `facts` comes closer."
    return (Check("units", f"{n} units under {k} conditions", advice, "warning"),)


def _small_ranks(n: Floats) -> tuple[Check, ...]:
    if n.min() >= 5:
        return ()
    advice = "The chi-square of H is an approximation that wants about 5 in each group: take test='exact'."
    return (Check("group sizes", f"the smallest group has {int(n.min())} units", advice, "warning"),)
