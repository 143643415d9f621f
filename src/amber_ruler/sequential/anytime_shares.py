"""One share and two at every moment: the beta-binomial mixture, exactly."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from scipy import special

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.results import Comparison, Estimate, Group
from amber_ruler.samples import Counts
from amber_ruler.samples import gate as groups
from amber_ruler.sequential import mixtures
from amber_ruler.sequential.anytime import result_of

_SOURCE = "Robbins (1970), Annals of Mathematical Statistics 41, 1397-1409"


def anytime_share(
    counts: Counts | Any,
    *,
    prior: tuple[float, float] = (1.0, 1.0),
    alpha: float = 0.05,
    null: float = 0.5,
    alternative: Literal["two-sided", "greater", "less"] = "two-sided",
    metric: str = "",
) -> Estimate:
    """What is a share, at every moment, exactly and from the first unit on?

    Parameters
    ----------
    counts : Counts or 0/1 data
        Successes and trials by each moment; arrays run over the moments along their last axis.
    prior : pair of float
        Both parameters of the beta distribution that shares are mixed over; it decides where the interval is narrow,
        and never whether it holds. One-sided, the part of it beyond the tested share.
    alpha : float, between 0 and 0.5
        Chance that any of all intervals leaves out the true share.
    null : float, between 0 and 1
        The share tested.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.
    metric : str
        What was measured.

    Returns
    -------
    Estimate
        Along the moments, as of `anytime`.

    Notes
    -----
    A share p stays inside while B(a + s, b + n - s) / (B(a, b) p^s (1 - p)^(n - s)) is below 1/α, where s of n
    succeeded.

    References
    ----------
    .. [1] Robbins (1970), Annals of Mathematical Statistics 41, 1397-1409.

    Examples
    --------
    >>> r = anytime_share(Counts([5, 60, 300], [10, 100, 500], "short"))
    >>> r.interval.low.round(3).tolist(), r.interval.high.round(3).tolist()
    ([0.129, 0.441, 0.524], [0.871, 0.746, 0.673])
    """
    alpha = float(gate.between("alpha", gate.single("alpha", alpha), 0, 0.5))
    gate.choice("alternative", alternative, gate.ALTERNATIVES)
    null = float(gate.between("null", gate.single("null", null), 0, 1))
    given = groups.one(counts, "share")
    s, n = np.broadcast_arrays(np.asarray(given.successes, float), np.asarray(given.trials, float))
    a, b = prior_of(prior)
    low, high = limits(s, n, a, b, alpha, alternative)
    log_e = log_ratio(np.full(s.shape, null), s, n, a, b, alternative)
    share = s / n
    error = np.sqrt(share * (1 - share) / n)
    fixed = mixtures.fixed_critical(alpha, 2 if alternative == "two-sided" else 1) * error
    reach = {"greater": share - low, "less": high - share}.get(alternative, (high - low) / 2)
    about = {
        "title": f"{metric or given.metric or 'share'}: at any moment",
        "method": f"beta-binomial mixture, Beta({a:g}, {b:g}), every moment",
        "source": _SOURCE,
        "metric": metric or given.metric,
        "label": given.label,
        "quantity": "share",
        "axis": given.axis,
        "groups": (_group(given, share, error),) if share.ndim == 0 else (),
    }
    found: Estimate = result_of(
        Estimate,
        about,
        estimate=share,
        now=(low, high),
        p=np.minimum(1.0, np.exp(np.minimum(-log_e, 0.0))),
        log_e=log_e,
        wider=None if np.any(fixed == 0) else reach / fixed,
        alpha=alpha,
        null=null,
        alternative=alternative,
    )
    return found


def anytime_shares(
    treatment: Counts | Any,
    control: Counts | Any,
    *,
    prior: tuple[float, float] = (1.0, 1.0),
    alpha: float = 0.05,
    null: float = 0.0,
    metric: str = "",
) -> Comparison:
    """What is the difference of two shares, at every moment, without any approximation?

    Two exact intervals, each at alpha/2, give the limits of their difference. That is wider than `anytime` of the same
    counts, which takes their variances as seen, and holds from the first unit on.

    Parameters
    ----------
    treatment, control : Counts or 0/1 data
        Successes and trials by each moment.
    prior, alpha, metric
        As of `anytime_share`.
    null : float, between -1 and 1
        The difference tested; two-sided.

    Returns
    -------
    Comparison
        Along the moments, as of `anytime`.

    Examples
    --------
    >>> r = anytime_shares(Counts(2160, 4000, "short"), Counts(1848, 4000, "current"))
    >>> round(r.interval.low, 4), round(r.interval.high, 4), r.p_value < 0.05
    (0.0164, 0.1393, True)
    """
    alpha = float(gate.between("alpha", gate.single("alpha", alpha), 0, 0.5))
    null = float(gate.between("null", gate.single("null", null), -1, 1))
    one, two = groups.two(treatment, control, "share")
    groups.check_labels(one.label, two.label)
    s1, n1, s0, n0 = np.broadcast_arrays(
        *(np.asarray(v, float) for c in (one, two) for v in (c.successes, c.trials))
    )  # fmt: skip
    a, b = prior_of(prior)
    low1, high1 = limits(s1, n1, a, b, alpha / 2, "two-sided")
    low0, high0 = limits(s0, n0, a, b, alpha / 2, "two-sided")
    p1, p0 = s1 / n1, s0 / n0
    # The value of control's share that fits both best: what decides is the smaller of both e-values there.
    left, right = np.minimum(p0, p1 - null), np.maximum(p0, p1 - null)

    def apart(p: Floats) -> Floats:
        return log_ratio(np.clip(p + null, 0, 1), s1, n1, a, b) - log_ratio(np.clip(p, 0, 1), s0, n0, a, b)

    sign = np.where(p1 - null >= p0, -1.0, 1.0)
    inside = np.clip(left, max(0.0, -null), min(1.0, 1 - null)), np.clip(right, max(0.0, -null), min(1.0, 1 - null))
    meets = bracketed_root(lambda p: sign * apart(p), *inside)
    log_e = log_ratio(np.clip(meets, 0, 1), s0, n0, a, b) - np.log(2)
    e1, e0 = p1 * (1 - p1) / n1, p0 * (1 - p0) / n0
    fixed = mixtures.fixed_critical(alpha, 2) * np.sqrt(e1 + e0)
    low, high = low1 - high0, high1 - low0
    about = {
        "title": f"{groups.named(metric or None, 'share', one, two)}: at any moment",
        "method": f"two beta-binomial mixtures, Beta({a:g}, {b:g}), each at alpha/2, every moment",
        "source": _SOURCE,
        "metric": groups.named(metric or None, "", one, two),
        "treatment": one.label,
        "control": two.label,
        "quantity": "share",
        "axis": groups.axis_of(one, two),
        "groups": (_group(one, p1, np.sqrt(e1)), _group(two, p0, np.sqrt(e0))) if p1.ndim == 0 else (),
    }
    found: Comparison = result_of(
        Comparison,
        about,
        estimate=p1 - p0,
        now=(low, high),
        p=np.minimum(1.0, np.exp(np.minimum(-log_e, 0.0))),
        log_e=log_e,
        wider=None if np.any(fixed == 0) else (high - low) / 2 / fixed,
        alpha=alpha,
        null=null,
        alternative="two-sided",
    )
    return found


def prior_of(prior: tuple[float, float]) -> tuple[float, float]:
    """Both parameters of the mixing distribution."""
    both = gate.positive("prior", list(prior))
    if both.shape != (2,):
        raise InputError.rule("prior", prior, "two numbers above 0")
    return float(both[0]), float(both[1])


def log_ratio(p: Floats, s: Floats, n: Floats, a: float, b: float, alternative: str = "two-sided") -> Floats:
    """Log of the mixture's likelihood over that of a share p; infinite where p can't have made what was seen."""
    whole = mixtures.log_counts_ratio(
        np.stack(np.broadcast_arrays(a, b))[(...,) + (None,) * np.ndim(p)], np.stack([s, n - s]), np.stack([p, 1 - p])
    )
    if alternative != "two-sided":
        part = special.betaincc if alternative == "greater" else special.betainc
        before = part(a, b, p)
        with np.errstate(divide="ignore", invalid="ignore"):
            found = whole + np.log(part(a + s, b + n - s, p)) - np.log(before)
        return np.where(before > 0, found, 0.0)  # next to the edge there is no room for another share
    return whole


def limits(s: Floats, n: Floats, a: float, b: float, alpha: float, alternative: str) -> tuple[Floats, Floats]:
    """The shares whose ratio stays below 1/α."""
    goal, share = -np.log(alpha), s / n
    low, high = np.zeros(s.shape), np.ones(s.shape)
    tiny, top = 1e-300, 1 - 2**-53
    share = np.clip(share, tiny, top)

    def miss(p: Floats) -> Floats:
        found = log_ratio(p, s, n, a, b, alternative) - goal
        return np.where(np.isfinite(found), found, 1e300)

    if alternative != "less":
        low = np.where(s > 0, bracketed_root(miss, np.full(s.shape, tiny), share), 0.0)
    if alternative != "greater":
        high = np.where(s < n, bracketed_root(miss, share, np.full(s.shape, top)), 1.0)
    return low, high


def _group(counts: Counts, share: Floats, error: Floats) -> Group:
    n = np.asarray(counts.trials, float)
    size, centre, sd, se = (scalar_or_array(np.asarray(v)) for v in (n, share, error * np.sqrt(n), error))
    return Group(counts.label, size, centre, sd, se)
