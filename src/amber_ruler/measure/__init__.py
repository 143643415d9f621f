"""Frequentist measurement: each question has one call with the whole answer."""

from amber_ruler.measure.means import means
from amber_ruler.measure.proportions import proportions

__all__ = ["means", "proportions"]
