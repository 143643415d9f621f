"""The experiment: one description, and the whole day with it."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import Any

import narwhals as nw
import numpy as np

from amber_ruler.digest import Daily, Digest
from amber_ruler.errors import DataError, ExperimentFileError, InputError
from amber_ruler.experiment import analysis as analysing
from amber_ruler.experiment import file, planning, recommending, replaying, segmenting
from amber_ruler.experiment.description import Description, plain
from amber_ruler.experiment.digest_source import DigestSource
from amber_ruler.experiment.looking import shared_of
from amber_ruler.experiment.resolve import Resolved, resolve
from amber_ruler.experiment.results import Analysis, ExperimentPlan, Recommendation
from amber_ruler.resample import Replays
from amber_ruler.resample.drawing import Progress
from amber_ruler.results import Comparison
from amber_ruler.results.display import Look, Shown
from amber_ruler.results.result import report_floor
from amber_ruler.sequential import Monitoring
from amber_ruler.tables import Findings, Table, checking, grammar, profile, reduce, table
from amber_ruler.tables.shared import Shared

_LOG = logging.getLogger(__name__)


class Experiment(Shown):
    """A test with its data, its metrics and their roles: plan, check, analyse, decide, report.

    Parameters
    ----------
    data : Table, path, dataframe or Digest, optional
        The rows, one a unit, or a digest of them; what the description's `source` says unless given.
    **keys
        What an experiment file holds, as keywords: `name`, `unit`, `assignment`, `metrics` and so on; see
        `Experiment.schema`.

    Attributes
    ----------
    description : Description
        The same, checked.
    folder : Path
        Where the files are that the source names.
    asked : Resolved
        What the description asks of each metric: its method, how variants are read, and every setting.

    Raises
    ------
    ExperimentFileError
        If a key is unknown, lacking, or not of its kind.

    Examples
    --------
    >>> import amber_ruler as ar
    >>> test = ar.Experiment(
    ...     ar.demo.path("travellers"),
    ...     name="Booking forms",
    ...     unit="traveller",
    ...     assignment={"column": "form", "control": "current"},
    ...     metrics={
    ...         "booked": {"kind": "share", "role": "primary"},
    ...         "complaint": {"kind": "share", "role": "guardrail", "good": "lower", "margin": 0.005},
    ...     },
    ... )
    >>> dict(test.decide().words)
    {'guided': 'hold', 'short': 'ship'}
    """

    def __init__(self, data: Any = None, **keys: Any) -> None:
        self.description: Description = file.checked(keys, lambda _: "This experiment")
        self._data, self.folder = data, Path()

    @classmethod
    def from_file(cls, path: str | Path, data: Any = None) -> Experiment:
        """The experiment that a TOML file describes.

        Parameters
        ----------
        path : path
            The file; the table that it names is looked for from its folder.
        data : Table, path or dataframe, optional
            Other rows than the file names.
        """
        place = Path(path)
        try:
            text = place.read_text(encoding="utf-8")
        except (OSError, UnicodeError) as error:
            reason = getattr(error, "strerror", None) or "it is not text in UTF-8"
            raise ExperimentFileError(f"{place} can't be read: {reason}.") from None
        found = cls(data, **plain(file.read(text, str(place))))
        found.folder = place.parent
        return found

    @staticmethod
    def schema() -> dict[str, Any]:
        """The JSON Schema of an experiment file."""
        return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Description.model_json_schema()}

    def to_toml(self) -> str:
        """The experiment as its file."""
        return file.written(self.description)

    def __repr__(self) -> str:
        return f"<experiment {self.description.name}: {', '.join(self.description.metrics)}>"

    def _look(self) -> Look:
        rows = [(name, m.kind, m.role, m.good) for name, m in self.description.metrics.items()]
        below = f"{self.asked.by} against {self.asked.control}, by {self.asked.unit}"
        return Look(self.asked.title, ("metric", "kind", "role", "good"), rows, below)

    @cached_property
    def asked(self) -> Resolved:
        """What the description asks of each metric, whole."""
        return resolve(self.description)

    @cached_property
    def table(self) -> Table | DigestSource:
        """The rows, one a unit, as the source says them; or the digest in their place."""
        asked = self.description
        if isinstance(self._data, (Table, Digest)):
            beside = set(plain(asked).get("source", {})) - {"table", "digest"}
            if beside:
                raise InputError(f"This table is read already: source.{min(beside)} would not be obeyed. Leave it out.")
        found = self._data if isinstance(self._data, Table) else self._opened()
        where = asked.columns()
        if isinstance(found, DigestSource):
            found.fits(self.asked)
            where.pop(asked.unit, None)  # whose column a digest has not
        for column, key in where.items():
            if column not in found.columns:
                raise DataError.unknown(f"{key}, a column of {found.name}", column, found.columns)
        return found

    @property
    def files(self) -> tuple[Path, ...]:
        """The files that the numbers come from."""
        if isinstance(self.table, DigestSource):
            return self.table.files
        return tuple(path for path, _, _ in self.table.source.stamps)

    def _opened(self) -> Table | DigestSource:
        if isinstance(self._data, Digest):
            return DigestSource(self._data)
        source = self.description.source
        options = {k: v for k, v in plain(self.description).get("source", {}).items() if k in _READ}
        given: Any = self._data
        if given is None and source.digest is not None:
            return DigestSource.from_file(self.folder / source.digest)
        if given is None:
            if source.table is None:
                raise InputError("This experiment names no table: give the rows, Experiment(data, …), or source.table.")
            given = self.folder / source.table
        found = table(given, **options)
        for text in source.relabel:
            found = found.relabel(*grammar.names(text))
        for text in source.where:
            asked = grammar.condition(text)
            found = found.where(asked.column, **asked.condition)
        if source.take:
            known = None if source.assigned is None else table(self.folder / source.assigned)
            measures = dict(grammar.taken(text) for text in source.take)
            unit, by = self.description.unit, self.description.assignment.column
            found = found.units(unit=unit, by=by, measures=measures, assignment=known)
        return found

    @property
    def days(self) -> tuple[str, ...]:
        """The days that there are, in order."""
        return tuple(reduce.label_text(day) for day in self._days)

    @cached_property
    def _days(self) -> tuple[Any, ...]:
        """The same as the table has them."""
        column = self.asked.day
        if column is None:
            return ()
        if isinstance(self.table, DigestSource):
            return self.table.held.days
        self.table.need_order(column)
        with self.table.reading():
            day = profile.calendar_day(column, self.table.schema[column])
            known = self.table.frame.lazy().select(day.alias("day")).filter(~nw.col("day").is_null())
            return tuple(sorted(row["day"] for row in reduce.rows_of(known.unique())))

    def plan(self) -> ExperimentPlan:
        """How many units each metric takes, which one drives the test, and how long it runs.

        Spread and baseline are those of the control in the table. What of the file a plan does not count, such as
        strata, stands in its notes.
        """
        return self._plan

    @cached_property
    def _plan(self) -> ExperimentPlan:
        return planning.plan(self.table, self.asked)

    def check(self) -> Findings:
        """Can the table be believed? See `Table.check`."""
        _LOG.info("checking %s", self.table.name)
        if isinstance(self.table, DigestSource):
            return self.table.check(self.asked)
        asked = self.asked
        return checking.check(
            self.table,
            by=asked.by,
            unit=asked.unit,
            split=dict(asked.split) or None,
            day=asked.day,
            strata=asked.strata,
            clusters=asked.clusters,
            covariates=asked.covariates,
            metrics=asked.columns,
            shared=self._shared,
        )

    def analyse(self) -> Analysis:
        """Every metric of every treatment against the control, corrected by role.

        Raises
        ------
        DataError
            If a check failed that makes differences unbelievable, and nobody accepted it.
        """
        broken = [c for c in self.failed if c.name not in self.asked.accepted]
        if broken:
            said = "; ".join(f"{c.name}: {c.finding}" for c in broken)
            raise DataError(
                f"{self.table.name} can't be believed: {said}. Mend it, or accept it with a reason:"
                f' [[accepted]] check = "{broken[0].name}", reason = "…".'
            )
        return self.analysis

    @cached_property
    def analysis(self) -> Analysis:
        """What `analyse` finds, also where a check failed."""
        _LOG.info("analysing %s", ", ".join(self.description.metrics))
        return analysing.analyse(self.table, self.asked, days=self._days, shared=self._shared)

    @cached_property
    def _shared(self) -> Shared:
        return shared_of(self.table, self.asked)

    @cached_property
    def failed(self) -> tuple[Any, ...]:
        """Checks that make differences unbelievable."""
        return tuple(c for c in self.findings.checks if c.severity == "serious")

    @cached_property
    def findings(self) -> Findings:
        """What `check` found."""
        return self.check()

    def segments(self) -> dict[str, dict[str, Comparison]]:
        """The effect on each primary metric in every segment: by segment column, then by metric and treatment.

        Each as `adjust.segments` gives it, with the metric's own covariates, cap, strata and margin.

        Raises
        ------
        InputError
            If no primary metric can be looked at by segment.
        """
        return {segment: dict(each) for segment, each in self._segments.items()}

    @cached_property
    def _segments(self) -> dict[str, dict[str, Comparison]]:
        return segmenting.segments(self.table, self.asked)

    def monitor(self) -> Mapping[str, Monitoring]:
        """The looks so far of each primary comparison."""
        if not self.asked.look_days:
            raise InputError("No look was planned: [looks] with after = [7, 14, 28] plans them.")
        return self.analyse().monitored

    def daily(self) -> dict[str, Daily]:
        """Each primary metric from day to day: its mean, rate or ratio in each variant.

        Raises
        ------
        InputError
            If no primary metric has a daily series.
        """
        return dict(self._daily)

    @cached_property
    def _daily(self) -> dict[str, Daily]:
        return segmenting.daily(self.table, self.asked)

    def decide(self, overridden: Mapping[str, str] | None = None) -> Recommendation:
        """What should be done with each treatment, line by line.

        Parameters
        ----------
        overridden : mapping of label to str, optional
            Treatments with which something else will be done, and why: the reason is printed.
        """
        return recommending.decide(self.asked, self.analysis, self.failed, dict(overridden or {}))

    def replay(
        self,
        *,
        runs: int | None = None,
        lift: float | None = None,
        workers: int | None = None,
        progress: Progress | None = None,
        seed: int | np.random.Generator | None = None,
    ) -> Replays:
        """Does this very analysis keep its error rate on these units: adjustments, correction, looks and all?

        All units are dealt out again by the planned split, whatever variant they had, and analysed as the file says.

        Parameters
        ----------
        runs : int, optional
            How often; 2,000, with strata 300, unless given.
        lift : float, optional
            A lift to plant in every treatment, to see how often it is found.
        workers, progress, seed
            As for `resample.bootstrap`.

        Returns
        -------
        Replays
            Each primary comparison by itself; and in `together` how often any claims a difference that is not there.

        Raises
        ------
        InputError
            If a primary metric is no mean, share or ratio, or units come in clusters, or the rows are a digest's.
        """
        if isinstance(self.table, DigestSource):
            raise InputError("A digest holds moments and no rows: nothing can be dealt out again.")
        return replaying.replay(
            self.table, self.asked, self._days,
            runs=runs, lift=lift, workers=workers, progress=progress, seed=seed,
        )  # fmt: skip

    def report(self, path: str | Path, *, overridden: Mapping[str, str] | None = None, force: bool = False) -> Path:
        """Write the report: HTML, Markdown, JSON or CSV by the path's ending.

        Parameters
        ----------
        path : path
            Such as "report.html"; it is written whole or not at all.
        overridden : mapping of label to str, optional
            As for `decide`.
        force : bool
            Whether an existing file may be overwritten.
        """
        write = report_floor(".experiment").write
        written: Path = write(self, Path(path), dict(overridden or {}), force=force)
        return written


_READ = ("separator", "decimal", "thousands", "missing", "encoding", "skip", "dates")
