"""Comparisons corrected for their number, and the intervals that go with the correction."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, TypeVar, overload

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import InputError
from amber_ruler.multiplicity.corrected import Corrected, corrected, labelled, named_families
from amber_ruler.multiplicity.p_values import DISCOVERY, METHODS, Method, checked
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Correction, Family, Interval, Measurement

M = TypeVar("M", bound=Measurement)


@overload
def correct(
    comparisons: Family | Mapping[str, Measurement],
    *,
    method: Method = ...,
    alpha: float = ...,
    families: Mapping[str, str] | None = ...,
) -> Family: ...
@overload
def correct(
    comparisons: M, *, method: Method = ..., alpha: float = ..., families: Mapping[str, str] | None = ...
) -> M: ...
@overload
def correct(
    comparisons: Mapping[str, float] | ArrayLike,
    *,
    method: Method = ...,
    alpha: float = ...,
    families: Mapping[str, str] | None = ...,
) -> Corrected: ...
def correct(
    comparisons: Any,
    *,
    method: Method = "holm",
    alpha: float = 0.05,
    families: Mapping[str, str] | None = None,
) -> Any:
    """Which of many comparisons stand when their number is taken into account?

    Parameters
    ----------
    comparisons : Family, mapping of label to result, Comparison of arrays, mapping of label to p, or array_like of p
        All of them. Results must have a test, and be such that they can be asked again.
    method : str
        "holm", "bonferroni", "sidak", "holm-sidak", "hochberg", "hommel", "benjamini-hochberg" or
        "benjamini-yekutieli". All but the last two keep the chance of any false claim: Holm and Bonferroni whatever
        the dependence, the others where the comparisons are independent or depend positively. The last two keep the
        expected share of false claims among the claims: Benjamini-Yekutieli whatever the dependence.
    alpha : float
        Error rate of each family.
    families : mapping of label to family, optional
        Such as "primary", "secondary", "guardrail", "segments": each family is corrected by itself.

    Returns
    -------
    Family, Comparison or Corrected
        Of results the same results, each with the interval that goes with the correction, and adjusted p, method and
        level in its `correction`. Of plain p-values a Corrected.

    Notes
    -----
    A comparison stands where its adjusted p is below alpha. Each is asked again with alpha / m for Bonferroni and what
    improves on it, 1 - (1 - alpha)^(1/m) for Šidák, and alpha R / m with R claims for the last two, whose intervals of
    the claims err in a share of alpha [1]_. Holm, Hochberg and Hommel claim by steps and have no two-sided limits of
    their own: where the interval at alpha / m of a claim still holds the tested value it is cut there, with an open
    end, as the one-sided theory has it [2]_ [3]_. Adjusted p, interval and verdict so decide the same.

    References
    ----------
    .. [1] Benjamini & Yekutieli (2005), Journal of the American Statistical Association 100, 71-81.
    .. [2] Guilbaud (2008), Biometrical Journal 50, 678-692.
    .. [3] Strassburger & Bretz (2008), Statistics in Medicine 27, 4914-4927.

    Examples
    --------
    >>> r = correct({"fare": 0.01, "booked": 0.03, "complaint": 0.04})
    >>> [round(float(p), 4) for p in r.adjusted]
    [0.03, 0.06, 0.06]
    >>> from amber_ruler import Summary, measure
    >>> arms = Summary(100, 14.2, 4.0, "short"), Summary(100, 13.0, 3.0, "current")
    >>> both = correct({"fare": measure.means(*arms), "tips": measure.means(*arms)})
    >>> round(both["fare"].correction.adjusted, 4), both["fare"].interval.level
    (0.0348, 0.975)
    """
    gate.choice("method", method, METHODS)
    alpha = float(gate.between("alpha", alpha, 0, 0.5))
    if isinstance(comparisons, Measurement):
        return _along_axis(comparisons, method, alpha, families)
    if isinstance(comparisons, Mapping) and any(isinstance(r, Measurement) for r in comparisons.values()):
        comparisons = _family(comparisons)
    if isinstance(comparisons, Family):
        return _in_family(comparisons, method, alpha, families)
    labels, p = labelled(comparisons)
    return corrected(labels, p, method, alpha, named_families(labels, families))


def with_correction(result: M, asked: M, correction: Correction, *, by_steps: bool) -> M:
    """A result with a correction and the interval of another answer to it, made to decide as the correction does.

    `asked` is the same comparison at the level that goes with the correction.
    """
    if result.test is None or asked.test is None:  # both have a test: the correction rests on it
        return result
    limits, notes = asked.interval, asked.notes
    cut = np.zeros(np.shape(correction.stands), dtype=np.bool_)
    if by_steps:
        limits, cut = cut_at_null(limits, asked.estimate, np.asarray(asked.null), np.asarray(correction.stands))
    if correction.keeps == DISCOVERY:
        notes = (*notes, "The intervals of the claims have a false coverage rate of at most alpha.")
    if np.any(cut):
        which = "" if np.ndim(cut) == 0 else f" of {int(np.sum(cut))}"
        notes = (
            *notes,
            f"The interval{which} ends at the tested value, which {correction.method} rejects by its steps.",
        )
    test = replace(asked.test, alpha=correction.alpha)
    return replace(asked, interval=limits, test=test, notes=notes, asked=result.asked).with_part(correction)


def cut_at_null(
    interval: Interval, estimate: Any, null: Any, stands: NDArray[np.bool_]
) -> tuple[Interval, NDArray[np.bool_]]:
    """Let an interval end at the null, which it leaves out, where a comparison is claimed by steps."""
    cut = stands & np.asarray(interval.contains(null))
    if not np.any(cut):
        return interval, cut
    above = np.asarray(estimate) > null
    low, high = np.where(cut & above, null, interval.low), np.where(cut & ~above, null, interval.high)
    low_open, high_open = (cut & above) | interval.low_open, (cut & ~above) | interval.high_open
    low_open, high_open = (bool(end) if np.ndim(end) == 0 else end for end in (low_open, high_open))
    return replace(
        interval, low=scalar_or_array(low), high=scalar_or_array(high), low_open=low_open, high_open=high_open
    ), cut


def _family(results: Mapping[str, Measurement]) -> Family:
    return Family(
        title=f"{len(results):,} comparisons",
        method="side by side",
        source="",
        labels=tuple(map(str, results)),
        results=tuple(results.values()),
    )


def _in_family(family: Family, method: str, alpha: float, families: Mapping[str, str] | None) -> Family:
    for label, result in zip(family.labels, family.results, strict=True):
        if result.p_value is None or np.ndim(result.p_value):
            raise InputError(f"{label!r} has no single p-value to correct: ask for one comparison, with a test.")
    kinds = family.families if families is None else named_families(family.labels, families)
    p = checked([float(np.asarray(r.p_value)) for r in family.results])
    found = corrected(family.labels, p, method, alpha, kinds)
    way = METHODS[method]
    results = []
    for k, result in enumerate(family.results):
        size = kinds.count(kinds[k]) if kinds else len(family)
        part = Correction(
            method=way.name,
            source=way.source,
            adjusted=float(found.adjusted[k]),
            alpha=alpha,
            keeps=way.keeps,
            size=size,
            family=kinds[k] if kinds else "",
        )
        results.append(with_correction(result, _again(result, found.interval_alpha, k), part, by_steps=way.by_steps))
    return replace(
        family, title=found.title, method=way.name, source=way.source, results=tuple(results), families=kinds
    )


def _again(result: M, each: Floats | None, k: int) -> M:
    """The same comparison at the level that goes with a correction; several alphas are asked one by one."""
    assert each is not None  # noqa: S101 - a correction has them
    return result.again(alpha=float(each[k]))


def _along_axis(result: M, method: str, alpha: float, families: Mapping[str, str] | None) -> M:
    if result.p_value is None or np.ndim(result.p_value) != 1:
        raise InputError("One result is corrected along its axis: ask many comparisons in one call, with a test.")
    labels = result.axis.labels if result.axis else tuple(str(k + 1) for k in range(np.size(result.p_value)))
    kinds = named_families(labels, families)
    found = corrected(labels, checked(result.p_value), method, alpha, kinds)
    each = found.interval_alpha
    if each is None or np.unique(each).size > 1:
        raise InputError("Families of different sizes have intervals of different levels: correct them as a Family.")
    way = METHODS[method]
    part = Correction(
        method=way.name, source=way.source, adjusted=found.adjusted, alpha=alpha, keeps=way.keeps, size=len(labels)
    )
    return with_correction(result, _again(result, each, 0), part, by_steps=way.by_steps)
