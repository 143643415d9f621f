"""Several means, adjusted for covariates: analysis of covariance."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks
from amber_ruler.measure.groups.result import Groups
from amber_ruler.measure.groups.simultaneous import Spreads
from amber_ruler.moments import Moments
from amber_ruler.numeric import fisher, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, Group, SquaresRow, Test
from amber_ruler.samples.gate import by_label

_SOURCE = "Fisher (1932), Statistical Methods for Research Workers, 4th ed., section 49.1"


def by_covariance(samples: Any, wanted: str | Sequence[str], alpha: float, metric: str | None) -> Groups:
    """Compare means at the same values of covariates, by one slope for all groups."""
    covariates = (wanted,) if isinstance(wanted, str) else wanted
    if not isinstance(covariates, (tuple, list)) or not covariates or len(set(map(str, covariates))) < len(covariates):
        raise InputError.rule("covariates", wanted, "the names of different columns")
    found = _joint(samples, covariates)
    value = next(c for c in found[0].columns if c not in covariates)
    names = (value, *covariates)
    n = np.array([float(m.n) for m in found])
    means = np.array([[float(m.means[m.columns.index(c)]) for c in names] for m in found])
    within_each = np.array([_products(m, names) for m in found])
    k, q, total = n.size, len(covariates), float(n.sum())
    df2 = total - k - q
    if df2 < 1:
        raise DataError(f"{total:,.0f} units in {k} groups are too few for {q} slopes: the error has {df2:g} df.")
    away = means - means[0]
    centre = n @ away / total
    within = within_each.sum(axis=0)
    whole = within + np.einsum("g,gi,gj->ij", n, away - centre, away - centre)
    rest, slopes, inverse = _left_over(within)
    rest_whole, _, _ = _left_over(whole)
    if rest <= 1e-13 * within[0, 0]:
        raise DataError("The covariates tell every value of the metric: without any spread there is no test.")
    between = max(rest_whole - rest, 0.0)
    f = between / (k - 1) / (rest / df2)
    p = float(fisher.sf(f, k - 1.0, df2))
    s2 = rest / df2
    apart = away[:, 1:] - centre[1:]
    adjusted = means[:, 0] - apart @ slopes
    covariance = s2 * (np.diag(1 / n) + apart @ inverse @ apart.T)
    error = np.sqrt(np.diag(covariance))
    reach = float(student.upper_quantile(alpha / 2, df2)) * error
    own = np.sqrt(within_each[:, 0, 0] / np.maximum(n - 1, 1))
    explained = within[0, 0] - rest
    slope_f = explained / q / s2
    facts = {f"slope of {c}": float(b) for c, b in zip(covariates, slopes, strict=True)}
    facts |= {"residual_sd": float(np.sqrt(s2)), "covariates_f": slope_f}
    facts["covariates_p"] = float(fisher.sf(slope_f, float(q), df2))
    alike = _slopes_alike(within_each, rest, n, q)
    facts |= alike
    found_effects = effects.from_f(f, k - 1.0, df2, n=total, alpha=alpha)
    name = metric or value
    return Groups(
        title=f"{name} in {k} groups, adjusted for {', '.join(covariates)}",
        method=f"several means, analysis of covariance, {q} slope{'s' if q > 1 else ''}",
        source=_SOURCE,
        metric=name,
        test=Test(
            p_value=p,
            alpha=alpha,
            statistic=f,
            name="F",
            df=(k - 1.0, df2),
            critical=float(fisher.upper_quantile(alpha, k - 1.0, df2)),
            alternative="any",
        ),
        groups=tuple(
            Group(m.label, float(size), float(at), float(sd), float(se), {"low": float(at - d), "high": float(at + d)})
            for m, size, at, sd, se, d in zip(found, n, adjusted, own, error, reach, strict=True)
        ),
        effects={key: found_effects[key] for key in ("eta_squared", "omega_squared", "cohen_f")},
        squares=(
            SquaresRow("between groups, adjusted", between, k - 1.0, f, p),
            SquaresRow("covariates", explained, float(q), slope_f, facts["covariates_p"]),
            SquaresRow("rest", rest, df2),
        ),
        compared="adjusted",
        facts=facts,
        spreads=Spreads(
            adjusted - adjusted[0], np.diag(covariance), np.full(k, df2), n, own, shared=True, covariance=covariance
        ),
        checks=(*_slopes_check(alike, alpha), *checks.missing(*found)),
    )


def _joint(samples: Any, covariates: Sequence[str]) -> list[Moments]:
    """Moments of the metric and the covariates on the same rows."""
    found = by_label(samples)
    for label, group in found.items():
        if not isinstance(group, Moments):
            raise InputError(
                f"covariates are of the same rows as the metric: {label!r} is {type(group).__name__}. Give"
                " Moments of all columns, such as table.moments([metric, covariate], by=…)."
            )
        lacking = [c for c in covariates if c not in group.columns]
        if lacking:
            raise InputError.unknown("covariates", lacking[0], group.columns)
        if len(group.columns) != len(covariates) + 1:
            raise InputError(
                f"Besides the covariates there is one metric: {label!r} has the columns {list(group.columns)}."
            )
    return [m.relabel(str(label)) for label, m in found.items()]


def _products(m: Moments, names: Sequence[str]) -> Floats:
    at = [m.columns.index(c) for c in names]
    return np.asarray(m.comoments[np.ix_(at, at)])


def _left_over(squares: Floats) -> tuple[float, Floats, Floats]:
    """Squares of the first column that the others do not explain, their slopes, and the inverse of their squares."""
    scale = np.sqrt(np.diag(squares)[1:])
    if np.any(scale == 0):
        raise DataError("A covariate never varies within the groups: leave it out.")
    inner = squares[1:, 1:] / np.outer(scale, scale)
    if np.linalg.cond(inner) > 1e12:
        raise DataError("Covariates go together so closely that their slopes can't be told apart: leave one out.")
    inverse = np.linalg.inv(inner) / np.outer(scale, scale)
    slopes = inverse @ squares[1:, 0]
    return float(squares[0, 0] - slopes @ squares[1:, 0]), slopes, inverse


def _slopes_alike(within_each: Floats, rest: float, n: Floats, q: int) -> dict[str, float]:
    """F of whether the groups share their slopes, where each has enough units for its own."""
    k, df2 = n.size, float(n.sum()) - n.size * (q + 1)
    if np.any(n < q + 2):
        return {}
    try:
        own = sum(_left_over(w)[0] for w in within_each)
    except DataError:
        return {}
    if own <= 0:
        return {}
    f = max(rest - own, 0.0) / (q * (k - 1)) / (own / df2)
    return {"slopes_f": f, "slopes_p": float(fisher.sf(f, q * (k - 1.0), df2))}


def _slopes_check(alike: dict[str, float], alpha: float) -> tuple[Check, ...]:
    p = alike.get("slopes_p")
    if p is None:
        return ()
    if p >= alpha:
        return (Check("one slope", f"no difference among the groups, p {p:.3g}"),)
    advice = "Adjusted means then depend on where they are compared: look at each group's own line."
    return (Check("one slope", f"the groups differ in their slopes, p {p:.3g}", advice, "warning"),)
