"""Several rows of what was randomised, or units that come in groups."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal, NamedTuple, TypeAlias, Unpack

import numpy as np

from amber_ruler.adjust import pair
from amber_ruler.adjust.answer import answer, balances, covariates_told
from amber_ruler.adjust.cells import away
from amber_ruler.adjust.description import Covariate, Steps
from amber_ruler.adjust.prepared import Prepared, from_rows, left_out, own_column, product, rows_of, unused
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import means, shared
from amber_ruler.measure.quantiles import density
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import inverse
from amber_ruler.register import method
from amber_ruler.results import Adjustment, Check, Comparison
from amber_ruler.samples import Records
from amber_ruler.samples.records import Rows
from amber_ruler.settings import WithLift, WithMargin

Errors: TypeAlias = Literal["cr2", "cr1", "cr1-rows", "cr0", "totals", "means"]
_FEW = 20  # clusters of a variant below which this is said
_TINY = 1e-9  # of what a cluster leaves of a coefficient, at or below which it alone decides it
_METHODS = {
    "cr0": ("clustered errors CR0", "Liang & Zeger (1986), Biometrika 73, 13-22"),
    "cr1": ("clustered errors CR1", "Liang & Zeger (1986), Biometrika 73, 13-22"),
    "cr1-rows": ("clustered errors CR1 with (N − 1)/(N − k)", "Liang & Zeger (1986), Biometrika 73, 13-22"),
    "cr2": ("clustered errors CR2", "Bell & McCaffrey (2002), Survey Methodology 28, 169-181"),
    "totals": ("totals of clusters as a ratio", "Deng, Knoblich & Lu (2018), KDD, 233-242"),
    "means": ("means of clusters, unequal variances", "Welch (1947), Biometrika 34, 28-35"),
}


@dataclass(frozen=True, slots=True, eq=False)
class _Clusters:
    """What is needed of each cluster, the columns being one for each variant and one for each covariate."""

    products: Floats  # (g, k, k) X'X
    residuals: Floats  # (g, k) X'e
    sizes: Floats  # (g, 2) rows in each variant
    means: tuple[Floats, Floats]  # (2,) of the metric, and what they round away
    n: Floats  # (2,)
    contrasts: Floats  # (2, k) the adjusted mean of each variant
    table: Floats  # (k, k) the inverse of all X'X
    squares: float  # Σ e² of the metric around the variants' means
    coefficients: int
    sums: Floats  # (g, 2) deviations of the metric from the variants' means, added up


@method(
    takes="two",
    needs="values",
    columns=("value", "cluster", "covariate"),
    examples=("events.csv --value amount --cluster traveller --by form --control current --spanning allowed",),
    exempt={"broadcast": "rows of one metric are needed"},
    single=True,
)
def clusters(
    treatment: Records,
    control: Records,
    *,
    value: str,
    cluster: str,
    covariate: Covariate = (),
    errors: Errors = "cr2",
    spanning: Literal["refuse", "allowed"] = "refuse",
    **asked: Unpack[WithLift],
) -> Comparison:
    """Is the mean of rows different, when rows come in clusters: many rows a traveller, many travellers a port?

    Parameters
    ----------
    treatment, control : Records
        The rows of each variant.
    value : str
        Column with the metric.
    cluster : str
        Column with the cluster.
    covariate : str or sequence of str, optional
        Columns known before the test, by least squares with common slopes (of "totals" by `sharpen`; not of "means").
    errors : "cr2", "cr1", "cr1-rows", "cr0", "totals" or "means"
        Clustered squares of residuals: with Bell and McCaffrey's correction; times G / (G - 1); times this and
        (N - 1) / (N - k); as they are. Or the ratio of totals by the delta method, or Welch's test on the means of
        clusters, which speaks of the mean cluster, not of the mean row.
    spanning : "refuse" or "allowed"
        Whether a cluster may have rows in both variants.

    Returns
    -------
    Comparison
        Difference with t and p. In `facts` the numbers of clusters, the design effect (squared standard error by CR1
        over that of rows taken as independent) and the intraclass correlation.

    Raises
    ------
    DataError
        If a variant has a single cluster, or a cluster spans variants where that is not allowed.

    Notes
    -----
    With residuals e of least squares and weights w the variance is Σ (Σ w e)² over clusters. CR2 multiplies each
    cluster's residuals by the symmetric root of (I - H)⁻¹, which makes it unbiased where rows are independent with
    equal variances, and takes Satterthwaite's degrees of freedom under the same. Otherwise there are G - 2, and G - 1
    where clusters may span variants. The intraclass correlation is that of an analysis of variance within variants,
    (MSB - MSW) / (MSB + (m₀ - 1) MSW); it may be below 0.

    References
    ----------
    .. [1] Liang & Zeger (1986), Biometrika 73, 13-22.
    .. [2] Bell & McCaffrey (2002), Survey Methodology 28, 169-181.
    .. [3] Donner & Klar (2000), Design and Analysis of Cluster Randomization Trials, for the intraclass correlation.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> one = Records({"fare": [3.0, 5, 4, 9, 8, 6], "who": ["a", "a", "b", "c", "c", "d"]}, "short")
    >>> two = Records({"fare": [2.0, 2, 5, 6, 3, 4], "who": ["e", "e", "f", "g", "h", "h"]}, "current")
    >>> r = clusters(one, two, value="fare", cluster="who")
    >>> round(r.estimate, 4), round(r.se, 4), round(r.df, 2)
    (2.1667, 1.6021, 5.26)
    """
    ask = shared.question(asked)
    gate.choice("errors", errors, _METHODS)
    gate.choice("spanning", spanning, ("refuse", "allowed"))
    at, name = gate.finite("null", ask.null), ask.metric or value
    listed: Any = covariate
    steps = Steps(covariate=listed)
    if any(len(part) > 1 for part in steps.parts):
        raise InputError("A covariate that is a ratio goes with adjust.sharpen(…, cluster=…).", name="covariate")
    own_column("cluster", cluster, (value, *steps.covariate))
    found, rows = from_rows((treatment, control), value, steps, beside=(cluster,))
    spans = rows.spanning(cluster)
    if spans and (spanning == "refuse" or errors in ("totals", "means")):
        raise DataError(
            f"{spans:,} of {cluster!r} have rows in both variants. If they were randomised as a whole, leave them out;"
            " if rows were, say spanning='allowed' (with clustered errors)."
        )
    if errors == "means" and steps.covariate:
        raise InputError("Means of clusters take no covariates here: use errors='totals'.", name="covariate")
    read = _read(found, rows, value, cluster)
    count = [int(np.sum(read.sizes[:, g] > 0)) for g in (0, 1)]
    for label, size in zip(rows.labels, count, strict=True):
        if size < 2:
            raise DataError(f"Variant {label!r} has {size} of {cluster!r}: a spread of clusters needs at least 2.")
    raw = means(*found.raw, **ask.settings(null=ask.null, metric=name))
    facts = _facts(read, rows.labels, count, float(np.asarray(raw.se)))
    seen = _seen(cluster, rows.labels, count, spans)
    if errors == "totals":
        result = answer((treatment, control), value, replace(steps, cluster=cluster), ask, at, name)
        return replace(
            result, method=_METHODS[errors][0], checks=(*seen, *result.checks), facts={**result.facts, **facts}
        )
    if errors == "means":
        return _by_means(rows, value, cluster, ask, at, name, raw, seen, facts)
    spread, df = _spread(read, errors, may_span=spanning == "allowed")
    arms = [
        pair.Arm(
            rows.labels[g], read.n[g], read.means[0][g], np.asarray(spread[g, g]), np.asarray(df), read.means[1][g],
            more={"clusters": float(count[g])},
        )
        for g in (0, 1)
    ]  # fmt: skip
    how, source = _METHODS[errors]
    told = [covariates_told(found.cells.columns[1:])] if steps.covariate else []
    se = np.sqrt(spread[0, 0] + spread[1, 1] - 2 * spread[0, 1])
    part = pair.gained([f"errors clustered by {cluster}, {errors.upper()}", *told], raw, se, read.n.sum())
    result = pair.compare(
        ask, arms, at, metric=name, method=f"two means, {how}", source=source, covariance=spread[0, 1],
        df=np.asarray(df), said=f", clustered by {cluster}", facts=facts, parts=(part,),
        few=[np.asarray(float(_FEW * 2))],
        checks_=(*seen, *found.checks, *balances(found.cells, np.ones(1)), *left_out(rows)),
    )  # fmt: skip
    return pair.in_points(result, found.raw[:2])


def _read(found: Prepared, rows: Rows, value: str, cluster: str) -> _Clusters:
    """Sums over clusters of products of covariates and residuals, in deviations from the variants' means."""
    cells = found.cells
    names = cells.columns[1:]
    p = len(names)
    n, centres, squares = cells.n[:2, 0], cells.means[:2, 0], cells.squares[:2, 0].sum(axis=0)
    inverted, rank = inverse(squares[1:, 1:], names)
    slope = inverted @ squares[1:, 0]
    gaps = away(cells)[:2, 0]
    y, e, y2, *crossed = _fresh(rows, 3 + p + p * (p + 1) // 2)
    us, firsts = _fresh(rows, p, "u"), crossed[:p]
    pairs = [(i, j) for i in range(p) for j in range(i, p)]
    own = [(y, value), *zip(us, names, strict=True)]
    made = rows.lines({u: ((-centres[:, k]).tolist(), {name: (1.0, 1.0)}) for k, (u, name) in enumerate(own)})
    left = {y: (1.0, 1.0)} | {u: (-float(b), -float(b)) for u, b in zip(us, slope, strict=True)}
    rounded = cells.tails[:2, 0, 0] - cells.tails[:2, 0, 1:] @ slope  # what the means' floats leave in the residuals
    made = made.lines({e: ((-rounded).tolist(), left)})
    made = made.derived(y2, product(y, y))
    for first, u in zip(firsts, us, strict=True):
        made = made.derived(first, product(u, e))
    for second, (i, j) in zip(crossed[p:], pairs, strict=True):
        made = made.derived(second, product(us[i], us[j]))
    ids, variant, count, sums = made.by_unit([y, y2, e, *us, *crossed], cluster)
    k, g = 2 + p, int(ids.max()) + 1
    products, residuals = np.zeros((g, k, k)), np.zeros((g, k))
    sizes, deviations = np.zeros((g, 2)), np.zeros((g, 2))
    for v in (0, 1):
        mine = variant == v
        at, of = ids[mine], sums[:, mine]
        sizes[at, v] = products[at, v, v] = count[mine]
        deviations[at, v], residuals[at, v] = of[0], of[2]
        for i in range(p):
            products[at, v, 2 + i] = products[at, 2 + i, v] = of[3 + i]
            residuals[at, 2 + i] += of[3 + p + i]
        for row, (i, j) in enumerate(pairs, start=3 + 2 * p):
            products[at, 2 + i, 2 + j] += of[row]
            if i != j:
                products[at, 2 + j, 2 + i] += of[row]
    table = np.zeros((k, k))
    table[0, 0], table[1, 1] = 1 / n
    table[2:, 2:] = inverted
    contrasts = np.zeros((2, k))
    contrasts[0, 0] = contrasts[1, 1] = 1.0
    contrasts[:, 2:] = -gaps
    adjusted = pair.split(centres[:, 0], cells.tails[:2, 0, 0] - gaps @ slope)
    # Each covariate by its own spread: a cluster's columns are then told apart whatever their units are.
    unit = np.ones(k)
    spread = np.sqrt(np.diag(squares)[1:] / n.sum())
    unit[2:] = np.where(spread > 0, 1 / np.where(spread > 0, spread, 1.0), 1.0)
    both = unit[:, None] * unit
    return _Clusters(
        products * both, residuals * unit, sizes, adjusted, n, contrasts * unit, table / both, float(sums[1].sum()),
        2 + rank, deviations,
    )  # fmt: skip


def _fresh(rows: Rows, size: int, stem: str = "made") -> list[str]:
    """Names that no column has."""
    return [unused(f"{stem}{k}", rows.names) for k in range(size)]


def _spread(read: _Clusters, errors: str, *, may_span: bool) -> tuple[Floats, float]:
    """Variances and covariance of both adjusted means, and degrees of freedom."""
    reach = read.contrasts @ read.table  # (2, k)
    clusters_ = read.residuals.shape[0]
    if errors == "cr2":
        return _cr2(read, reach)
    scores = read.residuals @ reach.T
    spread = scores.T @ scores
    if spread[0, 0] + spread[1, 1] - 2 * spread[0, 1] <= 0:
        raise DataError("The clusters have no spread: there is nothing to test a difference by.")
    if errors in ("cr1", "cr1-rows"):
        spread = spread * clusters_ / (clusters_ - 1)
    if errors == "cr1-rows":
        n = float(read.n.sum())
        spread = spread * (n - 1) / (n - read.coefficients)
    return spread, float(clusters_ - (1 if may_span else 2))


def _cr2(read: _Clusters, reach: Floats) -> tuple[Floats, float]:
    """With the symmetric root of (I − H)⁻¹, in each cluster's own column space."""
    values, vectors = np.linalg.eigh(read.products)
    most = values.max(axis=-1, keepdims=True)
    known = values > 1e-12 * most
    root = np.where(known, np.sqrt(np.where(known, values, 1.0)), 0.0)
    over = np.where(known, 1 / np.where(known, root, 1.0), 0.0)
    basis = root[..., None] * np.swapaxes(vectors, -1, -2)  # R (k, k), X = Q R
    leverage, turn = np.linalg.eigh(basis @ read.table @ np.swapaxes(basis, -1, -2))
    left = 1 - leverage
    if np.any(left < _TINY):
        raise DataError(
            "One cluster alone decides a coefficient: CR2 can't correct it. Leave its covariate out, or use 'cr1'."
        )
    weight = (turn / np.sqrt(left)[..., None, :]) @ np.swapaxes(turn, -1, -2)
    scaled = basis @ reach.T  # (g, k, 2)
    after = weight @ scaled
    inside = over[..., None] * (np.swapaxes(vectors, -1, -2) @ read.residuals[..., None])  # Q'e
    scores = np.einsum("gkf,gk->gf", after, inside[..., 0])
    spread = scores.T @ scores
    if spread[0, 0] + spread[1, 1] - 2 * spread[0, 1] <= 0:
        raise DataError("The clusters have no spread: there is nothing to test a difference by.")
    contrast = after[..., 0] - after[..., 1]
    q = np.einsum("gk,gk->g", contrast, contrast)
    p = np.einsum("gjk,gj->gk", basis, contrast)
    own = np.einsum("gj,jk,gk->g", p, read.table, p)
    crossed = read.table @ (p.T @ p)
    trace = float((q - own).sum())
    square = float((q**2 - 2 * q * own).sum() + np.trace(crossed @ crossed))
    return spread, trace**2 / square


def _facts(read: _Clusters, labels: Sequence[str], count: Sequence[int], se: float) -> dict[str, float]:
    """Numbers of clusters, design effect and intraclass correlation, of the metric itself."""
    n, g = read.n, read.sums.shape[0]
    scores = read.sums[:, 0] / n[0] - read.sums[:, 1] / n[1]
    effect = float(scores @ scores) * g / (g - 1) / se**2
    with np.errstate(divide="ignore", invalid="ignore"):
        between = float(np.where(read.sizes > 0, read.sums**2 / np.where(read.sizes > 0, read.sizes, 1), 0.0).sum())
    cells, total = sum(count), float(n.sum())
    found = {f"clusters {label}": float(c) for label, c in zip(labels, count, strict=True)} | {"design_effect": effect}
    if total > cells:
        within = max(read.squares - between, 0.0) / (total - cells)
        above = between / (cells - 2)
        size = (total - float(((read.sizes**2).sum(axis=0) / n).sum())) / (cells - 2)
        if above + (size - 1) * within > 0:
            found["icc"] = (above - within) / (above + (size - 1) * within)
    return found


def _seen(cluster: str, labels: Sequence[str], count: Sequence[int], spans: int) -> tuple[Check, ...]:
    found = []
    listed = ", ".join(f"{label} {c:,}" for label, c in zip(labels, count, strict=True))
    if min(count) < _FEW:
        advice = "With few clusters CR0 and CR1 reject too often: CR2, totals or means of clusters keep near alpha."
        found.append(Check("clusters", f"few of {cluster}: {listed}", advice, "warning"))
    if spans:
        advice = "They were not randomised as a whole: rows were, or the split leaks."
        found.append(Check("clusters", f"{spans:,} of {cluster} have rows in both variants", advice, "warning"))
    return tuple(found)


def _by_means(
    rows: Rows, value: str, cluster: str, ask: shared.Question, null: Floats, name: str, raw: Comparison,
    seen: Sequence[Check], facts: dict[str, float],
) -> Comparison:  # fmt: skip
    count, mean = _fresh(rows, 2)
    each = rows.totals([value], cluster, count=count).derived(mean, lambda c: c[value] / c[count]).moments([mean])
    arms: list[Moments] = [m[""].relabel(label) for m, label in zip(each, rows.labels, strict=True)]
    result = means(*arms, **ask.settings(null=null, metric=name))
    part = pair.gained([f"the mean of each {cluster}, all of which count alike"], raw, result.se, sum(rows.sizes))
    return replace(
        result,
        title=f"{result.title}, means by {cluster}",
        method=_METHODS["means"][0],
        checks=(*seen, *result.checks),
        notes=(*result.notes, f"This is the difference for the mean {cluster}, not for the mean row."),
        facts={**result.facts, **facts},
        parts=(part,),
    )


class _Placed(NamedTuple):
    value: float
    variance: float
    clusters: int
    n: int


@method(
    takes="two",
    needs="values",
    columns=("value", "cluster"),
    examples=("visits.csv --value amount --cluster traveller --at 0.9 --by form --control current",),
    exempt={"broadcast": "rows of one metric are needed"},
    single=True,
)
def quantiles(
    treatment: Records,
    control: Records,
    *,
    value: str,
    cluster: str,
    at: float = 0.5,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Is the median (or another quantile) of rows different, when rows come in clusters: page times by traveller?

    Parameters
    ----------
    treatment, control : Records
        The rows of each variant.
    value : str
        Column with the metric.
    cluster : str
        Column with what was randomised.
    at : float, between 0 and 1
        Which quantile.

    Returns
    -------
    Comparison
        Difference of the quantiles with t, p and interval.

    Raises
    ------
    DataError
        If a cluster spans variants, a variant has a single one, or there is no density at the quantile.

    Notes
    -----
    The quantile is that of type 7. Its variance is that of the share of rows at or below it, taken over clusters as a
    ratio of totals with G / (G - 1), over the squared density there: a normal kernel with Silverman's bandwidth
    0.9 min(s, IQR / 1.34) n^(-1/5). Degrees of freedom are Satterthwaite's with G - 1 of each variant.

    References
    ----------
    .. [1] Deng, Knoblich & Lu (2018), KDD, 233-242, section 4.
    .. [2] Silverman (1986), Density Estimation, equation 3.31, for the bandwidth.

    Examples
    --------
    >>> import numpy as np
    >>> from amber_ruler import Records
    >>> who = np.repeat(np.arange(30), 4)
    >>> wait = np.sqrt(np.arange(120.0)) + who % 5
    >>> one = Records({"wait": wait + 2, "who": who}, "short")
    >>> two = Records({"wait": wait, "who": who + 100}, "current")
    >>> round(quantiles(one, two, value="wait", cluster="who").estimate, 4)
    2.0
    """
    ask = shared.question(asked)
    share = float(gate.between("at", gate.single("at", at), 0, 1))
    own_column("cluster", cluster, (value,))
    rows = rows_of((treatment, control), [value], [cluster])
    spans = rows.spanning(cluster)
    if spans:
        raise DataError(f"{spans:,} of {cluster!r} have rows in both variants: leave them out.")
    both = list(zip(rows.labels, rows.values(value), rows.column(cluster), strict=True))
    places = [_place(label, values, np.asarray(ids, dtype=object), share) for label, values, ids in both]
    if places[0].variance + places[1].variance <= 0:
        raise DataError("The values around the quantile never differ between clusters: its standard error is 0.")
    one, two = (
        pair.Arm(
            label, np.asarray(float(p.n)), np.asarray(p.value), np.asarray(p.variance),
            np.asarray(float(p.clusters - 1)), more={"clusters": float(p.clusters)},
        )
        for label, p in zip(rows.labels, places, strict=True)
    )  # fmt: skip
    called = "median" if share == 0.5 else f"{100 * share:g}% quantile"
    part = Adjustment(steps=(f"errors clustered by {cluster}",))
    return pair.compare(
        ask, (one, two), gate.finite("null", ask.null), metric=f"{called} of {ask.metric or value}",
        method="difference of two quantiles, density form with clustered errors",
        source="Deng, Knoblich & Lu (2018), KDD, 233-242", said=f", clustered by {cluster}", quantity="quantile",
        lifts=False, parts=(part,), few=[np.asarray(float(_FEW * 2))],
        checks_=(*_seen(cluster, rows.labels, [p.clusters for p in places], 0), *left_out(rows)),
    )  # fmt: skip


def _place(label: str, values: Floats, ids: Any, share: float) -> _Placed:
    at = float(np.quantile(values, share))
    _, codes = np.unique(ids.astype(str), return_inverse=True)
    g = int(codes.max()) + 1
    if g < 2:
        raise DataError(f"Variant {label!r} has one cluster: a spread of clusters needs at least 2.")
    below = (values <= at).astype(float)
    away = np.bincount(codes, weights=below - below.mean(), minlength=g)
    variance = float(away @ away) * g / (g - 1) / values.size**2
    return _Placed(at, variance / density(np.sort(values), at) ** 2, g, values.size)
