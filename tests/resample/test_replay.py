"""Replays: the analysis itself, run after run, and what it holds to."""

from functools import partial

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import DataError, Experiment, InputError, Records
from amber_ruler.resample import replay


def units(n=3_000, seed=1):
    rng = np.random.default_rng(seed)
    prior = rng.gamma(2, 5, n)
    trips = rng.poisson(3, n) + 1.0
    return {"fare": prior + rng.gamma(1, 5, n), "prior": prior, "trips": trips, "port": rng.integers(0, 3, n)}


SETTINGS = [
    (ar.adjust.cuped, {"value": "fare", "covariate": "prior"}),
    (ar.adjust.sharpen, {"value": "fare", "covariate": ["prior"], "cap": 0.95}),
    (ar.adjust.ratio, {"value": "fare", "per": "trips"}),
    (ar.adjust.sharpen, {"value": "fare", "covariate": ["prior"], "gaps": True}),
]


@pytest.mark.parametrize(("analysis", "settings"), SETTINGS)
def test_sums_give_what_calling_the_analysis_gives(analysis, settings):
    """The first runs, dealt out by hand and asked one by one."""
    rows, settings = units(), dict(settings)
    if settings.pop("gaps", False):
        rows["prior"] = np.where(np.arange(3_000) % 9 == 0, np.nan, rows["prior"])
    from amber_ruler.resample import replay as module
    from amber_ruler.resample.units import read

    held = read(Records(rows, "all"), "units", needed=["fare"])
    sums = module.__globals__["_Sums"].of(held, settings, "fare")
    treated = np.random.default_rng(3).random((4, 3_000)) < 0.4
    found = sums._asked(partial(analysis, **settings), *sums._both(treated.astype(float)))
    for k, which in enumerate(treated):
        arms = [Records({c: v[w] for c, v in rows.items()}, label) for w, label in ((which, "t"), (~which, "c"))]
        alone = analysis(*arms, **settings)
        assert found.p[k] == pytest.approx(alone.p_value, rel=1e-8)
        assert (found.low[k], found.high[k]) == pytest.approx((alone.interval.low, alone.interval.high), rel=1e-8)


def test_a_sound_test_is_trusted_and_an_unsound_one_is_not():
    """Error rate, coverage and uniform p of Welch's test; one that halves its errors is found out."""
    values = np.random.default_rng(2).normal(20, 5, 2_000)
    r = replay(values, ar.measure.means, runs=4_000, seed=1, effect=0.5)
    assert r.sound == "kept"
    assert r.false_alarms == pytest.approx(0.05, abs=4 * r.false_error)
    assert r.coverage == pytest.approx(1 - r.false_alarms, abs=1e-9)
    assert r.uniform > 0.001
    assert r.effect_coverage == pytest.approx(0.95, abs=0.015)
    expected = ar.plan.TwoMeans(sd=5).power(effect=0.5, n=1_000).power
    assert r.power == pytest.approx(expected, abs=4 * r.power_error)
    planned = ar.plan.TwoMeans(sd=5).detectable_effect(n=1_000, power=0.8).effect
    assert r.detectable == pytest.approx(planned, rel=0.05)
    assert "trust it" in r.sentence()
    halved = replay(values, too_sure, runs=1_000, seed=1)
    assert halved.sound == "exceeded"
    assert halved.checks[0].severity == "serious"
    assert "claims too much" in halved.sentence()
    assert ar.Result.from_json(r.to_json()) == r


def too_sure(treatment, control, **settings):
    """A test that takes every unit for two."""
    one, two = (
        ar.Summary(2 * len(s), np.mean(s.values), np.std(s.values), label)
        for s, label in ((treatment, "t"), (control, "c"))
    )
    return ar.measure.means(one, two, **settings)


def test_shares_ranks_and_what_takes_few_values():
    """Shares by counts, with a share that is raised; ranks by their rows; of a small test p takes few values."""
    yes = (np.random.default_rng(3).random(2_000) < 0.2).astype(float)
    r = replay(yes, ar.measure.proportions, runs=2_000, seed=1, lift=0.3)
    assert r.effect == pytest.approx(0.3 * yes.mean())
    expected = ar.plan.TwoProportions(baseline=float(yes.mean())).power(lift=0.3, n=1_000).power
    assert r.power == pytest.approx(expected, abs=0.04)
    few = replay(yes[:30], partial(ar.measure.proportions, test="exact"), runs=200, seed=1)
    assert few.uniform is None
    assert few.sound in ("kept", "not used up")
    ranks = replay(yes + np.arange(2_000) / 1e3, ar.measure.ranks, runs=60, seed=1, lift=0.5)
    assert ranks.effect_coverage is None
    assert ranks.runs == 60
    assert replay(yes, ar.measure.proportions, seed=5, workers=1) == replay(
        yes, ar.measure.proportions, seed=5, workers=2
    )


def test_candidates_from_a_table_and_the_sharpest_of_them():
    past = ar.table(ar.demo.path("travellers")).where("form", equals="current")
    ways = {
        "fare": {},
        "with prior spend": {"value": "fare", "covariate": "prior_spend"},
        "by port": {"value": "fare", "strata": "home_port"},
    }
    r = past.replay(ways, runs=100, seed=1)
    assert r.sharpest == "with prior spend"
    assert r["with prior spend"].detectable < r["fare"].detectable
    assert list(r.to_frame()["label"]) == list(ways)
    assert past.replay("booked", runs=300, seed=1).metric == "booked"
    with pytest.raises(DataError, match="fair"):
        past.replay("fair")
    with pytest.raises(InputError, match="at least one"):
        past.replay({})


@pytest.mark.parametrize(
    "more",
    [
        {},
        {"strata": "home_port"},
        {"days": {"column": "day", "planned": 28}, "looks": {"after": [7, 14, 28]}, "correction": "bonferroni"},
    ],
)
def test_an_experiment_is_replayed_with_its_correction_and_looks(more, tmp_path):
    """No more than alpha of the runs claim anything, and a lift is found in fewer than by uncorrected tests."""
    metrics = {
        "booked": {"kind": "share", "role": "primary"},
        "fare": {"role": "primary", "covariates": ["prior_spend"]},
    }
    test = Experiment(
        ar.demo.path("travellers"), name="Forms", unit="traveller", metrics=metrics,
        assignment={"column": "form", "control": "current"}, **more,
    )  # fmt: skip
    r = test.replay(runs=40 if "strata" in more else 500, seed=2, lift=0.07)
    assert r.labels == ("booked, guided", "booked, short", "fare, guided", "fare, short")
    assert r.together <= 0.05 + 4 * r.together_error
    single = [one.false_alarms for one in r.results]
    assert r.together < sum(single)
    assert all(r.power[label] <= one.power + 0.02 for label, one in zip(r.labels, r.results, strict=True))
    assert ("looks" in r.rule) == ("looks" in more)
    if not more:
        path = test.report(tmp_path / "r.md")
        assert "Replayed 300 times: where there is no difference" in path.read_text(encoding="utf-8")


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: replay([1.0, 2.0, 3.0], ar.measure.means, seed=1), "too few"),
        (lambda: replay(units(), ar.bayes.means, value="fare", runs=20), "no p-value"),
        (lambda: replay([1.0] * 50, "means"), "a function"),
        (lambda: replay(np.arange(50.0), ar.measure.means, share=1.5), "share"),
        (lambda: replay(np.arange(50.0), ar.measure.means, effect=1, lift=1), "two units"),
        (lambda: replay(np.tile([0.0, 1.0], 50), ar.measure.proportions, lift=2.0), "raised up to 1"),
    ],
)
def test_what_can_not_be_replayed_is_said(call, says):
    with pytest.raises((DataError, InputError), match=says):
        call()


def test_no_difference_is_what_the_analysis_tests_for():
    """A chance of one half, a ratio of 1: what intervals hold is not always 0."""
    rng = np.random.default_rng(1)
    even = replay(rng.normal(size=200), ar.measure.superiority, runs=60, seed=1)
    assert even.coverage == pytest.approx(1 - even.false_alarms)
    assert 0.05 < even.detectable < 0.2
    seen = ar.Records({"days": rng.exponential(5, 200), "left": (rng.random(200) < 0.7).astype(float)}, "all")
    ratio = replay(seen, ar.measure.times, value="days", event="left", runs=60, seed=1)
    assert ratio.coverage == pytest.approx(1 - ratio.false_alarms)
