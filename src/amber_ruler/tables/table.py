"""A table of observations, wherever its rows are."""

from __future__ import annotations

from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import narwhals as nw
import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.results import Check
from amber_ruler.samples import CountTable, Pairs, Sample
from amber_ruler.tables import conditions, findings, profile, reduce
from amber_ruler.tables.description import Description
from amber_ruler.tables.digest import Digest
from amber_ruler.tables.source import engine_errors, open_source
from amber_ruler.tables.split_check import SplitCheck, check_split
from amber_ruler.tables.variants import ByVariant

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from typing import Unpack

    from numpy.typing import NDArray

    from amber_ruler.moments import Moments
    from amber_ruler.numeric.gate import Floats
    from amber_ruler.tables.conditions import Condition
    from amber_ruler.tables.findings import Findings
    from amber_ruler.tables.per_unit import Measure
    from amber_ruler.tables.profile import Clusters, Shape

_APART = "\x1f"  # the separator of units in ASCII
_TOGETHER = " · "


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
        self._check([value], by)
        self._check_columns(unit)
        native = self._fetched(unit, by, value)
        native = native.assign(**{value: _floats(native[value])}).dropna()
        labels = sorted(map(reduce.label_text, native[by].unique()))
        if control not in labels:
            raise DataError.unknown(f"side in column {by!r}", control, labels)
        if len(labels) != 2:
            raise DataError(f"Pairs have two sides, and column {by!r} has {len(labels)}: {', '.join(labels)}.")
        twice = native[native.duplicated([unit, by])]
        if len(twice):
            raise DataError(
                f"{unit} {twice[unit].iloc[0]!r} has more than one {value} on the side"
                f" {reduce.label_text(twice[by].iloc[0])!r} ({len(twice):,} such rows): keep one, or take their mean."
            )
        native[by] = [reduce.label_text(label) for label in native[by]]
        sides = native.pivot(index=unit, columns=by, values=value)
        whole = sides.dropna()
        (treatment,) = [label for label in labels if label != control]
        return Pairs(whole[treatment], whole[control], (treatment, control), len(sides) - len(whole), value)

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
            return self._together(by).moments(columns, by=_TOGETHER.join(by))
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

    def describe(self, value: str, *, by: str) -> Description:
        """What do the values of a column look like in each variant?

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str
            Column with the variant labels.

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
        arms = self.moments(value, by=by)
        groups = {}
        with self._reading():
            lazy = self._frame.lazy().filter(~nw.col(by).is_null())
            labels = [row["label"] for row in reduce.rows_of(lazy.select(nw.col(by).alias("label")).unique())]
            for label in labels:
                name = reduce.label_text(label)
                own = lazy.filter(nw.col(by) == label)
                groups[name] = profile.description(own, value, self._schema[value], arms[name])
        return Description(
            title=f"{value} by {by}",
            method="counts, moments and quantiles of each variant",
            source="quantiles: linear interpolation between order statistics (Hyndman & Fan 1996, type 7)",
            metric=value,
            groups={label: groups[label] for label in arms},
        )

    def clusters(self, value: str, *, by: str) -> Clusters:
        """Number, size and intraclass correlation of the clusters that a column names."""
        self._check([value], by)
        with self._reading():
            return profile.clusters(self._frame.lazy(), value, by, self.overall(value).mean(value))

    def split(self, value: str, *, by: str | Sequence[str]) -> ByVariant[Sample]:
        """The values of a column for each variant, in memory; missing ones left out and counted.

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str or sequence of str
            Column with the variant labels; several make labels such as "short · Tern Quay".

        Returns
        -------
        ByVariant of Sample
        """
        if not isinstance(by, str):
            return self._together(by).split(value, by=_TOGETHER.join(by))
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

    def counts(self, *, by: str) -> ByVariant[int]:
        """Rows of each variant."""
        self._check([], by)
        with self._reading():
            found = self._frame.lazy().select(nw.col(by).alias("label")).group_by("label").agg(nw.len().alias("rows"))
            rows = {row["label"]: int(row["rows"]) for row in reduce.rows_of(found)}
        unassigned = rows.pop(None, 0)
        labelled = {reduce.label_text(key): count for key, count in rows.items()}
        return ByVariant(dict(sorted(labelled.items())), column=by, unassigned=unassigned)

    def cross(self, *, row: str, column: str) -> CountTable:
        """Count rows by two columns; rows without a value in either are left out.

        Parameters
        ----------
        row, column : str
            The two columns.

        Returns
        -------
        CountTable

        Examples
        --------
        >>> import amber_ruler as ar
        >>> ar.table(ar.demo.path("travellers")).cross(row="form", column="booked").counts.shape
        (3, 2)
        """
        self._check([], row)
        self._check_columns(column)
        with self._reading():
            named = self._frame.lazy().select(nw.col(row).alias("row"), nw.col(column).alias("column"))
            named = named.filter(~nw.col("row").is_null() & ~nw.col("column").is_null())
            found = reduce.rows_of(named.group_by("row", "column").agg(nw.len().alias("n")))
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
        return check_split(self.counts(by=by), planned)

    def check(
        self,
        *,
        by: str,
        unit: str | None = None,
        split: Mapping[str, float] | None = None,
        day: str | None = None,
        covariates: Sequence[str] = (),
        metrics: Sequence[str] = (),
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
            Column with the day: the split is then looked at day by day.
        covariates : sequence of str
            Columns known before the test, which must be alike in the variants.
        metrics : sequence of str
            Columns to be measured: missing values, and whether there are enough units for their skewness.

        Returns
        -------
        Findings
            Each with its severity and what to do; `believable` is False where something serious was found.

        Notes
        -----
        Serious findings that rest on a test (split, split by day, missing values, covariates) each fire by chance with
        at most 1 in 1,000 sound tables, all their days or columns taken together.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> trips.check(by="form", unit="traveller", day="day", covariates=["prior_spend"]).believable
        True
        """
        self._check([*covariates, *metrics], by)
        self._check_columns(*(c for c in (unit, day) if c is not None))
        checks: list[Check] = []
        counts, units = self.counts(by=by), None
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
            if day is not None:
                checks += self._day_checks(by, day, unit, sound.planned)
        columns = list(dict.fromkeys([*covariates, *metrics]))
        for column in columns:
            arms = self.moments(column, by=by)
            lost, kept = ({v: getattr(m, part) for v, m in arms.items()} for part in ("missing", "n"))
            checks.append(findings.missing(lost, kept, column, len(columns), before=column in covariates))
            if column in covariates and len(arms) > 1:
                checks.append(findings.balance(arms, column, len(covariates)))
            if column in metrics:
                found = self.shape(column)
                if not found.zero_one:
                    checks.append(findings.shape(min(kept.values()), found.skewness, column))
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
        self._check([*metrics, *covariates], by)
        named = [c for c in (by, strata, day) if c]
        self._check_columns(*named)
        # A key column of our own, whose parts are kept apart by a sign that no label has. An unknown stratum or day is
        # one of its own; rows without a variant belong to none.
        key = "cell" + "_" * max(map(len, self.columns))
        parts = [nw.col(c).cast(nw.String) if c == by else nw.col(c).cast(nw.String).fill_null("") for c in named]
        with self._reading():
            keyed = self._shaped(self._frame.with_columns(nw.concat_str(*parts, separator=_APART).alias(key)))
        rows = keyed.counts(by=key)
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
        self._check_columns(*by)
        parts = [nw.col(c).cast(nw.String) for c in by]
        with self._reading():
            return self._shaped(
                self._frame.with_columns(nw.concat_str(*parts, separator=_TOGETHER).alias(_TOGETHER.join(by)))
            )

    def _repeated_rows(self) -> int:
        with self._reading():
            lazy = self._frame.lazy()
            whole, distinct = (
                int(reduce.rows_of(f.select(nw.len().alias("rows")))[0]["rows"]) for f in (lazy, lazy.unique())
            )
        return whole - distinct

    def _day_checks(self, by: str, day: str, unit: str | None, planned: Mapping[str, float]) -> list[Check]:
        with self._reading():
            cells = profile.by_day(self._frame.lazy(), by, day, unit)
        labels = list(planned)
        known = {(d, v): n for d, v, n in cells if v in planned}
        names = list(dict.fromkeys(d for d, _ in known))
        table = np.array([[known.get((d, v), 0) for v in labels] for d in names], dtype=np.float64)
        return findings.days(table, names, labels, np.array([planned[v] for v in labels]))

    def _check(self, values: Sequence[str], by: str | None = None) -> None:
        self._check_rows()
        self._check_columns(*values, *(() if by is None else (by,)))
        for column in values:
            kind = self._schema[column]
            if isinstance(kind, (nw.String, nw.Categorical, nw.Enum, nw.Object)):
                self._refuse_text(column)
            elif not (kind.is_numeric() or isinstance(kind, (nw.Boolean, nw.Unknown))):
                raise DataError(f"Column {column!r} of {self.name} holds {kind}, not numbers.")

    def _fetched(self, *columns: str) -> Any:
        """Columns in memory, as a pandas frame."""
        frame = self._frame.select(dict.fromkeys(columns))
        with self._reading():
            if isinstance(frame, nw.LazyFrame):
                frame = frame.collect(backend="pandas") if not frame.implementation.is_polars() else frame.collect()
            return _to_pandas(frame)

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

    def _refuse_text(self, column: str) -> None:
        """Say which text stands in a column of numbers, and where."""
        with self._reading():
            head = reduce.rows_of(self._frame.lazy().select(nw.col(column).alias("value")).head(100_000))
        for row, item in enumerate(head, start=1):
            if item["value"] is not None and not _is_number(item["value"]):
                raise DataError(
                    f"Column {column!r} of {self.name} holds text, first {str(item['value'])!r} in row {row:,}:"
                    " numbers are needed. Mend or empty such cells, or choose another column."
                )
        if all(item["value"] is None for item in head):
            raise DataError(f"Column {column!r} of {self.name} is empty in all {len(head):,} rows looked at.")
        if not isinstance(self._schema[column], nw.Object):
            raise DataError(f"Column {column!r} of {self.name} is stored as text: turn it into numbers first.")


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


def _to_pandas(frame: nw.DataFrame[Any]) -> Any:
    if frame.implementation.is_pandas():
        return frame.to_native()
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
