"""Two proportions with beta priors."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from scipy import special

from amber_ruler.bayes.priors import Beta
from amber_ruler.errors import InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import beta
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.register import method
from amber_ruler.results import Comparison, Evidence, Interval
from amber_ruler.samples import ShareGroup
from amber_ruler.samples import gate as groups

# Trapezoid nodes u for log-odds = centre + spread * sinh(u): they cover normal and exponential tails alike.
_U = np.linspace(-6.5, 6.5, 2401)

_PRIOR = Beta()


class _Share(NamedTuple):
    a: float
    b: float

    @property
    def mean(self) -> float:
        return self.a / (self.a + self.b)


@method(
    takes="two",
    needs="share",
    published=True,
    examples=(
        "travellers.csv --value booked --by form --control current",
        "--successes 60,40 --trials 400,400 --prior 1,1",
    ),
    exempt={
        "p and interval": "there is no test",
        "broadcast": "one pair at a time",
        "swap": "the chance to be better mirrors; the laws of tests don't apply",
    },
)
def proportions(
    treatment: ShareGroup,
    control: ShareGroup,
    *,
    prior: Beta = _PRIOR,
    alpha: float = 0.05,
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Comparison:
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
    Comparison
        Without a test. Posterior median and equal-tailed interval of the difference; in `evidence` the chance to be
        better and the expected loss of choosing treatment.

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
    >>> round(r.evidence.chance_better, 4)
    0.9836
    """
    ask = shared.question(alpha, margin=margin, good=good)
    counts = groups.two(treatment, control, "share")
    if any(np.ndim(v) for c in counts for v in (c.successes, c.trials)):
        raise InputError("bayes.proportions compares one pair at a time: give single counts.")
    one, two = (
        _Share(prior.successes + float(c.successes), prior.failures + float(c.trials) - float(c.successes))
        for c in counts
    )
    low, median, high = (_quantile(one, two, q) for q in (ask.tail[0], 0.5, 1 - ask.tail[1]))
    better, worse = (one, two) if good == "higher" else (two, one)
    name = groups.named(metric, "success", *counts)
    treated, base = (c.label for c in counts)
    return Comparison(
        title=f"{name}: {treated} − {base}",
        method="two proportions, independent beta priors",
        source="Altham (1969), Journal of the Royal Statistical Society B 31, 261-269",
        metric=name,
        treatment=treated,
        control=base,
        estimate=median,
        interval=Interval(low, high, ask.level),
        groups=tuple(
            shared.share_group(c.label, np.asarray(float(c.successes)), np.asarray(float(c.trials))) for c in counts
        ),
        margin=ask.margin,
        good=good,
        quantity="share",
        checks=checks.missing(*counts),
        parts=(
            Evidence(
                prior=f"{prior} for each share",
                chance_better=_chance_above(better, worse),
                expected_loss=_shortfall(better, worse),
            ),
        ),
    )


def _nodes(share: _Share) -> tuple[Floats, Floats]:
    """Values of a beta variable and their probabilities."""
    a, b = share
    spread = np.sqrt(1 / a + 1 / b)
    d = np.clip(spread * np.sinh(_U), -700, 700)
    mode = share.mean
    # log of p^a (1 - p)^b against its value at p = a / (a + b), on the log-odds scale.
    log_density = -(a + b) * beta.divergence(mode, d)
    weight = np.exp(log_density) * np.cosh(_U)
    return special.expit(np.log(a / b) + d), weight / weight.sum()


def _narrow_first(one: _Share, two: _Share) -> bool:
    """Whether the first share is the better known one: seen from its values, the other's distribution is smooth.

    Whichever is named first, the same one is chosen, so that swapping the groups mirrors the answer.
    """
    first, second = ((1 / s.a + 1 / s.b, *s) for s in (one, two))
    return first <= second


def _chance_above(one: _Share, two: _Share) -> float:
    """P(first > second)."""
    if one == two:
        return 0.5
    if _narrow_first(one, two):
        p, weight = _nodes(one)
        return float(beta.cdf(p, two.a, two.b) @ weight)
    p, weight = _nodes(two)
    return float(beta.sf(p, one.a, one.b) @ weight)


def _shortfall(one: _Share, two: _Share) -> float:
    """Mean of max(second - first, 0)."""
    if _narrow_first(one, two):
        p, weight = _nodes(one)
        above = two.mean * beta.sf(p, two.a + 1, two.b) - p * beta.sf(p, two.a, two.b)
    else:
        p, weight = _nodes(two)
        above = p * beta.cdf(p, one.a, one.b) - one.mean * beta.cdf(p, one.a + 1, one.b)
    return max(float(above @ weight), 0.0)


def _quantile(one: _Share, two: _Share, chance: float) -> float:
    """The d with P(first - second <= d) = chance."""
    first = _narrow_first(one, two)
    p, weight = _nodes(one if first else two)

    def miss(d: Floats) -> Floats:
        if first:
            below = beta.sf(np.clip(p - d[..., None], 0, 1), two.a, two.b) @ weight
        else:
            below = beta.cdf(np.clip(p + d[..., None], 0, 1), one.a, one.b) @ weight
        return np.asarray(below - chance)

    return float(bracketed_root(miss, np.array(-1.0), np.array(1.0), rtol=1e-14))
