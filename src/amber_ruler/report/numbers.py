"""How a number is drawn: rounded here and nowhere else.

An estimate and its limits share their decimals: enough for three digits of the interval's half-width, the part
that carries the uncertainty (Particle Data Group, Review of Particle Physics, section 5.3, asks for two to
three). A number alone shows three significant digits, or all digits before the point if there are more.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Number

SMALLEST_P = 1e-4
NO_LIMIT = "no limit"


def number(value: float, *, digits: int = 3) -> str:
    """Format one number with at least `digits` significant digits.

    Examples
    --------
    >>> [number(x) for x in (0.023, 12345.678, 0.0, 1e-300, -2.5, 1e300)]
    ['0.0230', '12,346', '0', '1.00e-300', '−2.50', '1.00e+300']
    """
    if not math.isfinite(value):
        return _endless(value)
    if value == 0:
        return "0"
    return fixed(value, _decimals(value, digits))


def whole(value: Number) -> str:
    """Format a count.

    Examples
    --------
    >>> whole(12345)
    '12,345'
    """
    return f"{int(value):,}" if float(value).is_integer() else number(float(value))


def together(*values: float, width: float | None = None, digits: int = 3, apart: float | None = None) -> list[str]:
    """Format numbers that are read side by side, with common decimals; none is rounded onto or across `apart`.

    Examples
    --------
    >>> together(1.1999999, 0.213516, 2.186484)
    ['1.200', '0.214', '2.186']
    >>> together(-1.3, -2.61, -0.0004, apart=0.0)
    ['−1.3000', '−2.6100', '−0.0004']
    """
    finite = [v for v in values if math.isfinite(v)]
    if not finite:
        return [_endless(v) for v in values]
    spread = width if width is not None else (max(finite) - min(finite)) / 2
    if not spread > 0 or not math.isfinite(spread):
        return [number(v, digits=digits) for v in values]
    decimals = _decimals(spread, digits)
    if apart is not None:
        while decimals < 9 and any(v != apart and fixed(v, decimals) == fixed(apart, decimals) for v in finite):
            decimals += 1
    # An estimate far from 0 must still show its own digits; one close to it must not drown in noughts.
    return [fixed(v, decimals) if math.isfinite(v) else _endless(v) for v in values]


def percent(value: float, *, digits: int = 3) -> str:
    """Format a share or a lift.

    Examples
    --------
    >>> percent(0.0915)
    '9.15%'
    """
    return f"{number(100 * value, digits=digits)}%"


def p_value(p: float, alpha: float | None = None) -> str:
    """Format a p-value; never rounded onto or across alpha.

    Examples
    --------
    >>> p_value(0.0325), p_value(3e-7), p_value(0.04999, 0.05)
    ('0.0325', '< 0.0001', '0.04999')
    """
    if p < SMALLEST_P:
        return f"< {SMALLEST_P:.4f}"
    for digits in range(3, 12):
        text = number(p, digits=digits)
        if alpha is None or (float(text) < alpha) == (p < alpha):
            return text
    return text


def factor(log_factor: float) -> str:
    """Format a Bayes factor from its logarithm, as a power of ten where it is beyond a float.

    Examples
    --------
    >>> factor(2.58), factor(2_000)
    ('13.2', '10^868.6')
    """
    if abs(log_factor) < 650:
        return number(math.exp(log_factor))
    return f"10^{log_factor / math.log(10):.1f}"


def fixed(value: float, decimals: int) -> str:
    """Format with so many decimals, or as a power of ten where that would be unreadable."""
    if value != 0 and (abs(value) >= 1e15 or decimals > 9):
        return f"{value:.2e}".replace("-", "−", 1) if value < 0 else f"{value:.2e}"
    # A tie, such as 89.05, falls alike in whatever order the engine added up: the last digits of a float don't decide.
    settled = float(f"{value:.13g}") if abs(value) < 10.0 ** (11 - decimals) else value
    text = f"{abs(settled):,.{max(decimals, 0)}f}"
    negative = value < 0 and any(c in "123456789" for c in text)
    return f"−{text}" if negative else text


def _decimals(value: float, digits: int) -> int:
    # Through the written form, which knows that 0.9996 rounds up to a further digit.
    magnitude = int(f"{abs(value):.{digits - 1}e}".partition("e")[2])
    return max(digits - 1 - magnitude, 0)


def _endless(value: float) -> str:
    return "not defined" if np.isnan(value) else NO_LIMIT
