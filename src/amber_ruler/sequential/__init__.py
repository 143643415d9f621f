"""Looking early, fairly: spending functions, boundaries, monitoring."""

from amber_ruler.sequential.boundaries import Boundaries, boundaries
from amber_ruler.sequential.monitoring import Monitoring, monitor
from amber_ruler.sequential.peeking import Peeking, peeking

__all__ = ["Boundaries", "Monitoring", "Peeking", "boundaries", "monitor", "peeking"]
