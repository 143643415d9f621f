"""A table's moments by variant, stratum and day, as a small file that merges with tomorrow's."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from amber_ruler.errors import DataError, ExperimentFileError
from amber_ruler.moments import Moments, merge
from amber_ruler.results import Axis, Group, Result
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.samples import ByVariant, Sample

if TYPE_CHECKING:
    from amber_ruler.saved import SavedDigest

SCHEMA = "amber-ruler digest 1"

_MOST_SERIES = 50  # variants that can be told apart in a table or a figure

Cell = tuple[str, str, str]  # variant, stratum, day; empty where a column was not named


class Rows(Protocol):
    """What a method below the tables may ask of one."""

    def samples(self, value: str, *, by: str) -> ByVariant[Sample]:
        """The values of a column by variant."""

    def moments(self, columns: str | list[str], *, by: str) -> ByVariant[Moments]:
        """Moments of columns by variant."""

    def overall(self, columns: str | list[str]) -> Moments:
        """Moments of columns over all rows."""

    def capped(self, column: str, cap: float) -> Rows:
        """With a column capped at its own quantile."""

    def clusters(self, value: str, *, by: str) -> Any:
        """Number, size and intraclass correlation of clusters."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Daily(Result):
    """A column's mean by day and variant.

    Attributes
    ----------
    metric : str
        The column.
    days : tuple of str
        The days, in their order.
    groups : mapping of label to tuple of (Group or None)
        For each variant and day the count, mean, sd and standard error; None on a day without a value.
    by : str
        The column with the variant labels.
    """

    metric: str
    days: tuple[str, ...]
    groups: Mapping[str, tuple[Group | None, ...]]
    by: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class Digest(Shown):
    """Moments of each metric with its covariates, by variant, stratum and day; made by `Table.digest`.

    Attributes
    ----------
    by, strata, day : str
        The columns with the variant labels, the strata and the day; strata and day may be empty.
    metrics, covariates : tuple of str
        What was reduced.
    cells : mapping of (variant, stratum, day) to mapping of metric to Moments
        Rows without the metric or a covariate are left out of that metric, and counted.
    unassigned : int
        Rows without a variant label; they belong to none.
    """

    by: str
    strata: str
    day: str
    metrics: tuple[str, ...]
    covariates: tuple[str, ...]
    cells: Mapping[Cell, Mapping[str, Moments]]
    unassigned: int = 0

    def __repr__(self) -> str:
        return f"<digest by {safe(self.by)} of {safe(', '.join(self.metrics))}: {len(self.cells):,} cells>"

    def _look(self) -> Look:
        labels, strata, days = (sorted({cell[k] for cell in self.cells}) for k in range(3))
        rows = [("metrics", ", ".join(self.metrics)), (self.by, ", ".join(labels))]
        rows += [("covariates", ", ".join(self.covariates))] if self.covariates else []
        rows += [(self.strata, ", ".join(strata))] if self.strata else []
        rows += [(self.day, f"{len(days):,} days")] if self.day else []
        return Look("Digest", ("", ""), rows, f"{len(self.cells):,} cells; {self.unassigned:,} rows without a variant")

    def __add__(self, other: Digest) -> Digest:
        """Put another part of the same test beside this one.

        Raises
        ------
        DataError
            If the two were not made alike, or hold the same days.
        """
        for name in ("by", "strata", "day", "metrics", "covariates"):
            mine, theirs = getattr(self, name), getattr(other, name)
            if mine != theirs:
                raise DataError(
                    f"These digests were not made alike: {name} is {mine!r} in one and {theirs!r} in the other."
                )
        if self.day:
            twice = sorted({cell[2] for cell in self.cells} & {cell[2] for cell in other.cells})
            if twice:
                raise DataError(f"Both digests hold day {', '.join(twice[:5])}: those units would count twice.")
        cells = dict(self.cells)
        for cell, found in other.cells.items():
            known = dict(cells.get(cell, {}))
            for metric, part in found.items():
                known[metric] = merge([known[metric], part]) if metric in known else part
            cells[cell] = known
        return Digest(
            self.by, self.strata, self.day, self.metrics, self.covariates, cells, self.unassigned + other.unassigned
        )

    def moments(
        self, metric: str, *, stratum: str | None = None, days: tuple[str, ...] | None = None
    ) -> ByVariant[Moments]:
        """Moments of a metric and the covariates for each variant, over all strata and days or some of them.

        Parameters
        ----------
        metric : str
            One of `metrics`.
        stratum : str, optional
            One stratum only.
        days : tuple of str, optional
            These days only.

        Returns
        -------
        ByVariant of Moments
        """
        if metric not in self.metrics:
            raise DataError.unknown("metric of this digest", metric, self.metrics)
        parts: dict[str, list[Moments]] = {}
        for (variant, where, when), found in self.cells.items():
            wanted = (stratum is None or where == stratum) and (days is None or when in days)
            if wanted and metric in found:
                parts.setdefault(variant, []).append(found[metric])
        if not parts:
            raise DataError(f"This digest has no {metric!r} for stratum {stratum!r} and days {days}.")
        return ByVariant(
            {v: merge(each).relabel(v) for v, each in sorted(parts.items())}, column=self.by, unassigned=self.unassigned
        )

    def by_stratum(self, metric: str) -> ByVariant[Moments]:
        """Moments of a metric and the covariates for each variant, stacked along the strata: for `adjust.strata`."""
        if not self.strata:
            raise DataError("This digest has no strata: make it with strata=, the column that holds them.")
        levels = sorted({cell[1] for cell, found in self.cells.items() if metric in found})
        each = {level: self.moments(metric, stratum=level) for level in levels}
        found = {}
        for variant in self.moments(metric):
            for level in levels:
                if variant not in each[level]:
                    raise DataError(f"Variant {variant!r} has no row in stratum {level!r} of {self.strata!r}.")
            found[variant] = Moments.stack({level: each[level][variant] for level in levels}, axis=self.strata)
        return ByVariant(found, column=self.by, unassigned=self.unassigned)

    def every_metric(self) -> ByVariant[Moments]:
        """Moments of all metrics for each variant, stacked along them: one call compares them all.

        The metric's column is called "value", whichever it is.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> kept = trips.digest(["fare", "booked"], by="form", covariates=["prior_trips"]).every_metric()
        >>> r = ar.adjust.cuped(kept["short"], kept["current"], value="value", covariate="prior_trips")
        >>> r.axis.labels
        ('fare', 'booked')
        """
        twice = [metric for metric in self.metrics if metric in self.covariates]
        if twice:
            raise DataError(f"{twice[0]!r} is metric and covariate at once: ask for it by itself.")
        variants = sorted({cell[0] for cell in self.cells})
        found = {}
        for variant in variants:
            cells = [held for cell, held in self.cells.items() if cell[0] == variant]
            lacking = [metric for metric in self.metrics if any(metric not in held for held in cells)]
            if lacking:
                raise DataError(f"Variant {variant!r} has cells without {lacking[0]!r}: ask for that metric by itself.")
            parts = [_side_by_side([held[metric] for metric in self.metrics], self.metrics) for held in cells]
            found[variant] = merge(parts).relabel(variant)
        return ByVariant(found, column=self.by, unassigned=self.unassigned)

    @property
    def days(self) -> tuple[str, ...]:
        """The days that there are, in their order."""
        return tuple(sorted({cell[2] for cell in self.cells if cell[2]}, key=_in_order))

    def daily(self, metric: str, *, per: str | None = None) -> Daily:
        """Mean of a metric on each day in each variant, or its ratio to a covariate; `plot()` draws the series."""
        return _daily(self, metric, per)

    def to_json(self) -> str:
        """Return the digest as JSON text, with a checksum."""
        body = self._body()
        return json.dumps({"schema": SCHEMA, "sha256": _checksum(body), **body}, ensure_ascii=False)

    @classmethod
    def from_json(cls, text: str) -> Digest:
        """Read a digest back.

        Raises
        ------
        ExperimentFileError
            If the text is no digest, of another version, or was changed since it was written.
        """
        from amber_ruler.saved import SavedDigest, checked, parsed

        try:
            data = parsed(text)
        except DataError as error:
            raise ExperimentFileError(f"This is no digest: {error}") from None
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            found = data.get("schema") if isinstance(data, dict) else type(data).__name__
            raise ExperimentFileError(f"This is no digest of this version: its schema is {found!r}, not {SCHEMA!r}.")
        body = {key: value for key, value in data.items() if key not in ("schema", "sha256")}
        if data.get("sha256") != _checksum(body):
            raise ExperimentFileError("This digest was changed since it was written: its checksum does not fit.")
        try:
            return cls._from_saved(checked(data, SavedDigest, "digest"))
        except DataError as error:
            raise ExperimentFileError(str(error)) from None

    @classmethod
    def _from_saved(cls, held: SavedDigest) -> Digest:
        cells: dict[Cell, Mapping[str, Moments]] = {}
        for cell in held.cells:
            variant, stratum, day = cell.at
            found = {metric: Moments.from_saved(m) for metric, m in cell.moments.items()}
            for metric, m in found.items():
                expected = (metric, *(c for c in held.covariates if c != metric))
                if metric not in held.metrics or m.columns != expected or m.label != variant:
                    raise DataError(f"This digest contradicts itself: {metric!r} of variant {variant!r}.")
            if (variant, stratum, day) in cells:
                raise DataError(f"This digest holds the cell {', '.join(cell.at)} twice.")
            cells[variant, stratum, day] = found
        return cls(held.by, held.strata, held.day, tuple(held.metrics), tuple(held.covariates), cells, held.unassigned)

    def _body(self) -> dict[str, Any]:
        return {
            "by": self.by,
            "strata": self.strata,
            "day": self.day,
            "metrics": list(self.metrics),
            "covariates": list(self.covariates),
            "unassigned": self.unassigned,
            "cells": [
                {"at": list(cell), "moments": {m: v.to_dict() for m, v in found.items()}}
                for cell, found in sorted(self.cells.items())
            ],
        }


def _side_by_side(each: list[Moments], metrics: tuple[str, ...]) -> Moments:
    """Moments of one cell along the metrics."""
    arrays = (np.array([getattr(m, name) for m in each]) for name in ("n", "means", "comoments", "tails"))
    n, means, comoments, tails = arrays
    own = {}
    if any(m.own for m in each):
        alone = [m.select(metric) for m, metric in zip(each, metrics, strict=True)]
        own = {"value": replace(_side_by_side([replace(m, own={}) for m in alone], metrics), columns=("value",))}
    columns = ("value", *each[0].columns[1:])
    missing = sum(m.missing for m in each)
    return Moments(columns, n, means, comoments, each[0].label, missing, tails, Axis("metric", metrics), own)


def _checksum(body: dict[str, Any]) -> str:
    return hashlib.sha256(
        json.dumps(body, sort_keys=True, ensure_ascii=False).encode("utf-8", "surrogatepass")
    ).hexdigest()


def _daily(digest: Digest, metric: str, per: str | None) -> Daily:
    """A metric's series by variant, from moments by day."""
    if per is not None and per not in digest.covariates:
        raise DataError.unknown("covariate of this digest", per, digest.covariates)
    if not digest.day:
        raise DataError("This digest has no days: make it with day=, the column that holds them.")
    variants = {cell[0] for cell in digest.cells}
    if len(variants) > _MOST_SERIES:
        raise DataError(f"There are {len(variants):,} variants by {digest.by!r}: name the column that holds a few.")
    days = digest.days
    series: dict[str, list[Group | None]] = {}
    for k, day in enumerate(days):
        for label, m in digest.moments(metric, days=(day,)).items():
            series.setdefault(label, [None] * len(days))[k] = _of_day(day, m, metric, per)
    name = metric if per is None else f"{metric} per {per}"
    what = "mean" if per is None else "ratio of totals"
    return Daily(
        title=f"{name} by {digest.day}",
        method=f"{what} of each variant on each day, with its 95% interval",
        source="" if per is None else "Deng, Knoblich & Lu (2018), KDD, 233-242, for the standard error of a ratio",
        metric=name,
        days=days,
        groups={label: tuple(groups) for label, groups in sorted(series.items())},
        by=digest.by,
    )


def _of_day(day: str, m: Moments, metric: str, per: str | None) -> Group | None:
    """A variant's mean on a day; or its ratio, with the standard error of the delta method, where there is one."""
    if per is None:
        own = m.select(metric)
        sd = own.sd(metric) if own.n > 1 else 0.0
        return Group(day, own.n, own.mean(metric), sd, sd / own.n**0.5)
    below = m.mean(per)
    if below == 0:
        return None
    ratio = m.mean(metric) / below
    at = [m.columns.index(name) for name in (metric, per)]
    weights = np.array([1.0, -ratio]) / below
    squares = weights @ np.asarray(m.comoments)[np.ix_(at, at)] @ weights
    sd = math.sqrt(max(float(squares), 0.0) / (m.n - 1)) if m.n > 1 else 0.0
    return Group(day, m.n, ratio, sd, sd / m.n**0.5)


def _in_order(day: str) -> tuple[float, str]:
    """Numbers by size, dates and names by their text."""
    try:
        return float(day), day
    except ValueError:
        return math.inf, day
