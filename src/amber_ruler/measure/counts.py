"""Tables of counts: do rows and columns go together, and do counts follow the shares expected?"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar, Literal, TypeAlias

import numpy as np

from amber_ruler import effects, multiplicity
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure.proportion import wilson
from amber_ruler.numeric import chisquare, divergence, gate, normal, tables
from amber_ruler.results import Check, EffectSize, Interval, Result
from amber_ruler.samples import CountTable

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

Statistic: TypeAlias = Literal["chi-square", "g", "freeman-tukey", "cressie-read"]

_POWERS = {"chi-square": 1.0, "g": 0.0, "freeman-tukey": -0.5, "cressie-read": 2 / 3}
_NAMES = {"chi-square": "χ²", "g": "G", "freeman-tukey": "Freeman–Tukey", "cressie-read": "Cressie–Read"}
_SOURCES = {
    "chi-square": "Pearson (1900), Philosophical Magazine 50, 157-175",
    "g": "Wilks (1935), Annals of Mathematical Statistics 6, 190-196",
    "freeman-tukey": "Freeman & Tukey (1950), Annals of Mathematical Statistics 21, 607-611",
    "cressie-read": "Cressie & Read (1984), JRSS B 46, 440-464",
    "exact": "Freeman & Halton (1951), Biometrika 38, 141-149",
    "trend": "Cochran (1954), Biometrics 10, 417-451; Armitage (1955), Biometrics 11, 375-386",
}
_MOST_WAYS = 300_000  # outcomes that are counted one by one
_LEAST_DRAWS, _MOST_DRAWS, _CELLS_DRAWN = 2_000, 100_000, 6e6


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Independence(Result):
    """A table of counts, and whether its rows and columns go together.

    Attributes
    ----------
    table : CountTable
        The counts.
    statistic, statistic_name, df, p_value : float or None, str, float or None, float
        The test; an exact one has a p-value only.
    alpha : float
        Error rate of the test; intervals have level 1 - alpha.
    expected, contributions, residuals, residual_p : ndarray, shape (r, c)
        Counts expected without any association; what each cell adds to chi-square; how many standard errors it lies
        from the expected count; and the p-value of that, corrected for the number of cells by Holm.
    effects : mapping of str to EffectSize
        Cramér's V, plain and corrected for its bias, and Cohen w.
    p_error : float
        Monte-Carlo standard error of the p-value; 0 where it was not drawn.
    """

    kind: ClassVar[str] = "independence"

    table: CountTable
    statistic: float | None
    statistic_name: str
    df: float | None
    p_value: float
    alpha: float
    expected: Floats
    contributions: Floats
    residuals: Floats
    residual_p: Floats
    effects: Mapping[str, EffectSize] = field(default_factory=dict)
    p_error: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Shares(Result):
    """Counts of several kinds, and whether they follow the shares expected.

    Attributes
    ----------
    labels : tuple of str
        The kinds.
    counts, planned, expected, contributions : ndarray, shape (k,)
        Counts, shares and counts expected, and what each adds to the statistic.
    low, high : ndarray, shape (k,)
        Limits of each kind's share; all of them hold together at 1 - alpha.
    residuals, residual_p : ndarray, shape (k,)
        How many standard errors each count lies from what was expected, and its p-value corrected by Holm.
    statistic, statistic_name, df, p_value, p_error, alpha, effects
        As for `Independence`.
    """

    kind: ClassVar[str] = "shares"

    labels: tuple[str, ...]
    counts: Floats
    planned: Floats
    expected: Floats
    contributions: Floats
    low: Floats
    high: Floats
    residuals: Floats
    residual_p: Floats
    statistic: float | None
    statistic_name: str
    df: float | None
    p_value: float
    alpha: float
    effects: Mapping[str, EffectSize] = field(default_factory=dict)
    p_error: float = 0.0


def independence(
    counts: CountTable | ArrayLike,
    *,
    alpha: float = 0.05,
    test: Literal["asymptotic", "exact", "trend"] | None = None,
    statistic: Statistic = "chi-square",
    correction: Literal["none", "yates", "williams", "n-1"] = "none",
    scores: ArrayLike | None = None,
    draws: int | None = None,
    seed: int = 0,
) -> Independence:
    """Do the rows and columns of a table of counts go together, and in which cells?

    Parameters
    ----------
    counts : CountTable or array_like, shape (r, c)
        Such as `table.counts(row=, column=)` gives.
    alpha : float, between 0 and 0.5
        Error rate of the test; intervals have level 1 - alpha.
    test : "asymptotic", "exact" or "trend", optional
        If not given, asymptotic, and exact where expected counts are small. The exact test is Fisher's for two by two,
        and drawn from the tables with the same margins for larger ones. The trend (Cochran-Armitage) asks whether the
        share goes up or down along ordered rows or columns, and needs a side of two.
    statistic : "chi-square", "g", "freeman-tukey" or "cressie-read"
        Of the asymptotic test.
    correction : "none", "yates", "williams" or "n-1"
        Yates takes one half from each deviation (two by two); Williams divides G; n-1 multiplies chi-square by
        (n - 1)/n.
    scores : array_like, optional
        For the trend: where the ordered rows or columns stand; 0, 1, 2, ... if not given.
    draws : int, optional
        Of an exact test that is drawn; 100,000 if not given, and fewer for large tables.
    seed : int
        What replays the draws.

    Returns
    -------
    Independence

    Raises
    ------
    DataError
        If a row or column has no unit.
    InputError
        If counts are not whole numbers, or a choice doesn't fit the table.

    References
    ----------
    .. [1] Pearson (1900), Philosophical Magazine 50, 157-175.
    .. [2] Haberman (1973), Biometrics 29, 205-220, for the residuals.
    .. [3] Bergsma (2013), Journal of the Korean Statistical Society 42, 323-328, for the corrected V.
    .. [4] Cochran (1954), Biometrics 10, 417-451, for which expected counts are small.

    Examples
    --------
    >>> r = independence([[30, 10], [20, 40]])
    >>> round(r.statistic, 3), round(r.p_value, 6), round(r.effects["cramers_v"].value, 3)
    (16.667, 4.5e-05, 0.408)
    """
    effects.tails(alpha, "two-sided")
    gate.choice("statistic", statistic, _POWERS)
    gate.choice("correction", correction, ("none", "yates", "williams", "n-1"))
    if test is not None:
        gate.choice("test", test, ("asymptotic", "exact", "trend"))
    table = counts if isinstance(counts, CountTable) else _unnamed(counts)
    o = table.counts
    row, column, n = o.sum(axis=1), o.sum(axis=0), float(o.sum())
    _no_empty(table, row, column)
    expected = np.outer(row, column) / n
    df = float((row.size - 1) * (column.size - 1))
    small = _small(expected)
    how = test or ("exact" if small else "asymptotic")
    each = divergence.power_divergence(o, expected, 1.0)
    error, value, name, degrees = 0.0, None, "", None
    if how == "asymptotic":
        value = _corrected(o, expected, statistic, correction, n, df)
        name, degrees, p = _NAMES[statistic], df, float(chisquare.sf(value, df))
    elif how == "trend":
        value = _trend(o, scores)
        name, p = "z", min(2 * float(normal.sf(abs(value))), 1.0)
    elif o.shape == (2, 2):
        p = tables.fisher_tails(*(int(v) for v in (o[0, 0], row[0], o[1, 0], row[1])))[2]
    else:
        times = _draws(draws, o.size)
        p = divergence.drawn_tables(o, times, np.random.default_rng(seed))
        error = math.sqrt(p * (1 - p) / times)
    residuals = (o - expected) / np.sqrt(expected * np.outer(1 - row / n, 1 - column / n))
    said = {
        "asymptotic": f"{_NAMES[statistic]} test",
        "trend": "trend of shares",
        "exact": "exact test, given the margins",
    }
    corrected = "" if correction == "none" or how != "asymptotic" else f", {correction} correction"
    return Independence(
        title=f"{table.row_name or 'rows'} by {table.column_name or 'columns'}",
        method=f"independence, {said[how]}{', drawn' if error else ''}{corrected}",
        source=_SOURCES.get(how, _SOURCES[statistic]),
        table=table,
        statistic=value,
        statistic_name=name,
        df=degrees,
        p_value=p,
        alpha=alpha,
        expected=expected,
        contributions=each,
        residuals=residuals,
        residual_p=_residual_p(residuals),
        effects=_strength(float(each.sum()), n, row.size, column.size, alpha),
        p_error=error,
        checks=_expected_check(small, how),
        seed=seed if error else None,
    )


def shares(
    counts: Mapping[str, float] | ArrayLike,
    *,
    expected: Mapping[str, float] | ArrayLike | None = None,
    alpha: float = 0.05,
    test: Literal["asymptotic", "exact"] | None = None,
    statistic: Statistic = "chi-square",
    draws: int | None = None,
    seed: int = 0,
    metric: str = "",
) -> Shares:
    """Do counts of several kinds follow the shares expected, and which kinds don't?

    Parameters
    ----------
    counts : mapping of label to count, or array_like of shape (k,)
        Units of each kind.
    expected : mapping of label to share, or array_like of shape (k,), optional
        In proportion; equal shares if not given.
    alpha : float, between 0 and 0.5
        Error rate of the test; the intervals hold together at level 1 - alpha.
    test : "asymptotic" or "exact", optional
        If not given, asymptotic, and exact (multinomial) where expected counts are small; with too many outcomes to
        count it is drawn.
    statistic : "chi-square", "g", "freeman-tukey" or "cressie-read"
        Of the asymptotic test.
    draws : int, optional
        Of an exact test that is drawn; 100,000 if not given, and fewer for large tables.
    seed : int
        What replays the draws.
    metric : str
        What was counted, for the heading.

    Returns
    -------
    Shares

    References
    ----------
    .. [1] Pearson (1900), Philosophical Magazine 50, 157-175.
    .. [2] Goodman (1965), Technometrics 7, 247-254, for the intervals.

    Examples
    --------
    >>> r = shares({"foot": 120, "bicycle": 80, "car": 100})
    >>> round(r.statistic, 2), round(r.p_value, 4)
    (8.0, 0.0183)
    """
    effects.tails(alpha, "two-sided")
    gate.choice("statistic", statistic, _POWERS)
    if test is not None:
        gate.choice("test", test, ("asymptotic", "exact"))
    o = _whole(list(counts.values()) if isinstance(counts, Mapping) else counts)
    if o.ndim != 1 or o.size < 2:
        raise InputError(f"counts must be of at least 2 kinds in one row, got shape {o.shape}.")
    labels = tuple(map(str, counts if isinstance(counts, Mapping) else range(1, o.size + 1)))
    planned = _planned(expected, labels)
    n = float(o.sum())
    if n == 0:
        raise DataError("All counts are 0: there is nothing to compare.")
    goal = n * planned
    small = _small(goal)
    how = test or ("exact" if small else "asymptotic")
    each = divergence.power_divergence(o, goal, _POWERS[statistic])
    error, value, df = 0.0, float(each.sum()), o.size - 1.0
    if how == "asymptotic":
        p = float(chisquare.sf(value, df))
    elif divergence.ways(int(n), o.size) <= _MOST_WAYS:
        p = divergence.exact_shares(o, planned)
    else:
        times = _draws(draws, o.size)
        p = divergence.drawn_shares(o, planned, times, np.random.default_rng(seed))
        error = math.sqrt(p * (1 - p) / times)
    residuals = (o - goal) / np.sqrt(goal * (1 - planned))
    critical = float(normal.upper_quantile(alpha / 2 / o.size))
    low, high = wilson(o, np.full(o.size, n), (critical, critical))
    chi_square = float(divergence.power_divergence(o, goal, 1.0).sum())
    exact = how == "exact"
    return Shares(
        title=f"{metric or 'counts'} of {o.size} kinds",
        method=f"shares, {'exact multinomial' if exact else _NAMES[statistic]} test{', drawn' if error else ''}",
        source=_SOURCES["exact" if exact else statistic],
        labels=labels,
        counts=o,
        planned=planned,
        expected=goal,
        contributions=each,
        low=low,
        high=high,
        residuals=residuals,
        residual_p=_residual_p(residuals),
        statistic=None if exact else value,
        statistic_name="" if exact else _NAMES[statistic],
        df=None if exact else df,
        p_value=p,
        alpha=alpha,
        effects={"cohen_w": effects.from_chi_square(chi_square, n, df, alpha=alpha)},
        p_error=error,
        checks=_expected_check(small, how),
        seed=seed if error else None,
    )


def _whole(counts: ArrayLike) -> Floats:
    return gate.whole("counts", counts, way_out="These are units of each kind, not shares: multiply by the total.")


def _unnamed(counts: ArrayLike) -> CountTable:
    o = _whole(counts)
    if o.ndim != 2 or min(o.shape) < 2:
        raise InputError(f"A table of counts has at least 2 rows and 2 columns, got shape {o.shape}.")
    rows, columns = (tuple(str(k + 1) for k in range(size)) for size in o.shape)
    return CountTable(o, rows, columns)


def _no_empty(table: CountTable, row: Floats, column: Floats) -> None:
    if min(table.counts.shape) < 2:
        raise InputError(f"A table of counts has at least 2 rows and 2 columns, got shape {table.counts.shape}.")
    for kind, labels, totals in (("row", table.rows, row), ("column", table.columns, column)):
        empty = [label for label, total in zip(labels, totals, strict=True) if total == 0]
        if empty:
            raise DataError(f"The {kind} {empty[0]!r} has no unit at all: leave it out.")


def _small(expected: Floats) -> str:
    """Cochran's rule: no expected count under 1, at most a fifth of them under 5; what breaks it, or nothing."""
    least, few = float(expected.min()), float(np.mean(expected < 5))
    if least >= 1 and few <= 0.2:
        return ""
    return f"the smallest is {least:.3g}, and {100 * few:.3g}% of them are below 5"


def _expected_check(small: str, how: str) -> tuple[Check, ...]:
    if not small:
        return ()
    said = "The asymptotic test can't be trusted there:"
    if how == "exact":
        return (Check("expected counts", small, f"{said} this is the exact one.", "note"),)
    return (Check("expected counts", small, f"{said} take the exact one.", "warning"),)


def _corrected(o: Floats, expected: Floats, statistic: str, correction: str, n: float, df: float) -> float:
    """The statistic with the correction asked for.

    References
    ----------
    .. [1] Yates (1934), Supplement to the Journal of the Royal Statistical Society 1, 217-235.
    .. [2] Williams (1976), Biometrika 63, 33-37.
    .. [3] Campbell (2007), Statistics in Medicine 26, 3661-3675, for (n - 1)/n.
    """
    if correction == "yates":
        if o.shape != (2, 2) or statistic != "chi-square":
            raise InputError("correction='yates' is for the chi-square of a two by two table.")
        away = np.maximum(np.abs(o - expected) - 0.5, 0.0)
        return float(np.sum(away**2 / expected))
    value = float(divergence.power_divergence(o, expected, _POWERS[statistic]).sum())
    if correction == "williams":
        if statistic != "g":
            raise InputError("correction='williams' is for statistic='g'.")
        row, column = o.sum(axis=1), o.sum(axis=0)
        return value / (1 + (n * float(np.sum(1 / row)) - 1) * (n * float(np.sum(1 / column)) - 1) / (6 * n * df))
    if correction == "n-1":
        if statistic != "chi-square":
            raise InputError("correction='n-1' is for statistic='chi-square'.")
        return value * (n - 1) / n
    return value


def _trend(o: Floats, scores: ArrayLike | None) -> float:
    """Z of the covariance of scores with the share of the first of two kinds."""
    if 2 not in o.shape:
        raise InputError(f"A trend needs two rows or two columns; this table has shape {o.shape}.")
    by = o if o.shape[1] == 2 else o.T
    at = np.arange(len(by)) if scores is None else gate.finite("scores", scores)
    if at.shape != (len(by),):
        raise InputError(f"scores needs {len(by)} values, one for each ordered kind, got shape {at.shape}.")
    n, share = by.sum(axis=1), float(by[:, 0].sum() / by.sum())
    away = at - n @ at / n.sum()
    spread = share * (1 - share) * float(n @ away**2)
    if spread == 0:
        raise InputError("All scores are equal: there is no order along which a share could go.")
    return float(by[:, 0] @ away) / math.sqrt(spread)


def _residual_p(residuals: Floats) -> Floats:
    raw = np.minimum(2 * normal.sf(np.abs(residuals)), 1.0)
    return multiplicity.holm(raw.ravel()).reshape(raw.shape)


def _strength(chi_square: float, n: float, r: int, c: int, alpha: float) -> dict[str, EffectSize]:
    df, least = (r - 1) * (c - 1), min(r, c) - 1
    w = effects.from_chi_square(chi_square, n, df, alpha=alpha)
    root = math.sqrt(least)
    limits = Interval(float(w.interval.low) / root, float(w.interval.high) / root, 1 - alpha)
    rest = max(0.0, chi_square / n - df / (n - 1))
    sides = [size - (size - 1) ** 2 / (n - 1) for size in (r, c)]
    corrected = math.sqrt(rest / (min(sides) - 1)) if min(sides) > 1 else 0.0
    return {
        "cramers_v": EffectSize(float(w.value) / root, limits, "Cramér's V"),
        "cramers_v_corrected": EffectSize(min(corrected, 1.0), limits, "Cramér's V, bias corrected"),
        "cohen_w": EffectSize(w.value, w.interval, "Cohen w", aside=True),
    }


def _planned(expected: Mapping[str, float] | ArrayLike | None, labels: tuple[str, ...]) -> Floats:
    if expected is None:
        return np.full(len(labels), 1 / len(labels))
    if isinstance(expected, Mapping):
        by = {str(k): v for k, v in expected.items()}
        if set(by) != set(labels):
            raise InputError(f"expected names {', '.join(by)}; the counts are of {', '.join(labels)}.")
        expected = [by[label] for label in labels]
    found = gate.positive("expected", expected, "Leave a kind out that can't occur.")
    if found.shape != (len(labels),):
        raise InputError(f"expected needs {len(labels)} shares, one for each kind, got shape {found.shape}.")
    return np.asarray(found / found.sum())


def _draws(draws: int | None, cells: int) -> int:
    """So many that a drawn test takes seconds at most; its error says what they are worth."""
    if draws is None:
        return int(min(_MOST_DRAWS, max(_LEAST_DRAWS, _CELLS_DRAWN / cells)))
    return int(gate.whole("draws", draws, 100))
