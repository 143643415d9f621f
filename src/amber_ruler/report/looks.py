"""Figures of looks: boundaries against information, and a path among them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.numeric import normal
from amber_ruler.report import palette
from amber_ruler.report.drawing import finish, new_axes
from amber_ruler.report.numbers import p_value
from amber_ruler.report.views.measured import amounts
from amber_ruler.results import Comparison

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.results import Measurement
    from amber_ruler.sequential import Boundaries, Monitoring

_LONG = 100.0  # times as many units at the last moment as at the first, from which on they stand on a log scale
_CLOSE = 1.2  # a path so close beyond a boundary would hide its number
_MOST = 6.0  # a boundary further out is drawn as an arrow at the edge


def draw_boundaries(result: Boundaries, ax: Axes | None = None) -> Axes:
    """Where the test stops, look by look."""
    axes = new_axes(ax)
    top = _bounds(axes, result)
    alone = result.rule.alpha / result.sides
    fixed = float(normal.upper_quantile(alone))
    for side in (1, -1) if result.sides == 2 else (1,):
        axes.axhline(side * fixed, color=palette.INK, linewidth=1, linestyle=":")
    said = f"one look alone: {fixed:.2f}"
    axes.annotate(said, (0.005, fixed), xytext=(0, 4), textcoords="offset points", va="bottom", fontsize=10)
    return _finished(axes, result, top)


def draw_path(result: Monitoring, ax: Axes | None = None) -> Axes:
    """The path of z on its boundaries, the look that decides marked."""
    axes = new_axes(ax)
    plan = result.boundaries
    if plan is None:  # read back: the boundaries of the looks so far
        axes.plot(result.fractions, result.bounds, "-o", color=palette.AMBER, label="stop: a difference")
        top = float(max(_MOST, np.abs(result.z).max()))
    else:
        top = _bounds(axes, plan, result.z)
    top = max(top, float(np.abs(result.z).max()) + 0.5)
    t, z = np.append(0.0, result.fractions), np.append(0.0, result.z)
    axes.plot(t, z, "-", color=palette.SEA, linewidth=2.6, zorder=4)
    axes.plot(result.fractions, result.z, "o", color=palette.SEA, markersize=10, markeredgecolor="white", zorder=5,
              label="z seen")  # fmt: skip
    k = result.stopped_at or result.z.size
    x, y = float(result.fractions[k - 1]), float(result.z[k - 1])
    if result.stopped_at is not None:
        axes.plot([x], [y], "o", markersize=20, markerfacecolor="none", markeredgecolor=palette.INK, zorder=6)
    p, units = p_value(float(result.nominal_p[k - 1])), ""
    shown = ""
    if result.latest is not None:
        value, least, most = amounts(result.latest)
        n = sum(float(g.n) for g in result.latest.groups[:2])
        units = f", {n:,.0f} units" if n else ""
        shown = f"\n{result.latest.treatment} − {result.latest.control} {value} ({least} to {most})"
    said = f"look {k}{units}: z = {y:.2f}, p alone {p}{shown}\n{result.decision}"
    room = (min(max(x, 0.2), 0.8), -0.22 * top if y >= 0 else 0.3 * top)
    axes.annotate(said.replace("-", "−", 1) if y < 0 else said, (x, y), xytext=room, va="top", ha="center",
                  fontsize=12, color=palette.INK, fontweight="bold", zorder=7,
                  bbox={"boxstyle": "round", "facecolor": "white", "edgecolor": palette.SAND, "alpha": 0.9},
                  arrowprops={"arrowstyle": "-", "color": palette.STONE, "linestyle": ":", "shrinkB": 10})  # fmt: skip
    name = "" if result.latest is None else f" of {result.latest.metric}".rstrip()
    _scales(axes, top, -top)
    return finish(axes, f"{result.title}{name}")


def draw_moments(result: Measurement, ax: Axes | None = None) -> Axes:
    """The estimate at every moment in the band of what holds by then, and the band of the moment by itself."""
    axes, part = new_axes(ax), result.anytime
    factor = 100.0 if result.percent else 1.0
    at, named = _places(result)
    low, high = (factor * np.asarray(end, float) for end in (result.interval.low, result.interval.high))
    estimate = factor * np.asarray(result.estimate, float)
    null = factor * float(np.min(result.null))
    seen = np.concatenate([e[np.isfinite(e)] for e in (estimate, low[at.size // 8 :], high[at.size // 8 :])])
    room = 0.15 * float(np.ptp(seen)) + 1e-12
    floor, roof = min(float(seen.min()), null) - room, max(float(seen.max()), null) + room
    axes.axhline(null, color=palette.INK, linewidth=1.2, zorder=1)
    axes.fill_between(
        at, np.clip(low, floor, roof), np.clip(high, floor, roof), color=palette.SAND, zorder=0, label="holds by now"
    )
    if part is not None:
        for end, said in ((part.now.low, "of the moment by itself"), (part.now.high, None)):
            shown = np.clip(factor * np.asarray(end, float), floor, roof)
            axes.plot(at, shown, ":", color=palette.STONE, linewidth=1.2, label=said)
    axes.plot(at, estimate, "-", color=palette.AMBER, linewidth=2.4, zorder=3, label="estimate")
    out = np.flatnonzero(np.asarray(result.p_value) < result.alpha)
    if out.size:
        k = int(out[0])
        said = f"first beyond {null:g}: {named} {result.axis.labels[k] if result.axis else k + 1}"
        axes.plot([at[k]], [estimate[k]], "o", color=palette.SEA, markersize=12, markeredgecolor="white", zorder=4,
                  label=said)  # fmt: skip
    axes.set_ylim(floor, roof)
    value = f"{estimate[-1]:.3g} ({low[-1]:.3g} to {high[-1]:.3g})".replace("-", "−")
    axes.annotate(value, (at[-1], estimate[-1]), xytext=(-6, 10), textcoords="offset points", ha="right", fontsize=11,
                  color=palette.INK, fontweight="bold")  # fmt: skip
    who = f"{result.treatment} − {result.control}" if isinstance(result, Comparison) else getattr(result, "label", "")
    unit = (" (pp)" if isinstance(result, Comparison) else " (%)") if result.percent else ""
    usual = "difference" if isinstance(result, Comparison) else result.quantity
    axes.set_ylabel(f"{result.metric or usual}, {who}{unit}", color=palette.INK)
    axes.set_xlabel(named, color=palette.INK)
    if at[-1] > _LONG * at[0] > 0:
        axes.set_xscale("log")
        axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    axes.legend(frameon=False, labelcolor=palette.INK, loc="upper right")
    return finish(axes, result.title)


def _places(result: Measurement) -> tuple[Floats, str]:
    """Where the moments stand: at their labels, where those are numbers."""
    size = np.size(result.estimate)
    if result.axis is None:
        return np.arange(1.0, size + 1), "moment"
    try:
        found = np.array([float(label) for label in result.axis.labels])
    except ValueError:
        return np.arange(1.0, size + 1), result.axis.name
    return found, result.axis.name


def _bounds(axes: Axes, plan: Boundaries, path: Floats | None = None) -> float:
    """Boundaries and the regions beyond them, their numbers off the path; returns how far the scale goes."""
    finite = plan.z[np.isfinite(plan.z)]
    top = min(float(finite.max()), _MOST) + 0.7
    t = plan.fractions
    _side(axes, t, plan.z, top, palette.AMBER, "stop: a difference", path)
    if np.any(np.isfinite(plan.lower)):
        said = None if plan.sides == 2 else "stop: harm"
        _side(axes, t, plan.lower, -top, palette.AMBER if plan.sides == 2 else palette.BRICK, said, path)
    if plan.futility is not None:
        seen = np.isfinite(plan.futility)
        edge = plan.futility[seen]
        low = -edge if plan.sides == 2 else np.full(edge.size, -top)
        axes.fill_between(t[seen], low, edge, color=palette.SAND, zorder=0)
        axes.plot(t[seen], edge, "--s", color=palette.INK, linewidth=1.6, markersize=5, label="give up")
        if plan.sides == 2:
            axes.plot(t[seen], low, "--s", color=palette.INK, linewidth=1.6, markersize=5)
    axes.axhline(0, color=palette.INK, linewidth=1.2)
    return top


def _side(
    axes: Axes, t: Floats, bound: Floats, top: float, colour: str, label: str | None, path: Floats | None
) -> None:
    seen = np.isfinite(bound)
    shown = np.clip(bound[seen], -abs(top), abs(top))
    axes.plot(t[seen], shown, "-o", color=colour, linewidth=2.4, markersize=7, label=label, zorder=3)
    axes.fill_between(t[seen], shown, 10 * top, color=colour, alpha=0.12, zorder=0, linewidth=0)
    beyond = np.full(t.size, np.nan)  # how far the path is beyond the boundary
    if path is not None:
        beyond[: path.size] = (path - bound[: path.size]) * np.sign(top)
    for x, z, drawn, past in zip(t[seen], bound[seen], shown, beyond[seen], strict=True):
        if seen.sum() <= 12:
            up = (top > 0) != (-0.2 < past < _CLOSE)
            axes.annotate(
                f"{z:.2f}".replace("-", "−"), (x, drawn), xytext=(0, 8 if up else -8), textcoords="offset points",
                ha="center", va="bottom" if up else "top", fontsize=10, color=palette.INK,
            )  # fmt: skip


def _finished(axes: Axes, plan: Boundaries, top: float) -> Axes:
    bottom = -top
    if plan.sides == 1 and not np.any(np.isfinite(plan.lower)):
        least = 0.0 if plan.futility is None else float(np.min(plan.futility[np.isfinite(plan.futility)]))
        bottom = max(min(least, 0.0) - 1.0, -top)
    _scales(axes, top, bottom)
    return finish(axes, plan.title)


def _scales(axes: Axes, top: float, bottom: float) -> None:
    axes.set_ylim(bottom - 0.3, top + 0.6)
    axes.set_xlim(0, 1.04)
    axes.xaxis.set_major_formatter(lambda v, _: f"{100 * v:.0f}%")
    axes.yaxis.set_major_formatter(lambda v, _: f"{v:g}".replace("-", "−"))
    axes.set_xlabel("share of the planned information", color=palette.INK)
    axes.set_ylabel("z of treatment − control", color=palette.INK)
    axes.legend(frameon=False, labelcolor=palette.INK, loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=4)
