"""From what was given to the moments that an adjusted comparison is computed from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import reduce
from operator import mul
from typing import Any

import numpy as np

from amber_ruler.adjust.cells import Cells, marked, read
from amber_ruler.adjust.description import Steps
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure.checks import missing as said_missing
from amber_ruler.moments import Moments
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import MARK
from amber_ruler.results import Check
from amber_ruler.samples import Summary
from amber_ruler.samples.records import Make, Records, Rows

_BY_CHANCE = 6.0  # standard errors by which a share of missing covariates doesn't differ in a sound test
_ROLES = ("treatment", "control", "others")


@dataclass(frozen=True, slots=True)
class Prepared:
    """Cells of the metric, what it is counted by, and the covariates; and what was seen on the way.

    Attributes
    ----------
    cells : Cells
        Columns: the metric; its denominator, if there is one; of each covariate one column or two.
    raw : tuple of Moments
        The metric and its denominator of each variant, before anything was done.
    covariates : tuple of (str, tuple of int)
        Name of each covariate, and where its columns stand.
    ratio : bool
        Whether the second column is a denominator.
    origin : float
        What was taken off each value before it was added up.
    """

    cells: Cells
    raw: tuple[Moments, ...]
    covariates: tuple[tuple[str, tuple[int, ...]], ...]
    ratio: bool
    origin: float = 0.0
    said: tuple[str, ...] = ()
    checks: tuple[Check, ...] = ()
    facts: tuple[tuple[str, float], ...] = ()


def prepare(arms: Sequence[Any], value: str, steps: Steps) -> Prepared:
    """Rows or moments of each variant, with the columns that the steps need."""
    if not isinstance(value, str) or not value:
        raise InputError.rule("value", value, "the name of a column")
    if value in steps.numbers:
        raise InputError(f"{value!r} is the metric, and can't be what it is adjusted for or counted by.", name="value")
    return from_rows(arms, value, steps)[0] if hasattr(arms[0], "together") else from_moments(arms, value, steps)


def rows_of(arms: Sequence[Any], numbers: Sequence[str], labels: Sequence[str] = ()) -> Rows:
    """Rows of all variants with these columns; those that lack one of them are left out and counted."""
    together = rows_together(arms, (*numbers, *labels))
    return together.known(numbers, labels=labels)


def cells_of(arms: Sequence[Any], columns: Sequence[str], *, strata: str = "") -> tuple[Cells, tuple[Check, ...]]:
    """Moments of some columns of each variant, from its rows or its moments; and how many rows were left out."""
    if hasattr(arms[0], "together"):
        rows = rows_of(arms, columns, [strata] if strata else ())
        cells = Cells.of(rows.moments(columns, by=strata or None), strata=strata)
        return cells, left_out(rows)
    each = [read(a, columns, strata=bool(strata), role=_ROLES[min(k, 2)]) for k, a in enumerate(arms)]
    cells = Cells.of(each, strata=strata)
    return cells, lost(cells.labels, [int(a.missing) for a in arms], [m.n for m in cells.whole])


def left_out(rows: Rows) -> tuple[Check, ...]:
    """Say how many rows lacked what was needed."""
    return lost(rows.labels, rows.left_out, rows.sizes)


def lost(labels: Sequence[str], missing: Sequence[int], kept: Sequence[Any]) -> tuple[Check, ...]:
    """Say how many rows lacked what was needed."""
    each = zip(labels, missing, kept, strict=False)
    return said_missing(*(Summary(n, 0.0, 1.0, label, k) for label, k, n in each if np.ndim(n) == 0))


def unused(stem: str, taken: Sequence[str]) -> str:
    """A name that no column has."""
    return stem + "_" * max(map(len, taken))


def product(*names: str) -> Make:
    """The product of columns."""
    return lambda c: reduce(mul, (c[name] for name in names))


def own_column(role: str, name: Any, taken: Sequence[str]) -> None:
    """Refuse what is no name of a column, or one that serves already."""
    if not isinstance(name, str) or name in taken:
        raise InputError.rule(role, name, "the name of a column of its own")


def rows_together(arms: Sequence[Any], names: Sequence[str]) -> Rows:
    """Rows of all variants."""
    for k, arm in enumerate(arms):
        if not hasattr(arm, "together"):
            role = _ROLES[min(k, 2)]
            raise InputError(
                f"{role} must be Records, or what table.records(…) gives, not {type(arm).__name__}: rows are needed."
            )
    one, *others = (_named(arm, _ROLES[min(k, 2)]) for k, arm in enumerate(arms))
    rows: Rows = one.together(others, list(dict.fromkeys(names)))
    return rows


def _named(arm: Any, role: str) -> Any:
    return replace(arm, label=role) if isinstance(arm, Records) and not arm.label else arm


def from_moments(arms: Sequence[Any], value: str, steps: Steps) -> Prepared:
    """From moments that hold all columns."""
    if steps.needs_rows:
        raise InputError(f"Moments hold no single rows, and {steps.needs_rows}: give Records, or table.records(…).")
    marks = [name + MARK for part in steps.parts for name in part if name + MARK in getattr(arms[0], "columns", ())]
    names = [value, *steps.numbers, *marks]
    each = [read(arm, names, strata=steps.strata is not None, role=_ROLES[min(k, 2)]) for k, arm in enumerate(arms)]
    checks = tuple(_marked(each, mark) for mark in marks)
    if len(names) > 1 and any(value in m.own for arm in each for m in arm.values()):
        if not steps.covariate:  # rows without a denominator are left out
            each = [{level: replace(m, own={}) for level, m in arm.items()} for arm in each]
        else:
            checks = (_gaps(each, value, steps.covariate[0]),)
            marks = [steps.covariate[0] + MARK]
            each = marked(each, marks[0])
    cells = Cells.of(each, strata=steps.strata or "")
    raw = tuple(m.complete(value) if steps.per is None else m for m in cells.whole)
    return Prepared(cells, raw, _placed(steps, marks, cells.columns), steps.per is not None, checks=checks)


def _marked(each: Sequence[dict[str, Moments]], mark: str) -> Check:
    """How many rows lack a covariate that is marked there."""
    gone = [sum(float(np.sum(m.n * m.mean(mark))) for m in arm.values()) for arm in each]
    of = [sum(int(np.sum(m.n)) for m in arm.values()) for arm in each]
    labels = [next(iter(arm.values())).label for arm in each]
    return _without_covariate(mark.removesuffix(MARK), labels, [round(g) for g in gone], of)


def _gaps(each: Sequence[dict[str, Moments]], value: str, covariate: str) -> Check:
    """How many rows with the metric lack the covariate."""
    labels = [next(iter(arm.values())).label for arm in each]
    gone = [sum(int(np.sum(m.own[value].n - m.n)) for m in arm.values() if value in m.own) for arm in each]
    of = [sum(int(np.sum(m.own.get(value, m).n)) for m in arm.values()) for arm in each]
    return _without_covariate(covariate, labels, gone, of)


def _placed(
    steps: Steps, marks: Sequence[str], order: Sequence[str], count: str | None = None
) -> tuple[tuple[str, tuple[int, ...]], ...]:
    """Where the columns of each covariate, and of each mark, stand; of clusters a plain one is counted by the rows."""
    parts = [*zip(steps.covariate, steps.parts, strict=True), *((mark, (mark,)) for mark in marks)]
    below = () if count is None else (order.index(count),)
    return tuple(
        (name, (*(order.index(column) for column in part), *(below if len(part) == 1 else ()))) for name, part in parts
    )


def from_rows(arms: Sequence[Any], value: str, steps: Steps, *, beside: Sequence[str] = ()) -> tuple[Prepared, Rows]:
    """From the rows, and the rows as they are after all steps."""
    per = [] if steps.per is None else [steps.per]
    labels = [*steps.labels, *beside]
    before = rows_together(arms, [value, *steps.numbers, *labels, *steps.days]).known([value, *per], labels=labels)
    _check_days(before, steps)
    rows, said = before, list[str]()
    facts: list[tuple[str, float]] = []
    if steps.cap is not None or steps.cap_at is not None:
        rows, told, facts = _capped(rows, value, steps)
        said.append(told)
    rows, marks, checks = _filled(rows, steps)
    known = [name for name in (*steps.numbers, *marks) if name not in per]
    order, count, origin = [value, *per, *known], None, 0.0
    if steps.cluster is not None:
        count = unused("rows", [*rows.names, *order])
        order = [value, *(per or [count]), *known, *([count] if per else [])]
        rows, origin = _as_units(rows, [value, *per, *known], count, steps)
        said.append(f"all rows of a {steps.cluster} as one unit")
    cells = Cells.of(rows.moments(order, by=steps.strata), strata=steps.strata or "")
    raw = cells.whole if rows is before else tuple(m[""] for m in before.moments([value, *per]))
    found = Prepared(
        cells,
        tuple(m if per else m.complete(value) for m in raw),
        _placed(steps, marks, order, count),
        bool(per) or count is not None,
        origin,
        tuple(said),
        tuple(checks),
        tuple(facts),
    )
    return found, rows


def _check_days(rows: Rows, steps: Steps) -> None:
    late = sum(rows.later(*steps.days)) if steps.days else 0
    if late:
        raise DataError(
            f"{late:,} rows have a day in {steps.days[0]!r} that lies after {steps.days[1]!r}: a covariate that was"
            " measured after the assignment may have been changed by the treatment."
        )


def _as_units(rows: Rows, names: Sequence[str], count: str, steps: Steps) -> tuple[Rows, float]:
    """One row a cluster, with its totals; and what was taken off each value, so that totals keep their digits."""
    cluster, value = str(steps.cluster), names[0]
    spans = rows.spanning(cluster)
    if spans:
        raise DataError(
            f"{spans:,} of {cluster!r} have rows in more than one variant: they were not randomised as a whole. Leave"
            " them out, or use adjust.clusters, which allows for it."
        )
    origin = 0.0
    if steps.per is None:
        origin = float(rows.moments([value])[0][""].means[0])
        rows = rows.lines({value: ([-origin] * len(rows.labels), {value: [1.0] * len(rows.labels)})})
    return rows.totals(names, cluster, count=count, within=steps.strata), origin


def _capped(rows: Rows, value: str, steps: Steps) -> tuple[Rows, str, list[tuple[str, float]]]:
    high, low = steps.cap_at, None if steps.cap_at is None or steps.ends == "upper" else -steps.cap_at
    how = "" if steps.cap is None else f", the {100 * steps.cap:g}% quantile of all variants together"
    if steps.cap is not None:
        together = np.concatenate(rows.values(value))
        high = float(np.quantile(together, steps.cap))
        low = float(np.quantile(together, 1 - steps.cap)) if steps.ends == "both" else None
    top = high if high is not None else np.inf
    capped = rows.derived(value, lambda c: c[value].clip(low, top))

    def beyond(c: Any) -> Any:
        return c[value] > top if low is None else (c[value] > top) | (c[value] < low)

    made: dict[str, Make] = {"beyond": beyond, "off": lambda c: c[value] - c[value].clip(low, top)}
    each = list(zip(rows.labels, rows.sums([made] * len(rows.labels)), rows.sizes, strict=True))
    if all(part["beyond"] == n for _, part, n in each):
        raise DataError(
            f"A cap (cap, cap_at) of {top:g} lies below every value of {value!r}: nothing is left to compare."
        )
    facts = [(f"capped {label}", part["beyond"]) for label, part, _ in each]
    facts += [(f"mean taken off {label}", part["off"] / n) for label, part, n in each]
    ends = f"at {top:g}" if low is None else f"at {low:g} and {top:g}"
    listed = ", ".join(f"{label} {part['beyond']:,.0f} of {n:,}" for label, part, n in each)
    return capped, f"capped {ends}{how} ({listed})", facts


def _filled(rows: Rows, steps: Steps) -> tuple[Rows, list[str], list[Check]]:
    """Covariates without gaps, and columns that mark where they were."""
    marks: list[str] = []
    checks: list[Check] = []
    known = list(dict.fromkeys(column for part in steps.parts for column in part))
    for name, lost in rows.lacking(known).items():
        if not any(lost):
            continue
        for label, lacking, of in zip(rows.labels, lost, rows.sizes, strict=True):
            if lacking == of:
                raise DataError(f"The covariate {name!r} has no value in any row of variant {label!r}.")
        checks.append(_without_covariate(name, rows.labels, lost, rows.sizes))
        mark = name + MARK
        alone = any(part == (name,) for part in steps.parts)
        fill = float(np.mean([m[""].means[0] for m in rows.known([name]).moments([name])])) if alone else 0.0
        rows = rows.filled(name, mark, fill)
        marks.append(mark)
    return rows, marks, checks


def _without_covariate(name: str, labels: Sequence[str], lost: Sequence[int], n: Sequence[int]) -> Check:
    """Say how many rows lack a covariate, and whether more of one variant do than chance allows."""
    listed = ", ".join(f"{label} {k:,} of {of:,}" for label, k, of in zip(labels, lost, n, strict=True))
    shares = [k / of for k, of in zip(lost, n, strict=True)]
    overall = sum(lost) / sum(n)
    spread = np.sqrt(overall * (1 - overall) * (1 / n[0] + 1 / n[1]))
    finding = f"{name} has no value: {listed}"
    if abs(shares[0] - shares[1]) > _BY_CHANCE * spread:
        advice = "More rows of one variant lack it than chance allows: was it recorded after the test began?"
        return Check("missing covariate", finding, advice, "serious")
    advice = "They are kept: filled, and marked by an indicator of their own, so that the fill doesn't matter."
    return Check("missing covariate", finding, advice, "note")


def linearised(found: Prepared, shares: Floats) -> Cells:
    """Every ratio of totals as a column of its own: R + (N − R D) / mean of D, with each variant's own R."""
    cells = found.cells
    means = np.einsum("s,vs...->v...", shares, cells.means + cells.tails)
    k = means.shape[-1]
    places: list[tuple[int, ...]] = [(0, 1) if found.ratio else (0,), *(place for _, place in found.covariates)]
    names = [cells.columns[0], *(name for name, _ in found.covariates)]
    table = np.zeros((*means.shape[:-1], len(places), k))
    constant = np.zeros((*means.shape[:-1], len(places)))
    for row, place in enumerate(places):
        if len(place) == 1:
            table[..., row, place[0]] = 1.0
            continue
        top, below = place
        under = means[..., below]
        if np.any(under == 0):
            raise DataError(f"The denominator {cells.columns[below]!r} adds up to 0 in a variant: there is no ratio.")
        ratio = means[..., top] / under
        table[..., row, top] = 1 / under
        table[..., row, below] = -ratio / under
        constant[..., row] = ratio
    return cells.turned(names, table, constant)
