"""One mean, and the difference of two."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple, TypedDict

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate, student
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Comparison, EffectSize, Estimate, Group, Interval
from amber_ruler.samples import MeanGroup, Sample, Summary, raw_values, summary_of

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


class _Asked(TypedDict):
    alpha: float
    alternative: Alternative
    margin: float | None
    good: str


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
        Difference with interval, t (or z), df, p. In `effects`, each with an interval: Hedges g, Cohen d, Glass Δ, r,
        superiority, overlap, lift (Fieller), lift by the delta method, log ratio. In `margin_tests`, where a margin is
        given, whether treatment is not worse, or equivalent.

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
    effects.tails(alpha, alternative)
    gate.choice("variances", variances, ("unequal", "equal"))
    gate.choice("good", good, shared.DIRECTIONS)
    rows = 1 if known_sd is not None else 2
    group1, group0 = (summary_of(g, name, rows=rows) for g, name in ((treatment, "treatment"), (control, "control")))
    shared.check_labels(group1.label, group0.label)
    arms, at = _arms(group1, group0, gate.finite("null", null), known_sd)
    test = _known_test(arms) if known_sd is not None else _t_test(arms, variances, group1.label, group0.label)
    room = shared.settle_margin(margin)
    asked: _Asked = {"alpha": alpha, "alternative": alternative, "margin": room, "good": good}
    result = shared.symmetric_test(arms.difference, test.se, test.df, at, **asked)
    found, notes = _effects(arms, test, result.critical, alpha, alternative)
    if known_sd is None and np.ndim(arms.difference) == 0:
        notes += _other_variances(arms, variances, at, result.p, asked)
    method, source = _METHODS["known" if known_sd is not None else variances]
    name = metric or group1.metric or group0.metric or "value"
    values = raw_values(treatment=treatment, control=control) if np.ndim(arms.difference) == 0 else {}

    def again(samples: dict[str, Floats]) -> float:
        one, two = (summary_of(Sample(samples[g.label], g.label), "") for g in (group1, group0))
        these, _ = _arms(one, two, at, known_sd)
        if known_sd is None and these.sd1 == 0 and these.sd0 == 0:
            return 0.0 if these.difference != at else 1.0
        those = _known_test(these) if known_sd is not None else _t_test(these, variances, *samples)
        return float(shared.symmetric_test(these.difference, those.se, those.df, at, **asked).p)

    return Comparison(
        title=f"{name}: {group1.label} − {group0.label}",
        method=method,
        source=source,
        metric=name,
        treatment=group1.label,
        control=group0.label,
        estimate=scalar_or_array(arms.difference),
        df=None if test.df is None else scalar_or_array(test.df),
        alpha=alpha,
        alternative=alternative,
        null=scalar_or_array(at),
        effects=found,
        groups=(
            _group(group1.label, arms.n1, arms.mean1, arms.sd1, test.se1),
            _group(group0.label, arms.n0, arms.mean0, arms.sd0, test.se0),
        ),
        margin=room,
        margin_tests=result.margin_tests,
        good=good,
        checks=(
            *checks.few(arms.n1, arms.n0),
            *checks.skewed(values),
            *(checks.one_value_turns_it(values, float(result.p), alpha, again) if values else ()),
            *checks.missing(group1, group0),
        ),
        notes=notes,
        **result.fields("z" if test.df is None else "t", alternative),
    )


def mean(
    group: MeanGroup,
    *,
    alpha: float = 0.05,
    null: ArrayLike | None = None,
    alternative: Alternative = "two-sided",
    known_sd: float | None = None,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Estimate:
    """What is the mean of one group, and does it differ from a given value?

    Parameters
    ----------
    group : array_like, Sample, Summary or Moments
        The group. A Summary of arrays asks many questions at once.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    null : float or array_like, optional
        Value to test against, in the metric's unit; without one there is an interval and no test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval.
    known_sd : float, optional
        Standard deviation known beforehand; the test is then normal.
    margin, good, metric
        As for `means`.

    Returns
    -------
    Estimate
        Mean with interval; with a null also t (or z), df, p and the standardised distance from it.

    Raises
    ------
    DataError
        If the group has fewer than two values, or no spread.

    References
    ----------
    .. [1] Student (1908), Biometrika 6, 1-25.

    Examples
    --------
    >>> r = mean([12.0, 15.0, 11.0, 16.0, 14.0], null=10.0)
    >>> round(r.estimate, 2), round(r.statistic, 3), round(r.p_value, 4)
    (13.6, 3.882, 0.0178)
    """
    tail = effects.tails(alpha, alternative)
    gate.choice("good", good, shared.DIRECTIONS)
    one = summary_of(group, "group", rows=1 if known_sd is not None else 2)
    at = None if null is None else gate.finite("null", null)
    spread = one.sd if known_sd is None else gate.positive("known_sd", known_sd)
    n, centre, sd, rest, zero = gate.aligned(one.n, one.mean, spread, one.mean_tail, 0.0 if at is None else at)
    if gate.some(sd == 0):
        raise DataError(
            f"Every value of {one.label!r} equals the others: without any spread there is no test of a mean."
        )
    if known_sd is None and gate.some(n < 2):
        raise DataError(f"{one.label!r} has 1 unit: a spread needs at least 2. Give known_sd if it is known.")
    se = sd / np.sqrt(n)
    df = None if known_sd is not None else n - 1
    away = (centre - zero) + rest
    result = shared.symmetric_test(away, se, df, np.zeros_like(zero), alpha=alpha, alternative=alternative)
    low, high = (scalar_or_array(np.asarray(end) + zero) for end in (result.interval.low, result.interval.high))
    interval = Interval(low, high, 1 - alpha)
    found: dict[str, EffectSize] = {}
    if at is not None:
        if df is None:
            z_low, z_high = effects.critical_z(tail)
            below, above = away / se - z_low, away / se + z_high
        else:
            below, above = student.shift_bounds(away / se, df, *tail)
        sizes = Interval(scalar_or_array(below / np.sqrt(n)), scalar_or_array(above / np.sqrt(n)), 1 - alpha)
        d = away / sd
        corrected = d if df is None or gate.some(df < 2) else d * effects.small_sample_factor(scalar_or_array(df))
        label = "Hedges g" if corrected is not d else "Cohen d"
        found["hedges_g" if corrected is not d else "cohen_d"] = EffectSize(scalar_or_array(corrected), sizes, label)
    values = raw_values(group=group) if np.ndim(away) == 0 else {}
    name = metric or one.metric or "value"

    def again(samples: dict[str, Floats]) -> float:
        rest = summary_of(Sample(samples[one.label], one.label), "")
        if known_sd is None and rest.sd == 0:
            return 0.0 if rest.mean != zero else 1.0
        return float(mean(rest, alpha=alpha, null=zero, alternative=alternative, known_sd=known_sd).p_value or 0.0)

    fields = result.fields("z" if df is None else "t", alternative) | {"interval": interval}
    if at is None:
        fields |= {"p_value": None, "statistic": None, "critical": None, "statistic_name": ""}
    return Estimate(
        title=f"{name}: mean of {one.label}",
        method="one mean" if df is not None else "one mean, known standard deviation",
        source="Student (1908), Biometrika 6, 1-25",
        metric=name,
        label=one.label,
        estimate=scalar_or_array(centre),
        df=None if df is None else scalar_or_array(df),
        alpha=alpha,
        alternative=alternative,
        null=None if at is None else scalar_or_array(zero),
        effects=found,
        groups=(_group(one.label, n, centre, sd, se),),
        margin=shared.settle_margin(margin),
        good=good,
        checks=(
            *checks.few(n),
            *checks.skewed(values),
            *(checks.one_value_turns_it(values, float(result.p), alpha, again) if values and at is not None else ()),
            *checks.missing(one),
        ),
        **fields,
    )


def _arms(group1: Summary, group0: Summary, null: Floats, known_sd: tuple[float, float] | None) -> tuple[_Arms, Floats]:
    sd1, sd0 = (group1.sd, group0.sd) if known_sd is None else gate.positive("known_sd", known_sd)
    raw = (group1.n, group0.n, group1.mean, group0.mean, sd1, sd0, group1.mean_tail, group0.mean_tail, null)
    n1, n0, mean1, mean0, s1, s0, tail1, tail0, at = gate.aligned(*raw)
    return _Arms(n1, n0, mean1, mean0, s1, s0, (mean1 - mean0) + (tail1 - tail0)), at


def _t_test(arms: _Arms, variances: str, label1: str, label0: str) -> _Test:
    if gate.some(arms.n1 < 2) or gate.some(arms.n0 < 2):
        label = label1 if gate.some(arms.n1 < 2) else label0
        raise DataError(f"Variant {label!r} has 1 unit: a spread needs at least 2. Give known_sd if it is known.")
    flat = (arms.sd1 == 0) & (arms.sd0 == 0)
    if gate.some(flat):
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


def _other_variances(arms: _Arms, variances: str, null: Floats, p: Floats, asked: _Asked) -> tuple[str, ...]:
    """Show the other t test where the choice between them decides."""
    other = "equal" if variances == "unequal" else "unequal"
    test = _t_test(arms, other, "", "")
    t = (arms.difference - null) / test.se
    side = {"greater": t, "less": -t}.get(asked["alternative"], np.abs(t))
    critical = student.upper_quantile(max(effects.tails(asked["alpha"], asked["alternative"])), np.asarray(test.df))
    if (side > critical) == (p < asked["alpha"]):
        return ()
    other_p = shared.p_value(t, lambda x: student.sf(x, np.asarray(test.df)), asked["alternative"])
    said = (
        f"The choice of variances decides: with {other} ones t is {float(t):.4g} and p"
        f" {float(other_p):.3g}. Unequal ones are the safe choice, whatever a test of the spreads says."
    )
    return (said,)


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
        still = gate.some(arms.sd0 == 0)
        found |= effects.standardised(
            scalar_or_array(t),
            scalar_or_array(arms.n1),
            scalar_or_array(arms.n0),
            difference_in_control_sd=None if still else scalar_or_array(arms.difference / arms.sd0),
            alpha=alpha,
            alternative=alternative,
        )
        g = found["hedges_g"]
        excluded = (np.asarray(g.interval.low) > 0) | (np.asarray(g.interval.high) < 0)
        distance = {"greater": 1.0, "less": -1.0}.get(alternative, np.sign(arms.difference)) * arms.difference / test.se
        if gate.some(excluded != (distance > critical)):
            notes.append("The standardised intervals assume equal variances and here disagree with the test.")
    lifts = effects.lift(
        (arms.mean1, arms.mean0), (test.se1**2, test.se0**2), critical, alpha=alpha, alternative=alternative
    )
    found |= {name: effect for name, effect in lifts.items() if gate.some(np.isfinite(effect.value))}
    if "lift" not in found:
        notes.append(f"No lift is given: it needs a control mean above 0, and this is {np.max(arms.mean0):g}.")
    elif alternative == "two-sided" and gate.some(np.isinf(lifts["lift"].interval.low)):
        notes.append("The lift has no finite limits: the control's mean can't be told from 0.")
    return found, tuple(notes)


def _group(label: str, n: Floats, mean: Floats, sd: Floats, se: Floats) -> Group:
    return Group(label, scalar_or_array(n), scalar_or_array(mean), scalar_or_array(sd), scalar_or_array(se))
