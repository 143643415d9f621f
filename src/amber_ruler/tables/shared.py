"""Many sets of columns reduced at once: what the checks and all metrics of an experiment are computed from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

import narwhals as nw
import numpy as np

from amber_ruler.moments import Moments, merge
from amber_ruler.samples import ByVariant
from amber_ruler.tables import reduce
from amber_ruler.tables.frame import Held
from amber_ruler.tables.pairing import codes, floats

_AT_ONCE = 40  # columns in one scan of the rows

Set: TypeAlias = "tuple[str, ...]"  # columns whose joint moments are wanted


@dataclass(frozen=True, slots=True)
class Shared:
    """Moments of sets of columns by variant and stratum ("" without strata), of those without a gap.

    A set that has a row without a value is not here: which rows are left out of it, and how they are counted, is said
    where it is read by itself.
    """

    by: str
    strata: str | None
    cells: dict[Set, dict[str, dict[str, Moments]]]
    unassigned: int

    def arms(self, columns: Sequence[str], *, within: bool = False) -> ByVariant[Moments] | None:
        """Each variant's moments of some columns, of all rows or `within` strata; None of columns with a gap."""
        of = next((one for one in self.cells if set(columns) <= set(one)), None)
        if of is None:
            return None
        found = {}
        for label, levels in sorted(self.cells[of].items()):
            each = {level: m.select(*columns) for level, m in levels.items()}
            whole = Moments.stack(each, axis=str(self.strata)) if within and self.strata else merge(list(each.values()))
            found[label] = whole.relabel(label)
        return ByVariant(found, column=self.by, unassigned=self.unassigned)


def in_one_pass(table: Held, sets: Sequence[Sequence[str]], *, by: str, strata: str | None = None) -> Shared:
    """Reduce sets of columns, in as few scans of the rows as there are forties of columns."""
    wanted = list(dict.fromkeys(tuple(dict.fromkeys(columns)) for columns in sets))
    wanted = [one for one in wanted if not any(set(one) < set(other) for other in wanted)]
    table.need(list(dict.fromkeys(column for one in wanted for column in one)), by, strata)
    labels = [by] if strata is None else [by, strata]
    cells: dict[Set, dict[str, dict[str, Moments]]] = {}
    unassigned = 0
    for some in _batches(wanted):
        with table.reading():
            found = _sums(table, some, labels)
        unassigned = sum(part.n for key, part in found.items() if key[0] is None)
        known = {key: part for key, part in found.items() if key[0] is not None}
        if not known or any(None in key for key in known):
            break  # a row without a stratum is in no cell
        single = {(column,): [place] for one, places in some.items() for column, place in zip(one, places, strict=True)}
        for one, places in (some | single).items():
            if not any(part.gaps & set(places) for part in known.values()):
                cells[one] = _by_label(known, one, places)
    return Shared(by, strata, cells, unassigned)


def _batches(wanted: Sequence[Set]) -> Iterator[dict[Set, list[int]]]:
    """Sets that are reduced together, with the places of their columns among all that are."""
    batch: dict[Set, list[int]] = {}
    columns: dict[str, int] = {}
    for one in wanted:
        if batch and len(columns.keys() | set(one)) > _AT_ONCE:
            yield batch
            batch, columns = {}, {}
        batch[one] = [columns.setdefault(column, len(columns)) for column in one]
    if batch:
        yield batch


def _sums(table: Held, some: dict[Set, list[int]], labels: Sequence[str]) -> reduce.Cells:
    columns = list(dict.fromkeys(column for one in some for column in one))
    if isinstance(table.frame, nw.LazyFrame):
        return reduce.sets_from_engine(table.frame, columns, labels, list(some.values()))
    coded, variants = codes(table.frame[labels[0]].to_native())
    keys: list[tuple[Any, ...]] = [(key,) for key in variants]
    if len(labels) == 2:
        inner, levels = codes(table.frame[labels[1]].to_native())
        keys = [(key, level) for key in variants for level in (None, *levels)]
        coded = np.where(coded < 0, -1, coded * (len(levels) + 1) + inner + 1)
    values = [floats(table.frame[column].to_native()) for column in columns]
    return reduce.sets_from_memory(coded, keys, values, list(some.values()))


def _by_label(known: reduce.Cells, columns: Set, places: Sequence[int]) -> dict[str, dict[str, Moments]]:
    named = {(reduce.label_text(key[0]), "" if len(key) == 1 else _level(key[1])): part for key, part in known.items()}
    cells: dict[str, dict[str, Moments]] = {}
    for variant, level in sorted(named):
        cells.setdefault(variant, {})[level] = named[variant, level].at(places).moments(columns, variant)
    return cells


def _level(value: Any) -> str:
    """A stratum as text, as rows have it."""
    return str(int(value)) if isinstance(value, (bool, np.bool_)) else reduce.label_text(value)
