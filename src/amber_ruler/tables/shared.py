"""Many sets of columns reduced at once: what the checks and all metrics of an experiment are computed from."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeAlias

import narwhals as nw
import numpy as np

from amber_ruler.moments import Moments, merge
from amber_ruler.numeric.least_squares import MARK
from amber_ruler.samples import ByVariant
from amber_ruler.tables import reduce
from amber_ruler.tables.frame import Held
from amber_ruler.tables.pairing import codes, floats

_AT_ONCE = 40  # columns in one scan of the rows

Named: TypeAlias = "tuple[str, ...]"
Cells: TypeAlias = "dict[str, dict[str, Moments]]"  # by variant and stratum


@dataclass(frozen=True, slots=True)
class Set:
    """Columns whose joint moments are wanted.

    Attributes
    ----------
    needed : tuple of str
        What a row must have to count.
    covariates : tuple of str
        Columns that are filled with a usual value where a row lacks them, and marked by a column of their own.
    parts : tuple of str
        Likewise columns of covariates that are ratios: a row that lacks one adds 0 to its total.
    """

    needed: Named
    covariates: Named = ()
    parts: Named = ()

    @property
    def columns(self) -> Named:
        """All of them."""
        return (*self.needed, *self.covariates, *self.parts)


@dataclass(frozen=True, slots=True)
class Shared:
    """Moments of sets of columns by variant and stratum ("" without strata).

    A set that can't be reduced with the others, such as one with infinite values, is not here: what is wrong with it is
    said where it is read by itself.
    """

    by: str
    strata: str | None
    unassigned: int = 0
    cells: dict[Set, Cells] = field(default_factory=dict)

    def arms(self, of: Set | Sequence[str], *, within: bool = False) -> Any:
        """Each variant's moments of a set, of all rows or `within` strata; None where they are not here."""
        cells = self.cells.get(of if isinstance(of, Set) else Set(tuple(of)))
        if cells is None:
            return None
        found = {}
        for label, levels in sorted(cells.items()):
            whole = (
                Moments.stack(levels, axis=str(self.strata)) if within and self.strata else merge(list(levels.values()))
            )
            found[label] = whole.relabel(label)
        return ByVariant(found, column=self.by, unassigned=self.unassigned)


def in_one_pass(table: Held, sets: Sequence[Set], *, by: str, strata: str | None = None) -> Shared:
    """Reduce sets of columns, in as few scans of the rows as there are forties of columns.

    One more scan reduces those whose covariates have gaps, and one for each pattern of gaps in what rows must have.
    """
    wanted = list(dict.fromkeys([*sets, *(Set((column,)) for one in sets for column in one.columns)]))
    table.need(list(dict.fromkeys(column for one in wanted for column in one.columns)), by, strata)
    labels = [by] if strata is None else [by, strata]
    shared = Shared(by, strata)
    for some in _batches(wanted):
        known, unassigned = _reduced(table, {one: one.columns for one in some}, labels)
        shared = replace(shared, unassigned=unassigned)
        if not known or any(None in key for key in known):
            break  # a row without a stratum is in no cell
        columns = list(dict.fromkeys(column for one in some for column in one.columns))
        gaps = {columns[i] for part in known.values() for i in part.gaps}
        shared.cells.update({one: _cells(known, columns, one.columns) for one in some if not gaps & set(one.columns)})
        holed: dict[tuple[Named, Named], list[Set]] = {}
        for one in some:
            if gaps & set(one.columns):
                lacking, parts = (tuple(c for c in each if c in gaps) for each in (one.needed, one.parts))
                holed.setdefault((lacking, parts), []).append(one)
        rows = {key: part.n for key, part in known.items()}
        usual = {c: float(next(iter(known.values())).origin[i]) for i, c in enumerate(columns) if c in gaps}
        for (lacking, parts), each in holed.items():
            fills = {c: 0.0 if c in parts else value for c, value in usual.items() if c not in lacking}
            shared.cells.update(_filled(table, each, lacking, fills, rows, labels))
    return shared


def _batches(wanted: Sequence[Set]) -> Iterator[list[Set]]:
    """Sets that are reduced together; a column by itself costs nothing where it is among others."""
    batch: list[Set] = []
    columns: dict[str, None] = {}
    for one in sorted(wanted, key=lambda one: len(one.columns), reverse=True):
        if batch and len(columns.keys() | set(one.columns)) > _AT_ONCE:
            yield batch
            batch, columns = [], {}
        batch.append(one)
        columns |= dict.fromkeys(one.columns)
    yield batch


def _reduced(table: Held, some: Mapping[Set, Named], labels: Sequence[str]) -> tuple[reduce.Cells, int]:
    """Sums of all columns, and of products within each set, by cell; and how many rows have no variant."""
    columns = list(dict.fromkeys(column for each in some.values() for column in each))
    places = [[columns.index(column) for column in each] for each in some.values()]
    with table.reading():
        found = _sums(table, columns, places, labels)
    unassigned = sum(part.n for key, part in found.items() if key[0] is None)
    return {key: part for key, part in found.items() if key[0] is not None}, unassigned


def _sums(table: Held, columns: Sequence[str], places: Sequence[list[int]], labels: Sequence[str]) -> reduce.Cells:
    if isinstance(table.frame, nw.LazyFrame):
        return reduce.sets_from_engine(table.frame, columns, labels, places)
    coded, variants = codes(table.frame[labels[0]].to_native())
    keys: list[tuple[Any, ...]] = [(key,) for key in variants]
    if len(labels) == 2:
        inner, levels = codes(table.frame[labels[1]].to_native())
        keys = [(key, level) for key in variants for level in (None, *levels)]
        coded = np.where(coded < 0, -1, coded * (len(levels) + 1) + inner + 1)
    values = [floats(table.frame[column].to_native()) for column in columns]
    return reduce.sets_from_memory(coded, keys, values, places)


def _filled(
    table: Held,
    some: Sequence[Set],
    lacking: Named,
    fills: Mapping[str, float],
    rows: Mapping[tuple[Any, ...], int],
    labels: Sequence[str],
) -> dict[Set, Cells]:
    """Sets with gaps: rows without what they must have are left out and counted, covariates are filled and marked."""
    frame = table.frame
    for column in lacking:
        frame = frame.filter(~reduce.number(nw.col(column), table.schema[column]).is_null())
    # The marks stand behind all columns, in the order of the covariates.
    named = {s: (*s.columns, *(c + MARK for c in (*s.covariates, *s.parts) if c in fills)) for s in some}
    for column in dict.fromkeys(c for s in some for c in (*s.covariates, *s.parts) if c in fills):
        number = reduce.number(nw.col(column), table.schema[column])
        mark = nw.when(number.is_null()).then(reduce.real(1)).otherwise(reduce.real(0)).alias(column + MARK)
        filled = nw.when(number.is_null()).then(reduce.real(fills[column])).otherwise(number).alias(column)
        frame = frame.with_columns(mark).with_columns(filled)
    with table.reading():
        known, _ = _reduced(table.shaped(frame), named, labels)
    columns = list(dict.fromkeys(column for each in named.values() for column in each))
    if set(known) != set(rows):
        return {}  # nothing is known of a cell
    gone = {key: rows[key] - part.n for key, part in known.items()}
    still = {columns[i] for part in known.values() for i in part.gaps}
    return {s: _cells(known, columns, each, gone) for s, each in named.items() if not still & set(each)}


def _cells(
    known: reduce.Cells, columns: Sequence[str], wanted: Named, missing: Mapping[tuple[Any, ...], int] | None = None
) -> Cells:
    """Moments of a set by variant and stratum, in the order of their names, so that they merge alike in every run."""
    places = [columns.index(column) for column in wanted]
    named = {(reduce.label_text(key[0]), "" if len(key) == 1 else _level(key[1])): key for key in known}
    cells: Cells = {}
    for variant, level in sorted(named):
        key = named[variant, level]
        m = known[key].at(places).moments(wanted, variant)
        cells.setdefault(variant, {})[level] = replace(m, missing=missing[key]) if missing else m
    return cells


def _level(value: Any) -> str:
    """A stratum as text, as rows have it."""
    return str(int(value)) if isinstance(value, (bool, np.bool_)) else reduce.label_text(value)
