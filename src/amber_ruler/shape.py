"""How the values of columns lie beyond mean and spread: third and fourth moments, and the ends."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from amber_ruler.errors import InputError
from amber_ruler.numeric.gate import Floats

if TYPE_CHECKING:
    from amber_ruler.saved import SavedShape


@dataclass(frozen=True, slots=True, eq=False)
class Shape:
    """Sums of third and fourth powers of deviations from the means, and the ends, of k columns; mergeable.

    Attributes
    ----------
    cubes, fourths : ndarray, shape (..., k)
        Sums over rows of the third and fourth powers of the deviations from a column's mean.
    lowest, highest : ndarray, shape (..., k)
        The smallest and the largest value; without a row infinity and minus infinity.
    """

    cubes: Floats
    fourths: Floats
    lowest: Floats
    highest: Floats

    @classmethod
    def of(cls, values: Floats, deviations: Floats) -> Shape:
        """From k columns and their deviations from any origin, shape (k, rows): the sums are around that origin."""
        squares = deviations * deviations
        return cls(
            np.einsum("ij,ij->i", squares, deviations),
            np.einsum("ij,ij->i", squares, squares),
            values.min(axis=1, initial=np.inf),
            values.max(axis=1, initial=-np.inf),
        )

    def __add__(self, other: Shape) -> Shape:
        """The sums of both, around the same point."""
        return Shape(
            self.cubes + other.cubes,
            self.fourths + other.fourths,
            np.minimum(self.lowest, other.lowest),
            np.maximum(self.highest, other.highest),
        )

    def moved(self, n: Any, squares: Floats, by: Any) -> Shape:
        """Sums around the mean as sums around a point that lies `by` below it; `squares` are the sums of squares.

        References
        ----------
        .. [1] Pébay (2008), Sandia report SAND2008-6212, equations 1.4 and 1.5.
        """
        cubes = self.cubes + 3 * by * squares + n * by**3
        fourths = self.fourths + 4 * by * self.cubes + 6 * by**2 * squares + n * by**4
        return Shape(cubes, fourths, self.lowest, self.highest)

    def centred(self, n: Any, squares: Floats, shift: Floats, flat: NDArray[np.bool_]) -> Shape:
        """Sums around an origin as sums around the means, `shift` away; of a constant column nothing is left."""
        cubes = self.cubes - 3 * shift * squares + 2 * n * shift**3
        fourths = self.fourths - 4 * shift * self.cubes + 6 * shift**2 * squares - 3 * n * shift**4
        return Shape(np.where(flat, 0.0, cubes), np.where(flat, 0.0, fourths), self.lowest, self.highest)

    @property
    def known(self) -> bool:
        """Whether floats hold the sums."""
        return bool(np.isfinite(self.cubes).all() and np.isfinite(self.fourths).all())

    def at(self, columns: list[int]) -> Shape:
        """Some columns, in this order."""
        return Shape(*(getattr(self, part)[..., columns] for part in PARTS))

    def of_set(self, position: int) -> Shape:
        """One of the sets of rows that are stacked."""
        return Shape(*(getattr(self, part)[position] for part in PARTS))

    @classmethod
    def stack(cls, shapes: Sequence[Shape]) -> Shape:
        """Sets of rows beside each other."""
        return cls(*(np.stack([getattr(s, part) for s in shapes]) for part in PARTS))

    def to_dict(self) -> dict[str, list[float | None]]:
        """Plain JSON types; an end that no row has is null."""
        return {part: [v if np.isfinite(v) else None for v in getattr(self, part).tolist()] for part in PARTS}

    @classmethod
    def from_saved(cls, held: SavedShape, k: int) -> Shape:
        """Read what `to_dict` gave for k columns."""
        ends = {"lowest": np.inf, "highest": -np.inf}
        each = {part: [ends.get(part) if v is None else v for v in getattr(held, part)] for part in PARTS}
        if any(len(values) != k for values in each.values()) or min(held.fourths) < 0:
            raise InputError(
                f"The shape of {k} columns needs {k} numbers for each of {', '.join(PARTS)}, no fourth below 0."
            )
        return cls(*(np.array(each[part]) for part in PARTS))


PARTS = tuple(f.name for f in fields(Shape))
