"""Means: Bayes factors and posteriors against high-precision integrals, closed forms, simulation and laws."""

import math

import numpy as np
import pytest
from scipy import special

import amber_ruler as ar
import truth
from amber_ruler import Pairs, Summary
from amber_ruler.bayes import (
    Cauchy,
    Normal,
    NormalInverseGamma,
    Reference,
    log_bayes_factor,
    mean,
    means,
    pairs,
    prior_from,
)
from amber_ruler.bayes.effect import log_factor
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
        (1000, 4, 1.5, 0.7),
        (3, 1, 1, 1.0),
        (0, 1, 0.6, 0.001),
        (5, 20, 10, 1e-4),
        (0, 3, 1e6, 100.0),
    ],
)
def test_bayes_factor_agrees_with_quadrature(case):
    """To 1e-8 and better, for small and large evidence either way, narrow and wide priors."""
    found = log_factor(*case)
    assert float(mp.exp(float(found.log)) / truth.bayes_factor(*case)) == pytest.approx(1, abs=1e-10)
    assert float(found.error) < 1e-6


def test_factors_beyond_floats_stay_on_the_log_scale():
    """A t of 1,000 with ten million units: the log agrees with its own expansion, the factor stays finite."""
    found = float(log_factor(1000.0, 1e7, 2.5e6, 0.7).log)
    # With so many units the likelihood is normal around 1000 / root N, and the prior flat over it.
    effect, df = 1000 / math.sqrt(2.5e6), 1e7
    prior = math.log(0.7 / (math.pi * (0.49 + effect**2)))
    peak = 0.5 * (df + 1) * math.log1p(1e6 / df) - 0.5 * math.log(2.5e6) + 0.5 * math.log(2 * math.pi)
    assert found == pytest.approx(peak + prior, abs=0.06)
    r = means(Summary(5e6, 1.0, 1.5811388, "a"), Summary(5e6, 0.0, 1.5811388, "b"), prior=Cauchy(0.7))
    assert math.isfinite(r.evidence.bayes_factor)
    assert r.evidence.log_bayes_factor == pytest.approx(found, rel=1e-3)
    assert r.evidence.log_chance_worse < -1e5
    assert r.evidence.chance_worse == 0.0


@pytest.mark.parametrize(("t", "n1", "n0", "scale"), [(2.2, 5, 6, 0.7), (-0.8, 2, 2, 0.2), (3.5, 60, 40, 1.0)])
def test_posterior_of_the_raw_effect_by_quadrature(t, n1, n0, scale):
    """Limits, chances, mean and losses: the joint density of effect and spread, summed over a grid of both."""
    n, df = n1 * n0 / (n1 + n0), n1 + n0 - 2
    difference = t / math.sqrt(n)
    r = means(Summary(n1, difference, 1.0, "a"), Summary(n0, 0.0, 1.0, "b"), prior=Cauchy(scale), margin=0.25)
    log_s = np.linspace(-0.5 - 9 / math.sqrt(df), 0.5 + 40 / df, 1200)[:, None]  # of the spread, evenly
    z = np.unique(
        np.concatenate([s * np.sinh(np.linspace(0, 14, 2500)) * 1e-4 + c for c in (0, difference) for s in (1, -1)])
    )
    limits = {"low": r.interval.low, "mid": r.estimate, "high": r.interval.high}
    z = np.unique(np.concatenate([z, [0.0, 0.25, -0.25, *limits.values()]]))
    spread = np.exp(log_s)
    fit = n * (difference - z) ** 2 + df
    joint = -(df + 1) * log_s - fit / (2 * spread**2) + np.log(spread) - np.log(z * z + (scale * spread) ** 2)
    density = np.exp(joint - joint.max()).sum(axis=0)
    chance = np.concatenate([[0.0], np.cumsum((density[1:] + density[:-1]) / 2 * np.diff(z))])
    below = lambda at: np.interp(at, z, chance) / chance[-1]  # noqa: E731
    for name, expected in (("low", 0.025), ("mid", 0.5), ("high", 0.975)):
        assert below(limits[name]) == pytest.approx(expected, abs=2e-5)
    assert r.evidence.chance_worse == pytest.approx(below(0.0), rel=1e-4)
    assert r.evidence.chance_within == pytest.approx(below(0.25) - below(-0.25), rel=1e-4)
    if df > 2:
        own = r.evidence.posterior["difference"]
        first = np.sum((density[1:] * z[1:] + density[:-1] * z[:-1]) / 2 * np.diff(z)) / chance[-1]
        assert own.mean == pytest.approx(first, rel=1e-4)
        assert r.evidence.control_loss - r.evidence.expected_loss == pytest.approx(own.mean, rel=1e-9)


def test_posterior_of_the_standardised_effect_by_simulation():
    """Half a million effects drawn from the prior and weighed by the noncentral t density, written out anew."""
    t, n, scale = 2.4, 25, 0.7
    r = mean(Summary(n, t / math.sqrt(n), 1.0, "a"), prior=Cauchy(scale))
    node, weight = np.polynomial.legendre.leggauss(200)
    s = 1.0 + 0.9 * node[:, None]
    spread = s ** (n - 1) * np.exp(-(n - 1) * (s * s - 1) / 2)
    effect = np.linspace(-1.2, 2.0, 6401)
    likelihood = weight @ (spread * np.exp(-((t * s - effect * math.sqrt(n)) ** 2) / 2))
    density = likelihood / (1 + (effect / scale) ** 2)
    chance = np.concatenate([[0.0], np.cumsum((density[1:] + density[:-1]) / 2)])
    low, median, high = np.interp([0.025, 0.5, 0.975], chance / chance[-1], effect)
    own = r.evidence.posterior["standardised"]
    assert (own.interval.low, own.median, own.interval.high) == pytest.approx((low, median, high), abs=1e-6)
    assert own.mean == pytest.approx(density @ effect / density.sum(), abs=1e-6)
    below = np.interp([own.densest.low, own.densest.high], effect, chance / chance[-1])
    assert np.diff(below)[0] == pytest.approx(0.95, abs=1e-6)
    ends = np.interp([own.densest.low, own.densest.high], effect, density)
    assert ends[0] == pytest.approx(ends[1], rel=1e-4)
    assert r.evidence.chance_worse == pytest.approx(np.interp(0.0, effect, chance / chance[-1]), rel=1e-4)


ARMS = Summary(30, 1.0, 2.0, "a"), Summary(20, 0.2, 1.5, "b")


def test_directional_factors_average_to_the_two_sided_one():
    """Asked for one direction the factor is that of the cut prior, and the posterior lies on that side only."""
    both = means(*ARMS, prior=Cauchy(0.5)).evidence
    above, below = (means(*ARMS, prior=Cauchy(0.5), alternative=side) for side in ("greater", "less"))
    assert np.mean([above.evidence.bayes_factor, below.evidence.bayes_factor]) == pytest.approx(
        both.bayes_factor, rel=1e-12
    )
    assert above.evidence.log_bayes_factor == pytest.approx(both.log_factor_above, rel=1e-12)
    assert below.evidence.log_bayes_factor == pytest.approx(both.log_factor_below, rel=1e-12)
    assert above.interval.low > 0 > below.interval.high
    assert (above.evidence.chance_better, below.evidence.chance_worse) == pytest.approx((1, 1), rel=1e-13)
    assert below.evidence.posterior["difference"].densest.high == 0  # its density falls from 0 on
    assert "above 0 only" in str(above)


def test_odds_make_chances_of_every_hypothesis():
    """The null among them; all add up to 1, whatever the odds; both directions of the factor multiply to 1."""
    part = means(*ARMS, prior=Cauchy(0.5), margin=0.3, odds=0.25).evidence
    assert part.bayes_factor * part.factor_for_none == pytest.approx(1, rel=1e-14)
    for odds in (1e-6, 0.25, 1, 40, 1e9):
        found = part.at_odds(odds)
        assert found.none + found.better + found.worse == pytest.approx(1, rel=1e-13)
        assert found.none == pytest.approx(1 / (1 + odds * part.bayes_factor), rel=1e-12)
        assert found.none < found.within < 1
    assert part.overall.none == part.chance_none == part.at_odds(0.25).none
    with pytest.raises(ar.InputError, match="above 0"):
        part.at_odds(0)


def test_the_spread_as_it_was_seen_only_rescales():
    """Plugged in, the raw effect is the standardised one times the pooled spread; unknown, it is a little wider."""
    seen, unknown = (means(*ARMS, spread=kind) for kind in ("seen", "unknown"))
    sd = seen.facts["pooled_sd"]
    own = seen.evidence.posterior
    assert own["difference"].densest.high == pytest.approx(sd * own["standardised"].densest.high, rel=1e-12)
    assert seen.evidence.bayes_factor == unknown.evidence.bayes_factor
    assert seen.evidence.chance_better == pytest.approx(unknown.evidence.chance_better, rel=1e-11)
    assert unknown.evidence.posterior["difference"].sd != pytest.approx(own["difference"].sd, rel=1e-6)


def test_other_nulls_shift_and_one_mean_and_pairs_are_the_same_model():
    """A null moves everything by itself; pairs are one mean of their differences."""
    here, there = means(*ARMS), means(Summary(30, 3.5, 2.0, "a"), ARMS[1], null=2.5)
    assert there.estimate == pytest.approx(here.estimate + 2.5, rel=1e-11)
    assert there.evidence.log_bayes_factor == pytest.approx(here.evidence.log_bayes_factor, rel=1e-12)
    rng = np.random.default_rng(4)
    one, two = rng.normal(5, 2, 24), rng.normal(4.4, 2, 24)
    paired, single = pairs(Pairs(one, two, ("after", "before")), margin=0.1), mean(one - two, margin=0.1)
    assert paired.evidence.bayes_factor == pytest.approx(single.evidence.bayes_factor, rel=1e-12)
    assert paired.interval.low == pytest.approx(single.interval.low, rel=1e-10)
    assert paired.evidence.chance_within == pytest.approx(single.evidence.chance_within, rel=1e-10)
    t = (one - two).mean() / (one - two).std(ddof=1) * math.sqrt(24)
    assert log_bayes_factor(t, 24) == pytest.approx(single.evidence.log_bayes_factor, rel=1e-11)
    moved = mean(one, null=4.0)
    assert moved.null == 4.0
    assert moved.interval.low < moved.estimate < one.mean()


def test_thousands_at_once_are_the_single_ones():
    """In blocks, over arrays of groups and of prior scales alike."""
    rng = np.random.default_rng(3)
    n = 90
    shift = rng.normal(size=n)
    many = means(Summary(np.arange(10, 10 + n), shift, 1.3, "a"), Summary(20, 0.0, 1.1, "b"), margin=0.2)
    for k in (0, 31, 32, 89):
        one = means(Summary(10 + k, float(shift[k]), 1.3, "a"), Summary(20, 0.0, 1.1, "b"), margin=0.2)
        for name in ("log_bayes_factor", "chance_better", "chance_within", "expected_loss", "log_factor_below"):
            assert getattr(many.evidence, name)[k] == pytest.approx(getattr(one.evidence, name), rel=1e-9), name
        assert many.interval.high[k] == pytest.approx(one.interval.high, rel=1e-9)
        assert many.evidence.posterior["standardised"].densest.low[k] == pytest.approx(
            one.evidence.posterior["standardised"].densest.low, rel=1e-6
        )
    scales = np.array([0.05, 0.3, 2.0])
    curve = means(*ARMS, prior=Cauchy(scales), margin=0.2)
    for k, scale in enumerate(scales):
        one = means(*ARMS, prior=Cauchy(scale), margin=0.2)
        assert curve.evidence.log_bayes_factor[k] == pytest.approx(one.evidence.log_bayes_factor, rel=1e-12)
        assert curve.estimate[k] == pytest.approx(one.estimate, rel=1e-10)
        assert curve.evidence.chance_within[k] == pytest.approx(one.evidence.chance_within, rel=1e-9)
    t = rng.normal(size=5) * 3
    assert log_bayes_factor(t, 30, 20, scale=0.5) == pytest.approx([log_bayes_factor(v, 30, 20, scale=0.5) for v in t])


def test_with_much_data_the_posterior_is_the_classical_interval():
    """And good="lower" mirrors the chances."""
    one, two = Summary(40_000, 10.05, 2.0, "short"), Summary(50_000, 10.0, 2.0, "current")
    r = means(one, two)
    classical = ar.measure.means(one, two, variances="equal")
    assert (r.interval.low, r.interval.high) == pytest.approx(
        (classical.interval.low, classical.interval.high), abs=0.02 * classical.se
    )
    lower = means(one, two, good="lower")
    assert lower.evidence.chance_better == pytest.approx(1 - r.evidence.chance_better, abs=1e-12)
    assert means(two, one).evidence.expected_loss == pytest.approx(lower.evidence.expected_loss, rel=1e-9)


def test_reference_prior_is_the_behrens_fisher_distribution():
    """Against two million draws; one mean is Student's; a far tail agrees with an integral; no SD of 3 values."""
    one, two = Summary(6, 1.0, 0.7348, "a"), Summary(4, 0.2, 1.0, "b")
    r = means(one, two, prior=Reference(), margin=0.3)
    rng = np.random.default_rng(1)
    a, b = (g.mean + g.sd / math.sqrt(g.n) * rng.standard_t(g.n - 1, 2 * 10**6) for g in (one, two))
    gap = a - b
    for limit, chance in ((r.interval.low, 0.025), (r.interval.high, 0.975), (0.0, r.evidence.chance_worse)):
        assert abs(np.mean(gap <= limit) - chance) < 5 * math.sqrt(chance * (1 - chance) / 2e6)
    loss = np.maximum(-gap, 0)
    assert r.evidence.expected_loss == pytest.approx(loss.mean(), abs=5 * loss.std() / math.sqrt(2e6))
    assert r.evidence.chance_within == pytest.approx(np.mean(np.abs(gap) < 0.3), abs=2e-3)
    assert r.evidence.bayes_factor is None
    assert "no\n" in str(r) or "no Bayes factor" in " ".join(str(r).split())
    single = mean(Summary(12, 3.0, 2.0, "a"), prior=Reference(), null=2.0)
    assert single.interval.high == pytest.approx(3.0 + special.stdtrit(11, 0.975) * 2 / math.sqrt(12), rel=1e-10)
    assert single.evidence.chance_better == pytest.approx(special.stdtr(11, math.sqrt(12) / 2), rel=1e-12)
    far = means(Summary(6, 30.0, 0.3 * math.sqrt(6), "a"), Summary(16, 0.2, 2.0, "b"), prior=Reference()).evidence
    x = np.sinh(np.linspace(-11, 11, 400_001)) * 0.02
    x = np.sort(np.concatenate([x, 30 + x]))
    t5 = 8 / (3 * math.sqrt(5) * math.pi) * (1 + ((x - 30) / 0.3) ** 2 / 5) ** -3 / 0.3
    g = t5 * special.stdtr(15, -(x - 0.2) / 0.5)
    assert far.chance_worse == pytest.approx(np.sum((g[1:] + g[:-1]) / 2 * np.diff(x)), rel=1e-5)
    few = means(Summary(3, 1.0, 1.0, "a"), Summary(9, 0.0, 1.0, "b"), prior=Reference()).evidence
    assert few.posterior["difference"].sd is None
    assert few.posterior["difference"].mean == pytest.approx(1.0)
    two_values = means(Summary(2, 1.0, 1.0, "a"), Summary(9, 0.0, 1.0, "b"), prior=Reference()).evidence
    assert two_values.posterior["difference"].mean is None
    assert two_values.expected_loss is None


def test_conjugate_prior_learns_in_batches():
    """Two batches one after the other are all at once; with next to no weight it is nearly the reference prior."""
    rng = np.random.default_rng(8)
    x = rng.normal(3, 2, 40)
    whole = mean(x, prior=NormalInverseGamma(1.0, 2.0, 3.0, 4.0))
    n, centre = 15, x[:15].mean()
    weight, scale = 2.0 + n, 4.0 + x[:15].var() * n / 2 + 2.0 * n / (2.0 + n) * (centre - 1.0) ** 2 / 2
    then = NormalInverseGamma((2.0 * 1.0 + n * centre) / weight, weight, 3.0 + n / 2, scale)
    later = mean(x[15:], prior=then)
    assert (later.estimate, later.interval.low) == pytest.approx((whole.estimate, whole.interval.low), rel=1e-12)
    vague = means(x, x[:20] + 1, prior=NormalInverseGamma(0.0, 1e-9, 1e-9, 1e-9))
    nothing = means(x, x[:20] + 1, prior=Reference())
    assert vague.estimate == pytest.approx(nothing.estimate, rel=1e-6)


def test_log_normal_values_with_zeros_or_without():
    """Against a million draws of mu and s^2; a heavy tail has no mean, so neither mean nor loss is told."""
    rng = np.random.default_rng(5)
    one, two = np.exp(rng.normal(2.1, 0.8, 40)), np.exp(rng.normal(2.0, 0.9, 25))

    def drawn(values):
        logs = np.log(values)
        s2 = (logs.size - 1) * logs.var(ddof=1) / rng.chisquare(logs.size - 1, 10**6)
        return np.exp(logs.mean() + s2 / 2 + np.sqrt(s2 / logs.size) * rng.normal(size=10**6))

    zeros = np.zeros(60)
    cases = (
        ("log-normal", one, two, drawn(one), drawn(two)),
        (
            "zeros and log-normal",
            np.append(one, zeros),
            np.append(two, zeros),
            drawn(one) * rng.beta(41, 61, 10**6),
            drawn(two) * rng.beta(26, 61, 10**6),
        ),
    )
    for kind, a, b, mean1, mean0 in cases:
        r = means(a, b, values=kind)
        assert abs(np.mean(mean1 > mean0) - r.evidence.chance_better) < 0.0025
        lift, gap = r.evidence.posterior["lift"], r.evidence.posterior["difference"]
        for found, values in ((lift, mean1 / mean0 - 1), (gap, mean1 - mean0)):
            for limit, chance in ((found.interval.low, 0.025), (found.median, 0.5), (found.interval.high, 0.975)):
                assert abs(np.mean(values <= limit) - chance) < 5 * math.sqrt(chance * (1 - chance) / 1e6)
        assert gap.mean is gap.sd is r.evidence.expected_loss is None
        assert "no posterior mean" in str(r).replace("\n    ", " ")


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: Cauchy(0), "scale must be above 0"),
        (lambda: means(*ARMS, prior=Cauchy(1, 2)), "around 0"),
        (lambda: means(*ARMS, prior=Normal(0, 1)), "prior must be a Cauchy"),
        (lambda: means(*ARMS, prior=Reference(), odds=1), "gives no Bayes factor"),
        (lambda: means(*ARMS, prior=Reference(), alternative="greater"), "is for a Bayes factor"),
        (lambda: means(*ARMS, prior=Reference(), spread="seen"), "goes with a Cauchy"),
        (lambda: means(*ARMS, values="log-normal"), "one by one"),
        (lambda: means([1.0, 2, 3], [0.0, 2, 3], values="log-normal"), "1 that do not"),
        (lambda: means([1.0, 2, 3], [-1.0, 2, 3], values="zeros and log-normal"), "below 0"),
        (lambda: means([1.0, 2, 3], [1.0, 2, 4], values="log-normal", prior=Cauchy(1)), "the reference prior"),
        (lambda: means([1.0, 2, 3], [1.0, 2, 4], values="log-normal", null=1), "null must be 0"),
        (lambda: means(Summary(1, 0, 1, "a"), ARMS[1]), "at least 2"),
        (lambda: means(Summary(5, 0, 0, "a"), Summary(5, 1, 0, "b")), "without any spread"),
        (lambda: means(*ARMS, odds=-1), "odds must be above 0"),
        (lambda: means(*ARMS, prior="cauchy 1"), "prior must be"),
        (lambda: log_bayes_factor(1.0, 1, 1), "at least 3 units"),
        (lambda: log_bayes_factor(1.0, 1), "n must be at least 2"),
        (lambda: NormalInverseGamma(0, 1, 0, 1), "shape must be above 0"),
        (lambda: prior_from(mean(Summary(5, 0, 1, "a"))), "result of shrink"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises(ar.AmberRulerError, match=says):
        call()


def test_output_says_prior_chance_and_evidence():
    """The text names the prior; certainty is never claimed; evidence is said both ways."""
    text = str(means(Summary(80, 9.5, 2.0, "short"), Summary(80, 4.5, 2.0, "current"), odds=1, margin=0.1))
    assert "Cauchy, scale 1" in text
    assert "over 99.99%" in text
    assert "times likelier under a difference than under none" in " ".join(text.split())
    assert "extreme, for a difference" in text
    assert "with prior odds of 1.00: no difference" in text
    weak = means(Summary(800, 1.0, 1.0, "a"), Summary(800, 1.0, 1.0, "b"))
    assert "likelier under no difference" in weak.sentence()
