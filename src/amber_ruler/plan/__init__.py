"""Planning: a design object, asked a question."""

from amber_ruler.plan.answer import PlanAnswer, PlanGrid, Simulation
from amber_ruler.plan.correlation import Correlation
from amber_ruler.plan.means import OneMean, PairedMeans, TwoMeans
from amber_ruler.plan.omnibus import Association, ManyMeans, Regression
from amber_ruler.plan.proportions import OneProportion, PairedProportions, TwoProportions
from amber_ruler.plan.rates import RatioMetric, TwoRates

__all__ = [
    "Association",
    "Correlation",
    "ManyMeans",
    "OneMean",
    "OneProportion",
    "PairedMeans",
    "PairedProportions",
    "PlanAnswer",
    "PlanGrid",
    "RatioMetric",
    "Regression",
    "Simulation",
    "TwoMeans",
    "TwoProportions",
    "TwoRates",
]
