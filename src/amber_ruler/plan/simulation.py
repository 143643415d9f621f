"""Does the real test find the effect as often as the formula says?"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from amber_ruler import measure
from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.answers import Simulation
from amber_ruler.plan.planned import Planned, Units
from amber_ruler.samples import Counts, Events
from amber_ruler.sequential import Boundaries


def simulated(
    design: Planned, effect: Floats, units: Units, *, runs: int, seed: int | np.random.Generator
) -> Simulation:
    """Draw tests under a design, and run the measure that it plans for: see `Design.simulate`."""
    count = int(gate.whole("runs", runs, 1))
    analysed = tuple(int(u) for u in design._analysed(units))
    single = float(design._single_alpha(tuple(np.asarray(float(u)) for u in analysed)))
    rng, taken = np.random.default_rng(seed), None
    schedule = design._modifier(change.LookSchedule)
    if schedule is None and design.simulated_by is not None:
        if design._modifier(change.Margin) is not None:
            raise DesignError(f"{design.title}: simulated without a margin; leave it out.")
        rejected = design._p_values(rng, float(effect), analysed, count) < single
    elif design.measured_by is None:
        raise DesignError(f"{design.title}: there is no measuring function to simulate this design with.")
    elif schedule is None:
        groups, settings = design._draw(rng, float(effect), analysed, count)
        rejected = _rejected(design, groups, settings, single)
    else:
        rejected, taken = _looked(design, schedule.at(single, schedule.rule.sides), rng, float(effect), units, count)
    test = design.simulated_by or f"measure.{design.measured_by}"
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
        mean_total=None if taken is None else float(taken.mean()),
        mean_error=None if taken is None else float(taken.std() / np.sqrt(count)),
    )


def _looked(
    design: Planned, plan: Boundaries, rng: np.random.Generator, effect: float, units: Units, runs: int
) -> tuple[NDArray[np.bool_], Floats]:
    """Whether each run crosses at a look, and the units it took: the test's own p against the boundary's."""
    each = [tuple(np.ceil(t * u * (1 - 1e-14)) for u in units) for t in plan.fractions]
    going, crossed, taken = np.ones(runs, bool), np.zeros(runs, bool), np.full(runs, float(design._total(units)))
    groups: tuple[Any, ...] = ()
    before = (0,) * len(units)
    for k, now in enumerate(each):
        seen = tuple(int(u) for u in design._analysed(now))
        block = tuple(s - b for s, b in zip(seen, before, strict=True))
        if min(block) < 1 or min(seen) < design._least():
            raise DesignError(f"At look {k + 1} there are too few units to simulate: {min(seen)} in a group.")
        drawn, settings = design._draw(rng, effect, block, runs)
        groups = drawn if k == 0 else tuple(_merged(a, b) for a, b in zip(groups, drawn, strict=True))
        before = seen
        z = _z(design, groups, settings)
        stop = (z > plan.z[k]) | (z < plan.lower[k])
        futile = np.zeros(runs, bool)
        if plan.futility is not None:
            futile = ~stop & ((np.abs(z) if plan.sides == 2 else z) <= plan.futility[k])
        crossed |= going & stop
        taken[going & (stop | futile)] = float(design._total(now))
        going &= ~(stop | futile)
    return crossed, taken


def _z(design: Planned, groups: tuple[Any, ...], settings: dict[str, Any]) -> Floats:
    """The z of the test's p-value, towards the side that is looked at."""
    method, margin = getattr(measure, str(design.measured_by)), design._modifier(change.Margin)
    if margin is None:
        result = method(*groups, null=design._null(0.0), alternative=design.alternative, **settings)
        if design.alternative == "two-sided":
            side = np.sign(np.asarray(result.estimate) - design._null(0.0))
            return np.asarray(side * normal.upper_quantile(np.asarray(result.p_value) / 2))
    elif margin.lift is not None:
        p = _against_lift(design, groups, settings)
        return normal.upper_quantile(p)
    else:
        alternative = "greater" if margin.good == "higher" else "less"
        result = method(*groups, null=design._null(margin.edge), alternative=alternative, **settings)
    return normal.upper_quantile(np.asarray(result.p_value))


def _against_lift(design: Planned, groups: tuple[Any, ...], settings: dict[str, Any]) -> Floats:
    """P-values against a margin that is a lift."""
    margin = design._modifier(change.Margin)
    assert margin is not None  # noqa: S101
    method = getattr(measure, str(design.measured_by))
    result = method(*groups, margin_lift=margin.lift, good=margin.good, **settings)
    return np.asarray(result.margin_tests["not_worse"].p_value)


def _merged(one: Any, more: Any) -> Any:
    """What was seen by the last look, and what has come in since."""
    if isinstance(one, Counts):
        return replace(one, successes=one.successes + more.successes, trials=one.trials + more.trials)
    if isinstance(one, Events):
        return replace(one, count=one.count + more.count, exposure=one.exposure + more.exposure)
    n, apart = one.n + more.n, more.mean - one.mean
    squares = (one.n - 1) * one.sd**2 + (more.n - 1) * more.sd**2 + apart**2 * one.n * more.n / n
    return replace(one, n=n, mean=one.mean + apart * more.n / n, sd=np.sqrt(squares / (n - 1)))


def _rejected(design: Planned, groups: tuple[Any, ...], settings: dict[str, Any], alpha: float) -> NDArray[np.bool_]:
    """Whether each run rejects: the test itself, or one or two one-sided tests against a margin."""
    method = getattr(measure, str(design.measured_by))

    def rejects(null: float, alternative: str) -> NDArray[np.bool_]:
        result = method(*groups, null=design._null(null), alternative=alternative, alpha=alpha, **settings)
        return np.asarray(result.p_value) < alpha

    margin = design._modifier(change.Margin)
    if margin is None:
        return rejects(0.0, design.alternative)
    if margin.lift is not None:
        return _against_lift(design, groups, settings) < alpha
    if margin.kind == "equivalence":
        return rejects(margin.edges[0], "greater") & rejects(margin.edges[1], "less")
    return rejects(margin.edge, "greater" if margin.good == "higher" else "less")
