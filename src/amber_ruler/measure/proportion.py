"""The share of successes in one group."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, TypeAlias

import numpy as np
from scipy import special

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import binomial, gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import EffectSize, Estimate, Interval
from amber_ruler.samples import ShareGroup, counts_of

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import ArrayLike

    from amber_ruler.effects import Alternative

    Limits: TypeAlias = Callable[[Floats, Floats, tuple[float, float]], tuple[Floats, Floats]]

Test: TypeAlias = Literal["score", "exact", "exact-likelihood", "wald"]
Kind: TypeAlias = Literal["wilson", "clopper-pearson", "jeffreys", "agresti-coull", "wald"]

_TESTS = {
    "score": ("score z", "Wilson (1927), Journal of the American Statistical Association 22, 209-212"),
    "exact": ("exact binomial test, tails doubled", "Clopper & Pearson (1934), Biometrika 26, 404-413"),
    "exact-likelihood": (
        "exact binomial test, outcomes no likelier than the one seen",
        "Sterne (1954), Biometrika 41, 275",
    ),
    "wald": ("Wald z", "Wald (1943), Transactions of the American Mathematical Society 54, 426-482"),
}
_OWN = {"score": "wilson", "exact": "clopper-pearson", "exact-likelihood": "clopper-pearson", "wald": "wald"}


def proportion(
    group: ShareGroup,
    *,
    alpha: float = 0.05,
    null: ArrayLike | None = None,
    alternative: Alternative = "two-sided",
    test: Test = "score",
    interval: Kind | None = None,
    continuity: bool = False,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Estimate:
    """What is the share of successes in one group, and does it differ from a given share?

    Parameters
    ----------
    group : Counts, array_like of 0/1, Sample or Moments
        The group. Counts of arrays ask many questions at once.
    alpha : float, between 0 and 0.5
        Error rate of the test; the interval has level 1 - alpha.
    null : float or array_like between 0 and 1, optional
        Share to test against; without one there is an interval and no test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is 0 or 1.
    test : "score", "exact", "exact-likelihood" or "wald"
        The exact binomial test doubles the smaller tail, or adds up all outcomes that are no likelier.
    interval : "wilson", "clopper-pearson", "jeffreys", "agresti-coull" or "wald", optional
        The one that goes with the test if not given: Wilson's with the score test, Clopper and Pearson's with an exact
        one. Another one may disagree with the test, and a note then says so.
    continuity : bool
        Whether the score or Wald z, and its interval, are corrected by half a success.
    margin, good, metric
        As for `means`.

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

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportion(Counts(15, 50, "short"), null=0.2)
    >>> round(r.interval.low, 4), round(r.interval.high, 4), round(r.p_value, 4)
    (0.191, 0.4375, 0.0771)
    """
    tail = effects.tails(alpha, alternative)
    gate.choice("test", test, _TESTS)
    gate.choice("good", good, shared.DIRECTIONS)
    kind = gate.choice("interval", interval or _OWN[test], _LIMITS)
    one = counts_of(group, "group")
    at = None if null is None else gate.between("null", null, 0, 1)
    x, n, share0 = gate.aligned(one.successes, one.trials, 0.5 if at is None else at)
    share, half = x / n, 0.5 if continuity else 0.0
    if "wald" in (test, kind) and np.any((x == 0) | (x == n)):
        raise DataError(
            f"{one.label!r} has only one outcome: Wald's standard error is 0. Take a score or an exact test."
        )
    z, p = _test(test, x, n, share0, alternative, half)
    critical = effects.critical_z(tail)
    low, high = _LIMITS[kind](x, n, tail) if kind not in _HALVED else _HALVED[kind](x, n, critical, half)
    low = np.where(critical[0] == np.inf, 0.0, low)
    high = np.where(critical[1] == np.inf, 1.0, high)
    notes: tuple[str, ...] = ()
    limits = Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)
    fields = {}
    found: dict[str, EffectSize] = {}
    if at is not None:
        if kind == _OWN[test] and test != "exact-likelihood":
            limits = shared.agreeing(low, high, p, share0, alpha, share)
        elif np.any((p < alpha) == limits.contains(share0)):
            notes = (f"The {kind} interval and the {_TESTS[test][0]} are built apart and here disagree.",)
        fields = {"p_value": scalar_or_array(p), "null": scalar_or_array(share0)}
        if z is not None:
            fields |= {
                "statistic": scalar_or_array(z),
                "critical": shared.critical_of(min(critical), alternative),
            }
        h = 2 * (np.arcsin(np.sqrt(share)) - np.arcsin(np.sqrt(share0)))
        below, above = (scalar_or_array(h + side * c / np.sqrt(n)) for side, c in zip((-1, 1), critical, strict=True))
        found["cohen_h"] = EffectSize(scalar_or_array(h), Interval(below, above, 1 - alpha), "Cohen h")
    name = metric or one.metric or "success"
    return Estimate(
        title=f"{name}: share of {one.label}",
        method=f"one proportion, {_TESTS[test][0] + ', ' if at is not None else ''}{kind} interval",
        source=_TESTS[test][1],
        metric=name,
        label=one.label,
        estimate=scalar_or_array(share),
        interval=limits,
        statistic_name="z",
        alpha=alpha,
        alternative=alternative,
        effects=found,
        groups=(shared.share_group(one.label, x, n),),
        quantity="share",
        margin=shared.settle_margin(margin),
        good=good,
        checks=checks.missing(one),
        notes=notes,
        **fields,  # type: ignore[arg-type]
    )


def _test(
    test: str, x: Floats, n: Floats, share: Floats, alternative: str, half: float
) -> tuple[Floats | None, Floats]:
    """Statistic, where there is one, and p-value."""
    if test.startswith("exact"):
        above, below = binomial.at_least(x, n, share), binomial.at_least(n - x, n, 1 - share)
        if test == "exact-likelihood" and alternative == "two-sided":
            return None, binomial.as_unlikely(x, n, share)
        return None, shared.from_tails(above, below, alternative)
    own = x / n if test == "wald" else share
    away = x - n * share
    # The correction never carries the count past the share tested; it counts against the direction asked.
    side = {"greater": 1.0, "less": -1.0}.get(alternative)
    away = np.sign(away) * np.maximum(np.abs(away) - half, 0) if side is None else away - side * half
    with np.errstate(divide="ignore", invalid="ignore"):
        z = np.where(away == 0, 0.0, away / np.sqrt(n * own * (1 - own)))
    return z, shared.p_value(z, normal.sf, alternative)


def wilson(x: Floats, n: Floats, critical: tuple[float, float], half: float = 0.0) -> tuple[Floats, Floats]:
    """Shares at which the score z, corrected by `half` a success, meets its critical values."""
    below, above = (min(c, 1e8) for c in critical)
    low = _wilson_end(x - half, n, below)
    high = 1 - _wilson_end(n - x - half, n, above)
    return np.where(x == 0, 0.0, low), np.where(x == n, 1.0, high)


def _wilson_end(x: Floats, n: Floats, c: float) -> Floats:
    """The smaller root p of (x - n p)^2 = c^2 n p (1 - p), written without cancellation."""
    x = np.maximum(x, 0.0)
    root = c * np.sqrt(c * c / 4 + x * (n - x) / n)
    return x * x / n / (x + c * c / 2 + root)


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
    "jeffreys": _jeffreys,
    "agresti-coull": _agresti_coull,
}
