"""Planning: a design object, asked a question."""

from amber_ruler.plan.answers import Assurance, EvidenceForecast, LookPlan, PlanAnswer, PlanGrid, Simulation
from amber_ruler.plan.choices import WaysToLook
from amber_ruler.plan.designs.contrasts import AllPairs, Contrast
from amber_ruler.plan.designs.correlation import Correlation, TwoCorrelations
from amber_ruler.plan.designs.factorial import Factorial
from amber_ruler.plan.designs.means import OneMean, PairedMeans, TwoMeans
from amber_ruler.plan.designs.omnibus import Association, ManyMeans, Regression
from amber_ruler.plan.designs.proportions import OneProportion, PairedProportions, TwoProportions
from amber_ruler.plan.designs.ranks import TwoRanks
from amber_ruler.plan.designs.rates import OneRate, RatioMetric, TwoRates
from amber_ruler.plan.designs.repeated import Crossover, RepeatedMeans
from amber_ruler.plan.designs.slope import Slope
from amber_ruler.plan.designs.spreads import OneSpread, TwoSpreads
from amber_ruler.plan.designs.times import TwoTimes
from amber_ruler.plan.earlier import EarlierStudy, sd_from
from amber_ruler.plan.evidence import Evidence
from amber_ruler.plan.history import design_from
from amber_ruler.plan.several import FamilyPower, several_metrics

__all__ = [
    "AllPairs",
    "Association",
    "Assurance",
    "Contrast",
    "Correlation",
    "Crossover",
    "EarlierStudy",
    "Evidence",
    "EvidenceForecast",
    "Factorial",
    "FamilyPower",
    "LookPlan",
    "ManyMeans",
    "OneMean",
    "OneProportion",
    "OneRate",
    "OneSpread",
    "PairedMeans",
    "PairedProportions",
    "PlanAnswer",
    "PlanGrid",
    "RatioMetric",
    "Regression",
    "RepeatedMeans",
    "Simulation",
    "Slope",
    "TwoCorrelations",
    "TwoMeans",
    "TwoProportions",
    "TwoRanks",
    "TwoRates",
    "TwoSpreads",
    "TwoTimes",
    "WaysToLook",
    "design_from",
    "sd_from",
    "several_metrics",
]
