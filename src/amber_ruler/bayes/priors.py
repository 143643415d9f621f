"""Prior distributions."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from scipy import special

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats

__all__ = ["Beta", "Cauchy", "Flat", "HalfNormal", "Normal", "Prior", "StudentT", "Truncated", "Uniform", "prior_of"]


class Prior(ABC):
    """What is believed of an effect before the data are seen."""

    __slots__ = ()
    proper = True

    @abstractmethod
    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density; minus infinity where the effect can't be."""

    @property
    @abstractmethod
    def about(self) -> tuple[float, float]:
        """Where most of it lies: a centre and a spread."""

    @property
    def ends(self) -> tuple[float, float]:
        """The smallest and the largest effect that it allows."""
        return -np.inf, np.inf

    def scaled(self, scale: float) -> Prior:
        """The same shape with another scale (of a uniform prior the upper end)."""
        raise InputError(f"{self} has no scale, so none of {scale:g}.")


@dataclass(frozen=True, slots=True)
class Normal(Prior):
    """Normal distribution: an effect of about `mean`, give or take `sd`."""

    mean: float = 0.0
    sd: float = 1.0

    def __post_init__(self) -> None:
        gate.finite("mean", gate.single("mean", self.mean))
        gate.positive("sd", gate.single("sd", self.sd))

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.asarray(-0.5 * ((x - self.mean) / self.sd) ** 2 - np.log(self.sd) - 0.5 * np.log(2 * np.pi))

    @property
    def about(self) -> tuple[float, float]:
        """Centre and spread."""
        return self.mean, self.sd

    def scaled(self, scale: float) -> Normal:
        """The same centre with another standard deviation."""
        return Normal(self.mean, scale)

    def __str__(self) -> str:
        return f"Normal, mean {self.mean:.4g}, sd {self.sd:.4g}"


@dataclass(frozen=True, slots=True)
class HalfNormal(Prior):
    """One half of a normal distribution, from `start` up ("above") or down ("below"): small effects are likelier."""

    sd: float = 1.0
    side: Literal["above", "below"] = "above"
    start: float = 0.0

    def __post_init__(self) -> None:
        gate.positive("sd", gate.single("sd", self.sd))
        gate.choice("side", self.side, ("above", "below"))
        gate.finite("start", gate.single("start", self.start))

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        out = x < self.start if self.side == "above" else x > self.start
        inside = Normal(self.start, self.sd).log_density(x) + np.log(2)
        return np.where(out, -np.inf, inside)

    @property
    def about(self) -> tuple[float, float]:
        """Where it starts, and its spread."""
        return self.start, self.sd

    @property
    def ends(self) -> tuple[float, float]:
        """From where it starts to infinity, or from minus infinity to there."""
        return (self.start, np.inf) if self.side == "above" else (-np.inf, self.start)

    def scaled(self, scale: float) -> HalfNormal:
        """The same half with another standard deviation."""
        return HalfNormal(scale, self.side, self.start)

    def __str__(self) -> str:
        return f"half-normal {self.side} {self.start:.4g}, sd {self.sd:.4g}"


@dataclass(frozen=True, slots=True)
class Uniform(Prior):
    """Any effect between `low` and `high` is as likely as any other."""

    low: float
    high: float

    def __post_init__(self) -> None:
        low, high = (float(gate.finite(n, gate.single(n, getattr(self, n)))) for n in ("low", "high"))
        if not low < high:
            raise InputError.rule("high", self.high, f"above low ({self.low:g})")

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.where((x >= self.low) & (x <= self.high), -np.log(self.high - self.low), -np.inf)

    @property
    def about(self) -> tuple[float, float]:
        """Centre and half the width."""
        return (self.low + self.high) / 2, (self.high - self.low) / 2

    @property
    def ends(self) -> tuple[float, float]:
        """Its limits."""
        return self.low, self.high

    def scaled(self, scale: float) -> Uniform:
        """From the same lower end to another upper one."""
        return Uniform(self.low, scale)

    def __str__(self) -> str:
        return f"uniform from {self.low:.4g} to {self.high:.4g}"


@dataclass(frozen=True, slots=True)
class StudentT(Prior):
    """Student's t distribution: like a normal one with heavier tails, the fewer `df` the heavier."""

    df: float
    scale: float = 1.0
    centre: float = 0.0

    def __post_init__(self) -> None:
        gate.positive("df", gate.single("df", self.df))
        gate.positive("scale", gate.single("scale", self.scale))
        gate.finite("centre", gate.single("centre", self.centre))

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.asarray(log_t((x - self.centre) / self.scale, self.df) - np.log(self.scale))

    @property
    def about(self) -> tuple[float, float]:
        """Centre and scale."""
        return self.centre, self.scale

    def scaled(self, scale: float) -> StudentT:
        """The same centre with another scale."""
        return StudentT(self.df, scale, self.centre)

    def __str__(self) -> str:
        return f"Student's t, df {self.df:.4g}, scale {self.scale:.4g}, centre {self.centre:.4g}"


@dataclass(frozen=True, slots=True)
class Cauchy(Prior):
    """Cauchy distribution: half of the effects lie within `scale` of `centre`."""

    scale: float = 1.0
    centre: float = 0.0

    def __post_init__(self) -> None:
        gate.positive("scale", gate.single("scale", self.scale))
        gate.finite("centre", gate.single("centre", self.centre))

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.asarray(-np.log(np.pi * self.scale) - np.log1p(((x - self.centre) / self.scale) ** 2))

    @property
    def about(self) -> tuple[float, float]:
        """Centre and scale."""
        return self.centre, self.scale

    def scaled(self, scale: float) -> Cauchy:
        """The same centre with another scale."""
        return Cauchy(scale, self.centre)

    def __str__(self) -> str:
        around = f" around {self.centre:.4g}" if self.centre else ""
        return f"Cauchy{around}, scale {self.scale:.3g}"


@dataclass(frozen=True, slots=True)
class Flat(Prior):
    """Every effect is as likely as any other: no distribution, so that there is a posterior but no Bayes factor."""

    def log_density(self, x: Floats) -> Floats:
        """Nothing anywhere."""
        return np.zeros(np.shape(x))

    @property
    def about(self) -> tuple[float, float]:
        """Nowhere in particular."""
        return 0.0, 1.0

    @property
    def proper(self) -> bool:  # type: ignore[override]
        """It is no distribution."""
        return False

    def __str__(self) -> str:
        return "flat"


@dataclass(frozen=True, slots=True)
class Truncated(Prior):
    """Another prior between `low` and `high` only, rescaled to a mass of 1; an end may be infinite."""

    prior: Normal | Cauchy | StudentT | Uniform
    low: float = -np.inf
    high: float = np.inf

    def __post_init__(self) -> None:
        if not isinstance(self.prior, (Normal, Cauchy, StudentT, Uniform)):
            raise InputError.rule("prior", self.prior, "a Normal, Cauchy, StudentT or Uniform")
        low, high = (gate.single(n, getattr(self, n)) for n in ("low", "high"))
        if not low < high:
            raise InputError.rule("high", self.high, f"above low ({self.low:g})")
        if not self.mass > 0:
            raise InputError(f"{self.prior} has no mass between {low:g} and {high:g}.")

    @property
    def mass(self) -> float:
        """What the prior has between the ends before it is rescaled."""
        return chance_between(self.prior, self.low, self.high)

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        inside = (x >= self.low) & (x <= self.high)
        return np.where(inside, self.prior.log_density(x) - np.log(self.mass), -np.inf)

    @property
    def about(self) -> tuple[float, float]:
        """Centre and spread of what is truncated."""
        return self.prior.about

    @property
    def ends(self) -> tuple[float, float]:
        """Its limits."""
        low, high = self.prior.ends
        return max(low, self.low), min(high, self.high)

    def scaled(self, scale: float) -> Truncated:
        """The same limits with another scale inside."""
        return Truncated(self.prior.scaled(scale), self.low, self.high)

    def __str__(self) -> str:
        return f"{self.prior}, from {self.low:.4g} to {self.high:.4g}"


@dataclass(frozen=True, slots=True)
class Beta:
    """Beta distribution of a share: worth `successes` and `failures` seen beforehand."""

    successes: float = 1.0
    failures: float = 1.0

    def __post_init__(self) -> None:
        gate.positive("successes", self.successes)
        gate.positive("failures", self.failures)

    def __str__(self) -> str:
        return f"Beta({self.successes:g}, {self.failures:g})"


def log_t(x: Floats, df: float) -> Floats:
    """Logarithm of Student's density."""
    constant = special.gammaln((df + 1) / 2) - special.gammaln(df / 2) - 0.5 * np.log(df * np.pi)
    if df > 1e8:  # the gamma functions lose their difference; to first order of 1/df
        constant = -0.5 * np.log(2 * np.pi) - 1 / (4 * df)
    return np.asarray(constant - 0.5 * (df + 1) * np.log1p(x * x / df))


def chance_between(prior: Prior, low: float, high: float) -> float:
    """What a prior has between two effects; by whichever tails keep the digits."""
    if isinstance(prior, Uniform):
        ends = (min(max(end, prior.low), prior.high) for end in (low, high))
        start, end = ends
        return (end - start) / (prior.high - prior.low)
    centre, spread = prior.about
    a, b = (low - centre) / spread, (high - centre) / spread
    if a > 0:  # both in the upper tail: mirrored
        a, b = -b, -a
    if isinstance(prior, Normal):
        return float(special.ndtr(b) - special.ndtr(a))
    df = prior.df if isinstance(prior, StudentT) else 1.0
    return float(special.stdtr(df, b) - special.stdtr(df, a))


_WORDS: dict[str, tuple[type[Prior], str]] = {
    "normal": (Normal, "normal MEAN SD"),
    "halfnormal": (HalfNormal, "halfnormal SD [above|below]"),
    "uniform": (Uniform, "uniform LOW HIGH"),
    "cauchy": (Cauchy, "cauchy SCALE [CENTRE]"),
    "t": (StudentT, "t DF SCALE [CENTRE]"),
    "flat": (Flat, "flat"),
}


def prior_of(text: str) -> Prior:
    """Read a prior as the command line takes it: a name and its numbers, and the ends of a truncated one.

    Examples
    --------
    >>> prior_of("uniform 0 9")
    Uniform(low=0.0, high=9.0)
    >>> prior_of("normal 0 2 from 0")
    Truncated(prior=Normal(mean=0.0, sd=2.0), low=0.0, high=inf)
    """
    known = "; ".join(form for _, form in _WORDS.values())
    words = text.replace(",", " ").split()
    hint = f"Write one of: {known}; then, if it is cut, from LOW to HIGH."
    if not words or words[0].casefold() not in _WORDS:
        raise InputError(f"The prior {text!r} is not known. {hint}")
    kind, _ = _WORDS[words[0].casefold()]
    numbers: list[Any] = []
    ends: dict[str, float] = {}
    try:
        rest = iter(words[1:])
        for word in rest:
            if word in ("from", "to"):
                ends[{"from": "low", "to": "high"}[word]] = float(next(rest))
            elif word in ("above", "below"):
                numbers.append(word)
            else:
                numbers.append(float(word))
        prior = kind(*numbers)
    except (ValueError, TypeError, StopIteration) as error:
        if isinstance(error, InputError):
            raise
        raise InputError(f"The prior {text!r} can't be read. {hint}") from None
    return Truncated(prior, **ends) if ends else prior  # type: ignore[arg-type]
