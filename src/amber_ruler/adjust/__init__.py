"""Variance reduction: the same difference, measured more sharply."""

from amber_ruler.adjust.clusters import clusters, quantiles
from amber_ruler.adjust.cuped import cuped
from amber_ruler.adjust.description import Steps, steps
from amber_ruler.adjust.ratio import ratio
from amber_ruler.adjust.regression import regression
from amber_ruler.adjust.sharpen import sharpen
from amber_ruler.adjust.strata import strata

__all__ = ["Steps", "clusters", "cuped", "quantiles", "ratio", "regression", "sharpen", "steps", "strata"]
