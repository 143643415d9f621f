"""A table of observations, wherever its rows are."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

import narwhals as nw
import numpy as np
from numpy.typing import NDArray

from amber_ruler.digest import Daily, Digest
from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check
from amber_ruler.samples import ByVariant, CountTable, Pairs, Sample
from amber_ruler.samples.held import JOINT
from amber_ruler.tables import conditions, findings, profile, reduce
from amber_ruler.tables.conditions import Condition
from amber_ruler.tables.description import Description
from amber_ruler.tables.findings import Bounds, Findings
from amber_ruler.tables.per_unit import Measure
from amber_ruler.tables.profile import Clusters, Shape
from amber_ruler.tables.source import engine_errors, line_of, open_source
from amber_ruler.tables.split_check import SplitCheck, check_split

if TYPE_CHECKING:
    import pandas as pd

_NUMBER = r"^\s*[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\s*$"
_APART = "\x1f"  # the separator of units in ASCII


class Table:
    """Long data, one row an observation; made by `table`.

    Attributes
    ----------
    columns : list of str
        Column names, in order.
    name : str
        The file's path, or "the dataframe".
    """

    def __init__(self, source: Any) -> None:
        self._source = open_source(source)
        self._frame, self.name = self._source.frame, self._source.name
        with self._reading():
            self._schema = self._frame.collect_schema()
        self.columns = list(self._schema.names())
        self._known_rows = False  # whether at least one row has been seen

    @contextmanager
    def _reading(self) -> Iterator[None]:
        """Say which table it was when its engine fails, or when its file changes under the reader."""
        with engine_errors(self.name):
            yield
        self._source.check_unchanged()

    def _shaped(self, frame: Any) -> Table:
        """The same source in another shape; nothing is computed yet where the engine is lazy."""
        shaped = object.__new__(Table)
        shaped._source, shaped._frame, shaped.name = self._source, frame, self.name
        with self._reading():
            shaped._schema = frame.collect_schema()
        shaped.columns = list(shaped._schema.names())
        shaped._known_rows = False
        return shaped

    def _beside(self, other: Any) -> Any:
        """Another table's columns, where this one's engine can join them: moved there if they are elsewhere."""
        here, there = self._frame.implementation, other.implementation
        if here.is_duckdb():
            import duckdb

            arrow = other.lazy().collect(backend="pyarrow").to_native()
            return nw.from_native(
                duckdb.from_arrow(arrow, connection=self._source.connection or duckdb.default_connection())
            )
        if here is there and isinstance(self._frame, nw.LazyFrame) == isinstance(other, nw.LazyFrame):
            return other
        raise InputError(
            f"This table is held by {here.value} and the other one by {there.value}: give both as files, or both as the"
            " same kind of dataframe."
        )

    def __repr__(self) -> str:
        return f"<table {self.name}: {', '.join(self.columns)}>"

    def relabel(self, column: str, names: Mapping[Any, str]) -> Table:
        """Give the values of a column readable names, such as `{0: "current", 1: "short"}`.

        Parameters
        ----------
        column : str
            The column, numbers, text or true/false.
        names : mapping of value to str
            A name for every value that occurs; missing values stay missing.

        Returns
        -------
        Table

        Raises
        ------
        DataError
            If a value occurs that has no name.
        """
        self._check_columns(column)
        if not names:
            raise InputError(f"Give the values of {column!r} names, such as {{0: 'current', 1: 'short'}}.")
        kind = self._schema[column]
        keys = {_as_kind(key, kind): str(name) for key, name in names.items()}
        value = nw.col(column)
        with self._reading():
            strange = self._frame.lazy().filter(~(value.is_null() | value.is_in(list(keys))))
            strange = strange.select(value.alias("value")).head(1_000)
            others = sorted({str(row["value"]) for row in reduce.rows_of(strange)})
        if others:
            raise DataError.unknown(f"name for a value of column {column!r}", others[0], keys)
        named: Any = nw.lit(None, dtype=nw.String)
        for key, name in keys.items():
            named = nw.when(value == key).then(nw.lit(name)).otherwise(named)
        return self._shaped(self._frame.with_columns(named.alias(column)))

    def where(self, column: str, **condition: Unpack[Condition]) -> Table:
        """Keep the rows whose value meets a condition.

        Parameters
        ----------
        column : str
            The column.
        equals, among, above, at_least, below, at_most, missing
            What its value must be; all that is given must hold. A missing value meets only `missing=True`.

        Returns
        -------
        Table
        """
        self._check_columns(column)
        return self._shaped(self._frame.filter(conditions.expression(column, **condition)))

    def derive(self, name: str, column: str, **condition: Unpack[Condition]) -> Table:
        """Add a column that is 1 where a value meets a condition, and 0 where it doesn't.

        Parameters
        ----------
        name : str
            The new column.
        column : str
            The column that is looked at; where it is missing, so is the new one.
        equals, among, above, at_least, below, at_most, missing
            As for `where`.

        Returns
        -------
        Table
        """
        self._check_columns(column)
        if name in self._schema:
            raise InputError(f"There is a column {name!r} already: choose another name.")
        met = nw.when(conditions.expression(column, **condition)).then(nw.lit(1)).otherwise(nw.lit(0))
        known = met if "missing" in condition else nw.when(~nw.col(column).is_null()).then(met)
        return self._shaped(self._frame.with_columns(known.alias(name)))

    def units(self, *, unit: str, by: str, measures: Mapping[str, Measure], assignment: Table | None = None) -> Table:
        """Turn a log of events into one row a unit.

        Parameters
        ----------
        unit : str
            Column that names the unit, what was randomised.
        by : str
            Column with the variant labels.
        measures : mapping of str to Measure
            New columns, and what each takes of a unit's events: `tables.count(event="search")`,
            `tables.total("amount")`, `any_of`, `largest`, `first`, `last`.
        assignment : Table, optional
            Who was assigned to what, with the columns `unit` and `by`: units without any event are then kept, with
            counts and sums of 0, and the variant is the assigned one, whatever the log says.

        Returns
        -------
        Table
            Without an assignment list, units seen under more than one variant are left out: `check` counts them.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> log = ar.table(ar.demo.path("events"))
        >>> wanted = {"searches": ar.tables.count(event="search"), "spent": ar.tables.total("amount")}
        >>> log.units(unit="traveller", by="form", measures=wanted).columns
        ['traveller', 'form', 'searches', 'spent']
        """
        if not measures:
            raise InputError("Say what to take of each unit's events, such as {'searches': tables.count()}.")
        taken = {f"{name}": f"measure_{k}" for k, name in enumerate(measures)}
        for name, measure in measures.items():
            self._check_columns(*measure.columns)
            if name in (unit, by):
                raise InputError(f"The measure {name!r} has the name of a column that is kept: choose another.")
        self._check_columns(unit, by)
        rows = self._frame.filter(~nw.col(unit).is_null())
        rows = rows.select(unit, by, *(m.of_rows(unit).alias(taken[n]) for n, m in measures.items()))
        rows = rows.with_columns(nw.col(by).alias("variant_low"), nw.col(by).alias("variant_high"))
        each = rows.group_by(unit).agg(
            nw.col("variant_low").min(),
            nw.col("variant_high").max(),
            *(m.of_units(taken[n]) for n, m in measures.items()),
        )
        found = [nw.col(taken[n]).alias(n) for n in measures]
        if assignment is None:
            each = each.filter(nw.col("variant_low") == nw.col("variant_high"))
            return self._shaped(each.select(unit, nw.col("variant_low").alias(by), *found))
        assignment._check_columns(unit, by)  # noqa: SLF001 - of the same class
        known = self._beside(assignment._frame.select(unit, by).unique())  # noqa: SLF001 - of the same class
        joined = known.join(each.drop("variant_low", "variant_high"), on=unit, how="left")
        nothing = {n: m.without_events for n, m in measures.items()}
        filled = [
            nw.col(taken[n]).alias(n) if nothing[n] is None else nw.col(taken[n]).fill_null(nothing[n]).alias(n)
            for n in measures
        ]
        return self._shaped(joined.select(unit, by, *filled))

    def pairs(self, value: str, *, by: str, unit: str, control: str) -> Pairs:
        """Two values of each unit, aligned by the unit and never by position.

        Parameters
        ----------
        value : str
            A number column.
        by : str
            Column with the labels of the two sides.
        unit : str
            Column that names the unit.
        control : str
            Label of the control side.

        Returns
        -------
        Pairs
            Units with a value on one side only are left out and counted.

        Raises
        ------
        DataError
            If there are not two sides, or a unit has more than one value on a side.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> calls = ar.table(ar.demo.path("turnarounds"))
        >>> found = calls.pairs("minutes", by="when", unit="vessel", control="before")
        >>> len(found), found.left_out
        (35, 1)
        """
        sides = self._aligned(value, by, unit, control)
        if len(sides.columns) != 2:
            found = f"column {by!r} has {len(sides.columns)}: {', '.join(sides.columns)}"
            raise DataError(f"Pairs have two sides, and {found}.")
        whole = sides.dropna()
        (treatment,) = [label for label in sides.columns if label != control]
        return Pairs(whole[treatment], whole[control], (treatment, control), len(sides) - len(whole), value)

    def _aligned(self, value: str, by: str, unit: str, control: str | None = None) -> pd.DataFrame:
        """One row a unit, one column a condition."""
        self._check([value], by, unit)
        native = self._fetched(unit, by, value, as_text=unit)
        native = native.assign(**{value: _floats(native[value])}).dropna()
        labels = sorted(map(reduce.label_text, native[by].unique()))
        if control is not None and control not in labels:
            raise DataError.unknown(f"side in column {by!r}", control, labels)
        twice = native[native.duplicated([unit, by])]
        if len(twice):
            raise DataError(
                f"{unit} {twice[unit].iloc[0]!r} has more than one {value} on the side"
                f" {reduce.label_text(twice[by].iloc[0])!r} ({len(twice):,} such rows): keep one, or take their mean."
            )
        native[by] = [reduce.label_text(label) for label in native[by]]
        return native.pivot(index=unit, columns=by, values=value)

    def wide_pairs(self, treatment: str, control: str) -> Pairs:
        """Two values of each row, from two columns; rows where one is missing are left out and counted."""
        self._check([treatment, control])
        native = self._fetched(treatment, control)
        one, two = _floats(native[treatment]), _floats(native[control])
        whole = ~(np.isnan(one) | np.isnan(two))
        return Pairs(one[whole], two[whole], (treatment, control), int(np.sum(~whole)), "")

    def moments(self, columns: str | Sequence[str], *, by: str | Sequence[str]) -> ByVariant[Moments]:
        """Counts, means and co-moments of columns for each variant, computed where the rows are.

        Parameters
        ----------
        columns : str or sequence of str
            Number or true/false columns. Rows where one of them is missing are left out of all, and counted.
        by : str or sequence of str
            Column with the variant labels; several make labels such as "short · Tern Quay".

        Returns
        -------
        ByVariant of Moments

        Raises
        ------
        DataError
            If a column is absent, holds text or infinite values, or a variant has no complete row.
        """
        if not isinstance(by, str):
            return self._together(by).moments(columns, by=JOINT.join(by))
        wanted = [columns] if isinstance(columns, str) else list(dict.fromkeys(columns))
        self._check(wanted, by)
        with self._reading():
            if isinstance(self._frame, nw.LazyFrame):
                return reduce.from_engine(self._frame, wanted, by)
            codes, labels = _codes(self._frame[by].to_native())
            values = [_floats(self._frame[c].to_native()) for c in wanted]
            return reduce.from_memory(codes, labels, values, wanted, by)

    def overall(self, columns: str | Sequence[str]) -> Moments:
        """Counts, means and co-moments of columns over all rows, computed where the rows are."""
        wanted = [columns] if isinstance(columns, str) else list(dict.fromkeys(columns))
        self._check(wanted)
        with self._reading():
            if isinstance(self._frame, nw.LazyFrame):
                one = "all" + "_" * max(map(len, self.columns))  # a name that no column has
                frame = self._frame.with_columns(nw.lit("all rows").alias(one))
                return reduce.from_engine(frame, wanted, one)["all rows"]
            values = [_floats(self._frame[c].to_native()) for c in wanted]
            codes = np.zeros(len(values[0]), dtype=np.intp)
            return reduce.from_memory(codes, ["all rows"], values, wanted, "all")["all rows"]

    def shape(self, value: str) -> Shape:
        """Skewness of a column over all rows, and whether it holds nothing but 0 and 1."""
        self._check([value])
        with self._reading():
            return profile.shape(self._frame.lazy(), value, self.overall(value))

    def describe(self, value: str, *, by: str, unit: str | None = None) -> Description:
        """What do the values of a column look like in each variant?

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str
            Column with the variant labels.
        unit : str, optional
            Column that names the unit: distinct ones with a value are counted.

        Returns
        -------
        Description
            Count, missing, mean, sd, se, skewness, quantiles, share of zeros and what the largest value contributes,
            for each variant; `plot()` draws boxes that stay readable with heavy tails.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> found = ar.table(ar.demo.path("travellers")).describe("fare", by="form")
        >>> round(found.groups["short"].zeros, 3)
        0.475
        """
        self._check([value], by, unit)
        arms = self.moments(value, by=by)
        groups = {}
        with self._reading():
            lazy = self._frame.lazy().filter(~nw.col(by).is_null())
            labels = [row["label"] for row in reduce.rows_of(lazy.select(nw.col(by).alias("label")).unique())]
            for label in labels:
                name = reduce.label_text(label)
                own = lazy.filter(nw.col(by) == label)
                groups[name] = profile.description(own, value, arms[name], unit)
        return Description(
            title=f"{value} by {by}",
            method="counts, moments and quantiles of each variant",
            source="quantiles: linear interpolation between order statistics (Hyndman & Fan 1996, type 7)",
            metric=value,
            groups={label: groups[label] for label in arms},
        )

    def daily(self, value: str, *, by: str, day: str) -> Daily:
        """How did the mean of a column go from day to day in each variant? `plot()` draws the series.

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str
            Column with the variant labels.
        day : str
            Column with the day.

        Returns
        -------
        Daily

        Examples
        --------
        >>> import amber_ruler as ar
        >>> found = ar.table(ar.demo.path("travellers")).daily("booked", by="form", day="day")
        >>> found.days[:3], found.groups["short"][0].n
        (('1', '2', '3'), 138)
        """
        return self.digest([value], by=by, day=day).daily(value)

    def clusters(self, value: str, *, by: str) -> Clusters:
        """Number, size and intraclass correlation of the clusters that a column names."""
        self._check([value], by)
        with self._reading():
            return profile.clusters(self._frame.lazy(), value, by, self.overall(value).mean(value))

    def samples(self, value: str, *, by: str | Sequence[str], unit: str | None = None) -> ByVariant[Sample]:
        """The values of a column for each variant, in memory; missing ones left out and counted.

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str or sequence of str
            Column with the variant labels; several make labels such as "short · Tern Quay".
        unit : str, optional
            Column that names the unit, where every unit was measured under each condition: the values are then in the
            same order of units, and units without a value under every condition are left out and counted.

        Returns
        -------
        ByVariant of Sample
        """
        if unit is not None:
            if not isinstance(by, str):
                raise InputError("samples takes one column in by where it aligns by unit.")
            sides = self._aligned(value, by, unit)
            whole = sides.dropna()
            lost = len(sides) - len(whole)
            aligned = {c: Sample(whole[c].to_numpy(), c, missing=lost, metric=value) for c in sides.columns}
            return ByVariant(dict(sorted(aligned.items())), column=by)
        if not isinstance(by, str):
            return self._together(by).samples(value, by=JOINT.join(by))
        self._check([value], by)
        native = self._fetched(by, value)
        codes, labels = _codes(native[by])
        numbers = _floats(native[value])
        samples = {}
        for k, key in enumerate(labels):
            mine = numbers[codes == k]
            missing = np.isnan(mine)
            samples[reduce.label_text(key)] = Sample(
                mine[~missing], reduce.label_text(key), missing=int(missing.sum()), metric=value
            )
        return ByVariant(dict(sorted(samples.items())), column=by, unassigned=int(np.sum(codes < 0)))

    def sizes(self, *, by: str, count: str | None = None) -> ByVariant[int]:
        """Rows of each variant, or the units that they stand for where a column holds their count."""
        self._check([] if count is None else [count], by)
        with self._reading():
            each = nw.lit(1) if count is None else nw.col(count)
            named = self._frame.lazy().select(nw.col(by).alias("label"), each.alias("rows"))
            found = named.group_by("label").agg(nw.col("rows").sum())
            rows = {row["label"]: int(row["rows"]) for row in reduce.rows_of(found)}
        unassigned = rows.pop(None, 0)
        labelled = {reduce.label_text(key): count for key, count in rows.items()}
        return ByVariant(dict(sorted(labelled.items())), column=by, unassigned=unassigned)

    def counts(self, *, row: str | None = None, column: str | None = None, count: str | None = None) -> CountTable:
        """Count rows by two columns; rows without a value in either are left out.

        Parameters
        ----------
        row, column : str, optional
            The two columns. Without them the table itself is one of counts: labels in its first column, counts in the
            others.
        count : str, optional
            Column that holds how many units a row stands for, where the table is already counted.

        Returns
        -------
        CountTable

        Examples
        --------
        >>> import amber_ruler as ar
        >>> ar.table(ar.demo.path("travellers")).counts(row="form", column="booked").counts.shape
        (3, 2)
        >>> tickets = ar.table(ar.demo.path("tickets"))
        >>> tickets.counts(row="port", column="ticket", count="count").total
        2060
        """
        if row is None and column is None and count is None:
            first, *others = self.columns
            self._check(others, first)
            native = self._fetched(first, *others)
            counts = np.column_stack([_floats(native[name]) for name in others])
            return CountTable(counts, tuple(map(reduce.label_text, native[first])), tuple(others), first)
        if row is None or column is None:
            raise InputError("counts needs both row and column, or neither for a table of counts.")
        self._check([] if count is None else [count], row, column)
        with self._reading():
            each = nw.lit(1) if count is None else nw.col(count)
            named = self._frame.lazy().select(nw.col(row).alias("row"), nw.col(column).alias("column"), each.alias("n"))
            named = named.filter(~nw.col("row").is_null() & ~nw.col("column").is_null() & ~nw.col("n").is_null())
            found = reduce.rows_of(named.group_by("row", "column").agg(nw.col("n").sum()))
        if not found:
            raise DataError(f"No row of {self.name} has both {row!r} and {column!r}.")
        rows, columns = (
            sorted({item[part] for item in found}, key=lambda v: (isinstance(v, str), v)) for part in ("row", "column")
        )
        counts = np.zeros((len(rows), len(columns)))
        for item in found:
            counts[rows.index(item["row"]), columns.index(item["column"])] = item["n"]
        row_labels, column_labels = (tuple(map(reduce.label_text, labels)) for labels in (rows, columns))
        return CountTable(counts, row_labels, column_labels, row, column)

    def check_split(self, *, by: str, planned: Mapping[str, float] | None = None) -> SplitCheck:
        """Did the variants get the shares of rows that were planned? See `check_split`."""
        return check_split(self.sizes(by=by), planned)

    def check(
        self,
        *,
        by: str,
        unit: str | None = None,
        split: Mapping[str, float] | None = None,
        day: str | None = None,
        strata: str | None = None,
        covariates: Sequence[str] = (),
        metrics: Sequence[str] = (),
        possible: Mapping[str, Bounds] | None = None,
    ) -> Findings:
        """Can this table be believed? Look for what breaks a comparison before anything is compared.

        Parameters
        ----------
        by : str
            Column with the variant labels.
        unit : str, optional
            Column that names the unit, what was randomised: finds rows that are events, and units under two variants.
        split : mapping of label to float, optional
            Planned shares; equal ones if not given.
        day : str, optional
            Column with the day: the split is then looked at day by day. Points in time are taken as their day.
        strata : str, optional
            Column with the strata: the split is then looked at in each.
        covariates : sequence of str
            Columns known before the test, which must be alike in the variants.
        metrics : sequence of str
            Columns to be measured: missing values, whether they vary, whether there are enough units for their
            skewness, and what the top 0.1 % holds of the total.
        possible : mapping of column to (float or None, float or None), optional
            The smallest and the largest value that can be, such as `{"fare": (0, None)}`.

        Returns
        -------
        Findings
            Each with its severity and what to do; `believable` is False where something serious was found.

        Notes
        -----
        Serious findings that rest on a test (split, split by day or stratum, missing values, covariates) each fire by
        chance with at most 1 in 1,000 sound tables, all their days, strata or columns taken together.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> trips.check(by="form", unit="traveller", day="day", covariates=["prior_spend"]).believable
        True
        """
        columns = list(dict.fromkeys([*covariates, *metrics, *(possible or {})]))
        self._check(columns, by, unit, day, strata)
        checks: list[Check] = []
        counts, units = self.sizes(by=by), None
        rows = sum(counts.values()) + counts.unassigned
        if counts.unassigned:
            advice = "They belong to no variant and are left out."
            checks.append(
                Check("variant labels", f"{counts.unassigned:,} rows have no label in {by!r}", advice, "note")
            )
        checks += findings.labels(list(counts))
        if unit is not None:
            with self._reading():
                seen = profile.units(self._frame.lazy(), unit, by)
            units, counts = seen.units, ByVariant(seen.counts, column=by)
            repeated = self._repeated_rows() if seen.rows > units else 0
            checks.append(findings.unit_of_analysis(seen.rows, units, repeated, unit))
            checks.append(findings.crossed_units(seen.crossed, units, unit))
        planned: Mapping[str, float] = dict.fromkeys(counts, 1.0)
        if len(counts) > 1:
            sound = check_split(counts, split)
            planned = sound.planned
            checks.append(sound.as_check)
            for name, part in (("day", day), ("stratum", strata)):
                if part is not None:
                    checks += self._split_checks(by, part, unit, sound.planned, name)
        endless: set[str] = set()
        if columns:
            bounds = {c: (possible or {}).get(c) for c in columns}
            with self._reading():
                spoilt = profile.impossible(self._frame.lazy(), by, bounds)
            checks += findings.impossible(spoilt, rows, bounds)
            endless = {c for c, variants in spoilt.items() if any(counted[0] for counted in variants.values())}
        for column in columns:
            if column in endless:
                continue  # there are no moments
            arms = self.moments(column, by=by)
            lost, kept = ({v: getattr(m, part) for v, m in arms.items()} for part in ("missing", "n"))
            checks.append(findings.missing(lost, kept, column, len(columns), before=column in covariates))
            if column in covariates and len(arms) > 1:
                checks.append(findings.balance(arms, column, len(covariates)))
            if column in metrics:
                checks += self._metric_checks(column, arms, by)
        return findings.Findings(
            title=f"Can {Path(self.name).name} be believed?",
            method="sample ratio, unit of analysis, missing values, balance before the test",
            source="Fabijan et al. (2019), KDD '19, 2156-2164, for the sample ratio; Kohavi et al. (2014), KDD '14",
            rows=rows,
            units=units,
            counts=dict(counts),
            planned=planned,
            checks=tuple(checks),
        )

    def digest(
        self, metrics: Sequence[str], *, by: str, covariates: Sequence[str] = (), strata: str = "", day: str = ""
    ) -> Digest:
        """Reduce to moments by variant, stratum and day: one small file that merges with another day's.

        Parameters
        ----------
        metrics : sequence of str
            Columns to be measured.
        by : str
            Column with the variant labels.
        covariates : sequence of str
            Columns known before the test, reduced together with each metric.
        strata, day : str, optional
            Columns with the strata and the day.

        Returns
        -------
        Digest
            Its `moments(metric)` serve wherever a table's do.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> kept = trips.digest(["fare"], by="form", covariates=["prior_spend"], day="day")
        >>> kept.moments("fare")["short"].n == trips.moments(["fare", "prior_spend"], by="form")["short"].n
        True
        """
        named = [c for c in (by, strata, day) if c]
        self._check([*metrics, *covariates], *named)
        # A key column of our own, whose parts are kept apart by a sign that no label has. An unknown stratum or day is
        # one of its own; rows without a variant belong to none.
        key = "cell" + "_" * max(map(len, self.columns))
        parts = [profile.calendar_day(c, self._schema[c]).cast(nw.String) for c in named]
        parts = [text if c == by else text.fill_null("") for c, text in zip(named, parts, strict=True)]
        with self._reading():
            keyed = self._shaped(self._frame.with_columns(nw.concat_str(*parts, separator=_APART).alias(key)))
        rows = keyed.sizes(by=key)
        cells: dict[tuple[str, str, str], dict[str, Moments]] = {}
        for metric in dict.fromkeys(metrics):
            columns = [metric, *(c for c in covariates if c != metric)]
            complete = keyed
            for column in columns:
                complete = complete.where(column, missing=False)
            for label, found in complete.moments(columns, by=key).items():
                values = dict(zip(named, label.split(_APART), strict=True))
                cell = (values[by], values.get(strata, ""), values.get(day, ""))
                missing = rows[label] - found.n
                cells.setdefault(cell, {})[metric] = replace(found, label=values[by], missing=missing)
        return Digest(by, strata, day, tuple(dict.fromkeys(metrics)), tuple(covariates), cells, rows.unassigned)

    def _together(self, by: Sequence[str]) -> Table:
        """With one more column that joins the labels of several; empty where one of them is."""
        self._check([], *by)
        parts = [nw.col(c).cast(nw.String) for c in by]
        with self._reading():
            return self._shaped(self._frame.with_columns(nw.concat_str(*parts, separator=JOINT).alias(JOINT.join(by))))

    def _repeated_rows(self) -> int:
        with self._reading():
            columns = [
                nw.col(c).cast(nw.String) if isinstance(kind, nw.Object) else nw.col(c)
                for c, kind in self._schema.items()
            ]
            lazy = self._frame.lazy().select(*columns)
            whole, distinct = (
                int(reduce.rows_of(f.select(nw.len().alias("rows")))[0]["rows"]) for f in (lazy, lazy.unique())
            )
        return whole - distinct

    def _split_checks(
        self, by: str, part: str, unit: str | None, planned: Mapping[str, float], name: str
    ) -> list[Check]:
        with self._reading():
            cells = profile.by_part(self._frame.lazy(), by, part, unit)
        labels = list(planned)
        known = {(d, v): n for d, v, n in cells if v in planned}
        names = list(dict.fromkeys(d for d, _ in known))
        if not names:
            return [Check(f"split by {name}", f"column {part!r} is empty", "Give the column that holds it.", "warning")]
        table = np.array([[known.get((d, v), 0) for v in labels] for d in names], dtype=np.float64)
        shares = np.array([planned[v] for v in labels])
        more = findings.days(table, names) if name == "day" else []
        return [findings.split_in_parts(table, names, labels, shares, name), *more]

    def _metric_checks(self, column: str, arms: ByVariant[Moments], by: str) -> list[Check]:
        """Is a metric fit to be measured: does it vary, are there enough units, do few values carry it?"""
        flat = findings.constant(arms, column)
        found = self.shape(column)
        checks = [] if flat is None else [flat]
        if found.zero_one or not any(m.comoments[0, 0] for m in arms.values()):
            return checks
        checks.append(findings.shape(min(m.n for m in arms.values()), found.skewness, column))
        if sum(m.n for m in arms.values()) < 2 / (1 - findings.TOP):
            return checks
        with self._reading():
            limit, share = profile.top(self._frame.lazy(), column, findings.TOP)
            value = reduce.number(nw.col(column), self._schema[column])
            capped = self._frame.with_columns(nw.when(value > limit).then(nw.lit(limit)).otherwise(value).alias(column))
        capped_arms = self._shaped(capped).moments(column, by=by)
        return [*checks, findings.top(share, limit, _pooled(arms), _pooled(capped_arms), column)]

    def _check(self, values: Sequence[str], *labels: str | None) -> None:
        self._check_rows()
        labelled = [c for c in labels if c is not None]
        self._check_columns(*values, *labelled)
        for column in labelled:
            if self._nested(column):
                raise DataError(f"Column {column!r} of {self.name} holds lists or records: labels are text or numbers.")
        for column in values:
            kind = self._schema[column]
            if isinstance(kind, (nw.String, nw.Categorical, nw.Enum, nw.Object)):
                self._refuse_text(column)
            elif not (kind.is_numeric() or isinstance(kind, (nw.Boolean, nw.Unknown))):
                raise DataError(f"Column {column!r} of {self.name} holds {kind}, not numbers.")

    def _fetched(self, *columns: str, as_text: str = "") -> Any:
        """Columns in memory, as a pandas frame; long numbers keep their digits on the way as text."""
        wanted = [nw.col(c).cast(nw.String) if c == as_text else nw.col(c) for c in dict.fromkeys(columns)]
        frame = self._frame.select(*wanted)
        with self._reading():
            if isinstance(frame, nw.LazyFrame):
                frame = reduce.collected(frame)
            return frame.to_native() if frame.implementation.is_pandas() else _to_pandas(frame)

    def _check_columns(self, *columns: str) -> None:
        for column in columns:
            if column not in self._schema:
                raise DataError.unknown(f"column of {self.name}", column, self.columns)

    def _check_rows(self) -> None:
        if self._known_rows:
            return
        with self._reading():
            if not reduce.rows_of(self._frame.lazy().select(nw.col(self.columns[0]).alias("first")).head(1)):
                raise DataError(f"{self.name} has columns ({', '.join(self.columns)}) but no rows.")
        self._known_rows = True

    def _nested(self, column: str) -> bool:
        """Whether values hold other values."""
        kind = self._schema[column]
        if not isinstance(kind, nw.Object):
            return isinstance(kind, (nw.Struct, nw.List, nw.Array))
        some = self._frame.lazy().select(nw.col(column).alias("value")).filter(~nw.col("value").is_null()).head(1)
        return any(not isinstance(row["value"], Hashable) for row in reduce.rows_of(some))

    def _refuse_text(self, column: str) -> None:
        """Say which text stands in a column of numbers, and where."""
        lazy = self._frame.lazy().select(nw.col(column).alias("value"))
        with self._reading():
            head = reduce.rows_of(lazy.head(100_000))
        for row, item in enumerate(head, start=1):
            if item["value"] is not None and not _is_number(item["value"]):
                line = line_of(self._source, row) if self._frame is self._source.frame else ""
                raise DataError(
                    f"Column {column!r} of {self.name} holds text, first {str(item['value'])!r} in row {row:,}{line}:"
                    " numbers are needed. Fix or empty such cells, or choose another column."
                )
        if isinstance(self._schema[column], nw.Object):
            if all(item["value"] is None for item in head):
                raise DataError(f"Column {column!r} of {self.name} is empty in all {len(head):,} rows looked at.")
            return
        text = nw.col("value")
        with self._reading():
            known = lazy.filter(~text.is_null())
            for said, found in (
                (", such as {!r}: numbers are needed", known.filter(~text.cast(nw.String).str.contains(_NUMBER))),
                (" such as {!r}: turn it into numbers first", known),
            ):
                some = reduce.rows_of(found.head(1))
                if some:
                    raise DataError(f"Column {column!r} of {self.name} holds text{said.format(some[0]['value'])}.")
        raise DataError(f"Column {column!r} of {self.name} is empty in all its rows.")


def table(source: Any) -> Table:
    """Open a table of observations.

    Parameters
    ----------
    source : path or dataframe
        A CSV, Parquet or JSON Lines file, a folder of them or a pattern such as "days/*.parquet" (read by DuckDB, in
        process, which may read nothing else), or any dataframe that narwhals knows.

    Returns
    -------
    Table

    Raises
    ------
    DataError
        If there is no such file, it is empty, or two columns share a name.
    InputError
        If the source is neither a path nor a dataframe.

    Examples
    --------
    >>> import pandas as pd
    >>> trips = table(pd.DataFrame({"form": ["short", "current"] * 3, "fare": [3.0, 1, 4, 1, 5, 9]}))
    >>> trips.moments("fare", by="form")["short"].mean("fare")
    4.0
    """
    return Table(source)


def _pooled(arms: ByVariant[Moments]) -> tuple[float, float]:
    """Mean over all variants, and standard deviation within them."""
    n = sum(m.n for m in arms.values())
    mean = sum(m.n * float(m.means[0]) for m in arms.values()) / n
    return mean, float(np.sqrt(sum(m.comoments[0, 0] for m in arms.values()) / (n - len(arms))))


def _to_pandas(frame: nw.DataFrame[Any]) -> Any:
    import pandas as pd

    return pd.DataFrame({name: frame[name].to_list() for name in frame.columns})


def _codes(labels: Any) -> tuple[NDArray[np.intp], list[Any]]:
    import pandas as pd

    codes, found = pd.factorize(labels)
    return np.asarray(codes), list(found)


def _floats(column: Any) -> Floats:
    return np.asarray(column.to_numpy(dtype=np.float64, na_value=np.nan))


def _is_number(value: Any) -> bool:
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True


def _as_kind(key: Any, kind: Any) -> Any:
    """A key as the column holds it: 0 and "0" find each other."""
    if isinstance(kind, nw.String):
        return str(key)
    if isinstance(key, str) and kind.is_numeric():
        try:
            return float(key) if kind.is_float() else int(key)
        except ValueError:
            raise InputError.rule("value", key, "a number, as the column holds") from None
    return key
