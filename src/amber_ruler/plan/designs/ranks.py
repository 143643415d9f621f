"""Planning the rank test of two groups."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated, TwoGroups
from amber_ruler.plan.planned import SMALLEST_SHARE, Units, Ways


@dataclass(frozen=True, kw_only=True)
class TwoRanks(TwoGroups):
    """A rank test of treatment against control (Wilcoxon, Mann and Whitney), by how often one exceeds the other.

    Parameters
    ----------
    ties : float, between 0 and 1
        Sum of the cubes of the shares of equal values: 0 if all differ, 0.73 if nine tenths are the same.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The effect is the chance that a unit of treatment exceeds one of control, ties counting half, less one half; give
    the chance itself as `treatment`, a shift of normal values in standard deviations as `standardised`, or ordered
    categories as `shares`, a row for treatment and one for control, with `of_categories` for what is tied. By the
    normal distribution with the variance of "no difference", (N + 1) / (12 n1 n0) (1 - ties), under the effect too, as
    Noether has it with N + 1 for N.

    References
    ----------
    .. [1] Noether (1987), Journal of the American Statistical Association 82, 645-647.
    .. [2] Lehmann (1975), Nonparametrics, section 1.4, for ties.

    Examples
    --------
    >>> plan = TwoRanks().sample_size(treatment=0.65, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (59, 118, 0.8024)
    >>> grades = [[0.2, 0.3, 0.5], [0.4, 0.3, 0.3]]
    >>> TwoRanks.of_categories(grades).sample_size(shares=grades, power=0.8).n_control
    69
    """

    simulated_by = "measure.ranks"
    title = "Two groups by ranks"
    method = "rank sum test, normal distribution"
    source = "Noether (1987), Journal of the American Statistical Association 82, 645-647"
    effect_name = "chance of superiority − 0.5"
    ways = ("effect", "treatment", "standardised", "shares")
    measured_by = "ranks"
    allowed: ClassVar[frozenset[type]] = Estimated.allowed - {change.Covariate, change.Margin} | {change.Variants}

    ties: float = 0.0

    def __post_init__(self) -> None:
        if np.any((gate.finite("ties", self.ties) < 0) | (np.asarray(self.ties) >= 1)):
            raise InputError.rule("ties", self.ties, "at least 0 and below 1")
        super().__post_init__()

    def _least(self) -> float:
        return 1.0

    def _ways(self) -> Ways:
        return {
            "effect": lambda e: e,
            "treatment": lambda p: gate.between("treatment", p, 0, 1) - 0.5,
            "standardised": lambda d: special.erf(np.asarray(d) / 2) / 2,
            "shares": self._from_shares,
        }

    @classmethod
    def of_categories(cls, shares: ArrayLike, *, ratio: float = 1.0, **settings: Any) -> Self:
        """The design whose `ties` are those of ordered categories: two rows of shares, treatment and control."""
        return cls(ties=_ties(_categories(shares), ratio), ratio=ratio, **settings)

    def _from_shares(self, table: ArrayLike) -> Floats:
        one, two = _categories(table)
        if not np.isclose(_ties((one, two), self.ratio), self.ties, rtol=0, atol=1e-9):
            raise DesignError(
                "Ordered categories say what is tied: take TwoRanks.of_categories(shares) for the design."
            )
        return np.asarray(np.sum(one * (np.cumsum(two) - two / 2)) - 0.5)

    def _told(self, effect: float) -> dict[str, float]:
        told = {"chance of superiority": 0.5 + effect, "Cliff's δ": 2 * effect}
        if abs(effect) < 0.5 - SMALLEST_SHARE:
            told["shift of normal values (d)"] = float(2 * special.erfinv(2 * effect))
        return told

    def _possible(self, effect: Floats) -> Floats:
        if np.any(np.abs(effect) >= 0.5):
            raise DesignError("A chance of superiority lies between 0 and 1: the effect is that chance less one half.")
        return effect

    def _most(self, sign: float) -> Floats:
        return np.asarray(0.5 * (1 - SMALLEST_SHARE))

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        one, two = units
        error = np.sqrt(self._variance_factor() * (one + two + 1) * (1 - self.ties) / (12 * one * two))
        return error, error

    def _of_control(self, lift: float) -> Any:
        raise DesignError(f"{self.title}: a margin is not planned for ranks.")

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.two_ranks(self, rng, effect, units, runs)


def _categories(table: ArrayLike) -> tuple[Floats, Floats]:
    """Shares of ordered categories in both groups, each with a sum of 1."""
    shares = gate.at_least("shares", table, 0)
    if shares.ndim != 2 or shares.shape[0] != 2 or shares.shape[1] < 2 or np.any(shares.sum(axis=1) <= 0):
        raise InputError.rule("shares", table, "two rows of ordered categories, treatment and control")
    one, two = shares / shares.sum(axis=1, keepdims=True)
    return one, two


def _ties(shares: tuple[Floats, Floats], ratio: float) -> float:
    """Sum of the cubes of the categories' shares, both groups taken together."""
    weight = ratio / (1 + ratio)
    return float(np.sum((weight * shares[0] + (1 - weight) * shares[1]) ** 3))
