"""Many comparisons at once: p-values adjusted for their number, intervals to go with them, and orders of testing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar, Literal, NamedTuple, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.results import Interval, Result

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import ArrayLike, NDArray

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.results import Measurement

__all__ = [
    "AdjustedPValues",
    "adjust",
    "benjamini_hochberg",
    "benjamini_yekutieli",
    "bonferroni",
    "fixed_sequence",
    "gatekeeping",
    "hochberg",
    "holm",
    "hommel",
    "measure_family",
    "sidak",
]

Method: TypeAlias = Literal[
    "bonferroni", "sidak", "holm", "hochberg", "hommel", "benjamini-hochberg", "benjamini-yekutieli"
]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class AdjustedPValues(Result):
    """A family of p-values, as given and adjusted, in the order given.

    Attributes
    ----------
    labels : tuple of str
        Names of the comparisons.
    p_values, adjusted : ndarray, shape (m,)
        As given, and to be held against alpha.
    alpha : float
        Error rate of the family.
    keeps : str
        What the correction keeps at or below alpha.
    families : tuple of str
        The family of each comparison, where several were corrected, each by itself.
    interval_alpha : ndarray, shape (m,)
        Measure a comparison again with this alpha for an interval that goes with the correction; NaN where an order of
        testing has none.
    estimates, intervals : tuple
        Of each comparison, where they were measured again (`measure_family`).
    """

    kind: ClassVar[str] = "adjusted"

    labels: tuple[str, ...]
    p_values: Floats
    adjusted: Floats
    alpha: float
    keeps: str
    families: tuple[str, ...] = ()
    interval_alpha: Floats
    estimates: tuple[float, ...] = ()
    intervals: tuple[Interval, ...] = ()

    @property
    def claims(self) -> NDArray[np.bool_]:
        """Which comparisons stand after the correction."""
        return np.asarray(self.adjusted < self.alpha)


def adjust(
    p_values: Mapping[str, float] | ArrayLike,
    *,
    method: Method = "holm",
    alpha: float = 0.05,
    families: Mapping[str, str] | None = None,
) -> AdjustedPValues:
    """Which of many comparisons stand when their number is taken into account?

    Parameters
    ----------
    p_values : mapping of label to p, or array_like of shape (m,)
        All of them, each between 0 and 1.
    method : "holm", "bonferroni", "sidak", "hochberg", "hommel", "benjamini-hochberg" or "benjamini-yekutieli"
        All but the last two keep the chance of any false claim: Holm and Bonferroni whatever the dependence, Šidák,
        Hochberg and Hommel where the comparisons are independent or depend positively. The last two keep the expected
        share of false claims among the claims: Benjamini-Yekutieli whatever the dependence.
    alpha : float
        Error rate of each family.
    families : mapping of label to family, optional
        Such as "primary", "secondary", "guardrail", "segments": each family is corrected by itself.

    Returns
    -------
    AdjustedPValues

    Notes
    -----
    `interval_alpha` is alpha / m for Bonferroni and what improves on it (their own limits don't all exist; an interval
    may then include a value that the corrected test rejects), 1 - (1 - alpha)^(1/m) for Šidák, and alpha R / m with R
    claims for the last two, whose intervals of the claims err in a share of alpha.

    References
    ----------
    .. [1] Benjamini & Yekutieli (2005), Journal of the American Statistical Association 100, 71-81, for the intervals.

    Examples
    --------
    >>> r = adjust({"fare": 0.01, "booked": 0.03, "complaint": 0.04})
    >>> [round(float(p), 4) for p in r.adjusted]
    [0.03, 0.06, 0.06]
    """
    gate.choice("method", method, METHODS)
    gate.between("alpha", alpha, 0, 1)
    labels, p = _named(p_values)
    kinds = () if families is None else _families(labels, families)
    adjusted, interval_alpha = np.empty(p.size), np.empty(p.size)
    way = METHODS[method]
    for kind in dict.fromkeys(kinds or ("",)):
        mine = np.flatnonzero([k == kind for k in kinds]) if kinds else np.arange(p.size)
        adjusted[mine] = way.adjusted(p[mine])
        interval_alpha[mine] = _interval_alpha(method, alpha, mine.size, int(np.sum(adjusted[mine] < alpha)))
    several = f" in {len(set(kinds))} families" if kinds else ""
    return AdjustedPValues(
        title=f"{p.size:,} comparisons{several}, corrected",
        method=way.name,
        source=way.source,
        labels=labels,
        p_values=p,
        adjusted=adjusted,
        alpha=alpha,
        keeps=way.keeps,
        families=kinds,
        interval_alpha=interval_alpha,
    )


def measure_family(
    asks: Mapping[str, Callable[[float], Measurement]],
    *,
    method: Method = "holm",
    alpha: float = 0.05,
    families: Mapping[str, str] | None = None,
) -> AdjustedPValues:
    """Measure many comparisons, correct their p-values, and give the intervals that go with the correction.

    Parameters
    ----------
    asks : mapping of label to function
        Each takes an alpha and returns the measurement with it.
    method, alpha, families
        As for `adjust`.

    Returns
    -------
    AdjustedPValues
        With `estimates` and `intervals`.

    Examples
    --------
    >>> from amber_ruler import Summary, measure
    >>> arms = Summary(100, 14.2, 4.0, "short"), Summary(100, 13.0, 3.0, "current")
    >>> r = measure_family({"fare": lambda alpha: measure.means(*arms, alpha=alpha),
    ...                     "tips": lambda alpha: measure.means(*arms, alpha=alpha)})
    >>> [round(float(q), 4) for q in r.adjusted], round(r.intervals[0].level, 3)
    ([0.0348, 0.0348], 0.975)
    """
    first = {label: ask(alpha) for label, ask in asks.items()}
    for label, result in first.items():
        if result.p_value is None or np.ndim(result.p_value):
            raise InputError(f"{label!r} has no single p-value to correct: ask for one comparison, with a test.")
    family = adjust(
        {k: float(r.p_value or 0.0) for k, r in first.items()}, method=method, alpha=alpha, families=families
    )
    again = [ask(a) for ask, a in zip(asks.values(), family.interval_alpha.tolist(), strict=True)]
    return replace(
        family,
        estimates=tuple(float(r.estimate) for r in again),
        intervals=tuple(Interval(float(r.interval.low), float(r.interval.high), r.interval.level) for r in again),
    )


def fixed_sequence(p_values: Mapping[str, float] | ArrayLike, *, alpha: float = 0.05) -> AdjustedPValues:
    """Which comparisons stand when they are tested in the order given, each at full alpha until one fails?

    Parameters
    ----------
    p_values : mapping of label to p, or array_like of shape (m,)
        In the order of testing, which must have been laid down beforehand.
    alpha : float
        Error rate of the whole.

    Returns
    -------
    AdjustedPValues
        Each adjusted p is the largest up to there.

    References
    ----------
    .. [1] Maurer, Hothorn & Lehmacher (1995), Biometrie in der chemisch-pharmazeutischen Industrie 6, 3-18.

    Examples
    --------
    >>> fixed_sequence({"fare": 0.01, "booked": 0.2, "complaint": 0.001}).adjusted.tolist()
    [0.01, 0.2, 0.2]
    """
    labels, p = _named(p_values)
    return _ordered_tests(labels, p, np.maximum.accumulate(p), alpha, "fixed sequence", "Maurer et al. (1995)")


def gatekeeping(
    p_values: Mapping[str, float],
    *,
    weights: Mapping[str, float],
    passes: Mapping[str, Mapping[str, float]],
    alpha: float = 0.05,
) -> AdjustedPValues:
    """Which comparisons stand when a claim hands its share of alpha on to others, as from primary to secondary metrics?

    Parameters
    ----------
    p_values : mapping of label to p
    weights : mapping of label to share
        Share of alpha that each has at the start; at most 1 together. Those left out start with none.
    passes : mapping of label to mapping of label to share
        To whom a comparison hands its alpha once it stands, in shares of at most 1 together.
    alpha : float
        Error rate of the whole: the chance of any false claim, whatever the dependence.

    Returns
    -------
    AdjustedPValues

    References
    ----------
    .. [1] Bretz, Maurer, Brannath & Posch (2009), Statistics in Medicine 28, 586-604, algorithm 2.

    Examples
    --------
    >>> r = gatekeeping({"booked": 0.01, "fare": 0.02, "tips": 0.015}, weights={"booked": 0.5, "fare": 0.5},
    ...                 passes={"booked": {"tips": 1.0}, "fare": {"tips": 1.0}})
    >>> r.adjusted.round(3).tolist()
    [0.02, 0.04, 0.03]
    """
    labels, p = _named(p_values)
    place = {label: k for k, label in enumerate(labels)}
    share, graph = np.zeros(p.size), np.zeros((p.size, p.size))
    for label, value in weights.items():
        share[_place(place, label)] = gate.at_least(f"weights[{label!r}]", value, 0)
    for start, ends in passes.items():
        for end, value in ends.items():
            if start == end:
                raise InputError(f"passes: {start!r} can't hand its alpha on to itself.")
            graph[_place(place, start), _place(place, end)] = gate.at_least(f"passes[{start!r}][{end!r}]", value, 0)
    if share.sum() > 1 + 1e-12 or np.any(graph.sum(axis=1) > 1 + 1e-12):
        raise InputError("weights, and what each comparison passes on, must be at most 1 together.")
    adjusted, left, most = np.ones(p.size), list(range(p.size)), 0.0
    while left:
        ratios = [p[k] / share[k] if share[k] > 0 else np.inf for k in left]
        first = left.pop(int(np.argmin(ratios)))
        most = max(most, min(ratios))
        if most >= 1:  # nothing further can be claimed at any alpha
            break
        adjusted[first] = most
        through, ways = graph[:, first].copy(), graph[first].copy()
        share = share + share[first] * ways
        loops = 1 - through * ways
        with np.errstate(divide="ignore", invalid="ignore"):
            graph = np.where(loops[:, None] > 0, (graph + np.outer(through, ways)) / loops[:, None], 0.0)
        np.fill_diagonal(graph, 0.0)
        graph[first], graph[:, first] = 0.0, 0.0
    return _ordered_tests(labels, p, adjusted, alpha, "graphical gatekeeping", "Bretz et al. (2009)")


def bonferroni(p_values: ArrayLike) -> Floats:
    """Adjusted p-values m p, which keep the chance of any false claim whatever the dependence.

    References
    ----------
    .. [1] Dunn (1961), Journal of the American Statistical Association 56, 52-64.

    Examples
    --------
    >>> bonferroni([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.12, 0.09]
    """
    p = _checked(p_values)
    return np.minimum(p.size * p, 1.0)


def sidak(p_values: ArrayLike) -> Floats:
    """Adjusted p-values 1 - (1 - p)^m, which keep the chance of any false claim where comparisons are independent.

    References
    ----------
    .. [1] Šidák (1967), Journal of the American Statistical Association 62, 626-633.

    Examples
    --------
    >>> sidak([0.01, 0.04, 0.03]).round(4).tolist()
    [0.0297, 0.1153, 0.0873]
    """
    p = _checked(p_values)
    with np.errstate(divide="ignore"):
        return np.asarray(-np.expm1(p.size * np.log1p(-p)))


def hochberg(p_values: ArrayLike) -> Floats:
    """Adjusted p-values of the step-up twin of Holm's, for comparisons that are independent or depend positively.

    References
    ----------
    .. [1] Hochberg (1988), Biometrika 75, 800-802.

    Examples
    --------
    >>> hochberg([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = _checked(p_values)
    order = np.argsort(p)
    steps = np.minimum.accumulate((p[order] * np.arange(p.size, 0, -1))[::-1])[::-1]
    return _in_order(np.minimum(steps, 1.0), order)


def hommel(p_values: ArrayLike) -> Floats:
    """Adjusted p-values of the closed Simes test, never above Hochberg's; its time grows with m^2.

    References
    ----------
    .. [1] Hommel (1988), Biometrika 75, 383-386.
    .. [2] Wright (1992), Biometrics 48, 1005-1013, for the adjusted p-values.

    Examples
    --------
    >>> hommel([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = _checked(p_values)
    order = np.argsort(p)
    ranked, m = p[order], p.size
    adjusted = np.full(m, float(np.min(m * ranked / np.arange(1, m + 1))))
    for size in range(m - 1, 1, -1):
        # The Simes p-value of so many: of the largest ones, and with one of the others instead of their smallest.
        start = m - size + 1
        least = float(np.min(size * ranked[start:] / np.arange(2, size + 1)))
        steps = np.append(np.minimum(size * ranked[:start], least), np.full(m - start, 0.0))
        steps[start:] = steps[start - 1]
        adjusted = np.maximum(adjusted, steps)
    return _in_order(np.minimum(np.maximum(adjusted, ranked), 1.0), order)


def holm(p_values: ArrayLike) -> Floats:
    """Adjusted p-values that keep the family-wise error rate (step-down Bonferroni).

    Parameters
    ----------
    p_values : array_like, shape (m,)

    Returns
    -------
    ndarray, shape (m,)
        In the order given; below alpha exactly where Holm's procedure claims.

    References
    ----------
    .. [1] Holm (1979), Scandinavian Journal of Statistics 6, 65-70.

    Examples
    --------
    >>> holm([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.06, 0.06]
    """
    p = _checked(p_values)
    order = np.argsort(p)
    steps = np.minimum(np.maximum.accumulate(p[order] * np.arange(p.size, 0, -1)), 1.0)
    return _in_order(steps, order)


def benjamini_hochberg(p_values: ArrayLike) -> Floats:
    """Adjusted p-values that keep the false discovery rate (step-up).

    Parameters
    ----------
    p_values : array_like, shape (m,)

    Returns
    -------
    ndarray, shape (m,)
        In the order given; at most alpha exactly where the procedure claims.

    References
    ----------
    .. [1] Benjamini & Hochberg (1995), Journal of the Royal Statistical Society B 57, 289-300.

    Examples
    --------
    >>> benjamini_hochberg([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = _checked(p_values)
    order = np.argsort(p)
    raised = p[order] * (p.size / np.arange(1, p.size + 1))
    steps = np.minimum(np.minimum.accumulate(raised[::-1])[::-1], 1.0)
    return _in_order(steps, order)


def benjamini_yekutieli(p_values: ArrayLike) -> Floats:
    """Adjusted p-values that keep the false discovery rate whatever the dependence.

    References
    ----------
    .. [1] Benjamini & Yekutieli (2001), Annals of Statistics 29, 1165-1188.

    Examples
    --------
    >>> benjamini_yekutieli([0.01, 0.04, 0.03]).round(4).tolist()
    [0.055, 0.0733, 0.0733]
    """
    p = _checked(p_values)
    return np.minimum(benjamini_hochberg(p) * np.sum(1 / np.arange(1, p.size + 1)), 1.0)


class Way(NamedTuple):
    """A correction: its name, how it adjusts, what it keeps, and where it is from."""

    name: str
    adjusted: Callable[[ArrayLike], Floats]
    keeps: str
    source: str


_ANY, _SHARE = "the chance of any false claim", "the expected share of false claims among the claims"
METHODS = {
    "bonferroni": Way("Bonferroni", bonferroni, _ANY, "Dunn (1961), JASA 56, 52-64"),
    "sidak": Way("Šidák", sidak, _ANY, "Šidák (1967), JASA 62, 626-633"),
    "holm": Way("Holm", holm, _ANY, "Holm (1979), Scandinavian Journal of Statistics 6, 65-70"),
    "hochberg": Way("Hochberg", hochberg, _ANY, "Hochberg (1988), Biometrika 75, 800-802"),
    "hommel": Way("Hommel", hommel, _ANY, "Hommel (1988), Biometrika 75, 383-386"),
    "benjamini-hochberg": Way(
        "Benjamini–Hochberg", benjamini_hochberg, _SHARE, "Benjamini & Hochberg (1995), JRSS B 57, 289-300"
    ),
    "benjamini-yekutieli": Way(
        "Benjamini–Yekutieli", benjamini_yekutieli, _SHARE, "Benjamini & Yekutieli (2001), Annals of Statistics 29"
    ),
}


def _interval_alpha(method: str, alpha: float, size: int, claims: int) -> float:
    if method == "sidak":
        return float(-np.expm1(np.log1p(-alpha) / size))
    if not method.startswith("benjamini"):
        return alpha / size
    harmonic = float(np.sum(1 / np.arange(1, size + 1))) if method == "benjamini-yekutieli" else 1.0
    return alpha * max(claims, 1) / size / harmonic


def _ordered_tests(
    labels: tuple[str, ...], p: Floats, adjusted: Floats, alpha: float, name: str, source: str
) -> AdjustedPValues:
    gate.between("alpha", alpha, 0, 1)
    return AdjustedPValues(
        title=f"{p.size:,} comparisons, in an order laid down beforehand",
        method=name,
        source=source,
        labels=labels,
        p_values=p,
        adjusted=adjusted,
        alpha=alpha,
        keeps=_ANY,
        interval_alpha=np.full(p.size, np.nan),
    )


def _named(p_values: Mapping[str, float] | ArrayLike) -> tuple[tuple[str, ...], Floats]:
    if isinstance(p_values, Mapping):
        return tuple(str(k) for k in p_values), _checked(list(p_values.values()))
    p = _checked(p_values)
    return tuple(str(i + 1) for i in range(p.size)), p


def _families(labels: Sequence[str], families: Mapping[str, str]) -> tuple[str, ...]:
    absent = [label for label in labels if label not in families]
    if absent:
        raise InputError(f"families says nothing of {absent[0]!r}: name a family for every comparison.")
    return tuple(str(families[label]) for label in labels)


def _place(place: Mapping[str, int], label: str) -> int:
    if label not in place:
        raise InputError.unknown("comparison", label, tuple(place))
    return place[label]


def _in_order(steps: Floats, order: NDArray[np.intp]) -> Floats:
    result = np.empty_like(steps)
    result[order] = steps
    return result


def _checked(p_values: ArrayLike) -> Floats:
    p = gate.finite("p_values", p_values)
    if p.ndim != 1 or p.size == 0:
        raise InputError(f"p_values must be a list of at least one p-value, got shape {p.shape}.")
    if np.any((p < 0) | (p > 1)):
        raise InputError.rule("p_values", float(p[(p < 0) | (p > 1)][0]), "between 0 and 1")
    return p
