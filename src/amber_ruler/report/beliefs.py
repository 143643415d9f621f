"""Figures of what is believed: prior and posterior on the ruler, and evidence along prior scales, data or units."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.drawing import draw_rulers, finish, new_axes
from amber_ruler.results import Comparison

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.bayes import Decision
    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan import Assurance, EvidenceForecast
    from amber_ruler.report.blocks import Ruler
    from amber_ruler.results import Measurement
    from amber_ruler.results.parts import Curves, Trace

_POINTS = 361
_LEFT_OUT = 2e-4  # of the posterior on either side of the figure


def prior_and_posterior(result: Measurement, curves: Curves, ruler: Ruler, ax: Axes | None) -> Axes:
    """Both densities above the ruler of the interval, on one scale with the null and the margin."""
    axes = new_axes(ax, height=5.6)
    place = axes.get_subplotspec()
    if place is None:  # an Axes without a place in a grid can't be divided
        return draw_rulers(ruler, ax=axes, title=result.title)
    halves = place.subgridspec(2, 1, height_ratios=[3.2, 1.0], hspace=0.0)
    axes.set_subplotspec(halves[1, 0])
    top = axes.figure.add_subplot(halves[0, 0])
    draw_rulers(ruler, ax=axes)
    low, high = curves.quantiles((_LEFT_OUT,), (_LEFT_OUT,))[0]
    null = float(result.null)
    ends = [low, high, *([null] if ruler.centre is not None else [])]
    if result.margin:
        ends += [null - result.margin, null + result.margin]
    span = max(ends) - min(ends)
    x = np.linspace(min(ends) - 0.05 * span, max(ends) + 0.05 * span, _POINTS)
    if result.percent and not isinstance(result, Comparison):
        x = x[(x > 0) & (x < 1)]
    _shades(top, x, curves, result)
    scale = 100 if result.percent else 1
    _match_scales(axes, x, scale)
    top.set_xlim(axes.get_xlim())
    top.set_ylim(bottom=0)
    top.set_yticks([])
    top.set_xticks([])
    for side in ("top", "right", "left", "bottom"):
        top.spines[side].set_visible(False)
    top.legend(frameon=False, labelcolor=palette.INK, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    top.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    return axes


def _match_scales(axes: Axes, x: Floats, scale: float) -> None:
    """The ruler as wide as the densities, with its own marks."""
    from matplotlib.ticker import AutoMinorLocator, FuncFormatter, MaxNLocator

    axes.set_xlim(x[0], x[-1])
    axes.xaxis.set_major_locator(MaxNLocator(7))
    axes.xaxis.set_minor_locator(AutoMinorLocator(5))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda v, _: f"{v * scale:.6g}".replace("-", "−")))


def _shades(top: Axes, x: Floats, curves: Curves, result: Measurement) -> None:
    posterior = curves.posterior(x)
    inside = (x >= float(result.interval.low)) & (x <= float(result.interval.high))
    level = f"{100 * result.interval.level:g}% interval"
    top.fill_between(x, posterior, where=list(inside), color=palette.AMBER, alpha=0.35, linewidth=0, label=level)
    top.plot(x, posterior, color=palette.AMBER, linewidth=2.6, label="posterior")
    if curves.prior is not None:
        top.plot(x, curves.prior(x), "--", color=palette.SEA, linewidth=1.8, label="prior")
    null = float(result.null)
    if result.margin:
        top.axvspan(null - result.margin, null + result.margin, color=palette.SAND, zorder=0, label="margin")
    if isinstance(result, Comparison) or (result.evidence and result.evidence.chance_better is not None):
        top.axvline(null, color=palette.INK, linewidth=1.2, zorder=1)
    top.set_ylim(top=1.25 * float(np.max(posterior)))


def evidence_along(result: Measurement, trace: Trace, ax: Axes | None) -> Axes:
    """The Bayes factor against what it moves along, with the threshold either way and what is marked."""
    axes = new_axes(ax)
    if trace.along == "prior":
        return _factors_of_priors(result, trace, axes)
    _factor_lines(axes, trace.at, {"Bayes factor": trace.log_factors}, trace.threshold)
    for k, (name, (at, log_factor)) in enumerate(trace.marks.items()):
        axes.plot(
            [at],
            [math.exp(_shown(log_factor))],
            "o",
            color=palette.INK,
            markersize=9,
            markeredgecolor="white",
            zorder=5,
        )
        axes.annotate(
            f"{name}: {_factor(log_factor)}",
            (at, math.exp(_shown(log_factor))),
            xytext=(8, 12 + 14 * (len(trace.marks) - 1 - k)),
            textcoords="offset points",
            color=palette.INK,
            arrowprops={"arrowstyle": "-", "color": palette.STONE, "linewidth": 0.8},
        )
    if trace.marks:  # whose names stand above the line
        axes.set_ylim(top=axes.get_ylim()[1] ** 1.35 if axes.get_ylim()[1] > 1 else None)
    if trace.along == "prior scale":
        axes.set_xscale("log")
        _plain_numbers(axes)
    else:
        axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    said = {"units": "evidence as the data come in"}.get(trace.along, f"evidence along the {trace.along}")
    axes.set_xlabel({"units": "units seen"}.get(trace.along, trace.along), color=palette.INK)
    return finish(axes, f"{result.title}: {said}")


def _factors_of_priors(result: Measurement, trace: Trace, axes: Axes) -> Axes:
    names = result.axis.labels if result.axis else [str(k + 1) for k in range(trace.at.size)]
    size = [_shown(v) / math.log(10) for v in trace.log_factors]
    rows = range(len(size))
    axes.barh(rows, size, color=palette.AMBER, height=0.5)
    for k in rows:
        axes.annotate(f" {_factor(trace.log_factors[k])}", (max(size[k], 0), k), va="center", color=palette.INK)
    axes.set_yticks(rows, list(names))
    axes.invert_yaxis()
    axes.axvline(0, color=palette.INK, linewidth=1.2)
    for side in (-1, 1):
        axes.axvline(side * math.log10(trace.threshold), color=palette.STONE, linestyle=(0, (2, 3)))
    axes.xaxis.set_major_formatter(lambda v, _: numbers.number(10.0**v))
    axes.set_xlabel("Bayes factor", color=palette.INK)
    axes.margins(x=0.15)
    return finish(axes, f"{result.title}: evidence under each prior")


def evidence_by_units(result: EvidenceForecast, ax: Axes | None) -> Axes:
    """Factors to be expected against units, with the chances to pass the threshold below them."""
    axes = new_axes(ax, height=5.6)
    at = np.atleast_1d(np.asarray(result.n, dtype=float))
    known = {
        "just the prior's mean is seen": result.log_factor_at_mean,
        "just no effect is seen": result.log_factor_at_null,
    }
    if result.expected_log_under_effect is not None:
        known["typical if there is an effect"] = result.expected_log_under_effect
    known["typical if there is none"] = result.expected_log_under_null
    style = "o" if at.size == 1 else ""
    _factor_lines(axes, at, {name: np.atleast_1d(v) for name, v in known.items()}, result.threshold, style)
    axes.set_xlabel("units in each group", color=palette.INK)
    if at.size > 2:
        axes.set_xscale("log")
        _plain_numbers(axes)
    axes.legend(frameon=False, labelcolor=palette.INK)
    return finish(axes, f"{result.title}: Bayes factor by units")


def assurance_by_units(result: Assurance, ax: Axes | None) -> Axes:
    """Assurance against units, with its ceiling and the answer."""
    axes = new_axes(ax)
    axes.plot(result.curve_n, result.curve, color=palette.AMBER, linewidth=2.6)
    axes.axhline(result.ceiling, color=palette.SEA, linestyle="--", linewidth=1.4)
    axes.annotate(f"ceiling {numbers.percent(result.ceiling)}", (result.curve_n[0], result.ceiling), xytext=(4, -14),
                  textcoords="offset points", color=palette.SEA)  # fmt: skip
    axes.plot(
        [result.n], [result.assurance], "o", color=palette.AMBER, markersize=11, markeredgecolor="white", zorder=5
    )
    said = f"{result.n:,} · {numbers.percent(result.assurance)}"
    axes.annotate(said, (result.n, result.assurance), xytext=(10, -16), textcoords="offset points",
                  color=palette.INK, fontweight="bold")  # fmt: skip
    axes.set_ylim(0, 1.02)
    axes.yaxis.set_major_formatter(lambda v, _: f"{100 * v:.0f}%")
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    axes.set_ylabel("assurance", color=palette.INK)
    axes.set_xlabel(f"units in {list(result.units)[-1]}", color=palette.INK)
    return finish(axes, result.title)


def value_by_units(result: Decision, ax: Axes | None) -> Axes:
    """What more data are worth against how many they are, less what they cost."""
    axes = new_axes(ax)
    gross = result.horizon * result.sample_values
    most = float(gross.max())
    shown = max(int(np.sum(result.net_values > -0.6 * most)), 12)  # not much further than where it is paid for
    axes.plot(result.sizes[:shown], gross[:shown], "--", color=palette.SEA, linewidth=1.8, label="worth")
    net = result.net_values[:shown]
    axes.plot(result.sizes[:shown], net, color=palette.AMBER, linewidth=2.6, label="worth less cost")
    axes.yaxis.set_major_formatter(lambda v, _: f"{v:,.6g}".replace("-", "−"))
    axes.axhline(0, color=palette.INK, linewidth=1.2)
    if result.best_n:
        k = int(np.argmax(result.net_values))
        axes.plot([result.sizes[k]], [result.net_values[k]], "o", color=palette.AMBER, markersize=11, zorder=5)
        axes.annotate(f"{result.best_n:,}", (result.sizes[k], result.net_values[k]), xytext=(8, 8),
                      textcoords="offset points", color=palette.INK, fontweight="bold")  # fmt: skip
    axes.set_xscale("log")
    _plain_numbers(axes)
    axes.set_xlabel("further units in each group", color=palette.INK)
    axes.set_ylabel(f"{result.metric}, over {result.horizon:,.6g} units", color=palette.INK)
    axes.legend(frameon=False, labelcolor=palette.INK)
    return finish(axes, f"{result.title}: is more data worth its cost?")


def _factor_lines(axes: Axes, at: Floats, lines: dict[str, Any], threshold: float, style: str = "") -> None:
    """Bayes factors on a log scale, with the threshold either way and the words for each side."""
    for k, (name, log_factors) in enumerate(lines.items()):
        colour, dash = palette.LINES[k % len(palette.LINES)]
        axes.plot(
            at, [math.exp(_shown(v)) for v in log_factors], style or dash, color=colour, linewidth=2.4, label=name
        )
    axes.set_yscale("log")
    low, high = axes.get_ylim()
    axes.set_ylim(min(low, 0.7 / threshold), max(high, 1.5 * threshold))
    axes.axhline(1, color=palette.INK, linewidth=1.2)
    axes.axhspan(1 / threshold, threshold, color=palette.SAND, alpha=0.6, zorder=0)
    for level, said in (
        (threshold, f"for an effect from {threshold:g}"),
        (1 / threshold, f"for none below 1/{threshold:g}"),
    ):
        above = level > 1
        axes.annotate(said, (0.995, level), xycoords=("axes fraction", "data"), ha="right", color=palette.STONE,
                      va="bottom" if above else "top", fontsize=9)  # fmt: skip
    axes.yaxis.set_major_formatter(lambda v, _: numbers.number(v) if 1e-4 < v < 1e5 else f"10^{math.log10(v):.0f}")
    axes.set_ylabel("Bayes factor", color=palette.INK)


def _plain_numbers(axes: Axes) -> None:
    from matplotlib.ticker import LogLocator, NullFormatter

    low, high = axes.get_xlim()
    axes.xaxis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0) if high < 2e3 * low else (1.0,)))
    axes.xaxis.set_minor_formatter(NullFormatter())
    axes.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}" if v >= 1 else f"{v:.6g}")


def _shown(log_factor: float) -> float:
    return min(max(float(log_factor), -300.0), 300.0)


def _factor(log_factor: float) -> str:
    return numbers.factor(float(log_factor))
