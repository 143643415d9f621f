"""Two correlations of independent groups."""

from __future__ import annotations

from typing import Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.correlation import Coefficient, correlation_of
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize, Group
from amber_ruler.samples import Pairs, Records
from amber_ruler.settings import Directed


@method(
    takes="two",
    needs="values",
    columns=("value", "other"),
    examples=("travellers.csv --value fare --other prior_spend --by form --control current",),
    exempt={
        "broadcast": "rows of one metric are needed",
        "shift": "a correlation does not move with the values",
        "rescale": "a correlation has no unit",
        "null": "correlations are bounded, and their difference with them",
    },
)
def correlations(
    treatment: Records,
    control: Records,
    *,
    value: str,
    other: str,
    coefficient: Coefficient = "pearson",
    alternative: Alternative = "two-sided",
    **asked: Unpack[Directed],
) -> Comparison:
    """Do two quantities go together more closely in treatment than in control?

    Parameters
    ----------
    treatment, control : Records
        The rows of each variant; those that lack one of the two are left out, and counted.
    value : str
        Column with the one quantity.
    other : str
        Column with the other quantity.
    coefficient : "pearson", "spearman" or "kendall"
        As for `correlation`.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is -2 or 2.

    Returns
    -------
    Comparison
        The difference of the correlations with its interval; the test is of the difference of Fisher's z. In `effects`
        that difference (Cohen's q) with the interval that goes with the test.

    Raises
    ------
    DataError
        If a group has fewer than 4 units, or a quantity never varies.

    Notes
    -----
    z = (atanh r1 - atanh r0) / sqrt(v1 + v0), with v = 1 / (n - 3), and for ranks the variances that `correlation` has.
    The interval of the difference puts together the limits of both correlations (Zou's); where it disagrees with the
    test about 0, the test decides and the limit is put at 0.

    References
    ----------
    .. [1] Fisher (1921), Metron 1, 3-32.
    .. [2] Zou (2007), Psychological Methods 12, 399-413, for the interval.

    Examples
    --------
    >>> one = Records({"fare": [1.0, 2, 3, 4, 5, 6], "prior": [1.0, 3, 2, 5, 4, 6]}, "short")
    >>> two = Records({"fare": [1.0, 2, 3, 4, 5, 6], "prior": [4.0, 1, 6, 2, 5, 3]}, "current")
    >>> r = correlations(one, two, value="fare", other="prior")
    >>> round(r.estimate, 4), round(r.p_value, 4)
    (0.8, 0.1071)
    """
    ask = shared.question(asked, alternative=alternative)
    for arm in (treatment, control):
        if not hasattr(arm, "together"):
            raise InputError(f"Two columns are needed: give Records, or table.records(…), not {type(arm).__name__}.")
    rows = treatment.together([control], [value, other]).known([value, other])
    found = []
    for label, x, y in zip(rows.labels, rows.values(value), rows.values(other), strict=True):
        pairs = Pairs(x, y, (value, other))
        least = 5 if coefficient == "kendall" else 4
        if len(pairs) < least:
            raise DataError(f"{label!r} has {len(pairs)} units with both quantities: at least {least} are needed.")
        r, n, _, _ = correlation_of(pairs, None, coefficient, None)
        if 1 - abs(r) < 1e-15:
            raise DataError(f"In {label!r} the two go together exactly: there is no spread to compare by.")
        spread = {"pearson": 1.0, "spearman": 1 + r * r / 2, "kendall": 0.437 * (n - 3) / max(n - 4, 1)}[coefficient]
        found.append((label, r, n, spread / (n - 3)))
    (one, r1, n1, v1), (two, r0, n0, v0) = found
    below, above = effects.critical_z(ask.tail)
    compared = effects.compare_correlations(
        (r1, n1), (r0, n0), variances=(v1, v0), alpha=ask.alpha, alternative=alternative
    )
    p = np.asarray(compared.p_value)
    low, high = compared.interval.low, compared.interval.high
    name = ask.metric or f"{value} and {other}"
    q, se = compared.q, float(np.sqrt(v1 + v0))
    return Comparison(
        title=f"{name}: correlation, {one} − {two}",
        method=f"two correlations ({coefficient}), Fisher's z",
        source="Fisher (1921), Metron 1, 3-32",
        metric=name,
        treatment=one,
        control=two,
        estimate=r1 - r0,
        interval=shared.agreeing(ask, *map(np.asarray, (low, high, p, 0.0, r1 - r0))),
        test=ask.test(p, np.asarray(0.0), statistic=np.asarray(compared.z), name="z", critical=min(below, above)),
        effects={"q": EffectSize(q, ask.interval(q - below * se, q + above * se), "difference of z (q)")},
        groups=(Group(one, n1, r1), Group(two, n0, r0)),
        quantity="correlations",
        good=ask.good,
        checks=checks.missing_rows(rows),
    )
