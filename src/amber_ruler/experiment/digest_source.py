"""A digest in the place of a table: an experiment whose rows are elsewhere, or gone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NoReturn

from amber_ruler.digest import Daily, Digest
from amber_ruler.errors import DataError, ExperimentFileError, InputError
from amber_ruler.experiment.resolve import Resolved
from amber_ruler.moments import Moments, merge
from amber_ruler.results import Check
from amber_ruler.samples import ByVariant
from amber_ruler.samples.variants import printed
from amber_ruler.tables import Findings, check_split, checking, findings
from amber_ruler.tables.shared import Set, Shared

_LOST = "A digest holds moments and no rows: {what} needs the table that it was made from."


@dataclass(frozen=True, slots=True)
class DigestSource:
    """What an experiment asks of its table, as far as a digest can answer; the rest is refused.

    Attributes
    ----------
    held : Digest
        The digest.
    name : str
        What it is called in messages.
    files : tuple of Path
        The file that it was read from.
    """

    held: Digest
    name: str = "the digest"
    files: tuple[Path, ...] = ()

    @classmethod
    def from_file(cls, path: Path) -> DigestSource:
        """The digest that a file holds."""
        try:
            return cls(Digest.from_json(path.read_text(encoding="utf-8")), str(path), (path,))
        except (OSError, UnicodeError) as error:
            reason = getattr(error, "strerror", None) or "it is not text in UTF-8"
            raise ExperimentFileError(f"{path} can't be read: {reason}.") from None

    @property
    def columns(self) -> list[str]:
        """The columns that it was made from, as far as they are known."""
        named = (self.held.by, self.held.strata, self.held.day, *self.held.metrics, *self.held.covariates)
        return list(dict.fromkeys(name for name in named if name))

    def fits(self, asked: Resolved) -> None:
        """Say so where the digest was made by other columns than the experiment names."""
        named = {"assignment.column": (asked.by, self.held.by)}
        named |= {"strata": (asked.strata, self.held.strata)} if asked.strata else {}
        named |= {"days.column": (asked.day, self.held.day)} if asked.day else {}
        for key, (wanted, held) in named.items():
            if wanted != held:
                made = f"by {held!r}" if held else "without it"
                raise DataError(f"{key} is {wanted!r}, and {self.name} was made {made}.")
        for key in ("clusters", "segments"):
            if getattr(asked, key):
                self._refuse(key)

    def moments(self, columns: str | Sequence[str], *, by: str) -> ByVariant[Moments]:
        """Moments of a metric, and of covariates, by variant."""
        wanted = [columns] if isinstance(columns, str) else list(columns)
        each = self.held.moments(wanted[0])
        return ByVariant({v: m.select(*wanted) for v, m in each.items()}, column=by, unassigned=each.unassigned)

    def digest(self, metric: str, *, by: str, day: str, covariates: Sequence[str]) -> Digest:  # noqa: ARG002
        """The digest itself."""
        return self.held

    def until(self, days: Sequence[str]) -> DigestSource:
        """The units of some days only."""
        cells = {cell: found for cell, found in self.held.cells.items() if cell[2] in days}
        return replace(self, held=replace(self.held, cells=cells))

    def daily(self, metric: str, *, by: str, day: str, per: str | None = None) -> Daily:  # noqa: ARG002
        """A metric from day to day."""
        return self.held.daily(metric, per=per)

    def records(self, columns: Sequence[str], **_: Any) -> NoReturn:
        """Refused."""
        self._refuse(f"{', '.join(columns)} (a cap, or a column that was not kept)")

    def samples(self, *_: Any, **__: Any) -> NoReturn:
        """Refused."""
        self._refuse("a quantile, or a two-part metric,")

    def capped(self, *_: Any, **__: Any) -> NoReturn:
        """Refused."""
        self._refuse("a cap")

    def clusters(self, *_: Any, **__: Any) -> NoReturn:
        """Refused."""
        self._refuse("clusters")

    def _refuse(self, what: str) -> NoReturn:
        raise InputError(_LOST.format(what=what))

    def shared(self, sets: Sequence[Set]) -> Shared:
        """Moments of each set, by variant and stratum."""
        shared = Shared(self.held.by, self.held.strata or None, self.held.unassigned)
        for one in sets:
            metric, *others = one.columns
            if metric not in self.held.metrics or not set(others) <= set(self.held.covariates):
                continue
            parts: dict[str, dict[str, list[Moments]]] = {}
            for (variant, stratum, _), found in sorted(self.held.cells.items()):
                if metric in found:
                    parts.setdefault(variant, {}).setdefault(stratum, []).append(found[metric])
            for k in (one, Set((metric,))):
                shared.cells[k] = {
                    variant: {level: merge(each).select(*k.columns) for level, each in levels.items()}
                    for variant, levels in parts.items()
                }
        return shared

    def check(self, asked: Resolved) -> Findings:
        """What can be checked without rows: split, labels, missing values, balance, and whether metrics are fit."""
        held, by = self.held, self.held.by
        rows = {cell: max(m.n + m.missing for m in found.values()) for cell, found in held.cells.items() if found}
        counts = ByVariant({v: sum(n for cell, n in rows.items() if cell[0] == v) for v in self._variants()}, column=by)
        said = "not looked at, nor whether a unit is seen under two variants: a digest holds no rows"
        checks = [Check("unit of analysis", said, "Check the table that it was made from.", "note")]
        if held.unassigned:
            advice = "They belong to no variant and are left out."
            checks.append(Check("variant labels", f"{held.unassigned:,} rows have no label in {by!r}", advice, "note"))
        checks += [*findings.labels(list(counts)), *findings.arms(counts, by)]
        planned: Mapping[str, float] = dict.fromkeys(counts, 1.0)
        if len(counts) > 1:
            sound = check_split(counts, dict(asked.split) or None)
            planned = sound.planned
            checks.append(sound.as_check)
            for name, part in (("stratum", 1), ("day", 2)):
                if (asked.strata, asked.day)[part - 1]:
                    cells = [(cell[part], cell[0], n) for cell, n in sorted(rows.items()) if cell[part]]
                    checks += checking.parts(cells, planned, printed(planned, by), name, name)
        checks += self._columns(asked, counts)
        return Findings(
            title=f"Can {Path(self.name).name} be believed?",
            method="sample ratio, missing values, balance before the test; no rows",
            source="Fabijan et al. (2019), KDD '19, 2156-2164, for the sample ratio; Kohavi et al. (2014), KDD '14",
            rows=sum(counts.values()),
            units=None,
            counts=dict(counts),
            planned=planned,
            by=by,
            checks=tuple(checks),
        )

    def _variants(self) -> list[str]:
        return sorted({cell[0] for cell in self.held.cells})

    def _columns(self, asked: Resolved, counts: Mapping[str, int]) -> list[Check]:
        metrics, known = asked.columns, {*self.held.metrics, *self.held.covariates}
        covariates = sorted((set(asked.covariates) & set(self.held.covariates)) - set(metrics))
        checks: list[Check] = []
        for column in (*covariates, *(m for m in metrics if m in known)):
            before = column in covariates
            each = self.held.moments(
                column if column in self.held.metrics else self.held.metrics[0]
            )  # of a covariate with the metric's rows
            arms = {v: m.select(column) for v, m in each.items()}
            lost = {v: counts[v] - int(m.n) for v, m in arms.items()}
            kept = {v: int(m.n) for v, m in arms.items()}
            checks.append(findings.missing(lost, kept, column, len(metrics) + len(covariates), before=before))
            if before and len(arms) > 1:
                checks.append(findings.balance(arms, column, len(covariates)))
            elif not before:
                most = findings.most_at_the_top(arms)
                checks += checking.fitness(
                    arms, column, most if most is not None and most < findings.TOP_SHARE else None
                )
        return checks
