"""The difference of two medians, or of any other quantile."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple, TypeAlias, Unpack

import numpy as np
from scipy import special

from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import binomial, gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Axis, Comparison, Group
from amber_ruler.samples import Sample, ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

Around: TypeAlias = Literal["order", "maritz-jarrett", "density"]

SE_LEVEL = 0.95  # of the order statistics whose distance gives a standard error, unless another is asked
_SOURCES = {
    "order": "Price & Bonett (2002), Journal of Statistical Computation and Simulation 72, 119-124",
    "maritz-jarrett": "Maritz & Jarrett (1978), Journal of the American Statistical Association 73, 194-196",
    "density": "Serfling (1980), Approximation Theorems of Mathematical Statistics, 2.3.3; Silverman (1986), 3.31",
}
_FROM = {
    "order": "order statistics",
    "maritz-jarrett": "beta weights of all order statistics",
    "density": "the density of the values",
}


class _Placed(NamedTuple):
    value: Floats
    se: Floats
    low: Floats
    high: Floats


@method(
    takes="two",
    examples=("travellers.csv --value minutes_to_book --by form --control current --at 0.9 --good lower",),
    single=True,
)
def quantiles(
    treatment: ValueGroup,
    control: ValueGroup,
    *,
    at: float | Sequence[float] = 0.5,
    spread: Around = "order",
    se_level: float | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Is the median (or another quantile) of treatment different from that of control, and by how much?

    Parameters
    ----------
    treatment, control : array_like or Sample
        The values of the two groups.
    at : float or sequence of float, between 0 and 1
        Which quantile: 0.5 for the median, 0.95 for the time that 95 % stay below. Several are asked side by side, each
        at alpha: none is corrected for their number.
    spread : "order", "maritz-jarrett" or "density"
        Where the standard error of each quantile comes from: the distance of the order statistics that are its exact
        binomial limits; the spread of the order statistic ⌊at n + ½⌋ as a beta distribution weights all of them; or
        the density of the values there.
    se_level : float, between 0.5 and 1, optional
        Level of the order statistics whose distance gives the standard error, with spread "order": 0.95 unless given,
        whatever alpha is, so that p does not depend on alpha.

    Returns
    -------
    Comparison
        Difference of the quantiles with interval and z. Each group's own exact interval, from order statistics and the
        binomial, stands beside its quantile. Of several quantiles every number is an array, along an axis.

    Raises
    ------
    DataError
        If a group is too small for that quantile: no order statistics lie around it.

    References
    ----------
    .. [1] Price & Bonett (2002), Journal of Statistical Computation and Simulation 72, 119-124.
    .. [2] Hyndman & Fan (1996), The American Statistician 50, 361-365, type 7, for the quantile itself.
    .. [3] Maritz & Jarrett (1978), Journal of the American Statistical Association 73, 194-196.
    .. [4] Serfling (1980), Approximation Theorems of Mathematical Statistics, 2.3.3, for the density form.
    .. [5] Silverman (1986), Density Estimation, equation 3.31, for the bandwidth.

    Examples
    --------
    >>> import numpy as np
    >>> r = quantiles(np.arange(60.0) + 12, np.arange(60.0))
    >>> r.estimate, round(r.p_value, 4)
    (12.0, 0.0276)
    """
    ask = shared.question(asked)
    gate.choice("spread", spread, _SOURCES)
    shared.unused(f"{spread} form of the", {"se_level": (se_level, spread == "order")})
    if se_level is not None:
        gate.between("se_level", gate.single("se_level", se_level), 0.5, 1)
    apart = 1 - (SE_LEVEL if se_level is None else se_level)
    shares = gate.between("at", at, 0, 1)
    if shares.ndim > 1 or shares.size == 0:
        raise InputError.rule("at", at, "a number or a list of numbers")
    one, two = groups.two(treatment, control, "values")
    places = [_places(g, shares, (ask.alpha, apart), spread) for g in (one, two)]
    difference, se = places[0].value - places[1].value, np.hypot(places[0].se, places[1].se)
    if gate.some(se == 0):
        which = _called(float(np.ravel(shares)[np.argmin(se)]))
        raise DataError(
            f"The values around the {which} are all equal in both groups: its standard error is 0. Take a quantile"
            " where they differ; where most are 0, compare the share above 0 and the mean of those (adjust.two_part)."
        )
    result = shared.symmetric_test(ask, difference, se, None, gate.finite("null", ask.null))
    name = groups.named(ask.metric, "value", one, two)
    each = [_called(float(share)) for share in np.ravel(shares)]
    called = "quantiles" if shares.ndim else each[0]
    return Comparison(
        title=f"{name}: {called} of {one.label} − {two.label}",
        method=f"difference of two quantiles, standard errors from {_FROM[spread]}",
        source=_SOURCES[spread],
        metric=f"{called} of {name}",
        treatment=one.label,
        control=two.label,
        estimate=scalar_or_array(difference),
        se=scalar_or_array(se),
        interval=result.interval,
        test=result.test,
        groups=tuple(
            Group(g.label, len(g), value, se=error, more={"low": low, "high": high})
            for g, p in zip((one, two), places, strict=True)
            for value, error, low, high in [map(scalar_or_array, p)]
        ),
        quantity="quantile",
        axis=Axis("quantile", tuple(each)) if shares.ndim else None,
        margin=ask.margin,
        good=ask.good,
        checks=(*checks.few(np.asarray(len(one)), np.asarray(len(two))), *checks.missing(one, two)),
    )


def _called(share: float) -> str:
    return "median" if share == 0.5 else f"{100 * share:g}% quantile"


def _places(group: Sample, shares: Floats, alphas: tuple[float, float], spread: str) -> _Placed:
    """The quantiles of a group, in the shape they were asked in."""
    values = np.sort(group.values)
    each = [_place(group.label, values, float(share), alphas, spread) for share in np.ravel(shares)]
    return _Placed(*(np.reshape(column, shares.shape) for column in zip(*each, strict=True)))


def _place(
    label: str, values: Floats, share: float, alphas: tuple[float, float], spread: str
) -> tuple[float, float, float, float]:
    """A quantile, its standard error, and its limits; `alphas` are those of the limits and of the standard error."""
    value, (low, high, _) = float(np.quantile(values, share)), _limits(values, share, alphas[0])
    if spread == "order":
        below, above, level = _limits(values, share, alphas[1])
        if not np.isfinite(above - below):
            needed = int(np.ceil(np.log(alphas[1] / 2) / np.log(max(share, 1 - share))))
            raise DataError(
                f"{label!r} has {values.size:,} values, too few for the standard error of its {100 * share:g}% quantile"
                f" from order statistics at level {1 - alphas[1]:g}: about {needed:,} are needed, or a lower se_level."
            )
        se = (above - below) / (2 * float(normal.upper_quantile((1 - level) / 2)))
    elif spread == "maritz-jarrett":
        se = _beta_weighted(values, share)
    else:
        se = float(np.sqrt(share * (1 - share) / values.size) / density(values, value))
    return value, se, low, high


def _limits(values: Floats, share: float, alpha: float) -> tuple[float, float, float]:
    """Order statistics that enclose a quantile, and their exact level; no limit where there is none so far out."""
    lower, upper, level = _around(values.size, share, alpha)
    low = float(values[lower - 1]) if lower >= 1 else -np.inf
    high = float(values[upper - 1]) if upper <= values.size else np.inf
    return low, high, level


def _around(n: int, share: float, alpha: float) -> tuple[int, int, float]:
    """Order statistics (from 1) between which the quantile lies at no less than the level, and that level."""
    k = np.arange(n + 1.0)
    at_most = 1 - binomial.at_least(k + 1, np.asarray(float(n)), np.asarray(share))
    # P(X_(l) > quantile) = P(count <= l - 1), and P(X_(u) < quantile) = P(count >= u).
    # A value is left out where its p is below alpha; at alpha itself it stays.
    lower = int(np.searchsorted(at_most, alpha / 2, side="left"))
    upper = int(np.searchsorted(at_most, 1 - alpha / 2, side="right")) + 1
    below = float(at_most[lower - 1]) if lower >= 1 else 0.0
    above = float(1 - at_most[upper - 1]) if upper <= n else 0.0
    return lower, upper, 1 - below - above


def _beta_weighted(values: Floats, share: float) -> float:
    """The standard deviation of an order statistic, with the sample for the distribution."""
    n = values.size
    m = min(max(int(np.floor(share * n + 0.5)), 1), n)
    steps = special.betainc(m, n - m + 1, np.arange(n + 1) / n)
    weights = np.diff(steps)
    away = values - values[m - 1]
    mean = float(weights @ away)
    return float(np.sqrt(max(float(weights @ (away * away)) - mean * mean, 0.0)))


def density(values: Floats, at: float) -> float:
    """Normal kernel, with a bandwidth from the spread that outliers don't stretch."""
    n = values.size
    quarters = np.quantile(values, (0.25, 0.75))
    wide = min(float(np.std(values, ddof=1)), float(quarters[1] - quarters[0]) / 1.34 or np.inf)
    if wide == 0:
        raise DataError("Half of the values or more are equal: there is no density at the quantile.")
    width = 0.9 * wide * n**-0.2
    return float(np.mean(normal.pdf((values - at) / width)) / width)
