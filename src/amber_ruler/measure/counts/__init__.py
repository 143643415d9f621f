"""Counts: do two columns go together, and do kinds follow the shares expected?"""

from amber_ruler.measure.counts.goodness_of_fit import GoodnessOfFit, goodness_of_fit
from amber_ruler.measure.counts.independence import Independence, independence

__all__ = ["GoodnessOfFit", "Independence", "goodness_of_fit", "independence"]
