"""Time to an event: published trials, definitions written out, and simulated errors."""

import math

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError, Records

# Freireich et al. (1963): weeks in remission, 6-mercaptopurine and placebo.
WEEKS = [6, 6, 6, 7, 10, 13, 16, 22, 23, 6, 9, 10, 11, 17, 19, 20, 25, 32, 32, 34, 35]
SIX = Records({"weeks": WEEKS, "back": [1.0] * 9 + [0.0] * 12}, "six")
NONE = [1, 1, 2, 2, 3, 4, 4, 5, 5, 8, 8, 8, 8, 11, 11, 12, 12, 15, 17, 22, 23]
PLACEBO = Records({"weeks": NONE, "back": [1.0] * 21}, "placebo")
ASKED = {"value": "weeks", "event": "back"}


def kept(times, events, at):
    """The product-limit estimate, written out."""
    share = 1.0
    for t in sorted(set(times)):
        if t <= at:
            share *= 1 - sum(e for s, e in zip(times, events, strict=True) if s == t) / sum(s >= t for s in times)
    return share


def test_a_published_trial():
    """Log-rank 16.79, expected 19.25 and 10.75, medians 23 and 8 (Collett 2003), the curve and its limits."""
    r = ar.measure.times(SIX, PLACEBO, **ASKED, good="lower")
    assert r.statistic**2 == pytest.approx(16.793, abs=5e-4)
    assert (r.facts["observed"], r.facts["expected"], r.facts["variance"]) == pytest.approx(
        (9, 19.2505, 6.25696), abs=5e-5
    )
    assert r.estimate == pytest.approx(math.exp((9 - r.facts["expected"]) / r.facts["variance"]), rel=1e-12)
    assert [g.more["median"] for g in r.groups] == [23.0, 8.0]
    assert r.verdict == "better"
    (six, low, high), (placebo, *_) = r.survival.at(10)
    assert (six, low, high) == pytest.approx((0.7529, 0.5032, 0.8894), abs=5e-5)
    assert placebo == pytest.approx(8 / 21)
    for at in (0.5, 6, 9.99, 16, 30):
        assert r.survival.at(at)[0][0] == pytest.approx(kept(WEEKS, SIX.columns["back"], at), rel=1e-12)
    assert "without it after" in str(r)
    assert r.plot().get_ylabel() == "without the event"


def test_restricted_means_are_areas_and_without_censoring_plain_means():
    r = ar.measure.time(PLACEBO, **ASKED)
    assert r.estimate == pytest.approx(np.mean(NONE), rel=1e-12)
    assert r.se == pytest.approx(np.std(NONE) / 21**0.5, rel=1e-12)
    steps = np.arange(0, 20, 1e-3)
    area = np.mean([kept(WEEKS, SIX.columns["back"], t) for t in steps[::50]]) * 20
    until = ar.measure.restricted_means(SIX, PLACEBO, **ASKED, until=20, margin=1.0)
    assert until.groups[0].mean == pytest.approx(area, abs=0.05)
    assert until.se == pytest.approx(math.hypot(*(g.se for g in until.groups)), rel=1e-12)
    ratio = ar.measure.times(SIX, PLACEBO, **ASKED, until=20)
    assert until.effects["hazards"].value == ratio.estimate
    assert ratio.effects["restricted_mean"].value == until.estimate
    assert until.margin_tests["not_worse"].holds


@pytest.mark.parametrize("compare", [ar.measure.times, ar.measure.restricted_means])
def test_p_and_interval_agree_and_turn_with_the_variants(compare):
    r, other = compare(SIX, PLACEBO, **ASKED), compare(PLACEBO, SIX, **ASKED)
    assert other.p_value == pytest.approx(r.p_value, rel=1e-9)
    assert other.estimate == pytest.approx(1 / r.estimate if r.scale == "ratio" else -r.estimate, rel=1e-9)
    for end in (r.interval.low, r.interval.high):
        for shift, below in ((-1e-6, end == r.interval.low), (1e-6, end == r.interval.high)):
            found = compare(SIX, PLACEBO, **ASKED, null=end + shift)
            assert (found.p_value < 0.05) == below
            assert (not found.interval.contains(end + shift)) == below


def test_errors_hold_where_nothing_differs_and_crossing_curves_are_said():
    rng = np.random.default_rng(5)
    hits, runs = {"times": 0, "restricted_means": 0}, 1_000
    for _ in range(runs):
        arms = []
        for label in ("a", "b"):
            happens, seen = rng.exponential(10, 60), rng.uniform(5, 25, 60)
            arms.append(Records({"t": np.minimum(happens, seen), "e": (happens <= seen) * 1.0}, label))
        for compare in hits:
            hits[compare] += getattr(ar.measure, compare)(*arms, value="t", event="e").p_value < 0.05
    for count in hits.values():
        assert count / runs == pytest.approx(0.05, abs=4 * math.sqrt(0.05 * 0.95 / runs))
    early = Records({"t": [1, 1, 1, 2, 2, 20, 21, 22, 23, 24], "e": [1.0] * 10}, "early")
    late = Records({"t": [8, 8, 9, 9, 10, 10, 11, 11, 12, 12], "e": [1.0] * 10}, "late")
    checks = {c.name: c for c in ar.measure.times(early, late, value="t", event="e").checks}
    assert checks["hazards in proportion"].severity == "warning"


@pytest.mark.parametrize(
    ("change", "settings", "says"),
    [
        ({"back": [0.0] * 21}, {}, "Nothing happened"),
        ({"back": [2.0] * 21}, {}, "holds 2"),
        ({"weeks": [-1.0] * 21}, {}, "below 0"),
        ({}, {"until": 40}, "was seen until 40"),
        ({}, {"null": -1.0}, "null must be above 0"),
    ],
)
def test_what_can_not_be_answered_is_said(change, settings, says):
    rows = [Records({**r.columns, **change}, r.label) for r in (SIX, PLACEBO)]
    with pytest.raises((DataError, InputError), match=says):
        ar.measure.times(*rows, **ASKED, **settings)
    with pytest.raises(InputError, match="two columns"):
        ar.measure.times(WEEKS, NONE, **ASKED)


def test_rows_without_a_time_are_counted_and_tables_ask_the_same():
    gone = Records({"weeks": [*WEEKS, math.nan], "back": [*SIX.columns["back"], 1.0]}, "six")
    r = ar.measure.times(gone, PLACEBO, **ASKED)
    assert r.estimate == ar.measure.times(SIX, PLACEBO, **ASKED).estimate
    assert "six 1 of 22" in next(c.finding for c in r.checks if c.name == "missing values")
    never = ar.measure.time(Records({"weeks": [1.0, 2, 3, 4], "back": [1.0, 0, 0, 0]}, "all"), **ASKED)
    assert never.groups[0].more["median"] == math.inf
    assert ar.Result.from_json(never.to_json()).survival.labels == ("all",)
