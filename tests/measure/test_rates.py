"""Rates: exact and score tests against Poisson sums and likelihoods."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler import DataError, Events, InputError, Sample, Summary
from amber_ruler.measure import rate, rates
from truth import mp

Z = float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.95")))
COUNT, EXPOSURE = st.integers(0, 3_000), st.floats(0.5, 5_000)
ALTERNATIVES = st.sampled_from(["two-sided", "greater", "less"])


def poisson_at_most(x, mean):
    return mp.fsum(mp.exp(-mp.mpf(mean)) * mp.mpf(mean) ** k / mp.factorial(k) for k in range(x + 1))


@pytest.mark.parametrize(("x", "exposure", "null"), [(0, 4.0, 0.6), (7, 10.0, 0.4), (30, 120.0, 0.3), (300, 50.0, 5.2)])
def test_one_rate_is_sums_of_poisson_chances(x, exposure, null):
    """The exact p doubles a tail; Garwood's ends have tails of alpha/2; Rao's have a critical z."""
    below, above = poisson_at_most(x, exposure * null), 1 - poisson_at_most(x - 1, exposure * null)
    r = rate(Events(x, exposure, "a"), null=null)
    assert r.p_value == pytest.approx(min(1.0, float(2 * min(below, above))), rel=1e-11)
    assert rate(Events(x, exposure), null=null, alternative="less").p_value == pytest.approx(float(below), rel=1e-11)
    assert float(poisson_at_most(x, mp.mpf(r.interval.high) * exposure)) == pytest.approx(0.025, rel=1e-10)
    if x:
        assert float(1 - poisson_at_most(x - 1, mp.mpf(r.interval.low) * exposure)) == pytest.approx(0.025, rel=1e-10)
    mid = rate(Events(x, exposure, "a"), null=null, test="mid-p")
    own = below + above - 1
    assert mid.p_value == pytest.approx(float(2 * min(below - own / 2, above - own / 2)), rel=1e-10)
    for end, from_above in ((mid.interval.low, True), (mid.interval.high, False)):
        if end > 0:
            under = [poisson_at_most(k, mp.mpf(end) * exposure) for k in (x, x - 1)]
            assert float(1 - sum(under) / 2 if from_above else sum(under) / 2) == pytest.approx(0.025, rel=1e-10)
    score = rate(Events(x, exposure, "a"), null=null, test="score")
    for end in (score.interval.low, score.interval.high):
        if end > 0:
            assert abs(x - end * exposure) / np.sqrt(end * exposure) == pytest.approx(Z, rel=1e-10)


@pytest.mark.parametrize("counts", [(40, 120.0, 60, 130.0), (0, 10.0, 5, 12.0), (3, 900.0, 0, 800.0), (0, 5.0, 0, 7.0)])
def test_two_rates_solve_the_score_equation(counts):
    """At each limit z is critical, with the rates likeliest under that difference, found here by a search."""
    x1, e1, x0, e0 = counts
    r = rates(Events(x1, e1, "a"), Events(x0, e0, "b"))
    for d in (r.interval.low, r.interval.high):
        base = np.linspace(max(0.0, -d), max(0.0, -d) + 8 * (x1 + x0 + 1) / (e1 + e0), 4_000_001)[1:]
        log_likelihood = x1 * np.log(base + d) - e1 * (base + d) + x0 * np.log(base) - e0 * base
        best = base[np.argmax(log_likelihood)]
        z = (x1 / e1 - x0 / e0 - d) / np.sqrt((best + d) / e1 + best / e0)
        assert abs(z) == pytest.approx(Z, rel=1e-3)
    if x1 and x0:
        for end in (r.effects["rate_ratio"].interval.low, r.effects["rate_ratio"].interval.high):
            base = (x1 + x0) / (e1 * end + e0)
            z = (x1 / e1 - end * x0 / e0) / np.sqrt(base * (end / e1 + end**2 / e0))
            assert abs(z) == pytest.approx(Z, rel=1e-9)


@pytest.mark.parametrize(("x1", "e1", "x0", "e0"), [(4, 10.0, 11, 12.0), (0, 3.0, 6, 5.0), (25, 40.0, 12, 38.0)])
def test_the_exact_test_is_a_binomial_one(x1, e1, x0, e0):
    """Given the events in total, those of treatment are binomial; the ratio's interval goes with that test."""
    share, n = mp.mpf(e1) / (mp.mpf(e1) + mp.mpf(e0)), x1 + x0
    tails = [mp.binomial(n, k) * share**k * (1 - share) ** (n - k) for k in range(n + 1)]
    above, below = mp.fsum(tails[x1:]), mp.fsum(tails[: x1 + 1])
    r = rates(Events(x1, e1, "a"), Events(x0, e0, "b"), test="exact")
    assert r.p_value == pytest.approx(float(min(1, 2 * min(above, below))), rel=1e-12)
    assert (r.p_value < 0.05) == (not r.effects["rate_ratio"].interval.contains(1.0))


@given(COUNT, EXPOSURE, COUNT, EXPOSURE, st.floats(-1, 1), st.floats(0.001, 0.3), ALTERNATIVES)
def test_p_and_interval_agree_and_mirror(x1, e1, x0, e0, null, alpha, alternative):
    """The null is outside exactly when p < alpha; swapping flips the sign; exposure in other units rescales."""
    one, two = Events(x1, e1, "a"), Events(x0, e0, "b")
    r = rates(one, two, null=null, alpha=alpha, alternative=alternative)
    assert (r.p_value < alpha) == (not r.interval.contains(null))
    turned = {"greater": "less", "less": "greater"}.get(alternative, alternative)
    swapped = rates(two, one, null=-null, alpha=alpha, alternative=turned)
    assert (r.estimate, r.p_value) == pytest.approx((-swapped.estimate, swapped.p_value), rel=1e-9, abs=1e-12)
    hours = rates(Events(x1, e1 * 24, "a"), Events(x0, e0 * 24, "b"), null=null / 24, alpha=alpha)
    days = rates(one, two, null=null, alpha=alpha)
    assert hours.p_value == pytest.approx(days.p_value, rel=1e-8, abs=1e-300)
    assert hours.interval.low * 24 == pytest.approx(days.interval.low, rel=1e-8, abs=1e-8)


def test_counts_per_unit_show_when_poisson_is_wrong():
    """Raw counts are events over units; uneven ones are pointed out, even ones are not; arrays broadcast."""
    rng = np.random.default_rng(2)
    even, uneven = rng.poisson(2.0, 400).astype(float), rng.poisson(rng.gamma(0.5, 4.0, 400)).astype(float)
    assert not rates(Sample(even, "a"), Sample(even + 1 - 1, "b")).checks
    (check,) = rates(Sample(uneven, "a"), Sample(even, "b")).checks
    assert "those of a vary" in check.finding
    assert "compare the means" in check.advice
    many = rates(Events([40, 0], [120.0, 9.0], "a"), Events([60, 4], 130.0, "b"))
    single = rates(Events(40, 120.0, "a"), Events(60, 130.0, "b"))
    assert many.interval.high[0] == pytest.approx(single.interval.high, rel=1e-12)
    assert "rate ratio" in str(single)
    assert "Without any event" in rates(Events(0, 9, "a"), Events(0, 8, "b")).notes[0]


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: Events(3, 0.0), "exposure"),
        (lambda: Events(-1, 2.0), "count"),
        (lambda: rate(Summary(9, 1.0, 1.0)), "Events"),
        (lambda: rate([0.5, 1.0]), "whole"),
        (lambda: rates(Events(1, 2, "a"), Events(1, 2, "b"), test="exact", null=0.1), "difference of 0 only"),
        (lambda: rates(Events(1, 2, "a"), Events(1, 2, "a")), "both labelled 'a'"),
    ],
)
def test_bad_rates_are_named(call, says):
    """Exposure 0, negative counts, and what are no counts."""
    with pytest.raises((DataError, InputError), match=says):
        call()
