"""What every posterior is read from: panels, curves, lines and gaps, against distributions known in closed form."""

import math

import numpy as np
import pytest
from scipy import special, stats

from amber_ruler.bayes import Cauchy, HalfNormal, Normal, StudentT, Truncated, Uniform, curve
from amber_ruler.bayes.curve import Line
from amber_ruler.bayes.effect import raw, standardised
from amber_ruler.bayes.gap import Gap, Single
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import chance_between, log_t
from amber_ruler.numeric import student
from amber_ruler.numeric.stirling import log_divergence
from truth import mp


def rows_of(*known):
    """Posteriors of normal distributions, a row each."""
    mean, sd = (np.array(v, dtype=float) for v in zip(*known, strict=True))

    def log_density(x):
        return -0.5 * ((x - mean[:, None, None]) / sd[:, None, None]) ** 2

    return Posterior.of(log_density, [(mean + 3 * sd, 2 * sd)], cuts=[np.zeros(mean.size)], far=False)


NORMALS = [(0.0, 1.0), (5.0, 0.01), (-3e6, 1e3), (1e-9, 1e-10)]


def test_rows_of_normal_distributions():
    """Totals, moments, quantiles from either end, chances in far tails and shortest intervals, each row by itself."""
    found = rows_of(*NORMALS)
    mean, sd = (np.array(v) for v in zip(*NORMALS, strict=True))
    assert found.log_total == pytest.approx(np.log(sd * math.sqrt(2 * math.pi)), rel=1e-12)
    assert np.all(found.error < 1e-6)
    assert found.mass.sum(axis=(1, 2)) == pytest.approx(1, rel=1e-13)
    for told, known in zip(found.mean_and_sd(), (mean, sd), strict=True):
        assert told == pytest.approx(known, rel=1e-10)
    below, above = (1e-12, 0.025, 0.5), (1e-13, 0.3)
    expected = np.concatenate([special.ndtri(below), -special.ndtri(above)])
    assert (found.quantiles(below, above) - mean[:, None]) / sd[:, None] == pytest.approx(
        np.tile(expected, (4, 1)), rel=1e-8, abs=1e-9
    )
    low, high = found.densest(0.9)
    assert (low - mean) / sd == pytest.approx(-special.ndtri(0.95), rel=1e-6)
    assert (high - mean) / sd == pytest.approx(special.ndtri(0.95), rel=1e-6)
    chance = found.log_chance(-np.inf, 0.0)
    assert chance[0] == pytest.approx(math.log(0.5), rel=1e-12)
    assert chance[3] == pytest.approx(special.log_ndtr(-10.0), rel=1e-10)
    assert chance[1] < -100_000
    loss = found.log_mean_beyond(-1.0)
    assert loss[0] == pytest.approx(math.log(1 / math.sqrt(2 * math.pi)), rel=1e-12)
    tail = stats.norm.pdf(10) - 10 * stats.norm.sf(10)
    assert loss[3] == pytest.approx(math.log(1e-10 * tail), rel=1e-9)


def test_values_between_edges_and_rows_under_each_other():
    """Below, above and density at any value; stacked rows are the rows they were."""
    one, two = rows_of((0.0, 1.0)), rows_of((2.0, 0.5), (1.0, 3.0))
    x = np.array([[-2.0, -0.3, 0.0, 0.9, 4.0]])
    below, above, density = one.at(x)
    assert below == pytest.approx(special.ndtr(x), rel=1e-10)
    assert above == pytest.approx(special.ndtr(-x), rel=1e-8)
    assert density == pytest.approx(stats.norm.pdf(x), rel=1e-9)
    both = Posterior.stacked(one, two)
    assert both.quantiles((0.1,), (0.1,))[0] == pytest.approx(one.quantiles((0.1,), (0.1,))[0], rel=1e-13)
    assert np.array(both.densest(0.95))[:, 1:] == pytest.approx(np.array(two.densest(0.95)), rel=1e-9)


def test_shortest_intervals_of_lopsided_densities():
    """From an end on where the density falls from there; of a gamma one, equal densities at both ends."""
    falling = Posterior.of(lambda x: -x, [(np.ones(1), np.ones(1))], ends=(0.0, np.inf))
    assert np.ravel(falling.densest(0.8)) == pytest.approx([0, -math.log(0.2)], rel=1e-9, abs=1e-12)
    rising = Posterior.of(lambda x: x, [(np.full(1, -1.0), np.ones(1))], ends=(-np.inf, 0.0))
    assert np.ravel(rising.densest(0.8)) == pytest.approx([math.log(0.2), 0], rel=1e-9, abs=1e-12)
    gamma = Posterior.of(lambda x: 2 * np.log(x) - x, [(np.full(1, 2.0), np.ones(1))], ends=(1e-12, np.inf))
    low, high = np.ravel(gamma.densest(0.9))
    assert 2 * math.log(low) - low == pytest.approx(2 * math.log(high) - high, abs=1e-7)
    assert special.gammainc(3, high) - special.gammainc(3, low) == pytest.approx(0.9, rel=1e-9)


@pytest.mark.parametrize(("a", "b"), [(3.0, 7.0), (0.3, 40.0), (5e4, 2e3), (1.0, 1.0), (1e8, 3e8), (0.01, 0.02)])
def test_curves_of_shares(a, b):
    """Tails of beta distributions along log odds, quantiles and shortest intervals of the share itself."""
    known = curve.share(a, b)
    p = special.betaincinv(a, b, np.array([0.001, 0.2, 0.5, 0.9, 0.9999]))
    p = p[(p > 1e-300) & (p < 1 - 1e-12)]
    below, above = known.tails(special.logit(p) - known.origin)
    assert below == pytest.approx(special.betainc(a, b, p), rel=1e-8 if a + b > 1e7 else 1e-11)
    assert above == pytest.approx(special.betaincc(a, b, p), rel=1e-8 if a + b > 1e7 else 1e-10)
    one = Single(known)
    assert one.quantiles((0.025,), (0.2,))[0] == pytest.approx(
        special.betaincinv(a, b, np.array([0.025, 0.8])), rel=1e-8, abs=1e-300
    )
    low, high = (float(v[0]) for v in one.densest(0.95))
    if min(a, b) > 1:
        held = special.betainc(a, b, high) - special.betainc(a, b, low)
        assert held == pytest.approx(0.95, rel=1e-8 if a + b < 1e7 else 1e-6)
        ends = [(a - 1) * math.log(v) + (b - 1) * math.log1p(-v) for v in (low, high)]
        assert ends[0] == pytest.approx(ends[1], abs=1e-4)
    elif a <= 1 < b:
        assert (low, high) == pytest.approx((0, special.betaincinv(a, b, 0.95)), rel=1e-9)


@pytest.mark.parametrize(("a", "b"), [(3.0, 7.0), (0.2, 1e-6), (1e9, 4.0)])
def test_curves_of_rates(a, b):
    """Tails and quantiles of gamma distributions along the log."""
    known = curve.rate(a, b)
    x = special.gammaincinv(a, np.array([0.001, 0.4, 0.99])) / b
    below, above = known.tails(np.log(x) - known.origin)
    assert below == pytest.approx(special.gammainc(a, b * x), rel=1e-7 if a > 1e6 else 1e-10)
    assert above == pytest.approx(special.gammaincc(a, b * x), rel=1e-7 if a > 1e6 else 1e-10)
    assert Single(known).quantiles((0.3,))[0, 0] == pytest.approx(special.gammaincinv(a, 0.3) / b, rel=1e-9)


def test_curves_read_off_a_table_are_the_same():
    """Between nodes the log density is a polynomial; outside there is nothing."""
    known = curve.share(4.0, 9.0)
    told = known.tabulated()
    y = np.linspace(known.edges[0], known.edges[-1], 301)[1:-1]
    assert told.log_density(y) == pytest.approx(known.log_density(y), abs=1e-7)
    assert told.log_density(np.array([known.edges[-1] + 1]))[0] == -np.inf


def test_a_line_of_several_is_the_sum_over_all_orders():
    """Chances and losses of five shares agree with draws, either way round; curves count from one origin."""
    known = [(2.0, 3.0), (5.0, 5.0), (1.0, 1.0), (8.0, 6.0), (0.5, 2.0)]
    origin = curve.narrowest(*known)
    line = Line.of([curve.share(a, b, origin) for a, b in known])
    rng = np.random.default_rng(3)
    drawn = np.stack([rng.beta(a, b, 10**6) for a, b in known])
    for log_chance, picked in (
        (line.log_chance_highest(), drawn.argmax(axis=0)),
        (line.log_chance_lowest(), drawn.argmin(axis=0)),
    ):
        p = np.exp(log_chance)
        assert p.sum() == pytest.approx(1, rel=1e-13)
        seen = np.bincount(picked, minlength=5) / 1e6
        assert np.all(np.abs(seen - p) < 5 * np.sqrt(p * (1 - p) / 1e6))
    for lowest in (False, True):
        best = drawn.min(axis=0) if lowest else drawn.max(axis=0)
        loss = np.abs(drawn - best)
        told = np.exp(line.log_loss(lowest=lowest))
        assert np.all(np.abs(loss.mean(axis=1) - told) < 5 * loss.std(axis=1) / 1e3)
    with pytest.raises(ValueError, match="one origin"):
        Line.of([curve.share(2.0, 3.0), curve.share(5.0, 5.0)])


@pytest.mark.parametrize("join", ["difference", "log ratio", "log odds ratio"])
@pytest.mark.parametrize("betas", [((6.0, 34.0), (4.0, 36.0)), ((0.4, 9.0), (2.0, 0.7)), ((300.0, 2.0), (90.0, 5.0))])
def test_gaps_are_whole_and_their_densities_are_slopes(join, betas):
    """Below and above add up to 1 wherever; the density is how fast that moves; quantiles find their way back."""
    pair = curve.share(*betas[0], betas[0]), curve.share(*betas[1], betas[0])
    gap = Gap(pair, join, Line.of([*pair]).log_chance_highest(), lift=join == "log ratio")
    places = np.array([-1.5, -0.4, -0.03, 1e-4, 0.02, 0.3, 1.2]) * (0.5 if join == "difference" else 1.0)
    told = gap.point(places)
    assert np.exp(told.log_below) + np.exp(told.log_above) == pytest.approx(1, rel=1e-12)
    h = 1e-5
    near = [np.exp(gap.point(places + side * h).log_below) for side in (-1, 1)]
    assert (near[1] - near[0]) / (2 * h) == pytest.approx(np.exp(told.log_density), rel=1e-4, abs=1e-6)
    chances = (1e-9, 0.01, 0.5)
    back = gap.point(gap.places(chances, (0.01, 1e-9)))
    assert np.exp(back.log_below[:3]) == pytest.approx(chances, rel=1e-9)
    assert np.exp(back.log_above[3:]) == pytest.approx([0.01, 1e-9], rel=1e-9)
    turned = Gap(pair[::-1], join, Line.of([*pair[::-1]]).log_chance_highest())
    assert turned.places(chances) == pytest.approx(-gap.places((), chances), rel=1e-10)
    rng = np.random.default_rng(1)
    one, two = (rng.beta(*ab, 400_000) for ab in betas)
    drawn = {"difference": one - two, "log ratio": one / two - 1, "log odds ratio": one / (1 - one) * (1 - two) / two}[
        join
    ]
    low, high = (float(v[0]) for v in gap.densest(0.9))
    assert np.mean((drawn >= low) & (drawn <= high)) == pytest.approx(0.9, abs=3e-3)
    assert gap.chance_between(*gap.places((0.2,), (0.3,))) == pytest.approx(0.5, rel=1e-10)


@pytest.mark.parametrize(("t", "df"), [(0.0, 3.0), (2.5, 1.0), (-4.0, 12.0), (30.0, 80.0), (1.0, 1e6)])
def test_posterior_density_of_an_effect_is_prior_times_likelihood(t, df):
    """Ratios of the density at effects are those of the noncentral t density and the prior."""
    one = [np.array([v]) for v in (t, df, df / 4 + 1, 0.6)]
    found = standardised(*one, (), (-np.inf, np.inf))
    root = math.sqrt(df / 4 + 1)
    x = t / root + np.array([-2.0, -0.5, 0.0, 0.7, 1.5]) / root
    density = found.at(x[None, :])[2][0]
    expected = student.noncentral_pdf(t, df, x * root) / (1 + (x / 0.6) ** 2)
    assert density / density[2] == pytest.approx(expected / expected[2], rel=1e-7)
    own = raw(*one, (), (-np.inf, np.inf))
    assert own.chance(0.0, np.inf) == pytest.approx(found.chance(0.0, np.inf), rel=1e-9)


PRIORS = [
    Normal(1, 2), HalfNormal(2), HalfNormal(2, "below", 1), Uniform(-1, 4), StudentT(3, 2, 1), Cauchy(0.7, 0.2),
    Truncated(Normal(0, 2), 0.5), Truncated(Cauchy(1), -1, 4), Truncated(Uniform(0, 2), -5, 1.5),
]  # fmt: skip


@pytest.mark.parametrize("prior", PRIORS, ids=str)
def test_priors_have_a_mass_of_1_and_rescale(prior):
    """By quadrature; the scaled form has its numbers; several at once are each by itself."""
    row = Posterior.of(
        prior.reshaped((1,), 1, 1, 1).log_density,
        [tuple(np.array([float(v)]) for v in prior.about)],
        ends=prior.ends,
    )
    assert row.log_total[0] == pytest.approx(0, abs=1e-7)
    wider = prior.scaled(3.0)
    assert float(wider.scale_now) == 3.0
    assert prior.scaled(prior.scale_now) == prior
    many = prior.scaled(np.array([0.9, 3.0]))
    assert many.shape == (2,)
    x = np.array([0.3, 0.6])
    single = [float(prior.scaled(s).log_density(np.asarray(v))) for s, v in zip((0.9, 3.0), x, strict=True)]
    assert many.log_density(x) == pytest.approx(single, rel=1e-12)
    assert "0.9 to 3" in str(many)


def test_chances_of_priors_keep_their_digits_in_either_tail():
    """Mirrored where both ends are in the upper tail."""
    assert chance_between(Normal(0, 1), 30, 31) == pytest.approx(chance_between(Normal(0, 1), -31, -30), rel=1e-13)
    assert chance_between(Cauchy(1), 1e6, 1e7) == pytest.approx((1e-6 - 1e-7) / math.pi, rel=1e-9)
    assert chance_between(Uniform(0, 4), 3, 9) == 0.25
    assert chance_between(StudentT(5, 2, 1), -np.inf, 1) == pytest.approx(0.5)


@pytest.mark.parametrize("df", [1.0, 7.5, 1e7, 1e9, 1e12])
def test_log_of_students_density(df):
    """Against mpmath at any degrees of freedom."""
    with mp.workdps(40):
        v, x = mp.mpf(df), mp.mpf("2.5")
        expected = (
            mp.loggamma((v + 1) / 2) - mp.loggamma(v / 2) - mp.log(v * mp.pi) / 2 - (v + 1) / 2 * mp.log1p(x * x / v)
        )
    assert float(log_t(np.array(2.5), df)) == pytest.approx(float(expected), rel=1e-14)


@pytest.mark.parametrize(("x", "expected"), [(3.0, 3.0), (1e9, 1e9 + 10), (4.0, 1e-8), (1e-3, 5.0), (7.0, 6.5)])
def test_divergences_keep_their_digits(x, expected):
    """Where a number is close to what was expected of it, and where it is far from that."""
    with mp.workdps(40):
        a, b = mp.mpf(x), mp.mpf(expected)
        true = float(a * mp.log(a / b) - (a - b))
    assert log_divergence(x, expected) == pytest.approx(true, rel=1e-12, abs=1e-15)
