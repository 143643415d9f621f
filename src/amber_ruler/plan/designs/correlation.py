"""Planning the test of a correlation."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, normal, pearson
from amber_ruler.numeric.exact import fisher_distance
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated, TwoGroups
from amber_ruler.plan.planned import SMALLEST_SHARE, Units, Ways
from amber_ruler.plan.powers import power_of_estimate, tails

# What the variance of Fisher's z is times n less so many.
_SPREAD = {"pearson": (1.0, 3.0), "spearman": (1.06, 3.0), "kendall": (0.437, 4.0)}


@dataclass(frozen=True, kw_only=True)
class Correlation(Estimated):
    """A test of the correlation of two measurements on the same units.

    Parameters
    ----------
    null : float, between -1 and 1
        The tested correlation.
    power_from : "exact" or "fisher-z"
        Whether the power is that of the exact test under bivariate normal values, or of Fisher's z; that of the other
        coefficients is by z.
    coefficient : "pearson", "spearman" or "kendall"
        Which correlation is planned for.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The effect is the correlation less `null`; or give the correlation itself as `treatment`. `n` is the number of
    units. For Spearman's and Kendall's coefficients z has the variance 1.06 / (n - 3) and 0.437 / (n - 4), which
    serves from about 10 units and up to 0.8 (Fieller, Hartley & Pearson). With another coefficient than Pearson's
    the effect is in its own unit.

    References
    ----------
    .. [1] Hotelling (1953), Journal of the Royal Statistical Society B 15, 193-232, for the exact distribution.
    .. [2] Fisher (1921), Metron 1, 3-32, for z.
    .. [3] Fieller, Hartley & Pearson (1957), Biometrika 44, 470-481, for ranks.

    Examples
    --------
    >>> plan = Correlation().sample_size(effect=0.3, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (84, 0.8003)
    """

    simulated_by = "measure.correlation"
    title = "Correlation"
    method = "correlation, exact distribution"
    source = "Hotelling (1953), Journal of the Royal Statistical Society B 15, 193-232"
    effect_name = "correlation − tested correlation"
    ways = ("effect", "treatment")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    null: float = 0.0
    power_from: Literal["exact", "fisher-z"] = "exact"
    coefficient: Literal["pearson", "spearman", "kendall"] = "pearson"

    def __post_init__(self) -> None:
        gate.between("null", self.null, -1, 1)
        gate.choice("power_from", self.power_from, ("exact", "fisher-z"))
        gate.choice("coefficient", self.coefficient, tuple(_SPREAD))
        super().__post_init__()

    def _least(self) -> float:
        return 5.0 if self.coefficient == "kendall" else 4.0

    def _exact(self) -> bool:
        return self.power_from == "exact" and self.coefficient == "pearson"

    def _ways(self) -> Ways:
        return {"effect": lambda e: e, "treatment": lambda r: np.asarray(r) - self.null}

    def _told(self, effect: float) -> dict[str, float]:
        rho = self.null + effect
        return {"correlation": rho} | ({"shared variance (r²)": rho**2} if self.coefficient == "pearson" else {})

    def _possible(self, effect: Floats) -> Floats:
        if np.any(np.abs(self.null + effect) >= 1):
            raise DesignError("A correlation lies between -1 and 1: the effect is added to the tested correlation.")
        return effect

    def _most(self, sign: float) -> Floats:
        return (1 - sign * np.asarray(self.null)) * (1 - SMALLEST_SHARE)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        """On Fisher's scale, where the spread depends on nothing but n."""
        factor, lost = _SPREAD[self.coefficient]
        error = np.sqrt(factor / (units[0] - lost))
        return error, error

    def _distance(self, effect: Floats) -> Floats:
        return np.asarray(np.abs(fisher_distance(self.null + effect, self.null, effect)))

    def _guess(self, effect: Floats, target: Floats) -> Floats:
        # Three units are lost to Fisher's scale, and the exact test is a little better than that.
        return super()._guess(effect, target) + 1

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        rho, n = self.null + effect, units[0]
        low, high = tails(np.asarray(self.alpha), self.alternative)
        if not self._exact():
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
        reach = reach * self._errors(effect, effect, units)[1]
        return np.asarray((np.tanh(centre + reach) - np.tanh(centre - reach)) / 2)

    def _method_said(self) -> str:
        named = {"pearson": "correlation", "spearman": "Spearman's correlation", "kendall": "Kendall's τ"}
        return self.method if self._exact() else f"{named[self.coefficient]}, Fisher's z"

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.correlation(self, rng, effect, units, runs)


@dataclass(frozen=True, kw_only=True)
class TwoCorrelations(TwoGroups):
    """A test of treatment against control by the correlation of two measurements in each.

    Parameters
    ----------
    baseline : float, between -1 and 1
        Correlation in control.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The difference of Fisher's z of two independent groups, with the variance 1 / (n1 - 3) + 1 / (n0 - 3). The effect
    is the difference of the correlations; give that of treatment as `treatment`, or the difference of z (Cohen's q)
    as `standardised`.

    References
    ----------
    .. [1] Fisher (1921), Metron 1, 3-32.

    Examples
    --------
    >>> plan = TwoCorrelations(baseline=0.3).sample_size(treatment=0.5, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (277, 554, 0.8014)
    """

    simulated_by = "effects.compare_correlations"
    title = "Two correlations"
    method = "two correlations, Fisher's z"
    source = "Fisher (1921), Metron 1, 3-32"
    ways = ("effect", "treatment", "standardised")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    baseline: float = 0.0

    def __post_init__(self) -> None:
        gate.between("baseline", self.baseline, -1, 1)
        super().__post_init__()

    def _least(self) -> float:
        return 4.0

    def _ways(self) -> Ways:
        return {
            "effect": lambda e: e,
            "treatment": lambda r: np.asarray(r) - self.baseline,
            "standardised": self._from_q,
        }

    def _from_q(self, q: Floats) -> Floats:
        turn, base = np.tanh(q), np.asarray(self.baseline)
        return np.asarray((1 - base) * (1 + base) * turn / (1 + base * turn))

    def _told(self, effect: float) -> dict[str, float]:
        return {"treatment correlation": self.baseline + effect, "difference of z (q)": float(self._away(effect))}

    def _away(self, effect: Floats | float) -> Floats:
        return np.asarray(fisher_distance(self.baseline + np.asarray(effect), self.baseline, np.asarray(effect)))

    def _possible(self, effect: Floats) -> Floats:
        if np.any(np.abs(self.baseline + effect) >= 1):
            raise DesignError("A correlation lies between -1 and 1: the effect is added to that of control.")
        return effect

    def _most(self, sign: float) -> Floats:
        return (1 - sign * np.asarray(self.baseline)) * (1 - SMALLEST_SHARE)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        """On Fisher's scale, where the spread depends on nothing but n."""
        error = np.sqrt(sum(1 / (u - 3) for u in units))
        return error, error

    def _distance(self, effect: Floats) -> Floats:
        return np.abs(self._away(effect))

    def _guess(self, effect: Floats, target: Floats) -> Floats:
        return super()._guess(effect, target) + 3

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        errors = self._errors(effect, effect, units)
        return power_of_estimate(self._away(effect), *errors, None, *tails(np.asarray(self.alpha), self.alternative))

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        raise DesignError(f"{self.title}: the interval of the difference has no half-width that could be planned.")

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.two_correlations(self, rng, effect, units, runs)
