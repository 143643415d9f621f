"""How units are split between treatment and control: one group given, odd totals, and the best split."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import PlanAnswer
from amber_ruler.plan.planned import Units

if TYPE_CHECKING:
    from amber_ruler.plan.designs.estimated import TwoGroups


def beside(
    design: TwoGroups, effect: Floats, target: Floats, n_treatment: int | None, n_control: int | None
) -> PlanAnswer:
    """Units of the group that is not given."""
    if (n_treatment is None) == (n_control is None):
        raise DesignError("Say how many units one of the groups has: n_treatment or n_control.")
    one_by_one(design)
    name, given = ("n_control", n_control) if n_treatment is None else ("n_treatment", n_treatment)
    known = np.asarray(float(gate.whole(name, gate.single(name, given), design._least())))

    def recruits(n: Floats) -> Units:
        both = n, np.broadcast_to(known, n.shape)
        return both if name == "n_control" else both[::-1]

    n, power = design._solve_n(effect, target, recruits)
    if not np.isfinite(n):
        most = float(design._power_with(effect, recruits(np.asarray(1e12))))
        raise DesignError(
            f"With {float(known):,.0f} units in {name[2:]} the power stays below {float(target):g}, however many the"
            f" other group has: it comes to {most:.4g} at most. Take more of both."
        )
    return design._answer("sample size", effect, recruits(n), target, (), power=power)


def smallest_total(design: TwoGroups, effect: Floats, target: Floats) -> PlanAnswer:
    """The fewest units in total, split as nearly as can be."""
    one_by_one(design)
    share = design.ratio / (1 + design.ratio)

    def recruits(total: Floats) -> Units:
        treated = np.clip(np.floor(total * share * (1 + 1e-14)), design._least(), None)
        return treated, np.maximum(total - treated, design._least())

    n, power = design._solve_n(effect, target, recruits)
    if not np.isfinite(n):
        design._refuse_endless(float(effect))
    return design._answer("sample size", effect, recruits(n), target, (), power=power)


def best_ratio(design: TwoGroups, effect: Floats, cost_treatment: float, cost_control: float) -> float:
    """Treatment units for each control unit that make the test cheapest.

    Where each group adds its own variance it is sd1 / sd0 times the root of cost0 / cost1; else it is searched for.
    """
    for name, given in (("cost_treatment", cost_treatment), ("cost_control", cost_control)):
        gate.positive(name, gate.single(name, given))
    # Squared standard errors at three splits say what each group adds, and whether that is all there is.
    even, half, third = (_squared_error(design, effect, k) for k in (1.0, 0.5, 1 / 3))
    control = 2 * even - half
    treated = even - control
    if abs(third - (3 * treated + control)) < 1e-6 * third and min(treated, control) > 0:
        return float(np.sqrt(treated / control * cost_control / cost_treatment))

    from scipy.optimize import minimize_scalar

    def cost(log: float) -> float:
        ratio = float(np.exp(log))
        return _squared_error(design, effect, ratio) * (cost_treatment * ratio + cost_control)

    return float(np.exp(minimize_scalar(cost, bounds=(-12, 12), method="bounded", options={"xatol": 1e-9}).x))


def split_cost(design: TwoGroups, effect: Floats) -> float:
    """Units in total by the design's ratio, over those of the best split, for one standard error."""
    own, best = (
        _squared_error(design, effect, ratio) * (1 + ratio)
        for ratio in (float(design.ratio), best_ratio(design, effect, 1.0, 1.0))
    )
    return own / best


def _squared_error(design: TwoGroups, effect: Floats, ratio: float) -> float:
    """Squared standard error under the effect with one unit of control, as many units have it."""
    control = np.asarray(1e9)
    return float(design._errors(effect, effect, (control * ratio, control))[1]) ** 2 * 1e9


def one_by_one(design: TwoGroups) -> None:
    """Refuse what does not go with units that are counted one by one."""
    for kind in (change.Clusters, change.LookSchedule, change.Variants):
        found = design._modifier(kind)
        if found is not None:
            raise DesignError(f"Groups are split unit by unit: {found} can't be on the design.")
    if not design._continuous():
        raise DesignError("Groups are split by the normal or t power: take power_from='normal'.")
