"""Roots of many functions at once."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.numeric.gate import Floats


def widened(
    f: Callable[[Floats], Floats], low: Floats, high: Floats, *, step: Floats | float, ends: tuple[float, float]
) -> tuple[Floats, Floats]:
    """Move brackets apart by doubling steps until a rising `f` changes sign in between, or `ends` are met."""
    while True:
        wide_low, wide_high = (f(low) > 0) & (low > ends[0]), (f(high) < 0) & (high < ends[1])
        if not (np.any(wide_low) or np.any(wide_high)):
            return low, high
        low = np.where(wide_low, np.maximum(low - step, ends[0]), low)
        high = np.where(wide_high, np.minimum(high + step, ends[1]), high)
        step = step * 2


def bracketed_root(
    f: Callable[[Floats], Floats], low: Floats, high: Floats, *, rtol: float = 4e-16, steps: int = 120
) -> Floats:
    """Find x in [low, high] with f(x) = 0, elementwise, where f changes sign over the bracket.

    Chandrupatla's method: inverse quadratic interpolation where it is safe, bisection elsewhere.
    `f` takes and returns arrays of the bracket's shape.

    References
    ----------
    .. [1] Chandrupatla (1997), Advances in Engineering Software 28, 145-149.
    """
    a, b = (np.array(x, dtype=np.float64) for x in np.broadcast_arrays(low, high))
    fa, fb = f(a), f(b)
    c, fc = a.copy(), fa.copy()
    t = np.full(a.shape, 0.5)
    root, settled = np.where(np.abs(fa) < np.abs(fb), a, b), (fa == 0) | (fb == 0)
    with np.errstate(all="ignore"):
        for _ in range(steps):
            x = a + t * (b - a)
            fx = f(x)
            same = np.sign(fx) == np.sign(fa)
            c, fc = np.where(same, a, b), np.where(same, fa, fb)
            b, fb = np.where(same, b, a), np.where(same, fb, fa)
            a, fa = x, fx
            # A settled element keeps its root while the others go on.
            root = np.where(settled, root, np.where(np.abs(fa) < np.abs(fb), a, b))
            limit = rtol * np.abs(root) / np.maximum(np.abs(b - a), 1e-320) + 1e-300
            settled |= (2 * limit > 1) | (fa == 0) | (fb == 0)
            if settled.all():
                break
            # Inverse quadratic interpolation is monotone over the bracket only under this test.
            xi, phi = (a - b) / (c - b), (fa - fb) / (fc - fb)
            safe = (phi**2 < xi) & ((1 - phi) ** 2 < 1 - xi)
            t = np.where(
                safe, fa / (fb - fa) * fc / (fb - fc) + (c - a) / (b - a) * fa / (fc - fa) * fb / (fc - fb), 0.5
            )
            t = np.clip(np.where(np.isfinite(t), t, 0.5), limit, 1 - limit)
    return root


def bracketed_number(
    f: Callable[[float], float], low: float, high: float, *, rtol: float = 4e-16, steps: int = 120
) -> float:
    """Find one x in [low, high] with f(x) = 0 by the same method: for a single number it is 20 times faster."""
    a, b, fa, fb = low, high, f(low), f(high)
    c, fc, t = a, fa, 0.5
    for _ in range(steps):
        if fa == 0 or fb == 0:
            break
        x = a + t * (b - a)
        fx = f(x)
        if (fx > 0) == (fa > 0):
            c, fc = a, fa
        else:
            c, b, fc, fb = b, a, fb, fa
        a, fa = x, fx
        root = a if abs(fa) < abs(fb) else b
        limit = rtol * abs(root) / max(abs(b - a), 1e-320) + 1e-300
        if 2 * limit > 1:
            break
        xi, phi = (a - b) / (c - b), (fa - fb) / (fc - fb) if fc != fb else 2.0
        t = 0.5
        if phi * phi < xi and (1 - phi) ** 2 < 1 - xi:
            t = fa / (fb - fa) * fc / (fb - fc) + (c - a) / (b - a) * fa / (fc - fa) * fb / (fc - fb)
        t = min(max(t, limit), 1 - limit)
    return a if abs(fa) < abs(fb) else b


def nearly_straight(f: Callable[[float], float], guess: float, slope: float) -> float | None:
    """Find x with f(x) = 0 by secants, where f is nearly a line of known slope; None if that does not settle soon."""
    x, fx = guess, f(guess)
    for _ in range(15):
        step = -fx / slope
        if not math.isfinite(step):
            return None
        if abs(step) <= 2e-15 * abs(x):
            return x
        new = x + step
        there = f(new)
        if abs(there) >= abs(fx):
            return x if abs(step) < 1e-12 * abs(x) else None
        slope, x, fx = (there - fx) / (new - x), new, there
    return None


@lru_cache(maxsize=32)
def _chebyshev(count: int) -> tuple[Floats, Floats]:
    """Nodes, and what makes coefficients of Chebyshev polynomials of the values there."""
    angles = np.pi * (np.arange(count) + 0.5) / count
    k = np.arange(count)
    return np.cos(angles), np.cos(np.outer(k, angles)) * np.where(k > 0, 2, 1)[:, None] / count


def root_of_smooth(
    f: Callable[[Floats], Floats], low: float, high: float, *, smooth_above: float, atol: float
) -> float | None:
    """Find where something that rises and is smooth is 0, from one call; None where it is not so smooth, or not there.

    The root is that of a polynomial through its values, as long as is needed where the function is smooth above some
    value; its last coefficients say how well it follows.
    """
    middle, half = (low + high) / 2, (high - low) / 2
    # Coefficients of such a function fall by this factor, each from the one before (Bernstein).
    falls = math.log(max(2 * (middle - smooth_above) / half, 4.0))
    nodes, transform = _chebyshev(min(math.ceil(36 / falls) + 2, 16))
    terms = (transform @ f(middle + half * nodes)).tolist()

    def value(x: float) -> float:
        one, two = 0.0, 0.0  # Clenshaw's sum
        for term in terms[:0:-1]:
            one, two = term + 2 * x * one - two, one
        return float(terms[0] + x * one - two)

    if not (terms[1] > 0 and half * (abs(terms[-1]) + abs(terms[-2])) <= atol * terms[1]):
        return None
    if not value(-1.0) <= 0 <= value(1.0):
        return None
    return middle + half * bracketed_number(value, -1.0, 1.0, rtol=1e-15)
