"""Shares with beta priors: one, two against each other, and which of several is best."""

from __future__ import annotations

from typing import Any, Unpack

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.bayes import against, curve
from amber_ruler.bayes.against import Join, Moments, Pair
from amber_ruler.bayes.curve import Curve, Line
from amber_ruler.bayes.priors import Beta
from amber_ruler.errors import InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.stirling import log_divergence, stirling_error
from amber_ruler.register import method
from amber_ruler.results import Comparison, Estimate, Family
from amber_ruler.samples import Counts, ShareGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Directed

_PRIOR = Beta()
_SOURCE = "Altham (1969), Journal of the Royal Statistical Society B 31, 261-269"
_NO_TEST = {"p and interval": "there is no test"}


@method(
    takes="one",
    needs="share",
    published=True,
    examples=("--successes 60 --trials 400 --null 0.1", "travellers.csv --value booked --null 0.25"),
    exempt=_NO_TEST,
)
def proportion(
    group: ShareGroup,
    *,
    prior: Beta = _PRIOR,
    odds: float | None = None,
    null: ArrayLike | None = None,
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Estimate:
    """Where is a share likely to be, and does it differ from a given one?

    Parameters
    ----------
    group : Counts, array_like of 0/1, Sample or Moments
        The group; Counts of arrays ask many questions at once. Without any trials it is what the prior says.
    prior : Beta
        Prior of the share.
    odds : float, optional
        Prior odds of a share other than `null` against `null`; the chance that it is `null` then follows.
    alpha : float, between 0 and 0.5
        The posterior intervals have level 1 - alpha.
    null : float or array_like between 0 and 1, optional
        A value to hold the share against: there is then a Bayes factor.
    margin
        As for `measure.proportion`.

    Returns
    -------
    Estimate
        Without a test: posterior median and equal-tailed interval; in `evidence` the posterior ("share"), and with a
        null the Bayes factor, those of either direction alone, and the chances to lie above and below.

    Notes
    -----
    The factor is the beta function of the posterior over that of the prior, over null^x (1 - null)^(n - x) [1]_.

    References
    ----------
    .. [1] Jeffreys (1961), Theory of Probability, section 5.1.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportion(Counts(60, 400, "short"), null=0.1)
    >>> round(r.estimate, 4), round(r.evidence.bayes_factor, 3)
    (0.1512, 5.968)
    """
    ask = share_question(asked, margin)
    one = groups.one(group, "share", least=0)
    at = shared.null_of(null, gate.between, 0, 1)
    needs_factor(odds, there=at is not None)
    x, n, *rest = gate.aligned(one.successes, one.trials, *(() if at is None else (at,)))
    shape = x.shape
    posteriors = [_posterior(prior, *row) for row in zip(x.ravel(), n.ravel(), strict=True)]
    factors = None
    if at is not None:
        factors = [_factor_of_one(prior, *row) for row in zip(x.ravel(), n.ravel(), np.ravel(rest[0]), strict=True)]
    curves = [(curve.share(*ab), _moments(*ab)) for ab in posteriors]
    evidence = against.evidence_of_one(
        ask,
        curves,
        shape,
        label="share",
        unit="share",
        prior=str(prior),
        null=None if at is None else np.asarray(rest[0]),
        odds=odds,
        factors=factors,
        prior_curve=_prior(prior),
    )
    own = evidence.posterior["share"]
    name = groups.named(ask.metric, "success", one)
    return Estimate(
        title=f"{name}: share of {one.label}",
        method="one share, beta prior",
        source="Jeffreys (1961), Theory of Probability",
        metric=name,
        label=one.label,
        estimate=own.median,
        interval=own.interval,
        groups=_groups(one),
        quantity="share",
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        checks=checks.missing(one),
        parts=(evidence,),
    )


@method(
    takes="two",
    needs="share",
    published=True,
    examples=(
        "travellers.csv --value booked --by form --control current",
        '--successes 60,40 --trials 400,400 --prior "beta 1 1"',
    ),
    exempt=_NO_TEST,
)
def proportions(
    treatment: ShareGroup,
    control: ShareGroup,
    *,
    prior: Beta = _PRIOR,
    control_prior: Beta | None = None,
    common_prior: Beta | None = None,
    odds: float | None = None,
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Comparison:
    """What is the chance that treatment has the better share, by how much, and what is lost if it has not?

    Parameters
    ----------
    treatment, control : Counts, array_like of 0/1, Sample or Moments
        The two groups; Counts of arrays ask many questions at once. A group without trials is what its prior says.
    prior : Beta
        Prior of each share, independently.
    control_prior : Beta, optional
        Another one of control's share.
    common_prior : Beta, optional
        Prior of the one share that both have if there is no difference: `prior` unless given. Where the two shares have
        different priors there is no Bayes factor without it.
    odds : float, optional
        Prior odds of a difference against none: the chance that there is none then follows.
    alpha : float, between 0 and 0.5
        The posterior intervals have level 1 - alpha.
    margin
        As for `measure.proportions`.

    Returns
    -------
    Comparison
        Without a test. Posterior median and equal-tailed interval of the difference; in `evidence` the posteriors of
        "difference", "lift" and "odds_ratio", the chances to be better, within the margin and worse and the loss of
        either choice, with their logarithms, the Bayes factor of a difference against one common share, and those of
        either direction alone.

    Notes
    -----
    Each share's posterior is a beta distribution [1]_. Chances and losses are Gauss-Legendre sums on the log-odds
    scale, each tail by itself, so there is no sampling and no seed, and counts of any size cost the same.
    The lift's mean is there only where control's posterior has more than one success, its spread where it has more than
    two; the odds ratio's likewise, and as many failures of treatment. A directional factor is the factor times the
    posterior chance of that direction over its chance beforehand.

    References
    ----------
    .. [1] Altham (1969), Journal of the Royal Statistical Society B 31, 261-269.
    .. [2] Jeffreys (1961), Theory of Probability, section 5.1, for the factor.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportions(Counts(60, 400, "short"), Counts(40, 400, "current"))
    >>> round(r.evidence.chance_better, 4), round(r.evidence.bayes_factor, 3)
    (0.9836, 0.572)
    """
    ask = share_question(asked, margin)
    one, two = groups.two(treatment, control, "share", least=0)
    other = control_prior or prior
    common = common_prior or (prior if other == prior else None)
    needs_factor(odds, there=common is not None)
    x1, n1, x0, n0 = gate.aligned(one.successes, one.trials, two.successes, two.trials)
    rows = zip(*(np.ravel(v) for v in (x1, n1, x0, n0)), strict=True)
    evidence = against.evidence_of_pairs(
        ask,
        [_pair(row, prior, other, common) for row in rows],
        x1.shape,
        prior=f"{prior} for each share" if other == prior else f"{prior} for {one.label}, {other} for {two.label}",
        odds=odds,
    )
    own = evidence.posterior["difference"]
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "success"),
        method="two shares, independent beta priors",
        source=_SOURCE,
        estimate=own.median,
        interval=own.interval,
        effects=against.effects_of(evidence, ("lift", "odds_ratio")),
        groups=(*_groups(one), *_groups(two)),
        quantity="share",
        checks=checks.missing(one, two),
        notes=() if common else ("The shares have different priors: without a common one there is no factor.",),
        parts=(evidence,),
    )


@method(
    takes="several",
    needs="share",
    published=True,
    examples=("travellers.csv --value booked --by form", "--successes 60,40,52 --trials 400,400,390"),
    exempt=_NO_TEST,
)
def best_proportion(
    samples: Any,
    *,
    prior: Beta = _PRIOR,
    **asked: Unpack[Directed],
) -> Family:
    """Which of several variants has the best share, and what would choosing another cost?

    Parameters
    ----------
    samples : mapping of label to Counts, Sample or array_like of 0/1, or list of groups with labels
        The variants.
    prior : Beta
        Prior of each share, independently.

    Returns
    -------
    Family
        An `Estimate` for each variant, with its chances to be the best and the lowest in `evidence`, and its expected
        loss: how far it lies from the best on average.

    References
    ----------
    .. [1] Altham (1969), Journal of the Royal Statistical Society B 31, 261-269, for two of them.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = best_proportion([Counts(60, 400, "short"), Counts(52, 390, "guided"), Counts(40, 400, "current")])
    >>> round(r["short"].evidence.chance_best, 4), round(r["current"].evidence.expected_loss, 4)
    (0.7432, 0.0536)
    """
    ask = shared.question(asked)
    each = groups.several(samples, "share", least=0)
    posteriors = [_posterior(prior, float(c.successes), float(c.trials)) for c in each]
    origin = curve.narrowest(*posteriors)
    arms = [
        against.Arm(c.label, curve.share(*ab, origin), _moments(*ab), _groups(c), checks.missing(c))
        for c, ab in zip(each, posteriors, strict=True)
    ]
    name = groups.named(ask.metric, "success", *each)
    return against.best_of(ask, arms, metric=name, what="share", kind="beta", prior=str(prior), source=_SOURCE)


def share_question(asked: Directed, margin: float | None) -> shared.Question:
    """The settings that every method has; a margin of proportions is below 1."""
    ask = shared.question(asked, margin=margin)
    if ask.margin is not None and ask.margin >= 1:
        raise InputError.rule("margin", margin, "below 1", "Shares are from 0 to 1: 3 percentage points are 0.03.")
    return ask


def needs_factor(odds: float | None, *, there: bool) -> None:
    """Refuse prior odds where nothing is made of them."""
    if odds is not None:
        gate.positive("odds", odds)
        if not there:
            raise InputError(f"odds {odds:g} go with a Bayes factor, and there is none: give null, or common_prior.")


def _groups(counts: Counts) -> tuple[Any, ...]:
    """The group as it was seen, if anything was."""
    n = np.asarray(counts.trials, dtype=float)
    return (shared.share_group(counts.label, np.asarray(counts.successes, dtype=float), n),) if np.all(n > 0) else ()


def _posterior(prior: Beta, x: float, n: float) -> tuple[float, float]:
    return prior.successes + float(x), prior.failures + float(n) - float(x)


def _pair(row: tuple[float, ...], prior: Beta, other: Beta, common: Beta | None) -> Pair:
    x1, n1, x0, n0 = (float(v) for v in row)
    (a1, b1), (a0, b0) = _posterior(prior, x1, n1), _posterior(other, x0, n0)
    origin = curve.narrowest((a1, b1), (a0, b0))
    one, two = curve.share(a1, b1, origin), curve.share(a0, b0, origin)
    difference = against.moments_of_difference(_moments(a1, b1), _moments(a0, b0))
    ratio = against.moments_of_product(_raw(a1, b1), _raw_inverse(a0, b0))
    lift = Moments(None if ratio.mean is None else ratio.mean - 1, ratio.sd)
    odds = against.moments_of_product(_raw_odds(a1, b1), _raw_odds(b0, a0))
    joins = (
        Join("difference", "difference", "share", "difference", difference),
        Join("lift", "lift", "relative", "log ratio", lift),
        Join("odds_ratio", "odds ratio", "ratio", "log odds ratio", odds),
    )
    known = (prior.successes, prior.failures), (other.successes, other.failures)
    priors = curve.share(*known[0], known[0]), curve.share(*known[1], known[0])
    if common is None:
        return Pair(one, two, joins, priors=priors)
    before = np.log([0.5, 0.5])
    if prior != other:
        before = Line.of([*priors]).log_chance_highest()
    factor = _factor_of_two((a1, b1, prior), (a0, b0, other), common, x1 + x0, n1 + n0 - x1 - x0)
    return Pair(one, two, joins, factor, float(before[0]), float(before[1]), priors)


def _prior(prior: Beta) -> Curve:
    return curve.share(prior.successes, prior.failures)


def _moments(a: float, b: float) -> Moments:
    n = a + b
    return Moments(a / n, float(np.sqrt(a / n * (b / n) / (n + 1))))


def _raw(a: float, b: float) -> tuple[float, float]:
    """First and second moments of a share."""
    n = a + b
    return a / n, a / n * (a + 1) / (n + 1)


def _raw_inverse(a: float, b: float) -> tuple[float | None, float | None]:
    """Those of one over a share."""
    n = a + b
    first = (n - 1) / (a - 1) if a > 1 else None
    return first, first * (n - 2) / (a - 2) if first is not None and a > 2 else None


def _raw_odds(a: float, b: float) -> tuple[float | None, float | None]:
    """Those of the odds of a share."""
    first = a / (b - 1) if b > 1 else None
    return first, first * (a + 1) / (b - 2) if first is not None and b > 2 else None


def _log_beta_rest(a: float, b: float) -> float:
    """Log of the beta function without the powers m^a (1 - m)^b, m = a / (a + b)."""
    n = a + b
    errors = stirling_error(a) + stirling_error(b) - stirling_error(n)
    return float(0.5 * np.log(2 * np.pi * n / a / b) + errors)


def _away(a: float, b: float, p: float, q: float) -> float:
    """log(m^a (1 - m)^b) less log(p^a q^b), m = a / (a + b), with the differences taken out."""
    n = a + b
    if p < q:  # from the rarer, whose expected number has the digits
        rare = n * p
        return log_divergence(a, rare) + log_divergence(b, b + (a - rare))
    rare = n * q
    return log_divergence(b, rare) + log_divergence(a, a + (b - rare))


def _factor_of_one(prior: Beta, x: float, n: float, null: float) -> tuple[float, float, float]:
    """Log of the factor of a share other than null, and logs of the prior's chances above and below it."""
    a, b = _posterior(prior, x, n)
    a0, b0 = prior.successes, prior.failures
    fit = _away(a, b, null, 1 - null) + a0 * np.log(null) + b0 * np.log1p(-null)
    factor = fit + _log_beta_rest(a, b) - float(special.betaln(a0, b0))
    below, above = _prior(prior).log_tails(float(special.logit(null) - np.log(a0 / b0)))
    return factor, above, below


def _factor_of_two(
    one: tuple[float, float, Beta], two: tuple[float, float, Beta], common: Beta, successes: float, failures: float
) -> float:
    """Log of the factor of two shares against one that both have."""
    a, b = common.successes + successes, common.failures + failures
    p, q = a / (a + b), b / (a + b)
    log = -_log_beta_rest(a, b) + float(special.betaln(common.successes, common.failures))
    for a1, b1, prior in (one, two):
        log += _away(a1, b1, p, q) + _log_beta_rest(a1, b1) - float(special.betaln(prior.successes, prior.failures))
    extra_a = one[2].successes + two[2].successes - common.successes
    extra_b = one[2].failures + two[2].failures - common.failures
    return float(log + extra_a * np.log(p) + extra_b * np.log(q))
