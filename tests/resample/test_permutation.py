"""Permutation tests against every assignment."""

import itertools
import math

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError, Pairs, Records
from amber_ruler.resample import permutation

A, B = [12.0, 15.5, 19.0, 11.0, 12.0], [9.0, 8.5, 12.0, 7.0]


def differences(a, b, shift=0.0):
    """The difference of every assignment after a shift was taken off the treated."""
    pool = np.array([v - shift for v in a] + list(b))
    n = len(pool)
    return np.array(
        [
            pool[list(chosen)].mean() - np.delete(pool, list(chosen)).mean()
            for chosen in itertools.combinations(range(n), len(a))
        ]
    )


def p_of(d, seen, alternative, two_sided="distance"):
    near = 1e-9
    up, down = np.mean(d >= seen - near), np.mean(d <= seen + near)
    if alternative != "two-sided":
        return up if alternative == "greater" else down
    return np.mean(np.abs(d) >= abs(seen) - near) if two_sided == "distance" else min(1, 2 * min(up, down))


@pytest.mark.parametrize("two_sided", ["distance", "doubled"])
@pytest.mark.parametrize("alternative", ["two-sided", "greater", "less"])
@pytest.mark.parametrize("null", [0.0, 3.0, -2.5])
def test_every_assignment_gives_the_definition(alternative, two_sided, null):
    """P, ties and all; and p is below alpha exactly where the interval leaves the shift out."""
    settings = {"alternative": alternative, "two_sided": two_sided}
    r = permutation(A, B, null=null, **settings)
    seen = np.mean(A) - np.mean(B) - null
    assert r.p_value == pytest.approx(p_of(differences(A, B, null), seen, alternative, two_sided), rel=1e-12)
    assert r.draws.way == "every assignment"
    for alpha in (0.05, 0.2, 0.4):
        one = permutation(A, B, null=null, alpha=alpha, **settings)
        assert (one.p_value < alpha) == (not one.interval.contains(null))
        for end, out in ((one.interval.low, -1e-6), (one.interval.high, 1e-6)):
            if math.isfinite(end):  # just outside it is rejected, at the end it is not
                outside, at = (permutation(A, B, null=end + d, alpha=alpha, **settings) for d in (out, 0.0))
                assert outside.p_value < alpha <= at.p_value + 1e-12


def test_the_studentised_one_and_functions_agree_with_every_assignment():
    def t(a, b):
        return (a.mean() - b.mean()) / math.sqrt(a.var(ddof=1) / len(a) + b.var(ddof=1) / len(b))

    pool = np.array(A + B)
    each = np.array([t(pool[list(c)], np.delete(pool, list(c))) for c in itertools.combinations(range(9), 5)])
    seen = t(np.array(A), np.array(B))
    r = permutation(A, B, statistic="studentised")
    assert r.p_value == pytest.approx(np.mean(np.abs(each) >= abs(seen) - 1e-9), rel=1e-12)
    for alpha in (0.05, 0.1, 0.3):
        one = permutation(A, B, statistic="studentised", alpha=alpha)
        assert (one.p_value < alpha) == (not one.interval.contains(0.0))
    own = permutation(A, B, statistic=lambda a, b: a.mean() - b.mean())
    assert own.p_value == permutation(A, B, two_sided="doubled").p_value
    frames = [Records({"v": v, "k": [1.0] * len(v)}, label) for v, label in ((A, "a"), (B, "b"))]
    assert permutation(*frames, statistic=lambda a, b: np.mean(a["v"]) - np.mean(b["v"])).p_value == own.p_value
    tables = [pd.DataFrame({"v": v}) for v in (A, B)]
    assert permutation(*tables, statistic=lambda a, b: a["v"].mean() - b["v"].mean()).p_value == own.p_value
    assert (own.p_value < 0.05) == (not own.interval.contains(0.0))


def test_signs_are_flipped_strata_kept_and_clusters_dealt_whole():
    d = np.array([1.5, 2.0, -0.5, 3.0, 0.5, 1.0])
    signs = np.array(list(itertools.product([1, -1], repeat=6)))
    means = signs @ d / 6
    r = permutation(d)
    assert r.p_value == pytest.approx(np.mean(np.abs(means) >= d.mean() - 1e-12), rel=1e-12)
    pairs = permutation(Pairs(d + 4, np.full(6, 4.0), ("after", "before")))
    assert (pairs.p_value, pairs.interval.low) == pytest.approx((r.p_value, r.interval.low), rel=1e-9)
    assert pairs.paired
    subsets = sorted(d[list(s)].mean() for k in range(1, 7) for s in itertools.combinations(range(6), k))
    one_sided = permutation(d, alternative="greater", alpha=0.1)
    assert one_sided.interval.low == pytest.approx(subsets[math.ceil(0.1 * 64) - 2], rel=1e-9)
    rows = [({"v": A, "port": [1, 1, 2, 2, 2]}, "a"), ({"v": B, "port": [1, 2, 2, 1]}, "b")]
    within = permutation(*(Records(v, label) for v, label in rows), value="v", strata="port")
    pool, ports = np.array(A + B), np.array([1, 1, 2, 2, 2, 1, 2, 2, 1])
    found = []
    for one in itertools.combinations(np.flatnonzero(ports == 1), 2):
        for two in itertools.combinations(np.flatnonzero(ports == 2), 3):
            chosen = [*one, *two]
            found.append(pool[chosen].mean() - np.delete(pool, chosen).mean())
    assert within.p_value == pytest.approx(p_of(np.array(found), np.mean(A) - np.mean(B), "two-sided"), rel=1e-12)
    clustered = [({"v": A, "c": [1, 1, 2, 2, 3]}, "a"), ({"v": B, "c": [4, 4, 5, 5]}, "b")]
    r = permutation(*(Records(v, label) for v, label in clustered), value="v", cluster="c")
    groups = [pool[:2], pool[2:4], pool[4:5], pool[5:7], pool[7:]]
    found = []
    for chosen in itertools.combinations(range(5), 3):
        one = np.concatenate([groups[k] for k in chosen])
        two = np.concatenate([groups[k] for k in range(5) if k not in chosen])
        found.append(one.mean() - two.mean())
    assert r.p_value == pytest.approx(p_of(np.array(found), np.mean(A) - np.mean(B), "two-sided"), rel=1e-12)


def test_drawn_assignments_are_near_the_exact_p_and_say_how_near():
    """(b + 1)/(m + 1), its limits, counts of few kinds, and the same whoever works."""
    rng = np.random.default_rng(2)
    a, b = rng.normal(0.8, 1, 12), rng.normal(0, 1, 11)
    exact = permutation(a, b, replicates="all")
    drawn = permutation(a, b, replicates=20_000, seed=1)
    assert drawn.facts["p at least"] <= exact.p_value <= drawn.facts["p at most"]
    assert drawn.interval.low == pytest.approx(exact.interval.low, abs=0.05)
    assert permutation(a, b, replicates=500, seed=3, workers=1) == permutation(a, b, replicates=500, seed=3, workers=2)
    yes, no = (np.repeat([1.0, 0.0], n) for n in ((60, 140), (40, 150)))
    r = permutation(yes, no, seed=1, replicates=20_000)
    assert r.p_value == pytest.approx(ar.measure.proportions(yes, no, test="exact").p_value, abs=0.02)
    assert (r.p_value < 0.05) == (not r.interval.contains(0.0))
    x, y = rng.normal(0, 1, 150), rng.normal(0.1, 3, 100)
    studentised = permutation(x, y, statistic="studentised", seed=1)
    assert studentised.p_value == pytest.approx(ar.measure.means(x, y).p_value, abs=0.02)
    assert studentised.interval.low == pytest.approx(ar.measure.means(x, y).interval.low, abs=0.08)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: permutation([1.0, 2.0] * 30, [3.0, 4.0] * 30, replicates="all"), "at most 2,000,000"),
        (lambda: permutation([], [1.0]), "No row"),
        (lambda: permutation(A, statistic=lambda a, b: 0.0), "is of two samples"),
        (lambda: permutation(A, B, statistic=lambda a, b: a), "finite number"),
        (lambda: permutation(A, B, statistic="median"), "statistic"),
        (lambda: permutation([1.0], [2.0], statistic="studentised"), "two units"),
        (lambda: permutation({"v": A}, {"v": B}, value="v", cluster="who"), "'who'"),
        (
            lambda: permutation({"v": [1.0, 2.0], "p": [1, 1]}, {"v": [1.0, 2.0], "p": [1, 2]}, value="v", strata="p"),
            "every stratum",
        ),
    ],
)
def test_what_can_not_be_dealt_out_is_said(call, says):
    with pytest.raises((DataError, InputError), match=says):
        call()
