"""What holds at every moment: mixtures as integrals in mpmath, bets as their author's loop, laws, and long runs."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import Counts, InputError, Summary
from amber_ruler.adjust import cuped
from amber_ruler.measure import means
from amber_ruler.sequential import (
    anytime,
    anytime_mean,
    anytime_share,
    anytime_shares,
    anytime_split,
    stopping_by_evidence,
)
from truth import mp


def mixture(d, v, tau, *, sides=2):
    """E-value of an estimate d with variance v: the likelihood averaged over effects, over that of none."""
    d, v, tau = mp.mpf(d), mp.mpf(v), mp.mpf(tau)

    def inside(theta):
        return mp.npdf(theta, 0, tau) * mp.exp(d * theta / v - theta**2 / (2 * v))

    centre, width = d * tau**2 / (v + tau**2), mp.sqrt(v * tau**2 / (v + tau**2))
    ends = [centre + k * width for k in range(-14, 15, 2)]
    if sides == 1:
        return 2 * mp.quad(inside, [mp.mpf(0), *[e for e in ends if e > 0]]) if ends[-1] > 0 else mp.mpf(0)
    return mp.quad(inside, ends)


@pytest.mark.parametrize("d", [0.2, 1.1, -0.8, 6.0])
@pytest.mark.parametrize("tau", [0.3, 2.0])
def test_the_normal_mixture_is_its_integral(d, tau):
    """Two-sided and one-sided, by quadrature; the limits are where it reaches 1/alpha."""
    se = 0.5
    for sides, alternative in ((2, "two-sided"), (1, "greater"), (1, "less")):
        towards = -d if alternative == "less" else d
        r = anytime((d, se), tau=tau, alternative=alternative)
        e = mixture(towards, se**2, tau, sides=sides)
        assert float(mp.exp(mp.mpf(r.anytime.log_e)) / e) == pytest.approx(1, rel=1e-9)
        assert r.p_value == pytest.approx(min(1.0, float(1 / e)), rel=1e-9)
        end = r.interval.high if alternative == "less" else r.interval.low
        away = end - d if alternative == "less" else d - end
        assert float(mixture(away, se**2, tau, sides=sides)) == pytest.approx(20, rel=1e-8)
        assert (r.p_value < 0.05) == (not r.interval.contains(0.0))
    closed = anytime((d, se), tau=tau, alternative="greater", sequence="asymptotic")
    exact = anytime((d, se), tau=tau, alternative="greater")
    assert closed.interval.low < exact.interval.low
    x = tau**2 / se**2
    reach = se * np.sqrt(2 * (1 + 1 / x) * np.log(1 + np.sqrt(1 + x) / 0.1))
    assert closed.interval.low == pytest.approx(d - reach, rel=1e-12)
    assert (closed.p_value < 0.05) == (closed.interval.low > 0)


@pytest.mark.parametrize("alternative", ["two-sided", "greater"])
@pytest.mark.parametrize("alpha", [1e-6, 0.05, 0.4])
def test_tuning_makes_it_narrowest_at_the_number_asked_for(alternative, alpha):
    """No tau gives a narrower interval there; the price is told against a single look."""
    n, se = 8000, 0.4
    r = anytime((1.0, se), tuned_for=n, units=n, alpha=alpha, alternative=alternative)
    others = [
        anytime((1.0, se), tau=float(tau), alpha=alpha, alternative=alternative).interval.low
        for tau in se * np.geomspace(0.3, 30, 400)
    ]
    assert r.interval.low >= max(others) - 1e-9
    assert max(others) == pytest.approx(r.interval.low, rel=1e-3)
    from scipy import stats

    z = stats.norm.isf(alpha / (2 if alternative == "two-sided" else 1))
    assert r.anytime.wider == pytest.approx((1.0 - r.interval.low) / se / z, rel=1e-10)


def test_running_intervals_and_every_door():
    """Smallest p and common interval so far; groups, moments, comparisons, sharpened ones; many metrics at once."""
    n, rng = np.arange(1, 61) * 50, np.random.default_rng(6)
    mean = 1 + rng.normal(0, 0.2, (5, 60))
    one, two = Summary(n, mean, 2.0, "a"), Summary(n, 0.7, 2.0, "b")
    many = anytime(one, two, tuned_for=4000)
    assert many.estimate.shape == (5, 60)
    assert np.all(np.diff(many.p_value, axis=1) <= 0)
    assert np.all(np.diff(many.interval.low, axis=1) >= 0)
    assert ((many.p_value < 0.05) == ~many.interval.contains(0.0)).all()
    row = anytime(Summary(n, mean[3], 2.0, "a"), two, tuned_for=4000)
    assert row.p_value == pytest.approx(many.p_value[3], rel=1e-12)
    each = [
        means(Summary(int(k), float(m), 2.0, "a"), Summary(int(k), 0.7, 2.0, "b"))
        for k, m in zip(n, mean[3], strict=True)
    ]
    assert anytime(each, tuned_for=4000).interval.low == pytest.approx(row.interval.low, rel=1e-12)
    assert ar.Result.from_json(row.to_json()) == row
    assert len(row.to_frame()) == 60
    assert row.plot().get_xlabel() == "moment"
    assert "however often" in row.sentence()
    moved = anytime((np.array([3.0, -3.0]), np.array([0.1, 0.1])), tau=1.0)
    assert moved.anytime.empty.tolist() == [False, True]
    assert not moved.interval.contains(0.0)[1]
    assert "no point in common" in str(moved)
    shares = anytime(Counts([54, 540], [100, 1000], "a"), Counts([46, 460], [100, 1000], "b"), tau=0.1)
    assert shares.se[1] == pytest.approx(np.sqrt(0.54 * 0.46 / 1000 + 0.46 * 0.54 / 1000))
    trips = ar.table(ar.demo.path("travellers")).records(["fare", "prior_spend"], by="form")
    sharp = cuped(trips["short"], trips["current"], value="fare", covariate="prior_spend")
    r = anytime(sharp, tuned_for=8000)
    assert r.estimate == sharp.estimate
    assert "holds however often" in r.sentence()


@pytest.mark.parametrize(("s", "n"), [(0, 7), (3, 9), (60, 100), (40, 40), (3000, 1_000_000)])
def test_one_share_is_its_beta_binomial_integral(s, n):
    """Mixed over Beta(2, 3) and, one-sided, over its part beyond the share; limits reach 1/alpha."""
    a, b = 2.0, 3.0

    def ratio(p, low=0, high=1):
        p, peak = mp.mpf(p), mp.mpf(s + a - 1) / (n + a + b - 2)
        top = (s + a - 1) * mp.log(peak) + (n - s + b - 1) * mp.log(1 - peak) if 0 < peak < 1 else mp.mpf(0)
        width = mp.sqrt(peak * (1 - peak) / n) + mp.mpf(1) / n
        ends = sorted({mp.mpf(low), mp.mpf(high), *[min(max(peak + k * width, low), high) for k in range(-12, 13, 3)]})
        mixed = mp.quad(lambda q: mp.exp((s + a - 1) * mp.log(q) + (n - s + b - 1) * mp.log(1 - q) - top), ends)
        whole = mp.betainc(a, b, low, high)
        return mixed / whole * mp.exp(top - s * mp.log(p) - (n - s) * mp.log(1 - p))

    r = anytime_share(Counts(s, n, "x"), prior=(a, b), null=0.4)
    assert r.anytime.log_e == pytest.approx(float(mp.log(ratio(0.4))), rel=1e-9, abs=1e-9)
    for end in (r.interval.low, r.interval.high):
        if 0 < end < 1:
            assert float(ratio(end)) == pytest.approx(20, rel=1e-6)
    up = anytime_share(Counts(s, n, "x"), prior=(a, b), null=0.4, alternative="greater")
    if n < 200:
        assert up.anytime.log_e == pytest.approx(float(mp.log(ratio(0.4, low=0.4))), rel=1e-8, abs=1e-8)
        if up.interval.low > 0:
            assert float(ratio(up.interval.low, low=up.interval.low)) == pytest.approx(20, rel=1e-6)
    mirror = anytime_share(Counts(n - s, n, "x"), prior=(b, a), null=0.6, alternative="less")
    assert 1 - mirror.interval.high == pytest.approx(up.interval.low, rel=1e-9, abs=1e-12)
    assert (r.p_value < 0.05) == (not r.interval.contains(0.4))


def test_two_shares_decide_as_their_interval():
    """Exactly where the interval leaves out the null p < alpha, at random; one by one equals all at once."""
    rng = np.random.default_rng(5)
    n = rng.integers(5, 400, 200)
    s1, s0 = rng.binomial(n, 0.6), rng.binomial(n, 0.35)
    for null in (0.0, 0.1, -0.2):
        r = anytime_shares(Counts(s1, n, "a"), Counts(s0, n, "b"), null=null)
        now = r.anytime.now
        outside = (now.low > null) | (now.high < null)
        near = np.abs(np.asarray(r.anytime.p_now) - 0.05) < 1e-9
        assert (((r.anytime.p_now < 0.05) == outside) | near).all()
    single = anytime_shares(Counts(int(s1[3]), int(n[3]), "a"), Counts(int(s0[3]), int(n[3]), "b"), null=-0.2)
    assert single.interval.low == pytest.approx(now.low[3], rel=1e-12)
    each = [anytime_share(Counts(int(k[3]), int(n[3]), "x"), alpha=0.025).interval for k in (s1, s0)]
    assert single.interval.low == pytest.approx(each[0].low - each[1].high, rel=1e-12)
    assert anytime_shares(Counts(0, 5, "a"), Counts(0, 5, "b")).p_value == 1.0
    assert ar.Result.from_json(single.to_json()) == single


def test_bets_are_those_of_the_paper():
    """A plain loop over units and means gives the same limits; whatever the bounds' scale."""
    x = np.random.default_rng(3).beta(1, 3, 150)
    alpha, grid = 0.1, np.linspace(0.001, 0.999, 999)
    gain, loss, out = np.ones(999), np.ones(999), np.zeros(999, bool)
    total, squares = 0.5, 0.25
    variance = 0.25
    for t, value in enumerate(x, start=1):
        bet = np.sqrt(2 * np.log(2 / alpha) / (variance * t * np.log(t + 1)))
        gain *= 1 + np.minimum(bet, 0.5 / grid) * (value - grid)
        loss *= 1 - np.minimum(bet, 0.5 / (1 - grid)) * (value - grid)
        out |= np.maximum(gain, loss) / 2 >= 1 / alpha
        total += value
        squares += (value - total / (t + 1)) ** 2
        variance = squares / (t + 1)
    r = anytime_mean(x, at=[20, 150], alpha=alpha)
    kept = grid[~out]
    assert abs(r.interval.low[-1] - kept[0]) < 0.0011
    assert abs(r.interval.high[-1] - kept[-1]) < 0.0011
    assert anytime_mean(x).plot().get_xscale() == "log"
    scaled = anytime_mean(10 + 40 * x, at=[20, 150], alpha=alpha, bounds=(10, 50))
    assert scaled.interval.low == pytest.approx(10 + 40 * r.interval.low, rel=1e-9)
    assert ((r.p_value < alpha) == ~r.interval.contains(0.5)).all()
    assert anytime_mean(x).interval.low[-1] == pytest.approx(anytime_mean(x, at=[150]).interval.low[-1], rel=1e-12)


def test_errors_over_ten_thousand_looks():
    """240 paths of 10,000 units without an effect, looked at after each: the error stays below alpha."""
    rng, alpha = np.random.default_rng(7), 0.05
    n = np.arange(1, 10_001)
    wrong = {"normal": 0, "greater": 0, "share": 0, "split": 0}
    runs = 240
    for _ in range(runs):
        mean = np.cumsum(rng.normal(size=10_000)) / n
        wrong["normal"] += anytime((mean, 1 / np.sqrt(n)), tau=0.1).p_value[-1] < alpha
        wrong["greater"] += anytime((mean, 1 / np.sqrt(n)), tau=0.1, alternative="greater").p_value[-1] < alpha
        s = np.cumsum(rng.random(10_000) < 0.3)
        wrong["share"] += anytime_share(Counts(s[::50], n[::50], "x"), null=0.3).p_value[-1] < alpha
        wrong["split"] += anytime_split({"a": s, "b": n - s}, planned={"a": 3, "b": 7}, alpha=alpha).p_value[-1] < alpha
    for name, count in wrong.items():
        assert count / runs < alpha + 3 * np.sqrt(alpha * (1 - alpha) / runs), name
    assert wrong["normal"] > 1  # it is no test that never rejects


def test_the_split_watched():
    """The e-value by gamma functions in mpmath; found wrong when it is, and said."""
    seen = {"a": [10, 530], "b": [12, 440], "c": [9, 30]}
    r = anytime_split(seen, planned={"a": 5, "b": 4, "c": 1})
    for k in range(2):
        counts = [v[k] for v in seen.values()]
        a = [mp.mpf(3) * w / 10 for w in (5, 4, 1)]
        e = mp.gamma(3) / mp.gamma(3 + sum(counts))
        for ai, ni, wi in zip(a, counts, (5, 4, 1), strict=True):
            e *= mp.gamma(ai + ni) / mp.gamma(ai) / (mp.mpf(wi) / 10) ** ni
        assert r.log_e[k] == pytest.approx(float(mp.log(e)), rel=1e-9)
    assert not r.sound
    assert r.moment == 2
    assert "Sample ratio mismatch" in str(r)
    assert ar.Result.from_json(r.to_json()) == r
    assert r.plot() is not None
    assert anytime_split({"a": [100], "b": [104]}).sound


def test_stopping_by_evidence_does_what_it_says():
    """Rates of misleading and ends against 200,000 simulated tests, by factor and by probability."""
    rng, runs, looks = np.random.default_rng(1), 200_000, 10
    t = np.arange(1, looks + 1) / looks
    se, mean, sd = 0.2, 0.1, 0.8
    v = se**2 / t
    for rule, level in (("factor", 3.0), ("probability", 0.95)):
        r = stopping_by_evidence(looks, se=se, prior=(mean, sd), rule=rule, threshold=level, effect=0.5)
        truths = {"none": np.zeros(runs), "design": np.full(runs, 0.5), "prior": rng.normal(mean, sd, runs)}
        for name, effect in truths.items():
            steps = rng.normal(effect[:, None] / looks, se / np.sqrt(looks), (runs, looks))
            d = np.cumsum(steps, axis=1) / t
            if rule == "factor":
                factor = np.sqrt(v / (v + sd**2)) * np.exp(0.5 * (d**2 / v - (d - mean) ** 2 / (v + sd**2)))
                up, none = factor >= level, factor <= 1 / level
            else:
                after = 1 / (1 / v + 1 / sd**2)
                score = (d / v + mean / sd**2) * np.sqrt(after)
                up, none = np.abs(score) >= 1.6448536269514722, np.zeros_like(d, bool)
            stop = up | none
            first = np.where(stop.any(axis=1), stop.argmax(axis=1), looks)
            at = np.minimum(first, looks - 1)[:, None]
            shown = np.take_along_axis(up, at, 1)[:, 0] & (first < looks)
            wrong = shown & (np.sign(np.take_along_axis(d, at, 1)[:, 0]) != np.sign(effect))
            missed = np.take_along_axis(none, at, 1)[:, 0] & (first < looks)
            misled = shown if name == "none" else missed | wrong
            one = getattr(r, name)
            for seen, said in ((shown, one.for_effect.sum()), (misled, one.misleading)):
                assert abs(seen.mean() - said) < 4 * np.sqrt(max(said * (1 - said), 1e-5) / runs), (rule, name)
            assert abs(t[at[:, 0]].mean() - one.expected_fraction) < 4 * 0.4 / np.sqrt(runs)
        assert ar.Result.from_json(r.to_json()) == r
        assert "misleads" in str(r)
        assert r.plot() is not None


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: anytime((1.0, 0.5)), "how large an effect"),
        (lambda: anytime((1.0, 0.5), tau=1.0, tuned_for=100), "how large an effect"),
        (lambda: anytime((1.0, 0.5), tuned_for=100), "give units="),
        (lambda: anytime((1.0, 0.5), tau=1.0, units=100), "goes with tuned_for"),
        (lambda: anytime((1.0, 0.0), tau=1.0), "standard error"),
        (lambda: anytime([1.0, 2.0], tau=1.0), "Give two groups"),
        (lambda: anytime((1.0, 0.5), tau=-1.0), "tau"),
        (lambda: anytime_share(Counts(3, 5, "x"), prior=(0, 1)), "prior"),
        (lambda: anytime_share(Counts(3, 5, "x"), null=1.0), "null"),
        (lambda: anytime_mean([0.2, 1.2]), "outside the bounds"),
        (lambda: anytime_mean([0.2, 0.3], at=[3]), "up to 2"),
        (lambda: anytime_mean([0.2, 0.3], bounds=(1, 0)), "smallest and then"),
        (lambda: anytime_split({"a": [5, 3], "b": [1, 2]}), "shrink"),
        (lambda: anytime_split({"a": 5}), "two variants"),
        (lambda: anytime_split({"a": 5, "b": 4}, planned={"a": 1, "c": 1}), "must name"),
        (lambda: stopping_by_evidence(3, se=1.0, prior=(0, 1), threshold=0.5), "above 1"),
        (lambda: stopping_by_evidence(3, se=1.0, prior=(0, 1), rule="probability", threshold=3.0), "as a probability"),
        (lambda: stopping_by_evidence(3, se=1.0, prior=(0, 0)), "sd of the prior"),
    ],
)
def test_bad_input_is_named(call, says):
    """What can't be answered is said."""
    with pytest.raises(InputError, match=says):
        call()
