"""Metrics that are the total of one column over the total of another."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Unpack

from amber_ruler.adjust.answer import answer
from amber_ruler.adjust.description import Covariate, Steps, Theta
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
    columns=("value", "per", "covariate"),
    examples=("travellers.csv --value bookings --per searches --by form --control current --covariate prior_trips",),
    exempt={
        "broadcast": "published numbers say nothing of the denominator",
        "shift": "what is added to every numerator changes the ratio",
    },
)
def ratio(
    treatment: Moments | Records,
    control: Moments | Records,
    *,
    value: str,
    per: str,
    covariate: Covariate = (),
    theta: Theta = "within",
    others: Sequence[Any] = (),
    **asked: Unpack[WithLift],
) -> Comparison:
    """Do the variants differ in a ratio of totals, such as bookings per search, when travellers were randomised?

    Parameters
    ----------
    treatment, control : Moments or Records
        One row a randomised unit, with its numerator and its denominator; or their moments.
    value : str
        Column with the numerator.
    per : str
        Column with the denominator.
    covariate : str or sequence of str, optional
        Columns known before the test; "prior_bookings per prior_searches" is the same ratio from before.
    theta : "within", "total" or "optimal"
        As for `cuped`.
    others : sequence of Moments or Records
        Further variants of the test, which share the slopes.

    Returns
    -------
    Comparison
        Difference of the ratios with interval, t and p. In `effects` the lift, by Fieller, by the delta method and by
        the log ratio.

    Raises
    ------
    DataError
        If a denominator adds up to 0, or a variant has a single unit.

    Notes
    -----
    The ratio R = N̄ / D̄ has the variance of L = R + (N - R D) / D̄, (s_N² - 2 R s_ND + R² s_D²) / (n D̄²) with n - 1 and
    each variant's own R and D̄. The difference is tested by t with Satterthwaite's degrees of freedom, which the
    interval inverts. Covariates adjust L; one that is a ratio is written likewise. The unit of the standard error is
    the row, which was randomised; the ratio itself speaks of units of the denominator.

    References
    ----------
    .. [1] Cochran (1977), Sampling Techniques, 3rd ed., 2.11 and 6.4.
    .. [2] Deng, Knoblich & Lu (2018), KDD, 233-242.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> short = Records({"bookings": [1.0, 0, 2, 1, 0, 3], "searches": [3.0, 1, 5, 2, 2, 6]}, "short")
    >>> current = Records({"bookings": [0.0, 1, 1, 0, 2, 0], "searches": [2.0, 3, 4, 1, 5, 2]}, "current")
    >>> r = ratio(short, current, value="bookings", per="searches")
    >>> round(r.estimate, 4), round(r.se, 4), round(r.p_value, 4)
    (0.1331, 0.0997, 0.2114)
    """
    ask = shared.question(asked)
    listed: Any = covariate
    steps = Steps(per=per, covariate=listed, theta=theta)
    return answer((treatment, control, *others), value, steps, ask, gate.finite("null", ask.null), ask.metric)
