"""What changes a design without changing what it measures."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import dunnett, gate
from amber_ruler.numeric.gate import Floats, Number
from amber_ruler.sequential.boundaries import Boundaries, applied
from amber_ruler.sequential.rule import Rule

CORRECTIONS = ("dunnett", "sidak", "bonferroni", "none")
MARGIN_KINDS = ("non-inferiority", "equivalence", "superiority")

Correction: TypeAlias = Literal["dunnett", "sidak", "bonferroni", "none"]
MarginKind: TypeAlias = Literal["non-inferiority", "equivalence", "superiority"]


@dataclass(frozen=True, slots=True)
class Covariate:
    """Covariates known before the test take their share out of the variance."""

    correlation: float
    count: int = 1

    def __post_init__(self) -> None:
        gate.between("correlation", gate.single("correlation", self.correlation), -1, 1)
        gate.whole("count", gate.single("count", self.count), 1)

    @property
    def variance_factor(self) -> float:
        """What the variance is multiplied by: 1 less the square of the correlation."""
        return 1 - self.correlation**2

    def __str__(self) -> str:
        several = "covariate" if self.count == 1 else f"{self.count} covariates"
        return f"{several}, correlation {self.correlation:.3g}"


@dataclass(frozen=True, slots=True)
class Clusters:
    """Whole clusters are randomised, and units of one cluster resemble each other."""

    size: float
    icc: float
    cv: float = 0.0

    def __post_init__(self) -> None:
        gate.at_least("size", gate.single("size", self.size), 1)
        gate.at_least(
            "icc", gate.single("icc", self.icc), 0, "Units of a cluster that avoid each other are not planned for."
        )
        if self.icc > 1:
            raise InputError.rule("icc", self.icc, "at most 1")
        gate.at_least("cv", gate.single("cv", self.cv), 0)

    @property
    def variance_factor(self) -> float:
        """The design effect: 1 + ((1 + cv²) size − 1) icc."""
        return 1 + ((1 + self.cv**2) * self.size - 1) * self.icc

    def __str__(self) -> str:
        uneven = f", sizes vary by CV {self.cv:.3g}" if self.cv else ""
        effect = f"design effect {self.variance_factor:.4g}"
        return f"clusters of {self.size:.4g}{uneven}, ICC {self.icc:.3g} ({effect})"


@dataclass(frozen=True, slots=True)
class Variants:
    """Several treatments, each compared with the one control."""

    count: int
    correction: Correction = "dunnett"

    def __post_init__(self) -> None:
        gate.whole("count", gate.single("count", self.count), 1)
        gate.choice("correction", self.correction, CORRECTIONS)

    def single_alpha(self, alpha: Number, df: Floats, correlation: Floats, *, two_sided: bool) -> Floats:
        """Error rate of each comparison that keeps the chance of any error at alpha."""
        k = int(self.count)
        if self.correction == "none":
            return np.asarray(alpha)
        if self.correction == "bonferroni":
            return np.asarray(alpha) / k
        if self.correction == "sidak":
            return np.asarray(-np.expm1(np.log1p(-np.asarray(alpha)) / k))
        return dunnett.single_alpha(alpha, k, df, correlation, two_sided=two_sided)

    def __str__(self) -> str:
        names = {"dunnett": "Dunnett", "sidak": "Šidák", "bonferroni": "Bonferroni", "none": "no"}
        return f"{self.count} treatments, {names[self.correction]} correction"


@dataclass(frozen=True, slots=True)
class Margin:
    """Show that treatment is not worse, or not different, by as much as a margin; or that it is better by more."""

    size: float  # in the unit of the effect
    kind: MarginKind = "non-inferiority"
    good: Literal["higher", "lower"] = "higher"
    lift: float | None = None  # as a share of control, where it was given so
    above: float | None = None  # of equivalence: how far above, where that is not as far as below

    def __post_init__(self) -> None:
        if self.lift is None:
            gate.positive("margin", gate.single("margin", self.size))
        elif not 0 < gate.single("lift", self.lift) < 1:
            raise InputError.rule("lift", self.lift, "between 0 and 1", "0.01 is 1 % of the control.")
        gate.choice("kind", self.kind, MARGIN_KINDS)
        gate.choice("good", self.good, ("higher", "lower"))
        if self.above is not None:
            gate.positive("above", gate.single("above", self.above))
            if self.kind != "equivalence":
                raise InputError.rule("above", self.above, "left out: only equivalence has a second limit")

    @property
    def edge(self) -> float:
        """The difference that is tested against on one side."""
        worse = (self.kind == "superiority") != (self.good == "higher")
        return -self.size if worse else self.size

    @property
    def edges(self) -> tuple[float, float]:
        """The limits of equivalence."""
        return -self.size, self.size if self.above is None else self.above

    def inside(self, effect: Floats) -> Floats:
        """How far an effect is from what is tested against, on the side that is to be shown."""
        if self.kind == "equivalence":
            return np.minimum(effect - self.edges[0], self.edges[1] - effect)
        return np.asarray((effect - self.edge) * (1 if self.good == "higher" else -1))

    def __str__(self) -> str:
        size = f"{self.size:g}" if self.lift is None else f"{100 * self.lift:g}% of control"
        if self.above is not None:
            return f"{self.kind}, limits −{size} and {self.above:g}"
        return f"{self.kind}, margin {size}"


@dataclass(frozen=True, slots=True)
class Traffic:
    """Units that arrive each day, and the share of them that enters the test."""

    per_day: float
    share: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("per_day", gate.single("per_day", self.per_day))
        if not 0 < float(gate.finite("share", gate.single("share", self.share))) <= 1:
            raise InputError.rule("share", self.share, "above 0 and at most 1")

    @property
    def daily(self) -> float:
        """Units a day in the test, over all groups."""
        return self.per_day * self.share

    def __str__(self) -> str:
        return f"{self.per_day:g} units a day" + (f", {self.share:.4g} of them in the test" if self.share < 1 else "")


@dataclass(frozen=True, slots=True)
class Attrition:
    """The share of units that will have no value at the end."""

    share: float

    def __post_init__(self) -> None:
        if not 0 <= float(gate.finite("share", gate.single("share", self.share))) < 1:
            raise InputError.rule("share", self.share, "at least 0 and below 1")

    def __str__(self) -> str:
        return f"attrition of {100 * self.share:.4g}%"


@dataclass(frozen=True, slots=True)
class Population:
    """Units are drawn from a population of so many, none twice."""

    size: float

    def __post_init__(self) -> None:
        gate.whole("size", gate.single("size", self.size), 2)

    def __str__(self) -> str:
        return f"a population of {self.size:,.0f}"


@dataclass(frozen=True, slots=True)
class LookSchedule:
    """Looks before the end, and the rule by which they stop; its alpha and sides are those of the design."""

    fractions: tuple[float, ...]
    rule: Rule

    def at(self, alpha: float, sides: int) -> Boundaries:
        """The boundaries of a test of such an error rate."""
        return _boundaries(
            self.fractions, replace(self.rule, alpha=alpha, sides=sides), self.rule.own, self.rule.own_futility
        )

    def __str__(self) -> str:
        count = len(self.fractions)
        gives_up = f"; {self.rule.futility_words}" if self.rule.futility else ""
        return f"{count} look{'s' if count > 1 else ''}, {self.rule.words}{gives_up}"


@lru_cache(maxsize=64)
def _boundaries(fractions: tuple[float, ...], rule: Rule, *_own: object) -> Boundaries:
    return applied(rule, np.array(fractions))


Modifier: TypeAlias = Covariate | Clusters | Variants | Margin | Traffic | Attrition | Population | LookSchedule
