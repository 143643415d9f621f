"""The model behind Bayes factors of means: a t statistic, and a Cauchy prior of the standardised effect.

Rows are questions: arrays of shape (rows,) throughout.
"""

from __future__ import annotations

from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.polynomial import chebyshev
from numpy.typing import ArrayLike

from amber_ruler.bayes.posterior import Posterior
from amber_ruler.numeric import student
from amber_ruler.numeric.blocks import in_blocks
from amber_ruler.numeric.gate import Floats, aligned

# The factor's integral over y = log g takes nodes y = far + u + e^u: evenly spaced up to where prior or data put the
# largest value, and from there on so that the slow tail falls doubly exponentially.
_STEP = 0.12
_BEFORE, _BEYOND = 7.0, 4.3
_BLOCK = 256  # rows of nodes at a time: they stay in the processor's cache
_FEW = 5.0  # degrees of freedom
_SMOOTH, _UNEVEN = 32, 48  # knots of the likelihood's smooth factor, and with few degrees of freedom
# Panels around the likelihood, in its spreads; around 0, where the prior has its peak, in the prior's scale; and around
# a value that chances are counted from.
_STEPS = np.arange(1.2, 14.5, 1.2)
_REACH = _STEPS[-1]  # beyond which a normal likelihood leaves nothing, 1e-44
_POWERS = _REACH * 2.0 ** np.arange(1, 50)
_BELIEVED = 2.0 ** np.arange(-2, 60)
_CLOSE = 2.0 ** np.arange(-7, 4)
_NOTHING = 70.0  # minus the log of what is left beyond the reach of a likelihood whose tail is a power


Cuts = tuple[Floats, ...]  # values that chances are counted from, besides 0
Ends = tuple[float, float]


class Factor(NamedTuple):
    """Natural log of a Bayes factor of an effect against none, and a bound on the factor's relative numerical error."""

    log: Floats
    error: Floats


def log_factor(t: ArrayLike, df: ArrayLike, effective: ArrayLike, scale: ArrayLike) -> Factor:
    """Bayes factor of a t statistic; `effective` is n, or n1 n0 / (n1 + n0), and `scale` that of the Cauchy prior.

    The error is what twice the step changes, and what rounding may.
    """
    given = aligned(t, df, effective, scale)
    shape = np.shape(given[0])
    t, df, effective, scale = (np.ravel(v) for v in given)
    ratio, unit = t * t / df, effective * scale * scale
    with np.errstate(over="ignore"):
        far = np.log(np.maximum(1.0, np.maximum(1.0, ratio * np.maximum((df - 1) / 2, 1) - 1) / unit))
    log: Floats = np.empty(t.size)
    error: Floats = np.empty(t.size)
    order = np.argsort(far)  # those that need many nodes together

    def work(part: slice) -> None:
        some = order[part]
        log[some], error[some] = _log_factor(*(v[some, None] for v in (df, ratio, unit, far)))

    in_blocks(work, log.size, _BLOCK)
    return Factor(log.reshape(shape), error.reshape(shape))


def _log_factor(df: Floats, ratio: Floats, unit: Floats, far: Floats) -> tuple[Floats, Floats]:
    u = np.arange(-far.max() - _BEFORE, _BEYOND, _STEP)
    curve = np.exp(u)
    y = far + 2.0 + (u + curve)
    g = np.exp(y)
    grown = 1 + unit * g
    log_fit = 0.5 * (df + 1) * (np.log1p(ratio) - np.log1p(ratio / grown))
    log_value = log_fit - 0.5 * np.log(grown) - 0.5 / g - 0.5 * y + np.log1p(curve)
    peak = log_value.max(axis=-1, keepdims=True)
    value = np.exp(log_value - peak)
    whole = value.sum(axis=-1)
    coarse = 2 * value[:, ::2].sum(axis=-1)
    log = peak[:, 0] + np.log(whole * (_STEP / np.sqrt(2 * np.pi)))
    return log, np.abs(coarse / whole - 1) + 4e-16 * (1 + np.abs(log))


def standardised(t: Floats, df: Floats, effective: Floats, scale: Floats, cuts: Cuts, ends: Ends) -> Posterior:
    """Posterior of the standardised effect."""
    r = scale[:, None, None]
    t, df, effective, scale = _once(t, df, effective, scale)
    root = np.sqrt(effective)
    spread = np.sqrt(1 + t * t / df) / root
    log_likelihood = _LogLikelihood.of(t, df, root)

    def log_density(x: Floats) -> Floats:
        return np.asarray(log_likelihood(x) - np.log1p((x / r) ** 2))

    return Posterior.in_panels(log_density, _panels(t / root, spread, scale, cuts, ends, 0.0))


def _once(t: Floats, df: Floats, effective: Floats, scale: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Of the same data under many priors only one row, so that they share nodes and likelihood; all their scales."""
    same = t.size > 1 and all(np.ptp(v) == 0 for v in (t, df, effective))
    return (t[:1], df[:1], effective[:1], scale) if same else (t, df, effective, scale)


def _panels(
    centre: Floats, spread: Floats, scale: Floats, cuts: Cuts, ends: Ends, reach: float, finer: float = 1.0
) -> Floats:
    """Edges, shape (rows, edges): between two ends, with 0 among them; to so many spreads from the centre."""
    steps = _STEPS if finer == 1 else np.arange(1, 25) * (_STEPS[0] / finer)
    likely = np.concatenate([steps, _POWERS[2 * reach > _POWERS]])
    narrow = scale if scale.size == centre.size else scale.min(keepdims=True)
    farthest = np.max((np.abs(centre) + likely[-1] * spread) / narrow)
    believed = _BELIEVED[: np.searchsorted(_BELIEVED, farthest)]
    places = [(centre, spread, likely), (np.zeros(centre.shape), narrow, believed)]
    places += [(cut[: centre.size] + 0 * centre, spread, _CLOSE) for cut in (np.zeros(1), *cuts)]
    edges = np.concatenate(
        [at[:, None] + width[:, None] * np.concatenate([-s[::-1], [0.0], s]) for at, width, s in places], axis=1
    )
    return np.asarray(np.sort(np.clip(edges, *ends), axis=1))


@cache
def _knots(size: int) -> tuple[Floats, Floats]:
    """Chebyshev's points, and from values there to the coefficients of the polynomial through them."""
    knots = np.asarray(chebyshev.chebpts1(size), dtype=np.float64)
    half = np.where(np.arange(size) == 0, 1 / size, 2 / size)
    return knots, np.asarray(chebyshev.chebvander(knots, size - 1) * half, dtype=np.float64)


class _LogLikelihood(NamedTuple):
    """Log of the noncentral t density as a function of the effect, up to a constant.

    With r^2 = df + t^2 and m = t root effect / r it is the log of the integral over u of u^df exp(-(u - m)^2 / 2), less
    df root^2 effect^2 / (2 r^2). The integral is its value at the mode times a factor that changes so little with
    m / sqrt(m^2 + 4 (df + 1)) that a polynomial tells it.
    """

    df: Floats
    slope: Floats  # m for an effect of 1
    fall: Floats
    ends: tuple[Floats, Floats]
    coefficients: Floats  # shape (size, rows, 1, 1)

    @classmethod
    def of(cls, t: Floats, df: Floats, root: Floats) -> _LogLikelihood:
        slope = t * root / np.hypot(np.sqrt(df), t)
        reach = _REACH * np.sqrt(1 + t * t / df) / root
        unit = 2 * np.sqrt(df + 1)
        farthest = (np.abs(t / root) + reach) * np.abs(slope)
        most = np.maximum(farthest / np.hypot(farthest, unit), 1e-3)
        knots, from_knots = _knots(_UNEVEN if df.min() < _FEW else _SMOOTH)
        at = most[:, None] * knots
        m = unit[:, None] * at / np.sqrt(1 - at * at)
        coefficients = (student.log_area(m, np.broadcast_to(df[:, None], m.shape)) @ from_knots).T[..., None, None]
        rows = (df[:, None, None], slope[:, None, None], (df / (df + t * t) * root**2 / 2)[:, None, None])
        return cls(*rows, (most[:, None, None], unit[:, None, None]), coefficients)

    def __call__(self, effect: Floats) -> Floats:
        most, unit = self.ends
        m = self.slope * effect
        factor = chebyshev.chebval(np.clip(m / np.hypot(m, unit) / most, -1, 1), self.coefficients, tensor=False)
        return np.asarray(student.log_peak(m, self.df) + factor - self.fall * effect * effect)


def raw(t: Floats, df: Floats, effective: Floats, scale: Floats, cuts: Cuts, ends: Ends) -> Posterior:
    """Posterior of the effect over the pooled spread s, the true spread being unknown as p(sigma) = 1/sigma says.

    With A = effective (d/s - z)^2 + df and chi-square w on df + 1 degrees of freedom its density is A^(-(df + 2)/2)
    times the mean of sqrt(w) / (1 + w z^2 / (scale^2 A)).
    """
    r = scale[:, None, None]
    t, df, effective, scale = _once(t, df, effective, scale)
    root = np.sqrt(effective)
    centre = t / root
    nodes, weights = student.spread_nodes(df + 1, few=True)
    w = (df[:, None] + 1) * nodes**2
    weighed = np.sqrt(w) * weights
    n, c, nu = (v[:, None, None] for v in (effective, centre, df))

    def log_density(z: Floats) -> Floats:
        spread_square = n * (c - z) ** 2 + nu
        k = z * z / (r * r * spread_square)
        believed = np.zeros(k.shape)
        for j in range(w.shape[1]):
            believed += weighed[:, j, None, None] / (1 + w[:, j, None, None] * k)
        return np.asarray(np.log(believed) - 0.5 * (nu + 2) * np.log(spread_square / nu))

    least = float(df.min())
    reach = np.sqrt(least) * np.exp(min(_NOTHING / (least + 1), 80.0))
    finer = 2.0 if least < _FEW else 1.0  # its tails bend within a spread
    return Posterior.in_panels(log_density, _panels(centre, 1 / root, scale, cuts, ends, reach, finer))
