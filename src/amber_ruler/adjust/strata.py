"""Variants compared within strata, and the strata put together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Unpack

from amber_ruler.adjust.answer import answer
from amber_ruler.adjust.description import Covariate, Shares, Steps
from amber_ruler.measure import shared
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.register import method
from amber_ruler.results import Comparison
from amber_ruler.samples import Records
from amber_ruler.settings import WithLift


@method(
    takes="two",
    needs="mean",
    columns=("value", "strata", "covariate"),
    examples=("travellers.csv --value fare --strata home_port --by form --control current --margin 0.30",),
    exempt={"broadcast": "the numbers of one metric are of many strata"},
    single=True,
)
def strata(
    treatment: Records | Moments,
    control: Records | Moments,
    *,
    value: str,
    strata: str,
    shares: Shares | Mapping[str, float] = "sample",
    covariate: Covariate = (),
    others: Sequence[Any] = (),
    **asked: Unpack[WithLift],
) -> Comparison:
    """How large is the difference when like is compared with like, stratum by stratum?

    Parameters
    ----------
    treatment, control : Records or Moments
        The rows of each variant; or moments of each stratum that are stacked, as `digest.by_stratum` gives them.
    value : str
        Column with the metric.
    strata : str
        Column with the strata, which were known before the test.
    shares : "sample", "precision", or mapping of stratum to share
        What each stratum counts: its share of all units, 1 / variance of its difference, or its share of a known
        population.
    covariate : str or sequence of str, optional
        Columns known before the test; slopes are pooled within variants and strata.
    others : sequence of Records or Moments
        Further variants of the test, which count in the shares and share the slopes.

    Returns
    -------
    Comparison
        The weighted difference; `strata` holds the effect in each stratum, the weights and the interaction. In `facts`
        p by the normal distribution, and the standard error over all sizes of strata.

    Raises
    ------
    DataError
        If a stratum lacks a variant, or has a single unit of it.

    Notes
    -----
    The difference is Σ w (m1 - m0) over strata, its variance Σ w² s² / n over strata and variants, s² with n - 1, and
    its degrees of freedom Satterthwaite's. That is the variance for the sizes that the strata have: exact where the
    split was made within strata, and conditional on the sizes where strata were formed afterwards (Holt & Smith 1979).
    There, over all sizes that could have come, it is Σ w s² / n + Σ (1 - w) s² / n² with a variant's whole n (Cochran
    1977, 5A.42): the two estimators are the same, and differ in that. The interaction is Σ (d - d̄)² / v on one degree
    of freedom less than strata, d̄ weighted by 1 / v.

    References
    ----------
    .. [1] Cochran (1977), Sampling Techniques, 3rd ed., 5.5 and 5A.9.
    .. [2] Holt & Smith (1979), Journal of the Royal Statistical Society A 142, 33-46.
    .. [3] Miratrix, Sekhon & Yu (2013), Journal of the Royal Statistical Society B 75, 369-396.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> port = ["Amble"] * 3 + ["Tern Quay"] * 3
    >>> short = Records({"fare": [3.0, 4, 5, 13, 14, 16], "port": port}, "short")
    >>> current = Records({"fare": [2.0, 3, 5, 11, 13, 14], "port": port}, "current")
    >>> r = strata(short, current, value="fare", strata="port")
    >>> round(r.estimate, 4), round(r.se, 4), r.strata.effects.estimate.round(2).tolist()
    (1.1667, 0.8165, [0.67, 1.67])
    """
    ask = shared.question(asked)
    listed: Any = covariate
    steps = Steps(strata=strata, shares=shares, covariate=listed)
    return answer((treatment, control, *others), value, steps, ask, gate.finite("null", ask.null), ask.metric)
