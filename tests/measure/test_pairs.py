"""One mean, and pairs: the t test of differences, both standardised differences, and what pairing gains."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import amber_ruler as ar
import truth
from amber_ruler import DataError, InputError, Pairs, Sample, Summary
from amber_ruler.measure import mean, means, pairs
from truth import mp

BEFORE = np.array([42.0, 44.1, 43.5, 40.0, 36.9, 47.2, 39.9, 41.1])
AFTER = np.array([39.0, 41.5, 42.2, 38.0, 37.1, 43.0, 38.8, 40.4])
BOTH = Pairs(AFTER, BEFORE, ("after", "before"))
SPREADS = st.floats(0.5, 20)


@pytest.mark.parametrize("alternative", ["two-sided", "greater", "less"])
@pytest.mark.parametrize("null", [0.0, -1.5])
def test_pairs_are_one_mean_of_differences(alternative, null):
    """Statistic, p, interval and d_z as for the differences themselves; p as the t integral has it."""
    r = pairs(BOTH, null=null, alternative=alternative)
    one = mean(AFTER - BEFORE, null=null, alternative=alternative)
    assert (r.statistic, r.p_value, r.df) == pytest.approx((one.statistic, one.p_value, one.df), rel=1e-12)
    assert (r.interval.low, r.interval.high) == pytest.approx((one.interval.low, one.interval.high), rel=1e-12)
    differences = [mp.mpf(a) - mp.mpf(b) for a, b in zip(AFTER.tolist(), BEFORE.tolist(), strict=True)]
    centre = sum(differences) / 8
    t = (centre - null) / mp.sqrt(sum((d - centre) ** 2 for d in differences) / 7 / 8)
    upper = truth.t_upper(abs(t), 7)
    above = upper if t > 0 else 1 - upper
    expected = {"two-sided": 2 * upper, "greater": above, "less": 1 - above}[alternative]
    assert r.statistic == pytest.approx(float(t), rel=1e-12)
    assert r.p_value == pytest.approx(float(expected), rel=1e-11)
    if null == 0 and alternative == "two-sided":
        assert (r.p_value < 0.05) == (not r.effects["d_z"].interval.contains(0))


def test_the_standardised_differences_and_the_gain():
    """d_z by the spread of differences, d_av by the average spread; as many units as an unpaired test would need."""
    r = pairs(BOTH)
    d, s1, s0 = np.std(AFTER - BEFORE, ddof=1), np.std(AFTER, ddof=1), np.std(BEFORE, ddof=1)
    gap = np.mean(AFTER - BEFORE)
    assert r.effects["d_z"].value == pytest.approx(gap / d, rel=1e-12)
    assert r.effects["d_av"].value == pytest.approx(gap / np.sqrt((s1**2 + s0**2) / 2), rel=1e-12)
    assert r.facts["correlation"] == pytest.approx(np.corrcoef(AFTER, BEFORE)[0, 1], rel=1e-12)
    units = round(float(r.facts["gain"] * 8))
    unpaired = means(Summary(units, AFTER.mean(), s1, "after"), Summary(units, BEFORE.mean(), s0, "before"))
    assert unpaired.statistic == pytest.approx(r.statistic, rel=0.03)
    ratio = 1 + r.effects["lift"].interval.low
    t = pairs(Pairs(AFTER, ratio * BEFORE, ("after", "scaled"))).statistic
    assert abs(t) == pytest.approx(r.critical, rel=1e-9)  # Fieller: the ratio at which the test just turns


@given(st.integers(3, 500), st.floats(-20, 20), SPREADS, SPREADS, st.floats(-0.95, 0.95), st.floats(0.001, 0.3))
def test_published_numbers_of_pairs(n, gap, sd1, sd0, r, alpha):
    """The p is below alpha exactly when the interval leaves out 0; swapping the sides flips the sign."""
    one, two = Summary(n, 50.0 + gap, sd1, "a"), Summary(n, 50.0, sd0, "b")
    found, swapped = (pairs(x, y, correlation=r, alpha=alpha) for x, y in ((one, two), (two, one)))
    assert (found.p_value < alpha) == (not found.interval.contains(0.0))
    assert (found.p_value, found.estimate) == pytest.approx((swapped.p_value, -swapped.estimate), rel=1e-9)
    assert found.effects["d_z"].value == pytest.approx(-swapped.effects["d_z"].value, rel=1e-9, abs=1e-15)


@given(st.integers(2, 400), st.floats(-9, 9), SPREADS, st.sampled_from(["two-sided", "greater", "less"]))
def test_one_mean_agrees_with_its_interval(n, centre, sd, alternative):
    """With spread known or not; without a null there is an interval and no test."""
    for known in (None, 3.0):
        r = mean(Summary(n, centre, sd, "short"), null=0.5, alternative=alternative, known_sd=known)
        assert (r.p_value < 0.05) == (not r.interval.contains(0.5))
        bare = mean(Summary(n, centre, sd, "short"), alternative=alternative, known_sd=known)
        assert bare.p_value is None
        assert bare.interval.low == pytest.approx(r.interval.low, rel=1e-9, abs=1e-9)


def test_margins_are_tested():
    """Not worse, and equivalent: the one-sided tests against the margin, in the direction that is good."""
    r = pairs(BOTH, margin=1.0, good="lower")
    less, greater = (pairs(BOTH, null=n, alternative=a).p_value for n, a in ((1.0, "less"), (-1.0, "greater")))
    assert r.margin_tests["not_worse"].p_value == pytest.approx(less, rel=1e-12)
    assert r.margin_tests["equivalent"].p_value == pytest.approx(max(less, greater), rel=1e-12)
    assert (r.margin_tests["not_worse"].holds, r.margin_tests["equivalent"].holds) == (True, False)
    assert "not worse by 1.00 or more" in str(r)
    higher = means(Summary(500, 10.0, 1.0, "a"), Summary(500, 10.0, 1.0, "b"), margin=0.3)
    assert higher.margin_tests["equivalent"].holds
    assert higher.verdict == "no difference that matters"


def test_raw_values_are_looked_at():
    """One value that decides, skewness, and the choice of variances are pointed out."""
    r = mean(np.append(np.arange(1.0, 21.0), 600.0), null=14.0)
    assert any(c.name == "one value" and "600" in c.finding for c in r.checks) or r.p_value > 0.05
    rng = np.random.default_rng(1)
    one, two = rng.normal(size=12), np.append(rng.normal(size=11) + 0.9, 9.0)
    names = {c.name for c in means(Sample(two, "a"), Sample(one, "b")).checks}
    assert "one value" in names
    skewed = means(Sample(rng.lognormal(0, 1.5, 90), "a"), Sample(rng.lognormal(0, 1.5, 90), "b"))
    assert "skewness" in {c.name for c in skewed.checks}
    equal = means(Summary(8, 1.55, 2.6, "a"), Summary(90, 0.0, 1.0, "b"))
    assert "choice of variances decides" in " ".join(equal.notes)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: pairs(Pairs([1.0], [2.0])), "1 pairs have no spread"),
        (lambda: pairs(Pairs([1.0, 2.0], [2.0, 3.0])), "differences are equal"),
        (lambda: pairs(Summary(9, 1, 1, "a"), Summary(9, 1, 1, "b")), "correlation of the sides"),
        (lambda: pairs(Summary(9, 1, 1, "a"), Summary(8, 1, 1, "b"), correlation=0.5), "sizes differ"),
        (lambda: pairs(BOTH, correlation=0.5), "give nothing else"),
        (lambda: mean([3.0, 3.0], null=1), "without any variance"),
        (lambda: mean([3.0], null=1), "needs at least 2"),
        (lambda: mean([3.0, np.inf]), "not finite"),
    ],
)
def test_what_cannot_be_tested_is_said(call, says):
    """No NaN as an answer."""
    with pytest.raises((DataError, InputError), match=says):
        call()


@pytest.mark.parametrize("shift", [-30.0, 0.0, 30.0])
def test_a_lift_of_pairs_is_the_set_of_ratios_that_the_paired_test_keeps(shift):
    """An interval, all but an interval, or everything; also where the control lies below 0."""
    rng = np.random.default_rng(8)
    control = rng.normal(0, 4, 12) + shift
    both = Pairs(control + rng.normal(1, 2, 12), control, ("after", "before"))
    r = pairs(both)
    lift = r.effects["lift"].interval
    assert r.effects["lift"].value == pytest.approx(both.treatment.mean() / both.control.mean() - 1)
    for ratio in np.linspace(-9, 9, 361):
        d = both.treatment - ratio * both.control
        kept = abs(d.mean()) / (d.std(ddof=1) / np.sqrt(12)) <= r.critical
        assert lift.contains(float(ratio) - 1) == kept, ratio


def test_plain_values_of_both_sides_are_pairs():
    """In the same order of units; unequal numbers, and whole tables, are refused with the way out."""
    after, before = [39.0, 41.5, 40.0, 38.0], [42.0, 44.0, 43.5, 40.0]
    r = ar.measure.pairs(after, before)
    own = ar.measure.pairs(ar.Pairs(after, before))
    assert (r.estimate, r.p_value, r.treatment) == (own.estimate, own.p_value, "treatment")
    named = ar.measure.pairs(ar.Sample(after, "after"), ar.Sample(before, "before"))
    assert (named.treatment, named.control) == ("after", "before")
    assert r.again(without=[1]).estimate == ar.measure.pairs([39.0, 40.0, 38.0], [42.0, 43.5, 40.0]).estimate
    with pytest.raises(ar.InputError, match="there are 4 and 3"):
        ar.measure.pairs(after, before[:3])
    trips = ar.table(ar.demo.path("travellers"))
    for ask in (ar.measure.mean, ar.measure.groups, lambda t: ar.measure.means(t, t)):
        with pytest.raises(ar.InputError, match=r"compare\('fare'"):
            ask(trips)
