"""Looking early, fairly: spending functions, boundaries, monitoring, intervals that hold at any moment."""

from amber_ruler.sequential.anytime import anytime
from amber_ruler.sequential.anytime_shares import anytime_share, anytime_shares
from amber_ruler.sequential.anytime_split import SplitWatch, anytime_split
from amber_ruler.sequential.betting import anytime_mean
from amber_ruler.sequential.boundaries import Boundaries, boundaries
from amber_ruler.sequential.by_evidence import StoppedBy, StoppingByEvidence, stopping_by_evidence
from amber_ruler.sequential.daily import looks_by_day
from amber_ruler.sequential.monitoring import Monitoring, monitor
from amber_ruler.sequential.operating import Operating
from amber_ruler.sequential.peeking import Peeking, peeking
from amber_ruler.sequential.resizing import Resized, inverse_normal, resized

__all__ = [
    "Boundaries",
    "Monitoring",
    "Operating",
    "Peeking",
    "Resized",
    "SplitWatch",
    "StoppedBy",
    "StoppingByEvidence",
    "anytime",
    "anytime_mean",
    "anytime_share",
    "anytime_shares",
    "anytime_split",
    "boundaries",
    "inverse_normal",
    "looks_by_day",
    "monitor",
    "peeking",
    "resized",
    "stopping_by_evidence",
]
