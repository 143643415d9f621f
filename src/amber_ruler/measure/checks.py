"""What to look at before a result is believed, from the raw values where there are any."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from itertools import combinations
from typing import Any, NamedTuple, TypeVar

import numpy as np

from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError
from amber_ruler.moments import Moments
from amber_ruler.numeric import chisquare, gate
from amber_ruler.numeric.edgeworth import studentised_tails
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, Measurement
from amber_ruler.samples import Counts, Events, Pairs, Sample, Summary
from amber_ruler.samples import gate as groups_gate

M = TypeVar("M", bound=Measurement)

_DISPERSED = 0.001  # chance of so uneven counts in a Poisson process, from which on it is said
_FEW = 30
POSTERIOR_RESTS = "the posterior rests"
_SHIFTED = 0.25  # of a tail's nominal chance
HELP_AGAINST_SKEWNESS = "An approximation (Hall 1987): more units help, and comparing ranks as well."


def missing(*groups: Summary | Counts | Sample | Events | Moments) -> tuple[Check, ...]:
    """Say how many units had no value, in which variant."""
    if not any(g.missing for g in groups):
        return ()
    parts = ", ".join(f"{g.label} {g.missing:,} of {int(g.missing) + size(g):,}" for g in groups)
    advice = "The result speaks for units with a value; if the variants lose different units, it can mislead."
    return (Check("missing values", f"left out: {parts}", advice, "note"),)


def missing_rows(rows: Any) -> tuple[Check, ...]:
    """The same of rows of several variants that lack one of the columns."""
    labels, lost, sizes = (getattr(rows, name) for name in ("labels", "left_out", "sizes"))
    return missing(*(Summary(n, 0.0, 1.0, label, gone) for label, gone, n in zip(labels, lost, sizes, strict=True)))


def size(group: Summary | Counts | Sample | Events | Moments) -> int:
    """Units with a value, over all comparisons."""
    known = next(
        (v for v in (getattr(group, name, None) for name in ("n", "trials", "exposure")) if v is not None), None
    )
    return int(np.sum(known)) if known is not None else len(group)  # type: ignore[arg-type]


def without_pair(left_out: int) -> tuple[Check, ...]:
    """Say how many units had a value on one side only."""
    if not left_out:
        return ()
    finding = f"{left_out:,} left out: they have a value on one side only"
    return (Check("units without a pair", finding, "The result speaks for units with both sides.", "note"),)


def dispersion(*groups: Events) -> tuple[Check, ...]:
    """Do counts per unit vary more than Poisson's? Then every p is too small, and every interval too narrow."""
    found = []
    for g in groups:
        if g.dispersion is None or g.units is None or g.dispersion <= 1:
            continue
        if float(chisquare.sf((g.units - 1) * g.dispersion, g.units - 1)) < _DISPERSED:
            found.append(f"those of {g.label} vary {g.dispersion:.3g} times as much as Poisson counts")
    if not found:
        return ()
    advice = "The interval is too narrow, and p too small: compare the means of counts per unit instead."
    return (Check("dispersion", "counts per unit: " + "; ".join(found), advice, "warning"),)


def few(*sizes: Floats, rests: str = "p and interval rest", values: str = "normal") -> tuple[Check, ...]:
    """Say that what is read of a small group leans on the shape of its values."""
    if not any(gate.some(n < _FEW) for n in sizes):
        return ()
    smallest = int(min(n.min() for n in sizes))
    which = {1: "", 2: "the smaller group has "}.get(len(sizes), "the smallest group has ")
    finding = f"{which}{smallest:,} units"
    advice = f"With so few, {rests} on values that are roughly {values}: look at them."
    return (Check("group sizes", finding, advice, "note"),)


def skewed(alpha: float, alternative: Alternative, *groups: Summary) -> tuple[Check, ...]:
    """Do skewed values shift the tails of a t test?"""
    found = tails_of(alpha, alternative, *groups)
    if found is None or not found.shifted:
        return ()
    return (Check("skewness", found.said, HELP_AGAINST_SKEWNESS, "warning"),)


class Tails(NamedTuple):
    """What skewness makes of the tails of a t test, and whether that is far from what they should be."""

    said: str
    shifted: bool


def tails_of(alpha: float, alternative: Alternative, *groups: Summary) -> Tails | None:
    """The real error of a t test by its expansion; of several groups, of those two where it is farthest off.

    None where the shape of the values isn't known, or where a group is so small that this is said by itself.
    """
    if any(g.skewness is None or g.excess_kurtosis is None or np.ndim(g.n) or g.n < _FEW for g in groups):
        return None
    one = len(groups) == 1
    together = combinations(range(len(groups)), 1 if one else 2)
    pairs = [pair for pair in together if any(groups[k].sd for k in pair)]
    if not pairs:
        return None
    at = np.array(pairs)
    moments = ("n", "sd", "skewness", "excess_kurtosis")
    each = (np.array([float(getattr(g, name)) for g in groups])[at] for name in moments)
    nominal = alpha / 2 if alternative == "two-sided" else alpha
    below, above = studentised_tails(nominal, [1.0] if one else [1.0, -1.0], *each)
    tails = {"two-sided": [below, above], "less": [below], "greater": [above]}[alternative]
    off = np.max(np.abs(np.array(tails) - nominal), axis=0)
    worst = int(np.argmax(off))
    of = " and ".join(
        f"{groups[k].label} has skewness {groups[k].skewness:.3g} with {groups[k].n:,} units" for k in pairs[worst]
    )
    real = [max(float(tail[worst]), 0.0) for tail in tails]
    error = f"the error is about {100 * sum(real):.2g}%"
    if len(real) == 2:
        error += f", {100 * real[0]:.2g}% below and {100 * real[1]:.2g}% above"
    return Tails(f"{of}: at alpha {alpha:g} {error}", bool(off[worst] > _SHIFTED * nominal))


def one_value_decides(p_alone: Callable[[tuple[Any, ...], Mapping[str, Any]], float]) -> Callable[[M], M]:
    """Does one outlying value alone decide? The value farthest from its group's mean is left out.

    `p_alone(groups, settings)` is the p-value of the method and nothing else.
    """

    def looked(result: M) -> M:
        if result.test is None or np.ndim(result.test.p_value):
            return result
        asked = result.asked
        pairs = next((g for g in asked.groups if isinstance(g, Pairs)), None)
        if pairs is None and asked.method.takes == "pairs":
            return result  # published numbers
        one_less = _without_farthest(asked.groups) if pairs is None else _without_farthest_pair(pairs)
        if one_less is None:
            return result
        without, found = one_less
        said = f"without the value {found[1]:g} of {found[0]} alone"
        try:
            q = p_alone(without, asked.settings)
        except DataError:
            finding = f"{said}, there would be no spread to test by"
        else:
            p = float(result.test.p_value)
            if (q < result.alpha) == (p < result.alpha):
                return result
            finding = f"{said}, p would be {q:.3g} instead of {p:.3g}"
        advice = "A single value decides: make sure of it, and compare ranks as well."
        return replace(result, checks=(*result.checks, Check("one value", finding, advice, "warning")))

    return looked


def _without_farthest(given: tuple[Any, ...]) -> tuple[tuple[Any, ...], tuple[str, float]] | None:
    """The groups without the value that is farthest from its group's mean; whose it is, and what."""
    read = [groups_gate.one(g, "mean", least=1) for g in given]
    if any(g.ends is None or np.ndim(g.n) or g.n <= 3 for g in read):
        return None
    distance = [(abs(end - float(g.mean)), k, float(end)) for k, g in enumerate(read) for end in g.ends or ()]
    _, at, value = max(distance)
    less = [g.without_value(value) if k == at else g for k, g in enumerate(read)]
    return tuple(less), (read[at].label, value)


def _without_farthest_pair(pairs: Pairs) -> tuple[tuple[Any, ...], tuple[str, float]] | None:
    differences = pairs.differences
    if len(differences) <= 3:
        return None
    at = int(np.argmax(np.abs(differences - differences.mean())))
    return (pairs.without([at]),), ("differences", float(differences[at]))


def raw_values(*groups: object) -> dict[str, Floats]:
    """Values by label, where every group has them; otherwise nothing."""
    found = {}
    for k, group in enumerate(groups):
        values = getattr(group, "values", None)
        if not isinstance(values, np.ndarray):
            return {}
        found[str(getattr(group, "label", "") or k)] = values
    return found
