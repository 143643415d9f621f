"""Many comparisons at once: p-values adjusted for their number, intervals to go with them, and orders of testing."""

from amber_ruler.multiplicity.correct import correct
from amber_ruler.multiplicity.corrected import Corrected
from amber_ruler.multiplicity.ordered import fixed_sequence, gatekeeping
from amber_ruler.multiplicity.p_values import (
    benjamini_hochberg,
    benjamini_yekutieli,
    bonferroni,
    hochberg,
    holm,
    holm_sidak,
    hommel,
    sidak,
)

__all__ = [
    "Corrected",
    "benjamini_hochberg",
    "benjamini_yekutieli",
    "bonferroni",
    "correct",
    "fixed_sequence",
    "gatekeeping",
    "hochberg",
    "holm",
    "holm_sidak",
    "hommel",
    "sidak",
]
