"""The base of every answer: how it prints, what it hands on, and how it is asked again."""

from __future__ import annotations

import dataclasses
import json
import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from importlib import import_module
from typing import TYPE_CHECKING, Any, Self

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.results.pieces import Check

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

SCHEMA = "amber-ruler result 2"
# A field that stays in memory: it never reaches JSON, a frame, or the comparison of two results.
HIDDEN: Mapping[str, bool] = {"hidden": True}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Result:
    """Base of every answer.

    Attributes
    ----------
    title : str
        What was asked.
    method, source : str
        How it was computed, and the citation of the formula.
    checks : tuple of Check
        Assumptions looked at.
    notes : tuple of str
        What the reader must know besides.
    seed : int or None
        What replays the answer, where chance was used.
    asked : Asked or None
        The method, the groups as they were read, and the settings; not part of JSON or of equality.
    """

    title: str
    method: str
    source: str
    checks: tuple[Check, ...] = ()
    notes: tuple[str, ...] = ()
    seed: int | None = None
    asked: Any = field(default=None, metadata=HIDDEN)

    def __str__(self) -> str:
        return str(report_floor().text(self))

    __repr__ = __str__

    def again(self, *, without: Any = None, **changes: Any) -> Self:
        """Ask the same question with other settings, or without some of the units or groups.

        Parameters
        ----------
        without : mapping of label to positions, sequence of positions, or sequence of labels, optional
            Units to leave out, counted from 0 in the order in which they were given: by group, or of pairs. Of several
            groups also whole ones, by label.
        **changes
            Settings of the method, such as alpha, null or margin.

        Returns
        -------
        Result
            Of the same kind.

        Raises
        ------
        InputError
            If the result was read from JSON or put together by hand, or the units are not known one by one.

        Examples
        --------
        >>> from amber_ruler import measure
        >>> r = measure.means([3.0, 5.0, 4.0, 19.0], [2.0, 4.0, 3.0, 1.0])
        >>> r.again(alpha=0.1).interval.level, round(r.again(without={"treatment": [3]}).estimate, 2)
        (0.9, 1.5)
        """
        if self.asked is None:
            raise InputError(
                "This result can't be asked again: it was read back, or put together, and holds no data. Measure anew."
            )
        answer: Self = self.asked.again(without=without, **changes)
        return answer

    def sentence(self) -> str:
        """Return the answer as one plain sentence that fits into a report."""
        return str(report_floor().sentence(self))

    def to_dict(self) -> dict[str, Any]:
        """Return plain JSON types under stable keys; what is not a finite number becomes None."""
        return {"schema": SCHEMA, **_plain_fields(self)}

    def to_json(self, *, indent: int | None = 2) -> str:
        """Return `to_dict` as JSON text."""
        return json.dumps(self.to_dict(), indent=indent, ensure_ascii=False, allow_nan=False)

    @staticmethod
    def from_json(text: str) -> Result:
        """Read back what `to_json` wrote; a limit of null is unbounded.

        Raises
        ------
        DataError
            If the text is not JSON, or no result of this version.

        Examples
        --------
        >>> from amber_ruler import Result, Summary, measure
        >>> r = measure.means(Summary(90, 14.2, 4.0, "short"), Summary(90, 13.0, 3.0, "current"))
        >>> Result.from_json(r.to_json()) == r
        True
        """
        result: Result = report_floor().from_json(text)
        return result

    def to_frame(self) -> pd.DataFrame:
        """Return a tidy pandas frame, one row a comparison."""
        frame: pd.DataFrame = report_floor().frame(self)
        return frame

    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the result, on `ax` if given, and return the Axes."""
        axes: Axes = report_floor().figure(self, ax)
        return axes

    def _repr_html_(self) -> str:
        return str(report_floor().fragment(self))

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self.to_dict() == other.to_dict()

    __hash__ = None  # type: ignore[assignment]


def type_tag(kind: type) -> str:
    """A class's name as it stands under "type" in JSON: `EffectSize` is "effect_size"."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])", "_", kind.__name__).lower()


def report_floor(room: str = "") -> Any:
    """What draws and writes results, or a room of it: the one reach upward, made when it is asked."""
    return import_module(f"amber_ruler.report{room}")


def _plain_fields(item: Any) -> dict[str, Any]:
    shown = (f for f in dataclasses.fields(item) if not f.metadata.get("hidden"))
    plain = {"type": type_tag(type(item)), **{f.name: _plain(getattr(item, f.name)) for f in shown}}
    # What a reader would otherwise have to work out.
    for name in ("unit", "verdict"):
        if name not in plain and hasattr(type(item), name):
            plain[name] = _plain(getattr(item, name))
    return plain


def _plain(value: Any) -> Any:
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return _plain_fields(value)
    if isinstance(value, Mapping):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(v) for v in value]
    if isinstance(value, (np.ndarray, np.generic)):
        return _plain(value.tolist())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value
