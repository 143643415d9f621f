"""Covariate adjustment from moments."""

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
    examples=(
        "travellers.csv --value fare --covariate prior_spend,prior_trips --by form --control current --margin 0.30",
    ),
    columns=("value", "covariate", "known_on", "assigned_on"),
    exempt={"broadcast": "published numbers say nothing of covariates"},
)
def cuped(
    treatment: Moments | Records,
    control: Moments | Records,
    *,
    value: str,
    covariate: Covariate,
    theta: Theta = "within",
    known_on: str | None = None,
    assigned_on: str | None = None,
    others: Sequence[Any] = (),
    **asked: Unpack[WithLift],
) -> Comparison:
    """How much sharper is the difference of means with covariates from before the test?

    Parameters
    ----------
    treatment, control : Moments or Records
        Moments that hold all columns, over the same units, of one set of rows or of many that are stacked; or the rows.
    value : str
        Column with the metric.
    covariate : str or sequence of str
        One or several columns measured before the test began, which the treatment can't have changed.
    theta : "within", "total" or "optimal"
        Whether slopes are pooled within variants, from all rows as one sample, or Σ cov / n over Σ var / n, which makes
        the variance of the difference least.
    known_on : str, optional
        Column with the day on which the covariates were known; a row with a day after `assigned_on` is refused.
    assigned_on : str, optional
        Column with the day of assignment.
    others : sequence of Moments or Records
        Further variants of the test: all share one theta and one overall mean of each covariate.

    Returns
    -------
    Comparison
        The adjusted comparison; `adjustment` holds the raw one, the slopes, and what the covariates were worth.

    Raises
    ------
    DataError
        If covariates are collinear, one has no value in a whole variant, or the variants differ in one by more than 6
        standard errors: it was then measured after the assignment.

    Notes
    -----
    With slopes theta each unit's value becomes y - theta (x - mean of x over all rows of all variants). Each group's
    adjusted spread is that of y - theta x, with n - 1, and the two are compared as two means with unequal variances;
    theta is taken as known. Estimating it costs a share of about 1/n of the variance, which the interval does not
    count. A unit without a covariate is kept: the gap is filled, and marked by an indicator that is one more covariate,
    so that what it is filled with doesn't matter. A covariate that never varies is left out, and said.

    References
    ----------
    .. [1] Deng, Xu, Kohavi & Walker (2013), WSDM, 123-132.
    .. [2] Lin (2013), Annals of Applied Statistics 7, 295-318, for its standing without a model.

    Examples
    --------
    >>> from amber_ruler import Moments
    >>> before, after = [1.0, 2, 3, 4, 5], [2.0, 4, 5, 8, 9]
    >>> current = Moments.from_arrays({"fare": after, "prior": before}, label="current")
    >>> short = Moments.from_arrays({"fare": [a + 1 for a in after], "prior": before}, label="short")
    >>> r = cuped(short, current, value="fare", covariate="prior")
    >>> round(r.estimate, 6), round(r.adjustment.variance_removed, 4), round(r.adjustment.as_if, 1)
    (1.0, 0.9759, 41.5)
    """
    ask = shared.question(asked)
    listed: Any = covariate
    steps = Steps(covariate=listed, theta=theta, known_on=known_on, assigned_on=assigned_on)
    return answer((treatment, control, *others), value, steps, ask, gate.finite("null", ask.null), ask.metric)
