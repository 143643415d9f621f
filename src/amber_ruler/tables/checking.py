"""Can a table be believed? What is looked at, in order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import narwhals as nw
import numpy as np

from amber_ruler.moments import Moments
from amber_ruler.results import Check
from amber_ruler.samples import ByVariant
from amber_ruler.samples.variants import printed
from amber_ruler.tables import findings, profile, reduce
from amber_ruler.tables.counting import moments, sizes
from amber_ruler.tables.findings import Bounds, Findings
from amber_ruler.tables.frame import Held, names
from amber_ruler.tables.shared import Set, Shared, in_one_pass
from amber_ruler.tables.split_check import check_split

_LOOKED_AT, _MANY = 50, 20  # columns that may name the unit, and different values that it must have


def check(
    table: Held,
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
    shared: Shared | None = None,
) -> Findings:
    """See `Table.check`; `shared` holds what was reduced already."""
    names("by", by)
    columns = list(dict.fromkeys([*covariates, *metrics, *(possible or {})]))
    table.need(columns, by, unit, day, strata, clusters)
    checks: list[Check] = []
    counts, units, one_each = sizes(table, by=by), None, False
    rows = sum(counts.values()) + counts.unassigned
    if counts.unassigned:
        advice = "They belong to no variant and are left out."
        checks.append(Check("variant labels", f"{counts.unassigned:,} rows have no label in {by!r}", advice, "note"))
    checks += findings.labels(list(counts))
    if unit is not None:
        with table.reading():
            seen = profile.units(table.frame.lazy(), unit, by)
        one_each = seen.units == seen.rows == sum(counts.values())  # then rows are counted as units
        units, counts = seen.units, ByVariant(seen.counts, column=by)
        repeated = _repeated_rows(table) if seen.rows > units else 0
        checks.append(findings.unit_of_analysis(seen.rows, units, repeated, unit))
        checks.append(findings.crossed_units(seen.crossed, units, unit))
    else:
        checks.append(findings.unnamed_unit(rows, _likely_unit(table, rows, {by, day, strata, *columns})))
    checks += findings.arms(counts, by)
    planned: Mapping[str, float] = dict.fromkeys(counts, 1.0)
    assigned: ByVariant[int] = counts
    if clusters is not None:
        with table.reading():
            whole = profile.units(table.frame.lazy(), clusters, by)
        assigned = ByVariant(whole.counts, column=by)
        checks.append(findings.whole_clusters(whole.crossed, whole.units, clusters))
    if len(assigned) > 1:
        sound = check_split(assigned, split)
        planned = sound.planned
        checks.append(sound.as_check)
        for name, part in (("day", day), ("stratum", strata)):
            if part is not None and clusters is not None:
                said = f"{part} is not looked at: {clusters} was assigned as a whole, and a {name} may hold few of them"
                checks.append(Check(f"split by {name}", said, severity="note"))
            elif part is not None:
                with table.reading():
                    cells = profile.by_part(table.frame.lazy(), by, part, None if one_each else unit)
                checks += parts(cells, sound.planned, printed(sound.planned, by), name, part)
        if day is not None and (text := table.dates_as_text(day)) is not None:
            finding = f"days are dates as text, such as {text!r}, which goes by its letters"
            form = "%d.%m.%Y" if "." in text else "%d/%m/%Y"
            flag = f"dates={{{day!r}: {form!r}}} (--dates '{day}: {form}')"
            advice = f"The looks by day may mislead. Say how to read them: {flag}."
            checks.append(Check("order of days", finding, advice, "warning"))
    if columns:
        bounds = {c: (possible or {}).get(c) for c in columns}
        shared = shared or in_one_pass(table, [Set((c,)) for c in columns], by=by)
        checks += _column_checks(table, by, bounds, rows, covariates, metrics, shared, independent=clusters is None)
    return findings.Findings(
        title=f"Can {Path(table.name).name} be believed?",
        method="sample ratio, unit of analysis, missing values, balance before the test",
        source="Fabijan et al. (2019), KDD '19, 2156-2164, for the sample ratio; Kohavi et al. (2014), KDD '14",
        rows=rows,
        units=units,
        counts=dict(counts),
        planned=planned,
        by=by,
        checks=tuple(checks),
    )


def _column_checks(
    table: Held,
    by: str,
    bounds: Mapping[str, Bounds | None],
    rows: int,
    covariates: Sequence[str],
    metrics: Sequence[str],
    shared: Shared,
    *,
    independent: bool,
) -> list[Check]:
    """What is looked at in each column: impossible values, missing ones, balance before the test, its fitness."""
    whole: dict[str, ByVariant[Moments]] = {c: m for c in bounds if (m := shared.arms([c])) is not None}
    odd = {c: ends for c, ends in bounds.items() if c not in whole or not _inside(whole[c], ends)}
    with table.reading():
        spoilt = profile.impossible(table.frame.lazy(), by, odd) if odd else {}
    checks = list(findings.impossible(spoilt, rows, bounds))
    endless = {c for c, variants in spoilt.items() if any(counted[0] for counted in variants.values())}
    # Of endless values there are no moments.
    arms = {c: whole.get(c) or moments(table, c, by=by) for c in bounds if c not in endless}
    tops = {c: findings.most_at_the_top(arms[c]) for c in arms if c in metrics and _has_a_top(arms[c])}
    heavy = [c for c, most in tops.items() if most is None or most >= findings.TOP_SHARE]
    with table.reading():
        exact = profile.tops(table.frame.lazy().filter(~nw.col(by).is_null()), heavy, findings.TOP)
    for column, each in arms.items():
        lost, kept = ({m.label: getattr(m, part) for m in each.values()} for part in ("missing", "n"))
        tests = len(bounds) if independent else 0
        checks.append(findings.missing(lost, kept, column, tests, before=column in covariates))
        if column in covariates and len(each) > 1:
            checks.append(findings.balance(each, column, len(covariates) if independent else 0))
        if column in metrics:
            checks += _metric_checks(table, column, each, by, tops.get(column), exact.get(column))
    return checks


def _inside(arms: ByVariant[Moments], ends: Bounds | None) -> bool:
    """Whether no value lies outside what it can be."""
    low, high = ends or (None, None)
    shapes = [m.shape for m in arms.values()]
    return all(
        shape is not None and (low is None or shape.lowest[0] >= low) and (high is None or shape.highest[0] <= high)
        for shape in shapes
    )


def _has_a_top(arms: ByVariant[Moments]) -> bool:
    """Whether a metric may be carried by a few values: it varies, is no share, and there are enough of them."""
    varies = any(m.comoments[0, 0] for m in arms.values())
    share = all(m.zero_one().all() for m in arms.values())
    return varies and not share and sum(m.n for m in arms.values()) >= 2 / (1 - findings.TOP)


def _likely_unit(table: Held, rows: int, others: set[str | None]) -> tuple[str, int] | None:
    """The column that may name the unit: text or whole numbers, with the most different values, if these are many."""
    some = [c for c, kind in table.schema.items() if c not in others and (kind.is_integer() or kind == nw.String)]
    if not some:
        return None
    with table.reading():
        counted = table.frame.lazy().select(*(nw.col(c).n_unique().alias(c) for c in some[:_LOOKED_AT]))
        (found,) = reduce.rows_of(counted)
    column = max(found, key=lambda name: int(found[name]))
    return (column, int(found[column])) if int(found[column]) > max(_MANY, rows / 50) else None


def _repeated_rows(table: Held) -> int:
    """How many rows repeat another one in every column."""
    with table.reading():
        lazy = table.frame.lazy()
        mixed = [c for c, kind in table.schema.items() if isinstance(kind, nw.Object)]
        if mixed:
            lazy = lazy.with_columns(*(nw.col(c).cast(nw.String) for c in mixed))
        # DuckDB tells thousands of columns apart at once, but not where each is an expression of its own.
        duck = lazy.implementation.is_duckdb()
        once = nw.from_native(lazy.to_native().distinct()) if duck else lazy.unique()
        whole, distinct = (int(reduce.rows_of(f.select(nw.len().alias("rows")))[0]["rows"]) for f in (lazy, once))
    return whole - distinct


def parts(
    cells: Sequence[tuple[str, str, int]], planned: Mapping[str, float], shown: Mapping[str, str], name: str, part: str
) -> list[Check]:
    """Is the split sound in each part, a day or a stratum, by the units of each part and variant?"""
    labels = list(planned)
    known = {(d, v): n for d, v, n in cells if v in planned}
    names = list(dict.fromkeys(d for d, _ in known))
    if not names:
        return [Check(f"split by {name}", f"column {part!r} is empty", "Give the column that holds it.", "warning")]
    cells_seen = np.array([[known.get((d, v), 0) for v in labels] for d in names], dtype=np.float64)
    shares = np.array([planned[v] for v in labels])
    more = findings.days(cells_seen, names) if name == "day" else []
    return [findings.split_in_parts(cells_seen, names, list(shown.values()), shares, name), *more]


def _metric_checks(
    table: Held,
    column: str,
    arms: ByVariant[Moments],
    by: str,
    most: float | None,
    top: tuple[float, float] | None,
) -> list[Check]:
    """Is a metric fit to be measured: does it vary, are there enough units, do few values carry it?"""
    checks = fitness(arms, column, most if top is None else None)
    if top is None:
        return checks
    limit, share = top
    capped_arms = arms
    if share >= findings.TOP_SHARE:  # what a cap would do is said
        value = reduce.number(nw.col(column), table.schema[column])
        with table.reading():
            capped = table.frame.with_columns(nw.when(value > limit).then(nw.lit(limit)).otherwise(value).alias(column))
        capped_arms = moments(table.shaped(capped), column, by=by)
    return [*checks, findings.top(share, limit, _pooled(arms), _pooled(capped_arms), column)]


def fitness(arms: Mapping[str, Moments], column: str, most: float | None) -> list[Check]:
    """Does a metric vary, are there enough units, and, if it is known, how much can the top hold at `most`?"""
    flat = findings.constant(arms, column)
    checks = [] if flat is None else [flat]
    if all(m.zero_one().all() for m in arms.values()) or not any(m.comoments[0, 0] for m in arms.values()):
        return checks
    return [*checks, *findings.enough(arms, column), *([] if most is None else [findings.light_top(most, column)])]


def _pooled(arms: ByVariant[Moments]) -> tuple[float, float]:
    """Mean over all variants, and standard deviation within them."""
    n = sum(m.n for m in arms.values())
    mean = sum(m.n * float(m.means[0]) for m in arms.values()) / n
    return mean, float(np.sqrt(sum(m.comoments[0, 0] for m in arms.values()) / (n - len(arms))))
