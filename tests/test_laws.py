"""Laws that every registered method keeps; a method that doesn't keep one says why where it is registered."""

import datetime as dt
import inspect

import numpy as np
import pandas as pd
import polars as pl
import pytest

import amber_ruler as ar
from amber_ruler import AmberRulerError, Moments, Pairs, Records, Sample, Summary
from amber_ruler.register import METHODS, ROOMS
from amber_ruler.results import Comparison, Measurement
from amber_ruler.settings import COMMON

for room in ROOMS:
    getattr(ar, room)
EVERY = [pytest.param(m, id=".".join(key)) for key, m in sorted(METHODS.items())]
LAWS = {"swap", "rescale", "shift", "broadcast", "doors", "p and interval", "again", "null", "p and alpha"}
ORDER = list(COMMON)
COLUMNS = {
    "value": "fare", "covariate": "prior", "before": "prior", "per": "searches", "weight": "weight", "taken": "used",
    "exposed": "seen", "strata": "port", "segment": "port", "cluster": "who", "unit": "who", "age": "day",
    "event": "used", "other": "prior",
}  # fmt: skip
ENDS = {"share": (ar.Counts, "successes", "trials"), "rate": (ar.Events, "count", "exposure")}


def call(method):
    return getattr(getattr(ar, method.room), method.name)


def values(method, seed, n, *, change=lambda v: v):
    """Values such as the method takes: skewed numbers, 0/1, or counts."""
    rng = np.random.default_rng(seed)
    drawn = {
        "share": lambda: (rng.random(n) < 0.3 + 0.2 * (seed % 2)).astype(float),
        "rate": lambda: rng.poisson(1.5 + 0.6 * (seed % 2), n).astype(float),
    }.get(method.needs, lambda: np.round(rng.gamma(3, 2, n) + 0.8 * (seed % 2), 3))()
    return change(drawn)


def data(method, *, change=lambda v: v, turned=False):
    """What to call the method with: its data, and settings that it can't do without."""
    given, columns = groups_of(method, change=change, turned=turned)
    lacking = [name for name, item in method.settings.items() if item.default is item.empty and name not in columns]
    return given, columns | {name: needed(method, name) for name in lacking}


def needed(method, name):
    """A setting without a usual value."""
    assert name == "prior"
    return ar.bayes.Gamma(2, 1) if method.settings[name].annotation is ar.bayes.Gamma else ar.bayes.Normal(0, 2)


def records(arm, fares, known):
    """Rows of a variant with a column for each role that a method may ask for."""
    rng, row = np.random.default_rng(9 + arm), np.arange(fares.size)
    noise = rng.normal(size=fares.size)
    return {
        "fare": fares, "prior": known + noise, "searches": rng.integers(1, 6, fares.size),
        "weight": 1 + rng.random(fares.size),
        "used": (rng.random(fares.size) < 0.8 - 0.5 * arm).astype(float), "seen": (row % 3 > 0).astype(float),
        "port": np.array(["Amble", "Tern Quay"])[row % 2], "who": row // 2 + 100 * arm, "day": row % 2,
    }  # fmt: skip


def groups_of(method, *, change, turned):
    arms = [values(method, seed, n, change=change) for seed, n in ((1, 40), (2, 30))]
    labels = ["short", "current"]
    if method.columns:
        known = [values(method, seed, n) for seed, n in ((1, 40), (2, 30))]
        both = [records(k, v, known[k]) for k, v in enumerate(arms)]
        found = [Records(b, label) for b, label in zip(both, labels, strict=True)]
        asked_for = [n for n in method.columns if n == "value" or method.settings[n].default is inspect.Parameter.empty]
        found = found[:1] if method.takes == "one" else found[::-1] if turned else found
        return found, {name: COLUMNS[name] for name in asked_for}
    if method.takes in ("one", "two"):
        found = [Sample(v, label, metric="fare") for v, label in zip(arms, labels, strict=True)]
        return (found[:1] if method.takes == "one" else found[::-1] if turned else found), {}
    if method.takes in ("pairs", "columns"):
        sides = [arms[0][:30], values(method, 4, 30, change=change)]
        return [Pairs(*(sides[::-1] if turned else sides), ("b", "a") if turned else ("a", "b"))], {}
    if method.takes == "several":
        return [{label: Sample(values(method, k, 20 + k, change=change), label) for k, label in enumerate("abc")}], {}
    if method.takes == "factors":
        cells = [(a, b) for a in "xy" for b in "uvw"]
        return [{cell: values(method, k, 8 + k, change=change) for k, cell in enumerate(cells)}], {}
    if method.takes == "numbers":
        return ([1.3, 0.45] if method.name == "evidence" else [[1.3, 0.4, 0.9], [0.45, 0.3, 0.5]]), {}
    return [[[30, 10, 9], [20, 40, 12]] if method.takes == "table" else {"foot": 120, "bicycle": 80, "car": 100}], {}


def asked(method, *, change=lambda v: v, turned=False, **settings):
    given, lacking = data(method, change=change, turned=turned)
    return call(method)(*given, **lacking, **settings)


def keeps(method, law, *, when=True):
    """Whether a law is to be tested of a method: where its data allow it, and it doesn't say why not."""
    if law in method.exempt:
        pytest.skip(method.exempt[law])
    if not when:
        pytest.skip("the law is not about such data")


def numbers(result):
    """What must agree between two ways to ask: estimate, limits, p; of others the test and every group."""
    if isinstance(result, Measurement):
        found = [result.estimate, result.interval.low, result.interval.high]
        return np.array([*found, *([] if result.p_value is None else [result.p_value])], dtype=float)
    p = getattr(result, "p_values", None) or {"": getattr(result, "p_value", None)}
    return np.array([*p.values(), *(float(g.mean) for g in getattr(result, "groups", ()))], dtype=float)


def same(one, other, rel=1e-9):
    assert numbers(one) == pytest.approx(numbers(other), rel=rel, abs=1e-12)


@pytest.mark.parametrize("method", EVERY)
def test_settings_stand_in_one_order_and_exemptions_name_laws(method):
    """Data first; then the method's own choices; then alpha, null, ... as everywhere; choices are words."""
    common = [name for name in method.settings if name in ORDER]
    own = [name for name in method.settings if name not in ORDER]
    assert list(method.settings) == own + common
    assert common == [name for name in ORDER if name in common]
    assert not any(item.annotation is bool for item in method.settings.values())
    assert set(method.exempt) <= LAWS
    assert method.examples
    assert "Examples\n    --------" in (inspect.getdoc(method.bare) and method.bare.__doc__)


@pytest.mark.parametrize("method", EVERY)
def test_swapping_the_groups_turns_the_sign(method):
    """The difference, its limits and its direction; a ratio becomes its inverse; p stays."""
    keeps(method, "swap", when=method.takes == "two" or (method.takes == "pairs" and method.name != "correlation"))
    one, other = asked(method), asked(method, turned=True)
    turn = (lambda v: 1 / v) if one.scale == "ratio" else (lambda v: 2 * one.no_effect - v)
    assert other.estimate == pytest.approx(turn(one.estimate), rel=1e-9, abs=1e-12)
    turned_ends = np.array([turn(one.interval.high), turn(one.interval.low)])
    assert np.array([other.interval.low, other.interval.high]) == pytest.approx(turned_ends, rel=1e-7, abs=1e-10)
    if one.test:
        assert other.p_value == pytest.approx(one.p_value, rel=1e-9)
        greater, less = asked(method, alternative="greater"), asked(method, turned=True, alternative="less")
        assert greater.p_value == pytest.approx(less.p_value, rel=1e-9)
    if one.evidence:
        assert one.evidence.chance_better + other.evidence.chance_better == pytest.approx(1, abs=1e-9)


@pytest.mark.parametrize("method", EVERY)
def test_another_unit_rescales_the_answer_and_nothing_else(method):
    """In pence what is in pounds a hundredth; p and standardised effects don't know the unit."""
    keeps(method, "rescale", when=method.needs in ("mean", "values") and method.takes not in ("table", "kinds"))
    one, other = asked(method), asked(method, change=lambda v: 128 * v)
    if not isinstance(one, Measurement):
        assert (
            other.p_value
            if hasattr(one, "test")
            else other.p_values == pytest.approx(one.p_value if hasattr(one, "test") else one.p_values, rel=1e-9)
        )
        return
    factor = 128.0 if one.unit == "metric" else 1.0
    assert other.estimate == pytest.approx(factor * one.estimate, rel=1e-9)
    assert other.interval.high == pytest.approx(factor * one.interval.high, rel=1e-9)
    assert (one.p_value is None) or other.p_value == pytest.approx(one.p_value, rel=1e-9)
    for name in {"hedges_g", "superiority", "d_z"} & set(one.effects):
        assert other.effects[name].value == pytest.approx(one.effects[name].value, rel=1e-9)


@pytest.mark.parametrize("method", EVERY)
def test_a_shift_of_everything_changes_no_comparison(method):
    """What both groups have more by as much is no difference."""
    several = method.takes in ("two", "pairs", "several", "factors", "columns")
    keeps(method, "shift", when=method.needs in ("mean", "values") and several)
    one, other = asked(method), asked(method, change=lambda v: v + 1_024)
    if isinstance(one, Measurement):
        same(one, other, rel=1e-7)
    elif hasattr(one, "test"):
        assert other.p_value == pytest.approx(one.p_value, rel=1e-7)


@pytest.mark.parametrize("method", EVERY)
def test_many_at_once_are_the_same_as_one_by_one(method):
    """Published numbers as arrays, with an axis that names them."""
    keeps(method, "broadcast", when=bool(method.published) and method.takes in ("one", "two"))
    one, other = np.array([40, 55, 300]), np.array([50, 60, 280])
    axis = ar.Axis("port", ("Gullhaven", "Tern Quay", "Amble"))

    def group(n, k, label, where=None):
        if method.needs == "mean":
            return Summary(n, 3.0 + n / 100 + 0.3 * k, 2.0 + 0.1 * k, label, axis=where)
        make, *_ = ENDS[method.needs]
        return make(n // 4 + 2 * k, n, label, axis=where)

    def ask(rows, where=None):
        arms = [group(one[rows], 1, "short", where), group(other[rows], 0, "current")]
        return call(method)(*arms[: 1 if method.takes == "one" else 2], **data(method)[1])

    many = ask(slice(None), axis)
    assert many.axis == axis
    for k in range(3):
        single = ask(k)
        assert np.asarray(many.estimate)[k] == pytest.approx(single.estimate, rel=1e-12)
        assert np.asarray(many.interval.low)[k] == pytest.approx(single.interval.low, rel=1e-9)
        assert single.p_value is None or np.asarray(many.p_value)[k] == pytest.approx(single.p_value, rel=1e-9)
    assert "Tern Quay" in str(many)
    assert many.to_frame()["port"].tolist() == list(axis.labels)


@pytest.mark.parametrize("method", EVERY)
def test_every_door_gives_the_same_numbers(method):
    """Lists, arrays, columns of dataframes, samples, moments, published numbers, and tables of each engine."""
    keeps(method, "doors", when=method.takes in ("one", "two") and not method.columns)
    arms = [values(method, 1, 40), values(method, 2, 30)][: 1 if method.takes == "one" else 2]
    lacking = data(method)[1]
    expected = call(method)(*arms, **lacking)
    containers = [list, pd.Series, pl.Series, lambda v: pd.Series(v).astype("Float64"), Sample]
    if method.needs != "values":
        containers.append(lambda v: Moments.from_arrays({"x": v}))
        if method.needs == "share":
            containers += [lambda v: ar.Counts(int(v.sum()), v.size), lambda v: v.astype(bool)]
        elif method.needs == "rate":
            containers.append(lambda v: ar.Events(int(v.sum()), v.size))
        else:
            containers.append(lambda v: Summary(v.size, v.mean(), v.std(ddof=1)))
    for door in containers:
        same(call(method)(*map(door, arms), **lacking), expected)
    rows = pd.DataFrame({"v": np.concatenate(arms), "form": np.repeat(["b", "a"][: len(arms)], [v.size for v in arms])})
    for frame in (rows, pl.from_pandas(rows), pl.from_pandas(rows).lazy()):
        table = ar.table(frame)
        for found in [table.samples("v", by="form")] + ([table.moments("v", by="form")] * (method.needs != "values")):
            same(call(method)(*list(found.values())[::-1], **lacking), expected)


@pytest.mark.parametrize("method", EVERY)
def test_p_is_below_alpha_exactly_when_the_interval_leaves_out_the_null(method):
    """At every level and in every direction, at the null of no effect and at others."""
    keeps(method, "p and interval", when="alternative" in method.settings)
    directions = ("two-sided", "greater", "less")
    base = asked(method)
    reach = (base.interval.high - base.interval.low) / 2
    nulls = [{}]
    if "null" in method.settings and "null" not in method.exempt:
        at = [base.estimate - 0.9 * reach, base.estimate - 1.1 * reach, base.estimate + 1.2 * reach]
        nulls = [{"null": float(v)} for v in at if base.unit != "share" or abs(v) < 1] + nulls * (method.takes != "one")
    for alternative in directions:
        for alpha in (0.3, 0.05, 0.001):
            for null in nulls:
                r = asked(method, alternative=alternative, alpha=alpha, **null)
                if r.test is not None:
                    rejects = np.asarray(r.p_value) < alpha
                    assert np.array_equal(rejects, ~np.asarray(r.interval.contains(r.null))), (alternative, alpha, null)
                    assert r.interval.level == 1 - alpha


@pytest.mark.parametrize("method", EVERY)
def test_a_result_is_asked_again_as_if_asked_anew(method):
    """With the same settings or others; without some units, where they are known; never from what was read back."""
    keeps(method, "again")
    r = asked(method)
    assert r.again() == r
    assert r.again(alpha=0.2) == asked(method, alpha=0.2)
    with pytest.raises(ar.InputError, match="alhpa"):
        r.again(alhpa=0.2)
    with pytest.raises(ar.InputError, match="can't be asked again"):
        ar.Result.from_json(r.to_json()).again()
    if method.takes == "two" and not method.columns:
        given, lacking = data(method)
        fewer = call(method)(given[0].without([0, 3]), given[1], **lacking)
        assert r.again(without={"short": [0, 3]}) == fewer
        with pytest.raises(ar.InputError, match="shrt"):
            r.again(without={"shrt": [0]})
    if method.takes == "several":
        fewer = r.again(without=["a"])
        assert list(fewer.labels if hasattr(fewer, "labels") else [g.label for g in fewer.groups]) == ["b", "c"]


HOSTILE = [
    None, "x", 3, [], [[1.0, 2.0]], [np.nan, 1.0, 2.0], [np.inf, 1.0], ["a", "b"], {}, object(), [1.0], [2.0, 2.0, 2.0],
    (), b"ab", Summary(1, 0.0, 0.0), Summary([2, 3], [1.0, 2.0], 1.0), Pairs([1.0, 2.0], [1.0, 2.0]),
    Moments.from_arrays({"x": [1.0, 2.0], "y": [0.0, 1.0]}), ar.Counts(0, 1), ar.Events(0, 1.0), [1e300, -1e300, 0.0],
    np.ma.array([1.0, 0.0, 1e9], mask=[0, 0, 1]),
]  # fmt: skip
NO_NUMBERS = [
    [1 + 2j, 2], np.array(["2026-03-01", "2026-03-02"], "M8[D]"), ["1", "0"], [dt.timedelta(1), dt.timedelta(2)],
    [b"1", b"2"], [10**400, 1], np.array([1, 2], "m8[s]"), np.zeros((2, 0)), np.ma.array([1.0, 2.0], mask=[0, 1]),
]  # fmt: skip
SETTINGS = [None, 0, 1.5, -1, "?", np.nan, [0.1, 0.2], 10**400, "0.05", object(), b"x", 1j, {}, np.inf, True]


@pytest.mark.parametrize("method", EVERY)
def test_bad_input_raises_only_our_errors(method):
    """Whatever is given for the data or a setting: an answer, or an error of ours that says what is wrong."""
    given, lacking = data(method)
    for bad in HOSTILE + NO_NUMBERS:
        for at in range(len(given)):
            tried = [bad if k == at else g for k, g in enumerate(given)]
            try:
                result = call(method)(*tried, **lacking)
            except AmberRulerError as error:
                assert len(str(error)) > 12, bad  # noqa: PT017 - an answer is as good
            else:
                assert str(result)
    for name in method.settings:
        for bad in SETTINGS:
            try:
                assert str(call(method)(*given, **{**lacking, name: bad}))
            except AmberRulerError as error:
                assert name in str(error) or name in method.columns, (name, bad)  # noqa: PT017 - likewise


@pytest.mark.parametrize("method", EVERY)
def test_what_is_no_number_is_never_taken_for_one(method):
    """Complex numbers, dates, durations, bytes, digits as text and what overflows; masked values are missing ones."""
    keeps(method, "no numbers", when=method.takes in ("one", "two"))
    given, lacking = data(method)
    for bad in NO_NUMBERS:
        with pytest.raises(AmberRulerError):
            call(method)(bad, *given[1:], **lacking)


@pytest.mark.parametrize("method", EVERY)
def test_a_result_prints_frames_draws_and_reads_back(method):
    """Every medium, with a margin where one can be given; labels that would do something do nothing."""
    from matplotlib.figure import Figure

    settings = {"margin": 0.25} if "margin" in method.settings else {}
    r = asked(method, **settings)
    assert r.sentence() in " ".join(str(r).split()).replace("  ", " ") or r.sentence().split(" (")[0][:20]
    assert len(r.to_frame()) >= 1
    assert ar.Result.from_json(r.to_json()) == r
    assert "<section>" in r._repr_html_()
    ax = Figure().subplots()
    assert r.plot(ax) is ax
    if isinstance(r, Comparison):
        assert r.treatment in str(r)
        known = {"better", "worse", "undecided", "no difference that matters", "differ"}
        assert set(np.ravel(r.verdict).tolist()) <= known


BY_LIFT = [one for one in EVERY if "margin_lift" in one.values[0].settings]


@pytest.mark.parametrize("method", BY_LIFT)
def test_a_margin_as_a_lift_is_read_off_the_interval_of_the_lift(method):
    """Each test holds exactly where the lift's interval of level 1 - 2 alpha leaves out its end; both units refused."""
    settings = {"alpha": 0.02} | ({"test": "exact"} if method.name == "rates" else {})
    one = asked(method, turned=method.takes == "two", **settings)
    if np.ndim(one.estimate):
        pytest.skip("of several segments at once; each by itself is a comparison that is tested here")
    lift = one.again(alpha=0.04).effects["lift"].interval
    low, high = float(lift.low), float(lift.high)
    ends = {good: size for good, size in (("higher", -low), ("lower", high)) if 0 < size < 1}
    assert ends
    for good, worst in ends.items():
        for size, shown in ((worst * (1 + 1e-8), True), (worst * (1 - 1e-8), False)):
            assert one.again(good=good, margin_lift=size).margin_tests["not_worse"].holds == shown
    found = one.again(margin_lift=0.999)
    assert found.margin_tests["equivalent"].holds == (max(-low, high) < 0.999)
    if max(-low, high) < 0.999:
        assert (found.verdict, found.margin, found.margin_lift) == ("no difference that matters", None, 0.999)
        assert "interval of the lift" in str(found)
    assert ar.Result.from_json(found.to_json()) == found
    for wrong in ({"margin_lift": 0.1, "margin": 0.1}, {"margin_lift": 1.5}, {"margin_lift": 0.1, "null": 0.2}):
        with pytest.raises(AmberRulerError, match="margin_lift"):
            one.again(**wrong)


def every_p(result):
    """All p-values of a result, tests against a margin among them."""
    p = getattr(result, "p_value", None)
    found = list((getattr(result, "p_values", None) or {"": p}).values())
    return [np.asarray(v, dtype=float) for v in (*found, *(t.p_value for t in margin_tests(result))) if v is not None]


def margin_tests(result):
    return getattr(result, "margin_tests", {}).values()


@pytest.mark.parametrize("method", EVERY)
def test_no_p_depends_on_alpha(method):
    """Bit for bit, of one question and of arrays; nor do the estimate and its standard error."""
    keeps(method, "p and alpha", when="alpha" in method.settings)
    settings = {"margin": 0.25} if "margin" in method.settings else {}
    results = [asked(method, **settings)]
    if method.published and method.needs == "mean" and method.takes == "two" and "broadcast" not in method.exempt:
        results.append(call(method)(Summary([40, 55], [3.2, 3.9], 2.0, "a"), Summary(50, [3.0, 3.1], 2.1, "b")))
    for r in results:
        for alpha in (1e-6, 0.01, 0.2):
            other = r.again(alpha=alpha)
            assert all(map(np.array_equal, every_p(r), every_p(other)))
            if isinstance(r, Measurement) and r.evidence is None and r.se is not None:
                assert np.array_equal(r.se, other.se)


def test_nor_does_a_p_that_is_drawn_or_watched():
    """A permutation with its seed; a confidence sequence that is tuned to a look, and not to alpha."""
    one, two = values(METHODS["measure", "means"], 1, 30), values(METHODS["measure", "means"], 2, 25)
    drawn = {ar.resample.permutation(one, two, replicates=500, seed=3, alpha=a).p_value for a in (0.01, 0.05, 0.2)}
    assert len(drawn) == 1
    moments = ([0.4, 0.5, 0.6], [0.4, 0.3, 0.2])
    watched = [ar.sequential.anytime(moments, tau=0.5, alpha=a).p_value for a in (1e-6, 0.05, 0.2)]
    assert np.array_equal(watched[0], watched[1])
    assert np.array_equal(watched[0], watched[2])


TESTED = [one for one in EVERY if one.values[0].takes == "two" and "p and interval" not in one.values[0].exempt]


@pytest.mark.parametrize("method", TESTED)
def test_adjusted_p_and_interval_agree_under_every_family_wise_correction(method):
    """The interval leaves out the null exactly where adjusted p < alpha; single-step limits are the method's, uncut."""
    base = asked(method)
    if base.test is None:
        pytest.skip("there is no test")
    if np.ndim(base.p_value):
        pytest.skip("it is a family by itself")
    each = {"a": base, "b": asked(method, turned=True)}
    if "null" in method.settings and "null" not in method.exempt:
        reach = (base.interval.high - base.interval.low) / 2
        each["c"] = base.again(null=float(base.estimate - 1.05 * reach))
    for way in ("bonferroni", "sidak", "holm", "holm-sidak", "hochberg", "hommel"):
        for alpha in (0.3, 0.05, 0.01):
            found = ar.multiplicity.correct(each, method=way, alpha=alpha)
            for label, one in zip(found.labels, found.results, strict=True):
                adjusted = one.correction.adjusted
                assert adjusted >= each[label].p_value == one.p_value
                assert (adjusted < alpha) == (not one.interval.contains(one.null)), (way, alpha, label)
                if way in ("bonferroni", "sidak"):
                    level = alpha / len(each) if way == "bonferroni" else 1 - (1 - alpha) ** (1 / len(each))
                    alone = each[label].again(alpha=level).interval
                    assert [one.interval.low, one.interval.high] == pytest.approx([alone.low, alone.high], rel=1e-9)
                    assert (one.interval.low_open, one.interval.high_open) == (False, False)


@pytest.fixture
def runs(monkeypatch):
    """How often the body of each method runs, and how often limits of a noncentral t are searched for."""
    from amber_ruler.numeric import student

    found = {}

    def counted(name, function):
        def call_(*given, **settings):
            found[name] = found.get(name, 0) + 1
            return function(*given, **settings)

        return call_

    for (_, name), one in METHODS.items():
        assert one.settings  # read from the signature before it is wrapped
        monkeypatch.setitem(one.__dict__, "bare", counted(name, one.bare))
    monkeypatch.setattr(student, "shift_bounds", counted("noncentral t", student.shift_bounds))
    return found


def test_an_answer_is_computed_once(runs):
    """With a margin, in either unit, and one value left out, the body runs once; and one search serves all effects."""
    one, two = values(METHODS["measure", "means"], 1, 40), values(METHODS["measure", "means"], 2, 30)
    for ask in (
        lambda: ar.measure.means(one, two, margin=0.3),
        lambda: ar.measure.means(one, two, margin_lift=0.3),
        lambda: ar.measure.mean(one, null=5.0, margin=0.3),
        lambda: ar.measure.means(one, two, margin=0.3, known_sd=(3.0, 3.0)),
        lambda: ar.measure.pairs(Pairs(one[:30], two), margin=0.3),
        lambda: ar.measure.proportions(ar.Counts(30, 100), ar.Counts(20, 90), margin=0.1),
        lambda: ar.measure.rates(ar.Events(30, 100), ar.Events(20, 90), margin=0.1),
    ):
        runs.clear()
        r = ask()
        assert set(runs.values()) == {1}, runs
        by_lift = {"margin_lift": None} if r.margin_lift else {}
        wide = r.again(alpha=0.1, margin=None, **by_lift)
        expected = wide.effects["lift"].interval if by_lift else wide.interval
        found = r.test.margin_interval
        assert [found.low, found.high] == pytest.approx([expected.low, expected.high], rel=1e-12)


def test_an_experiment_runs_each_comparison_twice_at_most(runs):
    """Once, and once at the level of its correction."""
    metrics = {
        "fare": {"role": "primary", "margin": 0.3, "covariates": ["prior_spend"]},
        "booked": {"kind": "share", "role": "primary", "margin_lift": 0.2},
        "minutes": {"kind": "quantile", "column": "minutes_to_book", "margin": 1.0, "good": "lower"},
    }
    keys = {"name": "Forms", "unit": "traveller", "assignment": {"column": "form", "control": "current"}}
    ar.Experiment(ar.demo.path("travellers"), metrics=metrics, **keys).analyse()
    assert {name: runs[name] for name in ("sharpen", "proportions", "quantiles")} == {
        "sharpen": 4, "proportions": 4, "quantiles": 4,
    }  # fmt: skip


def test_the_report_and_the_method_give_one_p_of_a_median():
    """Corrected or not, the p of a quantile in an experiment is that of `measure.quantiles`."""
    metrics = {
        "minutes": {"kind": "quantile", "column": "minutes_to_book", "role": "primary"},
        "fare": {"role": "primary"},
    }
    keys = {"name": "Forms", "unit": "traveller", "assignment": {"column": "form", "control": "current"}}
    found = ar.Experiment(ar.demo.path("travellers"), metrics=metrics, **keys).analyse().primary
    both = ar.table(ar.demo.path("travellers")).samples("minutes_to_book", by="form")
    assert found["minutes, short"].p_value == ar.measure.quantiles(both["short"], both["current"]).p_value
