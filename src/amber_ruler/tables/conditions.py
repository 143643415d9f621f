"""Conditions on one column, said in words, and values as a column holds them."""

from __future__ import annotations

import datetime as dt
import math
import numbers
import re
from collections.abc import Iterable
from contextlib import suppress
from typing import Any, TypedDict

import narwhals as nw
from narwhals.dtypes import DType

from amber_ruler.errors import InputError

ORDERED = ("above", "at_least", "below", "at_most")
_ISO = re.compile(r"\s*\d{4}-\d\d-\d\d(?!\d)")
_DATE = re.compile(
    r"\s*(\d{1,4}([./-])\d{1,2}\2\d{1,4}(?!\d)"  # 1/10/2026, 01.10.26, 2026/10/1
    r"|\d{1,2}[ .-]*[A-Za-z]{3,9}[ .,-]*\d{2,4}|[A-Za-z]{3,9}\.? \d{1,2},? \d{4})"  # 1 Oct 2026, October 1, 2026
)


class Condition(TypedDict, total=False):
    """What the values of a column must be; all that is given must hold."""

    equals: Any
    differs: Any
    among: Iterable[Any]
    above: Any
    at_least: Any
    below: Any
    at_most: Any
    missing: bool


def expression(column: str, kind: DType, **condition: Any) -> nw.Expr:
    """One expression for all conditions on a column of a kind; a missing value meets none but `missing=True`."""
    unknown = set(condition) - set(Condition.__annotations__)
    if unknown:
        raise InputError.unknown("condition", min(unknown), Condition.__annotations__)
    if not condition:
        raise InputError(f"Say what {column!r} must be: {', '.join(Condition.__annotations__)}.")
    value = nw.col(column)
    parts = []
    for how, wanted in condition.items():
        if how == "missing":
            if not isinstance(wanted, bool):
                raise InputError.rule("missing", wanted, "True or False")
            parts.append(value.is_null() if wanted else ~value.is_null())
        elif how == "among":
            listed = [] if isinstance(wanted, (str, bytes)) or not isinstance(wanted, Iterable) else list(wanted)
            if not listed:
                raise InputError.rule("among", wanted, "a list of values, at least one")
            parts.append(value.is_in([fitting(column, kind, item) for item in listed]))
        else:
            fits = fitting(column, kind, wanted)
            if how in ORDERED and not isinstance(fits, (str, int, float, dt.date)):
                raise InputError.rule(how, wanted, f"a value that those of {column!r} can be compared with")
            compare = {
                "equals": "__eq__",
                "differs": "__ne__",
                "above": "__gt__",
                "at_least": "__ge__",
                "below": "__lt__",
            }
            parts.append(getattr(value, compare.get(how, "__le__"))(fits))
    return nw.all_horizontal(*parts, ignore_nulls=False)


def fitting(column: str, kind: DType, value: Any) -> Any:
    """A value as the column holds it (0 and "0" find each other, and a date and its text), or an error."""
    if isinstance(kind, nw.Boolean):
        if isinstance(value, str) and value.casefold() in ("true", "false"):
            return value.casefold() == "true"
        if value in (0, 1):
            return bool(value)
        raise InputError.rule(f"value for column {column!r}", value, "true or false, as the column holds")
    if kind.is_numeric():
        return _number(column, value)
    if isinstance(kind, (nw.Date, nw.Datetime)):
        return _moment(column, kind, value)
    if isinstance(kind, (nw.String, nw.Categorical, nw.Enum)):
        if isinstance(value, (list, tuple, set, dict, bytes)) or value is None:
            raise InputError.rule(f"value for column {column!r}", value, "text, as the column holds")
        if isinstance(value, dt.date):
            return value.isoformat()
        if isinstance(value, str) and dated(value):
            raise InputError.rule(f"value for column {column!r}", value, "a date written as 2026-10-01")
        return str(value)
    return value


def dated(text: str) -> bool:
    """Whether text is a date whose letters don't sort by time."""
    return _DATE.match(text) is not None and _ISO.match(text) is None


def _number(column: str, value: Any) -> int | float:
    if isinstance(value, str):
        try:
            value = int(value) if re.fullmatch(r"\s*[+-]?\d+\s*", value) else float(value)
        except ValueError:
            value = None
    if not isinstance(value, (numbers.Real, bool)) or not math.isfinite(value):
        raise InputError.rule(f"value for column {column!r}", value, "a number, as the column holds")
    return int(value) if isinstance(value, numbers.Integral) else float(value)


def _moment(column: str, kind: Any, value: Any) -> dt.date:
    """A day, or a moment in the column's time zone; a day among moments is its first one."""
    moment = value
    if isinstance(value, str) and _ISO.match(value):
        with suppress(ValueError):
            moment = dt.datetime.fromisoformat(value.strip())
    if not isinstance(moment, dt.date):
        raise InputError.rule(f"value for column {column!r}", value, "a date, such as 2026-10-01")
    if not isinstance(moment, dt.datetime):
        moment = dt.datetime(moment.year, moment.month, moment.day)  # noqa: DTZ001 - the column says its zone
    if isinstance(kind, nw.Date):
        if moment.time() != dt.time() or moment.tzinfo is not None:
            raise InputError.rule(f"value for column {column!r}", value, "a day without a time, as the column holds")
        return moment.date()
    if kind.time_zone is None:
        if moment.tzinfo is not None:
            raise InputError.rule(f"value for column {column!r}", value, "a moment without a time zone")
        return moment
    from zoneinfo import ZoneInfo

    return moment if moment.tzinfo is not None else moment.replace(tzinfo=ZoneInfo(kind.time_zone))
