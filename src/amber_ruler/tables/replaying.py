"""Several ways to analyse a table's units, each replayed on them."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import Any

import narwhals as nw
import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.resample import Replay, Replays
from amber_ruler.resample.drawing import Progress, seed_of
from amber_ruler.resample.replay import replay as replayed
from amber_ruler.resample.replay import side_by_side
from amber_ruler.samples import Records, Sample
from amber_ruler.tables.frame import Held
from amber_ruler.tables.pairing import floats

_LABELS = ("strata", "cluster")


def replay(
    table: Held,
    metrics: str | Mapping[str, Mapping[str, Any]],
    *,
    runs: int | None,
    progress: Progress | None,
    seed: int | np.random.Generator | None,
    **asked: Any,
) -> Replay | Replays:
    """See `Table.replay`."""
    each: Mapping[str, Mapping[str, Any]] = {metrics: {}} if isinstance(metrics, str) else metrics
    if not each:
        raise InputError("Name at least one metric.", name="metrics")
    seeded = seed_of(seed)  # the same for all: they are compared on the same assignments
    found = {}
    for label, own in each.items():
        settings = {"value": label, **own}
        column = str(settings["value"])
        data, ask = _asked(table, column, settings)
        more = {**asked, **({} if isinstance(data, Sample) else settings)}
        found[label] = replayed(data, ask, runs=runs, progress=progress, seed=seeded, metric=str(label), **more)
    if isinstance(metrics, str):
        return found[metrics]
    return side_by_side(found, f"{len(found)} ways to analyse {table.name}" if len(found) > 1 else "One way to analyse")


def _asked(table: Held, column: str, settings: Mapping[str, Any]) -> tuple[Any, Any]:
    """The units as the analysis needs them, and the analysis."""
    measure, adjust = import_module("amber_ruler.measure"), import_module("amber_ruler.adjust")
    covariate = settings.get("covariate", ())
    covariates = [covariate] if isinstance(covariate, str) else list(covariate)
    numbers = [column, *([str(settings["per"])] if settings.get("per") else [])]
    numbers += [part.strip() for name in covariates for part in str(name).split(" per ")]
    labels = [str(settings[name]) for name in _LABELS if settings.get(name)]
    table.need(list(dict.fromkeys(numbers)), *labels)
    native = table.fetched(*dict.fromkeys([*numbers, *labels]))
    values = floats(native[column])
    if set(settings) <= {"value"}:
        known = values[~np.isnan(values)]
        share = bool(np.all((known == 0) | (known == 1)))
        return Sample(known, "units", metric=column), measure.proportions if share else measure.means
    columns: dict[str, Any] = {name: floats(native[name]) for name in dict.fromkeys(numbers)}
    for name in labels:
        text = not table.schema[name].is_numeric() and not isinstance(table.schema[name], nw.Boolean)
        columns[name] = native[name].tolist() if text else floats(native[name])
    return Records(columns, "units"), adjust.sharpen
