"""Power over several comparisons at once: that any is found, that all are, and how often none should have been."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import dunnett, gate, normal, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import modifiers as change
from amber_ruler.results import Result

if TYPE_CHECKING:
    from amber_ruler.plan.designs.means import TwoMeans

_REACH = 8.5  # standard deviations of what comparisons share
_STEP, _FINEST = 0.05, 1e-4  # between its nodes; where comparisons hardly differ the nodes are closer
_DUNNETT = "Dunnett (1955), Journal of the American Statistical Association 50, 1096-1121"
_SENN = "Senn & Bretz (2007), Pharmaceutical Statistics 6, 161-170"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class FamilyPower(Result):
    """Power over several comparisons.

    Attributes
    ----------
    each : tuple of float
        Power of every comparison by itself.
    any : float
        Chance that at least one is found.
    all : float
        Chance that all are found.
    expected : float
        How many are found on average.
    error : float
        Chance of any false alarm where none has an effect (in both directions, if two-sided).
    single_alpha : float
        Error rate of each comparison.
    critical : float
        The t or z that a comparison has to pass.
    alpha : float
        The error rate asked for.
    units : tuple of int
        Units of each treatment and, last, of control, where there are groups.
    """

    each: tuple[float, ...]
    any: float
    all: float
    expected: float
    error: float
    single_alpha: float
    critical: float
    alpha: float
    units: tuple[int, ...] = ()


def of_treatments(design: TwoMeans, sizes: Floats, effects: Floats) -> FamilyPower:
    """Several treatments of any sizes against one control: see `TwoMeans.family_power`."""
    variants = design._modifier(change.Variants)
    assert variants is not None  # noqa: S101
    if design.sd_treatment is not None:
        raise DesignError("Power over several treatments takes one standard deviation: leave sd_treatment out.")
    for kind in (change.Covariate, change.Clusters, change.Margin, change.LookSchedule):
        if design._modifier(kind) is not None:
            raise DesignError(f"Power over several treatments is of a plain test: leave {design._modifier(kind)} out.")
    two_sided, alpha, count = design.alternative == "two-sided", float(design.alpha), effects.size
    arms, control = sizes[:-1], float(sizes[-1])
    df = np.inf if design.distribution == "normal" else float(sizes.sum() - sizes.size)
    loadings = np.sqrt(arms / (arms + control))  # of each statistic, on the control's mean
    critical = _critical(variants.correction, alpha, count, df, loadings, two_sided=two_sided)
    sign = -1.0 if design.alternative == "less" else 1.0
    shift = sign * effects / (design.sd * np.sqrt(1 / arms + 1 / control))
    spread, weight = (np.ones(1), np.ones(1)) if np.isinf(df) else (v[0] for v in student.spread_nodes(np.array([df])))
    z, rule = _shared(loadings)
    chances = _given(z, shift, loadings, critical * spread, two_sided=two_sided)
    none = _given(z, np.zeros(count), loadings, critical * spread, two_sided=two_sided)
    single = float(_tail(critical, df)) * (2 if two_sided else 1)
    return FamilyPower(
        title=f"{design.title}: power over {count} treatments",
        method=f"{variants}; all against one control",
        source=_DUNNETT,
        **_summed(chances, none, rule, weight),
        single_alpha=single,
        critical=float(critical),
        alpha=alpha,
        units=tuple(int(n) for n in sizes),
    )


def several_metrics(
    powers: ArrayLike,
    *,
    correlation: float = 0.0,
    alpha: float = 0.05,
    correction: Literal["none", "bonferroni", "sidak"] = "none",
    alternative: Literal["two-sided", "greater", "less"] = "two-sided",
) -> FamilyPower:
    """How likely is an effect found on any, and on all, of several metrics, each with a power of its own?

    Parameters
    ----------
    powers : sequence of float
        Power of the test of each metric at its own error rate; alpha itself for a metric without an effect.
    correlation : float, at least 0 and below 1
        Of any two metrics' estimates.
    alpha : float, between 0 and 0.5
        Error rate.
    correction : "none", "bonferroni" or "sidak"
        What makes it the error rate of each metric: none, where all have to win, or one of those.
    alternative : "two-sided", "greater" or "less"
        Direction of the tests.

    Returns
    -------
    FamilyPower
        `all` is the power where every metric must win, `any` where one is enough, and `error` the chance of any false
        alarm, which without a correction is above alpha.

    Raises
    ------
    InputError
        If there is no metric, or a number is out of its range.

    Notes
    -----
    Normal estimates whose correlation comes from something that all share. Two-sided tests count the far side too;
    effects are taken to go in the same direction.

    References
    ----------
    .. [1] Senn & Bretz (2007), Pharmaceutical Statistics 6, 161-170.

    Examples
    --------
    >>> found = several_metrics([0.8, 0.9], correlation=0.5)
    >>> round(found.all, 4), round(found.any, 4), round(found.error, 4)
    (0.7515, 0.9485, 0.0907)
    """
    each = gate.between("powers", powers, 0, 1)
    if each.ndim != 1 or each.size == 0:
        raise InputError.rule("powers", powers, "a power for each metric")
    rho = float(gate.at_least("correlation", gate.single("correlation", correlation), 0))
    if rho >= 1:
        raise InputError.rule("correlation", correlation, "below 1")
    gate.between("alpha", gate.single("alpha", alpha), 0, 0.5)
    gate.choice("alternative", alternative, gate.ALTERNATIVES)
    gate.choice("correction", correction, ("none", "bonferroni", "sidak"))
    two_sided, loadings = alternative == "two-sided", np.full(each.size, np.sqrt(rho))
    critical = _critical(correction, alpha, each.size, np.inf, loadings, two_sided=two_sided)
    single = float(normal.sf(critical)) * (2 if two_sided else 1)
    if np.any(each < single * (1 - 1e-12)):
        raise InputError.rule("powers", powers, f"at least {single:.4g}", "A test without any effect reaches that.")
    shift = _shift_of(each, critical, two_sided=two_sided)
    z, rule = _shared(loadings)
    chances = _given(z, shift, loadings, np.array([critical]), two_sided=two_sided)
    none = _given(z, np.zeros(each.size), loadings, np.array([critical]), two_sided=two_sided)
    return FamilyPower(
        title=f"Power over {each.size} metrics",
        method=f"normal tests, correlation {rho:g} of any two; correction: {correction}",
        source=_SENN,
        **_summed(chances, none, rule, np.ones(1)),
        single_alpha=single,
        critical=critical,
        alpha=alpha,
    )


def _shift_of(powers: Floats, critical: float, *, two_sided: bool) -> Floats:
    """The shift of a normal statistic that has such a power."""
    shift = np.asarray(critical + normal.quantile(powers))
    if two_sided:  # the far side counts too
        for _ in range(60):
            gap = normal.sf(critical - shift) + normal.cdf(-critical - shift) - powers
            slope = normal.pdf(critical - shift) - normal.pdf(critical + shift)
            shift = np.maximum(shift - np.where(slope > 1e-12, gap / np.maximum(slope, 1e-12), 0.0), 0.0)
    return shift


def _critical(correction: str, alpha: float, count: int, df: float, loadings: Floats, *, two_sided: bool) -> float:
    if correction == "dunnett":
        return dunnett.critical(alpha, df, loadings, two_sided=two_sided)
    single = {
        "none": alpha,
        "bonferroni": alpha / count,
        "sidak": float(-np.expm1(np.log1p(-alpha) / count)),
    }[correction]
    tail = single / (2 if two_sided else 1)
    return float(normal.upper_quantile(tail) if np.isinf(df) else student.upper_quantile(tail, df))


def _tail(critical: float, df: float) -> Floats:
    return normal.sf(critical) if np.isinf(df) else student.sf(critical, df)


def _shared(loadings: Floats) -> tuple[Floats, Floats]:
    """Deviates of what comparisons share, and their probabilities."""
    own = float(np.sqrt((1 - loadings) * (1 + loadings)).min())
    count = int(np.ceil(_REACH / max(min(_STEP, own / 2), _FINEST)))
    z = np.linspace(-_REACH, _REACH, 2 * count + 1)
    rule = normal.pdf(z)
    return z, rule / rule.sum()


def _given(z: Floats, shift: Floats, loadings: Floats, critical: Floats, *, two_sided: bool) -> Floats:
    """Chances that each comparison is found, given what they share (second axis) and the spread (third axis)."""
    own = np.sqrt((1 - loadings) * (1 + loadings))[:, None, None]
    centre = shift[:, None, None] + loadings[:, None, None] * z[:, None]
    found = special.ndtr((centre - critical) / own)
    return np.asarray(found + special.ndtr((-centre - critical) / own) if two_sided else found)


def _summed(chances: Floats, none: Floats, rule: Floats, weight: Floats) -> dict[str, Any]:
    def mean(given: Floats) -> float:
        return float(rule @ given @ weight)

    each = tuple(mean(one) for one in chances)
    with np.errstate(divide="ignore"):
        any_of, false = (mean(-np.expm1(np.log1p(-np.minimum(c, 1.0)).sum(axis=0))) for c in (chances, none))
    return {"each": each, "any": any_of, "all": mean(chances.prod(axis=0)), "expected": sum(each), "error": false}


def sizes_of(n: int | Sequence[int], ratio: float, count: int) -> Floats:
    """Units of every treatment and of control."""
    sizes = gate.whole("n", n, 2)
    if sizes.ndim == 0:
        return np.array([*np.full(count, np.maximum(2.0, np.ceil(ratio * float(sizes) * (1 - 1e-14)))), float(sizes)])
    if sizes.shape == (2,) and count != 1:
        return np.array([*np.full(count, sizes[0]), sizes[1]])
    if sizes.shape != (count + 1,):
        raise InputError.rule("n", n, f"units of {count} treatments and, last, of control")
    return np.asarray(sizes)
