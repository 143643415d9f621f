"""Products of columns, turned around: which columns say nothing of their own, and what the others explain."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from amber_ruler.errors import DataError
from amber_ruler.numeric.gate import Floats

MARK = " is missing"  # the end of the name of a column that marks where another has no value
ALIKE = 1e-10  # share of a covariate's variance that others leave, at or below which it is a combination of them


def inverse(squares: Floats, names: Sequence[str], where: str = "") -> tuple[Floats, int]:
    """The inverse of a table of products of deviations, and its rank; what is collinear or constant is an error.

    A mark of missing values that says no more than the others is left out: its rows of the inverse are 0.
    """
    scale = np.sqrt(np.where(np.diag(squares) > 0, np.diag(squares), 1.0))
    left = squares / np.outer(scale, scale)
    scaled, kept = left.copy(), list[int]()
    for k, name in enumerate(names):
        if left[k, k] < ALIKE:
            if is_mark(name):
                continue
            if squares[k, k] <= 0:
                raise DataError(f"The covariate {name!r} never varies{where}: leave it out.")
            raise collinear(name, [names[j] for j in kept], where)
        left = left - np.outer(left[:, k], left[k]) / left[k, k]
        kept.append(k)
    found = np.zeros_like(squares)
    at = np.ix_(kept, kept)
    found[at] = np.linalg.inv(scaled[at]) / np.outer(scale, scale)[at]
    return found, len(kept)


def is_mark(name: str) -> bool:
    """Whether a column marks the missing values of another."""
    return name.endswith(MARK)


def collinear(name: str, others: Sequence[str], where: str = "") -> DataError:
    """Say which column is a combination of which others."""
    listed = " and ".join(map(repr, others))
    return DataError(f"The covariate {name!r} is a combination of {listed}{where}: they are collinear. Leave one out.")
