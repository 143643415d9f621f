"""One question for many scenarios, solved as arrays."""

from __future__ import annotations

import dataclasses
from typing import cast

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan.answers import PlanGrid
from amber_ruler.plan.planned import EffectGiven, Planned

MOST_SCENARIOS = 1_000_000


def grid(design: Planned, scenarios: dict[str, ArrayLike]) -> PlanGrid:
    """Every combination of the values given: see `Design.grid`."""
    own = {f.name for f in dataclasses.fields(design) if f.init and f.name not in ("alternative", "modifiers")}
    known = own | (set(design.ways) - {"means", "shares"}) | {"power", "n", "weeks"}
    for name in scenarios:
        if name not in known:
            raise InputError.unknown("grid", name, sorted(known))
    ways = [name for name in scenarios if name in design.ways]
    values = {name: np.atleast_1d(gate.finite(name, value)) for name, value in scenarios.items()}
    for name, value in values.items():
        if value.ndim > 1:
            way_out = "Units of control go with the design's ratio." if name == "n" else ""
            raise InputError.rule(name, scenarios[name], "one number or a list of numbers", way_out)
        if value.size == 0:
            raise InputError.rule(name, scenarios[name], "at least one number")
    size = int(np.prod([v.size for v in values.values()]))
    if size > MOST_SCENARIOS:
        raise InputError(f"The grid has {size:,} scenarios: at most {MOST_SCENARIOS:,}.")
    columns = dict(zip(values, (m.ravel() for m in np.meshgrid(*values.values(), indexing="ij")), strict=True))
    many = design._with_numbers({name: column for name, column in columns.items() if name in own})
    return _solved(many, design, columns, ways, tuple(name for name, v in values.items() if v.size > 1))


def _solved(
    many: Planned, asked: Planned, columns: dict[str, Floats], ways: list[str], varied: tuple[str, ...]
) -> PlanGrid:
    """Solve as arrays; the numbers of this design are columns."""
    size = next(iter(columns.values())).size if columns else 1
    sized = "n" in columns or "weeks" in columns
    target = np.broadcast_to(many._target(columns.get("power", np.asarray(0.8))), (size,))
    if not (sized and ways):
        if many._for_power(0.5) is not many and np.ptp(target) > 0:
            raise DesignError("Futility is planned for one power: give one to a grid.")
        many = many._for_power(float(target[0]))
    if sized:
        if "n" in columns and "weeks" in columns:
            raise DesignError("Give one of n and weeks, not both.")
        n = columns["n"] if "n" in columns else many._n_of_weeks(columns["weeks"])
        units = many._recruits(gate.whole("n", n, many._least()))
    if not ways and not sized:
        raise DesignError("A grid needs an effect, or units (n or weeks), or both.")
    if sized and ways and "power" in columns:
        raise DesignError("Leave one of effect, units and power open: that one is solved for.")
    if ways:
        effect = np.broadcast_to(
            many._effect(cast("EffectGiven", {w: columns[w] for w in ways}), check=not sized, many=True), (size,)
        )
    if not sized:
        question = "sample size"
        n, power = many._solve_n(effect, target)
        units = many._recruits(n)
    elif ways:
        question = "power"
    else:
        question = "detectable effect"
        effect = many._solve_effect(units, target)
    known = np.isfinite(effect) & np.isfinite(units[-1])
    if sized:
        power = many._power_with(np.where(known, effect, asked._fallback_effect()), units)
    table: dict[str, Floats] = dict(columns)
    if not sized:
        table.setdefault("power", target)
        table["target power"] = table.pop("power")
    elif not ways:
        table["target power"] = target
        table.pop("power", None)
    table["effect"] = effect
    named = many._named_units(units)
    table |= named if len(named) > 1 else {"n": units[-1]}
    table["units in total"] = many._total(units)
    table["power"] = np.where(known, power, np.nan)
    average = many._average_share(np.where(known, effect, asked._fallback_effect()), units)
    if average is not None:
        table["on average"] = np.where(known, average * table["units in total"], np.nan)
    days = many._days(table["units in total"])
    if days is not None:
        table["days"] = days
    return PlanGrid(
        title=f"{many.title}: {question} in {size:,} scenarios",
        method=many._method_said(),
        source=many.source,
        question=question,
        varied=varied,
        columns={name: _column(np.broadcast_to(v, (size,))) for name, v in table.items()},
        design=asked,
        percent=many.percent,
    )


def _column(values: Floats) -> tuple[float | None, ...]:
    return tuple(None if not np.isfinite(v) else float(v) for v in values)
