"""What shares and rates have in common: posteriors of one, of two against each other, and which of several is best."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from amber_ruler.bayes.curve import Curve, Line
from amber_ruler.bayes.gap import Gap, Single
from amber_ruler.bayes.summary import exp, figures, stacked, summary
from amber_ruler.measure.shared import Question
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results import Check, EffectSize, Estimate, Evidence, Family, Group, PosteriorSummary
from amber_ruler.results.parts import Curves


class Moments(NamedTuple):
    """Mean and standard deviation of a quantity, None where there is none."""

    mean: float | None
    sd: float | None


class Join(NamedTuple):
    """One way to hold two quantities against each other."""

    name: str
    label: str
    unit: str
    how: Any  # as `Gap` knows it
    moments: Moments


class Pair(NamedTuple):
    """Two posteriors, in what ways they are joined, and the factor of a difference against none."""

    one: Curve
    two: Curve
    joins: tuple[Join, ...]
    log_factor: float | None = None
    log_prior_above: float = float(np.log(0.5))  # of the first to be the higher, before the data
    log_prior_below: float = float(np.log(0.5))
    priors: tuple[Curve, Curve] | None = None


class _Told(NamedTuple):
    log_up: float
    log_down: float
    within: float
    log_loss_up: float  # how far the first lies above the second on average
    log_loss_down: float
    posterior: tuple[PosteriorSummary, ...]
    gap: Gap


def moments_of_difference(one: Moments, two: Moments) -> Moments:
    """Of independent quantities."""
    if one.mean is None or two.mean is None:
        return Moments(None, None)
    sd = None if one.sd is None or two.sd is None else float(np.hypot(one.sd, two.sd))
    return Moments(one.mean - two.mean, sd)


def moments_of_product(first: Sequence[float | None], second: Sequence[float | None]) -> Moments:
    """From the first and second raw moments of two independent factors; None where one has none."""
    (m1, s1), (m0, s0) = first, second
    if m1 is None or m0 is None:
        return Moments(None, None)
    if s1 is None or s0 is None:
        return Moments(m1 * m0, None)
    # E(x^2) E(y^2) - E(x)^2 E(y)^2, gathered so that close spreads keep their digits.
    v1, v0 = max(s1 - m1 * m1, 0.0), max(s0 - m0 * m0, 0.0)
    return Moments(m1 * m0, float(np.sqrt(v1 * s0 + v0 * m1 * m1)))


def evidence_of_pairs(
    ask: Question, pairs: Sequence[Pair], shape: tuple[int, ...], *, prior: str, odds: float | None
) -> Evidence:
    """The evidence of many pairs, in a shape."""
    told = [_told(ask, pair) for pair in pairs]

    def row(values: Sequence[float]) -> Number:
        return scalar_or_array(np.reshape(np.asarray(values, dtype=float), shape))

    up = row([t.log_up for t in told]), row([t.log_loss_up for t in told])
    down = row([t.log_down for t in told]), row([t.log_loss_down for t in told])
    (better, gain), (worse, loss) = (up, down) if ask.good == "higher" else (down, up)
    factors: dict[str, Any] = {}
    if pairs[0].log_factor is not None:
        log_factor = row([p.log_factor or 0.0 for p in pairs])
        factors = {
            "bayes_factor": exp(log_factor),
            "log_bayes_factor": log_factor,
            "log_factor_above": log_factor + up[0] - row([p.log_prior_above for p in pairs]),
            "log_factor_below": log_factor + down[0] - row([p.log_prior_below for p in pairs]),
        }
    return Evidence(
        prior=prior,
        curves=None if shape else _curves(pairs[0], told[0].gap),
        posterior={j.name: stacked([t.posterior[k] for t in told], shape) for k, j in enumerate(pairs[0].joins)},
        chance_better=exp(better),
        chance_worse=exp(worse),
        chance_within=row([t.within for t in told]) if ask.margin else None,
        expected_loss=exp(loss),
        control_loss=exp(gain),
        log_chance_better=better,
        log_chance_worse=worse,
        log_expected_loss=loss,
        log_control_loss=gain,
        odds=odds,
        **factors,
    )


def _told(ask: Question, pair: Pair) -> _Told:
    curves = (pair.one, pair.two)
    line = Line.of([*curves])
    log_chances, log_losses = line.log_chance_highest(), line.log_loss()
    posterior, within = [], 0.0
    gaps = [
        Gap(curves, j.how, log_chances, lift=j.unit == "relative", mean=j.moments.mean, sd=j.moments.sd)
        for j in pair.joins
    ]
    for join, gap in zip(pair.joins, gaps, strict=True):
        posterior.append(summary(ask, figures(ask, gap)[:, :1], join.label, join.unit))
        if ask.margin and join.how == "difference":
            within = gap.chance_between(-ask.margin, ask.margin)
    up, down = (float(v) for v in log_chances)
    loss_up, loss_down = float(log_losses[1]), float(log_losses[0])
    return _Told(up, down, within, loss_up, loss_down, tuple(posterior), gaps[0])


def _curves(pair: Pair, gap: Gap) -> Curves:
    prior = None
    if pair.priors is not None:
        before = Gap(pair.priors, "difference", Line.of([*pair.priors]).log_chance_highest())
        prior = before.density
    return Curves(gap.quantiles, gap.density, prior)


def effects_of(evidence: Evidence, names: Sequence[str]) -> dict[str, EffectSize]:
    """Posteriors as effect sizes; the evidence tables them."""
    found = {name: evidence.posterior[name] for name in names}
    return {n: EffectSize(p.median, p.interval, p.label, p.unit, aside=True) for n, p in found.items()}


def evidence_of_one(
    ask: Question,
    curves: Sequence[tuple[Curve, Moments]],
    shape: tuple[int, ...],
    *,
    label: str,
    unit: str,
    prior: str,
    null: Floats | None,
    odds: float | None,
    factors: Sequence[tuple[float, float, float]] | None,
    prior_curve: Curve | None = None,
) -> Evidence:
    """Of one quantity against a value; `factors`: log factor, and logs of the prior chances above and below."""

    def row(values: Any) -> Number:
        return scalar_or_array(np.reshape(np.asarray(values, dtype=float), shape))

    each = [Single(curve, mean=m.mean, sd=m.sd) for curve, m in curves]
    posterior = {unit: stacked([summary(ask, figures(ask, one), label, unit) for one in each], shape)}
    drawn = None
    if shape == ():
        before = None if prior_curve is None else Single(prior_curve)
        drawn = Curves(
            each[0].quantiles,
            lambda x: _density(each[0], x),
            None if before is None else lambda x: _density(before, x),
        )
    if null is None or factors is None:
        return Evidence(prior=prior, posterior=posterior, curves=drawn)
    tails = [one.point(one.curve.place(np.array([at]))) for one, at in zip(each, null.ravel(), strict=True)]
    up, down = row([t.log_above[0] for t in tails]), row([t.log_below[0] for t in tails])
    better, worse = (up, down) if ask.good == "higher" else (down, up)
    within = None
    if ask.margin:
        ends = np.clip([null.ravel() - ask.margin, null.ravel() + ask.margin], 0, None).T
        within = row([_between(one, *one.curve.place(pair)) for one, pair in zip(each, ends, strict=True)])
    log_factor, above, below = (row([f[k] for f in factors]) for k in range(3))
    return Evidence(
        prior=prior,
        posterior=posterior,
        curves=drawn,
        chance_better=exp(better),
        chance_worse=exp(worse),
        chance_within=within,
        log_chance_better=better,
        log_chance_worse=worse,
        bayes_factor=exp(log_factor),
        log_bayes_factor=log_factor,
        log_factor_above=log_factor + up - above,
        log_factor_below=log_factor + down - below,
        odds=odds,
        null=scalar_or_array(null),
    )


def _density(one: Single, x: Floats) -> Floats:
    """Density at values, 0 where the quantity can't be."""
    with np.errstate(all="ignore"):
        at = one.curve.place(x)
    known = np.isfinite(at)
    return np.where(known, one.density(np.where(known, at, 0.0)), 0.0)


def _between(one: Single, low: float, high: float) -> float:
    found = one.point(np.array([low, high]))
    below, above = np.exp(found.log_below), np.exp(found.log_above)
    return float(max(below[1] - below[0] if below[1] < above[0] else above[0] - above[1], 0.0))


class Arm(NamedTuple):
    """One of several variants: its posterior, and what was seen of it."""

    label: str
    curve: Curve
    moments: Moments
    groups: tuple[Group, ...]
    checks: tuple[Check, ...]


def best_of(
    ask: Question, arms: Sequence[Arm], *, metric: str, what: str, kind: str, prior: str, source: str
) -> Family:
    """Several variants with their chances to be the best and the lowest, and what choosing each would cost."""
    line = Line.of([arm.curve for arm in arms])
    highest, lowest = line.log_chance_highest(), line.log_chance_lowest()
    best, loss = (highest, line.log_loss()) if ask.good == "higher" else (lowest, line.log_loss(lowest=True))
    results = []
    for k, arm in enumerate(arms):
        own = summary(ask, figures(ask, Single(arm.curve, mean=arm.moments.mean, sd=arm.moments.sd)), arm.label, what)
        part = Evidence(
            prior=prior,
            posterior={what: own},
            chance_best=exp(best[k]),
            chance_lowest=exp(lowest[k]),
            log_chance_better=float(best[k]),
            expected_loss=exp(loss[k]),
            log_expected_loss=float(loss[k]),
        )
        results.append(
            Estimate(
                title=f"{metric}: {what} of {arm.label}",
                method=f"one {what}, {kind} prior",
                source=source,
                metric=metric,
                label=arm.label,
                estimate=own.median,
                interval=own.interval,
                groups=arm.groups,
                quantity=what,
                good=ask.good,
                checks=arm.checks,
                parts=(part,),
            )
        )
    return Family(
        title=f"{metric}: which of {len(arms)} is best?",
        method=f"independent {kind} priors, {prior} for each {what}",
        source=source,
        labels=tuple(arm.label for arm in arms),
        results=tuple(results),
    )
