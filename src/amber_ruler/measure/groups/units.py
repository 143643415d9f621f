"""Several means of the same units, each measured under every condition."""

from __future__ import annotations

from typing import Any

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks
from amber_ruler.measure.groups.reduced import Reduced
from amber_ruler.measure.groups.result import Groups
from amber_ruler.measure.groups.simultaneous import Spreads
from amber_ruler.numeric import fisher, student
from amber_ruler.results import SquaresRow, Test
from amber_ruler.samples import Sample
from amber_ruler.samples import gate as groups


def aligned(samples: Any, compare: str) -> list[Sample]:
    """The same units under each condition, in the same order."""
    found = groups.several(samples, "values")
    sizes = {s.label: len(s) for s in found}
    if len(set(sizes.values())) > 1:
        raise DataError(f"compare={compare!r} needs every unit in every group; their sizes are {sizes}.")
    if len(found[0]) < 2:
        raise DataError("The same units are compared: it takes at least 2 units.")
    return list(found)


def by_units(samples: Any, alpha: float, metric: str | None) -> Groups:
    """Compare the means of the same units under several conditions."""
    found = aligned(samples, "same-units")
    name = groups.named(metric, "value", *found)
    x = np.column_stack([s.values - found[0].values.mean() for s in found])
    n, k = x.shape
    by_group, by_unit = x.mean(axis=0), x.mean(axis=1)
    between = n * float(np.sum((by_group - x.mean()) ** 2))
    units = k * float(np.sum((by_unit - x.mean()) ** 2))
    rest = float(np.sum((x - by_group - by_unit[:, None] + x.mean()) ** 2))
    if rest <= 1e-28 * (between + units + rest):
        raise DataError("All units change alike from group to group: without any spread there is no test.")
    covariance = np.cov(x, rowvar=False)
    centred = covariance - covariance.mean(axis=0) - covariance.mean(axis=1)[:, None] + covariance.mean()
    epsilon = float(np.clip(np.trace(centred) ** 2 / ((k - 1) * np.sum(centred**2)), 1 / (k - 1), 1))
    df1, df2 = (k - 1.0) * epsilon, (k - 1.0) * (n - 1) * epsilon
    f = between / rest * (n - 1)
    # Huynh and Feldt's, of one group of units; beyond 1 where the correlations are alike.
    over = n - 1 - (k - 1) * epsilon
    milder = 1.0 if over <= 0 else max(epsilon, min(1.0, (n * (k - 1) * epsilon - 2) / ((k - 1) * over)))
    p = float(fisher.sf(f, df1, df2))
    r = Reduced.of(tuple(groups.one(s, "mean") for s in found))
    reach = student.upper_quantile(alpha / 2, r.n - 1) * r.sd / np.sqrt(r.n)
    sizes_of = effects.from_f(f, k - 1.0, (k - 1.0) * (n - 1), n=n * k, alpha=alpha)
    return Groups(
        title=f"{name} under {k} conditions",
        method="several means of the same units",
        source="Greenhouse & Geisser (1959), Psychometrika 24, 95-112",
        metric=name,
        test=Test(
            p_value=p,
            alpha=alpha,
            statistic=f,
            name="F",
            df=(df1, df2),
            critical=float(fisher.upper_quantile(alpha, df1, df2)),
            alternative="any",
        ),
        groups=r.limited(r.sd, reach),
        effects={name: sizes_of[name] for name in ("eta_squared", "omega_squared", "cohen_f")},
        squares=(
            SquaresRow("between conditions", between, k - 1.0, f, p),
            SquaresRow("between units", units, n - 1.0),
            SquaresRow("rest", rest, (k - 1.0) * (n - 1)),
            SquaresRow("in total", between + units + rest, n * k - 1.0),
        ),
        compared="same-units",
        facts={
            "epsilon": epsilon,
            "huynh_feldt_epsilon": milder,
            "huynh_feldt_p": float(fisher.sf(f, (k - 1.0) * milder, (k - 1.0) * (n - 1) * milder)),
            "uncorrected_p": float(fisher.sf(f, k - 1.0, (k - 1.0) * (n - 1))),
        },
        spreads=Spreads(r.away, r.sd**2 / n, r.n - 1, r.n, r.sd, covariance=covariance / n, shared=False),
        checks=(*checks.few(r.n), *checks.missing(*found)),
    )
