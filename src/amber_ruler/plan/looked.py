"""Designs that look before the end: power over all looks, and what there is at each of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import LookPlan
from amber_ruler.plan.planned import Units
from amber_ruler.plan.powers import imbalance, power_of_estimate
from amber_ruler.sequential import recursion
from amber_ruler.sequential.boundaries import Boundaries
from amber_ruler.sequential.operating import Operating, operating, power_at
from amber_ruler.sequential.recursion import Path, Regions

_MANY = 60  # degrees of freedom from which on a noncentral t is taken as normal
_RARE = 3.0  # and from which deviate on
_FAR = 9.0  # standard deviations to a boundary that is never met
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
    if _plain(design, effect, units):  # one path for all
        drifts = np.maximum(drift(design, effect, units, alpha / sides_of(design)), -30.0)
        shape = np.broadcast_shapes(drifts.shape, alpha.shape)
        drifts, alpha = np.broadcast_to(drifts, shape), np.broadcast_to(alpha, shape)
        found = np.empty(shape)
        for level in np.unique(alpha):
            (plan,), mine = boundaries(design, level), alpha == level
            found[mine] = of(recursion.walk(plan.regions), drifts[mine])
        return found
    shape = np.broadcast_shapes(np.shape(effect), alpha.shape, *(np.shape(u) for u in units))
    alpha, found = np.broadcast_to(alpha, shape), np.empty(shape)
    for level in np.unique(alpha):
        (plan,) = boundaries(design, level)
        regions, apart = _under(design, plan, np.asarray(effect), units)
        for k in np.ndindex(shape):
            if alpha[k] == level:
                found[k] = of(recursion.walk(regions.scenario(k), float(apart[k])), apart[k])
    return found


def _plain(design: Estimated, effect: Floats, units: Units) -> bool:
    """Whether the test is normal, with one standard error: then boundaries are the same under every effect."""
    _, null_error, error = _away(design, effect, units)
    return design._df(units) is None and bool(np.all(np.abs(null_error / error - 1) < _ALIKE))


def path_under(design: Estimated, plan: Boundaries, effect: Floats, units: Units) -> tuple[Path, float]:
    """The path under an effect, and its drift: each look by itself crosses as often as its own test does."""
    regions, apart = _under(design, plan, effect, units)
    return recursion.walk(regions, float(apart)), float(apart)


def _under(design: Estimated, plan: Boundaries, effect: Floats, units: Units) -> tuple[Regions, Floats]:
    """Where the paths under some effects stop, the looks along a last axis, and their drifts.

    A boundary is set so that the normal path is beyond it with the chance that the test of that look has, by the
    noncentral t or with the variance under the effect. Only how looks hang together is taken from the normal one.
    """
    own = {f.name: getattr(design, f.name) for f in fields(design) if f.init and f.name != "modifiers"}
    wide = design._with_numbers({n: np.asarray(v)[..., None] for n, v in own.items() if np.ndim(v)})
    effect = effect[..., None]
    size, _, error = _away(wide, effect, tuple(np.asarray(u)[..., None] for u in units))
    apart = size / error
    seen, regions = _seen(design, plan, units), plan.regions
    shape = np.broadcast_shapes(apart.shape, *(u.shape for u in seen))
    apart, towards = np.broadcast_to(apart[..., 0], shape[:-1]), apart * np.sqrt(plan.fractions)

    def moved(bound: Floats, side: float) -> Floats:
        """Bounds at which the path is beyond, on a side, as often as the test; those far away stay where they are."""
        there = np.broadcast_to(bound, shape)
        near = np.isfinite(there) & (side * (there - towards) < _FAR)
        if not np.any(near):
            return there
        z = _beyond(wide, effect, seen, np.where(near, side * there, 0.0), side)
        return np.where(near, side * z + towards, there)

    futile = start = None
    if regions.futile is not None:
        futile = moved(regions.futile, 1.0)
        start = np.where(np.isfinite(regions.futile), moved(-regions.futile, -1.0), np.inf) if regions.wedge else None
    high, low = moved(regions.high, 1.0), moved(regions.low, -1.0)
    return replace(regions, high=high, low=low, futile=futile, futile_low=start), apart


def _beyond(design: Estimated, effect: Floats, units: Units, bound: Floats, side: float) -> Floats:
    """The normal deviate with the chance that the test of each look has to be beyond the nominal p of a z, on a side.

    From 60 degrees of freedom on, and where it is small, a noncentral t is normal, to the first order of 1/df.
    """
    size, null_error, error = _away(design, effect, units)
    df, own = design._df(units), design._own_df(units)
    if df is None:
        return np.asarray((bound * null_error - side * size) / error)
    tail, apart = normal.sf(bound), side * size / error

    def deviate(chance: Floats) -> Floats:
        return np.asarray(-normal.quantile(np.clip(chance, 1e-300, 1 - 1e-16)))

    if own is not None and design._slopes():
        growth, weight = imbalance(own, np.asarray(effect), design._slopes())
        beyond = power_of_estimate(side * size, growth * null_error, growth * error, df, tail, 0.0)
        return deviate((weight * beyond).sum(axis=0))
    tail, df, apart = np.broadcast_arrays(tail, df, apart)
    t = student.upper_quantile(tail, df)
    z = np.asarray((t * (1 - 1 / (4 * df)) - apart) / np.sqrt(1 + t * t / (2 * df)))
    few = ((df < _MANY) & (z < _RARE)) | (df.shape[-1] == 1)
    if np.any(few):
        z[few] = deviate(student.noncentral_sf(t[few], df[few], apart[few]))
    return z


def _seen(design: Estimated, plan: Boundaries, units: Units) -> Units:
    """Analysed units at each look, along a last axis; at least what a test needs."""
    least = design._least() * design._cluster_size()
    return tuple(np.maximum(np.ceil(plan.fractions * np.asarray(u)[..., None] * (1 - 1e-14)), least) for u in units)


def drift(design: Estimated, effect: Floats, units: Units, tail: Floats) -> Floats:
    """The drift at which a normal test with one look, of this alpha on one side, has the power that this one has."""
    size, null_error, error = _away(design, effect, units)
    z, df, own = normal.upper_quantile(tail), design._df(units), design._own_df(units)
    if df is None:
        return np.asarray((size - z * null_error) / error + z)
    growth = weight = np.ones((1,) * (1 + max(np.ndim(size), np.ndim(error))))
    if own is not None and design._slopes():
        growth, weight = imbalance(own, effect, design._slopes())
    upper = (weight * power_of_estimate(size, growth * null_error, growth * error, df, tail, 0.0)).sum(axis=0)
    return np.asarray(z + normal.quantile(np.clip(upper, 1e-300, 1 - 1e-16)))


def _away(design: Estimated, effect: Floats, units: Units) -> tuple[Floats, Floats, Floats]:
    """How far the effect is from the tested value, towards the side that is looked at, and both standard errors."""
    margin, effect = design._modifier(change.Margin), np.asarray(effect)
    if margin is not None:
        return margin.inside(effect), *design._errors_at_edge(effect, units)
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
        edge = 0.0 if margin is None else margin.edge
        there = np.asarray(edge + share * (effect - edge))
        if share and not _plain(design, there, analysed):
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
