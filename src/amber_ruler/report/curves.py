"""Curves of a plan: power against units, the detectable effect against time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.drawing import new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan import PlanAnswer, PlanGrid

_POINTS = 121
_LINES = ((palette.AMBER, "-"), (palette.SEA, "--"), (palette.BRICK, "-."), (palette.INK, ":"), (palette.DUNE, "-"))


def power_by_units(result: PlanAnswer, ax: Axes | None) -> Axes:
    """Power against units for the plan's effect and for a quarter less and more, the answer marked."""
    axes = new_axes(ax)
    most = 2.2 * result.n
    curves = [(result.effect * factor, factor == 1) for factor in (0.75, 1.0, 1.25)] if result.effect else [(0.0, True)]
    for k, (effect, main) in enumerate(sorted(curves, key=lambda c: not c[1])):
        n = _units_upto(most)
        power = _power(result.design, n, effect=effect)
        _line(axes, n, power, k, _effect_said(effect, result.percent), width=2.6 if main else 1.6)
    _mark(axes, result.n, float(result.power or 0), f"{result.n:,} · {numbers.percent(result.power or 0)}")
    _target(axes, result.target_power)
    return _power_axes(axes, result, most)


def scenarios(result: PlanGrid, ax: Axes | None) -> Axes:
    """Power against units, a line for every effect, the scenarios marked."""
    axes = new_axes(ax)
    columns = {name: np.array([np.nan if v is None else v for v in values]) for name, values in result.columns.items()}
    size = columns["n"] if "n" in columns else columns[next(c for c in ("control", *columns) if c in columns)]
    others = [name for name in result.varied if name not in {"n", "power", "weeks"}]
    keys = list(zip(*(columns[name] for name in others), strict=True)) if others else [()] * size.size
    most = 1.15 * float(np.nanmax(size)) if np.isfinite(size).any() else 100.0
    for k, key in enumerate(dict.fromkeys(keys)):
        mine = np.array([other == key for other in keys]) & np.isfinite(size)
        if not mine.any() or k >= len(_LINES):
            continue
        first = int(np.argmax(mine))
        own = {name: columns[name][first] for name in columns if name in _fields(result) and name != "n"}
        n = _units_upto(most)
        power = _power(result.design, n, effect=columns["effect"][first], **own)
        said = ", ".join(_named(name, columns[name][first], result.percent) for name in others)
        _line(axes, n, power, k, said or _effect_said(columns["effect"][first], result.percent))
        axes.plot(size[mine], columns["power"][mine], "o", color=_LINES[k][0], markersize=8, markeredgecolor="white", zorder=4)
    for target in dict.fromkeys(columns.get("target power", np.array([]))):
        _target(axes, float(target))
    return _power_axes(axes, result, most)


def effect_by_time(result: PlanGrid, ax: Axes | None) -> Axes:
    """The detectable effect against weeks, or units, of traffic."""
    axes = new_axes(ax)
    columns = {name: np.array([np.nan if v is None else v for v in values]) for name, values in result.columns.items()}
    along = "weeks" if "weeks" in columns else "n"
    others = [name for name in result.varied if name != along]
    factor = 100 if result.percent else 1
    keys = list(zip(*(columns[name.replace("power", "target power")] for name in others), strict=True)) if others else []
    for k, key in enumerate(dict.fromkeys(keys) if keys else [()]):
        mine = np.array([other == key for other in keys]) if keys else np.ones(columns[along].size, dtype=bool)
        said = ", ".join(_named(name, value, result.percent) for name, value in zip(others, key, strict=True))
        colour, dash = _LINES[k % len(_LINES)]
        axes.plot(columns[along][mine], factor * columns["effect"][mine], dash, color=colour, linewidth=2.4, label=said)
        axes.plot(columns[along][mine], factor * columns["effect"][mine], "o", color=colour, markersize=7, markeredgecolor="white")
    axes.axhline(0, color=palette.INK, linewidth=1.2)
    axes.set_ylabel("detectable effect (pp)" if result.percent else "detectable effect", color=palette.INK)
    axes.set_xlabel("weeks of traffic" if along == "weeks" else "units", color=palette.INK)
    if others:
        axes.legend(frameon=False, labelcolor=palette.INK)
    return _finish(axes, result.title)


def width_by_units(result: PlanAnswer, ax: Axes | None) -> Axes:
    """Half-width of the interval against units, the answer marked."""
    axes = new_axes(ax)
    n = _units_upto(2.5 * result.n)
    n = n[n >= 0.2 * result.n]
    design: Any = result.design
    factor = 100 if result.percent else 1
    half = factor * design._half_width(np.asarray(result.effect), design._analysed(design._recruits(n)))
    axes.plot(n, half, color=palette.AMBER, linewidth=2.6)
    _mark(axes, result.n, factor * float(result.half_width or 0), f"{result.n:,}")
    axes.set_xlabel(_axis_said(result), color=palette.INK)
    axes.set_ylabel("half-width of the interval" + (" (pp)" if result.percent else ""), color=palette.INK)
    axes.set_ylim(bottom=0)
    return _finish(axes, result.title)


def _units_upto(most: float) -> Floats:
    return np.unique(np.ceil(np.linspace(most / _POINTS, most, _POINTS)))


def _power(design: Any, n: Floats, *, effect: float, **own: float) -> Floats:
    from dataclasses import replace

    asked = replace(design, **own)
    return np.asarray(asked._power_with(np.asarray(effect), asked._recruits(np.maximum(n, asked._least()))))


def _fields(result: PlanGrid) -> set[str]:
    import dataclasses

    return {f.name for f in dataclasses.fields(result.design)}


def _line(axes: Axes, n: Floats, power: Floats, k: int, said: str, width: float = 2.2) -> None:
    colour, dash = _LINES[k % len(_LINES)]
    axes.plot(n, power, dash, color=colour, linewidth=width, label=said, zorder=3)


def _mark(axes: Axes, x: float, y: float, said: str) -> None:
    axes.plot([x], [y], "o", color=palette.AMBER, markersize=11, markeredgecolor="white", zorder=5)
    axes.annotate(said, (x, y), xytext=(12, -16), textcoords="offset points", color=palette.INK, fontweight="bold")


def _target(axes: Axes, target: float | None) -> None:
    if target is not None:
        axes.axhline(target, color=palette.STONE, linewidth=1, linestyle=(0, (2, 3)), zorder=1)


def _power_axes(axes: Axes, result: PlanAnswer | PlanGrid, most: float) -> Axes:
    axes.set_xlim(0, most)
    axes.set_ylim(0, 1.02)
    axes.set_yticks([0, 0.2, 0.4, 0.6, 0.8, 1.0], ["0%", "20%", "40%", "60%", "80%", "100%"])
    axes.set_ylabel("power", color=palette.INK)
    axes.set_xlabel(_axis_said(result), color=palette.INK)
    axes.legend(frameon=False, labelcolor=palette.INK, loc="lower right")
    return _finish(axes, result.title)


def _axis_said(result: PlanAnswer | PlanGrid) -> str:
    names = result.design._group_names()
    return {"treatment": "units in control", "units": "units", "pairs": "pairs"}.get(names[0], f"units in {names[-1]}")


def _finish(axes: Axes, title: str) -> Axes:
    axes.set_title(title, loc="left", color=palette.INK, fontweight="bold", parse_math=False)
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("bottom", "left"):
        axes.spines[side].set_color(palette.INK)
    axes.tick_params(colors=palette.INK)
    axes.grid(axis="y", color=palette.SAND, linewidth=0.8)
    axes.set_axisbelow(True)
    return axes


def _effect_said(effect: float, percent: bool) -> str:
    return f"effect {numbers.number(100 * effect)} pp" if percent else f"effect {numbers.number(effect)}"


def _named(name: str, value: float, percent: bool) -> str:
    if name == "effect":
        return _effect_said(value, percent)
    if name in {"lift", "power"}:
        return f"{name} {numbers.percent(value)}"
    return f"{name.replace('_', ' ')} {value:,.4g}"
