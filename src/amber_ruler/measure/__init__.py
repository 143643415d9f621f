"""Frequentist measurement: each question has one call with the whole answer."""

from amber_ruler.measure.correlation import correlation
from amber_ruler.measure.correlations import correlations
from amber_ruler.measure.count_ratio import count_ratio
from amber_ruler.measure.counts.goodness_of_fit import goodness_of_fit
from amber_ruler.measure.counts.independence import independence
from amber_ruler.measure.distributions import distributions
from amber_ruler.measure.factors import factors
from amber_ruler.measure.group_spreads import group_spreads
from amber_ruler.measure.groups.overall import groups
from amber_ruler.measure.means import mean, means
from amber_ruler.measure.paired_proportions import paired_proportions
from amber_ruler.measure.pairs import pairs
from amber_ruler.measure.proportion import proportion
from amber_ruler.measure.proportions import proportions
from amber_ruler.measure.quantiles import quantiles
from amber_ruler.measure.ranks import ranks, signed_ranks
from amber_ruler.measure.rates import rate, rates
from amber_ruler.measure.ratios import rate_ratio, share_ratio
from amber_ruler.measure.signs import signs
from amber_ruler.measure.spreads import spread, spreads
from amber_ruler.measure.superiority import superiority
from amber_ruler.measure.times import restricted_means, time, times

__all__ = [
    "correlation",
    "correlations",
    "count_ratio",
    "distributions",
    "factors",
    "goodness_of_fit",
    "group_spreads",
    "groups",
    "independence",
    "mean",
    "means",
    "paired_proportions",
    "pairs",
    "proportion",
    "proportions",
    "quantiles",
    "ranks",
    "rate",
    "rate_ratio",
    "rates",
    "restricted_means",
    "share_ratio",
    "signed_ranks",
    "signs",
    "spread",
    "spreads",
    "superiority",
    "time",
    "times",
]
