"""Treatment against control."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.numbers import safe
from amber_ruler.report.views.shared import alarms, checks_and_notes, level, test_terms
from amber_ruler.results import Comparison, EffectSize, Estimate, Interval

if TYPE_CHECKING:
    from collections.abc import Mapping

    from matplotlib.axes import Axes

    from amber_ruler.numeric.gate import Number
    from amber_ruler.results import Group, Measurement

_MOST_ROWS = 20
_DRAWN = ("mean", "share", "rate", "quantile")  # what stands on the metric's own scale


def layout(result: Comparison) -> list[Block]:
    """Title, alarms, groups, estimate, ruler, test, effects, checks, notes, sentence."""
    if np.ndim(result.estimate):
        return _many(result)
    return [
        heading(result),
        *alarms(result.checks),
        groups(result),
        estimate_line(result),
        ruler(result),
        *test(result),
        *margins(result),
        *effects(result.effects, result.alpha, result.alternative),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def heading(result: Measurement) -> Heading:
    """Title and verdict, method and error rate."""
    return Heading(
        safe(result.title),
        f"{result.method} · {test_terms(result.alpha, result.alternative)}",
        str(getattr(result, "verdict", "")),
    )


_COLUMNS = {
    "mean": ("n", "mean", "sd", "se"),
    "share": ("n", "successes", "share", "se"),
    "rate": ("exposure", "events", "rate", "se"),
    "quantile": ("n", "quantile", "se"),
    "rank": ("n", "median"),
    "spread": ("n", "sd"),
}


def groups(result: Measurement) -> Grid:
    """One group, or both and their units together."""
    header = _COLUMNS[result.quantity]
    width = max((float(g.se) for g in result.groups), default=math.nan)
    means = numbers.together(*(float(g.mean) for g in result.groups), width=width if width > 0 else None)
    rows = [
        (safe(g.label), *_cells(g, mean, header), *(numbers.number(float(v)) for v in g.more.values()))
        for g, mean in zip(result.groups, means, strict=True)
    ]
    more = tuple(result.groups[0].more)
    if len(rows) > 1 and not getattr(result, "paired", False):
        total = sum(np.asarray(g.n) for g in result.groups)
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


def estimate_line(result: Comparison) -> Lines:
    """The difference, said with both labels."""
    value, low, high = amounts(result)
    return Lines((f"{safe(_between(result))}  {value}   {limits_in_words(result, low, high)}",), strong=True)


def _between(result: Comparison) -> str:
    return f"{result.treatment} {'/' if result.ratio else '−'} {result.control}"


def ruler(result: Comparison) -> Ruler:
    """The interval on the ruler."""
    if np.ndim(result.estimate):
        shape = np.shape(result.estimate)
        estimate, low, high, verdicts = (
            np.broadcast_to(v, shape).ravel() for v in (result.estimate, *drawn_limits(result), result.verdict)
        )
        rows = tuple(
            RulerRow(str(k + 1), float(e), float(a), float(b), str(v))
            for k, (e, a, b, v) in enumerate(zip(estimate, low, high, verdicts, strict=True))
        )[:_MOST_ROWS]
    else:
        rows = (ruler_row(result, _between(result)),)
    return Ruler(rows, float(np.min(result.null)), result.margin, result.percent, "pp" if result.percent else "")


def draw(result: Comparison, ax: Axes | None = None) -> Axes:
    """Each group's value with its interval, above the ruler of the difference."""
    from amber_ruler.report.drawing import draw_rulers, new_axes

    groups = result.groups
    whole = np.ndim(result.estimate) == 0 and all(np.ndim(g.mean) == 0 for g in groups)
    if not (whole and result.quantity in _DRAWN and groups and math.isfinite(float(groups[0].se))):
        return draw_rulers(ruler(result), ax=ax, title=result.title)
    axes = new_axes(ax, height=4.6)
    place = axes.get_subplotspec()
    if place is None:  # an Axes without a place in a grid can't be divided
        return draw_rulers(ruler(result), ax=axes, title=result.title)
    halves = place.subgridspec(2, 1, height_ratios=[1.2, 1.0])
    axes.set_subplotspec(halves[1, 0])
    top = axes.figure.add_subplot(halves[0, 0])
    for k, g in enumerate(groups[:2]):
        factor = 100 if result.percent else 1
        mean, reach = factor * float(g.mean), factor * 1.96 * float(g.se)
        top.plot([mean - reach, mean + reach], [k, k], color=palette.DUNE, linewidth=5, solid_capstyle="butt")
        top.plot([mean], [k], "o", color=palette.INK, markersize=11, markeredgecolor="white")
    top.set_yticks(range(2), [g.label for g in groups[:2]], parse_math=False)
    top.set_ylim(1.6, -0.6)
    top.margins(x=0.12)
    unit = " (%)" if result.percent else ""
    top.set_xlabel(f"{result.metric}{unit}: {result.quantity} of each group with its 95% interval", color=palette.INK)
    for side in ("top", "right", "left"):
        top.spines[side].set_visible(False)
    top.tick_params(axis="y", length=0)
    top.set_title(result.title, loc="left", color=palette.INK, fontweight="bold", parse_math=False)
    return draw_rulers(ruler(result), ax=axes)


def ruler_row(result: Measurement, label: str) -> RulerRow:
    """One result as a row of a ruler that several share."""
    low, high = drawn_limits(result)
    return RulerRow(safe(label), float(result.estimate), float(low), float(high), str(getattr(result, "verdict", "")))


def margins(result: Comparison) -> list[Block]:
    """The tests against the margin, a line each."""
    if not result.margin_tests or result.margin is None:
        return []
    size = numbers.number(result.margin * (100 if result.percent else 1)) + (" pp" if result.percent else "")
    said = {"not_worse": f"not worse by {size} or more", "equivalent": f"equivalent within {size} either way"}
    rows = tuple(
        (said[name], "yes" if test.holds else "not shown", f"p {numbers.p_value(float(test.p_value), result.alpha)}")
        for name, test in result.margin_tests.items()
    )
    return [Grid(("", "", ""), rows, left=(0, 1))]


def effects(found: Mapping[str, EffectSize], alpha: float, alternative: str = "two-sided") -> list[Block]:
    """Effect sizes with their intervals; those aside are named."""
    if not found:
        return []
    rows = []
    for effect in found.values():
        value, low, high = _effect(effect)
        if not effect.aside:
            rows.append((effect.label, value, span(low, high, alternative)))
    aside = ", ".join(effect.label for effect in found.values() if effect.aside)
    blocks: list[Block] = []
    if rows:
        blocks.append(Grid(("effect size", "value", f"{level(1 - alpha)} interval"), tuple(rows)))
    if aside:
        blocks.append(Lines((f"also in .effects: {aside}",)))
    return blocks


def sentence(result: Comparison) -> str:
    """The answer in one sentence."""
    if np.ndim(result.estimate):
        return f"{np.size(result.estimate):,} comparisons of {safe(result.treatment)} with {safe(result.control)}."
    value = amounts(result, sign=False)[0]
    named = safe(f"{result.metric}, {result.treatment} against {result.control}")
    inside = limits_in_words(result, *amounts(result)[1:])
    proof = inside if result.p_value is None else f"{inside}, p {p_word(float(result.p_value), result.alpha)}"
    return f"{_claim(result, named, value)} ({proof}){_lift_words(result)}."


def rows(result: Comparison) -> dict[str, Any]:
    """Columns of a tidy frame."""
    shape = np.shape(result.estimate) or (1,)

    def column(value: Any) -> Any:
        return np.broadcast_to(np.asarray(value), shape).ravel()

    table: dict[str, Any] = {
        "metric": column(result.metric),
        "treatment": column(result.treatment),
        "control": column(result.control),
        "estimate": column(result.estimate),
        "low": column(result.interval.low),
        "high": column(result.interval.high),
        "level": column(result.interval.level),
        "p_value": column(np.nan if result.p_value is None else result.p_value),
        "verdict": column(result.verdict),
    }
    for name, effect in result.effects.items():
        table |= {
            name: column(effect.value),
            f"{name}_low": column(effect.interval.low),
            f"{name}_high": column(effect.interval.high),
        }
    for role, group in zip(("treatment", "control"), result.groups, strict=False):
        table |= {f"{role}_n": column(group.n), f"{role}_mean": column(group.mean)}
    return table


def amounts(result: Measurement, *, sign: bool = True) -> tuple[str, str, str]:
    """Estimate and limits as text, in the metric's unit, in percent or in percentage points."""
    factor, unit = (100.0, "%" if isinstance(result, Estimate) else " pp") if result.percent else (1.0, "")
    low_end, high_end = (float(v) for v in drawn_limits(result))
    values = [float(result.estimate) * factor, low_end * factor, high_end * factor]
    if not sign:
        values[0] = abs(values[0])
    width = _half_width(result.estimate, Interval(low_end, high_end, result.interval.level)) * factor
    value, low, high = numbers.together(*values, width=width)
    # The unit stands once, behind the last limit that there is.
    if np.isfinite(values[2]):
        high += unit
    else:
        low += unit
    return value + unit, low, high


def drawn_limits(result: Measurement) -> tuple[Number, Number]:
    """Both limits; the open end of a one-sided interval is infinite, though a share's ends at 1."""
    low, high = result.interval.low, result.interval.high
    if result.alternative == "greater":
        high = np.full(np.shape(high), np.inf) if np.ndim(high) else np.inf
    if result.alternative == "less":
        low = np.full(np.shape(low), -np.inf) if np.ndim(low) else -np.inf
    return low, high


def limits_in_words(result: Measurement, low: str, high: str) -> str:
    """An interval such as "95% interval 1.2 to 3.4", or with one limit."""
    return f"{level(result.interval.level)} interval {span(low, high, result.alternative)}"


def span(low: str, high: str, alternative: str) -> str:
    """Two limits in words, or the one that there is."""
    if low == high == numbers.NO_LIMIT:
        return "without limits"
    return {"greater": f"from {low} up", "less": f"up to {high}"}.get(alternative, f"{low} to {high}")


def _half_width(value: Any, interval: Interval) -> float:
    low, high = float(interval.low), float(interval.high)
    if np.isfinite(low) and np.isfinite(high):
        return (high - low) / 2
    end = low if np.isfinite(low) else high
    return abs(float(value) - end) if np.isfinite(end) else abs(float(value))


def _shares(mean: Any, se: Any) -> tuple[str, str]:
    share, spread = 100 * float(mean), 100 * float(se)
    return (f"{numbers.together(share, width=spread or None)[0]}%", f"{numbers.number(spread)} pp")


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
        parts.append(f"df {numbers.number(float(result.df))}")
    if result.critical is not None:
        sign = "±" if result.alternative == "two-sided" else ""
        parts.append(f"critical {sign}{numbers.number(float(result.critical))}")
    parts.append(f"p {numbers.p_value(float(result.p_value), result.alpha)}")
    null, usual = getattr(result, "null", None), 1.0 if getattr(result, "ratio", False) else 0.0
    if null is not None and (float(null) != usual or isinstance(result, Estimate)):
        said = numbers.percent(float(null)) if result.percent else numbers.number(float(null))
        parts.append(f"tested {'against' if isinstance(result, Estimate) else 'difference'} {said}")
    return [Lines(("   ".join(parts),))]


def _effect(effect: EffectSize) -> tuple[str, str, str]:
    factor, unit = (100.0, "%") if effect.percent else (1.0, "")
    values = [float(v) * factor for v in (effect.value, effect.interval.low, effect.interval.high)]
    texts = numbers.together(*values, width=_half_width(effect.value, effect.interval) * factor)
    return tuple(t + unit if np.isfinite(v) else t for t, v in zip(texts, values, strict=True))  # type: ignore[return-value]


def p_word(p: float, alpha: float) -> str:
    """A p-value behind its sign, as it stands in a sentence."""
    text = numbers.p_value(p, alpha)
    return text if text.startswith("<") else f"= {text}"


def _claim(result: Comparison, named: str, value: str) -> str:
    direction = "higher" if result.estimate > (1 if result.ratio else 0) else "lower"
    if result.ratio:
        value, direction = f"{value} times", "that of control"
    if result.estimate == (1 if result.ratio else 0):
        value, direction = "equal", "in both"
    verdict = str(result.verdict)
    if verdict in {"better", "worse"}:
        return f"{named}: {verdict}, {value} {direction}"
    if verdict == "undecided":
        null = float(result.null)
        tested = "no difference" if null == (1 if result.ratio else 0) else f"a difference of {numbers.number(null)}"
        return f"{named}: undecided, {value} {direction}, which is in line with {tested}"
    margin = numbers.number((result.margin or 0) * (100 if result.percent else 1)) + (" pp" if result.percent else "")
    return f"{named}: no difference that matters, {value} {direction} and within {margin} either way"


def _lift_words(result: Comparison) -> str:
    effect = result.effects.get("lift")
    if effect is None or not np.isfinite(effect.value):
        return ""
    return f"; a lift of {_effect(effect)[0]}"


def _many(result: Comparison) -> list[Block]:
    table = rows(result)
    factor = 100.0 if result.percent else 1.0
    size = len(table["estimate"])
    lows, highs = (np.broadcast_to(v, np.shape(result.estimate)).ravel() for v in drawn_limits(result))
    body = []
    for k in range(min(size, _MOST_ROWS)):
        own = Interval(float(lows[k]), float(highs[k]), result.interval.level)
        values = [float(v) * factor for v in (table["estimate"][k], own.low, own.high)]
        texts = numbers.together(*values, width=_half_width(table["estimate"][k], own) * factor)
        p = numbers.p_value(float(table["p_value"][k]), result.alpha)
        body.append((str(k + 1), *texts, p, str(table["verdict"][k])))
    header = ("", "estimate, pp" if result.percent else "estimate", "low", "high", "p", "verdict")
    more = f" The first {_MOST_ROWS} are shown; to_frame() has all." if size > _MOST_ROWS else ""
    return [
        Heading(safe(result.title), f"{result.method} · {test_terms(result.alpha, result.alternative)}"),
        *alarms(result.checks),
        Grid(header, tuple(body), left=(0, 5)),
        ruler(result),
        *checks_and_notes(result),
        Lines((sentence(result) + more,), strong=True),
    ]
