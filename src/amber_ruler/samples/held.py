"""Numbers as the samples hold them: their own, read-only, whatever container they came in."""

from __future__ import annotations

import copy
from collections.abc import Iterable
from typing import Any, TypeVar

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats

T = TypeVar("T")

JOINT = " · "  # between the levels of several columns in one label


def own(name: str, values: ArrayLike) -> Floats:
    """Copy values into a read-only array: the caller's may change later, an answer may not."""
    array = np.array(_plain_values(name, values), dtype=np.float64)
    array.setflags(write=False)
    return array


def own_numbers(item: Any, names: Iterable[str]) -> None:
    """Make a sample's arrays its own, where it holds arrays; single numbers stay as they were given."""
    shapes = []
    for name in names:
        value = getattr(item, name)
        if isinstance(value, (float, int)) or value is None:
            continue
        numbers = own(name, value)
        if numbers.size == 0:
            raise InputError.rule(name, value, "at least one number")
        if numbers.ndim:
            object.__setattr__(item, name, numbers)
            shapes.append(numbers.shape)
    gate.common_shape(*shapes)


def changed(item: T, **fields: Any) -> T:
    """The same sample with other fields, which need no check."""
    twin = copy.copy(item)
    for name, value in fields.items():
        object.__setattr__(twin, name, value)
    return twin


def kept(values: Floats, without: Iterable[int], label: str) -> Floats:
    """Values without those at some positions."""
    places = np.asarray(list(without))
    if places.size and (places.dtype.kind not in "iu" or places.min() < 0 or places.max() >= values.shape[-1]):
        raise InputError.rule(
            "without", places.tolist(), f"positions of units of {label!r}, 0 to {values.shape[-1] - 1}"
        )
    return np.delete(values, places.astype(int), axis=-1)


def _plain_values(name: str, values: ArrayLike) -> Any:
    """What NumPy can read of a list, an array, or a column of a dataframe, its missing values as NaN."""
    if isinstance(values, (np.ndarray, list, tuple, float, int)) or not hasattr(values, "to_numpy"):
        return gate.floats(name, values)
    try:  # a nullable column says by this what its missing values become
        return values.to_numpy(dtype=np.float64, na_value=np.nan)
    except (TypeError, ValueError):
        return gate.floats(name, values.to_numpy())
