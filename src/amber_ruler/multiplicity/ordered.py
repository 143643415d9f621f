"""Orders of testing that were laid down beforehand."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import InputError
from amber_ruler.multiplicity.corrected import Corrected, labelled
from amber_ruler.multiplicity.p_values import ANY
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats


def fixed_sequence(p_values: Mapping[str, float] | ArrayLike, *, alpha: float = 0.05) -> Corrected:
    """Which comparisons stand when they are tested in the order given, each at full alpha until one fails?

    Parameters
    ----------
    p_values : mapping of label to p, or array_like of shape (m,)
        In the order of testing, which must have been laid down beforehand.
    alpha : float
        Error rate of the whole.

    Returns
    -------
    Corrected
        Each adjusted p is the largest up to there.

    References
    ----------
    .. [1] Maurer, Hothorn & Lehmacher (1995), Biometrie in der chemisch-pharmazeutischen Industrie 6, 3-18.

    Examples
    --------
    >>> fixed_sequence({"fare": 0.01, "booked": 0.2, "complaint": 0.001}).adjusted.tolist()
    [0.01, 0.2, 0.2]
    """
    labels, p = labelled(p_values)
    return _ordered_tests(labels, p, np.maximum.accumulate(p), alpha, "fixed sequence", "Maurer et al. (1995)")


def gatekeeping(
    p_values: Mapping[str, float],
    *,
    weights: Mapping[str, float],
    passes: Mapping[str, Mapping[str, float]],
    alpha: float = 0.05,
) -> Corrected:
    """Which comparisons stand when a claim hands its share of alpha on to others, as from primary to secondary metrics?

    Parameters
    ----------
    p_values : mapping of label to p
    weights : mapping of label to share
        Share of alpha that each has at the start; at most 1 together. Those left out start with none.
    passes : mapping of label to mapping of label to share
        To whom a comparison hands its alpha once it stands, in shares of at most 1 together.
    alpha : float
        Error rate of the whole: the chance of any false claim, whatever the dependence.

    Returns
    -------
    Corrected

    References
    ----------
    .. [1] Bretz, Maurer, Brannath & Posch (2009), Statistics in Medicine 28, 586-604, algorithm 2.

    Examples
    --------
    >>> r = gatekeeping({"booked": 0.01, "fare": 0.02, "tips": 0.015}, weights={"booked": 0.5, "fare": 0.5},
    ...                 passes={"booked": {"tips": 1.0}, "fare": {"tips": 1.0}})
    >>> r.adjusted.round(3).tolist()
    [0.02, 0.04, 0.03]
    """
    labels, p = labelled(p_values)
    place = {label: k for k, label in enumerate(labels)}
    share, graph = np.zeros(p.size), np.zeros((p.size, p.size))
    for label, value in weights.items():
        share[_place(place, label)] = gate.at_least(f"weights[{label!r}]", value, 0)
    for start, ends in passes.items():
        for end, value in ends.items():
            if start == end:
                raise InputError(f"passes: {start!r} can't hand its alpha on to itself.")
            graph[_place(place, start), _place(place, end)] = gate.at_least(f"passes[{start!r}][{end!r}]", value, 0)
    if share.sum() > 1 + 1e-12 or np.any(graph.sum(axis=1) > 1 + 1e-12):
        raise InputError("weights, and what each comparison passes on, must be at most 1 together.")
    adjusted, left, most = np.ones(p.size), list(range(p.size)), 0.0
    while left:
        ratios = [p[k] / share[k] if share[k] > 0 else np.inf for k in left]
        first = left.pop(int(np.argmin(ratios)))
        most = max(most, min(ratios))
        if most >= 1:  # nothing further can be claimed at any alpha
            break
        adjusted[first] = most
        through, ways = graph[:, first].copy(), graph[first].copy()
        share = share + share[first] * ways
        loops = 1 - through * ways
        with np.errstate(divide="ignore", invalid="ignore"):
            graph = np.where(loops[:, None] > 0, (graph + np.outer(through, ways)) / loops[:, None], 0.0)
        np.fill_diagonal(graph, 0.0)
        graph[first], graph[:, first] = 0.0, 0.0
    return _ordered_tests(labels, p, adjusted, alpha, "graphical gatekeeping", "Bretz et al. (2009)")


def _ordered_tests(
    labels: tuple[str, ...], p: Floats, adjusted: Floats, alpha: float, name: str, source: str
) -> Corrected:
    gate.between("alpha", alpha, 0, 1)
    return Corrected(
        title=f"{p.size:,} comparisons, in an order laid down beforehand",
        method=name,
        source=source,
        labels=labels,
        p_values=p,
        adjusted=adjusted,
        alpha=alpha,
        keeps=ANY,
    )


def _place(place: Mapping[str, int], label: str) -> int:
    if label not in place:
        raise InputError.unknown("comparison", label, tuple(place))
    return place[label]
