"""Looking early, fairly: spending functions, boundaries, monitoring, intervals that hold at any moment."""

from amber_ruler.sequential.boundaries import Boundaries, boundaries
from amber_ruler.sequential.daily import looks_by_day
from amber_ruler.sequential.monitoring import Monitoring, monitor
from amber_ruler.sequential.operating import Operating
from amber_ruler.sequential.peeking import Peeking, peeking

__all__ = ["Boundaries", "Monitoring", "Operating", "Peeking", "boundaries", "looks_by_day", "monitor", "peeking"]
