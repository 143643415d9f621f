"""The difference of two shares on the same units."""

from __future__ import annotations

import math
from typing import Literal, TypeAlias, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import Continuity, wilson
from amber_ruler.numeric import binomial, gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.roots import bracketed_number, bracketed_root
from amber_ruler.register import method
from amber_ruler.results import Check, Comparison, EffectSize
from amber_ruler.samples import Pairs
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

Which: TypeAlias = Literal["score", "exact", "mid-p"]
Limited: TypeAlias = Literal["score", "wald", "agresti-min", "newcombe"]

_TESTS = {
    "score": (
        "score test",
        "McNemar (1947), Psychometrika 12, 153-157; Tango (1998), Statistics in Medicine 17, 891-908",
    ),
    "exact": ("exact test of the changes", "McNemar (1947), Psychometrika 12, 153-157"),
    "mid-p": (
        "mid-p test of the changes",
        "Fagerland, Lydersen & Laake (2013), BMC Medical Research Methodology 13, 91",
    ),
}


@method(
    takes="pairs",
    needs="share",
    published=("counts",),
    examples=("--counts 20,15,5,60 --labels after,before",),
)
def paired_proportions(
    both: Pairs | tuple[ArrayLike, ArrayLike, ArrayLike, ArrayLike],
    *,
    labels: tuple[str, str] | None = None,
    test: Which = "score",
    continuity: Continuity | None = None,
    interval: Limited | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Is the share of successes different on two sides of the same units, and by how much?

    Parameters
    ----------
    both : Pairs of 0/1, or four counts
        The pairs, or how many units succeed on both sides, in treatment only, in control only, and on neither.
    labels : pair of str
        What treatment and control are called, where counts are given; pairs have their own.
    test : "score", "exact" or "mid-p"
        The score test with a null of 0 is McNemar's z. The exact one doubles the smaller binomial tail of the changes;
        mid-p counts the outcome seen by half.
    continuity : "none" or "half"
        Whether half a unit is taken from each of the two counts of changes in the z of McNemar's test: the difference
        of the counts, of either sign, loses 1.
    interval : "score", "wald", "agresti-min" or "newcombe", optional
        Of the difference: Tango's score interval unless said, which inverts the score test; the difference ± z times
        its standard error; the same with half a unit more in each of the four counts; or Newcombe's from Wilson's
        intervals of both sides and their correlation, corrected for continuity (his method 10). Where another one than
        the test's own disagrees with the test, a note says so.
    null : float or array_like, between -1 and 1
        Tested difference; the exact and mid-p tests know 0 only.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is -1 or 1.

    Returns
    -------
    Comparison
        Difference with Tango's score interval, test, and the odds ratio of the changes with the interval of its test.

    References
    ----------
    .. [1] McNemar (1947), Psychometrika 12, 153-157.
    .. [2] Tango (1998), Statistics in Medicine 17, 891-908.
    .. [3] Edwards (1948), Psychometrika 13, 185-187, for continuity.
    .. [4] Agresti & Min (2005), Statistics in Medicine 24, 729-740.
    .. [5] Newcombe (1998), Statistics in Medicine 17, 2635-2650, method 10.

    Examples
    --------
    >>> r = paired_proportions((20, 15, 5, 60), labels=("after", "before"))
    >>> round(r.estimate, 3), round(r.statistic, 3), round(r.p_value, 4)
    (0.1, 2.236, 0.0253)
    """
    ask = shared.question(asked)
    gate.choice("test", test, _TESTS)
    shared.unused(test, {"continuity": (continuity, test == "score")})
    half = gate.choice("continuity", continuity or "none", ("none", "half")) == "half"
    kind = gate.choice("interval", interval or "score", ("score", "wald", "agresti-min", "newcombe"))
    cells, named, left_out, unit = _cells(both, labels)
    groups.check_labels(*named)
    yes, b, c, no, at = gate.aligned(*cells, gate.between("null", ask.null, -1, 1))
    shared.shares_within(ask, at)
    n = yes + b + c + no
    estimate = (b - c) / n
    critical = effects.critical_z(ask.tail)

    def one_sided(null: Floats, direction: str) -> Floats:
        return shared.p_value(_score(b, c, n, null), normal.sf, direction)

    against = shared.margin_tests(ask, one_sided, at)
    if test == "score":
        z = _corrected(b, c, at, ask.alternative) if half else _score(b, c, n, at)
        p = shared.p_value(z, normal.sf, ask.alternative)
        tested = ask.test(p, at, statistic=z, name="z", critical=min(critical), margin_tests=against)
    else:
        p = _binomial_p(b, c, at, test, ask.alternative)
        tested = ask.test(p, at, margin_tests=against)
    low, high = _limits(kind, (yes, b, c, no), critical)
    own = test == kind == "score" and not half
    apart = None if own else (f"{kind} interval of the difference", f"the {_TESTS[test][0]}")
    limits, notes = shared.own_or_apart(ask, (low, high), p, at, estimate, apart)
    if np.ndim(n) == 0 and b + c == 0:
        notes = (*notes, "No unit differs between the sides: nothing speaks against equality, and little for it.")
    name = ask.metric or unit or "success"
    return Comparison(
        title=f"{name}: {named[0]} − {named[1]}, in pairs",
        method=f"two proportions of the same units, {_TESTS[test][0]}{', continuity correction' if half else ''}"
        f"{'' if kind == 'score' else f', {kind} interval'}",
        source=_TESTS[test][1],
        metric=name,
        treatment=named[0],
        control=named[1],
        estimate=scalar_or_array(estimate),
        se=scalar_or_array(np.sqrt(np.maximum((b + c) / n - estimate**2, 0.0) / n)),
        interval=limits,
        test=tested,
        paired=True,
        effects=_odds(ask, b, c, p if np.all(at == 0) else None, exact=test != "score"),
        groups=tuple(shared.share_group(label, x, n) for label, x in zip(named, (yes + b, yes + c), strict=True)),
        facts={"treatment_only": scalar_or_array(b), "control_only": scalar_or_array(c)},
        quantity="share",
        margin=ask.margin,
        good=ask.good,
        checks=(*_changes(b + c, test), *checks.without_pair(left_out)),
        notes=(*notes, *shared.margins_by_score(ask, test)),
    )


def _corrected(b: Floats, c: Floats, at: Floats, alternative: str) -> Floats:
    """McNemar's z with a correction for continuity."""
    if np.any(at != 0):
        raise InputError("continuity='half' knows a difference of 0 only.")
    side = {"greater": 1.0, "less": -1.0}.get(alternative)
    away = (b - c) - side if side else np.sign(b - c) * np.maximum(np.abs(b - c) - 1, 0.0)
    return np.where(b + c == 0, 0.0, away / np.sqrt(np.maximum(b + c, 1)))


def _limits(kind: str, cells: tuple[Floats, ...], critical: tuple[float, float]) -> tuple[Floats, Floats]:
    yes, b, c, no = cells
    n = yes + b + c + no
    if kind == "score":
        low, high = (_limit(b, c, n, limit, side) for limit, side in zip(critical, (-1.0, 1.0), strict=True))
        return low, high
    below, above = (min(limit, 1e8) for limit in critical)
    if kind == "newcombe":
        low, high = _newcombe(cells, (below, above))
    else:
        more = 0.5 if kind == "agresti-min" else 0.0
        up, down, size = b + more, c + more, n + 4 * more
        se = np.sqrt(np.maximum(up + down - (up - down) ** 2 / size, 0.0)) / size
        low, high = (up - down) / size - below * se, (up - down) / size + above * se
    low, high = np.maximum(low, -1.0), np.minimum(high, 1.0)
    return np.where(np.isinf(critical[0]), -1.0, low), np.where(np.isinf(critical[1]), 1.0, high)


def _newcombe(cells: tuple[Floats, ...], critical: tuple[float, float]) -> tuple[Floats, Floats]:
    """From Wilson's limits of both sides, squared and added up, less what the sides' correlation takes off."""
    yes, b, c, no = cells
    n = yes + b + c + no
    below, above = critical
    (l1, u1), (l0, u0) = wilson(yes + b, n, (below, above)), wilson(yes + c, n, (above, below))
    away = yes * no - b * c
    margins = (yes + b) * (c + no) * (yes + c) * (b + no)
    with np.errstate(divide="ignore", invalid="ignore"):
        together = np.where(away > 0, np.maximum(away - n / 2, 0.0), away) / np.sqrt(margins)
    phi = np.where(margins == 0, 0.0, together)
    p1, p0 = (yes + b) / n, (yes + c) / n

    def reach(one: Floats, two: Floats) -> Floats:
        return np.sqrt(np.maximum(one**2 - 2 * phi * one * two + two**2, 0.0))

    return (b - c) / n - reach(p1 - l1, u0 - p0), (b - c) / n + reach(u1 - p1, p0 - l0)


def _cells(
    both: Pairs | tuple[ArrayLike, ...], labels: tuple[str, str] | None
) -> tuple[tuple[ArrayLike, ...], tuple[str, str], int, str]:
    if not isinstance(both, Pairs):
        if not isinstance(both, tuple) or len(both) != 4:
            raise InputError(
                "Give four counts: successes on both sides, in treatment only, in control only, on neither."
            )
        cells = tuple(gate.whole("counts", cell) for cell in both)
        if np.any(sum(cells) == 0):
            raise DataError("There are no pairs: all four counts are 0.")
        return cells, labels or ("treatment", "control"), 0, ""
    if labels is not None:
        raise InputError("labels names the sides of counts: pairs have labels of their own.")
    for label, values in zip(both.labels, (both.treatment, both.control), strict=True):
        odd = values[(values != 0) & (values != 1)]
        if odd.size:
            raise DataError(f"Shares take values 0 and 1; {label!r} has {odd.size:,} others such as {odd[0]:g}.")
    if len(both) == 0:
        raise DataError(f"There are no pairs ({both.left_out:,} units have a value on one side only).")
    one, two = both.treatment == 1, both.control == 1
    counted = tuple(float(np.sum(x & y)) for x, y in ((one, two), (one, ~two), (~one, two), (~one, ~two)))
    return counted, both.labels, both.left_out, both.metric


def _score(b: Floats, c: Floats, n: Floats, difference: Floats) -> Floats:
    """Tango's z: the changes less their expectation, at the likeliest share of changes under the difference."""
    half = -(b + c) + (2 * n - b + c) * difference
    root = np.sqrt(np.maximum(half * half + 8 * n * c * difference * (1 - difference), 0.0))
    with np.errstate(divide="ignore", invalid="ignore"):
        # The larger root of 2 n q^2 + half q - c d (1 - d) = 0, without cancellation.
        share = np.where(half <= 0, (root - half) / (4 * n), 2 * c * difference * (1 - difference) / (half + root))
        share = np.maximum(share, np.maximum(0.0, -difference))
        away = b - c - n * difference
        z = away / np.sqrt(n * (2 * share + difference * (1 - difference)))
    return np.where(away == 0, 0.0, z)


def _limit(b: Floats, c: Floats, n: Floats, critical: float, side: float) -> Floats:
    """The difference at which z meets the critical value, on one side of the estimate."""
    estimate: Floats = (b - c) / n
    end: Floats = np.full(np.shape(n), side)
    if not np.isfinite(critical):
        return end

    if np.ndim(n) == 0:
        return np.asarray(_limit_number(float(b), float(c), float(n), critical, side))

    def miss(difference: Floats) -> Floats:
        return np.asarray(np.arctan(_score(b, c, n, difference)) + side * float(np.arctan(critical)))

    found: Floats = np.where(side * miss(end) > 0, end, bracketed_root(miss, estimate, end))
    return found


def _limit_number(b: float, c: float, n: float, critical: float, side: float) -> float:
    """The same of one comparison, by numbers."""

    def miss(difference: float) -> float:
        half = -(b + c) + (2 * n - b + c) * difference
        root = math.sqrt(max(half * half + 8 * n * c * difference * (1 - difference), 0.0))
        share = (root - half) / (4 * n) if half <= 0 else 2 * c * difference * (1 - difference) / (half + root)
        spread = n * (2 * max(share, 0.0, -difference) + difference * (1 - difference))
        return side * (n * difference - (b - c)) - critical * math.sqrt(max(spread, 0.0))

    start = (b - c) / n
    if start == side or miss(side) < 0:
        return side
    if miss(start) == 0:  # nothing spreads at the estimate itself: the limit is off it
        start += side * 1e-12
    return bracketed_number(miss, start, side)


def _binomial_p(b: Floats, c: Floats, at: Floats, test: Which, alternative: str) -> Floats:
    if np.any(at != 0):
        raise InputError(f"test={test!r} knows a difference of 0 only; for others take test='score'.")
    n, even = b + c, np.asarray(0.5)
    own = (0.5 if test == "mid-p" else 0.0) * binomial.point(b, n, even)
    above: Floats = binomial.at_least(b, n, even) - own
    below: Floats = binomial.at_least(c, n, even) - own
    return shared.from_tails(above, below, alternative)


def _odds(ask: shared.Question, b: Floats, c: Floats, p: Floats | None, *, exact: bool) -> dict[str, EffectSize]:
    """Changes up over changes down; limits from the share of changes that go up."""
    n = b + c
    if np.ndim(n) or n == 0 or c == 0:
        return {}
    low, high = binomial.exact_limits(b, n, *ask.tail) if exact else wilson(b, n, effects.critical_z(ask.tail))
    with np.errstate(divide="ignore"):
        low, high = (
            np.where(t > 0, s / (1 - s), e) for t, s, e in zip(ask.tail, (low, high), (0.0, np.inf), strict=True)
        )
    limits = ask.interval(low, high)
    if p is not None and not exact:
        limits = shared.agreeing(ask, low, high, p, 1.0, b / c)
    return {"odds_ratio": EffectSize(float(b / c), limits, "odds ratio of the changes", "ratio")}


def _changes(changed: Floats, test: str) -> tuple[Check, ...]:
    smallest = float(np.min(changed))
    if test != "score" or smallest >= 10:
        return ()
    finding = f"only {smallest:,.0f} units differ between the sides"
    return (Check("changes", finding, "The score test is an approximation there: take test='exact'.", "warning"),)
