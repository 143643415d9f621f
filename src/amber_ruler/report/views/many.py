"""Many comparisons, or estimates, of one metric along an axis: a table, rulers under each other, a row each."""

from __future__ import annotations

from typing import Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Lines, Ruler, RulerRow
from amber_ruler.report.views import parts as views_of_parts
from amber_ruler.report.views.measured import drawn_limits, half_width, heading, scale_said, span
from amber_ruler.report.views.shared import alarms, checks_and_notes
from amber_ruler.results import Comparison, Interval, Measurement

MOST_ROWS = 30
_TRACED = 11  # of many priors or looks at the data, those that are told


def layout(result: Measurement) -> list[Block]:
    """Title, alarms, the table, the rulers, parts, checks, notes, sentence."""
    table = rows(result)
    adjusted = result.correction is not None
    tested = result.p_value is not None
    sized = "hedges_g" in result.effects and adjusted
    header = [
        result.axis.name if result.axis else "",
        f"estimate, {'pp' if result.percent else result.measured_in}".removesuffix(", "),
        "interval",
        *(["p"] if tested else []),
        *(["adjusted p"] if adjusted else []),
        *(["Hedges g"] if sized else []),
        *views_of_parts.headers(result),
        *(["verdict"] if _judged(result) else []),
    ]
    cells = [tuple(_cells(result, table, k, sized=sized)) for k in order(result)[:MOST_ROWS]]
    left = (0, len(header) - 1) if _judged(result) else (0,)
    size = np.size(result.estimate)
    more = f"{size - len(cells):,} more in .to_frame()" if size > len(cells) else ""
    head = heading(result)
    return [
        type(head)(head.title, head.below),
        *alarms(result.checks),
        Grid(tuple(header), tuple(cells), left=left),
        *([Lines((more,))] if more else []),
        ruler(result),
        *views_of_parts.blocks(result),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def labels(result: Measurement) -> list[str]:
    """What each comparison is called; its number where nothing says."""
    if result.axis is not None:
        return list(result.axis.labels)
    return [str(k + 1) for k in range(np.size(result.estimate))]


def order(result: Measurement) -> list[int]:
    """Of pairs those that differ first, each kind from the largest difference down; others as they were asked."""
    size = np.size(result.estimate)
    if result.trace is not None and size > _TRACED:
        return list(np.unique(np.round(np.linspace(0, size - 1, _TRACED)).astype(int)))
    if result.axis is None or result.axis.name != "pair" or result.correction is None:
        return list(range(size))
    stands, estimate = np.ravel(result.correction.stands), np.ravel(result.estimate)
    return sorted(range(size), key=lambda k: (not stands[k], -abs(estimate[k])))


def ruler(result: Measurement) -> Ruler:
    """The comparisons under each other."""
    shape = np.shape(result.estimate)
    estimate, low, high, verdicts = (
        np.broadcast_to(v, shape).ravel() for v in (result.estimate, *drawn_limits(result), result.verdict)
    )
    named = labels(result)
    p = result.p_value if result.correction is None else result.correction.adjusted
    notes: list[tuple[tuple[str, str], ...]] = [()] * estimate.size
    if p is not None:
        name = "p" if result.correction is None else "adjusted p"
        notes = [((name, numbers.p_value(float(v))),) for v in np.broadcast_to(np.asarray(p), shape).ravel()]
    some = tuple(
        RulerRow(named[k], float(estimate[k]), float(low[k]), float(high[k]), str(verdicts[k]), notes[k])
        for k in order(result)[:MOST_ROWS]
    )
    asked = isinstance(result, Comparison) or result.test is not None
    unit = ("pp" if isinstance(result, Comparison) else "%") if result.percent else ""
    centre = float(np.min(result.null)) if asked else None
    return Ruler(some, centre, result.margin, result.percent, unit, **scale_said(result))


def sentence(result: Measurement) -> str:
    """How many there are, and which stand out."""
    size = np.size(result.estimate)
    if result.trace is not None:
        return views_of_parts.trace_words(result)
    if result.pooling is not None:
        return views_of_parts.pooling_words(result)
    if result.anytime is not None:
        return views_of_parts.anytime_words(result)
    if not isinstance(result, Comparison):
        return f"{size:,} estimates of {result.metric}."
    if result.correction is not None:
        return views_of_parts.standing(result, labels(result))
    if result.looks is not None:
        return views_of_parts.looks_words(result)
    verdicts = np.ravel(result.verdict)
    counts = [f"{int(np.sum(verdicts == word)):,} {word}" for word in dict.fromkeys(verdicts.tolist())]
    named = f"{result.treatment} with {result.control}"
    return f"{result.metric}: {size:,} comparisons of {named}: {', '.join(counts)}, none corrected for their number."


def rows(result: Measurement) -> dict[str, Any]:
    """Columns of a tidy frame."""
    shape = np.shape(result.estimate) or (1,)

    def column(value: Any) -> Any:
        return np.broadcast_to(np.asarray(value), shape).ravel()

    named: dict[str, Any] = {"metric": column(result.metric)}
    if isinstance(result, Comparison):
        named |= {"treatment": column(result.treatment), "control": column(result.control)}
    else:
        named["label"] = column(getattr(result, "label", ""))
    if result.measured_in:
        named["measured_in"] = column(result.measured_in)
    if result.axis is not None:
        named[result.axis.name] = list(result.axis.labels)
    table: dict[str, Any] = named | {
        "estimate": column(result.estimate),
        "se": column(np.nan if result.se is None else result.se),
        "low": column(result.interval.low),
        "high": column(result.interval.high),
        "level": column(result.interval.level),
        "p_value": column(np.nan if result.p_value is None else result.p_value),
        "verdict": column(result.verdict),
    }
    for part in result.parts:
        table |= {name: column(value) for name, value in views_of_parts.columns(part).items()}
    for name, effect in result.effects.items():
        table |= {
            name: column(effect.value),
            f"{name}_low": column(effect.interval.low),
            f"{name}_high": column(effect.interval.high),
        }
    if isinstance(result, Comparison):
        for role, group in zip(("treatment", "control"), result.groups, strict=False):
            table |= {f"{role}_n": column(group.n), f"{role}_mean": column(group.mean)}
    return table


def _judged(result: Measurement) -> bool:
    return bool(np.any(np.ravel(result.verdict) != ""))


def _cells(result: Measurement, table: dict[str, Any], k: int, *, sized: bool) -> list[str]:
    factor = 100.0 if result.percent else 1.0
    lows, highs = (np.broadcast_to(v, np.shape(result.estimate)).ravel() for v in drawn_limits(result))
    own = Interval(float(lows[k]), float(highs[k]), result.interval.level)
    estimate = float(table["estimate"][k])
    drawn = (estimate * factor, float(lows[k]) * factor, float(highs[k]) * factor)
    texts = numbers.together(*drawn, width=half_width(estimate, own) * factor)
    cells = [labels(result)[k], texts[0], span(texts[1], texts[2], result.alternative)]
    if result.p_value is not None:
        cells.append(numbers.p_value(float(table["p_value"][k]), result.alpha))
    if result.correction is not None:
        cells.append(numbers.p_value(float(np.ravel(result.correction.adjusted)[k]), result.alpha))
    if sized:
        cells.append(numbers.number(float(table["hedges_g"][k])))
    cells += views_of_parts.cells(result, k)
    if _judged(result):
        cells.append(str(table["verdict"][k]))
    return cells
