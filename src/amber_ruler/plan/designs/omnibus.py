"""Planning tests that ask whether there is anything at all: F and chi-square tests."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Literal, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import chisquare, fisher, gate, normal, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import PlanAnswer
from amber_ruler.plan.planned import SMALLEST_SHARE, EffectGiven, Units, Ways
from amber_ruler.plan.questions import Design

_SOURCE = "Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter {}"
LARGEST_F = 1e3


@dataclass(frozen=True, kw_only=True)
class Omnibus(Design):
    """A design whose test rejects for large values of F or chi-square; its effect has a size and no direction."""

    def _checked_effect(self, effect: Floats) -> Floats:
        if np.any(effect <= 0):
            raise DesignError(f"The {self.effect_name} must be above 0: it has a size and no direction.")
        return effect

    def _possible(self, effect: Floats) -> Floats:
        if np.any(effect < 0):
            raise DesignError(f"The {self.effect_name} can't be below 0: it has a size and no direction.")
        return effect

    @abstractmethod
    def _noncentrality(self, effect: Floats, units: Units) -> Floats:
        """How far the statistic is off its distribution under no effect."""

    @abstractmethod
    def _dfs(self, units: Units) -> tuple[Floats, Floats | None]:
        """Degrees of freedom of the effect, and of the error if there is one."""

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        shift = self._noncentrality(effect, units)
        top, bottom = self._dfs(units)
        if bottom is None:
            return chisquare.noncentral_sf(chisquare.upper_quantile(self.alpha, top), top, shift)
        critical, alpha = fisher.upper_quantile(self.alpha, top, bottom), np.asarray(self.alpha)
        return fisher.noncentral_sf(critical, top, bottom, shift, central=alpha)

    def _guess(self, effect: Floats, target: Floats) -> Floats:
        # Of a chi-square with the same noncentrality for each unit, in the normal approximation of Sankaran (1963).
        effect, target = gate.aligned(effect, target)
        many = self._parts(np.full(effect.shape, 1e6))
        one, top = self._noncentrality(effect, many) / 1e6, self._dfs(many)[0]
        critical, goal = chisquare.upper_quantile(self.alpha, top), normal.quantile(target)

        def miss(root: Floats) -> Floats:
            shift = root * root
            mean, grown = top + shift, top + 2 * shift
            h = 1 - 2 / 3 * mean * (top + 3 * shift) / grown**2
            p, m = grown / mean**2, (h - 1) * (1 - 3 * h)
            centre = 1 + h * p * (h - 1 - 0.5 * (2 - h) * m * p)
            return np.asarray((centre - (critical / mean) ** h) / (h * np.sqrt(2 * p) * (1 + 0.5 * m * p)) - goal)

        shift = bracketed_root(miss, np.zeros(effect.shape), 2 * np.sqrt(critical) + 12, rtol=1e-3) ** 2
        with np.errstate(divide="ignore", over="ignore"):
            n = shift / one
            # The error's degrees of freedom cost about this share more.
            error = self._dfs(self._parts(np.minimum(np.maximum(n, self._least()), 1e15)))[1]
        return n if error is None else n * (1 + 0.6 * (critical + 1) / np.maximum(error, 4))

    def _fallback_effect(self) -> float:
        return 1e-3


@dataclass(frozen=True, kw_only=True)
class ManyMeans(Omnibus):
    """A test whether several groups share one mean (one-way analysis of variance).

    Parameters
    ----------
    groups : int
        Number of groups.
    sd : float
        Standard deviation within each group; needed to say the effect as `means`.
    split : sequence of float, optional
        Relative sizes of the groups; equal unless given.
    alpha : float
        Error rate of the test.

    Notes
    -----
    The effect is f, the standard deviation of the group means (over all units, around their mean) in units of `sd`;
    or give `means`. `n` is the units of each group, or of the last where they differ. The noncentrality of F is f²
    times the units in total. The power of given sizes, one a group, takes their own split.

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 30.

    Examples
    --------
    >>> plan = ManyMeans(groups=4).sample_size(effect=0.25, power=0.8)
    >>> plan.n, plan.n_total, round(plan.power, 4)
    (45, 180, 0.804)
    >>> ManyMeans(groups=3, sd=2).power(means=[10, 11, 12], n=20).effects["eta squared"]
    0.14285714285714285
    """

    simulated_by = "measure.groups"
    title = "Many means"
    method = "one-way analysis of variance, noncentral F"
    source = _SOURCE.format(30)
    effect_name = "effect f"
    ways = ("effect", "means")
    allowed: ClassVar[frozenset[type]] = frozenset(
        {change.Covariate, change.Clusters, change.Traffic, change.Attrition}
    )

    lists = ("split",)

    groups: int
    sd: float = 1.0
    split: Sequence[float] | None = None

    def __post_init__(self) -> None:
        gate.whole("groups", self.groups, 2)
        gate.positive("sd", self.sd)
        if self.split is not None and gate.positive("split", self.split).shape != (self.groups,):
            raise InputError.rule("split", list(self.split), f"{self.groups} numbers, one for each group")
        super().__post_init__()

    def _ways(self) -> Ways:
        return {"effect": lambda f: f, "means": self._from_means}

    def _from_means(self, means: Sequence[float]) -> Floats:
        values = gate.finite("means", means)
        if values.shape != (self.groups,):
            raise InputError.rule("means", list(np.atleast_1d(values)), f"{self.groups} numbers, one for each group")
        away = values - np.average(values, weights=self.split)
        return np.asarray(np.sqrt(np.average(away**2, weights=self.split)) / self.sd)

    def power(
        self, *, n: int | tuple[int, ...] | None = None, weeks: int | None = None, **effect: Unpack[EffectGiven]
    ) -> PlanAnswer:
        """How likely are `n` units to find the effect? As for every design; sizes of all groups go before `split`."""
        if n is not None and np.ndim(n) == 1 and np.size(n) == self.groups:  # means weigh as their groups are large
            sizes = gate.whole("n", n, 2)
            return replace(self, split=tuple(sizes)).power(n=int(sizes[-1]), **effect)
        return super().power(n=n, weeks=weeks, **effect)

    def _parts(self, n: Floats) -> Units:
        return (n,) if self.split is None else tuple(share / self.split[-1] * n for share in self.split)

    def _recruits(self, n: Floats) -> Units:
        size = self._cluster_size()
        rounded = (np.ceil(np.ceil(u / size * (1 - 1e-14)) * size) for u in self._parts(n))
        return tuple(np.maximum(u, self._least()) for u in rounded)

    def _told(self, effect: float) -> dict[str, float]:
        return {"sd of the group means": effect * self.sd, "eta squared": effect**2 / (1 + effect**2)}

    def _most(self, sign: float) -> Floats:
        return np.asarray(LARGEST_F)

    def _noncentrality(self, effect: Floats, units: Units) -> Floats:
        return np.asarray(self._total(units) * effect**2 / self._variance_factor())

    def _dfs(self, units: Units) -> tuple[Floats, Floats | None]:
        return np.asarray(self.groups - 1.0), self._total(units) / self._cluster_size() - self.groups

    def _group_names(self) -> tuple[str, ...]:
        if self.split is None:
            return (f"each of {self.groups} groups",)
        return tuple(f"group {k + 1}" for k in range(self.groups))

    def _groups_of(self) -> tuple[float, ...]:
        return (self.groups * 1.0,) if self.split is None else (1.0,) * self.groups

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.many_means(self, rng, effect, units, runs)


@dataclass(frozen=True, kw_only=True)
class Regression(Omnibus):
    """A test whether some predictors add to what others explain.

    Parameters
    ----------
    predictors : int
        Number of predictors tested together.
    others : int
        Number of other predictors in the model.
    explained : float, between 0 and 1
        R² of the others alone.
    predictors_are : "fixed" or "random"
        Whether the values of all predictors are set beforehand, or drawn with the units from a normal distribution.
    alpha : float
        Error rate of the test.

    Notes
    -----
    The effect is the added R²; as `standardised` it is f² = added / (1 − explained − added). With fixed predictors the
    noncentrality of F is n f². With random ones it is f² times a chi-square of n - 1 - others degrees of freedom, over
    which the power is averaged: the distribution of a (partial) multiple correlation. `n` is the number of units.

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapters 30 and 32.
    .. [2] Sampson (1974), Journal of the American Statistical Association 69, 682-689, for random predictors.

    Examples
    --------
    >>> plan = Regression(predictors=3, others=2, explained=0.2).sample_size(effect=0.05, power=0.8)
    >>> plan.n, round(plan.effects["f squared"], 4)
    (168, 0.0667)
    """

    simulated_by = "least squares, F"
    title = "Regression"
    method = "added R², noncentral F"
    source = _SOURCE.format(30)
    effect_name = "added R²"
    ways = ("effect", "standardised")

    predictors: int = 1
    others: int = 0
    explained: float = 0.0
    predictors_are: Literal["fixed", "random"] = "fixed"

    def __post_init__(self) -> None:
        gate.whole("predictors", self.predictors, 1)
        gate.whole("others", self.others, 0)
        if np.any((gate.finite("explained", self.explained) < 0) | (np.asarray(self.explained) >= 1)):
            raise InputError.rule("explained", self.explained, "at least 0 and below 1")
        gate.choice("predictors_are", self.predictors_are, ("fixed", "random"))
        super().__post_init__()

    def _ways(self) -> Ways:
        return {"effect": lambda r: r, "standardised": self._from_f_squared}

    def _from_f_squared(self, value: ArrayLike) -> Floats:
        f2 = gate.positive("standardised", value)
        return np.asarray(f2 * (1 - self.explained) / (1 + f2))

    def _possible(self, effect: Floats) -> Floats:
        if np.any(self.explained + effect >= 1):
            raise DesignError(f"R² can't exceed 1: the others explain {np.max(self.explained):g} already.")
        return super()._possible(effect)

    def _told(self, effect: float) -> dict[str, float]:
        f2 = effect / (1 - self.explained - effect)
        return {"R² with them": self.explained + effect, "f squared": f2}

    def _most(self, sign: float) -> Floats:
        return np.asarray((1 - np.asarray(self.explained)) * (1 - SMALLEST_SHARE))

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        if self.predictors_are == "fixed":
            return super()._power_of(effect, units)
        n, alpha, f2 = gate.aligned(units[0], self.alpha, effect / (1 - self.explained - effect))
        shape, df = n.shape, np.ravel(n) - 1 - self.others
        spread, weight = student.spread_nodes(df)  # roots of chi-squares over their degrees of freedom
        top, bottom = np.asarray(float(self.predictors)), np.ravel(n) - self.predictors - self.others - 1
        critical = fisher.upper_quantile(np.ravel(alpha), top, bottom)
        shift = (df * np.ravel(f2))[:, None] * spread**2
        found = fisher.noncentral_sf(critical[:, None], top, bottom[:, None], shift)
        return np.asarray((weight * found).sum(axis=1).reshape(shape))

    def _noncentrality(self, effect: Floats, units: Units) -> Floats:
        return np.asarray(units[0] * effect / (1 - self.explained - effect))

    def _dfs(self, units: Units) -> tuple[Floats, Floats | None]:
        return np.asarray(float(self.predictors)), units[0] - self.predictors - self.others - 1

    def _least(self) -> float:
        return self.predictors + self.others + 2.0

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.regression(self, rng, effect, units, runs)


@dataclass(frozen=True, kw_only=True)
class Association(Omnibus):
    """A chi-square test of independence, or of shares against equal ones.

    Parameters
    ----------
    rows, columns : int
        Size of the table of counts. One row is a test of goodness of fit, against equal shares.
    alpha : float
        Error rate of the test.

    Notes
    -----
    The effect is w, the root of the chi-square of one unit; or give `shares`, the table of expected shares, which are
    scaled to a sum of 1. `n` is the number of units in the whole table. The noncentrality of chi-square is n w².

    References
    ----------
    .. [1] Johnson, Kotz & Balakrishnan (1995), Continuous Univariate Distributions 2, chapter 29.

    Examples
    --------
    >>> plan = Association(rows=2, columns=3).sample_size(effect=0.3, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (108, 0.8037)
    """

    simulated_by = "measure.independence"
    title = "Association"
    method = "χ² of a table of counts, noncentral χ²"
    source = _SOURCE.format(29)
    effect_name = "effect w"
    ways = ("effect", "shares")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Clusters, change.Traffic, change.Attrition})

    rows: int = 2
    columns: int = 2

    def __post_init__(self) -> None:
        gate.whole("rows", self.rows, 1)
        gate.whole("columns", self.columns, 2)
        super().__post_init__()

    def _ways(self) -> Ways:
        return {"effect": lambda w: w, "shares": self._from_shares}

    def _from_shares(self, table: ArrayLike) -> Floats:
        shares = np.atleast_2d(gate.at_least("shares", table, 0))
        if shares.shape != (self.rows, self.columns):
            raise InputError.rule("shares", table, f"a table of {self.rows} by {self.columns}")
        if shares.sum() <= 0:
            raise InputError.rule("shares", table, "shares with a sum above 0")
        shares = shares / shares.sum()
        none = np.outer(shares.sum(axis=1), shares.sum(axis=0))
        if self.rows == 1:
            none = np.full(shares.shape, 1 / self.columns)
        if np.any(none == 0):
            raise InputError.rule("shares", table, "a table without an empty row or column")
        return np.asarray(np.sqrt(np.sum((shares - none) ** 2 / none)))

    def _possible(self, effect: Floats) -> Floats:
        if np.any(effect > self._most(1.0)):
            raise DesignError(f"A table of this size has no w above {float(np.min(self._most(1.0))):.4g}.")
        return super()._possible(effect)

    def _told(self, effect: float) -> dict[str, float]:
        smaller = min(self.rows, self.columns)
        return {"Cramér's V": effect / np.sqrt(smaller - 1)} if smaller > 1 else {}

    def _most(self, sign: float) -> Floats:
        smaller = np.minimum(self.rows, self.columns)
        return np.sqrt(np.where(smaller > 1, smaller, self.columns) - 1.0)

    def _noncentrality(self, effect: Floats, units: Units) -> Floats:
        return np.asarray(units[0] * effect**2 / self._variance_factor())

    def _dfs(self, units: Units) -> tuple[Floats, Floats | None]:
        return np.asarray(np.maximum(self.rows - 1, 1) * (self.columns - 1.0)), None

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.association(self, rng, effect, units, runs)
