"""Looks at data by day: what had come in by each of some days."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Any, Protocol

import numpy as np

from amber_ruler.digest import Digest
from amber_ruler.errors import DataError, InputError
from amber_ruler.results import Comparison


class Daily(Protocol):
    """A table, as far as it is needed here."""

    def digest(self, metrics: str, *, by: str, day: str, covariates: Sequence[str]) -> Digest:
        """Moments by variant and day."""


def looks_by_day(
    source: Digest | Daily,
    metric: str,
    *,
    treatment: str,
    control: str,
    by: str | None = None,
    day: str | None = None,
    days: Sequence[str | float] | None = None,
    method: Callable[..., Comparison] | None = None,
    **settings: Any,
) -> list[Comparison]:
    """Compare two variants with all that had come in by each of some days: looks for `monitor`.

    Parameters
    ----------
    source : Digest or Table
        A digest made with `day=`, where several days' files add up; or a table, which is reduced to one.
    metric : str
        One of its metrics.
    treatment, control : str
        Labels of the two variants.
    by, day : str, optional
        Columns of a table with the variant labels and the day.
    days : sequence, optional
        The last day of each look, in order; every day of the digest unless given.
    method : callable, optional
        Takes both variants' moments, then settings; `measure.proportions` of a metric of 0 and 1 and `measure.means` of
        any other unless given. With covariates in the digest, such as `adjust.cuped` with `value=` and `covariate=`.
    **settings
        Of the method.

    Returns
    -------
    list of Comparison
        One a look, each of all units so far.

    Raises
    ------
    DataError
        If the digest has no days, or not those, or a variant has no units by one of them.

    Examples
    --------
    >>> import amber_ruler as ar
    >>> trips = ar.table(ar.demo.path("travellers"))
    >>> looks = looks_by_day(trips, "fare", by="form", day="day", treatment="short", control="current", days=[7, 14])
    >>> [round(look.estimate, 2) for look in looks]
    [1.58, 1.99]
    """
    from amber_ruler.measure import means, proportions

    digest = _digest(source, metric, by, day, settings.get("covariate", ()))
    known = digest.daily(metric).days
    wanted = list(known) if days is None else [_named(one, known) for one in days]
    if not wanted or any(known.index(b) <= known.index(a) for a, b in pairwise(wanted)):
        raise InputError.rule("days", days, "days that follow each other")
    whole = digest.moments(metric)
    shares = all(bool(np.all(whole[label].select(metric).zero_one())) for label in whole)
    ask = method or (proportions if shares else means)
    if method is None:
        settings = {"metric": metric, **settings}
    found = []
    for last in wanted:
        arms = digest.moments(metric, days=tuple(known[: known.index(last) + 1]))
        for label in (treatment, control):
            if label not in arms:
                raise DataError(f"By day {last} there is no unit of {label!r}: begin later, or check the label.")
        one, two = (arms[label] if method is not None else arms[label].select(metric) for label in (treatment, control))
        found.append(ask(one, two, **settings))
    return found


def _digest(
    source: Digest | Daily, metric: str, by: str | None, day: str | None, covariate: str | Sequence[str]
) -> Digest:
    """The digest that was given, or that of a table."""
    if isinstance(source, Digest):
        if by is not None or day is not None:
            raise InputError("A digest knows its own columns: leave by and day out.", name="by", value=by)
        return source
    if by is None or day is None:
        raise InputError("Say which columns of the table hold the variant and the day: by= and day=.", name="by")
    covariates = [covariate] if isinstance(covariate, str) else list(covariate)
    return source.digest(metric, by=by, day=day, covariates=covariates)


def _named(day: str | float, known: tuple[str, ...]) -> str:
    """A day as the digest writes it."""
    text = str(day)
    if text not in known:
        raise DataError.unknown("day of this digest", text, known)
    return text
