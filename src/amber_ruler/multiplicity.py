"""Many comparisons at once: p-values adjusted for their number."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.results import Result

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    from amber_ruler.numeric.gate import Floats

__all__ = ["AdjustedPValues", "adjust", "benjamini_hochberg", "holm"]

_SOURCES = {
    "holm": "Holm (1979), Scandinavian Journal of Statistics 6, 65-70",
    "benjamini-hochberg": "Benjamini & Hochberg (1995), Journal of the Royal Statistical Society B 57, 289-300",
}
_KEEPS = {
    "holm": "the chance of any false claim",
    "benjamini-hochberg": "the expected share of false claims among the claims",
}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class AdjustedPValues(Result):
    """A family of p-values, as given and adjusted, in the order given.

    Attributes
    ----------
    labels : tuple of str
        Names of the comparisons.
    p_values, adjusted : ndarray, shape (m,)
        As given, and to be held against alpha.
    alpha : float
        Error rate of the family.
    keeps : str
        What the correction keeps at or below alpha.
    """

    kind: ClassVar[str] = "adjusted"

    labels: tuple[str, ...]
    p_values: Floats
    adjusted: Floats
    alpha: float
    keeps: str

    @property
    def claims(self) -> NDArray[np.bool_]:
        """Which comparisons stand after the correction."""
        return np.asarray(self.adjusted < self.alpha)


def adjust(
    p_values: Mapping[str, float] | ArrayLike,
    *,
    method: Literal["holm", "benjamini-hochberg"] = "holm",
    alpha: float = 0.05,
) -> AdjustedPValues:
    """Which of many comparisons stand when their number is taken into account?

    Parameters
    ----------
    p_values : mapping of label to p, or array_like of shape (m,)
        The whole family, each between 0 and 1.
    method : "holm" or "benjamini-hochberg"
        Holm keeps the chance of any false claim; Benjamini-Hochberg the share of false ones among the claims.
    alpha : float
        Error rate of the family.

    Returns
    -------
    AdjustedPValues

    Examples
    --------
    >>> r = adjust({"fare": 0.01, "booked": 0.03, "complaint": 0.04})
    >>> [round(float(p), 4) for p in r.adjusted]
    [0.03, 0.06, 0.06]
    """
    gate.choice("method", method, _SOURCES)
    gate.between("alpha", alpha, 0, 1)
    named = p_values if isinstance(p_values, Mapping) else None
    p = _checked(list(named.values()) if named is not None else p_values)  # type: ignore[arg-type]
    labels = tuple(str(k) for k in named) if named is not None else tuple(str(i + 1) for i in range(p.size))
    adjusted = holm(p) if method == "holm" else benjamini_hochberg(p)
    return AdjustedPValues(
        title=f"{p.size:,} comparisons, corrected",
        method={"holm": "Holm", "benjamini-hochberg": "Benjamini–Hochberg"}[method],
        source=_SOURCES[method],
        labels=labels,
        p_values=p,
        adjusted=adjusted,
        alpha=alpha,
        keeps=_KEEPS[method],
    )


def holm(p_values: ArrayLike) -> Floats:
    """Adjusted p-values that keep the family-wise error rate (step-down Bonferroni).

    Parameters
    ----------
    p_values : array_like, shape (m,)

    Returns
    -------
    ndarray, shape (m,)
        In the order given; below alpha exactly where Holm's procedure claims.

    References
    ----------
    .. [1] Holm (1979), Scandinavian Journal of Statistics 6, 65-70.

    Examples
    --------
    >>> holm([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.06, 0.06]
    """
    p = _checked(p_values)
    order = np.argsort(p)
    steps = np.minimum(np.maximum.accumulate(p[order] * np.arange(p.size, 0, -1)), 1.0)
    return _in_order(steps, order)


def benjamini_hochberg(p_values: ArrayLike) -> Floats:
    """Adjusted p-values that keep the false discovery rate (step-up).

    Parameters
    ----------
    p_values : array_like, shape (m,)

    Returns
    -------
    ndarray, shape (m,)
        In the order given; at most alpha exactly where the procedure claims.

    References
    ----------
    .. [1] Benjamini & Hochberg (1995), Journal of the Royal Statistical Society B 57, 289-300.

    Examples
    --------
    >>> benjamini_hochberg([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = _checked(p_values)
    order = np.argsort(p)
    raised = p[order] * (p.size / np.arange(1, p.size + 1))
    steps = np.minimum(np.minimum.accumulate(raised[::-1])[::-1], 1.0)
    return _in_order(steps, order)


def _in_order(steps: Floats, order: NDArray[np.intp]) -> Floats:
    result = np.empty_like(steps)
    result[order] = steps
    return result


def _checked(p_values: ArrayLike) -> Floats:
    p = gate.finite("p_values", p_values)
    if p.ndim != 1 or p.size == 0:
        raise InputError(f"p_values must be a list of at least one p-value, got shape {p.shape}.")
    if np.any((p < 0) | (p > 1)):
        raise InputError.rule("p_values", float(p[(p < 0) | (p > 1)][0]), "between 0 and 1")
    return p
