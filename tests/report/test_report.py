"""Drawing: numbers, rulers, text at any width, JSON, figures."""

import json
import math

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import amber_ruler as ar
from amber_ruler.multiplicity import correct
from amber_ruler.report import figure, html, numbers, schema, text
from amber_ruler.report.blocks import Ruler, RulerRow
from amber_ruler.report.drawing import rulers_figure
from amber_ruler.report.scale import scale_of
from amber_ruler.report.schema import model_of
from amber_ruler.report.views import VIEWS
from amber_ruler.report.views.parts import VIEWS as VIEWS_OF_PARTS
from amber_ruler.results.display import safe
from amber_ruler.results.result import type_tag

ONE, TWO = ar.Summary(400, 14.2, 20.0, "short"), ar.Summary(420, 11.0, 18.0, "current")


def moments(seed, label):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=60)
    return ar.Moments.from_arrays({"fare": x + rng.normal(size=60), "prior": x}, label=label, missing=2)


def records(seed, label):
    rng = np.random.default_rng(seed)
    return ar.Records(
        {"fare": rng.gamma(2, 9, 60), "port": np.array(["Amble", "<Tern>", "Quay"])[np.arange(60) % 3]}, label
    )


THREE = [ar.Counts(60, 400, "short"), ar.Counts(52, 390, "guided"), ar.Counts(40, 400, "current")]


def ferry_test():
    rng = np.random.default_rng(8)
    rows = {"form": np.repeat(["current", "guided", "short"], 80), "who": np.arange(240), "day": np.arange(240) % 4}
    rows |= {"fare": rng.gamma(3, 2, 240) + (np.arange(240) >= 160), "calm": rng.random(240) < 0.9}
    return ar.Experiment(
        pd.DataFrame(rows),
        name="Booking forms",
        unit="who",
        assignment={"column": "form", "control": "current"},
        days={"column": "day", "planned": 8},
        metrics={
            "fare": {"role": "primary", "effect": 0.5},
            "calm": {"kind": "share", "role": "guardrail", "margin": 0.1},
        },
    )


RESULTS = {
    "experiment": lambda: ferry_test().analyse(),
    "experiment plan": lambda: ferry_test().plan(),
    "experiment decision": lambda: ferry_test().decide({"short": "the harbour asked for it"}),
    "means": lambda: ar.measure.means(ONE, TWO, margin=0.5),
    "one-sided": lambda: ar.measure.means(ONE, TWO, alternative="greater", null=1.0),
    "many": lambda: ar.measure.means(ar.Summary(np.arange(5, 30), 1.0, 2.0, "a"), ar.Summary(9, 0.0, 1.0, "b")),
    "proportions": lambda: ar.measure.proportions(ar.Counts(30, 90, "short"), ar.Counts(9, 80, "current")),
    "one-sided shares": lambda: ar.measure.proportions(
        ar.Counts(30, 90, "short"), ar.Counts(9, 80, "current"), alternative="less"
    ),
    "many shares": lambda: ar.measure.proportions(
        ar.Counts([30, 0, 9], 90, "short"), ar.Counts(9, 80, "current"), alternative="greater"
    ),
    "adjusted": lambda: ar.adjust.cuped(moments(1, "short"), moments(2, "current"), value="fare", covariate="prior"),
    "strata": lambda: ar.adjust.strata(records(1, "short"), records(2, "current"), value="fare", strata="port"),
    "by segment": lambda: ar.adjust.segments(records(1, "short"), records(2, "current"), value="fare", segment="port"),
    "evidence": lambda: ar.bayes.means(ONE, TWO),
    "posterior": lambda: ar.bayes.proportions(ar.Counts(3, 90, "short"), ar.Counts(9, 80, "current"), good="lower"),
    "size": lambda: ar.plan.TwoMeans(sd=20).sample_size(effect=1.3),
    "shares": lambda: ar.plan.TwoProportions(baseline=0.3).power(effect=-0.02, n=(500, 900)),
    "planned": lambda: (
        ar.plan.TwoMeans(sd=20, baseline=14, skewness=5)
        .with_covariate(0.6)
        .with_variants(2)
        .with_attrition(0.1)
        .with_traffic(400)
        .power(lift=0.1, weeks=3)
    ),
    "margin": lambda: ar.plan.TwoMeans(sd=20).with_margin(2, good="lower").with_clusters(9, 0.1).sample_size(),
    "alpha": lambda: ar.plan.Correlation().alpha_for(effect=0.3, n=90, power=0.9),
    "width": lambda: ar.plan.OneProportion().sample_size_for_width(half_width=0.03),
    "omnibus": lambda: ar.plan.ManyMeans(groups=4).detectable_effect(n=30),
    "grid": lambda: ar.plan.TwoProportions(baseline=0.2).grid(lift=[0.05, 0.1, 1e-9], power=[0.8, 0.9]),
    "weeks": lambda: ar.plan.TwoMeans().with_traffic(90).grid(weeks=range(1, 40), power=[0.8, 0.9]),
    "times": lambda: ar.measure.times(
        *(ar.Records({"weeks": [1.0, 3, 5, 8, 9], "back": [1.0, k, 1, 0, 1]}, f"v{k}") for k in (0, 1)),
        value="weeks",
        event="back",
    ),
    "bootstrap": lambda: ar.resample.bootstrap(np.arange(30.0) ** 2, np.arange(25.0) ** 2, statistic="lift", seed=1),
    "jackknife": lambda: ar.resample.jackknife(np.arange(30.0) ** 2),
    "permutation": lambda: ar.resample.permutation([3.0, 5.0, 8.0], [1.0, 2.0, 2.0, 4.0]),
    "replay": lambda: ar.resample.replay(np.arange(400.0) % 37, ar.measure.means, runs=200, seed=1, lift=0.1),
    "replays": lambda: ferry_test().replay(runs=100, seed=1, lift=0.05),
    "simulation": lambda: ar.plan.TwoMeans().simulate(effect=0.5, n=64, runs=200),
    "earlier": lambda: ar.plan.EarlierStudy.of_proportions(ar.Counts(60, 400), ar.Counts(30, 400)),
    "boundaries": lambda: ar.sequential.boundaries([0.3, 0.6, 1.0], spending="pocock"),
    "one-sided boundaries": lambda: ar.sequential.boundaries(5, sides=1, skip=[1], harm=0.01),
    "peeking": lambda: ar.sequential.peeking(5),
    "boundaries with futility": lambda: ar.sequential.boundaries([7, 14, 28], per_day=900, futility="pocock"),
    "plan with looks": lambda: ar.plan.TwoMeans(sd=20).with_looks(3, futility="pocock").sample_size(effect=1.3),
    "family power": lambda: ar.plan.several_metrics([0.8, 0.9], correlation=0.5),
    "ways to look": lambda: ar.plan.TwoMeans(sd=20).ways_to_look(effect=1.3),
    "split watched": lambda: ar.sequential.anytime_split({"short": [500, 1010], "current": [480, 1002]}),
    "stopping by evidence": lambda: ar.sequential.stopping_by_evidence(20, se=0.25, prior=(0.0, 1.0), effect=1.0),
    "at any moment": lambda: ar.sequential.anytime((np.array([1.0, 1.2]), np.array([0.5, 0.3])), tau=1.0),
    "monitoring estimates": lambda: ar.sequential.monitor(ar.sequential.boundaries(3), [(1.0, 0.5), (1.4, 0.35)]),
    "monitoring": lambda: ar.sequential.monitor(ar.sequential.boundaries(4), [0.7, 3.1, 1.0]),
    "corrected": lambda: correct({"fare": 0.01, "booked": 0.2}),
    "description": lambda: ar.table(ar.demo.path("travellers")).describe("fare", by="form"),
    "one mean": lambda: ar.measure.mean(ar.Summary(90, 14.2, 4.0, "short"), null=13, margin=0.5),
    "bare mean": lambda: ar.measure.mean(ar.Summary(90, 14.2, 4.0, "short")),
    "several shares": lambda: ar.measure.proportion(ar.Counts([3, 40], [20, 90], "short"), null=0.3),
    "rates": lambda: ar.measure.rates(ar.Events(40, 120.0, "short"), ar.Events(60, 130.0, "current"), margin=0.2),
    "paired": lambda: ar.measure.paired_proportions((20, 15, 5, 60), labels=("after", "before")),
    "vessels": lambda: ar.measure.pairs(
        ar.table(ar.demo.path("turnarounds")).pairs("minutes", by="when", unit="vessel", control="before"), margin=1
    ),
    "ranks": lambda: ar.measure.ranks([3.1, 4.4, 5.2, 6.0, 7.3], [1.2, 2.5, 2.9, 3.6, 4.1], margin=1),
    "spreads": lambda: ar.measure.spreads(ar.Summary(41, 0, 4.0, "short"), ar.Summary(41, 0, 3.0, "current")),
    "quantiles": lambda: ar.measure.quantiles(list(range(60)), list(range(8, 90)), at=0.75),
    "correlation": lambda: ar.measure.correlation([1.0, 2, 3, 4, 5, 6], [1.2, 1.9, 3.4, 3.6, 5.5, 5.8]),
    "daily": lambda: ar.table(ar.demo.path("travellers")).daily("fare", by="home_port", day="day"),
    "pairs": lambda: (
        ar.table(ar.demo.path("turnarounds")).pairs("minutes", by="when", unit="vessel", control="before").describe()
    ),
    "still pairs": lambda: ar.Pairs([1.0, 2.0, 4.0], [3.0, 3.0, 3.0]).describe(),
    "findings": lambda: ar.table(ar.demo.path("events")).check(by="form", unit="traveller", day="day"),
    "split": lambda: ar.table(ar.demo.path("travellers")).check_split(by="form"),
    "groups": lambda: ar.measure.groups(delays(), variances="equal"),
    "groups by ranks": lambda: ar.measure.groups(delays(), compare="ranks"),
    "same units": lambda: ar.measure.groups(
        ar.table(ar.demo.path("turnarounds")).samples("minutes", by="when", unit="vessel"), compare="same-units"
    ),
    "all pairs": lambda: ar.measure.groups(delays()).pairwise("scheffe"),
    "against one": lambda: ar.measure.groups(delays()).against("Amble", alternative="greater"),
    "pairs by ranks": lambda: ar.measure.groups(delays(), compare="ranks").pairwise(),
    "factors": lambda: ar.measure.factors(delays(["route", "season"])),
    "plain factors": lambda: ar.measure.factors(delays(["route", "season"]), terms="main", squares="III"),
    "counts": lambda: ar.measure.independence(
        ar.table(ar.demo.path("tickets")).counts(row="port", column="ticket", count="count")
    ),
    "few counts": lambda: ar.measure.independence([[3, 1, 4], [0, 5, 1]], draws=500),
    "kinds": lambda: ar.measure.goodness_of_fit({"foot": 120, "bicycle": 80, "car": 100}),
    "families": lambda: correct({"fare": 0.01, "booked": 0.2}, families={"fare": "primary", "booked": "segments"}),
    "family": lambda: correct({"fare": ar.measure.means(ONE, TWO), "booked": shares()}, method="sidak"),
    "two units": lambda: correct(
        {"fare": ar.measure.means(ONE, TWO), "spread": ar.measure.spreads(ONE, TWO)},
        families={"fare": "primary", "spread": "segments"},
    ),
    "segments": lambda: correct(
        ar.measure.means(
            ar.Summary([90, 80], [14.2, 11], 4.0, "short", axis=ar.Axis("port", ("Gullhaven", "Tern Quay"))),
            ar.Summary(85, 13.0, 4.0, "current"),
        )
    ),
    "every part": lambda: weighed_and_drawn(),  # noqa: PLW0108 - it stands below
    "weighed share": lambda: ar.bayes.proportion(ar.Counts(60, 400, "short"), null=0.1, margin=0.02, odds=2.0),
    "weighed rates": lambda: ar.bayes.rates(
        ar.Events(40, 120.0, "short"), ar.Events(60, 130.0, "current"), prior=ar.bayes.Gamma(2, 5), margin=0.1
    ),
    "weighed table": lambda: ar.bayes.independence([[30, 10], [20, 40]], draws=500),
    "weighed correlation": lambda: ar.bayes.correlation([1.0, 2, 3, 4, 5, 6], [1.2, 1.9, 3.4, 3.6, 5.5, 5.8]),
    "best of three": lambda: ar.bayes.best_proportion(THREE),
    "prior curve": lambda: ar.bayes.means(ONE, TWO).across_priors(),
    "listed priors": lambda: ar.bayes.evidence(4.1, 1.9, prior=ar.bayes.Uniform(0, 9)).across_priors(
        priors=[ar.bayes.Uniform(0, 5), ar.bayes.Normal(0, 3)]
    ),
    "shrunken": lambda: ar.bayes.shrink([0.31, 0.12, -0.05, 0.22], [0.12, 0.08, 0.10, 0.15]),
    "decision": lambda: ar.bayes.decide(ar.bayes.proportions(*THREE[:2]), horizon=1e5, cost=0.05),
    "decision of three": lambda: ar.bayes.decide(ar.bayes.best_proportion(THREE)),
    "forecast": lambda: ar.plan.Evidence(prior=ar.bayes.HalfNormal(2), se=1.9, n=40).power(n=60),
    "forecasts": lambda: ar.plan.Evidence(prior=ar.bayes.HalfNormal(2), se=1.9, n=40).power(n=[20, 60]),
    "assurance": lambda: ar.plan.TwoMeans(sd=20).assurance(prior=ar.bayes.Normal(2, 3), n=500),
    "in order": lambda: ar.multiplicity.fixed_sequence({"fare": 0.01, "booked": 0.2}),
}


def shares():
    return ar.measure.proportions(ar.Counts(30, 90, "short"), ar.Counts(9, 80, "current"))


def weighed_and_drawn():
    """A difference that is adjusted, corrected, looked at early, weighed, and drawn, all in one."""
    arms = moments(1, "short"), moments(2, "current")
    raw = correct({"fare": ar.adjust.cuped(*arms, value="fare", covariate="prior")})["fare"]
    evidence = ar.bayes.means(*(m.select("fare") for m in arms)).evidence
    looks = ar.sequential.monitor(ar.sequential.boundaries(3), [raw]).latest.looks
    for part in (evidence, looks, ar.results.Draws(replicates=2_000, error=0.01, seed=4)):
        raw = raw.with_part(part)
    return raw


def delays(by="route"):
    return ar.table(ar.demo.path("crossings")).samples("delay", by=by)


@pytest.fixture(params=RESULTS, scope="module")
def result(request):
    return RESULTS[request.param]()


@pytest.mark.parametrize("width", [60, 80, 120])
@pytest.mark.parametrize("ascii_only", [False, True])
def test_every_kind_of_result_fits_any_width(result, width, ascii_only):
    """No line is wider than the terminal, nothing is an object's address, plain means ASCII without colours."""
    drawn = text(result, width=width, ascii_only=ascii_only)
    assert max(map(len, drawn.splitlines())) <= width
    assert "object at" not in drawn
    assert "\x1b" not in drawn
    assert drawn.isascii() or not ascii_only
    assert result.title.split(":")[0] in drawn.translate(str.maketrans("", "", "\n"))


def test_every_kind_of_result_comes_out_as_data(result):
    """JSON without NaN that reads back and fits its schema, a one-line sentence, a frame with rows, an equal twin."""
    data = json.loads(result.to_json())
    assert data["schema"] == "amber-ruler result 2"
    assert data["type"] in VIEWS
    model_of(type(result)).model_validate(data)
    twin = ar.Result.from_json(result.to_json())
    assert twin == result
    assert twin.sentence() == result.sentence()
    assert result.sentence().endswith(".")
    assert "\n" not in result.sentence()
    assert len(result.to_frame()) >= 1
    assert result != "text"
    assert str(result) == repr(result)


def test_every_kind_of_result_has_its_html(result):
    """Real tables with captions and header scopes, rulers that say their rows in text; nothing runs or is fetched."""
    page = result._repr_html_()
    assert page.startswith('<div class="amber-ruler">')
    assert page.count("<table") == page.count("<caption>") == page.count("</table>")
    assert ("<svg" in page) == ('role="img" aria-label' in page)
    for word in ("<script", "http", "object at", "<pre"):
        assert word not in page
    assert "<!doctype html>" in html([result, result], title="<both>")
    assert "&lt;both&gt;" in html(result, title="<both>")


def test_every_view_and_part_has_a_result_here_and_the_schema_knows_them():
    """What is drawn in no test is drawn nowhere."""
    shown = {type_tag(type(make())) for make in RESULTS.values()}
    assert shown == set(VIEWS)
    several = (
        weighed_and_drawn(),
        RESULTS["prior curve"](),
        RESULTS["shrunken"](),
        RESULTS["strata"](),
        RESULTS["at any moment"](),
        RESULTS["jackknife"](),
        RESULTS["times"](),
    )
    parts = {type(part) for one in several for part in one.parts}
    assert parts == set(VIEWS_OF_PARTS)
    drawn, frame = str(weighed_and_drawn()), weighed_and_drawn().to_frame()
    for said in ("raw", "chance that treatment is better", "look 1 of 3", "2,000 draws", "adjusted p"):
        assert said in drawn
    assert {"raw_low", "chance_better", "adjusted", "look", "replicates"} <= set(frame)
    published = schema()
    assert set(published["$defs"]) >= {"interval", "comparison", "test", "effect_size", *VIEWS}


def test_values_and_callers_arrays_stay_out_of_results():
    """Raw values reach neither JSON nor a frame; a result answers for what was given, not for what became of it."""
    values = np.array([3.25, 5.5, 4.75, 19.125])
    r = ar.measure.means(values, [2.0, 4.0, 3.0, 1.0])
    told = r.again(alpha=0.1).p_value
    values[:] = 0.0
    assert r.again(alpha=0.1).p_value == told
    assert "19.125" not in r.to_json()
    with pytest.raises(ValueError, match="read-only"):
        r.asked.groups[0].values[0] = 1.0
    pairs = ar.Pairs([3.25, 5.5, 4.75], [2.0, 4.0, 3.0]).describe()
    assert "5.5" not in pairs.to_json()
    with pytest.raises(ar.InputError, match="read back"):
        ar.Result.from_json(pairs.to_json()).plot()
    with pytest.raises(ar.DataError, match="no JSON text"):
        ar.Result.from_json("{")
    with pytest.raises(ar.DataError, match="'nothing' is not there"):
        ar.Result.from_json(json.dumps({**json.loads(r.to_json()), "type": "nothing"}))


def test_every_kind_of_result_draws_a_figure(result):
    """Plot returns the Axes, with a mark for each row of its ruler, or a number in each tile."""
    from matplotlib.figure import Figure

    ax = Figure().subplots()
    assert figure(result, ax) is ax
    assert len(ax.lines) + len(ax.texts) >= 2


def test_labels_keep_room_beside_many_numbers():
    """However wide the numbers are, the first cells of a label stand on one line; Greek counts as it is written."""
    assert "chi" in text(ar.measure.independence([[30, 10], [20, 40]]), ascii_only=True)
    for name in ("factors", "counts", "all pairs", "kinds"):
        narrow, wide = (text(RESULTS[name](), width=w, ascii_only=True) for w in (50, 120))
        # Wide tables continue below; no number is cut, no label gone.
        assert set(wide.replace("|", " ").split()) >= {w for w in narrow.split() if w[0].isdigit() and "." in w}
        assert narrow.count("\n  in total") >= wide.count("\n  in total")
    assert "< 0.0001" in text(RESULTS["factors"](), width=50, ascii_only=True)


def test_equal_groups_are_said_to_be_equal():
    """Neither higher nor lower by nothing."""
    none = ar.measure.proportions(ar.Counts(0, 20, "short"), ar.Counts(0, 30, "current"))
    assert "undecided, equal in both, which is in line with no difference" in none.sentence()
    same = ar.measure.spreads(ar.Summary(9, 0, 2.0, "short"), ar.Summary(9, 1, 2.0, "current"))
    assert "undecided, equal in both" in same.sentence()


def test_colours_are_only_for_terminals():
    """Colour codes appear when asked for."""
    assert "\x1b[" in text(RESULTS["means"](), colour=True)


def test_the_text_shows_all_that_matters():
    """Direction with both labels, n per group and in total, interval, test, effect sizes, verdict."""
    drawn = text(RESULTS["means"](), width=100)
    for part in ("short − current", "better", "400", "420", "820", "95% interval", "df", "Hedges g", "lift", "p 0.0"):
        assert part in drawn


def test_a_serious_check_stands_above_the_numbers():
    """What makes a result unbelievable is said first."""
    from dataclasses import replace

    serious = ar.Check("sample ratio", "uneven", "Do not believe it.", "serious")
    drawn = text(replace(RESULTS["means"](), checks=(serious,)))
    assert drawn.index("Do not believe it") < drawn.index("Hedges g")
    assert drawn.index("Do not believe it") < drawn.index("400")


def test_labels_of_tables_and_groups_are_inert():
    """Descriptions, series, pairs, comparisons with a control and tables themselves let no label act."""
    import pandas as pd
    from matplotlib.figure import Figure

    evil = "a\x1b[31m\u202eb"
    rows = pd.DataFrame({"form": [evil, "c\x07"] * 30, evil: range(60), "day": [1, 1, 2, 2, 3, 3] * 10})
    table = ar.table(rows)
    samples = table.samples(evil, by="form")
    pairs = ar.Pairs(samples[evil].values, samples["c\x07"].values, (evil, "c"), metric=evil)
    kinds = [
        table.describe(evil, by="form"),
        table.daily(evil, by="form", day="day"),
        table.check(by="form", metrics=[evil], strata="day"),
        pairs.describe(),
        ar.measure.groups(samples),
        ar.measure.groups(samples).against("c\x07"),
        ar.measure.independence(table.counts(row="form", column="day")),
        table.check_split(by="form"),
    ]
    for said in (repr(table), repr(samples), *(text(r) + r.sentence() + repr(r) + r._repr_html_() for r in kinds)):
        assert not any(sign in said for sign in "\x1b\u202e\x07")
    for result in kinds:
        figure = Figure()
        result.plot(figure.subplots())
        figure.canvas.draw()


@pytest.mark.parametrize("label", ["[bold red]x[/]", "a\x1b[31mb", "<script>alert(1)</script>", "$x$", "ä\tö", "a\nb"])
def test_labels_with_markup_or_control_characters_are_inert(label):
    """A label can neither colour, nor break lines, nor run."""
    from matplotlib.figure import Figure

    r = ar.measure.means(ar.Summary(9, 1.0, 1.0, label), ar.Summary(9, 0.0, 1.0, "b"))
    drawn = text(r, width=100)
    assert "\x1b" not in drawn
    assert safe(label) in drawn
    assert "<script>" not in r._repr_html_()
    fig = Figure()
    figure(r, fig.subplots())
    fig.canvas.draw()


@given(st.floats(-1e300, 1e300))
def test_a_number_keeps_three_digits_at_any_size(value):
    """Rounded by at most half a unit of the third digit, readable as a number again."""
    drawn = numbers.number(value).replace("−", "-").replace(",", "")
    assert float(drawn) == pytest.approx(value, rel=5.1e-3)
    assert len(drawn) < 24


@given(st.floats(0, 1), st.sampled_from([0.05, 0.01, 0.001]))
def test_a_p_value_is_never_rounded_across_alpha(p, alpha):
    """The printed p is on the same side of alpha as p itself."""
    drawn = numbers.p_value(p, alpha)
    if drawn.startswith("<"):
        assert p < 1e-4
    else:
        assert (float(drawn) < alpha) == (p < alpha) or abs(p - alpha) < 1e-9


@pytest.mark.parametrize(
    ("values", "drawn"),
    [
        ((1.19999, 0.2136, 2.1866), ["1.200", "0.214", "2.187"]),
        ((12345.6, 12000.0, 12700.0), ["12,346", "12,000", "12,700"]),
        ((0.0, -1e-9, 1e-9), ["0.00e+00", "−1.00e-09", "1.00e-09"]),
        ((1.0, -math.inf, 3.0), ["1.00", "no limit", "3.00"]),
        ((math.nan,), ["not defined"]),
    ],
)
def test_numbers_read_side_by_side_share_their_decimals(values, drawn):
    """The interval's width decides."""
    assert numbers.together(*values) == drawn or values[0] == 0.0


@given(st.floats(-1e6, 1e6), st.floats(1e-6, 1e6), st.floats(1e-6, 1e6), st.one_of(st.none(), st.floats(0, 1e6)))
def test_the_scale_holds_everything_and_its_marks_rise(estimate, below, above, margin):
    """Zero, band and interval lie on the ruler; its marks are even."""
    scale = scale_of(Ruler((RulerRow("a", estimate, estimate - below, estimate + above),), margin=margin))
    assert scale.low < min(0, estimate - below)
    assert scale.high > max(0, estimate + above)
    assert 2 <= len(scale.ticks) <= 8
    assert np.all(np.diff(scale.ticks) > 0)
    assert 0 <= scale.place(estimate - below, 60) <= scale.place(estimate, 60) <= scale.place(estimate + above, 60) < 60


def test_the_terminal_ruler_puts_things_in_their_place():
    """Dot within the bar, zero mark outside an interval that excludes 0, arrows where there is no limit."""
    drawn = text(RESULTS["means"](), width=90).splitlines()
    (row,) = [line for line in drawn if "●" in line]
    assert row.index("│") < row.index("├") < row.index("●") < row.index("┤")
    assert "░" in row
    one_sided = next(line for line in text(RESULTS["one-sided"](), width=90).splitlines() if "●" in line)
    assert one_sided.rstrip().endswith("▶")
    shares = text(RESULTS["one-sided shares"](), width=90)
    assert "95% interval up to" in shares
    assert "◀" in shares
    assert "−100" not in shares


def beside_null():
    """A result whose limits both lie next to 0."""
    rng = np.random.default_rng(4)
    one, two = (np.where(rng.random(4000) < share, rng.gamma(2, 10, 4000), 0.0) for share in (0.15, 0.10))
    return ar.measure.ranks(one, two)


def test_several_rulers_make_one_picture(tmp_path):
    """The figure of a report has a panel for each scale, is 1280 wide, and as high as its rows need."""
    ruler = Ruler((RulerRow("a − b", 1.0, 0.2, 1.8, "better"), RulerRow("c − b", 0.0, -math.inf, 0.8)), margin=0.3)
    fig = rulers_figure([("fare", ruler), ("booked", ruler)], title="Two")
    assert len(fig.axes) == 2
    fig.savefig(tmp_path / "r.png")
    assert (tmp_path / "r.png").read_bytes()[16:24] == (1280).to_bytes(4, "big") + (560).to_bytes(4, "big")


def test_a_figure_stands_alone():
    """A title in words, what it rests on below it, directions at the axis, numbers in columns beside each row."""
    arms = ar.Summary(400, 15.4, 20.0, "short"), ar.Summary(390, 12.1, 20.0, "current")
    r = ar.measure.means(*arms)
    said = " ".join(t.get_text() for ax in r.plot().figure.axes for t in ax.texts)
    assert "estimate 3.30 95% interval 0.51 to 6.09 p 0.0207 ▲ better" in said
    assert "n 400 390 mean 15.40 12.10" in said
    assert "two means, unequal variances · alpha 0.05, two-sided · 790 units" in said
    below, top = r.plot().figure.axes
    assert top.get_title(loc="left") == "Value: short against current"
    assert below.get_xlabel() == "← worse   ·   value, difference   ·   better →"
    assert "next to 0" in " ".join(t.get_text() for t in beside_null().plot().texts)
    both = ar.multiplicity.correct({"fare": r, "tips": ar.measure.means(*arms[::-1])})
    family = " ".join(t.get_text() for ax in both.plot().figure.axes for t in ax.texts)
    assert "adjusted p 0.0413 0.0413" in family
    looks = ar.sequential.peeking(3).plot().texts
    assert not any(" to " in t.get_text() for t in looks)
    assert "error so far 5.00% 8.31%" in " ".join(t.get_text() for t in looks)


def test_the_look_of_the_house_is_a_style_for_any_figure():
    """The palette's colours in their order, and no verdict by colour alone."""
    from matplotlib import rcParams, style

    from amber_ruler.report import palette

    with style.context("amber_ruler.report.amber"):
        colours = [f"#{each['color'].lstrip('#')}" for each in rcParams["axes.prop_cycle"]]
    assert colours == [palette.AMBER, palette.SEA, palette.BRICK, palette.INK, palette.DUNE, palette.STONE]
    assert len(set(palette.LINES)) == len(palette.LINES) >= 10
