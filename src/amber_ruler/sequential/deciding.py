"""The looks as comparisons: all on an axis, and the one that decides with the p and the interval that do."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from amber_ruler.numeric import normal, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Axis, Comparison, Interval, Looks, Test
from amber_ruler.sequential.boundaries import Boundaries
from amber_ruler.sequential.observed import Look


@dataclass(frozen=True, slots=True)
class Found:
    """Inference at the end, on the scale of the drift."""

    p: float
    drift: float
    interval: Interval
    adjusted: float

    @property
    def fields(self) -> dict[str, Any]:
        """As a Monitoring calls them."""
        return {
            "stagewise_p": self.p,
            "drift": self.drift,
            "drift_interval": self.interval,
            "drift_adjusted": self.adjusted,
        }


def compared(
    plan: Boundaries,
    looks: list[Look],
    nominal: Floats,
    levels: Floats,
    decision: str,
    stopped: int | None,
    over: int,
    found: Found | None,
) -> tuple[Comparison | None, Comparison | None]:
    """All looks on an axis, and the one that decides."""
    if any(look.estimate is None for look in looks):
        return None, None
    asked = [_asked(plan, look, k) for k, look in enumerate(looks)]
    each = [_repeated(plan, look, k, again) for k, (look, again) in enumerate(zip(looks, asked, strict=True))]
    size, at = len(looks), (len(looks) if stopped is None else stopped) - 1
    running = np.minimum.accumulate(levels)
    part: dict[str, Any] = {
        "planned": over,
        "alpha": plan.alpha,
        "decision": decision,
    }
    own = Looks(
        look=at + 1,
        fraction=float(plan.fractions[at]),
        boundary=float(plan.z[at]),
        nominal_p=float(nominal[at]),
        repeated_p=float(levels[at]),
        running_p=float(running[at]),
        repeated=each[at],
        **part,
    )
    chosen, scale = looks[at], None
    if found is not None and chosen.se is not None:
        scale = chosen.se * _stretch(chosen) * math.sqrt(float(plan.fractions[at]))
        own = replace(
            own,
            stagewise_p=found.p,
            stagewise=Interval(
                chosen.null + found.interval.low * scale, chosen.null + found.interval.high * scale, 1 - plan.alpha
            ),
            median_unbiased=chosen.null + found.drift * scale,
            bias_adjusted=chosen.null + found.adjusted * scale,
        )
    ended = own.stagewise is not None
    decisive = float(own.stagewise_p if ended else levels[at])  # type: ignore[arg-type]
    latest = _decided_by(plan, chosen, decisive, own.stagewise or each[at], at, asked[at]).with_part(own)
    array = Looks(
        look=np.arange(1.0, size + 1),
        fraction=plan.fractions[:size],
        boundary=plan.z[:size],
        nominal_p=nominal,
        repeated_p=levels,
        running_p=running,
        **part,
    )
    low, high = (np.array([float(getattr(i, end)) for i in each]) for end in ("low", "high"))
    together = replace(
        latest,
        title=f"{latest.metric or 'difference'}: every look",
        estimate=np.array([float(look.estimate or 0.0) for look in looks]),
        se=None if any(look.se is None for look in looks) else np.array([float(look.se or 0.0) for look in looks]),
        interval=Interval(low, high, 1 - plan.alpha),
        test=Test(
            p_value=levels,
            alpha=plan.alpha,
            statistic=np.array([look.z for look in looks]),
            name="z",
            critical=plan.z[:size],
            null=latest.null,
            alternative=latest.alternative,
        ),
        effects={},
        groups=(),
        facts={},
        checks=(),
        notes=(),
        axis=Axis("look", tuple(str(k + 1) for k in range(size))),
        parts=(array,),
    )  # fmt: skip
    return together, latest


def _asked(plan: Boundaries, look: Look, k: int) -> Comparison | None:
    """The comparison asked again at the nominal level of the boundary, where that can be."""
    tail, given = float(normal.sf(plan.z[k])), look.comparison
    if given is None or given.asked is None or not 1e-12 < tail < 0.25:
        return None
    side = "two-sided" if plan.sides == 2 else "greater"
    found: Comparison = given.asked.again(bare=True, alpha=2 * tail if plan.sides == 2 else tail, alternative=side)
    return found


def _repeated(plan: Boundaries, look: Look, k: int, again: Comparison | None) -> Interval:
    """The interval at the nominal level of the boundary: the method's own where it can be asked again."""
    bound, low = float(plan.z[k]), float(plan.lower[k])
    estimate, level = float(look.estimate or 0.0), 1 - plan.alpha
    if not np.isfinite(bound):
        return Interval(-math.inf, math.inf, level)
    if again is not None:
        ends = Interval(float(again.interval.low), float(again.interval.high), level)
    else:
        if look.se is None:
            return Interval(-math.inf, math.inf, level)
        reach = bound * look.se * (1.0 if look.comparison is None else _stretch(look))
        ends = Interval(estimate - reach, estimate + reach if plan.sides == 2 else math.inf, level)
    if plan.sides == 1 and np.isfinite(low) and look.se is not None:
        ends = replace(ends, high=estimate - low * look.se)
    return ends


def _stretch(look: Look) -> float:
    """How much further from the null the estimate lies than its z says, in standard errors: of a t."""
    if look.se is None or look.z == 0:
        return 1.0
    return abs((float(look.estimate or 0.0) - look.null) / look.se / look.z)


def _decided_by(
    plan: Boundaries, look: Look, p: float, interval: Interval, k: int, again: Comparison | None
) -> Comparison:
    """A look's comparison with the p and the interval that decide; effect sizes have their repeated intervals."""
    side = "two-sided" if plan.sides == 2 else "greater"
    test = Test(p_value=p, alpha=plan.alpha, statistic=look.z, name="z", critical=float(plan.z[k]), alternative=side)
    if look.comparison is None:
        return Comparison(
            title="The look that decides",
            method=plan.method,
            source=plan.source,
            metric="",
            estimate=float(look.estimate or 0.0),
            se=look.se,
            interval=interval,
            test=test,
            treatment="treatment",
            control="control",
        )
    given = look.comparison
    own = test
    if given.test is not None:
        own = replace(
            given.test,
            p_value=p,
            alpha=plan.alpha,
            alternative=side,
            critical=_critical(given, plan, k),
            margin_tests={},
            margin_interval=None,
        )
    sizes = {} if again is None else again.effects
    effects = {n: replace(e, interval=replace(e.interval, level=1 - plan.alpha)) for n, e in sizes.items()}
    return replace(given, interval=interval, test=own, effects=effects)


def _critical(given: Comparison, plan: Boundaries, k: int) -> float | None:
    """The boundary on the scale of the comparison's own statistic: the one of the same nominal p."""
    if given.test is None or given.test.critical is None or not np.isfinite(plan.z[k]):
        return None
    if given.test.name == "t" and isinstance(given.test.df, (int, float)):
        return float(student.upper_quantile(float(normal.sf(plan.z[k])), given.test.df))
    return float(plan.z[k])
