"""What every way of drawing again asks for alike: the statistic, the units, and the way to resamples."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric.gate import Floats
from amber_ruler.resample.engines import ByCalls, ByOrder, BySums, Engine
from amber_ruler.resample.statistics import Statistic
from amber_ruler.resample.statistics import statistic as built_in
from amber_ruler.resample.units import Units, read
from amber_ruler.results import Group
from amber_ruler.samples.gate import check_labels


def read_both(
    treatment: Any,
    control: Any,
    asked: Any,
    *,
    value: str | None,
    per: str | None,
    covariate: str | Sequence[str],
    at: float,
    cluster: str | None,
    strata: str | None,
) -> tuple[Any, tuple[Units, ...]]:
    """The statistic, and the units of one sample or two."""
    given = [(treatment, "treatment" if control is not None else "group")]
    given += [(control, "control")] if control is not None else []
    if isinstance(asked, str):
        covariates = [covariate] if isinstance(covariate, str) else list(covariate)
        asked = built_in(asked, two=control is not None, value=value, per=per, covariate=covariates, at=at)
    elif not callable(asked):
        raise InputError.rule("statistic", asked, "a name or a function")
    elif value is not None or per is not None or covariate:
        raise InputError("value, per and covariate are of built-in statistics: a function takes what it needs itself.")
    needed = asked.needed if isinstance(asked, Statistic) else ()
    units = tuple(read(data, role, needed=needed, cluster=cluster, strata=strata) for data, role in given)
    if len(units) == 2:
        check_labels(units[0].label, units[1].label)
    return asked, units


def engine_of(
    asked: Any,
    units: tuple[Units, ...],
    takes: Literal["rows", "weights"],
    names: tuple[str, ...],
    weights: Literal["resampled", "poisson"],
    *,
    studentised: bool,
) -> Engine:
    """The way to the resamples that fits the statistic."""
    if not isinstance(asked, Statistic):
        if weights == "poisson" or studentised:
            what = "weights='poisson'" if weights == "poisson" else "interval='studentised'"
            raise InputError(f"{what} is of built-in statistics of sums: not of a function.")
        return ByCalls(units, asked, takes, names)
    if takes != "rows" or names:
        raise InputError("takes and names are of a function: a built-in statistic knows its own.")
    if asked.at is not None:
        if weights == "poisson" or studentised:
            raise InputError("A quantile is drawn by order statistics: leave weights out, and take another interval.")
        column, at = asked.needed[0], asked.at
        if all(u.whole and len(u.strata) == 1 for u in units):
            return ByOrder(units, column, at)
        return ByCalls(units, lambda *rows: _between([np.quantile(_column(r, column), at) for r in rows]))
    if studentised and asked.error is None:
        raise InputError(
            f"There is no formula for the error of {asked.title}: take another interval than 'studentised'."
        )
    if studentised and any(not u.whole or len(u.strata) > 1 for u in units):
        raise InputError("interval='studentised' is of plain units, without cluster and strata.")
    engine = BySums(units, asked, weights, studentised)
    engine.prepare()
    return engine


def called(function: Any) -> str:
    """What a function of one's own is called."""
    name = str(getattr(function, "__name__", "statistic"))
    return "statistic" if name.startswith("<") else name.strip("_").replace("_", " ")


def groups_of(asked: Any, units: tuple[Units, ...]) -> tuple[Group, ...]:
    """The samples as a result shows them."""
    if not isinstance(asked, Statistic) or asked.quantity in ("coefficient", "split"):
        return tuple(Group(u.label, len(u), float("nan")) for u in units)
    found = []
    for u in units:
        values = u.numbers(asked.needed[0])
        middle = float(np.quantile(values, asked.at)) if asked.at is not None else float(values.mean())
        if asked.quantity == "ratio":
            middle = float(values.sum() / u.numbers(asked.needed[1]).sum())
        sd = float(values.std(ddof=1)) if len(values) > 1 else 0.0
        found.append(Group(u.label, len(values), middle, sd, sd / len(values) ** 0.5))
    return tuple(found)


def finite_without(parts: Sequence[Floats]) -> None:
    """Say so where a statistic has no value without a unit."""
    lost = sum(int(np.sum(~np.isfinite(p))) for p in parts)
    if lost:
        raise DataError(f"The statistic has no value without {lost:,} of the units, one by one.")


def _column(rows: Any, name: str) -> Floats:
    return np.asarray(rows if isinstance(rows, np.ndarray) else rows[name], dtype=np.float64)


def _between(each: Sequence[Any]) -> Any:
    return each[0] if len(each) == 1 else each[0] - each[1]
