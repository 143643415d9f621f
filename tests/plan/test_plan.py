"""Answers of plans: truly smallest sizes, round trips, modifiers, grids, simulation, clear refusals."""

import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, stats

from amber_ruler import Counts, DesignError, InputError, Summary, numeric, plan
from amber_ruler.numeric import dunnett

RATIO_NUMBERS = {
    "numerator_mean": 0.6,
    "numerator_variance": 0.8,
    "denominator_mean": 3,
    "denominator_variance": 5,
    "covariance": 1.1,
}
RATIO = plan.RatioMetric(**RATIO_NUMBERS)
SIDES = ["two-sided", "greater", "less"]

# Each design with a typical effect; one-sided ones look in its direction.
DESIGNS = {
    "one mean": lambda **k: (plan.OneMean(sd=2, **k), 0.7),
    "one mean, known": lambda **k: (plan.OneMean(sd=2, distribution="normal", **k), 0.7),
    "two means": lambda **k: (plan.TwoMeans(sd=3, ratio=1.7, **k), 1.1),
    "two means, unequal": lambda **k: (plan.TwoMeans(sd=3, sd_treatment=5, ratio=0.5, **k), 1.1),
    "paired means": lambda **k: (plan.PairedMeans(sd_difference=2, **k), 0.5),
    "one proportion": lambda **k: (plan.OneProportion(baseline=0.3, power_from="normal", **k), 0.1),
    "two proportions": lambda **k: (plan.TwoProportions(baseline=0.3, ratio=3, **k), 0.08),
    "unpooled": lambda **k: (plan.TwoProportions(baseline=0.3, test="unpooled", **k), 0.08),
    "paired proportions": lambda **k: (plan.PairedProportions(discordant=0.4, **k), 0.1),
    "paired, correlated": lambda **k: (plan.PairedProportions(baseline=0.3, correlation=0.5, **k), 0.1),
    "two rates": lambda **k: (plan.TwoRates(baseline=0.4, exposure=3, **k), 0.1),
    "two times": lambda **k: (plan.TwoTimes(baseline=0.4, **k), 0.3),
    "correlation": lambda **k: (plan.Correlation(**k), 0.4),
    "correlation, Fisher": lambda **k: (plan.Correlation(null=0.2, power_from="fisher-z", **k), 0.3),
    "many means": lambda **k: (plan.ManyMeans(groups=4, alpha=k["alpha"]), 0.3),
    "regression": lambda **k: (plan.Regression(predictors=2, others=1, alpha=k["alpha"]), 0.1),
    "association": lambda **k: (plan.Association(rows=3, columns=2, alpha=k["alpha"]), 0.25),
    "covariate, clusters": lambda **k: (plan.TwoMeans(**k).with_covariate(0.5).with_clusters(7.5, 0.1, cv=0.4), 0.3),
    "variants": lambda **k: (plan.TwoMeans(**k).with_variants(3, "sidak").with_attrition(0.15), 0.4),
    "ratio": lambda **k: (plan.RatioMetric(**RATIO_NUMBERS, **k), 0.02),
    "two means, exact": lambda **k: (plan.TwoMeans(sd=3, sd_treatment=5, power_from="exact", **k), 2.1),
    "three covariates": lambda **k: (plan.TwoMeans(**k).with_covariate(0.6, 3), 0.4),
    "between clusters": lambda **k: (plan.TwoProportions(baseline=0.3, **k).with_clusters(9, between_cv=0.3), 0.1),
    "many means, split": lambda **k: (plan.ManyMeans(groups=3, split=(1, 2, 1), alpha=k["alpha"]), 0.3),
    "contrast": lambda **k: (plan.Contrast(weights=(1, -0.5, -0.5), split=(2, 1, 1), **k), 0.5),
    "planned contrasts": lambda **k: (plan.Contrast(weights=(1, -1), correction="bonferroni", contrasts=3, **k), 0.6),
    "all pairs": lambda **k: (plan.AllPairs(groups=4, correction="sidak", **k), 0.6),
    "factorial": lambda **k: (plan.Factorial(levels=(2, 3), tested=(2,), alpha=k["alpha"]), 0.3),
    "random regression": lambda **k: (
        plan.Regression(predictors=2, others=1, predictors_are="random", alpha=k["alpha"]),
        0.1,
    ),
    "slope": lambda **k: (plan.Slope(sd_predictor=3, sd_error=10, **k), 1.0),
    "random slope": lambda **k: (plan.Slope(sd_error=2, predictors_are="random", **k), 0.5),
    "spearman": lambda **k: (plan.Correlation(coefficient="spearman", **k), 0.4),
    "kendall": lambda **k: (plan.Correlation(coefficient="kendall", **k), 0.3),
    "two correlations": lambda **k: (plan.TwoCorrelations(baseline=0.2, **k), 0.25),
    "repeated": lambda **k: (plan.RepeatedMeans(before=2, after=3, correlation=0.6, **k), 0.4),
    "crossover": lambda **k: (plan.Crossover(sd=1, correlation=0.5, **k), 0.3),
    "one spread": lambda **k: (plan.OneSpread(baseline=3, **k), 0.2),
    "two spreads": lambda **k: (plan.TwoSpreads(ratio=2, **k), 0.25),
    "ranks": lambda **k: (plan.TwoRanks(ties=0.2, **k), 0.12),
    "one rate": lambda **k: (plan.OneRate(baseline=0.5, power_from="normal", **k), 0.15),
    "log rates": lambda **k: (plan.TwoRates(baseline=0.5, scale="log", dispersion=0.4, **k), 0.3),
    "root rates": lambda **k: (plan.TwoRates(baseline=0.5, scale="root", overdispersion=1.4, **k), 0.12),
    "arcsine": lambda **k: (plan.TwoProportions(baseline=0.3, test="arcsine", **k), 0.08),
    "corrected": lambda **k: (plan.TwoProportions(baseline=0.3, test="corrected", **k), 0.08),
    "one likelihood": lambda **k: (plan.OneProportion(baseline=0.3, test="likelihood", power_from="normal", **k), 0.1),
    "one wald": lambda **k: (plan.OneProportion(baseline=0.3, test="wald", power_from="normal", **k), 0.1),
}


@settings(max_examples=80, deadline=None)
@given(
    st.sampled_from(sorted(DESIGNS)),
    st.floats(0.3, 2.0),
    st.floats(0.06, 0.999),
    st.sampled_from([0.001, 0.05]),
    st.sampled_from(SIDES),
)
def test_the_size_is_the_smallest_and_the_questions_lead_back(name, factor, power, alpha, side):
    """One step fewer falls short; the effect, the alpha and the power at that size lead back to what was asked."""
    design, typical = DESIGNS[name](alpha=alpha, alternative=side)
    effect = factor * typical * (-1 if design.alternative == "less" else 1)
    asked = design.sample_size(effect=effect, power=power)
    assert asked.power >= power
    step = math.ceil(design._cluster_size())
    least = design._least() * step
    fewer = design._analysed(design._recruits(np.asarray(float(asked.n - step))))
    if asked.n - step >= least and min(fewer) >= least:
        assert design.power(effect=effect, n=asked.n - step).power < power
    units = {"n": asked.n}
    assert abs(design.detectable_effect(**units, power=power).effect) <= abs(effect) * (1 + 1e-9)
    assert design.alpha_for(**units, effect=effect, power=power).alpha <= alpha * (1 + 1e-9)
    assert design.power(**units, effect=effect).power == pytest.approx(asked.power, rel=1e-13)


@settings(max_examples=25, deadline=None)
@given(st.floats(0.05, 0.9), st.floats(0.06, 0.3), st.floats(0.3, 0.95), st.sampled_from(SIDES))
def test_exact_sizes_last(baseline, effect, power, side):
    """From the exact size on the power never falls below again; a smaller saw-tooth size is mentioned."""
    effect = -effect if side == "less" or baseline + effect >= 0.99 else effect
    if side == "greater":
        baseline, effect = min(baseline, 0.65), abs(effect)
    if baseline + effect < 0.005:
        return
    design = plan.OneProportion(baseline=baseline, alternative=side)
    asked = design.sample_size(effect=effect, power=power)
    reached = [design.power(effect=effect, n=n).power >= power for n in range(1, asked.n + 200)]
    assert all(reached[asked.n - 1 :])
    assert asked.n == 1 or not reached[asked.n - 2]
    first = reached.index(True) + 1
    assert bool(asked.notes) == (first < asked.n)
    assert not asked.notes or f"n = {first:,} already" in asked.notes[0]


def test_published_sizes():
    """Classic planning numbers: widths from the worst share, and what textbooks print."""
    assert plan.OneProportion().sample_size_for_width(half_width=0.03).n == 1068
    assert plan.OneProportion().sample_size_for_width(half_width=0.05).n == 385
    assert plan.OneProportion(baseline=0.2).sample_size_for_width(half_width=0.05).n == 246
    assert plan.TwoProportions().sample_size_for_width(half_width=0.05).n == 769
    assert plan.OneMean(sd=15, distribution="normal").sample_size_for_width(half_width=3).n == 97
    assert plan.TwoMeans(sd=1).sample_size(effect=0.5, power=0.8).n_total == 128
    assert plan.TwoMeans(sd=1, alternative="greater").sample_size(effect=0.5, power=0.8).n_total == 102
    assert plan.ManyMeans(groups=4).sample_size(effect=0.25, power=0.8).n_total == 180
    assert plan.Association(rows=2, columns=2).sample_size(effect=0.3, power=0.8).n == 88


@pytest.mark.parametrize(
    ("design", "effect"),
    [
        (plan.OneMean(sd=15), {}),
        (plan.TwoMeans(sd=3, sd_treatment=5, ratio=2), {}),
        (plan.PairedMeans(sd_difference=4), {}),
        (plan.TwoProportions(baseline=0.2), {"effect": 0.05}),
        (plan.PairedProportions(discordant=0.3), {"effect": 0.1}),
        (plan.TwoRates(baseline=0.5), {}),
        (plan.Correlation(), {"treatment": 0.5}),
        (RATIO, {}),
        (plan.TwoMeans().with_clusters(20, 0.05).with_attrition(0.2), {}),
    ],
)
def test_the_width_is_kept_by_the_smallest_size(design, effect):
    """The expected half-width is at most what was asked, and one step fewer is wider."""
    width = 0.3 * design.precision(n=100, **effect).half_width
    answer = design.sample_size_for_width(half_width=width, **effect)
    step = math.ceil(design._cluster_size())
    assert answer.half_width <= width < design.precision(n=answer.n - step, **effect).half_width
    assert answer.power is None
    assert design.precision(n=answer.n, **effect).half_width == answer.half_width
    assert "give an interval of ±" in answer.sentence()


def test_effects_are_said_in_every_way():
    """Raw, standardised, lift and the mean itself are one and the same question."""
    design = plan.TwoMeans(sd=20, baseline=14)
    same = [
        design.sample_size(**w) for w in ({"effect": 1.4}, {"standardised": 0.07}, {"lift": 0.1}, {"treatment": 15.4})
    ]
    assert len({a.n for a in same}) == 1
    assert same[0].effects == pytest.approx({"standardised (d)": 0.07, "treatment mean": 15.4, "lift": 0.1})
    shares = plan.TwoProportions(baseline=0.2)
    h = shares.power(effect=0.05, n=500).effects["h"]
    assert shares.power(standardised=h, n=500).effect == pytest.approx(0.05, rel=1e-12)
    assert plan.ManyMeans(groups=3, sd=2).power(means=[10, 11, 12], n=20).effect == pytest.approx(math.sqrt(2 / 3) / 2)
    table = [[0.2, 0.1], [0.3, 0.4]]
    w = math.sqrt(sum((o - e) ** 2 / e for o, e in ((0.2, 0.15), (0.1, 0.15), (0.3, 0.35), (0.4, 0.35))))
    assert plan.Association(rows=2, columns=2).power(shares=table, n=100).effect == pytest.approx(w)
    assert plan.Association(rows=1, columns=2).power(shares=[3, 1], n=100).effect == pytest.approx(0.5)


def test_modifiers_are_what_they_say():
    """Covariates shrink the spread, clusters of one change nothing, attrition and corrections do their sums."""
    plain = plan.TwoMeans(sd=2)
    shrunk = plan.TwoMeans(sd=2 * math.sqrt(1 - 0.36))
    assert 0 <= plain.with_covariate(0.6).sample_size(effect=0.5).n - shrunk.sample_size(effect=0.5).n <= 1
    assert plain.with_clusters(1, 0.3).sample_size(effect=0.5).n == plain.sample_size(effect=0.5).n
    assert plain.with_attrition(0.2).sample_size(effect=0.5).n == math.ceil(plain.sample_size(effect=0.5).n / 0.8)
    for correction, alpha in (("bonferroni", 0.05 / 3), ("sidak", 1 - 0.95 ** (1 / 3)), ("none", 0.05)):
        several = plain.with_variants(3, correction).sample_size(effect=0.5)
        assert several.single_alpha == pytest.approx(alpha)
        assert 0 <= plan.TwoMeans(sd=2, alpha=alpha).sample_size(effect=0.5).n - several.n <= 1
        # The spread comes from all four groups, as it does where each is compared with the control.
        few = plain.with_variants(3, correction).power(effect=4, n=4).power
        critical = stats.t.isf(alpha / 2, 12)
        assert few == pytest.approx(sum(stats.nct.sf([critical, -critical], 12, math.sqrt(8)) * [1, -1]) + 1, rel=1e-8)
        assert several.n_total == 4 * several.n
    # A t test of whole clusters, by their means.
    clusters = plain.with_clusters(20, 0.05).power(effect=0.5, n=400)
    spread = 2 * math.sqrt((1 + 19 * 0.05) / 20)
    assert clusters.power == pytest.approx(plan.TwoMeans(sd=spread).power(effect=0.5, n=20).power, rel=1e-12)
    assert plain.with_clusters(20, 0.05).sample_size(effect=0.5).n % 20 == 0
    dunnett_one = plain.with_variants(1, "dunnett").sample_size(effect=0.5)
    assert dunnett_one.n == plain.sample_size(effect=0.5).n


@pytest.mark.parametrize(("n", "effect", "correlation"), [((3, 3), 2.0, 0.5), ((8, 8), 1.0, 0.6), ((50, 20), 0.5, 0.9)])
def test_a_covariate_costs_its_slope_and_its_imbalance(n, effect, correlation):
    """Power averaged over the imbalance of a normal covariate, by quadrature of the conditional power."""
    df, spread = sum(n) - 2, math.sqrt((1 - correlation**2) * sum(1 / size for size in n))
    critical = stats.t.isf(0.025, df - 1)

    def power(imbalance):
        shift = effect / spread / math.sqrt(1 + imbalance**2 / df)
        return stats.t.pdf(imbalance, df) * (
            stats.nct.sf(critical, df - 1, shift) + stats.nct.cdf(-critical, df - 1, shift)
        )

    expected = integrate.quad(power, -math.inf, math.inf, epsabs=1e-11)[0]
    design = plan.TwoMeans().with_covariate(correlation)
    assert design.power(n=n, effect=effect).power == pytest.approx(expected, rel=1e-7)
    assert design.precision(n=n).half_width > plan.TwoMeans(sd=math.sqrt(1 - correlation**2)).precision(n=n).half_width


def test_detectable_effects_of_shares_on_both_sides():
    """Where there is no room above, the effect lies below; where the sides differ, the other one is said too."""
    for baseline, above in ((0.9, True), (0.99, False)):
        found = plan.TwoProportions(baseline=baseline).detectable_effect(n=100)
        assert (found.effect > 0) == above
        assert found.power == pytest.approx(0.8, abs=1e-9)
        assert len(found.notes) == 1
    assert not plan.TwoProportions(baseline=0.5).detectable_effect(n=100).notes
    assert not plan.TwoMeans().detectable_effect(n=100).notes
    down = plan.TwoProportions(baseline=0.9, alternative="less").detectable_effect(n=100)
    assert down.effect < 0
    assert not down.notes


def test_costs_add_up():
    """The list of costs begins without modifiers, ends with the answer, and names each."""
    design = (
        plan.TwoMeans(sd=20).with_covariate(0.6).with_variants(2, "sidak").with_attrition(0.1).with_traffic(400, 0.5)
    )
    answer = design.sample_size(effect=1.3)
    assert [c.modifier.split(",")[0] for c in answer.costs] == [
        "without modifiers",
        "covariate",
        "2 treatments",
        "attrition of 10%",
    ]
    assert answer.costs[0].value == plan.TwoMeans(sd=20).sample_size(effect=1.3).n_total
    assert answer.costs[-1].value == answer.n_total
    assert answer.days == math.ceil(answer.n_total / 200)
    assert answer.weeks == math.ceil(answer.days / 7)
    assert "Šidák" in str(answer)
    weeks = design.power(effect=1.3, weeks=4)
    assert weeks.n_total <= 4 * 7 * 200 < weeks.n_total + 3
    assert weeks.costs[-1].value == weeks.power
    effect = design.detectable_effect(weeks=4)
    assert effect.costs[-1].value == effect.effect


def test_margins():
    """Interval and decision agree in expectation; the least favourable difference still has the power."""
    for kind in ("non-inferiority", "equivalence"):
        design = plan.TwoMeans(sd=1).with_margin(0.3, kind)
        size = design.sample_size(power=0.9)
        assert design.power(n=size.n - 1).power < 0.9 <= size.power
        worst = design.detectable_effect(n=2 * size.n, power=0.9).effect
        assert -0.3 < worst < 0
        assert design.power(effect=worst, n=2 * size.n).power == pytest.approx(0.9, rel=1e-9)
        assert "not" in size.sentence()
    with pytest.raises(DesignError, match="no effect has a power"):
        plan.TwoMeans(sd=1).with_margin(0.3, "equivalence").detectable_effect(n=20, power=0.9)
    better_low = plan.TwoMeans(alternative="less").with_margin(0.3)
    assert better_low.modifiers[0].good == "lower"


def test_dunnett_against_tables_and_simulation():
    """Critical values of the published tables (Dunnett 1964), and the largest of simulated statistics."""
    for k, df, table in ((2, 10, 2.57), (3, 20, 2.54), (2, 5, 3.03), (4, 1e9, 2.44)):
        alpha = float(dunnett.single_alpha(0.05, k, df, 0.5, two_sided=True))
        assert float(numeric.student.upper_quantile(alpha / 2, df)) == pytest.approx(table, abs=0.005)
    for k, df, table in ((2, 10, 2.15), (3, np.inf, 2.06)):
        alpha = float(dunnett.single_alpha(0.05, k, df, 0.5, two_sided=False))
        tail = numeric.normal.upper_quantile(alpha) if np.isinf(df) else numeric.student.upper_quantile(alpha, df)
        assert float(tail) == pytest.approx(table, abs=0.006)
    rng, runs = np.random.default_rng(5), 400_000
    # Control three times as large as each of two treatments, 8 degrees of freedom.
    control, treated = rng.normal(size=(runs, 1)) / math.sqrt(3), rng.normal(size=(runs, 2))
    spread = np.sqrt(rng.chisquare(8, (runs, 1)) / 8)
    largest = np.abs((treated - control) / spread / math.sqrt(1 + 1 / 3)).max(axis=1)
    chance = 1 - dunnett.sf(2.5, 8, np.full(2, 0.5), two_sided=True)
    assert np.mean(largest <= 2.5) == pytest.approx(chance, abs=4 * math.sqrt(chance * (1 - chance) / runs))


GRIDS = [
    (plan.TwoMeans(sd_treatment=3), {"effect": [0.5, 1.0], "sd": [1, 2], "sd_treatment": [2, 3]}),
    (plan.TwoMeans(sd=20, baseline=14), {"lift": [0.05, 0.1], "power": [0.8, 0.9], "sd": [18, 22], "ratio": [1, 2]}),
    (plan.TwoMeans(), {"effect": [0.2, -0.4], "n": [50, 90], "alpha": [0.01, 0.05]}),
    (plan.TwoProportions(), {"baseline": [0.1, 0.4], "n": [300, 800], "power": [0.8, 0.95]}),
    (plan.TwoProportions(baseline=0.2).with_traffic(90), {"weeks": [2, 5]}),
    (plan.OneProportion(baseline=0.2), {"effect": [0.1, 0.2], "alpha": [0.05, 0.01]}),
    (plan.ManyMeans(groups=3), {"effect": [0.1, 0.4], "groups": [3, 5]}),
    (plan.Correlation(), {"effect": [0.2, 0.6], "n": [30]}),
]


@pytest.mark.parametrize(("design", "scenarios"), GRIDS)
def test_a_grid_is_its_single_questions(design, scenarios):
    """Every row holds what the question answers for that scenario alone."""
    from dataclasses import fields, replace

    grid = design.grid(**scenarios)
    frame = grid.to_frame()
    assert len(frame) == math.prod(len(v) for v in scenarios.values())
    own = [f.name for f in fields(design) if f.name in scenarios]
    for _, row in frame.iterrows():
        one = replace(design, **{name: row[name] if name != "groups" else int(row[name]) for name in own})
        units = {k: int(row[k]) for k in ("n", "weeks") if k in scenarios}
        effect = {k: row[k] for k in ("effect", "lift") if k in scenarios}
        ask = {"sample size": one.sample_size, "power": one.power}.get(grid.question, one.detectable_effect)
        power = {} if grid.question == "power" else {"power": row["target_power"]}
        answer = ask(**units, **effect, **power)
        assert row["units_in_total"] == answer.n_total
        assert (row["effect"], row["power"]) == pytest.approx((answer.effect, answer.power), rel=1e-9)
    assert json.loads(grid.to_json())["question"] == grid.question
    assert grid.sentence() in " ".join(str(grid).split())


def test_what_a_grid_cannot_reach_is_said():
    """Scenarios beyond all units or effects stay in the table, empty."""
    grid = plan.TwoMeans().grid(effect=[1e-9, 0.5])
    assert grid.columns["units in total"][0] is None
    assert "out of reach" in str(grid)
    assert "1 of them can't be reached" in grid.sentence()
    assert "None of the" in plan.TwoProportions(baseline=0.9).grid(n=[2, 3]).sentence()


SIMULATED = [
    (plan.TwoMeans(sd=2), {"effect": 1.0, "n": 64}),
    (plan.TwoMeans(sd_treatment=2, ratio=2), {"effect": 0.5, "n": 64}),
    (plan.TwoMeans(distribution="normal"), {"effect": 0.4, "n": 64}),
    (plan.TwoMeans().with_clusters(5, 0.1), {"effect": 0.5, "n": 60}),
    (plan.TwoMeans(sd=2).with_covariate(0.6), {"effect": 0.8, "n": (60, 50)}),
    (plan.TwoMeans(distribution="normal"), {"effect": 3.0, "n": 1}),
    (plan.TwoMeans().with_margin(0.3, good="lower"), {"n": 150}),
    (plan.TwoMeans().with_margin(0.3, "equivalence"), {"effect": 0.05, "n": 242}),
    (plan.TwoMeans().with_variants(3, "sidak").with_attrition(0.2), {"effect": 0.5, "n": 100}),
    (plan.TwoProportions(baseline=0.1, power_from="outcomes"), {"effect": 0.1, "n": 196}),
    (plan.TwoProportions(baseline=0.3, power_from="outcomes", alternative="less"), {"effect": -0.05, "n": (600, 500)}),
    (plan.OneMean(sd=2), {"effect": 1.0, "n": 30}),
    (plan.OneMean(distribution="normal").with_margin(0.3), {"effect": 0.0, "n": 70}),
    (plan.PairedMeans(sd=10, correlation=0.6), {"effect": 3.0, "n": 60}),
    (plan.OneProportion(baseline=0.5), {"effect": 0.2, "n": 53}),
    (plan.OneProportion(baseline=0.4, power_from="normal"), {"effect": 0.1, "n": 400}),
    (plan.PairedProportions(discordant=0.3), {"effect": 0.1, "n": 240}),
    (plan.TwoRates(baseline=0.5, exposure=28), {"lift": 0.1, "n": 118}),
]


@pytest.mark.parametrize(("design", "asked"), SIMULATED)
def test_the_real_test_rejects_as_often_as_planned(design, asked):
    """Of 4,000 simulated tests the planned share rejects, within 4 Monte-Carlo errors; the seed replays them."""
    found = design.simulate(**asked, runs=4_000, seed=11)
    assert found.power == design.power(**asked).power
    assert abs(found.rate - found.power) < 4 * found.error
    assert found == design.simulate(**asked, runs=4_000, seed=11)
    assert "they agree" in found.sentence()


def test_earlier_studies():
    """Estimates and cautious ends by hand; the plan takes the cautious one and says what the other would be."""
    study = plan.EarlierStudy.of_means(Summary(40, 16, 5, "new"), Summary(40, 13, 5, "old"))
    t = 3 / (5 * math.sqrt(1 / 20))
    low = study.cautious / 5 / math.sqrt(1 / 20)
    assert float(numeric.student.noncentral_sf(t, 78, low)) == pytest.approx(0.025, rel=1e-9)
    again = plan.EarlierStudy.of_t(t, (40, 40))
    assert again.cautious * 5 == pytest.approx(study.cautious, rel=1e-9)
    answer = study.sample_size(power=0.8)
    assert answer.effect == study.cautious
    hopeful = study.design.sample_size(effect=3.0, power=0.8).n_total
    assert f"{hopeful:,} units in total would do" in answer.notes[-1]
    mirrored = plan.EarlierStudy.of_means(Summary(40, 13, 5, "new"), Summary(40, 16, 5, "old"))
    assert mirrored.cautious == pytest.approx(-study.cautious)
    odds = plan.EarlierStudy.of_odds_ratio(0.5, 0.3, 0.8, baseline=0.2)
    assert odds.cautious == pytest.approx(0.2 * 0.8 / (0.8 + 0.2 * 0.8) - 0.2)
    pairs = plan.EarlierStudy.of_t(2.5, 30)
    assert pairs.effect == pytest.approx(2.5 / math.sqrt(30))
    assert plan.EarlierStudy.of_correlation(-0.4, 60).cautious == pytest.approx(
        math.tanh(math.atanh(-0.4) + 1.959963984540054 / math.sqrt(57))
    )
    squared = plan.EarlierStudy.of_r_squared(0.25, 80, predictors=3)
    f, nc = (0.25 / 3) / (0.75 / 76), 80 * squared.cautious / (1 - squared.cautious)
    assert float(numeric.fisher.noncentral_sf(f, 3, 76, nc)) == pytest.approx(0.025, rel=1e-8)
    assert plan.EarlierStudy.of_r_squared(0.01, 20, predictors=3).cautious == 0
    shares = plan.EarlierStudy.of_proportions(Counts(60, 400, "new"), Counts(50, 400, "old"))
    assert shares.cautious == 0
    with pytest.raises(DesignError, match="takes in no effect"):
        shares.sample_size()


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: plan.TwoMeans().sample_size(effect=0), "effect of 0"),
        (lambda: plan.TwoMeans(alternative="greater").sample_size(effect=-1), "is below 0"),
        (lambda: plan.TwoMeans(alternative="less").sample_size(effect=1), "is above 0"),
        (lambda: plan.TwoMeans().sample_size(effect=1e-9), "1e\\+12 .*standardised \\(d\\) 1e-09"),
        (lambda: plan.TwoMeans().sample_size(effect=1, power=0.04), "above alpha"),
        (lambda: plan.TwoMeans().sample_size(effect=1, power=1), "between 0 and 1"),
        (lambda: plan.TwoMeans().sample_size(), "in one way .* got none"),
        (lambda: plan.TwoMeans().sample_size(effect=1, standardised=1), "got effect and standardised"),
        (lambda: plan.TwoMeans().sample_size(lift=0.1), "needs the baseline"),
        (lambda: plan.TwoMeans().sample_size(shares=[1]), "'shares' is not there"),
        (lambda: plan.TwoMeans().power(effect=1), "one of n and weeks"),
        (lambda: plan.TwoMeans().power(effect=1, weeks=2), "with_traffic"),
        (lambda: plan.TwoMeans().with_traffic(0.1).power(effect=1, weeks=2), "too few: it takes 2"),
        (lambda: plan.TwoMeans(sd=0), "sd must be above 0"),
        (lambda: plan.TwoMeans(ratio=-1), "ratio must be above 0"),
        (lambda: plan.TwoMeans(alpha=0.9), "alpha"),
        (lambda: plan.TwoMeans().power(effect=1, n=1), "n must be at least 2"),
        (lambda: plan.TwoMeans().power(effect=1, n=10.5), "whole number"),
        (lambda: plan.TwoMeans().power(effect=[1, 2], n=10), "effect must be one number"),
        (lambda: plan.TwoMeans().power(effect="1", n=10), "effect must be a number"),
        (lambda: plan.TwoMeans().sample_size(effect=1, power=[0.8, 0.9]), "power must be a single number"),
        (lambda: plan.TwoMeans().grid(n=[1], effect=1), "n must be at least 2"),
        (lambda: plan.TwoMeans().grid(n=[(20, 30)], effect=1), "n must be one number or a list"),
        (lambda: plan.TwoProportions(baseline=0.4).sample_size_for_width(half_width=3), "3 percentage points are 0.03"),
        (lambda: plan.OneProportion().sample_size_for_width(half_width=3), "3 percentage points are 0.03"),
        (lambda: plan.TwoProportions(baseline=0.4).with_margin(3), "3 percentage points are 0.03"),
        (lambda: plan.TwoProportions(baseline=0.4).simulate(effect=0.7, n=20), "a share of 1.1"),
        (lambda: plan.TwoProportions(baseline=0.4).precision(effect=0.7, n=20), "a share of 1.1"),
        (lambda: plan.PairedProportions(discordant=0.1).simulate(effect=0.2, n=20), "discordant"),
        (
            lambda: plan.TwoMeans().with_covariate(0.5).with_clusters(2, 0.1).simulate(effect=1, n=9),
            "independent units",
        ),
        (lambda: plan.TwoMeans().with_clusters(4, 0.1).power(effect=1, n=7), "7 units .* it takes 8"),
        (lambda: plan.TwoMeans().with_attrition(0.5).power(effect=1, n=3), "1 units .* it takes 2"),
        (lambda: plan.OneMean().power(effect=1, n=(5, 6)), "one number of units"),
        (lambda: plan.TwoMeans().power(effect=float("nan"), n=10), "effect must be a finite"),
        (lambda: plan.TwoMeans().alpha_for(effect=0.01, n=5, power=0.9), "even an alpha of 0.5"),
        (lambda: plan.TwoMeans().with_covariate(1.2), "correlation must be between -1 and 1"),
        (lambda: plan.TwoMeans().with_covariate(0.2).with_covariate(0.3), "already has covariate"),
        (lambda: plan.TwoMeans().with_clusters(5, 1.5), "icc must be at most 1"),
        (lambda: plan.TwoMeans().with_variants(2, "holm"), "'holm' is not there"),
        (lambda: plan.TwoMeans().with_margin(-1), "margin must be above 0"),
        (lambda: plan.TwoMeans(alternative="greater").with_margin(1, good="lower"), "contradict"),
        (lambda: plan.TwoMeans().with_variants(2).with_margin(1, "equivalence").power(n=9), "sidak or bonferroni"),
        (lambda: plan.TwoMeans().with_attrition(1), "below 1"),
        (lambda: plan.TwoMeans().with_traffic(10, share=2), "at most 1"),
        (plan.PairedMeans, "sd_difference, or sd and correlation"),
        (lambda: plan.PairedMeans(sd=1, correlation=1), "correlation must be between"),
        (lambda: plan.PairedProportions(discordant=0.1).power(effect=0.2, n=50), "discordant pairs"),
        (lambda: plan.PairedProportions(discordant=0.1).with_covariate(0.5), "does not apply"),
        (lambda: plan.TwoProportions(baseline=1.2), "baseline must be between 0 and 1"),
        (lambda: plan.TwoProportions().power(effect=0.1, n=10), "needs the share without the effect"),
        (lambda: plan.TwoProportions(baseline=0.9).sample_size(effect=0.2), "give a share of 1.1"),
        (lambda: plan.TwoProportions(baseline=0.9).detectable_effect(n=3), "no effect has a power"),
        (lambda: plan.TwoProportions(baseline=0.9).power(standardised=2, n=9), "no share as far away"),
        (lambda: plan.TwoProportions(baseline=0.9, power_from="outcomes").with_clusters(5, 0.1), "power_from='normal'"),
        (lambda: plan.OneProportion(baseline=0.9).with_covariate(0.1), "power_from='normal'"),
        (lambda: plan.OneProportion(baseline=0.5).sample_size(effect=5e-6), "power_from='normal'"),
        (lambda: plan.TwoRates(baseline=1).power(effect=-1, n=5), "can't fall to 0"),
        (lambda: plan.ManyMeans(groups=3).power(effect=-1, n=5), "below 0"),
        (lambda: plan.ManyMeans(groups=3).power(means=[1, 2], n=5), "3 numbers"),
        (lambda: plan.ManyMeans(groups=3).sample_size_for_width(half_width=1), "no single interval"),
        (lambda: plan.Association(rows=2, columns=2).power(effect=1.5, n=9), "no w above 1"),
        (lambda: plan.Association(rows=2, columns=2).power(shares=[1, 2], n=9), "table of 2 by 2"),
        (lambda: plan.Regression(predictors=3).power(effect=0.1, n=4), "n must be at least 5"),
        (lambda: plan.Regression(explained=0.9).power(effect=0.2, n=40), "can't exceed 1"),
        (lambda: plan.Correlation(null=0.5).power(effect=0.6, n=40), "between -1 and 1"),
        (lambda: plan.TwoMeans().simulate(effect=0.1, n=10**7), "fewer runs"),
        (lambda: plan.OneMean().with_covariate(0.5).simulate(effect=0.1, n=40), "Only independent units"),
        (lambda: plan.TwoMeans().grid(), "needs an effect"),
        (lambda: plan.TwoMeans().grid(effect=[1, 2], n=5, power=0.8), "Leave one of"),
        (lambda: plan.TwoMeans().grid(effct=[1, 2]), "Did you mean 'effect'"),
        (lambda: plan.TwoMeans().grid(effect=np.ones(2_000), power=np.full(2_000, 0.8)), "at most 1,000,000"),
        (lambda: plan.EarlierStudy.of_odds_ratio(3, 1, 2, baseline=0.1), "within its interval"),
        (lambda: plan.EarlierStudy.of_t(3, (1, 2, 3)), "n must be at least 2"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what, and which way out."""
    with pytest.raises((DesignError, InputError), match=says):
        call()
