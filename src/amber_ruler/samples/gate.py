"""The one gate: whatever is given for a group becomes what a method computes with, once.

`one`, `two` and `several` return what `needs` says: a Summary for "mean", Counts for "share", Events for "rate", a
Sample for "values". Labels, metric and missing values travel with the numbers.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping
from typing import Any, Literal, TypeAlias, TypeVar, overload

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate as number_gate
from amber_ruler.numeric.gate import scalar_or_array
from amber_ruler.results.pieces import Axis
from amber_ruler.samples.counts import Counts, CountTable
from amber_ruler.samples.events import Events
from amber_ruler.samples.held import changed, own
from amber_ruler.samples.pairs import Pairs
from amber_ruler.samples.sample import Sample
from amber_ruler.samples.summary import Summary

MeanGroup: TypeAlias = Sample | Summary | Moments | ArrayLike
ShareGroup: TypeAlias = Sample | Counts | Moments | ArrayLike
RateGroup: TypeAlias = Sample | Events | Moments | ArrayLike
ValueGroup: TypeAlias = Sample | ArrayLike

Takes: TypeAlias = Literal["one", "two", "pairs", "several", "factors", "table", "kinds", "columns", "numbers"]
Needs: TypeAlias = Literal["mean", "share", "rate", "values"]
Read: TypeAlias = Summary | Counts | Events | Sample
R = TypeVar("R", Summary, Counts, Events, Sample)

_GROUPS = (Sample, Summary, Counts, Events, Moments)
_KNOWN = (*_GROUPS, Pairs, CountTable)


@overload
def one(group: Any, needs: Literal["mean"], *, label: str = ..., least: int = ...) -> Summary: ...
@overload
def one(group: Any, needs: Literal["share"], *, label: str = ..., least: int = ...) -> Counts: ...
@overload
def one(group: Any, needs: Literal["rate"], *, label: str = ..., least: int = ...) -> Events: ...
@overload
def one(group: Any, needs: Literal["values"], *, label: str = ..., least: int = ...) -> Sample: ...
def one(group: Any, needs: Needs, *, label: str = "group", least: int = 2) -> Read:
    """Read one group; `label` serves where it has none. `least` is how many values a mean must have."""
    if needs == "mean":
        return _summary(group, label, least)
    if needs == "share":
        return _counts(group, label, least)
    return _events(group, label) if needs == "rate" else _sample(group, label)


@overload
def two(treatment: Any, control: Any, needs: Literal["mean"], *, least: int = ...) -> tuple[Summary, Summary]: ...
@overload
def two(treatment: Any, control: Any, needs: Literal["share"], *, least: int = ...) -> tuple[Counts, Counts]: ...
@overload
def two(treatment: Any, control: Any, needs: Literal["rate"], *, least: int = ...) -> tuple[Events, Events]: ...
@overload
def two(treatment: Any, control: Any, needs: Literal["values"], *, least: int = ...) -> tuple[Sample, Sample]: ...
def two(treatment: Any, control: Any, needs: Needs, *, least: int = 2) -> tuple[Read, Read]:
    """Read treatment and control; they must have different labels."""
    both = one(treatment, needs, label="treatment", least=least), one(control, needs, label="control", least=least)
    check_labels(both[0].label, both[1].label)
    number_gate.common_shape(*(np.shape(v) for read in both for v in _numbers_of(read)))
    return both


def by_label(groups: Any) -> Mapping[Any, Any]:
    """Several groups by their labels, from a mapping or from groups that carry them."""
    if not isinstance(groups, (Mapping, list, tuple)):
        raise InputError.rule("groups", type(groups).__name__, "a mapping of label to group, or a list of groups")
    if not isinstance(groups, Mapping):
        names = [str(getattr(g, "label", "") or k + 1) for k, g in enumerate(groups)]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise InputError(f"Two groups are both labelled {twice!r}: give them different labels.")
        groups = dict(zip(names, groups, strict=True))
    if len(groups) < 2:
        raise InputError(f"There must be at least 2 groups to compare, got {len(groups)}.")
    found: Mapping[Any, Any] = groups
    return found


@overload
def several(groups: Any, needs: Literal["mean"], *, least: int = ...) -> tuple[Summary, ...]: ...
@overload
def several(groups: Any, needs: Literal["share"], *, least: int = ...) -> tuple[Counts, ...]: ...
@overload
def several(groups: Any, needs: Literal["rate"], *, least: int = ...) -> tuple[Events, ...]: ...
@overload
def several(groups: Any, needs: Literal["values"], *, least: int = ...) -> tuple[Sample, ...]: ...
def several(groups: Any, needs: Needs, *, least: int = 1) -> tuple[Read, ...]:
    """Read several groups, from a mapping of label to group or from groups that carry their labels."""
    groups = by_label(groups)
    found: tuple[Read, ...] = tuple(
        changed(one(group, needs, label=str(label), least=least), label=str(label)) for label, group in groups.items()
    )
    for read in found:
        if any(np.ndim(v) for v in _numbers_of(read)):
            raise InputError("Several groups take one number for each of a group's numbers, not arrays.")
    return found


def _numbers_of(read: Read) -> tuple[Any, ...]:
    if isinstance(read, Sample):
        return ()
    if isinstance(read, Summary):
        return read.n, read.mean, read.sd
    return (read.successes, read.trials) if isinstance(read, Counts) else (read.count, read.exposure)


def hold(given: Any, takes: Takes, role: str) -> Any:
    """What a method was given, raw values as samples of their own: nothing that the caller may change later."""
    if takes == "numbers":
        number = number_gate.finite(role, given)
        return float(number) if number.ndim == 0 else number.copy()
    if hasattr(given, "compare") and hasattr(given, "columns"):
        raise InputError(
            "A table holds many columns. Ask ar.table(…).compare('fare', by='form', control='current'), or"
            " take its groups: .samples('fare', by='form') or .moments(…).",
            name=role,
        )
    if takes in ("one", "two"):
        if hasattr(given, "together"):
            return given if given.label else changed(given, label=role)
        if isinstance(given, _GROUPS):
            return given if given.label else changed(given, label=role)
        return given if isinstance(given, _KNOWN) else Sample(given, role)
    if given is None or isinstance(given, _KNOWN):
        return given
    if takes in ("several", "factors"):
        if isinstance(given, Mapping):
            held = copy.copy(given)  # of the same kind: a table's mapping knows its column
            held.update({k: hold(group, "one", str(k)) for k, group in given.items()})  # type: ignore[attr-defined]
            return held
        if not isinstance(given, Iterable) or isinstance(given, (str, bytes)):
            raise InputError.rule(role, given, "a mapping of label to group, or a list of groups")
        return [hold(group, "one", str(k)) for k, group in enumerate(given, start=1)]
    if isinstance(given, Mapping):
        return dict(given)
    if takes == "pairs" and isinstance(given, tuple):
        return tuple(own("counts", count) if np.ndim(count) else count for count in given)
    return Sample(given, "group") if takes == "pairs" else own(role, given)


def check_labels(treatment: str, control: str) -> None:
    """Refuse two groups under one label: the direction could not be said."""
    if treatment == control:
        raise InputError(f"Treatment and control are both labelled {control!r}: give them different labels.")


def axis_of(*groups: Read) -> Axis | None:
    """What the comparisons differ by, as the first group with an axis says."""
    return next((axis for g in groups if (axis := getattr(g, "axis", None)) is not None), None)


def named(metric: str | None, usual: str, *groups: Read) -> str:
    """What was measured: as the caller says, or else as the groups do."""
    return metric or next((g.metric for g in groups if g.metric), usual)


def _labelled(group: R, label: str) -> R:
    return group if group.label else changed(group, label=label)


def _sample(group: Any, label: str) -> Sample:
    if isinstance(group, (Summary, Moments)):
        raise InputError(f"{type(group).__name__} holds no values: give the values, such as table.samples(…) does.")
    if isinstance(group, (Counts, Events, Pairs, CountTable)):
        raise InputError(f"Values are needed, one a unit, not {type(group).__name__}.")
    sample = _labelled(group, label) if isinstance(group, Sample) else Sample(group, label)
    if len(sample) == 0:
        raise DataError(f"Variant {sample.label!r} is empty ({int(sample.missing):,} values missing).")
    return sample


def _moments(group: Any, label: str) -> Moments:
    if isinstance(group, Moments):
        return group if group.label else group.relabel(label)
    sample = _sample(group, label)
    missing = int(sample.missing)  # a count by now: Sample has settled the rule
    return Moments.from_arrays(
        {sample.metric or "value": sample.values}, label=sample.label, missing=missing, checked=True
    )


def _axis(moments: Moments) -> Axis | None:
    """Several columns are several comparisons."""
    return Axis("metric", moments.columns) if len(moments.columns) > 1 else moments.axis


def _flat(moments: Moments, values: Any) -> Any:
    """Numbers with one for each column: of a single column without that axis."""
    return scalar_or_array(values[..., 0] if len(moments.columns) == 1 else values)


def _summary(group: Any, label: str, least: int) -> Summary:
    if isinstance(group, Summary):
        return _labelled(group, label)
    if isinstance(group, (Counts, Events, Pairs, CountTable)):
        raise InputError(f"Means take values, a Summary or Moments, not {type(group).__name__}.")
    moments = _moments(group, label)
    n, means, tails, squares = moments.each()
    if np.any(n < least):
        raise DataError(f"Variant {moments.label!r} has {int(n.min())} row with a value: a spread needs at least 2.")
    values = None if isinstance(group, Moments) else _sample(group, label).values
    sd = np.sqrt(squares / np.maximum(n - 1, 1))
    more: dict[str, Any] = {}
    if n.size == 1 and moments.shape is not None:
        (column,) = moments.columns
        more = {
            "skewness": moments.skewness(column),
            "excess_kurtosis": moments.excess_kurtosis(column),
            "ends": moments.ends(column),
        }
    name = moments.columns[0] if len(moments.columns) == 1 else "metrics"
    return Summary(
        moments.n if len(moments.columns) == 1 else n,
        _flat(moments, means),
        _flat(moments, sd),
        moments.label,
        moments.missing,
        name,
        _axis(moments),
        _flat(moments, tails),
        values,
        **more,
    )


def _counts(group: Any, label: str, least: int) -> Counts:
    """Successes and trials of 0/1 values; at least one trial, unless none are allowed."""
    if isinstance(group, Counts):
        if least and np.any(np.asarray(group.trials) == 0):
            raise InputError.rule(f"trials of {group.label or label!r}", 0, "at least 1")
        return _labelled(group, label)
    if isinstance(group, Summary):
        raise InputError("Proportions take Counts(successes, trials) or 0/1 values, not a Summary.")
    if not isinstance(group, Moments):
        group = _sample(group, label)
        odd = group.values[(group.values != 0) & (group.values != 1)]
        if odd.size:
            raise DataError(_not_binary(f"{odd.size:,} other values such as {odd[0]:g}", group.label))
    moments = _moments(group, label)
    n, mean, _, _ = moments.each()
    successes, off = np.round(n * mean), ~moments.zero_one()
    if off.any():
        raise DataError(_not_binary(f"other values (their mean is {float(mean[off][0]):g})", moments.label))
    trials = moments.n if len(moments.columns) == 1 else n
    name = moments.columns[0] if len(moments.columns) == 1 else "metrics"
    found = _flat(moments, successes)
    return Counts(
        int(found) if np.ndim(found) == 0 else found, trials, moments.label, moments.missing, name, _axis(moments)
    )


def _events(group: Any, label: str) -> Events:
    """Counts per unit, each with an exposure of 1, as events over units."""
    if isinstance(group, Events):
        return _labelled(group, label)
    if isinstance(group, (Summary, Counts)):
        raise InputError(f"Rates take Events(count, exposure) or counts per unit, not {type(group).__name__}.")
    moments = _moments(group, label)
    if moments.means.size > 1:
        raise InputError(f"Rates take the counts of one column at a time: pick one of {list(moments.columns)}.")
    n, mean = int(moments.n), float(moments.means[0])
    total = n * (mean + float(moments.tails[0]))
    whole = round(total)
    if total < 0 or abs(total - whole) > 1e-6 * max(1.0, whole * 1e-6):
        raise DataError(f"A rate takes counts, whole and not below 0; those of {moments.label!r} add up to {total:g}.")
    dispersion = None
    if n > 1 and mean > 0:
        dispersion = float(moments.comoments[0, 0]) / (n - 1) / mean
    (column,) = moments.columns
    return Events(whole, float(n), moments.label, moments.missing, column, None, dispersion, n)


def _not_binary(found: str, label: str) -> str:
    return (
        f"A proportion takes values 0 and 1 (or false and true); variant {label!r} has {found}."
        " Turn the column into a yes or no first, or compare means."
    )
