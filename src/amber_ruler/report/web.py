"""Blocks as HTML: real tables, rulers as drawings with their text, light and dark; nothing runs or is fetched."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Any

from jinja2 import Environment, PackageLoader
from markupsafe import Markup

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.scale import Scale, scale_of

# A drawing of 720 by as much as its rows need, in units that the page scales.
_WIDTH, _LABELS, _RIGHT, _STEP, _FOOT = 720, 190, 96, 30, 34


def fragment(blocks: Sequence[Block]) -> str:
    """One result, with the style it needs."""
    return str(_environment().get_template("fragment.html").render(results=[_drawn(blocks)]))


def page(results: Iterable[Sequence[Block]], title: str) -> str:
    """Results under each other as a whole page."""
    return str(_environment().get_template("page.html").render(results=[_drawn(b) for b in results], title=title))


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
    for block in blocks:
        if isinstance(block, Heading):
            title = block.title
            sign = palette.VERDICTS[block.verdict][0] if block.verdict else ""
            found.append({"kind": "heading", "block": block, "sign": sign, "tone": block.verdict.replace(" ", "-")})
        elif isinstance(block, Grid):
            found.append({"kind": "grid", "block": block, "caption": block.header[0].strip() or title})
        elif isinstance(block, Ruler):
            found.append({"kind": "ruler", "svg": _ruler(block), "said": "; ".join(map(_said, block.rows))})
        elif isinstance(block, Lines):
            signs = [sign for sign, _ in block.signs] or [""] * len(block.lines)
            found.append({"kind": "lines", "lines": list(zip(signs, block.lines, strict=True)), "strong": block.strong})
    return found


def _said(row: RulerRow) -> str:
    value, low, high = numbers.together(row.estimate, row.low, row.high)
    verdict = f", {row.verdict}" if row.verdict else ""
    return f"{row.label}: {value}, {low} to {high}{verdict}"


def _ruler(ruler: Ruler) -> Markup:
    """The drawing: band, zero mark, a bar with its dot for each row, and the graduated scale."""
    scale = scale_of(ruler, most_ticks=6)
    height = _STEP * len(ruler.rows) + _FOOT + 8
    said = "; ".join(map(_said, ruler.rows))
    draw = [
        Markup('<svg viewBox="0 0 {} {}" role="img" aria-label="{}"><title>{}</title>').format(
            _WIDTH, height, said, said
        )
    ]
    foot = _STEP * len(ruler.rows) + 6
    if ruler.centre is not None:
        if ruler.margin:
            left, right = (_across(ruler.centre + side * ruler.margin, scale) for side in (-1, 1))
            draw.append(
                Markup('<rect class="band" x="{:.1f}" y="2" width="{:.1f}" height="{}"/>').format(
                    left, right - left, foot - 2
                )
            )
        draw.append(_line("zero", _across(ruler.centre, scale), 2, _across(ruler.centre, scale), foot))
    for k, row in enumerate(ruler.rows):
        draw += _row(row, k, scale)
    draw += _graduation(ruler, scale, foot)
    return Markup("").join([*draw, Markup("</svg>")])


def _across(value: float, scale: Scale) -> float:
    share = (min(max(value, scale.low), scale.high) - scale.low) / (scale.high - scale.low)
    return _LABELS + share * (_WIDTH - _LABELS - _RIGHT)


def _line(kind: str, x1: float, y1: float, x2: float, y2: float) -> Markup:
    return Markup('<line class="{}" x1="{:.1f}" y1="{:.1f}" x2="{:.1f}" y2="{:.1f}"/>').format(kind, x1, y1, x2, y2)


def _row(row: RulerRow, k: int, scale: Scale) -> list[Markup]:
    y = _STEP * k + 18
    tone = row.verdict.replace(" ", "-") or "plain"
    low, dot, high = (_across(v, scale) for v in (row.low, row.estimate, row.high))
    label = row.label if len(row.label) <= 30 else f"{row.label[:29]}…"
    parts = [
        Markup('<text class="label" x="{}" y="{}" text-anchor="end">{}</text>').format(_LABELS - 12, y + 4, label),
        _line(f"bar {tone}", low, y, high, y),
    ]
    for end, x, side in ((row.low, low, -1), (row.high, high, 1)):
        if math.isfinite(end):
            parts.append(_line(f"end {tone}", x, y - 7, x, y + 7))
        else:  # an arrow says that there is no limit
            parts.append(
                Markup('<path class="arrow {}" d="M{:.1f} {} l{} -6 v12 z"/>').format(tone, x + 8 * side, y, -8 * side)
            )
    parts.append(Markup('<circle class="dot {}" cx="{:.1f}" cy="{}" r="5.5"/>').format(tone, dot, y))
    if row.verdict:
        sign = palette.VERDICTS[row.verdict][0]
        word = {"no difference that matters": "no matter"}.get(row.verdict, row.verdict)
        parts.append(
            Markup('<text class="verdict {}" x="{}" y="{}">{} {}</text>').format(
                tone, _WIDTH - _RIGHT + 12, y + 4, sign, word
            )
        )
    return parts


def _graduation(ruler: Ruler, scale: Scale, foot: float) -> list[Markup]:
    parts = [_line("scale", _LABELS, foot, _WIDTH - _RIGHT, foot)]
    decimals = max(0, scale.decimals - 2) if ruler.percent else scale.decimals
    step = scale.ticks[1] - scale.ticks[0] if len(scale.ticks) > 1 else 0.0
    for j in range(-5, 5 * len(scale.ticks) + 5):
        at = scale.ticks[0] + step * j / 5
        if step and scale.low <= at <= scale.high:
            parts.append(_line("scale minor", _across(at, scale), foot, _across(at, scale), foot + 4))
    for tick in scale.ticks:
        x = _across(tick, scale)
        parts.append(_line("scale", x, foot, x, foot + 8))
        text = "0" if tick == 0 else numbers.fixed(tick * (100 if ruler.percent else 1), decimals)
        if tick == scale.ticks[-1] and ruler.unit:
            text += f" {ruler.unit}"
        parts.append(Markup('<text class="tick" x="{:.1f}" y="{}">{}</text>').format(x, foot + 22, text))
    return parts
