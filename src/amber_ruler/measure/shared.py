"""What every method does alike: the question asked, p-values, limits that agree with them, margins and directions."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Literal, NamedTuple, TypeAlias, TypedDict

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.results import Axis, Group, Interval, MarginTest, Test
from amber_ruler.samples import gate as groups
from amber_ruler.samples.gate import Read

Good: TypeAlias = Literal["higher", "lower"]
_DIRECTIONS = ("higher", "lower")
ByLift: TypeAlias = tuple[Floats, Callable[[float, str], Floats]]  # the control's mean; p by the lift and the direction


class Question(NamedTuple):
    """What goes with every test, as a method's body reads it: checked once, alpha turned into tails once."""

    alpha: float
    alternative: Alternative
    tail: tuple[float, float]
    margin: float | None = None
    good: str = "higher"
    margin_lift: float | None = None
    null: Any = 0.0
    metric: str | None = None

    @property
    def level(self) -> float:
        """Level of the interval."""
        return 1 - self.alpha

    def settings(self, **more: Any) -> dict[str, Any]:
        """The same question as settings of another method."""
        own = {"alpha": self.alpha, "alternative": self.alternative, "margin": self.margin, "good": self.good}
        by_lift = {} if self.margin_lift is None else {"margin_lift": self.margin_lift}
        return own | by_lift | more

    def interval(self, low: Floats | float, high: Floats | float) -> Interval:
        """Limits at the level asked for."""
        return Interval(scalar_or_array(np.asarray(low)), scalar_or_array(np.asarray(high)), 1 - self.alpha)

    def wider(self, low: Floats | float, high: Floats | float) -> Interval:
        """Limits of level 1 - 2 alpha, which tests against a margin read."""
        return Interval(scalar_or_array(np.asarray(low)), scalar_or_array(np.asarray(high)), 1 - 2 * self.alpha)

    def test(
        self, p: Floats | float, null: Floats | float, *, critical: Floats | float | None = None, **more: Any
    ) -> Test:
        """The test's record; `critical` as a positive quantile, which is negative for "less"."""
        if critical is not None:
            more["critical"] = scalar_or_array(np.asarray(-critical if self.alternative == "less" else critical))
        for name in ("statistic", "df"):
            if more.get(name) is not None and not isinstance(more[name], tuple):
                more[name] = scalar_or_array(more[name])
        p_value, at = scalar_or_array(np.asarray(p)), scalar_or_array(np.asarray(null))
        return Test(p_value=p_value, null=at, alpha=self.alpha, alternative=self.alternative, **more)


def question(asked: Mapping[str, object], **own: Any) -> Question:
    """Check the settings that methods have in common; `own` stand in the place of those that a method has itself."""
    given: dict[str, Any] = {**asked, **own}
    alpha, alternative = given.get("alpha", 0.05), given.get("alternative", "two-sided")
    margin, margin_lift, good = given.get("margin"), given.get("margin_lift"), given.get("good", "higher")
    if margin_lift is not None:
        if margin is not None:
            raise InputError("margin and margin_lift say the same thing in two units: give one of them.")
        if not 0 < gate.single("margin_lift", margin_lift) < 1:
            raise InputError.rule("margin_lift", margin_lift, "between 0 and 1", "0.01 is 1 % of the control.")
    if good not in _DIRECTIONS:
        gate.choice("good", good, _DIRECTIONS)
    tail = effects.tails(alpha, alternative)
    room = None if margin is None else float(gate.at_least("margin", margin, 0))
    named = given.get("null", 0.0), given.get("metric")
    return Question(float(alpha), alternative, tail, room, good, margin_lift, *named)


def null_of(null: ArrayLike | None, among: Callable[..., Floats] = gate.finite, *ends: float) -> Floats | None:
    """The tested value, if there is one, through a gate."""
    return None if null is None else among("null", null, *ends)


class Between(TypedDict):
    """What every comparison of two groups is called by."""

    title: str
    metric: str
    treatment: str
    control: str
    axis: Axis | None
    margin: float | None
    margin_lift: float | None
    good: str


def between(
    ask: Question, one: Read, two: Read, metric: str | None, usual: str, *, sign: str = "−", said: str = ""
) -> Between:
    """Title, metric and labels of a comparison; `sign` stands between its labels, `said` behind them."""
    name = groups.named(metric, usual, one, two)
    return {
        "title": f"{name}: {one.label} {sign} {two.label}{said}",
        "metric": name,
        "treatment": one.label,
        "control": two.label,
        "axis": groups.axis_of(one, two),
        "margin": ask.margin,
        "margin_lift": ask.margin_lift,
        "good": ask.good,
    }


def by_logarithm(
    log: Floats, se: Floats, null: Floats, critical: tuple[Floats | float, Floats | float]
) -> tuple[Floats, Floats, Floats]:
    """Z of the logarithm of a ratio against that of the null, and both limits of the ratio."""
    with np.errstate(over="ignore"):
        low, high = np.exp(log - critical[0] * se), np.exp(log + critical[1] * se)
    return np.asarray((log - null) / se), low, high


class Symmetric(NamedTuple):
    """A test by a statistic that is symmetric about 0, and the interval that inverts it."""

    p: Floats
    critical: Floats
    interval: Interval
    test: Test


class Lifted(NamedTuple):
    """What a lift is of: the control's mean, squared standard errors of treatment and control, their covariance."""

    control: Floats
    variances: tuple[Floats, Floats]
    covariance: Floats | float = 0.0

    def statistic(self, difference: Floats, lift: float) -> Floats:
        """Treatment less (1 + lift) times control, in its own standard errors (Fieller 1954)."""
        ratio, (v1, v0) = 1 + lift, self.variances
        variance = np.maximum(v1 - 2 * ratio * np.asarray(self.covariance) + ratio**2 * v0, 0.0)
        return np.asarray((difference - lift * self.control) / np.sqrt(variance))


def symmetric_test(
    ask: Question, estimate: Floats, se: Floats, df: Floats | None, null: Floats, lifted: Lifted | None = None
) -> Symmetric:
    """Test an estimate by its standard error: t with degrees of freedom, z without."""
    tail = max(ask.tail)

    def upper(x: Floats) -> Floats:
        return normal.sf(x) if df is None else student.sf(x, df)

    def one_sided(at: Floats, direction: str) -> Floats:
        return p_value((estimate - at) / se, upper, direction)

    by_lift = None
    if lifted is not None:
        by_lift = lifted.control, lambda lift, side: p_value(lifted.statistic(estimate, lift), upper, side)
    statistic = (estimate - null) / se
    p = p_value(statistic, upper, ask.alternative)
    critical = normal.upper_quantile(tail) if df is None else student.upper_quantile(tail, df)
    reach = critical * se
    low = np.full(reach.shape, -np.inf) if ask.alternative == "less" else estimate - reach
    high = np.full(reach.shape, np.inf) if ask.alternative == "greater" else estimate + reach
    against = margin_tests(ask, one_sided, null, by_lift)

    def wide() -> Interval:
        c = normal.upper_quantile(ask.alpha) if df is None else student.upper_quantile(ask.alpha, df)
        if ask.margin_lift is None or lifted is None:
            return ask.wider(estimate - c * se, estimate + c * se)
        means = (lifted.control + estimate, lifted.control)
        lifts = effects.lift(means, lifted.variances, c, covariance=lifted.covariance, alpha=2 * ask.alpha)
        return lifts["lift"].interval

    test = ask.test(
        p,
        null,
        statistic=statistic,
        name="z" if df is None else "t",
        df=df,
        critical=critical,
        margin_tests=against,
        margin_interval=margin_interval(ask, against, null, wide),
    )
    return Symmetric(p, critical, agreeing(ask, low, high, p, null, estimate), test)


def p_value(statistic: Floats, tail: Callable[[Floats], Floats], alternative: str) -> Floats:
    """Tail probability of a statistic symmetric about 0, in the direction asked."""
    if alternative == "greater":
        return tail(statistic)
    if alternative == "less":
        return tail(-statistic)
    return np.minimum(2 * tail(np.abs(statistic)), 1.0)


def from_tails(above: Floats, below: Floats, alternative: str) -> Floats:
    """P-value from both tails of an exact test, the smaller one doubled where no direction is asked."""
    if alternative != "two-sided":
        return above if alternative == "greater" else below
    doubled: Floats = np.minimum(2 * np.minimum(above, below), 1.0)
    return doubled


def share_group(label: str, x: Floats, n: Floats) -> Group:
    """A group of 0/1 values; the standard deviation has n below, the binomial one."""
    share = x / n
    sd = np.sqrt(share * (1 - share))
    se = scalar_or_array(sd / np.sqrt(n))
    return Group(label, scalar_or_array(n), scalar_or_array(share), scalar_or_array(sd), se)


def rate_group(label: str, x: Floats, exposure: Floats) -> Group:
    """A group of events over an exposure."""
    se = np.sqrt(x) / exposure
    return Group(label, scalar_or_array(exposure), scalar_or_array(x / exposure), se=scalar_or_array(se))


def mean_group(label: str, n: Floats, mean: Floats, sd: Floats, se: Floats | None = None) -> Group:
    """A group by its mean and spread."""
    error = sd / np.sqrt(n) if se is None else se
    return Group(label, scalar_or_array(n), scalar_or_array(mean), scalar_or_array(sd), scalar_or_array(error))


def agreeing(ask: Question, low: Floats, high: Floats, p: Floats, null: Floats | float, estimate: Floats) -> Interval:
    """Settle rounding ties so that the limits exclude `null` exactly when p < alpha.

    Test and limits solve one equation by two routes; on the last digit they may differ.
    """
    low, high, null = np.asarray(low), np.asarray(high), np.asarray(null)
    reject, inside = np.asarray(p) < ask.alpha, (low <= null) & (null <= high)
    if gate.some(reject == inside):
        above = np.asarray(estimate) > null
        low, high = np.where(reject, low, np.minimum(low, null)), np.where(reject, high, np.maximum(high, null))
        low = np.where(reject & inside & above, np.nextafter(null, np.inf), low)
        high = np.where(reject & inside & ~above, np.nextafter(null, -np.inf), high)
        # Where both limits were the null itself, as with many ties, the other one moves along.
        low, high = np.where(above, low, np.minimum(low, high)), np.where(above, np.maximum(low, high), high)
    return ask.interval(low, high)


def own_or_apart(
    ask: Question,
    limits: tuple[Floats, Floats],
    p: Floats,
    null: Floats,
    estimate: Floats,
    apart: tuple[str, str] | None,
) -> tuple[Interval, tuple[str, ...]]:
    """An interval that inverts its test, settled on the last digit; or one built `apart`, by the names of both.

    A note says where the two disagree.
    """
    if apart is None:
        return agreeing(ask, *limits, p, null, estimate), ()
    interval = ask.interval(*limits)
    if gate.some((p < ask.alpha) == interval.contains(null)):
        return interval, (f"The {apart[0]} and {apart[1]} are built apart and here disagree.",)
    return interval, ()


def margin_tests(
    ask: Question,
    one_sided: Callable[[Floats, str], Floats],
    null: Floats,
    by_lift: ByLift | None = None,
) -> dict[str, MarginTest]:
    """Test treatment against the margin: not worse by as much, and neither better nor worse by as much.

    `one_sided(null, alternative)` is the p-value of the method's own one-sided test; `by_lift` holds the control's mean
    and `one_sided(lift, alternative)`, for a margin that is a lift.

    References
    ----------
    .. [1] Schuirmann (1987), Journal of Pharmacokinetics and Biopharmaceutics 15, 657-680, for two one-sided tests.
    """
    if ask.margin_lift is not None:
        above, below = _against_lift(ask.margin_lift, null, by_lift)
    elif ask.margin:
        above, below = one_sided(null - ask.margin, "greater"), one_sided(null + ask.margin, "less")
    else:
        return {}
    found = {"not_worse": (above if ask.good == "higher" else below, "not worse by the margin")}
    found["equivalent"] = (np.maximum(above, below), "equivalent within the margin")
    return {
        name: MarginTest(label, scalar_or_array(p), bool(p < ask.alpha) if np.ndim(p) == 0 else p < ask.alpha)
        for name, (p, label) in found.items()
    }


def margin_interval(
    ask: Question, against: Mapping[str, MarginTest], null: Floats | float, wide: Callable[[], Interval]
) -> Interval | None:
    """The interval of level 1 - 2 alpha that tests against the margin read, where it decides as they do.

    `wide` gives it, of the lift where the margin is one; a test that is built apart from its interval has none.
    """
    test = against.get("equivalent")
    if test is None or ask.alpha >= 0.25:
        return None
    found, lift = wide(), ask.margin_lift
    size, at = (ask.margin or 0.0, np.asarray(null)) if lift is None else (lift, np.asarray(0.0))
    inside = (np.asarray(found.low) - at > -size) & (np.asarray(found.high) - at < size)
    return found if np.array_equal(inside, np.asarray(test.holds)) else None


def _against_lift(margin: float, null: Floats, by_lift: ByLift | None) -> tuple[Floats, Floats]:
    """P-values against both ends of a margin that is a lift."""
    if by_lift is None:
        raise InputError("margin_lift needs a difference of two means: there is no lift here.")
    if gate.some(np.asarray(null) != 0):
        raise InputError("margin_lift is counted from no difference: leave null out.")
    control, one_sided = by_lift
    if gate.some(np.asarray(control) <= 0):
        low = float(np.min(control))
        raise DataError(
            f"A margin as a lift is a share of the control's mean, which is {low:.4g}: give margin instead."
        )
    return one_sided(-margin, "greater"), one_sided(margin, "less")


def shares_within(ask: Question, null: Floats) -> None:
    """Refuse a margin that no two shares could be apart."""
    most = 1 - float(np.max(np.abs(null)))
    if ask.margin is not None and ask.margin >= most:
        hint = "0.01 is one percentage point."
        raise InputError.rule("margin", ask.margin, f"below {most:g}, as far as shares can be apart", hint)


def margins_by_score(ask: Question, test: str) -> tuple[str, ...]:
    """Say that tests against a margin are score tests, where the test of no difference is an exact one."""
    if ask.margin_lift is not None and test != "score":
        return ("The tests against the margin are score tests of the ratio.",)
    if not ask.margin or test in ("score", "wald"):
        return ()
    return ("The tests against the margin are score tests: the exact one knows a difference of 0 only.",)


def unused(test: str, used: Mapping[str, tuple[Any, bool]]) -> None:
    """Refuse settings that the chosen test can't use: by name what was given (None for nothing), and whether it can."""
    for name, (given, usable) in used.items():
        if given is not None and not usable:
            raise InputError(
                f"{name}={given!r} says nothing to the {test} test: leave it out, or choose another test.",
                name=name,
                value=given,
            )
