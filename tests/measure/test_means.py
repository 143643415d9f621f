"""The difference of two means: truth, agreement of test and interval, doors, directions, errors."""

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import truth
from amber_ruler import DataError, InputError, Moments, Result, Sample, Summary
from amber_ruler.measure import mean, means
from truth import mp

ALTERNATIVES = ("two-sided", "greater", "less")
CASES = [
    (100, 14.2, 4.0, 100, 13.0, 3.0, 0),
    (2, 1.0, 0.5, 3, 0.2, 2.0, 0),
    (12, -3.0, 1e-6, 500, -3.0000001, 5e-7, 0),
    (10_000_000, 1.0001, 1.0, 9_000_000, 1.0, 2.0, 0),
    (40, 1e9 + 3, 2.0, 60, 1e9, 1.0, 1),
    (30, 5.0, 0.0, 30, 4.9, 0.4, 0),
]

group = st.tuples(
    st.one_of(st.integers(2, 40), st.integers(2, 10**9)),
    st.floats(-1e6, 1e6),
    st.one_of(st.floats(1e-6, 1e6), st.just(0.0)),
)


def pair(a, b):
    return Summary(*a, "short"), Summary(*b, "current")


@pytest.mark.parametrize("case", CASES)
def test_welch_agrees_with_high_precision(case):
    """Statistic, degrees of freedom, p and interval agree with mpmath to 1e-10."""
    n1, m1, s1, n0, m0, s0, null = case
    r = means(*pair((n1, m1, s1), (n0, m0, s0)), null=null)
    t, df, p = truth.welch(*case)
    assert r.statistic == pytest.approx(float(t), rel=1e-10)
    assert r.df == pytest.approx(float(df), rel=1e-10)
    assert r.p_value == pytest.approx(float(p), rel=1e-10)
    se = abs((mp.mpf(m1) - mp.mpf(m0) - null) / t)
    reach = mp.findroot(
        lambda c: truth.t_upper(c, df) - mp.mpf("0.025"), mp.mpf(max(2.0, float((r.interval.high - r.estimate) / se)))
    )
    assert r.interval.high - r.estimate == pytest.approx(float(reach * se), rel=1e-9)


def test_equal_variances_and_known_deviations():
    """The pooled t and the normal test, by their formulas."""
    one, two = pair((8, 3.0, 1.5), (12, 2.0, 1.0))
    pooled = np.sqrt((7 * 1.5**2 + 11 * 1.0**2) / 18)
    r = means(one, two, variances="equal")
    assert r.df == 18
    assert r.statistic == pytest.approx(1 / (pooled * np.sqrt(1 / 8 + 1 / 12)), rel=1e-12)
    z = means(one, two, known_sd=(2.0, 1.0))
    assert z.df is None
    assert z.statistic == pytest.approx(1 / np.sqrt(4 / 8 + 1 / 12), rel=1e-12)
    assert z.p_value == pytest.approx(float(mp.erfc(mp.mpf(z.statistic) / mp.sqrt(2))), rel=1e-12)
    assert z.effects["cohen_d"].value == pytest.approx(1 / np.sqrt(2.5), rel=1e-12)


@settings(max_examples=120, deadline=None)
@given(
    group,
    group,
    st.sampled_from(ALTERNATIVES),
    st.sampled_from(["unequal", "equal"]),
    st.floats(-10, 10),
    st.floats(1e-12, 0.49),
)
def test_p_is_below_alpha_exactly_when_the_interval_leaves_out_the_null(a, b, alternative, variances, null, alpha):
    """Promise 2 of the house, through nasty numbers; the lift and the pooled g keep it too."""
    assume(a[2] > 0 or b[2] > 0)
    r = means(*pair(a, b), alternative=alternative, variances=variances, null=null, alpha=alpha)
    assert (r.p_value < alpha) == (not r.interval.contains(null))
    same = means(*pair(a, b), alternative=alternative, variances="equal", alpha=alpha)
    if abs(same.p_value - alpha) > 1e-9 * alpha:
        assert (same.p_value < alpha) == (not same.effects["hedges_g"].interval.contains(0.0))
        lift = same.effects.get("lift")
        if lift is not None and np.isfinite(lift.interval.low) and np.isfinite(lift.interval.high):
            assert (same.p_value < alpha) == (not lift.interval.contains(0.0))


@settings(deadline=None)
@given(group, group, st.sampled_from(["unequal", "equal"]))
def test_swapping_the_groups_flips_the_sign(a, b, variances):
    """Everything is antisymmetric in the two groups, and p is the same."""
    assume(a[2] > 0 or b[2] > 0)
    r = means(*pair(a, b), variances=variances)
    s = means(Summary(*b, "current"), Summary(*a, "short"), variances=variances)
    assert r.estimate == -s.estimate
    assert r.p_value == s.p_value
    assert (r.interval.low, r.interval.high) == (-s.interval.high, -s.interval.low)
    assert r.effects["hedges_g"].value == -s.effects["hedges_g"].value


ordinary = st.tuples(st.integers(2, 10**6), st.floats(-100, 100), st.floats(0.1, 100))


@settings(deadline=None)
@given(ordinary, ordinary, st.floats(1e-3, 1e3))
def test_rescaling_the_metric_rescales_the_estimate_alone(a, b, factor):
    """p, t and g know no unit."""
    r = means(*pair(a, b))
    scaled = means(*pair(*((n, m * factor, s * factor) for n, m, s in (a, b))))
    assert scaled.estimate == pytest.approx(r.estimate * factor, rel=1e-9, abs=1e-12 * factor)
    assert scaled.statistic == pytest.approx(r.statistic, rel=1e-9, abs=1e-7)
    g, h = (x.effects["hedges_g"].interval for x in (r, scaled))
    assert (h.low, h.high) == pytest.approx((g.low, g.high), rel=1e-7, abs=1e-7)


def test_hedges_g_interval_inverts_the_noncentral_t():
    """Value and limits of g, from gamma functions and the definition of the noncentral t."""
    r = means(*pair((20, 5.0, 1.2), (25, 4.0, 1.0)), variances="equal")
    g = r.effects["hedges_g"]
    unit, df = mp.sqrt(mp.mpf(1) / 20 + mp.mpf(1) / 25), 43
    factor = mp.gamma(mp.mpf(df) / 2) / (mp.sqrt(mp.mpf(df) / 2) * mp.gamma(mp.mpf(df - 1) / 2))
    assert g.value == pytest.approx(float(mp.mpf(r.statistic) * unit * factor), rel=1e-12)
    for limit, upper in ((g.interval.low, True), (g.interval.high, False)):
        tail = truth.noncentral_t(r.statistic, df, mp.mpf(limit) / unit, upper=upper)
        assert float(tail) == pytest.approx(0.025, rel=1e-9)


def test_lift_is_fiellers_and_says_when_it_has_no_limits():
    """At its limits the ratio's own t equals the critical value; near 0 the lift has none."""
    one, two = pair((50, 12.0, 4.0), (60, 10.0, 3.0))
    r = means(one, two)
    critical = (r.interval.high - r.estimate) / np.hypot(r.groups[0].se, r.groups[1].se)
    for limit in (r.effects["lift"].interval.low, r.effects["lift"].interval.high):
        ratio = 1 + limit
        assert abs(12 - ratio * 10) / np.sqrt(16 / 50 + ratio**2 * 9 / 60) == pytest.approx(critical, rel=1e-10)
    unbounded = means(*pair((50, 1.0, 4.0), (60, 0.1, 3.0)))
    assert unbounded.effects["lift"].interval.high == np.inf
    assert "no finite limits" in unbounded.notes[0]
    assert "no finite limits" in means(*pair((50, 1.0, 4.0), (60, -0.1, 3.0))).notes[0]
    assert "No lift" in means(*pair((50, 1.0, 4.0), (60, 0.0, 3.0))).notes[0]


@pytest.mark.parametrize("alternative", ["two-sided", "greater", "less"])
@pytest.mark.parametrize(("m1", "m0"), [(-5.0, -4.0), (-3.0, -4.0), (2.0, -4.0), (5.0, 4.0)])
def test_a_lift_on_a_control_below_0_is_the_set_of_ratios_that_the_test_keeps(m1, m0, alternative):
    """A ratio lies in the set exactly when the difference m1 - r m0 is not significant in the direction asked."""
    r = means(*pair((50, m1, 2.0), (60, m0, 3.0)), alternative=alternative)
    lift, c = r.effects["lift"], abs(r.critical)
    assert lift.value == pytest.approx(m1 / m0 - 1)
    for ratio in np.linspace(-4, 6, 201):
        z = (m1 - ratio * m0) / np.sqrt(2.0**2 / 50 + ratio**2 * 3.0**2 / 60)
        kept = {"two-sided": abs(z) <= c, "greater": z <= c, "less": z >= -c}[alternative]
        if ratio > 0 or alternative == "two-sided":
            assert lift.interval.contains(ratio - 1) == kept, ratio


def test_a_note_says_when_the_interval_of_g_disagrees_with_the_test():
    """Under very unequal spreads and sizes g is an approximation, and the reader is told."""
    groups = pair((10, 13.0, 6.0), (200, 10.0, 1.0))
    assert means(*groups).p_value > 0.05
    assert means(*groups).effects["hedges_g"].interval.low > 0
    assert "disagree with the test" in means(*groups).notes[0]
    (other,) = means(*groups, variances="equal").notes
    assert "The choice of variances decides: with unequal ones" in other
    assert not means(*pair((50, 13.0, 6.0), (50, 10.0, 5.0))).notes


@pytest.mark.parametrize("alternative", ALTERNATIVES)
def test_one_sided_results_have_one_sided_limits(alternative):
    """A one-sided p is a tail, its interval has one limit, and so have its effect sizes."""
    r = means(*pair((30, 1.5, 1.0), (30, 1.0, 1.0)), alternative=alternative)
    both = means(*pair((30, 1.5, 1.0), (30, 1.0, 1.0)))
    expected = {"two-sided": both.p_value, "greater": both.p_value / 2, "less": 1 - both.p_value / 2}[alternative]
    assert r.p_value == pytest.approx(expected, rel=1e-12)
    for interval in (r.interval, r.effects["hedges_g"].interval, r.effects["lift"].interval):
        assert np.isinf(interval.low) == (alternative == "less")
        assert np.isinf(interval.high) == (alternative == "greater")


def test_every_door_gives_the_same_answer():
    """Lists, arrays, samples, moments and published numbers are one input."""
    rng = np.random.default_rng(1)
    x, y = rng.gamma(2, 3, 80), rng.gamma(2, 2.5, 90)
    doors = [
        (x.tolist(), y.tolist()),
        (x, y),
        (Sample(x, "treatment"), Sample(y, "control")),
        (Moments.from_arrays({"value": x}), Moments.from_arrays({"value": y})),
        (
            Moments.from_summary(n=80, mean=x.mean(), sd=x.std(ddof=1)),
            Moments.from_summary(n=90, mean=y.mean(), sd=y.std(ddof=1)),
        ),
        (Summary(80, x.mean(), x.std(ddof=1)), Summary(90, y.mean(), y.std(ddof=1))),
    ]
    first, *others = (means(*door) for door in doors)
    for other in others:
        assert other.p_value == pytest.approx(first.p_value, rel=1e-11)
        assert other.interval.low == pytest.approx(first.interval.low, rel=1e-11)
        assert other.effects["hedges_g"].interval.high == pytest.approx(
            first.effects["hedges_g"].interval.high, rel=1e-10
        )


def test_a_broadcast_call_equals_the_scalar_calls():
    """A thousand comparisons are one call."""
    rng = np.random.default_rng(2)
    n, mean, sd = rng.integers(5, 4000, 40), rng.normal(3, 1, 40), rng.uniform(0.5, 2, 40)
    many = means(Summary(n, mean, sd, "a"), Summary(200, 3.0, 1.0, "b"), margin=0.2)
    for k in range(40):
        one = means(Summary(n[k], mean[k], sd[k], "a"), Summary(200, 3.0, 1.0, "b"), margin=0.2)
        assert many.p_value[k] == pytest.approx(one.p_value, rel=1e-13)
        assert many.effects["hedges_g"].interval.low[k] == pytest.approx(one.effects["hedges_g"].interval.low, rel=1e-9)
        assert many.verdict[k] == one.verdict


def test_coverage_of_the_interval_is_what_it_says():
    """Over 20,000 simulated tests with unequal spreads the 95% interval covers 95%, within 4 Monte-Carlo errors."""
    rng = np.random.default_rng(11)
    runs, n1, n0 = 20_000, 12, 30
    x, y = rng.normal(1.0, 3.0, (runs, n1)), rng.normal(0.0, 1.0, (runs, n0))
    r = means(
        Summary(n1, x.mean(axis=1), x.std(axis=1, ddof=1), "a"), Summary(n0, y.mean(axis=1), y.std(axis=1, ddof=1), "b")
    )
    covered = np.mean(r.interval.contains(1.0))
    assert abs(covered - 0.95) < 4 * np.sqrt(0.95 * 0.05 / runs)


@pytest.mark.parametrize(
    ("margin", "good", "interval_like", "verdict"),
    [
        (None, "higher", (100, 1.0, 1.0), "better"),
        (None, "lower", (100, 1.0, 1.0), "worse"),
        (2.0, "higher", (100, 1.0, 1.0), "no difference that matters"),
        (0.5, "higher", (100, 0.25, 1.0), "no difference that matters"),
        (0.5, "higher", (100, 0.27, 1.0), "undecided"),
        (None, "higher", (100, -1.0, 1.0), "worse"),
    ],
)
def test_the_verdict_is_read_off_the_interval(margin, good, interval_like, verdict):
    """Better, worse, the same for all that matters, or undecided."""
    assert means(*pair(interval_like, (100, 0.0, 1.0)), margin=margin, good=good).verdict == verdict


@settings(max_examples=80, deadline=None)
@given(
    st.tuples(st.integers(3, 60), st.floats(-3, 6), st.floats(0.5, 5)),
    st.tuples(st.integers(3, 60), st.floats(0.01, 3), st.floats(0.5, 5)),
    st.sampled_from(ALTERNATIVES),
    st.sampled_from([0.3, 0.05, 0.001]),
    st.floats(0.01, 4),
)
def test_the_lift_and_the_verdict_never_contradict_their_tests(one, two, alternative, alpha, margin):
    """Fieller's set leaves out a lift of 0 exactly when p < alpha, be it the outside of an interval or all but one."""
    r = means(*pair(one, two), alternative=alternative, alpha=alpha, margin=margin)
    assert (r.p_value < alpha) == (not r.effects["lift"].interval.contains(0.0))
    assert (r.verdict == "no difference that matters") == r.margin_tests["equivalent"].holds
    low, _, high = r.sentence().partition("interval ")[2].split(", p")[0].partition(" to ")
    if alternative == "two-sided" and r.p_value < alpha and high:
        assert {"0.00", "0.000"}.isdisjoint((low, high))


def test_a_lift_whose_control_is_near_0_says_what_it_is_not():
    """The roots of (2.5 - 0.7 r)^2 = c^2 (se1^2 + r^2 se0^2), less 1; kept by every medium."""
    r = means(*pair((100, 2.5, 5.0), (100, 0.7, 4.5)))
    found = r.effects["lift"].interval
    for end in found.excludes:
        distance = (2.5 - 0.7 * (end + 1)) ** 2 / (0.25 + (end + 1) ** 2 * 0.2025)
        assert distance == pytest.approx(r.critical**2, rel=1e-9)
    assert (found.low, found.high) == (-np.inf, np.inf)
    assert "outside −1,411% to 35%" in str(r)
    assert Result.from_json(r.to_json()) == r


def test_missing_values_and_small_groups_are_said():
    """Nothing is dropped silently."""
    r = means(Sample([1.0, 2.0, np.nan, 4.0], "a", missing="leave out"), Sample([1.0, 2.5, 0.0], "b"))
    found = {c.name: c.finding for c in r.checks}
    assert "a 1 of 4" in found["missing values"]
    assert "3 units" in found["group sizes"]


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: means([1.0], [1.0, 2.0]), "'treatment' has 1 row"),
        (lambda: means([1.0, 1.0], [2.0, 2.0]), "without any spread"),
        (lambda: means(Summary([5, 5], 1.0, [0.0, 1.0], "a"), Summary(5, 1.0, 0.0, "b")), "1 of the 2 comparisons"),
        (lambda: means([], [1.0, 2.0]), "'treatment' is empty"),
        (lambda: means([1.0, np.nan], [1.0, 2.0]), "not finite"),
        (lambda: means(["x", "y"], [1.0, 2.0]), "must be a number"),
        (lambda: means(Summary(1, 1.0, 1.0), Summary(5, 1.0, 1.0)), "'treatment' has 1 unit"),
        (lambda: means(Summary(5, 1.0, -1.0), [1.0, 2.0]), "sd must be at least 0"),
        (lambda: means(Summary(5, 1, 1, "a"), Summary(5, 1, 1, "a")), "both labelled 'a'"),
        (lambda: means([1.0, 2.0], [1.0, 3.0], alpha=0.7), "alpha must be between 0 and 0.5"),
        (lambda: means([1.0, 2.0], [1.0, 3.0], alternative="bigger"), "alternative: 'bigger'"),
        (lambda: means([1.0, 2.0], [1.0, 3.0], good="hi"), "good"),
        (lambda: means([1.0, 2.0], [1.0, 3.0], margin=-1), "margin must be at least 0"),
        (lambda: means(Summary(5, 1, 1, "a"), [[1.0, 2.0]]), "one-dimensional"),
        (lambda: Sample([1.0], missing="drop"), "missing: 'drop'"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what and where."""
    with pytest.raises((DataError, InputError), match=says):
        call()


def test_one_value_that_alone_decides_is_named_in_one_group_too():
    """The value farthest from the median is left out, and the test asked again; without a null there is no test."""
    values = [1.0, 2.0, 1.5, 2.5, 1.2, 2.1, 40.0]
    calm = mean(Sample([*values[:-1], 2.2], "short"), null=0.0)
    assert not any(c.name == "one value" for c in calm.checks)
    wild = mean(Sample(values, "short"), null=0.0)
    (said,) = (c for c in wild.checks if c.name == "one value")
    assert "without the value 40 of short alone" in said.finding
    without = mean(Sample(values[:-1], "short"), null=0.0).p_value
    assert f"{without:.3g}" in said.finding
    assert not any(c.name == "one value" for c in mean(values).checks)
    still = mean([2.0, 2.0, 2.0, 2.0, 9.0], null=3.0)
    assert any("there would be no spread to test by" in c.finding for c in still.checks)


@pytest.mark.parametrize(
    "groups",
    [
        (4000, 14.0, 21.0, 3900, 14.05, 20.4),
        (2, 5.0, 1.0, 2, 5.1, 0.9),
        (50, 1.2, 3.0, 60, 1.9, 2.0),
        (10**12, 1e9, 1e3, 10**12, 1e9 + 1e-3, 1e3),
    ],
)
@pytest.mark.parametrize("lift", [0.5, 0.05, 1e-12])
def test_a_margin_as_a_lift_is_a_test_of_the_ratio(groups, lift):
    """By hand: treatment less (1 ∓ lift) times control, each over its own standard error."""
    n1, m1, s1, n0, m0, s0 = map(mp.mpf, groups)
    df = truth.welch(*groups)[1]
    found = means(Summary(*groups[:3]), Summary(*groups[3:]), margin_lift=lift).margin_tests
    ends = []
    for sign in (-1, 1):
        ratio = 1 + sign * mp.mpf(lift)
        t = -sign * (m1 - ratio * m0) / mp.sqrt(s1**2 / n1 + ratio**2 * s0**2 / n0)
        ends.append(0.0 if t > 50 else float(truth.t_upper(t, df) if t > 0 else 1 - truth.t_upper(-t, df)))
    assert found["not_worse"].p_value == pytest.approx(ends[0], rel=1e-10, abs=1e-300)
    assert found["equivalent"].p_value == pytest.approx(max(ends), rel=1e-10, abs=1e-300)


def test_a_margin_as_a_lift_needs_a_control_above_zero():
    """A share of nothing, or of a loss, is no margin."""
    with pytest.raises(DataError, match="give margin instead"):
        means(Summary(50, 1.0, 1.0), Summary(50, -1.0, 1.0), margin_lift=0.1)
