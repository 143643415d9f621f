"""What tests of counts have in common."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Literal, TypeAlias

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import multiplicity
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, Test

Statistic: TypeAlias = Literal["chi-square", "g", "freeman-tukey", "cressie-read"]

POWERS = {"chi-square": 1.0, "g": 0.0, "freeman-tukey": -0.5, "cressie-read": 2 / 3}
NAMES = {"chi-square": "χ²", "g": "G", "freeman-tukey": "Freeman–Tukey", "cressie-read": "Cressie–Read"}
SOURCES = {
    "chi-square": "Pearson (1900), Philosophical Magazine 50, 157-175",
    "g": "Wilks (1935), Annals of Mathematical Statistics 6, 190-196",
    "freeman-tukey": "Freeman & Tukey (1950), Annals of Mathematical Statistics 21, 607-611",
    "cressie-read": "Cressie & Read (1984), JRSS B 46, 440-464",
    "exact": "Freeman & Halton (1951), Biometrika 38, 141-149",
    "trend": "Cochran (1954), Biometrics 10, 417-451; Armitage (1955), Biometrics 11, 375-386",
}
_LEAST_DRAWS, _MOST_DRAWS, _CELLS_DRAWN = 2_000, 100_000, 6e6


def any_test(
    p: float, alpha: float, statistic: float | None = None, name: str = "", df: float | None = None, error: float = 0.0
) -> Test:
    """The record of a test without a direction; `error` is the Monte-Carlo error of a drawn p."""
    return Test(p_value=p, alpha=alpha, statistic=statistic, name=name, df=df, alternative="any", p_error=error or None)


def drawn(draws: int, chance: Callable[[int], float]) -> tuple[float, float]:
    """A p-value from so many draws, and its standard error."""
    p = chance(draws)
    return p, math.sqrt(p * (1 - p) / draws)


def whole(counts: ArrayLike) -> Floats:
    """Counts, which are whole."""
    return gate.whole("counts", counts, way_out="These are units of each kind, not shares: multiply by the total.")


def small(expected: Floats) -> str:
    """Cochran's rule: no expected count under 1, at most a fifth of them under 5; what breaks it, or nothing."""
    least, few = float(expected.min()), float(np.mean(expected < 5))
    if least >= 1 and few <= 0.2:
        return ""
    return f"the smallest is {least:.3g}, and {100 * few:.3g}% of them are below 5"


def expected_check(few: str, how: str) -> tuple[Check, ...]:
    """Say that expected counts are small, and what was done about it."""
    if not few:
        return ()
    said = "The asymptotic test is a rough approximation there:"
    if how == "exact":
        return (Check("expected counts", few, f"{said} this is the exact one.", "note"),)
    return (Check("expected counts", few, f"{said} take the exact one.", "warning"),)


def residual_p(residuals: Floats) -> Floats:
    """P-values of standardised residuals, corrected by Holm."""
    raw = np.minimum(2 * normal.sf(np.abs(residuals)), 1.0)
    return multiplicity.holm(raw.ravel()).reshape(raw.shape)


def draws_of(draws: int | None, cells: int) -> int:
    """So many that a drawn test takes seconds at most; its error says what they are worth."""
    if draws is None:
        return int(min(_MOST_DRAWS, max(_LEAST_DRAWS, _CELLS_DRAWN / cells)))
    return int(gate.whole("draws", draws, 100))
