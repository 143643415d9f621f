"""The difference of two proportions."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import partial
from typing import Literal, TypeAlias, Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import Continuity, TwoSided, wilson
from amber_ruler.numeric import gate, normal, score, tables
from amber_ruler.numeric.alike import NUMBERS
from amber_ruler.numeric.exact import difference_of_shares
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.numeric.roots import bracketed_number, bracketed_root
from amber_ruler.register import method
from amber_ruler.results import Check, Comparison, EffectSize, Interval, Test
from amber_ruler.samples import ShareGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithLift

Which: TypeAlias = Literal["score", "n-1", "wald", "exact", "mid-p", "unconditional", "unconditional-fisher"]
Limited: TypeAlias = Literal["score", "miettinen-nurminen", "newcombe", "agresti-caffo", "wald"]

_TESTS = {
    "score": ("score test", "Mee (1984), Biometrics 40, 1175-1176"),
    "n-1": ("score test, N − 1", "Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226"),
    "wald": ("Wald test", "Wald (1943), Transactions of the American Mathematical Society 54, 426-482"),
    "exact": ("Fisher's exact test", "Fisher (1935), Journal of the Royal Statistical Society 98, 39-82"),
    "mid-p": ("Fisher's exact test, mid-p", "Lancaster (1961), JASA 56, 223-234"),
    "unconditional": ("unconditional exact test", "Suissa & Shuster (1985), JRSS A 148, 317-327"),
    "unconditional-fisher": (
        "unconditional exact test, ordered by Fisher's p",
        "Boschloo (1970), Statistica Neerlandica 24, 1-35",
    ),
}


@method(
    takes="two",
    needs="share",
    published=True,
    examples=(
        "travellers.csv --value booked --by form --control current",
        "--successes 60,40 --trials 400,400 --test exact",
    ),
)
def proportions(
    treatment: ShareGroup,
    control: ShareGroup,
    *,
    test: Which = "score",
    two_sided: TwoSided | None = None,
    continuity: Continuity | None = None,
    interval: Limited | None = None,
    **asked: Unpack[WithLift],
) -> Comparison:
    """Is the share of successes in treatment different from that in control, and by how much?

    Parameters
    ----------
    treatment, control : Counts, array_like of 0/1, Sample or Moments
        The two groups. Counts of arrays ask many comparisons at once (of the score and Wald tests).
    test : "score", "n-1", "wald", "exact", "mid-p", "unconditional" or "unconditional-fisher"
        The score test with a null of 0 is the pooled z, whose square is the chi-square of the two by two table; "n-1"
        is the same times sqrt((N - 1) / N). The exact test is Fisher's, given the margins; mid-p counts the table seen
        by half. The unconditional ones are exact without the margins given: tables are ordered by the pooled z, or by
        their p of Fisher's test (Boschloo), of the side or, two-sided, of the tables no likelier.
    two_sided : "likelihood" or "doubled"
        The two-sided p of the exact and mid-p tests: all tables no likelier than the one seen (the default), or twice
        the smaller tail.
    continuity : "none" or "half"
        Whether the difference, in the z of the score and Wald tests, and its interval, is corrected by half a success
        in each group, (1/n1 + 1/n0) / 2 (Yates).
    interval : "score", "miettinen-nurminen", "newcombe", "agresti-caffo" or "wald", optional
        Of the difference; the one that inverts the test if not given, and the score interval for exact tests. Where
        another one disagrees with the test, a note says so.
    null : float or array_like, between -1 and 1
        Tested difference of shares; the exact tests know 0 only.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is -1 or 1.
    margin : float, optional
        The smallest difference that matters (0.01 is one percentage point).
    margin_lift : float, between 0 and 1, optional
        Or instead: the same as a lift, a share of the control's; tested by the score of the ratio.
    metric : str, optional
        What was counted, for the heading.

    Returns
    -------
    Comparison
        Difference with interval, test; lift, risk ratio and odds ratio with score intervals (with Fisher's test the
        odds ratio has its exact one), Cohen h, the number needed.

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
    .. [4] Newcombe (1998), Statistics in Medicine 17, 873-890, method 10.
    .. [5] Agresti & Caffo (2000), The American Statistician 54, 280-288.
    .. [6] Yates (1934), Supplement to the Journal of the Royal Statistical Society 1, 217-235, for continuity.
    .. [7] Altman (1998), BMJ 317, 1309-1312, for the number needed.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportions(Counts(60, 400, "short"), Counts(40, 400, "current"))
    >>> round(r.estimate, 3), round(r.p_value, 4)
    (0.05, 0.0325)
    """
    ask = shared.question(asked)
    gate.choice("test", test, _TESTS)
    given_margins = test in ("exact", "mid-p")
    shared.unused(test, {"two_sided": (two_sided, given_margins)})
    sided = gate.choice("two_sided", two_sided or "likelihood", ("likelihood", "doubled"))
    kind = gate.choice("interval", interval or _OWN.get(test, "score"), _LIMITS)
    shared.unused(test, {"continuity": (continuity, test in ("score", "wald"))})
    half = gate.choice("continuity", continuity or "none", ("none", "half")) == "half"
    if half and kind != test:
        shared.unused(f"{kind} interval beside the {test}", {"continuity": (continuity, False)})
    one, two = groups.two(treatment, control, "share")
    raw = (one.successes, one.trials, two.successes, two.trials, gate.between("null", ask.null, -1, 1))
    x1, n1, x0, n0, at = gate.aligned(*raw)
    counts = (x1, n1, x0, n0)
    shared.shares_within(ask, at)

    estimate = np.asarray(difference_of_shares(*counts))
    critical = effects.critical_z(ask.tail)
    p, tested, facts = _tested(ask, counts, test, sided, at, half=half)
    limits_at = partial(_corrected_limits, kind, counts) if half else partial(_LIMITS[kind], *counts)
    low, high = limits_at(critical)
    low, high = np.where(critical[0] == np.inf, -1.0, low), np.where(critical[1] == np.inf, 1.0, high)
    apart = None if kind == _OWN.get(test) else (f"{kind} interval of the difference", _TESTS[test][0])
    limits, notes = shared.own_or_apart(ask, (low, high), p, at, estimate, apart)
    found, more = _effects(ask, counts, p, test)

    def wide() -> Interval:
        if ask.margin_lift is None:
            return ask.wider(*limits_at(effects.critical_z((ask.alpha, ask.alpha))))
        return _less_one(effects.risk_ratio(*counts, alpha=2 * ask.alpha).interval)

    tested = replace(tested, margin_interval=shared.margin_interval(ask, tested.margin_tests, at, wide))
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "success"),
        method=f"two proportions, {_TESTS[test][0]}{', continuity correction' if half else ''}"
        f"{'' if kind == _OWN.get(test) else f', {kind} interval'}",
        source=_TESTS[test][1],
        estimate=scalar_or_array(estimate),
        se=scalar_or_array(_wald_se(*counts)),
        interval=limits,
        test=tested,
        effects=found | _number_needed(estimate, limits),
        groups=(shared.share_group(one.label, x1, n1), shared.share_group(two.label, x0, n0)),
        facts=facts,
        quantity="share",
        checks=(
            *(_expected_check(counts) if test in _OWN else ()),
            *checks.missing(one, two),
        ),
        notes=(*notes, *more, *shared.margins_by_score(ask, test)),
    )


def _tested(
    ask: shared.Question,
    counts: tuple[Floats, Floats, Floats, Floats],
    test: str,
    sided: str,
    null: Floats,
    *,
    half: bool,
) -> tuple[Floats, Test, dict[str, Number]]:
    """P-value, the test's record, and the chi-square where the test is the familiar one."""
    n = counts[1] + counts[3]
    stretch = np.sqrt(n / (n - 1)) if test == "n-1" else np.asarray(1.0)

    def statistic(null: Floats, direction: str) -> Floats:
        z = (_wald_z if test == "wald" else score.difference_z)(*counts, null) / stretch
        return _corrected_z(counts, null, test, direction) if half else z

    def one_sided(null: Floats, direction: str) -> Floats:
        return shared.p_value(statistic(null, direction), normal.sf, direction)

    def by_lift(lift: float, direction: str) -> Floats:
        return shared.p_value(score.log_risk_ratio(*counts, np.log1p(lift)), normal.sf, direction)

    against = shared.margin_tests(ask, one_sided, null, (counts[2] / counts[3], by_lift))
    if test not in _OWN:
        p = _exact_p(counts, test, ask.alternative, sided, null)
        return p, ask.test(p, null, margin_tests=against), {}
    z = statistic(null, ask.alternative)
    p = shared.p_value(z, normal.sf, ask.alternative)
    critical = min(effects.critical_z(ask.tail))
    familiar = test in ("score", "n-1") and np.ndim(z) == 0 and null == 0 and ask.alternative == "two-sided"
    facts: dict[str, Number] = {"chi_square": float(z) ** 2} if familiar else {}
    return p, ask.test(p, null, statistic=z, name="z", critical=critical, margin_tests=against), facts


def _half_of(counts: tuple[Floats, Floats, Floats, Floats]) -> Floats:
    return (1 / counts[1] + 1 / counts[3]) / 2


def _corrected_z(counts: tuple[Floats, Floats, Floats, Floats], null: Floats, test: str, direction: str) -> Floats:
    """Z of a difference that is nearer to the null, or one-sided further from the alternative, by the correction."""
    away = np.asarray(difference_of_shares(*counts)) - null
    side = {"greater": 1.0, "less": -1.0}.get(direction)
    moved = away - side * _half_of(counts) if side else np.sign(away) * np.maximum(np.abs(away) - _half_of(counts), 0.0)
    if test == "wald":
        return np.asarray(moved / _wald_se(*counts))
    p1, q1, p0, q0 = score.constrained_shares(*counts, null)
    error = np.sqrt(p1 * q1 / counts[1] + p0 * q0 / counts[3])
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(moved == 0, 0.0, moved / error)


def _corrected_limits(
    kind: str, counts: tuple[Floats, Floats, Floats, Floats], critical: tuple[float, float]
) -> tuple[Floats, Floats]:
    """Differences at which the corrected z meets its critical values; an end of the scale where it never does."""
    estimate, half = np.asarray(difference_of_shares(*counts)), _half_of(counts)
    if kind == "wald":
        below, above = (min(c, 1e8) * _wald_se(*counts) + half for c in critical)
        return estimate - below, estimate + above
    ends = []
    for side, c, direction in ((-1.0, critical[0], "greater"), (1.0, critical[1], "less")):
        end = np.full(estimate.shape, side)
        if not np.isfinite(c):
            ends.append(end)
            continue

        if estimate.ndim == 0:
            ends.append(np.asarray(_corrected_limit(tuple(float(v) for v in counts), side, c)))
            continue

        def miss(at: Floats, side: float = side, c: float = c, direction: str = direction) -> Floats:
            z = _corrected_z(counts, at, "score", direction)
            return np.asarray(np.arctan(z) + side * float(np.arctan(c)))

        start, last = np.clip(estimate + side * half, -1.0, 1.0), end * (1 - 1e-15)
        reached = side * miss(last) < 0
        near = np.clip(start + side * (2 * c * _wald_se(*counts) + 4 * half), -1 + 1e-15, 1 - 1e-15)
        found = bracketed_root(miss, start, np.where(side * miss(near) < 0, near, last))
        ends.append(np.where(reached, found, end))
    return ends[0], ends[1]


def _corrected_limit(counts: tuple[float, ...], side: float, critical: float) -> float:
    """One limit of one comparison, by numbers: where the corrected z meets its critical value, or the scale ends."""
    x1, n1, x0, n0 = counts
    half, estimate = (1 / n1 + 1 / n0) / 2, x1 / n1 - x0 / n0

    def miss(at: float) -> float:
        p1, q1, p0, q0 = score.constrained_shares(x1, n1, x0, n0, at, NUMBERS)
        spread = math.sqrt(p1 * q1 / n1 + p0 * q0 / n0)
        return side * (at - estimate) - half - critical * spread

    last = side * (1 - 1e-15)
    if miss(last) < 0:
        return side
    return bracketed_number(miss, min(max(estimate + side * half, -1.0), 1.0), last)


def _wald_z(x1: Floats, n1: Floats, x0: Floats, n0: Floats, null: Floats) -> Floats:
    se = _wald_se(x1, n1, x0, n0)
    if gate.some(se == 0):
        raise DataError(
            "Both groups have one outcome only: Wald's standard error is 0. Take the score or an exact test."
        )
    return np.asarray((difference_of_shares(x1, n1, x0, n0) - null) / se)


def _wald_se(x1: Floats, n1: Floats, x0: Floats, n0: Floats) -> Floats:
    return np.asarray(np.sqrt(x1 * (n1 - x1) / n1**3 + x0 * (n0 - x0) / n0**3))


def _exact_p(counts: tuple[Floats, ...], test: str, alternative: str, two_sided: str, null: Floats) -> Floats:
    if np.ndim(counts[0]):
        raise InputError(f"test={test!r} takes one comparison at a time: its cost grows with the counts.")
    if null != 0:
        raise InputError(f"test={test!r} knows a difference of 0 only; for others take test='score'.")
    x1, n1, x0, n0 = (int(v) for v in counts)
    if test.startswith("unconditional"):
        return np.asarray(tables.unconditional(x1, n1, x0, n0, alternative, by_fisher=test != "unconditional"))
    above, below, unlikely, own = tables.fisher_tails(x1, n1, x0, n0)
    half = 0.5 * own if test == "mid-p" else 0.0
    if two_sided == "likelihood" and alternative == "two-sided":
        return np.asarray(unlikely - half)
    return shared.from_tails(np.asarray(above - half), np.asarray(below - half), alternative)


def _exact_odds(ask: shared.Question, counts: tuple[Floats, ...], *, mid: bool) -> dict[str, EffectSize]:
    """The odds ratio that makes the table likeliest, given its margins, with the exact interval."""
    x1, n1, x0, n0 = (int(v) for v in counts)
    low, high = tables.exact_log_odds(x1, n1, x0, n0, ask.tail, mid=mid)
    value = tables.likeliest_odds(x1, n1, x0, n0)
    limits = ask.interval(np.exp(low), np.exp(high))
    if not np.isfinite(value):
        return {}
    return {"odds_ratio": EffectSize(value, limits, "odds ratio, given the margins", "ratio")}


def _number_needed(estimate: Floats, limits: Interval) -> dict[str, EffectSize]:
    """Units to treat for one success more (or one less, where negative); only where the interval leaves out 0."""
    if np.ndim(estimate) or limits.contains(0.0):
        return {}
    low, high = sorted((1 / float(limits.low), 1 / float(limits.high)))
    value = EffectSize(float(1 / estimate), Interval(low, high, limits.level), "number needed", aside=True)
    return {"number_needed": value}


def _newcombe(x1: Floats, n1: Floats, x0: Floats, n0: Floats, critical: tuple[float, float]) -> tuple[Floats, Floats]:
    p1, p0 = x1 / n1, x0 / n0
    below, above = (min(c, 1e8) for c in critical)
    (l1, u1), (l0, u0) = wilson(x1, n1, (below, above)), wilson(x0, n0, (above, below))
    difference = difference_of_shares(x1, n1, x0, n0)
    return difference - np.hypot(p1 - l1, u0 - p0), difference + np.hypot(u1 - p1, p0 - l0)


def _agresti_caffo(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, critical: tuple[float, float]
) -> tuple[Floats, Floats]:
    p1, p0 = (x1 + 1) / (n1 + 2), (x0 + 1) / (n0 + 2)
    se = np.sqrt(p1 * (1 - p1) / (n1 + 2) + p0 * (1 - p0) / (n0 + 2))
    below, above = (min(c, 1e8) * se for c in critical)
    return np.maximum(p1 - p0 - below, -1.0), np.minimum(p1 - p0 + above, 1.0)


def _wald(x1: Floats, n1: Floats, x0: Floats, n0: Floats, critical: tuple[float, float]) -> tuple[Floats, Floats]:
    se, difference = _wald_se(x1, n1, x0, n0), difference_of_shares(x1, n1, x0, n0)
    below, above = (min(c, 1e8) * se for c in critical)
    return difference - below, difference + above


def _miettinen_nurminen(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, critical: tuple[float, float]
) -> tuple[Floats, Floats]:
    n = n1 + n0
    return score.difference_limits(x1, n1, x0, n0, critical, stretch=np.sqrt(n / (n - 1)))


_LIMITS = {
    "score": score.difference_limits,
    "miettinen-nurminen": _miettinen_nurminen,
    "newcombe": _newcombe,
    "agresti-caffo": _agresti_caffo,
    "wald": _wald,
}


# The interval that inverts each test which has a z.
_OWN = {"score": "score", "n-1": "miettinen-nurminen", "wald": "wald"}


def _effects(
    ask: shared.Question, counts: tuple[Floats, Floats, Floats, Floats], p: Floats, test: str
) -> tuple[dict[str, EffectSize], tuple[str, ...]]:
    ratio = effects.risk_ratio(*counts, alpha=ask.alpha, alternative=ask.alternative)
    lift = scalar_or_array(np.asarray(ratio.value) - 1)
    found = {
        "lift": EffectSize(lift, _less_one(ratio.interval), "lift", "relative"),
        "risk_ratio": ratio,
        "odds_ratio": effects.odds_ratio(*counts, alpha=ask.alpha, alternative=ask.alternative),
        "cohen_h": effects.cohen_h(*counts, alpha=ask.alpha, alternative=ask.alternative),
    }
    notes = []
    if np.ndim(ratio.value) == 0:
        gone = [name for name, effect in found.items() if np.isnan(effect.value)]
        endless = [name for name, effect in found.items() if np.isinf(effect.value)]
        for name in gone:
            del found[name]
        if gone:
            notes.append(f"Without a success in control, or a failure in treatment, there is no {_listed(gone, 'or')}.")
        if endless:
            notes.append(
                f"Without a success in control, or a failure in treatment, {_listed(endless)} have no upper end."
            )
    h = found["cohen_h"].interval
    if gate.some((p < ask.alpha) == ((np.asarray(h.low) <= 0) & (np.asarray(h.high) >= 0))):
        notes.append("The interval of Cohen h comes from the arcsine scale and here disagrees with the score test.")
    if test in ("exact", "mid-p"):
        found |= _exact_odds(ask, counts, mid=test == "mid-p")
    return found, tuple(notes)


def _less_one(ratio: Interval) -> Interval:
    """The interval of a lift from that of the ratio."""
    low, high = (scalar_or_array(np.asarray(end) - 1) for end in (ratio.low, ratio.high))
    return Interval(low, high, ratio.level)


def _listed(names: list[str], word: str = "and") -> str:
    words = [n.replace("_", " ") for n in names]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} {word} {words[-1]}"


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
