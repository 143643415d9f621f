"""The built-in statistics: functions of sums over rows, so that a resample is a sum, and quantiles."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Literal, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.resample.units import VALUE, Units

Name: TypeAlias = Literal[
    "mean", "lift", "ratio", "ratio lift", "quantile", "regression", "adjusted", "adjusted lift", "split"
]
Origin: TypeAlias = dict[str, float]  # a value near each column's mean, which is taken off before it is squared
Sums: TypeAlias = Floats  # (..., 1 + m): the number of rows, then sums of features


@dataclass(frozen=True, slots=True)
class Statistic:
    """A function of sums over the rows of one sample, or of two.

    Attributes
    ----------
    title : str
        What it is, in words.
    needed : tuple of str
        The columns that a row must have.
    features : callable
        From a sample's rows, and the origins of the columns, to m columns (n,).
    value : callable
        From the origins and the sums of one sample, or of both, to the statistic (...,) or (..., k).
    error : callable, optional
        Its standard error by a formula, from the same sums.
    names : tuple of str
        What the k numbers of a vector are called.
    quantity : str
        What kind of quantity it is.
    at : float or None
        Of a quantile, which; it is no function of sums.
    short : int or None
        How many of the features the value needs, where the error needs more.
    """

    title: str
    needed: tuple[str, ...]
    features: Callable[[Units, Origin], list[Floats]]
    value: Callable[..., Floats]
    error: Callable[..., Floats] | None = None
    names: tuple[str, ...] = ()
    quantity: str = "statistic"
    at: float | None = None
    short: int | None = None


def statistic(
    name: str, *, two: bool, value: str | None, per: str | None, covariate: Sequence[str], at: float
) -> Statistic:
    """A built-in statistic by its name, with the columns that it is asked of."""
    gate.choice("statistic", name, _MADE)
    column = value or VALUE
    if name in ("ratio", "ratio lift", "split") and per is None:
        raise InputError(f"statistic={name!r} is of two columns: say value= and per=.")
    if name not in ("ratio", "ratio lift", "split") and per is not None:
        raise InputError(f"per= is of a ratio or a split, and this is {name!r}: leave it out.")
    if name in ("regression", "adjusted", "adjusted lift") and not covariate:
        raise InputError(f"statistic={name!r} needs covariate=.")
    if covariate and name not in ("regression", "adjusted", "adjusted lift"):
        raise InputError(f"covariate= is of 'regression', 'adjusted' and 'adjusted lift', and this is {name!r}.")
    if not two and name in ("lift", "ratio lift", "adjusted", "adjusted lift"):
        raise InputError(f"statistic={name!r} compares two samples, and one was given.")
    if two and name in ("regression", "split"):
        raise InputError(f"statistic={name!r} is of one sample, and two were given.")
    return _MADE[name](column, per or "", tuple(covariate), at)


def _mean(column: str, per: str, covariate: tuple[str, ...], at: float) -> Statistic:
    def features(units: Units, origin: Origin) -> list[Floats]:
        away = units.numbers(column) - origin[column]
        return [away, away * away]

    def mean(s: Sums) -> Floats:
        return s[..., 1] / s[..., 0]

    def variance(s: Sums) -> Floats:
        spread = np.maximum(s[..., 2] - s[..., 1] ** 2 / s[..., 0], 0)
        return spread / (s[..., 0] - 1) / s[..., 0]

    def value(origin: Origin, s: Sums, s0: Sums | None = None) -> Floats:
        return mean(s) + origin[column] if s0 is None else mean(s) - mean(s0)

    def error(s: Sums, s0: Sums | None = None) -> Floats:
        return np.sqrt(variance(s) + (0.0 if s0 is None else variance(s0)))

    return Statistic("mean", (column,), features, value, error, quantity="mean", short=1)


def _lift(column: str, per: str, covariate: tuple[str, ...], at: float) -> Statistic:
    def features(units: Units, origin: Origin) -> list[Floats]:
        values = units.numbers(column)
        return [values, values * values]

    def value(origin: Origin, s: Sums, s0: Sums) -> Floats:
        return (s[..., 1] / s[..., 0]) / (s0[..., 1] / s0[..., 0]) - 1

    def error(s: Sums, s0: Sums) -> Floats:
        v, v0 = (
            np.maximum(part[..., 2] - part[..., 1] ** 2 / part[..., 0], 0) / (part[..., 0] - 1) / part[..., 0]
            for part in (s, s0)
        )
        base = s0[..., 1] / s0[..., 0]
        return np.sqrt(v + (value({}, s, s0) + 1) ** 2 * v0) / np.abs(base)

    return Statistic("lift", (column,), features, value, error, quantity="lift", short=1)


def _ratio(column: str, per: str, covariate: tuple[str, ...], at: float, *, lift: bool = False) -> Statistic:
    def features(units: Units, origin: Origin) -> list[Floats]:
        top, below = units.numbers(column), units.numbers(per)
        return [top, below, top * top, top * below, below * below]

    def ratio(s: Sums) -> Floats:
        return s[..., 1] / s[..., 2]

    def variance(s: Sums) -> Floats:
        n, r = s[..., 0], ratio(s)
        squares = s[..., 3] - 2 * r * s[..., 4] + r * r * s[..., 5]  # of residuals, whose mean is 0
        return np.maximum(squares, 0) / (n - 1) * n / s[..., 2] ** 2

    def value(origin: Origin, s: Sums, s0: Sums | None = None) -> Floats:
        if s0 is None:
            return ratio(s)
        return ratio(s) / ratio(s0) - 1 if lift else ratio(s) - ratio(s0)

    def error(s: Sums, s0: Sums | None = None) -> Floats:
        if s0 is None:
            return np.sqrt(variance(s))
        if lift:
            return np.sqrt(variance(s) + (ratio(s) / ratio(s0)) ** 2 * variance(s0)) / np.abs(ratio(s0))
        return np.sqrt(variance(s) + variance(s0))

    title = f"{'lift of the ' if lift else ''}ratio of {column} to {per}"
    return Statistic(title, (column, per), features, value, error, quantity="lift" if lift else "ratio", short=2)


def _products(units: Units, columns: Sequence[str], origin: Origin) -> list[Floats]:
    """Each column, then the products of each two, from the origins."""
    away = [units.numbers(c) - origin[c] for c in columns]
    return [*away, *(away[i] * away[j] for i in range(len(away)) for j in range(i, len(away)))]


def _centred(s: Sums, k: int) -> tuple[Floats, Floats]:
    """Means from the origins, (..., k), and co-moments around them, (..., k, k)."""
    n = s[..., 0]
    means = s[..., 1 : 1 + k] / n[..., None]
    products = np.zeros((*s.shape[:-1], k, k))
    place = 1 + k
    for i in range(k):
        for j in range(i, k):
            products[..., i, j] = products[..., j, i] = s[..., place] - n * means[..., i] * means[..., j]
            place += 1
    return means, products


def _solved(products: Floats, sides: Floats) -> Floats:
    """Slopes, NaN where a resample has covariates that are collinear."""
    scale = np.sqrt(np.maximum(np.diagonal(products, axis1=-2, axis2=-1), 0))
    safe = np.where(scale > 0, scale, 1.0)
    alike = products / (safe[..., :, None] * safe[..., None, :])
    # A covariate that never varies, or says what others say, leaves a table without an inverse.
    bad = np.any(scale <= 0, axis=-1) | (np.abs(np.linalg.det(alike)) < 1e-12)
    alike = np.where(bad[..., None, None], np.eye(products.shape[-1]), alike)
    found = np.linalg.solve(alike, (sides / safe)[..., None])[..., 0] / safe
    return np.where(bad[..., None], np.nan, found)


def _regression(column: str, per: str, covariate: tuple[str, ...], at: float) -> Statistic:
    columns = (column, *covariate)

    def value(origin: Origin, s: Sums, s0: Sums | None = None) -> Floats:
        means, products = _centred(s, len(columns))
        slopes = _solved(products[..., 1:, 1:], products[..., 1:, 0])
        whole = means + np.array([origin[c] for c in columns])
        constant = whole[..., 0] - np.sum(slopes * whole[..., 1:], axis=-1)
        return np.concatenate([constant[..., None], slopes], axis=-1)

    return Statistic(
        f"regression of {column}", columns, lambda units, origin: _products(units, columns, origin), value,
        names=("constant", *covariate), quantity="coefficient",
    )  # fmt: skip


def _adjusted(column: str, per: str, covariate: tuple[str, ...], at: float, *, lift: bool = False) -> Statistic:
    columns = (column, *covariate)

    def value(origin: Origin, s: Sums, s0: Sums) -> Floats:
        (m1, p1), (m0, p0) = _centred(s, len(columns)), _centred(s0, len(columns))
        slopes = _solved((p1 + p0)[..., 1:, 1:], (p1 + p0)[..., 1:, 0])
        n1, n0 = s[..., :1], s0[..., :1]
        middle = (n1 * m1 + n0 * m0)[..., 1:] / (n1 + n0)
        one, two = (m[..., 0] - np.sum(slopes * (m[..., 1:] - middle), axis=-1) for m in (m1, m0))
        base = origin[column]
        return np.asarray((one + base) / (two + base) - 1 if lift else one - two)

    return Statistic(
        f"{'lift' if lift else 'difference'} of {column}, adjusted for {', '.join(covariate)}", columns,
        lambda units, origin: _products(units, columns, origin), value, quantity="lift" if lift else "adjusted mean",
    )  # fmt: skip


def _split(column: str, per: str, covariate: tuple[str, ...], at: float) -> Statistic:
    columns = (column, per)

    def value(origin: Origin, s: Sums, s0: Sums | None = None) -> Floats:
        _, p = _centred(s, 2)
        below = p[..., 0, 0] + p[..., 1, 1] - 2 * p[..., 0, 1]
        with np.errstate(divide="ignore", invalid="ignore"):
            return (p[..., 1, 1] - p[..., 0, 1]) / below

    return Statistic(
        f"share of {column} that makes it and {per} vary least together", columns,
        lambda units, origin: _products(units, columns, origin), value, quantity="split",
    )  # fmt: skip


def _quantile(column: str, per: str, covariate: tuple[str, ...], at: float) -> Statistic:
    gate.between("at", at, 0, 1)

    def of_sums(*_: Any) -> Any:
        raise NotImplementedError  # it is drawn by its order statistics

    return Statistic(f"{100 * at:g}% quantile", (column,), of_sums, of_sums, quantity="quantile", at=at)


_MADE: dict[str, Callable[[str, str, tuple[str, ...], float], Statistic]] = {
    "mean": _mean,
    "lift": _lift,
    "ratio": _ratio,
    "ratio lift": lambda c, p, x, at: _ratio(c, p, x, at, lift=True),
    "quantile": _quantile,
    "regression": _regression,
    "adjusted": _adjusted,
    "adjusted lift": lambda c, p, x, at: _adjusted(c, p, x, at, lift=True),
    "split": _split,
}
NAMES = tuple(_MADE)
