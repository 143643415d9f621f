"""How closely two columns go together."""

from __future__ import annotations

from typing import Literal, TypeAlias

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate, pearson, ranks, student
from amber_ruler.register import method
from amber_ruler.results import EffectSize, Estimate
from amber_ruler.samples import Pairs

Coefficient: TypeAlias = Literal["pearson", "spearman"]

_ROUNDING = 8 * float(np.finfo(float).eps)
_SOURCES = {
    "pearson": "Pearson (1895); Fisher (1915), Biometrika 10, 507-521, for the exact distribution",
    "spearman": "Spearman (1904), Am. J. Psychology 15, 72-101; Bonett & Wright (2000), Psychometrika 65, 23-28",
}


@method(takes="columns", examples=("travellers.csv --value fare --second prior_spend",))
def correlation(
    both: Pairs | Moments | ArrayLike,
    other: ArrayLike | None = None,
    *,
    labels: tuple[str, str] | None = None,
    coefficient: Coefficient = "pearson",
    alpha: float = 0.05,
    alternative: Alternative = "two-sided",
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
    coefficient : "pearson" or "spearman"
        The linear correlation, or that of the ranks.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    alternative : "two-sided", "greater" or "less"
        Direction of the test against no correlation. A one-sided test carries a one-sided interval, whose open end is
        -1 or 1.

    Returns
    -------
    Estimate
        The correlation with interval and t. Pearson's interval is exact under normal values, and agrees with the test;
        Fisher's stands in `effects`. Spearman's is on Fisher's scale with Bonett and Wright's standard error.

    Notes
    -----
    A correlation within eight roundings of 1 is 1: two quantities that go together exactly give no other in floats.

    Raises
    ------
    DataError
        If there are fewer than 4 units, or a quantity never varies.

    References
    ----------
    .. [1] Fisher (1915), Biometrika 10, 507-521.
    .. [2] Fisher (1921), Metron 1, 3-32, for the transformation.
    .. [3] Bonett & Wright (2000), Psychometrika 65, 23-28.

    Examples
    --------
    >>> r = correlation([1.0, 2.0, 3.0, 4.0, 5.0, 6.0], [1.2, 1.9, 3.4, 3.6, 5.5, 5.8])
    >>> round(r.estimate, 4), round(r.effects["fisher"].interval.low, 3)
    (0.9818, 0.837)
    """
    ask = shared.question(alpha, alternative)
    gate.choice("coefficient", coefficient, _SOURCES)
    r, n, names, left_out = correlation_of(both, other, coefficient, labels)
    if n < 4:
        raise DataError(f"{n} units are too few for a correlation with an interval: at least 4 are needed.")
    df = n - 2
    if 1 - abs(r) < _ROUNDING:
        r = float(np.sign(r))
    certain = abs(r) == 1
    t = np.sign(r) * np.inf if certain else r * np.sqrt(df / ((1 - r) * (1 + r)))
    p = shared.p_value(np.asarray(t), lambda x: student.sf(x, np.asarray(float(df))), alternative)
    ranked = coefficient == "spearman"
    wide = np.sqrt(1 + r * r / 2) if ranked else 1.0
    below, above = effects.critical_z(ask.tail)
    centre, se = np.arctanh(np.clip(r, -1 + 1e-16, 1 - 1e-16)), wide / np.sqrt(n - 3)
    fisher = ask.interval(np.tanh(centre - below * se), np.tanh(centre + above * se))
    notes = []
    if not ranked:
        low, high = (float(np.sign(r)),) * 2 if certain else pearson.bounds(r, n, ask.tail)
        limits = shared.agreeing(ask, *map(np.asarray, (low, high, p, 0.0, r)))
        found = {"fisher": EffectSize(r, fisher, "r with Fisher's interval", aside=True)}
    else:
        limits, found = fisher, {}
        if bool(p < alpha) == bool(limits.contains(0.0)):
            notes.append("The interval is on Fisher's scale and here disagrees with the t test of the ranks.")
    if certain:
        notes.append("The two go together exactly: there is nothing left for an interval to say.")
    critical = student.upper_quantile(max(ask.tail), float(df))
    return Estimate(
        title=f"{names[0]} and {names[1]}: {'rank ' if ranked else ''}correlation",
        method="Spearman's rank correlation" if ranked else "Pearson's correlation, exact",
        source=_SOURCES[coefficient],
        metric=f"{names[0]} and {names[1]}",
        label="correlation",
        estimate=r,
        interval=limits,
        test=ask.test(
            p, 0.0, statistic=None if certain else np.asarray(t), name="t", df=np.asarray(float(df)), critical=critical
        ),
        effects=found,
        quantity="correlation",
        facts={"n": float(n), "shared_variance": r * r},
        checks=checks.without_pair(left_out),
        notes=tuple(notes),
    )


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
    if coefficient == "spearman":
        sides = {name: ranks.mean_ranks(values)[0] for name, values in sides.items()}
    found = Moments.from_arrays(sides)
    for name, label in zip(sides, pairs.labels, strict=True):
        if found.variance(name) == 0:
            raise DataError(f"{label!r} never varies over the {len(pairs):,} units: it has no correlation.")
    return float(found.correlation("treatment", "control")), len(pairs), labels or pairs.labels, pairs.left_out
