"""Planning tests of the time to an event."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws, replicates
from amber_ruler.plan import modifiers as change
from amber_ruler.plan.designs.estimated import TwoGroups
from amber_ruler.plan.planned import Units, Ways

_MOST = 50.0  # logarithm of a ratio of hazards


@dataclass(frozen=True, kw_only=True)
class TwoTimes(TwoGroups):
    """A test of treatment against control by the ratio of hazards: does an event come sooner?

    Parameters
    ----------
    baseline : float
        Share of control's units whose event is seen before the test ends.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The log-rank test of hazards in proportion, by the normal distribution: what counts is the number of events. The
    effect is the logarithm of the ratio of hazards; `lift` is the ratio less 1, and `treatment` the share of
    treatment's units whose event is seen. With D events expected in total and π the share of units in treatment the
    variance is 1/(D π (1 − π)), under no effect and under this one.

    References
    ----------
    .. [1] Schoenfeld (1981), Biometrika 68, 316-319.

    Examples
    --------
    >>> plan = TwoTimes(baseline=0.4).sample_size(lift=-0.3, power=0.8)
    >>> plan.n_control, round(plan.effects["treatment share"], 4)
    (353, 0.3006)
    """

    simulated_by = "measure.times"
    title = "Two times to an event"
    method = "ratio of hazards, log-rank test, normal distribution"
    source = "Schoenfeld (1981), Biometrika 68, 316-319"
    effect_name = "log of the ratio of hazards"
    ways = ("effect", "lift", "treatment")
    allowed: ClassVar[frozenset[type]] = TwoGroups.allowed - {change.Covariate, change.Clusters}

    baseline: float

    def __post_init__(self) -> None:
        gate.between("baseline", self.baseline, 0, 1)
        super().__post_init__()

    def _of_control(self, lift: float) -> Any:
        raise DesignError(
            f"{self.title}: a margin is in the unit of the effect, the logarithm of the ratio of hazards."
        )

    def _least(self) -> float:
        return 1.0

    def _ways(self) -> Ways:
        return {
            "effect": lambda e: e,
            "lift": lambda share: np.log1p(gate.at_least("lift", share, -1 + 1e-15)),
            "treatment": lambda share: np.log(
                np.log1p(-gate.between("treatment", share, 0, 1)) / np.log1p(-np.asarray(self.baseline))
            ),
        }

    def _seen(self, effect: Floats) -> Floats:
        """Share of treatment's units whose event is seen."""
        return np.asarray(-np.expm1(np.exp(effect) * np.log1p(-np.asarray(self.baseline))))

    def _events(self, effect: Floats, units: Units) -> Floats:
        return np.asarray(units[0] * self._seen(effect) + units[1] * np.asarray(self.baseline))

    def _told(self, effect: float) -> dict[str, float]:
        ratio = float(np.exp(effect))
        return {"ratio of hazards": ratio, "treatment share": float(self._seen(np.asarray(effect))), "lift": ratio - 1}

    def _most(self, sign: float) -> Floats:
        return np.asarray(_MOST)

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        one, two = units
        error = (one + two) / np.sqrt(self._events(effect, units) * one * two)
        return error, error

    def _size_notes(self, effect: Floats, target: Floats, n: Floats) -> tuple[str, ...]:
        events = float(np.ceil(self._events(effect, self._recruits(n)) * (1 - 1e-14)))
        return (f"It is the events that count: {events:,.0f} are expected in all.",)

    def _p_values(self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int) -> Floats:
        draws.plain(self)
        return replicates.two_times(self, rng, effect, units, runs)
