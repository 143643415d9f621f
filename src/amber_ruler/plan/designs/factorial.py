"""Planning a factorial test: an effect among the cells of several factors."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.omnibus import LARGEST_F, Omnibus
from amber_ruler.plan.planned import Units, Ways


@dataclass(frozen=True, kw_only=True)
class Factorial(Omnibus):
    """A test of a main effect or an interaction among several factors, with equal cells.

    Parameters
    ----------
    levels : sequence of int
        How many levels each factor has.
    tested : sequence of int, optional
        Which factors the tested effect is made of, counted from 1: (1,) is the main effect of the first, (1, 2) the
        interaction of both. The interaction of all unless given.
    sd : float
        Standard deviation within each cell; needed to say the effect as `means`.
    alpha : float
        Error rate of the test.

    Notes
    -----
    The effect is f, the standard deviation of the tested effect over the cells in units of `sd`; or give the `means`
    of all cells, the last factor running fastest: the other effects among them are taken off. The model has all
    interactions: cells (n − 1) error degrees of freedom, and a noncentrality of n cells f². `n` is the units of
    each cell.

    References
    ----------
    .. [1] Scheffé (1959), The Analysis of Variance, sections 2.8 and 4.3.

    Examples
    --------
    >>> plan = Factorial(levels=(2, 3), tested=(1, 2)).sample_size(effect=0.25, power=0.8)
    >>> plan.n, plan.n_total, round(plan.power, 4)
    (27, 162, 0.8126)
    >>> cells = Factorial(levels=(2, 2), tested=(1,), sd=4).power(means=[10, 11, 12, 15], n=20)
    >>> round(cells.effect, 4), round(cells.power, 4)
    (0.375, 0.9117)
    """

    simulated_by = "measure.factors"
    title = "Factorial test"
    method = "analysis of variance of several factors, noncentral F"
    source = "Scheffé (1959), The Analysis of Variance, sections 2.8 and 4.3"
    effect_name = "effect f"
    ways = ("effect", "means")
    lists = ("levels", "tested")
    allowed: ClassVar[frozenset[type]] = frozenset({change.Covariate, change.Traffic, change.Attrition})

    levels: Sequence[int]
    tested: Sequence[int] | None = None
    sd: float = 1.0

    def __post_init__(self) -> None:
        levels = gate.whole("levels", self.levels, 2)
        if levels.ndim != 1 or levels.size < 1:
            raise InputError.rule("levels", self.levels, "a number of levels for each factor, such as (2, 3)")
        if self.tested is not None:
            tested = gate.whole("tested", self.tested, 1)
            if tested.ndim != 1 or tested.size != np.unique(tested).size or np.any(tested > levels.size):
                raise InputError.rule("tested", self.tested, f"different numbers from 1 to {levels.size}")
        gate.positive("sd", self.sd)
        super().__post_init__()

    def _tested(self) -> tuple[int, ...]:
        """The axes of the tested effect."""
        return tuple(range(len(self.levels))) if self.tested is None else tuple(int(k) - 1 for k in self.tested)

    def _cells(self) -> int:
        return int(np.prod([int(k) for k in self.levels]))

    def _ways(self) -> Ways:
        return {"effect": lambda f: f, "means": self._from_means}

    def _from_means(self, means: Sequence[float]) -> Floats:
        values = gate.finite("means", means)
        if values.size != self._cells():
            raise InputError.rule("means", means, f"{self._cells()} numbers, one for each cell")
        table = values.reshape([int(k) for k in self.levels])
        for axis in range(table.ndim):
            mean = table.mean(axis=axis, keepdims=True)
            table = table - mean if axis in self._tested() else np.broadcast_to(mean, table.shape)
        size = np.sqrt(np.mean(table**2))
        if size < 1e-13 * np.abs(values).max():
            raise DesignError("These means have no such effect: what is tested among them is 0.")
        return np.asarray(size / self.sd)

    def _told(self, effect: float) -> dict[str, float]:
        return {"sd of the effect": effect * self.sd, "partial eta squared": effect**2 / (1 + effect**2)}

    def _most(self, sign: float) -> Floats:
        return np.asarray(LARGEST_F)

    def _noncentrality(self, effect: Floats, units: Units) -> Floats:
        return np.asarray(units[0] * self._cells() * effect**2 / self._variance_factor())

    def _dfs(self, units: Units) -> tuple[Floats, Floats | None]:
        top = float(np.prod([int(self.levels[k]) - 1 for k in self._tested()]))
        return np.asarray(top), self._cells() * (units[0] - 1) - self._slopes()

    def _least(self) -> float:
        return 2.0 + float(np.ceil(self._slopes() / self._cells()))

    def _group_names(self) -> tuple[str, ...]:
        return (f"each of {self._cells()} cells",)

    def _groups_of(self) -> tuple[float, ...]:
        return (float(self._cells()),)

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.factorial(self, rng, effect, units, runs)
