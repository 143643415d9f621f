"""Designs that look before the end: power over all looks, and what there is at each of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import LookPlan
from amber_ruler.plan.planned import Units
from amber_ruler.sequential import recursion
from amber_ruler.sequential.boundaries import Boundaries
from amber_ruler.sequential.operating import Operating, operating, power_at
from amber_ruler.sequential.recursion import Path

_MANY = 400  # degrees of freedom from which on the looks of a t test are those of a normal one, at its own power
_ALIKE = 1e-6  # by how much standard errors under no effect and under the effect may differ

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
    sides = sides_of(design)
    return _each(design, effect, units, lambda path, d: power_at(path, d, sides=sides))


def average_share(design: Estimated, effect: Floats, units: Units) -> Floats:
    """Share of the units that it takes on average under an effect; broadcasts."""

    def share(path: Path, drifts: Floats) -> Floats:
        found = path.chances(drifts)
        return (found.above + found.below + found.futile) @ path.regions.fractions + found.never

    return _each(design, effect, design._analysed(units), share)


def _each(design: Estimated, effect: Floats, units: Units, of: Callable[[Path, Floats], Floats]) -> Floats:
    """Something of the path at each effect and number of units."""
    alpha = np.asarray(design._single_alpha(units))
    drifts = drift(design, effect, units, alpha / sides_of(design))
    near = _near(design, effect, units)
    shape = np.broadcast_shapes(drifts.shape, alpha.shape, near.shape)
    drifts, alpha, effect = (np.broadcast_to(v, shape) for v in (drifts, alpha, np.asarray(effect)))
    near = np.broadcast_to(near, shape)
    if shape and np.any(near):  # numbers of the design may be columns: each scenario is a design of its own
        found = np.empty(shape)
        for k in np.ndindex(shape):
            one = _scenario(design, k, shape)
            some = tuple(np.broadcast_to(u, shape)[k] for u in units)
            found[k] = _each(one, np.asarray(effect[k]), tuple(map(np.asarray, some)), of)
        return found
    found = np.empty(shape)
    for level in np.unique(alpha):
        (plan,), mine = boundaries(design, level), alpha == level
        path, at = recursion.walk(plan.regions), np.maximum(drifts[mine], -30.0)
        if np.any(near):
            path, single = path_under(design, plan, effect, units)
            at = np.full(at.shape, single)
        found[mine] = of(path, at)
    return found


def _scenario(design: Estimated, k: tuple[int, ...], shape: tuple[int, ...]) -> Estimated:
    """One scenario of a design whose numbers are columns."""
    own = {f.name: getattr(design, f.name) for f in fields(design) if f.init and f.name != "modifiers"}
    return design._with_numbers({n: float(np.broadcast_to(v, shape)[k]) for n, v in own.items() if np.ndim(v)})


def _near(design: Estimated, effect: Floats, units: Units) -> NDArray[np.bool_]:
    """Where looks differ too much from a normal test's for one drift to stand for them: few units, or two errors."""
    _, null_error, error = _away(design, effect, units)
    df = design._df(units)
    few = np.asarray(False) if df is None else np.asarray(df) < _MANY
    return np.asarray(few | (np.abs(null_error / error - 1) > _ALIKE))


def path_under(design: Estimated, plan: Boundaries, effect: Floats, units: Units) -> tuple[Path, float]:
    """The path under an effect, and its drift: each look by itself crosses as often as its own test does.

    A boundary is set so that the normal path is beyond it with the chance that the test of that look has, by the
    noncentral t or with the variance under the effect. Only how looks hang together is taken from the normal one.
    """
    seen = _seen(design, plan, units)
    size, _, error = _away(design, effect, units)
    apart = float(size / error)
    towards = apart * np.sqrt(plan.fractions)

    def moved(bound: Floats, side: float) -> Floats:
        """Bounds at which the path is beyond, on a side, as often as the test."""
        finite = np.isfinite(bound)
        chance = _beyond(design, effect, seen, np.where(finite, side * bound, 0.0), side)
        z = np.where(chance < 0.5, -normal.quantile(np.maximum(chance, 1e-300)), -normal.quantile(chance))
        return np.where(finite, side * z + towards, bound)

    regions = plan.regions
    futile = start = None
    if regions.futile is not None:
        futile = moved(regions.futile, 1.0)
        start = np.where(np.isfinite(regions.futile), moved(-regions.futile, -1.0), np.inf) if regions.wedge else None
    shifted = replace(
        regions,
        high=moved(regions.high, 1.0),
        low=moved(regions.low, -1.0),
        futile=futile,
        futile_low=start,
    )
    return recursion.walk(shifted, apart), apart


def _beyond(design: Estimated, effect: Floats, units: Units, bound: Floats, side: float) -> Floats:
    """Chance that the test of each look by itself has a statistic beyond one with the nominal p of a z, on a side."""
    from amber_ruler.plan.designs.estimated import imbalance, power_of_estimate

    size, null_error, error = _away(design, effect, units)
    tail, df, own = normal.sf(bound), design._df(units), design._own_df(units)
    growth = weight = np.ones((1, 1))
    if df is not None and own is not None and design._modifier(change.Covariate) is not None:
        growth, weight = imbalance(own, np.asarray(effect))
    beyond = power_of_estimate(side * size, growth * null_error, growth * error, df, tail, 0.0)
    return np.asarray(np.clip((weight * beyond).sum(axis=0), 1e-300, 1 - 1e-16))


def _seen(design: Estimated, plan: Boundaries, units: Units) -> Units:
    """Analysed units at each look; at least what a test needs."""
    least = design._least() * design._cluster_size()
    return tuple(np.maximum(np.ceil(plan.fractions * float(u) * (1 - 1e-14)), least) for u in units)


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

    def under(share: float) -> Operating:
        """Under so much of the effect; of a margin, of the way from there."""
        edge = 0.0
        if margin is not None:
            edge = -margin.size if margin.good == "higher" else margin.size
        there = np.asarray(edge + share * (effect - edge))
        if share and bool(np.any(_near(design, there, analysed))):
            return operating(*path_under(design, looks, there, analysed), looks.drift, sides=sides)
        at = float(drift(design, there, analysed, tail)) if share else 0.0
        return operating(path, at, looks.drift, sides=sides)

    margin = design._modifier(change.Margin)
    none, half, full = (under(share) for share in (0.0, 0.5, 1.0))
    total = float(design._total(units))
    each = tuple(np.ceil(looks.fractions * float(u) * (1 - 1e-14)) for u in units)
    seen = design._analysed(each)
    least = design._least() * design._cluster_size()
    enough = np.all([u >= least for u in seen], axis=0)
    seen = tuple(np.maximum(u, least) for u in seen)
    df = design._df(seen)
    t = None if df is None else student.upper_quantile(normal.sf(looks.z), df)
    size, null_error, _ = _away(design, np.asarray(effect), seen)
    end_size, _, end_error = _away(design, np.asarray(effect), analysed)

    def in_units(z: Floats) -> Floats:
        """From z to the unit of the effect, by the t of the same nominal p."""
        found = z if df is None else np.where(z > 0, 1, -1) * student.upper_quantile(normal.sf(np.abs(z)), df)
        towards = found * null_error - (size - np.abs(effect) if design._modifier(change.Margin) is not None else 0.0)
        return np.where(enough & np.isfinite(z), towards * _sign(design), np.nan)

    traffic = design._modifier(change.Traffic)
    return LookPlan(
        boundaries=looks,
        units=dict(zip(design._group_names(), each, strict=True)),
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
