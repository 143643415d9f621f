"""Where two distributions are furthest apart."""

from __future__ import annotations

import math
from typing import Literal, Unpack

import numpy as np
from scipy import special

from amber_ruler.effects import Alternative
from amber_ruler.errors import InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.ranks import quartered
from amber_ruler.numeric import gate
from amber_ruler.numeric import ranks as order
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Comparison
from amber_ruler.samples import ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Directed

_MOST_EXACT = 1_000_000  # steps of paths that are counted
_SOURCE = (
    "Smirnov (1939), Bulletin Mathématique de l'Université de Moscou 2; Hodges (1958), Arkiv för Matematik 3, 469-486"
)


@method(
    takes="two",
    examples=("travellers.csv --value minutes_to_book --by form --control current",),
    exempt={
        "null": "the tested distance is 0",
        "shift": "a distance of shares does not move with the values",
        "rescale": "a distance of shares has no unit",
    },
)
def distributions(
    treatment: ValueGroup,
    control: ValueGroup,
    *,
    test: Literal["exact", "asymptotic"] | None = None,
    alternative: Alternative = "two-sided",
    **asked: Unpack[Directed],
) -> Comparison:
    """Do the values of treatment and control have one distribution, and where are the two furthest apart?

    Parameters
    ----------
    treatment, control : array_like or Sample
        The values of the two groups.
    test : "exact" or "asymptotic", optional
        If not given, exact where n1 n0 is at most 1,000,000. The exact test counts the ways in which the values, as
        they are tied, can be dealt out.
    alternative : "two-sided", "greater" or "less"
        "greater" looks for values of treatment that tend to be above: its share below a value is smaller.

    Returns
    -------
    Comparison
        The largest distance of the share of control up to a value from that of treatment (above 0 where treatment
        tends to be above), with the test of Kolmogorov and Smirnov. In `facts` the distance D of the test, the value
        at which it is reached, and the largest distances in both directions.

    Notes
    -----
    The interval takes from the distance, and adds to it, the largest one that the exact (or asymptotic) test does not
    reject: with both distributions alike that bound is not passed with probability 1 - alpha, and otherwise it is
    about right. It excludes 0 exactly when p < alpha. Asymptotic p-values are those of the supremum of a Brownian
    bridge, with n1 n0 / (n1 + n0) units, and are too large for tied values.

    References
    ----------
    .. [1] Smirnov (1939), Bulletin Mathématique de l'Université de Moscou 2, fascicle 2.
    .. [2] Hodges (1958), Arkiv för Matematik 3, 469-486, for the paths.

    Examples
    --------
    >>> r = distributions([3.1, 4.4, 5.2, 6.0, 7.3], [1.2, 2.5, 2.9, 3.6, 4.1])
    >>> r.estimate, r.facts["D"], round(r.p_value, 4)
    (0.8, 0.8, 0.0794)
    """
    ask = shared.question(asked, alternative=alternative)
    if test is not None:
        gate.choice("test", test, ("exact", "asymptotic"))
    one, two = groups.two(treatment, control, "values")
    x, y = order.ordered(one.values), order.ordered(two.values)
    n1, n0 = len(one), len(two)
    exact = test != "asymptotic" and n1 * n0 <= _MOST_EXACT
    if test == "exact" and not exact:
        raise InputError(f"{n1 * n0:,} steps are too many for the exact test: take test='asymptotic'.")
    at = np.union1d(x.at, y.at)
    # Whole numbers, so that equal distances are equal: n0 times treatment's count less n1 times control's.
    upto1, upto0 = (v.before[np.searchsorted(v.at, at, side="right")] for v in (x, y))
    gap = n1 * upto0 - n0 * upto1
    above, below = float(np.max(gap)), float(-np.min(gap))
    furthest = int(
        np.argmax(np.abs(gap)) if alternative == "two-sided" else np.argmax(gap if alternative == "greater" else -gap)
    )
    reached = {"greater": max(above, 0.0), "less": max(below, 0.0)}.get(alternative, max(above, below))
    sizes = np.diff(np.append(0.0, upto1 + upto0))
    p = _p(reached, n1, n0, sizes, alternative, exact=exact)
    bound = _bound(ask.alpha, n1, n0, sizes, alternative, exact=exact)
    whole = float(n1 * n0)
    sign = 1.0 if gap[furthest] >= 0 else -1.0
    if alternative != "two-sided":
        sign = 1.0 if alternative == "greater" else -1.0
    estimate = sign * reached / whole
    low, high = max(estimate - bound / whole, -1.0), min(estimate + bound / whole, 1.0)
    low, high = (low if ask.tail[0] > 0 else -1.0), (high if ask.tail[1] > 0 else 1.0)
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value", said=", by distribution"),
        method=f"largest distance of two distributions, {'exact' if exact else 'asymptotic'}",
        source=_SOURCE,
        estimate=estimate,
        interval=shared.agreeing(ask, *map(np.asarray, (low, high, p, 0.0, estimate))),
        test=ask.test(p, 0.0, statistic=reached / whole, name="D"),
        groups=(quartered(one.label, x), quartered(two.label, y)),
        facts={"D": reached / whole, "at": float(at[furthest]), "above": above / whole, "below": below / whole},
        quantity="distance",
        checks=checks.missing(one, two),
    )


def _p(reached: float, n1: int, n0: int, sizes: Floats, alternative: str, *, exact: bool) -> float:
    """Chance of a distance of so many steps or more."""
    if reached <= 0:
        return 1.0
    if exact:
        return _paths(reached, n1, n0, sizes, alternative)
    scaled = reached / (n1 * n0) * math.sqrt(n1 * n0 / (n1 + n0))
    return float(special.kolmogorov(scaled)) if alternative == "two-sided" else math.exp(-2 * scaled**2)


def _paths(reached: float, n1: int, n0: int, sizes: Floats, alternative: str) -> float:
    """Share of all ways to deal the values out, in their order, that come so far apart where no tie is half dealt.

    Written as the chance of the ways that cross, so that the far tails keep their digits.
    """
    inside, crossed = np.zeros(n1 + 1), 0.0  # chance that so many of those dealt are of treatment, never so far apart
    inside[0] = 1.0
    dealt, counts = 0, np.arange(n1 + 1.0)
    for size in sizes.astype(int):
        for _ in range(size):  # the next value is of treatment as likely as those left say
            left = n1 + n0 - dealt
            goes = inside * (n1 - counts) / left
            stays = inside * np.maximum(n0 - (dealt - counts), 0.0) / left
            inside = stays
            inside[1:] += goes[:-1]
            dealt += 1
        gap = n1 * (dealt - counts) - n0 * counts
        away = {"greater": gap, "less": -gap}.get(alternative, np.abs(gap))
        out = away >= reached - 0.5
        crossed += float(inside[out].sum())
        inside[out] = 0.0
    return min(crossed, 1.0)


def _bound(alpha: float, n1: int, n0: int, sizes: Floats, alternative: str, *, exact: bool) -> float:
    """The largest distance that the test does not reject."""
    step = math.gcd(n1, n0)
    low, high = 0, n1 * n0 // step + 1
    while high - low > 1:
        middle = (low + high) // 2
        if _p(middle * step, n1, n0, sizes, alternative, exact=exact) < alpha:
            high = middle
        else:
            low = middle
    return float(low * step)
