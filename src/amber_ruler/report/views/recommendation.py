"""What to do with each treatment, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amber_ruler.report import palette
from amber_ruler.report.blocks import Block, Heading, Lines
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.experiment import Recommendation

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
        blocks.append(Lines(tuple(result.reasons[treatment])))
        if treatment in result.overridden:
            blocks.append(Lines((f"Decided otherwise: {result.overridden[treatment]}",), (("!", palette.AMBER),)))
    return [*blocks, Lines((result.method,)), Lines((sentence(result),), strong=True)]


def sentence(result: Recommendation) -> str:
    """All treatments in one sentence."""
    said = [SAID[word][2].format(treatment) for treatment, word in result.words.items()]
    first, *others = said or ["Nothing to decide"]
    return f"{'; '.join([first, *(s[:1].lower() + s[1:] for s in others)])}."


def rows(result: Recommendation) -> list[dict[str, Any]]:
    """A row for each treatment."""
    return [
        {
            "treatment": treatment,
            "decision": word,
            "reasons": " ".join(result.reasons[treatment]),
            "overridden": result.overridden.get(treatment, ""),
        }
        for treatment, word in result.words.items()
    ]


def draw(result: Recommendation, ax: Axes | None = None) -> Axes:
    """The word for each treatment, and the reason that decides."""
    from textwrap import fill

    from amber_ruler.report.drawing import new_axes

    axes = new_axes(ax, height=1.4 + 0.8 * len(result.words))
    for k, (treatment, word) in enumerate(result.words.items()):
        sign, colour, said = SAID[word]
        axes.text(0.0, k, f"{sign} {said.format(safe(treatment))}", color=colour, fontweight="bold", va="center")
        last = result.reasons[treatment][-1] if result.reasons[treatment] else ""
        axes.text(0.42, k, fill(last, 70), color=palette.INK, fontsize=10, va="center")
    axes.set_ylim(len(result.words) - 0.4, -0.6)
    axes.set_xlim(0, 1.2)
    axes.axis("off")
    axes.set_title(result.title, loc="left", color=palette.INK, fontweight="bold")
    return axes
