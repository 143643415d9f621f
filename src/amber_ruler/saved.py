"""What a file of moments or a digest must hold: read strictly, so that anything else is an error that says where."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from amber_ruler.errors import DataError

Count = Annotated[int, Field(ge=0, le=2**53)]  # as far as floats count


class _Strict(BaseModel):
    model_config = ConfigDict(strict=True, extra="forbid", allow_inf_nan=False)


class SavedShape(_Strict):
    """Sums of third and fourth powers, and the ends, a number a column."""

    cubes: list[float]
    fourths: list[float]
    lowest: list[float | None]
    highest: list[float | None]


class SavedColumn(_Strict):
    """Moments of columns over the same rows."""

    format: Literal["amber-ruler moments"]
    version: Literal[1]
    label: str
    columns: Annotated[list[str], Field(min_length=1)]
    n: Count
    missing: Count
    means: list[float]
    mean_tails: list[float]
    comoments: list[list[float]]
    shape: SavedShape | None = None
    own: dict[str, Any] = {}


class SavedMoments(SavedColumn):
    """Moments of columns, and of those with rows of their own."""

    own: dict[str, SavedColumn] = {}


class SavedCell(_Strict):
    """The moments of each metric in one variant, stratum and day."""

    at: Annotated[list[str], Field(min_length=3, max_length=3)]
    moments: dict[str, SavedMoments]


class SavedDigest(_Strict):
    """A digest."""

    schema_: Literal["amber-ruler digest 1"] = Field(alias="schema")
    sha256: str
    by: str
    strata: str
    day: str
    metrics: Annotated[list[str], Field(min_length=1)]
    covariates: list[str]
    unassigned: Count
    cells: list[SavedCell]


M = TypeVar("M", bound=BaseModel)


def parsed(text: str) -> Any:
    """A JSON text as plain types; NaN and what is too deep or too long are none."""
    try:
        data = json.loads(text, parse_constant=_no_constant)
        json.dumps(data, ensure_ascii=False).encode("utf-8")  # halves of a character are no text
    except (ValueError, RecursionError, TypeError) as error:
        line = f" (line {error.lineno})" if isinstance(error, json.JSONDecodeError) else ""
        raise DataError(f"This is not JSON{line}.") from None
    return data


def checked(data: Any, kind: type[M], what: str) -> M:
    """Plain types of a kind, or an error that says what is wrong and where."""
    try:
        return kind.model_validate(data)
    except ValidationError as error:
        first = error.errors(include_url=False, include_context=False, include_input=False)[0]
        place = " → ".join(str(part) for part in first["loc"])
        raise DataError(f"This is no {what}: {place or 'the whole'}: {first['msg']}.") from None


def _no_constant(name: str) -> float:
    raise ValueError(f"{name} is not a number")
