"""Plans with looks: against drift and effect, simulation, and what stands in every other answer."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import DesignError, plan
from amber_ruler.sequential import boundaries

NORMAL = {"sd": 20, "distribution": "normal"}


@pytest.mark.parametrize("how", [{}, {"spending": "pocock"}, {"shape": "wang-tsiatis"}, {"futility": "obrien-fleming"},
                                 {"futility": "pocock", "binding": True}])  # fmt: skip
@pytest.mark.parametrize("alternative", ["two-sided", "greater", "less"])
def test_units_are_twice_drift_over_d_squared(how, alternative):
    """Of a normal test, equal groups; whole units are the next ones whose power is enough; the sign mirrors."""
    effect = -1.3 if alternative == "less" else 1.3
    answer = plan.TwoMeans(**NORMAL, alternative=alternative).with_looks(5, **how).sample_size(effect=effect, power=0.9)
    b = boundaries(5, sides=2 if alternative == "two-sided" else 1, power=0.9, **how)
    exact = 2 * (b.drift * 20 / 1.3) ** 2
    assert answer.looks.n_exact == pytest.approx(exact, rel=1e-9)
    assert answer.n == int(np.ceil(exact - 1e-9))
    assert answer.power >= 0.9
    fixed = plan.TwoMeans(**NORMAL, alternative=alternative).sample_size(effect=effect, power=0.9)
    assert answer.n / fixed.n == pytest.approx(b.inflation, rel=0.002)
    looks = answer.looks
    se = 20 * np.sqrt(2 / looks.units["control"])
    assert np.abs(looks.effect) == pytest.approx(b.z * se, rel=1e-9)
    assert np.sign(looks.effect[0]) == np.sign(effect) or alternative == "two-sided"
    assert looks.t is None
    assert looks.expected_planned == pytest.approx(b.operating[2].expected_fraction * answer.n_total, rel=0.002)
    assert looks.expected_none == pytest.approx(b.operating[0].expected_fraction * answer.n_total, rel=1e-6)
    assert ar.Result.from_json(answer.to_json()) == answer
    assert "at most" in answer.sentence()


def test_looks_at_the_end_only_are_the_plan_without():
    """One look changes nothing, for any question or design."""
    designs = [
        (plan.TwoMeans(sd=3), {"effect": 1.0}),
        (plan.TwoMeans(sd=3, ratio=2).with_covariate(0.5), {"effect": 1.0}),
        (plan.PairedMeans(sd_difference=2), {"effect": 0.5}),
        (plan.OneProportion(baseline=0.3, power_from="normal"), {"effect": 0.1}),
        (plan.TwoProportions(baseline=0.3, alternative="greater"), {"effect": 0.1}),
        (plan.TwoRates(baseline=0.5, exposure=3), {"lift": 0.2}),
        (plan.TwoMeans(sd=3).with_variants(3), {"effect": 1.0}),
        (plan.TwoMeans(sd=3).with_margin(0.5).with_clusters(10, 0.05), {"effect": 0.1}),
    ]
    for design, effect in designs:
        one = design.with_looks(1)
        without = design.sample_size(**effect)
        n = without.n
        assert one.sample_size(**effect).n == n
        # Two-sided power of the plain plan counts the far tail as well; the drift knows the near one.
        assert one.power(n=n, **effect).power == pytest.approx(design.power(n=n, **effect).power, abs=1e-6)
        assert one.power(n=n, **effect).half_width == pytest.approx(design.power(n=n, **effect).half_width, rel=1e-9)
        assert without.looks is None


@pytest.mark.parametrize("n", [6, 40])
def test_simulated_t_tests_cross_as_often_as_planned(n):
    """Nominal p at each look's degrees of freedom, 4,000 tests: error and power within 4 Monte-Carlo errors."""
    design, runs = plan.TwoMeans(sd=1).with_looks(4, spending="pocock"), 4_000
    none = design.simulate(n=n, effect=0.0, runs=runs, seed=1)
    assert abs(none.rate - 0.05) < 4 * none.error + 0.005 * (n < 10)
    some = design.simulate(n=n, effect=3.0 * np.sqrt(2 / n), runs=runs, seed=2)
    assert abs(some.rate - some.power) < 4 * some.error + 0.01 * (n < 10)
    answer = design.power(n=n, effect=3.0 * np.sqrt(2 / n))
    assert abs(some.mean_total - answer.looks.expected_planned) < 4 * some.mean_error + 0.02 * 2 * n
    futile = plan.TwoProportions(baseline=0.3, alternative="greater").with_looks(3, futility="pocock")
    shares = futile.simulate(n=500, effect=0.0, runs=4_000, seed=3)
    assert shares.rate < 0.05 + 4 * shares.error
    assert shares.mean_total < 800
    events = plan.TwoRates(baseline=0.5, exposure=20).with_looks(2).simulate(n=50, lift=0.1, runs=2_000)
    assert abs(events.rate - events.power) < 4 * events.error
    margin = plan.TwoMeans(sd=1).with_margin(0.4).with_looks(2).simulate(n=60, effect=0.0, runs=2_000)
    assert abs(margin.rate - margin.power) < 4 * margin.error


def test_looks_compose():
    """With traffic the days, with variants their alpha, in a grid the units on average; questions agree."""
    design = plan.TwoProportions(baseline=0.46).with_variants(2).with_traffic(900).with_looks(4)
    answer = design.sample_size(effect=0.02)
    assert answer.looks.boundaries.alpha == pytest.approx(answer.single_alpha)
    assert answer.looks.days[-1] == answer.days
    assert answer.looks.totals[-1] == answer.n_total
    assert [c.modifier for c in answer.costs][-1].startswith("4 looks")
    grid = plan.TwoMeans(sd=20).with_looks(3, futility="pocock").grid(sd=[10, 20], effect=[1, 2], power=0.9)
    for k in range(4):
        single = plan.TwoMeans(sd=grid.columns["sd"][k]).with_looks(3, futility="pocock")
        one = single.sample_size(effect=grid.columns["effect"][k], power=0.9)
        assert grid.columns["units in total"][k] == one.n_total
        assert grid.columns["on average"][k] == pytest.approx(one.looks.expected_planned, rel=1e-9)
    looked = plan.TwoMeans(sd=20).with_looks(5)
    found = looked.detectable_effect(n=4_000)
    assert looked.power(n=4_000, effect=found.effect).power == pytest.approx(0.8, abs=1e-9)
    strict = looked.alpha_for(n=4_000, effect=1.3)
    assert strict.design.power(n=4_000, effect=1.3).power == pytest.approx(0.8, abs=1e-9)
    ways = plan.TwoMeans(sd=20).ways_to_look(effect=1.3)
    assert [way.n_total for way in ways.ways] == sorted(way.n_total for way in ways.ways)
    assert ways.ways[0].expected_none == pytest.approx(ways.ways[0].n_total)
    assert ar.Result.from_json(ways.to_json()) == ways
    assert ways.plot() is not None
    assert "fewest units" in ways.sentence()
    assert "on average" in str(answer)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: plan.TwoMeans().with_looks([0.5, 0.8]), "last fraction be 1"),
        (lambda: plan.TwoMeans().with_looks(3).with_looks(2), "already has"),
        (lambda: plan.TwoMeans().with_looks(3).with_margin(1.0), "before the looks"),
        (lambda: plan.TwoMeans().with_margin(1.0, "equivalence").with_looks(3), "not planned for equivalence"),
        (lambda: plan.ManyMeans(groups=3).with_looks(3), "does not apply"),
        (lambda: plan.TwoProportions(baseline=0.3, power_from="outcomes").with_looks(2), "power_from='normal'"),
        (lambda: plan.TwoMeans().with_looks(3, futility="pocock").grid(effect=1.0, power=[0.8, 0.9]), "one power"),
        (lambda: plan.TwoMeans().with_covariate(0.5).with_looks(2).simulate(n=30, effect=0.5), "without a covariate"),
        (lambda: plan.TwoMeans().with_looks(9).simulate(n=8, effect=0.5), "too few units"),
        (lambda: plan.TwoMeans().with_looks(2).ways_to_look(effect=0.5), "already has its looks"),
        (lambda: plan.TwoMeans().with_margin(1.0).ways_to_look(effect=0.5), "not of a margin"),
    ],
)
def test_what_looks_do_not_go_with(call, says):
    """Said, not left out."""
    with pytest.raises(DesignError, match=says):
        call()
