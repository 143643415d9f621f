"""Variance reduction: the same difference, measured more sharply."""

from amber_ruler.adjust.caps import cap, trim, trimmed_pairs
from amber_ruler.adjust.chances import compliers, triggered, weights
from amber_ruler.adjust.clusters import clusters, quantiles
from amber_ruler.adjust.common_ratio import common_ratio
from amber_ruler.adjust.cuped import cuped
from amber_ruler.adjust.ratio import ratio
from amber_ruler.adjust.regression import regression
from amber_ruler.adjust.segments import before_after, novelty, segments
from amber_ruler.adjust.sharpen import sharpen
from amber_ruler.adjust.steps import Steps, steps
from amber_ruler.adjust.strata import strata
from amber_ruler.adjust.zeros import geometric, two_part

__all__ = [
    "Steps",
    "before_after",
    "cap",
    "clusters",
    "common_ratio",
    "compliers",
    "cuped",
    "geometric",
    "novelty",
    "quantiles",
    "ratio",
    "regression",
    "segments",
    "sharpen",
    "steps",
    "strata",
    "triggered",
    "trim",
    "trimmed_pairs",
    "two_part",
    "weights",
]
