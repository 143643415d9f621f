"""The share of successes in one group."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, TypeAlias, Unpack

import numpy as np
from scipy import special

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import binomial, gate, normal
from amber_ruler.numeric.exact import arcsine_distance, exact_product
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import EffectSize, Estimate, Test
from amber_ruler.samples import ShareGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

Limits: TypeAlias = Callable[[Floats, Floats, tuple[float, float]], tuple[Floats, Floats]]
Which: TypeAlias = Literal["score", "exact", "mid-p", "wald"]
Limited: TypeAlias = Literal["wilson", "clopper-pearson", "mid-p", "jeffreys", "agresti-coull", "wald"]
TwoSided: TypeAlias = Literal["doubled", "likelihood"]
Continuity: TypeAlias = Literal["none", "half"]

_TESTS = {
    "score": ("score z", "Wilson (1927), Journal of the American Statistical Association 22, 209-212"),
    "doubled": ("exact binomial test, tails doubled", "Clopper & Pearson (1934), Biometrika 26, 404-413"),
    "likelihood": (
        "exact binomial test, outcomes no likelier than the one seen",
        "Sterne (1954), Biometrika 41, 275",
    ),
    "mid-p": ("binomial test, mid-p", "Lancaster (1961), Journal of the American Statistical Association 56, 223-234"),
    "wald": ("Wald z", "Wald (1943), Transactions of the American Mathematical Society 54, 426-482"),
}
_OWN = {"score": "wilson", "exact": "clopper-pearson", "mid-p": "mid-p", "wald": "wald"}


@method(
    takes="one",
    needs="share",
    published=True,
    examples=("--successes 15 --trials 50 --null 0.2 --test exact",),
    defaults={"null": None},
)
def proportion(
    group: ShareGroup,
    *,
    test: Which = "score",
    two_sided: TwoSided | None = None,
    continuity: Continuity | None = None,
    interval: Limited | None = None,
    **asked: Unpack[WithMargin],
) -> Estimate:
    """What is the share of successes in one group, and does it differ from a given share?

    Parameters
    ----------
    group : Counts, array_like of 0/1, Sample or Moments
        The group. Counts of arrays ask many questions at once.
    test : "score", "exact", "mid-p" or "wald"
        The exact one is binomial; mid-p counts the outcome seen by half, which holds the error rate on average only.
    two_sided : "doubled" or "likelihood"
        An exact two-sided p: twice the smaller tail (the default), or all outcomes that are no likelier than the one
        seen.
    continuity : "none" or "half"
        Whether the score or Wald z, and its interval, are corrected by half a success.
    interval : "wilson", "clopper-pearson", "mid-p", "jeffreys", "agresti-coull" or "wald", optional
        The one that goes with the test if not given: Wilson's with the score test, Clopper and Pearson's with the exact
        one, that of mid-p with its own. Another one may disagree with the test, and a note then says so.
    null : float or array_like between 0 and 1, optional
        Share to test against; without one there is an interval and no test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is 0 or 1.

    Returns
    -------
    Estimate
        Share with interval; with a null also the test and Cohen h.

    Raises
    ------
    DataError
        If values are other than 0 and 1, or the group is empty.
    InputError
        If counts contradict themselves, or an argument is out of its range.

    References
    ----------
    .. [1] Wilson (1927), Journal of the American Statistical Association 22, 209-212.
    .. [2] Clopper & Pearson (1934), Biometrika 26, 404-413.
    .. [3] Brown, Cai & DasGupta (2001), Statistical Science 16, 101-133, for all five intervals.
    .. [4] Newcombe (1998), Statistics in Medicine 17, 857-872, for the continuity correction.
    .. [5] Berry & Armitage (1995), The Statistician 44, 417-423, for mid-p.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportion(Counts(15, 50, "short"), null=0.2)
    >>> round(r.interval.low, 4), round(r.interval.high, 4), round(r.p_value, 4)
    (0.191, 0.4375, 0.0771)
    """
    ask = shared.question(asked)
    kind, sided, half = _conventions(test, interval, two_sided, continuity)
    said, source = _TESTS[sided if test == "exact" else test]
    one = groups.one(group, "share")
    at = shared.null_of(ask.null, gate.between, 0, 1)
    x, n, share0 = gate.aligned(one.successes, one.trials, 0.5 if at is None else at)
    shared.shares_within(ask, np.zeros(()))
    share = x / n
    if "wald" in (test, kind) and np.any((x == 0) | (x == n)):
        raise DataError(
            f"{one.label!r} has only one outcome: Wald's standard error is 0. Take a score or an exact test."
        )
    critical = effects.critical_z(ask.tail)
    low, high = _limits(kind, x, n, ask.tail, half)
    limits, tested = ask.interval(low, high), None
    notes: tuple[str, ...] = ()
    if at is not None:
        p, tested = _tested(ask, test, sided, x, n, share0, half)
        inverts = kind == _OWN[test] and sided == "doubled"
        apart = None if inverts else (f"{kind} interval", f"the {said}")
        limits, notes = shared.own_or_apart(ask, (low, high), p, share0, share, apart)
    name = groups.named(ask.metric, "success", one)
    return Estimate(
        title=f"{name}: share of {one.label}",
        method=f"one proportion, {said + ', ' if at is not None else ''}{kind} interval",
        source=source,
        metric=name,
        label=one.label,
        estimate=scalar_or_array(share),
        se=scalar_or_array(np.sqrt(share * (1 - share) / n)),
        interval=limits,
        test=tested,
        effects={} if at is None else _distance(ask, share, share0, n, critical),
        groups=(shared.share_group(one.label, x, n),),
        quantity="share",
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        checks=checks.missing(one),
        notes=notes,
    )


def _conventions(
    test: Which, interval: Limited | None, two_sided: TwoSided | None, continuity: Continuity | None
) -> tuple[str, str, float]:
    """Give the kind of interval, how a p has two sides, and the part of a success that corrects."""
    gate.choice("test", test, _OWN)
    kind = gate.choice("interval", interval or _OWN[test], _LIMITS)
    exact = test in ("exact", "mid-p")
    shared.unused(test, {"two_sided": (two_sided, test == "exact"), "continuity": (continuity, not exact)})
    sided = gate.choice("two_sided", two_sided or "doubled", ("doubled", "likelihood"))
    half = 0.5 if gate.choice("continuity", continuity or "none", ("none", "half")) == "half" else 0.0
    if half and kind not in _HALVED:
        shared.unused(f"{kind} interval beside the {test}", {"continuity": (continuity, False)})
    return kind, sided, half


def _limits(kind: str, x: Floats, n: Floats, tail: tuple[float, float], half: float) -> tuple[Floats, Floats]:
    """Both limits; an open end is 0 or 1."""
    low, high = _HALVED[kind](x, n, effects.critical_z(tail), half) if kind in _HALVED else _LIMITS[kind](x, n, tail)
    return np.where(tail[0] == 0, 0.0, low), np.where(tail[1] == 0, 1.0, high)


def _distance(
    ask: shared.Question, share: Floats, null: Floats, n: Floats, critical: tuple[float, float]
) -> dict[str, EffectSize]:
    """Cohen h from the share tested."""
    h = np.asarray(arcsine_distance(share, null, share - null))
    ends = (h + side * c / np.sqrt(n) for side, c in zip((-1, 1), critical, strict=True))
    return {"cohen_h": EffectSize(scalar_or_array(h), ask.interval(*ends), "Cohen h")}


def _tested(
    ask: shared.Question, test: str, sided: str, x: Floats, n: Floats, share: Floats, half: float
) -> tuple[Floats, Test]:
    """P-value, and the test's record."""
    if test in ("exact", "mid-p"):
        above, below = binomial.at_least(x, n, share), binomial.at_most(x, n, share)
        if test == "mid-p":
            above = (above + binomial.at_least(x + 1, n, share)) / 2
            below = (below + binomial.at_most(x - 1, n, share)) / 2
        p = shared.from_tails(above, below, ask.alternative)
        if sided == "likelihood" and ask.alternative == "two-sided":
            p = binomial.as_unlikely(x, n, share)
        return p, ask.test(p, share)
    own = x / n if test == "wald" else share
    expected, rest = exact_product(n, share)
    away = (x - expected) - rest
    # The correction never carries the count past the share tested; it counts against the direction asked.
    side = {"greater": 1.0, "less": -1.0}.get(ask.alternative)
    away = np.sign(away) * np.maximum(np.abs(away) - half, 0) if side is None else away - side * half
    with np.errstate(divide="ignore", invalid="ignore"):
        z = np.where(away == 0, 0.0, away / np.sqrt(n * own * (1 - own)))
    p = shared.p_value(z, normal.sf, ask.alternative)
    return p, ask.test(p, share, statistic=z, name="z", critical=min(effects.critical_z(ask.tail)))


def wilson(x: Floats, n: Floats, critical: tuple[float, float], half: float = 0.0) -> tuple[Floats, Floats]:
    """Shares at which the score z, corrected by `half` a success, meets its critical values."""
    below, above = (min(c, 1e8) for c in critical)
    less, more = np.maximum(x - half, 0.0), np.minimum(x + half, n)
    # The roots p of (x - n p)^2 = c^2 n p (1 - p), written without cancellation.
    low = less * less / n / (less + below**2 / 2 + _wilson_root(less, n, below))
    high = (more + above**2 / 2 + _wilson_root(more, n, above)) / (n + above**2)
    return np.where(x == 0, 0.0, low), np.where(x == n, 1.0, high)


def _wilson_root(x: Floats, n: Floats, c: float) -> Floats:
    return np.asarray(c * np.sqrt(c * c / 4 + x * (n - x) / n))


def _wald(x: Floats, n: Floats, critical: tuple[float, float], half: float) -> tuple[Floats, Floats]:
    share = x / n
    spread = np.sqrt(share * (1 - share) / n)
    below, above = (min(c, 1e8) * spread + half / n for c in critical)
    return share - below, share + above


def _jeffreys(x: Floats, n: Floats, tail: tuple[float, float]) -> tuple[Floats, Floats]:
    low = np.where(x == 0, 0.0, special.betaincinv(x + 0.5, n - x + 0.5, max(tail[0], 1e-300)))
    high = np.where(x == n, 1.0, special.betainccinv(x + 0.5, n - x + 0.5, max(tail[1], 1e-300)))
    return low, high


def _agresti_coull(x: Floats, n: Floats, tail: tuple[float, float]) -> tuple[Floats, Floats]:
    ends = []
    for side, critical in zip((-1, 1), effects.critical_z(tail), strict=True):
        c = min(critical, 1e8)
        more = n + c * c
        share = (x + c * c / 2) / more
        ends.append(np.clip(share + side * c * np.sqrt(share * (1 - share) / more), 0.0, 1.0))
    return ends[0], ends[1]


_HALVED = {"wilson": wilson, "wald": _wald}
_LIMITS: dict[str, Limits] = {
    "wilson": lambda x, n, tail: wilson(x, n, effects.critical_z(tail)),
    "wald": lambda x, n, tail: _wald(x, n, effects.critical_z(tail), 0.0),
    "clopper-pearson": lambda x, n, tail: binomial.exact_limits(x, n, *tail),
    "mid-p": lambda x, n, tail: binomial.mid_limits(x, n, *tail),
    "jeffreys": _jeffreys,
    "agresti-coull": _agresti_coull,
}
