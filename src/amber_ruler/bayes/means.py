"""Evidence for a difference of two means: a Cauchy prior on the standardised effect."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.polynomial import chebyshev, legendre

from amber_ruler.bayes.posterior import quantile_in_panels
from amber_ruler.bayes.priors import Cauchy
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import student
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize, Evidence, Group, Interval
from amber_ruler.samples import MeanGroup, Summary
from amber_ruler.samples import gate as groups

_PRIOR = Cauchy()


@method(
    takes="two",
    needs="mean",
    published=True,
    examples=(
        "travellers.csv --value fare --by form --control current --prior 0.1",
        "--n 80,80 --mean 5.5,4.5 --sd 2,2",
    ),
    exempt={
        "p and interval": "there is no test",
        "broadcast": "one pair at a time",
        "swap": "the chance to be better mirrors; the laws of tests don't apply",
    },
)
def means(
    treatment: MeanGroup,
    control: MeanGroup,
    *,
    prior: Cauchy = _PRIOR,
    alpha: float = 0.05,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Comparison:
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
    Comparison
        Without a test. The estimate is the posterior median of the difference, given that there is one, the interval
        its equal-tailed posterior interval; in `evidence` the Bayes factor of a difference against none, the chance to
        be better, and the expected loss.

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
    >>> round(r.evidence.bayes_factor, 3)
    13.196
    """
    ask = shared.question(alpha, margin=margin, good=good)
    if prior.centre != 0:
        raise InputError.rule("prior", str(prior), "around 0: the null is no effect")
    one, two = groups.two(treatment, control, "mean")
    n1, n0, pooled, difference = _pooled(one, two)
    df, effective = n1 + n0 - 2, n1 * n0 / (n1 + n0)
    t = difference / pooled * np.sqrt(effective)
    log_factor = log_bayes_factor(t, df, effective, prior.scale)
    effect = _EffectPosterior.of(t, df, np.sqrt(effective), prior)
    low, median, high = (effect.quantile(q) for q in (ask.tail[0], 0.5, 1 - ask.tail[1]))
    side = 1.0 if good == "higher" else -1.0
    limits = Interval(low, high, ask.level)
    name = groups.named(metric, "value", one, two)
    return Comparison(
        title=f"{name}: {one.label} − {two.label}",
        method="two means, equal variances, Cauchy prior on the standardised effect",
        source="Rouder et al. (2009), Psychonomic Bulletin & Review 16, 225-237",
        metric=name,
        treatment=one.label,
        control=two.label,
        estimate=median * pooled,
        interval=limits.scaled(pooled),
        effects={"standardised": EffectSize(median, limits, "standardised effect")},
        groups=tuple(
            Group(g.label, n, float(g.mean), float(g.sd), pooled / np.sqrt(n)) for g, n in ((one, n1), (two, n0))
        ),
        facts={"pooled_sd": pooled},
        margin=ask.margin,
        good=good,
        checks=(
            *checks.few(np.asarray(n1), np.asarray(n0)),
            *checks.skewed(ask.alpha, "two-sided", one, two),
            *checks.missing(one, two),
        ),
        parts=(
            Evidence(
                prior=str(prior),
                chance_better=effect.mean_beyond_0(side, 0),
                expected_loss=effect.mean_beyond_0(-side, 1) * pooled,
                bayes_factor=float(np.exp(min(log_factor, 700.0))),
                log_bayes_factor=log_factor,
            ),
        ),
    )


def _pooled(one: Summary, two: Summary) -> tuple[float, float, float, float]:
    """Both sizes, the spread that both share, and the difference."""
    if any(np.ndim(v) for g in (one, two) for v in (g.n, g.mean, g.sd)):
        raise InputError("bayes.means compares one pair at a time: give single numbers.")
    n1, n0, sd1, sd0 = (float(v) for v in (one.n, two.n, one.sd, two.sd))
    if min(n1, n0) < 2:
        raise DataError("A group has 1 unit: a spread needs at least 2.")
    pooled = float(np.hypot(sd1 * np.sqrt(n1 - 1), sd0 * np.sqrt(n0 - 1)) / np.sqrt(n1 + n0 - 2))
    if pooled == 0:
        raise DataError("Every value of each group equals the others: without any spread there is no evidence.")
    difference = (float(one.mean) - float(two.mean)) + (float(one.mean_tail) - float(two.mean_tail))
    return n1, n0, pooled, difference


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


_NODES, _WEIGHTS = legendre.leggauss(10)
# From the density at the nodes of a panel to its integral from the panel's start, as a polynomial on -1..1.
_INTEGRALS = legendre.legint(
    (legendre.legvander(_NODES, 9) * _WEIGHTS[:, None] * (np.arange(10) + 0.5)).T, lbnd=-1, axis=0
)
# Values at Chebyshev's points, and from there to the coefficients of the polynomial through them.
_SIZE = 64
_KNOTS = chebyshev.chebpts1(_SIZE)
_FROM_KNOTS = (chebyshev.chebvander(_KNOTS, _SIZE - 1) * np.where(np.arange(_SIZE) == 0, 1 / _SIZE, 2 / _SIZE)).T
_REACH = 14.0  # spreads of the likelihood beyond which nothing is left
_NOTHING = 1e-45  # of the likelihood's peak


class _EffectPosterior(NamedTuple):
    """Posterior of the standardised effect, in panels with ten nodes each; 0 lies between two of them."""

    edges: Floats
    x: Floats  # shape (panels, 10)
    mass: Floats  # density times weight at each node, 1 in all

    @classmethod
    def of(cls, t: float, df: float, root: float, prior: Cauchy) -> _EffectPosterior:
        centre, spread = t / root, np.sqrt(1 + t * t / df) / root

        def likelihood(effect: Floats) -> Floats:
            return student.noncentral_pdf(t, df, effect * root)

        # Panels as wide as the likelihood's spread, and finer where the prior is.
        likely = np.linspace(centre - _REACH * spread, centre + _REACH * spread, 29)
        known = likelihood(centre + _REACH * spread * _KNOTS)
        wide = bool(np.all(known > _NOTHING * known.max()))
        if not wide:  # of a large t with few degrees of freedom one side ends abruptly
            fine = np.linspace(likely[0], likely[-1], 1_401)
            some = fine[likelihood(fine) > _NOTHING * known.max()]
            if some.size == 0 or not np.isfinite(t * t):
                raise DataError("The means lie so many standard errors apart that their likelihood is 0 in floats.")
            likely = np.linspace(some[0], some[-1], 161)
        believed = prior.scale * 2.0 ** np.arange(-2, 13)
        edges = np.unique(np.concatenate([likely, believed, -believed, [0.0]]))
        edges = edges[(edges >= likely[0]) & (edges <= likely[-1])]
        half = np.diff(edges)[:, None] / 2
        x = (edges[1:] + edges[:-1])[:, None] / 2 + half * _NODES
        if wide:  # the logarithm of the likelihood is so smooth that few of its values tell the others
            log_likelihood = chebyshev.chebval((x - centre) / (_REACH * spread), _FROM_KNOTS @ np.log(known))
            seen = np.exp(log_likelihood - log_likelihood.max())
        else:
            seen = likelihood(x)
        mass = seen * np.exp(prior.log_density(x)) * half * _WEIGHTS
        return cls(edges, x, mass / mass.sum())

    def mean_beyond_0(self, side: float, power: int) -> float:
        """Posterior mean of the effect's size to this power, on one side of 0 alone."""
        mine = side * self.x > 0
        return float(np.sum(self.mass[mine] * np.abs(self.x[mine]) ** power))

    def quantile(self, chance: float) -> float:
        """The effect below which the posterior has so much probability."""
        return quantile_in_panels(self.edges, self.mass, chance, _INTEGRALS, _WEIGHTS)
