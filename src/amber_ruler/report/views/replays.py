"""Several ways to analyse, replayed side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views import replay
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from amber_ruler.resample import Replays


def layout(result: Replays) -> list[Block]:
    """A line each: does it keep its error rate, and what would it find?"""
    rows_: list[tuple[str, ...]] = []
    for label, one in zip(result.labels, result.results, strict=True):
        mark = "sharpest" if result.together is None and label == result.sharpest else ""
        found = "" if one.detectable is None else numbers.number(one.detectable)
        lift = "" if one.detectable is None or not one.mean else numbers.percent(one.detectable / abs(one.mean))
        error = f"{numbers.percent(one.false_alarms)} ± {numbers.number(196 * one.false_error, digits=2)} pp"
        power = "" if one.power is None else numbers.percent(one.power)
        rows_.append((label, error, one.sound, found, lift, power, mark))
    header: tuple[str, ...] = ("", "false claims", "error rate", "finds in 80%", "of the mean", "finds the planted", "")
    if all(one.power is None for one in result.results):
        header, rows_ = (*header[:5], ""), [(*row[:5], row[6]) for row in rows_]
    return [
        Heading(result.title, result.method),
        Grid(header, tuple(rows_), left=(0, 2, len(header) - 1)),
        ruler(result),
        *_together(result),
        *(block for one in (*result.results, result) for block in checks_and_notes(one)),
        Lines((sentence(result),), strong=True),
    ]


def _together(result: Replays) -> list[Block]:
    """What the whole rule claims, of an experiment."""
    if result.together is None or result.together_error is None:
        return []
    error = f"{numbers.percent(result.together)} ± {numbers.number(196 * result.together_error, digits=2)} pp"
    lines = [f"Any difference claimed that is not there ({result.rule}): {error} of the runs."]
    lines += [
        f"{label}: what was planted is found in {numbers.percent(p)} of the runs." for label, p in result.power.items()
    ]
    return [Lines(tuple(lines))]


def ruler(result: Replays) -> Ruler:
    """Realised error rates on one scale; the mark is alpha."""
    made = []
    for label, one in zip(result.labels, result.results, strict=True):
        reach = 1.96 * one.false_error
        low = max(one.false_alarms - reach, 0.0)
        made.append(RulerRow(label, one.false_alarms, low, one.false_alarms + reach))
    return Ruler(tuple(made), centre=result.results[0].alpha, percent=True, unit="%", counts="false claims")


def sentence(result: Replays) -> str:
    """The sharpest of those that can be trusted."""
    if result.together is not None and result.together_error is not None:
        error = f"{numbers.percent(result.together)} ± {numbers.number(196 * result.together_error, digits=2)} pp"
        return f"Where there is no difference this experiment claims one in {error} of the runs ({result.rule})."
    if result.sharpest is None:
        return "None of these can be told from the others by what it would find."
    return f"The sharpest that can be trusted is {result.sharpest}. {replay.sentence(result[result.sharpest])}"


def rows(result: Replays) -> list[dict[str, Any]]:
    """A row for each."""
    return [
        {"label": label, **{name: values[0] for name, values in replay.rows(one).items()}}
        for label, one in zip(result.labels, result.results, strict=True)
    ]
