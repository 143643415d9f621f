"""Several groups: does anything differ, which pairs do, and which differ from the control?"""

from amber_ruler.measure.groups.overall import groups
from amber_ruler.measure.groups.result import Groups
from amber_ruler.measure.groups.simultaneous import Spreads

__all__ = ["Groups", "Spreads", "groups"]
