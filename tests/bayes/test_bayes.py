"""Bayes factors and posteriors against quadrature, closed forms and simulation."""

import numpy as np
import pytest

import truth
from amber_ruler import Counts, InputError, Summary
from amber_ruler.bayes import Beta, Cauchy, means, proportions
from amber_ruler.bayes.means import log_bayes_factor
from truth import mp


@pytest.mark.parametrize(
    "case",
    [
        (0.69, 78, 39.9, 1.0),
        (3.2, 158, 40, 1.0),
        (10, 300, 75, 0.5),
        (0, 4, 1.5, 0.707),
        (2, 1e5, 2.5e4, 0.1),
        (-45, 60, 15.5, 1.0),
    ],
)
def test_bayes_factor_agrees_with_quadrature(case):
    """To 1e-8 and better, for small and large evidence either way."""
    assert float(mp.exp(log_bayes_factor(*case)) / truth.bayes_factor(*case)) == pytest.approx(1, abs=1e-10)


def test_the_same_factor_over_effects_instead_of_variances():
    """Averaging the likelihood of t over the Cauchy prior of the effect is the same number by another road."""
    r = means(Summary(30, 1.0, 2.0, "a"), Summary(20, 0.2, 1.5, "b"), prior=Cauchy(0.5))
    pooled = np.sqrt((29 * 4 + 19 * 2.25) / 48)
    t, root, df = 0.8 / (pooled * np.sqrt(1 / 30 + 1 / 20)), np.sqrt(12), 48
    node, weight = np.polynomial.legendre.leggauss(300)
    s, effect = 1.25 + 1.25 * node[:, None], 0.3 + 2.5 * node  # spread and effect, far beyond where anything is
    spread_density = s ** (df - 1) * np.exp(-df * (s * s - 1) / 2)

    def likelihood(effect):
        return weight @ (s * np.exp(-((t * s - effect * root) ** 2) / 2) * spread_density)

    weighed = weight * 2.5 * likelihood(effect) * 0.5 / (np.pi * (0.25 + effect**2))
    assert r.evidence.bayes_factor == pytest.approx(weighed.sum() / likelihood(np.zeros(1))[0], rel=1e-8)
    below = 1.1 * node - 1.1  # the effects under 0
    lower = weight * 1.1 * likelihood(below) * 0.5 / (np.pi * (0.25 + below**2))
    assert r.evidence.chance_better == pytest.approx(1 - lower.sum() / weighed.sum(), rel=1e-7)


def test_posterior_of_the_difference():
    """Quantiles enclose what they say; with much data the posterior is the classical interval; loss mirrors."""
    one, two = Summary(40_000, 10.05, 2.0, "short"), Summary(50_000, 10.0, 2.0, "current")
    r = means(one, two, prior=Cauchy(1.0))
    spread = 2 * np.sqrt(1 / 40_000 + 1 / 50_000)
    assert r.estimate == pytest.approx(0.05, abs=0.01 * spread)
    assert r.interval.low == pytest.approx(0.05 - 1.96 * spread, abs=0.02 * spread)
    lower = means(one, two, good="lower")
    assert lower.evidence.chance_better == pytest.approx(1 - r.evidence.chance_better, abs=1e-12)
    swapped = means(two, one)
    assert swapped.evidence.expected_loss == pytest.approx(lower.evidence.expected_loss, rel=1e-6)
    assert swapped.estimate == pytest.approx(-r.estimate, rel=1e-6)


def closed_form(a1, b1, a0, b0):
    """P(p1 > p0) of two beta variables with whole a1, as a finite sum."""
    return mp.fsum(mp.beta(a0 + i, b1 + b0) / ((b1 + i) * mp.beta(1 + i, b1) * mp.beta(a0, b0)) for i in range(a1))


@pytest.mark.parametrize(
    ("one", "two"), [((60, 400), (40, 400)), ((0, 4), (1, 5)), ((3, 3), (0, 2)), ((900, 9_000), (1_000, 9_100))]
)
def test_chance_to_be_better_has_a_closed_form(one, two):
    """The quadrature agrees with the finite sum, and swapping groups gives the other side."""
    r = proportions(Counts(*one, "short"), Counts(*two, "current"))
    expected = closed_form(one[0] + 1, one[1] - one[0] + 1, two[0] + 1, two[1] - two[0] + 1)
    assert r.evidence.chance_better == pytest.approx(float(expected), rel=1e-10)
    swapped = proportions(Counts(*two, "current"), Counts(*one, "short"))
    assert swapped.evidence.chance_better == pytest.approx(1 - float(expected), rel=1e-9, abs=1e-12)
    assert swapped.interval.low == pytest.approx(-r.interval.high, rel=1e-6)


def test_loss_and_interval_agree_with_simulation():
    """A million draws, within 5 Monte-Carlo errors."""
    r = proportions(Counts(12, 80, "short"), Counts(9, 90, "current"), prior=Beta(2, 5))
    rng = np.random.default_rng(8)
    gap = rng.beta(14, 73, 10**6) - rng.beta(11, 86, 10**6)
    loss = np.maximum(-gap, 0)
    assert r.evidence.expected_loss == pytest.approx(loss.mean(), abs=5 * loss.std() / 1e3)
    for limit, chance in ((r.interval.low, 0.025), (r.estimate, 0.5), (r.interval.high, 0.975)):
        assert abs(np.mean(gap <= limit) - chance) < 5 * np.sqrt(chance * (1 - chance) / 1e6)


def test_output_says_prior_chance_and_evidence():
    """The text names the prior; certainty is never claimed."""
    text = str(means(Summary(80, 9.5, 2.0, "short"), Summary(80, 4.5, 2.0, "current")))
    assert "Cauchy, scale 1" in text
    assert "over 99.99%" in text
    assert "times likelier under a difference than under none" in text
    weak = means(Summary(800, 1.0, 1.0, "a"), Summary(800, 1.0, 1.0, "b"))
    assert "likelier under no difference" in weak.sentence()


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: Cauchy(0), "scale must be above 0"),
        (lambda: Beta(1, -1), "failures must be above 0"),
        (lambda: means(Summary([5, 6], 1, 1, "a"), Summary(5, 1, 1, "b")), "one pair at a time"),
        (lambda: proportions(Counts([1, 2], 5, "a"), Counts(1, 5, "b")), "one pair at a time"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises(InputError, match=says):
        call()


def test_a_narrow_prior_is_resolved():
    """With a prior a hundred times narrower than the likelihood, quantiles agree with a brute-force grid."""
    r = means(Summary(80, 5.1, 2.0, "short"), Summary(80, 4.5, 2.0, "current"), prior=Cauchy(0.001))
    t, df, root = 0.6 / (2 * np.sqrt(2 / 80)), 158, np.sqrt(40)
    fine = np.linspace(-0.05, 0.05, 200_001)
    x = np.concatenate([np.linspace(-3, -0.05, 20_001), fine[1:-1], np.linspace(0.05, 3, 20_001)])
    # Over the range of this prior the likelihood of t is that of a normal with the spread's own rounding aside.
    spread = np.sqrt(1 + (x * root) ** 2 / (2 * df))
    density = np.exp(-((t - x * root) ** 2) / (2 * spread**2)) / spread / (1e-6 + x * x)
    chance = np.concatenate([[0.0], np.cumsum(np.diff(x) * (density[1:] + density[:-1]) / 2)])
    low, median, high = np.interp([0.025, 0.5, 0.975], chance / chance[-1], x) * 2
    assert (r.interval.low, r.estimate) == pytest.approx((low, median), rel=0.02)
    assert r.interval.high == pytest.approx(high, rel=0.1)  # set by the likelihood's tail, where the normal is rough


@pytest.mark.parametrize(
    ("one", "two"),
    [((3, 5), (5 * 10**11, 10**12)), ((5, 10**12), (9, 10**12)), ((0, 20), (0, 20)), ((0, 5), (10**9, 10**9))],
)
def test_swapping_shares_of_any_size_mirrors_the_answer(one, two):
    """To 1e-12, whichever group is the larger by far; equal groups are as likely to be better as worse."""
    r = proportions(Counts(*one, "short"), Counts(*two, "current"))
    other = proportions(Counts(*two, "short"), Counts(*one, "current"))
    assert r.evidence.chance_better + other.evidence.chance_better == pytest.approx(1, abs=1e-12)
    if one != two:
        assert (r.interval.low, r.estimate) == pytest.approx((-other.interval.high, -other.estimate), rel=1e-11)
    else:
        assert r.evidence.chance_better == 0.5
