"""From a log of events to one row a unit: what to take of each unit's events."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import narwhals as nw

from amber_ruler.errors import InputError

__all__ = ["Measure", "any_of", "count", "first", "largest", "last", "total"]

# What a unit without events has: nothing happened, or nothing is known.
_WITHOUT_EVENTS = {"count": 0, "total": 0, "any": 0}


@dataclass(frozen=True, slots=True)
class Measure:
    """What to take of a unit's events; made by `count`, `total`, `any_of`, `largest`, `first` or `last`."""

    how: str
    column: str | None = None
    order: str | None = None
    where: Mapping[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for role in ("column", "order"):
            name = getattr(self, role)
            needed = self.how in ("first", "last") or (role == "column" and self.how in ("total", "largest"))
            if needed and not isinstance(name, str):
                raise InputError.rule(role, name, "the name of a column")

    @property
    def columns(self) -> list[str]:
        """The columns it reads."""
        return [c for c in (self.column, self.order, *self.where) if c is not None]

    @property
    def without_events(self) -> int | None:
        """What a unit has that no event belongs to."""
        return _WITHOUT_EVENTS.get(self.how)

    def of_rows(self, unit: str, condition: Callable[..., nw.Expr]) -> nw.Expr:
        """What each event contributes; `condition` makes an expression of a condition on a column."""
        parts = [
            condition(c, among=w) if isinstance(w, (list, tuple, set, frozenset)) else condition(c, equals=w)
            for c, w in self.where.items()
        ]
        counts = nw.all_horizontal(*parts, ignore_nulls=False) if parts else None
        if self.how in ("count", "any"):
            return nw.lit(1) if counts is None else nw.when(counts).then(nw.lit(1)).otherwise(nw.lit(0))
        value = nw.col(str(self.column))
        if counts is not None:
            value = nw.when(counts).then(value)
        if self.how in ("first", "last"):
            order = nw.col(str(self.order))
            end = order.min() if self.how == "first" else order.max()
            return nw.when(order == end.over(unit)).then(value)
        return value

    def of_units(self, name: str) -> nw.Expr:
        """How the contributions of a unit come together."""
        return nw.col(name).sum() if self.how in ("count", "total") else nw.col(name).max()


def count(**where: Any) -> Measure:
    """How many events; only those where each column named has the value given, or one of the list given.

    Examples
    --------
    >>> count(event="search").how
    'count'
    """
    return Measure("count", where=where)


def total(column: str, **where: Any) -> Measure:
    """The sum of a column over a unit's events; 0 without any."""
    return Measure("total", column, where=where)


def any_of(**where: Any) -> Measure:
    """1 if there is such an event, else 0."""
    if not where:
        raise InputError('Say which event: any_of(event="booking").')
    return Measure("any", where=where)


def largest(column: str, **where: Any) -> Measure:
    """The largest value of a column; missing without any."""
    return Measure("largest", column, where=where)


def first(column: str, order: str) -> Measure:
    """The value of a unit's first event by the column `order`, of several at once the largest; missing without any."""
    return Measure("first", column, order)


def last(column: str, order: str) -> Measure:
    """The value of a unit's last event by the column `order`, of several at once the largest; missing without any."""
    return Measure("last", column, order)
