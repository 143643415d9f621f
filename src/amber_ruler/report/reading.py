"""Results read back from JSON: every object says its type, and its fields say what stands in them."""

from __future__ import annotations

import dataclasses
import json
import math
import types
from collections.abc import Iterator, Mapping
from functools import cache
from importlib import import_module
from typing import Any, Union, get_args, get_origin, get_type_hints

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.results.result import SCHEMA, Result, type_tag

_ROOMS = (
    "results",
    "samples",
    "moments",
    "digest",
    "measure.groups",
    "measure.groups.simultaneous",
    "measure.counts",
    "measure.factors",
    "multiplicity",
    "bayes.decision",
    "resample",
    "sequential",
    "sequential.boundaries",
    "plan",
    "plan.answers",
    "plan.choices",
    "plan.modifiers",
    "tables",
    "tables.description",
    "tables.findings",
    "experiment",
)


def read(text: str) -> Result:
    """Read one result."""
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise DataError(f"This is no JSON text of a result: {error}.") from None
    if not isinstance(data, dict) or data.get("schema") != SCHEMA:
        found = data.get("schema") if isinstance(data, dict) else type(data).__name__
        raise DataError(f"This JSON holds no result of this version: its schema is {found!r}, not {SCHEMA!r}.")
    try:
        result = _object(data)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise DataError(f"This JSON is no whole result: {error}") from None
    if not isinstance(result, Result):
        raise DataError(f"This JSON holds {data.get('type')!r}, which is no result.")
    return result


@cache
def known_types() -> Mapping[str, type]:
    """Every class that may stand in a result, by its name in JSON."""
    found: dict[str, type] = {}
    for room in _ROOMS:  # what a result is made of comes first: a design may be called as a part is
        for kind in _classes(f"amber_ruler.{room}"):
            found.setdefault(type_tag(kind), kind)
    return found


@cache
def fields_of(kind: type) -> Mapping[str, Any]:
    """The fields of a class that stand in JSON, with their types."""
    names = {c.__name__: c for c in known_types().values()}
    hints = get_type_hints(kind, localns=names)
    return {f.name: hints[f.name] for f in dataclasses.fields(kind) if f.init and not f.metadata.get("hidden")}


def _classes(module: str) -> Iterator[type]:
    for value in vars(import_module(module)).values():
        if isinstance(value, type) and dataclasses.is_dataclass(value) and value.__module__.startswith("amber_ruler"):
            yield value


def _object(data: Mapping[str, Any]) -> Any:
    tag = data.get("type")
    if tag not in known_types():
        raise DataError.unknown("type", tag, known_types())
    kind = known_types()[str(tag)]
    given = {name: _value(data[name], hint) for name, hint in fields_of(kind).items() if name in data}
    if tag == "interval":
        given |= {name: _unbounded(given[name], end) for name, end in (("low", -math.inf), ("high", math.inf))}
    if tag == "effect_size" and given["unit"] in ("ratio", "relative") and isinstance(given["value"], float):
        given["value"] = _unbounded(None if math.isnan(given["value"]) else given["value"], math.inf)
    return kind(**given)


def _unbounded(limit: Any, end: float) -> Any:
    """A limit that is missing is unbounded."""
    return np.where(np.isnan(limit), end, limit) if isinstance(limit, np.ndarray) else end if limit is None else limit


def _value(value: Any, hint: Any) -> Any:
    if isinstance(value, dict):
        if "type" in value:
            return _object(value)
        each = (get_args(hint) or (str, Any))[-1]
        return {key: _value(item, each) for key, item in value.items()}
    options = get_args(hint) if get_origin(hint) in (Union, types.UnionType) else (hint,)
    if isinstance(value, list):
        ordered = next((o for o in options if get_origin(o) is tuple), None)
        if ordered is not None and not _is_array(options, value):
            inner = get_args(ordered)
            return tuple(
                _value(item, inner[min(k, len(inner) - 1)] if inner[-1] is not ... else inner[0])
                for k, item in enumerate(value)
            )
        return np.array([math.nan if v is None else v for v in value] if _flat(value) else value)
    if value is None and type(None) not in options:
        return math.nan if any(o in (float, int) for o in options) else None
    return value


def _is_array(options: tuple[Any, ...], value: list[Any]) -> bool:
    """Of a field that may be an array or a tuple (degrees of freedom): two numbers are a pair."""
    return any(get_origin(o) is np.ndarray for o in options) and len(value) != 2


def _flat(value: list[Any]) -> bool:
    return not any(isinstance(item, list) for item in value)
