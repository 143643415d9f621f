"""Ratios of two shares and of two rates, tested against any ratio."""

from __future__ import annotations

from typing import Literal, Unpack

import numpy as np
from scipy import special

from amber_ruler import effects
from amber_ruler.errors import DataError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import wilson
from amber_ruler.numeric import binomial, gate, normal, score
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.numeric.stirling import expm1_less
from amber_ruler.register import method
from amber_ruler.results import Comparison
from amber_ruler.samples import RateGroup, ShareGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Tested

_FAR = 690.0  # logarithm of a ratio beyond which floats end
_OF_SHARES = {
    "score": "score test",
    "n-1": "score test, N − 1",
    "log-wald": "Wald test of the logarithm",
}
_OF_RATES = {
    "score": ("conditional score test", "Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226"),
    "exact": ("exact conditional test", "Przyborowski & Wilenski (1940), Biometrika 31, 313-323"),
    "mid-p": ("conditional test, mid-p", "Lancaster (1961), JASA 56, 223-234"),
    "log-wald": ("Wald test of the logarithm", "Ng & Tang (2005), Statistics in Medicine 24, 955-965"),
    "root": ("test of square roots", "Huffman (1984), Applied Statistics 33, 224-226"),
    "likelihood": ("likelihood ratio test", "Wilks (1938), Annals of Mathematical Statistics 9, 60-62"),
}
_EXEMPT = {
    "null": "the tested value is a ratio",
    "shift": "a ratio changes with what is added to both",
}


@method(
    takes="two",
    needs="share",
    published=True,
    examples=(
        "travellers.csv --value booked --by form --control current",
        "--successes 60,40 --trials 400,400 --null 1.25 --ratio odds",
    ),
    exempt=_EXEMPT | {"rescale": "shares have no unit"},
    defaults={"null": 1.0},
)
def share_ratio(
    treatment: ShareGroup,
    control: ShareGroup,
    *,
    ratio: Literal["risk", "odds"] = "risk",
    test: Literal["score", "n-1", "log-wald"] = "score",
    **asked: Unpack[Tested],
) -> Comparison:
    """How many times as large is the share of successes in treatment, or its odds, and is that a given ratio?

    Parameters
    ----------
    treatment, control : Counts, array_like of 0/1, Sample or Moments
        The two groups. Counts of arrays ask many comparisons at once.
    ratio : "risk" or "odds"
        The ratio of the shares, or of their odds.
    test : "score", "n-1" or "log-wald"
        The score test, with the shares likeliest under the ratio tested; the same times sqrt((N - 1) / N), N being all
        units, as Miettinen and Nurminen have it; or the logarithm over its standard error. The interval inverts it.
    null : float or array_like above 0
        Tested ratio.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is 0 or infinite.
    metric : str, optional
        What was counted, for the heading.

    Returns
    -------
    Comparison
        The ratio with interval and test.

    Raises
    ------
    DataError
        If control has no success (of odds: or treatment no failure), so that there is no finite ratio; of "log-wald"
        also if a count that it divides by is 0.

    Notes
    -----
    Wald's squared standard error of the logarithm is 1/x1 - 1/n1 + 1/x0 - 1/n0 of shares, and the sum of the inverses
    of the four counts of odds (no half is added).

    References
    ----------
    .. [1] Koopman (1984), Biometrics 40, 513-517.
    .. [2] Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226.
    .. [3] Katz, Baptista, Azen & Pike (1978), Biometrics 34, 469-474, and Woolf (1955), Annals of Human Genetics 19,
       251-253, for the logarithms.

    Examples
    --------
    >>> from amber_ruler import Counts
    >>> r = share_ratio(Counts(60, 400, "short"), Counts(40, 400, "current"), test="log-wald")
    >>> round(r.estimate, 3), round(r.interval.low, 4), round(r.interval.high, 4), round(r.p_value, 4)
    (1.5, 1.0306, 2.1832, 0.0342)
    """
    ask = shared.question(asked)
    gate.choice("ratio", ratio, ("risk", "odds"))
    gate.choice("test", test, _OF_SHARES)
    one, two = groups.two(treatment, control, "share")
    at = gate.positive("null", ask.null)
    x1, n1, x0, n0, at = gate.aligned(one.successes, one.trials, two.successes, two.trials, at)
    odds = ratio == "odds"
    estimate = _ratio_of_shares(x1, n1, x0, n0, two.label, one.label, odds=odds)
    critical = effects.critical_z(ask.tail)
    if test == "log-wald":
        if gate.some((x1 == 0) | (odds & ((x0 == n0) | (x1 == n1)))):
            raise DataError("Wald's test of the logarithm divides by each count: one is 0. Take test='score'.")
        square = 1 / x1 + 1 / x0 + ((1 / (n1 - x1) + 1 / (n0 - x0)) if odds else -1 / n1 - 1 / n0)
        z, low, high = shared.by_logarithm(np.log(estimate), np.sqrt(square), np.log(at), critical)
    else:
        statistic = score.log_odds_ratio if odds else score.log_risk_ratio
        stretch = np.sqrt((n1 + n0) / (n1 + n0 - 1)) if test == "n-1" else np.asarray(1.0)
        z = np.asarray(statistic(x1, n1, x0, n0, np.log(at))) / stretch
        low, high = score.ratio_limits(statistic, x1, n1, x0, n0, estimate, critical, stretch=stretch)
    p = shared.p_value(z, normal.sf, ask.alternative)
    source = "Koopman (1984), Biometrics 40, 513-517"
    if odds or test == "n-1":
        source = "Miettinen & Nurminen (1985), Statistics in Medicine 4, 213-226"
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "success", sign="/"),
        method=f"ratio of {'odds' if odds else 'shares'}, {_OF_SHARES[test]}",
        source=source,
        estimate=scalar_or_array(estimate),
        interval=shared.agreeing(ask, low, high, p, at, estimate),
        test=ask.test(p, at, statistic=z, name="z", critical=min(critical)),
        scale="ratio",
        groups=(shared.share_group(one.label, x1, n1), shared.share_group(two.label, x0, n0)),
        quantity="share",
        checks=checks.missing(one, two),
    )


def _ratio_of_shares(
    x1: Floats, n1: Floats, x0: Floats, n0: Floats, control: str, treatment: str, *, odds: bool
) -> Floats:
    if gate.some(x0 == 0):
        raise DataError(f"{control!r} has no success: there is no finite ratio. See the difference (proportions).")
    if odds and gate.some(x1 == n1):
        raise DataError(f"{treatment!r} has no failure: there is no finite ratio of odds. See proportions.")
    return np.asarray(x1 * (n0 - x0) / ((n1 - x1) * x0) if odds else x1 * n0 / (n1 * x0))


@method(
    takes="two",
    needs="rate",
    published=True,
    examples=("--events 40,60 --exposure 120,130 --null 0.8 --test exact",),
    exempt=_EXEMPT | {"rescale": "events are counted"},
    defaults={"null": 1.0},
)
def rate_ratio(
    treatment: RateGroup,
    control: RateGroup,
    *,
    test: Literal["score", "exact", "mid-p", "log-wald", "root", "likelihood"] = "score",
    **asked: Unpack[Tested],
) -> Comparison:
    """How many times as often do events come in treatment, and is that a given ratio?

    Parameters
    ----------
    treatment, control : Events, array_like of counts per unit, Sample or Moments
        The two groups. Events of arrays ask many comparisons at once.
    test : "score", "exact", "mid-p", "log-wald", "root" or "likelihood"
        Of the share of all events that treatment has, given how many there are: its score, the exact binomial test
        (the smaller tail doubled), and mid-p. Or of the rates themselves: the logarithm of the ratio over its standard
        error, square roots, and the signed root of the likelihood ratio. The interval inverts the test.
    null : float or array_like above 0
        Tested ratio.
    alternative : "two-sided", "greater" or "less"
        Direction of the test. A one-sided test carries a one-sided interval, whose open end is 0 or infinite.
    metric : str, optional
        What was counted, for the heading.

    Returns
    -------
    Comparison
        The ratio of the rates with interval and test.

    Raises
    ------
    DataError
        If control has no event; of "log-wald" also if treatment has none.

    Notes
    -----
    Under a ratio r the share of treatment is r e1 / (r e1 + e0), with exposures e. The logarithm has the squared
    standard error 1/x1 + 1/x0. With q = r e1 / e0 the statistic of square roots is
    2 (sqrt(x1 + 3/8) - sqrt(q (x0 + 3/8))) / sqrt(1 + q).

    References
    ----------
    .. [1] Przyborowski & Wilenski (1940), Biometrika 31, 313-323.
    .. [2] Ng & Tang (2005), Statistics in Medicine 24, 955-965, for the logarithm.
    .. [3] Huffman (1984), Applied Statistics 33, 224-226, for square roots.

    Examples
    --------
    >>> from amber_ruler import Events
    >>> r = rate_ratio(Events(40, 120.0, "short"), Events(60, 130.0, "current"), test="log-wald")
    >>> round(r.estimate, 4), round(r.interval.low, 4), round(r.interval.high, 4), round(r.p_value, 4)
    (0.7222, 0.4841, 1.0775, 0.1109)
    """
    ask = shared.question(asked)
    said, source = _OF_RATES[gate.choice("test", test, _OF_RATES)]
    one, two = groups.two(treatment, control, "rate")
    at = gate.positive("null", ask.null)
    x1, e1, x0, e0, at = gate.aligned(one.count, one.exposure, two.count, two.exposure, at)
    if gate.some(x0 == 0):
        raise DataError(f"{two.label!r} has no event: there is no finite ratio. See the difference (rates).")
    estimate, n = x1 * e0 / (x0 * e1), x1 + x0
    share = at * e1 / (at * e1 + e0)
    critical, tail = effects.critical_z(ask.tail), ask.tail
    z = None
    if test in ("exact", "mid-p"):
        above, below = binomial.at_least(x1, n, share), binomial.at_least(x0, n, 1 - share)
        if test == "mid-p":
            above, below = (
                (t + further) / 2
                for t, further in (
                    (above, binomial.at_least(x1 + 1, n, share)),
                    (below, binomial.at_least(x0 + 1, n, 1 - share)),
                )
            )
        p = shared.from_tails(above, below, ask.alternative)
        shares = (binomial.mid_limits if test == "mid-p" else binomial.exact_limits)(x1, n, *tail)
        low, high = (_as_ratio(s, e1, e0) for s in shares)
    elif test == "score":
        z = (x1 - n * share) / np.sqrt(n * share * (1 - share))
        low, high = (_as_ratio(s, e1, e0) for s in wilson(x1, n, critical))
    elif test == "log-wald":
        if gate.some(x1 == 0):
            raise DataError(f"{one.label!r} has no event: its logarithm is infinite. Take test='score'.")
        z, low, high = shared.by_logarithm(np.log(estimate), np.sqrt(1 / x1 + 1 / x0), np.log(at), critical)
    elif test == "root":
        z, low, high = _by_roots(x1, x0, e1 / e0, at, critical)
    else:
        z = _likelihood_root(x1, x0, e1, e0, np.log(at))
        low, high = (
            _likelihood_limit((x1, x0, e1, e0), estimate, c, side) for side, c in zip((-1, 1), critical, strict=True)
        )
    if z is not None:
        p = shared.p_value(np.asarray(z), normal.sf, ask.alternative)
    low = np.where(tail[0] > 0, low, 0.0)
    high = np.where(tail[1] > 0, high, np.inf)
    tested = ask.test(p, at) if z is None else ask.test(p, at, statistic=z, name="z", critical=min(critical))
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "events", sign="/"),
        method=f"ratio of two rates, {said}",
        source=source,
        estimate=scalar_or_array(estimate),
        interval=shared.agreeing(ask, low, high, p, at, estimate),
        test=tested,
        scale="ratio",
        groups=(shared.rate_group(one.label, x1, e1), shared.rate_group(two.label, x0, e0)),
        quantity="rate",
        checks=(*checks.dispersion(one, two), *checks.missing(one, two)),
    )


def _as_ratio(share: Floats, e1: Floats, e0: Floats) -> Floats:
    with np.errstate(divide="ignore"):
        return np.asarray(share / (1 - share) * e0 / e1)


def _by_roots(
    x1: Floats, x0: Floats, exposure: Floats, null: Floats, critical: tuple[float, float]
) -> tuple[Floats, Floats, Floats]:
    """Z and limits: with s the root of the ratio times the exposures', A - s B = ± c sqrt(1 + s²) / 2 is quadratic."""
    a, b = np.sqrt(x1 + 0.375), np.sqrt(x0 + 0.375)
    q = null * exposure
    # The difference of the roots by that of their squares, which keeps its digits.
    z = 2 * (x1 - q * x0 + 0.375 * (1 - q)) / (a + np.sqrt(q) * b) / np.sqrt(1 + q)
    ends = []
    for side, c in zip((-1.0, 1.0), critical, strict=True):
        half = min(c, 1e8) ** 2 / 4
        root = np.sqrt(half * np.maximum(a * a + b * b - half, 0.0))
        low_end = np.where(a * a > half, (a * a - half) / (a * b + root), 0.0)
        with np.errstate(divide="ignore"):
            high_end = np.where(b * b > half, (a * b + root) / (b * b - half), np.inf)
        s = low_end if side < 0 else high_end
        ends.append(s * s / exposure)
    return z, ends[0], ends[1]


def _likelihood_root(x1: Floats, x0: Floats, e1: Floats, e0: Floats, log_ratio: Floats) -> Floats:
    """Signed root of the likelihood ratio of a ratio of rates, given the events in total."""
    n, log_odds = x1 + x0, log_ratio + np.log(e1 / e0)
    share, rest = special.expit(log_odds), special.expit(-log_odds)
    away = x1 - n * share
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        # Both deviances x log(x / m) + m - x, whose linear terms cancel; without a count m is left.
        told = [
            np.where(x > 0, x * expm1_less(_log_of(mean, x, side * away)), mean)
            for x, mean, side in ((x1, n * share, 1.0), (x0, n * rest, -1.0))
        ]
    return np.asarray(np.sign(away) * np.sqrt(2 * np.maximum(told[0] + told[1], 0.0)))


def _log_of(mean: Floats, x: Floats, more: Floats) -> Floats:
    """Log of mean / x, whose difference is known better where it is small."""
    above = np.maximum(x, 1)
    near = np.abs(more) < 0.5 * above
    return np.where(near, np.log1p(np.where(near, -more / above, 0.0)), np.log(mean / above))


def _likelihood_limit(
    counts: tuple[Floats, Floats, Floats, Floats], estimate: Floats, critical: float, side: int
) -> Floats:
    """The ratio, on a side of the estimate, at which that root meets its critical value; 0 or infinite for none."""
    open_end = 0.0 if side < 0 else np.inf
    if not np.isfinite(critical):
        return np.full(estimate.shape, open_end)

    def miss(log: Floats) -> Floats:
        return _likelihood_root(*counts, log) + side * critical

    with np.errstate(divide="ignore"):
        start = np.clip(np.log(estimate), -_FAR, _FAR)
        near = start + side * (1 + 3 * critical * np.sqrt(1 / np.maximum(counts[0], 0.5) + 1 / counts[2]))
    end = np.full(start.shape, float(side) * _FAR)
    end = np.where((np.abs(near) < _FAR) & (side * miss(near) < 0), near, end)
    found = np.exp(bracketed_root(miss, np.minimum(start, end), np.maximum(start, end), rtol=1e-15))
    return np.where((estimate == 0) if side < 0 else np.isinf(estimate), open_end, found)
