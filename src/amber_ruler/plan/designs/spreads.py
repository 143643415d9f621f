"""Planning tests of spreads."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from amber_ruler import measure
from amber_ruler.errors import DesignError
from amber_ruler.numeric import chisquare, fisher, gate
from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.plan import draws
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated, TwoGroups
from amber_ruler.plan.planned import Units, Ways
from amber_ruler.plan.powers import tails

_SOURCE = "Snedecor & Cochran (1989), Statistical Methods, 8th ed., sections 5.11 and 6.12"
_MOST = 50.0  # logarithm of a ratio of spreads


@dataclass(frozen=True, kw_only=True)
class _Spreads(Estimated):
    """What one spread and two have in common: the effect is the logarithm of a ratio of standard deviations."""

    effect_name = "log of the ratio of spreads"
    source = _SOURCE
    ways = ("effect", "lift", "treatment")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    baseline: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("baseline", self.baseline)
        super().__post_init__()

    @abstractmethod
    def _beyond(self, ratio: Floats, units: Units, tail: Number, *, above: bool) -> Floats:
        """Chance that the ratio of variances passes its critical value of a tail."""

    def _ways(self) -> Ways:
        return {
            "effect": lambda e: e,
            "lift": lambda share: np.log1p(gate.at_least("lift", share, -1 + 1e-15)),
            "treatment": lambda sd: np.log(gate.positive("treatment", sd) / np.asarray(self.baseline)),
        }

    def _told(self, effect: float) -> dict[str, float]:
        ratio = float(np.exp(effect))
        return {"ratio of spreads": ratio, "standard deviation": ratio * self.baseline, "lift": ratio - 1}

    def _most(self, sign: float) -> Floats:
        return np.asarray(_MOST)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        """Of the logarithm, for many units: a guess of sizes only."""
        error = np.sqrt(sum(1 / (2 * np.maximum(u - 1, 0.5)) for u in units))
        return error, error

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        low, high = tails(np.asarray(self.alpha), self.alternative)
        ratio = np.exp(2 * np.asarray(effect))
        power = np.asarray(0.0)
        for tail, above in ((low, True), (high, False)):
            if np.any(np.asarray(tail) > 0):
                power = power + self._beyond(ratio, units, tail, above=above)
        return np.asarray(power)


@dataclass(frozen=True, kw_only=True)
class OneSpread(_Spreads):
    """A test of one standard deviation against a fixed value.

    Parameters
    ----------
    baseline : float
        The tested standard deviation.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The chi-square test of normal values, exact; two-sided it gives each tail half of alpha, as `measure.spread`. The
    effect is the logarithm of the ratio to the tested value; `lift` is the ratio less 1, `treatment` the standard
    deviation itself. The half-width is half of the length of the interval of that logarithm, which does not depend
    on the data.

    References
    ----------
    .. [1] Snedecor & Cochran (1989), Statistical Methods, 8th ed., section 5.11.

    Examples
    --------
    >>> plan = OneSpread(baseline=10).sample_size(treatment=13, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (55, 0.801)
    """

    title = "One spread"
    method = "one standard deviation, χ² test"
    measured_by = "spread"

    def _beyond(self, ratio: Floats, units: Units, tail: Number, *, above: bool) -> Floats:
        df = units[0] - 1
        if above:
            return chisquare.sf(chisquare.upper_quantile(tail, df) / ratio, df)
        return chisquare.cdf(chisquare.quantile(tail, df) / ratio, df)

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        df, tail = units[0] - 1, np.asarray(self.alpha) / 2
        return np.log(chisquare.upper_quantile(tail, df) / chisquare.quantile(tail, df)) / 4

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        sd = float(self.baseline * np.exp(effect))
        return (draws.summaries(rng, 0.0, sd, units[0], runs, "group"),), {}

    def _null(self, difference: float) -> float:
        return float(self.baseline)


@dataclass(frozen=True, kw_only=True)
class TwoSpreads(_Spreads, TwoGroups):
    """A test of treatment against control by their standard deviations.

    Parameters
    ----------
    baseline : float
        Standard deviation of control; needed to give that of treatment.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The F test of normal values, exact; two-sided it gives each tail half of alpha. The effect is the logarithm of the
    ratio of the standard deviations; `lift` is the ratio less 1, `treatment` the standard deviation of treatment. The
    half-width is half of the length of the interval of that logarithm, which does not depend on the data.

    References
    ----------
    .. [1] Snedecor & Cochran (1989), Statistical Methods, 8th ed., section 6.12.

    Examples
    --------
    >>> plan = TwoSpreads(baseline=10).sample_size(treatment=13, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (117, 234, 0.8034)
    """

    title = "Two spreads"
    method = "two standard deviations, F test"
    simulated_by = "measure.spreads"
    allowed: ClassVar[frozenset[type]] = _Spreads.allowed

    def _of_control(self, lift: float) -> Any:
        raise DesignError(f"{self.title}: a margin is not planned for spreads.")

    def _beyond(self, ratio: Floats, units: Units, tail: Number, *, above: bool) -> Floats:
        top, bottom = (u - 1 for u in units)
        if above:
            return fisher.sf(fisher.upper_quantile(tail, top, bottom) / ratio, top, bottom)
        return fisher.cdf(fisher.quantile(tail, top, bottom) / ratio, top, bottom)

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        (top, bottom), tail = (u - 1 for u in units), np.asarray(self.alpha) / 2
        return np.log(fisher.upper_quantile(tail, top, bottom) / fisher.quantile(tail, top, bottom)) / 4

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        sds = (float(self.baseline * np.exp(effect)), float(self.baseline))
        one, two = (
            draws.summaries(rng, 0.0, sd, size, runs, label)
            for sd, size, label in zip(sds, units, ("treatment", "control"), strict=True)
        )
        return np.asarray(measure.spreads(one, two, test="f", alternative=self.alternative).p_value)
