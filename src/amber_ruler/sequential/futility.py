"""Giving up early: boundaries of futility from the share of beta that each look may use up."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number, nearly_straight
from amber_ruler.sequential import recursion
from amber_ruler.sequential.recursion import LEAST, Density, Path, Regions


class Found(NamedTuple):
    """Boundaries with futility, and the drift at which they have their power."""

    high: Floats
    low: Floats
    futile: Floats
    drift: float


class _Pass(NamedTuple):
    high: Floats
    low: Floats
    futile: Floats
    last: float  # chance of ending without having crossed
    meets: int | None  # the first look before the last at which futility reaches the other boundary


def with_futility(
    fractions: Floats,
    up: Floats,
    down: Floats,
    beta: Floats,
    fixed: tuple[Floats, Floats] | None,
    *,
    wedge: bool,
    alpha: float,
) -> Found:
    """Futility that uses up so much of beta at each look and meets the upper boundary at the last.

    Parameters
    ----------
    fractions, up, down : ndarray, shape (k,)
        Looks, and the shares of error of the upper side and the lower one.
    beta : ndarray, shape (k,)
        Beta that is used up by each look: by giving up, and of one side by a difference below.
    fixed : pair of ndarray, or None
        Upper and lower boundaries that do not count on futility being obeyed; None where they do (binding).
    wedge : bool
        Two-sided: futility lies around 0.
    alpha : float
        Error rate over all looks of one side.
    """
    plain = float(normal.upper_quantile(alpha) + normal.upper_quantile(beta[-1]))
    wanted = float(normal.quantile(beta[-1]))

    def miss(drift: float) -> float:
        found = _pass(fractions, up, down, beta, fixed, drift, wedge=wedge)
        # A boundary that is met before the last look leaves nothing there: the drift is too large.
        return float(normal.quantile(max(found.last, 1e-300))) - wanted if found.meets is None else -1e3

    drift = nearly_straight(miss, plain, -1.0)
    if drift is None:
        least, most = 0.5 * plain, 1.5 * plain
        while miss(least) < 0:
            least /= 2
            if least < 1e-6 * plain:
                raise _crossing(1)
        while miss(most) > 0:
            most *= 1.5  # it ends: with a drift large enough futility meets the other boundary early
        drift = bracketed_number(miss, least, most, rtol=1e-14)
    found = _pass(fractions, up, down, beta, fixed, drift, wedge=wedge)
    if abs(float(normal.quantile(max(found.last, 1e-300))) - wanted) > 1e-6:
        after = _pass(fractions, up, down, beta, fixed, drift * (1 + 1e-9), wedge=wedge)
        raise _crossing(after.meets or found.meets or 1)
    return Found(found.high, found.low, found.futile, drift)


def _crossing(look: int) -> InputError:
    return InputError(
        f"The boundary of futility meets the one of efficacy at look {look}, before the last: let futility use up less"
        " early on, or skip that look.",
        name="futility",
    )


def _pass(
    fractions: Floats,
    up: Floats,
    down: Floats,
    beta: Floats,
    fixed: tuple[Floats, Floats] | None,
    drift: float,
    *,
    wedge: bool,
) -> _Pass:
    """Boundaries look by look for one drift."""
    gaps, roots, size = recursion.steps(fractions), np.sqrt(fractions), fractions.size
    high, low = (np.full(size, np.inf), np.full(size, -np.inf)) if fixed is None else (b.copy() for b in fixed)
    futile, meets = np.full(size, -np.inf), None
    at, lost = recursion.START, 0.0
    for k, gap in enumerate(gaps):
        shift = drift * gap**2
        if fixed is None:
            if at.total <= up[k]:  # nothing is left to claim a difference from
                meets = k + 1
                break
            high[k] = recursion.limit_for(at, gap, float(up[k])) / roots[k] if up[k] > 0 else np.inf
            if wedge:
                low[k] = -high[k]
            elif down[k] > 0:
                low[k] = -recursion.limit_for(at.turned, gap, float(down[k])) / roots[k]
        now = _under(at, drift, float(fractions[k - 1]) if k else 0.0)
        top = high[k] * roots[k]
        if k == size - 1:
            futile[k] = high[k]
            lost += _inside(now, gap, top, shift) if wedge else recursion.above(now.turned, gap, -top, -shift)
        else:
            share = max(float(beta[k]) - lost, 0.0)
            if share > 0:
                edge = (
                    _edge(now, gap, top, share, shift)
                    if wedge
                    else -recursion.limit_for(now.turned, gap, share, -shift)
                )
                futile[k] = edge / roots[k]
                if edge >= top:
                    meets = k + 1
                    break
            if not wedge:
                if futile[k] <= low[k]:
                    futile[k] = -np.inf
                share = recursion.above(now.turned, gap, -max(futile[k], low[k]) * roots[k], -shift)
            lost += share
        if k < size - 1:
            regions = Regions(fractions, high, low, futile, wedge)
            floor = recursion.lowest(float(fractions[k])) if regions.shallow else -np.inf
            pieces = [recursion.carried(at, gap, a, b, gaps[k + 1], floor=floor) for a, b in regions.going_on(k)]
            at = recursion.together(pieces)
    return _Pass(high, low, futile, lost, meets)


def _under(at: Density, drift: float, t: float) -> Density:
    """A density under a drift."""
    if t == 0:
        return at
    return Density(at.places, at.mass * np.exp(drift * at.places - 0.5 * drift**2 * t))


def _inside(at: Density, gap: float, edge: float, shift: float) -> float:
    """Chance to be between minus a limit and it."""
    return recursion.carried(at, gap, -edge, edge, gap, shift).total


def _edge(at: Density, gap: float, top: float, share: float, shift: float) -> float:
    """The limit between minus which and which lies such a share; the top where there is less."""
    if not np.isfinite(top):
        top = float(np.abs(at.places).max()) + abs(shift) + 12 * gap
    if _inside(at, gap, top, shift) <= share:
        return top
    wanted = math.log(max(share, LEAST))
    return bracketed_number(
        lambda edge: math.log(max(_inside(at, gap, edge, shift), 1e-320)) - wanted, 1e-300, top, rtol=1e-14
    )


def alpha_if_ignored(path: Path) -> float:
    """Chance to claim a difference where there is none, if futility is never obeyed."""
    regions = path.regions
    return float(recursion.crossing(regions.fractions, regions.high, regions.low).crossed(2))
