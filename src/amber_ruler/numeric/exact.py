"""Products of large counts whose difference must keep its digits."""

from __future__ import annotations

from typing import Any

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
