"""Frequentist measurement: each question has one call with the whole answer."""

from amber_ruler.measure.means import mean, means
from amber_ruler.measure.pairs import pairs
from amber_ruler.measure.proportions import proportions

__all__ = ["mean", "means", "pairs", "proportions"]
