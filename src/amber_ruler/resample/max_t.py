"""Several metrics at once, by how the units were dealt out: adjusted p-values that use how the metrics go together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np

from amber_ruler.effects import Alternative
from amber_ruler.effects import tails as tails_of
from amber_ruler.errors import DataError, InputError
from amber_ruler.multiplicity import Corrected
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.resample.drawing import Progress, seed_of
from amber_ruler.resample.permutation import Pool, deal
from amber_ruler.resample.units import Units, read
from amber_ruler.results import Check
from amber_ruler.samples.gate import check_labels

_TIED = 1e-12


def max_t(
    treatment: Any,
    control: Any,
    *,
    values: Sequence[str],
    statistic: Literal["studentised", "mean"] = "studentised",
    strata: str | None = None,
    replicates: int | Literal["all"] | None = None,
    workers: int | None = None,
    progress: Progress | None = None,
    alpha: float = 0.05,
    alternative: Alternative = "two-sided",
    seed: int | np.random.Generator | None = None,
) -> Corrected:
    """Which of several metrics differ, with the chance of any false claim kept by dealing the units out again?

    Parameters
    ----------
    treatment, control : mapping of column to values, Records or DataFrame
        The rows of each variant, with all metrics; rows that lack one are left out, and counted.
    values : sequence of str
        The metrics.
    statistic : "studentised" or "mean"
        The difference of means over its standard error with unequal variances, which puts metrics of any unit on one
        scale; or the difference itself, for metrics of one unit.
    strata : str, optional
        Column with strata that the units were dealt out within.
    replicates : int or "all", optional
        How many assignments are drawn; all, if there are at most 2 million. Unless given all where these are at most
        20,000, else 10,000.
    workers, progress
        As for `bootstrap`.
    alpha : float, between 0 and 0.5
        Error rate over all metrics.
    alternative : "two-sided", "greater" or "less"
        Direction of the tests.
    seed : int or Generator, optional
        What replays the draws.

    Returns
    -------
    Corrected
        Of each metric the p-value of its own permutation test, and the one adjusted by steps. Drawn ones are
        (b + 1) / (m + 1).

    Raises
    ------
    DataError
        If a column is not there, or a metric never varies.

    Notes
    -----
    The step-down procedure: the metric with the largest statistic is held against the largest of all metrics in each
    assignment, the next against the largest of the rest, and so on. It keeps the chance of any false claim where units
    could have been dealt out otherwise, and loses less than Holm's the more the metrics go together.

    References
    ----------
    .. [1] Westfall & Young (1993), Resampling-Based Multiple Testing, algorithm 4.1.

    Examples
    --------
    >>> one = {"fare": [12.0, 15.5, 19.0, 11.0], "trips": [3.0, 4.0, 5.0, 3.0]}
    >>> two = {"fare": [9.0, 8.5, 10.0], "trips": [3.0, 2.0, 4.0]}
    >>> [round(float(p), 4) for p in max_t(one, two, values=["fare", "trips"]).adjusted]
    [0.0857, 0.4857]
    """
    tails_of(alpha, alternative)
    gate.choice("statistic", statistic, ("studentised", "mean"))
    if not isinstance(values, (list, tuple)) or not values or len(set(map(str, values))) < len(values):
        raise InputError.rule("values", values, "the names of different columns")
    arms = tuple(
        read(data, role, needed=values, strata=strata)
        for data, role in ((treatment, "treatment"), (control, "control"))
    )
    check_labels(arms[0].label, arms[1].label)
    seeded = seed_of(seed)
    m, totals = len(values), _totals(arms, values)
    flat = [name for k, name in enumerate(values) if np.ptp(totals[:, 1 + k]) == 0]
    if flat:
        raise DataError(f"All values of {flat[0]!r} are equal: there is nothing to deal out.")
    pool = Pool(arms, totals, Pool.strata_of(arms, [u.count for u in arms]), _first(arms), 0.0, paired=False)
    dealt = deal(pool, "mean", replicates, seeded, workers, progress)
    own = _sided(_statistics(totals[: arms[0].count].sum(axis=0)[None], totals, m, statistic), alternative)[0]
    each = _sided(_statistics(dealt.sums, totals, m, statistic), alternative)
    more = 0 if dealt.every else 1
    count = len(each) + more
    # Rounding makes equal statistics differ by a little of the size of what they are made of.
    size = np.sqrt(np.mean(totals[:, m + 1 :], axis=0)) if statistic == "mean" else np.ones(m)
    least = own - _TIED * np.maximum(size, np.abs(own))
    raw = (np.sum(each >= least, axis=0) + more) / count
    order = np.argsort(-own, kind="stable")
    adjusted = np.empty(m)
    highest = np.full(len(each), -np.inf)
    for k in order[::-1]:
        highest = np.maximum(highest, each[:, k])
        adjusted[k] = (np.sum(highest >= least[k]) + more) / count
    adjusted[order] = np.maximum.accumulate(adjusted[order])
    left = sum(u.left_out for u in arms)
    checks = []
    if left:
        checks.append(Check("missing values", f"{left:,} rows lack a metric and are left out", severity="note"))
    if dealt.stopped:
        finding = f"interrupted after {len(each):,} assignments: these are the answer"
        checks.append(Check("interrupted", finding, "Ask again for all of them.", "warning"))
    way = "every assignment" if dealt.every else f"{len(each):,} assignments drawn"
    return Corrected(
        title=f"{m:,} metrics: {arms[0].label} − {arms[1].label}, dealt out again",
        method=f"max-T by steps, {way}",
        source="Westfall & Young (1993), Resampling-Based Multiple Testing",
        labels=tuple(map(str, values)),
        p_values=raw,
        adjusted=adjusted,
        alpha=alpha,
        keeps="the chance of any false claim",
        checks=tuple(checks),
        seed=None if dealt.every else seeded,
    )


def _sided(statistics: Floats, alternative: str) -> Floats:
    """How far each is towards the side that is looked at."""
    if alternative == "two-sided":
        return np.abs(statistics)
    return statistics if alternative == "greater" else -statistics


def _first(arms: tuple[Units, ...]) -> Any:
    return np.arange(sum(u.count for u in arms)) < arms[0].count


def _totals(arms: tuple[Units, ...], values: Sequence[str]) -> Floats:
    """Of each unit 1, its values about their means, and the squares of these."""
    columns = np.column_stack([np.concatenate([u.numbers(name) for u in arms]) for name in values])
    x = columns - columns.mean(axis=0)
    return np.column_stack([np.ones(len(x)), x, x * x])


def _statistics(sums: Floats, totals: Floats, m: int, statistic: str) -> Floats:
    """The statistic of each metric under every assignment, from the sums over the treated."""
    whole = totals.sum(axis=0)
    n1, n0 = sums[:, [0]], whole[0] - sums[:, [0]]
    if np.any((n1 < 2) | (n0 < 2)):
        raise DataError("Each variant needs at least 2 units.")
    one, two = sums[:, 1 : m + 1] / n1, (whole[1 : m + 1] - sums[:, 1 : m + 1]) / n0
    if statistic == "mean":
        return np.asarray(one - two)
    v1 = np.maximum(sums[:, m + 1 :] / n1 - one**2, 0.0) / (n1 - 1)
    v0 = np.maximum((whole[m + 1 :] - sums[:, m + 1 :]) / n0 - two**2, 0.0) / (n0 - 1)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(one == two, 0.0, (one - two) / np.sqrt(v1 + v0))
