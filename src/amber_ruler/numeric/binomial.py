"""Binomial counts: chances, tails, exact limits, and both two-sided conventions."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.numeric.stirling import expm1_less, stirling_error

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

# Outcomes this close in chance count as equally likely: they differ by rounding only.
_TIE = 1e-9


def at_least(x: Floats, n: Floats, share: Floats) -> Floats:
    """P(X >= x) for a binomial count X."""
    inside = np.clip(x, 1, n)
    return np.where(x <= 0, 1.0, np.where(x > n, 0.0, special.betainc(inside, n - inside + 1, share)))


def chance(x: Floats, n: Floats | float, share: Floats | float) -> Floats:
    """P(X = x) for a binomial count X of n >= 1, by Loader's saddle point, which keeps its digits at large n."""
    n = np.maximum(n, 1)
    inside = np.clip(x, 1, np.maximum(n - 1, 1))
    rest = n - inside
    # The two deviances x log(x / np) + np - x: their linear terms cancel.
    deviance = inside * expm1_less(np.log(n * share / inside))
    with np.errstate(divide="ignore", invalid="ignore"):
        deviance = deviance + rest * expm1_less(np.log(n * (1 - share) / rest))
        log_error = stirling_error(np.asarray(n)) - stirling_error(inside) - stirling_error(np.maximum(rest, 1))
        middle = np.exp(log_error - deviance) * np.sqrt(n / (2 * np.pi * inside * rest))
    none, all_ = np.exp(n * np.log1p(-share)), np.exp(n * np.log(share))
    return np.where(x <= 0, none, np.where(x >= n, all_, middle))


def exact_limits(x: Floats, n: Floats, low_tail: float, high_tail: float) -> tuple[Floats, Floats]:
    """The shares at which x or more, or x or fewer, successes have just the chance of a tail; 0 or 1 for a tail of 0.

    References
    ----------
    .. [1] Clopper & Pearson (1934), Biometrika 26, 404-413.
    """
    low, high = np.zeros(np.shape(x)), np.ones(np.shape(x))
    if low_tail > 0:
        low = np.where(x > 0, special.betaincinv(np.maximum(x, 1), n - x + 1, low_tail), 0.0)
    if high_tail > 0:
        high = np.where(x < n, special.betainccinv(x + 1, np.maximum(n - x, 1), high_tail), 1.0)
    return low, high


def at_most(x: Floats, n: Floats, share: Floats) -> Floats:
    """P(X <= x), with the digits of a small share."""
    inside = np.clip(x, 0, n - 1)
    return np.where(x < 0, 0.0, np.where(x >= n, 1.0, special.betaincc(inside + 1, n - inside, share)))


def mid_limits(x: Floats, n: Floats, low_tail: float, high_tail: float) -> tuple[Floats, Floats]:
    """The limits at which the count seen, by half, and all beyond it have just the chance of a tail.

    Each lies between the exact limit of this count and that of the next one further in.

    References
    ----------
    .. [1] Berry & Armitage (1995), The Statistician 44, 417-423.
    """
    exact = exact_limits(x, n, low_tail, high_tail)
    inner = exact_limits(x + 1, n, low_tail, 0)[0], exact_limits(x - 1, n, 0, high_tail)[1]
    low, high = np.zeros(np.shape(x)), np.ones(np.shape(x))
    if low_tail > 0:
        ends = exact[0], np.where(x >= n, 1.0, inner[0])
        found = bracketed_root(lambda p: at_least(x, n, p) + at_least(x + 1, n, p) - 2 * low_tail, *ends)
        low = np.where(x > 0, found, 0.0)
    if high_tail > 0:
        ends = np.where(x <= 0, 0.0, inner[1]), exact[1]
        found = bracketed_root(lambda p: 2 * high_tail - at_most(x, n, p) - at_most(x - 1, n, p), *ends)
        high = np.where(x < n, found, 1.0)
    return low, high


def as_unlikely(x: Floats, n: Floats, share: Floats) -> Floats:
    """Chance of all counts that are no likelier than x: the other two-sided convention; broadcasts.

    On the other side of the mode the chances fall, so that the first count unlikely enough is found by bisection.
    """
    x, n, share = np.broadcast_arrays(x, n, share)
    mode = np.clip(np.floor((n + 1) * share), 0, n)
    own = point(x, n, share) * (1 + _TIE)
    right = x >= mode
    # On the left the last count k <= mode with chance(k) <= own; on the right the first one.
    near, far = mode, np.where(right, -1.0, n + 1)
    while np.any(np.abs(near - far) > 1):
        middle = np.floor((near + far) / 2)
        open_ = np.abs(near - far) > 1
        small = point(middle, n, share) <= own
        far, near = np.where(open_ & small, middle, far), np.where(open_ & ~small, middle, near)
    both = np.where(
        right,
        at_least(x, n, share) + at_least(n - far, n, 1 - share),
        at_least(n - x, n, 1 - share) + at_least(far, n, share),
    )
    return np.where(point(mode, n, share) <= own, 1.0, np.minimum(both, 1.0))


def point(x: Floats, n: Floats, share: Floats) -> Floats:
    """P(X = x), also for shares of 0 and 1."""
    inner = np.clip(share, 1e-300, 1 - 2**-53)
    return np.where((share <= 0) | (n == 0), x == 0, np.where(share >= 1, x == n, chance(x, n, inner)))
