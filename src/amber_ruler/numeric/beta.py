"""Beta distributions of any size: where counts are huge, by an expansion that costs the same as for few."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy import special

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

_LARGE = 1e7  # parameters from which on the expansion has all digits, and the continued fraction takes ever longer
_CLOSE = 0.03  # log odds within which a series keeps the digits that logarithms lose


def divergence(mean: float, t: Floats) -> Floats:
    """log(1 + m(e^t − 1)) − mt: how fast a beta density falls with its distance t from the log odds of its mean m."""
    v, tilt = mean * (1 - mean), 1 - 2 * mean
    # Cumulants of a single trial.
    cumulants = (
        v, v * tilt, v * (1 - 6 * v), v * tilt * (1 - 12 * v), v * (1 - 30 * v + 120 * v * v),
        v * tilt * (1 - 60 * v + 360 * v * v), v * (1 - 126 * v + 1680 * v**2 - 5040 * v**3),
    )  # fmt: skip
    t = np.asarray(t, dtype=np.float64)
    close = np.abs(t) < _CLOSE
    found = np.empty(t.shape)
    if close.any():
        near = t[close]
        series = np.zeros(near.shape)
        for order in range(8, 1, -1):
            series = (series + cumulants[order - 2]) * near / order
        found[close] = series * near
    if not close.all():
        far = t[~close]
        with np.errstate(over="ignore"):
            found[~close] = np.logaddexp(np.log1p(-mean), np.log(mean) + far) - mean * far
    return found


def cdf(x: Floats, a: float, b: float) -> Floats:
    """P(X <= x) for a beta variable.

    References
    ----------
    .. [1] Temme (1992), Journal of Computational and Applied Mathematics 41, 145-157: both parameters large.
    """
    if min(a, b) < _LARGE:
        return np.asarray(special.betainc(a, b, x))
    return _large(x, a, b, 1.0)


def sf(x: Floats, a: float, b: float) -> Floats:
    """P(X > x) for a beta variable."""
    if min(a, b) < _LARGE:
        return np.asarray(special.betaincc(a, b, x))
    return _large(x, a, b, -1.0)


def _large(x: Floats, a: float, b: float, side: float) -> Floats:
    n, mean = a + b, a / (a + b)
    v = mean * (1 - mean)
    inside = (x > 0) & (x < 1)
    t = special.logit(np.where(inside, x, mean)) - np.log(a / b)
    eta = np.sign(t) * np.sqrt(2 * divergence(mean, t))
    root = np.sqrt(v)
    gap = np.where(inside, x, mean) - mean
    near = (1 - 2 * mean) / (3 * root) - (1 - v) / (12 * root) * t
    with np.errstate(divide="ignore", invalid="ignore"):
        rest = np.where(np.abs(eta) < 1e-4, near, 1 / eta - root / gap)
    lift = np.exp(-n * eta * eta / 2) / np.sqrt(2 * np.pi * n) * rest
    found = special.ndtr(side * eta * np.sqrt(n)) + side * lift
    return np.where(inside, np.clip(found, 0.0, 1.0), np.where((x >= 1) == (side > 0), 1.0, 0.0))
