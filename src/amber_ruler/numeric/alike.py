"""Formulas that stand once, for arrays and for single numbers, which are many times faster by themselves."""

from __future__ import annotations

import math
from types import SimpleNamespace
from typing import Any

import numpy as np


def _quotient(top: float, bottom: float) -> float:
    """Divide floats as arrays do."""
    if bottom:
        return top / bottom
    return math.copysign(math.inf, top) if top else math.nan


def _quotients(top: Any, bottom: Any) -> Any:
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        return np.divide(top, bottom)


def _logs(x: Any) -> Any:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.log(x)


ARRAYS = SimpleNamespace(
    sqrt=np.sqrt, exp=np.exp, hypot=np.hypot, least=np.minimum, most=np.maximum, where=np.where,
    quotient=_quotients, copysign=np.copysign, log=_logs, log1p=np.log1p, expm1=np.expm1, tanh=np.tanh,
    arcsinh=np.arcsinh, isfinite=np.isfinite, size=np.abs, both=np.logical_and, all=np.all,
)  # fmt: skip
NUMBERS = SimpleNamespace(
    sqrt=math.sqrt, exp=math.exp, hypot=math.hypot, least=min, most=max, where=lambda test, a, b: a if test else b,
    quotient=_quotient, copysign=math.copysign, tanh=math.tanh, arcsinh=math.asinh,
    log=lambda x: math.log(x) if x > 0 else math.nan if x else -math.inf, log1p=math.log1p, expm1=math.expm1,
    isfinite=math.isfinite,
    size=abs, both=lambda a, b: a and b, all=bool,
)  # fmt: skip


def alike(*values: Any) -> tuple[Any, list[Any]]:
    """The functions for these values, and the values: floats where each is a single number, else arrays as they are."""
    if any(np.ndim(v) for v in values):
        return ARRAYS, list(values)
    return NUMBERS, [float(v) for v in values]
