"""Decisions: losses, the value of more data against enumeration and closed forms, and evidence as data come in."""

import math

import numpy as np
import pytest
from scipy import stats

import amber_ruler as ar
from amber_ruler import Counts, Pairs, Sample, Summary
from amber_ruler.bayes import (
    Cauchy,
    Reference,
    best_proportion,
    decide,
    evidence,
    means,
    pairs,
    proportion,
    proportions,
)
from amber_ruler.bayes.priors import Normal
from amber_ruler.bayes.unfolding import unfolding

SHARES = proportions(Counts(60, 400, "short"), Counts(52, 400, "current"))


@pytest.mark.parametrize("good", ["higher", "lower"])
def test_value_of_more_counts_by_enumeration(good):
    """All counts that may be seen, with their beta-binomial chances: the best mean after them, less today's."""
    r = proportions(Counts(60, 400, "short"), Counts(52, 400, "current"), good=good)
    d = decide(r)
    side = 1 if good == "higher" else -1
    for m in (10, 100):
        k = np.arange(m + 1)
        chance = [stats.betabinom.pmf(k, m, a, b) for a, b in ((61, 341), (53, 349))]
        after = [side * (a + k) / (402 + m) for a in (61, 53)]
        best = chance[0] @ np.maximum.outer(*after) @ chance[1] - max(side * 61 / 402, side * 53 / 402)
        found = d.sample_values[d.sizes == m][0]
        assert found == pytest.approx(best, rel=1e-3 if m == 10 else 1e-9)  # ten trials can hardly change the choice
    assert d.chosen == ("short" if good == "higher" else "current")
    assert np.all(np.diff(d.sample_values[d.sizes > 20]) > -1e-12)
    assert d.sample_values[-1] == pytest.approx(d.perfect_information, rel=0.01)


def test_value_of_more_data_about_means():
    """Closed form of two normals; with no end of data it comes to the loss of today's choice."""
    r = means(Summary(80, 5.5, 2.0, "short"), Summary(90, 5.3, 2.5, "current"), prior=Reference())
    d = decide(r, horizon=1e5, cost=0.1)
    own = r.evidence.posterior["difference"]
    m = d.sizes[40]
    spread = own.sd**2 / math.sqrt(own.sd**2 + (4 + 6.25) / m)
    expected = spread * stats.norm.pdf(own.mean / spread) - own.mean * stats.norm.sf(own.mean / spread)
    assert d.sample_values[40] == pytest.approx(expected, rel=1e-10)
    assert d.sample_values[-1] == pytest.approx(d.perfect_information, rel=0.02)
    assert d.net_values == pytest.approx(1e5 * d.sample_values - 0.2 * d.sizes)
    k = int(np.argmax(d.net_values))
    assert (d.best_n, d.net_values[k] > 0) == (int(d.sizes[k]), True)
    assert d.net_values[d.sizes >= d.stops_paying_at].max() <= 0
    assert decide(r, horizon=1, cost=5).best_n == 0
    endless = decide(r, horizon=1e5)
    assert endless.stops_paying_at is None
    assert "go on to pay" in endless.notes[0]


def test_losses_of_ones_own_and_of_many():
    """A linear loss by hand is the built-in one; a threshold below which nothing is lost costs less."""
    plain, own = decide(SHARES).losses, decide(SHARES, loss=lambda d: d).losses
    assert own == pytest.approx(plain, rel=2e-3)
    free = decide(SHARES, loss=lambda d: np.where(d > 0.01, d, 0.0)).losses
    assert all(free[label] < plain[label] for label in plain)
    family = best_proportion([Counts(60, 400, "short"), Counts(52, 390, "guided"), Counts(40, 400, "current")])
    d = decide(family)
    assert d.chosen == "short"
    assert d.losses["guided"] == family["guided"].evidence.expected_loss
    assert d.sizes.size == 0
    for result in (d, decide(SHARES, horizon=1e4, cost=0.01)):
        assert ar.Result.from_json(result.to_json()) == result
        assert "choose short" in str(result)
        assert result.plot() is not None
    assert len(decide(SHARES).to_frame()) == decide(SHARES).sizes.size


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: decide(evidence(1, 1, prior=Normal())), "needs a comparison"),
        (lambda: decide(ar.measure.means([1.0, 2, 3], [2.0, 3, 5])), "weighed by bayes"),
        (lambda: decide(SHARES, horizon=0), "horizon must be above 0"),
        (lambda: decide(SHARES, cost=-1), "cost must be at least 0"),
        (lambda: decide(SHARES, loss="quadratic"), "a function of differences"),
        (lambda: decide(SHARES, loss=lambda d: -d), "never below 0"),
        (lambda: decide(ar.Result.from_json(SHARES.to_json())), "read back"),
        (lambda: decide(means([1.0, 2, 9], [2.0, 3, 5], values="log-normal")), "no mean"),
    ],
)
def test_what_can_not_be_decided(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises(ar.InputError, match=says):
        call()


def test_evidence_as_the_data_come_in():
    """The last look is the whole answer, each other one that of so many values; numbers alone don't unfold."""
    rng = np.random.default_rng(6)
    one, two = Sample(rng.normal(0.4, 1, 60), "short"), Sample(rng.normal(0, 1, 50), "current")
    whole = means(one, two, prior=Cauchy(0.5))
    found = unfolding(whole, points=10)
    assert found.evidence.log_bayes_factor[-1] == pytest.approx(whole.evidence.log_bayes_factor, rel=1e-10)
    early = means(one.values[:5], two.values[:5], prior=Cauchy(0.5)).evidence.log_bayes_factor
    assert found.evidence.log_bayes_factor[0] == pytest.approx(early, rel=1e-9)
    assert found.axis.labels[0] == "10"
    assert found.trace.at[-1] == 110
    assert "over these data" in found.sentence()
    clicks = [Sample((rng.random(40) < p).astype(float), label) for p, label in ((0.5, "short"), (0.3, "current"))]
    counted = unfolding(proportions(*clicks), points=4)
    assert counted.evidence.log_bayes_factor[-1] == pytest.approx(
        proportions(*clicks).evidence.log_bayes_factor, rel=1e-12
    )
    single = unfolding(proportion(clicks[0], null=0.4), points=3)
    assert len(single.axis.labels) == 3
    both = pairs(Pairs(one.values[:50], two.values))
    assert unfolding(both, points=5).evidence.log_bayes_factor[-1] == pytest.approx(
        both.evidence.log_bayes_factor, rel=1e-9
    )
    with pytest.raises(ar.InputError, match="order in which they came"):
        unfolding(SHARES)
    with pytest.raises(ar.InputError, match="with a Bayes factor"):
        unfolding(means(one, two, prior=Reference()))
    with pytest.raises(ar.DataError, match="too few"):
        unfolding(means(one.values[:8], two), points=60)
