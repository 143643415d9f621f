"""Differences that must keep their digits: of products of large counts, and of what is close on a curved scale."""

from __future__ import annotations

from typing import Any

import numpy as np

_SPLIT = 2.0**27 + 1  # into halves of a float's digits, whose products are exact


def difference_of_shares(x1: Any, n1: Any, x0: Any, n0: Any) -> Any:
    """x1 / n1 - x0 / n0, with the digits that large counts would lose to rounding."""
    one, rest1 = exact_product(x1, n0)
    two, rest0 = exact_product(x0, n1)
    return ((one - two) + (rest1 - rest0)) / (n1 * n0)


def exact_product(a: Any, b: Any) -> tuple[Any, Any]:
    """A product and what rounding leaves out of it (Dekker, 1971, Numerische Mathematik 18, 224-242)."""
    product = a * b
    high_a, high_b = a * _SPLIT, b * _SPLIT
    high_a, high_b = high_a - (high_a - a), high_b - (high_b - b)
    low_a, low_b = a - high_a, b - high_b
    return product, ((high_a * high_b - product) + high_a * low_b + low_a * high_b) + low_a * low_b


def arcsine_distance(p1: Any, p0: Any, gap: Any) -> Any:
    """Cohen's h, twice arcsin sqrt(p1) - arcsin sqrt(p0), from both shares and their difference."""
    q1, q0 = 1 - p1, 1 - p0
    sums = np.sqrt(p1 * q0) + np.sqrt(p0 * q1), np.sqrt(q1 * q0) + np.sqrt(p1 * p0)  # of sines, and the cosine
    return np.where(gap == 0, 0.0, 2 * np.arctan2(gap, sums[0] * sums[1]))


def fisher_distance(r1: Any, r0: Any, gap: Any) -> Any:
    """The difference of Fisher's z, artanh r1 - artanh r0, from both correlations and their difference."""
    up, down = gap / ((1 - r1) * (1 + r0)), -gap / ((1 + r1) * (1 - r0))
    return np.where(gap >= 0, 0.5, -0.5) * np.log1p(2 * np.where(gap >= 0, up, down))
