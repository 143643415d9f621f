"""What the views have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Grid, Lines

if TYPE_CHECKING:
    from collections.abc import Sequence

    from amber_ruler.measure.counts import GoodnessOfFit, Independence
    from amber_ruler.results import Check, Result, SquaresRow

_SIGNS = {"two-sided": "two-sided", "greater": "one-sided, greater", "less": "one-sided, less"}


def alarms(checks: Sequence[Check]) -> list[Block]:
    """Serious findings, to be said before anything else."""
    serious = [c for c in checks if c.severity == "serious"]
    if not serious:
        return []
    sign = palette.SEVERITIES["serious"]
    return [Lines(tuple(_said(c) for c in serious), (sign,) * len(serious), strong=True)]


def checks_and_notes(result: Result) -> list[Block]:
    """The other findings, and the notes."""
    others = [c for c in result.checks if c.severity != "serious"]
    lines = [_said(c) for c in others] + list(result.notes)
    signs = [palette.SEVERITIES[c.severity] for c in others] + [palette.SEVERITIES["note"]] * len(result.notes)
    return [Lines(tuple(lines), tuple(signs))] if lines else []


def test_terms(alpha: float, alternative: str) -> str:
    """Alpha and direction in words; a test for any difference at all has no direction."""
    side = f", {_SIGNS[alternative]}" if alternative in _SIGNS else ""
    return f"alpha {alpha:.4g}{side}"


def level(value: float) -> str:
    """A level such as 95%."""
    return f"{100 * value:.6g}%"


def squares(rows: Sequence[SquaresRow], alpha: float) -> Grid:
    """A table of sums of squares, with the share of the variance where it was asked for."""
    shares = any(row.effects for row in rows)
    cells = []
    for row in rows:
        tested = row.statistic is not None and row.p_value is not None
        cell = [row.label, numbers.number(row.squares, digits=4), numbers.whole(row.df)]
        if not shares:
            cell.append(numbers.number(row.mean_square, digits=4) if row.label != "in total" else "")
        cell += [numbers.number(row.statistic), numbers.p_value(row.p_value, alpha)] if tested else ["", ""]  # type: ignore[arg-type]
        if shares:
            eta = row.effects.get("eta_squared")
            texts = ("", "", "")
            if eta is not None:
                texts = tuple(numbers.together(*map(float, (eta.value, eta.interval.low, eta.interval.high))))  # type: ignore[assignment]
            cell += [texts[0], f"{texts[1]} to {texts[2]}" if eta is not None else ""]
        cells.append(tuple(cell))
    middle = () if shares else ("mean square",)
    more = ("partial η²", f"{level(1 - alpha)} interval") if shares else ()
    return Grid(("", "squares", "df", *middle, "F", "p", *more), tuple(cells))


def marked(residual: float, p: float, alpha: float) -> str:
    """Say that a count lies further from what was expected than chance takes it."""
    return ("▲" if residual > 0 else "▼") if p < alpha else ""


def counted_test(result: Independence | GoodnessOfFit) -> str:
    """The test of a table of counts in one line."""
    test, parts = result.test, []
    if test.statistic is not None:
        parts.append(f"{test.name} {numbers.number(float(test.statistic))}")
    if test.df is not None and not isinstance(test.df, tuple):
        parts.append(f"df {numbers.whole(test.df)}")
    error = f" ± {numbers.number(test.p_error, digits=2)} (Monte-Carlo error)" if test.p_error else ""
    parts.append(f"p {numbers.p_value(float(test.p_value), result.alpha)}{error}")
    return "   ".join(parts)


def _said(check: Check) -> str:
    advice = f". {check.advice}" if check.advice else ""
    return f"{check.name}: {check.finding}{advice}"


def standing_words(standing: Sequence[str], of: int, method: str) -> str:
    """Which comparisons stand after a correction."""
    named = f": {'; '.join(standing)}" if 0 < len(standing) <= 6 else ""
    stand = "stands" if len(standing) == 1 else "stand"
    return f"{len(standing):,} of {of:,} comparisons {stand} after the {method} correction{named}."
