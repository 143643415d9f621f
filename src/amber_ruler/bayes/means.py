"""Evidence about means: a Cauchy prior on the standardised effect, or none on it."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.bayes import effect, unstandardised
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Cauchy, NormalInverseGamma, Prior, Reference, Truncated
from amber_ruler.bayes.summary import exp, figures, summary
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.pairs import both_sides
from amber_ruler.numeric import gate
from amber_ruler.numeric.blocks import in_blocks
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize, Estimate, Evidence, PosteriorSummary
from amber_ruler.results.parts import Curves
from amber_ruler.samples import MeanGroup, Pairs, Summary
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

__all__ = ["log_bayes_factor", "mean", "means", "pairs"]

_PRIOR = Cauchy()
_SOURCE = "Rouder et al. (2009), Psychonomic Bulletin & Review 16, 225-237"
_BLOCK = 32  # questions at a time: their nodes stay in the processor's cache
_NO_TEST = {"p and interval": "there is no test"}


class _Seen(NamedTuple):
    """What the data say of an effect, rows of questions: t and its kin, in the metric's unit."""

    t: Floats
    df: Floats
    effective: Floats  # n, or n1 n0 / (n1 + n0)
    spread: Floats


class _Model(NamedTuple):
    """What is believed beforehand, and what is to be told of it."""

    prior: Cauchy
    spread: str
    alternative: str
    odds: float | None

    @property
    def ends(self) -> tuple[float, float]:
        """Between which values an effect may lie."""
        return {"greater": (0.0, np.inf), "less": (-np.inf, 0.0)}.get(self.alternative, (-np.inf, np.inf))

    def __str__(self) -> str:
        return str(self.prior) + {"greater": ", above 0 only", "less": ", below 0 only"}.get(self.alternative, "")


class _Told(NamedTuple):
    """What the model says of each row; the two posteriors in units of the spread."""

    log_factor: Floats
    error: Floats
    log_above: Floats
    log_below: Floats
    log_loss_above: Floats  # mean of how far the effect lies above 0
    log_loss_below: Floats
    within: Floats
    standardised: Floats  # shape (7, rows)
    raw: Floats
    rows: Posterior | None = None  # of the raw effect, where it is one question


@method(
    takes="one",
    needs="mean",
    published=True,
    examples=("--n 40 --mean 1.2 --sd 4", "travellers.csv --value fare --null 10"),
    exempt=_NO_TEST,
)
def mean(
    group: MeanGroup,
    *,
    prior: Cauchy | Reference | NormalInverseGamma = _PRIOR,
    spread: Literal["unknown", "seen"] = "unknown",
    odds: float | None = None,
    **asked: Unpack[WithMargin],
) -> Estimate:
    """How strong is the evidence that a mean differs from a value, and where is it likely to be?

    Parameters
    ----------
    group : array_like, Sample, Summary or Moments
        The group; a Summary of arrays, or Moments of several columns, asks many questions at once.
    prior, spread, odds
        As for `means`.
    null : float or array_like
        The value that the mean has if there is no effect.

    Returns
    -------
    Estimate
        As for `means`; the estimate is the mean itself.

    References
    ----------
    .. [1] Rouder, Speckman, Sun, Morey & Iverson (2009), Psychonomic Bulletin & Review 16, 225-237, equation 1.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = mean(Summary(40, 1.2, 4.0, "short"))
    >>> round(r.evidence.bayes_factor, 4), round(r.evidence.chance_better, 4)
    (0.6654, 0.966)
    """
    ask = shared.question(asked, alternative="two-sided")
    one = groups.one(group, "mean")
    n, mean_, sd, at = gate.aligned(one.n, one.mean, one.sd, gate.finite("null", ask.null))
    _check_spread(n, sd)
    if not isinstance(prior, Cauchy):
        unstandardised.only_with_a_factor(prior, spread, odds, asked["alternative"])
        return unstandardised.one_mean(ask, one, (n, mean_, sd), prior, at, ask.metric)
    seen = _seen((mean_ - at) + np.asarray(one.mean_tail), sd, n, n - 1)
    evidence, value, standardised = _evidence(ask, seen, _Model(prior, spread, asked["alternative"], odds), at, "mean")
    name = groups.named(ask.metric, "value", one)
    return Estimate(
        title=f"{name}: mean of {one.label}",
        method="one mean, Cauchy prior on the standardised effect",
        source=_SOURCE,
        metric=name,
        label=one.label,
        estimate=value.median,
        interval=value.interval,
        effects={"standardised": standardised},
        groups=(shared.mean_group(one.label, n, mean_, sd),),
        margin=ask.margin,
        good=ask.good,
        axis=groups.axis_of(one),
        checks=(
            *checks.few(n, rests=checks.POSTERIOR_RESTS),
            *checks.skewed(ask.alpha, "two-sided", one),
            *checks.missing(one),
        ),
        parts=(evidence,),
    )


@method(
    takes="two",
    needs="mean",
    published=True,
    examples=(
        'travellers.csv --value fare --by form --control current --prior "cauchy 0.1"',
        'travellers.csv --value fare --by form --control current --values "zeros and log-normal"',
        "--n 80,80 --mean 5.5,4.5 --sd 2,2",
    ),
    rows=True,
    exempt=_NO_TEST,
)
def means(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    prior: Cauchy | Reference | NormalInverseGamma | None = None,
    spread: Literal["unknown", "seen"] = "unknown",
    values: Literal["normal", "log-normal", "zeros and log-normal"] = "normal",
    odds: float | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """How strong is the evidence for a difference of means, and how large is it likely to be?

    Parameters
    ----------
    treatment, control : array_like, Sample, Summary or Moments
        The two groups. A Summary of arrays, or Moments of several columns, asks many questions at once.
    prior : Cauchy, Reference or NormalInverseGamma, optional
        A Cauchy is the prior of the standardised effect (difference over the common standard deviation) if there is
        one; its scale is 1 unless given. Effects in experiments are often far smaller; a smaller scale is a fairer bet
        on them. The others are priors of each group's own mean and variance: a posterior, and no Bayes factor.
    spread : "unknown" or "seen"
        What the effect in the metric's unit makes of the standard deviation: unknown like the effect itself, with
        p(sigma) = 1/sigma; or taken as it was seen, so that the posterior is that of the standardised effect, rescaled.
    values : "normal", "log-normal" or "zeros and log-normal"
        How single values are spread. Skewed amounts may be log-normal, and with many zeros the share of the others
        times a log-normal mean; both need the values themselves, and take the reference prior only. The mean of
        log-normal values has no posterior mean, so that medians, limits and chances are told, and no losses.
    odds : float, optional
        Prior odds of a difference against none: the chance that there is none then follows.
    alpha : float, between 0 and 0.5
        The posterior intervals have level 1 - alpha.
    null : float or array_like
        The difference if there is no effect.
    alternative : "two-sided", "greater" or "less"
        Whether a difference, if there is one, may have either sign; for one sign the prior is cut there and doubled.

    Returns
    -------
    Comparison
        Without a test. The estimate is the posterior median of the difference, given that there is one, the interval
        its equal-tailed posterior interval. In `evidence` the Bayes factor of a difference against none, its logarithm
        and numerical error, the factors of either direction alone, the chances to be better, within the margin and
        worse, the loss of either choice, and mean, spread, median and both intervals of the difference ("difference")
        and of the standardised effect ("standardised").

    Raises
    ------
    DataError
        If a group has fewer than two values, or there is no spread.
    InputError
        If a setting is out of its range.

    Notes
    -----
    With t the equal-variance statistic, nu its degrees of freedom and N = n1 n0 / (n1 + n0), the Bayes factor is the
    integral over g of an inverse chi-square weight times
    (1 + N g r^2)^(-1/2) ((1 + t^2/nu) / (1 + t^2 / ((1 + N g r^2) nu)))^((nu+1)/2) [1]_, by the trapezoid rule in
    log g. The posterior weighs the prior with the noncentral t density. Both groups share one variance. A directional
    factor is the two-sided one times twice the posterior chance of that direction.

    Under the reference prior p(mu, s^2) = 1/s^2 each mean is a t with n - 1 degrees of freedom, under the
    normal-inverse-gamma one with twice its new shape, and their difference a Behrens-Fisher distribution [3]_; it has
    no standard deviation where a group has at most 3 values. Log-normal: mu + s^2/2 under the reference prior,
    integrated over s^2; the share of values above 0 has a uniform prior.

    References
    ----------
    .. [1] Rouder, Speckman, Sun, Morey & Iverson (2009), Psychonomic Bulletin & Review 16, 225-237, equation 1.
    .. [2] Morey & Rouder (2011), Psychological Methods 16, 406-419, for directional factors.
    .. [3] Ruben (1960), On the distribution of the weighted difference of two independent Student variables,
       Journal of the Royal Statistical Society B 22, 188-194.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = means(Summary(80, 5.5, 2.0, "short"), Summary(80, 4.5, 2.0, "current"))
    >>> round(r.evidence.bayes_factor, 3)
    13.196
    """
    ask = shared.question(asked, alternative="two-sided")
    one, two = groups.two(treatment, control, "mean")
    if values != "normal":
        return unstandardised.skewed_means(
            ask, one, two, values, prior, (spread, odds, asked["alternative"]), ask.null, ask.metric
        )
    if prior is None:
        prior = _PRIOR
    raw = (one.n, two.n, one.sd, two.sd, gate.finite("null", ask.null), (np.asarray(one.mean) - two.mean))
    n1, n0, sd1, sd0, at, difference = gate.aligned(*raw)
    pooled = np.hypot(sd1 * np.sqrt(n1 - 1), sd0 * np.sqrt(n0 - 1)) / np.sqrt(np.maximum(n1 + n0 - 2, 1))
    _check_spread(np.minimum(n1, n0), pooled)
    if not isinstance(prior, Cauchy):
        unstandardised.only_with_a_factor(prior, spread, odds, asked["alternative"])
        return unstandardised.two_means(ask, one, two, prior, at, ask.metric)
    tail = np.asarray(one.mean_tail) - two.mean_tail
    seen = _seen(difference - at + tail, pooled, n1 * n0 / (n1 + n0), n1 + n0 - 2)
    evidence, value, standardised = _evidence(
        ask, seen, _Model(prior, spread, asked["alternative"], odds), at, "difference"
    )
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value"),
        method="two means, equal variances, Cauchy prior on the standardised effect",
        source=_SOURCE,
        estimate=value.median,
        interval=value.interval,
        effects={"standardised": standardised},
        groups=tuple(
            shared.mean_group(g.label, n, g.mean + 0 * n, sd, pooled / np.sqrt(n))
            for g, n, sd in ((one, n1, sd1), (two, n0, sd0))
        ),
        facts={"pooled_sd": scalar_or_array(pooled)},
        checks=(
            *checks.few(n1, n0, rests=checks.POSTERIOR_RESTS),
            *checks.skewed(ask.alpha, "two-sided", one, two),
            *checks.missing(one, two),
        ),
        parts=(evidence,),
    )


@method(
    takes="pairs",
    needs="mean",
    published=True,
    examples=("turnarounds.csv --value minutes --by when --unit vessel --control before --good lower",),
    exempt=_NO_TEST,
)
def pairs(
    treatment: Pairs | Summary,
    control: Summary | None = None,
    *,
    correlation: float | None = None,
    prior: Cauchy = _PRIOR,
    spread: Literal["unknown", "seen"] = "unknown",
    odds: float | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """How strong is the evidence for a mean difference within units, and how large is it likely to be?

    Parameters
    ----------
    treatment, control, correlation
        As for `measure.pairs`.
    prior : Cauchy
        Prior of the standardised effect: the mean difference over the standard deviation of differences.
    spread, odds
        As for `means`.

    Returns
    -------
    Comparison
        As for `means`.

    References
    ----------
    .. [1] Rouder, Speckman, Sun, Morey & Iverson (2009), Psychonomic Bulletin & Review 16, 225-237, equation 1.

    Examples
    --------
    >>> from amber_ruler import Pairs
    >>> r = pairs(Pairs([39.0, 41.5, 40.0, 38.0], [42.0, 44.0, 43.5, 40.0], ("after", "before")))
    >>> round(r.evidence.bayes_factor, 2)
    18.34
    """
    ask = shared.question(asked, alternative="two-sided")
    both = both_sides(treatment, control, correlation)
    one, two = both.one, both.two
    raw = (both.n, one.mean, one.sd, two.mean, two.sd, both.difference, both.sd, gate.finite("null", ask.null))
    n, mean1, sd1, mean0, sd0, difference, sd, at = gate.aligned(*raw)
    _check_spread(n, sd)
    seen = _seen(difference - at, sd, n, n - 1)
    evidence, value, standardised = _evidence(
        ask, seen, _Model(prior, spread, asked["alternative"], odds), at, "difference"
    )
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value", said=", in pairs"),
        method="two values of each unit, Cauchy prior on the standardised effect",
        source=_SOURCE,
        estimate=value.median,
        interval=value.interval,
        paired=True,
        effects={"standardised": standardised},
        groups=(
            shared.mean_group(one.label, n, mean1, sd1),
            shared.mean_group(two.label, n, mean0, sd0),
            shared.mean_group("difference", n, difference, sd),
        ),
        checks=(*checks.few(n, rests=checks.POSTERIOR_RESTS), *checks.without_pair(both.left_out)),
        parts=(evidence,),
    )


def log_bayes_factor(
    t: ArrayLike, n: ArrayLike, control_n: ArrayLike | None = None, *, scale: ArrayLike = 1.0
) -> float | Floats:
    """Natural log of the Bayes factor of an effect against none, from a t statistic alone.

    Parameters
    ----------
    t : float or array_like
        t statistic of one mean or of pairs; with `control_n` that of two means with equal variances.
    n : int or array_like
        Units, or pairs; with `control_n` those of treatment.
    control_n : int or array_like, optional
        Units of control.
    scale : float or array_like
        Scale of the Cauchy prior of the standardised effect.

    Returns
    -------
    float or ndarray
        In the arrays' broadcast shape.

    References
    ----------
    .. [1] Rouder, Speckman, Sun, Morey & Iverson (2009), Psychonomic Bulletin & Review 16, 225-237, equation 1.

    Examples
    --------
    >>> round(log_bayes_factor(3.1623, 80, 80), 3)
    2.58
    """
    t, scale = gate.finite("t", t), gate.positive("scale", scale)
    if control_n is None:
        units = gate.at_least("n", n, 2)
        return scalar_or_array(effect.log_factor(t, units - 1, units, scale).log)
    n1, n0 = gate.at_least("n", n, 1), gate.at_least("control_n", control_n, 1)
    df = n1 + n0 - 2
    if gate.some(df <= 0):
        raise DataError("Two groups of one unit have no spread: at least 3 units are needed.")
    return scalar_or_array(effect.log_factor(t, df, n1 * n0 / (n1 + n0), scale).log)


def _check_spread(n: Floats, sd: Floats) -> None:
    if gate.some(n < 2):
        raise DataError("A group has 1 unit: a spread needs at least 2.")
    if gate.some(sd == 0):
        raise DataError("Every value of each group equals the others: without any spread there is no evidence.")


def _seen(difference: Floats, sd: Floats, effective: Floats, df: Floats) -> _Seen:
    t = difference / sd * np.sqrt(effective)
    if not np.all(np.isfinite(t * t)):
        raise DataError("The means lie so many standard errors apart that their likelihood is 0 in floats.")
    return _Seen(*np.broadcast_arrays(t, df, effective, sd))


def _evidence(
    ask: shared.Question, seen: _Seen, model: _Model, null: Floats, what: str
) -> tuple[Evidence, PosteriorSummary, EffectSize]:
    """The part, the posterior in the metric's unit, and the standardised effect."""
    if not isinstance(model.prior, Cauchy) or np.any(np.asarray(model.prior.centre) != 0):
        raise InputError.rule("prior", str(model.prior), "a Cauchy around 0: the null is no effect")
    if model.odds is not None:
        gate.positive("odds", model.odds)
    gate.choice("alternative", model.alternative, gate.ALTERNATIVES)
    scale = np.asarray(model.prior.scale, dtype=float)
    shape = gate.common_shape(seen.t.shape, scale.shape)
    rows = [np.broadcast_to(v, shape).ravel() for v in (*seen, scale)]
    told = _tell(ask, rows, model)

    def row(value: Floats) -> Any:
        return scalar_or_array(np.reshape(value, shape))

    log_size = np.log(rows[3])
    up, down = (told.log_above, told.log_loss_above + log_size), (told.log_below, told.log_loss_below + log_size)
    (log_better, log_gain), (log_worse, log_loss) = (up, down) if ask.good == "higher" else (down, up)
    standardised = summary(ask, told.standardised, "standardised effect", "", shape=shape)
    own = summary(ask, told.raw, what, shape=shape, factor=rows[3], shift=np.broadcast_to(null, shape).ravel())
    log_factor, sided = told.log_factor, {}
    if model.alternative == "two-sided":  # else the factor is that of the direction asked
        sided["log_factor_above"] = row(log_factor + np.log(2) + told.log_above)
        sided["log_factor_below"] = row(log_factor + np.log(2) + told.log_below)
    part = Evidence(
        prior=str(model),
        belief=model.prior,
        curves=None if told.rows is None or shape else _curves(told.rows, model, rows, float(null)),
        posterior={what: own, "standardised": standardised},
        chance_better=exp(row(log_better)),
        chance_worse=exp(row(log_worse)),
        chance_within=row(told.within) if ask.margin else None,
        expected_loss=exp(row(log_loss)),
        control_loss=exp(row(log_gain)),
        log_chance_better=row(log_better),
        log_chance_worse=row(log_worse),
        log_expected_loss=row(log_loss),
        log_control_loss=row(log_gain),
        bayes_factor=exp(row(log_factor)),
        log_bayes_factor=row(log_factor),
        factor_error=row(told.error),
        odds=model.odds,
        null=scalar_or_array(null),
        **sided,
    )
    return part, own, EffectSize(standardised.median, standardised.interval, "standardised effect", aside=True)


def _tell(ask: shared.Question, rows: list[Floats], model: _Model) -> _Told:
    """All rows, in blocks."""
    size = rows[0].size
    blocks: dict[int, _Told] = {}

    def work(part: slice) -> None:
        blocks[part.start] = _tell_some(ask, [v[part] for v in rows], model)

    in_blocks(work, size, _BLOCK)
    each = [blocks[start] for start in sorted(blocks)]
    if len(each) == 1:
        return each[0]
    arrays: list[Any] = [np.concatenate(v, axis=-1) for v in zip(*(one[:-1] for one in each), strict=True)]
    return _Told(*arrays)


def _curves(posterior: Posterior, model: _Model, rows: list[Floats], null: float) -> Curves:
    """In the metric's unit; the prior at the spread that was seen."""
    sd, scale = float(rows[3][0]), float(rows[4][0])
    prior = Cauchy(scale * sd, null) if model.alternative == "two-sided" else None
    believed: Prior = prior or Truncated(Cauchy(scale * sd, null), *(null + np.array(model.ends)))

    def quantiles(below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        return null + sd * posterior.quantiles(below, above)

    def density(x: Floats) -> Floats:
        z = (x - null) / sd
        inside = (z >= model.ends[0]) & (z <= model.ends[1])
        return np.where(inside, posterior.at(z[None, :])[2][0] / sd, 0.0)

    return Curves(quantiles, density, lambda x: np.exp(believed.log_density(x)))


def _tell_some(ask: shared.Question, rows: list[Floats], model: _Model) -> _Told:
    t, df, effective, sd, scale = rows
    spread, ends = model.spread, model.ends
    margin = None if not ask.margin else ask.margin / sd
    cuts = () if margin is None else (-margin, margin)
    log_factor, error = effect.log_factor(t, df, effective, scale)
    standardised = effect.standardised(t, df, effective, scale, cuts if spread == "seen" else (), ends)
    own = standardised
    if spread == "unknown":
        own = effect.raw(t, df, effective, scale, cuts, ends)
        known, own_known = np.split(figures(ask, Posterior.stacked(standardised, own)), 2, axis=1)
        own_known[1, df <= 1] = np.nan  # its tail falls like the third power of the effect
    else:
        known = own_known = figures(ask, standardised)
    if model.alternative != "two-sided":
        both = effect.standardised(t, df, effective, scale, (), (-np.inf, np.inf))
        log_factor = log_factor + np.log(2) + both.log_chance(*ends)
    within = np.zeros(t.shape) if margin is None else own.chance(-margin, margin)
    return _Told(
        log_factor,
        error,
        standardised.log_chance(0.0, np.inf),
        standardised.log_chance(-np.inf, 0.0),
        own.log_mean_beyond(1.0),
        own.log_mean_beyond(-1.0),
        within,
        known,
        own_known,
        own,
    )
