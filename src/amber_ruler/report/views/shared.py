"""What the views have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amber_ruler.report import palette
from amber_ruler.report.blocks import Block, Lines
from amber_ruler.report.numbers import safe

if TYPE_CHECKING:
    from collections.abc import Sequence

    from amber_ruler.results import Check, Result

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
    lines = [_said(c) for c in others] + [safe(n) for n in result.notes]
    signs = [palette.SEVERITIES[c.severity] for c in others] + [palette.SEVERITIES["note"]] * len(result.notes)
    return [Lines(tuple(lines), tuple(signs))] if lines else []


def test_terms(alpha: float, alternative: str) -> str:
    """Alpha and direction in words; a test for any difference at all has no direction."""
    side = f", {_SIGNS[alternative]}" if alternative in _SIGNS else ""
    return f"alpha {alpha:.4g}{side}"


def level(value: float) -> str:
    """A level such as 95%."""
    return f"{100 * value:.6g}%"


def _said(check: Check) -> str:
    advice = f". {check.advice}" if check.advice else ""
    return safe(f"{check.name}: {check.finding}{advice}")
