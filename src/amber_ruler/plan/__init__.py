"""Planning: a design object, asked a question."""

from amber_ruler.plan.answer import PlanAnswer
from amber_ruler.plan.two_means import TwoMeans
from amber_ruler.plan.two_proportions import TwoProportions

__all__ = ["PlanAnswer", "TwoMeans", "TwoProportions"]
