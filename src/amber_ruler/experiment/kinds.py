"""What each kind of metric is: the method that compares it, and what else can be asked of it. A row a kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from amber_ruler.moments import Moments
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import inverse


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of metric.

    Attributes
    ----------
    plural : str
        What such metrics are called.
    plain : str
        The method that compares two variants as they are, by room and name.
    takes : frozenset of str
        Keys of a metric that it obeys, beside those that every kind does.
    adjusted : bool
        Whether `adjust.sharpen` serves it: with covariates, a cap, strata, or as a ratio.
    clustered : str
        The method for variants that were assigned by cluster; none where it is empty.
    values : bool
        Whether it needs the values themselves, and not moments.
    weighed : str
        The method that weighs the plain comparison by a prior; none where it is empty.
    looks : bool
        Whether it can be tested before the end: its estimates have independent increments.
    design : callable, or None
        The design that plans it: of the control's moments, the metric's column and its denominator, and settings.
    """

    plural: str
    plain: str
    takes: frozenset[str]
    adjusted: bool = False
    clustered: str = ""
    values: bool = False
    weighed: str = ""
    looks: bool = True
    design: Callable[..., Any] | None = None


def _two_means(base: Moments, column: str, _: str | None, **settings: Any) -> Any:
    from amber_ruler.plan import TwoMeans

    return TwoMeans(sd=base.sd(column), baseline=base.mean(column), **settings)


def _two_proportions(base: Moments, column: str, _: str | None, **settings: Any) -> Any:
    from amber_ruler.plan import TwoProportions

    return TwoProportions(baseline=base.mean(column), **settings)


def _two_rates(base: Moments, column: str, _: str | None, **settings: Any) -> Any:
    from amber_ruler.plan import TwoRates

    return TwoRates(baseline=base.mean(column), **settings)


def _ratio(base: Moments, column: str, per: str | None, **settings: Any) -> Any:
    from amber_ruler.plan import RatioMetric

    below = str(per)
    covariance = base.correlation(column, below) * base.sd(column) * base.sd(below)
    return RatioMetric(
        numerator_mean=base.mean(column),
        numerator_variance=base.sd(column) ** 2,
        denominator_mean=base.mean(below),
        denominator_variance=base.sd(below) ** 2,
        covariance=covariance,
        **settings,
    )


def explained(base: Moments, column: str, per: str | None, covariates: Sequence[tuple[str, ...]]) -> float:
    """Multiple correlation of a metric with covariates, each a column or a ratio of two; a ratio is made linear."""
    made = [_linear(base, part) for part in ((column,) if per is None else (column, per), *covariates)]
    squares = np.array(made) @ np.asarray(base.comoments) @ np.array(made).T
    inner, _ = inverse(squares[1:, 1:], [" per ".join(part) for part in covariates])
    return float(np.sqrt(np.clip(squares[0, 1:] @ inner @ squares[0, 1:] / squares[0, 0], 0, 1)))


def _linear(base: Moments, part: tuple[str, ...]) -> Floats:
    """A column, or a ratio of two by its first-order expansion, as weights of all columns."""
    weights = np.zeros(len(base.columns))
    if len(part) == 1:
        weights[base.columns.index(part[0])] = 1.0
        return weights
    above, below = (base.columns.index(name) for name in part)
    size = base.mean(part[1])
    weights[above] += 1 / size
    weights[below] -= base.mean(part[0]) / size**2
    return weights


_OF_A_MEAN = frozenset({"margin", "margin_lift", "covariates", "cap", "effect", "lift"})

KINDS = {
    "mean": Kind(
        "means", "measure.means", _OF_A_MEAN, adjusted=True, clustered="adjust.clusters", weighed="bayes.means",
        design=_two_means,
    ),
    "share": Kind(
        "proportions", "measure.proportions", _OF_A_MEAN - {"cap"}, adjusted=True, clustered="adjust.clusters",
        weighed="bayes.proportions", design=_two_proportions,
    ),
    "ratio": Kind(
        "ratios", "adjust.sharpen", _OF_A_MEAN | {"per"}, adjusted=True, clustered="adjust.sharpen", design=_ratio
    ),
    "rate": Kind(
        "rates", "measure.rates", frozenset({"margin", "margin_lift", "effect", "lift"}), design=_two_rates
    ),
    "quantile": Kind(
        "quantiles", "measure.quantiles", frozenset({"at", "margin"}), clustered="adjust.quantiles", values=True,
        looks=False,
    ),
    "two-part": Kind("two-part comparisons", "adjust.two_part", frozenset(), values=True, looks=False),
}  # fmt: skip
OWN = frozenset().union(*(kind.takes for kind in KINDS.values()))  # keys that not every kind obeys


def those(what: str) -> str:
    """The kinds that obey a key, or that have something, listed."""
    fits = [k.plural for k in KINDS.values() if what in k.takes or getattr(k, what, None)]
    *first, last = fits
    return f"{', '.join(first)} and {last}" if first else last
