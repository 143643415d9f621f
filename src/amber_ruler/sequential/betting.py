"""The mean of a bounded metric at every moment, by betting against every value it might have."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Axis, Estimate
from amber_ruler.samples import Sample
from amber_ruler.samples import gate as groups
from amber_ruler.sequential.anytime import result_of

_SOURCE = "Waudby-Smith & Ramdas (2024), Journal of the Royal Statistical Society B 86, 1-27"
_MOST_BET = 0.5
_STEPS = 50


def anytime_mean(
    values: ArrayLike | Sample,
    *,
    bounds: tuple[float, float] = (0.0, 1.0),
    at: Sequence[int] | None = None,
    alpha: float = 0.05,
    null: float | None = None,
    metric: str = "",
) -> Estimate:
    """What is the mean of a bounded metric, at every moment, whatever its distribution?

    Parameters
    ----------
    values : array_like or Sample
        One value a unit, in the order in which they came.
    bounds : pair of float
        The smallest and the largest value that there can be.
    at : sequence of int, optional
        Units that had come in at each moment that is told; about 60 of them unless given, evenly on a log scale.
    alpha : float, between 0 and 0.5
        Chance that any of all intervals leaves out the true mean.
    null : float, optional
        The mean tested; the middle of the bounds unless given.
    metric : str
        What was measured.

    Returns
    -------
    Estimate
        Along the moments, as of `anytime`: the capital of a bet against the null is its e-value.

    Raises
    ------
    InputError
        If a value lies outside the bounds.

    Notes
    -----
    On the scale from 0 to 1, two gamblers with half of the capital each bet λ_t for and against a mean above m: λ_t =
    √(2 ln(2/α) / (σ²_(t-1) t ln(t + 1))), at most ½/m and ½/(1 - m), where σ² is what was seen before, begun at ¼. A
    mean is left out once either of them has 1/α; every unit counts, also between the moments told.

    References
    ----------
    .. [1] Waudby-Smith & Ramdas (2024), Journal of the Royal Statistical Society B 86, 1-27.

    Examples
    --------
    >>> import numpy as np
    >>> x = np.random.default_rng(1).beta(2, 5, 2000)
    >>> r = anytime_mean(x, at=[100, 2000])
    >>> r.interval.low.round(3).tolist(), r.interval.high.round(3).tolist()
    ([0.238, 0.269], [0.314, 0.293])
    """
    alpha = float(gate.between("alpha", gate.single("alpha", alpha), 0, 0.5))
    sample = groups.one(values, "values", least=1)
    bottom, top = (float(v) for v in gate.finite("bounds", list(bounds)))
    if not bottom < top:
        raise InputError.rule("bounds", bounds, "the smallest and then the largest value that there can be")
    raw = np.asarray(sample.values, dtype=np.float64)
    if raw.min() < bottom or raw.max() > top:
        raise InputError(
            f"Values run from {raw.min():g} to {raw.max():g}, outside the bounds {bottom:g} and {top:g}.", name="bounds"
        )
    x = (raw - bottom) / (top - bottom)
    tested = 0.5 * (bottom + top) if null is None else float(gate.between("null", null, bottom, top))
    moments = _moments(at, x.size)
    bets = _bets(x, alpha)
    low = np.array([_limit(x[:n], bets[:n], alpha) for n in moments])
    high = np.array([1 - _limit(1 - x[:n], bets[:n], alpha) for n in moments])
    m = (tested - bottom) / (top - bottom)
    best = np.maximum.accumulate(_log_capital(x, bets, m))[moments - 1]
    mean = np.cumsum(x)[moments - 1] / moments
    about = {
        "title": f"{metric or sample.metric or 'mean'}: at any moment",
        "method": f"betting, bounds {bottom:g} and {top:g}, every moment",
        "source": _SOURCE,
        "metric": metric or sample.metric,
        "label": sample.label,
        "axis": Axis("units", tuple(str(n) for n in moments)),
    }
    width = top - bottom
    found: Estimate = result_of(
        Estimate,
        about,
        estimate=bottom + width * mean,
        now=(bottom + width * low, bottom + width * high),
        p=np.minimum(1.0, np.exp(np.minimum(-best, 0.0))),
        log_e=best,
        wider=None,
        alpha=alpha,
        null=tested,
        alternative="two-sided",
    )
    return found


def _moments(at: Sequence[int] | None, size: int) -> np.ndarray[tuple[int, ...], np.dtype[np.intp]]:
    if at is None:
        return np.unique(np.round(np.geomspace(1, size, 60)).astype(np.intp))
    found = gate.whole("at", list(at), 1)
    if found.ndim != 1 or np.any(np.diff(found) <= 0) or found[-1] > size:
        raise InputError.rule("at", list(at), f"numbers of units that rise, up to {size:,}")
    return found.astype(np.intp)


def _bets(x: Floats, alpha: float) -> Floats:
    """What is bet on each unit, before it is seen."""
    t = np.arange(1, x.size + 1)
    mean = (0.5 + np.cumsum(x)) / (t + 1)
    variance = (0.25 + np.cumsum((x - mean) ** 2)) / (t + 1)
    before = np.append(0.25, variance[:-1])
    return np.asarray(np.sqrt(2 * math.log(2 / alpha) / (before * t * np.log(t + 1))))


def _log_above(x: Floats, bets: Floats, m: float) -> Floats:
    """Log of the capital of betting that the mean is above m, unit by unit."""
    return np.cumsum(np.log1p(np.minimum(bets, _MOST_BET / m if m > 0 else np.inf) * (x - m)))


def _log_capital(x: Floats, bets: Floats, m: float) -> Floats:
    """Log of the larger half of the capital."""
    return np.asarray(np.maximum(_log_above(x, bets, m), _log_above(1 - x, bets, 1 - m)) - math.log(2))


def _limit(x: Floats, bets: Floats, alpha: float) -> float:
    """The largest mean that betting for more has left out by now: its capital falls with the mean."""
    goal = math.log(2 / alpha)

    def out(m: float) -> bool:
        return bool(_log_above(x, bets, m).max() >= goal)

    low, high = 0.0, 1.0
    if not out(1e-12):
        return 0.0
    for _ in range(_STEPS):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if out(middle) else (low, middle)
    return low
