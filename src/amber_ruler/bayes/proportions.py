"""Two proportions with beta priors."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np
from scipy import special

from amber_ruler import measure
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Beta
from amber_ruler.errors import InputError
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.results import Interval
from amber_ruler.samples import ShareGroup, counts_of

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

# Trapezoid nodes u for log-odds = centre + spread * sinh(u): they cover normal and exponential tails alike.
_U = np.linspace(-6.5, 6.5, 2401)

_PRIOR = Beta()


class _Share(NamedTuple):
    a: float
    b: float

    @property
    def mean(self) -> float:
        return self.a / (self.a + self.b)


def proportions(
    treatment: ShareGroup,
    control: ShareGroup,
    *,
    prior: Beta = _PRIOR,
    alpha: float = 0.05,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Posterior:
    """What is the chance that treatment has the better share, and what is lost if it has not?

    Parameters
    ----------
    treatment, control : Counts, array_like of 0/1, Sample or Moments
        The two groups.
    prior : Beta
        Prior of each share, independently.
    alpha, margin, good, metric
        As for `measure.proportions`; the posterior interval has level 1 - alpha.

    Returns
    -------
    Posterior
        Median and interval of the difference, chance to be better, expected loss of choosing treatment.

    Notes
    -----
    Each share's posterior is a beta distribution; the difference is integrated over one of them by the
    trapezoid rule in its log-odds, so there is no sampling and no seed.

    References
    ----------
    .. [1] Altham (1969), Journal of the Royal Statistical Society B 31, 261-269.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = proportions(Counts(60, 400, "short"), Counts(40, 400, "current"))
    >>> round(r.chance_better, 4)
    0.9836
    """
    counts1, counts0 = counts_of(treatment, "treatment"), counts_of(control, "control")
    if np.ndim(counts1.successes) or np.ndim(counts0.successes):
        raise InputError("bayes.proportions compares one pair at a time: give single counts.")
    raw = measure.proportions(counts1, counts0, alpha=alpha, margin=margin, good=good, metric=metric)
    one, two = (
        _Share(prior.successes + float(c.successes), prior.failures + float(c.trials) - float(c.successes))
        for c in (counts1, counts0)
    )
    low, median, high = (_quantile(one, two, q) for q in (alpha / 2, 0.5, 1 - alpha / 2))
    better, worse = (one, two) if good == "higher" else (two, one)
    return Posterior(
        title=raw.title,
        method="two proportions, independent beta priors",
        source="Altham (1969), Journal of the Royal Statistical Society B 31, 261-269",
        metric=raw.metric,
        treatment=raw.treatment,
        control=raw.control,
        estimate=median,
        interval=Interval(low, high, 1 - alpha),
        alpha=alpha,
        groups=raw.groups,
        margin=raw.margin,
        good=good,
        quantity="share",
        checks=raw.checks,
        prior=f"{prior} for each share",
        chance_better=_chance_above(better, worse),
        expected_loss=_shortfall(better, worse),
    )


def _nodes(share: _Share) -> tuple[Floats, Floats]:
    """Values of a beta variable and their probabilities."""
    a, b = share
    spread = np.sqrt(1 / a + 1 / b)
    d = np.clip(spread * np.sinh(_U), -700, 700)
    mode = share.mean
    # log of p^a (1 - p)^b against its value at p = a / (a + b), on the log-odds scale.
    log_density = -(a + b) * (np.log1p(mode * np.expm1(d)) - mode * d)
    weight = np.exp(log_density) * np.cosh(_U)
    return special.expit(np.log(a / b) + d), weight / weight.sum()


def _chance_above(one: _Share, two: _Share) -> float:
    """P(first > second)."""
    p, weight = _nodes(one)
    return float(special.betainc(two.a, two.b, p) @ weight)


def _shortfall(one: _Share, two: _Share) -> float:
    """Mean of max(second - first, 0)."""
    p, weight = _nodes(one)
    above = two.mean * special.betaincc(two.a + 1, two.b, p) - p * special.betaincc(two.a, two.b, p)
    return max(float(above @ weight), 0.0)


def _quantile(one: _Share, two: _Share, chance: float) -> float:
    """The d with P(first - second <= d) = chance."""
    p, weight = _nodes(one)

    def miss(d: Floats) -> Floats:
        below = special.betaincc(two.a, two.b, np.clip(p - d[..., None], 0, 1)) @ weight
        return np.asarray(below - chance)

    return float(bracketed_root(miss, np.array(-1.0), np.array(1.0), rtol=1e-14))
