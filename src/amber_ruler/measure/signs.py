"""The median of differences of pairs, or of one sample, by signs alone."""

from __future__ import annotations

import math
from typing import Any, Unpack

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import wilson
from amber_ruler.measure.ranks import of_middle
from amber_ruler.numeric import binomial, gate, normal
from amber_ruler.numeric import ranks as order
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize, Estimate
from amber_ruler.samples import Pairs, ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

_SOURCE = "Dixon & Mood (1946), Journal of the American Statistical Association 41, 557-566"


@method(
    takes="pairs",
    examples=("turnarounds.csv --value minutes --by when --unit vessel --control before --good lower",),
    exempt={"p and interval": "values equal to the null leave the test, and count in the interval"},
    single=True,
)
def signs(
    both: Pairs | ValueGroup,
    **asked: Unpack[WithMargin],
) -> Comparison | Estimate:
    """Are more differences of pairs (or values of one sample) above a value than below, and where is their median?

    Parameters
    ----------
    both : Pairs, array_like or Sample
        Pairs of values of each unit; or one sample.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has at least level 1 - alpha.
    null : float
        Tested median, in the metric's unit.

    Returns
    -------
    Comparison or Estimate
        The median with its interval, and the exact test of signs. In `facts` how many lie above, below and at the null,
        and the level that the interval attains, which is 1 - alpha or a little more. In `effects` the share of values
        above (of those that differ from the null), with Wilson's interval.

    Raises
    ------
    DataError
        If all values equal the null.

    Notes
    -----
    The sign test is the binomial test of one half among the values that differ from the null; two-sided the smaller
    tail is doubled. The limits are the values that stand k-th from either end, with the largest k whose attained level
    is not below 1 - alpha: they hold whatever the distribution, and with no ties exclude the null exactly when
    p < alpha.

    References
    ----------
    .. [1] Dixon & Mood (1946), Journal of the American Statistical Association 41, 557-566.
    .. [2] Thompson (1936), Annals of Mathematical Statistics 7, 122-128, for the limits.

    Examples
    --------
    >>> r = signs([2.1, 3.4, -0.3, 1.8, 2.2, 4.0, 0.9, 1.1])
    >>> round(r.estimate, 2), round(r.p_value, 4), r.interval.low, round(r.facts["attained_level"], 4)
    (1.95, 0.0703, -0.3, 0.9922)
    """
    ask = shared.question(asked)
    at = float(gate.finite("null", ask.null))
    if isinstance(both, Pairs):
        values, label, missing = both.differences, "differences", checks.without_pair(both.left_out)
    else:
        one = groups.one(both, "values")
        values, label, missing = one.values, one.label, checks.missing(one)
    up, down = float(np.sum(values > at)), float(np.sum(values < at))
    n, same = up + down, float(np.sum(values == at))
    if n == 0:
        raise DataError(f"All {values.size:,} values of {label!r} equal {at:g}: no sign is left to count.")
    placed = order.ordered(values)
    low, high, level = _limits(np.sort(values), ask.tail)

    def one_sided(null: Floats, direction: str) -> Floats:
        return _p(float(np.sum(values > null)), float(np.sum(values < null)), direction)

    p = _p(up, down, ask.alternative)
    won = wilson(np.asarray(up), np.asarray(n), tuple(float(normal.upper_quantile(ask.alpha / 2)) for _ in "12"))  # type: ignore[arg-type]
    left = (f"{same:,.0f} of {values.size:,} equal {at:g} and are left out of the test.",) if same else ()
    name = ask.metric or getattr(both, "metric", "") or "value"
    fields: dict[str, Any] = {
        "method": "sign test, exact",
        "source": _SOURCE,
        "metric": name,
        "estimate": placed.quantile(0.5),
        "interval": ask.interval(low, high),
        "test": ask.test(
            p, at, statistic=up, name="above", margin_tests=shared.margin_tests(ask, one_sided, np.asarray(at))
        ),
        "effects": {
            "above": EffectSize(
                up / n,
                shared.question({"alpha": ask.alpha}).interval(float(won[0]), float(won[1])),
                "share above",
                "share",
                aside=True,
            )
        },
        "facts": {"above": up, "below": down, "same": same, "attained_level": level},
        "quantity": "rank",
        "margin": ask.margin,
        "good": ask.good,
        "checks": missing,
        "notes": (*left, f"The interval attains a level of {100 * level:.4g}%."),
    }
    return of_middle(both, fields, label, placed, ("median", "signs"))


def _p(up: float, down: float, alternative: str) -> Floats:
    n, even = np.asarray(up + down), np.asarray(0.5)
    above, below = binomial.at_least(np.asarray(up), n, even), binomial.at_least(np.asarray(down), n, even)
    return shared.from_tails(above, below, alternative)


def _limits(values: Floats, tail: tuple[float, float]) -> tuple[float, float, float]:
    """The k-th values from both ends, and the level that they attain together."""
    n, even = values.size, np.asarray(0.5)
    ends, missed = [], 0.0
    for side, share in zip((1, -1), tail, strict=True):
        if share == 0:
            ends.append(-side * math.inf)
            continue
        # The chance of fewer than k values below the median is that of more than n - k.
        below = binomial.at_least(n + 1 - np.arange(1.0, n // 2 + 2), np.asarray(float(n)), even)
        k = int(np.sum(below <= share * (1 + 1e-12)))
        if k == 0:
            ends.append(-side * math.inf)
            continue
        ends.append(float(values[k - 1] if side > 0 else values[n - k]))
        missed += float(below[k - 1])
    return ends[0], ends[1], 1 - missed
