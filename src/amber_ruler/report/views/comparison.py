"""Treatment against control."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.numbers import safe
from amber_ruler.report.views.shared import alarms, checks_and_notes, level, test_terms
from amber_ruler.results import Comparison, EffectSize, Interval

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Number

_MOST_ROWS = 20


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
        *_test(result),
        *effects(result),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def heading(result: Comparison) -> Heading:
    """Title and verdict, method and error rate."""
    return Heading(
        safe(result.title), f"{result.method} · {test_terms(result.alpha, result.alternative)}", str(result.verdict)
    )


def groups(result: Comparison) -> Grid:
    """Both groups and their units together."""
    one, two = result.groups
    if result.percent:
        header = ("", "n", "successes", "share", "se")
        rows = [
            (safe(g.label), numbers.whole(g.n), numbers.whole(round(float(g.n * g.mean))), *_shares(g.mean, g.se))
            for g in (one, two)
        ]
    else:
        header = ("", "n", "mean", "sd", "se")
        means = numbers.together(float(one.mean), float(two.mean), width=float(max(one.se, two.se)))
        rows = [
            (safe(g.label), numbers.whole(g.n), mean, numbers.number(float(g.sd)), numbers.number(float(g.se)))
            for g, mean in zip((one, two), means, strict=True)
        ]
    total = ("in total", numbers.whole(one.n + two.n), *("" for _ in header[2:]))
    return Grid(header, (*rows, total))


def estimate_line(result: Comparison) -> Lines:
    """The difference, said with both labels."""
    value, low, high = amounts(result)
    name = safe(f"{result.treatment} − {result.control}")
    return Lines((f"{name}  {value}   {limits_in_words(result, low, high)}",), strong=True)


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
        rows = (ruler_row(result, f"{result.treatment} − {result.control}"),)
    return Ruler(rows, float(np.min(result.null)), result.margin, result.percent, "pp" if result.percent else "")


def ruler_row(result: Comparison, label: str) -> RulerRow:
    """One result as a row of a ruler that several share."""
    low, high = drawn_limits(result)
    return RulerRow(safe(label), float(result.estimate), float(low), float(high), str(result.verdict))


def effects(result: Comparison) -> list[Block]:
    """Effect sizes with their intervals."""
    if not result.effects:
        return []
    rows = []
    for effect in result.effects.values():
        value, low, high = _effect(effect)
        rows.append((effect.label, value, span(low, high, result.alternative)))
    return [Grid(("effect size", "value", f"{level(1 - result.alpha)} interval"), tuple(rows))]


def sentence(result: Comparison) -> str:
    """The answer in one sentence."""
    if np.ndim(result.estimate):
        return f"{np.size(result.estimate):,} comparisons of {safe(result.treatment)} with {safe(result.control)}."
    value = amounts(result, sign=False)[0]
    named = safe(f"{result.metric}, {result.treatment} against {result.control}")
    inside = limits_in_words(result, *amounts(result)[1:])
    proof = inside if result.p_value is None else f"{inside}, p {_p_word(float(result.p_value), result.alpha)}"
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


def amounts(result: Comparison, *, sign: bool = True) -> tuple[str, str, str]:
    """Estimate and limits as text, in the metric's unit or in percentage points."""
    factor, unit = (100.0, " pp") if result.percent else (1.0, "")
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


def drawn_limits(result: Comparison) -> tuple[Number, Number]:
    """Both limits; the open end of a one-sided interval is infinite, though a share's ends at 1."""
    low, high = result.interval.low, result.interval.high
    if result.alternative == "greater":
        high = np.full(np.shape(high), np.inf) if np.ndim(high) else np.inf
    if result.alternative == "less":
        low = np.full(np.shape(low), -np.inf) if np.ndim(low) else -np.inf
    return low, high


def limits_in_words(result: Comparison, low: str, high: str) -> str:
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


def _test(result: Comparison) -> list[Block]:
    if result.p_value is None or result.statistic is None:
        return []
    parts = [f"{result.statistic_name} {numbers.number(float(result.statistic))}"]
    if result.df is not None:
        parts.append(f"df {numbers.number(float(result.df))}")
    parts.append(f"p {numbers.p_value(float(result.p_value), result.alpha)}")
    if float(result.null) != 0:
        parts.append(f"tested difference {numbers.number(float(result.null))}")
    return [Lines(("   ".join(parts),))]


def _effect(effect: EffectSize) -> tuple[str, str, str]:
    factor, unit = (100.0, "%") if effect.percent else (1.0, "")
    values = [float(v) * factor for v in (effect.value, effect.interval.low, effect.interval.high)]
    texts = numbers.together(*values, width=_half_width(effect.value, effect.interval) * factor)
    return tuple(t + unit if np.isfinite(v) else t for t, v in zip(texts, values, strict=True))  # type: ignore[return-value]


def _p_word(p: float, alpha: float) -> str:
    text = numbers.p_value(p, alpha)
    return text if text.startswith("<") else f"= {text}"


def _claim(result: Comparison, named: str, value: str) -> str:
    direction = "higher" if result.estimate > 0 else "lower"
    verdict = str(result.verdict)
    if verdict in {"better", "worse"}:
        return f"{named}: {verdict}, {value} {direction}"
    if verdict == "undecided":
        null = float(result.null)
        tested = "no difference" if null == 0 else f"a difference of {numbers.number(null)}"
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
