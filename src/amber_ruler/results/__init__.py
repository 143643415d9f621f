"""What every answer is made of: numbers and labels, frozen, composed; the report floor draws them."""

from amber_ruler.results.family import Family
from amber_ruler.results.measurement import Comparison, Estimate, Measurement
from amber_ruler.results.parts import (
    Adjustment,
    Anytime,
    Correction,
    Draws,
    Evidence,
    Influence,
    Looks,
    Part,
    Pooling,
    Strata,
    Survival,
    Trace,
)
from amber_ruler.results.pieces import (
    Axis,
    Chances,
    Check,
    EffectSize,
    Group,
    Interval,
    MarginTest,
    PosteriorSummary,
    SquaresRow,
    Test,
)
from amber_ruler.results.result import Result
from amber_ruler.results.verdicts import evidence_band, read_verdict

__all__ = [
    "Adjustment",
    "Anytime",
    "Axis",
    "Chances",
    "Check",
    "Comparison",
    "Correction",
    "Draws",
    "EffectSize",
    "Estimate",
    "Evidence",
    "Family",
    "Group",
    "Influence",
    "Interval",
    "Looks",
    "MarginTest",
    "Measurement",
    "Part",
    "Pooling",
    "PosteriorSummary",
    "Result",
    "SquaresRow",
    "Strata",
    "Survival",
    "Test",
    "Trace",
    "evidence_band",
    "read_verdict",
]
