"""How strong the evidence will be with so many units."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines
from amber_ruler.report.views.parts import chance
from amber_ruler.report.views.shared import checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.plan import EvidenceForecast


def layout(result: EvidenceForecast) -> list[Block]:
    """A row for each number of units, or each fact of one."""
    head = Heading(result.title, f"{result.method} · prior {result.prior}")
    size = np.size(result.n)
    if size == 1:
        table = Grid(("", ""), tuple(_facts(result)))
    else:
        header = ("units", "mean seen", "none seen", "found", "none found", "misled", "missed")
        table = Grid(header, tuple(_row(result, k) for k in range(size)), left=())
    return [head, table, *checks_and_notes(result), Lines((sentence(result),), strong=True)]


def sentence(result: EvidenceForecast) -> str:
    """What so many units may show."""
    k = result.threshold
    if np.size(result.n) > 1:
        sizes = np.ravel(result.n)
        return (
            f"Evidence against 1 to {k:g} for {sizes.size} numbers of units, {sizes.min():,.0f} to {sizes.max():,.0f}."
        )
    found, none = (chance(_number(v)) for v in (result.chance_for_effect, result.chance_for_none))
    return (
        f"With {_whole(result.n)} units in each group the factor passes {k:g} with a probability of {found} if there is"
        f" an effect, and falls below 1/{k:g} with {none} if there is none."
    )


def rows(result: EvidenceForecast) -> dict[str, Any]:
    """Columns of a tidy frame."""
    shape = np.shape(result.n) or (1,)
    names = (
        "n", "se", "log_factor_at_null", "log_factor_at_mean", "expected_log_under_null", "expected_log_under_effect",
        "chance_for_none", "chance_for_effect", "chance_misled_to_effect", "chance_misled_to_none",
    )  # fmt: skip
    values = {name: getattr(result, name) for name in names}
    return {name: np.broadcast_to(np.nan if v is None else v, shape).ravel() for name, v in values.items()}


def draw(result: EvidenceForecast, ax: Axes | None = None) -> Axes:
    """Bayes factors to be expected against units."""
    from amber_ruler.report import beliefs

    return beliefs.evidence_by_units(result, ax)


def _facts(result: EvidenceForecast) -> list[tuple[str, str]]:
    k, mean = result.threshold, numbers.number(result.mean_effect)
    typical = result.expected_log_under_effect
    return [
        ("units in each group", _whole(result.n)),
        ("standard error then", numbers.number(_number(result.se))),
        (f"Bayes factor if just the prior's mean is seen, {mean}", numbers.factor(_number(result.log_factor_at_mean))),
        ("Bayes factor if just no effect is seen", numbers.factor(_number(result.log_factor_at_null))),
        (
            "typical factor if there is an effect",
            "beyond all numbers" if typical is None else numbers.factor(_number(typical)),
        ),
        ("typical factor if there is none", numbers.factor(_number(result.expected_log_under_null))),
        (f"chance of a factor above {k:g} if there is an effect", chance(_number(result.chance_for_effect))),
        (f"chance of a factor below 1/{k:g} if there is none", chance(_number(result.chance_for_none))),
        (f"chance of one above {k:g} though there is none", chance(_number(result.chance_misled_to_effect))),
        (f"chance of one below 1/{k:g} though there is one", chance(_number(result.chance_misled_to_none))),
    ]


def _row(result: EvidenceForecast, k: int) -> tuple[str, ...]:
    factors = (result.log_factor_at_mean, result.log_factor_at_null)
    chances = (
        result.chance_for_effect, result.chance_for_none, result.chance_misled_to_effect, result.chance_misled_to_none,
    )  # fmt: skip
    n = float(np.ravel(result.n)[k])
    return (
        numbers.whole(n),
        *(numbers.factor(float(np.ravel(v)[k])) for v in factors),
        *(chance(float(np.ravel(v)[k])) for v in chances),
    )


def _number(value: Any) -> float:
    return float(np.ravel(value)[0])


def _whole(value: Any) -> str:
    return numbers.whole(_number(value))
