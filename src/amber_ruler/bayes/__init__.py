"""Bayesian measurement: what the data make of a prior."""

from amber_ruler.bayes.evidence import evidence
from amber_ruler.bayes.means import means
from amber_ruler.bayes.priors import (
    Beta,
    Cauchy,
    Flat,
    HalfNormal,
    Normal,
    Prior,
    StudentT,
    Truncated,
    Uniform,
    prior_of,
)
from amber_ruler.bayes.proportions import proportions

__all__ = [
    "Beta",
    "Cauchy",
    "Flat",
    "HalfNormal",
    "Normal",
    "Prior",
    "StudentT",
    "Truncated",
    "Uniform",
    "evidence",
    "means",
    "prior_of",
    "proportions",
]
