"""Planning: exact power, truly smallest sizes, round trips, clear refusals."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import truth
from amber_ruler import DesignError, InputError
from amber_ruler.plan import TwoMeans, TwoProportions
from truth import mp


def t_power(effect, n1, n0, alpha, sides):
    """Power of the two-sample t test from the definition of the noncentral t."""
    df = n1 + n0 - 2
    shift = mp.mpf(effect) * mp.sqrt(mp.mpf(n1) * n0 / (n1 + n0))
    start = mp.mpf(12.7) if df < 3 else mp.mpf(2.3)
    critical = mp.findroot(lambda c: mp.log(truth.t_upper(c, df)) - mp.log(mp.mpf(alpha) / sides), start)
    small = critical > shift
    above = truth.noncentral_t(critical, df, shift, upper=small)
    power = above if small else 1 - above
    return power + (truth.noncentral_t(-critical, df, shift, upper=False) if sides == 2 else 0)


@pytest.mark.parametrize(
    ("effect", "n", "alternative"),
    [
        (0.5, 64, "two-sided"),
        (5.0, 2, "two-sided"),
        (0.3, (30, 90), "greater"),
        (1e-3, 10_000_000, "two-sided"),
        (-0.8, 20, "less"),
    ],
)
def test_power_of_the_t_test_is_exact(effect, n, alternative):
    """Agrees with high-precision noncentral t to 1e-9."""
    answer = TwoMeans(alternative=alternative).power(effect=effect, n=n)
    expected = t_power(abs(effect), answer.n_treatment, answer.n_control, 0.05, 2 if alternative == "two-sided" else 1)
    assert answer.power == pytest.approx(float(expected), rel=1e-9)


@settings(max_examples=60, deadline=None)
@given(
    st.floats(0.01, 3),
    st.floats(0.06, 0.999),
    st.sampled_from([0.001, 0.05]),
    st.sampled_from([0.5, 1.0, 1.7, 3.0]),
    st.sampled_from(["two-sided", "greater", "less"]),
)
def test_the_size_is_the_smallest_that_reaches_the_power(effect, power, alpha, ratio, alternative):
    """One control unit fewer falls short, and the detectable effect at that size is at most the effect asked."""
    sign = -1 if alternative == "less" else 1
    for design, asked in (
        (TwoMeans(sd=1.0, ratio=ratio, alpha=alpha, alternative=alternative), sign * effect),
        (TwoProportions(baseline=0.5, ratio=ratio, alpha=alpha, alternative=alternative), sign * effect / 6.5),
    ):
        plan = design.sample_size(effect=asked, power=power)
        assert plan.power >= power
        assert plan.n_treatment == max(2, int(np.ceil(round(plan.n_control * ratio, 9))))
        if plan.n_control > 2:
            assert design.power(effect=asked, n=plan.n_control - 1).power < power
        units = (plan.n_treatment, plan.n_control)
        assert abs(design.detectable_effect(n=units, power=power).effect) <= abs(asked) * (1 + 1e-9)


def test_two_proportions_by_hand():
    """The textbook formula, done in mpmath."""
    answer = TwoProportions(baseline=0.1).power(effect=0.02, n=3_841)
    p0, p1, n = mp.mpf("0.1"), mp.mpf("0.12"), 3_841
    z, pooled = mp.sqrt(2) * mp.erfinv(mp.mpf("0.95")), (p0 + p1) / 2
    none, effect = mp.sqrt(2 * pooled * (1 - pooled) / n), mp.sqrt((p1 * (1 - p1) + p0 * (1 - p0)) / n)
    expected = mp.ncdf((p1 - p0 - z * none) / effect) + mp.ncdf((-(p1 - p0) - z * none) / effect)
    assert answer.power == pytest.approx(float(expected), rel=1e-12)
    assert answer.half_width == pytest.approx(float(z * effect), rel=1e-12)


def test_simulated_power_of_the_real_test():
    """Of 4,000 simulated tests at the planned size, the planned share rejects, within 4 Monte-Carlo errors."""
    from amber_ruler import Summary
    from amber_ruler.measure import means

    plan = TwoMeans(sd=2.0).sample_size(effect=1.0, power=0.8)
    rng, runs = np.random.default_rng(3), 4_000
    x, y = rng.normal(1, 2, (runs, plan.n_treatment)), rng.normal(0, 2, (runs, plan.n_control))
    groups = [Summary(v.shape[1], v.mean(axis=1), v.std(axis=1, ddof=1), name) for v, name in ((x, "a"), (y, "b"))]
    rejected = np.mean(means(*groups, variances="equal").p_value < 0.05)
    assert abs(rejected - plan.power) < 4 * np.sqrt(0.16 / runs)


def test_answers_say_units_per_group_and_in_total():
    """The printed plan leaves no doubt what n means."""
    plan = TwoMeans(sd=20, ratio=2).sample_size(effect=1.3)
    text = " ".join(str(plan).split())
    assert plan.n_total == plan.n_treatment + plan.n_control
    for n in (plan.n_treatment, plan.n_control, plan.n_total):
        assert f"{n:,}" in text
    assert "in treatment" in plan.sentence()
    assert plan.to_dict()["question"] == "sample size"
    assert plan.to_frame().loc[0, "n_total"] == plan.n_total
    assert "pp" in TwoProportions(baseline=0.2).detectable_effect(n=500).sentence()


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: TwoMeans().sample_size(effect=0), "effect of 0"),
        (lambda: TwoMeans(alternative="greater").sample_size(effect=-1), "is below 0"),
        (lambda: TwoMeans(alternative="less").power(effect=1, n=9), "is above 0"),
        (lambda: TwoMeans().sample_size(effect=1e-9), "1e\\+12"),
        (lambda: TwoMeans().sample_size(effect=1, power=0.04), "above alpha"),
        (lambda: TwoMeans().sample_size(effect=1, power=1), "between 0 and 1"),
        (lambda: TwoMeans(sd=0), "sd must be above 0"),
        (lambda: TwoMeans(ratio=-1), "ratio must be above 0"),
        (lambda: TwoMeans(alpha=0.9), "alpha"),
        (lambda: TwoMeans().power(effect=1, n=1), "n must be at least 2"),
        (lambda: TwoMeans().power(effect=1, n=10.5), "whole number"),
        (lambda: TwoMeans().power(effect=float("nan"), n=10), "effect must be a finite"),
        (lambda: TwoProportions(baseline=1.2), "baseline must be between 0 and 1"),
        (lambda: TwoProportions(baseline=0.9).sample_size(effect=0.2), "give a share of 1.1"),
        (lambda: TwoProportions(baseline=0.9).detectable_effect(n=3), "below 0.8"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what, and which way out."""
    with pytest.raises((DesignError, InputError), match=says):
        call()
