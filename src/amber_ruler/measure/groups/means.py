"""Several means: Welch's test, which keeps the variances apart, and the classical one."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks
from amber_ruler.measure.groups.reduced import Reduced, uneven_spreads
from amber_ruler.measure.groups.result import Groups
from amber_ruler.measure.groups.simultaneous import Spreads
from amber_ruler.measure.oneway import OneWay
from amber_ruler.numeric import fisher, student
from amber_ruler.results import EffectSize, SquaresRow, Test
from amber_ruler.samples import gate as groups

METHODS = {
    "unequal": ("several means, unequal variances", "Welch (1951), Biometrika 38, 330-336"),
    "equal": ("several means, equal variances", "Fisher (1925), Statistical Methods for Research Workers"),
}


def by_means(samples: Any, alpha: float, variances: str, metric: str | None) -> Groups:
    """Compare means: Welch's F, or the classical one."""
    r = Reduced.of(groups.several(samples, "mean"))
    name = groups.named(metric, "value", *r.summaries)
    classic = OneWay.of(r.n, r.away, r.sd)
    if classic.within == 0:
        raise DataError(
            f"Within each of the {r.n.size} groups all values are equal: without any spread there is no test."
        )
    lone = [label for label, n in zip(r.labels, r.n, strict=True) if n < 2]
    still = [label for label, s in zip(r.labels, r.sd, strict=True) if s == 0]
    if variances == "unequal" and (lone or still):
        why = f"{lone[0]!r} has 1 unit" if lone else f"every value of {still[0]!r} equals the others"
        raise DataError(f"{why}, so its own spread is unknown: take variances='equal', or leave the group out.")
    welch = None if lone or still else _welch(r)
    f, df2 = welch if variances == "unequal" and welch is not None else (classic.f, classic.df2)
    p = float(fisher.sf(f, classic.df1, df2))
    notes = _choice_decides(variances, p, alpha, classic, welch)
    pooled = math.sqrt(classic.within / classic.df2)
    sd = np.full(r.n.size, pooled) if variances == "equal" else r.sd
    df = np.full(r.n.size, classic.df2) if variances == "equal" else r.n - 1
    reach = student.upper_quantile(alpha / 2, df) * sd / np.sqrt(r.n)
    method, source = METHODS[variances]
    return Groups(
        title=f"{name} in {r.n.size} groups",
        method=method,
        source=source,
        metric=name,
        test=Test(
            p_value=p,
            alpha=alpha,
            statistic=f,
            name="F",
            df=(classic.df1, df2),
            critical=float(fisher.upper_quantile(alpha, classic.df1, df2)),
            alternative="any",
        ),
        groups=r.limited(sd, reach),
        effects=_shares(classic, alpha),
        squares=(
            SquaresRow("between groups", classic.between, classic.df1, classic.f, classic.p),
            SquaresRow("within groups", classic.within, classic.df2),
            SquaresRow("in total", classic.between + classic.within, classic.df1 + classic.df2),
        ),
        compared=variances,
        facts={"pooled_sd": pooled} | ({} if lone else _brown_forsythe(r)),
        spreads=Spreads(r.away, sd**2 / r.n, df, r.n, r.sd, shared=variances == "equal"),
        checks=(
            *checks.few(*r.n),
            *(uneven_spreads(r) if variances == "equal" else ()),
            *checks.skewed(alpha, "two-sided", *r.summaries),
            *checks.missing(*r.summaries),
        ),
        notes=notes,
    )


def _welch(r: Reduced) -> tuple[float, float]:
    """Welch's F, and its second degrees of freedom."""
    k, weight = r.n.size, r.n / r.sd**2
    share = weight / weight.sum()
    lack = float(np.sum((1 - share) ** 2 / (r.n - 1)))
    spread = float(weight @ (r.away - share @ r.away) ** 2) / (k - 1)
    return spread / (1 + 2 * (k - 2) / (k * k - 1) * lack), (k * k - 1) / (3 * lack)


def _brown_forsythe(r: Reduced) -> dict[str, float]:
    """F* of Brown and Forsythe: squares between groups over what they are expected to be without a difference.

    References
    ----------
    .. [1] Brown & Forsythe (1974), Technometrics 16, 129-132.
    """
    parts = (1 - r.n / r.n.sum()) * r.sd**2
    f = float(r.n @ (r.away - r.n @ r.away / r.n.sum()) ** 2) / float(parts.sum())
    df2 = 1 / float(np.sum((parts / parts.sum()) ** 2 / (r.n - 1)))
    p = float(fisher.sf(f, r.n.size - 1.0, df2))
    return {"brown_forsythe_f": f, "brown_forsythe_df": df2, "brown_forsythe_p": p}


def _shares(classic: OneWay, alpha: float) -> dict[str, EffectSize]:
    """Shares of the variance that lie between groups, all with the interval of the population's share."""
    found = effects.from_f(classic.f, classic.df1, classic.df2, alpha=alpha)
    share = found["eta_squared"].interval
    epsilon = max(
        0.0, 1 - (classic.df1 + classic.df2) / classic.df2 * classic.within / (classic.between + classic.within)
    )
    return {
        "eta_squared": replace(found["eta_squared"], label="η²"),
        "epsilon_squared": EffectSize(epsilon, share, "ε²", aside=True),
        "omega_squared": replace(found["omega_squared"], label="ω²"),
        "cohen_f": found["cohen_f"],
    }


def _choice_decides(
    variances: str, p: float, alpha: float, classic: OneWay, welch: tuple[float, float] | None
) -> tuple[str, ...]:
    if welch is None:
        return ()
    other_f, other_df = (classic.f, classic.df2) if variances == "unequal" else welch
    other = float(fisher.sf(other_f, classic.df1, other_df))
    if (other < alpha) == (p < alpha):
        return ()
    kind = "equal" if variances == "unequal" else "unequal"
    return (f"The choice of variances decides: with {kind} ones F is {other_f:.4g} and p {other:.3g}.",)
