"""Numbers printed in the sources themselves, to the digits they print."""

import numpy as np
import pytest

from amber_ruler import Counts, Pairs, Sample, Summary
from amber_ruler.measure import (
    mean,
    means,
    pairs,
    proportion,
    proportions,
    signed_ranks,
)

# Newcombe (1998), Statistics in Medicine 17, 857-872, table I.
ONE_SHARE = [
    (81, 263, "wilson", 0.2553, 0.3662),
    (15, 148, "wilson", 0.0624, 0.1605),
    (0, 20, "wilson", 0.0, 0.1611),
    (1, 29, "wilson", 0.0061, 0.1718),
    (81, 263, "clopper-pearson", 0.2527, 0.3676),
    (15, 148, "clopper-pearson", 0.0578, 0.1617),
    (0, 20, "clopper-pearson", 0.0, 0.1684),
    (1, 29, "clopper-pearson", 0.0009, 0.1776),
    (81, 263, "wald", 0.2522, 0.3638),
    (15, 148, "wald", 0.0527, 0.1500),
]
# Newcombe (1998), Statistics in Medicine 17, 873-890, table II.
TWO_SHARES = [
    ((56, 70, 48, 80), "newcombe", 0.0524, 0.3339),
    ((9, 10, 3, 10), "newcombe", 0.1705, 0.8090),
    ((5, 56, 0, 29), "newcombe", -0.0381, 0.1926),
    ((56, 70, 48, 80), "score", 0.0533, 0.3377),
    ((56, 70, 48, 80), "miettinen-nurminen", 0.0528, 0.3382),
    ((9, 10, 3, 10), "miettinen-nurminen", 0.1700, 0.8406),
    ((5, 56, 0, 29), "miettinen-nurminen", -0.0326, 0.1933),
    ((56, 70, 48, 80), "wald", 0.0575, 0.3425),
]


@pytest.mark.parametrize(("x", "n", "kind", "low", "high"), ONE_SHARE)
def test_intervals_of_one_share(x, n, kind, low, high):
    """As in the comparison of seven methods."""
    found = proportion(Counts(x, n, "a"), interval=kind, test="wald" if kind == "wald" else "score").interval
    assert (found.low, found.high) == pytest.approx((low, high), abs=5.1e-5)


@pytest.mark.parametrize(("table", "kind", "low", "high"), TWO_SHARES)
def test_intervals_of_two_shares(table, kind, low, high):
    """As in the comparison of eleven methods."""
    x1, n1, x0, n0 = table
    found = proportions(Counts(x1, n1, "a"), Counts(x0, n0, "b"), interval=kind).interval
    assert (found.low, found.high) == pytest.approx((low, high), abs=5.1e-5)


def test_tea_tasting():
    """Three of four cups told right: Fisher (1935) gives 17 in 70 for so many or more."""
    groups = Counts(3, 4, "milk first"), Counts(1, 4, "tea first")
    assert proportions(*groups, test="exact", alternative="greater").p_value == pytest.approx(17 / 70, rel=1e-12)
    assert proportions(*groups, test="exact").p_value == pytest.approx(34 / 70, rel=1e-12)


FIRST = [0.7, -1.6, -0.2, -1.2, -0.1, 3.4, 3.7, 0.8, 0.0, 2.0]
SECOND = [1.9, 0.8, 1.1, 0.1, -0.1, 4.4, 5.5, 1.6, 4.6, 3.4]


def test_hours_gained():
    """Student (1908), Biometrika 6, section IX: means 0.75 and 2.33, a mean gain of 1.58 with spread 1.17 (n below)."""
    r = pairs(Pairs(SECOND, FIRST, ("second", "first")))
    assert (r.groups[0].mean, r.groups[1].mean, r.estimate) == pytest.approx((2.33, 0.75, 1.58), abs=1e-12)
    assert r.groups[2].sd * np.sqrt(9 / 10) == pytest.approx(1.17, abs=5e-3)
    assert r.estimate / (r.groups[2].sd * np.sqrt(9 / 10)) == pytest.approx(1.35, abs=5e-3)  # his z
    # His odds of .9985 to .0015 that the second does more.
    assert pairs(Pairs(SECOND, FIRST, ("second", "first")), alternative="greater").p_value == pytest.approx(
        0.0015, abs=1e-4
    )


def test_the_same_numbers_through_every_door():
    """Values, summaries, samples and arrays of comparisons give one answer."""
    raw = means(Sample(SECOND, "second"), Sample(FIRST, "first"))
    published = means(
        Summary(10, np.mean(SECOND), np.std(SECOND, ddof=1), "second"),
        Summary(10, np.mean(FIRST), np.std(FIRST, ddof=1), "first"),
    )
    many = means(
        Summary(10, [np.mean(SECOND), 5.0], [np.std(SECOND, ddof=1), 1.0], "second"),
        Summary(10, [np.mean(FIRST), 4.0], [np.std(FIRST, ddof=1), 2.0], "first"),
    )
    for name in ("statistic", "df", "p_value", "estimate"):
        assert getattr(raw, name) == pytest.approx(getattr(published, name), rel=1e-10)
        assert getattr(raw, name) == pytest.approx(getattr(many, name)[0], rel=1e-10)
    for name, effect in raw.effects.items():
        assert effect.value == pytest.approx(many.effects[name].value[0], rel=1e-9)
        assert effect.interval.low == pytest.approx(many.effects[name].interval.low[0], rel=1e-8)
    several = mean(Summary([10, 25], [2.0, 3.0], [1.0, 2.0], "a"), null=[1.0, 2.5])
    single = mean(Summary(25, 3.0, 2.0, "a"), null=2.5)
    assert several.p_value[1] == pytest.approx(single.p_value, rel=1e-12)
    assert several.effects["hedges_g"].interval.high[1] == pytest.approx(
        single.effects["hedges_g"].interval.high, rel=1e-9
    )


@pytest.mark.parametrize(("n", "most", "tail"), [(5, 0, 0.0312), (8, 3, 0.0195), (10, 8, 0.0244), (15, 25, 0.0240)])
def test_signed_rank_table(n, most, tail):
    """The largest sum with a tail below 1 in 40 or so: Wilcoxon's critical values of one-sided tests."""
    # A sample whose positive ranks add up to `most`.
    signs, left = np.full(n, -1.0), most
    for k in range(n, 0, -1):
        if k <= left:
            signs[k - 1], left = 1.0, left - k
    assert left == 0
    found = signed_ranks(np.arange(1.0, n + 1) * signs, alternative="less")
    assert (found.statistic, round(found.p_value, 4)) == (most, pytest.approx(tail, abs=6e-5))


@pytest.mark.parametrize("sides", [("a", "b"), ("b", "a")])
def test_units_rescale(sides):
    """Other units change the estimate and its limits, and neither p nor a standardised effect."""
    one, two = (np.array(v) for v in ((FIRST, SECOND) if sides == ("a", "b") else (SECOND, FIRST)))
    hours, minutes = (means(Sample(k * one, sides[0]), Sample(k * two, sides[1])) for k in (1, 60))
    assert minutes.p_value == pytest.approx(hours.p_value, rel=1e-10)
    assert minutes.interval.low == pytest.approx(60 * hours.interval.low, rel=1e-10)
    for name in ("hedges_g", "glass_delta", "superiority", "overlap", "lift", "log_ratio"):
        assert minutes.effects[name].value == pytest.approx(hours.effects[name].value, rel=1e-9)
