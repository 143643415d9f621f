"""The looks at an experiment so far: at each, every unit by then, analysed as the whole test is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from amber_ruler.errors import DataError
from amber_ruler.experiment.digest_source import DigestSource
from amber_ruler.experiment.resolve import Request, Resolved
from amber_ruler.results import Comparison
from amber_ruler.sequential import Monitoring, boundaries, monitor
from amber_ruler.tables import Table, profile
from amber_ruler.tables.shared import Shared, in_one_pass


def looks(
    source: Any, asked: Resolved, primary: Mapping[str, tuple[str, Comparison]], days: Sequence[Any]
) -> dict[str, Monitoring]:
    """The looks so far of each primary comparison: alpha is split over them, and each part is spent."""
    reached = [day for day in asked.look_days if day <= len(days)]
    if not reached:
        raise DataError(f"The first look is after day {asked.look_days[0]}, and there are {len(days)} days.")
    named = asked.named("primary")
    seen = [_seen(source, asked, named, days[:day]) for day in reached]
    split = len(primary) if asked.correction == "bonferroni" else 1
    rules = {
        rate: boundaries(asked.looks, spending=asked.spending, parameter=asked.parameter, alpha=rate / split)
        for rate in {one.alpha for one in named.values()}
    }
    return {
        label: monitor(
            rules[named[name].alpha],
            [look[name][one.treatment] for look in seen],
            information=asked.looks[: len(reached)],
        )
        for label, (name, one) in primary.items()
    }


def _seen(
    source: Any, asked: Resolved, named: Mapping[str, Request], days: Sequence[Any]
) -> dict[str, dict[str, Comparison]]:
    """Each metric of all units that had come by the last of some days."""
    part = until(source, asked, days)
    shared = shared_of(part, asked, named)
    return {name: one.against_control(part, shared) for name, one in named.items()}


def until(source: Any, asked: Resolved, days: Sequence[Any]) -> Any:
    """The units that came on some days."""
    if isinstance(source, DigestSource):
        return source.until(days)
    column = str(asked.day)
    day = profile.calendar_day(column, source.schema[column])
    with source.reading():
        return source.shaped(source.frame.filter(day.is_in(list(days)).fill_null(value=False)))


def shared_of(source: Any, asked: Resolved, metrics: Mapping[str, Request] | None = None) -> Shared:
    """The moments of metrics, all of them unless some are named, from one pass over the rows."""
    sets = asked.sets(metrics)
    if isinstance(source, Table):
        return in_one_pass(source, sets, by=asked.by, strata=asked.strata)
    shared: Shared = source.shared(sets)
    return shared
