"""Whether several groups spread alike."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Literal, Unpack

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.measure import shared
from amber_ruler.measure.groups import Groups, groups
from amber_ruler.numeric import chisquare, gate
from amber_ruler.register import method
from amber_ruler.results import Test
from amber_ruler.samples import Sample, ValueGroup
from amber_ruler.samples import gate as read
from amber_ruler.settings import Named

_SOURCES = {
    "brown-forsythe": "Brown & Forsythe (1974), Journal of the American Statistical Association 69, 364-367",
    "levene": "Levene (1960), in Olkin (ed.), Contributions to Probability and Statistics, 278-292",
    "bartlett": "Bartlett (1937), Proceedings of the Royal Society A 160, 268-282",
}


@method(
    takes="several",
    needs="values",
    examples=(
        "crossings.csv --value delay --by route",
        "crossings.csv --value delay --by route --test bartlett",
    ),
    exempt={"doors": "distances from the middle need the values"},
)
def group_spreads(
    samples: Mapping[str, ValueGroup] | Sequence[ValueGroup],
    *,
    test: Literal["brown-forsythe", "levene", "bartlett"] = "brown-forsythe",
    good: Literal["higher", "lower", "neither"] = "neither",
    **asked: Unpack[Named],
) -> Groups:
    """Do several groups spread alike?

    Parameters
    ----------
    samples : mapping of label to group, or sequence of groups
        The values of each group, array_like or Sample; at least 2 in each.
    test : "brown-forsythe", "levene" or "bartlett"
        An F test of the distances from each group's median, or from its mean; or the likelihood ratio of normal values,
        as chi-square, which takes skewed values for uneven spreads.
    good
        As for `groups`; the good direction is that of the distances.

    Returns
    -------
    Groups
        The test, and each group's mean distance from its median (of "levene" and "bartlett" its mean), by which pairs
        are compared.

    Raises
    ------
    DataError
        If a group has one value, or, of "bartlett", no spread.

    References
    ----------
    .. [1] Levene (1960), in Olkin (ed.), Contributions to Probability and Statistics, 278-292.
    .. [2] Brown & Forsythe (1974), Journal of the American Statistical Association 69, 364-367.
    .. [3] Bartlett (1937), Proceedings of the Royal Society A 160, 268-282.

    Examples
    --------
    >>> r = group_spreads({"Amble": [3.0, 5, 4, 6], "Tern Quay": [1.0, 9, 4, 14], "Gullhaven": [2.0, 2, 3, 3]})
    >>> round(r.statistic, 3), round(r.p_value, 4)
    (9.0, 0.0071)
    """
    ask = shared.question(asked)
    gate.choice("test", test, _SOURCES)
    held = read.several(samples, "values")
    for one in held:
        if len(one) < 2:
            raise DataError(f"{one.label!r} has 1 value: a spread needs at least 2.")
    name = read.named(ask.metric, "value", *held)
    middle = np.median if test == "brown-forsythe" else np.mean
    away = {one.label: Sample(np.abs(one.values - middle(one.values)), one.label, metric=name) for one in held}
    found = groups(away, variances="equal", alpha=ask.alpha, good=good, metric=f"{name}, distance from the middle")
    named = {"brown-forsythe": "distances from the median, F", "levene": "distances from the mean, F"}
    tested = found.test
    if test == "bartlett":
        n = np.array([len(one) for one in held], dtype=float)
        spreads = np.array([float(np.var(one.values, ddof=1)) for one in held])
        if np.any(spreads <= 0):
            flat = held[int(np.argmin(spreads))].label
            raise DataError(f"{flat!r} never varies: Bartlett's test takes the logarithm of its spread.")
        df = n - 1
        pooled = float(df @ spreads / df.sum())
        scale = 1 + (np.sum(1 / df) - 1 / df.sum()) / (3 * (len(n) - 1))
        square = float((df.sum() * np.log(pooled) - df @ np.log(spreads)) / scale)
        k = float(len(n) - 1)
        tested = Test(
            p_value=float(chisquare.sf(max(square, 0.0), k)), alpha=ask.alpha, statistic=square, name="χ²", df=k,
            critical=float(chisquare.upper_quantile(ask.alpha, k)), alternative="any",
        )  # fmt: skip
    each = tuple(
        replace(g, more={**g.more, "sd of values": float(np.std(one.values, ddof=1))})
        for g, one in zip(found.groups, held, strict=True)
    )
    return replace(
        found,
        title=f"{name}: spreads of {len(held)} groups",
        method=named.get(test, "Bartlett's likelihood ratio of normal values, chi-square"),
        source=_SOURCES[test],
        test=tested,
        squares=() if test == "bartlett" else found.squares,
        groups=each,
    )
