"""Planning tests of shares."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, Self

import numpy as np

from amber_ruler.errors import DesignError
from amber_ruler.measure.proportion import wilson
from amber_ruler.numeric import binomial, gate, normal, score
from amber_ruler.numeric.exact import arcsine_distance
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.stirling import expm1_less
from amber_ruler.plan import draws
from amber_ruler.plan import modifiers as change
from amber_ruler.plan import outcomes as exactly
from amber_ruler.plan.designs.estimated import Estimated, TwoGroups, room
from amber_ruler.plan.designs.means import MEAN_WAYS, known_baseline
from amber_ruler.plan.planned import Units, Ways
from amber_ruler.plan.powers import power_of_estimate, tails
from amber_ruler.plan.search import MOST_UNITS

_ONE_SHARE = {
    "exact": "exact binomial test",
    "mid-p": "binomial test by mid-p",
    "score": "score test",
    "corrected": "score test with continuity correction",
    "wald": "Wald test",
    "likelihood": "likelihood ratio test",
    "arcsine": "difference of arcsines",
}
_TWO_SHARES = {
    "score": "score test",
    "unpooled": "unpooled test",
    "corrected": "score test with continuity correction",
    "arcsine": "difference of arcsines",
}
_FLEISS = "Fleiss, Levin & Paik (2003), Statistical Methods for Rates and Proportions"


@dataclass(frozen=True, kw_only=True)
class Shares(Estimated):
    """What one share and two have in common.

    Parameters
    ----------
    baseline : float, between 0 and 1
        The share without the effect; only `sample_size_for_width` can do without.
    power_from : "normal" or "outcomes"
        Whether the power is approximated by the normal distribution, or all outcomes are counted.
    """

    percent = True
    ways = MEAN_WAYS
    _share: ClassVar[str]
    _exact_allows: ClassVar[frozenset[type]] = frozenset({change.Traffic, change.Attrition})

    baseline: float | None = None
    power_from: Literal["normal", "outcomes"] = "normal"

    def __post_init__(self) -> None:
        if self.baseline is not None:
            gate.between("baseline", self.baseline, 0, 1)
        gate.choice("power_from", self.power_from, ("normal", "outcomes"))
        super().__post_init__()

    def _exact(self) -> bool:
        return self.power_from == "outcomes"

    def _needed(self) -> Floats:
        if self.baseline is None:
            raise DesignError(f"A test needs the share without the effect: {type(self).__name__}(baseline=…).")
        return np.asarray(self.baseline, dtype=np.float64)

    def _ways(self) -> Ways:
        return share_ways(self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        return {} if self.baseline is None else share_told(effect, self.baseline, self._share)

    def _possible(self, effect: Floats) -> Floats:
        return effect if self.baseline is None else inside(effect, np.asarray(self.baseline))

    def _most(self, sign: float) -> Floats:
        return room(sign, self._needed())

    def _with(self, modifier: change.Modifier) -> Self:
        if self._exact() and type(modifier) not in self._exact_allows:
            raise DesignError(f"Exact power counts independent units: {modifier} needs power_from='normal'.")
        return super()._with(modifier)

    def _continuous(self) -> bool:
        return not self._exact() and super()._continuous()

    def _solve_n(
        self, effect: Floats, target: Floats, recruits: Callable[[Floats], Units] | None = None
    ) -> tuple[Floats, Floats]:
        if not self._exact() or recruits is not None:
            return super()._solve_n(effect, target, recruits)
        n = exactly.lasting_sizes(self, effect, target, self._approximate_n(effect, target))
        return n, self._power_with(effect, self._recruits(np.minimum(n, MOST_UNITS)))

    def _by_normal(self) -> Self:
        """The same by the normal distribution."""
        return replace(self, power_from="normal")

    def _approximate_n(self, effect: Floats, target: Floats) -> Floats:
        return self._by_normal()._solve_n(effect, target)[0]

    def _size_notes(self, effect: Floats, target: Floats, n: Floats) -> tuple[str, ...]:
        if not self._exact():
            return ()
        return exactly.saw_tooth(self, effect, target, n, self._approximate_n(effect, target))

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        if self.baseline is None:
            return replace(self._by_normal(), baseline=0.5)._half_width(np.asarray(0.0), units)
        return super()._half_width(effect, units)

    def _notes(self) -> tuple[str, ...]:
        if self.baseline is None:
            return ("The share is not known: the width is that of the worst case, a share of one half.",)
        return ()


@dataclass(frozen=True, kw_only=True)
class OneProportion(Shares):
    """A test of one share against a fixed value.

    Parameters
    ----------
    baseline : float, between 0 and 1
        The tested share; only `sample_size_for_width` can do without, and then takes the worst case, one half.
    test : "exact", "mid-p", "score", "corrected", "wald", "likelihood" or "arcsine", optional
        Which test: the exact binomial one from outcomes unless said, the score test by the normal distribution.
        "corrected" is the score less half a success; "wald" takes the standard error of the share seen; "likelihood"
        is the signed root of the likelihood ratio; "arcsine" the difference of arcsines.
    power_from : "outcomes" or "normal"
        Whether every outcome of that test is counted, or its power is approximated by the normal distribution.
    interval : "wald", "wilson" or "clopper-pearson"
        Whose width is planned: estimate ± z sqrt(p (1 - p) / n) ("wald"), or another one that `measure.proportion` has.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    The power of an exact test goes up and down as units are added, since successes are whole. The sample size is
    the smallest from which the power never falls below the target again; a note names the smallest that reaches it
    at all. A two-sided exact test gives each tail half of alpha, as the exact interval of Clopper and Pearson.
    The width is that of `interval`, seen at n p successes; the mean width, and the one kept with a chance, are those
    over all outcomes.

    References
    ----------
    .. [1] Chernick & Liu (2002), The American Statistician 56, 149-155, for the saw-tooth.
    .. [2] Fleiss, Levin & Paik (2003), Statistical Methods for Rates and Proportions, 3rd ed., section 2.5.

    Examples
    --------
    >>> plan = OneProportion(baseline=0.5).sample_size(effect=0.2, power=0.8)
    >>> plan.n, round(plan.power, 4)
    (54, 0.8368)
    >>> OneProportion().sample_size_for_width(half_width=0.03).n
    1068
    """

    title = "One proportion"
    method = "one proportion, exact binomial test"
    source = f"{_FLEISS}, chapter 2"
    effect_name = "share − tested share"
    measured_by = "proportion"
    _share = "share"

    test: Literal["exact", "mid-p", "score", "corrected", "wald", "likelihood", "arcsine"] | None = None
    power_from: Literal["normal", "outcomes"] = "outcomes"
    interval: Literal["wald", "wilson", "clopper-pearson"] = "wald"
    allowed: ClassVar[frozenset[type]] = Shares.allowed | {change.Population}
    _exact_allows = Shares._exact_allows | {change.Population}

    def __post_init__(self) -> None:
        gate.choice("interval", self.interval, ("wald", "wilson", "clopper-pearson"))
        if self.test is not None:
            gate.choice("test", self.test, _ONE_SHARE)
            if self.test in ("exact", "mid-p") and self.power_from == "normal":
                raise DesignError(f"The power of test={self.test!r} is counted: power_from='outcomes'.")
        super().__post_init__()

    def _test(self) -> str:
        return self.test or ("exact" if self._exact() else "score")

    def _by_normal(self) -> Self:
        return replace(self, power_from="normal", test="score" if self._test() in ("exact", "mid-p") else self.test)

    def _with(self, modifier: change.Modifier) -> Self:
        if isinstance(modifier, change.Margin) and self._test() != "score":
            raise DesignError(f"A margin is planned with the score test: {self._test()} does not go with it.")
        return super()._with(modifier)

    def _least(self) -> float:
        return 1.0

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        p0, p1 = self._needed() + null, self._needed() + effect
        if np.any((p0 <= 0) | (p0 >= 1)):
            raise DesignError("The margin reaches beyond 0 or 1 from this share: take a smaller one.")
        factor = self._variance_factor() * self._left(units, lost=1) / units[0]
        under = p1 if self._test() == "wald" else p0
        return np.sqrt(_variance(under) * factor), np.sqrt(_variance(p1) * factor)

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        test, base = self._test(), self._needed()
        low, high = tails(np.asarray(self.alpha), self.alternative)
        if self._exact():
            if self._modifier(change.Population) is not None:
                raise DesignError("Of a population that is drawn from, the power is planned with power_from='normal'.")
            if test == "exact":
                return exactly.power_of_binomial(base, effect, units[0], low, high)
            return exactly.power_of_one(test, base, effect, units[0], low, high)
        factor = self._variance_factor()
        if test == "likelihood":
            away = np.sign(effect) * np.sqrt(2 * divergence(base, effect))
            error = np.sqrt(factor / units[0])
            return power_of_estimate(away, error, error, None, low, high)
        if test == "arcsine":
            error = np.sqrt(factor / units[0])
            return power_of_estimate(arcsine_distance(base + effect, base, effect), error, error, None, low, high)
        if test == "corrected":
            errors = self._errors(effect, np.asarray(0.0), units)
            return power_of_estimate(effect, *errors, None, low, high, correction=factor / (2 * units[0]))
        return super()._power_of(effect, units)

    def _half_width(self, effect: Floats, units: Units) -> Floats:
        if self.interval == "wald":
            return super()._half_width(effect, units)
        share = np.asarray(0.5 if self.baseline is None else self.baseline) + effect
        return self._halves(units[0] * share, units[0])

    def _halves(self, x: Floats, n: Floats) -> Floats:
        """Half of the length of the interval at so many successes."""
        if self._variance_factor() != 1 or self._modifier(change.Population) is not None:
            raise DesignError(f"The {self.interval} interval is one of independent units: take interval='wald'.")
        tail = float(self.alpha) / 2
        if self.interval == "clopper-pearson":
            low, high = binomial.exact_limits(x, n, tail, tail)
        elif self.interval == "wilson":
            z = float(normal.upper_quantile(tail))
            low, high = wilson(x, n, (z, z))
        else:
            share = x / n
            low, high = np.zeros(x.shape), 2 * normal.upper_quantile(tail) * np.sqrt(share * (1 - share) / n)
        return np.asarray((high - low) / 2)

    def _smooth_width(self, *, planned: bool) -> bool:
        return planned

    def _widening(self, effect: Floats, units: Units, assurance: float | None) -> Floats:
        share = np.asarray(0.5 if self.baseline is None else self.baseline) + effect
        share, n = gate.aligned(share, units[0])
        planned, found = np.broadcast_to(self._half_width(effect, units), n.shape), np.empty(n.shape)
        for at in np.ndindex(n.shape):
            x, chances = exactly.outcomes(float(share[at]), float(n[at]))
            half = self._halves(x, np.full(x.shape, n[at]))
            if assurance is None:
                found[at] = chances @ half / chances.sum()
                continue
            order = np.argsort(half, kind="stable")
            reached = np.searchsorted(np.cumsum(chances[order]), assurance * (1 - 1e-12))
            found[at] = half[order][min(int(reached), x.size - 1)]
        return np.asarray(found / planned)

    def _solve_width(
        self, effect: Floats, width: Floats, kind: str = "planned", assurance: float | None = None
    ) -> Floats:
        n = super()._solve_width(effect, width, kind, assurance)
        if (kind == "planned" and assurance is None) or not np.all(np.isfinite(n)) or np.ndim(n):
            return n
        # Over outcomes the width goes up and down a little as units are added: the smallest from which it lasts.
        away = np.ceil(4 * np.sqrt(n)) + 20
        sizes = np.arange(max(self._least() + 1, n - away), n + away + 1)
        reach = self._reach(np.broadcast_to(effect, sizes.shape), self._analysed((sizes,)), kind, assurance)
        wide = np.flatnonzero(reach > width)
        return np.asarray(sizes[wide[-1] + 1] if wide.size else sizes[0])

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        draws.independent(self)
        base = float(self._needed())
        counts = draws.counts(rng, base + effect, units[0], runs, "group")
        if self._test() in ("likelihood", "arcsine"):
            raise DesignError(f"There is no measuring function of the {self._test()} test to simulate.")
        corrected = {"test": "score", "continuity": "half"}
        return (counts,), corrected if self._test() == "corrected" else {"test": self._test()}

    def _null(self, difference: float) -> float:
        return float(self._needed()) + difference

    def _method_said(self) -> str:
        said = super()._method_said().replace("exact binomial test", _ONE_SHARE[self._test()])
        if self._exact() and self.baseline is not None:
            return said if self._test() == "exact" else f"{said}, exact power by enumeration"
        return f"{said}, normal distribution"


@dataclass(frozen=True, kw_only=True)
class TwoProportions(Shares, TwoGroups):
    """A test of treatment against control by the share of successes.

    Parameters
    ----------
    baseline : float, between 0 and 1
        Share of successes in control; only `sample_size_for_width` can do without, and then takes the worst case.
    test : "score", "unpooled", "corrected" or "arcsine"
        Whether the standard error under "no difference" pools both shares, or keeps each its own; "corrected" is the
        score test with Yates's continuity correction, "arcsine" the difference of arcsines.
    power_from : "normal" or "outcomes"
        Whether the power of that test is approximated by the normal distribution, or summed over all outcomes.
    ratio : float
        Treatment units for each control unit.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    Both tails count when the test is two-sided. Effects are differences of shares: 0.01 is one percentage point. `n`
    is the units in control, or a pair (treatment, control). Against a margin the score test has both shares at their
    maximum likelihood under the margin (Farrington & Manning 1990). From outcomes the size is the smallest from which
    the power never falls below the target again; against a margin the outcomes are those of the same score.

    References
    ----------
    .. [1] Fleiss, Levin & Paik (2003), Statistical Methods for Rates and Proportions, 3rd ed., section 4.2.
    .. [2] Farrington & Manning (1990), Statistics in Medicine 9, 1447-1454.
    .. [3] Casagrande, Pike & Smith (1978), Biometrics 34, 483-486, for the correction.
    .. [4] Cohen (1988), Statistical Power Analysis, 2nd ed., chapter 6, for arcsines.

    Examples
    --------
    >>> plan = TwoProportions(baseline=0.10).sample_size(effect=0.02, power=0.8)
    >>> plan.n_control, plan.n_total, round(plan.power, 4)
    (3841, 7682, 0.8)
    """

    title = "Two proportions"
    method = "two proportions, score test, normal distribution"
    source = f"{_FLEISS}, section 4.2"
    measured_by = "proportions"
    _share = "treatment share"
    _exact_allows = Shares._exact_allows | {change.Variants, change.Margin}

    test: Literal["score", "unpooled", "corrected", "arcsine"] = "score"

    def __post_init__(self) -> None:
        gate.choice("test", self.test, tuple(_TWO_SHARES))
        if self.test in ("corrected", "arcsine") and self.power_from == "outcomes":
            raise DesignError(f"test={self.test!r} has power_from='normal'.")
        super().__post_init__()

    def _with(self, modifier: change.Modifier) -> Self:
        if isinstance(modifier, change.Margin) and self.test in ("corrected", "arcsine"):
            raise DesignError(f"A margin is planned with the score or the unpooled test, not with {self.test}.")
        if isinstance(modifier, change.Margin) and modifier.lift is not None and self._exact():
            raise DesignError("Against a lift the power is by the normal distribution: power_from='normal'.")
        if isinstance(modifier, change.LookSchedule) and self.test in ("corrected", "arcsine"):
            raise DesignError(f"Looks are planned with the score or the unpooled test, not with {self.test}.")
        return super()._with(modifier)

    def _spread_of_control(self) -> float:
        return float(_variance(self._needed()))

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        (one, two), p0 = units, self._needed()
        p1, factor = p0 + effect, self._variance_factor()
        error = np.sqrt(factor * (_variance(p1) / one + _variance(p0) / two))
        if self.test == "unpooled":
            return error, error
        if np.any(null != 0):
            high, not_high, low, not_low = score.constrained_shares(one * p1, one, two * p0, two, np.asarray(null))
            return np.sqrt(factor * (high * not_high / one + low * not_low / two)), error
        pooled = (one * p1 + two * p0) / (one + two)
        return np.sqrt(factor * _variance(pooled) * (1 / one + 1 / two)), error

    def _errors_of_ratio(self, ratio: float, effect: Floats, units: Units) -> tuple[Floats, Floats]:
        (one, two), p0 = units, self._needed()
        p1, factor = p0 + effect, self._variance_factor()
        error = np.sqrt(factor * (_variance(p1) / one + ratio**2 * _variance(p0) / two))
        if self.test == "unpooled":
            return error, error
        high, _, low, _ = score.shares_of_ratio(one * p1, one, two * p0, two, np.log(ratio))
        return np.sqrt(factor * (_variance(high) / one + ratio**2 * _variance(low) / two)), error

    def _power_of(self, effect: Floats, units: Units) -> Floats:
        alpha, pooled, base = self._single_alpha(units), self.test == "score", self._needed()
        if not self._exact():
            low, high = tails(alpha, self.alternative)
            weight = 1 / units[0] + 1 / units[1]
            if self.test == "arcsine":
                error = np.sqrt(self._variance_factor() * weight)
                return power_of_estimate(arcsine_distance(base + effect, base, effect), error, error, None, low, high)
            if self.test == "corrected":
                errors = self._errors(effect, np.asarray(0.0), units)
                return power_of_estimate(effect, *errors, None, low, high, correction=weight / 2)
            return super()._power_of(effect, units)
        margin = self._modifier(change.Margin)
        if margin is not None:
            return exactly.power_against(base, effect, units, alpha, margin, pooled=pooled)
        return exactly.power_of_two(self._needed(), effect, units, alpha, self.alternative, pooled=pooled)

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        if self.test == "arcsine" or self._variance_factor() != 1:
            raise DesignError(
                "Independent units are simulated, and not the test of arcsines: leave out what changes that."
            )
        how = {"score": {}, "unpooled": {"test": "wald"}, "corrected": {"continuity": "half"}}[self.test]
        base = float(self._needed())
        shares = ((base + effect, "treatment"), (base, "control"))
        return tuple(
            draws.counts(rng, share, size, runs, label) for (share, label), size in zip(shares, units, strict=True)
        ), how

    def _method_said(self) -> str:
        said = super()._method_said().replace("score test", _TWO_SHARES[self.test])
        return said.replace("normal distribution", "exact power by enumeration") if self._exact() else said


@dataclass(frozen=True, kw_only=True)
class PairedProportions(Estimated):
    """A test of two conditions on the same units, by the share of successes.

    Parameters
    ----------
    discordant : float, optional
        Share of pairs whose two sides differ. Or instead:
    baseline, correlation : float, optional
        Share of successes on the control side, and the correlation between the two sides.
    alpha : float
        Error rate of the test.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Notes
    -----
    McNemar's test: the difference of the discordant shares, by the normal distribution, with the variance of "no
    difference" in the test and that of the effect in its power. `n` is the number of pairs.

    References
    ----------
    .. [1] Connor (1987), Biometrics 43, 207-211.

    Examples
    --------
    >>> PairedProportions(discordant=0.3).sample_size(effect=0.1, power=0.8).n
    234
    """

    title = "Paired proportions"
    method = "paired proportions, McNemar's test, normal distribution"
    source = "Connor (1987), Biometrics 43, 207-211"
    percent = True
    ways = MEAN_WAYS
    measured_by = "paired_proportions"
    allowed: ClassVar[frozenset[type]] = frozenset({change.Clusters, change.Traffic, change.Attrition})

    discordant: float | None = None
    baseline: float | None = None
    correlation: float | None = None

    def __post_init__(self) -> None:
        given = tuple(v is not None for v in (self.discordant, self.baseline, self.correlation))
        if given not in {(True, False, False), (False, True, True)}:
            raise DesignError("Paired proportions need discordant, or baseline and correlation.")
        for name in ("discordant", "baseline"):
            if getattr(self, name) is not None:
                gate.between(name, getattr(self, name), 0, 1)
        if self.correlation is not None:
            gate.between("correlation", self.correlation, -1, 1)
        super().__post_init__()

    def _ways(self) -> Ways:
        return share_ways(self.baseline)

    def _told(self, effect: float) -> dict[str, float]:
        share = {"discordant pairs": float(self._apart(np.asarray(effect)))}
        return share if self.baseline is None else share_told(effect, self.baseline, "treatment share") | share

    def _apart(self, effect: Floats) -> Floats:
        """Share of discordant pairs under the effect."""
        if self.baseline is None or self.correlation is None:
            return np.broadcast_to(np.asarray(self.discordant, dtype=np.float64), np.shape(effect))
        p0, p1 = np.asarray(self.baseline), self.baseline + effect
        both = p0 * p1 + self.correlation * np.sqrt(np.maximum(_variance(p0) * _variance(p1), 0))
        return p0 + p1 - 2 * both

    def _possible(self, effect: Floats) -> Floats:
        if self.baseline is not None:
            inside(effect, np.asarray(self.baseline))
        apart = self._apart(effect)
        wrong = (apart < np.abs(effect)) | (apart > 1)
        if np.any(wrong):
            culprit, share = (float(np.extract(wrong, np.broadcast_to(v, wrong.shape))[0]) for v in (effect, apart))
            raise DesignError(
                f"A difference of {culprit:g} does not go with a share of {share:.4g} of discordant pairs: the two"
                " sides must differ in at least as many pairs. Check the correlation."
            )
        return effect

    def _most(self, sign: float) -> Floats:
        if self.baseline is None:
            return np.asarray(self.discordant) * (1 - 1e-9)
        most = room(sign, self.baseline)
        # With a correlation, extreme shares no longer go together: stop where discordant pairs run out.
        grid = most[..., None] * np.linspace(0, 1, 4001)[1:]
        fits = self._apart(sign * grid) >= grid
        return np.asarray(np.where(fits, grid, 0).max(axis=-1))

    def _errors(self, effect: Floats, null: Floats, units: Units) -> tuple[Floats, Floats]:
        apart, factor = self._apart(effect), self._variance_factor() / units[0]
        spread = np.maximum(apart - effect**2, 1e-300)
        return np.sqrt(apart * factor), np.sqrt(spread * factor)

    def _draw(
        self, rng: np.random.Generator, effect: float, units: tuple[int, ...], runs: int
    ) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Pairs that change in one direction, in the other, or not."""
        draws.independent(self)
        apart = float(self._apart(np.asarray(effect)))
        if not abs(effect) <= apart <= 1:
            raise DesignError(
                f"A difference of {effect:g} does not go with a share of {apart:.4g} of discordant pairs."
            )
        chances = ((apart + effect) / 2, (apart - effect) / 2, 1 - apart)
        up, down, same = rng.multinomial(units[0], chances, runs).T.astype(float)
        return ((np.zeros(runs), up, down, same),), {}

    def _group_names(self) -> tuple[str, ...]:
        return ("pairs",)


def divergence(baseline: Floats, effect: Floats) -> Floats:
    """What an outcome tells on average for a share that is higher by the effect, where that is true."""
    told = ((part, away) for part, away in ((baseline + effect, effect), (1 - baseline - effect, -effect)))
    return np.asarray(sum(part * expm1_less(np.log1p(-away / part)) for part, away in told))


def share_ways(baseline: float | None) -> Ways:
    """How the effect on a share may be given."""
    return {
        "effect": lambda e: e,
        "lift": lambda share: np.asarray(share) * known_baseline(baseline, "lift"),
        "treatment": lambda share: np.asarray(share) - known_baseline(baseline, "treatment"),
        "standardised": lambda h: from_h(known_baseline(baseline, "standardised"), h),
    }


def from_h(baseline: float, h: Floats) -> Floats:
    """The difference of shares that has Cohen's h."""
    angle, half = np.arcsin(np.sqrt(baseline)), np.asarray(h) / 2
    if np.any((angle + half <= 0) | (angle + half >= np.pi / 2)):
        raise DesignError(f"From a baseline of {np.max(baseline):g} there is no share as far away as that h.")
    return np.asarray(np.sin(2 * angle + half) * np.sin(half))


def share_told(effect: float, baseline: float, name: str) -> dict[str, float]:
    """The effect on a share in other words."""
    share = baseline + effect
    if not 0 < share < 1:
        return {name: share}
    return {
        name: share,
        "lift": effect / baseline,
        "odds ratio": share / (1 - share) / (baseline / (1 - baseline)),
        "h": float(arcsine_distance(share, baseline, effect)),
    }


def inside(effect: Floats, baseline: Floats) -> Floats:
    """Return effects that leave a share between 0 and 1."""
    share = baseline + effect
    wrong = (share <= 0) | (share >= 1)
    if np.any(wrong):
        p0, e, p1 = (float(np.extract(wrong, np.broadcast_to(v, wrong.shape))[0]) for v in (baseline, effect, share))
        raise DesignError(
            f"A baseline of {p0:g} and an effect of {e:g} give a share of {p1:g},"
            " which is not between 0 and 1. Effects are differences of shares: 0.01 is one percentage point."
        )
    return effect


def _variance(share: Floats) -> Floats:
    return share * (1 - share)
