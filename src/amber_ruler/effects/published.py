"""Effect sizes behind a published statistic, and how many units a skewed metric wants."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from amber_ruler.effects.scale import Alternative, critical_z, tails
from amber_ruler.effects.standardised import small_sample_factor, standardised
from amber_ruler.errors import InputError
from amber_ruler.numeric import chisquare, fisher, gate, normal, student
from amber_ruler.numeric.exact import fisher_distance
from amber_ruler.results import EffectSize, Interval


def from_f(f: float, df1: float, df2: float, *, n: float | None = None, alpha: float = 0.05) -> dict[str, EffectSize]:
    """Effect sizes behind a published F: partial eta squared, omega squared and Cohen f.

    Parameters
    ----------
    f : float
        The statistic, not below 0.
    df1, df2 : float
        Its degrees of freedom; df1 = 1 and f = t^2 for a t.
    n : float, optional
        How many values there are in all (units times conditions, where the same units were measured under each).
        Without it df1 + df2 + 1, which is right where one factor explains all groups.
    alpha : float
        One minus the level of the intervals.

    Returns
    -------
    dict of str to EffectSize
        `cohen_f`, `eta_squared` and `omega_squared`. The intervals invert the noncentral F at alpha / 2 on each side;
        a lower limit of 0 says that the F test does not reject at alpha / 2.

    Notes
    -----
    Eta squared is SS / (SS + SS within); omega squared is df1 (f - 1) / (df1 (f - 1) + n), cut at 0. The noncentrality
    is n times f squared, so limits of eta squared are those of λ / (λ + n) and limits of Cohen f those of √(λ / n).

    References
    ----------
    .. [1] Steiger (2004), Psychological Methods 9, 164-182.
    .. [2] Olejnik & Algina (2003), Psychological Methods 8, 434-447, for omega squared.

    Examples
    --------
    >>> found = from_f(5.0, 2, 57)
    >>> round(found["eta_squared"].value, 4), round(found["omega_squared"].value, 4)
    (0.1493, 0.1176)
    """
    value = float(gate.at_least("f", f, 0))
    one, two = float(gate.positive("df1", df1)), float(gate.positive("df2", df2))
    tail = tails(alpha, "two-sided")
    low, high = (float(end) for end in fisher.noncentrality_bounds(value, one, two, *tail))
    size = one + two + 1 if n is None else float(gate.positive("n", n))
    eta = one * value / (one * value + two)
    omega = max(0.0, one * (value - 1) / (one * (value - 1) + size))
    shares = Interval(low / (low + size), high / (high + size), 1 - alpha)
    roots = Interval(float(np.sqrt(low / size)), float(np.sqrt(high / size)), 1 - alpha)
    return {
        "cohen_f": EffectSize(float(np.sqrt(one * value / two)), roots, "Cohen f"),
        "eta_squared": EffectSize(eta, shares, "partial η²"),
        "omega_squared": EffectSize(omega, shares, "partial ω²"),
    }


def from_p(
    p: float, n1: float, n0: float, *, alternative: Alternative = "two-sided", alpha: float = 0.05
) -> dict[str, EffectSize]:
    """Standardised differences behind a published p of a t test with equal variances.

    Parameters
    ----------
    p : float
        The p-value, above 0 and below 1.
    n1, n0 : float
        Units in treatment and control.
    alternative : "two-sided", "greater" or "less"
        What the p was of. A two-sided p does not say the sign: treatment is taken to be above control.
    alpha : float
        One minus the level of the intervals.

    Returns
    -------
    dict of str to EffectSize
        As `standardised` gives them for the t that has this p.

    Examples
    --------
    >>> round(from_p(0.0482, 50, 50)["cohen_d"].value, 3)
    0.4
    """
    size = float(gate.between("p", p, 0, 1))
    df = float(gate.at_least("n1", n1, 1)) + float(gate.at_least("n0", n0, 1)) - 2
    gate.choice("alternative", alternative, ("two-sided", "greater", "less"))
    t = float(student.upper_quantile(size / 2 if alternative == "two-sided" else size, df))
    return standardised(-t if alternative == "less" else t, n1, n0, alpha=alpha)


def from_t(t: float, n: float | tuple[float, float], *, alpha: float = 0.05) -> dict[str, EffectSize]:
    """Standardised effects behind a published t.

    Parameters
    ----------
    t : float
        The statistic: of two groups with equal variances, of one mean, or of the differences of pairs.
    n : float or pair of float
        Units in treatment and control; or one number, of units or of pairs.
    alpha : float
        One minus the level of the intervals.

    Returns
    -------
    dict of str to EffectSize
        Of two groups as `standardised` has them; of one `cohen_d` (d_z of pairs) and `hedges_g` (d times the exact
        correction for n - 1 degrees of freedom), which share the interval that inverts the noncentral t.

    References
    ----------
    .. [1] Steiger & Fouladi (1997), Noncentrality interval estimation.

    Examples
    --------
    >>> found = from_t(2.5, 30)
    >>> round(found["cohen_d"].value, 4), round(found["hedges_g"].value, 4)
    (0.4564, 0.4445)
    """
    sizes, value = gate.at_least("n", n, 2), float(gate.finite("t", t))
    if sizes.shape == (2,):
        return standardised(value, sizes[0], sizes[1], alpha=alpha)
    if sizes.shape != ():
        raise InputError.rule("n", n, "a number of units, or a pair (treatment, control)")
    size = float(sizes)
    bounds, root = student.shift_bounds(value, size - 1, *tails(alpha, "two-sided")), float(np.sqrt(size))
    limits = Interval(float(bounds.low) / root, float(bounds.high) / root, 1 - alpha)
    found = {"cohen_d": EffectSize(value / root, limits, "Cohen d")}
    if size > 2:
        corrected = value / root * float(small_sample_factor(size - 1))
        found["hedges_g"] = EffectSize(corrected, limits, "Hedges g")
    return found


def from_chi_square(statistic: float, n: float, df: float, *, alpha: float = 0.05) -> EffectSize:
    """Cohen w (φ of a two by two table) behind a published chi-square of n units.

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed., chapter 7.
    .. [2] Smithson (2003), Confidence Intervals, for the inversion of the noncentral chi-square.

    Examples
    --------
    >>> w = from_chi_square(9.0, 100, 1)
    >>> w.value, round(w.interval.low, 4), round(w.interval.high, 4)
    (0.3, 0.104, 0.496)
    """
    x, size = float(gate.at_least("statistic", statistic, 0)), float(gate.positive("n", n))
    low, high = chisquare.noncentrality_bounds(x, float(gate.positive("df", df)), *tails(alpha, "two-sided"))
    ends = Interval(float(np.sqrt(low / size)), float(np.sqrt(high / size)), 1 - alpha)
    return EffectSize(float(np.sqrt(x / size)), ends, "Cohen w")


def noncentrality(
    statistic: float, *df: float, test: Literal["t", "f", "chi-square"], alpha: float = 0.05
) -> EffectSize:
    """How far is a published statistic off its distribution without an effect, with limits?

    Parameters
    ----------
    statistic : float
        The t, F or chi-square.
    df : float
        Its degrees of freedom; of F both.
    test : "t", "f" or "chi-square"
        What it is.
    alpha : float
        One minus the level of the limits.

    Returns
    -------
    EffectSize
        The noncentrality that has the statistic as its own value: t itself, df1 F, chi-square (which run large: the
        mean of the last two without any effect is about df1). The limits have the statistic as their upper and lower
        alpha / 2 quantile; of F and chi-square 0 where no noncentrality has.

    References
    ----------
    .. [1] Steiger & Fouladi (1997), Noncentrality interval estimation.

    Examples
    --------
    >>> found = noncentrality(5.0, 2, 57, test="f")
    >>> found.value, round(found.interval.low, 4), round(found.interval.high, 4)
    (10.0, 0.5999, 25.7115)
    """
    gate.choice("test", test, ("t", "f", "chi-square"))
    freedom = gate.positive("df", df)
    if freedom.shape != ((2,) if test == "f" else (1,)):
        raise InputError.rule("df", df, "two numbers for F" if test == "f" else "one number")
    tail = tails(alpha, "two-sided")
    if test == "t":
        value = float(gate.finite("statistic", gate.single("statistic", statistic)))
        low, high = student.shift_bounds(value, freedom[0], *tail)
    elif test == "f":
        size = float(gate.at_least("statistic", gate.single("statistic", statistic), 0))
        value = size * float(freedom[0])
        low, high = fisher.noncentrality_bounds(size, freedom[0], freedom[1], *tail)
    else:
        value = float(gate.at_least("statistic", gate.single("statistic", statistic), 0))
        low, high = chisquare.noncentrality_bounds(value, freedom[0], *tail)
    return EffectSize(value, Interval(float(low), float(high), 1 - alpha), "noncentrality")


class ComparedCorrelations(NamedTuple):
    """Two correlations of independent groups.

    Attributes
    ----------
    difference : float
        The first less the second.
    interval : Interval
        Of the difference.
    q : float
        The difference of Fisher's z.
    z, p_value : float
        The test of q.
    """

    difference: float
    interval: Interval
    q: float
    z: float
    p_value: float


def compare_correlations(
    one: tuple[float, float],
    two: tuple[float, float],
    *,
    variances: tuple[float, float] | None = None,
    alpha: float = 0.05,
    alternative: Alternative = "two-sided",
) -> ComparedCorrelations:
    """How far apart are two published correlations of independent groups?

    Parameters
    ----------
    one, two : pair of float
        The correlation, and the units, of each group.
    variances : pair of float, optional
        Of their z; 1 / (n - 3) unless given.
    alpha : float
        One minus the level of the interval.
    alternative : "two-sided", "greater" or "less"
        Direction of the test; a one-sided interval has its open end at -2 or 2.

    Returns
    -------
    ComparedCorrelations

    References
    ----------
    .. [1] Fisher (1921), Metron 1, 3-32, for the test.
    .. [2] Zou (2007), Psychological Methods 12, 399-413, for the interval of the difference.

    Examples
    --------
    >>> found = compare_correlations((0.5, 103), (0.3, 103))
    >>> round(found.z, 4), round(found.p_value, 4), round(found.interval.low, 4), round(found.interval.high, 4)
    (1.6955, 0.09, -0.0314, 0.4291)
    """
    tail = tails(alpha, alternative)
    rs, ws, vs = [], [], []
    for k, (r, n) in enumerate((one, two)):
        rs.append(float(gate.between("a correlation", r, -1, 1)))
        size = float(gate.at_least("units", n, 4))
        vs.append(1 / (size - 3) if variances is None else float(gate.positive("variances", variances[k])))
        ws.append(float(np.arctanh(rs[-1])))
    (r1, r0), (w1, w0), (v1, v0) = rs, ws, vs
    below, above = critical_z(tail)
    s1, s0 = (float(np.sqrt(v)) for v in (v1, v0))
    low, high = -2.0, 2.0
    if tail[0] > 0:
        low = r1 - r0 - float(np.hypot(r1 - np.tanh(w1 - below * s1), np.tanh(w0 + below * s0) - r0))
    if tail[1] > 0:
        high = r1 - r0 + float(np.hypot(np.tanh(w1 + above * s1) - r1, r0 - np.tanh(w0 - above * s0)))
    q = float(fisher_distance(r1, r0, r1 - r0))
    z = q / float(np.sqrt(v1 + v0))
    if alternative == "two-sided":
        p = min(2 * float(normal.sf(abs(z))), 1.0)
    else:
        p = float(normal.sf(z if alternative == "greater" else -z))
    return ComparedCorrelations(r1 - r0, Interval(low, high, 1 - alpha), q, z, p)


def units_for_skewness(skewness: float) -> float:
    """Units in each group from which on a t test of a metric so skewed can be trusted.

    References
    ----------
    .. [1] Kohavi, Deng, Longbotham & Xu (2014), KDD '14, rule 7.
    """
    return 355.0 * skewness**2
