"""Conditions on one column, said in words."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, TypedDict

import narwhals as nw

from amber_ruler.errors import InputError


class Condition(TypedDict, total=False):
    """What the values of a column must be; all that is given must hold."""

    equals: Any
    among: Iterable[Any]
    above: Any
    at_least: Any
    below: Any
    at_most: Any
    missing: bool


def expression(column: str, **condition: Any) -> nw.Expr:
    """One expression for all conditions; a missing value meets none but `missing=True`."""
    unknown = set(condition) - set(Condition.__annotations__)
    if unknown:
        raise InputError.unknown("condition", min(unknown), Condition.__annotations__)
    if not condition:
        raise InputError(f"Say what {column!r} must be: {', '.join(Condition.__annotations__)}.")
    value = nw.col(column)
    parts = []
    for how, wanted in condition.items():
        if how == "equals":
            parts.append(value == wanted)
        elif how == "among":
            listed = list(wanted)
            if isinstance(wanted, str) or not listed:
                raise InputError.rule("among", wanted, "a list of values, at least one")
            parts.append(value.is_in(listed))
        elif how == "above":
            parts.append(value > wanted)
        elif how == "at_least":
            parts.append(value >= wanted)
        elif how == "below":
            parts.append(value < wanted)
        elif how == "at_most":
            parts.append(value <= wanted)
        else:
            parts.append(value.is_null() if wanted else ~value.is_null())
    return nw.all_horizontal(*parts, ignore_nulls=False)
