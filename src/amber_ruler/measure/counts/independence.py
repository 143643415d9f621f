"""Tables of counts: do rows and columns go together?"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import shared
from amber_ruler.measure.counts.common import (
    NAMES,
    POWERS,
    SOURCES,
    Statistic,
    any_test,
    drawn,
    draws_of,
    expected_check,
    residual_p,
    small,
    whole,
)
from amber_ruler.measure.proportion import Continuity
from amber_ruler.numeric import chisquare, divergence, gate, normal, tables
from amber_ruler.numeric.gate import ALTERNATIVES, Floats
from amber_ruler.register import method
from amber_ruler.results import EffectSize, Interval, Result, Test
from amber_ruler.results.pieces import Tested
from amber_ruler.samples import CountTable
from amber_ruler.settings import AtLevel


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Independence(Result, Tested):
    """A table of counts, and whether its rows and columns go together.

    Attributes
    ----------
    table : CountTable
        The counts.
    test : Test
        The test, which `p_value`, `statistic` and so on read; an exact one has a p-value only, with its Monte-Carlo
        error where it was drawn.
    expected, contributions, pearson, residuals, residual_p : ndarray, shape (r, c)
        Counts expected without any association; what each cell adds to chi-square, and its signed root, Pearson's
        residual; how many standard errors it lies from the expected count; and the p-value of that, corrected for
        the number of cells by Holm.
    effects : mapping of str to EffectSize
        Cramér's V, plain and corrected for its bias, Cohen w, and Pearson's contingency coefficient, the root of
        chi-square over chi-square and n, whose interval is that of w carried over.
    """

    table: CountTable
    test: Test
    expected: Floats
    contributions: Floats
    pearson: Floats
    residuals: Floats
    residual_p: Floats
    effects: Mapping[str, EffectSize] = field(default_factory=dict)

    @property
    def alpha(self) -> float:
        """Error rate of the test; intervals have level 1 - alpha."""
        return self.test.alpha


@method(
    takes="table",
    published=("counts",),
    examples=(
        "tickets.csv --row port --column ticket --count count",
        "travellers.csv --row form --column booked",
        "--counts '30,10; 20,40' --test exact",
    ),
    exempt={"p and interval": "a table has no interval of its own"},
)
def independence(
    counts: CountTable | ArrayLike,
    *,
    test: Literal["asymptotic", "exact", "trend"] | None = None,
    statistic: Statistic | None = None,
    continuity: Continuity | None = None,
    correction: Literal["none", "williams", "n-1"] | None = None,
    scores: ArrayLike | None = None,
    order: Literal["likelihood", "chi-square"] | None = None,
    draws: int | None = None,
    alternative: Alternative = "two-sided",
    seed: int | None = None,
    **asked: Unpack[AtLevel],
) -> Independence:
    """Do the rows and columns of a table of counts go together, and in which cells?

    Parameters
    ----------
    counts : CountTable or array_like, shape (r, c)
        Such as `table.counts(row=, column=)` gives.
    test : "asymptotic", "exact" or "trend", optional
        If not given, asymptotic, and exact where expected counts are small. The exact test goes through the tables with
        the same margins: Fisher's for two by two; of larger ones up to a million are counted one by one, and of more
        tables some are drawn. The trend (Cochran-Armitage) asks whether the
        share goes up or down along ordered rows or columns, and needs a side of two.
    statistic : "chi-square", "g", "freeman-tukey" or "cressie-read"
        Of the asymptotic test; chi-square if not given.
    continuity : "none" or "half"
        Whether one half is taken from each deviation of the chi-square of a two by two table (Yates).
    correction : "none", "williams" or "n-1"
        Williams divides G; n-1 multiplies chi-square by (n - 1)/n.
    scores : array_like, optional
        For the trend: where the ordered rows or columns stand; 0, 1, 2, ... if not given.
    order : "likelihood" or "chi-square"
        Of an exact test: whether the tables that count against independence are those no likelier than the one seen
        (the default), or those with as large a chi-square.
    draws : int, optional
        Of an exact test of a larger table than two by two: draw so many, though they could be counted; where they are
        too many to count, 100,000 if not given, and fewer for large tables.
    alpha : float, between 0 and 0.5
        Error rate of the test; intervals have level 1 - alpha.
    alternative : "two-sided", "greater" or "less"
        Of a trend: whether the share of the first of the two kinds goes up ("greater") or down along the scores.
    seed : int, optional
        What replays the draws; 0 if not given.

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
    .. [4] Freeman & Halton (1951), Biometrika 38, 141-149, for exact tests of larger tables.
    .. [5] Cochran (1954), Biometrics 10, 417-451, for which expected counts are small.

    Examples
    --------
    >>> r = independence([[30, 10], [20, 40]])
    >>> round(r.statistic, 3), round(r.p_value, 6), round(r.effects["cramers_v"].value, 3)
    (16.667, 4.5e-05, 0.408)
    """
    ask = shared.question(asked)
    if test is not None:
        gate.choice("test", test, ("asymptotic", "exact", "trend"))
    table = counted(counts)
    o = table.counts
    row, column, n = o.sum(axis=1), o.sum(axis=0), float(o.sum())
    _no_empty(table, row, column)
    expected = np.outer(row, column) / n
    few = small(expected)
    drawable = o.shape == (2, 2) or n < divergence.MOST_DRAWN
    how = test or ("exact" if few and drawable and (statistic or continuity or correction) is None else "asymptotic")
    larger = how == "exact" and o.shape != (2, 2)
    ordered = gate.choice("order", order or "likelihood", ("likelihood", "chi-square"))
    counted_p = divergence.exact_tables(o, ordered) if how == "exact" and draws is None and seed is None else None
    by_chance = larger and counted_p is None
    if by_chance and not drawable:
        raise InputError(f"Tables of {n:.3g} units can't be drawn: take test='asymptotic', or merge small cells.")
    asymptotic = {"statistic": statistic, "continuity": continuity, "correction": correction}
    shared.unused(how, {name: (given, how == "asymptotic") for name, given in asymptotic.items()})
    shared.unused(how, {"scores": (scores, how == "trend"), "draws": (draws, larger), "seed": (seed, larger)})
    shared.unused(how, {"order": (order, how == "exact")})
    if alternative != "two-sided":
        shared.unused(how, {"alternative": (gate.choice("alternative", alternative, ALTERNATIVES), how == "trend")})
    kind = gate.choice("statistic", statistic or "chi-square", POWERS)
    each = divergence.power_divergence(o, expected, 1.0)
    more = ""
    if how == "asymptotic":
        tested, more = _asymptotic(o, expected, kind, correction or "none", continuity or "none", ask.alpha)
    elif how == "trend":
        value = _trend(o, scores)
        tested = any_test(float(shared.p_value(np.asarray(value), normal.sf, alternative)), ask.alpha, value, "z")
        tested = replace(tested, alternative=alternative if alternative != "two-sided" else "any")
    elif counted_p is not None and ordered == "chi-square":
        tested, more = any_test(counted_p, ask.alpha), ", ordered by χ²"
    elif o.shape == (2, 2) and ordered == "likelihood":
        tested = any_test(tables.fisher_tails(*(int(v) for v in (o[0, 0], row[0], o[1, 0], row[1])))[2], ask.alpha)
    elif counted_p is not None:
        tested = any_test(counted_p, ask.alpha)
    else:
        rng = np.random.default_rng(seed or 0)
        p, error = drawn(draws_of(draws, o.size), lambda times: divergence.drawn_tables(o, times, rng, ordered))
        tested = any_test(p, ask.alpha, error=error)
        more = ", drawn" if ordered == "likelihood" else ", ordered by χ², drawn"
    residuals = (o - expected) / np.sqrt(expected * np.outer(1 - row / n, 1 - column / n))
    said = {"asymptotic": f"{NAMES[kind]} test", "trend": "trend of shares", "exact": "exact test, given the margins"}
    return Independence(
        title=f"{table.row_name or 'rows'} by {table.column_name or 'columns'}",
        method=f"independence, {said[how]}{more}",
        source=SOURCES.get(how, SOURCES[kind]),
        table=table,
        test=tested,
        expected=expected,
        contributions=each,
        pearson=(o - expected) / np.sqrt(expected),
        residuals=residuals,
        residual_p=residual_p(residuals),
        effects=_strength(float(each.sum()), n, row.size, column.size, ask.alpha),
        checks=expected_check(few, how),
        seed=(seed or 0) if by_chance else None,
    )


def _asymptotic(
    o: Floats, expected: Floats, statistic: str, correction: str, continuity: str, alpha: float
) -> tuple[Test, str]:
    """The test, and what is to be said of a correction."""
    fix = gate.choice("correction", correction, ("none", "williams", "n-1"))
    half = gate.choice("continuity", continuity, ("none", "half")) == "half"
    df = float((o.shape[0] - 1) * (o.shape[1] - 1))
    value = _corrected(o, expected, statistic, fix, float(o.sum()), df, half=half)
    said = ", continuity correction" if half else "" if fix == "none" else f", {fix} correction"
    return any_test(float(chisquare.sf(value, df)), alpha, value, NAMES[statistic], df), said


def counted(counts: CountTable | ArrayLike) -> CountTable:
    """A table of counts; one without labels gets numbers for them."""
    return counts if isinstance(counts, CountTable) else _unnamed(counts)


def _unnamed(counts: ArrayLike) -> CountTable:
    o = whole(counts)
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


def _corrected(
    o: Floats, expected: Floats, statistic: str, correction: str, n: float, df: float, *, half: bool
) -> float:
    """The statistic with the correction asked for.

    References
    ----------
    .. [1] Yates (1934), Supplement to the Journal of the Royal Statistical Society 1, 217-235.
    .. [2] Williams (1976), Biometrika 63, 33-37.
    .. [3] Campbell (2007), Statistics in Medicine 26, 3661-3675, for (n - 1)/n.
    """
    if half:
        if o.shape != (2, 2) or statistic != "chi-square" or correction != "none":
            raise InputError("continuity='half' is for the chi-square of a two by two table, without a correction.")
        away = np.maximum(np.abs(o - expected) - 0.5, 0.0)
        return float(np.sum(away**2 / expected))
    value = float(divergence.power_divergence(o, expected, POWERS[statistic]).sum())
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


def _contingency(w: float) -> float:
    return w / math.hypot(1.0, w)


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
        "contingency": EffectSize(
            _contingency(float(w.value)),
            Interval(_contingency(float(w.interval.low)), _contingency(float(w.interval.high)), 1 - alpha),
            "contingency coefficient",
            aside=True,
        ),
    }
