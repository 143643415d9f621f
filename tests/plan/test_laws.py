"""What holds for every design: told in every medium, asked in a grid as one by one, rising, and mirrored."""

import json

import matplotlib.pyplot as plt
import numpy as np
import pytest
from tests.plan.test_plan import DESIGNS

from amber_ruler import plan
from amber_ruler.results import Result

NAMES = sorted(DESIGNS)
UNEVEN = {"one proportion", "unpooled", "two proportions", "paired, correlated", "one wald", "one likelihood"}
SKEWED = {  # whose effects below 0 are not found as those above are
    *UNEVEN, "arcsine", "corrected", "between clusters", "two rates", "two times", "correlation, Fisher",
    "two correlations", "one rate", "log rates", "root rates", "one spread", "two spreads",
}  # fmt: skip


@pytest.mark.parametrize("name", NAMES)
def test_an_answer_is_told_in_every_medium(name):
    """Text, a sentence, JSON and back, a frame, a figure: of a size, a power, an effect and an alpha."""
    design, effect = DESIGNS[name](alpha=0.05, alternative="two-sided")
    size = design.sample_size(effect=effect)
    answers = [
        size,
        design.power(effect=effect, n=size.n + 5),
        design.detectable_effect(n=size.n + 5),
        design.alpha_for(effect=effect, n=size.n + 5),
    ]
    for answer in answers:
        assert design.title in str(answer)
        assert answer.sentence().endswith(".")
        back = Result.from_json(answer.to_json())
        assert back.to_dict() == answer.to_dict()
        assert json.loads(answer.to_json())["question"] == answer.question
        assert len(answer.to_frame()) == 1
    assert size.plot() is not None
    plt.close("all")


@pytest.mark.parametrize("name", NAMES)
def test_a_grid_is_one_question_after_the_other(name):
    """Sizes for several powers, powers for several sizes, and effects."""
    design, effect = DESIGNS[name](alpha=0.05, alternative="two-sided")
    sizes = design.grid(effect=effect, power=[0.5, 0.8, 0.9])
    each = [design.sample_size(effect=effect, power=p) for p in (0.5, 0.8, 0.9)]
    assert list(sizes.columns["units in total"]) == [a.n_total for a in each]
    assert [a.n_total for a in each] == sorted(a.n_total for a in each)
    n = [each[0].n + 2, each[1].n + 3, each[2].n + 40]
    powers = design.grid(effect=effect, n=n).columns["power"]
    assert list(powers) == pytest.approx([design.power(effect=effect, n=k).power for k in n], rel=1e-10)
    assert list(powers) == sorted(powers)
    found = design.grid(n=n, power=0.8).columns["effect"]
    assert list(found) == pytest.approx([design.detectable_effect(n=k).effect for k in n], rel=1e-8)
    assert list(np.abs(found)) == sorted(np.abs(found), reverse=True)


@pytest.mark.parametrize("name", NAMES)
def test_more_is_found_with_more(name):
    """Power rises with the effect, with alpha, and one-sided in its direction; attrition and traffic only count."""
    design, effect = DESIGNS[name](alpha=0.05, alternative="two-sided")
    n = design.sample_size(effect=effect).n + 3
    powers = [design.power(effect=k * effect, n=n).power for k in (0.0, 0.5, 1.0, 1.3)]
    assert powers == sorted(powers)
    strict, _ = DESIGNS[name](alpha=0.01, alternative="two-sided")
    assert strict.power(effect=effect, n=n).power < powers[2]
    if design.alternative != "any":
        one, _ = DESIGNS[name](alpha=0.05, alternative="greater")
        other, _ = DESIGNS[name](alpha=0.05, alternative="less")
        assert one.power(effect=effect, n=n).power > powers[2] > other.power(effect=effect, n=n).power
        if name not in SKEWED:
            mirrored = other.power(effect=-effect, n=n).power
            assert mirrored == pytest.approx(one.power(effect=effect, n=n).power, rel=1e-9)
    if not any("attrition" in str(m) for m in design.modifiers):
        more = design.with_attrition(0.2).sample_size(effect=effect)
        assert more.n >= design.sample_size(effect=effect).n / 0.8 - np.ceil(design._cluster_size())
        timed = design.with_traffic(per_day=10).sample_size(effect=effect)
        assert timed.days == int(np.ceil(timed.n_total / 10 - 1e-9))


@pytest.mark.parametrize(
    ("make", "numbers"),
    [
        (lambda k: plan.TwoMeans(sd=2 * k, sd_treatment=3 * k, power_from="exact"), {}),
        (lambda k: plan.Contrast(weights=(1, -0.5, -0.5), sd=2 * k), {}),
        (lambda k: plan.AllPairs(groups=3, sd=2 * k), {}),
        (lambda k: plan.RepeatedMeans(sd=2 * k, correlation=0.5), {}),
        (lambda k: plan.Crossover(sd=2 * k, correlation=0.5), {}),
        (lambda k: plan.Slope(sd_predictor=1.5, sd_error=2 * k), {}),
        (lambda k: plan.PairedMeans(sd=2 * k, correlation=0.3, sd_treatment=3 * k), {}),
    ],
)
def test_a_change_of_unit_changes_nothing(make, numbers):
    """Spreads and effect a thousandfold: the same size, power and size before rounding."""
    one, other = make(1.0).sample_size(effect=1.1, **numbers), make(1000.0).sample_size(effect=1100.0, **numbers)
    assert (one.n, one.n_total) == (other.n, other.n_total)
    assert other.power == pytest.approx(one.power, rel=1e-9)
    assert other.n_exact == pytest.approx(one.n_exact, rel=1e-9)
    assert other.half_width == pytest.approx(1000 * one.half_width, rel=1e-9)


def test_contrasts_do_not_know_the_size_of_their_weights():
    """Weights and effect twice as large are the same question; so are groups in another order."""
    one = plan.Contrast(weights=(1, -0.5, -0.5), split=(1, 2, 3), sd=3)
    for other in (
        plan.Contrast(weights=(2, -1, -1), split=(1, 2, 3), sd=3).power(effect=4, n=30),
        plan.Contrast(weights=(-1, 2, -1), split=(2, 1, 3), sd=3).power(effect=4, n=30),
        plan.Contrast(weights=(-2, 1, 1), split=(1, 2, 3), sd=3).power(effect=-4, n=30),
    ):
        assert other.power == pytest.approx(one.power(effect=2, n=30).power, rel=1e-12)
        assert sorted(other.units.values()) == [10, 20, 30]


def test_effects_of_new_designs_are_said_in_every_way():
    """The same size whichever way the effect is said, and the answer says the others."""
    ways = [
        (plan.TwoRanks(), [{"effect": 0.1}, {"treatment": 0.6}]),
        (plan.TwoCorrelations(baseline=0.3), [{"effect": 0.2}, {"treatment": 0.5},
                                              {"standardised": float(np.arctanh(0.5) - np.arctanh(0.3))}]),
        (plan.OneSpread(baseline=4), [{"lift": 0.25}, {"treatment": 5}, {"effect": float(np.log(1.25))}]),
        (plan.OneRate(baseline=0.5), [{"lift": 0.4}, {"treatment": 0.7}, {"effect": 0.2}]),
        (plan.TwoRates(baseline=0.5, scale="log"), [{"lift": 0.4}, {"treatment": 0.7}, {"effect": float(np.log(1.4))}]),
        (plan.Crossover(sd_within=2, baseline=10), [{"lift": 0.1}, {"treatment": 11}, {"effect": 1},
                                                      {"standardised": 0.5}]),
    ]  # fmt: skip
    for design, given in ways:
        assert len({design.sample_size(**way).n for way in given}) == 1
    slope = plan.Slope(sd_predictor=2, sd_error=3).sample_size(standardised=0.3)
    assert slope.effects["correlation"] == pytest.approx(0.3)
    assert plan.Slope(sd_predictor=2, sd_error=3).sample_size(effect=slope.effect).n == slope.n
