"""Pairs of several groups: simultaneous intervals, adjusted p-values, and letters for what can't be told apart."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar, Literal, NamedTuple, TypeAlias

import numpy as np

from amber_ruler import effects, multiplicity
from amber_ruler.errors import InputError
from amber_ruler.measure import shared
from amber_ruler.numeric import dunnett, fisher, gate, student, studentized
from amber_ruler.results import Result

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from numpy.typing import NDArray

    from amber_ruler.effects import Alternative
    from amber_ruler.measure.groups import Groups
    from amber_ruler.numeric.gate import Floats

Correction: TypeAlias = multiplicity.Method | Literal["none"]
PairwiseMethod: TypeAlias = Literal["games-howell", "tukey-kramer", "scheffe"] | Correction
Against: TypeAlias = Literal["dunnett", "step-down dunnett"] | Correction

_CORRECTIONS = {key: (way.name, way.source) for key, way in multiplicity.METHODS.items()}
_CORRECTIONS["none"] = ("no correction", "Student (1908), Biometrika 6, 1-25")
_PAIRWISE = {
    "games-howell": ("Games–Howell", "Games & Howell (1976), Journal of Educational Statistics 1, 113-125"),
    "tukey-kramer": ("Tukey–Kramer", "Kramer (1956), Biometrics 12, 307-310"),
    "scheffe": ("Scheffé", "Scheffé (1953), Biometrika 40, 87-104"),
    **_CORRECTIONS,
}
# Methods whose intervals invert their tests; the others claim by steps.
_ONE_STEP = ("games-howell", "tukey-kramer", "scheffe", "dunnett", "bonferroni", "sidak", "none")
_AGAINST = {
    "dunnett": ("Dunnett", "Dunnett (1955), JASA 50, 1096-1121"),
    "step-down dunnett": ("step-down Dunnett", "Dunnett & Tamhane (1991), Statistics in Medicine 10, 939-947"),
    **_CORRECTIONS,
}


@dataclass(frozen=True, slots=True, eq=False)
class Spreads:
    """What pairs of groups are compared by.

    Attributes
    ----------
    away : ndarray, shape (k,)
        Each mean less the first one.
    variance, df : ndarray, shape (k,)
        Squared standard error of each mean, and its degrees of freedom.
    n, sd : ndarray, shape (k,)
        Units, and each group's own standard deviation.
    shared : bool
        Whether all groups share one variance, and so its degrees of freedom.
    covariance : ndarray of shape (k, k), optional
        Of the means, where all groups are of the same units.
    """

    away: Floats
    variance: Floats
    df: Floats
    n: Floats
    sd: Floats
    shared: bool
    covariance: Floats | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Pairwise(Result):
    """Differences of pairs of groups; the arrays have one value a pair.

    Attributes
    ----------
    metric : str
        What was measured.
    first, second : tuple of str
        Labels; every difference is first minus second.
    estimate, low, high : ndarray, shape (m,)
        Differences with their simultaneous limits.
    statistic, df, p_values, adjusted : ndarray, shape (m,)
        t (z by ranks) of each pair, its p by itself, and adjusted for the number of pairs.
    g, g_low, g_high : ndarray, shape (m,), or None
        Hedges g of each pair by itself, with its own limits at 1 - alpha.
    alpha, alternative : float, str
        Error rate of the family, and direction.
    control : str
        The control, where each group was compared with it; else empty.
    overall_p : float
        P-value of the test that any group differs.
    letters : mapping of label to str
        Groups that share a letter can't be told apart; empty against a control.
    """

    kind: ClassVar[str] = "pairwise"

    metric: str
    first: tuple[str, ...]
    second: tuple[str, ...]
    estimate: Floats
    low: Floats
    high: Floats
    statistic: Floats
    df: Floats
    p_values: Floats
    adjusted: Floats
    alpha: float
    overall_p: float
    alternative: str = "two-sided"
    control: str = ""
    g: Floats | None = None
    g_low: Floats | None = None
    g_high: Floats | None = None
    quantity: str = "mean"
    letters: Mapping[str, str] = field(default_factory=dict)

    @property
    def differ(self) -> NDArray[np.bool_]:
        """Which pairs differ after the correction."""
        return np.asarray(self.adjusted < self.alpha)


class _Pairs(NamedTuple):
    i: NDArray[np.intp]
    j: NDArray[np.intp]
    difference: Floats
    se: Floats
    df: Floats

    @property
    def t(self) -> Floats:
        return self.difference / self.se


def _pairs(by: Spreads, i: NDArray[np.intp], j: NDArray[np.intp], *, pooled: bool) -> _Pairs:
    difference = by.away[i] - by.away[j]
    if by.covariance is not None:
        variance = by.variance[i] + by.variance[j] - 2 * by.covariance[i, j]
        if np.any(variance <= 1e-14 * (by.variance[i] + by.variance[j])):
            raise InputError("Two conditions differ by the same amount in every unit: there is no spread to test by.")
        return _Pairs(i, j, difference, np.sqrt(variance), by.df[i])
    if by.shared or not pooled:
        variance = by.variance
    else:  # asked for one variance of all
        within = float((by.n - 1) @ by.sd**2 / (by.n.sum() - by.n.size))
        variance = within / by.n
    se = np.sqrt(variance[i] + variance[j])
    if by.shared:
        return _Pairs(i, j, difference, se, by.df[i])
    if pooled:
        return _Pairs(i, j, difference, se, np.full(i.size, by.n.sum() - by.n.size))
    df = se**4 / (variance[i] ** 2 / (by.n[i] - 1) + variance[j] ** 2 / (by.n[j] - 1))
    return _Pairs(i, j, difference, se, df)


def pairwise(asked: Groups, method: PairwiseMethod) -> Pairwise:
    """Every pair of groups: see `Groups.pairwise`."""
    gate.choice("method", method, _PAIRWISE)
    by, k, alpha = asked.differences, len(asked.groups), asked.alpha
    special = method in ("games-howell", "tukey-kramer", "scheffe")
    if special and asked.how in ("ranks", "units"):
        raise InputError(
            f"{_PAIRWISE[method][0]} is for independent groups and their means: take a correction such as 'holm'."
        )
    if method == "games-howell" and by.shared and np.any(by.n < 2):
        raise InputError("Games–Howell needs at least 2 units in each group.")
    i, j = (np.asarray(part) for part in np.triu_indices(k, 1))
    own = Spreads(by.away, by.sd**2 / by.n, by.n - 1, by.n, by.sd, shared=False) if method == "games-howell" else by
    pairs = _pairs(own, i, j, pooled=method in ("tukey-kramer", "scheffe"))
    raw = 2 * student.sf(np.abs(pairs.t), pairs.df)
    if method == "scheffe":
        adjusted = fisher.sf(pairs.t**2 / (k - 1), k - 1, pairs.df)
        critical = np.sqrt((k - 1) * fisher.upper_quantile(alpha, k - 1, pairs.df[:1]))
    elif special:
        root = np.sqrt(2)
        adjusted = studentized.sf(np.abs(pairs.t) * root, k, pairs.df)
        df = pairs.df[:1] if method == "tukey-kramer" else pairs.df
        critical = studentized.upper_quantile(alpha, k, df) / root
    else:
        adjusted, critical = _corrected(raw, pairs.df, method, alpha, "two-sided")
    labels = tuple(g.label for g in asked.groups)
    return _result(asked, pairs, raw, adjusted, critical, method, letters=_letters(labels, asked, pairs, adjusted))


def against(asked: Groups, control: str, method: Against, alternative: Alternative) -> Pairwise:
    """Every other group against one: see `Groups.against`."""
    gate.choice("method", method, _AGAINST)
    by, alpha = asked.differences, asked.alpha
    labels = [g.label for g in asked.groups]
    base = labels.index(control)
    i = np.array([k for k in range(len(labels)) if k != base])
    pairs = _pairs(by, i, np.full(i.size, base), pooled=False)
    sided = {"greater": pairs.t, "less": -pairs.t}.get(alternative, np.abs(pairs.t))
    two = alternative == "two-sided"
    effects.tails(alpha, alternative)
    raw = np.minimum((2 if two else 1) * student.sf(sided, pairs.df), 1.0)
    if "dunnett" not in method:
        adjusted, critical = _corrected(raw, pairs.df, method, alpha, alternative)
    elif by.covariance is not None or asked.how == "ranks":
        raise InputError(
            "Dunnett's method is for independent groups and their means: take a correction such as 'holm'."
        )
    else:
        loadings = np.sqrt(by.variance[base] / (by.variance[base] + by.variance[i]))
        critical = _by_df(pairs.df, lambda df: dunnett.critical(alpha, df, loadings, two_sided=two))
        steps = np.argsort(-sided) if method == "step-down dunnett" else None
        adjusted = np.empty(i.size)
        for place, at in enumerate(steps if steps is not None else range(i.size)):
            left = loadings if steps is None else loadings[steps[place:]]
            adjusted[at] = dunnett.sf(float(sided[at]), float(pairs.df[at]), left, two_sided=two)
        if steps is not None:
            adjusted[steps] = np.maximum.accumulate(adjusted[steps])
    return _result(asked, pairs, raw, adjusted, critical, method, control=control, alternative=alternative)


def _by_df(df: Floats, critical: Callable[[float], float]) -> Floats:
    known = {value: critical(value) for value in set(df.tolist())}
    return np.array([known[value] for value in df.tolist()])


def _corrected(raw: Floats, df: Floats, method: str, alpha: float, alternative: str) -> tuple[Floats, Floats]:
    """Adjusted p-values and the critical values of intervals to go with them."""
    if method == "none":
        adjusted, each = raw, np.full(raw.size, alpha)
    else:
        family = multiplicity.adjust(raw, method=method, alpha=alpha)  # type: ignore[arg-type]
        adjusted, each = family.adjusted, family.interval_alpha
    return adjusted, student.upper_quantile(each / (2 if alternative == "two-sided" else 1), df)


def _result(
    asked: Groups,
    pairs: _Pairs,
    raw: Floats,
    adjusted: Floats,
    critical: Floats,
    method: str,
    *,
    letters: Mapping[str, str] | None = None,
    control: str = "",
    alternative: str = "two-sided",
) -> Pairwise:
    labels = [g.label for g in asked.groups]
    reach = critical * pairs.se
    low = np.full(reach.shape, -np.inf) if alternative == "less" else pairs.difference - reach
    high = np.full(reach.shape, np.inf) if alternative == "greater" else pairs.difference + reach
    apart = int(np.sum(((low <= 0) & (high >= 0)) == (adjusted < asked.alpha)))
    notes: tuple[str, ...] = ()
    if method in _ONE_STEP:  # at most the last digit is to be settled
        limits = shared.agreeing(low, high, adjusted, np.zeros(low.shape), asked.alpha, pairs.difference)
        low, high = np.asarray(limits.low), np.asarray(limits.high)
    elif apart:
        notes = (
            f"{apart} of the intervals disagree with their corrected tests: these claim by steps, an interval can't.",
        )
    name, source = (_AGAINST if control else _PAIRWISE)[method]
    by = asked.differences
    g = None
    if asked.how in ("equal", "unequal") and np.all(by.n[pairs.i] + by.n[pairs.j] > 3):
        n1, n0 = by.n[pairs.i], by.n[pairs.j]
        within = ((n1 - 1) * by.sd[pairs.i] ** 2 + (n0 - 1) * by.sd[pairs.j] ** 2) / (n1 + n0 - 2)
        if np.all(within > 0):
            t = pairs.difference / np.sqrt(within * (1 / n1 + 1 / n0))
            g = effects.standardised(t, n1, n0, alpha=asked.alpha)["hedges_g"]
    return Pairwise(
        title=f"{asked.metric}: {'pairs of ' if not control else ''}{len(labels)} groups",
        method=f"each against {control}, {name}" if control else f"all pairs, {name}",
        source=source,
        metric=asked.metric,
        first=tuple(labels[k] for k in pairs.i),
        second=tuple(labels[k] for k in pairs.j),
        estimate=pairs.difference,
        low=low,
        high=high,
        statistic=pairs.t,
        df=pairs.df,
        p_values=raw,
        adjusted=np.minimum(adjusted, 1.0),
        alpha=asked.alpha,
        overall_p=asked.p_value,
        alternative=alternative,
        control=control,
        g=None if g is None else np.asarray(g.value),
        g_low=None if g is None else np.asarray(g.interval.low),
        g_high=None if g is None else np.asarray(g.interval.high),
        quantity=asked.quantity,
        letters=letters or {},
        checks=tuple(c for c in asked.checks if c.severity in ("warning", "serious")),
        notes=notes,
    )


def _letters(labels: tuple[str, ...], asked: Groups, pairs: _Pairs, adjusted: Floats) -> dict[str, str]:
    """Letters that groups share which can't be told apart, from the highest group on.

    References
    ----------
    .. [1] Piepho (2004), Journal of Computational and Graphical Statistics 13, 456-466.
    """
    sets = [set(range(len(labels)))]
    for i, j in zip(pairs.i[adjusted < asked.alpha].tolist(), pairs.j[adjusted < asked.alpha].tolist(), strict=True):
        apart = [s - {k} for s in sets if {i, j} <= s for k in (i, j)]
        sets = [s for s in sets if not {i, j} <= s]
        for s in apart:
            if not any(s <= other for other in sets):
                sets = [other for other in sets if not other <= s] + [s]
    height = asked.differences.away
    sets.sort(key=lambda s: sorted(-height[k] for k in s))
    return {label: "".join(_letter(place) for place, s in enumerate(sets) if k in s) for k, label in enumerate(labels)}


def _letter(place: int) -> str:
    turn, at = divmod(place, 26)
    return chr(ord("a") + at) + (str(turn) if turn else "")
