"""A plan turned round: sizes before rounding, one group given, the best split, one number of the design solved for."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, optimize, stats
from tests.plan.test_plan import DESIGNS, SIDES

from amber_ruler import DesignError, InputError, plan


@settings(max_examples=40, deadline=None)
@given(st.sampled_from(sorted(DESIGNS)), st.floats(0.3, 1.5), st.floats(0.1, 0.99), st.sampled_from(SIDES))
def test_a_size_before_rounding_has_just_the_power(name, factor, power, side):
    """Where there is one, it lies below the whole size by no more than one step, and its power is the one asked for."""
    design, typical = DESIGNS[name](alpha=0.05, alternative=side)
    effect = factor * typical * (-1 if design.alternative == "less" else 1)
    found = design.sample_size(effect=effect, power=power)
    if found.n_exact is None:
        assert found.n <= design._least() * design._cluster_size() + 1
        return
    kept = 0.85 if "attrition" in str(design.modifiers) or name == "variants" else 1.0
    step = np.ceil(design._cluster_size()) / kept + 1
    assert found.n - 2 * step < found.n_exact <= found.n + step
    units = tuple(u * kept for u in design._parts(np.asarray(found.n_exact)))
    assert float(design._power_of(np.asarray(effect), units)) == pytest.approx(power, abs=1e-11)


@pytest.mark.parametrize("name", sorted(DESIGNS))
def test_without_an_effect_the_power_is_alpha(name):
    """Each test rejects as often as it may where there is nothing to find, however many units there are."""
    for side in SIDES:
        design, typical = DESIGNS[name](alpha=0.02, alternative=side)
        answer = design.power(effect=0.0, n=300)
        if name == "corrected":
            assert answer.power < answer.single_alpha
        else:  # the unequal-variance test keeps alpha nearly, as its exact power tells
            assert answer.power == pytest.approx(answer.single_alpha, rel=1e-4 if "exact" in name else 1e-9)
        assert design.power_limit(effect=0.0) == 0.02
        least = design._fallback_effect() or typical
        sign = -1 if design.alternative == "less" else 1
        assert design.power_limit(effect=sign * least) == 1.0
        if design.alternative in ("greater", "less"):
            assert design.power_limit(effect=-sign * typical / 9) == 0.0


def test_a_size_before_rounding_is_the_closed_form():
    """Normal tests with one far side: n = 2 (z + z)² / d², and (z sd / w)² for a width."""
    z = stats.norm.isf(0.025)
    one = plan.TwoMeans(distribution="normal", alternative="greater", alpha=0.025).sample_size(effect=0.3, power=0.9)
    assert one.n_exact == pytest.approx(2 * (z + stats.norm.ppf(0.9)) ** 2 / 0.09, rel=1e-12)
    assert one.n_total_exact == pytest.approx(2 * one.n_exact, rel=1e-15)
    width = plan.OneMean(sd=15, distribution="normal").sample_size_for_width(half_width=3)
    assert width.n_exact == pytest.approx((z * 15 / 3) ** 2, rel=1e-12)
    assert plan.OneProportion(baseline=0.5).sample_size(effect=0.2).n_exact is None
    assert plan.TwoMeans().with_looks(2).sample_size(effect=0.2).n_exact is None


@settings(max_examples=25, deadline=None)
@given(st.floats(0.3, 1.5), st.integers(5, 400), st.booleans(), st.sampled_from(SIDES))
def test_one_group_given(effect, known, control, side):
    """The other group is the smallest that does it; where none does, the power without end is said to fall short."""
    design = plan.TwoMeans(sd=1, sd_treatment=1.5, alternative=side)
    effect = -effect if side == "less" else effect
    given_ = {"n_control" if control else "n_treatment": known}

    def power(other):
        return design.power(n=(other, known) if control else (known, other), effect=effect).power

    try:
        found = design.sample_size_beside(**given_, effect=effect, power=0.8)
    except DesignError:
        assert power(10**9) < 0.8
        return
    other = found.n_treatment if control else found.n_control
    assert power(other) >= 0.8
    assert other <= 2 or power(other - 1) < 0.8


def test_totals_and_splits():
    """The fewest in total, one by one; the best split against a search; the cost of a split in closed form."""
    for effect in (0.4, 0.55, 0.7, 0.75):
        found = plan.TwoMeans().smallest_total(effect=effect)
        assert abs(found.n_treatment - found.n_control) <= 1
        t, c = (found.n_total - 1) // 2, found.n_total // 2
        assert plan.TwoMeans().power(n=(t, c), effect=effect).power < 0.8 <= found.power
    assert plan.TwoMeans(ratio=3).split_cost() == pytest.approx(16 / 12, rel=1e-7)
    times = plan.TwoTimes(baseline=0.4, alternative="less")
    split = times.best_split(lift=-0.5).design.ratio
    near = [times.__class__(baseline=0.4, alternative="less", ratio=split * k).sample_size(lift=-0.5).n_total_exact
            for k in (0.98, 1.0, 1.02)]  # fmt: skip
    assert near[1] == min(near)
    assert plan.TwoTimes(baseline=0.4, ratio=split).split_cost(lift=-0.5) == pytest.approx(1, abs=1e-9)
    design = plan.TwoMeans(sd=2, sd_treatment=5, distribution="normal", alternative="greater")
    best = design.best_split(effect=1, cost_treatment=3, cost_control=1)

    def cost(log):
        n = (
            plan.TwoMeans(sd=2, sd_treatment=5, distribution="normal", alternative="greater", ratio=float(np.exp(log)))
            .sample_size(effect=1)
            .n_exact
        )
        return n * (1 + 3 * np.exp(log))

    least = optimize.minimize_scalar(cost, bounds=(-3, 3), method="bounded", options={"xatol": 1e-9}).x
    assert np.log(best.design.ratio) == pytest.approx(least, abs=1e-5)
    assert "At the design's ratio of 1 it costs" in best.notes[-1]
    for wrong in (plan.TwoMeans().with_clusters(5, 0.1), plan.TwoMeans().with_variants(2)):
        with pytest.raises(DesignError, match="unit by unit"):
            wrong.smallest_total(effect=0.3)


SOLVED = [
    (plan.TwoMeans(sd=1.0), "sd", {"n": 50, "effect": 0.5}),
    (plan.TwoMeans(sd=1.0), "ratio", {"n": 50, "effect": 0.5}),
    (plan.TwoMeans(sd=1.0), "covariate", {"n": 50, "effect": 0.5}),
    (plan.TwoMeans(sd=1.0), "attrition", {"n": 80, "effect": 0.5}),
    (plan.TwoMeans(sd=1.0).with_margin(0.3), "margin", {"n": 100, "effect": 0.0}),
    (plan.TwoMeans(sd=1.0).with_margin(0.3, "equivalence"), "margin", {"n": 100, "effect": 0.05}),
    (plan.TwoMeans(sd=1.0).with_clusters(20, 0.05), "icc", {"n": 400, "effect": 0.3}),
    (plan.TwoMeans(sd=1.0).with_clusters(20, 0.05), "cluster_size", {"clusters": 20, "effect": 0.3}),
    (plan.PairedMeans(sd=1.0, correlation=0.5), "correlation", {"n": 30, "effect": 0.5}),
    (plan.TwoProportions(baseline=0.1), "baseline", {"n": 1000, "effect": 0.05}),
    (plan.TwoProportions(baseline=0.1).with_margin(0.02), "margin", {"n": 1000, "effect": 0.0}),
    (plan.TwoRates(baseline=0.4, exposure=3.0), "exposure", {"n": 200, "lift": 0.1}),
]


@pytest.mark.parametrize(("design", "number", "asked"), SOLVED)
def test_a_number_is_solved_for(design, number, asked):
    """The design that comes back has just the power, and a little more or less of the number has not."""
    found = design.needed(number, power=0.8, **asked)
    assert found.power == pytest.approx(0.8, abs=1e-11)
    assert found.question == number.replace("_", " ")
    parts = (found.design, *found.design.modifiers)
    values = [getattr(part, name, None) for part in parts for name in (number, "size", "correlation", "share")]
    assert found.solved in values
    assert number.replace("_", " ") in str(found)


def test_levels_limits_and_refusals():
    """The level of a width leads back to the width; clusters without end against an integral; what can't be is said."""
    design = plan.TwoMeans(sd=3)
    found = design.alpha_for_width(half_width=0.7, n=90)
    assert plan.TwoMeans(sd=3, alpha=found.alpha).precision(n=90).half_width == pytest.approx(0.7, rel=1e-12)
    clustered = plan.TwoMeans(sd=1).with_clusters(20, 0.05)
    shift, df = 0.2 / np.sqrt(2 * 0.05 / 10), 18
    t = stats.t.isf(0.025, df)
    density = stats.chi2(df).pdf
    power = integrate.quad(
        lambda v: (stats.norm.sf(t * np.sqrt(v / df) - shift) + stats.norm.cdf(-t * np.sqrt(v / df) - shift))
        * density(v), 0, 200, epsabs=1e-12,
    )[0]  # fmt: skip
    assert clustered.power_limit(clusters=10, effect=0.2) == pytest.approx(power, rel=1e-8)
    assert plan.TwoMeans().with_margin(0.2).power_limit(effect=-0.2) == 0.05
    assert plan.TwoMeans().with_margin(0.2, "equivalence").power_limit(effect=0.3) == 0
    assert plan.ManyMeans(groups=3).power_limit(effect=0.1) == 1
    refused = [
        (lambda: design.alpha_for_width(half_width=1e-9, n=90), "no level gives"),
        (lambda: design.needed("margin", n=5, effect=1), "with_margin"),
        (lambda: design.needed("spread", n=5, effect=1), "sd"),
        (lambda: plan.TwoMeans(sd=1.0).needed("covariate", n=3, effect=9), "No covariate gives"),
        (lambda: design.needed("sd", clusters=3, effect=1), "goes with number='cluster_size'"),
        (lambda: plan.OneProportion(baseline=0.3).needed("baseline", n=40, effect=0.2), "power_from='normal'"),
        (lambda: design.power_limit(clusters=3, effect=1), "design with clusters"),
        (lambda: design.sample_size_beside(effect=1), "n_treatment or n_control"),
    ]
    for call, says in refused:
        with pytest.raises((DesignError, InputError), match=says):
            call()
