"""Effect sizes and their intervals."""

from amber_ruler.effects.conversions import convert, customary_word
from amber_ruler.effects.lifts import FiellerSet, fieller, lift
from amber_ruler.effects.published import (
    ComparedCorrelations,
    compare_correlations,
    from_chi_square,
    from_f,
    from_p,
    from_t,
    noncentrality,
    units_for_skewness,
)
from amber_ruler.effects.scale import Alternative, critical_z, known, tails
from amber_ruler.effects.shares import cohen_h, odds_ratio, risk_ratio
from amber_ruler.effects.standardised import small_sample_factor, standardised

__all__ = [
    "Alternative",
    "ComparedCorrelations",
    "FiellerSet",
    "cohen_h",
    "compare_correlations",
    "convert",
    "critical_z",
    "customary_word",
    "fieller",
    "from_chi_square",
    "from_f",
    "from_p",
    "from_t",
    "known",
    "lift",
    "noncentrality",
    "odds_ratio",
    "risk_ratio",
    "small_sample_factor",
    "standardised",
    "tails",
    "units_for_skewness",
]
