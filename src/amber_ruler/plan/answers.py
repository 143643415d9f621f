"""What a plan answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.results import Result
from amber_ruler.sequential.boundaries import Boundaries
from amber_ruler.sequential.operating import Operating


@dataclass(frozen=True, slots=True)
class Cost:
    """What a modifier cost or saved: the answer with it and with all those before it."""

    modifier: str
    value: float


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LookPlan:
    """What a plan has at each look; arrays have one value a look.

    Attributes
    ----------
    boundaries : Boundaries
        Of each comparison, with z, nominal p, alpha and beta used up.
    units : mapping of str to ndarray
        Units of each group by each look, rounded up to whole ones.
    totals : ndarray
        Of all groups together.
    t : ndarray or None
        The boundary as a t, at the degrees of freedom of the look: the one with the same nominal p.
    effect, effect_below, effect_futility : ndarray or None
        The boundaries in the unit of the effect, with the standard errors to be expected.
    under_none, under_half, under_planned : Operating
        What the looks do under no effect (at the margin, where there is one), half of it (half way from there), and the
        effect: chances of crossing and of ending at each look.
    expected_none, expected_half, expected_planned : float
        Units in total that the test takes on average.
    n_exact : float
        Units in control (in each of equal groups) by normal theory and not rounded: with equal groups of one spread,
        2 (drift / d)². `n` of the answer is the smallest whole number that reaches the power, by the t distribution
        where the test is one.
    days : ndarray or None
        The day of each look, where the traffic is known.
    """

    boundaries: Boundaries
    units: Mapping[str, Floats]
    totals: Floats
    effect: Floats
    under_none: Operating
    under_half: Operating
    under_planned: Operating
    expected_none: float
    expected_half: float
    expected_planned: float
    n_exact: float
    t: Floats | None = None
    effect_below: Floats | None = None
    effect_futility: Floats | None = None
    days: Floats | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class PlanAnswer(Result):
    """Effect, units, power and alpha that belong together; `question` says which was solved for.

    Attributes
    ----------
    question : str
        "sample size", "power", "detectable effect", "alpha", "precision", "sample size for width", "alpha for width",
        or the number of the design that was solved for.
    n : int
        Units as the questions take them: in control, in each of equal groups, in the one group, or pairs.
    n_exact : float or None
        What `n` is before it is rounded up, where units were asked for: the power, or the width, just as asked. None
        where units count only whole (outcomes, looks), or the fewest that the test can do with are more than enough.
    n_total_exact : float or None
        The same for the units in all groups together.
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
    assurance : float or None
        The chance with which the interval is no wider than `half_width`, where that was asked for.
    n_effective : float or None
        Of a design with clusters: so many units in total would tell as much, if they were drawn one by one.
    solved : float or None
        The number that `question` names, where one of the design's own was solved for.
    days, weeks : int or None
        Days it takes with the traffic, and the whole weeks to run.
    costs : tuple of Cost
        The answer without modifiers, then with one after the other.
    design : Design
        What was asked.
    percent : bool
        Whether the effect is a difference of shares.
    looks : LookPlan or None
        What there is at each look, of a design `with_looks`.
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
    n_exact: float | None = None
    n_total_exact: float | None = None
    half_width: float | None = None
    assurance: float | None = None
    n_effective: float | None = None
    solved: float | None = None
    target_power: float | None = None
    effects: Mapping[str, float] = field(default_factory=dict)
    days: int | None = None
    weeks: int | None = None
    costs: tuple[Cost, ...] = ()
    percent: bool = False
    looks: LookPlan | None = None


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
    mean_total, mean_error : float or None
        Of a design with looks: units that a run took on average, and the Monte-Carlo error of that.
    """

    rate: float
    error: float
    power: float
    runs: int
    n_total: int
    effect: float
    test: str
    mean_total: float | None = None
    mean_error: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class EvidenceForecast(Result):
    """How strong the evidence will be with so many units; arrays where several numbers of units were asked.

    Attributes
    ----------
    question, prior : str
        What was asked, and the prior in words.
    n : int or ndarray
        Units in each group.
    se : float or ndarray
        Standard error with so many.
    threshold : float
        Factor from which on evidence counts, either way.
    chance : float or None
        The chance that was asked for.
    mean_effect, null : float
        The prior's mean (its median where there is none), and the effect if there is none.
    log_factor_at_null, log_factor_at_mean : float or ndarray
        Log of the factor if just no effect is seen, and just the mean.
    expected_log_under_null, expected_log_under_effect : float or ndarray
        Mean of the log factor if there is no effect, and if there is one drawn from the prior; None where the prior's
        tails are so heavy that it has none.
    chance_for_none, chance_for_effect : float or ndarray
        To find the factor below 1/threshold if there is no effect, and above threshold if there is one.
    chance_misled_to_effect, chance_misled_to_none : float or ndarray
        To find it above threshold though there is no effect, and below 1/threshold though there is one.
    """

    question: str
    prior: str
    n: int | Floats
    se: Number
    threshold: float
    mean_effect: float
    null: float
    log_factor_at_null: Number
    log_factor_at_mean: Number
    expected_log_under_null: Number
    expected_log_under_effect: Number | None
    chance_for_none: Number
    chance_for_effect: Number
    chance_misled_to_effect: Number
    chance_misled_to_none: Number
    chance: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Assurance(Result):
    """Chance of a test to find an effect that is not known but by a prior.

    Attributes
    ----------
    n : int
        Units as the design takes them.
    units : mapping of str to int
        Units of each group by its name.
    assurance : float
        Power averaged over the prior.
    ceiling : float
        What it comes to with more and more units.
    target : float or None
        The assurance that was asked for.
    direction : "right" or "either"
        Whether only finding an effect in its true direction counts.
    prior : str
        In words.
    curve_n, curve : ndarray
        Assurance with other numbers of units.
    """

    n: int
    units: Mapping[str, int]
    assurance: float
    ceiling: float
    direction: str
    prior: str
    curve_n: Floats
    curve: Floats
    target: float | None = None
