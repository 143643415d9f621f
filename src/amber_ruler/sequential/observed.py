"""What was seen at each look, when, and the rule at the looks as they came."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Comparison
from amber_ruler.sequential.boundaries import Boundaries, applied

Observed: TypeAlias = float | Comparison | tuple[float, float]
_CLOSEST = 1e-4
_FARTHEST = 1e-300  # a p-value below which z is read off the estimate


@dataclass(frozen=True, slots=True)
class Look:
    """One look: z, estimate and standard error from no effect, and the comparison where there is one."""

    z: float
    estimate: float | None = None
    se: float | None = None
    comparison: Comparison | None = None

    @property
    def null(self) -> float:
        """The value tested."""
        return 0.0 if self.comparison is None else float(self.comparison.null)

    @property
    def units(self) -> float | None:
        """Units so far, where groups say."""
        if self.comparison is None:
            return None
        groups = self.comparison.groups[:1] if self.comparison.paired else self.comparison.groups[:2]
        return sum(float(g.n) for g in groups)


def look_of(one: Observed, sides: int) -> Look:
    """One look, however it was given."""
    if isinstance(one, Comparison):
        return Look(_z_of(one, sides), float(one.estimate), None if one.se is None else float(one.se), one)
    if np.ndim(one):
        pair = gate.finite("observed", one)
        if pair.shape != (2,):
            raise InputError.rule("observed", one, "a z, a Comparison, or an estimate and its standard error")
        se = float(gate.positive("standard error", pair[1]))
        return Look(float(pair[0]) / se, float(pair[0]), se)
    return Look(float(gate.finite("observed", one)))


def _z_of(one: Comparison, sides: int) -> float:
    if one.p_value is None or np.ndim(one.p_value) or one.scale == "ratio":
        raise InputError("A look needs one comparison with a p-value, and a difference, not a ratio.", name="observed")
    p = float(one.p_value)
    if p < _FARTHEST and one.se is not None:
        away = (float(one.estimate) - float(one.null)) / float(one.se)
        return away if one.alternative == "two-sided" else abs(away)
    if one.alternative == "two-sided":
        # The tail of a t is that of its normal deviate: half the p-value, on the side of the estimate.
        return float(np.sign(float(one.estimate) - float(one.null)) * normal.upper_quantile(max(p, _FARTHEST) / 2))
    if sides == 2 or one.alternative != "greater":
        raise InputError("A look needs a two-sided comparison; with sides=1 one that is greater will do.")
    return float(normal.upper_quantile(max(p, _FARTHEST)))


def fractions_seen(
    plan: Boundaries, looks: list[Look], information: Sequence[float] | None, maximum: float | None
) -> Floats:
    """The share of the planned information at each look."""
    size = len(looks)
    if information is None and maximum is None:
        if size > plan.fractions.size:
            said = f"observed must hold 1 to {plan.fractions.size} looks, as planned, got {size}."
            raise InputError(f"{said} Give information= to say when they came.")
        return plan.fractions[:size]
    if information is None:
        units = [look.units for look in looks]
        precise = [None if look.se is None else look.se**-2 for look in looks]
        held = precise if None in units else units
        if None in held:
            raise InputError("A z says nothing of information: give information= for each look.")
        information = [float(v) for v in held if v is not None]
    found = gate.positive("information", list(information))
    if found.shape != (size,):
        raise InputError(f"information must have one number for each of the {size} looks, got {found.size}.")
    if maximum is not None:
        found = found / float(gate.positive("maximum", gate.single("maximum", maximum)))
    for k in range(1, size):
        if found[k] < found[k - 1]:
            raise InputError(
                f"Information shrinks from look {k} to look {k + 1} ({found[k - 1]:.4g} to {found[k]:.4g} of what was"
                " planned): were data removed? Looks are at all units so far.",
                name="information",
            )
        if found[k] - found[k - 1] < _CLOSEST:
            raise InputError(f"Looks {k} and {k + 1} lie too close together to be told apart: leave one out.")
        if found[k - 1] >= 1:
            raise InputError(f"At look {k} the test had all its information, and ended: no look follows.")
    return found


def plan_at(planned: Boundaries, fractions: Floats, *, last: bool) -> tuple[Boundaries, Floats]:
    """The rule at the looks as they came and those still to come, and when each spends."""
    rule, size = planned.rule, fractions.size
    if size <= planned.fractions.size and np.array_equal(fractions, planned.fractions[:size]) and not last:
        return planned, planned.fractions
    ends = last or fractions[-1] >= 1
    # The looks so far stand for as many planned ones; those to come are the later ones, and in any case the end.
    later = np.append(planned.fractions[size:], planned.fractions[-1])
    rest = np.unique(later[later > fractions[-1] + _CLOSEST])
    looks = fractions if ends else np.concatenate([fractions, rest])
    if rule.shape is not None:
        known = planned.fractions
        early = fractions[:-1] if ends else fractions
        if early.size > known.size or not np.allclose(early, known[: early.size], rtol=0, atol=1e-6):
            raise InputError(
                "A classical shape is made for its planned looks: for other times plan with a spending function.",
                name="information",
            )
        if ends and size != known.size:
            raise InputError("A classical shape can't end short of its looks: plan with a spending function.")
        return applied(rule, looks), looks
    skip = tuple(k for k in rule.skip if k < looks.size)
    futile = tuple(k for k in rule.futility_skip if k < looks.size)
    if not ends and looks[-1] < 1:
        rule = replace(rule, futility=None, own_futility=None)
    if looks.size == 1 or (rule.futility and not set(range(1, looks.size)) - set(futile)):
        rule = replace(rule, futility=None, own_futility=None, binding=False)
    return applied(replace(rule, skip=skip, futility_skip=futile), looks, last=ends), (
        np.append(looks[:-1], 1.0) if ends else looks
    )
