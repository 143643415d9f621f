"""Treatment against control, each by its adjusted mean and standard error."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from amber_ruler import effects
from amber_ruler.measure import checks, shared
from amber_ruler.moments import Moments
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Adjustment, Axis, Check, Comparison, EffectSize, Group
from amber_ruler.results.parts import Part, Strata
from amber_ruler.samples import gate as groups


class Arm(NamedTuple):
    """One variant after adjustment."""

    label: str
    n: Floats
    mean: Floats
    variance: Floats  # squared standard error of the mean
    df: Floats
    tail: Floats = np.float64(0.0)  # type: ignore[assignment]
    more: Mapping[str, float] = {}


def split(base: Any, rest: Any) -> tuple[Floats, Floats]:
    """A mean near `base` and what its float rounds away."""
    mean = np.asarray(base + np.asarray(rest))
    return mean, np.asarray((base - mean) + rest)


def gained(steps: Sequence[str], raw: Comparison | None, se: Any, n: Any, **more: Any) -> Adjustment:
    """What steps were worth: the share of the raw variance that went, and the units that would do the same."""
    if raw is None:
        return Adjustment(steps=tuple(steps), **more)
    kept = (np.asarray(se) / np.asarray(raw.se)) ** 2
    with np.errstate(divide="ignore"):
        further = np.maximum(np.round(np.asarray(n) * (np.where(kept > 0, 1 / kept, 1.0) - 1)), 0.0)
    removed, saved = scalar_or_array(1 - kept), scalar_or_array(further)
    return Adjustment(steps=tuple(steps), raw=raw, variance_removed=removed, units_saved=saved, **more)


def satterthwaite(one: Floats, two: Floats, df1: Floats, df0: Floats) -> Floats:
    """Degrees of freedom of a sum of two variances."""
    total = one + two
    share1, share0 = one / total, two / total
    found: Floats = 1 / (share1**2 / df1 + share0**2 / df0)
    return found


def compare(
    ask: shared.Question,
    arms: Sequence[Arm],
    null: Floats | float,
    *,
    metric: str,
    method: str,
    source: str,
    covariance: Floats | float = 0.0,
    se: Floats | None = None,
    df: Floats | None = None,
    lifts: bool = True,
    axis: Axis | None = None,
    said: str = "",
    checks_: Sequence[Check] = (),
    notes: Sequence[str] = (),
    facts: Mapping[str, Any] | None = None,
    parts: Sequence[Part] = (),
    quantity: str = "adjusted mean",
    few: Sequence[Floats] = (),
) -> Comparison:
    """The difference of two adjusted means: t with Satterthwaite's degrees of freedom, or those given."""
    one, two = arms
    groups.check_labels(one.label, two.label)
    difference = (one.mean - two.mean) + (one.tail - two.tail)
    if se is None:
        se = np.sqrt(np.maximum(one.variance + two.variance - 2 * np.asarray(covariance), 0.0))
    shape = np.broadcast_shapes(np.shape(difference), np.shape(null))
    difference, se, at = (np.broadcast_to(np.asarray(v, dtype=float), shape)[()] for v in (difference, se, null))
    if df is None:
        df = satterthwaite(one.variance, two.variance, one.df, two.df)
    lifted = shared.Lifted(two.mean, (one.variance, two.variance), covariance) if lifts else None
    result = shared.symmetric_test(ask, difference, se, df, at, lifted)
    found: dict[str, EffectSize] = {}
    if lifts:
        means, squares = (one.mean, two.mean), (one.variance, two.variance)
        known = effects.lift(
            means, squares, result.critical, covariance=covariance, alpha=ask.alpha, alternative=ask.alternative
        )
        found = {name: effect for name, effect in known.items() if effects.known(effect)}
    each = tuple(
        Group(
            arm.label,
            scalar_or_array(arm.n),
            scalar_or_array(arm.mean),
            se=scalar_or_array(np.sqrt(arm.variance)),
            more=arm.more,
        )
        for arm in (one, two)
    )
    return Comparison(
        title=f"{metric}: {one.label} − {two.label}{said}",
        metric=metric,
        treatment=one.label,
        control=two.label,
        method=method,
        source=source,
        estimate=scalar_or_array(difference),
        se=scalar_or_array(se),
        interval=result.interval,
        test=result.test,
        effects=found,
        groups=each,
        facts=facts or {},
        quantity=quantity,
        good=ask.good,
        margin=ask.margin,
        margin_lift=ask.margin_lift,
        axis=axis,
        checks=(*checks_, *checks.few(*(few or (one.n, two.n)))),
        notes=tuple(notes),
        parts=tuple(parts),
    )


def in_points(result: Comparison, raw: Sequence[Moments]) -> Comparison:
    """The same as a difference of shares, where every raw value is 0 or 1."""
    if result.quantity not in ("mean", "adjusted mean") or not all(np.all(m.zero_one()) for m in raw):
        return result
    points: Any = {"quantity": "adjusted share"}
    parts = [
        replace(part, raw=replace(part.raw, **points)) if isinstance(part, Adjustment) and part.raw is not None
        else replace(part, effects=replace(part.effects, **points)) if isinstance(part, Strata)
        else part
        for part in result.parts
    ]  # fmt: skip
    return replace(result, parts=tuple(parts), **points)


def ratio_of(
    ask: shared.Question,
    labels: tuple[str, str],
    log_ratio: float,
    log_se: float,
    df: float | None,
    null: float,
    each: Sequence[Group],
    *,
    metric: str,
    method: str,
    source: str,
    quantity: str = "mean",
    found: Mapping[str, EffectSize] | None = None,
    facts: Mapping[str, Any] | None = None,
    checks_: Sequence[Check] = (),
    notes: Sequence[str] = (),
    parts: Sequence[Part] = (),
) -> Comparison:
    """Treatment over control, tested on the log scale: t with degrees of freedom, z without."""
    groups.check_labels(*labels)
    degrees = None if df is None else np.asarray(df)
    logs = shared.symmetric_test(
        ask._replace(margin=None), np.asarray(log_ratio), np.asarray(log_se), degrees, np.log(np.asarray(null))
    )
    ratio = np.exp(np.asarray(log_ratio))
    with np.errstate(over="ignore"):
        low, high = (np.exp(np.asarray(end)) for end in (logs.interval.low, logs.interval.high))
    limits = shared.agreeing(ask, low, high, logs.p, np.asarray(null), ratio)
    one, two = labels
    return Comparison(
        title=f"{metric}: {one} / {two}",
        metric=metric,
        treatment=one,
        control=two,
        scale="ratio",
        method=method,
        source=source,
        estimate=scalar_or_array(ratio),
        interval=limits,
        test=ask.test(
            logs.p,
            np.asarray(null),
            statistic=logs.test.statistic,
            name=logs.test.name,
            df=degrees,
            critical=logs.critical,
        ),
        effects=found or {},
        groups=tuple(each),
        facts={"log_ratio": float(log_ratio), "log_se": float(log_se)} | dict(facts or {}),
        quantity=quantity,
        good=ask.good,
        checks=(*checks_, *checks.few(*(np.asarray(float(g.n)) for g in each))),
        notes=tuple(notes),
        parts=tuple(parts),
    )
