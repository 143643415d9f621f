"""What the views of measurements have in common: a group, an estimate, a test, effect sizes in words."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, RulerRow
from amber_ruler.report.views.shared import level, test_terms
from amber_ruler.results import Comparison, EffectSize, Estimate, Group, Interval, Measurement

PERCENT = ("share", "relative")  # units that are read in percent
OF_ITSELF = ("superiority", "lift", "distance")  # quantities in percent that are no difference of shares


def heading(result: Measurement) -> Heading:
    """Title and verdict, method and error rate."""
    terms = test_terms(result.alpha, result.alternative) if result.test else ""
    prior = f"prior {result.evidence.prior}" if result.evidence else ""
    return Heading(
        result.title,
        " · ".join(part for part in (result.method, prior, terms) if part),
        str(result.verdict),
    )


_COLUMNS = {
    "mean": ("n", "mean", "sd", "se"),
    "adjusted mean": ("n", "mean", "se"),
    "adjusted share": ("n", "share", "se"),
    "ratio": ("n", "ratio", "se"),
    "share": ("n", "successes", "share", "se"),
    "rate": ("exposure", "events", "rate", "se"),
    "quantile": ("n", "quantile", "se"),
    "rank": ("n", "median"),
    "spread": ("n", "sd"),
    "superiority": ("n", "median"),
    "restricted mean": ("n", "restricted mean", "se"),
    "hazard": ("n", "restricted mean", "se"),
    "lift": ("n", "mean", "sd", "se"),
    "distance": ("n", "median"),
    "correlations": ("n", "correlation"),
    "statistic": ("n",),
    "coefficient": ("n",),
    "split": ("n",),
}


def groups(result: Measurement) -> Grid:
    """One group, or both and their units together."""
    header = _COLUMNS[result.quantity]
    width = max((float(g.se) for g in result.groups), default=math.nan)
    means = numbers.together(*(float(g.mean) for g in result.groups), width=width if width > 0 else None)
    rows = [
        (g.label, *_cells(g, mean, header), *(numbers.number(float(v)) for v in g.more.values()))
        for g, mean in zip(result.groups, means, strict=True)
    ]
    more = tuple(result.groups[0].more)
    if len(rows) > 1 and not getattr(result, "paired", False):
        total = sum(np.asarray(g.n, dtype=float) for g in result.groups)
        rows.append(("in total", numbers.whole(float(total)), *("" for _ in (*header[1:], *more))))
    return Grid(("", *header, *more), tuple(rows))


def _cells(group: Group, mean: str, header: tuple[str, ...]) -> list[str]:
    """A group's numbers under their headings."""
    share = 100 * float(group.mean)
    written = {
        "n": lambda: numbers.whole(group.n),
        "exposure": lambda: numbers.whole(group.n),
        "successes": lambda: numbers.whole(round(float(group.n) * float(group.mean))),
        "events": lambda: numbers.whole(round(float(group.n) * float(group.mean))),
        "share": lambda: f"{numbers.together(share, width=100 * float(group.se) or None)[0]}%",
        "sd": lambda: numbers.number(float(group.sd)),
        "se": lambda: (
            f"{numbers.number(100 * float(group.se))} pp" if "share" in header else numbers.number(float(group.se))
        ),
    }
    return [written.get(name, lambda: mean)() for name in header]


def between(result: Comparison) -> str:
    """Both labels and the sign between them."""
    sign = "over" if result.quantity == "superiority" else "/" if result.scale == "ratio" else "−"
    return f"{result.treatment} {sign} {result.control}"


def ruler_row(result: Measurement, label: str) -> RulerRow:
    """One result as a row of a ruler that several share."""
    low, high = drawn_limits(result)
    return RulerRow(label, float(result.estimate), float(low), float(high), str(result.verdict), beside(result))


def beside(result: Measurement) -> tuple[tuple[str, str], ...]:
    """Units and the p that decides, as a figure has them beside a row."""
    said = [("n", n)] if (n := units(result)) else []
    p = result.p_value if result.correction is None else result.correction.adjusted
    if p is not None and np.ndim(p) == 0:
        said.append(("p" if result.correction is None else "adjusted p", numbers.p_value(float(p))))
    return tuple(said)


def units(result: Measurement) -> str:
    """Units of both groups together, or pairs."""
    sizes = [float(np.asarray(g.n)) for g in result.groups if np.ndim(g.n) == 0]
    if not sizes or result.quantity == "rate":
        return ""
    return numbers.whole(sizes[0] if getattr(result, "paired", False) else sum(sizes[:2]))


def scale_said(result: Measurement) -> dict[str, Any]:
    """What a figure's scale counts, what its ends mean, and what its limits are."""
    unit = f" ({result.measured_in})" if result.measured_in else ""
    if not isinstance(result, Comparison):
        return {"counts": f"{result.metric}, {result.quantity}{unit}", "interval": interval_name(result)}
    ratio, chance = result.unit == "ratio", result.quantity == "superiority"
    shown = "chance to have more" if chance else f"{result.quantity}, ratio" if ratio else "difference"
    what = "percentage points" if result.percent and not chance else shown
    ends = {"higher": ("worse", "better"), "lower": ("better", "worse")}.get(result.good, ("less", "more"))
    return {"counts": f"{result.metric}, {what}{unit}", "ends": ends, "interval": interval_name(result)}


def effects(found: Mapping[str, EffectSize], alternative: str = "two-sided") -> list[Block]:
    """Effect sizes with their intervals; those aside are named."""
    if not found:
        return []
    rows = []
    for effect in found.values():
        if not effect.aside:
            value, low, high = effect_texts(effect)
            left_out = excluded(effect.interval, 100.0 if effect.unit in PERCENT else 1.0)
            rows.append((effect.label, value, left_out or span(low, high, alternative)))
    aside = ", ".join(effect.label for effect in found.values() if effect.aside)
    blocks: list[Block] = []
    if rows:
        blocks.append(
            Grid(("effect size", "value", f"{level(next(iter(found.values())).interval.level)} interval"), tuple(rows))
        )
    if aside:
        blocks.append(Lines((f"also in .effects: {aside}",)))
    return blocks


def amounts(result: Measurement, *, sign: bool = True) -> tuple[str, str, str]:
    """Estimate and limits as text, in the metric's unit, in percent or in percentage points."""
    factor, unit = (
        (100.0, "%" if isinstance(result, Estimate) or result.quantity in OF_ITSELF else " pp")
        if result.percent
        else (1.0, f" {result.measured_in}" if result.measured_in else "")
    )
    low_end, high_end = (float(v) for v in drawn_limits(result))
    values = [float(result.estimate) * factor, low_end * factor, high_end * factor]
    if not sign:
        values[0] = abs(values[0])
    width = half_width(result.estimate, Interval(low_end, high_end, result.interval.level)) * factor
    apart = float(result.null) * factor if result.test else None
    value, low, high = numbers.together(*values, width=width, apart=apart)
    # The unit stands once, behind the last limit that there is.
    if np.isfinite(values[2]):
        high += unit
    else:
        low += unit
    return value + unit, low, high


def open_ends(result: Measurement) -> tuple[Any, Any]:
    """Whether the lower, and the upper limit is left out itself: it is the tested value, or the next number to it."""
    interval, (below, above) = result.interval, _beside_null(result)
    return interval.low_open | (interval.low == above), interval.high_open | (interval.high == below)


def _beside_null(result: Measurement) -> tuple[Floats, Floats]:
    """The numbers next to the tested value, below and above."""
    null = np.asarray(np.nan if result.test is None else result.null, float)
    return np.nextafter(null, -np.inf), np.nextafter(null, np.inf)


def drawn_limits(result: Measurement) -> tuple[Number, Number]:
    """Both limits; the open end of a one-sided interval is infinite, though a share's ends at 1.

    Where a limit is the next number to the tested value, that value is drawn.
    """
    below, above = _beside_null(result)
    low, high = (
        scalar_or_array(np.where((end == below) | (end == above), result.null, end))
        for end in (np.asarray(result.interval.low), np.asarray(result.interval.high))
    )
    if result.alternative == "greater":
        high = np.full(np.shape(high), np.inf) if np.ndim(high) else np.inf
    if result.alternative == "less":
        low = np.full(np.shape(low), -np.inf) if np.ndim(low) else -np.inf
    return low, high


def interval_name(result: Measurement) -> str:
    """What an interval is called: a posterior one where evidence was weighed and nothing tested."""
    name = "posterior interval" if result.evidence and not result.test else "interval"
    return f"{level(result.interval.level)} {name}"


def limits_in_words(result: Measurement, low: str, high: str) -> str:
    """An interval such as "95% interval 1.2 to 3.4", or with one limit; an open end leaves its limit out."""
    return f"{interval_name(result)} {limits(result, low, high)}"


def limits(result: Measurement, low: str, high: str, marks: tuple[str, str] = ("above ", "below ")) -> str:
    """Both limits, or the one that there is; `marks` stand before one that is itself left out."""
    low_open, high_open = open_ends(result)
    if (low_open or high_open) and float(result.interval.low) == float(result.interval.high):
        return f"next to {low}"
    return span(f"{marks[0]}{low}" if low_open else low, f"{marks[1]}{high}" if high_open else high, result.alternative)


def excluded(interval: Interval, factor: float = 1.0) -> str:
    """What an interval leaves out, where it is the outside of two values; empty elsewhere."""
    if interval.excludes is None:
        return ""
    low, high = numbers.together(*(float(end) * factor for end in interval.excludes))
    unit = "%" if factor != 1 else ""
    return f"outside {low}{unit} to {high}{unit}"


def span(low: str, high: str, alternative: str) -> str:
    """Two limits in words, or the one that there is."""
    if low == high == numbers.NO_LIMIT:
        return "without limits"
    return {"greater": f"from {low} up", "less": f"up to {high}"}.get(alternative, f"{low} to {high}")


def half_width(value: Any, interval: Interval) -> float:
    """How far an interval reaches to one side."""
    low, high = float(interval.low), float(interval.high)
    if np.isfinite(low) and np.isfinite(high):
        return (high - low) / 2
    end = low if np.isfinite(low) else high
    return abs(float(value) - end) if np.isfinite(end) else abs(float(value))


def test(result: Measurement) -> list[Block]:
    """Statistic, degrees of freedom, critical value and p in one line."""
    if result.p_value is None:
        return []
    parts = []
    if result.statistic is not None:
        parts.append(f"{result.statistic_name} {numbers.number(float(result.statistic))}")
    if "chi_square" in result.facts:
        parts.append(f"χ² {numbers.number(float(result.facts['chi_square']))}")
    if result.df is not None:
        parts.append(f"df {degrees(result.df)}")
    if result.critical is not None:
        sign = "±" if result.alternative == "two-sided" else ""
        parts.append(f"critical {sign}{numbers.number(float(result.critical))}")
    parts.append(f"p {numbers.p_value(float(result.p_value), result.alpha)}")
    if float(result.null) != result.no_effect or isinstance(result, Estimate):
        said = numbers.percent(float(result.null)) if result.percent else numbers.number(float(result.null))
        what = "against" if isinstance(result, Estimate) else "ratio" if result.unit == "ratio" else "difference"
        parts.append(f"tested {what} {said}")
    return [Lines(("   ".join(parts),))]


def degrees(df: Any) -> str:
    """Degrees of freedom: one number, or both of an F."""
    several = df if isinstance(df, tuple) else (df,)
    return " and ".join(numbers.whole(float(v)) for v in several)


def effect_texts(effect: EffectSize) -> tuple[str, str, str]:
    """Value and limits of an effect."""
    factor, unit = (100.0, "%") if effect.unit in PERCENT else (1.0, "")
    values = [float(v) * factor for v in (effect.value, effect.interval.low, effect.interval.high)]
    texts = numbers.together(*values, width=half_width(effect.value, effect.interval) * factor)
    value, low, high = (t + unit if np.isfinite(v) else t for t, v in zip(texts, values, strict=True))
    return "infinite" if np.isinf(values[0]) else value, low, high


def p_word(p: float, alpha: float) -> str:
    """A p-value behind its sign, as it stands in a sentence."""
    text = numbers.p_value(p, alpha)
    return text if text.startswith("<") else f"= {text}"
