"""Bayesian measurement: what the data make of a prior."""

from amber_ruler.bayes.means import means
from amber_ruler.bayes.priors import Beta, Cauchy
from amber_ruler.bayes.proportions import proportions

__all__ = ["Beta", "Cauchy", "means", "proportions"]
