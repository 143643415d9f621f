"""Moments: all that a mean-type method needs from the rows, small, mergeable, exact to the last digits."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.results.pieces import Axis
from amber_ruler.shape import Shape

if TYPE_CHECKING:
    from amber_ruler.saved import SavedColumn

__all__ = ["Moments", "merge"]

FORMAT = "amber-ruler moments"
VERSION = 1
_ROWS = 1 << 16


@dataclass(frozen=True, slots=True, eq=False)
class Moments(Shown):
    """Count, means and centred co-moments of named columns: of one over its own rows, of several over their joint ones.

    Parameters
    ----------
    columns : tuple of str
        Names of the k columns.
    n : int, or ndarray of shape (...)
        Complete rows; an array where several sets of rows are stacked.
    means : ndarray, shape (..., k)
        Means, each in its column's unit.
    comoments : ndarray, shape (..., k, k)
        Sums over rows of products of deviations from the means; variances are these over n - 1.
    label : str
        The variant these rows belong to.
    missing : int
        Rows left out because a column had no value.
    mean_tails : ndarray, shape (..., k)
        What the float64 `means` round away, so that means around 1e9 can still be subtracted.
    axis : Axis, optional
        What stacked sets of rows differ by, such as the segment.
    own : mapping of str to Moments, optional
        For each column with rows that lack another one, its moments over all the rows where it has a value.
    shape : Shape, optional
        Sums of third and fourth powers, and the smallest and largest values; None where they are not known.

    Notes
    -----
    What is asked of one column (`mean`, `variance`, `sd`, `select`) comes from its own rows, which may be more than the
    `n` that are complete; what takes two (`covariance`, `correlation`) comes from the complete ones. Columns of moments
    are never left out of several unless the complete rows stay the same: ask the table for those columns instead.
    Reduction centres the rows before it squares them; merging is pairwise [1]_ [2]_. Values around 1e9 with
    spread 1 keep their digits.

    References
    ----------
    .. [1] Chan, Golub & LeVeque (1983), The American Statistician 37, 242-247.
    .. [2] Pébay (2008), Sandia report SAND2008-6212, equations 1.1 to 1.3.

    Examples
    --------
    >>> m = Moments.from_arrays({"fare": [10.0, 12.0, 17.0]}, label="short")
    >>> m.n, m.mean("fare"), m.variance("fare")
    (3, 13.0, 13.0)
    """

    columns: tuple[str, ...]
    n: Any  # an int, or an array
    means: Floats
    comoments: Floats
    label: str = ""
    missing: int = 0
    mean_tails: Floats | None = None
    axis: Axis | None = None
    own: Mapping[str, Moments] = field(default_factory=dict)
    shape: Shape | None = None

    def __post_init__(self) -> None:
        k = len(self.columns)
        if len(set(self.columns)) != k or k == 0:
            raise InputError(f"Moments need distinct column names, got {list(self.columns)}.")
        if np.any(np.asarray(self.n) < (0 if self.own else 1)):
            raise DataError(
                f"No row {_of(self.label)}has a value in {', '.join(map(repr, self.columns))}"
                f" ({self.missing} rows are missing one)."
            )
        shape = (*np.shape(self.n), k)
        means, comoments = (
            np.array(gate.finite("means", self.means)),
            np.array(gate.finite("comoments", self.comoments)),
        )
        tails = np.zeros(shape) if self.mean_tails is None else np.array(gate.finite("mean_tails", self.mean_tails))
        if means.shape != shape or tails.shape != shape or comoments.shape != (*shape, k):
            raise InputError(
                f"Moments of {k} columns need {k} means and {k} x {k} co-moments, got shapes"
                f" {means.shape} and {comoments.shape}."
            )
        for array in (means, tails, comoments):
            array.setflags(write=False)
        object.__setattr__(self, "means", means)
        object.__setattr__(self, "mean_tails", tails)
        object.__setattr__(self, "comoments", comoments)

    @classmethod
    def from_arrays(
        cls, data: Mapping[str, ArrayLike], *, label: str = "", missing: int = 0, checked: bool = False
    ) -> Moments:
        """Reduce arrays of equal length, one a column, without missing values; `checked` ones are known to be finite.

        Two passes over blocks: the first finds an origin, the second sums deviations from it.
        """
        columns = tuple(data)
        arrays = [gate.floats(name, values) for name, values in data.items()]
        n = check_lengths(dict(zip(columns, arrays, strict=True)))
        if n == 0:
            raise DataError(f"There are no rows {_of(label)}in {', '.join(map(repr, columns))}.")
        for name, values in zip(columns, arrays, strict=True):
            if not checked:
                check_finite(name, values, label)
            check_squares(label or name, values)
        origin = np.array([np.mean(values) for values in arrays])
        sums, products = np.zeros(len(arrays)), np.zeros((len(arrays), len(arrays)))
        shape = Shape.of(*[np.empty((len(arrays), 0))] * 2)
        with np.errstate(over="ignore", invalid="ignore"):
            for start in range(0, n, _ROWS):
                raw = np.stack([values[start : start + _ROWS] for values in arrays])
                block = raw - origin[:, None]
                sums += block.sum(axis=1)
                products += block @ block.T
                shape += Shape.of(raw, block)
        if not np.isfinite(products).all():
            raise too_large(columns)
        return cls.from_sums(columns, n, origin, sums, products, shape, label=label, missing=missing)

    @classmethod
    def from_sums(
        cls,
        columns: Sequence[str],
        n: int,
        origin: Floats,
        sums: Floats,
        products: Floats,
        shape: Shape | None = None,
        *,
        label: str = "",
        missing: int = 0,
    ) -> Moments:
        """Build from sums of deviations from an origin near the means, and sums of their products and powers."""
        shift = sums / max(n, 1)
        means = origin + shift
        comoments = products - n * np.outer(shift, shift)
        # A spread below the spacing of floats around the origin is rounding: the column is constant.
        flat = np.diag(comoments) <= n * (np.finfo(float).eps * np.abs(origin)) ** 2
        comoments[flat, :] = comoments[:, flat] = 0.0
        tails = shift - (means - origin)
        around = None if shape is None or not shape.known else shape.centred(n, np.diag(products), shift, flat)
        comoments = (comoments + comoments.T) / 2
        return cls(tuple(columns), int(n), means, comoments, label, int(missing), tails, shape=around)

    @classmethod
    def from_summary(cls, *, n: int, mean: float, sd: float, column: str = "value", label: str = "") -> Moments:
        """Build from a published count, mean and standard deviation (with n - 1 below)."""
        gate.whole("n", n, 1)
        gate.at_least("sd", sd, 0)
        return cls((column,), int(n), np.array([mean]), np.array([[sd * sd * (n - 1)]]), label)

    @classmethod
    def stack(cls, parts: Mapping[str, Moments], *, axis: str = "segment") -> Moments:
        """Put the moments of several sets of rows (segments, days) beside each other: one call compares them all.

        Examples
        --------
        >>> ports = {"Gullhaven": [1.0, 2.0], "Tern Quay": [3.0, 6.0]}
        >>> stacked = Moments.stack({port: Moments.from_arrays({"fare": v}) for port, v in ports.items()}, axis="port")
        >>> stacked.mean("fare").tolist()
        [1.5, 4.5]
        """
        if not parts:
            raise InputError("There is nothing to stack: give at least one Moments.")
        each = list(parts.values())
        first = each[0]
        for other in each:
            if other.columns != first.columns or other.label != first.label:
                raise InputError("Only moments of the same columns and label stack.")
        n, means, comoments, tails = (
            np.stack([np.asarray(getattr(m, name)) for m in each]) for name in ("n", "means", "comoments", "tails")
        )
        missing = sum(m.missing for m in each)
        own = {
            c: cls.stack({k: m.select(c) for k, m in parts.items()}, axis=axis)
            for c in first.columns
            if any(c in m.own for m in each)
        }
        shapes = [m.shape for m in each if m.shape is not None]
        shape = Shape.stack(shapes) if len(shapes) == len(each) else None
        along = Axis(axis, tuple(parts))
        return cls(first.columns, n, means, comoments, first.label, missing, tails, along, own, shape)

    def __repr__(self) -> str:
        n = f"{self.n:,}" if np.ndim(self.n) == 0 else f"{np.size(self.n)} sets of"
        return f"<moments {safe(self.label)}: {n} rows of {safe(', '.join(self.columns))}>"

    def _look(self) -> Look:
        if np.ndim(self.n):
            return Look(f"Moments: {self.label}", ("", ""), [("sets of rows", f"{np.size(self.n):,}")])
        each = {c: self.select(c) for c in self.columns}
        rows = [
            (c, f"{m.n:,}", f"{m.means[0]:.6g}", f"{np.sqrt(m.comoments[0, 0] / max(m.n - 1, 1)):.4g}")
            for c, m in each.items()
        ]
        return Look(f"Moments: {self.label}", ("column", "n", "mean", "sd"), rows, f"{self.missing:,} rows missing")

    def index(self, column: str) -> int:
        """Position of a column, or an error that names the nearest."""
        if column not in self.columns:
            raise DataError.unknown("column", column, self.columns)
        return self.columns.index(column)

    def mean(self, column: str) -> Any:
        """Mean of a column: a float, or an array where sets of rows are stacked, as all that follow."""
        own = self.own.get(column, self)
        return scalar_or_array(own.means[..., own.index(column)])

    def variance(self, column: str) -> Any:
        """Variance of a column, with n - 1 below."""
        return self.covariance(column, column)

    def sd(self, column: str) -> Any:
        """Standard deviation of a column, with n - 1 below."""
        return scalar_or_array(np.sqrt(self.variance(column)))

    def skewness(self, column: str) -> Any:
        """Third standardised moment of a column (n below, 0 where it is constant), or None where it is not known."""
        return self._standardised(column, "cubes", 3)

    def excess_kurtosis(self, column: str) -> Any:
        """Fourth standardised moment of a column less 3 (n below, 0 where it is constant), or None if not known."""
        return self._standardised(column, "fourths", 4)

    def _standardised(self, column: str, sums: str, power: int) -> Any:
        own = self.own.get(column, self)
        if own.shape is None:
            return None
        at = own.index(column)
        n, squares = np.asarray(own.n), own.comoments[..., at, at]
        flat = squares == 0
        spread = np.sqrt(np.where(flat, 1.0, squares) / np.maximum(n, 1))
        found = getattr(own.shape, sums)[..., at] / np.maximum(n, 1) / spread**power - 3 * (power == 4)
        return scalar_or_array(np.where(flat, 0.0, found))

    def ends(self, column: str) -> tuple[Any, Any] | None:
        """Smallest and largest value of a column, or None where they are not known."""
        own = self.own.get(column, self)
        if own.shape is None:
            return None
        at = own.index(column)
        return scalar_or_array(own.shape.lowest[..., at]), scalar_or_array(own.shape.highest[..., at])

    def covariance(self, first: str, second: str) -> Any:
        """Covariance of two columns, with n - 1 below; needs two rows."""
        if first == second and first in self.own:
            return self.own[first].covariance(first, second)
        n = np.asarray(self.n)
        if np.any(n < 2):
            raise DataError(f"One row {_of(self.label)}has no spread: a variance needs at least 2.")
        return scalar_or_array(self.comoments[..., self.index(first), self.index(second)] / (n - 1))

    def correlation(self, first: str, second: str) -> Any:
        """Pearson correlation of two columns, over the rows where all columns have a value."""
        both = replace(self, own={})
        spread = np.sqrt(both.variance(first)) * np.sqrt(both.variance(second))
        if np.any(spread == 0):
            flat = first if np.any(both.variance(first) == 0) else second
            raise DataError(f"Column {flat!r} is constant {_of(self.label)}: it has no correlation.")
        return scalar_or_array(np.clip(self.covariance(first, second) / spread, -1.0, 1.0))

    def select(self, *columns: str) -> Moments:
        """Keep some columns, in the order given: one with all its own rows, several with their joint ones.

        Raises
        ------
        DataError
            If columns left out have taken rows from several that stay: the joint rows of these alone are not known.
        """
        at = [self.index(c) for c in columns]
        if len(columns) == 1 and columns[0] in self.own:
            return self.own[columns[0]]
        out = [c for c in self.columns if c not in columns]
        if len(columns) > 1 and out and self.own:
            listed = ", ".join(map(repr, columns))
            raise DataError(
                f"Rows {_of(self.label)}that lack {' or '.join(map(repr, out))} are not in these moments: ask the table"
                f" for the moments of {listed} alone."
            )
        return self._at(at)

    def each(self) -> tuple[NDArray[Any], Floats, Floats, Floats]:
        """Count, mean, what the mean rounds away, and sum of squares of each column over its own rows: (..., k)."""
        n = np.broadcast_to(np.asarray(self.n)[..., None], self.means.shape)
        found = n, self.means, self.tails, diagonal(self.comoments)
        if not self.own:
            return found
        parts = [self.select(c).each() for c in self.columns]
        n, means, tails, squares = (np.concatenate(values, axis=-1) for values in zip(*parts, strict=True))
        return n, means, tails, squares

    def zero_one(self) -> NDArray[np.bool_]:
        """Whether each column holds nothing but 0 and 1: (..., k)."""
        n, mean, _, around = self.each()
        # Of values within 0..1, only zeros and ones have a sum of squares equal to their sum.
        total, squares = n * mean, around + n * mean * mean
        slack = 1e-6 * np.maximum(1.0, n * 1e-6)
        whole = np.round(total)
        return np.asarray(
            (mean >= 0) & (mean <= 1) & (np.abs(total - whole) <= slack) & (np.abs(squares - whole) <= slack)
        )

    def complete(self, column: str) -> Moments:
        """One column over the rows where all columns have a value."""
        return self._at([self.index(column)])

    def at(self, position: int) -> Moments:
        """One of several sets of rows that are stacked along one axis; `missing` is known of all together only."""
        n = int(np.asarray(self.n)[position])
        own = {c: m.at(position) for c, m in self.own.items()}
        return Moments(
            self.columns,
            n,
            self.means[position],
            self.comoments[position],
            self.label,
            0,
            self.tails[position],
            own={c: m for c, m in own.items() if m.n > n},
            shape=None if self.shape is None else self.shape.of_set(position),
        )

    def _at(self, at: list[int]) -> Moments:
        return replace(
            self,
            columns=tuple(self.columns[i] for i in at),
            means=self.means[..., at],
            comoments=self.comoments[..., at, :][..., at],
            mean_tails=self.tails[..., at],
            own=self.own if len(at) > 1 else {},
            shape=None if self.shape is None else self.shape.at(at),
        )

    def relabel(self, label: str) -> Moments:
        """Return the same moments under another label."""
        return replace(self, label=label, own={c: m.relabel(label) for c, m in self.own.items()})

    def __add__(self, other: Moments) -> Moments:
        """Merge with the moments of other rows of the same variant and columns."""
        if not isinstance(other, Moments):
            return NotImplemented
        if self.columns != other.columns or self.label != other.label:
            raise InputError(
                f"Only moments of the same columns and label merge: {list(self.columns)} of {self.label!r}"
                f" and {list(other.columns)} of {other.label!r} differ."
            )
        if self.axis != other.axis:
            raise InputError("Only moments that are stacked alike merge.")
        n = self.n + other.n
        gap = (other.means - self.means) + (other.tails - self.tails)
        mine, theirs = np.asarray(self.n)[..., None], np.asarray(other.n / np.maximum(n, 1))[..., None]
        outer = gap[..., :, None] * gap[..., None, :]
        comoments = self.comoments + other.comoments + outer * (mine * theirs)[..., None]
        shift = self.tails + gap * theirs
        means = self.means + shift
        tails = shift - (means - self.means)
        own = {c: self.select(c) + other.select(c) for c in self.columns if c in self.own or c in other.own}
        missing = self.missing + other.missing
        shape = None
        if self.shape is not None and other.shape is not None:
            ours = mine / np.maximum(np.asarray(n)[..., None], 1)
            shape = self.shape.moved(mine, diagonal(self.comoments), -gap * theirs)
            shape += other.shape.moved(np.asarray(other.n)[..., None], diagonal(other.comoments), gap * ours)
        return replace(
            self, n=n, means=means, comoments=comoments, mean_tails=tails, missing=missing, own=own, shape=shape
        )

    @property
    def tails(self) -> Floats:
        """What the float64 means round away, as an array."""
        return np.zeros(self.means.shape) if self.mean_tails is None else self.mean_tails

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Moments) and self.to_dict() == other.to_dict()

    __hash__ = None  # type: ignore[assignment]

    def to_dict(self) -> dict[str, Any]:
        """Return plain JSON types; floats survive the round trip exactly."""
        if np.ndim(self.n):
            raise InputError("Stacked moments are saved one by one: keep the parts they were stacked from.")
        return {
            "format": FORMAT,
            "version": VERSION,
            "label": self.label,
            "columns": list(self.columns),
            "n": self.n,
            "missing": self.missing,
            "means": self.means.tolist(),
            "mean_tails": self.tails.tolist(),
            "comoments": self.comoments.tolist(),
            "own": {c: m.to_dict() for c, m in self.own.items()},
            "shape": None if self.shape is None else self.shape.to_dict(),
        }

    def to_json(self) -> str:
        """Return the moments as JSON text."""
        return json.dumps(self.to_dict(), ensure_ascii=False)

    @classmethod
    def from_json(cls, text: str) -> Moments:
        """Read what `to_json` wrote; anything else is refused with the reason."""
        from amber_ruler.saved import parsed

        return cls.from_dict(parsed(text))

    @classmethod
    def from_dict(cls, data: Any) -> Moments:
        """Read what `to_dict` gave; anything else is refused with the reason."""
        from amber_ruler.saved import SavedColumn, SavedMoments, checked

        if not isinstance(data, dict) or data.get("format") != FORMAT:
            raise DataError(f'This JSON holds no moments: it lacks "format": "{FORMAT}".')
        if data.get("version") != VERSION:
            raise DataError(f"Moments of version {data.get('version')!r} are unknown here; this reads {VERSION}.")
        kind = SavedMoments if data.get("own") else SavedColumn
        return cls.from_saved(checked(data, kind, "file of moments"))

    @classmethod
    def from_saved(cls, held: SavedColumn) -> Moments:
        """From moments whose kinds are known; whether their numbers go together is looked at here."""
        try:
            comoments = np.asarray(held.comoments, dtype=np.float64)
            _check_comoments(comoments)
            own = {c: cls.from_saved(m) for c, m in held.own.items()}
            if any(m.columns != (c,) or c not in held.columns or m.n < held.n for c, m in own.items()):
                raise DataError(
                    "Moments of a column's own rows must be of that column, and of no fewer rows than the joint ones."
                )
            return cls(
                tuple(held.columns),
                held.n,
                np.asarray(held.means),
                comoments,
                held.label,
                held.missing,
                np.asarray(held.mean_tails),
                own=own,
                shape=None if held.shape is None else Shape.from_saved(held.shape, len(held.columns)),
            )
        except ValueError as error:
            raise DataError(f"These moments contradict themselves: {error}") from None


def diagonal(comoments: Floats) -> Floats:
    """The sums of squares among co-moments, shape (..., k)."""
    return np.diagonal(comoments, axis1=-2, axis2=-1)


def merge(parts: Iterable[Moments]) -> Moments:
    """Merge many parts pairwise, as a balanced tree: rounding grows with the logarithm of their number.

    Parameters
    ----------
    parts : iterable of Moments
        Same columns and label; at least one.

    Examples
    --------
    >>> days = [Moments.from_arrays({"fare": [day, day + 2.0]}) for day in range(4)]
    >>> merge(days).mean("fare")
    2.5
    """
    level = list(parts)
    if not level:
        raise InputError("There is nothing to merge: give at least one Moments.")
    while len(level) > 1:
        paired = [a + b for a, b in zip(level[::2], level[1::2], strict=False)]
        level = paired + level[len(paired) * 2 :]
    return level[0]


def too_large(columns: Sequence[str]) -> DataError:
    """Say that squares overflow."""
    return DataError(f"The squares of {' or '.join(map(repr, columns))} are too large to add up: change their unit.")


def check_lengths(data: Mapping[str, NDArray[Any]]) -> int:
    """Return the common length of one-dimensional arrays, or name those that differ."""
    if not data:
        raise InputError("Give at least one column.")
    for name, values in data.items():
        if values.ndim != 1:
            raise InputError(f"Column {name!r} must be one-dimensional, got shape {values.shape}.")
    sizes = {name: len(values) for name, values in data.items()}
    if len(set(sizes.values())) > 1:
        listed = ", ".join(f"{name!r} has {size}" for name, size in sizes.items())
        raise DataError(f"Columns must be equally long: {listed} rows.")
    return next(iter(sizes.values()))


def check_finite(name: str, values: Floats, label: str) -> None:
    """Refuse NaN and infinity in raw values, saying how many and where the first is."""
    # A sum is finite only if every value is, or if it overflowed: look closer only then.
    if np.isfinite(np.sum(values)) or bool(np.all(np.isfinite(values))):
        return
    bad = ~np.isfinite(values)
    raise DataError(
        f"{name!r} holds {int(bad.sum()):,} values {_of(label)}that are not finite numbers, the first"
        f" ({values[bad][0]}) at position {int(np.argmax(bad))}. Leave them out or fix them first;"
        f" a Sample(..., missing='leave out') counts NaN as missing."
    )


def check_squares(label: str, values: Floats) -> None:
    """Refuse values that are to be squared, and can't be in floats."""
    low, high = float(values.min()), float(values.max())
    check_reach(label, max(-low, high), high - low)


def check_reach(label: str, size: ArrayLike, spread: ArrayLike) -> None:
    """Refuse values whose squares, or the squares of those, floats can't hold."""
    least, most = 1e-70, 1e70  # fourth powers of as many as there can be, with room
    if np.any(np.asarray(size) > most) or np.any((np.asarray(spread) > 0) & (np.asarray(spread) < least)):
        raise DataError(f"The values of {label!r} are too large or too close together to square: change their unit.")


def _of(label: str) -> str:
    return f"of variant {label!r} " if label else ""


def _check_comoments(comoments: Floats) -> None:
    if comoments.ndim != 2 or comoments.shape[0] != comoments.shape[1]:
        raise InputError(f"Co-moments must be a square table, got shape {comoments.shape}.")
    squares = np.diag(comoments)
    if np.any(squares < 0):
        raise InputError(f"Sums of squares must not be below 0, got {float(squares.min())!r}.")
    if not np.allclose(comoments, comoments.T, rtol=1e-12, atol=0):
        raise InputError("Co-moments must be symmetric.")
    limit = np.sqrt(np.outer(squares, squares))
    if np.any(np.abs(comoments) > limit * (1 + 1e-9) + 1e-300):
        raise InputError("A co-moment is larger than the spreads of its two columns allow.")
