"""The difference of two proportions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from amber_ruler import effects
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate, normal, score
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Check, Comparison, EffectSize, Group, Interval
from amber_ruler.samples import ShareGroup, counts_of

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.effects import Alternative


def proportions(
    treatment: ShareGroup,
    control: ShareGroup,
    *,
    alpha: float = 0.05,
    null: ArrayLike = 0.0,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Comparison:
    """Is the share of successes in treatment different from that in control, and by how much?

    Parameters
    ----------
    treatment, control : Counts, array_like of 0/1, Sample or Moments
        The two groups. Counts of arrays ask many comparisons at once.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    null : float or array_like, between -1 and 1
        Tested difference of shares.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is -1 or 1.
    margin : float, optional
        The smallest difference that matters (0.01 is one percentage point).
    good : "higher" or "lower"
        The direction in which the metric is good.
    metric : str, optional
        What was counted, for the heading.

    Returns
    -------
    Comparison
        Difference with score interval, z, p; lift, risk ratio and odds ratio with score intervals, Cohen h.

    Raises
    ------
    DataError
        If values are other than 0 and 1, or a group is empty.
    InputError
        If counts contradict themselves, or an argument is out of its range.

    Notes
    -----
    z is the difference less `null` over its standard error at the shares that are likeliest under `null`; with
    a null of 0 that is the pooled z, whose square is the familiar chi-square. All limits solve z = critical value
    (for the ratios, with the shares likeliest under that ratio), so that each of them excludes "no effect" exactly
    when p < alpha. Cohen h alone has an interval from the arcsine scale. Without any success, or without any
    failure, the data say nothing against equality: z = 0, p = 1, and the interval is still informative.

    References
    ----------
    .. [1] Mee (1984), Biometrics 40, 1175-1176.
    .. [2] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226.
    .. [3] Koopman (1984), Biometrics 40, 513-517.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportions(Counts(60, 400, "short"), Counts(40, 400, "current"))
    >>> round(r.estimate, 3), round(r.p_value, 4)
    (0.05, 0.0325)
    """
    tail = effects.tails(alpha, alternative)
    gate.choice("good", good, shared.DIRECTIONS)
    group1, group0 = counts_of(treatment, "treatment"), counts_of(control, "control")
    shared.check_labels(group1.label, group0.label)
    raw = (group1.successes, group1.trials, group0.successes, group0.trials, gate.between("null", null, -1, 1))
    x1, n1, x0, n0, at = gate.aligned(*raw)
    counts = (x1, n1, x0, n0)

    # Over a common denominator, so that equal shares differ by exactly 0.
    estimate = (x1 * n0 - x0 * n1) / (n1 * n0)
    z = score.difference(*counts, at)
    p = shared.p_value(z, normal.sf, alternative)
    low, high = score.difference_limits(*counts, effects.critical_z(tail))
    interval = shared.agreeing(low, high, p, at, alpha, estimate)
    found, notes = _effects(counts, p, alpha, alternative)
    name = metric or group1.metric or group0.metric or "success"
    return Comparison(
        title=f"{name}: {group1.label} − {group0.label}",
        method="two proportions, score test",
        source="Mee (1984), Biometrics 40, 1175-1176",
        metric=name,
        treatment=group1.label,
        control=group0.label,
        estimate=scalar_or_array(estimate),
        interval=interval,
        p_value=scalar_or_array(p),
        statistic=scalar_or_array(z),
        statistic_name="z",
        alpha=alpha,
        alternative=alternative,
        null=scalar_or_array(at),
        effects=found,
        groups=(_group(group1.label, x1, n1), _group(group0.label, x0, n0)),
        margin=shared.settle_margin(margin),
        good=good,
        quantity="share",
        checks=(*_expected_check(counts), *checks.missing(group1, group0)),
        notes=notes,
    )


def _effects(
    counts: tuple[Floats, Floats, Floats, Floats], p: Floats, alpha: float, alternative: Alternative
) -> tuple[dict[str, EffectSize], tuple[str, ...]]:
    ratio = effects.risk_ratio(*counts, alpha=alpha, alternative=alternative)
    lift_interval = Interval(
        scalar_or_array(np.asarray(ratio.interval.low) - 1),
        scalar_or_array(np.asarray(ratio.interval.high) - 1),
        1 - alpha,
    )
    found = {
        "lift": EffectSize(scalar_or_array(np.asarray(ratio.value) - 1), lift_interval, "lift", percent=True),
        "risk_ratio": ratio,
        "odds_ratio": effects.odds_ratio(*counts, alpha=alpha, alternative=alternative),
        "cohen_h": effects.cohen_h(*counts, alpha=alpha, alternative=alternative),
    }
    notes = []
    if np.ndim(ratio.value) == 0:
        gone = [name for name, effect in found.items() if not np.isfinite(effect.value)]
        for name in gone:
            del found[name]
        if gone:
            notes.append(f"Without a success in control, or a failure in treatment, there is no {_listed(gone)}.")
    h = found["cohen_h"].interval
    if np.any((p < alpha) == ((np.asarray(h.low) <= 0) & (np.asarray(h.high) >= 0))):
        notes.append("The interval of Cohen h comes from the arcsine scale and here disagrees with the score test.")
    return found, tuple(notes)


def _listed(names: list[str]) -> str:
    words = [n.replace("_", " ") for n in names]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


def _expected_check(counts: tuple[Floats, Floats, Floats, Floats]) -> tuple[Check, ...]:
    x1, n1, x0, n0 = counts
    share = (x1 + x0) / (n1 + n0)
    smallest = float(np.min(np.minimum(n1, n0) * np.minimum(share, 1 - share)))
    if smallest >= 5:
        return ()
    return (
        Check(
            "expected counts",
            f"the smallest expected count is {smallest:.3g}, below 5",
            "The score test is an approximation there: take a p near alpha with care.",
            "warning",
        ),
    )


def _group(label: str, x: Floats, n: Floats) -> Group:
    share = x / n
    # The standard deviation of 0/1 values with n below, the binomial one.
    sd = np.sqrt(share * (1 - share))
    se = scalar_or_array(sd / np.sqrt(n))
    return Group(label, scalar_or_array(n), scalar_or_array(share), scalar_or_array(sd), se)
