"""Frequentist measurement: each question has one call with the whole answer."""

from amber_ruler.measure.means import mean, means
from amber_ruler.measure.paired_proportions import paired_proportions
from amber_ruler.measure.pairs import pairs
from amber_ruler.measure.proportion import proportion
from amber_ruler.measure.proportions import proportions
from amber_ruler.measure.rates import rate, rates

__all__ = ["mean", "means", "paired_proportions", "pairs", "proportion", "proportions", "rate", "rates"]
