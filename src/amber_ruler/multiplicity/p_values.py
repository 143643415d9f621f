"""P-values adjusted for their number: seven corrections, each by itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple, TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats

Method: TypeAlias = Literal[
    "bonferroni", "sidak", "holm", "holm-sidak", "hochberg", "hommel", "benjamini-hochberg", "benjamini-yekutieli"
]


def bonferroni(p_values: ArrayLike) -> Floats:
    """Adjusted p-values m p, which keep the chance of any false claim whatever the dependence.

    References
    ----------
    .. [1] Dunn (1961), Journal of the American Statistical Association 56, 52-64.

    Examples
    --------
    >>> bonferroni([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.12, 0.09]
    """
    p = checked(p_values)
    return np.minimum(p.size * p, 1.0)


def sidak(p_values: ArrayLike) -> Floats:
    """Adjusted p-values 1 - (1 - p)^m, which keep the chance of any false claim where comparisons are independent.

    References
    ----------
    .. [1] Šidák (1967), Journal of the American Statistical Association 62, 626-633.

    Examples
    --------
    >>> sidak([0.01, 0.04, 0.03]).round(4).tolist()
    [0.0297, 0.1153, 0.0873]
    """
    p = checked(p_values)
    with np.errstate(divide="ignore"):
        return np.asarray(-np.expm1(p.size * np.log1p(-p)))


def hochberg(p_values: ArrayLike) -> Floats:
    """Adjusted p-values of the step-up twin of Holm's, for comparisons that are independent or depend positively.

    References
    ----------
    .. [1] Hochberg (1988), Biometrika 75, 800-802.

    Examples
    --------
    >>> hochberg([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = checked(p_values)
    order = np.argsort(p)
    steps = np.minimum.accumulate((p[order] * np.arange(p.size, 0, -1))[::-1])[::-1]
    return _in_order(np.minimum(steps, 1.0), order)


def hommel(p_values: ArrayLike) -> Floats:
    """Adjusted p-values of the closed Simes test, never above Hochberg's; its time grows with m^2.

    References
    ----------
    .. [1] Hommel (1988), Biometrika 75, 383-386.
    .. [2] Wright (1992), Biometrics 48, 1005-1013, for the adjusted p-values.

    Examples
    --------
    >>> hommel([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = checked(p_values)
    order = np.argsort(p)
    ranked, m = p[order], p.size
    adjusted = np.full(m, float(np.min(m * ranked / np.arange(1, m + 1))))
    for size in range(m - 1, 1, -1):
        # The Simes p-value of so many: of the largest ones, and with one of the others instead of their smallest.
        start = m - size + 1
        least = float(np.min(size * ranked[start:] / np.arange(2, size + 1)))
        steps = np.append(np.minimum(size * ranked[:start], least), np.full(m - start, 0.0))
        steps[start:] = steps[start - 1]
        adjusted = np.maximum(adjusted, steps)
    return _in_order(np.minimum(np.maximum(adjusted, ranked), 1.0), order)


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
    p = checked(p_values)
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
        In the order given; below alpha exactly where the procedure claims (as everywhere here, a p of alpha does not).

    References
    ----------
    .. [1] Benjamini & Hochberg (1995), Journal of the Royal Statistical Society B 57, 289-300.

    Examples
    --------
    >>> benjamini_hochberg([0.01, 0.04, 0.03]).round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    p = checked(p_values)
    order = np.argsort(p)
    raised = p[order] * (p.size / np.arange(1, p.size + 1))
    steps = np.minimum(np.minimum.accumulate(raised[::-1])[::-1], 1.0)
    return _in_order(steps, order)


def benjamini_yekutieli(p_values: ArrayLike) -> Floats:
    """Adjusted p-values that keep the false discovery rate whatever the dependence.

    References
    ----------
    .. [1] Benjamini & Yekutieli (2001), Annals of Statistics 29, 1165-1188.

    Examples
    --------
    >>> benjamini_yekutieli([0.01, 0.04, 0.03]).round(4).tolist()
    [0.055, 0.0733, 0.0733]
    """
    p = checked(p_values)
    return np.minimum(benjamini_hochberg(p) * np.sum(1 / np.arange(1, p.size + 1)), 1.0)


def holm_sidak(p_values: ArrayLike) -> Floats:
    """Adjusted p-values by Holm's steps with Šidák's 1 - (1 - p)^k, for comparisons that are independent.

    References
    ----------
    .. [1] Holland & Copenhaver (1987), Biometrics 43, 417-423.

    Examples
    --------
    >>> holm_sidak([0.01, 0.04, 0.03]).round(4).tolist()
    [0.0297, 0.0591, 0.0591]
    """
    p = checked(p_values)
    order = np.argsort(p)
    with np.errstate(divide="ignore"):
        steps = np.maximum.accumulate(-np.expm1(np.arange(p.size, 0, -1) * np.log1p(-p[order])))
    return _in_order(steps, order)


class Way(NamedTuple):
    """A correction: its name, how it adjusts, what it keeps, and where it is from."""

    name: str
    adjusted: Callable[[ArrayLike], Floats]
    keeps: str
    source: str
    by_steps: bool = False  # whether it claims more than intervals of one level could


ANY, DISCOVERY = "the chance of any false claim", "the expected share of false claims among the claims"
METHODS = {
    "bonferroni": Way("Bonferroni", bonferroni, ANY, "Dunn (1961), JASA 56, 52-64"),
    "sidak": Way("Šidák", sidak, ANY, "Šidák (1967), JASA 62, 626-633"),
    "holm": Way("Holm", holm, ANY, "Holm (1979), Scandinavian Journal of Statistics 6, 65-70", by_steps=True),
    "holm-sidak": Way(
        "Holm–Šidák", holm_sidak, ANY, "Holland & Copenhaver (1987), Biometrics 43, 417-423", by_steps=True
    ),
    "hochberg": Way("Hochberg", hochberg, ANY, "Hochberg (1988), Biometrika 75, 800-802", by_steps=True),
    "hommel": Way("Hommel", hommel, ANY, "Hommel (1988), Biometrika 75, 383-386", by_steps=True),
    "benjamini-hochberg": Way(
        "Benjamini–Hochberg", benjamini_hochberg, DISCOVERY, "Benjamini & Hochberg (1995), JRSS B 57, 289-300"
    ),
    "benjamini-yekutieli": Way(
        "Benjamini–Yekutieli", benjamini_yekutieli, DISCOVERY, "Benjamini & Yekutieli (2001), Annals of Statistics 29"
    ),
}


def interval_alpha(method: str, alpha: float, size: int, claims: int) -> float:
    """Error rate of each of `size` intervals that go with a correction by which `claims` stand."""
    if method in ("sidak", "holm-sidak"):
        return float(-np.expm1(np.log1p(-alpha) / size))
    if not method.startswith("benjamini"):
        return alpha / size
    harmonic = float(np.sum(1 / np.arange(1, size + 1))) if method == "benjamini-yekutieli" else 1.0
    return alpha * max(claims, 1) / size / harmonic


def _in_order(steps: Floats, order: NDArray[np.intp]) -> Floats:
    result = np.empty_like(steps)
    result[order] = steps
    return result


def checked(p_values: ArrayLike) -> Floats:
    """One p-value or more, each between 0 and 1."""
    p = gate.finite("p_values", p_values)
    if p.ndim != 1 or p.size == 0:
        raise InputError(f"p_values must be a list of at least one p-value, got shape {p.shape}.")
    if np.any((p < 0) | (p > 1)):
        raise InputError.rule("p_values", float(p[(p < 0) | (p > 1)][0]), "between 0 and 1")
    return p
