"""A test held against its boundaries, as its looks came."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Comparison, Interval, Result
from amber_ruler.results.result import HIDDEN
from amber_ruler.sequential import recursion
from amber_ruler.sequential.boundaries import MOST_LOOKS, Boundaries
from amber_ruler.sequential.deciding import Found, compared
from amber_ruler.sequential.inference import Ahead, Seen
from amber_ruler.sequential.observed import Look, Observed, fractions_seen, look_of, plan_at
from amber_ruler.sequential.recursion import Path, Regions

GO_ON, STOP, HARM = "go on", "stop: a difference", "stop: harm"
FUTILE, END = "stop: no difference to expect", "end: no difference shown"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Monitoring(Result):
    """What the looks so far allow, and what they say.

    Attributes
    ----------
    fractions, z, bounds : ndarray, shape (looks so far,)
        Information fraction, observed z, and the boundary that holds there.
    lower, futility : ndarray, shape (looks so far,), or None
        The boundary below, and that of futility.
    nominal_p : ndarray, shape (looks so far,)
        p at each look if it had been the only one, of as many sides as the boundaries; not to be held against alpha.
    repeated_p, running_p : ndarray, shape (looks so far,)
        The error rate whose boundary at the same looks is the z that was seen, at most 1: below alpha exactly where the
        boundary is crossed; and the smallest so far.
    decision : str
        "go on", "stop: a difference", "stop: harm", "stop: no difference to expect" (futility), or "end: no difference
        shown".
    crossed_at : int or None
        The first look (from 1) beyond its boundary of a difference or of harm.
    stopped_at : int or None
        The look at which the test ended, for whatever reason.
    planned : int
        Looks in all: those so far, and those still planned.
    alpha : float
        Error rate over all looks.
    stagewise_p : float or None
        Once it has ended: p in stage-wise order.
    drift, drift_interval, drift_adjusted : float, Interval, float, or None
        Then also the median-unbiased effect on the scale of the drift, its interval, and the bias-adjusted one. In the
        unit of the metric they are in `latest.looks`.
    conditional_power : mapping of str to float
        While it goes on: chance that the upper boundary is first crossed at a later look, under the planned effect
        ("design"), the one seen ("trend") and none ("none").
    conditional_last : mapping of str to float
        The same for being above the boundary at the last look, whatever happens before.
    predictive_power, predictive_last : float or None
        Both averaged over what is believed of the effect now.
    comparisons : Comparison or None
        All looks on an axis, with repeated p-values and intervals, where comparisons or estimates were given.
    latest : Comparison or None
        The look that decides (the last, or the one at which the test ended), with its place among the looks in `looks`.
        Its p and interval are the repeated ones while the test goes on, and the stage-wise ones once it has ended.
    boundaries : Boundaries
        The rule at the looks as they came and those still planned; stays in memory.
    """

    fractions: Floats
    z: Floats
    bounds: Floats
    nominal_p: Floats
    repeated_p: Floats
    running_p: Floats
    decision: str
    crossed_at: int | None
    stopped_at: int | None
    planned: int
    alpha: float
    sides: int
    lower: Floats | None = None
    futility: Floats | None = None
    stagewise_p: float | None = None
    drift: float | None = None
    drift_interval: Interval | None = None
    drift_adjusted: float | None = None
    conditional_power: dict[str, float] = field(default_factory=dict)
    conditional_last: dict[str, float] = field(default_factory=dict)
    predictive_power: float | None = None
    predictive_last: float | None = None
    comparisons: Comparison | None = None
    latest: Comparison | None = None
    boundaries: Boundaries | None = field(default=None, metadata=HIDDEN)


def monitor(
    boundaries: Boundaries,
    observed: Sequence[Observed],
    *,
    information: Sequence[float] | None = None,
    maximum: float | None = None,
    last: bool = False,
    prior: tuple[float, float] | None = None,
) -> Monitoring:
    """May the test stop after the looks so far, and what do they say?

    Parameters
    ----------
    boundaries : Boundaries
        The plan, made before the first look.
    observed : sequence of float, Comparison, or pair of float
        What was seen at each look so far, in order, of all units by then: a z; a Comparison, sharpened ones too; or an
        estimate and its standard error. A Comparison gives the z of its p-value, two-sided or of the tested side.
    information : sequence of float, optional
        What had come in by each look: shares of what was planned, or in the unit of `maximum`. Looks may come at other
        times than planned, and be more or fewer; the last may bring more than planned. Unless given it is the units of
        the comparisons (1/se² of estimates) where `maximum` is given, and else as planned.
    maximum : float, optional
        What was planned in all, in the same unit: units of all groups, for comparisons.
    last : bool
        Whether the last look here is the end of the test, short of what was planned: it spends all alpha that is left.
    prior : pair of float, optional
        Mean and standard deviation of what is believed of the effect beforehand, for the predictive power, in the unit
        of the estimates (of the drift where there are only z); flat unless given.

    Returns
    -------
    Monitoring

    Raises
    ------
    InputError
        If there are no looks, information shrinks or looks lie too close together, there are more looks than a
        classical shape was planned for, or looks came after the one that had all information.

    Notes
    -----
    Repeated p-values and intervals hold whatever made the test stop. Those in stage-wise order are sharper, and hold
    once it has stopped by its rule; alpha counts on futility only where it is binding. Two-sided, stage-wise p is twice
    the smaller side. The estimate is the one under which the outcome is as likely above as below; the bias-adjusted one
    counts with the looks still planned. A t is taken as the z of the same p-value. Limits of repeated intervals are the
    method's own at the boundary's nominal level.

    References
    ----------
    .. [1] Jennison & Turnbull (1989), Journal of the Royal Statistical Society B 51, 305-361, for repeated intervals.
    .. [2] Tsiatis, Rosner & Mehta (1984), Biometrics 40, 797-803.
    .. [3] Whitehead (1986), Biometrika 73, 573-581.
    .. [4] Spiegelhalter, Freedman & Blackburn (1986), Controlled Clinical Trials 7, 8-17, for predictive power.

    Examples
    --------
    >>> from amber_ruler.sequential import boundaries
    >>> r = monitor(boundaries(5), [1.2, 2.9, 2.8])
    >>> r.decision, r.stopped_at, round(r.stagewise_p, 4)
    ('stop: a difference', 3, 0.0054)
    >>> r = monitor(boundaries(5), [1.2, 2.1], information=[0.25, 0.5])
    >>> r.decision, {name: round(chance, 3) for name, chance in r.conditional_power.items()}
    ('go on', {'design': 0.906, 'trend': 0.921, 'none': 0.269})
    """
    rule, given = boundaries.rule, list(observed)
    if not given or len(given) > MOST_LOOKS:
        raise InputError(f"observed must hold 1 to {MOST_LOOKS} looks, got {len(given)}.")
    looks = [look_of(one, rule.sides) for one in given]
    z = np.array([look.z for look in looks])
    fractions = fractions_seen(boundaries, looks, information, maximum)
    plan, spending = plan_at(boundaries, fractions, last=last)
    size, over = z.size, plan.fractions.size
    done = bool(last or fractions[-1] >= 1)
    high, low, futility = plan.z[:size], plan.lower[:size], plan.futility
    beyond = np.flatnonzero((z > high) | (z < low))
    crossed = int(beyond[0]) + 1 if beyond.size else None
    decision, stopped = _decided(plan, z, crossed, done=done)
    futile = plan.futility if rule.binding else None
    levels = rule.levels_of(z, plan.fractions, spending, futile)
    outside = (z > high) | ((z < -high) if rule.sides == 2 else False)
    levels = np.array([_settled(p, rule.alpha, below=bool(o)) for p, o in zip(levels.tolist(), outside, strict=True)])
    nominal = 2 * normal.sf(np.abs(z)) if rule.sides == 2 else normal.sf(z)
    path = recursion.walk(Regions(plan.fractions, plan.z, plan.lower, futile, rule.sides == 2))
    found = _found(path, plan, z, stopped, decision)
    ahead = _ahead(plan, boundaries.drift, path, z, looks, prior) if decision == GO_ON else {}
    comparisons, latest = compared(plan, looks, nominal, levels, decision, stopped, over, found)
    return Monitoring(
        title=f"Look {size} of {over}",
        method=boundaries.method,
        source=boundaries.source,
        notes=tuple(_notes(boundaries, plan, z, crossed, stopped, found, looks)),
        fractions=fractions,
        z=z,
        bounds=high,
        nominal_p=nominal,
        repeated_p=levels,
        running_p=np.minimum.accumulate(levels),
        decision=decision,
        crossed_at=crossed,
        stopped_at=stopped,
        planned=over,
        alpha=rule.alpha,
        sides=rule.sides,
        lower=low if np.any(np.isfinite(low)) else None,
        futility=None if futility is None else futility[:size],
        comparisons=comparisons,
        latest=latest,
        boundaries=plan,
        **({} if found is None else found.fields),
        **ahead,
    )


def _decided(plan: Boundaries, z: Floats, crossed: int | None, *, done: bool) -> tuple[str, int | None]:
    """What the looks allow, and the look at which the test ended."""
    size = z.size
    futile = np.zeros(size, bool)
    if plan.futility is not None:
        futile = (np.abs(z) if plan.sides == 2 else z) <= plan.futility[:size]
        futile &= np.arange(size) < plan.fractions.size - 1
    gave_up = np.flatnonzero(futile)
    if plan.rule.binding and gave_up.size and (crossed is None or gave_up[0] + 1 < crossed):
        return FUTILE, int(gave_up[0]) + 1
    if crossed is not None:
        return (STOP if plan.sides == 2 or z[crossed - 1] > 0 else HARM), crossed
    if futile[-1]:
        return FUTILE, size
    return (END, size) if done else (GO_ON, None)


def _settled(p: float, alpha: float, *, below: bool) -> float:
    """A p-value on the side of alpha that the boundary says, where only rounding tells them apart."""
    if (p < alpha) == below or abs(p - alpha) > 1e-8 * alpha:
        return p
    return float(np.nextafter(alpha, 0)) if below else alpha


def _found(path: Path, plan: Boundaries, z: Floats, stopped: int | None, decision: str) -> Found | None:
    if stopped is None or (plan.sides == 2 and plan.rule.binding and decision == FUTILE):
        return None
    seen, alpha = Seen(path, stopped - 1, float(z[stopped - 1])), plan.alpha
    above, below = seen.beyond(0.0)
    p = min(1.0, 2 * min(above, below) if plan.sides == 2 else above)
    p = _settled(p, alpha, below=decision == STOP)
    low = seen.drift_with(alpha / plan.sides)
    high = seen.drift_with(1 - alpha / 2) if plan.sides == 2 else math.inf
    return Found(p, seen.drift_with(0.5), Interval(low, high, 1 - alpha), seen.bias_adjusted())


def _ahead(
    plan: Boundaries, design: float, path: Path, z: Floats, looks: list[Look], prior: tuple[float, float] | None
) -> dict[str, Any]:
    """Chances of what is still to come."""
    size, t, now = z.size, float(plan.fractions[z.size - 1]), float(z[-1])
    if size >= plan.fractions.size:
        return {}
    ahead = Ahead(path.regions.from_look(size), t, now)
    if prior is not None:
        mean, sd = (float(v) for v in gate.finite("prior", prior))
        gate.positive("sd of the prior", sd)
        per_drift = 1.0 if looks[-1].se is None else looks[-1].se * math.sqrt(t)
        prior = ((mean - looks[-1].null) / per_drift, sd / per_drift)
    named = {"design": design, "trend": now / math.sqrt(t), "none": 0.0}
    drifts = np.array(list(named.values()))
    first, end = ahead.first_crossed(drifts), ahead.crossed_last(drifts)
    predicted = ahead.predicted(prior)
    return {
        "conditional_power": dict(zip(named, first.tolist(), strict=True)),
        "conditional_last": dict(zip(named, end.tolist(), strict=True)),
        "predictive_power": predicted[0],
        "predictive_last": predicted[1],
    }


def _notes(
    asked: Boundaries,
    plan: Boundaries,
    z: Floats,
    crossed: int | None,
    stopped: int | None,
    found: Found | None,
    looks: list[Look],
) -> list[str]:
    said = []
    if stopped is not None and stopped < z.size:
        said.append(f"The test ended at look {stopped}: later looks add no right to stop.")
    if plan is not asked:
        said.append(f"The looks did not come as planned: alpha was spent anew at {plan.fractions.size} looks.")
    if plan.fractions[-1] > 1:
        said.append(f"There is {plan.fractions[-1]:.1%} of the planned information: the last look spends what is left.")
    if asked.rule.futility is not None and plan.futility is None:
        said.append("At these looks there is no room for futility: it is left out.")
    if stopped is not None and found is None:
        said.append("Giving up in the middle has no place in stage-wise order: the repeated p and interval hold.")
    if found is not None and any(look.comparison is not None and look.se is None for look in looks):
        said.append("Without a standard error there is no stage-wise interval: the repeated one holds.")
    if crossed is not None and asked.rule.binding and stopped is not None and stopped < crossed:
        said.append("The test went on though binding futility had ended it: alpha is not kept by what came after.")
    return said
