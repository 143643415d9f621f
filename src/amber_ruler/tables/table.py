"""A table of observations, wherever its rows are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType
from typing import Any, Self, Unpack

import narwhals as nw
import numpy as np

from amber_ruler.digest import Daily, Digest
from amber_ruler.errors import DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.resample import Replay, Replays
from amber_ruler.resample.drawing import Progress
from amber_ruler.results import Comparison, Family
from amber_ruler.results.display import Look, Shown, safe
from amber_ruler.samples import ByVariant, CountTable, Pairs, Sample
from amber_ruler.tables import checking, comparing, counting, pairing, profile, recording, reduce, replaying, shaping
from amber_ruler.tables.conditions import Condition
from amber_ruler.tables.description import MOST_DESCRIBED, Description
from amber_ruler.tables.dialect import Dialect
from amber_ruler.tables.findings import Bounds, Findings
from amber_ruler.tables.frame import Held
from amber_ruler.tables.per_unit import Measure
from amber_ruler.tables.profile import Clusters
from amber_ruler.tables.split_check import SplitCheck, check_split


class Table(Held, Shown):
    """Long data, one row an observation; made by `table`.

    Attributes
    ----------
    columns : list of str
        Column names, in order.
    name : str
        The file's path, or "the dataframe".
    dropped : int
        Rows that `distinct` dropped.
    """

    def __repr__(self) -> str:
        return f"<table {safe(self.name)}: {safe(', '.join(self.columns))}>"

    def _look(self) -> Look:
        kinds = ((name, str(self.schema[name])) for name in self.columns)
        return Look(f"Table {self.name}", ("column", "holds"), kinds)

    def relabel(self, column: str, names: Mapping[Any, str]) -> Self:
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
        return shaping.relabel(self, column, names)

    def distinct(self) -> Self:
        """Drop rows that repeat another one in every column; `dropped` counts them.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> log = ar.table(ar.demo.path("events")).distinct()
        >>> log.dropped
        1948
        """
        return shaping.distinct(self)

    def two_valued(self, column: str, *, success: Any) -> Self:
        """Make a column of two values, such as yes and no, 1 where it is a success and 0 where it is not.

        Parameters
        ----------
        column : str
            The column; missing values stay missing.
        success : value
            Which of the two is a success.

        Returns
        -------
        Table

        Raises
        ------
        DataError
            If the column holds other than two values, or not this one.

        Examples
        --------
        >>> import pandas as pd
        >>> import amber_ruler as ar
        >>> trips = ar.table(pd.DataFrame({"form": ["a", "b"] * 2, "booked": ["yes", "no", "yes", "yes"]}))
        >>> trips.two_valued("booked", success="yes").moments("booked", by="form")["b"].mean("booked")
        0.5
        """
        return shaping.two_valued(self, column, success)

    def where(self, column: str, **condition: Unpack[Condition]) -> Self:
        """Keep the rows whose value meets a condition.

        Parameters
        ----------
        column : str
            The column.
        equals, differs, among, above, at_least, below, at_most, missing
            What its value must be; all that is given must hold. A missing value meets only `missing=True`. Dates are
            dates or text such as "2026-10-01"; among moments a day stands for its first one. Text goes by its letters.

        Returns
        -------
        Table
        """
        met = self.condition(column, **condition)
        with self.reading():
            return self.shaped(self.frame.filter(met))

    def derive(self, name: str, column: str, **condition: Unpack[Condition]) -> Self:
        """Add a column that is 1 where a value meets a condition, and 0 where it doesn't.

        Parameters
        ----------
        name : str
            The new column.
        column : str
            The column that is looked at; where it is missing, so is the new one.
        equals, differs, among, above, at_least, below, at_most, missing
            As for `where`.

        Returns
        -------
        Table
        """
        meets = self.condition(column, **condition)
        if name in self.schema:
            raise InputError(f"There is a column {name!r} already: choose another name.")
        met = nw.when(meets).then(nw.lit(1)).otherwise(nw.lit(0))
        known = met if "missing" in condition else nw.when(~nw.col(column).is_null()).then(met)
        with self.reading():
            return self.shaped(self.frame.with_columns(known.alias(name)))

    def capped(self, column: str, cap: float) -> Self:
        """Set the values of a column above its quantile `cap` (type 7, over all rows) to that quantile.

        Parameters
        ----------
        column : str
            A number column.
        cap : float, between 0.5 and 1
            The quantile.

        Returns
        -------
        Table

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> trips.capped("fare", 0.99).overall("fare").ends("fare")[1] < trips.overall("fare").ends("fare")[1]
        True
        """
        return shaping.capped(self, column, cap)

    def days_since_first(self, name: str, *, unit: str, day: str) -> Self:
        """Add a column with the days since the first one of a row's unit: 0 on its first day.

        Parameters
        ----------
        name : str
            The new column.
        unit : str
            Column that names the unit.
        day : str
            Column with the day, a number or a date.

        Returns
        -------
        Table

        Examples
        --------
        >>> import amber_ruler as ar
        >>> log = ar.table(ar.demo.path("events")).days_since_first("age", unit="traveller", day="day")
        >>> log.overall("age").ends("age")[0]
        0.0
        """
        return shaping.days_since_first(self, name, unit=unit, day=day)

    def units(self, *, unit: str, by: str, measures: Mapping[str, Measure], assignment: Table | None = None) -> Self:
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
        return shaping.units(self, unit=unit, by=by, measures=measures, assignment=assignment)

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
        return pairing.pairs(self, value, by=by, unit=unit, control=control)

    def wide_pairs(self, treatment: str, control: str) -> Pairs:
        """Two values of each row, from two columns; rows where one is missing are left out and counted."""
        return pairing.wide_pairs(self, treatment, control)

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
        return pairing.samples(self, value, by=by, unit=unit)

    def moments(self, columns: str | Sequence[str], *, by: str | Sequence[str]) -> ByVariant[Moments]:
        """Counts, means and co-moments of columns for each variant, computed where the rows are.

        Parameters
        ----------
        columns : str or sequence of str
            Number or true/false columns. Each keeps all rows where it has a value; what takes two of them, such as a
            covariance, comes from the rows where none is missing.
        by : str or sequence of str
            Column with the variant labels; several make labels such as "short · Tern Quay".

        Returns
        -------
        ByVariant of Moments

        Raises
        ------
        DataError
            If a column is absent, holds text or infinite values, or a variant has no row with all columns.
        """
        return counting.moments(self, columns, by=by)

    def records(self, columns: str | Sequence[str], *, by: str) -> ByVariant[Any]:
        """The rows of each variant with some of their columns, for what needs more of a row than one value.

        Parameters
        ----------
        columns : str or sequence of str
            Columns of numbers, and of labels such as a stratum or what was randomised.
        by : str
            Column with the variant labels.

        Returns
        -------
        ByVariant of Records
            Of a dataframe in memory; of files and engines a handle of each variant, whose rows stay where they are and
            come back as sums only.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> trips.records(["fare", "home_port"], by="form")["short"].columns
        ('fare', 'home_port')
        """
        return recording.records(self, columns, by=by)

    def overall(self, columns: str | Sequence[str]) -> Moments:
        """Counts, means and co-moments of columns over all rows, computed where the rows are."""
        return counting.overall(self, columns)

    def sizes(self, *, by: str, count: str | None = None) -> ByVariant[int]:
        """Rows of each variant, or the units that they stand for where a column holds their count."""
        return counting.sizes(self, by=by, count=count)

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
        return counting.counts(self, row=row, column=column, count=count)

    def compare(
        self,
        metrics: str | Sequence[str] | Mapping[str, Mapping[str, Any]],
        *,
        by: str,
        control: str,
        treatment: str | None = None,
        method: str | None = None,
        correct: str = "holm",
        **settings: Any,
    ) -> Comparison | Family:
        """What is different from the control, in one metric or several?

        Parameters
        ----------
        metrics : str, sequence of str, or mapping of str to settings
            Columns; a mapping gives each settings of its own, such as `{"fare": {"margin": 0.3}, "complaint": {"good":
            "lower"}}`, `method` among them.
        by : str
            Column with the variant labels.
        control : str
            Label of the control.
        treatment : str, optional
            Label of the treatment; all others, each against the control, unless given.
        method : str, optional
            A method of `measure` that compares two groups, such as "ranks"; "proportions" of a metric of 0 and 1, and
            "means" of any other unless given.
        correct : str
            How several comparisons are corrected, as `multiplicity.correct` has it, or "none".
        **settings
            Of the method, for all metrics.

        Returns
        -------
        Comparison or Family
            One comparison, or several as a family.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> trips = ar.table(ar.demo.path("travellers"))
        >>> day = trips.compare(["fare", "booked"], by="form", control="current", treatment="short")
        >>> day.labels, round(day["booked"].estimate, 4)
        (('fare', 'booked'), 0.0674)
        """
        return comparing.compare(
            self,
            metrics,
            by=by,
            control=control,
            treatment=treatment,
            method=method,
            correct=correct,
            settings=settings,
        )

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
            counts between edges, for each variant; `plot()` draws their shape over boxes that stay readable with heavy
            tails.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> found = ar.table(ar.demo.path("travellers")).describe("fare", by="form")
        >>> round(found.groups["short"].zeros, 3)
        0.475
        """
        self.need([value], by, unit)
        arms = self.moments(value, by=by)
        if len(arms) > MOST_DESCRIBED:
            raise DataError(f"Column {by!r} holds {len(arms):,} different labels: name the one with the variants.")
        groups = {}
        with self.reading():
            lazy = self.frame.lazy().filter(~nw.col(by).is_null())
            labels = [row["label"] for row in reduce.rows_of(lazy.select(nw.col(by).alias("label")).unique())]
            for label in labels:
                name = reduce.label_text(label)
                own = lazy.filter(nw.col(by) == label)
                groups[name] = profile.description(own, value, arms[name], unit)
            edges = profile.edges_of(list(groups.values()), whole=profile.all_whole(lazy, value))
            if edges:
                counts = profile.histogram(lazy, value, by, edges)
                nothing = (0,) * (len(edges) - 1)
                groups = {label: replace(g, counts=counts.get(label, nothing)) for label, g in groups.items()}
        return Description(
            title=f"{value} by {by}",
            method="counts, moments and quantiles of each variant",
            source="quantiles: linear interpolation between order statistics (Hyndman & Fan 1996, type 7)",
            metric=value,
            groups={label: groups[label] for label in arms},
            edges=edges,
            by=by,
        )

    def daily(self, value: str, *, by: str, day: str, per: str | None = None) -> Daily:
        """How did the mean of a column go from day to day in each variant? `plot()` draws the series.

        Parameters
        ----------
        value : str
            A number or true/false column.
        by : str
            Column with the variant labels.
        day : str
            Column with the day.
        per : str, optional
            Column that the metric is counted by: the series is then the total of one over the total of the other.

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
        return self.digest([value], by=by, day=day, covariates=[] if per is None else [per]).daily(value, per=per)

    def clusters(self, value: str, *, by: str) -> Clusters:
        """Number, size and intraclass correlation of the clusters that a column names."""
        self.need([value], by)
        with self.reading():
            return profile.clusters(self.frame.lazy(), value, by, self.overall(value).mean(value))

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
        clusters: str | None = None,
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
        clusters : str, optional
            Column with what was assigned as a whole, where that is many units: the split is then that of clusters,
            each must be in one variant, and what a test of independent units would say of parts is left out.
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
        return checking.check(
            self,
            by=by,
            unit=unit,
            split=split,
            day=day,
            strata=strata,
            clusters=clusters,
            covariates=covariates,
            metrics=metrics,
            possible=possible,
        )

    def replay(
        self,
        metrics: str | Mapping[str, Mapping[str, Any]],
        *,
        share: float = 0.5,
        runs: int | None = None,
        effect: float | None = None,
        lift: float | None = None,
        alpha: float = 0.05,
        workers: int | None = None,
        progress: Progress | None = None,
        seed: int | np.random.Generator | None = None,
    ) -> Replay | Replays:
        """Does an analysis keep its error rate on these units, and which of several finds the smallest difference?

        Parameters
        ----------
        metrics : str or mapping of label to settings
            A column; or several ways to analyse, each with the settings of `adjust.sharpen`: `value`, `covariate`,
            `cap`, `per`, `strata`, `cluster`, or of `measure.means` and `measure.proportions` where there is only a
            value, which is the label unless given.
        share, runs, effect, lift, alpha, workers, progress, seed
            As for `resample.replay`.

        Returns
        -------
        Replay or Replays
            From a table of units with no difference among them, such as one from before the test.

        Examples
        --------
        >>> import amber_ruler as ar
        >>> past = ar.table(ar.demo.path("travellers")).where("form", equals="current")
        >>> ways = {"fare": {}, "fare, with prior spend": {"value": "fare", "covariate": "prior_spend"}}
        >>> past.replay(ways, runs=500, seed=1).sharpest
        'fare, with prior spend'
        """
        asked = {"share": share, "effect": effect, "lift": lift, "alpha": alpha, "workers": workers}
        return replaying.replay(self, metrics, runs=runs, progress=progress, seed=seed, **asked)

    def digest(
        self,
        metrics: str | Sequence[str],
        *,
        by: str,
        covariates: str | Sequence[str] = (),
        strata: str = "",
        day: str = "",
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
        return counting.digest(self, metrics, by=by, covariates=covariates, strata=strata, day=day)


def table(
    source: Any,
    *,
    dates: Mapping[str, str] = MappingProxyType({}),
    separator: str | None = None,
    decimal: str | None = None,
    thousands: str | None = None,
    missing: str | Sequence[str] = (),
    encoding: str | None = None,
    skip: int = 0,
) -> Table:
    """Open a table of observations.

    Parameters
    ----------
    source : path or dataframe
        A CSV (also .gz or .zst), Parquet or JSON Lines file, a folder of them or a pattern such as `days/*.parquet`
        (read by DuckDB, in process, which may read nothing else), or any dataframe that narwhals knows.
    dates : mapping of column to str, optional
        How columns of dates are written that are text, such as `{"signup": "%d/%m/%Y"}`; 2026-10-01 is read as it is.
    separator, decimal, thousands : str, optional
        Of a CSV file: the sign between columns (found out unless given), the decimal sign "." or ",", and the sign that
        keeps thousands apart. Where either of the last two is given, text columns whose values are all numbers as
        people write them, such as 2.113,87 or 21,5 %, become numbers; a percentage becomes a share.
    missing : str or sequence of str
        Text of a CSV file that stands for a missing value, beside an empty cell, such as "n/a".
    encoding : str, optional
        Of a CSV file, such as "latin-1" or "utf-16"; UTF-8 unless given.
    skip : int
        Lines of a CSV file above its column names.

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
    return Table(source, dates, Dialect.of(separator, decimal, thousands, missing, encoding, skip))
