"""One call from a table: the comparison of one metric, or of several as a family."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler.digest import Rows
from amber_ruler.errors import DataError, InputError
from amber_ruler.register import Method, registered
from amber_ruler.results import Comparison, Family

Metrics = str | Sequence[str] | Mapping[str, Mapping[str, Any]]


def compare(
    table: Rows,
    metrics: Metrics,
    *,
    by: str,
    control: str,
    treatment: str | None,
    method: str | None,
    correct: str,
    settings: Mapping[str, Any],
) -> Comparison | Family:
    """See `Table.compare`."""
    asked = _asked(metrics)
    found: dict[str, Comparison] = {}
    for metric, own in asked.items():
        own = {**settings, **own}  # noqa: PLW2901 - what all have, then what this one has
        each = _one(
            table, metric, by=by, control=control, treatment=treatment, method=own.pop("method", method), own=own
        )
        for name, result in each.items():
            found[metric if len(each) == 1 else name if len(asked) == 1 else f"{metric}: {name}"] = result
    if len(found) == 1:
        return next(iter(found.values()))
    title = f"{', '.join(asked)} by {by}" if len(asked) < 4 else f"{len(asked)} metrics by {by}"
    return together(found, correct=correct, title=title)


def together(found: Mapping[str, Comparison], *, correct: str, title: str) -> Family:
    """Several comparisons as one family, corrected for their number unless that is not wanted."""
    if correct == "none" or not all(r.test for r in found.values()):
        if correct not in ("none", "holm"):
            raise InputError(f"correct={correct!r}: without a test there is nothing to correct.", name="correct")
        return Family(
            title=title,
            method="side by side, not corrected",
            source="",
            labels=tuple(found),
            results=tuple(found.values()),
        )
    from amber_ruler.multiplicity import correct as corrected

    rates = {r.alpha for r in found.values()}
    if len(rates) > 1:
        raise InputError(
            f"A family has one alpha, got {', '.join(f'{rate:g}' for rate in sorted(rates))}.", name="alpha"
        )
    family = corrected(found, method=correct, alpha=rates.pop())  # type: ignore[call-overload]
    # What was seen of the table stands with each; asking again knows the groups only.
    results = tuple(
        replace(r, checks=found[label].checks) for label, r in zip(family.labels, family.results, strict=True)
    )
    whole: Family = replace(family, title=title, results=results)
    return whole


def _asked(metrics: Metrics) -> dict[str, dict[str, Any]]:
    """Each metric with settings of its own."""
    if isinstance(metrics, str):
        return {metrics: {}}
    if isinstance(metrics, Mapping):
        named = {str(metric): dict(own or {}) for metric, own in metrics.items()}
    else:
        named = {str(metric): {} for metric in metrics}
    if not named:
        raise InputError("Name at least one metric.", name="metrics")
    return named


def _one(
    table: Rows,
    metric: str,
    *,
    by: str,
    control: str,
    treatment: str | None,
    method: str | None,
    own: Mapping[str, Any],
) -> dict[str, Comparison]:
    """One metric: each treatment, or the one named, against the control."""
    arms: Any = table.moments([metric], by=by)
    chosen = _method(method, arms)
    if chosen.rows or chosen.needs == "values":
        arms = table.samples(metric, by=by)
    pairs = list(arms.against(str(control)))
    if treatment is not None:
        pairs = [(arm, base) for arm, base in pairs if arm.label == str(treatment)]
        if not pairs:
            raise DataError.unknown("treatment", str(treatment), [a for a in arms if a != str(control)])
    from importlib import import_module

    call = getattr(import_module("amber_ruler.measure"), chosen.name)
    if "metric" in chosen.settings:
        own = {"metric": metric, **own}
    return {arm.label: call(arm, base, **own) for arm, base in pairs}


def _method(name: str | None, arms: Any) -> Method:
    """The method by name, or by what the values are: shares of 0 and 1, else means."""
    if name is None:
        name = "proportions" if all(bool(np.all(m.zero_one())) for m in arms.values()) else "means"
    found = registered("measure", str(name).replace("-", "_"))
    if found.takes != "two":
        raise InputError(f"method={name!r} does not compare two groups by one column.", name="method", value=name)
    return found
