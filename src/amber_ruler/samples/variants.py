"""An ordered mapping from variant label to what is known of it."""

from __future__ import annotations

from typing import Any, TypeVar

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.results.display import display, safe

T = TypeVar("T")


class ByVariant(dict[str, T]):
    """Variant label to Sample or Moments, in the labels' alphabetical order.

    Attributes
    ----------
    column : str
        The column that holds the labels.
    unassigned : int
        Rows without a label; they belong to no variant.
    """

    def __init__(self, items: dict[str, T], *, column: str, unassigned: int = 0) -> None:
        super().__init__(items)
        self.column = column
        self.unassigned = unassigned

    def __repr__(self) -> str:
        return f"<by {safe(self.column)}: {', '.join(safe(label) for label in self)}>"

    def _repr_html_(self) -> str:
        rows = ((label, *_told(item)) for label, item in self.items())
        below = f"{self.unassigned:,} rows have no label" if self.unassigned else ""
        return display(f"By {self.column}", ("", "n", "missing", "mean"), rows, below)

    def __missing__(self, label: str) -> Any:
        raise DataError.unknown(f"variant in column {self.column!r}", label, self)

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
        return [(other, base) for label, other in self.items() if label != control]


def _told(item: Any) -> tuple[str, str, str]:
    """Count, missing and mean of a sample, of moments (of their first column), or a bare count."""
    if isinstance(item, int):
        return f"{item:,}", "", ""
    values = getattr(item, "values", None)
    if values is None:
        sizes, means, _, _ = item.each()
        n, mean = int(np.ravel(sizes)[0]), float(np.ravel(means)[0])
    else:
        n, mean = len(values), float(np.mean(values))
    return f"{n:,}", f"{int(item.missing):,}", f"{mean:.4g}"
