"""One observed path held against its boundaries."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Comparison, Looks, Result
from amber_ruler.sequential.boundaries import Boundaries

GO_ON, STOP, END = "go on", "stop: a difference", "end: no difference shown"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Monitoring(Result):
    """What the looks so far allow.

    Attributes
    ----------
    fractions, z, bounds : ndarray, shape (looks so far,)
        Information fraction, observed z and boundary at each look.
    nominal_p : ndarray, shape (looks so far,)
        p at each look if it had been the only one, of as many sides as the boundaries; not to be held against alpha.
    decision : str
        "go on", "stop: a difference", or "end: no difference shown".
    crossed_at : int or None
        The first look (from 1) beyond its boundary.
    planned : int
        Looks planned in all.
    alpha : float
        Error rate over all looks.
    latest : Comparison or None
        The last look's comparison, where comparisons were given, with its place among the looks in `looks`.
    """

    fractions: Floats
    z: Floats
    bounds: Floats
    nominal_p: Floats
    decision: str
    crossed_at: int | None
    planned: int
    alpha: float
    latest: Comparison | None = None


def monitor(boundaries: Boundaries, observed: Sequence[float | Comparison]) -> Monitoring:
    """May the test stop after the looks so far?

    Parameters
    ----------
    boundaries : Boundaries
        The plan, made before the first look.
    observed : sequence of float or Comparison
        One z a look so far, in order; a Comparison gives the z of its p-value, which must be two-sided.

    Returns
    -------
    Monitoring

    Raises
    ------
    InputError
        If there are no looks, or more than were planned.

    Examples
    --------
    >>> from amber_ruler.sequential import boundaries
    >>> monitor(boundaries(5), [1.2, 2.9, 2.8]).decision
    'stop: a difference'
    """
    z = np.array([_z_of(look) for look in observed], dtype=np.float64)
    planned = boundaries.z.size
    if not 1 <= z.size <= planned:
        raise InputError(f"observed must hold 1 to {planned} looks, as planned, got {z.size}.")
    bounds = boundaries.z[: z.size]
    harmed = z < boundaries.lower[: z.size]
    over = np.flatnonzero((z > bounds) | harmed)
    crossed = int(over[0]) + 1 if over.size else None
    at_end = z.size == planned and boundaries.fractions[-1] >= 1
    notes = []
    if crossed is not None and crossed < z.size:
        notes.append(f"The boundary was already crossed at look {crossed}: later looks add no right to stop.")
    decision = STOP if crossed else END if at_end else GO_ON
    nominal = 2 * normal.sf(np.abs(z)) if boundaries.sides == 2 else normal.sf(z)
    latest = observed[-1] if isinstance(observed[-1], Comparison) else None
    place = Looks(
        look=z.size,
        planned=planned,
        fraction=float(boundaries.fractions[z.size - 1]),
        boundary=float(bounds[-1]),
        nominal_p=float(nominal[-1]),
        alpha=boundaries.alpha,
        decision=decision,
    )
    return Monitoring(
        title=f"Look {z.size} of {planned}",
        method=boundaries.method,
        source=boundaries.source,
        notes=tuple(notes),
        fractions=boundaries.fractions[: z.size],
        z=z,
        bounds=bounds,
        nominal_p=nominal,
        decision=decision,
        crossed_at=crossed,
        planned=planned,
        alpha=boundaries.alpha,
        latest=None if latest is None else latest.with_part(place),
    )


def _z_of(look: float | Comparison) -> float:
    if not isinstance(look, Comparison):
        return float(gate.finite("observed", look))
    if look.alternative != "two-sided" or look.p_value is None or np.ndim(look.p_value):
        raise InputError("A look needs one two-sided comparison with a p-value.")
    return float(np.sign(np.asarray(look.estimate) - look.null) * normal.upper_quantile(float(look.p_value) / 2))
