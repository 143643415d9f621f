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
    """Treatment units for each control unit that make the test cheapest: sd1 / sd0 times the root of cost0 / cost1."""
    for name, cost in (("cost_treatment", cost_treatment), ("cost_control", cost_control)):
        gate.positive(name, gate.single(name, cost))
    treated, control = variances(design, effect)
    return float(np.sqrt(treated / control * cost_control / cost_treatment))


def variances(design: TwoGroups, effect: Floats) -> tuple[float, float]:
    """Variance of one unit of treatment and of control under the effect."""
    far = np.asarray(1e9)
    both, half = (float(design._errors(effect, effect, (far, k * far))[1]) ** 2 * 1e9 for k in (1, 2))
    control = 2 * (both - half)
    return both - control, control


def split_cost(design: TwoGroups, effect: Floats) -> float:
    """Units in total by the design's ratio, over those of the best split, for one standard error."""
    treated, control = variances(design, effect)
    share = design.ratio / (1 + design.ratio)
    return float((treated / share + control / (1 - share)) / (np.sqrt(treated) + np.sqrt(control)) ** 2)


def one_by_one(design: TwoGroups) -> None:
    """Refuse what does not go with units that are counted one by one."""
    for kind in (change.Clusters, change.LookSchedule, change.Variants):
        found = design._modifier(kind)
        if found is not None:
            raise DesignError(f"Groups are split unit by unit: {found} can't be on the design.")
    if not design._continuous():
        raise DesignError("Groups are split by the normal or t power: take power_from='normal'.")
