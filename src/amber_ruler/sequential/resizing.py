"""Sample size looked at again while the test runs, and how alpha stays what it is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.sequential.boundaries import Boundaries


class Resized(NamedTuple):
    """A sample size from the spread that was seen.

    Attributes
    ----------
    sd : float
        Standard deviation within groups.
    n_exact : float
        Units in each of two equal groups, by normal theory and not rounded: 2 (drift sd / effect)².
    n : int
        Rounded up.
    """

    sd: float
    n_exact: float
    n: int


def resized(
    boundaries: Boundaries,
    *,
    effect: float,
    sd: float,
    n_treatment: float,
    n_control: float,
    blinded: bool = True,
    without_effect: bool = True,
) -> Resized:
    """How many units does it take, now that the spread has been seen?

    Parameters
    ----------
    boundaries : Boundaries
        The plan, whose drift the test needs; `boundaries(1)` is a test with one look.
    effect : float
        The planned effect.
    sd : float
        Standard deviation that was seen: of all units together, groups not told apart, where blinded; within groups
        where not.
    n_treatment, n_control : float
        Units so far.
    blinded : bool
        Whether `sd` is of all units together.
    without_effect : bool
        Whether to take the planned effect's share, effect² n1 n0/N² · N/(N - 1), out of a blinded variance; without,
        the size is a little too large if there is an effect.

    Returns
    -------
    Resized

    Raises
    ------
    InputError
        If a blinded variance is smaller than the planned effect alone would make it.

    Notes
    -----
    Blinded, alpha is kept as near as no matter. Where groups are told apart and units then added, combine the stages by
    `inverse_normal`.

    References
    ----------
    .. [1] Gould & Shih (1992), Communications in Statistics A 21, 2833-2853.
    .. [2] Kieser & Friede (2003), Statistics in Medicine 22, 3571-3581.

    Examples
    --------
    >>> from amber_ruler.sequential import boundaries
    >>> resized(boundaries(5), effect=2.0, sd=10.0, n_treatment=60, n_control=60).n
    399
    """
    effect = float(gate.finite("effect", gate.single("effect", effect)))
    if effect == 0:
        raise InputError.rule("effect", effect, "other than 0")
    sd = float(gate.positive("sd", gate.single("sd", sd)))
    one, two = (
        float(gate.positive(k, gate.single(k, v))) for k, v in (("n_treatment", n_treatment), ("n_control", n_control))
    )
    variance, total = sd * sd, one + two
    if blinded and without_effect:
        variance -= effect**2 * one * two / (total * (total - 1))
        if variance <= 0:
            raise InputError(
                f"All units together spread less (sd {sd:g}) than the planned effect alone would make them: the effect"
                " is smaller than planned, or the sd is not of all units.",
                name="sd",
            )
    exact = 2 * boundaries.drift**2 * variance / effect**2
    return Resized(math.sqrt(variance), exact, math.ceil(exact * (1 - 1e-14)))


def inverse_normal(z: Sequence[ArrayLike], weights: Sequence[float]) -> Floats:
    """Combine stages of a test whose size was changed on the way, so that alpha holds.

    Parameters
    ----------
    z : sequence of float or array
        The z of each stage, of its own units only.
    weights : sequence of float
        Planned information of each stage, fixed before the first look, whatever was seen since.

    Returns
    -------
    ndarray, one for each stage
        The z of all stages so far, to be held against boundaries at the planned fractions by `monitor`: the sum of
        √weight z over the root of the sum of the weights.

    References
    ----------
    .. [1] Lehmacher & Wassmer (1999), Biometrics 55, 1286-1290.

    Examples
    --------
    >>> inverse_normal([1.2, 2.0], [1, 1]).round(4).tolist()
    [1.2, 2.2627]
    """
    stages = [gate.finite("z", part) for part in z]
    share = gate.positive("weights", list(weights))
    if not stages or share.shape != (len(stages),):
        raise InputError(f"There must be a weight for each of the {len(stages)} stages, got {share.size}.")
    each = np.stack(np.broadcast_arrays(*stages))
    scale = share.reshape(-1, *[1] * (each.ndim - 1))
    return np.asarray(np.cumsum(np.sqrt(scale) * each, axis=0) / np.sqrt(np.cumsum(scale, axis=0)))
