"""What a series of looks does under an effect: when it stops, for what, and how many units that takes."""

from __future__ import annotations

from dataclasses import dataclass

from amber_ruler.numeric.gate import Floats
from amber_ruler.sequential.recursion import Path


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Operating:
    """What a series of looks does under one effect.

    Attributes
    ----------
    drift : float
        The effect times the root of the information planned in all; 0 is no effect.
    effect : float
        The same as a multiple of the planned effect.
    above, below, futile : ndarray, shape (k,)
        Chance of first crossing the upper boundary at each look, the lower one, and of stopping for futility.
    ending : ndarray, shape (k,)
        Chance of ending at each look: a test that crosses nothing ends with the last, if that has all information.
    power : float
        Chance of crossing the upper boundary at any look, or either of both sides.
    power_upper : float
        Of crossing the upper one.
    expected_fraction : float
        Share of the planned information that the test takes on average.
    """

    drift: float
    effect: float
    above: Floats
    below: Floats
    futile: Floats
    ending: Floats
    power: float
    power_upper: float
    expected_fraction: float


def operating(path: Path, drift: float, planned: float, *, sides: int) -> Operating:
    """Look at one drift; `planned` is the one that the looks are planned for."""
    found, fractions = path.chances(drift), path.regions.fractions
    ending = found.above + found.below + found.futile
    left = float(found.never)
    if fractions[-1] >= 1:
        ending[-1] += left
    expected = float(ending @ fractions) + (left if fractions[-1] < 1 else 0.0)
    return Operating(
        drift=drift,
        effect=drift / planned,
        above=found.above,
        below=found.below,
        futile=found.futile,
        ending=ending,
        power=float(found.crossed(sides)),
        power_upper=float(found.crossed(1)),
        expected_fraction=min(expected, 1.0),
    )


def power_at(path: Path, drifts: Floats, *, sides: int) -> Floats:
    """Chance of crossing under many drifts."""
    return path.chances(drifts).crossed(sides)
