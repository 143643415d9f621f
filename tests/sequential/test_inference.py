"""What looks say while a test runs and once it has stopped: Simpson's rule, simulation, laws."""

import numpy as np
import pytest
from scipy import special

import amber_ruler as ar
from amber_ruler import InputError, Summary
from amber_ruler.measure import means
from amber_ruler.sequential import boundaries, inverse_normal, looks_by_day, monitor, resized
from simpson import Path

PLANS = {
    "two sides": {},
    "pocock": {"spending": "pocock"},
    "one side": {"sides": 1, "alpha": 0.025},
    "futility": {"sides": 1, "futility": "pocock"},
    "binding": {"sides": 1, "futility": "pocock", "binding": True},
    "shape": {"shape": "wang-tsiatis"},
    "harm": {"sides": 1, "harm": 0.1},
}
SEEN = {
    "early": [2.9],
    "second": [1.1, 3.5],
    "end": [0.4, 1.0, 1.9, 2.2],
    "never": [0.9, 1.2, 1.4, 1.2],
    "below": [-3.4],
}


def counted(b):
    """The regions that alpha counts on."""
    if b.rule.binding:
        return [[(max(low, f), high)] for low, f, high in zip(b.lower, b.futility, b.z, strict=True)]
    return [[(low, high)] for low, high in zip(b.lower, b.z, strict=True)]


def beyond(b, k, z, drift):
    """P(an outcome at or above this one in stage-wise order), by Simpson's rule."""
    path = Path(b.fractions, counted(b), drift)
    return sum(path.above(j, b.z[j]) for j in range(k)) + path.above(k, z)


@pytest.mark.parametrize("plan", PLANS)
@pytest.mark.parametrize("seen", SEEN)
def test_stage_wise_answers_solve_their_equations(plan, seen):
    """The p is the chance under none; limits and median have theirs; p < alpha exactly as the interval leaves out 0."""
    b = boundaries(4, **PLANS[plan])
    r = monitor(b, SEEN[seen])
    if r.stopped_at is None:
        assert r.decision == "go on"
        assert r.stagewise_p is None
        return
    k, z = r.stopped_at - 1, float(r.z[r.stopped_at - 1])
    above = beyond(b, k, z, 0.0)
    assert r.stagewise_p == pytest.approx(above if b.sides == 1 else 2 * min(above, 1 - above), abs=1e-8)
    assert beyond(b, k, z, r.drift) == pytest.approx(0.5, abs=1e-8)
    assert beyond(b, k, z, r.drift_interval.low) == pytest.approx(b.alpha / b.sides, abs=1e-8)
    if b.sides == 2:
        assert beyond(b, k, z, r.drift_interval.high) == pytest.approx(1 - b.alpha / 2, abs=1e-8)
    else:
        assert r.drift_interval.high == np.inf
    assert (r.stagewise_p < b.alpha) == (not r.drift_interval.contains(0.0)) == (r.decision == "stop: a difference")
    # The estimate that stopping early exaggerates comes down.
    if r.decision == "stop: a difference" and not b.rule.binding:
        assert abs(r.drift_adjusted) < abs(z) / np.sqrt(r.fractions[k])


@pytest.mark.parametrize("plan", PLANS)
def test_repeated_p_is_below_alpha_exactly_where_the_boundary_is_crossed(plan):
    """At random z, and at the boundary itself; and the level has |z| as its boundary."""
    b = boundaries(4, **PLANS[plan])
    rng = np.random.default_rng(2)
    for z in [*rng.normal(1, 1.5, (25, 4)), b.z + 1e-9, b.z - 1e-9]:
        r = monitor(b, z)
        outside = (z > b.z) | ((z < -b.z) if b.sides == 2 else False)
        assert ((r.repeated_p < b.alpha) == outside).all()
        assert np.all(np.diff(r.running_p) <= 0)
    r = monitor(b, [1.9, 2.1, 2.0, 1.8])
    if b.futility is None:
        for k, p in enumerate(r.repeated_p):
            if p < 0.5:
                again = boundaries(4, **{**PLANS[plan], "alpha": float(p), "power": 0.9})
                assert again.z[k] == pytest.approx(r.z[k], abs=1e-8)
    # One look is the fixed test.
    one = monitor(boundaries(1, sides=b.sides), [1.7])
    assert one.repeated_p[0] == pytest.approx(b.sides * special.ndtr(-1.7), rel=1e-10)
    assert one.stagewise_p == pytest.approx(b.sides * special.ndtr(-1.7), rel=1e-10)
    assert one.drift_adjusted == pytest.approx(1.7, rel=1e-9)


def test_estimates_on_average_and_intervals_over_many_tests():
    """200,000 paths: the bias-adjusted drift undoes the mean of the estimate; 20,000 intervals cover as they say."""
    t = np.array([0.3, 0.7, 1.0])
    b = boundaries(t, spending="pocock")
    rng, runs, drift = np.random.default_rng(8), 200_000, 2.4
    gaps = np.diff(t, prepend=0.0)
    z = np.cumsum(rng.normal(drift * gaps, np.sqrt(gaps), (runs, 3)), axis=1) / np.sqrt(t)
    stop = np.abs(z) > b.z
    first = np.where(stop.any(axis=1), stop.argmax(axis=1), 2)
    seen = np.take_along_axis(z, first[:, None], 1)[:, 0]
    estimate = seen / np.sqrt(t[first])
    from amber_ruler.sequential.inference import Seen
    from amber_ruler.sequential.recursion import walk

    path = walk(b.regions)
    assert abs(estimate.mean() - Seen(path, 2, 0.0).mean_of_estimate(drift)) < 4 * estimate.std() / np.sqrt(runs)
    # Coverage through p under the true drift: an outcome is covered where neither tail is below 2.5 %.
    shown = [Seen(path, int(k), float(v)).beyond(drift) for k, v in zip(first[:4_000], seen[:4_000], strict=True)]
    covered = np.mean([min(pair) >= 0.025 for pair in shown])
    assert abs(covered - 0.95) < 4 * np.sqrt(0.05 * 0.95 / 4_000)


def test_chances_ahead():
    """One look to come in closed form; several by Simpson's rule from where the path stands; averages over a prior."""
    b = boundaries(4)
    r = monitor(b, [0.8, 1.5, 1.7])
    place, left = 1.7 * np.sqrt(0.75), 0.25
    for name, drift in (("design", b.drift), ("trend", 1.7 / np.sqrt(0.75)), ("none", 0.0)):
        closed = special.ndtr(-(b.z[3] - place - drift * left) / np.sqrt(left))
        assert r.conditional_power[name] == pytest.approx(closed, abs=1e-12)
        assert r.conditional_last[name] == pytest.approx(closed, abs=1e-12)
    flat = special.ndtr(-(b.z[3] - place / 0.75) / np.sqrt(left + left**2 / 0.75))
    assert r.predictive_power == pytest.approx(flat, abs=1e-9)
    assert r.predictive_last == pytest.approx(flat, abs=1e-12)
    early = monitor(b, [1.2], prior=(2.0, 1.5))
    start = (0.25, 1.2 * 0.5)
    for name, drift in (("design", b.drift), ("none", 0.0)):
        path = Path(b.fractions[1:], [[(-z, z)] for z in b.z[1:]], drift, start=start)
        expected = sum(path.above(k, b.z[k + 1]) for k in range(3))
        assert early.conditional_power[name] == pytest.approx(expected, abs=1e-8)
    after = 1 / (1 / 1.5**2 + 0.25)
    mean = after * (2.0 / 1.5**2 + 1.2 * 0.5)
    nodes = mean + np.sqrt(after) * np.linspace(-8, 8, 401)
    weight = np.exp(-0.5 * ((nodes - mean) / np.sqrt(after)) ** 2)
    last = special.ndtr(-(b.z[3] - 0.6 - nodes * 0.75) / np.sqrt(0.75))
    assert early.predictive_last == pytest.approx(float(weight @ last / weight.sum()), abs=1e-9)


def test_looks_as_they_came():
    """Other times, more and fewer, over and short of the plan: alpha is spent to the end and no further."""
    b = boundaries(4, spending="pocock")
    as_planned = monitor(b, [1.0, 1.1])
    assert as_planned.bounds == pytest.approx(b.z[:2], rel=1e-12)
    other = monitor(b, [1.0, 1.1, 1.2], information=[0.2, 0.3, 0.55])
    assert other.planned == 4
    assert other.bounds == pytest.approx(boundaries([0.2, 0.3, 0.55, 1.0], spending="pocock").z[:3], rel=1e-10)
    over = monitor(b, [1.0, 2.3], information=[500, 1100], maximum=1000)
    t, z = over.fractions, over.bounds
    crossed = Path(t, [[(-z[0], z[0])], [(-z[1], z[1])]])
    assert 2 * (crossed.above(0, z[0]) + crossed.above(1, z[1])) == pytest.approx(0.05, abs=1e-9)
    assert any("110.0%" in note for note in over.notes)
    short = monitor(b, [1.0, 2.0], information=[0.25, 0.6], last=True)
    spent = Path(short.fractions, [[(-v, v)] for v in short.bounds])
    assert 2 * (spent.above(0, short.bounds[0]) + spent.above(1, short.bounds[1])) == pytest.approx(0.05, abs=1e-9)
    assert short.decision.startswith("end")
    assert monitor(b, [1.0] * 6, information=[0.1, 0.2, 0.3, 0.4, 0.5, 0.6]).planned == 7
    assert monitor(b, [1.0], information=[0.6]).boundaries.fractions.tolist() == [0.6, 0.75, 1.0]
    kept = boundaries(4, sides=1, futility="pocock", skip=[1])
    moved = monitor(kept, [0.9], information=[0.4])
    assert np.isinf(moved.bounds[0])
    assert moved.futility[0] < 0.9
    assert ar.Result.from_json(moved.to_json()) == moved


def test_comparisons_carry_the_interval_that_decides():
    """Repeated while it runs, stage-wise once it has ended; p and interval always agree; a t keeps its own limits."""
    b = boundaries(3, alpha=0.1, spending="pocock")
    running = [means(Summary(20, 1.0, 2.0, "a"), Summary(20, 0.4, 2.0, "b"), metric="fare")]
    r = monitor(b, running)
    own = means(*(Summary(20, m, 2.0, label) for m, label in ((1.0, "a"), (0.4, "b"))), alpha=float(b.p[0]))
    assert r.latest.interval.low == pytest.approx(own.interval.low, rel=1e-12)
    assert r.latest.p_value == r.repeated_p[0]
    assert r.latest.looks.stagewise is None
    assert r.latest.effects["hedges_g"].interval.low == pytest.approx(own.effects["hedges_g"].interval.low, rel=1e-12)
    stopped = [*running, means(Summary(40, 2.0, 2.0, "a"), Summary(40, 0.4, 2.0, "b"), metric="fare")]
    s = monitor(b, stopped)
    assert s.decision == "stop: a difference"
    assert s.latest.p_value == s.stagewise_p < 0.1
    assert s.latest.interval == s.latest.looks.stagewise
    assert max(s.latest.looks.bias_adjusted, s.latest.looks.median_unbiased) < 1.6
    assert s.comparisons.axis.labels == ("1", "2")
    assert s.comparisons.p_value == pytest.approx(s.repeated_p)
    for look in (r, s):
        many = look.comparisons
        assert ((many.p_value < 0.1) == ~many.interval.contains(0.0)).all()
        assert (look.latest.p_value < 0.1) == (not look.latest.interval.contains(0.0))
        assert ar.Result.from_json(look.to_json()) == look
        assert "repeated p" in str(look)
        assert "whatever makes" in look.comparisons.sentence()
        assert look.plot() is not None
    pairs = monitor(b, [(0.5, 0.4), (0.7, 0.3)], information=None, maximum=1 / 0.2**2)
    assert pairs.fractions == pytest.approx([0.25, 4 / 9])
    assert pairs.comparisons.interval.low[1] == pytest.approx(0.7 - pairs.bounds[1] * 0.3)
    one = monitor(boundaries(3, sides=1), [means([3, 4, 5, 6.5], [1, 2, 3, 3.5], alternative="greater")])
    assert one.latest.interval.high == np.inf
    lower = monitor(boundaries(2, sides=1, harm=0.1), [(-1.0, 0.3)])
    assert lower.decision == "stop: harm"
    assert "harm is shown" in lower.sentence()


def test_a_digest_by_day_gives_looks():
    """Cumulated days equal the table filtered, shares are found as such, and sharpened ones enter too."""
    trips = ar.table(ar.demo.path("travellers"))
    kept = trips.digest(["fare", "booked"], by="form", day="day", covariates="prior_spend")
    looks = looks_by_day(kept, "fare", treatment="short", control="current", days=[7, 14])
    from_rows = looks_by_day(trips, "fare", by="form", day="day", treatment="short", control="current", days=[7, 14])
    assert [one.estimate for one in from_rows] == [one.estimate for one in looks]
    with pytest.raises(InputError, match="hold the variant and the day"):
        looks_by_day(trips, "fare", treatment="short", control="current")
    with pytest.raises(InputError, match="knows its own columns"):
        looks_by_day(kept, "fare", by="form", treatment="short", control="current")
    rows = trips.where("day", at_most=14).samples("fare", by="form")
    assert looks[1].estimate == pytest.approx(means(rows["short"], rows["current"]).estimate, rel=1e-12)
    assert looks_by_day(kept, "booked", treatment="short", control="current", days=[7])[0].quantity == "share"
    sharp = looks_by_day(kept, "fare", treatment="short", control="current", days=[14], method=ar.adjust.cuped,
                         value="fare", covariate="prior_spend")  # fmt: skip
    r = monitor(boundaries([0.5, 1.0]), sharp, maximum=8000)
    assert r.latest.adjustment.steps == sharp[0].adjustment.steps
    assert r.fractions[0] == pytest.approx(sum(g.n for g in sharp[0].groups) / 8000)
    assert len(looks_by_day(kept, "fare", treatment="short", control="current")) == 28
    with pytest.raises(InputError, match="follow each other"):
        looks_by_day(kept, "fare", treatment="short", control="current", days=[14, 7])
    with pytest.raises(ar.DataError, match="day of this digest"):
        looks_by_day(kept, "fare", treatment="short", control="current", days=[99])


def test_sizes_looked_at_again():
    """Blinded variance with and without the effect's share; stages combined keep alpha in 400,000 adapted tests."""
    b = boundaries(2)
    n1, n0, effect, sd = 70, 50, 1.5, 6.0
    within = sd**2 - effect**2 * n1 * n0 / 120**2 * 120 / 119
    r = resized(b, effect=effect, sd=sd, n_treatment=n1, n_control=n0)
    assert r.sd**2 == pytest.approx(within, rel=1e-12)
    assert r.n_exact == pytest.approx(2 * b.drift**2 * within / effect**2, rel=1e-12)
    plain = resized(b, effect=effect, sd=sd, n_treatment=n1, n_control=n0, without_effect=False)
    assert plain.sd == resized(b, effect=effect, sd=sd, n_treatment=n1, n_control=n0, blinded=False).sd == sd
    with pytest.raises(InputError, match="spread less"):
        resized(b, effect=20.0, sd=1.0, n_treatment=10, n_control=10)
    rng, runs = np.random.default_rng(4), 400_000
    first = rng.normal(size=runs)
    more = np.where(first > 0.5, 4.0, 0.7)  # a second stage that depends on the first
    second = rng.normal(size=(runs, 2)).sum(axis=1) / np.sqrt(2) + 0 * more
    z = inverse_normal([first, second], [0.5, 0.5])
    rejected = (np.abs(z[0]) > b.z[0]) | (np.abs(z[1]) > b.z[1])
    assert abs(rejected.mean() - 0.05) < 4 * np.sqrt(0.05 * 0.95 / runs)
    with pytest.raises(InputError, match="a weight for each"):
        inverse_normal([1.0], [1.0, 2.0])


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: monitor(boundaries(3), [1.0, 1.2], information=[0.5, 0.4]), "were data removed"),
        (lambda: monitor(boundaries(3), [1.0, 1.2], information=[0.5, 0.50001]), "too close together"),
        (lambda: monitor(boundaries(3), [1.0, 1.2], information=[1.0, 1.2]), "no look follows"),
        (lambda: monitor(boundaries(3), [1.0], information=[-0.5]), "information"),
        (lambda: monitor(boundaries(3), [1.0], information=[0.2, 0.3]), "one number for each"),
        (lambda: monitor(boundaries(3), [1.0], maximum=100), "says nothing of information"),
        (lambda: monitor(boundaries(3, shape="pocock"), [1.0], information=[0.2]), "made for its planned looks"),
        (lambda: monitor(boundaries(3, shape="pocock"), [1.0], last=True), "short of its looks"),
        (lambda: monitor(boundaries(3), [(1.0, 0.0)]), "standard error"),
        (lambda: monitor(boundaries(3), [(1.0, 0.5, 2.0)]), "its standard error"),
        (lambda: monitor(boundaries(3), [1.0], prior=(0.0, -1.0)), "sd of the prior"),
        (lambda: monitor(ar.Result.from_json(boundaries(3, spending=lambda t: t).to_json()), [1], information=[0.4]),
         "not saved with them"),
    ],
)  # fmt: skip
def test_bad_looks_are_named(call, says):
    """What was seen and can't be is said."""
    with pytest.raises(InputError, match=says):
        call()
