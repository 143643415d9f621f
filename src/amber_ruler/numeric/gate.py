"""The one gate for numbers: a formula begins with clean float arrays."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Iterable

Floats: TypeAlias = NDArray[np.float64]
Number: TypeAlias = float | Floats

ALTERNATIVES = ("two-sided", "greater", "less")


def floats(name: str, value: ArrayLike) -> Floats:
    """Return `value` as float64, or say that it is not numbers."""
    try:
        return np.asarray(value, dtype=np.float64)
    except (TypeError, ValueError):
        raise InputError.rule(name, value, "a number or an array of numbers") from None


def aligned(*values: ArrayLike) -> list[Floats]:
    """Return float64 arrays broadcast against each other."""
    arrays = [np.asarray(v, dtype=np.float64) for v in values]
    if any(a.ndim for a in arrays):
        first = arrays[0].shape
        return arrays if all(a.shape == first for a in arrays) else list(np.broadcast_arrays(*arrays))
    # Single numbers need no broadcasting, and NumPy's scalars are several times faster than its arrays of one number.
    return [a[()] for a in arrays]


def some(condition: Any) -> bool:
    """Whether a condition holds anywhere: np.any, but quick for a single number."""
    return bool(condition.any()) if np.ndim(condition) else bool(condition)


def _all(ok: Any, name: str, array: Floats, rule: str, way_out: str) -> Floats:
    if not (bool(ok) if isinstance(ok, np.bool_) else ok.all()):
        culprit = float(np.extract(~np.broadcast_to(ok, array.shape), array)[0])
        raise InputError.rule(name, culprit, rule, way_out)
    return array


def finite(name: str, value: ArrayLike, way_out: str = "") -> Floats:
    """Return an array without NaN or infinity."""
    array = floats(name, value)
    return _all(np.isfinite(array), name, array, "a finite number", way_out)


def positive(name: str, value: ArrayLike, way_out: str = "") -> Floats:
    """Return an array of finite numbers above 0."""
    array = finite(name, value)
    return _all(array > 0, name, array, "above 0", way_out)


def at_least(name: str, value: ArrayLike, low: float, way_out: str = "") -> Floats:
    """Return an array of finite numbers not below `low`."""
    array = finite(name, value)
    return _all(array >= low, name, array, f"at least {low:g}", way_out)


def whole(name: str, value: ArrayLike, low: float = 0, way_out: str = "") -> Floats:
    """Return an array of whole numbers not below `low`."""
    array = at_least(name, value, low, way_out)
    return _all(array == np.floor(array), name, array, "a whole number", way_out)


def between(name: str, value: ArrayLike, low: float, high: float, way_out: str = "") -> Floats:
    """Return an array of numbers strictly between `low` and `high`."""
    array = finite(name, value)
    return _all((array > low) & (array < high), name, array, f"between {low:g} and {high:g}", way_out)


def choice(name: str, value: str, known: Iterable[str]) -> str:
    """Return `value` if it is one of `known`, else say which is nearest."""
    options = tuple(known)
    if value not in options:
        raise InputError.unknown(name, value, options)
    return value


def scalar_or_array(value: Floats | np.float64) -> Number:
    """Turn a 0-d array into a Python float and leave other shapes alone."""
    if isinstance(value, float):  # as NumPy's own single floats are
        return float(value)
    array = np.asarray(value)
    return float(array) if array.ndim == 0 else array
