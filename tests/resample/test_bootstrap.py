"""The bootstrap against every resample, closed forms and itself by other ways."""

import itertools
import math

import numpy as np
import pandas as pd
import pytest
from scipy.stats import norm

import amber_ruler as ar
from amber_ruler import DataError, InputError, Records
from amber_ruler.resample import bootstrap, jackknife

X = [3.0, 7.5, 1.0, 12.0, 4.0]
Y = [2.0, 2.5, 9.0]
ROWS = {"y": [3.0, 7.5, 1.0, 12.0, 4.0], "x": [1.0, 2.0, 0.5, 4.0, 2.5], "w": [2.0, 1.0, 3.0, 2.0, 4.0]}


def every(*samples):
    """Every resample of each sample, all as likely."""
    drawn = [list(itertools.product(range(len(s)), repeat=len(s))) for s in samples]
    return itertools.product(*drawn)


def truth(statistic, *samples):
    """Standard error, percentile and BCa ends, z0 and acceleration, from the definitions alone."""
    samples = [np.asarray(s) for s in samples]
    theta = statistic(*samples)
    values = sorted(
        statistic(*(s[list(i)] for s, i in zip(samples, chosen, strict=True))) for chosen in every(*samples)
    )
    values = np.array(values)
    count, near = len(values), 1e-9

    def quantile(p):
        return values[math.ceil(p * count - near) - 1]

    share = (np.sum(values < theta - near) + 0.5 * np.sum(np.abs(values - theta) <= near)) / count
    z0, top, below = norm.ppf(share), 0.0, 0.0
    for k, s in enumerate(samples):
        out = np.array(
            [statistic(*(np.delete(t, j) if i == k else t for i, t in enumerate(samples))) for j in range(len(s))]
        )
        d = (len(s) - 1) / len(s) * (out.mean() - out)
        top, below = top + np.sum(d**3), below + np.sum(d**2)
    a = top / (6 * below**1.5)
    level = [norm.cdf(z0 + (z0 + z) / (1 - a * (z0 + z))) for z in norm.ppf([0.025, 0.975])]
    return {
        "se": values.std(),
        "bias": values.mean() - theta,
        "percentile": (quantile(0.025), quantile(0.975)),
        "basic": (2 * theta - quantile(0.975), 2 * theta - quantile(0.025)),
        "bca": (quantile(level[0]), quantile(level[1])),
        "z0": z0,
        "acceleration": a,
    }


@pytest.mark.parametrize(
    ("name", "function", "samples"),
    [
        ("mean", np.mean, [X]),
        ("mean", lambda a, b: a.mean() - b.mean(), [X[:4], Y]),
        ("lift", lambda a, b: a.mean() / b.mean() - 1, [X[:4], Y]),
        ("quantile", np.median, [X]),
        ("quantile", lambda a, b: np.median(a) - np.median(b), [X[:4], Y]),
    ],
)
def test_every_resample_gives_the_definition(name, function, samples):
    """SE, bias, three intervals and the constants of BCa, of built-in statistics and of functions, to 1e-10."""
    expected = truth(function, *samples)
    for statistic in (name, function):
        for interval in ("percentile", "basic", "bca"):
            r = bootstrap(*samples, statistic=statistic, interval=interval, replicates="all")
            assert (r.interval.low, r.interval.high) == pytest.approx(expected[interval], rel=1e-10, abs=1e-12)
            assert r.se == pytest.approx(expected["se"], rel=1e-10)
            assert r.facts["bias"] == pytest.approx(expected["bias"], abs=1e-10)
        assert r.facts["z0"] == pytest.approx(expected["z0"], rel=1e-10, abs=1e-12)
        assert r.facts["acceleration"] == pytest.approx(expected["acceleration"], rel=1e-10, abs=1e-12)
        assert r.draws.way == "every resample"
        assert r.seed is None


def slopes(y, x, w=None):
    columns = [np.ones(len(y)), x] + ([] if w is None else [w])
    return np.linalg.lstsq(np.column_stack(columns), y, rcond=None)[0]


def adjusted(t, c, *, lift=False):
    both = [t, c]
    within = [{k: v - v.mean() for k, v in s.items()} for s in both]
    theta = sum(np.sum(s["x"] * s["y"]) for s in within) / sum(np.sum(s["x"] ** 2) for s in within)
    middle = np.concatenate([s["x"] for s in both]).mean()
    one, two = (s["y"].mean() - theta * (s["x"].mean() - middle) for s in both)
    return one / two - 1 if lift else one - two


BUILT_IN = {
    "ratio": (("y", "w"), lambda s: s["y"].sum() / s["w"].sum(), {"value": "y", "per": "w"}),
    "split": (
        ("y", "x"),
        lambda s: (np.var(s["x"]) - np.cov(s["y"], s["x"], ddof=0)[0, 1]) / np.var(s["y"] - s["x"]),
        {"value": "y", "per": "x"},
    ),
    "regression": (("y", "x"), lambda s: slopes(s["y"], s["x"]), {"value": "y", "covariate": ["x"]}),
    "ratio lift": (
        ("y", "w"),
        lambda s, c: s["y"].sum() / s["w"].sum() / (c["y"].sum() / c["w"].sum()) - 1,
        {"value": "y", "per": "w"},
    ),
    "adjusted": (("y", "x"), adjusted, {"value": "y", "covariate": "x"}),
    "adjusted lift": (("y", "x"), lambda t, c: adjusted(t, c, lift=True), {"value": "y", "covariate": "x"}),
}


@pytest.mark.parametrize("name", BUILT_IN)
def test_a_built_in_statistic_is_its_function(name):
    """Of drawn weights and rows alike, on data where no resample is without a value; the jackknife likewise."""
    _, function, settings = BUILT_IN[name]
    rng = np.random.default_rng(3)
    rows = [{k: rng.gamma(3, 2, n) for k in "yxw"} for n in (40, 30)]
    two = function.__code__.co_argcount == 2 if name != "adjusted" else True
    given = [Records(r, f"v{k}") for k, r in enumerate(rows[: 2 if two else 1])]
    r = bootstrap(*given, statistic=name, interval="percentile", seed=1, replicates=4_000, **settings)
    plain = function(*rows[: len(given)])
    assert r.estimate == pytest.approx(plain, rel=1e-10)
    own = bootstrap(*given, statistic=function, interval="percentile", seed=2, replicates=4_000)
    assert np.ravel(r.se) == pytest.approx(np.ravel(own.se), rel=0.08)
    assert np.ravel(r.interval.high) == pytest.approx(
        np.ravel(own.interval.high), abs=float(np.max(np.ravel(own.se))) * 0.2
    )
    bca = [
        bootstrap(*given, statistic=s, seed=1, replicates=400, **more) for s, more in ((name, settings), (function, {}))
    ]
    assert np.ravel(bca[0].facts["acceleration"]) == pytest.approx(np.ravel(bca[1].facts["acceleration"]), rel=1e-8)


def test_clusters_are_drawn_whole_and_strata_within():
    """Against every draw of whole clusters in each stratum; weights of strata stay as they are."""
    table = pd.DataFrame(
        {"v": [1.0, 4.0, 2.0, 8.0, 5.0, 7.0, 3.0], "who": list("aabbccd"), "port": [1, 1, 1, 1, 2, 2, 2]}
    )
    groups = {1: [[1.0, 4.0], [2.0, 8.0]], 2: [[5.0, 7.0], [3.0]]}
    means = [
        np.mean([*itertools.chain(*(groups[1][i] for i in one)), *itertools.chain(*(groups[2][i] for i in two))])
        for one in itertools.product(range(2), repeat=2)
        for two in itertools.product(range(2), repeat=2)
    ]
    for statistic in ("mean", lambda rows: float(np.mean(rows["v"]))):
        more = {"value": "v"} if statistic == "mean" else {}
        r = bootstrap(table, statistic=statistic, cluster="who", strata="port", interval="percentile", **more)
        assert r.se == pytest.approx(np.std(means), rel=1e-12)
        assert (r.interval.low, r.interval.high) == pytest.approx((min(means), max(means)), rel=1e-12)


def test_drawn_resamples_agree_with_formulas_and_among_each_other():
    """The error of a mean within four Monte-Carlo errors, by rows, counts, weights, threads and processes."""
    rng = np.random.default_rng(5)
    x, b = rng.gamma(2, 3, 900), (rng.random(900) < 0.2).astype(float)
    for values, more in ((x, {}), (b, {}), (x, {"weights": "poisson"}), (x.round(), {})):
        r = bootstrap(values, seed=7, replicates=4_000, interval="normal", **more)
        exact = values.std() / math.sqrt(len(values))
        assert r.se == pytest.approx(exact, abs=5 * r.draws.error + (0.02 * exact if more else 0))
        assert r.interval.high == pytest.approx(values.mean() + 1.959963984540054 * r.se, rel=1e-12)
    each = [bootstrap(x, x[:300] + 1, statistic="lift", seed=11, workers=w, replicates=500) for w in (1, 2)]
    assert each[0] == each[1]
    own = [bootstrap(x, statistic=np.median, seed=11, workers=w, replicates=200) for w in (1, 2)]
    assert own[0] == own[1]
    weighted = bootstrap(x, statistic=lambda v, w: np.average(v, weights=w), takes="weights", seed=3, replicates=1_000)
    assert weighted.se == pytest.approx(x.std() / 30, rel=0.1)
    again = bootstrap(x, seed=np.random.default_rng(4), replicates=300)
    assert bootstrap(x, seed=again.seed, replicates=300) == again


def test_quantiles_by_order_statistics_are_quantiles_of_resamples():
    """The drawn distribution against that of every resample."""
    values = np.array([1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0])
    for at in (0.1, 0.5, 0.9):
        exact = bootstrap(values, statistic="quantile", at=at, interval="percentile", replicates="all")
        drawn = bootstrap(values, statistic="quantile", at=at, interval="percentile", replicates=40_000, seed=2)
        assert drawn.se == pytest.approx(exact.se, abs=5 * drawn.draws.error)
        assert (drawn.interval.low, drawn.interval.high) == (exact.interval.low, exact.interval.high)
    ties = bootstrap(np.repeat(values, 40), statistic="quantile", at=0.9, seed=1, strata=None)
    assert ties.interval.low <= ties.estimate <= ties.interval.high


def test_studentised_intervals_leave_out_resamples_without_spread():
    """They are counted; of a mean the interval is that of drawn t values."""
    rng = np.random.default_rng(2)
    few = [0.0, 0.0, 0.0, 5.0, 0.0, 0.0]
    r = bootstrap(few, interval="studentised", seed=1, replicates=1_000)
    assert any(c.name == "resamples without spread" for c in r.checks)
    x = rng.gamma(1, 1, 60)
    r = bootstrap(x, interval="studentised", seed=1, replicates=20_000)
    drawn = np.random.default_rng(8).choice(x, (20_000, 60))
    t = (drawn.mean(axis=1) - x.mean()) / (drawn.std(axis=1, ddof=1) / 60**0.5)
    own = x.std(ddof=1) / 60**0.5
    assert r.interval.low == pytest.approx(x.mean() - own * np.quantile(t, 0.975), abs=0.06 * own)
    assert r.interval.high == pytest.approx(x.mean() - own * np.quantile(t, 0.025), abs=0.2 * own)


def test_a_tolerance_draws_until_the_ends_stand_still():
    """More resamples for a smaller one; the error told is below it."""
    x = np.random.default_rng(1).gamma(1, 1, 200)
    loose, tight = (bootstrap(x, tolerance=t, seed=1, interval="percentile") for t in (0.02, 0.005))
    assert tight.draws.replicates > loose.draws.replicates
    width = tight.interval.high - tight.interval.low
    assert tight.facts["error of the lower end"] < 0.0055 * width


def test_one_sided_intervals_and_vectors_with_names():
    r = bootstrap(X, alternative="greater", seed=1)
    assert r.interval.high == math.inf
    table = pd.DataFrame(ROWS)
    r = bootstrap(table, statistic=lambda t: {"mean": t["y"].mean(), "most": t["y"].max()}, interval="percentile")
    assert r.axis.labels == ("mean", "most")
    assert r.estimate.tolist() == [5.5, 12.0]
    named = bootstrap(table, statistic=lambda t: [t["y"].mean(), 1.0], names=["mean", "one"], interval="percentile")
    assert named.axis.labels == ("mean", "one")
    assert ar.Result.from_json(r.to_json()) == r


def breaks_sometimes(values):
    if values.max() < 12:
        raise ValueError("no large value")
    return values.mean()


CALLS = itertools.count()


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: bootstrap(X * 8, statistic=lambda v: next(CALLS)), "for the same rows: it rests on something else"),
        (lambda: bootstrap(X * 4, statistic=np.unique), "numbers, and of a resample"),
        (lambda: bootstrap(X * 4, statistic=breaks_sometimes, seed=1, replicates=300), None),
        (lambda: bootstrap(X, statistic=breaks_sometimes, seed=1, replicates=300), "no value for .* no large"),
        (lambda: bootstrap(X, statistic=lambda v: math.nan), "no finite number"),
        (lambda: bootstrap([1.0], seed=1), "at least 2 are needed"),
        (lambda: bootstrap(X * 2, replicates="all"), "at most 7 units"),
        (lambda: bootstrap(X, statistic="lift"), "compares two samples"),
        (lambda: bootstrap(X, Y, statistic="split", value="a", per="b"), "is of one sample"),
        (lambda: bootstrap(X, statistic="ratio"), "say value= and per="),
        (lambda: bootstrap(X, statistic="meen"), "Did you mean|nearest|mean"),
        (lambda: bootstrap(X, statistic=np.mean, weights="poisson"), "is of built-in statistics"),
        (lambda: bootstrap(X, statistic="quantile", interval="studentised"), "order statistics"),
        (lambda: bootstrap(X, replicates=50, tolerance=0.1), "both say when to stop"),
        (lambda: bootstrap(X * 3, statistic="mean", interval="bca", alternative="up"), "alternative"),
        (lambda: bootstrap(ar.Summary(9, 1.0, 2.0), seed=1), "holds no single values"),
        (lambda: bootstrap({"a": [1.0, math.inf]}, value="a"), "infinite"),
        (lambda: bootstrap({"a": [1.0, 2.0]}, value="b"), "'b'"),
    ],
)  # fmt: skip
def test_what_can_not_be_answered_is_said(call, says):
    if says is None:
        r = call()
        assert r.draws.left_out > 0
        assert "no large value" in next(c.finding for c in r.checks if c.name == "resamples")
        return
    with pytest.raises((DataError, InputError), match=says):
        call()


def test_few_resamples_are_warned_of_and_missing_rows_counted():
    r = bootstrap(X * 4, replicates=50, seed=1)
    assert any(c.name == "few resamples" for c in r.checks)
    flat = bootstrap([2.0] * 9, seed=1)
    assert (flat.interval.low, flat.interval.high, flat.se) == (2.0, 2.0, 0.0)
    with_gaps = Records({"y": [1.0, math.nan, 3.0, 4.0], "port": ["a", "b", None, "a"]}, "v")
    assert bootstrap(with_gaps, value="y", seed=1).groups[0].n == 3


def test_ctrl_c_keeps_what_is_done():
    """The resamples so far are the answer, and it says so; without any there is none."""

    def stop(done, whole):
        if done >= 320:
            raise KeyboardInterrupt

    r = bootstrap(np.arange(500.0), seed=1, progress=stop, workers=1)
    assert any("interrupted after" in c.finding for c in r.checks)
    assert 256 <= r.draws.replicates < 2_000
    with pytest.raises(KeyboardInterrupt):
        bootstrap(
            np.arange(500.0), seed=1, workers=1, progress=lambda done, whole: (_ for _ in ()).throw(KeyboardInterrupt)
        )


def test_the_jackknife_is_its_formula():
    """SE of a mean, the bias of a variance, two samples, groups of units, and who carries it."""
    x = np.random.default_rng(4).gamma(2, 2, 30)
    r = jackknife(x)
    assert r.se == pytest.approx(x.std(ddof=1) / 30**0.5, rel=1e-12)
    assert r.influence.units[0] == f"row {int(np.argmax(np.abs(x - x.mean())))}"
    assert r.interval.high - r.estimate == pytest.approx(2.045229642132703 * r.se, rel=1e-10)
    v = jackknife(x, statistic=np.var)
    assert v.estimate - v.facts["bias"] == pytest.approx(x.var(ddof=1), rel=1e-10)
    both = jackknife(x, x[:12] * 2 + 1, statistic="lift")
    own = jackknife(x, x[:12] * 2 + 1, statistic=lambda a, b: a.mean() / b.mean() - 1)
    assert (both.se, both.facts["df"]) == pytest.approx((own.se, own.facts["df"]), rel=1e-10)
    out = [np.delete(x, slice(g, None, 5)).mean() for g in range(5)]
    assert jackknife(x, groups=5).se == pytest.approx(
        math.sqrt(4 / 5 * np.sum((np.array(out) - np.mean(out)) ** 2)), rel=1e-10
    )
    clustered = jackknife({"v": x, "who": np.arange(30) // 3}, value="v", cluster="who", top=2)
    totals = x.reshape(10, 3).sum(axis=1)
    without = np.array([(x.sum() - t) / 27 for t in totals])
    assert clustered.se == pytest.approx(math.sqrt(0.9 * np.sum((without - without.mean()) ** 2)), rel=1e-10)
    assert len(clustered.influence.units) == 2
    assert "carried most by" in clustered.sentence()
    for call, says in (
        (lambda: jackknife(x, statistic="quantile"), "not consistent"),
        (lambda: jackknife(x, groups=31), "groups"),
        (lambda: jackknife(x, statistic=lambda a: a[:2]), "one number"),
    ):
        with pytest.raises(InputError, match=says):
            call()


@pytest.mark.parametrize("kind", ["bca", "percentile", "basic", "normal", "studentised"])
def test_ends_are_as_uncertain_as_they_say(kind):
    """The stated Monte-Carlo error of each end is the spread of the ends over 60 seeds."""
    values = np.random.default_rng(1).lognormal(size=60)
    found = [bootstrap(values, statistic="mean", interval=kind, replicates=400, seed=s) for s in range(60)]
    for end, name in (("low", "lower"), ("high", "upper")):
        spread = np.std([getattr(r.interval, end) for r in found])
        assert np.mean([r.facts[f"error of the {name} end"] for r in found]) == pytest.approx(spread, rel=0.35)


def test_tiny_values_have_the_interval_of_large_ones():
    """What counts as tied follows the size of the values."""
    values = np.random.default_rng(2).lognormal(size=30)
    one, other = (bootstrap(v, statistic="mean", replicates=400, seed=1) for v in (values, values * 1e-15))
    assert other.interval.low == pytest.approx(one.interval.low * 1e-15, rel=1e-9)
    assert other.facts["z0"] == pytest.approx(one.facts["z0"], abs=1e-12)
