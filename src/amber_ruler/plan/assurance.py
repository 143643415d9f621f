"""Power averaged over a prior of the effect."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Literal

import numpy as np

from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Prior
from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan.answers import Assurance
from amber_ruler.plan.modifiers import Margin
from amber_ruler.plan.search import MOST_UNITS

if TYPE_CHECKING:
    from amber_ruler.plan.planned import Planned, Units
    from amber_ruler.plan.questions import Design

Direction = Literal["right", "either"]
_CURVE = np.array([0.1, 0.2, 0.35, 0.5, 0.7, 0.85, 1.0, 1.2, 1.5, 2.0, 2.6])
_SOURCE = "O'Hagan, Stevens & Campbell (2005), Pharmaceutical Statistics 4, 187-201"


class _Averaged:
    """A design whose power is averaged over a prior: effects as nodes, cut to what there can be."""

    def __init__(self, design: Design, prior: Prior, direction: Direction) -> None:
        if not isinstance(prior, Prior) or not prior.proper or prior.shape:
            raise InputError.rule("prior", str(prior), "one prior of the effect with a mass of 1, such as Normal(1, 2)")
        gate.choice("direction", direction, ("right", "either"))
        if design.alternative == "any":
            raise DesignError(f"{design.title}: an effect without a direction has no prior of this kind.")
        if design._modifier(Margin) is not None:
            raise DesignError(f"{design.title}: assurance against a margin is not computed; leave the margin out.")
        self.design, self.direction = design, direction
        ends = prior.ends
        if design.percent:  # a share has only so much room
            ends = max(float(ends[0]), -float(design._most(-1.0))), min(float(ends[1]), float(design._most(1.0)))
        self.cut = ends != prior.ends
        belief = prior.reshaped((1,), 1, 1, 1)
        about = [(np.array([float(prior.about[0])]), np.array([float(prior.about[1])]))]
        low, high = (np.array([float(v)]) for v in ends)
        row = Posterior.of(belief.log_density, about, cuts=[np.zeros(1)], ends=(low, high))
        self.effect, self.mass = row.x.ravel(), row.mass.ravel()
        keep = self.mass > 0
        self.effect, self.mass = self.effect[keep], self.mass[keep]

    def power(self, units: Units) -> float:
        """Assurance with so many units."""
        design, effect = self.design, self.effect
        if self.direction == "either":
            found = design._power_with(effect, units)
        else:
            found = np.zeros(effect.shape)
            for side, alternative in ((1.0, "greater"), (-1.0, "less")):
                mine = side * effect > 0
                if mine.any() and design.alternative in ("two-sided", alternative):
                    found[mine] = self._one_sided(alternative)._power_with(effect[mine], units)
        return float(found @ self.mass)

    def _one_sided(self, alternative: str) -> Planned:
        """Of a two-sided test the half that looks to one side."""
        if self.design.alternative == alternative:
            return self.design
        return replace(self.design, alternative=alternative, alpha=self.design.alpha / 2)

    @property
    def ceiling(self) -> float:
        """Assurance with units without end: all effects that the test can find."""
        sides = {"greater": self.effect > 0, "less": self.effect < 0}
        return float(self.mass[sides.get(self.design.alternative, self.effect != 0)].sum())


def assurance(design: Design, units: Units, prior: Prior, direction: Direction) -> Assurance:
    """Assurance with so many units."""
    averaged = _Averaged(design, prior, direction)
    return _answer(averaged, units, prior, None)


def units_for(design: Design, target: float, prior: Prior, direction: Direction) -> Assurance:
    """The fewest units with an assurance."""
    gate.between("assurance", gate.single("assurance", target), 0, 1)
    averaged = _Averaged(design, prior, direction)
    ceiling = averaged.ceiling
    if target >= ceiling:
        raise DesignError(
            f"An assurance of {target:g} is beyond reach: with units without end it comes to {ceiling:.4g} under"
            f" {prior}. Ask for less, or for another prior."
        )
    least = max(design.smallest_n - 1, 1)
    most = 2 * least + 2
    while averaged.power(design._recruits(np.asarray(float(most)))) < target:
        least, most = most, most * 2
        if most > MOST_UNITS:
            raise DesignError(f"An assurance of {target:g} takes more than {MOST_UNITS:.0e} units.")
    while most - least > 1:
        middle = (least + most) // 2
        enough = averaged.power(design._recruits(np.asarray(float(middle)))) >= target
        least, most = (least, middle) if enough else (middle, most)
    return _answer(averaged, design._recruits(np.asarray(float(most))), prior, target)


def _answer(averaged: _Averaged, units: Units, prior: Prior, target: float | None) -> Assurance:
    design = averaged.design
    n = float(units[-1])
    sizes = np.unique(np.maximum(np.round(n * _CURVE), design.smallest_n))
    curve = np.array([averaged.power(design._recruits(np.asarray(v))) for v in sizes])
    each: Floats = np.array([float(u) for u in units])
    notes = ("The prior is cut to the effects that there can be, and rescaled.",) if averaged.cut else ()
    return Assurance(
        title=f"{design.title}: assurance",
        method=f"power of {design._method_said()}, averaged over the prior",
        source=_SOURCE,
        n=int(n),
        units=dict(zip(design._group_names(), (int(v) for v in each), strict=True)),
        assurance=averaged.power(units),
        ceiling=averaged.ceiling,
        direction=averaged.direction,
        prior=str(prior),
        curve_n=sizes,
        curve=curve,
        target=target,
        notes=notes,
    )
