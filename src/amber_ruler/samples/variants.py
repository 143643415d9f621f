"""An ordered mapping from variant label to what is known of it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.results.display import Look, Shown, safe

T = TypeVar("T")


class ByVariant(dict[str, T], Shown):
    """Variant label to Sample or Moments, in the labels' alphabetical order.

    A label is found as text or as the value that the column holds. Labels that are numbers are printed with their
    column, as "reminder 1", which finds them as well: 1 − 0 would read as arithmetic.

    Attributes
    ----------
    column : str
        The column that holds the labels.
    unassigned : int
        Rows without a label; they belong to no variant.
    """

    def __init__(self, items: dict[str, T], *, column: str, unassigned: int = 0) -> None:
        names = printed(items, column)
        items = {label: _named(item, label, names[label]) for label, item in items.items()}
        super().__init__(items)
        self.column = column
        self.unassigned = unassigned

    def __repr__(self) -> str:
        return f"<by {safe(self.column)}: {', '.join(safe(label) for label in self)}>"

    def _look(self) -> Look:
        names = printed(self, self.column)
        rows = ((names[label], *_told(item)) for label, item in self.items())
        below = f"{self.unassigned:,} rows have no label" if self.unassigned else ""
        return Look(f"By {self.column}", ("", "n", "missing", "mean"), rows, below)

    def __missing__(self, label: Any) -> Any:
        key = self._key(label)
        if key in self.keys():
            return self[key]
        raise DataError.unknown(f"variant in column {self.column!r}", label, self)

    def _key(self, label: Any) -> str:
        """The text under which a label stands, however it was said."""
        text = str(label)
        if text not in self.keys() and isinstance(label, (float, np.floating)) and float(label).is_integer():
            text = str(int(label))
        short = text.removeprefix(f"{self.column} ")
        return short if text not in self.keys() and short in self.keys() else text

    def against(self, control: str) -> list[tuple[T, T]]:
        """Pair every other variant, as treatment, with the control.

        Raises
        ------
        DataError
            If the control does not occur, or nothing else does.
        """
        base = self[control]
        if len(self) < 2:
            raise DataError(
                f"Column {self.column!r} holds one variant only, {control!r}: a comparison needs a second one."
            )
        return [(other, base) for label, other in self.items() if label != self._key(control)]


def printed(labels: Iterable[str], column: str) -> dict[str, str]:
    """What labels are called where they are printed: numbers with their column, as "reminder 1"."""
    known = list(labels)
    numeric = bool(column) and all(map(_is_number, known))
    return {label: f"{column} {label}" if numeric else label for label in known}


def _is_number(label: str) -> bool:
    try:
        float(label)
    except ValueError:
        return False
    return True


def _named(item: Any, label: str, name: str) -> Any:
    """The same with a name that no one takes for a number."""
    if name == label or getattr(item, "label", None) != label:
        return item
    return item.relabel(name) if hasattr(item, "relabel") else replace(item, label=name)


def _told(item: Any) -> tuple[str, str, str]:
    """Count, missing and mean of a sample, of moments (of their first column), or a bare count."""
    if isinstance(item, int):
        return f"{item:,}", "", ""
    if not hasattr(item, "each") and not hasattr(item, "values"):
        return repr(item), "", ""
    values = getattr(item, "values", None)
    if values is None:
        sizes, means, _, _ = item.each()
        n, mean = int(np.ravel(sizes)[0]), float(np.ravel(means)[0])
    else:
        n, mean = len(values), float(np.mean(values))
    return f"{n:,}", f"{int(item.missing):,}", f"{mean:.4g}"
