"""Standard deviations: one, and the ratio of two."""

from __future__ import annotations

from typing import Literal, TypeAlias, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.oneway import about_centres
from amber_ruler.numeric import chisquare, fisher, gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Check, Comparison, EffectSize, Estimate, Group
from amber_ruler.samples import MeanGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Directed, Named

Which: TypeAlias = Literal["f", "levene", "brown-forsythe"]

_TESTS = {
    "f": ("F test of two variances", "Fisher (1925), Statistical Methods for Research Workers"),
    "levene": ("Levene's test, about the means", "Levene (1960), Contributions to Probability and Statistics, 278-292"),
    "brown-forsythe": ("Brown and Forsythe's test, about the medians", "Brown & Forsythe (1974), JASA 69, 364-367"),
}
_READING = (
    "Which t test to use should not hang on this one: unequal variances cost next to nothing where they are equal, and"
    " a test of spreads misses differences that matter in small samples. That is why means() takes them by default."
)


@method(
    takes="one", needs="mean", published=True, rows=True, examples=("travellers.csv --value minutes_to_book --by form",)
)
def spread(
    group: MeanGroup,
    *,
    null: ArrayLike | None = None,
    alternative: Alternative = "two-sided",
    **asked: Unpack[Named],
) -> Estimate:
    """What is the standard deviation of one group, and does it differ from a given value?

    Parameters
    ----------
    group : array_like, Sample, Summary or Moments
        The group. A Summary of arrays asks many questions at once.
    null : float or array_like above 0, optional
        Standard deviation to test against; without one there is an interval and no test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval.

    Returns
    -------
    Estimate
        Standard deviation with the interval of the chi-square, which rests on normal values.

    References
    ----------
    .. [1] Fisher (1925), Statistical Methods for Research Workers.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = spread(Summary(25, 14.0, 4.0, "short"))
    >>> round(r.interval.low, 3), round(r.interval.high, 3)
    (3.123, 5.565)
    """
    ask = shared.question(asked, alternative=alternative)
    tail = ask.tail
    one = groups.one(group, "mean")
    at = shared.null_of(null, gate.positive)
    n, mean, sd, sd0 = gate.aligned(one.n, one.mean, one.sd, 1.0 if at is None else at)
    _check_spreads(one.label, n, sd)
    df = n - 1
    with np.errstate(divide="ignore"):
        low = sd * np.sqrt(df / chisquare.upper_quantile(tail[0], df)) if tail[0] > 0 else np.zeros_like(sd)
        high = sd * np.sqrt(df / chisquare.quantile(tail[1], df)) if tail[1] > 0 else np.full_like(sd, np.inf)
    limits, tested = ask.interval(low, high), None
    if at is not None:
        statistic = df * (sd / sd0) ** 2
        below = chisquare.cdf(statistic, df)
        p = shared.from_tails(chisquare.sf(statistic, df), below, alternative)
        limits = shared.agreeing(ask, low, high, p, sd0, _side(below, sd0))
        tested = ask.test(p, sd0, statistic=statistic, name="χ²", df=df)
    name = groups.named(ask.metric, "value", one)
    return Estimate(
        title=f"{name}: standard deviation of {one.label}",
        method="one standard deviation, normal values",
        source="Fisher (1925), Statistical Methods for Research Workers",
        metric=name,
        label=one.label,
        estimate=scalar_or_array(sd),
        interval=limits,
        test=tested,
        groups=(Group(one.label, scalar_or_array(n), scalar_or_array(mean), scalar_or_array(sd)),),
        quantity="spread",
        axis=groups.axis_of(one),
        checks=(*_normal(checks.raw_values(one)), *checks.missing(one)),
    )


@method(
    takes="two",
    needs="mean",
    published=True,
    rows=True,
    examples=("travellers.csv --value minutes_to_book --by form --control current",),
    exempt={"null": "the tested ratio is 1: equal spreads"},
    defaults={"good": "lower"},
)
def spreads(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    test: Which = "f",
    alternative: Alternative = "two-sided",
    **asked: Unpack[Directed],
) -> Comparison:
    """Do the values of treatment spread more or less than those of control?

    Parameters
    ----------
    treatment, control : array_like, Sample, Summary or Moments
        The two groups; the tests of Levene, and of Brown and Forsythe, need the values.
    test : "f", "levene" or "brown-forsythe"
        Which p-value is given; where the values are known the F test says what Brown and Forsythe's has.
    alternative : "two-sided", "greater" or "less"
        Direction of the F test. A one-sided test carries a one-sided interval.
    good : "higher" or "lower"
        Which spread is good.

    Returns
    -------
    Comparison
        The ratio of the standard deviations, treatment over control, with the interval of the F test; the ratio of the
        variances stands in `effects`.

    References
    ----------
    .. [1] Levene (1960), Contributions to Probability and Statistics, 278-292.
    .. [2] Brown & Forsythe (1974), Journal of the American Statistical Association 69, 364-367.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = spreads(Summary(41, 0, 4.0, "short"), Summary(41, 0, 3.0, "current"))
    >>> round(r.estimate, 3), round(r.p_value, 4)
    (1.333, 0.0725)
    """
    ask = shared.question(asked, alternative=alternative)
    gate.choice("test", test, _TESTS)
    one, two = groups.two(treatment, control, "mean")
    n1, n0, sd1, sd0, mean1, mean0 = gate.aligned(one.n, two.n, one.sd, two.sd, one.mean, two.mean)
    _check_spreads(one.label, n1, sd1)
    _check_spreads(two.label, n0, sd0)
    (low_tail, high_tail), ratio, df1, df0 = ask.tail, sd1 / sd0, n1 - 1, n0 - 1
    f = ratio**2
    below = fisher.cdf(f, df1, df0)
    p = shared.from_tails(fisher.sf(f, df1, df0), below, alternative)
    low = ratio / np.sqrt(fisher.upper_quantile(low_tail, df1, df0)) if low_tail > 0 else np.zeros_like(ratio)
    high = ratio / np.sqrt(fisher.quantile(high_tail, df1, df0)) if high_tail > 0 else np.full_like(ratio, np.inf)
    limits = shared.agreeing(ask, low, high, p, 1.0, _side(below, 1.0))
    values = checks.raw_values(one, two)
    name = groups.named(ask.metric, "value", one, two)
    statistic, df, notes = f, (scalar_or_array(df1), scalar_or_array(df0)), [_READING]
    if test != "f":
        if not values:
            raise InputError(f"test={test!r} needs the values of both groups: published numbers serve the F test only.")
        if alternative != "two-sided":
            raise InputError(f"test={test!r} has no direction: leave alternative at 'two-sided'.")
        statistic, p = (np.asarray(v) for v in about_centres(list(values.values()), test))
        df = (1.0, float(n1 + n0 - 2))
        if bool(p < ask.alpha) == bool(limits.contains(1.0)):
            notes.append("The interval is that of the F test, which rests on normal values, and here disagrees.")
    squared = ask.interval(np.asarray(limits.low) ** 2, np.asarray(limits.high) ** 2)
    return Comparison(
        title=f"{name}: spread of {one.label} / {two.label}",
        method=f"two standard deviations, {_TESTS[test][0]}",
        source=_TESTS[test][1],
        metric=f"spread of {name}",
        treatment=one.label,
        control=two.label,
        estimate=scalar_or_array(ratio),
        interval=limits,
        test=ask.test(p, np.ones_like(ratio), statistic=statistic, name="F", df=df),
        scale="ratio",
        effects={"variance_ratio": EffectSize(scalar_or_array(f), squared, "variance ratio", "ratio")},
        groups=(
            Group(one.label, scalar_or_array(n1), scalar_or_array(mean1), scalar_or_array(sd1)),
            Group(two.label, scalar_or_array(n0), scalar_or_array(mean0), scalar_or_array(sd0)),
        ),
        quantity="spread",
        good=ask.good,
        axis=groups.axis_of(one, two),
        checks=(*(_normal(values) if test == "f" else ()), *checks.missing(one, two)),
        notes=tuple(notes),
    )


def _check_spreads(label: str, n: Floats, sd: Floats) -> None:
    if np.any(n < 2):
        raise DataError(f"{label!r} has 1 unit: a spread needs at least 2.")
    if np.any(sd == 0):
        raise DataError(f"Every value of {label!r} equals the others: it has no spread to compare.")


def _side(below: Floats, null: Floats | float) -> Floats:
    """A value on that side of the null on which the statistic lies of its median: the ratio alone may mislead."""
    return null + (below - 0.5)


def _normal(values: dict[str, Floats]) -> tuple[Check, ...]:
    """The F and chi-square tests rest on normal tails: how heavy are they?"""
    heavy = []
    for label, v in values.items():
        away = v - v.mean()
        square = float(np.mean(away**2))
        if v.size >= 8 and square > 0:
            excess = float(np.mean(away**4)) / square**2 - 3
            # Four standard errors of the kurtosis of normal values.
            if excess > 4 * np.sqrt(24 / v.size):
                heavy.append(f"{label} has an excess kurtosis of {excess:.3g}")
    if not heavy:
        return ()
    said = "; ".join(heavy)
    if len(values) == 2:
        f, p = about_centres(list(values.values()), "brown-forsythe")
        said += f". Brown and Forsythe's test, about the medians, has F {f:.3g} and p {p:.3g}"
    advice = "With heavier tails than normal ones this p is too small: believe Brown and Forsythe's instead."
    return (Check("normal values", said, advice if len(values) == 2 else "The interval is too narrow.", "warning"),)
