"""One mean, and the difference of two."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal, NamedTuple, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize, Estimate
from amber_ruler.samples import MeanGroup, Summary
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithLift, WithMargin

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
    pooled: Floats  # the spread that both would share


def _compared(
    treatment: MeanGroup,
    control: MeanGroup,
    null: ArrayLike,
    variances: str | None,
    known_sd: tuple[float, float] | None,
) -> tuple[Summary, Summary, _Arms, _Test, Floats]:
    """Both groups as they are read, as clean arrays, their test, and the tested difference."""
    kind = gate.choice("variances", variances or "unequal", ("unequal", "equal"))
    one, two = groups.two(treatment, control, "mean", least=1 if known_sd is not None else 2)
    arms, at = _arms(one, two, gate.finite("null", null), known_sd)
    test = _known_test(arms) if known_sd is not None else _t_test(arms, kind, one.label, two.label)
    return one, two, arms, test, at


def _p_of_two(given: tuple[Any, ...], settings: Mapping[str, Any]) -> float:
    """P of two means, and nothing else."""
    one, two = given
    variances, known = settings.get("variances"), settings.get("known_sd")
    *_, arms, test, at = _compared(one, two, settings.get("null", 0.0), variances, known)
    return _p(arms.difference, test.se, test.df, at, settings)


def _p_of_one(given: tuple[Any, ...], settings: Mapping[str, Any]) -> float:
    """P of one mean, and nothing else."""
    group, *_ = _one_read(given[0], settings.get("known_sd"), settings.get("null"))
    return _p(group.away, group.se, group.df, np.asarray(0.0), settings)


def _p(estimate: Floats, se: Floats, df: Floats | None, null: Floats, settings: Mapping[str, Any]) -> float:
    def upper(x: Floats) -> Floats:
        return normal.sf(x) if df is None else student.sf(x, df)

    return float(shared.p_value((estimate - null) / se, upper, settings.get("alternative", "two-sided")))


@method(
    takes="two",
    needs="mean",
    published=True,
    examples=(
        "travellers.csv --value fare --by form --control current --margin 0.30",
        "--n 90,90 --mean 21,14 --sd 20,20",
    ),
    after=checks.one_value_decides(_p_of_two),
)
def means(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    variances: Literal["unequal", "equal"] | None = None,
    known_sd: tuple[float, float] | None = None,
    **asked: Unpack[WithLift],
) -> Comparison:
    """Is the mean of treatment different from that of control, and by how much?

    Parameters
    ----------
    treatment, control : array_like, Sample, Summary or Moments
        The two groups. A Summary of arrays, or Moments of several columns, asks many comparisons at once, and every
        number of the result has the arrays' broadcast shape.
    variances : "unequal" or "equal"
        Whether each group keeps its own variance (the default) or both share one.
    known_sd : pair of float, optional
        Standard deviations of treatment and control known beforehand; the test is then normal.

    Returns
    -------
    Comparison
        Difference with interval, t (or z), df, p. In `effects`, each with an interval: Hedges g, Cohen d, Glass Δ
        (plain and corrected), r, superiority (by equal spreads and by spreads apart), overlap, lift (Fieller), lift by
        the delta method, log ratio. In `margin_tests`, where a margin is
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

    Against a margin d as a lift the one-sided tests are of m1 - (1 - d) m0 and m1 - (1 + d) m0, each by its own
    standard error, such as sqrt(s1^2/n1 + (1 - d)^2 s0^2/n0), and the degrees of freedom of the difference: each holds
    exactly when Fieller's interval of level 1 - 2 alpha excludes its end of the margin.

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
    ask = shared.question(asked)
    shared.unused("normal", {"variances": (variances, known_sd is None)})
    kind = variances or "unequal"
    one, two, arms, test, at = _compared(treatment, control, ask.null, variances, known_sd)
    lifted = shared.Lifted(arms.mean0, (test.se1**2, test.se0**2))
    result = shared.symmetric_test(ask, arms.difference, test.se, test.df, at, lifted)
    found, notes = _effects(ask, arms, test, result.critical)
    single = np.ndim(arms.difference) == 0
    if known_sd is None and single:
        notes += _other_variances(ask, arms, kind, at, result.p)
    how, source = _METHODS["known" if known_sd is not None else kind]
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value"),
        method=how,
        source=source,
        estimate=scalar_or_array(arms.difference),
        se=scalar_or_array(test.se),
        interval=result.interval,
        test=result.test,
        effects=found,
        groups=(
            shared.mean_group(one.label, arms.n1, arms.mean1, arms.sd1, test.se1),
            shared.mean_group(two.label, arms.n0, arms.mean0, arms.sd0, test.se0),
        ),
        facts={} if test.df is None else {"pooled_sd": scalar_or_array(test.pooled)},
        checks=(
            *checks.few(arms.n1, arms.n0),
            *(checks.skewed(ask.alpha, ask.alternative, one, two) if known_sd is None else ()),
            *checks.missing(one, two),
        ),
        notes=notes,
    )


@method(
    takes="one",
    needs="mean",
    published=True,
    examples=("travellers.csv --value fare --by form --null 14",),
    after=checks.one_value_decides(_p_of_one),
    defaults={"null": None},
)
def mean(
    group: MeanGroup,
    *,
    known_sd: float | None = None,
    **asked: Unpack[WithMargin],
) -> Estimate:
    """What is the mean of one group, and does it differ from a given value?

    Parameters
    ----------
    group : array_like, Sample, Summary or Moments
        The group. A Summary of arrays asks many questions at once.
    known_sd : float, optional
        Standard deviation known beforehand; the test is then normal.
    null : float or array_like, optional
        Value to test against, in the metric's unit; without one there is an interval and no test.

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
    ask = shared.question(asked)
    at = shared.null_of(ask.null)
    (n, centre, sd, se, df, away, zero), one = _one_read(group, known_sd, at)
    result = shared.symmetric_test(ask, away, se, df, np.zeros_like(zero))
    low, high = (np.asarray(end) + zero for end in (result.interval.low, result.interval.high))
    interval, test = ask.interval(low, high), None
    if at is not None:
        interval = shared.agreeing(ask, low, high, result.p, zero, centre)
        wide = result.test.margin_interval
        moved = None if wide is None else ask.wider(np.asarray(wide.low) + zero, np.asarray(wide.high) + zero)
        test = replace(result.test, null=scalar_or_array(zero), margin_interval=moved)
    name = groups.named(ask.metric, "value", one)
    return Estimate(
        title=f"{name}: mean of {one.label}",
        method="one mean" if df is not None else "one mean, known standard deviation",
        source="Student (1908), Biometrika 6, 1-25",
        metric=name,
        label=one.label,
        estimate=scalar_or_array(centre),
        se=scalar_or_array(se),
        interval=interval,
        test=test,
        effects={} if at is None else _distance(ask, away, sd, n, df),
        groups=(shared.mean_group(one.label, n, centre, sd, se),),
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        checks=(
            *checks.few(n),
            *(checks.skewed(ask.alpha, ask.alternative, one) if known_sd is None else ()),
            *checks.missing(one),
        ),
    )


class _One(NamedTuple):
    """One group: units, mean, standard deviation and error, degrees of freedom, distance from the value tested."""

    n: Floats
    mean: Floats
    sd: Floats
    se: Floats
    df: Floats | None
    away: Floats
    null: Floats


def _one_read(group: MeanGroup, known_sd: float | None, null: ArrayLike | None) -> tuple[_One, Summary]:
    one = groups.one(group, "mean", least=1 if known_sd is not None else 2)
    spread = one.sd if known_sd is None else gate.positive("known_sd", known_sd)
    n, centre, sd, rest, zero = gate.aligned(one.n, one.mean, spread, one.mean_tail, 0.0 if null is None else null)
    if gate.some(sd == 0):
        raise DataError(
            f"Every value of {one.label!r} equals the others: without any variance there is no test of a mean."
        )
    if known_sd is None and gate.some(n < 2):
        raise DataError(f"{one.label!r} has 1 unit: a variance needs at least 2. Give known_sd if it is known.")
    df = None if known_sd is not None else n - 1
    return _One(n, centre, sd, sd / np.sqrt(n), df, (centre - zero) + rest, zero), one


def _distance(ask: shared.Question, away: Floats, sd: Floats, n: Floats, df: Floats | None) -> dict[str, EffectSize]:
    """The standardised distance from the value tested."""
    if df is None:
        z_low, z_high = effects.critical_z(ask.tail)
        low, high = away / sd - z_low / np.sqrt(n), away / sd + z_high / np.sqrt(n)
    else:
        low, high = (end / np.sqrt(n) for end in student.shift_bounds(away / sd * np.sqrt(n), df, *ask.tail))
    limits = ask.interval(low, high)
    d = away / sd
    if df is None or gate.some(df < 2):
        return {"cohen_d": EffectSize(scalar_or_array(d), limits, "Cohen d")}
    g = d * effects.small_sample_factor(scalar_or_array(df))
    return {
        "hedges_g": EffectSize(scalar_or_array(g), limits, "Hedges g"),
        "cohen_d": EffectSize(scalar_or_array(d), limits, "Cohen d", aside=True),
    }


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
    pooled, df = _pooled_sd(arms), arms.n1 + arms.n0 - 2
    if variances == "equal":
        se1, se0 = pooled / np.sqrt(arms.n1), pooled / np.sqrt(arms.n0)
        return _Test(se1, se0, np.hypot(se1, se0), df, pooled)
    se1, se0 = arms.sd1 / np.sqrt(arms.n1), arms.sd0 / np.sqrt(arms.n0)
    se = np.hypot(se1, se0)
    # Shares of the variance rather than fourth powers, which overflow.
    df = 1 / ((se1 / se) ** 4 / (arms.n1 - 1) + (se0 / se) ** 4 / (arms.n0 - 1))
    return _Test(se1, se0, se, df, pooled)


def _known_test(arms: _Arms) -> _Test:
    se1, se0 = arms.sd1 / np.sqrt(arms.n1), arms.sd0 / np.sqrt(arms.n0)
    return _Test(se1, se0, np.hypot(se1, se0), None, np.hypot(arms.sd1, arms.sd0) / np.sqrt(2))


def _pooled_sd(arms: _Arms) -> Floats:
    return np.hypot(arms.sd1 * np.sqrt(arms.n1 - 1), arms.sd0 * np.sqrt(arms.n0 - 1)) / np.sqrt(arms.n1 + arms.n0 - 2)


def _other_variances(ask: shared.Question, arms: _Arms, variances: str, null: Floats, p: Floats) -> tuple[str, ...]:
    """Show the other t test where the choice between them decides."""
    other = "equal" if variances == "unequal" else "unequal"
    test = _t_test(arms, other, "", "")
    t = (arms.difference - null) / test.se
    other_p = shared.p_value(t, lambda x: student.sf(x, np.asarray(test.df)), ask.alternative)
    if (other_p < ask.alpha) == (p < ask.alpha):
        return ()
    said = (
        f"The choice of variances decides: with {other} ones t is {float(t):.4g} and p"
        f" {float(other_p):.3g}. Unequal ones are the safe choice, whatever a test of the spreads says."
    )
    return (said,)


def _effects(
    ask: shared.Question, arms: _Arms, test: _Test, critical: Floats
) -> tuple[dict[str, EffectSize], tuple[str, ...]]:
    found: dict[str, EffectSize] = {}
    notes: list[str] = []
    how = {"alpha": ask.alpha, "alternative": ask.alternative}
    if test.df is None:
        below, above = effects.critical_z(ask.tail)
        limits = ask.interval(*((arms.difference + side * test.se) / test.pooled for side in (-below, above)))
        found["cohen_d"] = EffectSize(scalar_or_array(arms.difference / test.pooled), limits, "Cohen d")
    else:
        t = arms.difference / (test.pooled * np.sqrt(1 / arms.n1 + 1 / arms.n0))
        still = gate.some(arms.sd0 == 0)
        found |= effects.standardised(
            scalar_or_array(t),
            scalar_or_array(arms.n1),
            scalar_or_array(arms.n0),
            difference_in_control_sd=None if still else scalar_or_array(arms.difference / arms.sd0),
            unequal=(arms.difference, arms.sd1, arms.sd0),
            **how,  # type: ignore[arg-type]
        )
        holds = found["hedges_g"].interval.contains(0.0)
        distance = {"greater": arms.difference, "less": -arms.difference}.get(ask.alternative, np.abs(arms.difference))
        if gate.some(holds == (distance / test.se > critical)):
            notes.append("The standardised intervals assume equal variances and here disagree with the test.")
    squares = test.se1**2, test.se0**2
    lifts = effects.lift((arms.mean1, arms.mean0), squares, critical, **how)  # type: ignore[arg-type]
    found |= {name: effect for name, effect in lifts.items() if effects.known(effect)}
    if "lift" not in found:
        notes.append("No lift is given: the control's mean is 0.")
    elif ask.alternative == "two-sided" and gate.some(np.isinf(lifts["lift"].interval.low)):
        notes.append("The lift has no finite limits: the control's mean does not differ significantly from 0.")
    return found, tuple(notes)
