"""Shares and rates: closed forms, high-precision integrals, simulation and laws, from 0 trials to 1e12."""

import math

import numpy as np
import pytest
from scipy import special

import amber_ruler as ar
from amber_ruler import Counts, Events
from amber_ruler.bayes import Beta, Gamma, best_proportion, best_rate, proportion, proportions, rate, rates
from truth import mp


def shares(one, two, **settings):
    return proportions(Counts(*one, "short"), Counts(*two, "current"), **settings)


def closed_form(a1, b1, a0, b0):
    """P(p1 > p0) of two beta variables with whole a1, as a finite sum."""
    return mp.fsum(mp.beta(a0 + i, b1 + b0) / ((b1 + i) * mp.beta(1 + i, b1) * mp.beta(a0, b0)) for i in range(a1))


PAIRS = [
    ((60, 400), (40, 400)),
    ((0, 4), (1, 5)),
    ((3, 3), (0, 2)),
    ((900, 9_000), (1_000, 9_100)),
    ((0, 1000), (499, 999)),
]


@pytest.mark.parametrize(("one", "two"), PAIRS)
def test_chance_to_be_better_has_a_closed_form(one, two):
    """To 1e-10 however tiny, on the log scale too; the other side is the complement; losses differ by the means."""
    r = shares(one, two).evidence
    expected = closed_form(one[0] + 1, one[1] - one[0] + 1, two[0] + 1, two[1] - two[0] + 1)
    assert r.chance_better == pytest.approx(float(expected), rel=1e-10)
    assert r.log_chance_better == pytest.approx(float(mp.log(expected)), rel=1e-12, abs=1e-11)
    assert r.chance_worse == pytest.approx(float(1 - expected), rel=1e-9)
    gap = (one[0] + 1) / (one[1] + 2) - (two[0] + 1) / (two[1] + 2)
    assert r.control_loss - r.expected_loss == pytest.approx(gap, rel=1e-10)


BETAS = [(60.0, 340.0, 40.0, 360.0), (0.5, 20.5, 3.5, 17.5), (0.02, 3.0, 2.0, 0.7), (0.01, 20.01, 0.01, 20.01)]


def gap_above(a1, b1, a0, b0, d):
    """P(p1 - p0 > d) by the definition: along the log of what the first share has above d."""
    a1, b1, a0, b0, d = map(mp.mpf, (a1, b1, a0, b0, d))

    def integrand(w):
        p0 = (1 - d) / (1 + mp.exp(-w))  # the first share less d
        q1 = (1 - d) / (1 + mp.exp(w))
        first = (d + p0) ** (a1 - 1) * q1 ** (b1 - 1) / mp.beta(a1, b1)
        return first * mp.betainc(a0, b0, 0, p0, regularized=True) * p0 / (1 + mp.exp(w))

    marks = [-300, -80, -30, -15, -8, -6, -5, -4, -3.5, -3, -2.5, -2, -1.5, -1, -0.5, 0, 0.5, 1, 2, 4, 8, 20, 60]
    return mp.quad(integrand, marks, maxdegree=5)


@pytest.mark.parametrize("betas", BETAS[1:3])
def test_limits_of_the_difference_by_quadrature(betas):
    """What lies above each limit is what it should be, parameters below 1 included."""
    a1, b1, a0, b0 = betas
    r = proportions(Counts(0, 0, "a"), Counts(0, 0, "b"), prior=Beta(a1, b1), control_prior=Beta(a0, b0), margin=0.03)
    with mp.workdps(20):
        for limit, above in ((r.interval.high, 0.025), (r.estimate, 0.5), (r.interval.low, 0.975)):
            found = gap_above(a1, b1, a0, b0, limit) if limit > 0 else 1 - gap_above(a0, b0, a1, b1, -limit)
            assert float(found) == pytest.approx(above, rel=1e-10)
        within = 1 - gap_above(a1, b1, a0, b0, 0.03) - gap_above(a0, b0, a1, b1, 0.03)
        assert r.evidence.chance_within == pytest.approx(float(within), rel=1e-9)


def test_posteriors_of_difference_lift_and_odds_ratio_by_simulation():
    """Two million draws, within 5 Monte-Carlo errors: medians, limits, means, spreads, and what the densest holds."""
    r = shares((12, 80), (9, 90), prior=Beta(2, 5))
    rng = np.random.default_rng(8)
    n = 2 * 10**6
    one, two = rng.beta(14, 73, n), rng.beta(11, 86, n)
    drawn = {"difference": one - two, "lift": one / two - 1, "odds_ratio": one / (1 - one) * (1 - two) / two}
    for name, values in drawn.items():
        own = r.evidence.posterior[name]
        for limit, chance in ((own.interval.low, 0.025), (own.median, 0.5), (own.interval.high, 0.975)):
            assert abs(np.mean(values <= limit) - chance) < 5 * math.sqrt(chance * (1 - chance) / n)
        assert own.mean == pytest.approx(values.mean(), abs=5 * values.std() / math.sqrt(n))
        assert own.sd == pytest.approx(values.std(), rel=0.01)
        inside = np.mean((values >= own.densest.low) & (values <= own.densest.high))
        assert inside == pytest.approx(0.95, abs=1e-3)
        assert own.densest.high - own.densest.low <= own.interval.high - own.interval.low
    loss = np.maximum(two - one, 0)
    assert r.evidence.expected_loss == pytest.approx(loss.mean(), abs=5 * loss.std() / math.sqrt(n))
    assert r.effects["lift"].value == r.evidence.posterior["lift"].median


def test_ratios_have_means_only_where_they_exist():
    """A control that may be 0 has a lift without a mean; one success and there is one, two and there is a spread."""
    told = [shares((5, 20), (x, 20)).evidence.posterior["lift"] for x in (0, 1, 2)]
    assert [t.mean is None for t in told] == [True, False, False]
    assert [t.sd is None for t in told] == [True, True, False]
    assert told[2].mean == pytest.approx(6 / 22 * 21 / 2 - 1, rel=1e-14)


@pytest.mark.parametrize(
    ("one", "two", "prior"),
    [
        ((3, 5), (5 * 10**11, 10**12), Beta()),
        ((3, 5), (5 * 10**11, 10**12), Beta(0.001, 0.001)),
        ((5, 10**12), (9, 10**12), Beta(0.01, 3)),
        ((0, 20), (0, 20), Beta(0.01, 0.01)),
        ((0, 20), (0, 20), Beta(0.001, 0.001)),
        ((0, 5), (10**9, 10**9), Beta()),
        ((7, 10**9), (10**9 - 3, 10**9), Beta(0.01, 3)),
    ],
)
def test_swapping_shares_of_any_size_mirrors_the_answer(one, two, prior):
    """To 1e-12, whichever group is the larger by far; equal groups are as likely to be better as worse."""
    r, other = shares(one, two, prior=prior), shares(two, one, prior=prior)
    assert r.evidence.chance_better + other.evidence.chance_better == pytest.approx(1, abs=1e-12)
    assert r.evidence.log_chance_worse == pytest.approx(other.evidence.log_chance_better, rel=1e-10, abs=1e-12)
    assert r.evidence.log_expected_loss == pytest.approx(other.evidence.log_control_loss, rel=1e-9)
    assert r.evidence.log_bayes_factor == pytest.approx(other.evidence.log_bayes_factor, rel=1e-10, abs=1e-9)
    if one != two:
        assert (r.interval.low, r.estimate) == pytest.approx(
            (-other.interval.high, -other.estimate), rel=1e-9, abs=1e-12
        )
    else:
        assert r.evidence.chance_better == pytest.approx(0.5, abs=1e-13)


def log_beta(a, b):
    return mp.loggamma(a) + mp.loggamma(b) - mp.loggamma(mp.mpf(a) + mp.mpf(b))


@pytest.mark.parametrize("prior", [Beta(), Beta(2, 5), Beta(0.001, 0.3)])
@pytest.mark.parametrize(
    ("one", "two"),
    [((60, 400), (40, 400)), ((0, 20), (0, 20)), ((5 * 10**8, 10**9), (500_030_000, 10**9)), ((3, 5), (7, 10**9))],
)
def test_factor_of_two_shares_against_gamma_functions(one, two, prior):
    """To 1e-9 of the log at a billion trials, where the gamma functions have lost all their digits."""
    (x1, n1), (x0, n0) = one, two
    a, b = mp.mpf(prior.successes), mp.mpf(prior.failures)
    with mp.workdps(40):
        apart = log_beta(a + x1, b + n1 - x1) + log_beta(a + x0, b + n0 - x0) - log_beta(a, b)
        expected = apart - log_beta(a + x1 + x0, b + n1 + n0 - x1 - x0)
    found = shares(one, two, prior=prior).evidence
    assert found.log_bayes_factor == pytest.approx(float(expected), abs=2e-9)
    up = found.log_factor_above - found.log_bayes_factor  # twice the chance of that direction
    assert up == pytest.approx(math.log(2) + found.log_chance_better, abs=1e-12)


@pytest.mark.parametrize(("known", "few"), [(10**12, 1), (0, 30)])
def test_the_shortest_interval_up_to_a_cliff(known, few):
    """A share that is known, against all of a few, Beta(few + 1, 1): the likeliest differences end at a cliff."""
    found = proportions(Counts(known, 10**12, "known"), Counts(few, few, "few")).evidence.posterior
    difference, lift = found["difference"].densest, found["lift"].densest
    share, end = known / 10**12, 0.05 ** (1 / (few + 1))
    assert (difference.low, difference.high) == pytest.approx((share - 1, share - end), abs=1e-8)
    assert (lift.low, lift.high) == pytest.approx((share - 1, share / end - 1), abs=1e-8)


def test_different_priors_of_the_shares():
    """The common share needs its own then; chances beforehand go into the directional factors."""
    r = shares((12, 80), (9, 90), prior=Beta(3, 7), control_prior=Beta(2, 9))
    assert r.evidence.bayes_factor is None
    assert "different priors" in r.notes[0]
    with_one = shares((12, 80), (9, 90), prior=Beta(3, 7), control_prior=Beta(2, 9), common_prior=Beta(5, 16)).evidence
    before = float(closed_form(3, 7, 2, 9))
    averaged = before * math.exp(with_one.log_factor_above) + (1 - before) * math.exp(with_one.log_factor_below)
    assert averaged == pytest.approx(with_one.bayes_factor, rel=1e-11)
    with pytest.raises(ar.InputError, match="there is none"):
        shares((1, 2), (1, 2), prior=Beta(3, 7), control_prior=Beta(2, 9), odds=1)


def test_one_share_against_a_value():
    """Factor against gamma functions, chances against the beta distribution; without trials the prior speaks."""
    r = proportion(Counts(60, 400, "short"), null=0.1, margin=0.02, odds=2)
    expected = log_beta(61, 341) - 60 * mp.log(mp.mpf("0.1")) - 340 * mp.log(mp.mpf("0.9"))
    assert r.evidence.log_bayes_factor == pytest.approx(float(expected), rel=1e-12)
    assert r.evidence.chance_better == pytest.approx(special.betaincc(61, 341, 0.1), rel=1e-12)
    inside = special.betainc(61, 341, 0.12) - special.betainc(61, 341, 0.08)
    assert r.evidence.chance_within == pytest.approx(inside, rel=1e-10)
    assert (r.interval.low, r.estimate) == pytest.approx(special.betaincinv(61, 341, [0.025, 0.5]), rel=1e-12)
    assert r.evidence.posterior["share"].mean == pytest.approx(61 / 402)
    halves = np.exp([r.evidence.log_factor_above, r.evidence.log_factor_below])
    assert halves @ [0.9, 0.1] == pytest.approx(r.evidence.bayes_factor, rel=1e-11)
    nothing = proportion(Counts(0, 0, "short"), prior=Beta(2, 3))
    assert nothing.estimate == pytest.approx(special.betaincinv(2, 3, 0.5), rel=1e-12)
    assert nothing.groups == ()
    j = proportion(Counts(0, 25, "short")).evidence.posterior["share"].densest
    assert (j.low, j.high) == pytest.approx((0, 1 - 0.05 ** (1 / 26)), rel=1e-12)
    for x, n, q in ((600, 1000, 0.1), (60, 400, 0.15), (0, 20, 0.3), (3, 9, 0.999)):
        far = proportion(Counts(x, n), null=q).evidence
        with mp.workdps(30):
            below = mp.betainc(x + 1, n - x + 1, 0, mp.mpf(q), regularized=True)
            above = mp.betainc(x + 1, n - x + 1, mp.mpf(q), 1, regularized=True)
            assert far.log_chance_worse == pytest.approx(float(mp.log(below)), rel=1e-11)
            assert far.log_chance_better == pytest.approx(float(mp.log(above)), rel=1e-11, abs=1e-15)
    large = proportion(Counts(12_345_678, 10**9), null=0.0123).evidence.log_bayes_factor
    with mp.workdps(40):
        x, n, q = 12_345_678, 10**9, mp.mpf(0.0123)
        assert large == pytest.approx(
            float(log_beta(1 + x, 1 + n - x) - x * mp.log(q) - (n - x) * mp.log(1 - q)), rel=1e-12
        )


def test_best_of_several_shares():
    """Chances add up to 1, two of them are the pair, all agree with draws, the lowest is best if so asked."""
    groups = [Counts(60, 400, "short"), Counts(52, 390, "guided"), Counts(40, 400, "current"), Counts(0, 12, "none")]
    r = best_proportion(groups)
    parts = [one.evidence for one in r.results]
    assert sum(p.chance_best for p in parts) == pytest.approx(1, abs=1e-13)
    assert sum(p.chance_lowest for p in parts) == pytest.approx(1, abs=1e-13)
    rng = np.random.default_rng(2)
    drawn = np.stack([rng.beta(g.successes + 1, g.trials - g.successes + 1, 10**6) for g in groups])
    best = drawn.max(axis=0)
    for k, part in enumerate(parts):
        chance = part.chance_best
        assert abs(np.mean(drawn[k] == best) - chance) < 5 * math.sqrt(chance * (1 - chance) / 1e6)
        loss = best - drawn[k]
        assert part.expected_loss == pytest.approx(loss.mean(), abs=5 * loss.std() / 1e3)
    pair, two = shares((60, 400), (40, 400)).evidence, best_proportion([groups[0], groups[2]])
    assert two["short"].evidence.chance_best == pytest.approx(pair.chance_better, rel=1e-12)
    assert two["current"].evidence.expected_loss == pytest.approx(pair.control_loss, rel=1e-11)
    lowest = best_proportion(groups, good="lower")
    assert lowest["current"].evidence.chance_best == pytest.approx(r["current"].evidence.chance_lowest, rel=1e-13)
    assert "short is the best of 4" in r.sentence()
    assert "expected loss" in str(r)


def test_batches_of_counts_add_up():
    """Yesterday's posterior as today's prior is both days at once."""
    whole = shares((60, 400), (40, 380))
    later = shares((40, 250), (30, 300), prior=Beta(21, 131), control_prior=Beta(11, 71), margin=None)
    assert (later.estimate, later.interval.low) == pytest.approx((whole.estimate, whole.interval.low), rel=1e-11)
    assert later.evidence.log_expected_loss == pytest.approx(whole.evidence.log_expected_loss, rel=1e-11)


def test_rates_against_closed_forms():
    """P(better) is an incomplete beta function, factors are gamma functions, limits of one rate are gamma's own."""
    prior = Gamma(2, 5)
    r = rates(Events(40, 120.0, "short"), Events(60, 130.0, "current"), prior=prior, odds=1)
    part = r.evidence
    assert part.chance_better == pytest.approx(special.betainc(62, 42, 135 / 260), rel=1e-12)
    assert part.control_loss - part.expected_loss == pytest.approx(42 / 125 - 62 / 135, rel=1e-11)
    lg = mp.loggamma

    def marginal(x, e):
        return 2 * mp.log(5) - lg(2) + lg(2 + x) - (2 + x) * mp.log(5 + e)

    expected = marginal(40, 120) + marginal(60, 130) - marginal(100, 250)
    assert part.log_bayes_factor == pytest.approx(float(expected), rel=1e-12)
    lift = part.posterior["lift"]
    assert lift.mean == pytest.approx(42 / 125 * 135 / 61 - 1, rel=1e-13)
    # The ratio of two gamma variables is beta-prime: its quantiles are those of a beta distribution.
    p = special.betaincinv(42, 62, [0.025, 0.5, 0.975])
    ratio = p / (1 - p) * 135 / 125
    assert (lift.interval.low, lift.median, lift.interval.high) == pytest.approx(ratio - 1, rel=1e-10)
    one = rate(Events(30, 120.0, "short"), prior=Gamma(2, 10), null=0.35, margin=0.05)
    assert one.interval.low == pytest.approx(special.gammaincinv(32, 0.025) / 130, rel=1e-12)
    assert one.evidence.chance_better == pytest.approx(special.gammaincc(32, 0.35 * 130), rel=1e-12)
    single = 2 * mp.log(10) - lg(2) + lg(32) - 32 * mp.log(130) - 30 * mp.log(mp.mpf("0.35")) + mp.mpf("0.35") * 120
    assert one.evidence.log_bayes_factor == pytest.approx(float(single), rel=1e-12)
    several = best_rate([Events(40, 120, "a"), Events(60, 130, "b"), Events(5, 10, "c")], prior=prior, good="lower")
    assert sum(x.evidence.chance_best for x in several.results) == pytest.approx(1, abs=1e-13)
    assert best_rate([Events(40, 120, "a"), Events(60, 130, "b")], prior=prior, good="lower")[
        "a"
    ].evidence.chance_best == pytest.approx(part.chance_worse, rel=1e-12)
    huge = rates(Events(10**9, 1e9, "a"), Events(10**9 + 10**5, 1e9, "b"), prior=prior).evidence
    assert huge.chance_better == pytest.approx(special.ndtr(-(10**5) / math.sqrt(2e9 + 1e5)), rel=1e-5)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: Beta(1, -1), "failures must be above 0"),
        (lambda: Beta(1e-7, 1), "at least 0.0001"),
        (lambda: Gamma(0, 1), "events must be above 0"),
        (lambda: Gamma(1, 0), "exposure must be above 0"),
        (lambda: shares((5, 3), (1, 2)), "must not exceed trials"),
        (lambda: shares((1, 3), (1, 2), margin=1), "below 1"),
        (lambda: shares((1, 3), (1, 2), prior=Gamma(1, 1)), "prior must be a Beta"),
        (lambda: proportion(Counts(1, 3), odds=1), "there is none"),
        (lambda: proportion(Counts(1, 3), null=1), "between 0 and 1"),
        (lambda: rates(Events(1, 1.0, "a"), Events(1, 1.0, "b"), prior=Beta()), "prior must be a Gamma"),
        (lambda: best_proportion([Counts(1, 3, "a")]), "at least 2 groups"),
        (lambda: best_proportion([Counts([1, 2], 3, "a"), Counts(1, 3, "b")]), "not arrays"),
        (lambda: ar.measure.proportion(Counts(0, 0, "a")), "at least 1"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises(ar.AmberRulerError, match=says):
        call()
