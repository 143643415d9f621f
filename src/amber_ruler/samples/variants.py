"""An ordered mapping from variant label to what is known of it."""

from __future__ import annotations

from typing import Any, TypeVar

from amber_ruler.errors import DataError

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
