"""One ratio for all strata, against what it is in the simplest tables and against roots found otherwise."""

import math

import numpy as np
import pytest
from scipy.optimize import brentq
from scipy.stats import chi2

import amber_ruler as ar
from amber_ruler import DataError, Records

STRATA = [(20, 20, 14, 26), (10, 30, 6, 34), (33, 7, 25, 15)]


def rows(tables):
    """Both variants' rows of tables a, b, c, d."""
    found = []
    for first, label in ((0, "short"), (2, "current")):
        hits = [[1.0] * t[first] + [0.0] * t[first + 1] for t in tables]
        ports = [[f"port {k:03}"] * len(h) for k, h in enumerate(hits)]
        found.append(Records({"booked": sum(hits, []), "port": sum(ports, [])}, label))  # noqa: RUF017
    return found


def asked(tables, **settings):
    return ar.adjust.common_ratio(*rows(tables), value="booked", strata="port", **settings)


def test_of_one_stratum_it_is_the_plain_ratio():
    """Woolf's and Katz's variances, and Pearson's chi-square times (n − 1)/n."""
    a, b, c, d = STRATA[0]
    r = asked(STRATA[:1])
    assert r.estimate == pytest.approx(a * d / (b * c), rel=1e-12)
    se = math.log(r.estimate) / r.statistic
    assert se == pytest.approx(math.sqrt(1 / a + 1 / b + 1 / c + 1 / d), rel=1e-12)
    n, expected = 80, np.outer([a + b, c + d], [a + c, b + d]) / 80
    square = np.sum((np.array([[a, b], [c, d]]) - expected) ** 2 / expected)
    assert r.facts["cmh chi-square"] == pytest.approx(square * (n - 1) / n, rel=1e-12)
    risk = asked(STRATA[:1], ratio="risk")
    assert risk.estimate == pytest.approx(a / (a + b) / (c / (c + d)), rel=1e-12)
    assert math.log(risk.estimate) / risk.statistic == pytest.approx(
        math.sqrt(1 / a - 1 / (a + b) + 1 / c - 1 / (c + d)), rel=1e-12
    )


def test_of_matched_pairs_it_is_the_ratio_of_changes():
    """Strata of one unit each: b/c with variance 1/b + 1/c, and McNemar's chi-square."""
    pairs = [(1, 0, 1, 0)] * 5 + [(1, 0, 0, 1)] * 12 + [(0, 1, 1, 0)] * 4 + [(0, 1, 0, 1)] * 9
    r = asked(pairs)
    assert r.estimate == pytest.approx(3.0, rel=1e-12)
    assert math.log(3) / r.statistic == pytest.approx(math.sqrt(1 / 12 + 1 / 4), rel=1e-12)
    assert r.facts["cmh chi-square"] == pytest.approx((12 - 4) ** 2 / 16, rel=1e-12)


def test_homogeneity_is_breslow_and_days_with_tarones_correction():
    """Expected counts by a root that shares no code."""
    tables = [*STRATA, (5, 35, 20, 20)]
    r = asked(tables)
    away, spread = [], []
    for a, b, c, d in tables:
        n1, hits, gap = a + b, a + c, d - a

        def miss(x, n1=n1, hits=hits, gap=gap):
            return math.log(x * (gap + x) / ((n1 - x) * (hits - x))) - math.log(r.estimate)

        at = brentq(miss, max(0, -gap) + 1e-9, min(n1, hits) - 1e-9, xtol=1e-14)
        away.append(a - at)
        spread.append(1 / (1 / at + 1 / (n1 - at) + 1 / (hits - at) + 1 / (gap + at)))
    square = sum(g * g / s for g, s in zip(away, spread, strict=True)) - sum(away) ** 2 / sum(spread)
    assert r.facts["homogeneity chi-square"] == pytest.approx(square, rel=1e-8)
    assert r.facts["homogeneity p"] == pytest.approx(chi2.sf(square, 3), rel=1e-8)
    assert {c.name: c.severity for c in r.checks}["one ratio of odds"] == "warning"
    assert "differ among the 4 strata" in str(r)


def test_tables_ask_the_same_and_what_can_not_be_answered_is_said():
    trips = ar.table(ar.demo.path("travellers")).records(["booked", "home_port", "fare"], by="form")
    r = ar.adjust.common_ratio(trips["short"], trips["current"], value="booked", strata="home_port")
    odds = ar.measure.proportions(
        *(ar.table(ar.demo.path("travellers")).samples("booked", by="form")[v] for v in ("short", "current"))
    )
    assert r.estimate == pytest.approx(odds.effects["odds_ratio"].value, rel=0.01)
    assert (r.p_value < 0.05) == (not r.interval.contains(1.0))
    with pytest.raises(DataError, match="other values than 0 and 1"):
        ar.adjust.common_ratio(trips["short"], trips["current"], value="fare", strata="home_port")
    with pytest.raises(DataError, match="no ratio"):
        asked([(5, 0, 3, 0)])
