"""Boundaries for a series of looks, exactly, by recursive integration."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Result
from amber_ruler.sequential import recursion
from amber_ruler.sequential.futility import alpha_if_ignored
from amber_ruler.sequential.operating import Operating, operating
from amber_ruler.sequential.recursion import Regions
from amber_ruler.sequential.rule import Own, Rule, drift_for, named_spending
from amber_ruler.sequential.shapes import SHAPES, Shape, delta_of
from amber_ruler.sequential.spending import Name, Spending

MOST_LOOKS = 200
_CLOSEST = 1e-4


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Boundaries(Result):
    """Critical values for a planned series of looks, and what they do.

    Attributes
    ----------
    fractions : ndarray, shape (k,)
        Information fraction at each look, rising to 1.
    z : ndarray, shape (k,)
        Stop for a difference when z at the look exceeds this (its size, of both sides); infinite at a look that is
        skipped.
    lower : ndarray, shape (k,)
        Stop for harm when z lies below this; minus infinity where that side is not tested.
    p : ndarray, shape (k,)
        The upper boundary as a nominal p-value, of both sides or of one.
    futility : ndarray, shape (k,), or None
        Give up when z lies at or below this; of both sides, when its size does. Minus infinity at a look at which
        that is skipped; the upper boundary at the last.
    spent, beta_spent : ndarray, shape (k,)
        Alpha used up by each look, under no difference, over the sides; and beta, under the planned effect.
    alpha, power : float
        Error rate over all looks and sides, and the power under the planned effect.
    drift : float
        That effect times the root of all information: with 2 groups of n, (effect / sd) √(n/2).
    inflation : float
        How many times as many units as a test with one look of the same alpha and power takes at most:
        drift² / (z_(1 - alpha/sides) + z_power)².
    alpha_if_ignored : float
        Error rate if futility is never obeyed; above alpha only where it is binding.
    operating : tuple of Operating
        What the looks do under no effect, half of the planned one, and the planned one.
    days, units : ndarray, shape (k,), or None
        The day of each look, and the units that there are by then, where arrivals were given.
    rule : Rule
        What was asked, as it is applied to looks as they come.
    """

    fractions: Floats
    z: Floats
    lower: Floats
    p: Floats
    spent: Floats
    alpha: float
    power: float
    drift: float
    inflation: float
    alpha_if_ignored: float
    operating: tuple[Operating, ...]
    rule: Rule
    futility: Floats | None = None
    beta_spent: Floats | None = None
    days: Floats | None = None
    units: Floats | None = None

    @property
    def sides(self) -> int:
        """1 or 2."""
        return self.rule.sides

    @property
    def spending(self) -> str:
        """The spending function or the shape, in words."""
        return self.rule.words

    @property
    def regions(self) -> Regions:
        """Where the path stops."""
        return Regions(self.fractions, self.z, self.lower, self.futility, self.sides == 2)

    def under(self, effect: float) -> Operating:
        """What the looks do under another effect, a multiple of the planned one.

        Examples
        --------
        >>> round(boundaries(5).under(1.5).power, 3)
        0.988
        """
        drift = float(gate.finite("effect", gate.single("effect", effect))) * self.drift
        return operating(recursion.walk(self.regions), drift, self.drift, sides=self.sides)


def boundaries(
    looks: int | Sequence[float],
    *,
    sides: Literal[1, 2] = 2,
    spending: Spending = "obrien-fleming",
    parameter: float | None = None,
    shape: Shape | None = None,
    interim: float | None = None,
    skip: Sequence[int] = (),
    harm: float | None = None,
    futility: Spending | None = None,
    futility_parameter: float | None = None,
    futility_skip: Sequence[int] = (),
    binding: bool = False,
    per_day: float | Sequence[float] | None = None,
    planned: float | None = None,
    alpha: float = 0.05,
    power: float = 0.8,
) -> Boundaries:
    """How extreme must a result be at each look, so that looking early stays honest?

    Parameters
    ----------
    looks : int or sequence of float
        A number of equally spaced looks, or rising information fractions in (0, 1] (the share of the planned
        units seen), or days where `per_day` is given. If the last fraction is below 1, the rest of alpha is kept.
    sides : 2 or 1
        Whether the test stops for a difference in either direction, or for treatment above control only.
    spending : str or callable
        How alpha is used up: "obrien-fleming" little of it early, 2 (1 - Φ(z_(α/2) / √t)) of each side's own alpha;
        "obrien-fleming-total" the same function of both sides' total; "pocock" about evenly, α ln(1 + (e - 1) t);
        "power" α t^ρ; "hwang-shih-decani" α (1 - e^(-γ t)) / (1 - e^(-γ)); or a function of the fractions that gives
        the share of alpha used, 1 at all information.
    parameter : float, optional
        ρ of "power" (1 unless given), γ of "hwang-shih-decani" (-4 unless given; 0 is linear), Δ of the shape
        "wang-tsiatis" (0.25 unless given).
    shape : "obrien-fleming", "pocock", "wang-tsiatis" or "haybittle-peto", optional
        A classical shape instead of spending: z = C / √t, C, C t^(Δ - ½), or `interim` at every look but the last. C,
        or the last boundary, is solved for.
    interim : float, optional
        z of the shape "haybittle-peto" before the last look; 3 unless given. Of a p-value below ½ its z: one-sided p
        where sides=1, else two-sided.
    skip : sequence of int
        Looks (from 1) at which the test may not stop: they spend nothing, and the next spends what is due.
    harm : float, optional
        Error rate of the lower side by itself, as for a guardrail: `alpha` is then that of the upper one (sides=1).
    futility : str or callable, optional
        Give up early: how beta, 1 - power, is used up under the planned effect, by one of the same functions. One-sided
        it lies below the boundary, two-sided around 0; it meets the boundary at the last look.
    futility_parameter, futility_skip
        Its parameter, and the looks at which it is skipped.
    binding : bool
        Whether alpha counts on futility being obeyed: lower boundaries for a difference, but a false one then is
        likelier than alpha if the test goes on all the same (`alpha_if_ignored`).
    per_day : float or sequence of float, optional
        Units that arrive each day, or on the first, second, ... day: `looks` are then days.
    planned : float, optional
        Units of the whole test, with `per_day`; those that are there at the last look unless given.
    alpha : float, above 0 and up to 0.5
        Error rate over all looks, of both sides together.
    power : float, between alpha and 1
        Chance to find the planned effect: of either side, or of the upper one.

    Returns
    -------
    Boundaries

    Raises
    ------
    InputError
        If fractions do not rise or leave (0, 1], a shape asks for more alpha than there is, every look is skipped, or
        futility meets the other boundary before the last look.

    Notes
    -----
    On the scale z √t the process has independent normal increments. The density of not having stopped is carried from
    look to look by Gauss-Legendre quadrature over the whole region, and each boundary solves for its share of alpha. A
    look stops where z is larger than its boundary, of either sign, as p < alpha everywhere. The planned effect is the
    one under which the power is reached; the power counts all looks.

    References
    ----------
    .. [1] Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244.
    .. [2] Lan & DeMets (1983), Biometrika 70, 659-663.
    .. [3] Pampallona, Tsiatis & Kim (2001), Drug Information Journal 35, 1113-1121, for futility.
    .. [4] Jennison & Turnbull (2000), Group Sequential Methods, chapters 2, 3, 7 and 19.

    Examples
    --------
    >>> boundaries(5).z.round(4).tolist()
    [4.8769, 3.357, 2.6803, 2.2898, 2.031]
    >>> boundaries(5, shape="pocock").z.round(3).tolist()
    [2.413, 2.413, 2.413, 2.413, 2.413]
    >>> round(boundaries(5).inflation, 4), round(boundaries(5).operating[2].expected_fraction, 3)
    (1.0247, 0.804)
    """
    rule = _rule(
        sides=sides,
        spending=spending,
        parameter=parameter,
        shape=shape,
        interim=interim,
        skip=skip,
        harm=harm,
        futility=futility,
        futility_parameter=futility_parameter,
        futility_skip=futility_skip,
        binding=binding,
        alpha=alpha,
        power=power,
    )
    if per_day is None:
        if planned is not None:
            raise InputError("planned goes with per_day, which is not given.", name="planned", value=planned)
        return applied(rule, fractions_of(looks))
    days, units, fractions = _calendar(looks, per_day, planned)
    return applied(rule, fractions, days, units)


def applied(
    rule: Rule,
    fractions: Floats,
    days: Floats | None = None,
    units: Floats | None = None,
    *,
    last: bool = False,
) -> Boundaries:
    """A rule at looks; the last of them spends all that is left if it is the last of the test."""
    solved = rule.solve(fractions, last=last)
    path, regions = solved.path, solved.path.regions
    drift = drift_for(path, rule.power, rule.alpha, sides=rule.sides)
    fixed = float(normal.upper_quantile(rule.alpha / rule.sides) + normal.quantile(rule.power))
    size = fractions.size
    said = {1: "one-sided", 2: "two-sided"}[rule.sides] + ("" if rule.harm is None else f", harm at {rule.harm:g}")
    words = [f"{rule.words}, {said}", *([rule.futility_words] if rule.futility else [])]
    return Boundaries(
        title=f"Boundaries for {size} look{'s' if size > 1 else ''}",
        method="; ".join(words),
        source=rule.source,
        fractions=fractions,
        z=regions.high,
        lower=regions.low,
        p=np.asarray(rule.sides * normal.sf(regions.high)),
        spent=solved.spent,
        alpha=rule.alpha,
        power=rule.power,
        drift=drift,
        inflation=(drift / fixed) ** 2,
        alpha_if_ignored=rule.alpha if rule.futility is None else alpha_if_ignored(path),
        operating=tuple(operating(path, share * drift, drift, sides=rule.sides) for share in (0.0, 0.5, 1.0)),
        rule=rule,
        futility=regions.futile,
        beta_spent=solved.beta_spent,
        days=days,
        units=units,
    )


def _rule(
    *,
    sides: int,
    spending: Spending,
    parameter: float | None,
    shape: Shape | None,
    interim: float | None,
    skip: Sequence[int],
    harm: float | None,
    futility: Spending | None,
    futility_parameter: float | None,
    futility_skip: Sequence[int],
    binding: bool,
    alpha: float,
    power: float,
) -> Rule:
    """What was asked, looked at."""
    alpha = rate("alpha", alpha)
    if sides not in (1, 2) or isinstance(sides, bool):
        raise InputError.rule("sides", sides, "1 or 2")
    power = float(gate.between("power", gate.single("power", power), 0, 1))
    if power <= alpha:
        raise InputError.rule("power", power, f"above alpha ({alpha:g})", "A test without any data reaches alpha.")
    if harm is not None:
        if sides == 2:
            raise InputError("harm is the error rate of the lower side by itself: say sides=1 for the upper.")
        harm = rate("harm", harm)
    if interim is not None and shape != "haybittle-peto":
        raise InputError("interim is of the shape 'haybittle-peto': leave it out.", name="interim", value=interim)
    if shape is not None:
        gate.choice("shape", shape, SHAPES)
        if spending != "obrien-fleming" or len(skip) or harm is not None:
            raise InputError("A classical shape takes no spending, skip or harm: leave them out.", name="shape")
        if binding:
            raise InputError("A classical shape is solved without futility: binding=True needs spending.", name="shape")
        if shape == "haybittle-peto":
            z = 3.0 if interim is None else float(gate.positive("interim", gate.single("interim", interim)))
            interim = float(normal.upper_quantile(z / sides)) if z < 0.5 else z
        delta = delta_of(shape, parameter)
        value = delta if shape == "wang-tsiatis" else None
        named: tuple[Name, float | None, Own | None] = ("obrien-fleming", value, None)
    else:
        named = named_spending("spending", spending, parameter)
    if futility is None:
        for option, given in (("futility_parameter", futility_parameter is not None), ("binding", binding)):
            if given:
                raise InputError(f"{option} goes with futility, which is not given.", name=option)
        if len(futility_skip):
            raise InputError("futility_skip goes with futility, which is not given.", name="futility_skip")
        gives_up: tuple[Name | None, float | None, Own | None] = (None, None, None)
    else:
        gives_up = named_spending("futility", futility, futility_parameter)
    return Rule(
        sides=sides,
        alpha=alpha,
        power=power,
        spending=named[0],
        parameter=named[1],
        skip=tuple(int(k) for k in np.atleast_1d(gate.whole("skip", list(skip), 1))) if len(skip) else (),
        harm=harm,
        shape=shape,
        interim=interim,
        futility=gives_up[0],
        futility_parameter=gives_up[1],
        futility_skip=tuple(int(k) for k in gate.whole("futility_skip", list(futility_skip), 1))
        if len(futility_skip)
        else (),
        binding=bool(binding),
        own=named[2],
        own_futility=gives_up[2],
    )


def rate(name: str, value: float) -> float:
    """An error rate: above 0, and up to one half."""
    number = gate.single(name, value)
    return 0.5 if number == 0.5 else float(gate.between(name, number, 0, 0.5))


def _calendar(
    looks: int | Sequence[float], per_day: float | Sequence[float], planned: float | None
) -> tuple[Floats, Floats, Floats]:
    """Days of looks, units by then, and their share of those planned."""
    days = gate.whole("looks", looks, 1)
    if days.ndim != 1 or days.size == 0 or np.any(np.diff(days) <= 0):
        raise InputError.rule("looks", looks, "days that rise, from 1, since per_day is given")
    each = gate.at_least("per_day", per_day, 0)
    if each.ndim == 0:
        units = days * gate.positive("per_day", each)
    elif each.ndim == 1 and days[-1] <= each.size:
        units = np.cumsum(each)[days.astype(int) - 1]
    else:
        raise InputError(f"per_day must hold the units of each day up to day {days[-1]:.0f}, got {each.size}.")
    whole = float(units[-1]) if planned is None else float(gate.positive("planned", gate.single("planned", planned)))
    if units[-1] > whole:
        raise InputError(f"By day {days[-1]:.0f} there are {units[-1]:,.0f} units, more than the {whole:,.0f} planned.")
    return days, units, fractions_of((units / whole).tolist())


def fractions_of(looks: int | Sequence[float]) -> Floats:
    """The information fractions of looks, given as such or as their number."""
    if np.ndim(looks) == 0:
        count = int(gate.whole("looks", looks, 1))
        if count > MOST_LOOKS:
            raise InputError(f"looks must be 1 to {MOST_LOOKS} looks, got {count}.")
        fractions = np.arange(1, count + 1) / count
    else:
        fractions = gate.finite("looks", looks)
    if fractions.ndim != 1 or not 1 <= fractions.size <= MOST_LOOKS:
        raise InputError(f"looks must be 1 to {MOST_LOOKS} looks, got {fractions.size}.")
    if fractions[0] <= 0 or fractions[-1] > 1 or np.any(np.diff(fractions) <= 0):
        raise InputError.rule("looks", fractions.tolist(), "information fractions that rise, above 0 and up to 1")
    gap = float(np.min(np.diff(fractions, prepend=0.0)))
    if gap < _CLOSEST:
        raise InputError(f"Looks must be at least {_CLOSEST:g} of the information apart, got {gap:.3g}.")
    return fractions
