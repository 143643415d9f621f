"""Bayesian measurement: what the data make of a prior."""

from amber_ruler.bayes.association import correlation, independence
from amber_ruler.bayes.decision import Decision, decide
from amber_ruler.bayes.evidence import evidence
from amber_ruler.bayes.means import log_bayes_factor, mean, means, pairs
from amber_ruler.bayes.priors import (
    Beta,
    Cauchy,
    Flat,
    Gamma,
    HalfNormal,
    Normal,
    NormalInverseGamma,
    Prior,
    Reference,
    StudentT,
    Truncated,
    Uniform,
    prior_of,
)
from amber_ruler.bayes.proportions import best_proportion, proportion, proportions
from amber_ruler.bayes.rates import best_rate, rate, rates
from amber_ruler.bayes.shrinkage import prior_from, shrink
from amber_ruler.bayes.unfolding import unfolding

__all__ = [
    "Beta",
    "Cauchy",
    "Decision",
    "Flat",
    "Gamma",
    "HalfNormal",
    "Normal",
    "NormalInverseGamma",
    "Prior",
    "Reference",
    "StudentT",
    "Truncated",
    "Uniform",
    "best_proportion",
    "best_rate",
    "correlation",
    "decide",
    "evidence",
    "independence",
    "log_bayes_factor",
    "mean",
    "means",
    "pairs",
    "prior_from",
    "prior_of",
    "proportion",
    "proportions",
    "rate",
    "rates",
    "shrink",
    "unfolding",
]
