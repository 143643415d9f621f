"""Bayesian measurement: what the data make of a prior."""

from amber_ruler.bayes.evidence import evidence
from amber_ruler.bayes.means import log_bayes_factor, mean, means, pairs
from amber_ruler.bayes.priors import *
from amber_ruler.bayes.priors import prior_of
from amber_ruler.bayes.proportions import best_proportion, proportion, proportions
from amber_ruler.bayes.rates import best_rate, rate, rates
from amber_ruler.bayes.association import independence, correlation
from amber_ruler.bayes.shrinkage import shrink, prior_from
