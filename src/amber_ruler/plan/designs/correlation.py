"""Planning the test of a correlation."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, normal, pearson
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated
from amber_ruler.plan.planned import SMALLEST_SHARE, Units, Ways
from amber_ruler.plan.powers import power_of_estimate, tails


@dataclass(frozen=True, kw_only=True)
class Correlation(Estimated):
    """A test of the correlation of two measurements on the same units.

    Parameters
    ----------
    null : float, between -1 and 1
        The tested correlation.
    power_from : "exact" or "fisher-z"
        Whether the power is that of the exact test under bivariate normal values, or of Fisher's z.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The effect is the correlation less `null`; or give the correlation itself as `treatment`. `n` is the number of
    units.

    References
    ----------
    .. [1] Hotelling (1953), Journal of the Royal Statistical Society B 15, 193-232, for the exact distribution.
    .. [2] Fisher (1921), Metron 1, 3-32, for z.

    Examples
    --------
    >>> plan = Correlation().sample_size(effect=0.3, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (84, 0.8003)
    """

    title = "Correlation"
    method = "correlation, exact distribution"
    source = "Hotelling (1953), Journal of the Royal Statistical Society B 15, 193-232"
    effect_name = "correlation − tested correlation"
    ways = ("effect", "treatment")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    null: float = 0.0
    power_from: Literal["exact", "fisher-z"] = "exact"

    def __post_init__(self) -> None:
        gate.between("null", self.null, -1, 1)
        super().__post_init__()

    def _least(self) -> float:
        return 4.0

    def _ways(self) -> Ways:
        return {"effect": lambda e: e, "treatment": lambda r: np.asarray(r) - self.null}

    def _told(self, effect: float) -> dict[str, float]:
        rho = self.null + effect
        return {"correlation": rho, "shared variance (r²)": rho**2}

    def _possible(self, effect: Floats) -> Floats:
        if np.any(np.abs(self.null + effect) >= 1):
            raise DesignError("A correlation lies between -1 and 1: the effect is added to the tested correlation.")
        return effect

    def _most(self, sign: float) -> Floats:
        return (1 - sign * np.asarray(self.null)) * (1 - SMALLEST_SHARE)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        """On Fisher's scale, where the spread depends on nothing but n."""
        error = 1 / np.sqrt(units[0] - 3)
        return error, error

    def _distance(self, effect: Floats) -> Floats:
        return np.asarray(np.abs(np.arctanh(self.null + effect) - np.arctanh(self.null)))

    def _guess(self, effect: Floats, target: Floats) -> Floats:
        # Three units are lost to Fisher's scale, and the exact test is a little better than that.
        return super()._guess(effect, target) + 1

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        rho, n = self.null + effect, units[0]
        low, high = tails(np.asarray(self.alpha), self.alternative)
        if self.power_from != "exact":
            away = self._distance(effect) * np.sign(effect)
            return power_of_estimate(away, *self._errors(effect, effect, units), None, low, high)
        # The lower tail is the upper one with all signs turned: both in one call.
        sides = [(tail, sign) for tail, sign in ((low, 1.0), (high, -1.0)) if np.any(np.asarray(tail) > 0)]
        shape = np.broadcast_shapes(np.shape(rho), np.shape(n), np.shape(self.alpha))
        critical = np.stack(
            [np.broadcast_to(pearson.upper_quantile(t, n, s * np.asarray(self.null)), shape) for t, s in sides]
        )
        turned = np.stack([np.broadcast_to(s * rho, shape) for _, s in sides])
        return np.asarray(pearson.sf(critical, n, turned).sum(axis=0))

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        centre, reach = np.arctanh(self.null + effect), normal.upper_quantile(np.asarray(self.alpha) / 2)
        reach = reach / np.sqrt(units[0] - 3)
        return np.asarray((np.tanh(centre + reach) - np.tanh(centre - reach)) / 2)

    def _method_said(self) -> str:
        return self.method if self.power_from == "exact" else "correlation, Fisher's z"
