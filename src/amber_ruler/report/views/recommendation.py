"""What to do with each treatment, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers, palette
from amber_ruler.report.blocks import Block, Heading, Lines
from amber_ruler.report.views.shared import checks_and_notes, level
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.experiment import Reason, Recommendation

SAID = {
    "ship": ("▲", palette.SEA, "Ship {}"),
    "stop": ("▼", palette.BRICK, "Stop {}"),
    "hold": ("=", palette.AMBER, "Hold {}"),
    "wait": ("?", palette.AMBER, "Wait with {}"),
    "fix": ("✗", palette.BRICK, "Fix the data before deciding on {}"),
}


def layout(result: Recommendation) -> list[Block]:
    """The word for each treatment, then why."""
    blocks: list[Block] = [Heading(result.title)]
    for treatment, word in result.words.items():
        sign, colour, said = SAID[word]
        blocks.append(Lines((f"{said.format(treatment)}.",), ((sign, colour),), strong=True))
        blocks.append(Lines(tuple(reason_words(reason) for reason in result.reasons[treatment])))
        if treatment in result.overridden:
            blocks.append(Lines((f"Decided otherwise: {result.overridden[treatment]}",), (("!", palette.AMBER),)))
    return [*blocks, *checks_and_notes(result), Lines((result.method,)), Lines((sentence(result),), strong=True)]


def reason_words(reason: Reason) -> str:
    """A reason in one sentence."""
    listed = " and ".join(reason.metrics)
    several = len(reason.metrics) > 1
    if reason.kind == "metric":
        return _metric_words(reason)
    rest = ", and every guardrail holds" if reason.note else ""
    said = {
        "accepted": f"Accepted: {reason.note}.",
        "failed": f"Failed: {reason.note}.",
        "early": f"Day {reason.note}: no look was planned, so nothing is final yet.",
        "harm": f"{_capital(listed)} {'are' if several else 'is'} worse: this is harm.",
        "next look": f"The boundary is not crossed yet for {listed}: go on to the next look.",
        "none better": "No primary metric is better.",
        "not shown": f"Non-inferiority is not shown for {listed}: more units would tell.",
        "better": f"{_capital(listed)} {'are' if several else 'is'} better, none is worse{rest}.",
    }
    return said[reason.kind]


def _metric_words(reason: Reason) -> str:
    """What a metric shows: verdict, estimate, interval and what decides."""
    name, verdict = reason.metrics[0], reason.verdict
    if reason.margin_test is not None:
        shown = "shown" if np.all(reason.margin_test.holds) else "not shown"
        p = numbers.p_value(float(np.asarray(reason.margin_test.p_value)))
        verdict = f"non-inferiority {shown} (p {p}); {verdict}"
    return f"{reason.role.capitalize()} {name}: {verdict}, {amount_words(reason)}."


def amount_words(reason: Reason) -> str:
    """Estimate, interval and p of a reason."""
    assert reason.estimate is not None  # noqa: S101 - of a metric there is one
    assert reason.interval is not None  # noqa: S101
    factor, sign = (
        (100.0, " pp") if reason.unit == "share" else (1.0, f" {reason.measured_in}" * bool(reason.measured_in))
    )
    ends = float(reason.interval.low), float(reason.interval.high)
    wide = max((abs(end - reason.estimate) for end in ends if np.isfinite(end)), default=0.0)
    values, none = (factor * v for v in (reason.estimate, *ends)), 1.0 if reason.unit == "ratio" else 0.0
    drawn = numbers.together(*values, width=factor * wide or None, apart=none)
    p = "" if reason.p_value is None else f", p {numbers.p_value(reason.p_value)}"
    if reason.adjusted_p is not None:
        p = f", adjusted p {numbers.p_value(reason.adjusted_p)}"
    plus = "+" if reason.estimate > 0 and reason.unit != "ratio" else ""
    return f"{plus}{drawn[0]}{sign} ({level(reason.interval.level)} interval {drawn[1]} to {drawn[2]}{sign}{p})"


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def sentence(result: Recommendation) -> str:
    """All treatments in one sentence."""
    said = [SAID[word][2].format(treatment) for treatment, word in result.words.items()]
    first, *others = said or ["Nothing to decide"]
    return f"{'; '.join([first, *(s[:1].lower() + s[1:] for s in others)])}."


def rows(result: Recommendation) -> list[dict[str, Any]]:
    """A row for each reason of each treatment; the last one of a treatment decides."""
    return [
        {
            "treatment": treatment,
            "decision": word,
            "overridden": result.overridden.get(treatment, ""),
            "reason": reason.kind,
            "metrics": ", ".join(reason.metrics),
            "role": reason.role,
            "verdict": reason.verdict,
            **_numbers(reason),
            "said": reason_words(reason),
        }
        for treatment, word in result.words.items()
        for reason in result.reasons[treatment]
    ]


def _numbers(reason: Reason) -> dict[str, Any]:
    """Estimate, limits and every p; not a number where there is none."""
    tested = reason.margin_test
    found = {
        "estimate": reason.estimate,
        "low": None if reason.interval is None else reason.interval.low,
        "high": None if reason.interval is None else reason.interval.high,
        "p_value": reason.p_value,
        "adjusted_p": reason.adjusted_p,
        "margin_p": None if tested is None else tested.p_value,
    }
    return {name: np.nan if value is None else value for name, value in found.items()}


def draw(result: Recommendation, ax: Axes | None = None) -> Axes:
    """The word for each treatment, and the reason that decides."""
    from textwrap import fill

    from amber_ruler.report.drawing import new_axes

    axes = new_axes(ax, height=1.4 + 0.8 * len(result.words))
    for k, (treatment, word) in enumerate(result.words.items()):
        sign, colour, said = SAID[word]
        axes.text(0.0, k, f"{sign} {said.format(safe(treatment))}", color=colour, fontweight="bold", va="center")
        last = reason_words(result.reasons[treatment][-1]) if result.reasons[treatment] else ""
        axes.text(0.42, k, fill(last, 70), color=palette.INK, fontsize=10, va="center")
    axes.set_ylim(len(result.words) - 0.4, -0.6)
    axes.set_xlim(0, 1.2)
    axes.axis("off")
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    return axes
