"""The difference of two means."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import shared
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Check, Comparison, EffectSize, Group, Interval
from amber_ruler.samples import MeanGroup, Summary, summary_of

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.effects import Alternative

_METHODS = {
    "unequal": ("two means, unequal variances", "Welch (1947), Biometrika 34, 28-35"),
    "equal": ("two means, equal variances", "Student (1908), Biometrika 6, 1-25; Fisher (1925)"),
    "known": ("two means, known standard deviations", "normal theory with known variances"),
}


class _Arms(NamedTuple):
    """Clean arrays of equal shape; treatment first."""

    n1: Floats
    n0: Floats
    mean1: Floats
    mean0: Floats
    sd1: Floats
    sd0: Floats
    difference: Floats


class _Test(NamedTuple):
    se1: Floats
    se0: Floats
    se: Floats
    df: Floats | None


def means(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    alpha: float = 0.05,
    null: ArrayLike = 0.0,
    alternative: Alternative = "two-sided",
    variances: Literal["unequal", "equal"] = "unequal",
    known_sd: tuple[float, float] | None = None,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Comparison:
    """Is the mean of treatment different from that of control, and by how much?

    Parameters
    ----------
    treatment, control : array_like, Sample, Summary or Moments
        The two groups. A Summary of arrays asks many comparisons at once, and every number of the result has
        the arrays' broadcast shape.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    null : float or array_like
        Tested difference, in the metric's unit.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval.
    variances : "unequal" or "equal"
        Whether each group keeps its own variance (the default) or both share one.
    known_sd : pair of float, optional
        Standard deviations of treatment and control known beforehand; the test is then normal.
    margin : float, optional
        The smallest difference that matters, in the metric's unit; the verdict is read against it.
    good : "higher" or "lower"
        The direction in which the metric is good.
    metric : str, optional
        What was measured, for the heading.

    Returns
    -------
    Comparison
        Difference with interval, t (or z), df, p; Hedges g and lift with intervals.

    Raises
    ------
    DataError
        If a group has fewer than two values, or neither group has any spread.
    InputError
        If an argument is out of its range.

    Notes
    -----
    t = (m1 - m0 - null) / sqrt(s1^2/n1 + s0^2/n0), with Satterthwaite's degrees of freedom. The interval
    inverts this test. The lift's interval inverts the same test for a ratio (Fieller). Hedges g standardises by
    the pooled spread, and its interval inverts the noncentral t of equal variances; under unequal variances it
    is an approximation.

    References
    ----------
    .. [1] Welch (1947), Biometrika 34, 28-35.
    .. [2] Satterthwaite (1946), Biometrics Bulletin 2, 110-114.
    .. [3] Fieller (1954), Journal of the Royal Statistical Society B 16, 175-185.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = means(Summary(100, 14.2, 4.0, "short"), Summary(100, 13.0, 3.0, "current"))
    >>> round(r.estimate, 2), round(r.statistic, 2), round(r.p_value, 4)
    (1.2, 2.4, 0.0174)
    """
    tail = effects.tails(alpha, alternative)
    gate.choice("variances", variances, ("unequal", "equal"))
    gate.choice("good", good, shared.DIRECTIONS)
    rows = 1 if known_sd is not None else 2
    group1, group0 = (summary_of(g, name, rows=rows) for g, name in ((treatment, "treatment"), (control, "control")))
    shared.check_labels(group1, group0)
    arms, at = _arms(group1, group0, gate.finite("null", null), known_sd)
    test = _known_test(arms) if known_sd is not None else _t_test(arms, variances, group1.label, group0.label)

    statistic = (arms.difference - at) / test.se
    df = test.df
    p = shared.p_value(statistic, normal.sf if df is None else lambda t: student.sf(t, df), alternative)
    critical = normal.upper_quantile(max(tail)) if df is None else student.upper_quantile(max(tail), df)
    reach = critical * test.se
    interval = shared.agreeing(
        arms.difference - reach if tail[0] > 0 else np.full(reach.shape, -np.inf),
        arms.difference + reach if tail[1] > 0 else np.full(reach.shape, np.inf),
        p,
        at,
        alpha,
        arms.difference,
    )
    found, notes = _effects(arms, test, critical, alpha, alternative)
    method, source = _METHODS["known" if known_sd is not None else variances]
    name = metric or group1.metric or group0.metric or "value"
    return Comparison(
        title=f"{name}: {group1.label} − {group0.label}",
        method=method,
        source=source,
        metric=name,
        treatment=group1.label,
        control=group0.label,
        estimate=scalar_or_array(arms.difference),
        interval=interval,
        p_value=scalar_or_array(p),
        statistic=scalar_or_array(statistic),
        statistic_name="z" if df is None else "t",
        df=None if df is None else scalar_or_array(df),
        alpha=alpha,
        alternative=alternative,
        null=scalar_or_array(at),
        effects=found,
        groups=(
            _group(group1.label, arms.n1, arms.mean1, arms.sd1, test.se1),
            _group(group0.label, arms.n0, arms.mean0, arms.sd0, test.se0),
        ),
        margin=shared.settle_margin(margin),
        good=good,
        checks=(*_size_check(arms), *shared.missing_check(group1, group0)),
        notes=notes,
    )


def _arms(group1: Summary, group0: Summary, null: Floats, known_sd: tuple[float, float] | None) -> tuple[_Arms, Floats]:
    sd1, sd0 = (group1.sd, group0.sd) if known_sd is None else gate.positive("known_sd", known_sd)
    raw = (group1.n, group0.n, group1.mean, group0.mean, sd1, sd0, group1.mean_tail, group0.mean_tail, null)
    n1, n0, mean1, mean0, s1, s0, tail1, tail0, at = gate.aligned(*raw)
    return _Arms(n1, n0, mean1, mean0, s1, s0, (mean1 - mean0) + (tail1 - tail0)), at


def _t_test(arms: _Arms, variances: str, label1: str, label0: str) -> _Test:
    if np.any(arms.n1 < 2) or np.any(arms.n0 < 2):
        label = label1 if np.any(arms.n1 < 2) else label0
        raise DataError(f"Variant {label!r} has 1 unit: a spread needs at least 2. Give known_sd if it is known.")
    flat = (arms.sd1 == 0) & (arms.sd0 == 0)
    if np.any(flat):
        where = "" if flat.ndim == 0 else f" in {int(flat.sum()):,} of the {flat.size:,} comparisons"
        raise DataError(
            f"Every value of {label1!r} equals the others, and so in {label0!r}{where}: without any spread there is"
            f" no test of means ({int(np.sum(arms.n1)):,} and {int(np.sum(arms.n0)):,} units)."
            " Check the column, or compare shares."
        )
    if variances == "equal":
        pooled, df = _pooled_sd(arms), arms.n1 + arms.n0 - 2
        se1, se0 = pooled / np.sqrt(arms.n1), pooled / np.sqrt(arms.n0)
        return _Test(se1, se0, np.hypot(se1, se0), df)
    se1, se0 = arms.sd1 / np.sqrt(arms.n1), arms.sd0 / np.sqrt(arms.n0)
    se = np.hypot(se1, se0)
    # Shares of the variance rather than fourth powers, which overflow.
    df = 1 / ((se1 / se) ** 4 / (arms.n1 - 1) + (se0 / se) ** 4 / (arms.n0 - 1))
    return _Test(se1, se0, se, df)


def _known_test(arms: _Arms) -> _Test:
    se1, se0 = arms.sd1 / np.sqrt(arms.n1), arms.sd0 / np.sqrt(arms.n0)
    return _Test(se1, se0, np.hypot(se1, se0), None)


def _pooled_sd(arms: _Arms) -> Floats:
    return np.hypot(arms.sd1 * np.sqrt(arms.n1 - 1), arms.sd0 * np.sqrt(arms.n0 - 1)) / np.sqrt(arms.n1 + arms.n0 - 2)


def _effects(
    arms: _Arms, test: _Test, critical: Floats, alpha: float, alternative: Alternative
) -> tuple[dict[str, EffectSize], tuple[str, ...]]:
    found: dict[str, EffectSize] = {}
    notes: list[str] = []
    if test.df is None:
        sd = np.hypot(arms.sd1, arms.sd0) / np.sqrt(2)
        below, above = effects.critical_z(effects.tails(alpha, alternative))
        low, high = ((arms.difference + side * test.se) / sd for side in (-below, above))
        interval = Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)
        found["cohen_d"] = EffectSize(scalar_or_array(arms.difference / sd), interval, "Cohen d")
    else:
        t = arms.difference / (_pooled_sd(arms) * np.sqrt(1 / arms.n1 + 1 / arms.n0))
        sizes = (scalar_or_array(arms.n1), scalar_or_array(arms.n0))
        g = effects.hedges_g(scalar_or_array(t), *sizes, alpha=alpha, alternative=alternative)
        found["hedges_g"] = g
        excluded = (np.asarray(g.interval.low) > 0) | (np.asarray(g.interval.high) < 0)
        distance = {"greater": 1.0, "less": -1.0}.get(alternative, np.sign(arms.difference)) * arms.difference / test.se
        if np.any(excluded != (distance > critical)):
            notes.append("The interval of Hedges g assumes equal variances and here disagrees with the test.")
    lift = effects.lift(
        (arms.mean1, arms.mean0), (test.se1**2, test.se0**2), critical, alpha=alpha, alternative=alternative
    )
    if not np.any(np.isfinite(lift.value)):
        notes.append(f"No lift is given: it needs a control mean above 0, and this is {np.max(arms.mean0):g}.")
        return found, tuple(notes)
    found["lift"] = lift
    if alternative == "two-sided" and np.any(np.isinf(lift.interval.low)):
        notes.append("The lift has no finite limits: the control's mean can't be told from 0.")
    return found, tuple(notes)


def _size_check(arms: _Arms) -> tuple[Check, ...]:
    smallest = int(min(np.min(arms.n1), np.min(arms.n0)))
    if smallest >= 30:
        return ()
    return (
        Check(
            "group sizes",
            f"the smaller group has {smallest:,} units",
            "With so few, p and interval rest on values that are roughly normal: look at them.",
            "note",
        ),
    )


def _group(label: str, n: Floats, mean: Floats, sd: Floats, se: Floats) -> Group:
    return Group(label, *(scalar_or_array(v) for v in (n, mean, sd, se)))
