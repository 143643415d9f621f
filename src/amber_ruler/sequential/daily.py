"""Looks at a digest by day: what had come in by each of some days."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from amber_ruler.digest import Digest
from amber_ruler.errors import DataError, InputError
from amber_ruler.results import Comparison


def looks_by_day(
    digest: Digest,
    metric: str,
    *,
    treatment: str,
    control: str,
    days: Sequence[str | float] | None = None,
    method: Callable[..., Comparison] | None = None,
    **settings: Any,
) -> list[Comparison]:
    """Compare two variants with all that had come in by each of some days: looks for `monitor`.

    Parameters
    ----------
    digest : Digest
        Made with `day=`; several days' files add up.
    metric : str
        One of its metrics.
    treatment, control : str
        Labels of the two variants.
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
    >>> kept = trips.digest("fare", by="form", day="day")
    >>> looks = looks_by_day(kept, "fare", treatment="short", control="current", days=[7, 14])
    >>> [round(look.estimate, 2) for look in looks]
    [1.58, 1.99]
    """
    from amber_ruler.measure import means, proportions

    known = digest.daily(metric).days
    wanted = list(known) if days is None else [_named(day, known) for day in days]
    if not wanted or any(known.index(b) <= known.index(a) for a, b in pairwise(wanted)):
        raise InputError.rule("days", days, "days that follow each other")
    whole = digest.moments(metric)
    shares = all(bool(np.all(whole[label].select(metric).zero_one())) for label in whole)
    ask = method or (proportions if shares else means)
    if method is None:
        settings = {"metric": metric, **settings}
    found = []
    for day in wanted:
        arms = digest.moments(metric, days=tuple(known[: known.index(day) + 1]))
        for label in (treatment, control):
            if label not in arms:
                raise DataError(f"By day {day} there is no unit of {label!r}: begin later, or check the label.")
        one, two = (arms[label] if method is not None else arms[label].select(metric) for label in (treatment, control))
        found.append(ask(one, two, **settings))
    return found


def _named(day: str | float, known: tuple[str, ...]) -> str:
    """A day as the digest writes it."""
    text = str(day)
    if text not in known:
        raise DataError.unknown("day of this digest", text, known)
    return text
