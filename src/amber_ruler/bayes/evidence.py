"""Evidence for an effect from its estimate and standard error alone, whatever they came from."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Prior, Uniform, log_t
from amber_ruler.bayes.summary import exp, figures, summary
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.register import method
from amber_ruler.results import Estimate, Evidence
from amber_ruler.results.parts import Curves
from amber_ruler.settings import Directed

_SOURCE = "Dienes (2014), Frontiers in Psychology 5, 781"
_RANGE, _LOOKS = (1e-3, 1e6), 48  # scales that are looked at, in standard errors, and how many


class Likelihood(NamedTuple):
    """What the estimate says of the effect: its likelihood. Arrays of shape (rows,)."""

    estimate: Floats
    se: Floats
    df: Floats | None

    def rows(self, size: int) -> Likelihood:
        """The one question, so many times."""
        df = None if self.df is None else np.broadcast_to(self.df, (size,))
        return Likelihood(np.broadcast_to(self.estimate, (size,)), np.broadcast_to(self.se, (size,)), df)

    def log_likelihood(self, effect: Floats) -> Floats:
        """Log of the likelihood of effects of shape (rows, ...)."""
        further = (1,) * (effect.ndim - 1)
        estimate, se = (v.reshape(-1, *further) for v in (self.estimate, self.se))
        df = None if self.df is None else self.df.reshape(-1, *further)
        z = (estimate - effect) / se
        if df is None:
            return np.asarray(-0.5 * z * z - np.log(se) - 0.5 * np.log(2 * np.pi))
        return np.asarray(log_t(z, df) - np.log(se))

    def posterior(self, prior: Prior, cuts: tuple[Floats | float, ...] = ()) -> Posterior:
        """What the data make of a prior; its total is the data's chance under it."""
        size = self.estimate.shape
        belief = prior.reshaped(size, -1, 1, 1)
        about = [(self.estimate, self.se)]
        if prior.proper:
            about.append(_spread(prior.about, size))
        return Posterior.of(
            lambda effect: self.log_likelihood(effect) + belief.log_density(effect),
            about,
            cuts=[np.broadcast_to(cut, size) for cut in cuts],
            ends=_spread(prior.ends, size),
            far=self.df is not None,
        )


def _spread(pair: tuple[Number, Number], shape: tuple[int, ...]) -> tuple[Floats, Floats]:
    one, two = (np.broadcast_to(np.asarray(v, dtype=float), shape) for v in pair)
    return one, two


@method(
    takes="numbers",
    examples=(
        '--estimate 4.1 --se 1.9 --prior "uniform 0 9"',
        '--estimate 1.3 --se 0.45 --prior "halfnormal 2" --margin 0.5 --odds 1',
    ),
    exempt={
        "p and interval": "there is no test",
        "rescale": "the prior has the unit too",
    },
)
def evidence(
    estimate: ArrayLike,
    se: ArrayLike,
    *,
    prior: Prior,
    df: ArrayLike | None = None,
    null_interval: tuple[float, float] | None = None,
    interval_kind: Literal["cut", "uniform"] | None = None,
    odds: float | None = None,
    threshold: float = 3.0,
    null: float = 0.0,
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Estimate:
    """How strong is the evidence for an effect, from its estimate and standard error, and how large is it likely?

    Parameters
    ----------
    estimate : float or array_like
        The observed effect, in its own unit; arrays ask many questions at once.
    se : float or array_like
        Its standard error, in the same unit.
    prior : Prior
        What was believed of the effect, in the same unit, if there is one: `Uniform(low, high)`, `Normal(mean, sd)`,
        `HalfNormal(sd)` (which starts at 0 unless said), `Cauchy(scale)`, `StudentT(df, scale)`, any of them
        `Truncated(prior, low, high)`; or `Flat()`, which gives a posterior and no Bayes factor.
    df : float or array_like, optional
        Degrees of freedom of the standard error: the likelihood is then Student's t around the estimate, else normal.
    null_interval : pair of float, optional
        A null of all effects between two values, instead of the one value `null`.
    interval_kind : "cut" or "uniform"
        Against an interval: the one prior cut into what is inside and what is outside, each rescaled (the default); or
        every effect inside alike, against the prior uncut.
    odds : float, optional
        Prior odds of an effect against none: the chance that there is none then follows.
    threshold : float, above 1
        Factor from which on evidence counts: the scales of the prior are told over which it stays beyond.
    null, margin
        As for `measure.mean`, with a null of 0; the posterior interval has level 1 - alpha.

    Returns
    -------
    Estimate
        Without a test. The estimate is the posterior median, given that there is an effect, the interval the
        equal-tailed one; in `evidence` the Bayes factor and its logarithm, the mean, standard deviation and densest
        interval of the posterior ("effect"), the chances to be better, within the margin and worse, and, of a single
        question, how the factor depends on the prior's scale.

    Raises
    ------
    InputError
        If a number is out of its range, or the prior leaves nothing inside or outside of the null.

    Notes
    -----
    The factor is the integral of likelihood times prior over the likelihood at the null [1]_. Against an interval, cut:
    the posterior odds of outside against inside over the prior's odds [2]_. The integrals are Gauss-Legendre sums over
    panels that double away from data and prior; `factor_error` is what a
    panel's polynomial may miss.

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
    ask = shared.question(asked, margin=margin)
    if not isinstance(prior, Prior):
        raise InputError.rule("prior", prior, "a prior of the effect, such as Uniform(0, 9) or HalfNormal(2)")
    if float(threshold) <= 1:
        raise InputError.rule("threshold", threshold, "above 1")
    nothing = _null(null, null_interval)
    _check_asked(prior, null_interval, interval_kind, odds)
    kind = interval_kind or "cut"
    given = [
        gate.finite("estimate", estimate),
        gate.positive("se", se),
        *(() if df is None else (gate.positive("df", df),)),
    ]
    shape = gate.common_shape(*(v.shape for v in given), prior.shape)
    if 0 in shape:
        raise InputError("There is no estimate to weigh: the list is empty.")
    data = Likelihood(*(np.broadcast_to(v, shape).ravel() for v in given), *((None,) if df is None else ()))
    belief = prior.reshaped(shape, -1)
    cuts = (null, *nothing, *((null - ask.margin, null + ask.margin) if ask.margin else ()))
    posterior = data.posterior(belief, cuts)
    log_factor = _log_factor(data, belief, posterior, nothing, kind)
    known = figures(ask, posterior)
    if not prior.proper and data.df is not None:  # Student's tails: no mean, no spread
        known[0, data.df <= 1], known[1, data.df <= 2] = np.nan, np.nan

    def row(value: Floats) -> Number:
        return scalar_or_array(value.reshape(shape))

    believed = summary(ask, known, "effect", shape=shape)
    up, down = posterior.log_chance(null, np.inf), posterior.log_chance(-np.inf, null)
    better, worse = (up, down) if ask.good == "higher" else (down, up)
    losses: dict[str, Number] = {}
    if prior.proper or data.df is None or data.df.min() > 1:
        gain, loss = (
            row(posterior.log_mean_beyond(side, null)) for side in ((1, -1) if ask.good == "higher" else (-1, 1))
        )
        losses = {"expected_loss": exp(loss), "control_loss": exp(gain)}
        losses |= {"log_expected_loss": loss, "log_control_loss": gain}
    scales = _Scales()
    if log_factor is not None and shape == ():
        scales = _scales(data, prior, nothing, kind, float(np.log(threshold)), float(log_factor[0]))
    name = ask.metric or "effect"
    return Estimate(
        title=name,
        method="normal likelihood"
        if df is None
        else f"t{f', df {float(given[2]):g},' if given[2].ndim == 0 else ''} likelihood",
        source=_SOURCE,
        metric=name,
        label=name,
        estimate=believed.median,
        interval=believed.interval,
        margin=ask.margin,
        good=ask.good,
        notes=()
        if log_factor is not None
        else ("A flat prior is no distribution: there is a posterior, but no factor.",),
        parts=(
            Evidence(
                prior=str(prior),
                belief=prior,
                curves=None if shape else _curves(data, belief, posterior),
                posterior={"effect": believed},
                chance_better=exp(row(better)),
                chance_worse=exp(row(worse)),
                log_chance_better=row(better),
                log_chance_worse=row(worse),
                chance_within=row(posterior.chance(null - ask.margin, null + ask.margin)) if ask.margin else None,
                bayes_factor=None if log_factor is None else exp(row(log_factor)),
                log_bayes_factor=None if log_factor is None else row(log_factor),
                factor_error=None if log_factor is None else row(posterior.error),
                odds=odds,
                threshold=float(threshold),
                best_scale=scales.best,
                best_log_factor=scales.best_log_factor,
                scales_beyond=scales.beyond,
                null=float(null),
                **losses,
            ),
        ),
    )


def _curves(data: Likelihood, prior: Prior, posterior: Posterior) -> Curves:
    def density(x: Floats) -> Floats:
        joint = data.log_likelihood(x[None, :])[0] + prior.reshaped((1,), 1).log_density(x)
        return np.asarray(np.exp(joint - posterior.log_total[0]))

    believed = (lambda x: np.exp(prior.reshaped((1,), 1).log_density(x))) if prior.proper else None
    return Curves(posterior.quantiles, density, believed)


def _check_asked(prior: Prior, null_interval: tuple[float, float] | None, kind: str | None, odds: float | None) -> None:
    """Refuse what can't be obeyed."""
    if kind is not None and null_interval is None:
        raise InputError(f"interval_kind {kind!r} is about an interval: give null_interval too.")
    if odds is not None:
        gate.positive("odds", odds)
        if not prior.proper:
            raise InputError(f"odds {odds:g} make nothing of a flat prior: it gives no Bayes factor.")
    if null_interval is not None and not prior.proper:
        raise InputError("null_interval is for a Bayes factor: a flat prior gives none.")


def _null(null: float, interval: tuple[float, float] | None) -> tuple[float, ...]:
    gate.finite("null", null)
    if interval is None:
        return (float(null),)
    low, high = (float(gate.finite("null_interval", end)) for end in interval)
    if not low < high:
        raise InputError.rule("null_interval", interval, "two values, the lower one first")
    return low, high


def _log_factor(
    data: Likelihood, prior: Prior, posterior: Posterior, nothing: tuple[float, ...], kind: str
) -> Floats | None:
    """Natural log of the Bayes factor of an effect against none, a row each."""
    if not prior.proper:
        return None
    size = data.estimate.shape
    if len(nothing) == 1:
        return posterior.log_total - data.log_likelihood(np.full(size, nothing[0]))
    if kind == "uniform":
        return posterior.log_total - data.posterior(Uniform(*nothing)).log_total
    belief = prior.reshaped(size, -1, 1, 1)
    about = [_spread(prior.about, size), *((np.full(size, end), data.se) for end in nothing)]
    cuts = [np.full(size, end) for end in nothing]
    believed = Posterior.of(belief.log_density, about, cuts=cuts, ends=_spread(prior.ends, size))
    inside, seen = (p.log_chance(*nothing) for p in (believed, posterior))
    outside, unseen = (
        np.logaddexp(p.log_chance(-np.inf, nothing[0]), p.log_chance(nothing[1], np.inf)) for p in (believed, posterior)
    )
    if not np.all(np.isfinite(inside) & np.isfinite(outside)):
        raise InputError(
            "The prior lies wholly inside the null interval, or wholly outside: there is nothing to weigh."
        )
    if not np.all(np.isfinite(seen) & np.isfinite(unseen)):
        raise DataError("The data leave nothing on one side of the null interval that floats hold.")
    return np.asarray(unseen - seen - outside + inside)


class _Scales(NamedTuple):
    """How a factor depends on the prior's scale."""

    best: float | None = None
    best_log_factor: float | None = None
    beyond: tuple[float, float | None] | None = None


def _scales(
    data: Likelihood, prior: Prior, nothing: tuple[float, ...], kind: str, threshold: float, log_factor: float
) -> _Scales:
    """The scale that favours an effect most, and those over which the factor stays beyond a threshold."""
    start = prior.low if isinstance(prior, Uniform) else 0.0
    own = float(np.log(prior.scale_now - start))

    def at(sizes: Floats) -> Floats:
        scaled = prior.scaled(start + np.exp(sizes))
        many = data.rows(sizes.size)
        found = _log_factor(many, scaled, many.posterior(scaled, nothing), nothing, kind)
        return np.full(sizes.shape, -np.inf) if found is None else found

    se = float(data.se[0])
    grid = np.unique(np.append(np.linspace(np.log(se * _RANGE[0]), np.log(se * _RANGE[1]), _LOOKS), own))
    try:
        values = at(grid)
    except (DataError, InputError):
        return _Scales()  # at some scale prior and null can't be told apart
    best, most = _peak(at, grid, values)
    sign = 1.0 if log_factor > threshold else -1.0
    beyond = None
    if abs(log_factor) > threshold:
        low, high = _stretch(lambda size: sign * at(size) - threshold, grid, sign * values - threshold, own)
        beyond = (
            0.0 if low is None else float(start + np.exp(low)),
            None if high is None else float(start + np.exp(high)),
        )
    return _Scales(float(start + np.exp(best)), most, beyond)


def _stretch(
    miss: Callable[[Floats], Floats], grid: Floats, values: Floats, own: float
) -> tuple[float | None, float | None]:
    """The ends of the stretch around `own` over which a function stays above 0; None where it goes on."""
    below = np.flatnonzero(values <= 0)
    k = int(np.searchsorted(grid, own))
    before, after = below[below < k], below[below > k]
    brackets = [(int(before[-1]), int(before[-1]) + 1)] if before.size else []
    brackets += [(int(after[0]) - 1, int(after[0]))] if after.size else []
    if not brackets:
        return None, None
    found = list(bracketed_root(miss, *(grid[[b[k] for b in brackets]] for k in (0, 1)), rtol=1e-13))
    low = float(found.pop(0)) if before.size else None
    return low, float(found.pop(0)) if after.size else None


def _peak(of: Callable[[Floats], Floats], grid: Floats, values: Floats) -> tuple[float, float]:
    """Where a function is largest near the largest of its values, and what it is there."""
    for _ in range(4):
        top = int(np.argmax(values))
        low, high = grid[max(top - 1, 0)], grid[min(top + 1, grid.size - 1)]
        grid = np.linspace(low, high, 25)
        values = of(grid)
    top = int(np.clip(np.argmax(values), 1, grid.size - 2))
    left, middle, right = values[top - 1 : top + 2]
    bend = left - 2 * middle + right
    shift = 0.5 * (left - right) / bend if bend < 0 else 0.0
    best = float(grid[top] + np.clip(shift, -1, 1) * (grid[1] - grid[0]))
    return best, float(of(np.array([best]))[0])
