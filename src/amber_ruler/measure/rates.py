"""Events over an exposure: one rate, and the difference of two."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import numpy as np
from scipy import special

from amber_ruler import effects
from amber_ruler.errors import InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import wilson
from amber_ruler.numeric import binomial, chisquare, gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.roots import bracketed_root, widened
from amber_ruler.results import Check, Comparison, EffectSize, Estimate, Group, Interval
from amber_ruler.samples import Events, RateGroup, events_of

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

    from amber_ruler.effects import Alternative

Test: TypeAlias = Literal["score", "exact"]
_DISPERSED = 0.001  # chance of so uneven counts in a Poisson process, from which on it is said


def rate(
    group: RateGroup,
    *,
    alpha: float = 0.05,
    null: ArrayLike | None = None,
    alternative: Alternative = "two-sided",
    test: Test = "exact",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Estimate:
    """How many events come for each unit of exposure, and does the rate differ from a given one?

    Parameters
    ----------
    group : Events, array_like of counts per unit, Sample or Moments
        The group. Events of arrays ask many questions at once.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    null : float or array_like above 0, optional
        Rate to test against; without one there is an interval and no test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval.
    test : "exact" or "score"
        The exact Poisson test doubles the smaller tail and goes with Garwood's interval; the score test with Rao's.
    margin, good, metric
        As for `means`.

    Returns
    -------
    Estimate
        Rate with interval, and the test where there is a null.

    References
    ----------
    .. [1] Garwood (1936), Biometrika 28, 437-442.
    .. [2] Rao (1948), Proceedings of the Cambridge Philosophical Society 44, 50-57.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> r = rate(Events(30, 120.0, "short"))
    >>> round(r.estimate, 3), round(r.interval.low, 4), round(r.interval.high, 4)
    (0.25, 0.1687, 0.3569)
    """
    tail = effects.tails(alpha, alternative)
    gate.choice("test", test, ("exact", "score"))
    gate.choice("good", good, shared.DIRECTIONS)
    one = events_of(group, "group")
    at = None if null is None else gate.positive("null", null)
    x, exposure, rate0 = gate.aligned(one.count, one.exposure, 1.0 if at is None else at)
    critical = effects.critical_z(tail)
    if test == "exact":
        low = np.where(x > 0, special.gammaincinv(np.maximum(x, 1), tail[0]), 0.0)
        high = special.gammainccinv(x + 1, tail[1]) if tail[1] > 0 else np.full(x.shape, np.inf)
    else:
        below, above = (min(c, 1e8) for c in critical)
        # The smaller root without cancellation.
        low = x * x / (x + below * below / 2 + below * np.sqrt(x + below * below / 4)) if tail[0] > 0 else 0.0 * x
        high = x + above * above / 2 + above * np.sqrt(x + above * above / 4) if tail[1] > 0 else np.inf + 0.0 * x
    limits = Interval(scalar_or_array(low / exposure), scalar_or_array(high / exposure), 1 - alpha)
    fields: dict[str, Any] = {}
    if at is not None:
        mean = rate0 * exposure
        z = (x - mean) / np.sqrt(mean)
        if test == "exact":
            over = np.where(x > 0, special.gammainc(np.maximum(x, 1), mean), 1.0)
            under = special.gammaincc(x + 1, mean)
            p = shared.from_tails(over, under, alternative)
        else:
            p = shared.p_value(z, normal.sf, alternative)
            fields = {"statistic": scalar_or_array(z), "critical": shared.critical_of(min(critical), alternative)}
        limits = shared.agreeing(low / exposure, high / exposure, p, rate0, alpha, x / exposure)
        fields |= {"p_value": scalar_or_array(p), "null": scalar_or_array(rate0), "statistic_name": "z"}
    name = metric or one.metric or "events"
    return Estimate(
        title=f"{name}: rate of {one.label}",
        method="one rate, exact Poisson" if test == "exact" else "one rate, score",
        source="Garwood (1936), Biometrika 28, 437-442" if test == "exact" else "Rao (1948), PCPS 44, 50-57",
        metric=name,
        label=one.label,
        estimate=scalar_or_array(x / exposure),
        interval=limits,
        alpha=alpha,
        alternative=alternative,
        groups=(_group(one.label, x, exposure),),
        quantity="rate",
        margin=shared.settle_margin(margin),
        good=good,
        checks=(*_dispersion(one), *checks.missing(one)),
        **fields,
    )


def rates(
    treatment: RateGroup,
    control: RateGroup,
    *,
    alpha: float = 0.05,
    null: ArrayLike = 0.0,
    alternative: Alternative = "two-sided",
    test: Test = "score",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Comparison:
    """Do events come more often in treatment than in control, and by how much?

    Parameters
    ----------
    treatment, control : Events, array_like of counts per unit, Sample or Moments
        The two groups. Events of arrays ask many comparisons at once.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    null : float or array_like
        Tested difference of rates; the exact test knows 0 only.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval.
    test : "score" or "exact"
        The exact test is conditional on the events in total, and doubles the smaller tail; its ratio has the exact
        interval, and the difference keeps its score interval.
    margin, good, metric
        As for `means`.

    Returns
    -------
    Comparison
        Difference of rates with interval, test, the rate ratio (and the lift, which is the ratio less 1) with theirs.

    Notes
    -----
    z is the difference less `null` over its standard error at the rates that are likeliest under `null`. Both limits
    solve z = critical value. The ratio's limits come from the share of events in treatment: Wilson's of that share with
    the score test, Clopper and Pearson's with the exact one.

    References
    ----------
    .. [1] Przyborowski & Wilenski (1940), Biometrika 31, 313-323, for the conditional test.
    .. [2] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226, for the score of rates.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> r = rates(Events(40, 120.0, "short"), Events(60, 130.0, "current"))
    >>> round(r.estimate, 4), round(r.p_value, 4), round(r.effects["rate_ratio"].value, 4)
    (-0.1282, 0.1093, 0.7222)
    """
    tail = effects.tails(alpha, alternative)
    gate.choice("test", test, ("score", "exact"))
    gate.choice("good", good, shared.DIRECTIONS)
    one, two = events_of(treatment, "treatment"), events_of(control, "control")
    shared.check_labels(one.label, two.label)
    raw = (one.count, one.exposure, two.count, two.exposure, gate.finite("null", null))
    x1, e1, x0, e0, at = gate.aligned(*raw)
    counts = (x1, e1, x0, e0)
    room = shared.settle_margin(margin)
    estimate = (x1 * e0 - x0 * e1) / (e1 * e0)
    critical = effects.critical_z(tail)
    low, high = (_limit(counts, c, side) for c, side in zip(critical, (-1.0, 1.0), strict=True))

    def one_sided(null: Floats, direction: str) -> Floats:
        return shared.p_value(_score(*counts, null), normal.sf, direction)

    z = _score(*counts, at)
    notes: tuple[str, ...] = ()
    if test == "score":
        p = shared.p_value(z, normal.sf, alternative)
        limits = shared.agreeing(low, high, p, at, alpha, estimate)
        fields = shared.z_fields(z, critical, alternative)
    else:
        if np.any(at != 0):
            raise InputError("test='exact' knows a difference of 0 only; for others take test='score'.")
        share = e1 / (e1 + e0)
        above, below = binomial.at_least(x1, x1 + x0, share), binomial.at_least(x0, x1 + x0, 1 - share)
        p, fields = shared.from_tails(above, below, alternative), {}
        limits = Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)
        if np.any((p < alpha) == limits.contains(0.0)):
            notes = ("The score interval of the difference and the exact test here disagree; the ratio's agrees.",)
    found, more = _effects(counts, tail, test, p if np.all(at == 0) else None, alpha)
    name = metric or one.metric or two.metric or "events"
    return Comparison(
        title=f"{name}: {one.label} − {two.label}",
        method=f"two rates, {'score test' if test == 'score' else 'exact conditional test'}",
        source="Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226"
        if test == "score"
        else "Przyborowski & Wilenski (1940), Biometrika 31, 313-323",
        metric=name,
        treatment=one.label,
        control=two.label,
        estimate=scalar_or_array(estimate),
        interval=limits,
        p_value=scalar_or_array(p),
        alpha=alpha,
        alternative=alternative,
        null=scalar_or_array(at),
        effects=found,
        groups=(_group(one.label, x1, e1), _group(two.label, x0, e0)),
        quantity="rate",
        margin=room,
        margin_tests=shared.margin_tests(one_sided, at, room, good, alpha),
        good=good,
        checks=(*_dispersion(one, two), *checks.missing(one, two)),
        notes=(*notes, *more, *shared.margins_by_score(room, test)),
        **fields,
    )


def _score(x1: Floats, e1: Floats, x0: Floats, e0: Floats, difference: Floats) -> Floats:
    """Score z for a difference of rates, both at their maximum likelihood under it."""
    total = e1 + e0
    b = total * difference - x1 - x0
    root = np.sqrt(b * b + 4 * total * x0 * difference)
    with np.errstate(divide="ignore", invalid="ignore"):
        # The root that is not negative, written without cancellation on either side.
        rate0 = np.where(b <= 0, (root - b) / (2 * total), 2 * x0 * difference / (b + root))
        rate0 = np.maximum(rate0, np.maximum(0.0, -difference))
        away = x1 / e1 - x0 / e0 - difference
        z = away / np.sqrt((rate0 + difference) / e1 + rate0 / e0)
    return np.where(away == 0, 0.0, z)


def _limit(counts: tuple[Floats, Floats, Floats, Floats], critical: float, side: float) -> Floats:
    """The difference at which z meets the critical value, below (side -1) or above (side 1) the estimate."""
    x1, e1, x0, e0 = counts
    estimate = x1 / e1 - x0 / e0
    if not np.isfinite(critical):
        return np.full(estimate.shape, side * np.inf)

    def miss(away: Floats) -> Floats:
        return critical - side * -_score(*counts, estimate + side * np.maximum(away, 0.0))

    reach = critical * np.sqrt((x1 + 1) / e1**2 + (x0 + 1) / e0**2)
    low, high = widened(lambda a: -miss(a), np.zeros(estimate.shape), reach, step=reach, ends=(0.0, np.inf))
    return np.asarray(estimate + side * bracketed_root(miss, low, high))


def _effects(
    counts: tuple[Floats, ...], tail: tuple[float, float], test: str, p: Floats | None, alpha: float
) -> tuple[dict[str, EffectSize], tuple[str, ...]]:
    x1, e1, x0, e0 = counts
    n = x1 + x0
    if np.ndim(n) == 0 and n == 0:
        return {}, ("Without any event there is no ratio; the interval of the difference still speaks.",)
    limits = (
        wilson(x1, np.maximum(n, 1), effects.critical_z(tail))
        if test == "score"
        else binomial.exact_limits(x1, np.maximum(n, 1), *tail)
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        value = (x1 / e1) / (x0 / e0)
        low, high = (share / (1 - share) * e0 / e1 for share in limits)
    low, high = np.where(tail[0] > 0, low, 0.0), np.where(tail[1] > 0, high, np.inf)
    interval = Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)
    if p is not None:
        interval = shared.agreeing(low, high, p, np.ones_like(value), alpha, np.nan_to_num(value, nan=1.0))
    if np.ndim(n) == 0 and not np.isfinite(value):
        return {}, (f"Without an event in control there is no finite ratio: it is above {float(low):.4g}.",)
    less_one = Interval(np.asarray(interval.low) - 1, np.asarray(interval.high) - 1, 1 - alpha)
    less_one = Interval(
        scalar_or_array(np.asarray(less_one.low)), scalar_or_array(np.asarray(less_one.high)), 1 - alpha
    )
    return {
        "rate_ratio": EffectSize(scalar_or_array(value), interval, "rate ratio"),
        "lift": EffectSize(scalar_or_array(value - 1), less_one, "lift", percent=True),
    }, ()


def _dispersion(*groups: Events) -> tuple[Check, ...]:
    """Do counts per unit vary more than Poisson's? Then every p is too small, and every interval too narrow."""
    found = []
    for g in groups:
        if g.dispersion is None or g.units is None or g.dispersion <= 1:
            continue
        if float(chisquare.sf((g.units - 1) * g.dispersion, g.units - 1)) < _DISPERSED:
            found.append(f"those of {g.label} vary {g.dispersion:.3g} times as much as Poisson counts")
    if not found:
        return ()
    advice = "p is too small and the interval too narrow: compare the means of counts per unit instead."
    return (Check("dispersion", "counts per unit: " + "; ".join(found), advice, "warning"),)


def _group(label: str, x: Floats, exposure: Floats) -> Group:
    se = np.sqrt(x) / exposure
    return Group(label, scalar_or_array(exposure), scalar_or_array(x / exposure), se=scalar_or_array(se))
