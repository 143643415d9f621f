"""Planning comparisons among several means: contrasts, and all pairs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import fisher, gate, student, studentized
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import Estimated
from amber_ruler.plan.designs.means import MOST_SPREADS
from amber_ruler.plan.planned import Units, Ways

_SOURCE = "Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 31"


@dataclass(frozen=True, kw_only=True)
class _AmongMeans(Estimated):
    """A comparison among several groups of one spread, that of all of them."""

    allowed: ClassVar[frozenset[type]] = frozenset({change.Clusters, change.Margin, change.Traffic, change.Attrition})

    def _pooled(self, units: Units, groups: int) -> Floats:
        size = self._cluster_size()
        total = sum(units) if len(units) > 1 else groups * units[0]
        return np.asarray(total / size - groups)


@dataclass(frozen=True, kw_only=True)
class Contrast(_AmongMeans):
    """A test of a weighted sum of several means, such as one group against the mean of two others.

    Parameters
    ----------
    weights : sequence of float
        One for each group; they sum to 0.
    sd : float
        Standard deviation within each group.
    split : sequence of float, optional
        Relative sizes of the groups; equal unless given.
    correction : "none", "bonferroni" or "scheffe"
        What is corrected for: nothing, `contrasts` planned ones, or all that there can be.
    contrasts : int
        How many contrasts are planned, for "bonferroni".
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The effect is the sum of weights times means, or give all `means`. Its standard error is sd sqrt(sum w² / n), and
    the spread has the degrees of freedom of all groups: as `groups(…).contrasts`. Scheffé's correction (two-sided)
    takes (k - 1) times the critical F in the place of t². `n` is the units of the last group (of each, if equal).

    References
    ----------
    .. [1] Scheffé (1953), Biometrika 40, 87-104.

    Examples
    --------
    >>> plan = Contrast(weights=(1, -0.5, -0.5), sd=10).sample_size(effect=4, power=0.8)
    >>> plan.n, plan.n_total, round(plan.power, 4)
    (75, 225, 0.8041)
    """

    simulated_by = "measure.groups, contrasts"
    title = "Contrast of means"
    method = "contrast of several means, noncentral t"
    source = _SOURCE
    effect_name = "contrast"
    ways = ("effect", "standardised", "means")
    lists = ("weights", "split")

    weights: Sequence[float]
    sd: float = 1.0
    split: Sequence[float] | None = None
    correction: Literal["none", "bonferroni", "scheffe"] = "none"
    contrasts: int = 1

    def __post_init__(self) -> None:
        weights = gate.finite("weights", self.weights)
        if weights.ndim != 1 or weights.size < 2 or not np.any(weights):
            raise InputError.rule("weights", list(np.atleast_1d(weights)), "a number for each of two or more groups")
        if abs(weights.sum()) > 1e-9 * np.abs(weights).sum():
            raise DesignError(f"The weights of a contrast sum to 0; these sum to {weights.sum():g}.")
        gate.positive("sd", self.sd)
        if self.split is not None and gate.positive("split", self.split).shape != weights.shape:
            raise InputError.rule("split", list(self.split), f"{weights.size} numbers, one for each group")
        gate.choice("correction", self.correction, ("none", "bonferroni", "scheffe"))
        gate.whole("contrasts", self.contrasts, 1)
        super().__post_init__()
        if self.correction == "scheffe" and self.alternative != "two-sided":
            raise DesignError("Scheffé's correction is two-sided: leave the alternative out.")

    def _with(self, modifier: change.Modifier) -> Any:
        if isinstance(modifier, change.Margin) and self.correction == "scheffe":
            raise DesignError("Scheffé's correction is two-sided: it does not go with a margin.")
        return super()._with(modifier)

    def _groups(self) -> int:
        return len(self.weights)

    def _ways(self) -> Ways:
        return {"effect": lambda e: e, "standardised": lambda d: np.asarray(d) * self.sd, "means": self._from_means}

    def _from_means(self, means: Sequence[float]) -> Floats:
        values = gate.finite("means", means)
        if values.shape != (self._groups(),):
            raise InputError.rule("means", list(np.atleast_1d(values)), f"{self._groups()} numbers, one for each group")
        return np.asarray(np.dot(values, self.weights))

    def _told(self, effect: float) -> dict[str, float]:
        return {"standardised (d)": effect / self.sd}

    def _most(self, sign: float) -> Floats:
        return np.asarray(MOST_SPREADS * self.sd * np.abs(self.weights).sum())

    def _parts(self, n: Floats) -> Units:
        return (n,) if self.split is None else tuple(share / self.split[-1] * n for share in self.split)

    def _recruits(self, n: Floats) -> Units:
        size = self._cluster_size()
        rounded = (np.ceil(np.ceil(u / size * (1 - 1e-14)) * size) for u in self._parts(n))
        return tuple(np.maximum(u, self._least()) for u in rounded)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        sizes = units if len(units) > 1 else units * self._groups()
        squares = sum(w * w / u for w, u in zip(self.weights, sizes, strict=True))
        error = self.sd * np.sqrt(self._variance_factor() * squares)
        return error, error

    def _own_df(self, units: Units) -> Floats | None:
        return self._pooled(units, self._groups())

    def _single_alpha(self, units: Units) -> Floats:
        if self.correction == "scheffe":
            top, df = self._groups() - 1.0, self._pooled(units, self._groups())
            return 2 * student.sf(np.sqrt(top * fisher.upper_quantile(self.alpha, top, df)), df)
        return np.asarray(self.alpha) / (self.contrasts if self.correction == "bonferroni" else 1)

    def _group_names(self) -> tuple[str, ...]:
        if self.split is None:
            return (f"each of {self._groups()} groups",)
        return tuple(f"group {k + 1}" for k in range(self._groups()))

    def _groups_of(self) -> tuple[float, ...]:
        return (float(self._groups()),) if self.split is None else (1.0,) * self._groups()

    def _method_said(self) -> str:
        said = super()._method_said()
        return said if self.correction == "none" else f"{said}; {self.correction.title().replace('fe', 'fé')}"

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.contrast(self, rng, effect, units, runs)


@dataclass(frozen=True, kw_only=True)
class AllPairs(_AmongMeans):
    """A test of every pair of several means, with the chance of any false alarm held at alpha.

    Parameters
    ----------
    groups : int
        Number of groups, of equal size.
    sd : float
        Standard deviation within each group.
    correction : "studentized", "bonferroni", "sidak" or "none"
        How the error rate is shared by the pairs: the studentized range of Tukey, as `groups` has it for all pairs.
    alpha : float
        Error rate over all pairs.
    alternative : "two-sided", "greater" or "less"
        Direction of the test; the studentized range is two-sided.

    Notes
    -----
    The effect is the difference of one pair, and the power is the chance that this pair is found. `n` is the units of
    each group.

    References
    ----------
    .. [1] Tukey (1953), The Problem of Multiple Comparisons.

    Examples
    --------
    >>> plan = AllPairs(groups=4, sd=10).sample_size(effect=5, power=0.8)
    >>> plan.n, plan.n_total, round(plan.single_alpha, 5)
    (94, 376, 0.01024)
    """

    simulated_by = "measure.groups, contrasts"
    title = "All pairs of means"
    method = "difference of a pair of means, spread of all groups, noncentral t"
    source = "Tukey (1953), The Problem of Multiple Comparisons"
    ways = ("effect", "standardised")

    groups: int
    sd: float = 1.0
    correction: Literal["studentized", "bonferroni", "sidak", "none"] = "studentized"

    def __post_init__(self) -> None:
        gate.whole("groups", self.groups, 2)
        gate.positive("sd", self.sd)
        gate.choice("correction", self.correction, ("studentized", "bonferroni", "sidak", "none"))
        super().__post_init__()
        if self.correction == "studentized" and self.alternative != "two-sided":
            raise DesignError("The studentized range is two-sided: take bonferroni or sidak for one side.")

    def _with(self, modifier: change.Modifier) -> Any:
        if isinstance(modifier, change.Margin) and self.correction == "studentized":
            raise DesignError("The studentized range does not go with a margin: take bonferroni or sidak.")
        return super()._with(modifier)

    def _ways(self) -> Ways:
        return {"effect": lambda e: e, "standardised": lambda d: np.asarray(d) * self.sd}

    def _told(self, effect: float) -> dict[str, float]:
        return {"standardised (d)": effect / self.sd}

    def _most(self, sign: float) -> Floats:
        return np.asarray(MOST_SPREADS * self.sd)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        error = self.sd * np.sqrt(2 * self._variance_factor() / units[0])
        return error, error

    def _own_df(self, units: Units) -> Floats | None:
        return self._pooled(units, self.groups)

    def _single_alpha(self, units: Units) -> Floats:
        pairs, alpha = self.groups * (self.groups - 1) / 2, np.asarray(self.alpha)
        if self.correction == "studentized":
            df = self._pooled(units, self.groups)
            return 2 * student.sf(studentized.upper_quantile(alpha, self.groups, df) / np.sqrt(2), df)
        if self.correction == "sidak":
            return np.asarray(-np.expm1(np.log1p(-alpha) / pairs))
        return alpha / (pairs if self.correction == "bonferroni" else 1)

    def _group_names(self) -> tuple[str, ...]:
        return (f"each of {self.groups} groups",)

    def _groups_of(self) -> tuple[float, ...]:
        return (float(self.groups),)

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.all_pairs(self, rng, effect, units, runs)
