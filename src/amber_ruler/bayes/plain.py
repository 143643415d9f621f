"""Means without a standardised prior: Student's posteriors, and skewed values that are log-normal, zeros aside."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy import special

from amber_ruler.bayes import curve
from amber_ruler.bayes.curve import Curve
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import NormalInverseGamma, Reference, log_t
from amber_ruler.errors import DataError
from amber_ruler.numeric import student
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root, widened

_FAR = np.linspace(-1.0, 1.0, 401)
_RIDGE = np.arange(-9.0, 9.1, 1.5)
_BULK = np.concatenate([-(1.6 ** np.arange(14, -3, -1)), [0.0], 1.6 ** np.arange(-2, 10)])


class Scaled(NamedTuple):
    """A mean's posterior: Student's t around a place."""

    centre: float
    scale: float
    df: float

    @property
    def sd(self) -> float | None:
        """Standard deviation, if there is one."""
        return self.scale * float(np.sqrt(self.df / (self.df - 2))) if self.df > 2 else None


def posterior_of_mean(n: float, mean: float, sd: float, prior: Reference | NormalInverseGamma) -> Scaled:
    """What n values with a mean and a standard deviation make of a prior.

    Of the reference prior t with n - 1 degrees of freedom; of the normal-inverse-gamma with twice the new shape.
    """
    if isinstance(prior, Reference):
        return Scaled(mean, sd / float(np.sqrt(n)), n - 1)
    weight, shape = prior.weight + n, prior.shape + n / 2
    away = mean - prior.mean
    scale = prior.scale + (n - 1) * sd * sd / 2 + prior.weight * n / weight * away * away / 2
    return Scaled(prior.mean + n / weight * away, float(np.sqrt(scale / shape / weight)), 2 * shape)


class Difference:
    """Posterior of the difference of two means, each a t: the Behrens-Fisher distribution; or of one mean alone.

    Given how the information splits between both, u ~ Beta(df1 / 2, df0 / 2), it is a t with df1 + df0 degrees of
    freedom (Ruben, 1960), so that one sum over u gives every probability. It is symmetric: the central interval is the
    densest.
    """

    def __init__(self, one: Scaled, two: Scaled | None = None) -> None:
        self.one, self.two = one, two
        self.centre = one.centre - (two.centre if two else 0.0)
        self.df = one.df + (two.df if two else 0.0)
        self._split = None if two is None else curve.share(one.df / 2, two.df / 2)
        self._scales, self._mass = np.array([one.scale]), np.array([1.0])
        if self._split is not None:
            row = self._split.row
            self._scales, self._mass = self._spread(row.x.ravel()), row.mass.ravel()

    def _spread(self, y: Floats) -> Floats:
        """Scale of the t where the split has log odds y, counted from its origin."""
        if self.two is None:
            return np.full(y.shape, self.one.scale)
        (_, s1, df1), (_, s0, df0) = self.one, self.two
        y = y + (0.0 if self._split is None else self._split.origin)
        # (df1 s1^2 / u + df0 s0^2 / (1 - u)) / df
        return np.sqrt((df1 * s1**2 * (1 + np.exp(-y)) + df0 * s0**2 * (1 + np.exp(y))) / self.df)

    def mean_and_sd(self) -> tuple[Floats | None, Floats | None]:
        """Mean and standard deviation, where there are such."""
        each = [self.one, *([self.two] if self.two else [])]
        spreads = [p.sd for p in each]
        sd = (
            None if any(s is None for s in spreads) else np.array([float(np.hypot.reduce([s or 0.0 for s in spreads]))])
        )
        return (np.array([self.centre]) if min(p.df for p in each) > 1 else None), sd

    def density(self, x: Floats) -> Floats:
        """Density at values."""
        z = (x[..., None] - self.centre) / self._scales
        return np.asarray((np.exp(log_t(z, self.df)) / self._scales) @ self._mass)

    def log_above(self, x: float) -> float:
        """Log of the probability above a value, however far in a tail."""
        z = x - self.centre
        if z <= 0 or self._split is None:
            return float(np.log(self._mass @ student.sf(z / self._scales, self.df)))
        split = self._split

        def log_density(y: Floats) -> Floats:
            with np.errstate(divide="ignore"):
                return split.log_density(y) + np.log(np.maximum(student.sf(z / self._spread(y), self.df), 1e-320))

        step = min(split.width, 1.0)
        y = split.centre + 60 * split.width * _FAR
        far = curve.edges_by_fall(log_density, float(y[np.argmax(log_density(y))]), split.width)
        ends = min(far[0], split.edges[0]), max(far[-1], split.edges[-1]) + step
        edges = np.unique(np.concatenate([far, np.arange(*ends, step)]))
        return float(Posterior.in_panels(log_density, edges[None, :]).log_total[0])

    def log_below(self, x: float) -> float:
        """Log of the probability below a value: by symmetry."""
        return self.log_above(2 * self.centre - x)

    def log_loss(self, side: float) -> float:
        """Log of how far the difference lies on one side of 0 on average; side 1 is above."""
        z = -side * self.centre / self._scales
        df = self.df
        density = np.exp(log_t(z, df))
        beyond = density * (df + z * z) / (df - 1) - z * student.sf(z, df)
        return float(np.log(max(float(self._mass @ (self._scales * beyond)), 1e-320)))

    @property
    def has_mean(self) -> bool:
        """Whether each mean's posterior has one."""
        return min(self.one.df, self.two.df if self.two else np.inf) > 1

    def quantiles(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The values with so much probability below, and then those with so much above; shape (1, chances)."""
        goals = np.array([*below, *above])
        side = np.where(np.arange(goals.size) < len(below), -1.0, 1.0)
        tail, side = np.where(goals > 0.5, 1 - goals, goals), np.where(goals > 0.5, -side, side)

        def miss(z: Floats) -> Floats:
            found = student.sf(np.exp(z)[..., None] / self._scales, self.df) @ self._mass
            return np.asarray(np.log(tail) - np.log(np.maximum(found, 1e-320)))

        start = np.full(goals.shape, float(np.log(self._scales @ self._mass)))
        low, high = widened(miss, start - 1, start + 1, step=1.0, ends=(start[0] - 60.0, 700.0))
        with np.errstate(divide="ignore"):
            z = np.where(tail < 0.5, np.exp(bracketed_root(miss, low, high)), 0.0)
        return (self.centre + side * z)[None, :]

    def densest(self, level: float) -> tuple[Floats, Floats]:
        """The shortest interval with so much probability."""
        low, high = self.quantiles(((1 - level) / 2,), ((1 - level) / 2,))[0]
        return np.array([low]), np.array([high])


def log_normal_mean(values: Floats, label: str) -> Curve:
    """The mean of log-normal values, on the log scale: mu + s^2 / 2, with p(mu, s^2) = 1 / s^2.

    Its log has a tail that falls like a power, so that the mean itself has no posterior mean.
    """
    if np.any(values <= 0):
        raise DataError(f"Log-normal values lie above 0: {label} has {int(np.sum(values <= 0)):,} that do not.")
    logs = np.log(values)
    n, centre, variance = logs.size, float(logs.mean()), float(logs.var(ddof=1)) if logs.size > 1 else 0.0
    if variance == 0:
        raise DataError(f"All values of {label} are equal, or there is one only: their spread is not known.")
    df = n - 1
    bulk, width = np.log(variance), np.sqrt(2 / df)

    def log_density(y: Floats) -> Floats:
        """By the variance: given it, the log of the mean is normal."""
        h = (y - centre).ravel()[:, None]
        size = 2 * np.maximum(np.abs(h), 1e-3 * variance)
        ridge = np.log(size) + 2 / np.sqrt(n * size) * _RIDGE  # where the log of the mean is half the variance
        edges = np.concatenate([ridge, np.broadcast_to(bulk + width * _BULK, (h.size, _BULK.size))], axis=1)

        def joint(w: Floats) -> Floats:
            s2 = np.exp(w)
            prior = -0.5 * df * (w - bulk) - 0.5 * df * variance / s2
            return np.asarray(prior - 0.5 * (h[..., None] - s2 / 2) ** 2 * n / s2 - 0.5 * w)

        return Posterior.in_panels(joint, np.sort(edges, axis=1)).log_total.reshape(y.shape)

    found = Curve.of("log", log_density, centre + variance / 2, float(np.sqrt(variance / n + variance**2 / (2 * n))))
    return found.tabulated()


def zeros_and_log_normal(values: Floats, label: str) -> Curve:
    """The mean of values of which some are 0 and the others log-normal: share of the others times their mean."""
    above = values[values > 0]
    if np.any(values < 0):
        raise DataError(f"{label} has {int(np.sum(values < 0)):,} values below 0: neither zeros nor log-normal.")
    if above.size == 0:
        raise DataError(f"{label} has no value above 0.")
    some, size = curve.share(above.size + 1.0, values.size - above.size + 1.0), log_normal_mean(above, label)
    log_share, mass = special.log_expit(some.row.x.ravel() + some.origin), some.row.log_mass.ravel()

    def log_density(y: Floats) -> Floats:
        flat = y.ravel()[:, None] - log_share
        return np.asarray(special.logsumexp(size.log_density(flat) + mass, axis=1)).reshape(y.shape)

    at = some.origin + some.centre
    spread = float(np.hypot(size.width, some.width * special.expit(-at)))
    return Curve.of("log", log_density, size.centre + float(special.log_expit(at)), spread).tabulated()
