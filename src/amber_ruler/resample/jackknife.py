"""The jackknife: what a statistic would be without each unit."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal

import numpy as np

from amber_ruler.effects import Alternative
from amber_ruler.effects import tails as tails_of
from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.resample import asking
from amber_ruler.resample.engines import ByCalls, BySums
from amber_ruler.resample.statistics import Name, Statistic
from amber_ruler.resample.units import Units, one_way
from amber_ruler.results import Comparison, Estimate, Influence, Interval


def jackknife(
    treatment: Any,
    control: Any = None,
    *,
    statistic: Name | Callable[..., Any] = "mean",
    value: str | None = None,
    per: str | None = None,
    covariate: str | Sequence[str] = (),
    at: float = 0.5,
    cluster: str | None = None,
    strata: str | None = None,
    groups: int | None = None,
    top: int = 10,
    alpha: float = 0.05,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
) -> Estimate | Comparison:
    """How much does a statistic rest on each unit, how uncertain is it, and which units carry it?

    Parameters
    ----------
    treatment, control, statistic, value, per, covariate, at, cluster, strata
        As for `bootstrap`; a function gives a single number.
    groups : int, optional
        Leave out groups of units instead, so many of each sample and stratum: every k-th unit together.
    top : int
        How many units are told, those first that move the statistic most.
    alpha, alternative, margin, good, metric
        As for `measure.means`.

    Returns
    -------
    Estimate or Comparison
        The statistic, with its jackknife standard error and the t interval of it. In `facts` the bias; in `influence`
        the units that carry the result, and what it would be without each.

    Raises
    ------
    DataError
        If a sample or stratum has one unit, or the statistic has no value without one.

    Notes
    -----
    Of u units the variance is (u − 1)/u Σ (θ₋ᵢ − their mean)², of two samples or strata the sum; the bias is (u − 1)
    (mean of θ₋ᵢ − θ), likewise. Degrees of freedom are u − 1, of several parts Satterthwaite's. It is not consistent
    for quantiles (Efron 1979): take `bootstrap`.

    References
    ----------
    .. [1] Tukey (1958), Annals of Mathematical Statistics 29, 614.
    .. [2] Efron & Stein (1981), Annals of Statistics 9, 586-596.

    Examples
    --------
    >>> r = jackknife([12.0, 0.0, 9.5, 31.0, 22.5])
    >>> r.estimate, round(r.se, 4), r.influence.units[0]
    (15.0, 5.3689, 'row 3')
    """
    tails = tails_of(alpha, alternative)
    room = None if margin is None else float(gate.at_least("margin", margin, 0))
    gate.choice("good", good, ("higher", "lower"))
    gate.whole("top", top, 0)
    asked, units = asking.read_both(
        treatment, control, statistic, value=value, per=per, covariate=covariate, at=at, cluster=cluster, strata=strata
    )
    if isinstance(asked, Statistic) and asked.at is not None:
        raise InputError("The jackknife is not consistent for quantiles (Efron 1979): take bootstrap.")
    for u in units:
        one_way(u, 2)
    if groups is not None:
        fewest = min(len(part) for u in units for part in u.strata)
        if not 2 <= gate.whole("groups", groups, 2) <= fewest:
            raise InputError.rule("groups", groups, f"from 2 to the {fewest} units of the smallest part")
    engine = asking.engine_of(asked, units, "rows", (), "resampled", studentised=False)
    theta = engine.observed()
    if len(theta) > 1:
        raise InputError("A jackknife is of one number: ask for one coefficient, by a function.")
    parts = _without(engine, groups)
    spread, bias, df = _summed(parts, float(theta[0]))
    se = float(np.sqrt(spread))
    quantile = [float(student.upper_quantile(t, df)) if t > 0 else np.inf for t in tails]
    named, moved, without = _carriers(units, parts, float(theta[0]), groups, int(top))
    own = not isinstance(asked, Statistic)
    title = asking.called(statistic) if own else str(asked.title)
    name = metric or ("" if own or asked.needed[0] == "value" else asked.needed[0]) or title
    shown: dict[str, Any] = {
        "title": f"{name}: {title}" if title != name else title,
        "method": f"jackknife, without each of {sum(map(len, parts)):,} {'groups' if groups else 'units'}",
        "source": "Tukey (1958), AMS 29, 614; Efron & Stein (1981), Annals of Statistics 9, 586-596",
        "metric": name,
        "estimate": float(theta[0]),
        "se": se,
        "interval": Interval(float(theta[0]) - quantile[0] * se, float(theta[0]) + quantile[1] * se, 1 - alpha),
        "facts": {"bias": bias, "df": df},
        "quantity": "statistic" if own else asked.quantity,
        "good": good,
        "margin": room,
        "groups": asking.groups_of(asked, units),
        "parts": (Influence(units=named, moved=moved, without=without),),
    }
    if control is None:
        return Estimate(label=units[0].label, **shown)
    return Comparison(treatment=units[0].label, control=units[1].label, **shown)


def _without(engine: Any, groups: int | None) -> list[Floats]:
    """For every sample and stratum the statistic without each unit, or each group."""
    if isinstance(engine, ByCalls):
        return [each[:, 0] for each in engine.without_one(groups)]
    assert isinstance(engine, BySums)  # noqa: S101 - of quantiles there is none
    return [each[:, 0] for each in (engine.without_one() if groups is None else engine.without_group(groups))]


def _summed(parts: Sequence[Floats], theta: float) -> tuple[float, float, float]:
    """Variance, bias and degrees of freedom."""
    asking.finite_without(parts)
    each = [(len(p) - 1) / len(p) * float(np.sum((p - p.mean()) ** 2)) for p in parts]
    bias = sum((len(p) - 1) * (float(p.mean()) - theta) for p in parts)
    whole = sum(each)
    below = sum(v * v / (len(p) - 1) for v, p in zip(each, parts, strict=True))
    df = whole**2 / below if below > 0 else float(sum(len(p) - 1 for p in parts))
    return whole, bias, df


def _carriers(
    units: tuple[Units, ...], parts: Sequence[Floats], theta: float, groups: int | None, top: int
) -> tuple[tuple[str, ...], Floats, Floats]:
    """The units that move the statistic most, by how much, and what it is without them."""
    names: list[str] = []
    for u in units:
        of = f"{u.label}: " if len(units) > 1 else ""
        for part in u.strata:
            plain = [u.names[k] if u.names else f"row {k}" for k in part]
            names += [f"{of}{name}" for name in (plain if groups is None else [f"group {g}" for g in range(groups)])]
    without = np.concatenate(parts)
    order = np.argsort(-np.abs(theta - without), kind="stable")[:top]
    return tuple(names[k] for k in order), theta - without[order], without[order]
