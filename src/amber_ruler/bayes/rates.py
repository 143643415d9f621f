"""Rates of events with gamma priors: one, two against each other, and which of several is best."""

from __future__ import annotations

from typing import Any, Unpack

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.bayes import against, curve
from amber_ruler.bayes.against import Join, Moments, Pair
from amber_ruler.bayes.curve import Curve, Line
from amber_ruler.bayes.priors import Gamma
from amber_ruler.bayes.proportions import needs_factor
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.stirling import log_divergence, stirling_error
from amber_ruler.register import method
from amber_ruler.results import Comparison, Estimate, Family, Group
from amber_ruler.samples import Events, RateGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Directed

_SOURCE = "Lindley (1965), Introduction to Probability and Statistics, part 2"
_NO_TEST = {"p and interval": "there is no test", "rescale": "the prior has the unit too"}


@method(
    takes="one",
    needs="rate",
    published=True,
    examples=('--events 30 --exposure 120 --prior "gamma 2 10" --null 0.3',),
    exempt=_NO_TEST,
)
def rate(
    group: RateGroup,
    *,
    prior: Gamma,
    odds: float | None = None,
    null: ArrayLike | None = None,
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Estimate:
    """How many events are likely to come for each unit of exposure, and does the rate differ from a given one?

    Parameters
    ----------
    group : Events, array_like of counts per unit, Sample or Moments
        The group; Events of arrays ask many questions at once.
    prior : Gamma
        Prior of the rate: worth so many events over so much exposure.
    odds : float, optional
        Prior odds of a rate other than `null` against `null`; the chance that it is `null` then follows.
    alpha : float, between 0 and 0.5
        The posterior intervals have level 1 - alpha.
    null : float or array_like above 0, optional
        A value to hold the rate against: there is then a Bayes factor.
    margin
        As for `measure.rate`.

    Returns
    -------
    Estimate
        Without a test: posterior median and equal-tailed interval; in `evidence` the posterior ("rate"), and with a
        null the Bayes factor, those of either direction alone, and the chances to lie above and below.

    Notes
    -----
    With x events over an exposure e and a prior Gamma(a, b) the posterior is Gamma(a + x, b + e) [1]_. The counts are
    taken to be Poisson: where they vary more than that, the posterior is too narrow.

    References
    ----------
    .. [1] Lindley (1965), Introduction to Probability and Statistics, part 2.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> from amber_ruler.bayes import Gamma
    >>> r = rate(Events(30, 120.0, "short"), prior=Gamma(2, 10), null=0.35)
    >>> round(r.estimate, 4), round(r.evidence.bayes_factor, 3)
    (0.2436, 1.539)
    """
    ask = shared.question(asked, margin=margin)
    one = groups.one(group, "rate")
    at = shared.null_of(null, gate.positive)
    needs_factor(odds, there=at is not None)
    x, exposure, *rest = gate.aligned(one.count, one.exposure, *(() if at is None else (at,)))
    rows = list(zip(x.ravel(), exposure.ravel(), strict=True))
    factors = None
    if at is not None:
        factors = [_factor_of_one(prior, *row, v) for row, v in zip(rows, np.ravel(rest[0]), strict=True)]
    curves = [_known(prior, *row) for row in rows]
    evidence = against.evidence_of_one(
        ask,
        curves,
        x.shape,
        label="rate",
        unit="rate",
        prior=str(prior),
        null=None if at is None else np.asarray(rest[0]),
        odds=odds,
        factors=factors,
        prior_curve=curve.rate(prior.events, prior.exposure),
    )
    own = evidence.posterior["rate"]
    name = groups.named(ask.metric, "events", one)
    return Estimate(
        title=f"{name}: rate of {one.label}",
        method="one rate, gamma prior",
        source=_SOURCE,
        metric=name,
        label=one.label,
        estimate=own.median,
        interval=own.interval,
        groups=(_group(one),),
        quantity="rate",
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        checks=(*checks.dispersion(one), *checks.missing(one)),
        parts=(evidence,),
    )


@method(
    takes="two",
    needs="rate",
    published=True,
    examples=('--events 40,60 --exposure 120,130 --prior "gamma 2 5"',),
    exempt=_NO_TEST,
)
def rates(
    treatment: RateGroup,
    control: RateGroup,
    *,
    prior: Gamma,
    control_prior: Gamma | None = None,
    common_prior: Gamma | None = None,
    odds: float | None = None,
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Comparison:
    """What is the chance that treatment has the better rate, by how much, and what is lost if it has not?

    Parameters
    ----------
    treatment, control : Events, array_like of counts per unit, Sample or Moments
        The two groups; Events of arrays ask many questions at once.
    prior : Gamma
        Prior of each rate, independently: worth so many events over so much exposure.
    control_prior, common_prior : Gamma, optional
        As for `proportions`.
    odds : float, optional
        Prior odds of a difference against none: the chance that there is none then follows.
    alpha : float, between 0 and 0.5
        The posterior intervals have level 1 - alpha.
    margin
        As for `measure.rates`.

    Returns
    -------
    Comparison
        As for `proportions`, with the posteriors of "difference" and "lift".

    References
    ----------
    .. [1] Lindley (1965), Introduction to Probability and Statistics, part 2.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> from amber_ruler.bayes import Gamma
    >>> r = rates(Events(40, 120.0, "short"), Events(60, 130.0, "current"), prior=Gamma(2, 5))
    >>> round(r.evidence.chance_better, 4), round(r.evidence.bayes_factor, 3)
    (0.0564, 0.933)
    """
    ask = shared.question(asked, margin=margin)
    one, two = groups.two(treatment, control, "rate")
    other = control_prior or prior
    common = common_prior or (prior if other == prior else None)
    needs_factor(odds, there=common is not None)
    numbers = gate.aligned(one.count, one.exposure, two.count, two.exposure)
    rows = zip(*(np.ravel(v) for v in numbers), strict=True)
    evidence = against.evidence_of_pairs(
        ask,
        [_pair(row, prior, other, common) for row in rows],
        numbers[0].shape,
        prior=f"{prior} for each rate" if other == prior else f"{prior} for {one.label}, {other} for {two.label}",
        odds=odds,
    )
    own = evidence.posterior["difference"]
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "events"),
        method="two rates, independent gamma priors",
        source=_SOURCE,
        estimate=own.median,
        interval=own.interval,
        effects=against.effects_of(evidence, ("lift",)),
        groups=(_group(one), _group(two)),
        quantity="rate",
        checks=(*checks.dispersion(one, two), *checks.missing(one, two)),
        notes=() if common else ("The rates have different priors: without a common one there is no factor.",),
        parts=(evidence,),
    )


@method(
    takes="several",
    needs="rate",
    published=True,
    examples=('--events 40,60,52 --exposure 120,130,125 --prior "gamma 2 5" --good lower',),
    exempt=_NO_TEST,
)
def best_rate(
    samples: Any,
    *,
    prior: Gamma,
    **asked: Unpack[Directed],
) -> Family:
    """Which of several variants has the best rate, and what would choosing another cost?

    Parameters
    ----------
    samples : mapping of label to Events, Sample or counts per unit, or list of groups with labels
        The variants.
    prior : Gamma
        Prior of each rate, independently.

    Returns
    -------
    Family
        As for `best_proportion`.

    References
    ----------
    .. [1] Lindley (1965), Introduction to Probability and Statistics, part 2.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> from amber_ruler.bayes import Gamma
    >>> r = best_rate([Events(40, 120, "short"), Events(60, 130, "current")], prior=Gamma(2, 5), good="lower")
    >>> round(r["short"].evidence.chance_best, 4)
    0.9436
    """
    ask = shared.question(asked)
    each = groups.several(samples, "rate")
    origin = max(_posterior(prior, float(e.count), float(e.exposure)) for e in each)  # the best known one
    arms = [
        against.Arm(
            e.label,
            *_known(prior, float(e.count), float(e.exposure), origin),
            (_group(e),),
            (*checks.dispersion(e), *checks.missing(e)),
        )
        for e in each
    ]
    name = groups.named(ask.metric, "events", *each)
    return against.best_of(ask, arms, metric=name, what="rate", kind="gamma", prior=str(prior), source=_SOURCE)


def _group(events: Events) -> Group:
    return shared.rate_group(events.label, *gate.aligned(events.count, events.exposure))


def _posterior(prior: Gamma, x: float, exposure: float) -> tuple[float, float]:
    return prior.events + float(x), prior.exposure + float(exposure)


def _known(prior: Gamma, x: float, exposure: float, beside: tuple[float, float] | None = None) -> tuple[Curve, Moments]:
    a, b = _posterior(prior, x, exposure)
    return curve.rate(a, b, beside), Moments(a / b, float(np.sqrt(a)) / b)


def _pair(row: tuple[float, ...], prior: Gamma, other: Gamma, common: Gamma | None) -> Pair:
    x1, e1, x0, e0 = (float(v) for v in row)
    (a1, b1), (a0, b0) = _posterior(prior, x1, e1), _posterior(other, x0, e0)
    origin = max((a1, b1), (a0, b0))  # the better known one
    (one, first), (two, second) = _known(prior, x1, e1, origin), _known(other, x0, e0, origin)
    inverse = b0 / (a0 - 1) if a0 > 1 else None, b0 / (a0 - 1) * b0 / (a0 - 2) if a0 > 2 else None
    ratio = against.moments_of_product((a1 / b1, a1 / b1 * (a1 + 1) / b1), inverse)
    lift = Moments(None if ratio.mean is None else ratio.mean - 1, ratio.sd)
    joins = (
        Join("difference", "difference", "rate", "difference", against.moments_of_difference(first, second)),
        Join("lift", "lift", "relative", "log ratio", lift),
    )
    priors = (
        curve.rate(prior.events, prior.exposure),
        curve.rate(other.events, other.exposure, (prior.events, prior.exposure)),
    )
    if common is None:
        return Pair(one, two, joins, priors=priors)
    before = np.log([0.5, 0.5])
    if prior != other:
        before = Line.of([*priors]).log_chance_highest()
    factor = _factor_of_two((a1, b1, prior), (a0, b0, other), common, x1 + x0, e1 + e0)
    return Pair(one, two, joins, factor, float(before[0]), float(before[1]), priors)


def _log_gamma_rest(a: float) -> float:
    """Log of the gamma function without a^a e^-a."""
    return float(0.5 * np.log(2 * np.pi / a) + stirling_error(a))


def _log_prior(prior: Gamma) -> float:
    return float(prior.events * np.log(prior.exposure) - special.gammaln(prior.events))


def _factor_of_one(prior: Gamma, x: float, exposure: float, null: float) -> tuple[float, float, float]:
    """Log of the factor of a rate other than null, and logs of the prior's chances above and below it."""
    a, b = _posterior(prior, x, exposure)
    fit = log_divergence(a, b * null) + prior.events * np.log(null) - prior.exposure * null
    factor = float(fit + _log_gamma_rest(a) + _log_prior(prior))
    known = curve.rate(prior.events, prior.exposure)
    below, above = known.log_tails(float(np.log(null * prior.exposure / prior.events)))
    return factor, above, below


def _factor_of_two(
    one: tuple[float, float, Gamma], two: tuple[float, float, Gamma], common: Gamma, events: float, exposure: float
) -> float:
    """Log of the factor of two rates against one that both have."""
    a, b = common.events + events, common.exposure + exposure
    mean = a / b
    log = -_log_gamma_rest(a) - _log_prior(common)
    for a1, b1, prior in (one, two):
        log += log_divergence(a1, b1 * mean) + _log_gamma_rest(a1) + _log_prior(prior)
    extra_events = one[2].events + two[2].events - common.events
    extra_exposure = one[2].exposure + two[2].exposure - common.exposure
    return float(log + extra_events * np.log(mean) - extra_exposure * mean)
