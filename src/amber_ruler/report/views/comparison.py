"""Treatment against control."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Lines, Ruler
from amber_ruler.report.views import many
from amber_ruler.report.views import parts as views_of_parts
from amber_ruler.report.views.measured import (
    OF_ITSELF,
    amounts,
    between,
    effect_texts,
    effects,
    groups,
    heading,
    limits_in_words,
    p_word,
    ruler_row,
    scale_said,
    span,
    test,
    units,
)
from amber_ruler.report.views.shared import alarms, checks_and_notes, level
from amber_ruler.results import Comparison

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_DRAWN = (
    "mean",
    "adjusted mean",
    "ratio",
    "share",
    "adjusted share",
    "rate",
    "quantile",
)  # what stands on the metric's own scale


def layout(result: Comparison) -> list[Block]:
    """Title, alarms, groups, estimate, ruler, test, parts, effects, checks, notes, sentence."""
    if np.ndim(result.estimate):
        return many.layout(result)
    value, low, high = amounts(result)
    return [
        heading(result),
        *alarms(result.checks),
        groups(result),
        Lines((f"{between(result)}  {value}   {limits_in_words(result, low, high)}",), strong=True),
        ruler(result),
        *test(result),
        *margins(result),
        *views_of_parts.blocks(result),
        *effects(result.effects, result.alternative),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Comparison) -> Ruler:
    """The interval on the ruler, below those that a part sets beside it."""
    if np.ndim(result.estimate):
        return many.ruler(result)
    beside = views_of_parts.rulers(result)
    own = ruler_row(result, "adjusted" if beside else between(result))
    unit = "%" if result.quantity in OF_ITSELF else {"share": "pp", "ratio": "times"}.get(result.unit, "")
    return Ruler((*beside, own), float(result.null), result.margin, result.percent, unit, **scale_said(result))


def caption(result: Comparison) -> tuple[str, str]:
    """A figure's title in words, and how many units it is about."""
    n = "" if np.ndim(result.estimate) else units(result)
    counted = f"{n} {'pairs' if result.paired else 'units'}" if n else ""
    weighed = "" if np.ndim(result.estimate) else views_of_parts.weighed(result)
    title = f"{result.metric}: {result.treatment} against {result.control}" if result.treatment else result.title
    return title, " · ".join(part for part in (counted, weighed) if part)


def draw(result: Comparison, ax: Axes | None = None) -> Axes:
    """Each group's value with its interval, above the ruler of the difference."""
    from amber_ruler.report.drawing import draw_rulers, new_axes, write_beside

    drawn = views_of_parts.figure(result, ruler, ax)
    if drawn is not None:
        return drawn
    arms = result.groups
    whole = np.ndim(result.estimate) == 0 and all(np.ndim(g.mean) == 0 for g in arms)
    drawn_apart = whole and result.quantity in _DRAWN and arms and math.isfinite(float(arms[0].se))
    if not drawn_apart or result.strata is not None:
        return draw_rulers(ruler(result), ax=ax, title=result.title)
    below = ruler(result)
    axes = new_axes(ax, height=3.6 + 0.5 * len(below.rows))
    place = axes.get_subplotspec()
    if place is None:  # an Axes without a place in a grid can't be divided
        return draw_rulers(below, ax=axes, title=result.title)
    halves = place.subgridspec(2, 1, height_ratios=[2.0, len(below.rows) + 0.9])
    axes.set_subplotspec(halves[1, 0])
    top = axes.figure.add_subplot(halves[0, 0])
    below = replace(below, rows=tuple(replace(r, beside=tuple(b for b in r.beside if b[0] != "n")) for r in below.rows))
    lines = []
    for k, g in enumerate(arms[:2]):
        factor = 100 if result.percent else 1
        mean, reach = factor * float(g.mean), factor * 1.96 * float(g.se)
        top.plot([mean - reach, mean + reach], [k, k], color=palette.DUNE, linewidth=5, solid_capstyle="butt")
        top.plot([mean], [k], "o", color=palette.INK, markersize=11, markeredgecolor="white")
        value, low, high = numbers.together(mean, mean - reach, mean + reach, width=reach)
        sign = "%" if result.percent else ""
        counted = {} if result.quantity == "rate" else {"n": numbers.whole(float(g.n))}
        lines.append({**counted, result.quantity: value + sign, "95% interval": f"{low} to {high}{sign}"})
    write_beside(top, lines)
    top.set_yticks(range(2), [g.label for g in arms[:2]])
    top.set_ylim(1.6, -0.6)
    top.margins(x=0.12)
    unit = " (%)" if result.percent else ""
    top.set_xlabel(f"{result.metric}{unit}, {result.quantity} of each group", color=palette.INK)
    for side in ("top", "right", "left"):
        top.spines[side].set_visible(False)
    top.tick_params(axis="y", length=0)
    top.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    return draw_rulers(below, ax=axes)


def margins(result: Comparison) -> list[Block]:
    """The tests against the margin, a line each."""
    if not result.margin_tests:
        return []
    size = _margin_words(result)
    said = {"not_worse": f"not worse by {size} or more", "equivalent": f"equivalent within {size} either way"}
    rows = tuple(
        (said[name], "yes" if test.holds else "not shown", f"p {numbers.p_value(float(test.p_value), result.alpha)}")
        for name, test in result.margin_tests.items()
    )
    blocks: list[Block] = [Grid(("", "", ""), rows, left=(0, 1))]
    if result.test is not None and result.test.margin_interval is not None:
        read = replace(result.test, alternative="two-sided")
        if result.margin_lift is not None:
            lift = replace(result.effects["lift"], interval=result.test.margin_interval)
            inside = f"{level(lift.interval.level)} interval of the lift, {span(*effect_texts(lift)[1:], 'two-sided')}"
            return [*blocks, Lines((f"Tests against the margin read the {inside}.",))]
        narrow = replace(result, interval=result.test.margin_interval, test=read)
        _, low, high = amounts(narrow)
        blocks.append(Lines((f"Tests against the margin read the {limits_in_words(narrow, low, high)}.",)))
    return blocks


def sentence(result: Comparison) -> str:
    """The answer in one sentence."""
    if np.ndim(result.estimate):
        return many.sentence(result)
    value = amounts(result, sign=False)[0]
    named = f"{result.metric}, {result.treatment} against {result.control}"
    inside = limits_in_words(result, *amounts(result)[1:])
    proof = inside if result.p_value is None else f"{inside}, p {p_word(float(result.p_value), result.alpha)}"
    proof = "; ".join(part for part in (_values(result), proof) if part)
    clauses = "".join(views_of_parts.clauses(result))
    return f"{_claim(result, named, value)} ({proof}){_lift_words(result)}{clauses}."


def rows(result: Comparison) -> dict[str, Any]:
    """Columns of a tidy frame, one row a comparison."""
    return many.rows(result)


def _claim(result: Comparison, named: str, value: str) -> str:
    direction = "higher" if result.estimate > result.no_effect else "lower"
    if result.scale == "ratio":
        value, direction = f"{value} times", "that of control"
    if result.estimate == result.no_effect:
        value, direction = ("a shift", "of 0") if result.quantity == "rank" else ("equal", "in both")
    if result.quantity == "superiority":
        value, direction = f"a chance of {value}", "to have more"
    if result.quantity == "distance" and result.estimate != 0:
        value, direction = f"distributions {value} apart,", f"treatment {'above' if direction == 'higher' else 'below'}"
    verdict = str(result.verdict)
    if verdict in {"better", "worse", "differ"}:
        return f"{named}: {verdict}, {value} {direction}"
    if verdict == "undecided":
        null = float(result.null)
        what = "ratio" if result.scale == "ratio" else "difference"
        said = numbers.percent(null) if result.quantity == "superiority" else f"a {what} of {numbers.number(null)}"
        tested = "no difference" if null == result.no_effect else said
        return f"{named}: undecided, {value} {direction}, which is in line with {tested}"
    return f"{named}: no difference that matters, {value} {direction} and within {_margin_words(result)} either way"


def _margin_words(result: Comparison) -> str:
    """The margin in its unit, or as a share of the control."""
    if result.margin_lift is not None:
        return f"{100 * result.margin_lift:.6g}% of {result.control}"
    return numbers.number((result.margin or 0) * (100 if result.percent else 1)) + (" pp" if result.percent else "")


def _values(result: Comparison) -> str:
    """What each group has, and of how many units."""
    arms = result.groups[:2]
    if len(arms) < 2 or result.quantity not in _DRAWN or any(np.ndim(g.mean) for g in arms):
        return ""
    if result.percent or result.quantity in ("share", "adjusted share"):
        told = [numbers.percent(float(g.mean)) for g in arms]
    else:
        width = max(float(g.se) for g in arms)
        told = numbers.together(*(float(g.mean) for g in arms), width=width if width > 0 else None)
    if result.paired:
        return f"{told[0]} against {told[1]} in {numbers.whole(float(arms[0].n))} pairs"
    sizes = [numbers.whole(float(g.n)) for g in arms]
    return f"{told[0]} of {sizes[0]} against {told[1]} of {sizes[1]}"


def _lift_words(result: Comparison) -> str:
    effect = result.effects.get("lift")
    if effect is None or not np.isfinite(effect.value):
        return ""
    what = "a lift" if effect.value >= 0 else "a relative difference"
    return f"; {what} of {effect_texts(effect)[0]}"
