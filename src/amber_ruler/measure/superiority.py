"""How often one value is above another: a test and an interval that need neither equal spreads nor normal values."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, Unpack

import numpy as np
from scipy import special

from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.ranks import as_difference, quartered
from amber_ruler.numeric import gate, student
from amber_ruler.numeric import ranks as order
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize
from amber_ruler.samples import ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

_SOURCE = "Brunner & Munzel (2000), Biometrical Journal 42, 17-25"


@method(
    takes="two",
    examples=(
        "travellers.csv --value minutes_to_book --by form --control current --good lower",
        "travellers.csv --value fare --by form --control current --interval logit",
    ),
    defaults={"null": 0.5},
    single=True,
)
def superiority(
    treatment: ValueGroup,
    control: ValueGroup,
    *,
    interval: Literal["t", "logit"] = "t",
    **asked: Unpack[WithMargin],
) -> Comparison:
    """How likely is a unit of treatment to have more than one of control, and is that more than even?

    Parameters
    ----------
    treatment, control : array_like or Sample
        The values of the two groups; at least 2 in each.
    interval : "t" or "logit"
        The scale of test and interval: the chance itself, whose limits are cut at 0 and 1, or its logit, whose limits
        never leave them.
    null : float, between 0 and 1
        Tested chance.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is 0 or 1.
    margin : float, optional
        The smallest distance from the null that matters, as a chance.

    Returns
    -------
    Comparison
        P(X > Y) + P(X = Y)/2 with X of treatment and Y of control, its interval, t and df; in `effects` the odds,
        and Cliff's delta.

    Raises
    ------
    DataError
        If a group has one value, or the groups don't overlap at all (or tie in all values): the spread is then 0.

    Notes
    -----
    A unit's placement is the share of the other group below it, ties half. With S1^2 and S0^2 the variances of the
    placements, the standard error is sqrt(S1^2/n1 + S0^2/n0) and Satterthwaite's degrees of freedom are those of two
    means. On the logit scale the standard error is divided by p (1 - p) (the delta method). Each interval inverts the
    test on its own scale. Ties and unequal spreads are allowed for.

    References
    ----------
    .. [1] Brunner & Munzel (2000), Biometrical Journal 42, 17-25, equations 3 to 6.
    .. [2] Pauly, Asendorf & Konietschke (2016), Biometrical Journal 58, 1319-1337, for the logit scale.

    Examples
    --------
    >>> r = superiority([3.1, 4.4, 5.2, 6.0, 7.3], [1.2, 2.5, 2.9, 3.6, 4.1])
    >>> r.estimate, round(r.statistic, 3), round(r.df, 2), round(r.p_value, 4)
    (0.92, 4.477, 6.63, 0.0033)
    """
    ask = shared.question(asked)
    logit = gate.choice("interval", interval, ("t", "logit")) == "logit"
    one, two = groups.two(treatment, control, "values")
    at = gate.between("null", ask.null, 0, 1)
    for group in (one, two):
        if len(group) < 2:
            raise DataError(f"{group.label!r} has 1 value: the spread of its placements needs at least 2.")
    x, y = order.ordered(one.values), order.ordered(two.values)
    p, se, df = _placed(x, y)
    if se == 0:
        raise DataError(
            f"The values of {one.label!r} and {two.label!r} don't overlap at all, or all are tied: the spread of their"
            " placements is 0. Compare them with measure.ranks, which counts orders."
        )
    if ask.margin and not 0 < at - ask.margin < at + ask.margin < 1:
        raise InputError.rule("margin", ask.margin, f"such that {at:g} less and plus it are chances between 0 and 1")
    # On the scale of test and interval: the estimate, its standard error, and the way there and back.
    there, back = (special.logit, special.expit) if logit else (np.asarray, lambda end: np.clip(end, 0.0, 1.0))
    error = se / (p * (1 - p)) if logit else se

    def one_sided(null: Floats, direction: str) -> Floats:
        return shared.p_value((there(p) - there(null)) / error, lambda t: student.sf(t, df), direction)

    found = shared.symmetric_test(ask._replace(margin=None), there(p), error, df, there(at))
    beyond = (found.interval.low, found.interval.high)
    limits = shared.agreeing(ask, back(beyond[0]), back(beyond[1]), found.p, at, p)
    cut = not logit and any(np.isfinite(end) and not 0 <= end <= 1 for end in beyond)
    odds = (
        np.divide(end, 1 - end, where=end < 1, out=np.full((), np.inf))
        for end in map(np.asarray, (limits.low, limits.high))
    )
    test = replace(found.test, null=float(at), margin_tests=shared.margin_tests(ask, one_sided, at))
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value", said=", superiority"),
        method=f"chance to have more, {'logit' if logit else 't'} scale",
        source=_SOURCE,
        estimate=float(p),
        se=float(se),
        interval=limits,
        test=test,
        effects={
            "odds": EffectSize(float(p / (1 - p)), ask.interval(*odds), "odds of having more", "ratio"),
            "cliff_delta": as_difference(EffectSize(float(p), limits, "superiority", "share")),
        },
        groups=(quartered(one.label, x), quartered(two.label, y)),
        quantity="superiority",
        checks=(*checks.few(np.asarray(len(one)), np.asarray(len(two))), *checks.missing(one, two)),
        notes=("A limit lies beyond what a chance can be, and is cut there.",) if cut else (),
    )


def _placed(x: order.Values, y: order.Values) -> tuple[Floats, Floats, Floats]:
    """The chance that x is above y, its standard error, and Satterthwaite's degrees of freedom."""
    found = order.wins(x, y)
    p = found.above / (x.total * y.total)
    parts = [
        float(side.times @ (placed - p) ** 2) / (side.total - 1) / side.total
        for side, placed in ((x, found.of_x), (y, found.of_y))
    ]
    variance = sum(parts)
    sizes = (x.total, y.total)
    lack = sum((part / variance) ** 2 / (n - 1) for part, n in zip(parts, sizes, strict=True)) if variance else 1.0
    return np.asarray(p), np.asarray(np.sqrt(variance)), np.asarray(1 / lack)
