"""Many plain p-values, corrected."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import InputError
from amber_ruler.multiplicity.p_values import METHODS, checked, interval_alpha
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Result


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Corrected(Result):
    """A family of p-values, as given and adjusted, in the order given.

    Attributes
    ----------
    labels : tuple of str
        Names of the comparisons.
    p_values, adjusted : ndarray, shape (m,)
        As given, and to be held against alpha.
    alpha : float
        Error rate of each family.
    keeps : str
        What the correction keeps at or below alpha.
    families : tuple of str
        The family of each comparison, where several were corrected, each by itself.
    interval_alpha : ndarray of shape (m,), or None
        Measure a comparison again with this alpha for an interval that goes with the correction; an order of testing
        has none.
    """

    labels: tuple[str, ...]
    p_values: Floats
    adjusted: Floats
    alpha: float
    keeps: str
    families: tuple[str, ...] = ()
    interval_alpha: Floats | None = None

    @property
    def claims(self) -> NDArray[np.bool_]:
        """Which comparisons stand after the correction."""
        return np.asarray(self.adjusted < self.alpha)


def corrected(labels: Sequence[str], p: Floats, method: str, alpha: float, families: Sequence[str]) -> Corrected:
    """Adjust p-values, each family by itself."""
    adjusted, each = np.empty(p.size), np.empty(p.size)
    way = METHODS[method]
    for family in dict.fromkeys(families or ("",)):
        mine = np.flatnonzero([f == family for f in families]) if families else np.arange(p.size)
        adjusted[mine] = way.adjusted(p[mine])
        each[mine] = interval_alpha(method, alpha, mine.size, int(np.sum(adjusted[mine] < alpha)))
    several = f" in {len(set(families))} families" if families else ""
    return Corrected(
        title=f"{p.size:,} comparisons{several}, corrected",
        method=way.name,
        source=way.source,
        labels=tuple(labels),
        p_values=p,
        adjusted=adjusted,
        alpha=alpha,
        keeps=way.keeps,
        families=tuple(families),
        interval_alpha=each,
    )


def labelled(p_values: Mapping[str, float] | ArrayLike) -> tuple[tuple[str, ...], Floats]:
    """P-values with their labels; 1, 2, 3, ... where they have none."""
    if isinstance(p_values, Mapping):
        return tuple(str(k) for k in p_values), checked(list(p_values.values()))
    p = checked(p_values)
    return tuple(str(i + 1) for i in range(p.size)), p


def named_families(labels: Sequence[str], families: Mapping[str, str] | None) -> tuple[str, ...]:
    """The family of each comparison; none where there is one."""
    if families is None:
        return ()
    absent = [label for label in labels if label not in families]
    if absent:
        raise InputError(f"families says nothing of {absent[0]!r}: name a family for every comparison.")
    return tuple(str(families[label]) for label in labels)
