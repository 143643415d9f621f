"""Does the real test find the effect as often as the formula says?"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from amber_ruler import measure
from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import Simulation
from amber_ruler.plan.planned import Planned, Units


def simulated(
    design: Planned, effect: Floats, units: Units, *, runs: int, seed: int | np.random.Generator
) -> Simulation:
    """Draw tests under a design, and run the measure that it plans for: see `Design.simulate`."""
    count = int(gate.whole("runs", runs, 1))
    analysed = tuple(int(u) for u in design._analysed(units))
    single = float(design._single_alpha(tuple(np.asarray(float(u)) for u in analysed)))
    if design.measured_by is None:
        raise DesignError(f"{design.title}: there is no measuring function to simulate this design with yet.")
    groups, settings = design._draw(np.random.default_rng(seed), float(effect), analysed, count)
    test = f"measure.{design.measured_by}"
    rejected = _rejected(design, groups, settings, single)
    rate = float(np.mean(rejected))
    return Simulation(
        title=f"{design.title}: {count:,} simulated tests",
        method=f"data drawn under the design, tested with {test}",
        source=design.source,
        rate=rate,
        error=float(np.sqrt(max(rate * (1 - rate), 1 / count) / count)),
        power=float(design._power_with(effect, units)),
        runs=count,
        n_total=int(design._total(units)),
        effect=float(effect),
        test=test,
        seed=seed if isinstance(seed, int) else None,
    )


def _rejected(design: Planned, groups: tuple[Any, ...], settings: dict[str, Any], alpha: float) -> NDArray[np.bool_]:
    """Whether each run rejects: the test itself, or one or two one-sided tests against a margin."""
    method = getattr(measure, str(design.measured_by))

    def rejects(null: float, alternative: str) -> NDArray[np.bool_]:
        result = method(*groups, null=design._null(null), alternative=alternative, alpha=alpha, **settings)
        return np.asarray(result.p_value) < alpha

    margin = design._modifier(change.Margin)
    if margin is None:
        return rejects(0.0, design.alternative)
    above, below = (-margin.size, "greater"), (margin.size, "less")
    if margin.kind == "equivalence":
        return rejects(*above) & rejects(*below)
    return rejects(*(above if margin.good == "higher" else below))
