"""The experiment: one file, and the whole day with it."""

from amber_ruler.experiment.description import Description
from amber_ruler.experiment.experiment import Experiment
from amber_ruler.experiment.results import Analysis, ExperimentPlan, Reason, Recommendation

__all__ = ["Analysis", "Description", "Experiment", "ExperimentPlan", "Reason", "Recommendation"]
