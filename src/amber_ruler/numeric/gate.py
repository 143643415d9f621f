"""The one gate for numbers: a formula begins with clean float arrays."""

from __future__ import annotations

from decimal import Decimal
from numbers import Real
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Iterable

Floats: TypeAlias = NDArray[np.float64]
Number: TypeAlias = float | Floats

_NUMBERS = "biuf"  # kinds of arrays whose values are numbers
ALTERNATIVES = ("two-sided", "greater", "less")


def floats(name: str, value: ArrayLike) -> Floats:
    """Return `value` as float64, what is masked as NaN; or say that it is not numbers.

    Text, bytes, dates, durations and complex numbers are none, even where they could be turned into some.
    """
    try:
        array = np.ma.asarray(value) if isinstance(value, np.ma.MaskedArray) else np.asarray(value)
        if array.dtype.kind in _NUMBERS or (array.dtype.kind == "O" and all(map(_is_number, array.flat))):
            found = array.astype(np.float64, copy=False)
            return found.filled(np.nan) if isinstance(found, np.ma.MaskedArray) else found
    except (TypeError, ValueError, OverflowError):
        pass
    raise InputError.rule(name, value, "a number or an array of numbers")


def _is_number(value: Any) -> bool:
    return value is None or isinstance(value, (Real, Decimal, np.bool_)) or type(value).__name__ == "NAType"


def single(name: str, value: Any) -> float:
    """Return one number."""
    array = floats(name, value)
    if array.ndim or value is None:
        raise InputError.rule(name, value, "a single number")
    return float(array)


def common_shape(*shapes: tuple[int, ...]) -> tuple[int, ...]:
    """Return the shape to which arrays of these shapes are broadcast."""
    try:
        return np.broadcast_shapes(*shapes)
    except ValueError:
        told = ", ".join(dict.fromkeys(str(shape) for shape in shapes if shape))
        raise InputError(f"Numbers of the shapes {told} do not go together.") from None


def aligned(*values: ArrayLike) -> list[Floats]:
    """Return float64 arrays broadcast against each other."""
    arrays = [np.asarray(v, dtype=np.float64) for v in values]
    if any(a.ndim for a in arrays):
        first = arrays[0].shape
        if all(a.shape == first for a in arrays):
            return arrays
        shape = common_shape(*(a.shape for a in arrays))
        return [np.broadcast_to(a, shape) for a in arrays]
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
    if not isinstance(value, str) or value not in options:
        raise InputError.unknown(name, value, options)
    return value


def scalar_or_array(value: Floats | np.float64) -> Number:
    """Turn a 0-d array into a Python float and leave other shapes alone."""
    if isinstance(value, float):  # as NumPy's own single floats are
        return float(value)
    array = np.asarray(value)
    return float(array) if array.ndim == 0 else array
