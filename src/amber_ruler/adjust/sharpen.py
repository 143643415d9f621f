"""All steps together: capped, its units found, in strata, by covariates, as a ratio."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Unpack

from amber_ruler.adjust.answer import answer
from amber_ruler.adjust.description import Covariate, Ends, Shares, Steps, Theta
from amber_ruler.measure import shared
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.register import method
from amber_ruler.results import Comparison
from amber_ruler.samples.records import Records
from amber_ruler.settings import WithLift

_EXAMPLE = (
    "travellers.csv --value fare --by form --control current --covariate prior_spend,prior_trips --strata home_port"
    " --cap 0.999 --margin 0.30"
)


@method(
    takes="two",
    needs="values",
    columns=("value", "strata", "covariate", "per", "cluster", "known_on", "assigned_on"),
    examples=(_EXAMPLE,),
    exempt={"broadcast": "one metric at a time"},
    single=True,
)
def sharpen(
    treatment: Records | Moments,
    control: Records | Moments,
    *,
    value: str,
    cap: float | None = None,
    cap_at: float | None = None,
    ends: Ends = "upper",
    strata: str | None = None,
    shares: Shares | Mapping[str, float] = "sample",
    covariate: Covariate = (),
    theta: Theta = "within",
    per: str | None = None,
    cluster: str | None = None,
    known_on: str | None = None,
    assigned_on: str | None = None,
    others: Sequence[Any] = (),
    **asked: Unpack[WithLift],
) -> Comparison:
    """How large is the difference with all that is known of each unit: capped, in strata, by covariates, as a ratio?

    Parameters
    ----------
    treatment, control : Records or Moments
        The rows of each variant with the columns named below, as `table.records` gives them; or moments of these
        columns, which serve for everything but caps and clusters. For strata they are stacked along them.
    value : str
        Column with the metric.
    cap : float, between 0.5 and 1, optional
        Quantile of all variants together above which values are set to it.
    cap_at : float, optional
        Value above which they are set to it, instead.
    ends : "upper" or "both"
        Which ends are capped; of both, the lower one at the quantile 1 - cap, or at -cap_at.
    strata : str, optional
        Column with the strata.
    shares : "sample", "precision", or mapping of stratum to share
        What each stratum counts: its share of the sample, 1 / variance, or its share of a known population.
    covariate : str or sequence of str, optional
        Columns known before the test, which the treatment can't have changed. "a per b" is a ratio of two columns.
    theta : "within", "total" or "optimal"
        Slopes pooled within variants (and strata), from all rows as one sample, or those that make the variance least.
    per : str, optional
        Column that the metric is counted by: it is then the total of one over the total of the other.
    cluster : str, optional
        Column that names what was randomised, where it has several rows: the metric is then that of a row, and its
        standard error that of totals by cluster.
    known_on : str, optional
        Column with the day on which the covariates were known; a row with a day after `assigned_on` is refused.
    assigned_on : str, optional
        Column with the day of assignment.
    others : sequence of Records or Moments
        Further variants of the test, which share slopes, overall means and caps.

    Returns
    -------
    Comparison
        The sharpened difference; `adjustment` holds the steps, the raw comparison, and what they were worth.

    Raises
    ------
    DataError
        If covariates are collinear, a stratum lacks a variant, a denominator adds up to 0, a cluster spans variants, or
        a covariate differs between variants by more than 6 standard errors: then it was not known before the test.
    InputError
        If moments are given for a step that needs rows.

    Notes
    -----
    The steps are taken in one order, whatever the order in which they are named. Values are capped. Rows become
    clusters by their totals. A ratio becomes L = R + (N − R D) / D̄ with each variant's own R and D̄ (of strata, of
    their weighted means), and so does a covariate that is a ratio; rows of clusters are a ratio of totals and numbers
    of rows. Covariates take θ (x − x̄) away, x̄ being over all rows of all variants; θ is taken as known. Strata are
    weighted: the variance is Σ w² s² / n over strata and variants, s² with n − 1, and Satterthwaite's degrees of
    freedom are those of this sum.

    References
    ----------
    .. [1] Deng, Xu, Kohavi & Walker (2013), WSDM, 123-132, for covariates.
    .. [2] Cochran (1977), Sampling Techniques, 3rd ed., for strata and the combined ratio (6.48).
    .. [3] Deng, Knoblich & Lu (2018), KDD, 233-242, for ratios and clusters by the delta method.

    Examples
    --------
    >>> import amber_ruler as ar
    >>> rows = ar.table(ar.demo.path("travellers")).records(["fare", "prior_spend", "home_port"], by="form")
    >>> r = sharpen(rows["short"], rows["current"], value="fare", covariate="prior_spend", strata="home_port")
    >>> r.se < r.adjustment.raw.se
    True
    """
    ask = shared.question(asked)
    listed: Any = covariate
    steps = Steps(cap, cap_at, ends, strata, shares, listed, theta, per, cluster, known_on, assigned_on)
    return answer((treatment, control, *others), value, steps, ask, gate.finite("null", ask.null), ask.metric)
