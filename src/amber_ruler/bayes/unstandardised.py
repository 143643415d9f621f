"""Means under priors of each group's own mean and variance: posteriors without a Bayes factor."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.bayes import against, plain
from amber_ruler.bayes.priors import NormalInverseGamma, Reference
from amber_ruler.bayes.summary import exp, figures, stacked, summary
from amber_ruler.errors import InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Comparison, Estimate, Evidence
from amber_ruler.results.parts import Curves
from amber_ruler.samples import Summary
from amber_ruler.samples import gate as groups

_SOURCE = "Jeffreys (1961), Theory of Probability, section 3.4"
_NO_FACTOR = "A prior of each group's own mean and variance gives a posterior here, and no Bayes factor."


def only_with_a_factor(prior: object, spread: str, odds: float | None, alternative: str) -> None:
    """Refuse settings that a prior without a factor makes nothing of."""
    if odds is not None:
        raise InputError(f"odds {odds:g} make nothing of the prior {prior}: it gives no Bayes factor.")
    if alternative != "two-sided":
        raise InputError(f"alternative {alternative!r} is for a Bayes factor: the prior {prior} gives none.")
    if spread != "unknown":
        raise InputError(f"spread {spread!r} goes with a Cauchy prior of the standardised effect only.")
    if not isinstance(prior, (Reference, NormalInverseGamma)):
        raise InputError.rule("prior", str(prior), "a Cauchy, Reference or NormalInverseGamma")


def evidence_of(ask: shared.Question, each: list[plain.Difference], prior: object, null: Floats, what: str) -> Evidence:
    """Posteriors of means or their differences, without a factor; losses where there is a mean."""
    shape, at = null.shape, np.ravel(null)

    def row(values: list[float]) -> Any:
        return scalar_or_array(np.reshape(np.array(values), shape))

    up, down = (row([f(d, float(v)) for d, v in zip(each, at, strict=True)]) for f in (_above, _below))
    better, worse = (up, down) if ask.good == "higher" else (down, up)
    within = None
    if ask.margin:
        m = ask.margin
        within = row([_inside(d, float(v) - m, float(v) + m) for d, v in zip(each, at, strict=True)])
    losses = {}
    if what == "difference" and all(d.has_mean for d in each) and not at.any():
        gain, loss = (row([d.log_loss(side) for d in each]) for side in ((1, -1) if ask.good == "higher" else (-1, 1)))
        losses = {"log_expected_loss": loss, "log_control_loss": gain}
        losses |= {"expected_loss": exp(loss), "control_loss": exp(gain)}
    known = [summary(ask, figures(ask, d), what) for d in each]
    return Evidence(
        prior=str(prior),
        posterior={what: stacked(known, shape)},
        curves=None if shape else Curves(each[0].quantiles, each[0].density),
        chance_better=exp(better),
        chance_worse=exp(worse),
        chance_within=within,
        log_chance_better=better,
        log_chance_worse=worse,
        null=scalar_or_array(null),
        **losses,
    )


def _above(one: plain.Difference, at: float) -> float:
    return one.log_above(at)


def _below(one: plain.Difference, at: float) -> float:
    return one.log_below(at)


def _inside(one: plain.Difference, low: float, high: float) -> float:
    below, above = np.exp([one.log_below(v) for v in (low, high)]), np.exp([one.log_above(v) for v in (low, high)])
    return float(max(below[1] - below[0] if below[1] < above[0] else above[0] - above[1], 0.0))


def one_mean(
    ask: shared.Question,
    one: Summary,
    seen: tuple[Floats, Floats, Floats],
    prior: Reference | NormalInverseGamma,
    null: Floats,
    metric: str | None,
) -> Estimate:
    """A group's mean, with its own variance."""
    rows = zip(*(np.ravel(v) for v in seen), strict=True)
    each = [plain.Difference(plain.posterior_of_mean(n, mean, sd, prior)) for n, mean, sd in rows]
    evidence = evidence_of(ask, each, prior, null, "mean")
    own, name = evidence.posterior["mean"], groups.named(metric, "value", one)
    return Estimate(
        title=f"{name}: mean of {one.label}",
        method=f"one mean, {'reference' if isinstance(prior, Reference) else 'conjugate'} prior",
        source=_SOURCE,
        metric=name,
        label=one.label,
        estimate=own.median,
        interval=own.interval,
        groups=(shared.mean_group(one.label, *seen),),
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        notes=(_NO_FACTOR,),
        checks=(
            *checks.few(seen[0], rests=checks.POSTERIOR_RESTS),
            *checks.skewed(ask.alpha, "two-sided", one),
            *checks.missing(one),
        ),
        parts=(evidence,),
    )


def two_means(
    ask: shared.Question,
    one: Summary,
    two: Summary,
    prior: Reference | NormalInverseGamma,
    null: Floats,
    metric: str | None,
) -> Comparison:
    """Each group with its own mean and variance."""
    numbers = gate.aligned(one.n, one.mean, one.sd, two.n, two.mean, two.sd, null)
    each = [
        plain.Difference(plain.posterior_of_mean(n1, m1, s1, prior), plain.posterior_of_mean(n0, m0, s0, prior))
        for n1, m1, s1, n0, m0, s0, _ in zip(*(np.ravel(v) for v in numbers), strict=True)
    ]
    evidence = evidence_of(ask, each, prior, numbers[6], "difference")
    own = evidence.posterior["difference"]
    return Comparison(
        **shared.between(ask, one, two, metric, "value"),
        method="two means, unequal variances",
        source="Ruben (1960), Journal of the Royal Statistical Society B 22, 188-194",
        estimate=own.median,
        interval=own.interval,
        groups=tuple(shared.mean_group(g.label, *numbers[k : k + 3]) for g, k in ((one, 0), (two, 3))),
        notes=(_NO_FACTOR,),
        checks=(
            *checks.few(numbers[0], numbers[3], rests=checks.POSTERIOR_RESTS),
            *checks.skewed(ask.alpha, "two-sided", one, two),
            *checks.missing(one, two),
        ),
        parts=(evidence,),
    )


def skewed_means(
    ask: shared.Question,
    one: Summary,
    two: Summary,
    values: str,
    prior: object,
    settings: tuple[str, float | None, str],
    null: ArrayLike,
    metric: str | None,
) -> Comparison:
    """Means of log-normal values, with zeros or without."""
    if prior is not None and not isinstance(prior, Reference):
        raise InputError.rule("prior", str(prior), f"the reference prior with {values} values")
    only_with_a_factor(Reference(), *settings)
    if np.any(np.asarray(null) != 0):
        raise InputError.rule("null", null, f"0 with {values} values")
    shape = plain.log_normal_mean if values == "log-normal" else plain.zeros_and_log_normal
    curves = []
    for group in (one, two):
        if group.values is None:
            raise InputError(f"{values} needs the values of {group.label} one by one, not numbers made of them.")
        curves.append(shape(group.values, group.label))
    none = against.Moments(None, None)
    joins = (
        against.Join("difference", "difference", "metric", "difference", none),
        against.Join("lift", "lift", "relative", "log ratio", none),
    )
    found = against.evidence_of_pairs(
        ask, [against.Pair(curves[0], curves[1], joins)], (), prior="reference", odds=None
    )
    evidence = replace(found, expected_loss=None, control_loss=None, log_expected_loss=None, log_control_loss=None)
    own = evidence.posterior["difference"]
    n1, n0 = (np.asarray(float(g.n)) for g in (one, two))
    return Comparison(
        **shared.between(ask, one, two, metric, "value"),
        method=f"two means of {values} values",
        source="Zellner (1971), Journal of the American Statistical Association 66, 327-330",
        estimate=own.median,
        interval=own.interval,
        effects=against.effects_of(evidence, ("lift",)),
        groups=tuple(
            shared.mean_group(g.label, n, np.asarray(g.mean), np.asarray(g.sd)) for g, n in ((one, n1), (two, n0))
        ),
        notes=(_NO_FACTOR, f"The mean of {values} values has no posterior mean: medians, limits and chances only."),
        checks=(*checks.few(n1, n0, rests=checks.POSTERIOR_RESTS, values="log-normal"), *checks.missing(one, two)),
        parts=(evidence,),
    )
