"""Looking early, fairly: spending functions, boundaries, monitoring."""

from amber_ruler.sequential.boundaries import Boundaries, boundaries
from amber_ruler.sequential.monitoring import Monitoring, monitor

__all__ = ["Boundaries", "Monitoring", "boundaries", "monitor"]
