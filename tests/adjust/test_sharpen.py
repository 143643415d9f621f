"""Strata, ratios, caps, clusters and covariates, alone and together, against the same thing done on rows."""

import numpy as np
import pytest

from adjust.rows import arms
from amber_ruler import DataError, InputError, Records
from amber_ruler.adjust import cap, clusters, cuped, ratio, sharpen, steps, strata
from amber_ruler.measure import means


def numbers(r):
    return r.estimate, r.se, r.df, r.p_value


def by_strata(both, values, weights):
    """Difference, variance and Satterthwaite's degrees of freedom, stratum by stratum."""
    difference, parts = 0.0, []
    for level, w in weights.items():
        for sign, a, v in zip((1, -1), both, values, strict=True):
            mine = v[a.columns["port"] == level]
            difference += sign * w * mine.mean()
            parts.append((w**2 * mine.var(ddof=1) / mine.size, mine.size - 1))
    variance = sum(v for v, _ in parts)
    return difference, np.sqrt(variance), variance**2 / sum(v**2 / d for v, d in parts)


def shares_of(both):
    ports = np.concatenate([a.columns["port"] for a in both])
    return {level: float(np.mean(ports == level)) for level in np.unique(ports)}


@pytest.mark.parametrize("shares", ["sample", "precision", {"Amble": 2, "Gullhaven": 1, "Tern Quay": 1}])
def test_strata_are_weighted_sums(shares):
    """With shares of the sample, 1 / variance, or as stated."""
    both = arms((60, 80))
    fares = [a.columns["fare"] for a in both]
    weights = shares_of(both)
    if shares == "precision":
        each = {k: by_strata(both, fares, {k: 1.0})[1] ** -2 for k in weights}
        weights = {k: v / sum(each.values()) for k, v in each.items()}
    elif isinstance(shares, dict):
        weights = {k: v / 4 for k, v in shares.items()}
    r = strata(*both, value="fare", strata="port", shares=shares)
    assert (r.estimate, r.se, r.df) == pytest.approx(by_strata(both, fares, weights), rel=1e-10)
    part = r.strata
    d, se = np.array([by_strata(both, fares, {k: 1.0})[:2] for k in weights]).T
    assert part.effects.estimate == pytest.approx(d, rel=1e-10)
    assert part.effects.axis.labels == tuple(weights)
    mean = np.sum(d / se**2) / np.sum(1 / se**2)
    assert part.interaction.statistic == pytest.approx(np.sum((d - mean) ** 2 / se**2), rel=1e-9)
    assert part.interaction.df == 2
    over = 0.0
    for a, v in zip(both, fares, strict=True):
        s = {k: v[a.columns["port"] == k].var(ddof=1) for k in weights}
        over += sum(w * s[k] / len(a) + (1 - w) * s[k] / len(a) ** 2 for k, w in weights.items())
    assert r.facts["se_over_sizes"] == pytest.approx(np.sqrt(over), rel=1e-10)
    assert r.facts["normal_p"] < r.p_value


def test_strata_with_covariates_share_slopes_within_strata():
    """Deviations are taken within variant and stratum; the rest is the weighted sum of adjusted values."""
    both = arms((60, 80))
    within_x, within_y = [], []
    for a in both:
        for level in shares_of(both):
            mine = a.columns["port"] == level
            within_x.append(a.columns["prior"][mine] - a.columns["prior"][mine].mean())
            within_y.append(a.columns["fare"][mine] - a.columns["fare"][mine].mean())
    x, y = np.concatenate(within_x), np.concatenate(within_y)
    left = [a.columns["fare"] - (x @ y) / (x @ x) * a.columns["prior"] for a in both]
    r = strata(*both, value="fare", strata="port", covariate="prior")
    assert (r.estimate, r.se, r.df) == pytest.approx(by_strata(both, left, shares_of(both)), rel=1e-9)


def lined(a, top, below):
    n, d = a.columns[top], a.columns[below]
    ratio_ = n.mean() / d.mean()
    return ratio_ + (n - ratio_ * d) / d.mean()


@pytest.mark.parametrize("covariate", [(), ("prior",), ("trips per before",)])
def test_a_ratio_is_its_linear_form(covariate):
    """L = R + (N - R D) / mean of D of each variant; a covariate that is a ratio likewise."""
    both = arms((60, 80))
    ls = [lined(a, "fare", "searches") for a in both]
    if covariate:
        xs = [a.columns["prior"] if covariate == ("prior",) else lined(a, "trips", "before") for a in both]
        dx, dl = (np.concatenate([v - v.mean() for v in vs]) for vs in (xs, ls))
        ls = [v - (dx @ dl) / (dx @ dx) * (x - np.concatenate(xs).mean()) for v, x in zip(ls, xs, strict=True)]
    expected = means(*ls)
    r = ratio(*both, value="fare", per="searches", covariate=covariate)
    assert numbers(r) == pytest.approx(numbers(expected), rel=1e-10)
    assert [g.mean for g in r.groups] == pytest.approx([g.mean for g in expected.groups], rel=1e-10)
    lift = r.effects["lift"].interval
    m, v = [g.mean for g in expected.groups], [g.se**2 for g in expected.groups]
    for end in (1 + lift.low, 1 + lift.high):
        assert (m[0] - end * m[1]) ** 2 == pytest.approx(r.critical**2 * (v[0] + end**2 * v[1]), rel=1e-8)
    if not covariate:
        for a, g in zip(both, r.groups, strict=True):
            c = np.cov(a.columns["fare"], a.columns["searches"])
            by_delta = (
                (c[0, 0] - 2 * g.mean * c[0, 1] + g.mean**2 * c[1, 1]) / len(a) / a.columns["searches"].mean() ** 2
            )
            assert g.se**2 == pytest.approx(by_delta, rel=1e-10)


def test_all_steps_together_are_the_steps_one_by_one():
    """Capped, then totals of clusters in strata as a ratio of fares per search, adjusted for a ratio before."""
    both = arms((300, 320), clusters=60)
    ports = np.array(["Amble", "Tern Quay"])
    codes = [np.unique(a.columns["who"], return_inverse=True)[1] for a in both]
    both = [Records({**a.columns, "port": ports[c % 2]}, a.label) for a, c in zip(both, codes, strict=True)]
    top = np.quantile(np.concatenate([a.columns["fare"] for a in both]), 0.9)
    whole = []
    for a in both:
        ids, at, codes = np.unique(a.columns["who"], return_index=True, return_inverse=True)
        capped = np.minimum(a.columns["fare"], top)
        names = ("searches", "trips", "before")
        sums = {"fare": np.bincount(codes, weights=capped)} | {
            n: np.bincount(codes, weights=a.columns[n]) for n in names
        }
        whole.append(Records({**sums, "port": a.columns["port"][at]}, a.label))
        assert len(ids) == len(whole[-1])
    plain = sharpen(*whole, value="fare", per="searches", covariate="trips per before", strata="port")
    described = steps(cap=0.9, cluster="who", per="searches", covariate="trips per before", strata="port")
    r = described.compare(*both, value="fare")
    assert numbers(r) == pytest.approx(numbers(plain), rel=1e-10)
    # In strata the ratio is of the weighted totals: written out for the plain form.
    shares = shares_of(whole)
    parts = []
    for a in whole:
        mine = {k: a.columns["port"] == k for k in shares}
        n, d = (sum(w * a.columns[c][mine[k]].mean() for k, w in shares.items()) for c in ("fare", "searches"))
        parts.append(n / d + (a.columns["fare"] - n / d * a.columns["searches"]) / d)
    combined = sharpen(*whole, value="fare", per="searches", strata="port")
    assert (combined.estimate, combined.se, combined.df) == pytest.approx(by_strata(whole, parts, shares), rel=1e-9)
    starts = ("capped at", "all rows of a who", "as a ratio", "in 2 strata", "adjusted for")
    assert [step.startswith(start) for step, start in zip(r.adjustment.steps, starts, strict=True)] == [True] * 5
    assert described.to_dict() == {
        "cap": 0.9, "strata": "port", "covariate": ["trips per before"], "per": "searches", "cluster": "who",
    }  # fmt: skip


def test_laws():
    """One stratum is none; no steps are Welch; equal counts of rows per cluster; a cap above the maximum."""
    both = arms((60, 80))
    plain = means(*(a.columns["fare"] for a in both))
    assert numbers(sharpen(*both, value="fare")) == pytest.approx(numbers(plain), rel=1e-12)
    one = [Records({**a.columns, "port": ["Amble"] * len(a)}, a.label) for a in both]
    assert numbers(strata(*one, value="fare", strata="port")) == pytest.approx(numbers(plain), rel=1e-12)
    high = sharpen(*both, value="fare", cap_at=1e6)
    assert numbers(high) == pytest.approx(numbers(plain), rel=1e-12)
    assert "changes nothing" in " ".join(high.notes)
    ones = [Records({**a.columns, "one": np.ones(len(a))}, a.label) for a in both]
    assert numbers(ratio(*ones, value="fare", per="one")) == pytest.approx(numbers(plain), rel=1e-9)
    totals, by_clusters = (
        sharpen(*both, value="fare", cluster="who"), clusters(*both, value="fare", cluster="who", errors="totals"),
    )  # fmt: skip
    assert numbers(totals) == pytest.approx(numbers(by_clusters), rel=1e-12)
    same = cuped(*both, value="fare", covariate="prior"), sharpen(*both, value="fare", covariate="prior")
    assert numbers(same[0]) == numbers(same[1])
    assert cap(*both, value="fare", cap=0.9).estimate == sharpen(*both, value="fare", cap=0.9).estimate


@pytest.mark.parametrize(
    ("how", "error", "says"),
    [
        ({"cap": 0.9, "cap_at": 3.0}, InputError, "not both"),
        ({"shares": "precision"}, InputError, "name the column in strata"),
        ({"strata": "port", "shares": "precision", "per": "searches"}, InputError, "would change what is measured"),
        ({"strata": "port", "covariate": "port"}, InputError, "can't be a covariate and strata at once"),
        ({"strata": "port", "shares": {"Amble": 1.0}}, InputError, "says nothing of the stratum 'Gullhaven'"),
        ({"strata": "port", "shares": {"Ambel": 1.0}}, DataError, "Did you mean 'Amble'"),
        ({"covariate": "fare"}, InputError, "is the metric"),
        ({"covariate": ["prior", "prior"]}, InputError, "each named once"),
        ({"known_on": "prior"}, InputError, "go together"),
        ({"cap_at": -100.0}, DataError, "lies below every value"),
        ({"per": "zero"}, DataError, "adds up to 0"),
        ({"strata": "sides"}, DataError, "Variant 'short' has no row in stratum 'current'"),
        ({"cluster": "port"}, DataError, "rows in more than one variant"),
    ],
)
def test_what_cant_be_is_refused_with_the_reason(how, error, says):
    """Steps that don't go together, and rows that can't serve them."""
    both = [
        Records({**a.columns, "zero": np.zeros(len(a)), "sides": [a.label] * len(a)}, a.label) for a in arms((60, 80))
    ]
    with pytest.raises(error, match=says):
        sharpen(*both, value="fare", **how)
