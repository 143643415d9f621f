"""An experiment from its file to its report: what it says is what the library says of the same rows."""

import csv
import io
import json
import re
import shlex
import sys

import html5lib
import numpy as np
import pandas as pd
import pytest
import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

import amber_ruler as ar
from amber_ruler import AmberRulerError, DataError, Experiment, ExperimentFileError, InputError
from amber_ruler.cli.main import app
from amber_ruler.experiment import file
from amber_ruler.report.views.recommendation import reason_words
from amber_ruler.sequential import boundaries, looks_by_day, monitor
from amber_ruler.tables.shared import Set, in_one_pass
from doors import DOORS, in_warehouse

FERRY = """
name = "Booking forms"
hypothesis = "A shorter form makes more travellers book."
unit = "traveller"
segments = ["home_port"]

[source]
table = "travellers.csv"

[assignment]
column = "form"
control = "current"
split = { current = 1.0, guided = 1.0, short = 1.0 }

[days]
column = "day"
planned = 28

[metrics.booked]
kind = "share"
role = "primary"
margin = 0.01
effect = 0.03

[metrics.fare]
role = "primary"
margin = 0.3
covariates = ["prior_spend"]
effect = 1.3

[metrics."bookings per search"]
kind = "ratio"
column = "bookings"
per = "searches"

[metrics.minutes]
kind = "quantile"
column = "minutes_to_book"
good = "lower"

[metrics.complaint]
kind = "share"
role = "guardrail"
good = "lower"
margin = 0.005
"""


@pytest.fixture
def folder(tmp_path):
    """The file and its table."""
    (tmp_path / "experiment.toml").write_text(FERRY, encoding="utf-8")
    (tmp_path / "travellers.csv").write_bytes(ar.demo.path("travellers").read_bytes())
    return tmp_path


def test_an_analysis_is_what_the_library_says(folder):
    """Each comparison by its own method, the primary ones corrected together; guardrails against their margin."""
    test = Experiment.from_file(folder / "experiment.toml")
    trips = ar.table(folder / "travellers.csv")
    found = test.analyse()
    rows = trips.records(["fare", "prior_spend", "bookings", "searches"], by="form")
    others = {"short": (rows["guided"],), "guided": (rows["short"],)}
    fares = {
        a.label: ar.adjust.sharpen(a, b, value="fare", covariate=["prior_spend"], others=others[a.label])
        for a, b in rows.against("current")
    }
    booked = trips.compare("booked", by="form", control="current", correct="none", method="proportions")
    p = [*(one.p_value for one in booked.results), *(one.p_value for one in fares.values())]
    holm = ar.multiplicity.holm(p)
    assert found.primary.labels == ("booked, guided", "booked, short", "fare, guided", "fare, short")
    assert [one.correction.adjusted for one in found.primary.results] == pytest.approx(holm, rel=1e-12)
    assert found.primary["fare, short"].estimate == pytest.approx(fares["short"].estimate, rel=1e-12)
    assert found.secondary["minutes, short"].quantity == "quantile"
    assert found.secondary["bookings per search, short"].quantity == "ratio"
    complaint = trips.moments("complaint", by="form")
    alone = ar.measure.proportions(complaint["short"], complaint["current"], margin=0.005, good="lower")
    guarded = found.guardrails["complaint, short"]
    assert guarded.margin_tests["not_worse"].p_value == alone.margin_tests["not_worse"].p_value
    assert guarded.correction is None
    assert dict(test.decide().words) == {"guided": "hold", "short": "ship"}
    assert set(test.segments()["home_port"]) == {"booked, guided", "booked, short", "fare, guided", "fare, short"}
    assert test.daily()["booked"].days == test.days


def test_a_plan_says_which_metric_drives(folder):
    """Each metric's own size by the control's spread; a guardrail's by its margin."""
    test = Experiment.from_file(folder / "experiment.toml")
    found = test.plan()
    base = test.table.moments("complaint", by="form")["current"].mean("complaint")
    guard = ar.plan.TwoProportions(baseline=base).with_margin(0.005, good="lower").with_variants(2, "none")
    assert found.driving == "complaint"
    assert found.answers["complaint"].n_total == guard.sample_size(effect=0.0).n_total == found.n_total
    assert set(found.answers) == {"booked", "fare", "complaint"}
    assert 0.4 <= found.power_of_all < 1


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (
            ('role = "primary"\nmargin = 0.01', 'role = "first"\nmargin = 0.01'),
            "line 21: metrics.booked.role = 'first'",
        ),
        (("margin = 0.3", "margn = 0.3"), "line 27: metrics.fare.margn is not known.*Did you mean 'margin'"),
        (("planned = 28", "planned = 0"), "line 17: days.planned = 0"),
        (('unit = "traveller"\n', ""), "unit is needed"),
        (('per = "searches"', ""), "a ratio needs per"),
        (("margin = 0.005", ""), "guardrail is shown to be not worse by a margin"),
        (("margin = 0.005", "margin = 0.005\nmargin_lift = 0.1"), "same thing in two units"),
        (('"primary"', '"secondary"'), "no metric is primary"),
        (("segments = [", "segments = [["), "is no TOML"),
        (('"home_port"', '"home_prt"'), "segments, a column of .*Did you mean 'home_port'"),
        (('control = "current"', 'control = "curent"'), "Did you mean 'current'"),
        (('table = "travellers.csv"', 'table = "traveller.csv"'), "Did you mean 'travellers.csv'"),
        (("planned = 28", "planned = 28\n[looks]\nafter = [7, 28]"), "alpha is split first"),
        (("planned = 28", "planned = 28\n[looks]\nafter = [7, 14]"), "must rise to the planned end"),
        (('kind = "quantile"', 'kind = "quantile"\ncap = 0.9'), "cap is for means and ratios"),
    ],
)
def test_mistakes_are_told_with_their_line(folder, change, says):
    """What is wrong, where, and what is allowed."""
    (folder / "experiment.toml").write_text(FERRY.replace(*change), encoding="utf-8")
    with pytest.raises((ExperimentFileError, DataError), match=says):
        Experiment.from_file(folder / "experiment.toml").decide()


KEYS = st.sampled_from(
    ["name", "unit", "assignment", "metrics", "days", "looks", "alpha", "prior", "accepted", "odd", "source"]
)
VALUES = st.recursive(
    st.one_of(st.text(max_size=5), st.integers(-3, 40), st.floats(-1, 2), st.booleans(), st.none().map(lambda _: [])),
    lambda inner: st.one_of(
        st.lists(inner, max_size=2), st.dictionaries(st.text(min_size=1, max_size=6), inner, max_size=3)
    ),
    max_leaves=6,
)


@given(changes=st.dictionaries(KEYS, VALUES, max_size=4), dropped=st.lists(KEYS, max_size=2))
@settings(max_examples=150, deadline=None)
def test_any_mistake_has_a_message(changes, dropped):
    """Whatever stands in the file, it is read or refused in words."""
    held = tomlkit.parse(FERRY).unwrap() | changes
    for key in dropped:
        held.pop(key, None)
    try:
        text = tomlkit.dumps(held)
    except Exception:  # noqa: BLE001 - what can't be written is in no file
        return
    said = ""
    try:
        found = file.read(text, "experiment.toml")
    except ExperimentFileError as error:
        said = str(error)
    if said:
        assert said.startswith("experiment.toml, line ")
        assert "pydantic" not in said
    else:
        assert file.read(file.written(found), "again.toml") == found


def rows_of(n, *, fare=0.0, calm=0.9, days=4, split=(1, 1), seed=1):
    """Rows of a made-up test."""
    rng = np.random.default_rng(seed)
    form = np.repeat(["current", "short"], [n * split[0], n * split[1]])
    late = form == "short"
    return pd.DataFrame(
        {
            "form": form,
            "who": np.arange(form.size),
            "day": np.arange(form.size) % days,
            "fare": rng.normal(10, 3, form.size) + fare * late,
            "calm": rng.random(form.size) < np.where(late, calm, 0.9),
        }
    )


def keys(**more):
    return {
        "name": "Forms",
        "unit": "who",
        "assignment": {"column": "form", "control": "current"},
        "metrics": {
            "fare": {"role": "primary"},
            "calm": {"kind": "share", "role": "guardrail", "margin": 0.05},
        },
        **more,
    }


@pytest.mark.parametrize(
    ("rows", "more", "word", "says"),
    [
        (rows_of(2_000, fare=0.5), {}, "ship", "Fare is better, none is worse, and every guardrail holds"),
        (rows_of(2_000), {}, "hold", "No primary metric is better"),
        (rows_of(100, fare=2.0), {}, "hold", "Non-inferiority is not shown for calm"),
        (rows_of(2_000, fare=-0.5), {}, "stop", "Fare is worse: this is harm"),
        (rows_of(2_000, fare=0.5, calm=0.8), {}, "stop", "Calm is worse: this is harm"),
        (
            rows_of(2_000, fare=0.5),
            {"days": {"column": "day", "planned": 9}},
            "wait",
            "Day 4 of 9: no look was planned",
        ),
        (rows_of(800, fare=0.5, split=(2, 1)), {}, "fix", "Failed: sample ratio"),
        (
            rows_of(800, fare=0.5, split=(2, 1)),
            {"accepted": [{"check": "sample ratio", "reason": "a ramp"}]},
            "ship",
            "Fare is better",
        ),
    ],
)
def test_what_to_do_follows_from_the_roles(rows, more, word, says, tmp_path):
    """Primary better and guardrails shown: ship; harm: stop; nothing shown: hold; too early: wait; broken: fix."""
    test = Experiment(rows, **keys(**more))
    found = test.decide()
    assert dict(found.words) == {"short": word}
    said = [reason_words(reason) for reason in found.reasons["short"]]
    assert says in said[-1]
    if word == "wait":
        page = test.report(tmp_path / "early.md").read_text(encoding="utf-8")
        assert page.count("Day 4 of 9: no p here is final") == 2  # with each role
        assert "no p here is final" in str(test.analyse())
    if word == "fix":
        with pytest.raises(DataError, match=r"can't be believed: sample ratio.*\[\[accepted\]\]"):
            test.analyse()
    if "accepted" in more:
        assert "Accepted: sample ratio, because a ramp." in said
    assert dict(test.decide({"short": "asked for"}).overridden) == {"short": "asked for"}
    with pytest.raises(InputError, match="overridden"):
        test.decide({"shrt": "x"})


def test_looks_are_those_of_monitor():
    """Alpha is split over primary comparisons, then spent; a look that is not due changes nothing."""
    rows = rows_of(1_000, fare=0.6, days=10)
    looks = {"days": {"column": "day", "planned": 20}, "looks": {"after": [5, 10, 20]}, "correction": "bonferroni"}
    test = Experiment(rows, **keys(**looks))
    (label,) = test.monitor()
    rule = boundaries([0.25, 0.5, 1.0], alpha=0.05)
    seen = looks_by_day(ar.table(rows), "fare", by="form", day="day", treatment="short", control="current", days=[4, 9])
    alone = monitor(rule, seen, information=[0.25, 0.5])
    found = test.monitor()[label]
    assert found.z.tolist() == alone.z.tolist()
    assert found.decision == alone.decision == "stop: a difference"
    assert test.analyse().primary["fare"].p_value == alone.latest.p_value
    assert not test.analyse().early
    calm = Experiment(rows_of(1_000, days=10, seed=3), **keys(**looks)).decide()
    assert dict(calm.words) == {"short": "wait"}
    assert calm.reasons["short"][-1].kind == "next look"
    with pytest.raises(DataError, match="The first look is after day 5"):
        Experiment(rows[rows.day < 3], **keys(**looks)).monitor()


HOSTILE = "<script>alert(1)</script>|`=1+1"


def test_every_form_of_the_report_is_inert_and_whole(tmp_path):
    """The same numbers in each; labels do nothing; nothing is overwritten unasked, or left half-written."""
    rows = rows_of(300, fare=1.0).replace({"form": {"short": HOSTILE}}).rename(columns={"fare": "=fare"})
    metrics = {"=fare": {"role": "primary"}, "calm": {"kind": "share", "role": "guardrail", "margin": 0.2}}
    days = {"column": "day", "planned": 4}
    test = Experiment(
        rows, **keys(metrics=metrics, days=days, hypothesis="<b>bold</b>", segments=["day"], method="both")
    )
    texts = {}
    for form in ("html", "md", "json", "csv"):
        path = test.report(tmp_path / f"report.{form}")
        texts[form] = path.read_text(encoding="utf-8")
        with pytest.raises(InputError, match="is there already"):
            test.report(path)
        again = Experiment(
            rows, **keys(metrics=metrics, days=days, hypothesis="<b>bold</b>", segments=["day"], method="both")
        )
        assert again.report(path, force=True).read_text(encoding="utf-8") == texts[form]
    assert not list(tmp_path.glob("*.part"))
    assert not any("Reason(" in text for text in texts.values())
    assert "&lt;script" in texts["html"]
    assert "<script>" not in texts["html"]
    assert "<b>bold" not in texts["html"]
    assert "<script>" not in texts["md"]
    assert "\n=" not in texts["csv"]
    assert ",=fare" not in texts["csv"]
    primary = test.analyse().primary.results[0]
    assert str(primary.estimate) in texts["csv"]
    table = list(csv.DictReader(io.StringIO(texts["csv"])))
    assert {row["recommended"] for row in table} == set(test.decide().words.values())
    shown = test.analyse().guardrails.results[0].margin_tests["not_worse"]
    assert [row["margin_p"] for row in table if row["role"] == "guardrails"] == [str(shown.p_value)]
    assert all(row["reason"] for row in table)
    assert json.loads(texts["json"])["results"][0]["type"] == "recommendation"
    for said in (f"{primary.estimate:.2f}", "Guardrails", "How to reproduce", "Day by day"):
        assert said in texts["html"]
        assert said in texts["md"]
    with pytest.raises(InputError, match="written as"):
        test.report(tmp_path / "report.pdf")


def same_decision(one, other):
    """The words, and every sentence and number of the reasons."""
    assert dict(one.decide().words) == dict(other.decide().words)
    pd.testing.assert_frame_equal(one.decide().to_frame(), other.decide().to_frame(), rtol=1e-9)


@pytest.mark.parametrize("engine", ["polars", "duckdb", "csv", "warehouse"])
def test_every_source_gives_the_same_report(engine, tmp_path):
    """Decision, numbers and checks, to the word: a tie of the last digit shown, 89.05%, falls alike."""
    rows = rows_of(2_000, fare=0.7).assign(port=lambda t: t.who % 3, prior=lambda t: t.who * 37 % 11 + 0.5)
    asked = keys(strata="port")
    asked["metrics"]["fare"]["covariates"] = ["prior"]
    source = {**DOORS, "warehouse": in_warehouse}[engine](rows, tmp_path)
    one, other = Experiment(rows, **asked), Experiment(source, **asked)
    same_decision(one, other)
    pd.testing.assert_frame_equal(one.analyse().to_frame(), other.analyse().to_frame(), rtol=1e-10)
    assert one.check().checks == other.check().checks


def run(line):
    found = CliRunner().invoke(app, shlex.split(line), catch_exceptions=False)
    assert found.exit_code in (0, 3), found.output
    return found.output


def test_from_a_table_to_a_report_at_the_command_line(folder, monkeypatch):
    """start, decide, analyse, report, schema."""
    monkeypatch.chdir(folder)
    said = run("start travellers.csv --unit traveller --by form --control current --day day --out mine.toml")
    assert "amber-ruler report mine.toml" in said
    assert Experiment.from_file("mine.toml").description.metrics["booked"].kind == "share"
    with pytest.raises(InputError, match="--force"):
        run("start travellers.csv --unit traveller --by form --control current --out mine.toml")
    assert "Hold guided; ship short." in run("decide experiment.toml")
    assert "Decided otherwise: it is asked for" in run("decide experiment.toml --override 'guided: it is asked for'")
    assert "Primary metrics" in run("analyse experiment.toml --figure rulers.png")
    assert (folder / "rulers.png").stat().st_size > 10_000
    assert "Written to report.html" in run("report experiment.toml --out report.html")
    assert json.loads(run("analyse experiment.toml --json"))["results"][0]["type"] == "analysis"
    assert json.loads(run("schema"))["required"] == ["name", "unit", "assignment", "metrics"]
    assert "Can travellers.csv be believed?" in run("check experiment.toml")
    assert "complaint drives the test" in run("plan experiment experiment.toml")
    with pytest.raises(AmberRulerError, match="treatment: reason"):
        run("decide experiment.toml --override guided")


@pytest.mark.parametrize(
    "option",
    ["--distinct", "--success booked=yes", "--derive 'late: day > 5'", "--query-table t", "--database duckdb:///t.db"],
)
def test_a_started_file_loses_no_option(option, folder, monkeypatch):
    """What an experiment file can't say of its table is refused, and nothing is written; what it can say is kept."""
    monkeypatch.chdir(folder)
    table = "" if "table" in option else "travellers.csv"
    line = f"start {table} --unit traveller --by form --control current --out other.toml"
    with pytest.raises(InputError, match=f"no place for {option.split()[0]}:"):
        run(f"{line} {option}")
    assert not (folder / "other.toml").exists()
    if table:
        run(f"{line} --where 'day >= 10' --separator , --missing none --force")
        source = Experiment.from_file("other.toml").description.source
        assert (source.where, source.separator, source.missing) == (["day >= 10"], ",", ["none"])


def test_readable_with_many_metrics_and_variants():
    """Two hundred metrics of four variants: rows are counted where they are not all shown."""
    rng = np.random.default_rng(2)
    rows = pd.DataFrame(rng.normal(size=(600, 200)), columns=[f"m{k}" for k in range(200)])
    rows = rows.assign(form=np.arange(600) % 5, who=np.arange(600))
    metrics = {f"m{k}": {"role": "primary" if k == 0 else "secondary"} for k in range(200)}
    test = Experiment(rows, name="Many", unit="who", assignment={"column": "form", "control": 0}, metrics=metrics)
    assert len(test.analyse().secondary) == 796
    assert len(str(test.analyse()).splitlines()) < 400
    assert sys.getsizeof(str(test.decide())) < 100_000


def test_many_experiments_on_one_page(tmp_path, monkeypatch):
    """A ruler a test, its decision, and what such tests usually bring, by `bayes.shrink` of the lifts."""
    monkeypatch.chdir(tmp_path)
    for k, name in enumerate(("june", "july", "august")):
        rows_of(500, fare=0.3 * k, seed=k).to_csv(f"{name}.csv", index=False)
        keyed = keys(name=name, source={"table": f"{name}.csv"})
        (tmp_path / f"{name}.toml").write_text(Experiment(**keyed).to_toml(), encoding="utf-8")
    said = run("report june.toml july.toml august.toml --index --out index.html")
    assert "3 experiments" in said
    page = (tmp_path / "index.html").read_text(encoding="utf-8")
    assert all(f"{name}: short" in page for name in ("june", "july", "august"))
    lifts, errors = [], []
    for name in ("june", "july", "august"):
        one, two = Experiment.from_file(f"{name}.toml").analyse().primary.results[0].groups
        lifts.append(100 * (one.mean / two.mean - 1))
        errors.append(100 * np.hypot(one.se / two.mean, one.mean * two.se / two.mean**2))
    assert ar.bayes.shrink(lifts, errors, metric="lift (%)").sentence() in page
    with pytest.raises(InputError, match="--index writes one page"):
        run("report june.toml july.toml --out x.html")


def test_the_page_is_valid_and_its_text_can_be_read(tmp_path):
    """No fault for a parser, nothing fetched or run, landmarks, and 4.5 : 1 between text and paper in both themes."""
    test = Experiment(rows_of(300, fare=1.0), **keys(days={"column": "day", "planned": 4}))
    page = test.report(tmp_path / "report.html").read_text(encoding="utf-8")
    parser = html5lib.HTMLParser()
    parser.parse(page)
    assert parser.errors == []
    assert not re.search(r"<script|https?://|src=|@import|url\(", page)
    for landmark in ('<html lang="en">', "<main", "<header", "<nav aria-label", "<h1"):
        assert page.count(landmark) == 1
    assert page.count("<caption>") == page.count("<table>") == page.count('tabindex="0"><table>')  # scrolled by keys
    assert '<th scope="col"></th>' not in page
    for theme in re.findall(r"\.amber-ruler \{ --ink[^}]*", page):
        colours = dict(re.findall(r"--(\w+): (#[0-9a-f]{6})", theme))
        for name in ("ink", "soft", "amber", "sea", "brick"):
            assert contrast(colours[name], colours["paper"]) >= 4.5, name


def contrast(one, other):
    """The ratio of two colours' luminances."""
    light = []
    for colour in (one, other):
        parts = np.array([int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)])
        linear = np.where(parts <= 0.04045, parts / 12.92, ((parts + 0.055) / 1.055) ** 2.4)
        light.append(linear @ [0.2126, 0.7152, 0.0722] + 0.05)
    return max(light) / min(light)


def test_a_log_of_events_becomes_units_first(tmp_path):
    """What is taken of each unit, from the log and the list of who was assigned; rows kept and labels named."""
    (tmp_path / "events.csv").write_bytes(ar.demo.path("events").read_bytes())
    listed = pd.read_csv(ar.demo.path("travellers"), usecols=["traveller", "form"])
    listed.to_csv(tmp_path / "assigned.csv", index=False)
    source = {
        "table": "events.csv",
        "where": ["day <= 14"],
        "take": ["searches: count where event = search", "spent: total amount"],
        "assigned": "assigned.csv",
    }
    asked = {
        "name": "Log",
        "unit": "traveller",
        "assignment": {"column": "form", "control": "current"},
        "metrics": {"searches": {"role": "primary"}, "spent": {}},
        "source": source,
    }
    (tmp_path / "log.toml").write_text(Experiment(**asked).to_toml(), encoding="utf-8")
    test = Experiment.from_file(tmp_path / "log.toml")
    assert test.description == Experiment(**asked).description
    by_hand = ar.table(tmp_path / "events.csv").where("day", at_most=14)
    measures = {"searches": ar.tables.count(event="search"), "spent": ar.tables.total("amount")}
    units = by_hand.units(
        unit="traveller", by="form", measures=measures, assignment=ar.table(tmp_path / "assigned.csv")
    )
    expected = units.moments("searches", by="form")
    found = test.analyse().primary["searches, short"]
    assert [g.n for g in found.groups] == [expected["short"].n, expected["current"].n] == [4049, 3983]
    assert found.estimate == pytest.approx(expected["short"].mean("searches") - expected["current"].mean("searches"))


@pytest.mark.parametrize("engine", ["pandas", "parquet"])
@pytest.mark.parametrize("strata", [None, "port"])
def test_many_columns_reduced_at_once_are_each_by_itself(engine, strata, tmp_path):
    """Moments are those of each set by itself; rows that lack what they must have are counted, endless ones refused."""
    rng = np.random.default_rng(4)
    rows = rows_of(200).assign(port=lambda t: t["who"] % 3, prior=rng.normal(size=400), holes=1.0, endless=2.0)
    rows = rows.assign(far=np.where(rows.form == "short", 1e9, 0.0) + rows.prior)
    rows.loc[3, "holes"], rows.loc[5, "endless"] = np.nan, np.inf
    rows.to_parquet(tmp_path / "rows.parquet")
    table = ar.table(rows if engine == "pandas" else tmp_path / "rows.parquet")
    sets = [Set(("fare", "prior")), Set(("prior",)), Set(("calm", "holes")), Set(("far", "prior")), Set(("endless",))]
    found = in_one_pass(table, sets, by="form", strata=strata)
    assert [found.arms(one.needed) is None for one in sets] == [False, False, False, False, True]
    for columns in (["fare", "prior"], ["far", "prior"], ["prior"], ["calm"], ["calm", "holes"]):
        truth = table.moments(columns, by="form")
        for label, m in (
            found.arms(columns) or in_one_pass(table, [Set(tuple(columns))], by="form").arms(columns)
        ).items():
            assert (m.n, m.missing) == (truth[label].n, truth[label].missing)
            assert m.means == pytest.approx(truth[label].means, rel=1e-14, abs=1e-13)
            assert m.comoments == pytest.approx(truth[label].comoments, rel=1e-10)
            assert m.shape.fourths == pytest.approx(truth[label].shape.fourths, rel=1e-9)
            assert m.shape.lowest.tolist() == truth[label].shape.lowest.tolist()
    for label, m in found.arms(["far", "prior"], within=True).items():
        for k in range(1 if strata is None else 3):
            mine = rows[(rows.form == label) & ((rows.port == k) if strata else True)]
            assert np.ravel(m.n)[k] == len(mine)
            assert np.ravel(m.correlation("far", "prior"))[k] == pytest.approx(mine.far.corr(mine.prior), rel=1e-6)
    rows.loc[7, "port"] = np.nan
    assert (in_one_pass(ar.table(rows), sets, by="form", strata=strata).arms(["prior"]) is None) == (strata == "port")


@pytest.mark.parametrize("gaps", [False, True])
def test_the_way_of_reduction_changes_no_number(gaps):
    """All metrics at once, or each by its rows: the same sharpened answer, and the same said of what is missing."""
    rng = np.random.default_rng(5)
    rows = rows_of(300, fare=0.4).assign(port=lambda t: np.where(t["who"] % 3, "Amble", "Tern Quay"))
    rows = rows.assign(prior=rows.fare + rng.normal(size=600), trips=rng.poisson(3, 600) + 1.0, calm=rows.calm * 1.0)
    if gaps:
        for column, each in (("prior", 11), ("trips", 7), ("calm", 13)):
            rows.loc[rows.who % each == 0, column] = np.nan
    metrics = {
        "fare": {"role": "primary", "covariates": ["prior", "trips"]},
        "calm": {"kind": "share", "role": "guardrail", "margin_lift": 0.1, "covariates": ["prior"]},
        "a trip": {"kind": "ratio", "column": "fare", "per": "trips", "covariates": ["prior per trips"]},
        "capped": {"column": "fare", "cap": 0.95},
    }
    found = Experiment(rows, **keys(metrics=metrics, strata="port")).analyse()
    arms = ar.table(rows).records(["fare", "calm", "prior", "trips", "port"], by="form")
    asked = {
        "fare": {"covariate": ["prior", "trips"]},
        "calm": {"covariate": ["prior"], "margin_lift": 0.1},
        "a trip": {"value": "fare", "per": "trips", "covariate": ["prior per trips"]},
        "capped": {"value": "fare", "cap": 0.95},
    }
    each = dict(zip(found.secondary.labels, found.secondary.results, strict=True))
    for name, settings_ in asked.items():
        one = {"fare": found.primary["fare"], "calm": found.guardrails["calm"], **each}[name]
        alone = ar.adjust.sharpen(arms["short"], arms["current"], **{"value": name, **settings_}, strata="port")
        assert (one.estimate, one.se) == pytest.approx((alone.estimate, alone.se), rel=1e-9)
        assert [c.finding for c in one.checks] == [c.finding for c in alone.checks]
        assert [g.n for g in one.groups] == [g.n for g in alone.groups]
        if "margin_lift" in settings_:
            p = [r.margin_tests["not_worse"].p_value for r in (one, alone)]
            assert p[0] == pytest.approx(p[1], rel=1e-8)


def test_beliefs_are_those_of_the_library():
    """A prior of the file for means, a uniform one of each proportion; what can't be weighed is refused."""
    rows = rows_of(300, fare=0.4)
    metrics = {"fare": {"role": "primary", "margin": 0.2}, "calm": {"kind": "share", "role": "primary"}}
    test = Experiment(rows, **keys(metrics=metrics, method="both", prior="cauchy 0.1"))
    arms = ar.table(rows).moments(["fare", "calm"], by="form")
    fare = ar.bayes.means(
        arms["short"].select("fare"),
        arms["current"].select("fare"),
        prior=ar.bayes.Cauchy(0.1),
        margin=0.2,
        metric="fare",
    )
    found = test.analyse().evidence
    assert found["fare"].evidence.bayes_factor == pytest.approx(fare.evidence.bayes_factor, rel=1e-12)
    assert 0 < found["calm"].evidence.chance_better < 1
    assert any("prior has no effect on the analysis of calm" in note for note in test.analyse().notes)
    guarded = Experiment(rows, **keys(method="both", prior="cauchy 0.1")).analyse()  # calm is judged by its test
    assert not any("prior" in note for note in guarded.notes)
    wrong = {"fare": {"role": "primary", "kind": "quantile"}}
    with pytest.raises(InputError, match="kind: quantiles are not weighed"):
        Experiment(rows, **keys(metrics=wrong, method="both")).analyse()
    with pytest.raises(InputError, match="is not known here"):
        Experiment(rows, **keys(method="both", prior="caucy 1")).analyse()


def test_tops_of_several_columns_are_those_of_numpy():
    """The quantile and what lies above it, or what can't lie above it by the moments; a cap is tried on few values."""
    rng = np.random.default_rng(6)
    drawn = {"heavy": rng.pareto(1.05, 6_000), "tail": rng.lognormal(0, 1.6, 6_000), "signed": rng.normal(5, 3, 6_000)}
    light = {"light": rng.normal(5, 1, 6_000), "even": rng.uniform(0, 2, 6_000), "few": rng.poisson(3, 6_000)}
    rows = rows_of(3_000).assign(**drawn, **light)
    checks = {c.name: c for c in ar.table(rows).check(by="form", unit="who", metrics=[*drawn, *light]).checks}
    for column in drawn | light:
        limit = np.quantile(rows[column], 0.999)
        share = rows[column].abs()[rows[column] > limit].sum() / rows[column].abs().sum()
        finding = checks[f"top of {column}"].finding
        if column in drawn:
            assert f"(above {limit:.4g}) hold {100 * share:.2g}% of the total" in finding
        else:
            most = float(finding.split("no more than ")[1].split("%")[0])
            assert 100 * share <= most < 5
    capped = np.minimum(rows.heavy, np.quantile(rows.heavy, 0.999)).mean()
    assert f"from {rows.heavy.mean():.4g} to {capped:.4g}" in checks["top of heavy"].advice
    assert checks["top of light"].severity == "fine"


def test_an_experiment_prints_and_says_what_is_missing(tmp_path):
    """Its metrics in a table; no rows at all, no day, no look, no such folder."""
    test = Experiment(**keys())
    assert "guardrail" in str(test)
    assert repr(test) == "<experiment Forms: fare, calm>"
    with pytest.raises(InputError, match="names no table"):
        test.check()
    with pytest.raises(InputError, match=r"source\.where would not be obeyed"):
        Experiment(ar.table(rows_of(50)), **keys(source={"where": ["day > 1"]})).check()
    assert Experiment(rows_of(50), **keys()).daily() == {}
    with pytest.raises(InputError, match="No look was planned"):
        Experiment(rows_of(50), **keys()).monitor()
    with pytest.raises(ExperimentFileError, match="can't be read: No such file"):
        Experiment.from_file(tmp_path / "nothing.toml")
    with pytest.raises(InputError, match="Can't write"):
        Experiment(rows_of(200), **keys()).report(tmp_path / "no" / "report.html")
    only = rows_of(50)
    with pytest.raises(DataError, match="one variant only"):
        Experiment(only[only.form == "current"], **keys(accepted=[{"check": "variants", "reason": "x"}])).analyse()


def in_ports(units=900, *, effect=0.0):
    """Ports that were assigned as a whole: fares of one port resemble each other."""
    rng = np.random.default_rng(8)
    port = rng.integers(0, 30, units)
    form = np.where(port % 2, "short", "current")
    fare = rng.normal(0, 1, 30)[port] + rng.normal(10, 2, units) + effect * (form == "short")
    return pd.DataFrame(
        {"who": range(units), "port": port, "form": form, "fare": fare, "prior": fare + rng.normal(0, 1, units)}
    )


def test_clusters_are_allowed_for_in_checks_plan_and_errors():
    rows = in_ports().assign(tall=lambda t: t.fare > 11, wait=lambda t: t.fare**2, area=lambda t: t.port % 3)
    metrics = {
        "fare": {"role": "primary", "covariates": ["prior"], "effect": 1.0},
        "tall": {"kind": "share"},
        "wait": {"kind": "quantile", "at": 0.9},
        "fare per wait": {"kind": "ratio", "column": "fare", "per": "wait"},
    }
    test = Experiment(rows, **keys(metrics=metrics, clusters="port"))
    arms = ar.table(rows).records(["fare", "prior", "tall", "wait", "port"], by="form")
    one, two = arms["short"], arms["current"]
    found = test.analyse()
    expected = {
        "fare": ar.adjust.clusters(one, two, value="fare", cluster="port", covariate=["prior"]),
        "tall": ar.adjust.clusters(one, two, value="tall", cluster="port"),
        "wait": ar.adjust.quantiles(one, two, value="wait", cluster="port", at=0.9),
        "fare per wait": ar.adjust.sharpen(one, two, value="fare", per="wait", cluster="port"),
    }
    each = dict(zip(found.secondary.labels, found.secondary.results, strict=True)) | {"fare": found.primary["fare"]}
    for name, alone in expected.items():
        assert (each[name].estimate, each[name].se) == (alone.estimate, alone.se)
    checks = {c.name: c for c in test.check().checks}
    assert "15 : 15" in checks["sample ratio"].finding
    assert checks["whole clusters"].severity == "fine"
    assert checks["before the test: prior"].finding.startswith("largest standardised difference")
    assert "p " not in checks["before the test: prior"].finding
    alone = Experiment(rows, **keys(metrics=metrics)).plan()
    assert test.plan().n_total > 1.5 * alone.n_total
    torn = Experiment(rows.assign(port=lambda t: t.who % 40), **keys(metrics=metrics, clusters="port"))
    assert [c.name for c in torn.failed] == ["whole clusters"]
    whole = {"metrics": {"fare": {"role": "primary"}}, "clusters": "port"}
    days = {"days": {"column": "day", "planned": 9}, "looks": {"after": [9]}, "correction": "none"}
    for more, said in (
        ({"method": "both"}, "clusters don't go with method"),
        ({"segments": ["area"]}, "clusters don't go with segments"),
        (days, "clusters don't go with looks"),
        ({"metrics": {"fare": {"role": "primary", "kind": "rate"}}}, "fare is a rate"),
    ):
        with pytest.raises(ExperimentFileError, match=said):
            Experiment(rows, **keys(**{**whole, **more}))


def test_each_metric_may_have_an_alpha_of_its_own():
    """Intervals and looks are of its level; what is corrected together has one alpha."""
    rows = rows_of(1_000, fare=0.2, days=10).assign(searches=lambda t: t.fare.round() % 4)
    metrics = {
        "fare": {"role": "primary", "alpha": 0.01, "margin": 0.5, "effect": 0.3},
        "searches": {"role": "primary", "alpha": 0.04},
        "calm": {"kind": "share", "role": "guardrail", "margin": 0.05, "alpha": 0.1},
    }
    with pytest.raises(
        ExperimentFileError, match=r"primary metrics are corrected together, and have alphas of 0\.01, 0\.04"
    ):
        Experiment(rows, **keys(metrics=metrics))
    test = Experiment(rows, **keys(metrics=metrics, correction="none"))
    found = test.analyse()
    assert [r.interval.level for r in found.primary.results] == [0.99, 0.96]
    assert found.guardrails.results[0].interval.level == 0.9
    assert (
        test.plan().answers["fare"].n_total
        == ar.plan.TwoMeans(sd=rows[rows.form == "current"].fare.std(), alpha=0.01)
        .sample_size(effect=0.3, power=0.8)
        .n_total
    )
    looks = {"days": {"column": "day", "planned": 10}, "looks": {"after": [5, 10]}, "correction": "none"}
    watched = Experiment(rows, **keys(metrics=metrics, **looks)).monitor()
    for name, alpha in (("fare", 0.01), ("searches", 0.04)):
        assert watched[name].boundaries.z.tolist() == boundaries([0.5, 1.0], alpha=alpha).z.tolist()


def test_a_posterior_may_be_what_decides():
    """Primary metrics by their posterior, the others by tests; looks, which spend alpha, are refused."""
    rows = rows_of(2_000, fare=0.5)
    test = Experiment(rows, **keys(method="bayesian", prior="cauchy 0.1"))
    both = Experiment(rows, **keys(method="both", prior="cauchy 0.1")).analyse()
    found = test.analyse()
    assert found.primary["fare"].interval.low == both.evidence["fare"].interval.low
    assert found.primary["fare"].test is None
    assert not found.evidence
    assert found.guardrails.results[0].test is not None
    assert dict(test.decide().words) == {"short": "ship"}
    looks = {"days": {"column": "day", "planned": 10}, "looks": {"after": [5, 10]}, "correction": "none"}
    with pytest.raises(ExperimentFileError, match="looks spend the alpha of tests"):
        Experiment(rows, **keys(method="bayesian", **looks))


@pytest.mark.parametrize("gaps", [False, True])
def test_a_digest_serves_in_the_place_of_its_table(gaps, tmp_path):
    """The same decision, comparisons, looks and days; its checks are those of the table that need no row."""
    rng = np.random.default_rng(9)
    rows = rows_of(600, fare=0.6, days=6).assign(port=lambda t: np.where(t.who % 3, "Amble", "Tern Quay"))
    rows["prior"] = rows.fare + rng.normal(size=len(rows))
    if gaps:
        rows.loc[::7, "prior"] = np.nan
        rows.loc[::11, "fare"] = np.nan
    metrics = {
        "fare": {"role": "primary", "covariates": ["prior"], "effect": 0.5},
        "calm": {"kind": "share", "role": "guardrail", "margin": 0.05},
    }
    asked = {"metrics": metrics, "days": {"column": "day", "planned": 6}, "strata": "port"}
    whole = Experiment(rows, **keys(**asked))
    held = ar.table(rows).digest(["fare", "calm"], by="form", covariates=["prior"], strata="port", day="day")
    (tmp_path / "kept.json").write_text(held.to_json(), encoding="utf-8")
    (tmp_path / "test.toml").write_text(
        Experiment(**keys(**asked, source={"digest": "kept.json"})).to_toml(), encoding="utf-8"
    )
    kept = Experiment.from_file(tmp_path / "test.toml")
    same_decision(kept, whole)
    pd.testing.assert_frame_equal(kept.analyse().to_frame(), whole.analyse().to_frame(), rtol=1e-9)
    assert kept.plan().n_total == whole.plan().n_total
    assert kept.daily()["fare"] == whole.daily()["fare"]
    ours, theirs = ({c.name: c.finding for c in test.check().checks} for test in (kept, whole))
    same = {"sample ratio", "split by day", "split by stratum", "missing fare", "varying fare", "enough fare"} & set(
        theirs
    )
    assert {name: ours[name] for name in same} == {name: theirs[name] for name in same}
    assert "a digest holds no rows" in ours["unit of analysis"]
    page = kept.report(tmp_path / "kept.html").read_text(encoding="utf-8")
    assert "kept.json" in page
    looks = {**asked, "looks": {"after": [3, 6]}, "correction": "none", "strata": None}
    plain = ar.table(rows).digest(["fare", "calm"], by="form", covariates=["prior"], day="day")
    seen, told = (Experiment(data, **keys(**looks)).monitor()["fare"] for data in (plain, rows))
    assert seen.z == pytest.approx(told.z, rel=1e-9)
    within = {**looks, "strata": "port"}
    seen, told = (Experiment(data, **keys(**within)).monitor()["fare"] for data in (held, rows))
    assert seen.z == pytest.approx(told.z, rel=1e-9)
    assert seen.latest.estimate == pytest.approx(told.latest.estimate, rel=1e-9)
    for more, said in (
        ({"segments": ["port"]}, "holds moments and no rows: segments"),
        ({"days": {"column": "week"}}, "days.column is 'week'"),
        ({"strata": "form"}, "strata is 'form', and the digest was made by 'port'"),
        ({"metrics": {"fare": {"role": "primary", "kind": "quantile"}}}, "no rows: a quantile"),
        ({"metrics": {"fare": {"role": "primary", "cap": 0.9}}}, "no rows: fare, port"),
        ({"metrics": {"fair": {"role": "primary"}}}, "metrics.fair.column"),
    ):
        with pytest.raises((DataError, InputError), match=said):
            Experiment(held, **keys(**{**asked, **more})).analyse()
    with pytest.raises(ExperimentFileError, match="decimal is ignored for a digest"):
        Experiment(**keys(source={"digest": "x.json", "decimal": ","}))


def comparison(metric, treatment, low, high, **more):
    """A comparison by its interval alone."""
    from amber_ruler.results import Comparison, Interval, Test

    tested = Test(p_value=0.01 if low * high > 0 else 0.4, alpha=0.05, **more)
    return Comparison(
        title="", method="", source="", metric=metric, treatment=treatment, control="current",
        estimate=(low + high) / 2, interval=Interval(low, high, 0.95), test=tested, margin=0.5,
    )  # fmt: skip


def decided(primary, guardrails=(), going=()):
    """The word and the reasons for 'short', from comparisons and the metrics that go on to the next look."""
    from types import SimpleNamespace

    from amber_ruler.experiment.recommending import decide
    from amber_ruler.experiment.resolve import resolve
    from amber_ruler.experiment.results import Analysis
    from amber_ruler.results import Family

    def family(found):
        return Family(title="", method="", source="", labels=tuple(map(str, range(len(found)))), results=tuple(found))

    watched = {
        one.metric: SimpleNamespace(latest=one, stopped_at=None if one.metric in going else 1) for one in primary
    }
    analysis = Analysis(
        title="", method="", source="", primary=family(primary), secondary=None,
        guardrails=family(guardrails) if guardrails else None, monitored=watched, evidence={}, days_seen=None,
        days_planned=None, early=False,
    )  # fmt: skip
    found = decide(resolve(Experiment(**keys()).description), analysis, (), {})
    return found.words["short"], [reason.kind for reason in found.reasons["short"]]


def test_the_decision_is_made_of_values():
    """Each rule by intervals that are put together by hand, the next look beside a better metric among them."""
    from amber_ruler.results import MarginTest

    better, unclear = comparison("fare", "short", 0.6, 1.4), comparison("trips", "short", -1.0, 1.4)
    worse = comparison("trips", "short", -1.4, -0.6)
    shown, missed = (
        comparison("calm", "short", -1.0, 1.4, margin_tests={"not_worse": MarginTest("", p, holds)})
        for p, holds in ((0.01, True), (0.2, False))
    )
    assert decided([unclear], going=["trips"]) == ("wait", ["metric", "next look"])
    assert decided([better, unclear], going=["trips"]) == ("ship", ["metric", "metric", "better"])
    assert decided([better, worse], going=["trips"])[0] == "stop"
    assert decided([unclear])[0] == "hold"
    assert decided([better], [shown]) == ("ship", ["metric", "metric", "better"])
    assert decided([better], [missed]) == ("hold", ["metric", "metric", "not shown"])
    assert decided([better], [comparison("calm", "short", -1.4, -0.6)])[0] == "stop"
    reason = Experiment(rows_of(2_000, fare=0.5), **keys()).decide().reasons["short"][0]
    one = Experiment(rows_of(2_000, fare=0.5), **keys()).analyse().primary["fare"]
    assert (reason.metrics, reason.estimate, reason.p_value) == (("fare",), one.estimate, one.p_value)
    assert ar.Result.from_json(Experiment(rows_of(200), **keys()).decide().to_json()).reasons["short"][-1].kind


def test_a_margin_as_a_lift_holds_at_looks():
    """Within a wide margin an effect is held, at a look as without; within a narrow one it is better."""
    rows = rows_of(1_000, fare=0.6, days=10)
    looks = {"days": {"column": "day", "planned": 20}, "looks": {"after": [5, 10, 20]}, "correction": "bonferroni"}
    for size, word in ((0.5, "hold"), (0.03, "ship")):
        metrics = {"fare": {"role": "primary", "margin_lift": size}}
        for more in ({}, looks, {"method": "bayesian"}):
            assert dict(Experiment(rows, **keys(metrics=metrics, **more)).decide().words) == {"short": word}
    latest = Experiment(rows, **keys(metrics={"fare": {"role": "primary", "margin_lift": 0.03}}, **looks)).monitor()
    lift = latest["fare"].latest.effects["lift"].interval
    edge = max(abs(lift.low), lift.high)
    for size, word in ((edge * 1.001, "no difference that matters"), (edge * 0.999, "better")):
        found = Experiment(rows, **keys(metrics={"fare": {"role": "primary", "margin_lift": float(size)}}, **looks))
        assert found.monitor()["fare"].latest.verdict == word
    poor = rows.assign(fare=np.where(rows.form == "short", rows.fare - 1.8, rows.fare))
    found = Experiment(poor, **keys(metrics={"fare": {"role": "primary", "margin_lift": 0.03}}, **looks))
    assert found.monitor()["fare"].latest.verdict == "worse"


def test_a_reason_is_not_rounded_onto_no_difference():
    """An interval that just holds 0, or just leaves it out, is written so; of a ratio the same around 1."""
    from amber_ruler.experiment import Reason
    from amber_ruler.results import Interval

    def said(low, high, unit="metric"):
        reason = Reason(
            kind="metric", metrics=("fare",), role="primary", verdict="undecided", p_value=0.05,
            estimate=(low + high) / 2, interval=Interval(low, high, 0.95), unit=unit,
            measured_in="€" if unit == "metric" else "",
        )  # fmt: skip
        return reason_words(reason)

    assert "interval −0.0004 to 2.5805 €" in said(-0.00036, 2.58048)
    assert "interval 0.0004 to 2.5805 €" in said(0.00036, 2.58048)
    assert "interval 1.0004 to 2.5805," in said(1.00036, 2.58048, unit="ratio")
    assert "+1.320 pp" in said(0.0100, 0.0164, unit="share")
