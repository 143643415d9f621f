"""Values in memory: by variant, or aligned by the unit."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric.gate import Floats
from amber_ruler.samples import ByVariant, Pairs, Sample
from amber_ruler.samples.held import JOINT
from amber_ruler.tables import reduce
from amber_ruler.tables.frame import Held, names


def pairs(table: Held, value: str, *, by: str, unit: str, control: str) -> Pairs:
    """See `Table.pairs`."""
    sides = _aligned(table, value, by, unit, control)
    if len(sides.columns) != 2:
        found = f"column {by!r} has {len(sides.columns)}: {', '.join(sides.columns)}"
        raise DataError(f"Pairs have two sides, and {found}.")
    whole = sides.dropna()
    (treatment,) = [label for label in sides.columns if label != control]
    return Pairs(whole[treatment], whole[control], (treatment, control), len(sides) - len(whole), value)


def wide_pairs(table: Held, treatment: str, control: str) -> Pairs:
    """See `Table.wide_pairs`."""
    table.need([treatment, control])
    native = table.fetched(treatment, control)
    one, two = floats(native[treatment]), floats(native[control])
    whole = ~(np.isnan(one) | np.isnan(two))
    return Pairs(one[whole], two[whole], (treatment, control), int(np.sum(~whole)), "")


def samples(table: Held, value: str, *, by: str | Sequence[str], unit: str | None = None) -> ByVariant[Sample]:
    """See `Table.samples`."""
    if unit is not None:
        if not isinstance(by, str):
            raise InputError("samples takes one column in by where it aligns by unit.")
        sides = _aligned(table, value, by, unit)
        whole = sides.dropna()
        lost = len(sides) - len(whole)
        aligned = {c: Sample(whole[c].to_numpy(), c, missing=lost, metric=value) for c in sides.columns}
        return ByVariant(dict(sorted(aligned.items())), column=by)
    if not isinstance(by, str):
        return samples(table.together(by), value, by=JOINT.join(by))
    table.need([value], by)
    native = table.fetched(by, value)
    coded, labels = codes(native[by])
    numbers = floats(native[value])
    found = {}
    for k, key in enumerate(labels):
        label, mine = reduce.label_text(key), numbers[coded == k]
        missing = np.isnan(mine)
        found[label] = Sample(mine[~missing], label, missing=int(missing.sum()), metric=value)
    return ByVariant(dict(sorted(found.items())), column=by, unassigned=int(np.sum(coded < 0)))


def _aligned(table: Held, value: str, by: str, unit: str, control: str | None = None) -> pd.DataFrame:
    """One row a unit, one column a condition."""
    if len(names("columns", [value, by, unit])) < 3:
        raise InputError(f"The value, what it is aligned by and the unit are three columns, got {value}, {by}, {unit}.")
    table.need([value], by, unit)
    native = table.fetched(unit, by, value, as_text=unit)
    native = native.assign(**{value: floats(native[value])}).dropna()
    labels = sorted(map(reduce.label_text, native[by].unique()))
    if control is not None and control not in labels:
        raise DataError.unknown(f"side in column {by!r}", control, labels)
    twice = native[native.duplicated([unit, by])]
    if len(twice):
        raise DataError(
            f"{unit} {twice[unit].iloc[0]!r} has more than one {value} on the side"
            f" {reduce.label_text(twice[by].iloc[0])!r} ({len(twice):,} such rows): keep one, or take their mean."
        )
    native[by] = [reduce.label_text(label) for label in native[by]]
    return native.pivot(index=unit, columns=by, values=value)


def codes(labels: Any) -> tuple[NDArray[np.intp], list[Any]]:
    """Whole numbers for labels (-1 for none), and the labels."""
    codes, found = pd.factorize(labels)
    return np.asarray(codes), list(found)


def floats(column: Any) -> Floats:
    """Values as floats, missing ones as NaN."""
    return np.asarray(column.to_numpy(dtype=np.float64, na_value=np.nan))
