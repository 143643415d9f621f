"""Curves of a plan: power against units, the detectable effect against time."""

from __future__ import annotations

from dataclasses import fields
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.drawing import finish, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan import PlanAnswer, PlanGrid
    from amber_ruler.plan.questions import Design
    from amber_ruler.results import Measurement, Survival

_POINTS = 121


def power_by_units(result: PlanAnswer, ax: Axes | None) -> Axes:
    """Power against units for the plan's effect and for a quarter less and more, the answer marked."""
    axes = new_axes(ax)
    n = _units_upto(2.2 * result.n, result.design)
    # Where the power is largest at no effect at all there is one curve only.
    effects = [result.effect * factor for factor in (1.0, 0.75, 1.25)] if result.effect else [0.0]
    for k, effect in enumerate(effects):
        said = _effect_said(effect, percent=result.percent)
        _line(axes, n, _power(result.design, n, effect), k, said, width=1.6 if k else 2.6)
    power = result.power or 0.0
    _mark(axes, result.n, power, f"{result.n:,} · {numbers.percent(power)}")
    _target(axes, result.target_power)
    return _power_axes(axes, result, tuple(result.units), 2.2 * result.n)


def scenarios(result: PlanGrid, ax: Axes | None) -> Axes:
    """Power against units, a line for every effect, the scenarios marked."""
    axes = new_axes(ax)
    columns = _columns(result)
    groups = tuple(name for name in columns if name in {"treatment", "control", "n"} or name.startswith("each of"))
    size = columns["n" if "n" in columns else groups[-1]]
    others = [name for name in result.varied if name not in {"n", "power", "weeks"}]
    most = 1.15 * float(np.nanmax(size)) if np.isfinite(size).any() else 100.0
    n = _units_upto(most, result.design)
    own = [name for name in columns if name in {f.name for f in fields(result.design)}]
    for k, (key, mine) in enumerate(list(_split(columns, others).items())[: len(palette.LINES)]):
        first = int(np.argmax(mine))
        said = ", ".join(_named(name, v, percent=result.percent) for name, v in zip(others, key, strict=True))
        effect = float(columns["effect"][first])
        power = _power(result.design, n, effect, **{name: float(columns[name][first]) for name in own})
        _line(axes, n, power, k, said or _effect_said(effect, percent=result.percent))
        _points(axes, size[mine], columns["power"][mine], k)
    for target in dict.fromkeys(columns.get("target power", np.array([]))):
        _target(axes, float(target))
    return _power_axes(axes, result, groups, most)


def effect_by_time(result: PlanGrid, ax: Axes | None) -> Axes:
    """The detectable effect against weeks, or units, of traffic."""
    axes = new_axes(ax)
    columns = _columns(result)
    along = "weeks" if "weeks" in columns else "n"
    others = ["target power" if name == "power" else name for name in result.varied if name != along]
    factor = 100 if result.percent else 1
    for k, (key, mine) in enumerate(_split(columns, others).items()):
        said = ", ".join(_named(name, v, percent=result.percent) for name, v in zip(others, key, strict=True))
        colour, dash = palette.LINES[k % len(palette.LINES)]
        x, y = columns[along][mine], factor * columns["effect"][mine]
        axes.plot(x, y, dash, color=colour, linewidth=2.4, label=said)
        _points(axes, x, y, k)
    axes.axhline(0, color=palette.INK, linewidth=1.2)
    axes.set_ylabel("detectable effect (pp)" if result.percent else "detectable effect", color=palette.INK)
    axes.set_xlabel("weeks of traffic" if along == "weeks" else "units", color=palette.INK)
    if others:
        axes.legend(frameon=False, labelcolor=palette.INK)
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    return finish(axes, result.title)


def width_by_units(result: PlanAnswer, ax: Axes | None) -> Axes:
    """Half-width of the interval against units, the answer marked."""
    axes = new_axes(ax)
    n = np.unique(np.ceil(np.linspace(0.3, 2.5, 45) * result.n))
    factor = 100 if result.percent else 1
    effect = {"effect": result.effect} if result.effect else {}
    n = n[n >= max(4, result.design.smallest_n)]
    half = [factor * float(result.design.precision(n=int(k), **effect).half_width or 0) for k in n]
    axes.plot(n, half, color=palette.AMBER, linewidth=2.6)
    _mark(axes, result.n, factor * float(result.half_width or 0), f"{result.n:,}", above=True)
    axes.set_xlabel(_axis_said(tuple(result.units)), color=palette.INK)
    axes.set_ylabel("half-width of the interval" + (" (pp)" if result.percent else ""), color=palette.INK)
    axes.set_ylim(bottom=0)
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    return finish(axes, result.title)


def survival(result: Measurement, part: Survival, ax: Axes | None) -> Axes:
    """The share without the event as steps, with limits as bands; who is ahead can be read at any time."""
    axes = new_axes(ax, height=5.2)
    for k, label in enumerate(part.labels):
        colour, dash = palette.LINES[k % len(palette.LINES)]
        end = max(part.last[k], float(part.times[k][-1]) if len(part.times[k]) else 0.0)
        x = np.concatenate([[0.0], part.times[k], [end]])
        kept, low, high = (
            np.concatenate([[1.0], v, v[-1:] if len(v) else [1.0]]) for v in (part.kept[k], part.low[k], part.high[k])
        )
        axes.fill_between(x, low, high, step="post", color=colour, alpha=0.15, linewidth=0, zorder=2)
        median = float(result.groups[k].more["median"])
        said = f"{label}: median {numbers.number(median)}" if np.isfinite(median) else label
        axes.step(x, kept, dash, where="post", color=colour, linewidth=2.2, label=said, zorder=3)
    axes.axhline(0.5, color=palette.STONE, linewidth=0.8, linestyle=":")
    axes.set_xlim(0, max(part.last))
    axes.set_ylim(0, 1)
    axes.yaxis.set_major_formatter(lambda share, _: f"{100 * share:g}%")
    axes.set_xlabel(result.metric, color=palette.INK)
    axes.set_ylabel("without the event", color=palette.INK)
    axes.legend(frameon=False, loc="upper right")
    return finish(axes, result.title)


def _columns(result: PlanGrid) -> dict[str, Floats]:
    return {name: np.array([np.nan if v is None else v for v in values]) for name, values in result.columns.items()}


def _split(columns: dict[str, Floats], others: list[str]) -> dict[tuple[float, ...], NDArray[np.bool_]]:
    """The reachable rows of each combination of the other columns."""
    size = next(iter(columns.values())).size
    keys = list(zip(*(columns[name] for name in others), strict=True)) if others else [()] * size
    reached = np.isfinite(columns["units in total"]) & np.isfinite(columns["effect"])
    rows = {key: np.array([other == key for other in keys]) & reached for key in dict.fromkeys(keys)}
    return {key: mine for key, mine in rows.items() if mine.any()}


def _units_upto(most: float, design: Design) -> Floats:
    units = np.unique(np.ceil(np.linspace(most / _POINTS, most, _POINTS)))
    return units[units >= design.smallest_n]


def _power(design: Design, n: Floats, effect: float, **own: float) -> Floats:
    return np.array(design.grid(effect=effect, n=n, **own).columns["power"], dtype=np.float64)


def _line(axes: Axes, n: Floats, power: Floats, k: int, said: str, width: float = 2.2) -> None:
    colour, dash = palette.LINES[k % len(palette.LINES)]
    axes.plot(n, power, dash, color=colour, linewidth=width, label=said, zorder=3)


def _points(axes: Axes, x: Floats, y: Floats, k: int) -> None:
    axes.plot(
        x, y, "o", color=palette.LINES[k % len(palette.LINES)][0], markersize=9, markeredgecolor="white", zorder=4
    )


def _mark(axes: Axes, x: float, y: float, said: str, *, above: bool = False) -> None:
    axes.plot([x], [y], "o", color=palette.AMBER, markersize=11, markeredgecolor="white", zorder=5)
    beside = (10, 10 if above else -16)
    axes.annotate(said, (x, y), xytext=beside, textcoords="offset points", color=palette.INK, fontweight="bold")


def _target(axes: Axes, target: float | None) -> None:
    if target is not None:
        axes.axhline(target, color=palette.STONE, linewidth=1, linestyle=(0, (2, 3)), zorder=1)


def _power_axes(axes: Axes, result: PlanAnswer | PlanGrid, groups: tuple[str, ...], most: float) -> Axes:
    axes.set_xlim(0, most)
    axes.set_ylim(0, 1.02)
    axes.set_yticks([0, 0.2, 0.4, 0.6, 0.8, 1.0], ["0%", "20%", "40%", "60%", "80%", "100%"])
    axes.set_ylabel("power", color=palette.INK)
    axes.set_xlabel(_axis_said(groups), color=palette.INK)
    if axes.get_legend_handles_labels()[0]:
        axes.legend(frameon=False, labelcolor=palette.INK, loc="lower right")
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    return finish(axes, result.title)


def _axis_said(groups: tuple[str, ...]) -> str:
    name = groups[-1] if groups else "n"
    return {"control": "units in control", "n": "units", "units": "units", "pairs": "pairs"}.get(
        name, f"units in {name}"
    )


def _effect_said(effect: float, *, percent: bool) -> str:
    return f"effect {numbers.number(100 * effect)} pp" if percent else f"effect {numbers.number(effect)}"


def _named(name: str, value: float, *, percent: bool) -> str:
    if name == "effect":
        return _effect_said(value, percent=percent)
    if name in {"lift", "power", "target power"}:
        return f"{name.removeprefix('target ')} {numbers.percent(value)}"
    return f"{name.replace('_', ' ')} {value:,.4g}"
