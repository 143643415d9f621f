"""Several groups, and whether any differs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.measured import degrees, effects, p_word
from amber_ruler.report.views.shared import alarms, checks_and_notes, squares, test_terms

if TYPE_CHECKING:
    from amber_ruler.measure.groups import Groups
    from amber_ruler.results import Group

_MOST_ROWS = 40

_TWO = "The F of the table is that of equal spreads; the test is the F that lets each group keep its own:"


def layout(result: Groups) -> list[Block]:
    """Title, alarms, groups, their intervals, squares, test, effects, checks, notes, sentence."""
    return [
        Heading(result.title, f"{result.method} · {test_terms(result.alpha, '')}"),
        *alarms(result.checks),
        _groups(result),
        ruler(result),
        *([squares(result.squares, result.alpha)] if result.squares else []),
        *([Lines((_TWO,))] if result.squares and result.compared == "unequal" else []),
        Lines((_test(result),), strong=True),
        *effects(result.effects),
        *checks_and_notes(result),
        Lines((sentence(result),), strong=True),
    ]


def _groups(result: Groups) -> Grid:
    some = result.groups[:_MOST_ROWS]
    more = tuple(some[0].more)
    ranked = result.compared == "ranks"
    widths = [float(g.more["75%"] - g.more["25%"]) / 2 if ranked else float(g.se) for g in some]
    rows_ = []
    for g, width in zip(some, widths, strict=True):
        mean, *rest = numbers.together(float(g.mean), *(float(v) for v in g.more.values()), width=width or None)
        own = () if ranked else (numbers.number(float(g.sd)), numbers.number(float(g.se)))
        rows_.append((g.label, numbers.whole(g.n), mean, *own, *rest))
    columns = ("median",) if ranked else ("mean", "sd", "se")
    blank = ("",) * (len(columns) + len(more))
    rows_.append(("in total", numbers.whole(sum(float(g.n) for g in result.groups)), *blank))
    return Grid(("", "n", *columns, *more), tuple(rows_))


def ruler(result: Groups) -> Ruler:
    """Each group's mean with its interval, the highest first; by ranks the median and the middle half."""
    some = sorted(result.groups, key=lambda g: -float(g.mean))[:_MOST_ROWS]
    low, high = ("25%", "75%") if result.compared == "ranks" else ("low", "high")
    bars = (RulerRow(g.label, float(g.mean), float(g.more[low]), float(g.more[high])) for g in some)
    return Ruler(tuple(bars), centre=None)


def _test(result: Groups) -> str:
    test = result.test
    parts = [
        f"{test.name} {numbers.number(float(test.statistic or 0.0))}",
        *([] if test.df is None else [f"df {degrees(test.df)}"]),
        *([] if test.critical is None else [f"critical {numbers.number(float(test.critical))}"]),
        f"p {numbers.p_value(float(test.p_value), result.alpha)}",
    ]
    if "epsilon" in result.facts:
        parts.append(f"epsilon {numbers.number(result.facts['epsilon'])}")
    return "   ".join(parts)


def sentence(result: Groups) -> str:
    """Whether anything is there; which, is another question."""
    p = p_word(float(result.test.p_value), result.alpha)
    named = result.metric
    if float(result.test.p_value) >= result.alpha:
        return (
            f"{named}: that any of the {len(result.groups)} groups differs is not shown (p {p}), which does not show"
            " that they are equal."
        )
    high, low = (_end(result, sign).label for sign in (-1, 1))
    return f"{named}: the {len(result.groups)} groups are not all alike (p {p}); {high} is highest and {low} lowest."


def _end(result: Groups, sign: int) -> Group:
    by = "mean rank" if result.compared == "ranks" else ""
    return min(result.groups, key=lambda g: sign * float(g.more[by] if by else g.mean))


def rows(result: Groups) -> dict[str, Any]:
    """Columns of a tidy frame, a row for each group."""
    table: dict[str, Any] = {
        "metric": [result.metric] * len(result.groups),
        "group": [g.label for g in result.groups],
        "n": [g.n for g in result.groups],
        "median" if result.compared == "ranks" else "mean": [g.mean for g in result.groups],
        "sd": [g.sd for g in result.groups],
    }
    table |= {name: [g.more[name] for g in result.groups] for name in result.groups[0].more}
    # The one test of all groups stands beside each of them.
    df = result.test.df if isinstance(result.test.df, tuple) else (result.test.df,)
    tested = {result.test.name: result.test.statistic} | dict(zip(("df", "df_within"), df, strict=False))
    return table | {
        name: [value] * len(result.groups) for name, value in (tested | {"p_value": result.test.p_value}).items()
    }
