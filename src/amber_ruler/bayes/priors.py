"""Prior distributions."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, fields
from typing import Any, Literal

import numpy as np
from scipy import special

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.numeric.stirling import log_half_step

__all__ = [
    "Beta",
    "Cauchy",
    "Flat",
    "Gamma",
    "HalfNormal",
    "Normal",
    "NormalInverseGamma",
    "Prior",
    "Reference",
    "StudentT",
    "Truncated",
    "Uniform",
    "prior_of",
]


_LEAST = 1e-4  # of a beta or gamma prior's parameters: smaller ones put everything where floats are 0


class Prior(ABC):
    """What is believed of an effect before the data are seen.

    A prior whose numbers are arrays is many priors: one for each question asked at once.
    """

    __slots__ = ()
    proper = True

    @abstractmethod
    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density; minus infinity where the effect can't be."""

    @property
    @abstractmethod
    def about(self) -> tuple[Number, Number]:
        """Where most of it lies: a centre and a spread."""

    @property
    def ends(self) -> tuple[Number, Number]:
        """The smallest and the largest effect that it allows."""
        return -np.inf, np.inf

    @property
    def shape(self) -> tuple[int, ...]:
        """Shape of its numbers."""
        return gate.common_shape(*(np.shape(v) for v in self.about))

    @property
    def scale_now(self) -> Number:
        """What `scaled` changes."""
        return self.about[1]

    def scaled(self, scale: Number) -> Prior:
        """The same shape with another scale (of a uniform prior the upper end), or with several."""
        raise InputError(f"{self} has no scale to change: none of {_said(scale)} can be taken.")

    def reshaped(self, shape: tuple[int, ...], *further: int) -> Prior:
        """The same with its numbers broadcast to a shape, and axes of such lengths behind it."""

        def spread(value: Any) -> Any:
            if isinstance(value, Prior):
                return value.reshaped(shape, *further)
            whole = np.broadcast_to(np.asarray(value, dtype=float), shape)
            return whole.reshape(*(further or shape))

        numbers = {f.name: getattr(self, f.name) for f in fields(self)}  # type: ignore[arg-type]
        kept = {name: v if isinstance(v, str) else spread(v) for name, v in numbers.items()}
        return type(self)(**kept)


@dataclass(frozen=True, slots=True)
class Normal(Prior):
    """Normal distribution: an effect of about `mean`, give or take `sd`."""

    mean: Number = 0.0
    sd: Number = 1.0

    def __post_init__(self) -> None:
        gate.finite("mean", self.mean)
        gate.positive("sd", self.sd)

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.asarray(-0.5 * ((x - self.mean) / self.sd) ** 2 - np.log(self.sd) - 0.5 * np.log(2 * np.pi))

    @property
    def about(self) -> tuple[Number, Number]:
        """Centre and spread."""
        return self.mean, self.sd

    def scaled(self, scale: Number) -> Normal:
        """The same centre with another standard deviation."""
        return Normal(self.mean, scale)

    def __str__(self) -> str:
        return f"Normal, mean {_said(self.mean)}, sd {_said(self.sd)}"


@dataclass(frozen=True, slots=True)
class HalfNormal(Prior):
    """One half of a normal distribution, from `start` up ("above") or down ("below"): small effects are likelier."""

    sd: Number = 1.0
    side: Literal["above", "below"] = "above"
    start: Number = 0.0

    def __post_init__(self) -> None:
        gate.positive("sd", self.sd)
        gate.choice("side", self.side, ("above", "below"))
        gate.finite("start", self.start)

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        out = x < self.start if self.side == "above" else x > self.start
        inside = Normal(self.start, self.sd).log_density(x) + np.log(2)
        return np.where(out, -np.inf, inside)

    @property
    def about(self) -> tuple[Number, Number]:
        """Where it starts, and its spread."""
        return self.start, self.sd

    @property
    def ends(self) -> tuple[Number, Number]:
        """From where it starts to infinity, or from minus infinity to there."""
        return (self.start, np.inf) if self.side == "above" else (-np.inf, self.start)

    def scaled(self, scale: Number) -> HalfNormal:
        """The same half with another standard deviation."""
        return HalfNormal(scale, self.side, self.start)

    def __str__(self) -> str:
        return f"half-normal {self.side} {_said(self.start)}, sd {_said(self.sd)}"


@dataclass(frozen=True, slots=True)
class Uniform(Prior):
    """Any effect between `low` and `high` is as likely as any other."""

    low: Number
    high: Number

    def __post_init__(self) -> None:
        low, high = (gate.finite(n, getattr(self, n)) for n in ("low", "high"))
        if not np.all(low < high):
            raise InputError.rule("high", self.high, f"above low ({_said(self.low)})")

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.where((x >= self.low) & (x <= self.high), -np.log(self.high - self.low), -np.inf)

    @property
    def about(self) -> tuple[Number, Number]:
        """Centre and half the width."""
        return (self.low + self.high) / 2, (self.high - self.low) / 2

    @property
    def ends(self) -> tuple[Number, Number]:
        """Its limits."""
        return self.low, self.high

    @property
    def scale_now(self) -> Number:
        """The upper end."""
        return self.high

    def scaled(self, scale: Number) -> Uniform:
        """From the same lower end to another upper one."""
        return Uniform(self.low, scale)

    def __str__(self) -> str:
        return f"uniform from {_said(self.low)} to {_said(self.high)}"


@dataclass(frozen=True, slots=True)
class StudentT(Prior):
    """Student's t distribution: like a normal one with heavier tails, the fewer `df` the heavier."""

    df: Number
    scale: Number = 1.0
    centre: Number = 0.0

    def __post_init__(self) -> None:
        gate.positive("df", self.df)
        gate.positive("scale", self.scale)
        gate.finite("centre", self.centre)

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.asarray(log_t((x - self.centre) / self.scale, self.df) - np.log(self.scale))

    @property
    def about(self) -> tuple[Number, Number]:
        """Centre and scale."""
        return self.centre, self.scale

    def scaled(self, scale: Number) -> StudentT:
        """The same centre with another scale."""
        return StudentT(self.df, scale, self.centre)

    def __str__(self) -> str:
        return f"Student's t, df {_said(self.df)}, scale {_said(self.scale)}, centre {_said(self.centre)}"


@dataclass(frozen=True, slots=True)
class Cauchy(Prior):
    """Cauchy distribution: half of the effects lie within `scale` of `centre`."""

    scale: Number = 1.0
    centre: Number = 0.0

    def __post_init__(self) -> None:
        gate.positive("scale", self.scale)
        gate.finite("centre", self.centre)

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        return np.asarray(-np.log(np.pi * self.scale) - np.log1p(((x - self.centre) / self.scale) ** 2))

    @property
    def about(self) -> tuple[Number, Number]:
        """Centre and scale."""
        return self.centre, self.scale

    def scaled(self, scale: Number) -> Cauchy:
        """The same centre with another scale."""
        return Cauchy(scale, self.centre)

    def __str__(self) -> str:
        around = f" around {_said(self.centre)}" if np.any(self.centre) else ""
        return f"Cauchy{around}, scale {_said(self.scale)}"


@dataclass(frozen=True, slots=True)
class Flat(Prior):
    """Every effect is as likely as any other: no distribution, so that there is a posterior but no Bayes factor."""

    def log_density(self, x: Floats) -> Floats:
        """Nothing anywhere."""
        return np.zeros(np.shape(x))

    @property
    def about(self) -> tuple[Number, Number]:
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
    low: Number = -np.inf
    high: Number = np.inf

    def __post_init__(self) -> None:
        if not isinstance(self.prior, (Normal, Cauchy, StudentT, Uniform)):
            raise InputError.rule("prior", self.prior, "a Normal, Cauchy, StudentT or Uniform")
        low, high = (gate.floats(n, getattr(self, n)) for n in ("low", "high"))
        if not np.all(low < high):
            raise InputError.rule("high", self.high, f"above low ({_said(self.low)})")
        if not np.all(self.mass > 0):
            raise InputError(f"{self.prior} has no mass between {_said(self.low)} and {_said(self.high)}.")

    @property
    def mass(self) -> Number:
        """What the prior has between the ends before it is rescaled."""
        return chance_between(self.prior, self.low, self.high)

    def log_density(self, x: Floats) -> Floats:
        """Logarithm of the density."""
        inside = (x >= self.low) & (x <= self.high)
        return np.where(inside, self.prior.log_density(x) - np.log(self.mass), -np.inf)

    @property
    def about(self) -> tuple[Number, Number]:
        """Centre and spread of what is truncated."""
        return self.prior.about

    @property
    def scale_now(self) -> Number:
        """That of what is truncated."""
        return self.prior.scale_now

    @property
    def ends(self) -> tuple[Number, Number]:
        """Its limits."""
        low, high = self.prior.ends
        return np.maximum(low, self.low), np.minimum(high, self.high)

    def scaled(self, scale: Number) -> Truncated:
        """The same limits with another scale inside."""
        return Truncated(self.prior.scaled(scale), self.low, self.high)

    def __str__(self) -> str:
        return f"{self.prior}, from {_said(self.low)} to {_said(self.high)}"


@dataclass(frozen=True, slots=True)
class Beta:
    """Beta distribution of a share: worth `successes` and `failures` seen beforehand."""

    successes: float = 1.0
    failures: float = 1.0

    def __post_init__(self) -> None:
        gate.at_least("successes", gate.single("successes", gate.positive("successes", self.successes)), _LEAST)
        gate.at_least("failures", gate.single("failures", gate.positive("failures", self.failures)), _LEAST)

    def __str__(self) -> str:
        return f"Beta({self.successes:g}, {self.failures:g})"


@dataclass(frozen=True, slots=True)
class Gamma:
    """Gamma distribution of a rate: worth `events` seen beforehand over an `exposure`."""

    events: float
    exposure: float

    def __post_init__(self) -> None:
        gate.at_least("events", gate.single("events", gate.positive("events", self.events)), _LEAST)
        gate.positive("exposure", gate.single("exposure", self.exposure))

    def __str__(self) -> str:
        return f"Gamma({self.events:g}, {self.exposure:g})"


@dataclass(frozen=True, slots=True)
class Reference:
    """No knowledge of mean and variance: p(mean, s^2) = 1/s^2, so that there is a posterior but no Bayes factor."""

    def __str__(self) -> str:
        return "reference"


@dataclass(frozen=True, slots=True)
class NormalInverseGamma:
    """Of a mean and its variance: mean | s^2 ~ N(mean, s^2 / weight), s^2 ~ inverse gamma with a shape and a scale."""

    mean: float
    weight: float
    shape: float
    scale: float

    def __post_init__(self) -> None:
        gate.finite("mean", gate.single("mean", self.mean))
        for name in ("weight", "shape", "scale"):
            gate.positive(name, gate.single(name, getattr(self, name)))

    def __str__(self) -> str:
        spread = f"shape {self.shape:g}, scale {self.scale:g}"
        return f"normal-inverse-gamma, mean {self.mean:g}, weight {self.weight:g}, {spread}"


def log_t(x: Floats, df: Number) -> Floats:
    """Logarithm of Student's density."""
    df = np.asarray(df, dtype=float)
    constant = log_half_step(df / 2) - 0.5 * np.log(2 * np.pi)
    return np.asarray(constant - 0.5 * (df + 1) * np.log1p(x * x / df))


def chance_between(prior: Prior, low: Number, high: Number) -> Number:
    """What a prior has between two effects; by whichever tails keep the digits."""
    if isinstance(prior, Uniform):
        start, end = (np.clip(end, prior.low, prior.high) for end in (low, high))
        return scalar_or_array(np.asarray((end - start) / (prior.high - prior.low)))
    centre, spread = prior.about
    a, b = (np.asarray((end - centre) / spread) for end in (low, high))
    a, b = np.where(a > 0, -b, a), np.where(a > 0, -a, b)  # both in the upper tail: mirrored
    if isinstance(prior, Normal):
        return scalar_or_array(np.asarray(special.ndtr(b) - special.ndtr(a)))
    df = prior.df if isinstance(prior, StudentT) else 1.0
    return scalar_or_array(np.asarray(special.stdtr(df, b) - special.stdtr(df, a)))


def _said(value: Number) -> str:
    """A number, or the range of several."""
    if np.ndim(value) == 0:
        return f"{value:.4g}"
    return f"{np.min(value):.4g} to {np.max(value):.4g}"


_WORDS: dict[str, tuple[type[Any], str]] = {
    "normal": (Normal, "normal MEAN SD"),
    "halfnormal": (HalfNormal, "halfnormal SD [above|below]"),
    "uniform": (Uniform, "uniform LOW HIGH"),
    "cauchy": (Cauchy, "cauchy SCALE [CENTRE]"),
    "t": (StudentT, "t DF SCALE [CENTRE]"),
    "flat": (Flat, "flat"),
    "beta": (Beta, "beta SUCCESSES FAILURES"),
    "gamma": (Gamma, "gamma EVENTS EXPOSURE"),
    "reference": (Reference, "reference"),
    "normalinversegamma": (NormalInverseGamma, "normalinversegamma MEAN WEIGHT SHAPE SCALE"),
}


def written_as(kinds: tuple[type[Any], ...]) -> str:
    """How priors of some kinds are written on the command line."""
    forms = "; ".join(form for kind, form in _WORDS.values() if issubclass(kind, kinds))
    return forms + ("; then, if it is cut, from LOW to HIGH" if Prior in kinds else "")


def prior_of(text: str, kinds: tuple[type[Any], ...] = (Prior,)) -> Any:
    """Read a prior as the command line takes it: a name and its numbers, and the ends of a truncated one.

    Parameters
    ----------
    text : str
        Such as "uniform 0 9", "normal 0 2 from 0", "cauchy 0.7", "beta 2 5".
    kinds : tuple of type
        What it may be; others are refused with the forms that are known.

    Examples
    --------
    >>> prior_of("uniform 0 9")
    Uniform(low=0.0, high=9.0)
    >>> prior_of("normal 0 2 from 0")
    Truncated(prior=Normal(mean=0.0, sd=2.0), low=0.0, high=inf)
    """
    known = [word for word, (kind, _) in _WORDS.items() if issubclass(kind, kinds)]
    words = text.replace(",", " ").split()
    hint = f"Write one of: {written_as(kinds)}."
    if not words or words[0].casefold() not in known:
        raise InputError(f"The prior {text!r} is not known here. {hint}")
    kind, _ = _WORDS[words[0].casefold()]
    numbers: list[Any] = []
    ends: dict[str, float] = {}
    try:
        rest = iter(words[1:])
        for word in rest:
            if word in ("from", "to") and issubclass(kind, Prior):
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
    return Truncated(prior, **ends) if ends else prior
