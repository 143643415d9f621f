"""Events over an exposure: one rate, and the difference of two."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, TypeAlias, Unpack

import numpy as np
from scipy import special

from amber_ruler import effects
from amber_ruler.errors import InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import wilson
from amber_ruler.numeric import binomial, gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.roots import bracketed_root, widened
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize, Estimate, Interval
from amber_ruler.samples import RateGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithLift, WithMargin

Which: TypeAlias = Literal["score", "exact"]
_MOST_RATE = 1e75  # that can be tested: squares of larger ones are beyond floats
_ONE = {
    "exact": ("exact Poisson", "Garwood (1936), Biometrika 28, 437-442"),
    "mid-p": ("Poisson, mid-p", "Lancaster (1961), Journal of the American Statistical Association 56, 223-234"),
    "score": ("score", "Rao (1948), PCPS 44, 50-57"),
}


@method(
    takes="one",
    needs="rate",
    published=True,
    examples=("--events 30 --exposure 120 --null 0.3",),
    defaults={"null": None},
)
def rate(
    group: RateGroup,
    *,
    test: Literal["exact", "mid-p", "score"] = "exact",
    **asked: Unpack[WithMargin],
) -> Estimate:
    """How many events come for each unit of exposure, and does the rate differ from a given one?

    Parameters
    ----------
    group : Events, array_like of counts per unit, Sample or Moments
        The group. Events of arrays ask many questions at once.
    test : "exact", "mid-p" or "score"
        The exact Poisson test doubles the smaller tail and goes with Garwood's interval; mid-p counts the number seen
        by half, in both; the score test goes with Rao's interval.
    null : float or array_like above 0, optional
        Rate to test against; without one there is an interval and no test.

    Returns
    -------
    Estimate
        Rate with interval, and the test where there is a null.

    References
    ----------
    .. [1] Garwood (1936), Biometrika 28, 437-442.
    .. [2] Rao (1948), Proceedings of the Cambridge Philosophical Society 44, 50-57.
    .. [3] Lancaster (1961), Journal of the American Statistical Association 56, 223-234, for mid-p.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> r = rate(Events(30, 120.0, "short"))
    >>> round(r.estimate, 3), round(r.interval.low, 4), round(r.interval.high, 4)
    (0.25, 0.1687, 0.3569)
    """
    ask = shared.question(asked)
    said, source = _ONE[gate.choice("test", test, _ONE)]
    one = groups.one(group, "rate")
    at = shared.null_of(ask.null, gate.positive)
    x, exposure, rate0 = gate.aligned(one.count, one.exposure, 1.0 if at is None else at)
    tail, critical = ask.tail, effects.critical_z(ask.tail)
    if test == "exact":
        low, high = _garwood(x, tail)
    elif test == "mid-p":
        low, high = _mid_limits(x, tail)
    else:
        below, above = (min(c, 1e8) for c in critical)
        # The smaller root without cancellation.
        low = x * x / (x + below * below / 2 + below * np.sqrt(x + below * below / 4)) if tail[0] > 0 else 0.0 * x
        high = x + above * above / 2 + above * np.sqrt(x + above * above / 4) if tail[1] > 0 else np.inf + 0.0 * x
    limits, tested = ask.interval(low / exposure, high / exposure), None
    if at is not None:
        mean = rate0 * exposure
        if test != "score":
            over, under = _at_least(x, mean), _at_most(x, mean)
            if test == "mid-p":
                over, under = (over + _at_least(x + 1, mean)) / 2, (under + _at_most(x - 1, mean)) / 2
            p = shared.from_tails(over, under, ask.alternative)
            tested = ask.test(p, rate0)
        else:
            z = (x - mean) / np.sqrt(mean)
            p = shared.p_value(z, normal.sf, ask.alternative)
            tested = ask.test(p, rate0, statistic=z, name="z", critical=min(critical))
        limits = shared.agreeing(ask, low / exposure, high / exposure, p, rate0, x / exposure)
    name = groups.named(ask.metric, "events", one)
    return Estimate(
        title=f"{name}: rate of {one.label}",
        method=f"one rate, {said}",
        source=source,
        metric=name,
        label=one.label,
        estimate=scalar_or_array(x / exposure),
        se=scalar_or_array(np.sqrt(x) / exposure),
        interval=limits,
        test=tested,
        groups=(shared.rate_group(one.label, x, exposure),),
        quantity="rate",
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        checks=(*checks.dispersion(one), *checks.missing(one)),
    )


def _at_least(x: Floats, mean: Floats) -> Floats:
    """P(X >= x) of a Poisson count X."""
    return np.where(x > 0, special.gammainc(np.maximum(x, 1), mean), 1.0)


def _at_most(x: Floats, mean: Floats) -> Floats:
    """P(X <= x)."""
    return np.where(x < 0, 0.0, special.gammaincc(np.maximum(x, 0) + 1, mean))


def _garwood(x: Floats, tail: tuple[float, float]) -> tuple[Floats, Floats]:
    """The means at which x or more, or x or fewer, events have just the chance of a tail."""
    low = np.where(x > 0, special.gammaincinv(np.maximum(x, 1), tail[0]), 0.0)
    high = special.gammainccinv(np.maximum(x, 0) + 1, tail[1]) if tail[1] > 0 else np.full(x.shape, np.inf)
    return low, np.where(x < 0, 0.0, high)


def _mid_limits(x: Floats, tail: tuple[float, float]) -> tuple[Floats, Floats]:
    """The same with x counted by half: between the exact limit of x and that of the next count further in."""
    low, high = _garwood(x, tail)
    if tail[0] > 0:
        inner = _garwood(x + 1, tail)[0]
        low = np.where(
            x > 0, bracketed_root(lambda m: _at_least(x, m) + _at_least(x + 1, m) - 2 * tail[0], low, inner), 0.0
        )
    if tail[1] > 0:
        inner = _garwood(x - 1, tail)[1]
        high = bracketed_root(lambda m: 2 * tail[1] - _at_most(x, m) - _at_most(x - 1, m), inner, high)
    return low, high


@method(takes="two", needs="rate", published=True, examples=("--events 40,60 --exposure 120,130",))
def rates(
    treatment: RateGroup,
    control: RateGroup,
    *,
    test: Which = "score",
    **asked: Unpack[WithLift],
) -> Comparison:
    """Do events come more often in treatment than in control, and by how much?

    Parameters
    ----------
    treatment, control : Events, array_like of counts per unit, Sample or Moments
        The two groups. Events of arrays ask many comparisons at once.
    test : "score" or "exact"
        The exact test is conditional on the events in total, and doubles the smaller tail; its ratio has the exact
        interval, and the difference keeps its score interval.
    null : float or array_like
        Tested difference of rates; the exact test knows 0 only.

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
    ask = shared.question(asked)
    gate.choice("test", test, ("score", "exact"))
    one, two = groups.two(treatment, control, "rate")
    null = gate.between("null", ask.null, -_MOST_RATE, _MOST_RATE)
    raw = (one.count, one.exposure, two.count, two.exposure, null)
    x1, e1, x0, e0, at = gate.aligned(*raw)
    counts = (x1, e1, x0, e0)
    estimate = (x1 * e0 - x0 * e1) / (e1 * e0)
    critical = effects.critical_z(ask.tail)
    low, high = (_limit(counts, c, side) for c, side in zip(critical, (-1.0, 1.0), strict=True))

    def one_sided(null: Floats, direction: str) -> Floats:
        return shared.p_value(_score(*counts, null), normal.sf, direction)

    def by_lift(lift: float, direction: str) -> Floats:
        """Given the events in total, by the share of them that treatment then has."""
        n, share = x1 + x0, (1 + lift) * e1 / ((1 + lift) * e1 + e0)
        if test == "exact":
            more, less = binomial.at_least(x1, n, share), binomial.at_least(x0, n, 1 - share)
            return np.asarray(more if direction == "greater" else less)
        return shared.p_value((x1 - n * share) / np.sqrt(n * share * (1 - share)), normal.sf, direction)

    notes: tuple[str, ...] = ()
    against = shared.margin_tests(ask, one_sided, at, (x0 / e0, by_lift))
    if test == "score":
        z = _score(*counts, at)
        p = shared.p_value(z, normal.sf, ask.alternative)
        limits = shared.agreeing(ask, low, high, p, at, estimate)
        tested = ask.test(p, at, statistic=z, name="z", critical=min(critical), margin_tests=against)
        source = "Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226"
    else:
        if np.any(at != 0):
            raise InputError("test='exact' knows a difference of 0 only; for others take test='score'.")
        share = e1 / (e1 + e0)
        above, below = binomial.at_least(x1, x1 + x0, share), binomial.at_least(x0, x1 + x0, 1 - share)
        p, limits = shared.from_tails(above, below, ask.alternative), ask.interval(low, high)
        tested = ask.test(p, at, margin_tests=against)
        source = "Przyborowski & Wilenski (1940), Biometrika 31, 313-323"
        if np.any((p < ask.alpha) == limits.contains(0.0)):
            notes = ("The score interval of the difference and the exact test here disagree; the ratio's agrees.",)
    found, more = _effects(ask, counts, test, p if np.all(at == 0) else None)

    def wide() -> Interval:
        if ask.margin_lift is None:
            reach = effects.critical_z((ask.alpha, ask.alpha))
            return ask.wider(*(_limit(counts, c, side) for c, side in zip(reach, (-1.0, 1.0), strict=True)))
        wider = shared.question({"alpha": 2 * ask.alpha})
        lift = _effects(wider, counts, test, None)[0].get("lift")
        return wider.interval(np.nan, np.nan) if lift is None else lift.interval

    tested = replace(tested, margin_interval=shared.margin_interval(ask, tested.margin_tests, at, wide))
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "events"),
        method=f"two rates, {'score test' if test == 'score' else 'exact conditional test'}",
        source=source,
        estimate=scalar_or_array(estimate),
        se=scalar_or_array(np.hypot(np.sqrt(x1) / e1, np.sqrt(x0) / e0)),
        interval=limits,
        test=tested,
        effects=found,
        groups=(shared.rate_group(one.label, x1, e1), shared.rate_group(two.label, x0, e0)),
        quantity="rate",
        checks=(*checks.dispersion(one, two), *checks.missing(one, two)),
        notes=(*notes, *more, *(() if ask.margin_lift else shared.margins_by_score(ask, test))),
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
    ask: shared.Question, counts: tuple[Floats, ...], test: str, p: Floats | None
) -> tuple[dict[str, EffectSize], tuple[str, ...]]:
    x1, e1, x0, e0 = counts
    n, tail = x1 + x0, ask.tail
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
    interval = ask.interval(low, high)
    if p is not None:
        interval = shared.agreeing(ask, low, high, p, 1.0, np.nan_to_num(value, nan=1.0))
    if np.ndim(n) == 0 and not np.isfinite(value):
        return {}, (f"Without an event in control there is no finite ratio: it is above {float(low):.4g}.",)
    less_one = ask.interval(np.asarray(interval.low) - 1, np.asarray(interval.high) - 1)
    return {
        "rate_ratio": EffectSize(scalar_or_array(value), interval, "rate ratio", "ratio"),
        "lift": EffectSize(scalar_or_array(value - 1), less_one, "lift", "relative"),
    }, ()
