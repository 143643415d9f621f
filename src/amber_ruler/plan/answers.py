"""What a plan answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from amber_ruler.results import Result


@dataclass(frozen=True, slots=True)
class Cost:
    """What a modifier cost or saved: the answer with it and with all those before it."""

    modifier: str
    value: float


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class PlanAnswer(Result):
    """Effect, units, power and alpha that belong together; `question` says which was solved for.

    Attributes
    ----------
    question : str
        "sample size", "power", "detectable effect", "alpha" or "sample size for width".
    n : int
        Units as the questions take them: in control, in each of equal groups, in the one group, or pairs.
    units : mapping of str to int
        Units of each group by its name.
    n_total : int
        Units in all groups together.
    n_treatment, n_control : int or None
        Units in (each) treatment and in control, where there are two.
    effect : float
        The effect in the unit of the design: treatment minus control where there are two groups.
    effect_name : str
        What that effect is.
    effects : mapping of str to float
        The same effect in other words.
    power : float or None
        Chance to find that effect with these units; None where only the width was asked for.
    target_power : float or None
        The power asked for, where units, effect or alpha were solved for; `power` is at least that.
    alpha : float
        Error rate of the test, over all comparisons.
    single_alpha : float
        Error rate of each comparison; less than `alpha` where several are corrected for.
    alternative : str
        Direction of the test.
    half_width : float or None
        Half of the width of the interval to be expected, at level 1 - alpha (two-sided), if the effect is real.
    days, weeks : int or None
        Days it takes with the traffic, and the whole weeks to run.
    costs : tuple of Cost
        The answer without modifiers, then with one after the other.
    design : Design
        What was asked.
    percent : bool
        Whether the effect is a difference of shares.
    """

    question: str
    n: int
    units: Mapping[str, int]
    n_total: int
    effect: float
    power: float | None
    alpha: float
    single_alpha: float
    alternative: str
    design: Any
    effect_name: str = "difference"
    n_treatment: int | None = None
    n_control: int | None = None
    half_width: float | None = None
    target_power: float | None = None
    effects: Mapping[str, float] = field(default_factory=dict)
    days: int | None = None
    weeks: int | None = None
    costs: tuple[Cost, ...] = ()
    percent: bool = False


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class PlanGrid(Result):
    """Many scenarios of one design, one a row.

    Attributes
    ----------
    question : str
        What was solved for.
    varied : tuple of str
        The columns that the caller gave several values for.
    columns : mapping of str to tuple of float
        Every column, all of one length; None where no number of units, or no effect, reaches the power.
    design : Design
        What was asked, before the columns were put in.
    percent : bool
        Whether effects are differences of shares.
    """

    question: str
    varied: tuple[str, ...]
    columns: Mapping[str, tuple[float | None, ...]]
    design: Any
    percent: bool = False


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Simulation(Result):
    """How often the real test rejects, on data drawn under the design.

    Attributes
    ----------
    rate : float
        Share of the runs that rejected.
    error : float
        Monte-Carlo standard error of that share.
    power : float
        What the formula says.
    runs, n_total : int
        Tests simulated, and units in each.
    effect : float
        The effect under which the data were drawn.
    test : str
        The measuring function that was run.
    """

    rate: float
    error: float
    power: float
    runs: int
    n_total: int
    effect: float
    test: str
