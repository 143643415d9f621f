"""Designs that look before the end: power over all looks, and what there is at each of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import LookPlan
from amber_ruler.plan.planned import Units
from amber_ruler.sequential import recursion
from amber_ruler.sequential.boundaries import Boundaries
from amber_ruler.sequential.operating import operating, power_at
from amber_ruler.sequential.recursion import Path

if TYPE_CHECKING:
    from amber_ruler.plan.designs.estimated import Estimated


def boundaries(design: Estimated, alpha: Floats) -> Sequence[Boundaries]:
    """The boundaries at each error rate."""
    schedule, sides = design._modifier(change.LookSchedule), sides_of(design)
    assert schedule is not None  # noqa: S101
    return [schedule.at(float(a), sides) for a in np.ravel(alpha)]


def sides_of(design: Estimated) -> int:
    """Sides of the test."""
    return 2 if design.alternative == "two-sided" and design._modifier(change.Margin) is None else 1


def power(design: Estimated, effect: Floats, units: Units) -> Floats:
    """Chance to cross at any look."""
    sides, alpha = sides_of(design), np.asarray(design._single_alpha(units))
    drifts = drift(design, effect, units, alpha / sides)
    return _by_level(design, drifts, alpha, lambda path, d: power_at(path, d, sides=sides))


def average_share(design: Estimated, effect: Floats, units: Units) -> Floats:
    """Share of the units that it takes on average under an effect; broadcasts."""
    analysed = design._analysed(units)
    alpha = np.asarray(design._single_alpha(analysed))

    def share(path: Path, drifts: Floats) -> Floats:
        found = path.chances(drifts)
        return (found.above + found.below + found.futile) @ path.regions.fractions + found.never

    return _by_level(design, drift(design, effect, analysed, alpha / sides_of(design)), alpha, share)


def _by_level(design: Estimated, drifts: Floats, alpha: Floats, of: Callable[[Path, Floats], Floats]) -> Floats:
    """Something of the path at each drift, under the boundaries of its error rate."""
    shape = np.broadcast_shapes(drifts.shape, alpha.shape)
    drifts, alpha = np.broadcast_to(drifts, shape), np.broadcast_to(alpha, shape)
    found = np.empty(shape)
    for level in np.unique(alpha):
        (plan,), mine = boundaries(design, level), alpha == level
        found[mine] = of(recursion.walk(plan.regions), np.maximum(drifts[mine], -30.0))
    return found


def drift(design: Estimated, effect: Floats, units: Units, tail: Floats) -> Floats:
    """The drift at which a normal test with one look, of this alpha on one side, has the power that this one has."""
    from amber_ruler.plan.designs.estimated import imbalance, power_of_estimate

    size, null_error, error = _away(design, effect, units)
    z, df, own = normal.upper_quantile(tail), design._df(units), design._own_df(units)
    if df is None:
        return np.asarray((size - z * null_error) / error + z)
    growth = weight = np.ones((1,) * (1 + max(np.ndim(size), np.ndim(error))))
    if own is not None and design._modifier(change.Covariate) is not None:
        growth, weight = imbalance(own, effect)
    upper = (weight * power_of_estimate(size, growth * null_error, growth * error, df, tail, 0.0)).sum(axis=0)
    return np.asarray(z + normal.quantile(np.clip(upper, 1e-300, 1 - 1e-16)))


def _away(design: Estimated, effect: Floats, units: Units) -> tuple[Floats, Floats, Floats]:
    """How far the effect is from the tested value, towards the side that is looked at, and both standard errors."""
    margin, effect = design._modifier(change.Margin), np.asarray(effect)
    if margin is not None:
        sign = 1.0 if margin.good == "higher" else -1.0
        edge = np.asarray(-sign * margin.size)
        return sign * (effect - edge), *design._errors(effect, edge, units)
    size = {"greater": effect, "less": -effect}.get(design.alternative, np.abs(effect))
    return size, *design._errors(effect, np.asarray(0.0), units)


def plan(design: Estimated, effect: float, units: Units, power: float) -> LookPlan:
    """What there is at each look."""
    analysed = design._analysed(units)
    alpha, sides = float(design._single_alpha(analysed)), sides_of(design)
    schedule = design._modifier(change.LookSchedule)
    assert schedule is not None  # noqa: S101
    if schedule.rule.futility is None and alpha < power < 1 - 1e-12:
        schedule = replace(schedule, rule=replace(schedule.rule, power=power))
    looks = schedule.at(alpha, sides)
    path, tail = recursion.walk(looks.regions), np.asarray(alpha / sides)

    whole = float(drift(design, np.asarray(effect), analysed, tail))
    part = 0.5 * whole  # half way from the margin
    if design._modifier(change.Margin) is None:
        part = float(drift(design, np.asarray(0.5 * effect), analysed, tail))
    none, half, full = (operating(path, d, looks.drift, sides=sides) for d in (0.0, part, whole))
    total = float(design._total(units))
    each = tuple(np.ceil(looks.fractions * float(u) * (1 - 1e-14)) for u in units)
    seen = design._analysed(each)
    least = design._least() * design._cluster_size()
    enough = np.all([u >= least for u in seen], axis=0)
    seen = tuple(np.maximum(u, least) for u in seen)
    df = design._df(seen)
    t = None if df is None else student.upper_quantile(normal.sf(looks.z), df)
    size, null_error, error = _away(design, np.asarray(effect), seen)
    end_size, _, end_error = _away(design, np.asarray(effect), analysed)

    def in_units(z: Floats) -> Floats:
        """From z to the unit of the effect, by the t of the same nominal p."""
        found = z if df is None else np.where(z > 0, 1, -1) * student.upper_quantile(normal.sf(np.abs(z)), df)
        towards = found * null_error - (size - np.abs(effect) if design._modifier(change.Margin) is not None else 0.0)
        return np.where(enough & np.isfinite(z), towards * _sign(design), np.nan)

    traffic = design._modifier(change.Traffic)
    return LookPlan(
        boundaries=looks,
        units={name: found for name, found in zip(design._group_names(), each, strict=True)},
        totals=np.asarray(design._total(each)),
        t=t,
        effect=in_units(looks.z),
        effect_below=in_units(looks.lower) if np.any(np.isfinite(looks.lower)) else None,
        effect_futility=None if looks.futility is None else in_units(looks.futility),
        under_none=none,
        under_half=half,
        under_planned=full,
        expected_none=none.expected_fraction * total,
        expected_half=half.expected_fraction * total,
        expected_planned=full.expected_fraction * total,
        n_exact=float(units[-1]) * (looks.drift * float(end_error) / float(end_size)) ** 2,
        days=None if traffic is None else np.ceil(np.asarray(design._total(each)) / traffic.daily * (1 - 1e-14)),
    )


def _sign(design: Estimated) -> float:
    margin = design._modifier(change.Margin)
    if margin is not None:
        return 1.0 if margin.good == "higher" else -1.0
    return -1.0 if design.alternative == "less" else 1.0
