"""The ratio of two mean counts that spread more than Poisson's."""

from __future__ import annotations

from typing import Literal, Unpack

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Comparison
from amber_ruler.samples import MeanGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Tested

_SPREADS = {
    "quasi-poisson": ("variance in proportion to the mean", "Wedderburn (1974), Biometrika 61, 439-447"),
    "negative-binomial": ("negative binomial by moments", "Anscombe (1950), Biometrika 37, 358-382"),
    "own": ("each group's own spread", "Hedges, Gurevitch & Curtis (1999), Ecology 80, 1150-1156"),
}
_NOTES = {
    "phi": "The variance of the counts is {:.3g} times their mean.",
    "k": "The variance of counts with mean m is m + {:.3g} m².",
}


@method(
    takes="two",
    needs="mean",
    published=True,
    examples=(
        "travellers.csv --value searches --by form --control current",
        "--n 90,90 --mean 4.2,3.6 --sd 3.1,2.9 --spread negative-binomial",
    ),
    exempt={
        "null": "the tested value is a ratio",
        "shift": "a ratio changes with what is added to both",
        "rescale": "counts have no unit, and their spread depends on them",
    },
    defaults={"null": 1.0},
)
def count_ratio(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    spread: Literal["quasi-poisson", "negative-binomial", "own"] = "quasi-poisson",
    **asked: Unpack[Tested],
) -> Comparison:
    """How many times as many events has a unit of treatment, where units differ by more than chance alone?

    Parameters
    ----------
    treatment, control : array_like of counts per unit, Sample, Summary or Moments
        The two groups; of published numbers the mean and standard deviation of the units' counts.
    spread : "quasi-poisson", "negative-binomial" or "own"
        How counts of a mean m spread: the variance is phi m, one phi for both groups; or m + k m², one k for both; or
        each group's own, whatever it is.
    null : float or array_like above 0
        Tested ratio.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is 0 or infinite.
    metric : str, optional
        What was counted, for the heading.

    Returns
    -------
    Comparison
        The ratio of the means with interval and test on its logarithm; in `facts` phi, or k.

    Raises
    ------
    DataError
        If a mean is not above 0, or nothing spreads.

    Notes
    -----
    With phi = sum of (n - 1) s² / m over both groups, divided by n1 + n0 - 2, the squared standard error of the
    logarithm is phi (1 / (n1 m1) + 1 / (n0 m0)), and the test is a t test with n1 + n0 - 2 degrees of freedom. With
    k = sum of (n - 1) (s² - m) over that of (n - 1) m², not below 0, it is the sum of (1 / m + k) / n; with each
    group's own spread that of s² / (m² n): both normal tests.

    References
    ----------
    .. [1] Wedderburn (1974), Biometrika 61, 439-447.
    .. [2] Anscombe (1950), Biometrika 37, 358-382, for k by moments.
    .. [3] Hedges, Gurevitch & Curtis (1999), Ecology 80, 1150-1156.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = count_ratio(Summary(90, 4.2, 3.1, "short"), Summary(90, 3.6, 2.9, "current"))
    >>> round(r.estimate, 4), round(r.p_value, 4), round(r.facts["phi"], 3)
    (1.1667, 0.1823, 2.312)
    """
    ask = shared.question(asked)
    said, source = _SPREADS[gate.choice("spread", spread, _SPREADS)]
    one, two = groups.two(treatment, control, "mean")
    at = gate.positive("null", ask.null)
    n1, m1, s1, n0, m0, s0, at = gate.aligned(one.n, one.mean, one.sd, two.n, two.mean, two.sd, at)
    if gate.some((m1 <= 0) | (m0 <= 0)):
        raise DataError("A ratio of mean counts needs means above 0. Without any event see rates.")
    df = n1 + n0 - 2
    facts: dict[str, Floats] = {}
    if spread == "quasi-poisson":
        phi = ((n1 - 1) * s1**2 / m1 + (n0 - 1) * s0**2 / m0) / df
        square, facts = phi * (1 / (n1 * m1) + 1 / (n0 * m0)), {"phi": phi}
    elif spread == "negative-binomial":
        over = (n1 - 1) * (s1**2 - m1) + (n0 - 1) * (s0**2 - m0)
        k = np.maximum(over / ((n1 - 1) * m1**2 + (n0 - 1) * m0**2), 0.0)
        square, facts = (1 / m1 + k) / n1 + (1 / m0 + k) / n0, {"k": k}
    else:
        square = (s1 / m1) ** 2 / n1 + (s0 / m0) ** 2 / n0
    if gate.some(square <= 0):
        raise DataError("All counts are equal within both groups: without any spread there is no test.")
    by_t = spread == "quasi-poisson"
    se, log = np.sqrt(square), np.log(m1 / m0)
    tail = max(ask.tail)
    critical = student.upper_quantile(tail, df) if by_t else normal.upper_quantile(tail)
    below, above = (critical if t > 0 else np.inf for t in ask.tail)
    z, low, high = shared.by_logarithm(log, se, np.log(at), (below, above))
    p = shared.p_value(z, (lambda x: student.sf(x, df)) if by_t else normal.sf, ask.alternative)
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "events", sign="/"),
        method=f"ratio of mean counts, {said}",
        source=source,
        estimate=scalar_or_array(m1 / m0),
        interval=shared.agreeing(ask, low, high, p, at, m1 / m0),
        test=ask.test(
            p,
            at,
            statistic=z,
            name="t" if by_t else "z",
            df=df if by_t else None,
            critical=critical,
        ),
        scale="ratio",
        groups=(shared.mean_group(one.label, n1, m1, s1), shared.mean_group(two.label, n0, m0, s0)),
        facts={name: scalar_or_array(value) for name, value in facts.items()},
        checks=checks.missing(one, two),
        notes=tuple(_NOTES[name].format(float(value)) for name, value in facts.items() if np.ndim(value) == 0),
    )
