"""Covariate adjustment from moments."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.measure import means
from amber_ruler.results import Check, Comparison
from amber_ruler.samples import Summary

if TYPE_CHECKING:
    from amber_ruler.effects import Alternative
    from amber_ruler.moments import Moments

_SHIFT_ALARM = 4.0  # standard errors by which a covariate may differ before it is doubted


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Adjusted(Comparison):
    """A difference adjusted for a covariate, beside the raw one.

    Attributes
    ----------
    raw : Comparison
        The same metric without the covariate.
    covariate : str
        Name of the column from before the test.
    slope : float
        Metric per unit of covariate, within variants.
    correlation : float
        Of metric and covariate, within variants.
    variance_removed : float
        Share of the difference's variance that the covariate took away.
    units_saved : int
        Further units that the raw comparison would have needed, in total, for an interval as narrow.
    """

    kind: ClassVar[str] = "adjusted_comparison"

    raw: Comparison
    covariate: str
    slope: float
    correlation: float
    variance_removed: float
    units_saved: int


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
) -> Adjusted:
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
    Adjusted
        The adjusted comparison, with the raw one beside it.

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
    >>> round(r.estimate, 6), round(r.variance_removed, 4)
    (1.0, 0.9759)
    """
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
    raw = means(one.select(value), two.select(value), **settings)  # type: ignore[arg-type]

    # The means keep the distance to the grand mean small, so that adjusted means stay on the metric's scale.
    centre = (one.n * one.means[1] + two.n * two.means[1]) / (one.n + two.n)
    summaries = [_adjusted_summary(arm, slope, float(centre), value) for arm in arms]
    result = means(*summaries, **settings)  # type: ignore[arg-type]
    variance_raw, variance_now = (sum(float(g.se) ** 2 for g in r.groups) for r in (raw, result))
    kept = variance_now / variance_raw
    same = {field.name: getattr(result, field.name) for field in fields(Comparison)}
    return Adjusted(
        **same
        | {
            "title": f"{result.title}, adjusted for {covariate}",
            "method": "two means, unequal variances, adjusted for one covariate",
            "source": "Deng, Xu, Kohavi & Walker (2013), WSDM, 123-132",
            "checks": (_balance_check(one, two, covariate), *result.checks),
            "notes": (*result.notes, "Effect sizes are in units of the adjusted spread; the raw ones stand in .raw."),
        },
        raw=raw,
        covariate=covariate,
        slope=slope,
        correlation=correlation,
        variance_removed=1 - kept,
        units_saved=max(0, round((one.n + two.n) * (1 / kept - 1))) if kept > 0 else 0,
    )


def _adjusted_summary(arm: Moments, slope: float, centre: float, value: str) -> Summary:
    c = arm.comoments
    squares = max(float(c[0, 0] - 2 * slope * c[0, 1] + slope * slope * c[1, 1]), 0.0)
    shift = slope * (float(arm.means[1] - centre) + float(arm.tails[1]))
    mean = float(arm.means[0]) - shift
    tail = (float(arm.means[0]) - mean) - shift + float(arm.tails[0])
    return Summary(arm.n, mean, float(np.sqrt(squares / (arm.n - 1))), arm.label, arm.missing, value, tail)


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
