"""What an adjustment must not depend on: names, order, units, the choice of covariates that say the same."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import amber_ruler as ar
from adjust.rows import arms
from amber_ruler import Moments, Records
from amber_ruler.adjust import (
    before_after,
    clusters,
    compliers,
    cuped,
    novelty,
    quantiles,
    ratio,
    regression,
    segments,
    sharpen,
    strata,
    triggered,
    weights,
)

SIZES = st.integers(min_value=8, max_value=60)
SEEDS = st.integers(min_value=0, max_value=10_000)
ASK = {
    "cuped": lambda a, b, **how: cuped(a, b, value="fare", covariate=["prior", "trips"], **how),
    "optimal": lambda a, b, **how: cuped(a, b, value="fare", covariate=["prior", "trips"], theta="optimal", **how),
    "own slopes": lambda a, b, **how: regression(a, b, value="fare", covariate=["prior", "trips"], **how),
    "common slopes": lambda a, b, **how: regression(
        a, b, value="fare", covariate=["prior", "trips"], slopes="common", errors="hc3", **how
    ),
    "strata": lambda a, b, **how: strata(a, b, value="fare", strata="port", covariate="prior", **how),
    "ratio": lambda a, b, **how: ratio(a, b, value="fare", per="searches", covariate="trips per before", **how),
    "cr2": lambda a, b, **how: clusters(a, b, value="fare", cluster="who", covariate="trips", **how),
    "cr1": lambda a, b, **how: clusters(a, b, value="fare", cluster="who", errors="cr1", **how),
    "totals": lambda a, b, **how: sharpen(a, b, value="fare", cluster="who", covariate="trips", **how),
    "quantile": lambda a, b, **how: quantiles(a, b, value="fare", cluster="who", at=0.6, **how),
    "weights": lambda a, b, **how: weights(a, b, value="fare", weight="weight", **how),
    "capped": lambda a, b, **how: sharpen(a, b, value="fare", cap=0.9, covariate="prior", **how),
    "exposed": lambda a, b, **how: triggered(a, b, value="fare", exposed="seen", **how),
    "uptake": lambda a, b, **how: compliers(a, b, value="fare", taken="used", **how),
    "changes": lambda a, b, **how: before_after(a, b, value="fare", before="prior", **how),
}
EVERY = pytest.mark.parametrize("name", ASK)


def changed(both, **columns):
    """The same rows with some columns replaced by what is made of them."""
    return [Records({**a.columns, **{k: make(a) for k, make in columns.items()}}, a.label) for a in both]


def numbers(r):
    return np.array(
        [float(np.asarray(v)) for v in (r.estimate, r.se, r.df, r.p_value, r.interval.low, r.interval.high)]
    )


def alike(one, other, rel=1e-8):
    assert numbers(one) == pytest.approx(numbers(other), rel=rel, abs=1e-10)


@EVERY
def test_the_order_of_rows_does_not_matter(name):
    """Shuffled within each variant."""
    both = arms((60, 70), clusters=20)
    rng = np.random.default_rng(1)
    mixed = []
    for a in both:
        order = rng.permutation(len(a))
        mixed.append(Records({k: v[order] for k, v in a.columns.items()}, a.label))
    alike(ASK[name](*both), ASK[name](*mixed))


@EVERY
def test_names_do_not_matter(name):
    """Of strata and of clusters, and of the variants."""
    both = arms((60, 70), clusters=20)
    other = changed(
        both,
        port=lambda a: np.array([{"Amble": "z", "Gullhaven": "y", "Tern Quay": "x"}[p] for p in a.columns["port"]]),
        who=lambda a: np.array([w[::-1] + "!" for w in a.columns["who"]]),
    )
    named = [Records(dict(a.columns), label) for a, label in zip(other, ("b", "a"), strict=True)]
    alike(ASK[name](*both), ASK[name](*named))


@EVERY
def test_both_sides_turn_together(name):
    """What is better by so much one way is worse by as much the other way, at every alternative."""
    both = arms((60, 70), clusters=20)
    for one_way, other_way in (("two-sided", "two-sided"), ("greater", "less")):
        r, turned = ASK[name](*both, alternative=one_way), ASK[name](*both[::-1], alternative=other_way)
        sign = 1 if name == "uptake" else -1  # who takes it up gains as much whichever variant is called treatment
        if name == "uptake" and one_way != "two-sided":
            continue
        assert turned.estimate == pytest.approx(sign * r.estimate, rel=1e-9)
        assert (turned.se, turned.p_value) == pytest.approx((r.se, r.p_value), rel=1e-8)


@EVERY
def test_another_unit_of_the_metric_rescales_the_answer(name):
    """In pence what is in pounds; p does not know the unit."""
    both = arms((60, 70), clusters=20)
    scaled = changed(both, fare=lambda a: a.columns["fare"] * 128)
    if name == "changes":
        scaled = changed(scaled, prior=lambda a: a.columns["prior"] * 128)
    r, other = ASK[name](*both), ASK[name](*scaled)
    assert (other.estimate, other.se) == pytest.approx((128 * r.estimate, 128 * r.se), rel=1e-9)
    assert (other.p_value, other.df) == pytest.approx((r.p_value, r.df), rel=1e-8)


@pytest.mark.parametrize("name", ["cuped", "optimal", "own slopes", "common slopes"])
@settings(max_examples=12, deadline=None)
@given(seed=SEEDS)
def test_covariates_that_say_the_same_give_the_same(name, seed):
    """Any two independent mixtures of two covariates, moved anywhere, are as good as the two."""
    rng = np.random.default_rng(seed)
    mix = rng.normal(size=(2, 2)) + 2 * np.eye(2)
    both = arms((40, 45), seed=seed)
    mixed = changed(
        both,
        prior=lambda a: mix[0, 0] * a.columns["prior"] + mix[0, 1] * a.columns["trips"] + 50,
        trips=lambda a: mix[1, 0] * a.columns["prior"] + mix[1, 1] * a.columns["trips"] - 7,
    )
    alike(ASK[name](*both), ASK[name](*mixed), rel=1e-6)


@settings(max_examples=20, deadline=None)
@given(seed=SEEDS, cut=SIZES)
def test_merged_parts_are_the_whole(seed, cut):
    """Moments of two parts of each variant merge to the same adjusted answer."""
    both = arms((70, 80), seed=seed)
    names = ("fare", "prior", "trips")

    def reduced(a, rows):
        return Moments.from_arrays({n: a.columns[n][rows] for n in names}, label=a.label)

    whole = [reduced(a, slice(None)) for a in both]
    parts = [reduced(a, slice(None, cut)) + reduced(a, slice(cut, None)) for a in both]
    for ask in (ASK["cuped"], ASK["optimal"]):
        alike(ask(*whole), ask(*parts), rel=1e-9)
        alike(ask(*whole), ask(*both), rel=1e-9)


@settings(max_examples=25, deadline=None)
@given(seed=SEEDS, n=SIZES)
def test_an_adjusted_spread_is_never_larger_than_what_was_explained(seed, n):
    """Within variants the slopes are least squares: no other slopes leave less of the squares."""
    both = arms((n, n + 3), seed=seed)
    r = cuped(*both, value="fare", covariate="prior")
    slope = r.adjustment.slopes["prior"]

    def left(b):
        ys = [a.columns["fare"] - b * a.columns["prior"] for a in both]
        return sum(np.sum((y - y.mean()) ** 2) for y in ys)

    assert left(slope) <= min(left(slope + d) for d in (-0.1, -1e-4, 1e-4, 0.1))
    best = cuped(*both, value="fare", covariate="prior", theta="optimal")
    assert best.se <= r.se * (1 + 1e-9)


@settings(max_examples=15, deadline=None)
@given(seed=SEEDS)
def test_the_interaction_does_not_know_a_common_effect(seed):
    """What is added to every segment of treatment changes no difference between segments."""
    both = arms((70, 80), seed=seed)
    more = [changed(both[:1], fare=lambda a: a.columns["fare"] + 5)[0], both[1]]
    one, other = (segments(*g, value="fare", segment="port") for g in (both, more))
    assert other.strata.interaction.p_value == pytest.approx(one.strata.interaction.p_value, rel=1e-6)
    assert other.estimate == pytest.approx(np.asarray(one.estimate) + 5, rel=1e-9)


def test_an_effect_that_halves_is_seen_to_wear_off():
    """A planted decline is found, and a steady effect is not taken for one."""
    rng = np.random.default_rng(2)
    who, day = np.repeat(np.arange(200), 4), np.tile(np.arange(4), 200)
    noise = [rng.normal(size=800) + rng.normal(size=200)[who] for _ in range(2)]
    base = Records({"y": noise[1], "day": day, "who": who + 1_000}, "current")
    for effect, declines in ((3.0 / 2**day, True), (np.full(800, 2.0), False)):
        r = novelty(
            Records({"y": noise[0] + effect, "day": day, "who": who}, "short"), base, value="y", age="day", unit="who"
        )
        assert (r.strata.interaction.p_value < 0.01) == declines
        assert ("changes with day" in str(r)) == declines


@EVERY
def test_a_margin_is_tested_by_the_same_standard_error(name):
    """Not worse by the margin exactly when the one-sided limit says so."""
    both = arms((60, 70), clusters=20)
    r = ASK[name](*both, margin=1.0)
    one_sided = ASK[name](*both, alternative="greater")
    assert r.margin_tests["not_worse"].holds == (one_sided.interval.low > -1.0)
    assert r.margin == 1.0


@EVERY
def test_the_result_reads_back_and_says_what_was_done(name):
    """JSON keeps every part; the text names the steps; the frame has the raw numbers where there are any."""
    from amber_ruler import Result

    r = ASK[name](*arms((60, 70), clusters=20))
    assert Result.from_json(r.to_json()) == r
    if r.adjustment is not None:
        text = " ".join(str(r).split())
        for step in r.adjustment.steps:
            assert step.split(",")[0] in text
        assert ("raw_estimate" in r.to_frame()) == (r.adjustment.raw is not None)
    assert r.sentence().startswith("fare") or "fare" in r.sentence()


def test_an_adjusted_share_is_told_in_points():
    """Of 0 and 1 the difference is one of shares, raw and adjusted alike; of other values it is not."""
    trips = ar.table(ar.demo.path("travellers"))
    for how, more in (
        ("cuped", {"covariate": "prior_spend"}),
        ("strata", {"strata": "home_port"}),
        ("regression", {"covariate": "prior_spend"}),
        ("clusters", {"cluster": "day", "spanning": "allowed"}),
    ):
        columns = ["booked", "fare", "prior_spend", "home_port", "day"]
        arms = trips.records(columns, by="form")
        booked, fare = (getattr(ar.adjust, how)(arms["short"], arms["current"], value=v, **more) for v in columns[:2])
        assert (booked.quantity, booked.unit, booked.percent) == ("adjusted share", "share", True)
        assert " pp higher" in booked.sentence()
        assert booked.adjustment.raw.percent
        assert not fare.percent
        assert ar.Result.from_json(booked.to_json()) == booked
