"""Covariate adjustment from moments."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import means
from amber_ruler.moments import Moments
from amber_ruler.register import method
from amber_ruler.results import Adjustment, Check, Comparison
from amber_ruler.samples import Summary

_SHIFT_ALARM = 4.0  # standard errors by which a covariate may differ before it is doubted


@method(
    takes="two",
    needs="mean",
    examples=("travellers.csv --value fare --covariate prior_spend --by form --control current --margin 0.30",),
    columns=("value", "covariate"),
    exempt={"broadcast": "one pair at a time"},
)
def cuped(
    treatment: Moments,
    control: Moments,
    *,
    value: str,
    covariate: str,
    alpha: float = 0.05,
    null: float = 0.0,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
) -> Comparison:
    """How much sharper is the difference of means with a covariate from before the test?

    Parameters
    ----------
    treatment, control : Moments
        Moments that hold both columns, over the same units.
    value, covariate : str
        The metric, and a column measured before the test began, which the treatment can't have changed.
    alpha, null, alternative, margin, good
        As for `measure.means`.

    Returns
    -------
    Comparison
        The adjusted comparison; `adjustment` holds the raw one, and what the covariate was worth.

    Raises
    ------
    DataError
        If the covariate is constant, or a variant has fewer than 3 complete units.

    Notes
    -----
    With the slope theta = pooled within-variant covariance over pooled variance of the covariate, each unit's value
    becomes y - theta (x - mean of x over all units). Each group's adjusted spread is that of y - theta x, and the
    two are compared as two means with unequal variances. The estimated slope costs a share of about 1/n of the
    variance, which the interval does not count.

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
    >>> round(r.estimate, 6), round(r.adjustment.variance_removed, 4)
    (1.0, 0.9759)
    """
    for arm in (treatment, control):
        if not isinstance(arm, Moments):
            raise InputError(f"cuped takes Moments that hold both columns, not {type(arm).__name__}.")
    arms = tuple(m.select(value, covariate) for m in (treatment, control))
    for arm in arms:
        if arm.n < 3:
            raise DataError(
                f"Variant {arm.label!r} has {arm.n} units with both {value!r} and {covariate!r}: needs at least 3."
            )
    one, two = arms
    pooled = one.comoments + two.comoments
    if pooled[1, 1] == 0:
        raise DataError(f"The covariate {covariate!r} is constant: it can't explain any of {value!r}.")
    slope = float(pooled[0, 1] / pooled[1, 1])
    correlation = float(pooled[0, 1] / np.sqrt(pooled[0, 0] * pooled[1, 1])) if pooled[0, 0] > 0 else 0.0
    settings = {"alpha": alpha, "null": null, "alternative": alternative, "margin": margin, "good": good}
    raw = means(one.complete(value), two.complete(value), **settings)  # type: ignore[arg-type]

    # The means keep the distance to the grand mean small, so that adjusted means stay on the metric's scale.
    centre = (one.n * one.means[1] + two.n * two.means[1]) / (one.n + two.n)
    summaries = [_adjusted_summary(arm, slope, float(centre), value) for arm in arms]
    result = means(*summaries, **settings)  # type: ignore[arg-type]
    kept = float((np.asarray(result.se) / np.asarray(raw.se)) ** 2)
    part = Adjustment(
        steps=(f"adjusted for {covariate}",),
        raw=raw,
        slopes={covariate: slope},
        correlation=correlation,
        variance_removed=1 - kept,
        units_saved=max(0, round((float(one.n) + float(two.n)) * (1 / kept - 1))) if kept > 0 else 0,
    )
    return replace(
        result,
        title=f"{result.title}, adjusted for {covariate}",
        method="two means, unequal variances, adjusted for one covariate",
        source="Deng, Xu, Kohavi & Walker (2013), WSDM, 123-132",
        checks=(_balance_check(one, two, covariate), *result.checks),
        notes=(
            *result.notes,
            "Effect sizes are in units of the adjusted spread; those of the raw one stand in .adjustment.raw.",
        ),
        parts=(part,),
    )


def _adjusted_summary(arm: Moments, slope: float, centre: float, value: str) -> Summary:
    c = arm.comoments
    squares = max(float(c[0, 0] - 2 * slope * c[0, 1] + slope * slope * c[1, 1]), 0.0)
    shift = slope * (float(arm.means[1] - centre) + float(arm.tails[1]))
    mean = float(arm.means[0]) - shift
    tail = (float(arm.means[0]) - mean) - shift + float(arm.tails[0])
    sd = float(np.sqrt(squares / (arm.n - 1)))
    return Summary(arm.n, mean, sd, arm.label, arm.missing, value, mean_tail=tail)


def _balance_check(one: Moments, two: Moments, covariate: str) -> Check:
    gap = one.mean(covariate) - two.mean(covariate)
    spread = float(np.hypot(one.sd(covariate) / np.sqrt(one.n), two.sd(covariate) / np.sqrt(two.n)))
    steps = abs(gap) / spread if spread > 0 else 0.0
    finding = f"the variants' means of {covariate} differ by {steps:.2g} standard errors"
    if steps > _SHIFT_ALARM:
        return Check(
            "covariate",
            finding,
            "A covariate from before the test should not differ so much: was it changed by the treatment,"
            " or is the split broken?",
            "serious",
        )
    return Check("covariate", finding)
