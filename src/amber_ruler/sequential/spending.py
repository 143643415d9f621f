"""Spending functions: how much of alpha may be used by a share of the information."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, TypeAlias

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats

Named: TypeAlias = Literal["obrien-fleming", "obrien-fleming-total", "pocock", "power", "hwang-shih-decani"]
Name: TypeAlias = Named | Literal["own"]
Spending: TypeAlias = Named | Callable[[Floats], Floats]
OWN: Literal["own"] = "own"  # a function of the caller's
SPENDING = {
    "obrien-fleming": "O'Brien–Fleming-like",
    "obrien-fleming-total": "O'Brien–Fleming-like of both sides' total",
    "pocock": "Pocock-like",
    "power": "power family",
    "hwang-shih-decani": "Hwang–Shih–DeCani",
}
SOURCES = {
    "power": "Kim & DeMets (1987), Biometrika 74, 149-154",
    "hwang-shih-decani": "Hwang, Shih & De Cani (1990), Statistics in Medicine 9, 1439-1445",
}
_LAN_DEMETS = "Lan & DeMets (1983), Biometrika 70, 659-663"


def source(spending: Spending | Name) -> str:
    """Where a spending function comes from."""
    return SOURCES.get(spending, _LAN_DEMETS) if isinstance(spending, str) else _LAN_DEMETS


def called(spending: Spending | Name, parameter: float | None) -> str:
    """A spending function in words."""
    if not isinstance(spending, str) or spending == OWN:
        return OWN
    more = {"power": "ρ", "hwang-shih-decani": "γ"}.get(spending)
    return SPENDING[spending] + (f", {more} = {parameter:g}" if more is not None and parameter is not None else "")


def parameter_of(spending: Spending, parameter: float | None, name: str = "spending") -> float | None:
    """The parameter of a family, or an error where it has none."""
    if spending == "power":
        return float(gate.positive("parameter", 1.0 if parameter is None else gate.single("parameter", parameter)))
    if spending == "hwang-shih-decani":
        value = -4.0 if parameter is None else gate.single("parameter", parameter)
        if not -40 <= value <= 40:
            raise InputError.rule("parameter", parameter, "between -40 and 40")
        return float(value)
    if parameter is not None:
        said = repr(spending) if isinstance(spending, str) else "of your own"
        raise InputError(f"{name}={said} has no parameter: leave it out.", name="parameter", value=parameter)
    if isinstance(spending, str):
        gate.choice(name, spending, SPENDING)
    return None


def spent(
    spending: Spending, fractions: Floats, alpha: float, *, sides: int = 2, parameter: float | None = None
) -> Floats:
    """Alpha used up by each information fraction, over all sides.

    References
    ----------
    .. [1] Lan & DeMets (1983), Biometrika 70, 659-663.
    .. [2] Kim & DeMets (1987), Biometrika 74, 149-154, for the power family.
    .. [3] Hwang, Shih & De Cani (1990), Statistics in Medicine 9, 1439-1445.
    """
    if not isinstance(spending, str):
        return _own(spending, fractions, alpha)
    gate.choice("spending", spending, SPENDING)
    if spending == "obrien-fleming":
        # Each side spends 2 (1 - Φ(z / √t)) of its alpha, z being the upper point of half of that.
        side = alpha / sides
        return np.asarray(sides * 2 * normal.sf(normal.upper_quantile(side / 2) / np.sqrt(fractions)))
    if spending == "obrien-fleming-total":
        return np.asarray(2 * normal.sf(normal.upper_quantile(alpha / 2) / np.sqrt(fractions)))
    if spending == "pocock":
        return np.asarray(alpha * np.log1p((np.e - 1) * fractions))
    value = parameter_of(spending, parameter) or 0.0
    if spending == "power":
        return np.asarray(alpha * fractions**value)
    return np.asarray(alpha * (fractions if value == 0 else np.expm1(-value * fractions) / np.expm1(-value)))


def _own(spending: Callable[[Floats], Floats], fractions: Floats, alpha: float) -> Floats:
    """A function of the caller's: the share of alpha that is used, 0 at no information and 1 at all of it."""
    share = gate.finite("spending", spending(fractions))
    whole = gate.finite("spending", spending(np.ones(1)))
    if share.shape != fractions.shape or abs(float(np.ravel(whole)[0]) - 1) > 1e-9:
        raise InputError("spending must take information fractions and give as many shares of alpha, 1 at all of it.")
    if np.any(np.diff(share, prepend=0.0) < 0) or np.any(share > 1 + 1e-9):
        raise InputError("spending must rise with the information, from 0 to 1: what was spent can't be had back.")
    return np.asarray(alpha * np.minimum(share, 1.0))
