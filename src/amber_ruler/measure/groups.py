"""Several groups: does anything differ, which pairs do, and which treatments differ from the control?"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, ClassVar, Literal, NamedTuple

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, simultaneous
from amber_ruler.measure.ranks import quartered
from amber_ruler.measure.spreads import about_centres
from amber_ruler.numeric import chisquare, fisher, gate, student
from amber_ruler.numeric import ranks as order
from amber_ruler.results import Check, EffectSize, Group, Interval, Result, SquaresRow
from amber_ruler.samples import MeanGroup, Sample, Summary, raw_values, summary_of, values_of

if TYPE_CHECKING:
    from amber_ruler.effects import Alternative
    from amber_ruler.measure.simultaneous import Against, Pairwise, PairwiseMethod
    from amber_ruler.numeric.gate import Floats

_MANY = 200  # groups whose pairs nobody reads

_METHODS = {
    "unequal": ("several means, unequal variances", "Welch (1951), Biometrika 38, 330-336"),
    "equal": ("several means, equal variances", "Fisher (1925), Statistical Methods for Research Workers"),
    "ranks": ("several groups by ranks", "Kruskal & Wallis (1952), JASA 47, 583-621"),
    "units": ("several means of the same units", "Greenhouse & Geisser (1959), Psychometrika 24, 95-112"),
}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Groups(Result):
    """Several groups and the test of whether any differs.

    Attributes
    ----------
    metric : str
        What was measured.
    statistic, statistic_name, df, df2, p_value, critical : float, str, float, float or None, float, float
        F with both its degrees of freedom, or H (by ranks) with one.
    alpha : float
        Error rate of the test; intervals have level 1 - alpha.
    groups : tuple of Group
        In the order given; `more` holds the limits of each mean.
    effects : mapping of str to EffectSize
        Share of the variance that lies between the groups, in several estimates, and Cohen f.
    squares : tuple of SquaresRow
        The table of sums of squares; empty for ranks.
    how : "unequal", "equal", "ranks" or "units"
        What the test assumes.
    differences : Spreads
        What pairs are compared by: see `pairwise` and `against`.
    """

    kind: ClassVar[str] = "groups"

    metric: str
    statistic: float
    statistic_name: str
    df: float
    df2: float | None
    p_value: float
    critical: float
    alpha: float
    groups: tuple[Group, ...]
    effects: Mapping[str, EffectSize]
    squares: tuple[SquaresRow, ...] = ()
    how: str = "unequal"
    facts: Mapping[str, float] = field(default_factory=dict)
    differences: simultaneous.Spreads

    @property
    def quantity(self) -> str:
        """What the groups are compared by: "mean" or "rank"."""
        return "rank" if self.how == "ranks" else "mean"

    def pairwise(self, method: PairwiseMethod | None = None) -> Pairwise:
        """Which pairs differ, and by how much?

        Parameters
        ----------
        method : str, optional
            "games-howell" (the default with unequal variances), "tukey-kramer" (with equal ones), "scheffe", any
            correction of `multiplicity.adjust` ("holm" is the default for ranks and for the same units), or "none".

        Returns
        -------
        Pairwise
            Each difference with its simultaneous interval, adjusted p and Hedges g, and letters that groups share which
            can't be told apart.

        References
        ----------
        .. [1] Tukey (1953); Kramer (1956), Biometrics 12, 307-310.
        .. [2] Games & Howell (1976), Journal of Educational Statistics 1, 113-125.
        .. [3] Scheffé (1953), Biometrika 40, 87-104.
        .. [4] Dunn (1964), Technometrics 6, 241-252, for ranks.
        """
        usual = {"unequal": "games-howell", "equal": "tukey-kramer"}.get(self.how, "holm")
        return simultaneous.pairwise(self, method or usual)  # type: ignore[arg-type]

    def against(
        self, control: str, method: Against | None = None, *, alternative: Alternative = "two-sided"
    ) -> Pairwise:
        """Which groups differ from the control, and by how much?

        Parameters
        ----------
        control : str
            Label of the control.
        method : str, optional
            "dunnett" (the default for means), "step-down dunnett" (claims more, with the same intervals), any
            correction of `multiplicity.adjust` ("holm" is the default for ranks and for the same units), or "none".
        alternative : "two-sided", "greater" or "less"
            Direction of the tests. One-sided tests carry one-sided intervals.

        Returns
        -------
        Pairwise

        References
        ----------
        .. [1] Dunnett (1955), Journal of the American Statistical Association 50, 1096-1121.
        .. [2] Dunnett & Tamhane (1991), Statistics in Medicine 10, 939-947, for the steps.
        .. [3] Hasler & Hothorn (2008), Biometrical Journal 50, 793-800, for unequal variances.
        """
        gate.choice("control", control, [g.label for g in self.groups])
        usual: Against = "dunnett" if self.how in ("equal", "unequal") else "holm"
        return simultaneous.against(self, control, method or usual, alternative)


def groups(
    samples: Mapping[str, MeanGroup] | Sequence[MeanGroup],
    *,
    alpha: float = 0.05,
    variances: Literal["unequal", "equal"] = "unequal",
    by_ranks: bool = False,
    same_units: bool = False,
    metric: str | None = None,
) -> Groups:
    """Do several groups differ at all? Ask the result for pairs, or for each against a control.

    Parameters
    ----------
    samples : mapping of label to group, or sequence of groups
        Each array_like, Sample, Summary or Moments, such as `table.split(…)` or `table.moments(…)` gives.
    alpha : float, between 0 and 0.5
        Error rate of the test; intervals have level 1 - alpha.
    variances : "unequal" or "equal"
        Whether each group keeps its own variance (the default) or all share one.
    by_ranks : bool
        Compare ranks instead of means; needs the values.
    same_units : bool
        Every group holds the same units in the same order, measured under each condition; needs the values. The degrees
        of freedom are corrected for correlations that differ (Greenhouse-Geisser).
    metric : str, optional
        What was measured, for the heading.

    Returns
    -------
    Groups
        The test, the groups with intervals, the table of sums of squares, and effect sizes with intervals.

    Raises
    ------
    DataError
        If a group is too small for what is asked, or nothing varies within the groups.
    InputError
        If there are fewer than two groups, or two under one label.

    Notes
    -----
    The effect sizes and their intervals come from the classical F (noncentral F at alpha / 2 on each side), also where
    the test keeps the variances apart. A small overall p says that some difference is there, not which.

    References
    ----------
    .. [1] Welch (1951), Biometrika 38, 330-336.
    .. [2] Kruskal & Wallis (1952), Journal of the American Statistical Association 47, 583-621.
    .. [3] Greenhouse & Geisser (1959), Psychometrika 24, 95-112.
    .. [4] Kelley (1935), Proceedings of the National Academy of Sciences 21, 554-559, for ε².

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = groups([Summary(20, 10.2, 3.0, "Amble"), Summary(20, 12.9, 3.4, "Brae"), Summary(25, 10.8, 2.9, "Cairn")])
    >>> round(r.statistic, 3), round(r.df2, 1), round(r.p_value, 4)
    (3.769, 39.5, 0.0317)
    """
    effects.tails(alpha, "two-sided")
    gate.choice("variances", variances, ("unequal", "equal"))
    labelled = _labelled(samples)
    if by_ranks and same_units:
        raise InputError("by_ranks takes independent groups: leave out same_units, or compare the means.")
    if by_ranks:
        result = _by_ranks(labelled, alpha, metric)
    elif same_units:
        result = _same_units(labelled, alpha, metric)
    else:
        result = _of_means(labelled, alpha, variances, metric)
    pairs = len(labelled) * (len(labelled) - 1) // 2
    if len(labelled) <= _MANY:
        return result
    finding = f"{len(labelled):,} groups make {pairs:,} pairs"
    advice = "Nobody reads so many: compare each with one control, or ask for fewer."
    return replace(result, checks=(Check("groups", finding, advice, "warning"), *result.checks))


def _labelled(samples: Mapping[str, MeanGroup] | Sequence[MeanGroup]) -> dict[str, MeanGroup]:
    if isinstance(samples, Mapping):
        found = {str(label): group for label, group in samples.items()}
    else:
        names = [str(getattr(g, "label", "") or k + 1) for k, g in enumerate(samples)]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise InputError(f"Two groups are both labelled {twice!r}: give them different labels.")
        found = dict(zip(names, samples, strict=True))
    if len(found) < 2:
        raise InputError(f"There must be at least 2 groups to compare, got {len(found)}.")
    return found


class Reduced(NamedTuple):
    """The groups as arrays; `away` is each mean less the first one, to the last digit."""

    labels: tuple[str, ...]
    n: Floats
    mean: Floats
    away: Floats
    sd: Floats
    summaries: tuple[Summary, ...]


def named(metric: str | None, groups: Sequence[Summary | Sample]) -> str:
    """What was measured: as the caller says, or else as the groups do."""
    return metric or next((g.metric for g in groups if g.metric), "value")


def values_by_label(labelled: Mapping[str, MeanGroup]) -> dict[str, Floats]:
    """Values under the labels given, where every group has them; otherwise nothing."""
    found = {label: raw_values(group=group) for label, group in labelled.items()}
    return {label: next(iter(v.values())) for label, v in found.items()} if all(found.values()) else {}


def reduced(labelled: dict[str, MeanGroup]) -> Reduced:
    """Reduce each group to count, mean and spread; one value is enough here."""
    found = [replace(summary_of(group, label, rows=1), label=label) for label, group in labelled.items()]
    if any(np.ndim(s.n) or np.ndim(s.mean) or np.ndim(s.sd) for s in found):
        raise InputError("groups takes one number for each group's n, mean and sd, not arrays.")
    n, mean, sd, tail = (np.array([float(getattr(s, k)) for s in found]) for k in ("n", "mean", "sd", "mean_tail"))
    return Reduced(tuple(labelled), n, mean, (mean - mean[0]) + (tail - tail[0]), sd, tuple(found))


class _Classic(NamedTuple):
    between: float
    within: float
    df1: float
    df2: float

    @property
    def f(self) -> float:
        return self.between / self.df1 / (self.within / self.df2)

    @property
    def p(self) -> float:
        return float(fisher.sf(self.f, self.df1, self.df2))


def _classic(r: Reduced) -> _Classic:
    centre = float(r.n @ r.away) / float(r.n.sum())
    between = float(r.n @ (r.away - centre) ** 2)
    return _Classic(between, float((r.n - 1) @ r.sd**2), r.n.size - 1.0, float(r.n.sum()) - r.n.size)


def _welch(r: Reduced) -> tuple[float, float]:
    """Welch's F, and its second degrees of freedom."""
    k, weight = r.n.size, r.n / r.sd**2
    share = weight / weight.sum()
    lack = float(np.sum((1 - share) ** 2 / (r.n - 1)))
    spread = float(weight @ (r.away - share @ r.away) ** 2) / (k - 1)
    return spread / (1 + 2 * (k - 2) / (k * k - 1) * lack), (k * k - 1) / (3 * lack)


def _of_means(labelled: dict[str, MeanGroup], alpha: float, variances: str, metric: str | None) -> Groups:
    r = reduced(labelled)
    name = named(metric, r.summaries)
    classic = _classic(r)
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
    values = values_by_label(labelled)
    method, source = _METHODS[variances]
    return Groups(
        title=f"{name} in {r.n.size} groups",
        method=method,
        source=source,
        metric=name,
        statistic=f,
        statistic_name="F",
        df=classic.df1,
        df2=df2,
        p_value=p,
        critical=float(fisher.upper_quantile(alpha, classic.df1, df2)),
        alpha=alpha,
        groups=_limited(r, sd, reach),
        effects=_shares(classic, alpha),
        squares=(
            SquaresRow("between groups", classic.between, classic.df1, classic.f, classic.p),
            SquaresRow("within groups", classic.within, classic.df2),
            SquaresRow("in total", classic.between + classic.within, classic.df1 + classic.df2),
        ),
        how=variances,
        differences=simultaneous.Spreads(r.away, sd**2 / r.n, df, r.n, r.sd, shared=variances == "equal"),
        checks=(
            *checks.few(*r.n),
            *(uneven_spreads(r, values) if variances == "equal" else ()),
            *checks.skewed(values),
            *checks.missing(*r.summaries),
        ),
        notes=notes,
    )


def _limited(r: Reduced, sd: Floats, reach: Floats) -> tuple[Group, ...]:
    rows = zip(r.labels, r.n, r.mean, r.sd, sd / np.sqrt(r.n), reach, strict=True)
    return tuple(
        Group(label, float(n), float(m), float(s), float(se), {"low": float(m - d), "high": float(m + d)})
        for label, n, m, s, se, d in rows
    )


def _shares(classic: _Classic, alpha: float) -> dict[str, EffectSize]:
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
    variances: str, p: float, alpha: float, classic: _Classic, welch: tuple[float, float] | None
) -> tuple[str, ...]:
    if welch is None:
        return ()
    other_f, other_df = (classic.f, classic.df2) if variances == "unequal" else welch
    other = float(fisher.sf(other_f, classic.df1, other_df))
    if (other < alpha) == (p < alpha):
        return ()
    kind = "equal" if variances == "unequal" else "unequal"
    return (f"The choice of variances decides: with {kind} ones F is {other_f:.4g} and p {other:.3g}.",)


def uneven_spreads(r: Reduced, values: dict[str, Floats]) -> tuple[Check, ...]:
    """Say that spreads differ where the test takes them as equal."""
    some = r.sd[r.n > 1]
    if values:
        try:
            _, p = about_centres(list(values.values()), "brown-forsythe")
        except DataError:  # all lie equally far from their medians
            return ()
        uneven, said = p < 0.05, f"Brown and Forsythe's test of the spreads has p {p:.3g}"
    else:
        uneven = bool(some.max() > 2 * some.min())
        said = f"the standard deviations go from {some.min():.3g} to {some.max():.3g}"
    advice = "The test takes them as equal: of several groups variances='unequal' does not, and costs next to nothing."
    return (Check("spreads", said, advice, "warning"),) if uneven else ()


def _by_ranks(labelled: dict[str, MeanGroup], alpha: float, metric: str | None) -> Groups:
    samples = [replace(values_of(g, label), label=label) for label, g in labelled.items()]
    name = named(metric, samples)
    n = np.array([float(len(s)) for s in samples])
    placed, known = order.mean_ranks(np.concatenate([s.values for s in samples]))
    total, k = float(n.sum()), n.size
    lost = float(np.sum(known.times**3 - known.times))
    spread = (total * (total + 1) - lost / (total - 1)) / 12  # variance of one rank, times N - 1 over N
    if spread <= 0:
        raise DataError(f"All {int(total):,} values are equal: there is no order to compare.")
    each = np.split(placed, np.cumsum(n[:-1]).astype(int))
    mean = np.array([float(v.mean()) for v in each])
    h = float(n @ (mean - (total + 1) / 2) ** 2) / spread
    low, high = (float(v) for v in chisquare.noncentrality_bounds(h, k - 1.0, alpha / 2, alpha / 2))
    limits = Interval(low / (low + total), high / (high + total), 1 - alpha)
    method, source = _METHODS["ranks"]
    return Groups(
        title=f"{name} in {k} groups, by ranks",
        method=method,
        source=source,
        metric=name,
        statistic=h,
        statistic_name="H",
        df=k - 1.0,
        df2=None,
        p_value=float(chisquare.sf(h, k - 1.0)),
        critical=float(chisquare.upper_quantile(alpha, k - 1.0)),
        alpha=alpha,
        groups=tuple(
            replace(g, more={**g.more, "mean rank": m})
            for g, m in zip((quartered(s.label, order.ordered(s.values)) for s in samples), mean.tolist(), strict=True)
        ),
        effects={"epsilon_squared": EffectSize(h / (total - 1), limits, "ε² of the ranks")},
        how="ranks",
        differences=simultaneous.Spreads(
            mean - mean[0], spread / n, np.full(k, np.inf), n, np.full(k, np.nan), shared=True
        ),
        checks=(*_small_ranks(n), *checks.missing(*samples)),
    )


def _small_ranks(n: Floats) -> tuple[Check, ...]:
    if n.min() >= 5:
        return ()
    advice = "The chi-square of H is an approximation that wants about 5 in each group."
    return (Check("group sizes", f"the smallest group has {int(n.min())} units", advice, "warning"),)


def _same_units(labelled: dict[str, MeanGroup], alpha: float, metric: str | None) -> Groups:
    samples = [replace(values_of(g, label), label=label) for label, g in labelled.items()]
    name = named(metric, samples)
    sizes = {s.label: len(s) for s in samples}
    if len(set(sizes.values())) > 1:
        raise DataError(f"same_units needs every unit in every group; their sizes are {sizes}.")
    x = np.column_stack([s.values - samples[0].values.mean() for s in samples])
    n, k = x.shape
    if n < 2:
        raise DataError("same_units needs at least 2 units.")
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
    p = float(fisher.sf(f, df1, df2))
    r = reduced({s.label: s for s in samples})
    reach = student.upper_quantile(alpha / 2, r.n - 1) * r.sd / np.sqrt(r.n)
    found = effects.from_f(f, k - 1.0, (k - 1.0) * (n - 1), alpha=alpha)
    method, source = _METHODS["units"]
    return Groups(
        title=f"{name} under {k} conditions",
        method=method,
        source=source,
        metric=name,
        statistic=f,
        statistic_name="F",
        df=df1,
        df2=df2,
        p_value=p,
        critical=float(fisher.upper_quantile(alpha, df1, df2)),
        alpha=alpha,
        groups=_limited(r, r.sd, reach),
        effects={
            "eta_squared": found["eta_squared"],
            "omega_squared": found["omega_squared"],
            "cohen_f": found["cohen_f"],
        },
        squares=(
            SquaresRow("between conditions", between, k - 1.0, f, p),
            SquaresRow("between units", units, n - 1.0),
            SquaresRow("rest", rest, (k - 1.0) * (n - 1)),
            SquaresRow("in total", between + units + rest, n * k - 1.0),
        ),
        how="units",
        facts={"epsilon": epsilon, "uncorrected_p": float(fisher.sf(f, k - 1.0, (k - 1.0) * (n - 1)))},
        differences=simultaneous.Spreads(
            r.away, r.sd**2 / n, r.n - 1, r.n, r.sd, covariance=covariance / n, shared=False
        ),
        checks=(*checks.few(r.n), *checks.missing(*samples)),
    )
