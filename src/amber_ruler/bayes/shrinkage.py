"""Many estimates that inform each other: shrunken towards their mean, and what a next one may be."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple, Unpack

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.bayes.priors import Normal, StudentT
from amber_ruler.bayes.summary import exp
from amber_ruler.effects import critical_z
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import shared
from amber_ruler.numeric import chisquare, gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_number
from amber_ruler.register import method
from amber_ruler.results import Axis, Estimate, Evidence, Interval, Pooling, PosteriorSummary
from amber_ruler.settings import Directed

__all__ = ["prior_from", "shrink"]

Spread = Literal["reml", "ml", "moments"]
_MOST = 1e75  # whose squares, and the squares of those, floats hold
_SOURCES = {
    "reml": "Harville (1977), Journal of the American Statistical Association 72, 320-338",
    "ml": "Hardy & Thompson (1996), Statistics in Medicine 15, 619-629",
    "moments": "DerSimonian & Laird (1986), Controlled Clinical Trials 7, 177-188",
}


class _Pooled(NamedTuple):
    mean: float
    se: float
    tau: float
    q: float


@method(
    takes="numbers",
    examples=("--estimates 0.31,0.12,-0.05,0.22 --ses 0.12,0.08,0.10,0.15 --labels March,April,May,June",),
    exempt={
        "p and interval": "there is no test",
        "broadcast": "the estimates inform each other",
        "rescale": "it takes numbers",
    },
)
def shrink(
    estimates: ArrayLike,
    ses: ArrayLike,
    *,
    labels: Sequence[str] | None = None,
    spread: Spread = "reml",
    of_the_mean: Literal["counted", "left out"] = "counted",
    prediction: Literal["t", "normal"] = "t",
    null: float = 0.0,
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Estimate:
    """What are the effects of many variants, segments or past experiments, given that they are related?

    Parameters
    ----------
    estimates : array_like, shape (k,)
        Effects, in one unit; at least 2.
    ses : array_like, shape (k,)
        Their standard errors, in the same unit.
    labels : sequence of str, optional
        What each is called.
    spread : "reml", "ml" or "moments"
        How the spread tau of the true effects is found: by restricted maximum likelihood, by maximum likelihood, or
        from moments (DerSimonian and Laird), cut at 0.
    of_the_mean : "counted" or "left out"
        Whether the posterior of each effect counts that the mean of all is not known either.
    prediction : "t" or "normal"
        What the interval of a next effect is made of: Student's t with k - 2 degrees of freedom [1]_, for which there
        must be at least 3, or the normal distribution.
    alpha : float, between 0 and 0.5
        All intervals have level 1 - alpha.
    null, margin
        As for `evidence`.

    Returns
    -------
    Estimate
        An array with an effect each: posterior means, standard deviations and intervals; in `pooling` the mean of all
        and its interval, tau, how much of the scatter is more than chance, and the interval of a next effect.

    Raises
    ------
    InputError
        If the numbers don't go together, or a standard error is not above 0.

    Notes
    -----
    Effects are normal around a common mean with variance tau^2, estimates normal around them. The mean weighs each by
    1 / (se^2 + tau^2). tau is taken as known then: with few estimates every interval is a little too narrow.

    References
    ----------
    .. [1] Higgins, Thompson & Spiegelhalter (2009), Journal of the Royal Statistical Society A 172, 137-159.

    Examples
    --------
    >>> r = shrink([0.31, 0.12, -0.05, 0.22], [0.12, 0.08, 0.10, 0.15], labels=("March", "April", "May", "June"))
    >>> round(r.pooling.tau, 4), [round(v, 3) for v in r.estimate.tolist()]
    (0.108, [0.213, 0.125, 0.035, 0.163])
    """
    ask = shared.question(asked, margin=margin)
    gate.finite("null", null)
    y, se = gate.finite("estimates", estimates), gate.positive("ses", ses)
    if y.ndim != 1 or y.shape != se.shape:
        raise InputError(f"estimates and ses are two lists of one length, got shapes {y.shape} and {se.shape}.")
    if max(np.abs(y).max(initial=0.0), se.max(initial=0.0), 1 / se.min(initial=1.0)) > _MOST:
        raise InputError("Estimates and standard errors lie within reach (1e-75 to 1e75): change their unit.")
    k = y.size
    least = 3 if prediction == "t" else 2
    if k < least:
        raise DataError(f"{k} estimates: at least {least} are needed{' for a prediction by t' if least == 3 else ''}.")
    names = tuple(map(str, labels)) if labels is not None else tuple(str(i + 1) for i in range(k))
    if len(names) != k:
        raise InputError.rule("labels", len(names), f"as many as there are estimates ({k})")
    pooled = _pool(y, se * se, spread)
    share = se**2 / (se**2 + pooled.tau**2)  # of the common mean in each
    mean = share * pooled.mean + (1 - share) * y
    extra = (share * pooled.se) ** 2 if of_the_mean == "counted" else 0.0
    sd = np.sqrt(se**2 * (1 - share) + extra)
    z = critical_z(ask.tail)[0]
    limits = ask.interval(mean - z * sd, mean + z * sd)
    wide = float(np.hypot(pooled.tau, pooled.se))
    reach = z if prediction == "normal" else float(student.upper_quantile(ask.tail[0], np.asarray(k - 2.0)))
    with np.errstate(divide="ignore", invalid="ignore"):
        score = np.where(sd > 0, (mean - null) / sd, np.sign(mean - null) * np.inf)
    up, down = special.log_ndtr(score), special.log_ndtr(-score)
    better, worse = (up, down) if ask.good == "higher" else (down, up)
    within = None
    if ask.margin:
        within = special.ndtr((null + ask.margin - mean) / sd) - special.ndtr((null - ask.margin - mean) / sd)
    name = ask.metric or "effect"
    excess = max(0.0, 1 - (k - 1) / pooled.q) if pooled.q > 0 else 0.0
    return Estimate(
        title=f"{name}: {k} related estimates",
        method=f"normal effects around a common mean, tau by {spread}",
        source=_SOURCES[spread],
        metric=name,
        label="shrunken",
        estimate=mean,
        se=sd,
        interval=limits,
        margin=ask.margin,
        good=ask.good,
        axis=Axis("estimate", names),
        parts=(
            Evidence(
                prior=f"normal around the estimates' own mean {pooled.mean:.4g}, sd {pooled.tau:.4g}",
                posterior={"effect": PosteriorSummary("effect", "metric", mean, limits, limits, mean, sd)},
                chance_better=exp(better),
                chance_worse=exp(worse),
                log_chance_better=better,
                log_chance_worse=worse,
                chance_within=within,
                null=float(null),
            ),
            Pooling(
                mean=pooled.mean,
                se=pooled.se,
                interval=ask.interval(pooled.mean - z * pooled.se, pooled.mean + z * pooled.se),
                tau=pooled.tau,
                method=spread,
                estimates=y,
                ses=se,
                shares=share,
                q=pooled.q,
                q_p_value=float(chisquare.sf(pooled.q, k - 1)),
                excess=excess,
                prediction=Interval(pooled.mean - reach * wide, pooled.mean + reach * wide, ask.level),
                prediction_sd=wide,
                prediction_df=None if prediction == "normal" else float(k - 2),
            ),
        ),
    )


def prior_from(result: Estimate) -> Normal | StudentT:
    """Make past estimates the prior of a next one: what `shrink` predicts, for `evidence`.

    Parameters
    ----------
    result : Estimate
        Of `shrink`.

    Returns
    -------
    StudentT or Normal
        Around the common mean, as wide as tau and the mean's own standard error together.

    Examples
    --------
    >>> past = shrink([0.31, 0.12, -0.05, 0.22], [0.12, 0.08, 0.10, 0.15])
    >>> prior_from(past).df
    2.0
    """
    pooling = result.pooling
    if pooling is None:
        raise InputError("A prior from past estimates is made of a result of shrink.")
    if pooling.prediction_df is None:
        return Normal(pooling.mean, pooling.prediction_sd)
    return StudentT(pooling.prediction_df, pooling.prediction_sd, pooling.mean)


def _pool(y: Floats, v: Floats, spread: Spread) -> _Pooled:
    fixed = 1 / v
    centre = float(fixed @ y / fixed.sum())
    q = float(fixed @ (y - centre) ** 2)
    if spread == "moments":
        room = fixed.sum() - (fixed @ fixed) / fixed.sum()
        square = max(0.0, (q - (y.size - 1)) / room)
    else:
        square = _likeliest(y, v, restricted=spread == "reml")
    w = 1 / (v + square)
    return _Pooled(float(w @ y / w.sum()), float(w.sum() ** -0.5), float(np.sqrt(square)), q)


def _likeliest(y: Floats, v: Floats, *, restricted: bool) -> float:
    """The variance of effects under which the estimates are likeliest; 0 where none helps."""

    def log_likelihood(square: float) -> float:
        w = 1 / (v + square)
        mean = w @ y / w.sum()
        found = 0.5 * np.log(w).sum() - 0.5 * (w @ (y - mean) ** 2)
        return float(found - 0.5 * np.log(w.sum())) if restricted else float(found)

    def score(square: float) -> float:
        w = 1 / (v + square)
        mean = w @ y / w.sum()
        found = 0.5 * (w**2 @ (y - mean) ** 2) - 0.5 * w.sum()
        return float(found + 0.5 * (w @ w) / w.sum()) if restricted else float(found)

    top = float(np.var(y) * 4 + v.max())
    grid = np.append(0.0, top * np.geomspace(1e-8, 1.0, 60))
    best = int(np.argmax([log_likelihood(s) for s in grid]))
    if best == 0 and score(0.0) <= 0:
        return 0.0
    low, high = float(grid[max(best - 1, 0)]), float(grid[min(best + 1, grid.size - 1)])
    return bracketed_number(score, low, high)
