"""The units of one sample, in memory: what is drawn together, and within what."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.samples import Pairs, Records, Sample, Summary
from amber_ruler.samples.records import HeldRows

VALUE = "value"  # what the values of a plain sample are called among columns


@dataclass(frozen=True, slots=True, eq=False)
class Units:
    """Rows of one sample, in units that are drawn whole and strata that they are drawn within.

    Attributes
    ----------
    label : str
        The sample.
    columns : mapping of str to ndarray, shape (n,)
        What is known of each row.
    form : "values", "columns" or "frame"
        How a statistic of one's own gets its rows.
    frame : DataFrame or None
        The frame that it was read from.
    left_out : int
        Rows that lacked a value that is needed.
    order, ends : ndarray
        Rows in the order of their units, and where each unit's end: shape (n,) and (u + 1,).
    strata : tuple of ndarray
        The units of each stratum.
    names : tuple of str
        What the units are called.
    """

    label: str
    columns: Mapping[str, NDArray[Any]]
    form: str
    frame: Any
    left_out: int
    order: NDArray[np.intp]
    ends: NDArray[np.intp]
    strata: tuple[NDArray[np.intp], ...]
    names: tuple[str, ...] = ()

    def __len__(self) -> int:
        return len(self.order)

    @property
    def count(self) -> int:
        """How many units there are."""
        return len(self.ends) - 1

    @property
    def whole(self) -> bool:
        """Whether every unit is one row, in its own place."""
        return self.count == len(self)

    def rows_of(self, units: NDArray[np.intp]) -> NDArray[np.intp]:
        """The rows of some units, one unit after the other."""
        if self.whole:
            return units
        sizes = self.ends[units + 1] - self.ends[units]
        starts = np.repeat(self.ends[units] - np.concatenate([[0], np.cumsum(sizes)[:-1]]), sizes)
        return np.asarray(self.order[starts + np.arange(sizes.sum())])

    def taken(self, rows: NDArray[np.intp]) -> Any:
        """Some rows, as a statistic of one's own gets them."""
        if self.form == "frame":
            return self.frame.take(rows)
        if self.form == "values":
            return self.columns[VALUE][rows]
        return {name: values[rows] for name, values in self.columns.items()}

    def all_rows(self) -> Any:
        """All rows, in their order."""
        if self.form == "frame":
            return self.frame
        return self.columns[VALUE] if self.form == "values" else dict(self.columns)

    def totals(self, features: Floats) -> Floats:
        """Sums of the rows' features, (n, m), by unit: (u, m)."""
        if self.whole:
            return features
        return np.add.reduceat(features[self.order], self.ends[:-1], axis=0)

    def numbers(self, name: str) -> Floats:
        """A column of numbers."""
        if name not in self.columns:
            raise DataError.unknown(f"column of {self.label or 'the rows'!r}", name, self.columns)
        return gate.floats(f"column {name!r}", self.columns[name])


def read(
    data: Any, role: str, *, needed: Sequence[str] = (), cluster: str | None = None, strata: str | None = None
) -> Units:
    """One sample, its rows without a value in a needed column left out and counted."""
    label = str(getattr(data, "label", "") or role)
    columns, form, frame = _columns(data, role, [*needed, *(c for c in (cluster, strata) if c)])
    for name in (*needed, *(c for c in (cluster, strata) if c)):
        if name not in columns:
            raise DataError.unknown(f"column of {label!r}", name, columns)
    n = len(next(iter(columns.values())))
    known = np.ones(n, dtype=np.bool_)
    for name in needed:
        values = gate.floats(f"column {name!r}", columns[name])
        if np.isinf(values).any():
            raise DataError(
                f"Column {name!r} of {label!r} holds infinite values in {int(np.isinf(values).sum()):,} rows."
            )
        known &= ~np.isnan(values)
    for named in (cluster, strata):
        if named is not None:
            known &= np.array([v is not None and v == v for v in columns[named].tolist()], dtype=np.bool_)  # noqa: PLR0124
    if not known.any():
        raise DataError(f"No row of {label!r} has a value in {', '.join(map(repr, needed)) or 'what is needed'}.")
    if not known.all():
        columns = {name: values[known] for name, values in columns.items()}
        frame = frame.take(np.flatnonzero(known)) if frame is not None else None
    held = Units(label, columns, form, frame, int(n - known.sum()), np.arange(0), np.arange(1), ())
    return _arranged(held, int(known.sum()), cluster, strata)


def _columns(data: Any, role: str, wanted: Sequence[str]) -> tuple[dict[str, NDArray[Any]], str, Any]:
    if isinstance(data, (Summary, Moments)):
        raise InputError(f"{role} holds no single values: resampling needs them (table.samples, table.records).")
    if isinstance(data, Pairs):
        sides = {"treatment": np.asarray(data.treatment), "control": np.asarray(data.control)}
        return {VALUE: data.differences, **sides}, "columns", None
    if isinstance(data, Records):
        return dict(data.columns), "columns", None
    if hasattr(data, "together"):  # rows of a table
        rows = data.together([], list(dict.fromkeys(wanted or data.columns)))
        if isinstance(rows, HeldRows):
            return dict(rows.columns), "columns", None
        return {name: _fetched(rows, name) for name in rows.names}, "columns", None
    if hasattr(data, "columns") and hasattr(data, "take") and hasattr(data, "iloc"):
        if len(data) == 0:
            raise DataError(f"{role} has no rows.")
        return {str(name): data[name].to_numpy() for name in data.columns}, "frame", data
    if isinstance(data, Mapping):
        records = Records(data, role)
        return dict(records.columns), "columns", None
    sample = data if isinstance(data, Sample) else Sample(data, role)
    return {VALUE: np.asarray(sample.values)}, "values", None


def _fetched(rows: Any, name: str) -> NDArray[Any]:
    try:
        return np.asarray(rows.values(name)[0])
    except DataError:
        return np.array(rows.column(name)[0], dtype=object)


def _arranged(held: Units, n: int, cluster: str | None, strata: str | None) -> Units:
    """The units, and the strata that they lie in."""
    every = np.arange(n)
    names: tuple[str, ...] = ()
    if cluster is None:
        order, ends = every, np.arange(n + 1)
    else:
        named, codes = _coded(held.columns[cluster])
        order = np.argsort(codes, kind="stable")
        ends = np.concatenate([[0], np.cumsum(np.bincount(codes))])
        names = tuple(named)
    count = len(ends) - 1
    if strata is None:
        return replace(held, order=order, ends=ends, strata=(np.arange(count),), names=names)
    levels, codes = _coded(held.columns[strata])
    of = codes[order[ends[:-1]]]
    if cluster is not None and not np.array_equal(np.repeat(of, np.diff(ends)), codes[order]):
        raise DataError(f"A {cluster} has rows in more than one stratum of {strata!r}.")
    parts = tuple(np.flatnonzero(of == k) for k in range(len(levels)))
    return replace(held, order=order, ends=ends, strata=parts, names=names)


def _coded(column: NDArray[Any]) -> tuple[list[str], NDArray[np.intp]]:
    text = column if column.dtype.kind in "fiu" else np.array([str(v) for v in column])
    found, codes = np.unique(text, return_inverse=True)
    return [f"{v:g}" if isinstance(v, float) else str(v) for v in found.tolist()], codes


def one_way(units: Units, needed: int) -> None:
    """Say so where a stratum has too few units to be resampled."""
    for part in units.strata:
        if len(part) < needed:
            where = " in a stratum" if len(units.strata) > 1 else ""
            raise DataError(f"{units.label!r} has {len(part)} unit{where}: at least {needed} are needed.")
