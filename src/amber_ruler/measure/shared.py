"""What every method does alike: p-values, limits that agree with them, margins and directions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results import Group, Interval, MarginTest

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.effects import Alternative

DIRECTIONS = ("higher", "lower")


class Symmetric(NamedTuple):
    """A test by a statistic that is symmetric about 0, and the interval that inverts it."""

    statistic: Floats
    p: Floats
    critical: Floats
    interval: Interval
    margin_tests: dict[str, MarginTest]

    def fields(self, name: str, alternative: str) -> dict[str, Any]:
        """What of it a Measurement holds."""
        return {
            "interval": self.interval,
            "p_value": scalar_or_array(self.p),
            "statistic": scalar_or_array(self.statistic),
            "statistic_name": name,
            "critical": critical_of(self.critical, alternative),
        }


def symmetric_test(
    estimate: Floats,
    se: Floats,
    df: Floats | None,
    null: Floats,
    *,
    alpha: float,
    alternative: Alternative,
    margin: float | None = None,
    good: str = "higher",
) -> Symmetric:
    """Test an estimate by its standard error: t with degrees of freedom, z without."""
    tail = max(effects.tails(alpha, alternative))

    def upper(x: Floats) -> Floats:
        return normal.sf(x) if df is None else student.sf(x, df)

    def one_sided(at: Floats, direction: str) -> Floats:
        return p_value((estimate - at) / se, upper, direction)

    statistic = (estimate - null) / se
    p = p_value(statistic, upper, alternative)
    critical = normal.upper_quantile(tail) if df is None else student.upper_quantile(tail, df)
    reach = critical * se
    low = np.full(reach.shape, -np.inf) if alternative == "less" else estimate - reach
    high = np.full(reach.shape, np.inf) if alternative == "greater" else estimate + reach
    interval = agreeing(low, high, p, null, alpha, estimate)
    return Symmetric(statistic, p, critical, interval, margin_tests(one_sided, null, margin, good, alpha))


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


def z_fields(z: Floats, critical: tuple[float, float], alternative: str) -> dict[str, Any]:
    """What of a normal test a Measurement holds besides its p-value and interval."""
    return {
        "statistic": scalar_or_array(z),
        "statistic_name": "z",
        "critical": critical_of(min(critical), alternative),
    }


def share_group(label: str, x: Floats, n: Floats) -> Group:
    """A group of 0/1 values; the standard deviation has n below, the binomial one."""
    share = x / n
    sd = np.sqrt(share * (1 - share))
    se = scalar_or_array(sd / np.sqrt(n))
    return Group(label, scalar_or_array(n), scalar_or_array(share), scalar_or_array(sd), se)


def agreeing(low: Floats, high: Floats, p: Floats, null: Floats, alpha: float, estimate: Floats) -> Interval:
    """Settle rounding ties so that the limits exclude `null` exactly when p < alpha.

    Test and limits solve one equation by two routes; on the last digit they may differ.
    """
    reject = p < alpha
    above = estimate > null
    low = np.where(~reject, np.minimum(low, null), np.where(above & (low <= null), np.nextafter(null, np.inf), low))
    high = np.where(
        ~reject, np.maximum(high, null), np.where(~above & (high >= null), np.nextafter(null, -np.inf), high)
    )
    return Interval(scalar_or_array(low), scalar_or_array(high), 1 - alpha)


def check_labels(treatment: str, control: str) -> None:
    """Refuse two groups under one label: the direction could not be said."""
    if treatment == control:
        raise InputError(f"Treatment and control are both labelled {control!r}: give them different labels.")


def settle_margin(margin: float | None) -> float | None:
    """Return a margin as a float not below 0, or None."""
    return None if margin is None else float(gate.at_least("margin", margin, 0))


def margin_tests(
    one_sided: Callable[[Floats, str], Floats], null: Floats, margin: float | None, good: str, alpha: float
) -> dict[str, MarginTest]:
    """Test treatment against the margin: not worse by as much, and neither better nor worse by as much.

    `one_sided(null, alternative)` is the p-value of the method's own one-sided test.

    References
    ----------
    .. [1] Schuirmann (1987), Journal of Pharmacokinetics and Biopharmaceutics 15, 657-680, for two one-sided tests.
    """
    if not margin:
        return {}
    above, below = one_sided(null - margin, "greater"), one_sided(null + margin, "less")
    found = {"not_worse": (above if good == "higher" else below, "not worse by the margin")}
    found["equivalent"] = (np.maximum(above, below), "equivalent within the margin")
    return {
        name: MarginTest(label, scalar_or_array(p), bool(p < alpha) if np.ndim(p) == 0 else p < alpha)
        for name, (p, label) in found.items()
    }


def margins_by_score(margin: float | None, test: str) -> tuple[str, ...]:
    """Say that tests against a margin are score tests, where the test of no difference is an exact one."""
    if not margin or test in ("score", "wald"):
        return ()
    return ("The tests against the margin are score tests: the exact one knows a difference of 0 only.",)


def critical_of(quantile: Floats | float, alternative: str) -> Number:
    """The critical value as it is compared with the statistic: negative for "less"."""
    return scalar_or_array(np.asarray(-quantile if alternative == "less" else quantile))
