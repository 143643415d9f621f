"""The JSON Schema of results, made from the dataclasses that they are."""

from __future__ import annotations

import types
from collections.abc import Mapping
from functools import cache
from typing import Any, Literal, Union, get_args, get_origin

import numpy as np
from pydantic import BaseModel, ConfigDict, TypeAdapter, create_model

from amber_ruler.report.reading import fields_of, known_types
from amber_ruler.results import Measurement, Part, Result
from amber_ruler.results.result import SCHEMA, type_tag

_Numbers = float | None | list[Any]


@cache
def model_of(kind: Any) -> type[BaseModel]:
    """A model of a class and of what it holds, as they stand in JSON."""
    fields: dict[str, Any] = {name: (_shape(hint), None) for name, hint in fields_of(kind).items()}
    tag: Any = Literal[type_tag(kind)]
    model: type[BaseModel] = create_model(
        type_tag(kind), __config__=ConfigDict(extra="allow"), type=(tag, ...), **fields
    )
    return model


def published() -> dict[str, Any]:
    """One schema for every type of result."""
    kinds: list[Any] = [
        kind for kind in known_types().values() if issubclass(kind, Result) and kind not in (Result, Measurement)
    ]
    every: Any = Union[tuple(model_of(kind) for kind in kinds)]  # noqa: UP007 - made of a tuple
    found = TypeAdapter(every).json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": SCHEMA, **found}


def _shape(hint: Any) -> Any:
    """What a field's type looks like in JSON, where what is no finite number is null."""
    origin, args = get_origin(hint), get_args(hint)
    if origin in (Union, types.UnionType):
        return Union[tuple(_shape(a) for a in args)]  # noqa: UP007 - made of a tuple
    if hint in (float, int) or origin is np.ndarray or hint is np.ndarray:
        return _Numbers if hint is not int else int | None
    if origin is tuple:
        return list[_shape(args[0])] if args else list[Any]  # type: ignore[misc]
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return dict[str, _shape(args[1])]  # type: ignore[misc]
    if hint in (str, bool, type(None)):
        return hint
    if origin is Literal:
        return hint
    if hint is Part:  # any of them; an adjustment holds a comparison, which may hold parts
        return dict[str, Any]
    known = isinstance(hint, type) and hint in known_types().values() and hint not in (Measurement, Result)
    return model_of(hint) if known else dict[str, Any]
