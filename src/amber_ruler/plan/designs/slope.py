"""Planning the test of a slope."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated
from amber_ruler.plan.designs.means import MOST_SPREADS
from amber_ruler.plan.planned import Units, Ways
from amber_ruler.plan.powers import power_of_estimate, tails


@dataclass(frozen=True, kw_only=True)
class Slope(Estimated):
    """A test of the slope of a line: by how much a metric rises with a predictor.

    Parameters
    ----------
    sd_predictor : float
        Standard deviation of the predictor, over all units (n in the denominator).
    sd_error : float
        Standard deviation of the metric around the line.
    others : int
        Number of other predictors in the model, with which this one does not go together.
    predictors_are : "fixed" or "random"
        Whether the values of the predictor are set beforehand, or drawn with the units from a normal distribution.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The effect is the slope, metric by predictor; `standardised` is the correlation r of the two, whose slope is
    r / sqrt(1 - r²) sd_error / sd_predictor. With fixed values the noncentrality of t is the slope times
    sd_predictor sqrt(n) / sd_error; with random ones the root of n becomes that of a chi-square of n - 1 - others
    degrees of freedom, over which the power is averaged. The half-width takes the predictor's spread as planned.

    References
    ----------
    .. [1] Sampson (1974), Journal of the American Statistical Association 69, 682-689.

    Examples
    --------
    >>> plan = Slope(sd_predictor=3, sd_error=10).sample_size(effect=1, power=0.8)
    >>> plan.n, round(plan.power, 4), round(plan.effects["correlation"], 4)
    (90, 0.8037, 0.2873)
    """

    simulated_by = "measure.correlation"
    title = "Slope"
    method = "slope of a line, noncentral t"
    source = "Sampson (1974), Journal of the American Statistical Association 69, 682-689"
    effect_name = "slope"
    ways = ("effect", "standardised")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Margin, change.Traffic, change.Attrition})

    sd_predictor: float = 1.0
    sd_error: float = 1.0
    others: int = 0
    predictors_are: Literal["fixed", "random"] = "fixed"

    def __post_init__(self) -> None:
        gate.positive("sd_predictor", self.sd_predictor)
        gate.positive("sd_error", self.sd_error)
        gate.whole("others", self.others, 0)
        gate.choice("predictors_are", self.predictors_are, ("fixed", "random"))
        super().__post_init__()

    def _with(self, modifier: change.Modifier) -> Slope:
        if isinstance(modifier, change.Margin) and self.predictors_are == "random":
            raise DesignError("A margin of a slope is planned with fixed predictors.")
        return super()._with(modifier)

    def _least(self) -> float:
        return self.others + 3.0

    def _ways(self) -> Ways:
        return {"effect": lambda e: e, "standardised": self._from_correlation}

    def _from_correlation(self, r: Floats) -> Floats:
        r = gate.between("standardised", r, -1, 1)
        return np.asarray(r / np.sqrt((1 - r) * (1 + r)) * self.sd_error / self.sd_predictor)

    def _told(self, effect: float) -> dict[str, float]:
        moved = effect * self.sd_predictor / self.sd_error
        return {"correlation": moved / float(np.hypot(1, moved)), "f squared": moved**2}

    def _most(self, sign: float) -> Floats:
        return np.asarray(MOST_SPREADS * self.sd_error / self.sd_predictor)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = self.sd_error / (self.sd_predictor * np.sqrt(units[0]))
        return error, error

    def _own_df(self, units: Units) -> Floats | None:
        return units[0] - 2 - self.others

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        if self.predictors_are == "fixed":
            return super()._power_of(effect, units)
        n, alpha, moved = gate.aligned(units[0], self.alpha, effect * self.sd_predictor / self.sd_error)
        shape, df = n.shape, np.ravel(n) - 1 - self.others
        spread, weight = student.spread_nodes(df)
        shift = (np.sqrt(df) * np.ravel(moved))[:, None] * spread
        low, high = (
            np.reshape(tail, (-1, 1)) for tail in np.broadcast_arrays(*tails(np.ravel(alpha), self.alternative))
        )
        found = power_of_estimate(
            shift, np.asarray(1.0), np.asarray(1.0), np.ravel(n)[:, None] - 2 - self.others, low, high
        )
        return np.asarray((weight * found).sum(axis=1).reshape(shape))

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.slope(self, rng, effect, units, runs)
