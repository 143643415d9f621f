"""Covariance adjustment by least squares, with standard errors that unequal variances don't mislead."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import reduce
from operator import truediv
from typing import Any, Literal, NamedTuple, TypeAlias, Unpack

import numpy as np

from amber_ruler.adjust import pair
from amber_ruler.adjust.answer import balances, covariates_told
from amber_ruler.adjust.cells import Cells, away
from amber_ruler.adjust.description import Covariate, Steps
from amber_ruler.adjust.prepared import from_moments, from_rows, product, unused
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import means, shared
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import inverse
from amber_ruler.register import method
from amber_ruler.results import Comparison
from amber_ruler.samples import Records
from amber_ruler.samples.records import Form, Make, Rows
from amber_ruler.settings import WithLift

Errors: TypeAlias = Literal["hc0", "hc1", "hc2", "hc3", "equal"]
_BEYOND = 1.02  # times the standard error beyond which the other reading is said
_LEVERED = 1e-9  # what leverage leaves of a row's residual, at or below which the row fits itself
_SOURCES = {
    "own": "Lin (2013), Annals of Applied Statistics 7, 295-318",
    "common": "Fisher (1932), Statistical Methods for Research Workers, 4th ed., on the analysis of covariance",
}


class Line(NamedTuple):
    """The fit in one variant: everything is told in deviations u of the covariates from the variant's own means."""

    n: float
    mean: float
    tail: float  # what that mean rounds away
    rounded: float  # what all means round away of the residuals
    centres: Floats  # (p,) the variant's means of the covariates
    away: Floats  # (p,) these less the overall means
    slope: Floats  # (p,)
    inverse: Floats  # (p, p) of the products of deviations that the slope comes from
    rank: int


@method(
    takes="two",
    needs="mean",
    columns=("value", "covariate", "known_on", "assigned_on"),
    examples=("travellers.csv --value fare --covariate prior_spend,prior_trips --by form --control current",),
    exempt={"broadcast": "published numbers say nothing of covariates"},
    single=True,
)
def regression(
    treatment: Records | Moments,
    control: Records | Moments,
    *,
    value: str,
    covariate: Covariate,
    slopes: Literal["own", "common"] = "own",
    errors: Errors = "hc2",
    degrees: Literal["residual", "bell-mccaffrey"] = "residual",
    known_on: str | None = None,
    assigned_on: str | None = None,
    **asked: Unpack[WithLift],
) -> Comparison:
    """What is the difference of means at equal covariates, by least squares?

    Parameters
    ----------
    treatment, control : Records or Moments
        The rows of each variant. Moments serve where errors="equal": the others need every row's residual.
    value : str
        Column with the metric.
    covariate : str or sequence of str
        Columns known before the test.
    slopes : "own" or "common"
        Whether each variant has slopes of its own (fully interacted, Lin 2013), or all share them.
    errors : "hc0", "hc1", "hc2", "hc3" or "equal"
        Standard errors from squared residuals as they are, times n / (n - k), over 1 - h, over (1 - h)² with a row's
        leverage h; or one variance for all rows.
    degrees : "residual" or "bell-mccaffrey"
        n - k with k coefficients, or Satterthwaite's for equal variances, which go with "hc2".
    known_on, assigned_on : str, optional
        As for `cuped`.

    Returns
    -------
    Comparison
        The adjusted difference at the overall means of the covariates, with t and p; `adjustment` holds the raw
        comparison and the slopes.

    Raises
    ------
    DataError
        If covariates are collinear or never vary in a variant, a row alone decides a coefficient, or a covariate
        differs between variants by more than 6 standard errors.
    InputError
        If moments are given for errors that need rows.

    Notes
    -----
    y is regressed on the variant, x - x̄ and, with slopes of their own, their products; x̄ is the mean over all rows of
    both variants, taken as fixed (Lin's finite population): where slopes differ, the interval speaks of units with the
    covariates of these. For all units like these `facts["se_beyond"]` adds b' S b / N, b being the difference of the
    slopes and S the covariance of the covariates over all N rows. The difference is Σ w y with weights linear in x, and
    its variance Σ w² e² times the factor of `errors`. Rows stream through one further pass; none is kept in memory.

    References
    ----------
    .. [1] Lin (2013), Annals of Applied Statistics 7, 295-318.
    .. [2] MacKinnon & White (1985), Journal of Econometrics 29, 305-325, for HC1 to HC3.
    .. [3] Bell & McCaffrey (2002), Survey Methodology 28, 169-181, for the degrees of freedom.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> short = Records({"fare": [3.0, 5, 6, 9, 9.5], "prior": [1.0, 2, 3, 4, 5]}, "short")
    >>> current = Records({"fare": [2.0, 3, 6, 7, 8], "prior": [1.0, 2, 3, 4, 5]}, "current")
    >>> r = regression(short, current, value="fare", covariate="prior")
    >>> round(r.estimate, 4), round(r.se, 4), r.df
    (1.3, 0.3731, 6.0)
    """
    ask = shared.question(asked)
    gate.choice("slopes", slopes, _SOURCES)
    gate.choice("errors", errors, ("hc0", "hc1", "hc2", "hc3", "equal"))
    if degrees != "residual" and errors != "hc2":
        raise InputError(f"degrees={degrees!r} go with errors='hc2'.", name="degrees", value=degrees)
    listed: Any = covariate
    steps = Steps(covariate=listed, known_on=known_on, assigned_on=assigned_on)
    if not steps.covariate or any(len(part) > 1 for part in steps.parts):
        raise InputError.rule("covariate", covariate, "one column or several; ratios go with adjust.ratio")
    arms = (treatment, control)
    rows: Rows | None = None
    if hasattr(treatment, "together"):
        found, rows = from_rows(arms, value, steps)
    else:
        found = from_moments(arms, value, steps)
        if errors != "equal":
            raise InputError(
                f"errors={errors!r} need every row's residual, and moments hold none: give Records, or"
                " table.records(…); or errors='equal'.",
                name="errors",
                value=errors,
            )
    cells, dropped = _without_constant(found.cells)
    names = cells.columns[1:]
    raw = means(*found.raw, **ask.settings(null=ask.null, metric=ask.metric or value))
    common = slopes == "common"
    fit = _fit(cells, common=common)
    n = float(cells.n[:2].sum())
    k = 2 + (fit[0].rank if slopes == "common" else sum(line.rank for line in fit))
    if n <= k or (slopes == "own" and min(line.n - line.rank for line in fit) <= 1):
        raise DataError(f"{int(n):,} rows are too few for {k} coefficients: use fewer covariates.")
    if rows is None or errors == "equal":
        spread, df = _equal(cells, fit, n - k, common=common), n - k
    else:
        spread, df = _from_residuals(rows, value, names, fit, errors, n / (n - k), common=common), n - k
        if degrees == "bell-mccaffrey":
            df = _bell_mccaffrey(rows, value, names, fit, common=common)
    one, two = (
        pair.Arm(
            cells.labels[g],
            cells.n[g, 0],
            mean,
            np.asarray(spread[g, g]),
            np.asarray(df),
            tail,
        )
        for g, (mean, tail) in enumerate(pair.split(line.mean, line.tail - line.slope @ line.away) for line in fit)
    )
    said = "each variant's own slopes" if slopes == "own" else "common slopes"
    beyond = float(np.sqrt(spread[0, 0] + spread[1, 1] - 2 * spread[0, 1] + _of_the_mean(cells, fit)))
    result = pair.compare(
        ask, (one, two), gate.finite("null", ask.null), metric=ask.metric or value, covariance=spread[0, 1],
        df=np.asarray(df),
        method=f"least squares, {said}, errors {errors.upper() if errors != 'equal' else errors}",
        source=_SOURCES[slopes], said=f", adjusted for {' and '.join(steps.covariate)}",
        checks_=(*found.checks, *balances(cells, np.ones(1)), *(c for c in raw.checks if c.name == "missing values")),
        notes=[f"{name} is the same in every row: left out." for name in dropped],
        facts={"se_beyond": beyond},
    )  # fmt: skip
    se = float(np.asarray(result.se))
    if beyond > _BEYOND * se:
        more = f"The slopes differ: for all units like these, not only these, the standard error is {beyond:.4g}."
        result = replace(result, notes=(*result.notes, more))
    each = {
        f"{name} ({line_label})" if slopes == "own" else name: float(line.slope[j])
        for line_label, line in zip(cells.labels, fit if slopes == "own" else fit[:1], strict=False)
        for j, name in enumerate(names)
    }
    told = f"{covariates_told(names)}, by least squares, {said}" if names else "by least squares"
    part = pair.gained([told], raw, result.se, n, slopes=each)
    return pair.in_points(replace(result, parts=(part,)), found.raw[:2])


def _without_constant(cells: Cells) -> tuple[Cells, list[str]]:
    """Without covariates that are the same in every row."""
    keep, dropped = [0], []
    for k, name in enumerate(cells.columns[1:], start=1):
        still = not np.any(cells.squares[..., k, k]) and len(set(cells.means[..., k].ravel().tolist())) == 1
        dropped += [name] if still else []
        keep += [] if still else [k]
    if not dropped:
        return cells, []
    kept = replace(
        cells,
        columns=tuple(cells.columns[k] for k in keep),
        means=cells.means[..., keep],
        tails=cells.tails[..., keep],
        squares=cells.squares[..., keep, :][..., keep],
    )
    return kept, dropped


def _fit(cells: Cells, *, common: bool) -> list[Line]:
    squares, gaps = cells.squares[:2, 0], away(cells)[:2, 0]
    pooled = squares.sum(axis=0)
    found = []
    for g in (0, 1):
        mine = pooled if common else squares[g]
        where = "" if common else f" in variant {cells.labels[g]!r}"
        inverted, rank = inverse(mine[1:, 1:], cells.columns[1:], where)
        means, tails = cells.means[g, 0], cells.tails[g, 0]
        slope = inverted @ mine[1:, 0]
        n, mean, tail = float(cells.n[g, 0]), float(means[0]), float(tails[0])
        rounded = float(tails[0] - slope @ tails[1:])
        found.append(Line(n, mean, tail, rounded, means[1:], gaps[g], slope, inverted, rank))
    return found


def _of_the_mean(cells: Cells, fit: Sequence[Line]) -> float:
    """What the overall means of the covariates add to the variance over all units like these."""
    n = cells.n[:2, 0]
    gap = fit[0].away - fit[1].away
    spread = cells.squares[:2, 0, 1:, 1:].sum(axis=0) + n[0] * n[1] / n.sum() * np.outer(gap, gap)
    apart = fit[0].slope - fit[1].slope
    return float(apart @ spread @ apart / (n.sum() - 1) / n.sum())


def weights(fit: Sequence[Line], g: int, f: int, *, common: bool) -> tuple[float, Floats]:
    """What a row of variant g counts in the adjusted mean of variant f: a constant, and a slope on its deviations."""
    own = 1 / fit[g].n if g == f else 0.0
    if not common and g != f:
        return 0.0, np.zeros_like(fit[f].away)
    return own, -fit[f].inverse @ fit[f].away


def _equal(cells: Cells, fit: Sequence[Line], df: float, *, common: bool) -> Floats:
    """The variances and the covariance of both adjusted means, of one variance for all rows."""
    left = 0.0
    for g, line in enumerate(fit):
        s = cells.squares[g, 0]
        left += s[0, 0] - 2 * line.slope @ s[1:, 0] + line.slope @ s[1:, 1:] @ line.slope
    if left <= 0:
        raise DataError("The covariates explain every value: there is nothing left to test a difference by.")
    one, two = fit
    spread = np.diag([1 / one.n, 1 / two.n])
    for f, line in enumerate(fit):
        spread[f, f] += line.away @ line.inverse @ line.away
    if common:
        spread[0, 1] = spread[1, 0] = one.away @ one.inverse @ two.away
    found: Floats = left / df * spread
    return found


def _from_residuals(
    rows: Rows, value: str, names: Sequence[str], fit: Sequence[Line], errors: str, inflated: float, *, common: bool
) -> Floats:
    """The variances and the covariance of both adjusted means from squared residuals."""
    scored, (e, w1, w0, left), _ = _scored(rows, value, names, fit, common=common)
    power = {"hc2": 1, "hc3": 2}.get(errors, 0)

    def squared(one: str, two: str) -> Make:
        return lambda c: reduce(truediv, [c[left]] * power, c[one] * c[two] * c[e] * c[e])

    made: dict[str, Make] = {"11": squared(w1, w1), "10": squared(w1, w0), "00": squared(w0, w0)}
    found = scored.sums([made | {"levered": lambda c: c[left] < _LEVERED}] * 2)
    if any(part["levered"] for part in found):
        raise DataError(
            "One row alone decides a coefficient (its leverage is 1): a covariate marks a single row. Leave it out."
        )
    spread = np.sum([[[part["11"], part["10"]], [part["10"], part["00"]]] for part in found], axis=0)
    if spread[0, 0] + spread[1, 1] - 2 * spread[0, 1] <= 0:
        raise DataError("The covariates explain every value: there is nothing left to test a difference by.")
    return np.asarray((inflated if errors == "hc1" else 1.0) * spread)


def _scored(
    rows: Rows, value: str, names: Sequence[str], fit: Sequence[Line], *, common: bool
) -> tuple[Rows, list[str], list[str]]:
    """Each row's residual, weights in both adjusted means and 1 - leverage; and forms whose squares make the latter."""
    p = len(names)
    e, w1, w0, left, *rest = (unused(f"made{k}", rows.names) for k in range(4 + 2 * p))
    us, zs = rest[:p], rest[p:]

    def form(each: Sequence[tuple[float, Floats]], of: Sequence[str]) -> Form:
        """A line of each variant in columns."""
        slopes = {name: [float(s[k]) for _, s in each] for k, name in enumerate(of)}
        return [float(constant) for constant, _ in each], slopes

    one = np.ones(1)
    centred = {
        u: form([(-line.centres[k], one) for line in fit], [name])
        for k, (u, name) in enumerate(zip(us, names, strict=True))
    }
    centred[e] = form([(-line.mean, one) for line in fit], [value])
    roots = [_root(line.inverse) for line in fit]
    made = {z: form([(0.0, root[k]) for root in roots], us) for k, z in enumerate(zs)}
    made[e] = form([(-line.rounded, np.array([1.0, *-line.slope])) for line in fit], [e, *us])
    for f, w in enumerate((w1, w0)):
        made[w] = form([weights(fit, g, f, common=common) for g in (0, 1)], us)
    made[left] = form([(1 - 1 / line.n, np.zeros(0)) for line in fit], [])
    found = rows.lines(centred).lines(made)
    if zs:
        found = found.derived(left, lambda c: c[left] - sum(c[z] * c[z] for z in zs))
    return found, [e, w1, w0, left], zs


def _root(inverse_: Floats) -> Floats:
    """R with R'R the inverse, so that u' inverse u is the sum of squares of R u."""
    scale = np.sqrt(np.diag(inverse_))
    safe = np.where(scale > 0, scale, 1.0)  # covariates in units of any size
    values, vectors = np.linalg.eigh(inverse_ / np.outer(safe, safe))
    found: Floats = np.sqrt(np.maximum(values, 0.0))[:, None] * vectors.T * scale
    return found


def _bell_mccaffrey(rows: Rows, value: str, names: Sequence[str], fit: Sequence[Line], *, common: bool) -> float:
    """(tr G)² / tr G² with G the working covariance of the scaled residuals, whose variances are equal."""
    scored, (_, w1, w0, left), zs = _scored(rows, value, names, fit, common=common)
    p = len(zs)
    a = unused("a", scored.names)
    scored = scored.derived(a, lambda c: (c[w1] - c[w0]) * (c[w1] - c[w0]) / c[left])
    made: dict[str, Make] = {
        "w2": lambda c: c[a] * c[left],
        "a2": lambda c: c[a] * c[a] * (c[left] * 2.0 - 1.0),
        "a": lambda c: c[a],
    }
    for i in range(p):
        made[f"{i}"] = product(a, zs[i])
        made |= {f"{i},{j}": product(a, zs[i], zs[j]) for j in range(i, p)}
    found = scored.sums([made, made])
    trace, square = (sum(part[name] for part in found) for name in ("w2", "a2"))
    crossed = []
    for part, line in zip(found, fit, strict=True):
        first = np.array([part[f"{i}"] for i in range(p)])
        second = np.array([[part[f"{min(i, j)},{max(i, j)}"] for j in range(p)] for i in range(p)]).reshape(p, p)
        square += part["a"] ** 2 / line.n**2 + 2 / line.n * float(first @ first) + float(np.sum(second**2))
        crossed.append(second)
    if common:
        square += 2 * float(np.sum(crossed[0] * crossed[1]))
    return trace**2 / square
