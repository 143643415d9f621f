"""Boundaries for a series of looks, exactly, by recursive integration."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.results import Result
from amber_ruler.sequential import recursion
from amber_ruler.sequential.spending import Spending, called, parameter_of, source, spent

Shape: TypeAlias = Literal["obrien-fleming", "pocock", "wang-tsiatis", "haybittle-peto"]
MOST_LOOKS = 200
_CLOSEST = 1e-4
_SHAPES = {
    "obrien-fleming": ("O'Brien–Fleming", "O'Brien & Fleming (1979), Biometrics 35, 549-556"),
    "pocock": ("Pocock", "Pocock (1977), Biometrika 64, 191-199"),
    "wang-tsiatis": ("Wang–Tsiatis", "Wang & Tsiatis (1987), Biometrics 43, 193-199"),
    "haybittle-peto": ("Haybittle–Peto", "Haybittle (1971), British Journal of Radiology 44, 793-797"),
}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Boundaries(Result):
    """Critical values for a planned series of looks.

    Attributes
    ----------
    fractions : ndarray, shape (k,)
        Information fraction at each look, rising to 1.
    z : ndarray, shape (k,)
        Stop for a difference when z at the look exceeds this (its size, of both sides); infinite at a look that is
        skipped.
    lower : ndarray, shape (k,)
        Stop for harm when z lies below this; minus infinity where that side is not tested.
    p : ndarray, shape (k,)
        The upper boundary as a nominal p-value, of both sides or of one.
    spent : ndarray, shape (k,)
        Alpha used up by each look, under no difference, over the sides.
    alpha : float
        Error rate over all looks and sides.
    sides : int
        1 or 2.
    spending : str
        The spending function or the shape, in words.
    """

    fractions: Floats
    z: Floats
    lower: Floats
    p: Floats
    spent: Floats
    alpha: float
    sides: int = 2
    spending: str


def boundaries(
    looks: int | Sequence[float],
    *,
    sides: Literal[1, 2] = 2,
    spending: Spending = "obrien-fleming",
    parameter: float | None = None,
    shape: Shape | None = None,
    interim: float | None = None,
    skip: Sequence[int] = (),
    harm: float | None = None,
    alpha: float = 0.05,
) -> Boundaries:
    """How extreme must a result be at each look, so that looking early stays honest?

    Parameters
    ----------
    looks : int or sequence of float
        A number of equally spaced looks, or rising information fractions in (0, 1] (the share of the planned
        units seen). If the last is below 1, the rest of alpha is kept for later.
    sides : 2 or 1
        Whether the test stops for a difference in either direction, or for treatment above control only.
    spending : str or callable
        How alpha is used up: "obrien-fleming" little of it early, 2 (1 - Φ(z_(α/2) / √t)) of each side's own alpha;
        "obrien-fleming-total" the same function of both sides' total; "pocock" about evenly, α ln(1 + (e - 1) t);
        "power" α t^ρ; "hwang-shih-decani" α (1 - e^(-γ t)) / (1 - e^(-γ)); or a function of the fractions that gives
        the share of alpha used, 1 at all information.
    parameter : float, optional
        ρ of "power" (1 unless given), γ of "hwang-shih-decani" (-4 unless given; 0 is linear), Δ of the shape
        "wang-tsiatis" (0.25 unless given).
    shape : "obrien-fleming", "pocock", "wang-tsiatis" or "haybittle-peto", optional
        A classical shape instead of spending: z = C / √t, C, C t^(Δ - ½), or `interim` at every look but the last. C,
        or the last boundary, is solved for.
    interim : float, optional
        z of the shape "haybittle-peto" before the last look; 3 unless given.
    skip : sequence of int
        Looks (from 1) at which the test may not stop: they spend nothing, and the next spends what is due.
    harm : float, optional
        Error rate of the lower side by itself, as for a guardrail: `alpha` is then that of the upper one (sides=1).
    alpha : float, between 0 and 0.5
        Error rate over all looks, of both sides together.

    Returns
    -------
    Boundaries

    Raises
    ------
    InputError
        If fractions do not rise or leave (0, 1], a shape asks for more alpha than there is, or every look is skipped.

    Notes
    -----
    On the scale z √t the process has independent normal increments. The density of not having stopped is carried from
    look to look by Gauss-Legendre quadrature over the whole region, and each boundary solves for its share of alpha. A
    look stops where |z| exceeds its boundary, as p < alpha everywhere.

    References
    ----------
    .. [1] Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244.
    .. [2] Lan & DeMets (1983), Biometrika 70, 659-663.
    .. [3] Jennison & Turnbull (2000), Group Sequential Methods, chapters 2, 3, 7 and 19.

    Examples
    --------
    >>> boundaries(5).z.round(4).tolist()
    [4.8769, 3.357, 2.6803, 2.2898, 2.031]
    >>> boundaries(5, shape="pocock").z.round(3).tolist()
    [2.413, 2.413, 2.413, 2.413, 2.413]
    """
    fractions = fractions_of(looks)
    alpha = float(gate.between("alpha", alpha, 0, 0.5))
    if sides not in (1, 2) or isinstance(sides, bool):
        raise InputError.rule("sides", sides, "1 or 2")
    if harm is not None and sides == 2:
        raise InputError("harm is the error rate of the lower side by itself: say sides=1 for the upper.", name="harm")
    if interim is not None and shape != "haybittle-peto":
        raise InputError("interim is of the shape 'haybittle-peto': leave it out.", name="interim", value=interim)
    if shape is not None:
        gate.choice("shape", shape, _SHAPES)
        if spending != "obrien-fleming" or len(skip) or harm is not None:
            raise InputError("A classical shape takes no spending, skip or harm: leave them out.", name="shape")
        delta = _delta(shape, parameter)
        high = _shaped(fractions, shape, delta, 3.0 if interim is None else interim, alpha, sides)
        low = -high if sides == 2 else np.full(high.size, -np.inf)
        crossed = recursion.crossing(fractions, high, low)
        total = np.cumsum(crossed.above + crossed.below)
        words, cited = _SHAPES[shape]
        words += f", Δ = {delta:g}" if shape == "wang-tsiatis" else ""
    else:
        value = parameter_of(spending, parameter)
        used = _due(spent(spending, fractions, alpha, sides=sides, parameter=value), skip)
        up = np.diff(used, prepend=0.0) / sides
        down = up if sides == 2 else np.zeros(up.size)
        if harm is not None:
            rate = float(gate.between("harm", harm, 0, 0.5))
            down = np.diff(_due(spent(spending, fractions, rate, sides=1, parameter=value), skip), prepend=0.0)
        # A first look may get a share below any float.
        up, down = (np.where(s > 0, np.maximum(s, recursion.LEAST), 0.0) for s in (up, down))
        high, low = recursion.solved(fractions, up, down)
        total = np.cumsum(up + down)
        words, cited = f"{called(spending, value)} alpha spending", source(spending)
    said = {1: "one-sided", 2: "two-sided"}[sides] + ("" if harm is None else f", harm at {harm:g}")
    return Boundaries(
        title=f"Boundaries for {fractions.size} look{'s' if fractions.size > 1 else ''}",
        method=f"{words}, {said}",
        source=cited,
        fractions=fractions,
        z=high,
        lower=low,
        p=np.asarray(sides * normal.sf(high)),
        spent=total,
        alpha=alpha,
        sides=sides,
        spending=words,
    )


def fractions_of(looks: int | Sequence[float]) -> Floats:
    """The information fractions of looks, given as such or as their number."""
    if np.ndim(looks) == 0:
        count = int(gate.whole("looks", looks, 1))
        if count > MOST_LOOKS:
            raise InputError(f"looks must be 1 to {MOST_LOOKS} looks, got {count}.")
        fractions = np.arange(1, count + 1) / count
    else:
        fractions = gate.finite("looks", looks)
    if fractions.ndim != 1 or not 1 <= fractions.size <= MOST_LOOKS:
        raise InputError(f"looks must be 1 to {MOST_LOOKS} looks, got {fractions.size}.")
    if fractions[0] <= 0 or fractions[-1] > 1 or np.any(np.diff(fractions) <= 0):
        raise InputError.rule("looks", fractions.tolist(), "information fractions that rise, above 0 and up to 1")
    gap = float(np.min(np.diff(fractions, prepend=0.0)))
    if gap < _CLOSEST:
        raise InputError(f"Looks must be at least {_CLOSEST:g} of the information apart, got {gap:.3g}.")
    return fractions


def _due(used: Floats, skip: Sequence[int]) -> Floats:
    """What is used up at each look, where some spend nothing and the next spends what is due."""
    if not len(skip):
        return used
    places = {int(k) for k in gate.whole("skip", list(skip), 1)}
    if max(places) > used.size or len(places) == used.size:
        raise InputError.rule("skip", list(skip), f"some of the looks 1 to {used.size}, not all of them")
    found, before = used.copy(), 0.0
    for k in range(used.size):
        before = found[k] = before if k + 1 in places else used[k]
    return found


def _delta(shape: str, parameter: float | None) -> float:
    if shape != "wang-tsiatis":
        if parameter is not None:
            raise InputError(f"shape={shape!r} has no parameter: leave it out.", name="parameter", value=parameter)
        return 0.0 if shape == "obrien-fleming" else 0.5
    value = 0.25 if parameter is None else gate.single("parameter", parameter)
    if not -2 <= value <= 2:
        raise InputError.rule("parameter", parameter, "between -2 and 2")
    return float(value)


def _shaped(fractions: Floats, shape: str, delta: float, interim: float, alpha: float, sides: int) -> Floats:
    """A classical shape, at the size that keeps alpha."""
    both = sides == 2

    def error(high: Floats) -> float:
        found = recursion.crossing(fractions, high, -high if both else None)
        return float(found.above.sum() + found.below.sum())

    if shape == "haybittle-peto":
        z = float(gate.positive("interim", gate.single("interim", interim)))
        high = np.full(fractions.size, z)
        high[-1] = np.inf
        left = (alpha - error(high)) / sides
        if left <= 0:
            said = f"Looks at z = {z:g} use up more than alpha = {alpha:g}: choose a larger interim."
            raise InputError(said, name="interim", value=interim)
        gaps, roots = recursion.steps(fractions), np.sqrt(fractions)
        at = recursion.START
        for k in range(fractions.size - 1):
            top = high[k] * roots[k]
            at = recursion.carried(at, gaps[k], -top if both else -np.inf, top, gaps[k + 1])
        high[-1] = recursion.limit_for(at, gaps[-1], left) / roots[-1]
        return high
    profile = fractions ** (delta - 0.5)

    def miss(size: Floats) -> Floats:
        return np.array([np.log(error(s * profile) / alpha) for s in np.ravel(size)]).reshape(np.shape(size))

    fixed = float(normal.upper_quantile(alpha / sides))
    # No look stops more rarely than alone, nor together more often than all apart.
    low = fixed / float(profile.max()) * 0.99
    far = float(normal.upper_quantile(alpha / sides / fractions.size)) / float(profile.min()) * 1.01
    return np.asarray(float(bracketed_root(miss, np.asarray(low), np.asarray(far))) * profile)
