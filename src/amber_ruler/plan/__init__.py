"""Planning: a design object, asked a question."""

from amber_ruler.plan.answer import PlanAnswer, PlanGrid, Simulation
from amber_ruler.plan.correlation import Correlation
from amber_ruler.plan.earlier import EarlierStudy
from amber_ruler.plan.history import design_from
from amber_ruler.plan.means import OneMean, PairedMeans, TwoMeans
from amber_ruler.plan.omnibus import Association, ManyMeans, Regression
from amber_ruler.plan.proportions import OneProportion, PairedProportions, TwoProportions
from amber_ruler.plan.rates import RatioMetric, TwoRates

__all__ = [
    "Association",
    "Correlation",
    "EarlierStudy",
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
    "design_from",
]
