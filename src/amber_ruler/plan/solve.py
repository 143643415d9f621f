"""Solving a power function for units or for the effect."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.roots import bracketed_root

if TYPE_CHECKING:
    from collections.abc import Callable

MOST_UNITS = 1e12


def checked_power(power: float, alpha: float) -> float:
    """Return a target power above alpha and below 1."""
    target = float(gate.between("power", power, 0, 1))
    if target <= alpha:
        raise InputError.rule("power", target, f"above alpha ({alpha:g})", "A test without any data reaches alpha.")
    return target


def checked_effect(effect: float, alternative: str) -> float:
    """Return an effect that the alternative can find."""
    value = float(gate.finite("effect", effect))
    if value == 0:
        raise DesignError("An effect of 0 can't be planned for: name the smallest difference that would matter.")
    if (alternative == "greater" and value < 0) or (alternative == "less" and value > 0):
        raise DesignError(
            f"The alternative {alternative!r} can't find an effect of {value:g}: treatment − control is"
            f" {'below' if value < 0 else 'above'} 0. Turn the alternative or the sign round."
        )
    return value


def sizes_of(n: int | tuple[int, int], ratio: float) -> tuple[int, int]:
    """Units in treatment and control, from units in control (times `ratio`) or from both."""
    if np.ndim(n) == 1:
        one, two = (int(v) for v in gate.whole("n", n, 2))
        return one, two
    control = int(gate.whole("n", n, 2))
    return treated(control, ratio), control


def treated(control: int, ratio: float) -> int:
    """Treatment units that go with so many control units, rounded up."""
    # The nudge keeps 1.1 * 10 at 11 rather than 12.
    return max(2, int(np.ceil(ratio * control * (1 - 1e-14))))


def smallest_control(power_at: Callable[[int], float], target: float, alpha: float) -> int:
    """The smallest number of control units, from 2 up, whose power reaches the target.

    Power is nearly a normal tail in sqrt(n): steps on that scale come close, and bisection on whole numbers
    settles the last few units.
    """
    goal, critical = float(normal.quantile(target)), float(normal.upper_quantile(alpha))
    n = 20.0
    for _ in range(60):
        score = float(normal.quantile(np.clip(power_at(int(n)), 1e-12, 1 - 1e-12)))
        step = np.clip(((goal + critical) / max(score + critical, 1e-6)) ** 2, 1e-3, 1e3)
        n = float(np.clip(np.ceil(n * step), 2, MOST_UNITS))
        if abs(step - 1) < 0.02:
            break
    at = int(n)
    low, high, stride = at, at, 1
    while power_at(high) < target:
        low, high, stride = high, high + stride, stride * 2
        if high > MOST_UNITS:
            raise DesignError(
                f"More than {MOST_UNITS:.0e} units a group would be needed: the effect is too small for the spread."
                " Ask for a larger effect, less power, or a sharper metric."
            )
    stride = 1
    while low > 2 and power_at(low) >= target:
        low, high, stride = max(2, low - stride), low, stride * 2
    if power_at(low) >= target:
        return low
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if power_at(middle) >= target else (middle, high)
    return high


def smallest_effect(power_of: Callable[[float], float], target: float, most: float) -> float:
    """The smallest effect, up to `most`, whose power reaches the target."""
    if power_of(most) < target:
        raise DesignError(
            f"With these units even an effect of {most:.4g} has a power of {power_of(most):.3g}, below {target:g}."
            " Plan for more units."
        )

    def miss(effect: np.ndarray) -> np.ndarray:
        return np.asarray(power_of(float(effect)) - target)

    effect = float(bracketed_root(miss, np.array(0.0), np.array(most), rtol=1e-13))
    # Rounding may leave the power a hair below its target.
    while power_of(effect) < target:
        effect *= 1 + 1e-13
    return effect
