"""Moments of every variant in every stratum, as arrays that adjustments compute with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments, merge
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import ALIKE, collinear, is_mark
from amber_ruler.results import Axis


@dataclass(frozen=True, slots=True, eq=False)
class Cells:
    """Moments of some columns by variant (first axis) and stratum (second axis), the last axes being columns.

    Attributes
    ----------
    labels, levels : tuple of str
        The variants; and the strata, one called "" where there are none.
    columns : tuple of str
        The metric and what goes with it.
    n : ndarray, shape (v, s, ...)
    means, tails : ndarray, shape (v, s, ..., k)
    squares : ndarray, shape (v, s, ..., k, k)
        Co-moments: sums of products of deviations from the cell's means.
    whole : tuple of Moments
        The same columns of each variant over all strata.
    axis : Axis, optional
        What comparisons differ by, where the numbers have further axes.
    """

    labels: tuple[str, ...]
    levels: tuple[str, ...]
    columns: tuple[str, ...]
    n: Floats
    means: Floats
    tails: Floats
    squares: Floats
    whole: tuple[Moments, ...]
    axis: Axis | None = None

    @classmethod
    def of(cls, arms: Sequence[dict[str, Moments]], *, strata: str = "") -> Cells:
        """From the moments of each variant by stratum; every stratum has rows of every variant."""
        levels = tuple(sorted({level for arm in arms for level in arm}))
        labels = tuple(next(iter(arm.values())).label for arm in arms)
        for label, arm in zip(labels, arms, strict=True):
            for level in levels:
                few = 2 if level not in arm else int(np.min(arm[level].n))
                if level not in arm or few < 2:
                    where = f"in stratum {level!r} of {strata!r}" if strata else ""
                    had = "no row" if level not in arm else "1 row"
                    raise DataError(
                        f"Variant {label!r} has {had} {where or 'in all'}: a spread needs at least 2."
                        + (" Put small strata together, or leave the stratum out." if strata else "")
                    )
        each = [[arm[level] for level in levels] for arm in arms]
        first = each[0][0]
        n, means, tails, squares = (
            np.array([[np.asarray(getattr(m, name), dtype=float) for m in row] for row in each])
            for name in ("n", "means", "tails", "comoments")
        )
        whole = tuple(merge(row) for row in each)
        return cls(labels, levels, first.columns, n, means, tails, squares, whole, first.axis)

    @property
    def total(self) -> Floats:
        """Rows of each variant, (v, ...)."""
        found: Floats = self.n.sum(axis=1)
        return found

    def level(self, k: int) -> Cells:
        """One stratum."""
        part = {name: getattr(self, name)[:, k : k + 1] for name in ("n", "means", "tails", "squares")}
        return replace(self, levels=self.levels[k : k + 1], **part)

    def turned(self, columns: Sequence[str], table: Floats, constant: Floats) -> Cells:
        """New columns, each a sum of the old ones: `table` (v, ..., m, k) and `constant` (v, ..., m)."""
        at = table[:, None]
        means = np.einsum("...mk,...k->...m", at, self.means) + constant[:, None]
        tails = np.einsum("...mk,...k->...m", at, self.tails)
        squares = at @ self.squares @ np.swapaxes(at, -1, -2)
        return replace(self, columns=tuple(columns), means=means, tails=tails, squares=squares)


class Fitted(NamedTuple):
    """What covariates explain of a metric."""

    slopes: Floats  # (..., p)
    constant: tuple[bool, ...]  # covariates that never vary


def slopes(cells: Cells, how: str, shares: Floats | None = None) -> Fitted:
    """Slopes of the first column on the others, one for all variants and strata.

    "within": from deviations within cells; "total": from all rows as one sample; "optimal": the ones that make the
    variance of the difference least, Σ w² cov / n over Σ w² var / n.
    """
    n = cells.n[..., None, None]
    if how == "optimal":
        weight = np.ones(cells.n.shape[1]) if shares is None else shares
        scaled = cells.squares / ((n - 1) * n)
        together = np.einsum("s,vs...->...", weight**2, scaled)
    else:
        together = cells.squares.sum(axis=(0, 1))
        if how == "total":
            gap = _from_overall(cells)
            together = together + np.einsum("vs...,vs...j,vs...k->...jk", cells.n, gap, gap)
    return _solved(together, cells)


def _solved(together: Floats, cells: Cells) -> Fitted:
    """Least squares by sweeping a table of products scaled to 1 on its diagonal."""
    names = cells.columns[1:]
    diagonal = np.diagonal(together, axis1=-2, axis2=-1)
    flat = diagonal[..., 1:] <= 0
    scale = np.sqrt(np.where(diagonal > 0, diagonal, 1.0))
    a = together / (scale[..., :, None] * scale[..., None, :])
    constant = []
    for k, name in enumerate(names, start=1):
        still = flat[..., k - 1]
        constant.append(bool(np.all(still)))
        if constant[-1] and _apart(cells, k):
            raise DataError(
                f"The covariate {name!r} is constant within each variant and differs between them: it is the variant."
            )
        pivot = a[..., k, k]
        if np.any(~still & (pivot < ALIKE)):
            if not is_mark(name):
                raise collinear(name, names[: k - 1])
            still = still | (pivot < ALIKE)  # it says no more than the others
        safe = np.where(still, 1.0, pivot)
        row = np.where(still[..., None], 0.0, a[..., k, :] / safe[..., None])
        a = a - a[..., :, k, None] * row[..., None, :]
        a[..., k, :] = row
    found = a[..., 1:, 0] * scale[..., 0, None] / scale[..., 1:]
    return Fitted(np.where(flat, 0.0, found), tuple(constant))


def _apart(cells: Cells, k: int) -> bool:
    """Whether a column's means differ between cells."""
    return bool(np.any(cells.means[..., k] != cells.means[:1, :1, ..., k]))


class Adjusted(NamedTuple):
    """The metric after the covariates' share is taken away, by cell."""

    mean: Floats  # (v, s, ...)
    tail: Floats
    variance: Floats


def away(cells: Cells) -> Floats:
    """How far the covariates' means lie from their means over all rows of all variants, (v, s, ..., p)."""
    return _from_overall(cells)[..., 1:]


def _from_overall(cells: Cells) -> Floats:
    """How far the means of all columns lie from their means over all rows of all variants, (v, s, ..., k)."""
    found = (cells.means - cells.means[:1, :1]) + (cells.tails - cells.tails[:1, :1])
    overall = (cells.n[..., None] * found).sum(axis=(0, 1)) / cells.n.sum(axis=(0, 1))[..., None]
    return np.asarray(found - overall)


def adjusted(cells: Cells, slope: Floats) -> Adjusted:
    """Means and variances of the metric less the slopes times each covariate's distance from its overall mean."""
    n, gaps = cells.n, away(cells)
    shift = np.einsum("...k,...k->...", gaps, np.broadcast_to(slope, gaps.shape))
    before, tail = cells.means[..., 0], cells.tails[..., 0]
    mean = before - shift
    left = ((before - mean) - shift) + tail
    turn = np.concatenate([np.ones((*slope.shape[:-1], 1)), -slope], axis=-1)
    squares = np.einsum("...j,...jk,...k->...", turn, cells.squares, turn)
    return Adjusted(mean, left, np.maximum(squares, 0.0) / (n - 1))


def read(given: Any, names: Sequence[str], *, strata: bool, role: str) -> dict[str, Moments]:
    """Moments as given for one variant, by stratum where they are stacked along one."""
    if not isinstance(given, Moments):
        raise InputError(
            f"{role} must be Records (the rows, with their columns) or Moments of {' and '.join(names)},"
            f" not {type(given).__name__}."
        )
    label = given.label or role
    if not strata:
        return {"": given.select(*names).relabel(label)}
    if given.axis is None or np.ndim(given.n) != 1:
        raise InputError(
            f"Strata are told by moments that are stacked along them: Moments.stack({{stratum: …}}, axis=…), or"
            f" digest.by_stratum(…); those of {label!r} are not."
        )
    return {level: given.at(k).select(*names).relabel(label) for k, level in enumerate(given.axis.labels)}


def marked(arms: Sequence[dict[str, Moments]], mark: str) -> list[dict[str, Moments]]:
    """Rows that lack the one covariate beside the others: filled by its mean, and marked by one more column."""
    each = [m for arm in arms for m in arm.values()]
    metric, *known = each[0].columns
    if len(known) > 1:
        raise DataError(
            f"Some rows lack one of {' and '.join(map(repr, known))}, and moments don't say which: give"
            " table.records(…), or one covariate."
        )
    joint = sum(np.asarray(m.n) for m in each)
    if np.any(joint == 0) or any(np.any(np.asarray(m.n) == 0) for m in each):
        raise DataError(f"The covariate {known[0]!r} has no value in any row of a variant (and stratum).")
    fill = sum(m.n * m.means[..., 1] for m in each) / joint
    return [{level: _beside(m, metric, fill, mark) for level, m in arm.items()} for arm in arms]


def _beside(joint: Moments, metric: str, fill: Floats, mark: str) -> Moments:
    """Metric, filled covariate and mark over all rows with the metric, from the joint rows and the metric's own."""
    alone = joint.own.get(metric, joint.complete(metric))
    n, some = np.asarray(alone.n, dtype=float), np.asarray(joint.n, dtype=float)
    share = (n - some) / n  # of rows that lack the covariate
    gap = (joint.means[..., 0] - alone.means[..., 0]) + (joint.tails[..., 0] - alone.tails[..., 0])
    away = (joint.means[..., 1] - fill) + joint.tails[..., 1]
    c = np.zeros((*joint.comoments.shape[:-2], 3, 3))
    c[..., 0, 0] = alone.comoments[..., 0, 0]
    c[..., 1, 1] = joint.comoments[..., 1, 1] + some * share * away**2
    c[..., 2, 2] = some * share
    c[..., 0, 1] = c[..., 1, 0] = joint.comoments[..., 0, 1] + some * away * gap
    c[..., 0, 2] = c[..., 2, 0] = -some * gap
    c[..., 1, 2] = c[..., 2, 1] = -some * share * away
    shift = (some / n) * away
    mean = fill + shift
    means = np.stack([alone.means[..., 0], mean, share], axis=-1)
    tails = np.stack([alone.tails[..., 0], shift - (mean - fill), np.zeros_like(share)], axis=-1)
    columns = (*joint.columns, mark)
    return Moments(columns, alone.n, means, c, joint.label, alone.missing, tails, joint.axis)
