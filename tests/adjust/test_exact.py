"""Adjustments in exact fractions: whole numbers around 1e9, where squares in floats would lose every digit."""

from fractions import Fraction
from math import isqrt

import numpy as np
import pytest

from amber_ruler import Records
from amber_ruler.adjust import (
    before_after,
    clusters,
    compliers,
    cuped,
    ratio,
    regression,
    strata,
    trim,
    weights,
)

FAR = 10**9


def drawn(seed, n, *, far):
    """Whole numbers: a metric, a covariate that goes with it, a denominator, ports, clusters, uptake."""
    rng = np.random.default_rng(seed)
    x = rng.integers(0, 40, n)
    return {
        "y": (2 * x + rng.integers(0, 30, n) + 5 * seed + far).tolist(), "x": (x + far).tolist(),
        "d": rng.integers(1, 6, n).tolist(), "p": (rng.integers(0, 2, n)).tolist(), "u": (np.arange(n) // 3 + 100 *
        seed).tolist(), "t": (rng.random(n) < 0.2 + 0.5 * seed).astype(int).tolist(), "w": rng.integers(1, 5,
        n).tolist(),
    }  # fmt: skip


def both(far, n=(13, 17)):
    """Treatment and control, as rows and as fractions."""
    raw = [drawn(1, n[0], far=far), drawn(0, n[1], far=far)]
    rows = [Records(r, label) for r, label in zip(raw, ("short", "current"), strict=True)]
    return rows, [{k: [Fraction(v) for v in values] for k, values in r.items()} for r in raw]


def mean(v):
    return sum(v) / len(v)


def cov(a, b):
    ma, mb = mean(a), mean(b)
    return sum((x - ma) * (y - mb) for x, y in zip(a, b, strict=True)) / (len(a) - 1)


def root(q):
    """The square root of a fraction, to 40 digits."""
    return float(Fraction(isqrt(int(q * 10**80)), 10**40))


def welch(vs):
    """Difference of means and its squared standard error."""
    return mean(vs[0]) - mean(vs[1]), sum(cov(v, v) / len(v) for v in vs)


@pytest.fixture(params=[0, FAR], ids=["near", "far"])
def arms(request):
    return both(request.param)


def agrees(r, difference, variance, rel=1e-10):
    assert (r.estimate, r.se) == pytest.approx((float(difference), root(variance)), rel=rel)


@pytest.mark.parametrize("theta", ["within", "total", "optimal"])
def test_cuped(arms, theta):
    """Theta and all moments in fractions."""
    rows, exact = arms
    if theta == "total":
        y, x = (exact[0][c] + exact[1][c] for c in "yx")
        slope = cov(x, y) / cov(x, x)
    else:
        weight = [(len(e["y"]) - 1) if theta == "within" else Fraction(1, len(e["y"])) for e in exact]
        top, below = (sum(w * cov(e["x"], e[c]) for w, e in zip(weight, exact, strict=True)) for c in "yx")
        slope = top / below
    left = [[y - slope * x for y, x in zip(e["y"], e["x"], strict=True)] for e in exact]
    agrees(cuped(*rows, value="y", covariate="x", theta=theta), *welch(left))


def test_changes_and_uptake(arms):
    """The difference of differences; Wald's ratio and the spread of y - L d."""
    rows, exact = arms
    changes = [[y - x for y, x in zip(e["y"], e["x"], strict=True)] for e in exact]
    agrees(before_after(*rows, value="y", before="x"), *welch(changes))
    up = mean(exact[0]["t"]) - mean(exact[1]["t"])
    late = (mean(exact[0]["y"]) - mean(exact[1]["y"])) / up
    left = [[y - late * t for y, t in zip(e["y"], e["t"], strict=True)] for e in exact]
    agrees(compliers(*rows, value="y", taken="t"), late, welch(left)[1] / up**2)


def test_strata_and_trims(arms):
    """Σ w² s² / n with the sample's shares; Yuen's winsorised variance."""
    rows, exact = arms
    n = sum(len(e["y"]) for e in exact)
    difference, variance = Fraction(0), Fraction(0)
    for level in (0, 1):
        cell = [[y for y, p in zip(e["y"], e["p"], strict=True) if p == level] for e in exact]
        w = Fraction(sum(map(len, cell)), n)
        d, v = welch(cell)
        difference, variance = difference + w * d, variance + w**2 * v
    agrees(strata(*rows, value="y", strata="p"), difference, variance)
    means, total = [], Fraction(0)
    for e in exact:
        v, m = sorted(e["y"]), len(e["y"])
        g = m // 5
        h = m - 2 * g
        held = [min(max(y, v[g]), v[m - g - 1]) for y in v]
        means.append(mean(v[g : m - g]))
        total += (m - 1) * cov(held, held) / (h * (h - 1))
    agrees(trim(*(r.columns["y"] for r in rows)), means[0] - means[1], total)


@pytest.mark.parametrize("far", [0, FAR])
def test_ratios_and_weights(far):
    """L = R + (N - R D) / mean of D; a weighted mean is such a ratio."""
    rows, exact = both(far)
    for r, top, below in (
        (ratio(*rows, value="y", per="d"), "y", "d"),
        (weights(*rows, value="y", weight="w"), "wy", "w"),
    ):
        lines = []
        for e in exact:
            n = [a * b for a, b in zip(e["w"], e["y"], strict=True)] if top == "wy" else e[top]
            d = e[below]
            at = mean(n) / mean(d)
            lines.append([at + (a - at * b) / mean(d) for a, b in zip(n, d, strict=True)])
        agrees(r, *welch(lines), rel=1e-10 if far == 0 else 1e-9)


def solved(a, b):
    """A linear system in fractions, by Gauss's elimination."""
    n = len(a)
    rows = [[*row, value] for row, value in zip(a, b, strict=True)]
    for k in range(n):
        pivot = next(i for i in range(k, n) if rows[i][k] != 0)
        rows[k], rows[pivot] = rows[pivot], rows[k]
        rows[k] = [v / rows[k][k] for v in rows[k]]
        for i in range(n):
            if i != k:
                rows[i] = [v - rows[i][k] * w for v, w in zip(rows[i], rows[k], strict=True)]
    return [row[n] for row in rows]


def fitted(exact, *, own):
    """Residuals, weights of the difference and leverages of every row, from the whole design."""
    y = exact[0]["y"] + exact[1]["y"]
    x = exact[0]["x"] + exact[1]["x"]
    centre = mean(x)
    treated = [Fraction(1)] * len(exact[0]["y"]) + [Fraction(0)] * len(exact[1]["y"])
    design = [
        [Fraction(1), t, v - centre, *([t * (v - centre)] if own else [])] for t, v in zip(treated, x, strict=True)
    ]
    k = len(design[0])
    products = [[sum(row[i] * row[j] for row in design) for j in range(k)] for i in range(k)]
    b = solved(products, [sum(row[i] * v for row, v in zip(design, y, strict=True)) for i in range(k)])
    pick = solved(products, [Fraction(int(i == 1)) for i in range(k)])
    e = [v - sum(c * z for c, z in zip(b, row, strict=True)) for v, row in zip(y, design, strict=True)]
    w = [sum(c * z for c, z in zip(pick, row, strict=True)) for row in design]
    h = [sum(c * z for c, z in zip(solved(products, row), row, strict=True)) for row in design]
    return b[1], e, w, h, k


@pytest.mark.parametrize("own", [True, False])
@pytest.mark.parametrize("errors", ["hc0", "hc1", "hc2", "hc3"])
def test_regression(arms, own, errors):
    """The sandwich in fractions, from the whole design matrix."""
    rows, exact = arms
    estimate, e, w, h, k = fitted(exact, own=own)
    n = len(e)
    factor = {"hc0": lambda _: 1, "hc1": lambda _: Fraction(n, n - k), "hc2": lambda v: 1 / (1 - v)}.get(
        errors, lambda v: 1 / (1 - v) ** 2
    )
    variance = sum(a**2 * b**2 * factor(c) for a, b, c in zip(w, e, h, strict=True))
    r = regression(*rows, value="y", covariate="x", slopes="own" if own else "common", errors=errors)
    agrees(r, estimate, variance, rel=1e-9)


@pytest.mark.parametrize("errors", ["cr0", "cr1", "cr1-rows"])
def test_clusters(arms, errors):
    """Sums of weighted residuals over clusters, in fractions."""
    rows, exact = arms
    estimate, e, w, _, k = fitted(exact, own=False)
    ids = exact[0]["u"] + exact[1]["u"]
    scores = {}
    for u, a, b in zip(ids, w, e, strict=True):
        scores[u] = scores.get(u, 0) + a * b
    g, n = len(scores), len(e)
    factor = {"cr0": 1, "cr1": Fraction(g, g - 1), "cr1-rows": Fraction(g * (n - 1), (g - 1) * (n - k))}[errors]
    r = clusters(*rows, value="y", cluster="u", covariate="x", errors=errors)
    agrees(r, estimate, factor * sum(s**2 for s in scores.values()), rel=1e-9)
