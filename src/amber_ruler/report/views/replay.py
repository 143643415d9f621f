"""An analysis replayed on one's own units."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.drawing import new_axes
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.resample import Replay

_WIDE = 1.96  # Monte-Carlo errors to each side
SAID = {
    "kept": "trust it",
    "exceeded": "it claims too much: don't trust it as it is",
    "not used up": "it claims less than it may: safe, and blunt",
}


def layout(result: Replay) -> list[Block]:
    """What was promised and what was seen; what would be found."""
    alpha, level = _whole(result.alpha), _whole(1 - result.alpha)
    false = _share(result.false_alarms, result.false_error)
    rows_ = [
        ("claims a difference where there is none", false, alpha),
        ("intervals that hold no difference", numbers.percent(result.coverage), level),
    ]
    if result.uniform is not None:
        rows_.append(("p is uniform: p of that", numbers.p_value(result.uniform), ""))
    if result.power is not None and result.power_error is not None:
        planted = _size(result, float(result.effect or 0.0))
        rows_.append((f"finds the planted {planted}", _share(result.power, result.power_error), ""))
        if result.effect_coverage is not None:
            rows_.append(("intervals that hold it", numbers.percent(result.effect_coverage), level))
    rows_.append(("half-width of the interval", numbers.number(result.half_width), ""))
    if result.detectable is not None:
        rows_.append(("difference found in 80%", _size(result, result.detectable), ""))
    return [
        Heading(result.title, result.method),
        Grid(("", "seen", "promised"), tuple(rows_)),
        ruler(result),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def ruler(result: Replay) -> Ruler:
    """The realised error rate with its Monte-Carlo interval; the mark is alpha."""
    reach = _WIDE * result.false_error
    row = RulerRow(
        "false claims", result.false_alarms, max(result.false_alarms - reach, 0.0), result.false_alarms + reach
    )
    return Ruler((row,), centre=result.alpha, percent=True, unit="%")


def sentence(result: Replay) -> str:
    """What a colleague may rely on."""
    found = ""
    if result.detectable is not None:
        found = f" It finds {_size(result, result.detectable)} in 80% of the runs."
    return (
        f"On {result.metric} with {numbers.whole(result.units)} units the {_whole(result.alpha)} test claims"
        f" a difference that is not there in {_share(result.false_alarms, result.false_error)} of"
        f" {result.runs:,} runs: {SAID[result.sound]}.{found}"
    )


def rows(result: Replay) -> dict[str, Any]:
    """Columns of a tidy frame."""
    names = (
        "metric", "units", "share", "runs", "alpha", "mean", "false_alarms", "false_error", "coverage", "uniform",
        "half_width", "detectable", "effect", "power", "power_error", "effect_coverage",
    )  # fmt: skip
    return {name: [getattr(result, name)] for name in names}


def caption(result: Replay) -> tuple[str, str]:
    """Title and units of the figure."""
    return result.title[:1].upper() + result.title[1:], ""


def draw(result: Replay, ax: Axes | None = None) -> Axes:
    """P-values in twentieths, beside as many as there should be in each."""
    axes = new_axes(ax, height=4.6)
    size = len(result.counts)
    share = [count / result.runs for count in result.counts]
    edges = [k / size for k in range(size)]
    odd = palette.BRICK if result.sound == "exceeded" else palette.AMBER
    colours = [odd if edge < result.alpha else palette.AMBER for edge in edges]
    axes.bar(edges, share, width=1 / size, align="edge", color=colours, edgecolor="white", linewidth=1.2)
    expected = 1 / size
    reach = 2 * (expected * (1 - expected) / result.runs) ** 0.5
    axes.axhspan(expected - reach, expected + reach, color=palette.SAND, zorder=0, label="by chance")
    axes.axhline(expected, color=palette.INK, linewidth=1.2, linestyle="--", label="promised")
    axes.set_xlim(0, 1)
    axes.set_ylim(0, max(*share, expected + 2 * reach) * 1.25)
    axes.set_xlabel("p where there is no difference", color=palette.INK)
    axes.set_ylabel("share of runs", color=palette.INK)
    axes.yaxis.set_major_formatter(lambda value, _: f"{100 * value:.3g}%")
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    said = f"{_share(result.false_alarms, result.false_error)} below {result.alpha:g}: {SAID[result.sound]}"
    axes.annotate(
        said,
        (0.02, 0.96),
        xycoords="axes fraction",
        va="top",
        color=palette.INK,
        fontweight="bold",
        annotation_clip=False,
    )
    axes.legend(loc="upper right", frameon=False)
    return axes


def _whole(share: float) -> str:
    return f"{100 * share:g}%"


def _share(value: float, error: float) -> str:
    return f"{numbers.percent(value)} ± {numbers.number(100 * _WIDE * error, digits=2)} pp"


def _size(result: Replay, difference: float) -> str:
    lift = f" ({numbers.percent(difference / result.mean)} of the mean)" if result.mean else ""
    return f"{numbers.number(difference)}{lift}"
