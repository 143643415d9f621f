"""Planning: a design object, asked a question."""

from amber_ruler.plan.answers import Assurance, EvidenceForecast, LookPlan, PlanAnswer, PlanGrid, Simulation
from amber_ruler.plan.choices import WaysToLook
from amber_ruler.plan.designs.contrasts import AllPairs, Contrast
from amber_ruler.plan.designs.correlation import Correlation
from amber_ruler.plan.designs.means import OneMean, PairedMeans, TwoMeans
from amber_ruler.plan.designs.omnibus import Association, ManyMeans, Regression
from amber_ruler.plan.designs.proportions import OneProportion, PairedProportions, TwoProportions
from amber_ruler.plan.designs.rates import RatioMetric, TwoRates
from amber_ruler.plan.designs.times import TwoTimes
from amber_ruler.plan.earlier import EarlierStudy
from amber_ruler.plan.evidence import Evidence
from amber_ruler.plan.history import design_from

__all__ = [
    "AllPairs",
    "Association",
    "Assurance",
    "Contrast",
    "Correlation",
    "EarlierStudy",
    "Evidence",
    "EvidenceForecast",
    "LookPlan",
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
    "TwoTimes",
    "WaysToLook",
    "design_from",
]
