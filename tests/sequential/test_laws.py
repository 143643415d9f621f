"""Laws of looking early over random plans, paths and data: mirrors, scales, agreement of p and interval, no loss."""

import numpy as np
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from scipy.special import ndtr

import amber_ruler as ar
from amber_ruler import Counts, Summary
from amber_ruler.measure import means
from amber_ruler.sequential import (
    anytime,
    anytime_mean,
    anytime_share,
    anytime_shares,
    anytime_split,
    boundaries,
    monitor,
    peeking,
    recursion,
    stopping_by_evidence,
)
from simpson import Path, pieces_of
from truth import mp

FUNCTIONS = st.sampled_from(
    [("obrien-fleming", None), ("obrien-fleming-total", None), ("pocock", None), ("power", 0.5), ("power", 3.0),
     ("hwang-shih-decani", -6.0), ("hwang-shih-decani", 2.0)]
)  # fmt: skip


@st.composite
def times(draw, most=6):
    """Rising information fractions that end at 1."""
    early = draw(st.lists(st.integers(3, 96), min_size=1, max_size=most - 1, unique=True))
    return [*sorted(t / 100 for t in early), 1.0]


@st.composite
def plans(draw):
    """Boundaries of any kind."""
    spending, parameter = draw(FUNCTIONS)
    futility, beta_parameter = draw(st.one_of(st.just((None, None)), FUNCTIONS))
    how = {
        "sides": draw(st.sampled_from([1, 2])),
        "spending": spending,
        "parameter": parameter,
        "alpha": draw(st.sampled_from([0.001, 0.025, 0.05, 0.2])),
        "power": draw(st.sampled_from([0.6, 0.8, 0.95])),
    }
    if futility is not None:
        how |= {"futility": futility, "futility_parameter": beta_parameter, "binding": draw(st.booleans())}
    return boundaries(draw(times()), **how)


@settings(max_examples=40, deadline=None)
@given(plans())
def test_any_plan_keeps_alpha_and_power(b):
    """Alpha under none, counted as the rule counts; the power under the drift; all ends add up; JSON keeps it all."""
    counted = pieces_of(b) if b.rule.binding else [[(low, high)] for low, high in zip(b.lower, b.z, strict=True)]
    none = Path(b.fractions, counted, points=801)
    up = sum(none.above(k, b.z[k]) for k in range(b.z.size))
    assert up * b.sides == pytest.approx(b.alpha, rel=1e-5)
    assert b.spent[-1] == pytest.approx(b.alpha, rel=1e-10)
    assert b.operating[2].power == pytest.approx(b.power, abs=1e-9)
    for o in b.operating:
        assert o.ending.sum() == pytest.approx(1, abs=1e-9)
        assert b.fractions[0] - 1e-9 <= o.expected_fraction <= 1
    assert b.inflation > 0.99
    if b.futility is None:
        assert b.alpha_if_ignored == b.alpha
    else:
        assert np.all(b.futility[:-1] < b.z[:-1])
        assert b.beta_spent[-1] == pytest.approx(1 - b.power, rel=1e-10)
    assert ar.Result.from_json(b.to_json()) == b
    assert b.sentence() in " ".join(str(b).split())


@settings(max_examples=40, deadline=None)
@given(plans(), st.lists(st.floats(-4, 5), min_size=1, max_size=6))
@example(boundaries([0.03, 0.05, 1.0], alpha=0.025, sides=1), [3.0])
@example(boundaries([0.03, 0.12, 1.0], alpha=0.2, power=0.6, sides=2), [-1.0])
def test_any_path_is_told_without_contradiction(b, path):
    """Repeated p and crossing agree, stage-wise p and interval too; the mirror image says the opposite."""
    z = path[: b.z.size]
    r = monitor(b, z)
    outside = (r.z > r.bounds) | ((r.z < -r.bounds) if b.sides == 2 else False)
    assert ((r.repeated_p < b.alpha) == outside).all()
    assert np.all((r.repeated_p > 0) & (r.repeated_p <= 1))
    if r.stagewise_p is not None:
        shown = r.decision == "stop: a difference"
        assert (r.stagewise_p < b.alpha) == shown == (not r.drift_interval.contains(0.0))
        assert r.drift_interval.low < r.drift < r.drift_interval.high
    else:
        assert r.decision == "go on" or (b.sides == 2 and b.rule.binding)
    for chance in (*r.conditional_power.values(), *r.conditional_last.values()):
        assert 0 <= chance <= 1
    if r.conditional_power and b.futility is None:
        # Looks only add chances to cross above; of two sides, a path that has crossed below is stopped (Boole's bound).
        seen, later = len(z), slice(len(z), -1)
        now, then = b.fractions[seen - 1], b.fractions[later]
        steps = b.lower[later] * np.sqrt(then) - z[-1] * np.sqrt(now) - b.drift * (then - now)
        stopped = ndtr(steps / np.sqrt(then - now)).sum() if b.sides == 2 else 0.0
        assert r.conditional_power["design"] >= r.conditional_last["design"] - stopped - 1e-9
    if b.sides == 2:
        other = monitor(b, [-v for v in z])
        assert other.repeated_p == pytest.approx(r.repeated_p, rel=1e-7)
        assert other.stopped_at == r.stopped_at
        if r.stagewise_p is not None:
            assert other.stagewise_p == pytest.approx(r.stagewise_p, rel=1e-7, abs=1e-12)
            assert other.drift == pytest.approx(-r.drift, rel=1e-6, abs=1e-8)
            assert other.drift_adjusted == pytest.approx(-r.drift_adjusted, rel=1e-6, abs=1e-8)
    assert ar.Result.from_json(r.to_json()) == r


@settings(max_examples=25, deadline=None)
@given(times(), st.sampled_from([1, 2]), st.floats(-3, 6))
def test_a_path_under_a_drift_is_the_tilted_one(fractions, sides, drift):
    """Carried under the drift itself, or without one and then tilted: the same chances."""
    b = boundaries(fractions, sides=sides, spending="pocock")
    tilted = recursion.walk(b.regions).chances(drift)
    carried = recursion.walk(b.regions, drift).chances(drift)
    for one, two in zip(tilted, carried, strict=True):
        assert one == pytest.approx(two, abs=1e-11)


@settings(max_examples=30, deadline=None)
@given(st.floats(-3, 3), st.floats(0.05, 2), st.floats(0.05, 5), st.sampled_from([0.001, 0.05, 0.3]))
def test_answers_at_any_moment_mirror_and_scale(estimate, se, tau, alpha):
    """The sign turns with the groups, units rescale, both directions are as wide together as apart."""
    r = anytime((estimate, se), tau=tau, alpha=alpha)
    turned = anytime((-estimate, se), tau=tau, alpha=alpha)
    assert turned.interval.low == pytest.approx(-r.interval.high)
    assert turned.p_value == pytest.approx(r.p_value)
    scaled = anytime((1e6 * estimate, 1e6 * se), tau=1e6 * tau, alpha=alpha)
    assert scaled.interval.low == pytest.approx(1e6 * r.interval.low, rel=1e-9)
    assert scaled.anytime.log_e == pytest.approx(r.anytime.log_e, rel=1e-9, abs=1e-12)
    for alternative, sign in (("greater", 1), ("less", -1)):
        one = anytime((estimate, se), tau=tau, alpha=alpha, alternative=alternative)
        same = anytime((-estimate, se), tau=tau, alpha=alpha, alternative="less" if sign > 0 else "greater")
        assert one.p_value == pytest.approx(same.p_value)
        assert (one.p_value < alpha) == (not one.interval.contains(0.0))
        end = one.interval.low if sign > 0 else -one.interval.high
        inner = r.interval.low if sign > 0 else -r.interval.high
        assert end >= inner - 1e-9 * max(1.0, abs(inner))
    moved = anytime((estimate + 7, se), tau=tau, alpha=alpha, null=7.0)
    assert moved.p_value == pytest.approx(r.p_value, rel=1e-6)


def test_every_door_to_an_answer_at_any_moment_is_the_same():
    """Values, Summary, Moments and a comparison by Welch's standard error."""
    rng = np.random.default_rng(2)
    a, b = rng.normal(1, 2, 300), rng.normal(0.6, 3, 280)
    doors = [
        (ar.Sample(a, "a"), ar.Sample(b, "b")),
        tuple(Summary(v.size, v.mean(), v.std(ddof=1), k) for v, k in ((a, "a"), (b, "b"))),
        tuple(ar.Moments.from_arrays({"x": v}, label=k) for v, k in ((a, "a"), (b, "b"))),
    ]
    found = [anytime(*door, tuned_for=1000) for door in doors]
    found.append(anytime(means(ar.Sample(a, "a"), ar.Sample(b, "b")), tuned_for=1000))
    for one in found[1:]:
        assert one.interval.low == pytest.approx(found[0].interval.low, rel=1e-12)
        assert one.p_value == pytest.approx(found[0].p_value, rel=1e-10)
        assert one.treatment == "a"
    assert "anytime" in type(found[0].parts[0]).__name__.lower()
    assert found[0].to_frame()["wider"][0] == pytest.approx(found[0].anytime.wider)


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 400), st.integers(0, 400), st.sampled_from([0.01, 0.05, 0.2]), st.floats(0.02, 0.98))
def test_one_share_agrees_with_itself(n, s, alpha, null):
    """P and interval, at any counts, both directions; failures are the mirror image of successes."""
    assume(s <= n)
    for alternative in ("two-sided", "greater", "less"):
        r = anytime_share(Counts(s, n, "x"), alpha=alpha, null=null, alternative=alternative)
        assert 0 <= r.interval.low < r.interval.high <= 1
        assert (r.p_value < alpha) == (not r.interval.contains(null)) or abs(r.p_value - alpha) < 1e-9
        assert r.interval.low <= s / n <= r.interval.high
    two = anytime_share(Counts(s, n, "x"), alpha=alpha, null=null)
    back = anytime_share(Counts(n - s, n, "x"), alpha=alpha, null=1 - null)
    assert back.interval.low == pytest.approx(1 - two.interval.high, abs=1e-12)
    assert back.anytime.log_e == pytest.approx(two.anytime.log_e, rel=1e-9, abs=1e-9)


def test_extremes_are_answered():
    """Huge counts, tiny alpha, tails of 1e-300, one unit: finite, ordered, and said."""
    big = anytime_shares(Counts(5 * 10**11 + 10**7, 10**12, "a"), Counts(5 * 10**11, 10**12, "b"))
    assert 0 < big.interval.low < 1e-5 < big.interval.high < 2e-5
    n, s, p = 10**12, 5 * 10**11 + 2 * 10**6, mp.mpf("0.5")
    with mp.workdps(40):
        log_e = mp.loggamma(1 + s) + mp.loggamma(1 + n - s) - mp.loggamma(2 + n) - n * mp.log(p)
    assert anytime_share(Counts(s, n, "x")).anytime.log_e == pytest.approx(float(log_e), rel=1e-10)
    with mp.workdps(40):
        counts = [n, n + 3 * 10**6]
        log_split = -mp.loggamma(2 + sum(counts)) + sum(mp.loggamma(1 + c) for c in counts) + sum(counts) * mp.log(2)
    assert anytime_split(dict(zip("ab", counts, strict=True))).log_e[0] == pytest.approx(float(log_split), rel=1e-10)
    assert anytime_share(Counts(10**12 // 3, 10**12, "x"), null=0.5).p_value == 0.0
    assert anytime_share(Counts(10**12 // 3, 10**12, "x"), null=0.5).anytime.log_e > 1e9
    assert anytime_share(Counts(1, 1, "x")).interval.low > 0
    small = anytime((40.0, 1.0), tau=1.0, alpha=1e-100)
    assert small.p_value < 1e-150
    assert np.isfinite(small.interval.low)
    split = anytime_split({"a": 10**12, "b": 10**12 + 10**7})
    assert not split.sound
    assert anytime_mean([0.0], bounds=(0.0, 1.0)).interval.high == 1.0
    far = monitor(boundaries(3), [37.0])
    assert 0 < far.repeated_p[0] < 1e-100
    assert far.stagewise_p < 1e-290
    assert far.drift == pytest.approx(37 * np.sqrt(3), rel=1e-9)
    deep = boundaries(4, alpha=1e-8, spending="pocock", power=0.999999)
    assert deep.operating[2].power == pytest.approx(0.999999, rel=1e-12)
    assert deep.operating[0].power == pytest.approx(1e-8, rel=1e-9)
    assert peeking(200, alpha=1e-8).error[-1] > 1e-8
    sure = stopping_by_evidence(4, se=0.001, prior=(0.0, 1.0), threshold=1e6, effect=0.5)
    assert sure.design.for_effect.sum() == pytest.approx(1)
    assert sure.prior.misleading < 0.01


def test_looks_of_a_share_keep_their_own_interval():
    """The repeated interval is the method's at the nominal level: that of Newcombe's kind for shares, not ± c se."""
    looks = [ar.measure.proportions(Counts(60, 100, "a"), Counts(45, 100, "b"))]
    b = boundaries(2, spending="pocock")
    r = monitor(b, looks)
    own = ar.measure.proportions(Counts(60, 100, "a"), Counts(45, 100, "b"), alpha=float(b.p[0]))
    assert (r.latest.interval.low, r.latest.interval.high) == (own.interval.low, own.interval.high)
    assert r.latest.interval.level == 0.95
    for counts in ((30, 20), (70, 30), (99, 1), (50, 50)):
        one = ar.measure.proportions(Counts(counts[0], 100, "a"), Counts(counts[1], 100, "b"))
        seen = monitor(b, [one])
        crossed = seen.crossed_at == 1
        assert (seen.comparisons.p_value[0] < 0.05) == crossed == (not seen.comparisons.interval.contains(0.0)[0])
