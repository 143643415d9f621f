"""Evidence for an effect from its estimate and standard error alone, whatever they came from."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

import numpy as np
from scipy import special

from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Prior, Uniform, log_t
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number
from amber_ruler.register import method
from amber_ruler.results import Estimate, Evidence, Interval

_SOURCE = "Dienes (2014), Frontiers in Psychology 5, 781"
_RANGE, _LOOKS = (1e-3, 1e6), 48  # scales that are looked at, in standard errors, and how many


class _Data(NamedTuple):
    """What the estimate says of the effect: its likelihood."""

    estimate: float
    se: float
    df: float | None

    def log_likelihood(self, effect: Floats) -> Floats:
        """Log of the likelihood of effects."""
        z = (self.estimate - effect) / self.se
        if self.df is None:
            return np.asarray(-0.5 * z * z - np.log(self.se) - 0.5 * np.log(2 * np.pi))
        return np.asarray(log_t(z, self.df) - np.log(self.se))

    def posterior(self, prior: Prior, cuts: tuple[float, ...] = ()) -> Posterior:
        """What the data make of a prior; its total is the data's chance under it."""
        # Around each cut too, so that a tiny chance beyond it keeps its digits.
        about = [(at, self.se) for at in (self.estimate, *cuts)] + ([prior.about] if prior.proper else [])
        return Posterior.of(self.joint(prior), about, prior.ends)

    def joint(self, prior: Prior) -> Callable[[Floats], Floats]:
        """Log of likelihood times prior."""
        return lambda effect: self.log_likelihood(effect) + prior.log_density(effect)


@method(
    takes="numbers",
    examples=(
        '--estimate 4.1 --se 1.9 --prior "uniform 0 9"',
        '--estimate 1.3 --se 0.45 --prior "halfnormal 2" --margin 0.5 --odds 1',
    ),
    exempt={
        "p and interval": "there is no test",
        "broadcast": "one estimate at a time",
        "rescale": "the prior has the unit too",
    },
)
def evidence(
    estimate: float,
    se: float,
    *,
    prior: Prior,
    df: float | None = None,
    null_interval: tuple[float, float] | None = None,
    interval_kind: Literal["cut", "uniform"] = "cut",
    odds: float | None = None,
    threshold: float = 3.0,
    alpha: float = 0.05,
    null: float = 0.0,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Estimate:
    """How strong is the evidence for an effect, from its estimate and standard error, and how large is it likely?

    Parameters
    ----------
    estimate, se : float
        The effect seen, and its standard error, both in the effect's own unit.
    prior : Prior
        What was believed of the effect, in the same unit, if there is one: `Uniform(low, high)`, `Normal(mean, sd)`,
        `HalfNormal(sd)` (which starts at 0 unless said), `Cauchy(scale)`, `StudentT(df, scale)`, any of them
        `Truncated(prior, low, high)`; or `Flat()`, which gives a posterior and no Bayes factor.
    df : float, optional
        Degrees of freedom of the standard error: the likelihood is then Student's t around the estimate, else normal.
    null_interval : pair of float, optional
        A null of all effects between two values, instead of the one value `null`.
    interval_kind : "cut" or "uniform"
        Against an interval: the one prior cut into what is inside and what is outside, each rescaled; or every effect
        inside alike, against the prior uncut.
    odds : float, optional
        Prior odds of an effect against none: the chance that there is none then follows.
    threshold : float, above 1
        Factor from which on evidence counts: the scales of the prior are told over which it stays beyond.
    alpha, null, margin, good, metric
        As for `measure.mean`, with a null of 0; the posterior interval has level 1 - alpha.

    Returns
    -------
    Estimate
        Without a test. The estimate is the posterior median, given that there is an effect, the interval the
        equal-tailed one; in `evidence` the Bayes factor and its logarithm, the mean, standard deviation and densest
        interval of the posterior, the chances to be better, within the margin and worse, and how the factor depends on
        the prior's scale.

    Raises
    ------
    InputError
        If a number is out of its range, or the prior leaves nothing inside or outside of the null.

    Notes
    -----
    The factor is the integral of likelihood times prior over the likelihood at the null [1]_. Against an interval, cut:
    the posterior odds of outside against inside over the prior's odds [2]_. The integrals are Gauss-Legendre sums over
    panels that double away from data and prior; `factor_error` is what halving all panels changes.

    References
    ----------
    .. [1] Dienes (2014), Frontiers in Psychology 5, 781.
    .. [2] Morey & Rouder (2011), Psychological Methods 16, 406-419.

    Examples
    --------
    >>> from amber_ruler.bayes import Uniform
    >>> r = evidence(4.1, 1.9, prior=Uniform(0, 9))
    >>> round(r.evidence.bayes_factor, 3), round(r.evidence.chance_better, 4)
    (5.318, 1.0)
    """
    ask = shared.question(alpha, margin=margin, good=good)
    if not isinstance(prior, Prior):
        raise InputError.rule("prior", prior, "a prior of the effect, such as Uniform(0, 9) or HalfNormal(2)")
    if float(threshold) <= 1:
        raise InputError.rule("threshold", threshold, "above 1")
    data = _Data(
        float(estimate), float(gate.positive("se", se)), None if df is None else float(gate.positive("df", df))
    )
    nothing = _null(null, null_interval)
    cuts = (null, *nothing, *((null - ask.margin, null + ask.margin) if ask.margin else ()))
    posterior = data.posterior(prior, cuts)
    log_factor = _log_factor(data, prior, posterior, nothing, interval_kind)
    level, low, median, high = ask.level, *(posterior.quantile(q) for q in (ask.tail[0], 0.5, 1 - ask.tail[1]))
    mean = posterior.mean()
    spread = float(np.sqrt(posterior.mean(lambda x: (x - mean) ** 2)))
    densest = Interval(*posterior.densest(level, data.joint(prior)), level)
    up, down = posterior.chance(null, np.inf), posterior.chance(-np.inf, null)
    better, worse = (up, down) if good == "higher" else (down, up)
    within = posterior.chance(null - ask.margin, null + ask.margin) if ask.margin else None
    scales = _scales(data, prior, nothing, interval_kind, float(np.log(threshold)), log_factor)
    name = metric or "effect"
    notes = () if log_factor is not None else ("A flat prior is no distribution: there is a posterior, but no factor.",)
    return Estimate(
        title=name,
        method=f"{'normal' if df is None else f't, df {df:g},'} likelihood",
        source=_SOURCE,
        metric=name,
        label=name,
        estimate=median,
        interval=Interval(low, high, level),
        margin=ask.margin,
        good=good,
        notes=notes,
        parts=(
            Evidence(
                prior=str(prior),
                chance_better=better,
                chance_worse=worse,
                chance_within=within,
                bayes_factor=None if log_factor is None else float(np.exp(min(log_factor, 700.0))),
                log_bayes_factor=log_factor,
                factor_error=None if log_factor is None else posterior.error,
                chance_none=None if odds is None or log_factor is None else _chance_none(log_factor, odds),
                posterior_mean=mean,
                posterior_sd=spread,
                densest=densest,
                threshold=float(threshold),
                best_scale=scales.best,
                best_log_factor=scales.best_log_factor,
                scales_beyond=scales.beyond,
                null=float(null),
            ),
        ),
    )


def _null(null: float, interval: tuple[float, float] | None) -> tuple[float, ...]:
    gate.finite("null", null)
    if interval is None:
        return (float(null),)
    low, high = (float(gate.finite("null_interval", end)) for end in interval)
    if not low < high:
        raise InputError.rule("null_interval", interval, "two values, the lower one first")
    return low, high


def _log_factor(data: _Data, prior: Prior, posterior: Posterior, nothing: tuple[float, ...], kind: str) -> float | None:
    """Natural log of the Bayes factor of an effect against none."""
    if not prior.proper:
        return None
    if len(nothing) == 1:
        return posterior.log_total - float(data.log_likelihood(np.asarray(nothing[0])))
    if kind == "uniform":
        return posterior.log_total - data.posterior(Uniform(*nothing)).log_total
    believed = Posterior.of(prior.log_density, [prior.about, *((at, data.se) for at in nothing)], prior.ends)
    inside, seen = (p.chance(*nothing) for p in (believed, posterior))
    outside, unseen = (p.chance(-np.inf, nothing[0]) + p.chance(nothing[1], np.inf) for p in (believed, posterior))
    if min(inside, outside) <= 0:
        raise InputError(
            "The prior lies wholly inside the null interval, or wholly outside: there is nothing to weigh."
        )
    if min(seen, unseen) <= 0:
        raise DataError("The data leave nothing on one side of the null interval that floats hold.")
    return float(np.log(unseen) - np.log(seen) - np.log(outside) + np.log(inside))


def _chance_none(log_factor: float, odds: float) -> float:
    return float(special.expit(-log_factor - np.log(float(gate.positive("odds", odds)))))


class _Scales(NamedTuple):
    """How a factor depends on the prior's scale."""

    best: float | None = None
    best_log_factor: float | None = None
    beyond: tuple[float, float | None] | None = None


def _scales(
    data: _Data, prior: Prior, nothing: tuple[float, ...], kind: str, threshold: float, log_factor: float | None
) -> _Scales:
    """The scale that favours an effect most, and those over which the factor stays beyond a threshold."""
    if log_factor is None:
        return _Scales()
    start = prior.low if isinstance(prior, Uniform) else 0.0
    own = float(np.log((prior.high if isinstance(prior, Uniform) else prior.about[1]) - start))

    def at(size: float) -> float:
        scaled = prior.scaled(start + float(np.exp(size)))
        found = _log_factor(data, scaled, data.posterior(scaled, nothing), nothing, kind)
        return -np.inf if found is None else found

    grid = np.unique(np.append(np.linspace(np.log(data.se * _RANGE[0]), np.log(data.se * _RANGE[1]), _LOOKS), own))
    try:
        values = np.array([at(float(size)) for size in grid])
    except (DataError, InputError):
        return _Scales()  # at some scale prior and null can't be told apart
    top = int(np.argmax(values))
    best = _peak(at, float(grid[max(top - 1, 0)]), float(grid[min(top + 1, grid.size - 1)]))
    sign = 1.0 if log_factor > threshold else -1.0
    beyond = None
    if abs(log_factor) > threshold:
        beyond = _stretch(lambda size: sign * at(size) - threshold, grid, sign * values - threshold, own)
    if beyond is not None:
        low, high = (None if end is None else start + float(np.exp(end)) for end in beyond)
        return _Scales(start + float(np.exp(best)), at(best), (0.0 if low is None else low, high))
    return _Scales(start + float(np.exp(best)), at(best))


def _stretch(
    miss: Callable[[float], float], grid: Floats, values: Floats, own: float
) -> tuple[float | None, float | None]:
    """The ends of the stretch around `own` over which a function stays above 0; None where it goes on."""
    below = np.flatnonzero(values <= 0)
    k = int(np.searchsorted(grid, own))
    before, after = below[below < k], below[below > k]
    low = None if before.size == 0 else bracketed_number(miss, float(grid[before[-1]]), float(grid[before[-1] + 1]))
    high = None if after.size == 0 else bracketed_number(miss, float(grid[after[0] - 1]), float(grid[after[0]]))
    return low, high


def _peak(of: Callable[[float], float], low: float, high: float) -> float:
    """Where a function with one peak is largest, by golden sections."""
    ratio = (np.sqrt(5) - 1) / 2
    a, b = high - ratio * (high - low), low + ratio * (high - low)
    fa, fb = of(a), of(b)
    for _ in range(40):
        if fa > fb:
            high, b, fb = b, a, fa
            a = high - ratio * (high - low)
            fa = of(a)
        else:
            low, a, fa = a, b, fb
            b = low + ratio * (high - low)
            fb = of(b)
    return (low + high) / 2
