"""One look, several, or any moment: what each costs for one design, and what may be done when."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import looked, search
from amber_ruler.plan import modifiers as change
from amber_ruler.results import Result
from amber_ruler.sequential import mixtures, recursion
from amber_ruler.sequential.operating import operating
from amber_ruler.sequential.recursion import Path, Regions
from amber_ruler.sequential.rule import drift_for

if TYPE_CHECKING:
    from amber_ruler.plan.designs.estimated import Estimated


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Way:
    """One way to look.

    Attributes
    ----------
    name, allows : str
        What it is called, and what may be done when.
    n_total : int
        Units in all groups at most.
    power : float
        Chance to find the effect by then.
    expected_none, expected_half, expected_planned : float
        Units in all that it takes on average, under no effect, half of the planned one, and the planned one.
    """

    name: str
    allows: str
    n_total: int
    power: float
    expected_none: float
    expected_half: float
    expected_planned: float


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class WaysToLook(Result):
    """Ways to look at one test.

    Attributes
    ----------
    ways : tuple of Way
        From one look to any moment.
    effect, power, alpha : float
        What is looked for, with which chance, at which error rate.
    percent : bool
        Whether the effect is a difference of shares.
    """

    ways: tuple[Way, ...]
    effect: float
    power: float
    alpha: float
    percent: bool = False


def ways_to_look(design: Estimated, effect: float, power: float, looks: int, moments: int) -> WaysToLook:
    """Compare them: see `Estimated.ways_to_look`."""
    if design._modifier(change.LookSchedule) is not None:
        raise DesignError("The design already has its looks: ask one without.")
    count, many = int(gate.whole("looks", looks, 2)), int(gate.whole("moments", moments, 2))
    sides = looked.sides_of(design)
    found = [
        _way(design.with_looks(1), effect, power, "one look", "stop at the end only"),
        *(
            _way(
                design.with_looks(count, spending=spending),  # type: ignore[arg-type]
                effect,
                power,
                f"{count} looks, {name}",
                f"stop at {count} planned looks{early}",
            )
            for spending, name, early in (
                ("obrien-fleming", "O'Brien–Fleming", ", hardly at the first ones"),
                ("pocock", "Pocock", ", about as easily at each"),
            )
        ),
        _at_any_moment(design, effect, power, many, sides),
    ]
    return WaysToLook(
        title=f"{design.title}: ways to look",
        method=f"{design._method_said()}; any moment by a normal mixture tuned for the end, looked at {many} times",
        source="Jennison & Turnbull (2000), Group Sequential Methods; Robbins (1970), Ann. Math. Stat. 41, 1397-1409",
        ways=tuple(found),
        effect=effect,
        power=power,
        alpha=float(design.alpha),
        percent=design.percent,
        notes=("At any moment one may also go on after the end, or stop for any reason; looks keep to their plan.",),
    )


def _way(design: Estimated, effect: float, power: float, name: str, allows: str) -> Way:
    answer = design.sample_size(power=power, effect=effect)
    looks = answer.looks
    assert looks is not None  # noqa: S101
    return Way(
        name=name,
        allows=allows,
        n_total=answer.n_total,
        power=float(answer.power or 0.0),
        expected_none=looks.expected_none,
        expected_half=looks.expected_half,
        expected_planned=looks.expected_planned,
    )


def _at_any_moment(design: Estimated, effect: float, power: float, moments: int, sides: int) -> Way:
    """The mixture as boundaries of many looks, and the units whose drift gives the power by the last."""
    fractions = np.arange(1, moments + 1) / moments
    alpha = float(np.min(design._single_alpha(design._recruits(np.asarray(1e6)))))
    high = mixtures.critical(mixtures.best_ratio(alpha, sides=sides) * fractions, alpha, sides=sides)
    path = recursion.walk(Regions(fractions, high, -high if sides == 2 else np.full(high.size, -np.inf)))
    needed, tail = drift_for(path, power, alpha, sides=sides), np.asarray(alpha / sides)
    size, offset = design._cluster_size(), design._least() - 1

    def reached(k: Floats) -> Floats:
        units = design._recruits(np.ceil((k + offset) * size))
        seen = tuple(np.maximum(u, design._least() * size) for u in design._analysed(units))
        return looked.drift(design, np.asarray(effect), seen, tail) / needed

    k, _ = search.smallest_count(reached, np.asarray(1.0), lambda share: np.maximum(share, 0.05), np.asarray(100.0))
    if not np.isfinite(k):
        design._refuse_endless(effect)
    units = design._recruits(np.ceil((k + offset) * size))
    total, analysed = float(design._total(units)), design._analysed(units)
    return _told(path, design, effect, analysed, tail, total, sides)


def _told(
    path: Path,
    design: Estimated,
    effect: float,
    analysed: tuple[Floats, ...],
    tail: Floats,
    total: float,
    sides: int,
) -> Way:
    drifts = [0.0, *(float(looked.drift(design, np.asarray(s * effect), analysed, tail)) for s in (0.5, 1.0))]
    none, half, full = (operating(path, d, drifts[-1], sides=sides) for d in drifts)
    return Way(
        name="any moment",
        allows="stop, or go on, at any moment and for any reason",
        n_total=int(total),
        power=full.power,
        expected_none=none.expected_fraction * total,
        expected_half=half.expected_fraction * total,
        expected_planned=full.expected_fraction * total,
    )
