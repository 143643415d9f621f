"""The classical shapes of boundaries, at the size that keeps alpha."""

from __future__ import annotations

from typing import Literal, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number
from amber_ruler.sequential import recursion

Shape: TypeAlias = Literal["obrien-fleming", "pocock", "wang-tsiatis", "haybittle-peto"]
SHAPES = {
    "obrien-fleming": ("O'Brien–Fleming", "O'Brien & Fleming (1979), Biometrics 35, 549-556"),
    "pocock": ("Pocock", "Pocock (1977), Biometrika 64, 191-199"),
    "wang-tsiatis": ("Wang–Tsiatis", "Wang & Tsiatis (1987), Biometrics 43, 193-199"),
    "haybittle-peto": ("Haybittle–Peto", "Haybittle (1971), British Journal of Radiology 44, 793-797"),
}


def delta_of(shape: str, parameter: float | None) -> float | None:
    """The power of time that a shape has, or an error where it takes no parameter."""
    if shape != "wang-tsiatis":
        if parameter is not None:
            raise InputError(f"shape={shape!r} has no parameter: leave it out.", name="parameter", value=parameter)
        return {"obrien-fleming": 0.0, "pocock": 0.5}.get(shape)
    value = 0.25 if parameter is None else gate.single("parameter", parameter)
    if not -2 <= value <= 2:
        raise InputError.rule("parameter", parameter, "between -2 and 2")
    return float(value)


def shaped(fractions: Floats, delta: float | None, interim: float, alpha: float, sides: int) -> Floats:
    """Boundaries C t^(Δ - ½); without Δ that of interim looks, and what is left of alpha at the last."""

    def error(high: Floats) -> float:
        found = recursion.crossing(fractions, high, -high if sides == 2 else None)
        return float(found.above.sum() + found.below.sum())

    if delta is None:
        return _held_back(fractions, interim, alpha, sides)
    profile = fractions ** (delta - 0.5)
    fixed = float(normal.upper_quantile(alpha / sides))
    # No look stops more rarely than alone, nor together more often than all apart.
    low = fixed / float(profile.max()) * (0.99 if fixed > 0.1 else 0) - 1e-9
    far = float(normal.upper_quantile(alpha / sides / fractions.size)) / float(profile.min()) * 1.01 + 1e-9
    size = bracketed_number(lambda s: float(np.log(max(error(s * profile), 1e-320) / alpha)), low, far, rtol=1e-14)
    return np.asarray(size * profile)


def _held_back(fractions: Floats, z: float, alpha: float, sides: int) -> Floats:
    """One boundary for interim looks; the last one has what is left of alpha."""
    high = np.full(fractions.size, z)
    high[-1] = np.inf
    path = recursion.walk(recursion.Regions(fractions, high, -high if sides == 2 else np.full(high.size, -np.inf)))
    found = path.chances(0.0)
    left = (alpha - float(found.above.sum() + found.below.sum())) / sides
    if left <= 0:
        said = f"Looks at z = {z:g} use up more than alpha = {alpha:g}: choose a larger interim."
        raise InputError(said, name="interim", value=z)
    gap = float(recursion.steps(fractions)[-1])
    high[-1] = recursion.limit_for(path.before[-2], gap, left) / np.sqrt(fractions[-1])
    return high
