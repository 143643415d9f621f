"""A first experiment file, filled from a table: its columns, its labels, and guesses of what each metric is."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

import narwhals as nw
import tomlkit

from amber_ruler.errors import DataError
from amber_ruler.tables import Table

_MOST = 40  # columns that are guessed at


def start(
    table: Table,
    path: str | None,
    *,
    unit: str,
    by: str,
    control: str,
    day: str | None,
    read: Mapping[str, Any] = MappingProxyType({}),
) -> str:
    """The text of an experiment file that runs as it is; what is to be thought about stands in comments."""
    counts = table.sizes(by=by)
    if control not in counts:
        raise DataError.unknown(f"control in column {by!r}", control, counts)
    table.need_columns(unit, *([day] if day else []))
    made = tomlkit.document()
    made.add(tomlkit.comment("An experiment. What is known of it is filled in; read each line, then report it."))
    made["name"] = Path(table.name).stem
    made["hypothesis"] = ""
    made["unit"] = unit
    made["alpha"] = 0.05
    made["correction"] = "holm"
    made["segments"] = []
    if path is not None:
        source = tomlkit.table()
        source["table"] = path
        source.update(read)
        made["source"] = source
    assignment = tomlkit.table()
    assignment["column"], assignment["control"] = by, control
    split = tomlkit.inline_table()
    split.update(dict.fromkeys(counts, 1.0))
    assignment["split"] = split
    assignment["split"].comment("planned shares, in any unit")
    made["assignment"] = assignment
    if day is not None:
        days = tomlkit.table()
        days["column"] = day
        days.add(
            tomlkit.comment("planned = 28  # days of the whole test; [looks] with after = [7, 14, 28] plans looks")
        )
        made["days"] = days
    metrics = tomlkit.table(is_super_table=True)
    for k, (name, kind) in enumerate(_guessed(table, {unit, by, day})):
        metric = tomlkit.table()
        metric["kind"] = kind
        metric["role"] = "primary" if k == 0 else "secondary"
        metric["role"].comment("primary, secondary or guardrail")
        metric["good"] = "higher"
        metric.add(tomlkit.comment("margin = …  # smallest difference that matters; a guardrail needs one"))
        metric.add(tomlkit.comment('covariates = ["…"]  # columns known before the test'))
        metrics[name] = metric
    if not metrics:
        raise DataError(f"{table.name} has no column of numbers beside {unit}, {by} and the day: nothing to measure.")
    made["metrics"] = metrics
    return tomlkit.dumps(made)


def _guessed(table: Table, others: set[Any]) -> list[tuple[str, str]]:
    """Columns of numbers, and whether each is a share: those of 0 and 1 first."""
    found = []
    kinds = {c: kind for c, kind in table.schema.items() if c not in others}
    numeric = [c for c, kind in kinds.items() if kind.is_numeric() or isinstance(kind, nw.Boolean)]
    for column in numeric[:_MOST]:
        m = table.overall(column)
        if m.n and m.comoments[0, 0] > 0:
            found.append((column, "share" if bool(m.zero_one().all()) else "mean"))
    return sorted(found, key=lambda one: one[1] != "share")
