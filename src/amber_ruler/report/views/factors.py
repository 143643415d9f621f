"""Two or three factors."""

from __future__ import annotations

from itertools import product
from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.measured import p_word
from amber_ruler.report.views.shared import alarms, checks_and_notes, squares, test_terms

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.measure.factors import Factors
    from amber_ruler.results import SquaresRow

_MOST_ROWS = 60


def layout(result: Factors) -> list[Block]:
    """Title, alarms, cells, squares, simple effects where factors act together, checks, notes, sentence."""
    simple: list[Block] = []
    if _together(result) and len(result.names) == 2:
        simple = [squares(result.simple(name), result.alpha) for name in result.names]
    return [
        Heading(result.title, f"{result.method} · {test_terms(result.alpha, '')}"),
        *alarms(result.checks),
        _cells(result),
        squares(result.squares, result.alpha),
        *simple,
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def _cells(result: Factors) -> Grid:
    rows_ = []
    for cell, g in list(zip(result.cells, result.groups, strict=True))[:_MOST_ROWS]:
        low, high = float(g.more["low"]), float(g.more["high"])
        mean, *ends = numbers.together(float(g.mean), low, high)
        rows_.append((*cell, numbers.whole(g.n), mean, numbers.number(float(g.sd)), *ends))
    return Grid((*result.names, "n", "mean", "sd", "low", "high"), tuple(rows_), left=tuple(range(len(result.names))))


def _together(result: Factors) -> list[SquaresRow]:
    """Interactions that were found."""
    return [r for r in result.squares if " × " in r.label and r.p_value is not None and r.p_value < result.alpha]


def draw(result: Factors, ax: Axes | None = None) -> Axes:
    """Means with intervals, lines by factor, once along each of the first two factors."""
    from amber_ruler.report.drawing import new_axes

    axes = new_axes(ax, height=4.8)
    place = axes.get_subplotspec()
    if place is None:  # an Axes without a place in a grid can't be divided
        _lines(result, axes, 0, 1)
        return axes
    halves = place.subgridspec(1, 2)
    axes.set_subplotspec(halves[0, 0])
    other = axes.figure.add_subplot(halves[0, 1], sharey=axes)
    _lines(result, axes, 0, 1)
    _lines(result, other, 1, 0)
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    return axes


def _lines(result: Factors, axes: Axes, along: int, by: int) -> None:
    """One line for each level of a factor (and of a third one), along the levels of another."""
    others = [k for k in range(len(result.names)) if k != along]
    others.sort(key=lambda k: k != by)
    known = dict(zip(result.cells, result.groups, strict=True))
    ways = list(product(*(result.levels[k] for k in others)))
    for turn, way in enumerate(ways):
        fixed = dict(zip(others, way, strict=True))
        points = []
        for x, level in enumerate(result.levels[along]):
            cell = tuple(level if k == along else fixed[k] for k in range(len(result.names)))
            if cell in known:
                g = known[cell]
                shift = 0.06 * (turn - (len(ways) - 1) / 2)
                points.append((x + shift, float(g.mean), float(g.more["low"]), float(g.more["high"])))
        if not points:
            continue
        xs, means, lows, highs = zip(*points, strict=True)
        colour, dash = palette.LINES[turn % len(palette.LINES)]
        axes.plot(xs, means, dash, color=colour, marker="os^Dv"[turn % 5], markersize=7, label=" · ".join(way))
        for x, low, high in zip(xs, lows, highs, strict=True):  # lines, so that the legend keeps away from them
            axes.plot([x, x], [low, high], color=colour, linewidth=2, alpha=0.6)
    axes.set_xticks(range(len(result.levels[along])), result.levels[along])
    axes.set_xlabel(result.names[along], color=palette.INK)
    axes.set_ylabel(result.metric, color=palette.INK)
    axes.legend(title=result.names[by], frameon=False, fontsize="small", loc="upper left", bbox_to_anchor=(1.0, 1.0))
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.grid(axis="y", color=palette.SAND, linewidth=0.8)
    axes.set_axisbelow(True)


def sentence(result: Factors) -> str:
    """Interactions first: where there is one, a main effect is an average over different effects."""
    together = _together(result)
    named = result.metric
    if together:
        first = together[0]
        p = _p(first, result.alpha)
        return (
            f"{named}: what one factor does depends on the other ({first.label}, p {p}): read the cells and the"
            " effects within levels, not the averages."
        )
    found = [r for r in result.squares if r.p_value is not None and " × " not in r.label]
    parts = [f"{r.label} p {_p(r, result.alpha)}" for r in found]
    shown = [r.label for r in found if r.p_value is not None and r.p_value < result.alpha]
    said = (
        f"{' and '.join(shown)} {'make' if len(shown) > 1 else 'makes'} a difference"
        if shown
        else "no factor is shown to make a difference"
    )
    apart = "" if all(" × " not in r.label for r in result.squares) else "; that they act together is not shown"
    return f"{named}: {said} ({', '.join(parts)}){apart}."


def _p(row: SquaresRow, alpha: float) -> str:
    """The p-value of a tested row."""
    return "" if row.p_value is None else p_word(float(row.p_value), alpha)


def rows(result: Factors) -> list[dict[str, Any]]:
    """A row for each term, with what is left within cells beside it."""
    within = result.squares[-2]
    found = []
    for row in (r for r in result.squares if r.statistic is not None):
        own = {"metric": result.metric, "term": row.label, "squares": row.squares, "mean_square": row.mean_square}
        tested = {"F": row.statistic, "df": row.df, "df_within": within.df, "p_value": row.p_value}
        sizes = {name: float(effect.value) for name, effect in row.effects.items()}
        ends = {
            f"{name}_{end}": float(getattr(effect.interval, end))
            for name, effect in row.effects.items()
            for end in ("low", "high")
        }
        found.append({**own, **tested, **sizes, **ends})
    return found
