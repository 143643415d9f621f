"""Evidence for a difference of two means: a Cauchy prior on the standardised effect."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from amber_ruler import measure
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Cauchy
from amber_ruler.errors import InputError
from amber_ruler.numeric import student
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.results import EffectSize, Interval

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.samples import MeanGroup

_PRIOR = Cauchy()


def means(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    prior: Cauchy = _PRIOR,
    alpha: float = 0.05,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Posterior:
    """How strong is the evidence for a difference of means, and how large is it likely to be?

    Parameters
    ----------
    treatment, control : array_like, Sample, Summary or Moments
        The two groups.
    prior : Cauchy
        Prior of the standardised effect (difference over the common standard deviation) if there is one. Effects
        in experiments are often far smaller than the scale of 1 of the source; a smaller scale is a fairer bet
        on them.
    alpha, margin, good, metric
        As for `measure.means`; the posterior interval has level 1 - alpha.

    Returns
    -------
    Posterior
        The Bayes factor of a difference against none, and the posterior of the difference given that there is one.

    Notes
    -----
    With t the equal-variance statistic, nu its degrees of freedom and N = n1 n0 / (n1 + n0), the Bayes factor is the
    integral over g of an inverse chi-square weight times
    (1 + N g r^2)^(-1/2) ((1 + t^2/nu) / (1 + t^2 / ((1 + N g r^2) nu)))^((nu+1)/2) [1]_, by the trapezoid rule in
    log g. The posterior weighs the prior with the noncentral t density. Both groups share one variance.

    References
    ----------
    .. [1] Rouder, Speckman, Sun, Morey & Iverson (2009), Psychonomic Bulletin & Review 16, 225-237, equation 1.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = means(Summary(80, 5.5, 2.0, "short"), Summary(80, 4.5, 2.0, "current"))
    >>> round(r.bayes_factor, 3)
    13.196
    """
    raw = measure.means(treatment, control, alpha=alpha, variances="equal", margin=margin, good=good, metric=metric)
    if np.ndim(raw.estimate):
        raise InputError("bayes.means compares one pair at a time: give single numbers.")
    one, two = raw.groups
    t, df = float(np.asarray(raw.statistic)), float(np.asarray(raw.df))
    effective = float(one.n) * float(two.n) / (float(one.n) + float(two.n))
    pooled = float(one.se) * np.sqrt(float(one.n))
    log_factor = log_bayes_factor(t, df, effective, prior.scale)

    effect = _EffectPosterior.of(t, df, np.sqrt(effective), prior)
    low, median, high = (effect.quantile(q) for q in (alpha / 2, 0.5, 1 - alpha / 2))
    above = float(np.sum(effect.cells(np.ones_like)[effect.middle > 0]))
    side = 1.0 if good == "higher" else -1.0
    return Posterior(
        title=raw.title,
        method="two means, equal variances, Cauchy prior on the standardised effect",
        source="Rouder et al. (2009), Psychonomic Bulletin & Review 16, 225-237",
        metric=raw.metric,
        treatment=raw.treatment,
        control=raw.control,
        estimate=median * pooled,
        interval=Interval(low * pooled, high * pooled, 1 - alpha),
        alpha=alpha,
        effects={
            "standardised": EffectSize(median, Interval(low, high, 1 - alpha), "standardised effect"),
        },
        groups=raw.groups,
        margin=raw.margin,
        good=good,
        checks=raw.checks,
        prior=str(prior),
        chance_better=above if good == "higher" else 1 - above,
        expected_loss=effect.mean_of(lambda x: np.maximum(-side * x, 0.0)) * pooled,
        bayes_factor=float(np.exp(min(log_factor, 700.0))),
        log_bayes_factor=log_factor,
    )


def log_bayes_factor(t: float, df: float, effective: float, scale: float) -> float:
    """Natural log of the Bayes factor of an effect against none.

    Parameters
    ----------
    t, df : float
        t statistic and its degrees of freedom.
    effective : float
        n1 n0 / (n1 + n0).
    scale : float
        Scale of the Cauchy prior.
    """
    # In y = log g the integrand falls off like exp(-exp(-y) / 2) on the left and exp(-y) on the right.
    y = np.arange(-7.5, 60.0, 0.02)
    g = np.exp(y)
    grown = 1 + effective * g * scale * scale
    ratio = t * t / df
    log_fit = 0.5 * (df + 1) * (np.log1p(ratio) - np.log1p(ratio / grown))
    log_value = log_fit - 0.5 * np.log(grown) - 0.5 * np.log(2 * np.pi) - 0.5 * y - 0.5 / g
    peak = float(np.max(log_value))
    return peak + float(np.log(0.02 * np.sum(np.exp(log_value - peak))))


class _EffectPosterior(NamedTuple):
    """Posterior of the standardised effect on a fine grid, one node of which is 0."""

    x: Floats
    density: Floats
    middle: Floats
    middle_density: Floats

    @classmethod
    def of(cls, t: float, df: float, root: float, prior: Cauchy) -> _EffectPosterior:
        # Dense where the likelihood is, with room for its tails, and dense where the prior is.
        u = np.linspace(-1, 1, 4001)
        centre, spread = t / root, np.sqrt(1 + t * t / df) / root
        likely = centre + spread * 14 * (0.25 * u + 0.75 * u**3)
        believed = prior.scale * np.tan(0.4999 * np.pi * u[::4])
        inside = (believed > likely[0]) & (believed < likely[-1])
        x = np.unique(np.concatenate([likely, believed[inside], [0.0]]))
        middle = (x[1:] + x[:-1]) / 2
        density, middle_density = (student.noncentral_pdf(t, df, v * root) * prior.pdf(v) for v in (x, middle))
        raw = cls(x, density, middle, middle_density)
        total = raw.mean_of(np.ones_like)
        return cls(x, density / total, middle, middle_density / total)

    def cells(self, weight: Callable[[Floats], Floats]) -> Floats:
        """Integral of weight times density over each cell, by Simpson's rule."""
        ends = weight(self.x) * self.density
        return np.diff(self.x) / 6 * (ends[1:] + 4 * weight(self.middle) * self.middle_density + ends[:-1])

    def mean_of(self, weight: Callable[[Floats], Floats]) -> float:
        """Posterior mean of a function whose only kink may be at 0."""
        return float(np.sum(self.cells(weight)))

    def quantile(self, chance: float) -> float:
        """The effect below which the posterior has so much probability."""
        below = np.concatenate([[0.0], np.cumsum(self.cells(np.ones_like))])
        k = int(np.clip(np.searchsorted(below, chance) - 1, 0, self.middle.size - 1))
        width = self.x[k + 1] - self.x[k]
        start, end, left, right = below[k], below[k + 1], width * self.density[k], width * self.density[k + 1]

        def miss(s: Floats) -> Floats:  # the cubic with the distribution's values and slopes at both ends
            bump = (1 - s) * (left - (end - start)) + s * ((end - start) - right)
            return np.asarray(start + s * (end - start) + s * (1 - s) * bump - chance)

        return float(self.x[k] + width * bracketed_root(miss, np.array(0.0), np.array(1.0)))
