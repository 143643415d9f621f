"""What is done to the rows before two variants are compared: one description, kept as data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any, Literal, TypeAlias

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate

Theta: TypeAlias = Literal["within", "total", "optimal"]
Shares: TypeAlias = Literal["sample", "precision"]
Ends: TypeAlias = Literal["upper", "both"]
Covariate: TypeAlias = str | Sequence[str]

PER = " per "  # between the two columns of a covariate that is itself a ratio


@dataclass(frozen=True, slots=True)
class Steps:
    """How a difference is sharpened: capped, its units found, in strata, by covariates, as a ratio; made by `steps`.

    Attributes
    ----------
    cap : float or None
        Quantile of all variants together at which values are capped.
    cap_at : float or None
        Value at which they are capped.
    ends : "upper" or "both"
        Which ends are capped; of both, the lower one at 1 - cap, or at -cap_at.
    strata : str or None
        Column with the strata.
    shares : "sample", "precision", or mapping of stratum to share
        What a stratum counts.
    covariate : tuple of str
        Columns known before the test; "a per b" is a ratio of two.
    theta : "within", "total" or "optimal"
        How the covariates' slopes are found.
    per : str or None
        Column that the metric is counted by: the metric is then the total of one over the total of the other.
    cluster : str or None
        Column that names what was randomised, where it has several rows.
    known_on, assigned_on : str or None
        Columns with the days on which the covariates were known, and the unit assigned.
    """

    cap: float | None = None
    cap_at: float | None = None
    ends: Ends = "upper"
    strata: str | None = None
    shares: Shares | Mapping[str, float] = "sample"
    covariate: tuple[str, ...] = ()
    theta: Theta = "within"
    per: str | None = None
    cluster: str | None = None
    known_on: str | None = None
    assigned_on: str | None = None

    def __post_init__(self) -> None:
        listed = (self.covariate,) if isinstance(self.covariate, str) else self.covariate
        if not isinstance(listed, (tuple, list)) or not all(isinstance(name, str) and name for name in listed):
            raise InputError.rule("covariate", self.covariate, "the name of a column, or a list of such names")
        object.__setattr__(self, "covariate", tuple(listed))
        for name in ("strata", "per", "cluster", "known_on", "assigned_on"):
            value = getattr(self, name)
            if value is not None and (not isinstance(value, str) or not value):
                raise InputError.rule(name, value, "the name of a column")
        if len(set(self.covariate)) < len(self.covariate):
            raise InputError.rule("covariate", list(self.covariate), "each named once")
        gate.choice("theta", self.theta, ("within", "total", "optimal"))
        gate.choice("ends", self.ends, ("upper", "both"))
        if self.cap is not None:
            gate.between("cap", gate.single("cap", self.cap), 0.5, 1, "cap_at takes a value.")
        if self.cap_at is not None:
            gate.finite("cap_at", gate.single("cap_at", self.cap_at))
            if self.ends == "both":
                gate.positive("cap_at", self.cap_at, "Both ends are capped at this value and at its negative.")
        self._check_shares()
        self._check_together()

    def _check_shares(self) -> None:
        shares = self.shares
        if isinstance(shares, Mapping):
            for level, share in shares.items():
                gate.positive(f"shares of {level!r}", gate.single("shares", share))
        else:
            gate.choice("shares", shares, ("sample", "precision"))

    def _check_together(self) -> None:
        if self.cap is not None and self.cap_at is not None:
            raise InputError("Give cap, a quantile, or cap_at, a value: not both.")
        if (self.known_on is None) != (self.assigned_on is None):
            raise InputError(
                "known_on and assigned_on go together: the one is held against the other.", name="known_on"
            )
        if self.known_on is not None and not self.covariate:
            raise InputError("known_on is of covariates, and there is none.", name="known_on")
        if self.ends != "upper" and self.cap is None and self.cap_at is None:
            raise InputError("ends says which values are capped: give cap or cap_at.", name="ends", value=self.ends)
        if self.theta != "within" and not self.covariate:
            raise InputError("theta is of covariates, and there is none.", name="theta", value=self.theta)
        if self.strata is None and self.shares != "sample":
            raise InputError("shares says what a stratum counts: name the column in strata.", name="shares")
        if self.shares == "precision" and (self.per or self.cluster):
            raise InputError(
                "A ratio is of totals over all strata: shares by precision would change what is measured. Leave one"
                " of the two out.",
                name="shares",
            )
        for name in ("strata", "cluster", "per"):
            if getattr(self, name) is not None and getattr(self, name) in self.covariate:
                raise InputError(f"{getattr(self, name)!r} can't be a covariate and {name} at once.", name=name)

    @property
    def parts(self) -> list[tuple[str, ...]]:
        """The columns of each covariate: one, or the two of a ratio."""
        return [tuple(part.strip() for part in name.split(PER, 1)) for name in self.covariate]

    @property
    def numbers(self) -> tuple[str, ...]:
        """Columns of numbers beside the metric's own."""
        per = () if self.per is None else (self.per,)
        return tuple(dict.fromkeys((*per, *(name for part in self.parts for name in part))))

    @property
    def labels(self) -> tuple[str, ...]:
        """Columns of labels."""
        return tuple(name for name in (self.strata, self.cluster) if name is not None)

    @property
    def days(self) -> tuple[str, ...]:
        """The columns with days, both or none."""
        return tuple(name for name in (self.known_on, self.assigned_on) if name is not None)

    @property
    def needs_rows(self) -> str:
        """What of it can't be had from moments, in words; empty where all can."""
        if self.cap is not None or self.cap_at is not None:
            return "capping changes single values"
        if self.days:
            return "days have to be seen in each row"
        return f"{self.cluster} has to be seen in each row" if self.cluster else ""

    def to_dict(self) -> dict[str, Any]:
        """Plain types: what differs from the usual."""
        usual = Steps()
        found = {f.name: getattr(self, f.name) for f in fields(self) if getattr(self, f.name) != getattr(usual, f.name)}
        return {name: list(v) if isinstance(v, tuple) else v for name, v in found.items()}
