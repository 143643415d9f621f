"""What must hold of every plan: symmetry, units of measurement, monotony, limits, and what an answer carries."""

import json
import math

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from amber_ruler import plan

SIGNED = {
    "one mean": plan.OneMean(sd=2),
    "two means": plan.TwoMeans(sd=3, ratio=1.5),
    "two spreads": plan.TwoMeans(sd=3, sd_treatment=5),
    "known": plan.TwoMeans(sd=3, distribution="normal"),
    "paired means": plan.PairedMeans(sd=3, correlation=0.4),
    "clustered": plan.TwoMeans(sd=3).with_clusters(4, 0.2),
    "paired shares": plan.PairedProportions(discordant=0.9),
    "correlation": plan.Correlation(),
    "Fisher": plan.Correlation(power_from="fisher-z"),
}
MIRROR = {"two-sided": "two-sided", "greater": "less", "less": "greater"}


@settings(max_examples=80, deadline=None)
@given(st.sampled_from(sorted(SIGNED)), st.floats(0.01, 0.85), st.integers(4, 400), st.sampled_from(sorted(MIRROR)))
def test_turning_the_sign_turns_the_alternative(name, effect, n, side):
    """Power for an effect is that of its mirror image against the mirrored alternative; sizes likewise."""
    from dataclasses import replace

    design = SIGNED[name]
    one, other = replace(design, alternative=side), replace(design, alternative=MIRROR[side])
    if (side == "less") != (effect < 0) and side != "two-sided":
        effect = -effect if side == "less" else effect
    n *= round(design._cluster_size())
    first, second = one.power(effect=effect, n=n), other.power(effect=-effect, n=n)
    assert first.power == pytest.approx(second.power, rel=1e-9)
    assert first.half_width == pytest.approx(second.half_width, rel=1e-9)


@settings(max_examples=40, deadline=None)
@given(st.floats(0.05, 3), st.integers(2, 300), st.floats(1e-3, 1e3))
def test_another_unit_of_measurement_changes_no_power(effect, n, unit):
    """Means in cents have the power of means in euros; rates by week that of rates by day."""
    for plain, scaled in (
        (plan.TwoMeans(sd=2, sd_treatment=3), plan.TwoMeans(sd=2 * unit, sd_treatment=3 * unit)),
        (plan.OneMean(sd=2), plan.OneMean(sd=2 * unit)),
        (plan.PairedMeans(sd=2, correlation=0.3), plan.PairedMeans(sd=2 * unit, correlation=0.3)),
        (plan.TwoRates(baseline=1, exposure=unit), plan.TwoRates(baseline=unit)),
    ):
        one = plain.power(effect=effect, n=n)
        other = scaled.power(effect=effect * unit, n=n)
        assert other.power == pytest.approx(one.power, rel=1e-9)
        assert other.half_width == pytest.approx(one.half_width * unit, rel=1e-9)


@settings(max_examples=40, deadline=None)
@given(st.floats(0.05, 0.9), st.floats(0.02, 0.95), st.integers(5, 500), st.integers(5, 500), st.booleans())
def test_failures_are_successes_seen_from_the_other_side(p0, p1, n1, n0, exact):
    """Exchanging successes and failures, or the two groups, changes no power of a two-sided test of shares."""
    if abs(p1 - p0) < 1e-3:
        return
    how = "outcomes" if exact else "normal"
    power = plan.TwoProportions(baseline=p0, power_from=how).power(treatment=p1, n=(n1, n0)).power
    swapped = plan.TwoProportions(baseline=1 - p0, power_from=how).power(treatment=1 - p1, n=(n1, n0)).power
    turned = plan.TwoProportions(baseline=p1, power_from=how).power(treatment=p0, n=(n0, n1)).power
    assert (swapped, turned) == pytest.approx((power, power), rel=1e-8)
    one = plan.OneProportion(baseline=p0, power_from=how).power(treatment=p1, n=n1).power
    mirrored = plan.OneProportion(baseline=1 - p0, power_from=how).power(treatment=1 - p1, n=n1).power
    assert mirrored == pytest.approx(one, rel=1e-8)


RISING = {
    "means": lambda e, n, a: plan.TwoMeans(alpha=a).power(effect=e, n=n),
    "clusters": lambda e, n, a: plan.TwoMeans(alpha=a).with_clusters(3, 0.1).power(effect=e, n=3 * n),
    "variants": lambda e, n, a: plan.TwoMeans(alpha=a).with_variants(2, "sidak").power(effect=e, n=n),
    "non-inferiority": lambda e, n, a: plan.TwoMeans(alpha=a).with_margin(0.4).power(effect=e, n=n),
    "shares": lambda e, n, a: plan.TwoProportions(baseline=0.1, alpha=a).power(effect=e / 2, n=10 * n),
    "many means": lambda e, n, a: plan.ManyMeans(groups=4, alpha=a).power(effect=e, n=n),
    "regression": lambda e, n, a: plan.Regression(predictors=2, alpha=a).power(effect=e / 2, n=n + 5),
    "association": lambda e, n, a: plan.Association(rows=2, columns=4, alpha=a).power(effect=e, n=n),
    "correlation": lambda e, n, a: plan.Correlation(alpha=a).power(effect=e, n=n + 5),
    "rates": lambda e, n, a: plan.TwoRates(baseline=0.5, alpha=a).power(effect=e, n=n),
}


@settings(max_examples=80, deadline=None)
@example("many means", 0.5, 1.125, 135, 1, 0.125)
@given(
    st.sampled_from(sorted(RISING)),
    st.floats(0.02, 0.8),
    st.floats(1.05, 1.2),
    st.integers(6, 200),
    st.integers(1, 40),
    st.floats(0.001, 0.2),
)
def test_more_is_more(name, effect, factor, n, further, alpha):
    """Power rises with the effect, with units, and with alpha; never below alpha, where it starts."""
    power = RISING[name]
    start = power(effect, n, alpha).power
    slack = 1e-12
    assert power(effect * factor, n, alpha).power >= start - slack
    assert power(effect, n + further, alpha).power >= start - slack
    assert power(effect, n, alpha * 1.2).power >= start - slack
    assert name in {"variants", "non-inferiority"} or start >= alpha * (1 - 0.15)
    assert 0 <= start <= 1


def test_a_vanishing_effect_has_the_power_of_alpha():
    """At the smallest effects the power is the error rate, exactly where the test is exact."""
    for design in (plan.TwoMeans(), plan.ManyMeans(groups=5), plan.Correlation(), plan.OneMean()):
        assert design.power(effect=1e-8, n=40).power == pytest.approx(0.05, rel=1e-6)
    exact = plan.OneProportion(baseline=0.3).power(effect=1e-9, n=50).power
    assert 0.02 < exact <= 0.05


def test_special_cases_meet():
    """Two groups, one predictor, one degree of freedom, many units: different designs give the same answer."""
    means = plan.TwoMeans().power(effect=0.5, n=40).power
    assert plan.ManyMeans(groups=2).power(effect=0.25, n=40).power == pytest.approx(means, rel=1e-10)
    # A predictor that is 0 or 1 in halves, with d = 0.5: R² = d² / (d² + 4).
    added = 0.25 / 4.25
    assert plan.Regression(predictors=1).power(effect=added, n=80).power == pytest.approx(means, rel=1e-10)
    square = plan.Association(rows=1, columns=2).power(effect=0.1, n=900).power
    known = plan.OneMean(distribution="normal").power(effect=0.1, n=900).power
    assert square == pytest.approx(known, rel=1e-10)
    many = plan.TwoMeans().power(effect=1e-3, n=10**7).power
    assert many == pytest.approx(plan.TwoMeans(distribution="normal").power(effect=1e-3, n=10**7).power, rel=1e-6)
    unpaired = plan.PairedMeans(sd=1, correlation=0.0).power(effect=0.3, n=500).power
    assert unpaired == pytest.approx(plan.OneMean(sd=math.sqrt(2)).power(effect=0.3, n=500).power, rel=1e-12)
    ratio = plan.RatioMetric(
        numerator_mean=3, numerator_variance=4, denominator_mean=1, denominator_variance=0, covariance=0
    )
    assert ratio.power(effect=0.2, n=90).power == pytest.approx(
        plan.TwoMeans(sd=2, distribution="normal").power(effect=0.2, n=90).power, rel=1e-12
    )
    wide = plan.TwoMeans().with_margin(50.0, "equivalence").power(n=20).power
    assert wide == pytest.approx(1.0)


def test_corrections_order():
    """No correction needs the fewest units, then Dunnett, Šidák, Bonferroni; one-sided tests too."""
    for side, effect in (("two-sided", 0.3), ("less", -0.3)):
        sizes = [
            plan.TwoMeans(alternative=side).with_variants(4, correction).sample_size(effect=effect).n
            for correction in ("none", "dunnett", "sidak", "bonferroni")
        ]
        assert sizes == sorted(sizes)
        assert sizes[0] < sizes[1] < sizes[3]


@pytest.mark.parametrize("weeks", [1, 2, 5, 9])
@pytest.mark.parametrize(
    "design",
    [
        plan.TwoMeans(ratio=1.3).with_traffic(57.5, 0.4),
        plan.TwoMeans().with_variants(3, "none").with_traffic(99),
        plan.TwoMeans().with_clusters(7, 0.1).with_traffic(200),
        plan.OneMean().with_traffic(11),
        plan.ManyMeans(groups=5).with_traffic(31),
    ],
)
def test_weeks_of_traffic_hold_as_many_units_as_fit(design, weeks):
    """The units of so many weeks fit into the traffic, one more would not, and the answer says those weeks."""
    answer = design.detectable_effect(weeks=weeks)
    traffic = next(m for m in design.modifiers if isinstance(m, plan.modifiers.Traffic))
    room = math.floor(traffic.per_day * traffic.share * 7 * weeks + 1e-9)
    assert answer.n_total <= room
    assert float(design._total(design._recruits(np.asarray(answer.n + 1.0)))) > room
    assert answer.weeks <= weeks
    assert answer.days <= 7 * weeks


ANSWERS = {
    "size": lambda d, e: d.sample_size(effect=e),
    "power": lambda d, e: d.power(effect=e, n=60),
    "effect": lambda d, e: d.detectable_effect(n=60),
    "alpha": lambda d, e: d.alpha_for(effect=e, n=60, power=0.5),
}
EVERY = [
    (plan.OneMean(), 0.5),
    (plan.TwoMeans(baseline=3, skewness=1), 0.6),
    (plan.PairedMeans(sd_difference=1), 0.4),
    (plan.OneProportion(baseline=0.3), 0.2),
    (plan.TwoProportions(baseline=0.3), 0.25),
    (plan.PairedProportions(discordant=0.5), 0.3),
    (plan.ManyMeans(groups=3), 0.3),
    (plan.Association(rows=2, columns=3), 0.4),
    (plan.Correlation(), 0.4),
    (plan.Regression(predictors=2), 0.2),
    (plan.TwoRates(baseline=0.5), 0.3),
]


@pytest.mark.parametrize("question", ANSWERS)
@pytest.mark.parametrize(("design", "effect"), EVERY)
def test_every_answer_is_whole(design, effect, question):
    """Units add up, the numbers travel as JSON and as a frame, text and sentence say units and power."""
    answer = ANSWERS[question](design, effect)
    assert answer.question in {"sample size", "power", "detectable effect", "alpha"}
    groups = len(answer.units) if len(answer.units) > 1 else answer.n_total / answer.n
    assert sum(answer.units.values()) * (groups if len(answer.units) == 1 else 1) == answer.n_total
    held = json.loads(answer.to_json())
    assert (held["n"], held["power"], held["effect"]) == (answer.n, answer.power, answer.effect)
    assert held["design"]["alpha"] == answer.alpha
    assert answer.to_frame().loc[0, "n_total"] == answer.n_total
    assert f"{answer.n_total:,}" in answer.sentence()
    assert answer.sentence() in " ".join(str(answer).split())
    assert (answer.half_width is None) == isinstance(design, plan.ManyMeans | plan.Association | plan.Regression)
    assert (answer.target_power is None) == (question == "power")


def test_designs_are_values():
    """Equal numbers make equal designs; a modifier makes a new one and leaves the old as it was."""
    design = plan.TwoMeans(sd=2)
    assert design == plan.TwoMeans(sd=2)
    assert hash(design.with_covariate(0.3)) == hash(plan.TwoMeans(sd=2).with_covariate(0.3))
    assert design.modifiers == ()
    with pytest.raises(AttributeError):
        design.sd = 3
