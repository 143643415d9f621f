"""Blocks as HTML: real tables, rulers as drawings with their text, light and dark; nothing runs or is fetched."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import Any

from jinja2 import Environment, PackageLoader

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow, reworded
from amber_ruler.report.scale import Scale, scale_of
from amber_ruler.report.views.recommendation import reason_words
from amber_ruler.results.display import safe


def fragment(blocks: Sequence[Block]) -> str:
    """One result, with the style it needs."""
    return str(_environment().get_template("fragment.html").render(results=[_drawn(blocks)]))


def page(results: Iterable[Sequence[Block]], title: str) -> str:
    """Results under each other as a whole page."""
    drawn = [_drawn(blocks) for blocks in results]
    return str(_environment().get_template("page.html").render(results=drawn, title=safe(title)))


@lru_cache(maxsize=1)
def _environment() -> Environment:
    loader = PackageLoader("amber_ruler.report", "templates")
    environment = Environment(loader=loader, autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.globals["palette"] = palette
    return environment


def _drawn(blocks: Sequence[Block]) -> list[dict[str, Any]]:
    """Each block as what its template needs."""
    found: list[dict[str, Any]] = []
    title = ""
    for raw in blocks:
        block = reworded(raw, safe)
        if isinstance(block, Heading):
            title = block.title
            sign = palette.VERDICTS[block.verdict][0] if block.verdict else ""
            found.append({"kind": "heading", "block": block, "sign": sign, "tone": block.verdict.replace(" ", "-")})
        elif isinstance(block, Grid):
            found.append({"kind": "grid", "block": block, "caption": block.header[0].strip() or title})
        elif isinstance(block, Ruler):
            found.append(_ruler(block))
        elif isinstance(block, Lines):
            signs = [sign for sign, _ in block.signs] or [""] * len(block.lines)
            found.append({"kind": "lines", "lines": list(zip(signs, block.lines, strict=True)), "strong": block.strong})
    return found


def _ruler(ruler: Ruler) -> dict[str, Any]:
    """Places on the drawing as percentages of its width, so that text keeps its size on any screen."""
    scale = scale_of(ruler, most_ticks=6)
    zero = None if ruler.centre is None else _across(ruler.centre, scale)
    band = None
    if ruler.centre is not None and ruler.margin:
        left, right = (_across(ruler.centre + side * ruler.margin, scale) for side in (-1, 1))
        band = (left, right - left)
    decimals = max(0, scale.decimals - 2) if ruler.percent else scale.decimals
    ticks = []
    for tick in scale.ticks:
        text = "0" if tick == 0 else numbers.fixed(tick * (100 if ruler.percent else 1), decimals)
        unit = f" {ruler.unit}" if tick == scale.ticks[-1] and ruler.unit else ""
        ticks.append((_across(tick, scale), text + unit))
    return {
        "kind": "ruler",
        "rows": [_row(row, scale) for row in ruler.rows],
        "zero": zero,
        "band": band,
        "ticks": ticks,
        "minor": _minor(scale),
    }


def _row(row: RulerRow, scale: Scale) -> dict[str, Any]:
    low, dot, high = (_across(v, scale) for v in (row.low, row.estimate, row.high))
    return {
        "label": row.label,
        "said": _said(row),
        "tone": row.verdict.replace(" ", "-") or "plain",
        "sign": palette.VERDICTS[row.verdict][0] if row.verdict else "",
        "word": {"no difference that matters": "no matter"}.get(row.verdict, row.verdict),
        "low": low,
        "dot": dot,
        "high": high,
        "ends": [(x, side, math.isfinite(end)) for end, x, side in ((row.low, low, -1), (row.high, high, 1))],
    }


def _said(row: RulerRow) -> str:
    value, low, high = numbers.together(row.estimate, row.low, row.high)
    verdict = f", {row.verdict}" if row.verdict else ""
    return f"{row.label}: {value}, {low} to {high}{verdict}"


def _across(value: float, scale: Scale) -> float:
    return 100 * (min(max(value, scale.low), scale.high) - scale.low) / (scale.high - scale.low)


def _minor(scale: Scale) -> list[float]:
    """Five small marks between two large ones, to both ends of the scale."""
    if len(scale.ticks) < 2:
        return []
    step = scale.ticks[1] - scale.ticks[0]
    places = (scale.ticks[0] + step * j / 5 for j in range(-5, 5 * len(scale.ticks) + 5))
    return [_across(at, scale) for at in places if scale.low <= at <= scale.high]


def report(page: Any, signs: Sequence[tuple[str, str, str, str, str]]) -> str:
    """An experiment's report: the decision first, then its sections."""
    recommendation = page.recommendation
    decisions = [
        {
            "word": word,
            "sign": sign,
            "said": safe(said.format(treatment)),
            "because": safe(
                reason_words(recommendation.reasons[treatment][-1]) if recommendation.reasons[treatment] else ""
            ),
            "otherwise": safe(recommendation.overridden.get(treatment, "")),
        }
        for treatment, word, sign, _, said in signs
    ]
    sections = [
        {
            "key": one.key,
            "title": safe(one.title),
            "blocks": _drawn(one.blocks) if one.blocks else [],
            "charts": [_chart(daily) for daily in one.days],
        }
        for one in page.sections
    ]
    head = {"name": safe(page.name), "hypothesis": safe(page.hypothesis), "facts": safe(page.facts)}
    return str(_environment().get_template("report.html").render(page=head, decisions=decisions, sections=sections))


_MOST_DAYS, _DAYS_TOLD = 120, 8


def _chart(daily: Any) -> dict[str, Any]:
    """A series a variant, in percentages of the drawing."""
    days = daily.days[-_MOST_DAYS:]
    start = len(daily.days) - len(days)
    series = {label: groups[start:] for label, groups in daily.groups.items()}
    means = [float(g.mean) for groups in series.values() for g in groups if g is not None]
    low, high = min(means), max(means)
    room = (high - low) * 0.08 or 1.0
    low, high = low - room, high + room

    def x(k: int) -> float:
        return round(6 + 92 * k / max(len(days) - 1, 1), 2)

    def y(value: float) -> float:
        return round(100 * (high - value) / (high - low), 2)

    lines = []
    for groups in series.values():
        known = [(k, float(g.mean)) for k, g in enumerate(groups) if g is not None]
        lines.append([(x(a), y(v), x(b), y(w)) for (a, v), (b, w) in pairwise(known)])
    step = max(1, -(-len(days) // _DAYS_TOLD))
    ticks = [low + room + (high - low - 2 * room) * part for part in (0.0, 0.5, 1.0)]
    return {
        "title": safe(daily.title),
        "said": safe(daily.sentence()),
        "labels": [safe(label) for label in series],
        "lines": lines,
        "days": [(x(k), safe(day)) for k, day in enumerate(days) if k % step == 0],
        "ticks": [(y(value), numbers.number(value)) for value in ticks],
    }
