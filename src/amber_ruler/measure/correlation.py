"""How closely two columns go together."""

from __future__ import annotations

from itertools import permutations
from typing import Any, Literal, NamedTuple, TypeAlias, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate, normal, pearson, ranks, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import EffectSize, Estimate
from amber_ruler.samples import Pairs
from amber_ruler.settings import AtLevel

Coefficient: TypeAlias = Literal["pearson", "spearman", "kendall"]

_ROUNDING = 8 * float(np.finfo(float).eps)
_SOURCES = {
    "pearson": "Pearson (1895); Fisher (1915), Biometrika 10, 507-521, for the exact distribution",
    "kendall": "Kendall (1938), Biometrika 30, 81-93; Fieller, Hartley & Pearson (1957), Biometrika 44, 470-481",
    "spearman": "Spearman (1904), Am. J. Psychology 15, 72-101; Bonett & Wright (2000), Psychometrika 65, 23-28",
}


@method(
    takes="columns",
    examples=(
        "travellers.csv --value fare --second prior_spend",
        "travellers.csv --value searches --second prior_trips --coefficient kendall",
    ),
)
def correlation(
    both: Pairs | Moments | ArrayLike,
    other: ArrayLike | None = None,
    *,
    labels: tuple[str, str] | None = None,
    coefficient: Coefficient = "pearson",
    distribution: Literal["usual", "exact"] = "usual",
    null: float = 0.0,
    alternative: Alternative = "two-sided",
    **asked: Unpack[AtLevel],
) -> Estimate:
    """How closely do two quantities of the same units go together?

    Parameters
    ----------
    both : Pairs, Moments of two columns, or array_like
        The two quantities, or the first of them.
    other : array_like, optional
        The second quantity, in the same order of units.
    labels : pair of str, optional
        What the two quantities are called.
    coefficient : "pearson", "spearman" or "kendall"
        The linear correlation, that of the ranks, or how many more pairs of units go the same way than the other way,
        ties allowed for (tau-b).
    distribution : "usual" or "exact"
        Of ranks, what p is from: the t or normal approximation, or all orders of the units, of at most 9, or for
        Kendall's without ties of at most 170.
    null : float, between -1 and 1
        Tested correlation; of exact orders only 0.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is -1 or 1.

    Returns
    -------
    Estimate
        The correlation with its interval and test. Pearson's are exact under normal values, and agree; Fisher's
        interval stands in `effects`. Those of ranks are on Fisher's scale, Spearman's with Bonett and Wright's standard
        error, Kendall's with that of Fieller, Hartley and Pearson.

    Notes
    -----
    A correlation within eight roundings of 1 is 1: two quantities that go together exactly give no other in floats.
    Kendall's z is S over its spread with ties in either quantity, without a correction of continuity.

    Raises
    ------
    DataError
        If there are fewer than 4 units (of Kendall's 5), or a quantity never varies.

    References
    ----------
    .. [1] Fisher (1915), Biometrika 10, 507-521.
    .. [2] Fisher (1921), Metron 1, 3-32, for the transformation.
    .. [3] Bonett & Wright (2000), Psychometrika 65, 23-28.
    .. [4] Kendall (1970), Rank Correlation Methods, 4th ed., chapters 3 to 5.
    .. [5] Fieller, Hartley & Pearson (1957), Biometrika 44, 470-481.

    Examples
    --------
    >>> r = correlation([1.0, 2.0, 3.0, 4.0, 5.0, 6.0], [1.2, 1.9, 3.4, 3.6, 5.5, 5.8])
    >>> round(r.estimate, 4), round(r.effects["fisher"].interval.low, 3)
    (0.9818, 0.837)
    """
    ask = shared.question(asked, alternative=alternative)
    gate.choice("coefficient", coefficient, _SOURCES)
    gate.choice("distribution", distribution, ("usual", "exact"))
    at = float(gate.between("null", gate.single("null", null), -1, 1))
    exact = distribution == "exact"
    if exact and (coefficient == "pearson" or at):
        what = "of ranks: Pearson's is exact as it is" if coefficient == "pearson" else "of no correlation, null = 0"
        raise InputError(f"distribution='exact' is {what}.")
    r, n, names, left_out = correlation_of(both, other, coefficient, labels)
    least = 5 if coefficient == "kendall" else 4
    if n < least:
        raise DataError(f"{n} units are too few for a correlation with an interval: at least {least} are needed.")
    if 1 - abs(r) < _ROUNDING:
        r = float(np.sign(r))
    certain = abs(r) == 1
    spread = {"pearson": 1.0, "spearman": 1 + r * r / 2, "kendall": 0.437 * (n - 3) / max(n - 4, 1)}[coefficient]
    se = float(np.sqrt(spread / (n - 3)))
    below, above = effects.critical_z(ask.tail)
    centre = float(np.arctanh(np.clip(r, -1 + 1e-16, 1 - 1e-16)))
    fisher = ask.interval(np.tanh(centre - below * se), np.tanh(centre + above * se))
    sides = None if coefficient == "pearson" else _sides(both, other, labels)
    if exact and sides is not None:
        tested = _Tested(np.asarray(shared.from_tails(*_exact(sides, coefficient), alternative)))
    elif at:
        tested = _against(r, n, at, (centre - np.arctanh(at)) / se, coefficient, alternative)
    elif coefficient == "kendall" and sides is not None:
        z = np.asarray(_kendall_z(sides))
        tested = _Tested(shared.p_value(z, normal.sf, alternative), z, "z")
    else:
        df = np.asarray(float(n - 2))
        t = np.asarray(np.sign(r) * np.inf if certain else r * np.sqrt(df / ((1 - r) * (1 + r))))
        tested = _Tested(shared.p_value(t, lambda x: student.sf(x, df), alternative), None if certain else t, "t", df)
    p = tested.p
    notes = []
    if coefficient == "pearson":
        low, high = (float(np.sign(r)),) * 2 if certain else pearson.bounds(r, n, ask.tail)
        limits = shared.agreeing(ask, *map(np.asarray, (low, high, p, at, r)))
        found = {"fisher": EffectSize(r, fisher, "r with Fisher's interval", aside=True)}
    else:
        limits, found = fisher, {}
        if bool(p < ask.alpha) == bool(limits.contains(at)):
            notes.append("The interval is on Fisher's scale and here disagrees with the test of the ranks.")
    if certain:
        notes.append("The two go together exactly: there is nothing left for an interval to say.")
    critical: Any = None if tested.name == "" else min(below, above)
    if tested.df is not None:
        critical = student.upper_quantile(max(ask.tail), tested.df)
    said = {"pearson": "Pearson's correlation, exact", "spearman": "Spearman's rank correlation"}
    return Estimate(
        title=f"{names[0]} and {names[1]}: {'' if coefficient == 'pearson' else 'rank '}correlation",
        method=said.get(coefficient, "Kendall's rank correlation, tau-b") + (", all orders" if exact else ""),
        source=_SOURCES[coefficient],
        metric=f"{names[0]} and {names[1]}",
        label="correlation",
        estimate=r,
        interval=limits,
        test=ask.test(p, at, statistic=tested.statistic, name=tested.name, df=tested.df, critical=critical),
        effects=found,
        quantity="correlation",
        facts={"n": float(n)} | ({} if coefficient == "kendall" else {"shared_variance": r * r}),
        checks=checks.without_pair(left_out),
        notes=tuple(notes),
    )


class _Tested(NamedTuple):
    """P, and the statistic that it is from, where there is one."""

    p: Floats
    statistic: Floats | None = None
    name: str = ""
    df: Floats | None = None


def _against(r: float, n: int, null: float, z: float, coefficient: str, alternative: Alternative) -> _Tested:
    """Against a correlation other than none: of Pearson's the exact distribution, of ranks Fisher's scale."""
    if coefficient == "pearson":
        return _Tested(np.asarray(shared.from_tails(pearson.sf(r, n, null), pearson.cdf(r, n, null), alternative)))
    return _Tested(shared.p_value(np.asarray(z), normal.sf, alternative), np.asarray(z), "z")


def _sides(both: Any, other: Any, labels: tuple[str, str] | None) -> tuple[Floats, Floats]:
    pairs = both if isinstance(both, Pairs) else Pairs(both, other, labels or ("first", "second"))
    return np.asarray(pairs.treatment), np.asarray(pairs.control)


def _kendall(x: Floats, y: Floats) -> tuple[float, float]:
    """S, pairs that go the same way less those that go the other way, and tau-b."""
    n = len(x)
    tied_x, tied_y = (sum(k * (k - 1) / 2 for k in np.unique(v, return_counts=True)[1].tolist()) for v in (x, y))
    _, twice = np.unique(np.column_stack([x, y]), axis=0, return_counts=True)
    tied = sum(k * (k - 1) / 2 for k in twice.tolist())
    other_way = float(_inversions(y[np.lexsort((y, x))])[0])
    whole = n * (n - 1) / 2
    s = whole - tied_x - tied_y + tied - 2 * other_way
    return s, s / np.sqrt((whole - tied_x) * (whole - tied_y))


def _inversions(values: Floats) -> tuple[int, Floats]:
    """Pairs in the wrong order, and the values in order."""
    n = len(values)
    if n < 64:
        return int(np.sum(np.triu(values[:, None] > values[None, :], 1))), np.sort(values)
    (a, one), (b, two) = _inversions(values[: n // 2]), _inversions(values[n // 2 :])
    across = int(np.sum(len(one) - np.searchsorted(one, two, side="right")))
    return a + b + across, np.sort(np.concatenate([one, two]), kind="stable")


def _kendall_z(sides: tuple[Floats, Floats]) -> float:
    """S over its spread where nothing goes together (Kendall 1970, equation 4.3, ties in both)."""
    n = len(sides[0])
    s, _ = _kendall(*sides)
    t, u = (np.unique(v, return_counts=True)[1].astype(float) for v in sides)
    spread = n * (n - 1) * (2 * n + 5) - sum(float(np.sum(k * (k - 1) * (2 * k + 5))) for k in (t, u))
    threes = float(np.sum(t * (t - 1) * (t - 2)) * np.sum(u * (u - 1) * (u - 2)))
    twos = float(np.sum(t * (t - 1)) * np.sum(u * (u - 1)))
    variance = spread / 18 + threes / (9 * n * (n - 1) * (n - 2)) + twos / (2 * n * (n - 1))
    return float(s / np.sqrt(variance))


def _exact(sides: tuple[Floats, Floats], coefficient: str) -> tuple[Floats, Floats]:
    """The chance of as large a value, and of as small a one, among all orders of the units."""
    x, y = (ranks.mean_ranks(v)[0] for v in sides)
    n = len(x)
    ties = len(np.unique(x)) < n or len(np.unique(y)) < n
    if coefficient == "kendall" and not ties:
        if n > 170:
            raise InputError(f"distribution='exact' is for at most 170 units, and there are {n:,}.")
        ways = np.ones(1)
        for k in range(2, n + 1):  # of k units more: 0 to k − 1 more in the wrong order
            ways = np.convolve(ways, np.full(k, 1 / k))
        wrong = int(_inversions(y[np.argsort(x)])[0])
        return np.asarray(ways[: wrong + 1].sum()), np.asarray(ways[wrong:].sum())
    if n > 9:
        raise InputError(f"distribution='exact' takes all orders of at most 9 units here, and there are {n:,}.")
    orders = np.array(list(permutations(range(n))))
    if coefficient == "spearman":
        each, seen = y[orders] @ x, float(y @ x)
    else:
        first, second = np.triu_indices(n, 1)
        way = np.sign(x[first] - x[second])
        each = sum(w * np.sign(y[orders[:, i]] - y[orders[:, j]]) for w, i, j in zip(way, first, second, strict=True))
        seen = float(np.sum(way * np.sign(y[first] - y[second])))
    near = 1e-9 * max(1.0, abs(seen))
    return np.asarray(np.mean(each >= seen - near)), np.asarray(np.mean(each <= seen + near))


def correlation_of(
    both: Pairs | Moments | ArrayLike, other: ArrayLike | None, coefficient: str, labels: tuple[str, str] | None
) -> tuple[float, int, tuple[str, str], int]:
    """The correlation, its units, what the two are called, and the units left out."""
    if isinstance(both, Moments):
        if len(both.columns) != 2 or coefficient != "pearson":
            raise InputError("Moments of exactly two columns give Pearson's correlation, and nothing else.")
        first, second = both.columns
        return float(both.correlation(first, second)), int(both.n), labels or (first, second), 0
    if isinstance(both, Pairs):
        pairs = both
    else:
        if other is None:
            raise InputError("Give both quantities: two arrays, Pairs, or Moments of two columns.")
        pairs = Pairs(gate.floats("first", both), gate.floats("second", other), labels or ("first", "second"))
    sides = {"treatment": pairs.treatment, "control": pairs.control}
    if len(pairs) < 2:
        raise DataError(f"{len(pairs)} units are too few for a correlation: at least 4 are needed.")
    if coefficient == "kendall":
        for values, label in zip(sides.values(), pairs.labels, strict=True):
            if np.all(values == values[0]):
                raise DataError(f"{label!r} never varies over the {len(pairs):,} units: it has no correlation.")
        return _kendall(*sides.values())[1], len(pairs), labels or pairs.labels, pairs.left_out
    if coefficient == "spearman":
        sides = {name: ranks.mean_ranks(values)[0] for name, values in sides.items()}
    found = Moments.from_arrays(sides)
    for name, label in zip(sides, pairs.labels, strict=True):
        if found.variance(name) == 0:
            raise DataError(f"{label!r} never varies over the {len(pairs):,} units: it has no correlation.")
    return float(found.correlation("treatment", "control")), len(pairs), labels or pairs.labels, pairs.left_out
