"""The command line as a user meets it: what is written, and how it ends."""

import io
import json
import re
import shlex
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler.cli import main
from amber_ruler.cli.plan import KINDS
from amber_ruler.demo import path

TRAVELLERS = str(path("travellers"))
FARES = ["measure", "means", TRAVELLERS, "--value", "fare", "--by", "form", "--control", "current"]


def run(*args, env=None, code=0):
    """Run amber-ruler and return its output; the exit status must be the expected one."""
    out, err = (io.TextIOWrapper(io.BytesIO(), (env or {}).get("PYTHONIOENCODING", "utf-8")) for _ in range(2))
    line = ["amber-ruler", *map(str, args)]
    with pytest.MonkeyPatch.context() as patch, redirect_stdout(out), redirect_stderr(err):
        patch.setattr(sys, "argv", line)
        patch.setenv("COLUMNS", "80")
        with pytest.raises(SystemExit) as ended:
            main()
    said = []
    for stream in (out, err):
        stream.seek(0)
        said.append(stream.read())
    assert (ended.value.code or 0) == code, said[1]
    assert ("Traceback" in said[1]) == (code == 1)
    return said[0] if code in {0, 3} else said[1]


def test_the_demo_runs_the_whole_day(tmp_path):
    """Every step has its heading, the files are written, and the planted effect is found."""
    out = run("demo", "--out", tmp_path / "ferry")
    for heading in ("Plan", "Check", "Measure", "Sharpen", "Look early", "Weigh", "Correct", "Summary", "Try next"):
        assert heading in out
    assert max(map(len, out.partition("Written to")[0].splitlines())) <= 80
    answers = json.loads((tmp_path / "ferry" / "results.json").read_text("utf-8"))
    assert answers["schema"] == "amber-ruler answers 1"
    found = {
        (r["metric"], r["treatment"]): r for r in answers["results"] if r["type"] == "comparison" and not r["parts"]
    }
    for metric in ("fare", "booked"):
        interval, truth = found[metric, "short"]["interval"], ar.demo.TRUTH["short"][metric]
        assert interval["low"] < truth < interval["high"]
        assert found[metric, "short"]["verdict"] == "better"
        assert found[metric, "guided"]["verdict"] != "better"
    assert (tmp_path / "ferry" / "rulers.png").stat().st_size > 10_000
    assert (tmp_path / "ferry" / "travellers.csv").read_bytes() == path("travellers").read_bytes()


def test_measure_means_prints_what_the_library_says():
    """Each variant against the control, and all on one scale."""
    out = run(*FARES, "--margin", "0.3")
    fares = ar.table(TRAVELLERS).moments("fare", by="form")
    r = ar.measure.means(fares["short"], fares["current"], margin=0.3)
    assert r.sentence() in " ".join(run(*FARES, "--margin", "0.3", "--correct", "none").split())
    # Of two variants the interval is the one that goes with Holm's correction.
    assert r.again(alpha=0.025).sentence()[:90] in " ".join(out.split())
    assert "2 variants against current" in out
    assert "adjusted p" in out
    assert "\x1b" not in out


def test_json_output_holds_the_same_numbers():
    """The document has the library's numbers and sentences."""
    document = json.loads(run(*FARES, "--json", "--alternative", "greater", "--variances", "equal", "--null", "0.5"))
    fares = ar.table(TRAVELLERS).moments("fare", by="form")
    r = ar.measure.means(fares["short"], fares["current"], alternative="greater", variances="equal", null=0.5)
    (family,) = document["results"]
    short = family["results"][family["labels"].index("short")]
    assert short["test"]["p_value"] == r.p_value
    # The interval is the one that goes with Holm's correction of two.
    assert short["interval"]["low"] == r.again(alpha=0.025).interval.low
    assert short["parts"][0]["adjusted"] == pytest.approx(2 * r.p_value)
    plain = json.loads(run(*FARES, "--json", "--correct", "none"))["results"][0]["results"][1]
    assert (plain["parts"], plain["test"]["margin_tests"]) == ([], {})


def test_measure_proportions():
    """Shares, with the direction in which the metric is good."""
    out = run("measure", "proportions", TRAVELLERS, "--value", "booked", "--by", "form", "--control", "current")
    assert "risk ratio" in out
    assert "pp" in out


PLANS = [
    ("two-means --sd 20 --effect 1.3", "3,717 units in each group (7,434 in total)"),
    ("two-means --effect 0.5 --n 64 --find power", "80.1%"),
    ("two-means --effect 0.5 --n 64,30 --find power", "64 units in treatment and 30 in control (94 in total)"),
    ("two-means --n 64 --find effect", "64 units in each group (128 in total) find a difference of"),
    ("two-means --n 64 --effect 0.5 --find alpha --power 0.9", "alpha 0.1251, two-sided"),
    ("two-proportions --baseline 0.1 --effect 0.02", "3,841 units in each group (7,682 in total)"),
    ("two-proportions --baseline 0.1 --n 3841 --power 0.9 --find effect", "90.0%"),
    ("two-means --sd 20 --effect 1.3 --covariate 0.6 --variants 2 --per-day 400", "22 days, so 4 whole weeks"),
    ("two-means --margin 0.3 --margin-kind equivalence --cluster-size 9 --icc 0.1", "not away from control"),
    ("one-proportion --half-width 0.03", "1,068 units give an interval of"),
    ("many-means --groups 3 --sd 2 --means 10,11,12", "21 units in each of 3 groups (63 in total)"),
    ("association --shares 0.2,0.1;0.3,0.4", "effect w"),
    ("one-mean --grid effect=0.2,0.5 --grid power=0.8,0.9", "4 scenarios"),
    ("correlation --grid effect=0.2,0.5 --n 60", "2 scenarios"),
]


@pytest.fixture
def ask(monkeypatch, capsys):
    """Ask within this process, which is quicker; errors are returned, the status is checked."""

    def one(*args, code=0):
        monkeypatch.setattr(sys, "argv", ["amber-ruler", *map(str, args)])
        with pytest.raises(SystemExit) as end:
            main()
        assert end.value.code == code
        out, error = capsys.readouterr()
        return " ".join((error if code else out).split())

    return one


@pytest.fixture
def plan(ask):
    return lambda *args, code=0: ask("plan", *args, code=code)


VESSELS = [path("turnarounds"), "--value", "minutes", "--by", "when", "--unit", "vessel", "--control", "before"]
MINUTES = [TRAVELLERS, "--value", "minutes_to_book", "--by", "form", "--control", "current"]
DELAYS = [path("crossings"), "--value", "delay", "--by", "route"]
TICKETS = [path("tickets"), "--row", "port", "--column", "ticket", "--count", "count"]
SPENT = [TRAVELLERS, "--value", "fare", "--second", "prior_spend"]
STUDY = ["--n", "90,90", "--mean", "21,14", "--sd", "20,20"]
MEASURED = [
    (["mean", TRAVELLERS, "--value", "fare", "--by", "form", "--null", "14"], "which differs from 14.0"),
    (["mean", TRAVELLERS, "--value", "fare"], "mean of all rows is"),
    (["means", *MINUTES, "--split", "current=1,short=1,guided=1", "--good", "lower"], "2 variants against current"),
    (
        ["means", "--n", "90,90", "--mean", "21,14", "--sd", "20,20", "--labels", "short,current"],
        "short − current 7.00",
    ),
    (["means", "--n", "90,90", "--mean", "21,14", "--sd", "9,9", "--known-sd", "20,20"], "z 2.35"),
    (["pairs", *VESSELS, "--good", "lower", "--margin", "1"], "not worse by 1.00 or more yes"),
    (["pairs", "--n", "9,9", "--mean", "1,2", "--sd", "1,1", "--correlation", "0.5"], "in pairs"),
    (["proportion", "--successes", "15", "--trials", "50", "--null", "0.2", "--test", "exact"], "p = 0.121"),
    (["proportions", "--successes", "60,40", "--trials", "400,400", "--test", "exact"], "p = 0.0418"),
    (["paired-proportions", "--counts", "20,15,5,60", "--labels", "after,before"], "after against before: better"),
    (["rate", "--events", "30", "--exposure", "120", "--null", "0.3"], "in line with 0.300"),
    (["rates", "--events", "40,60", "--exposure", "120,130"], "p = 0.109"),
    (["ranks", *MINUTES, "--good", "lower"], "by ranks"),
    (["signed-ranks", *VESSELS, "--good", "lower"], "p = 0.00105"),
    (["spread", TRAVELLERS, "--value", "fare", "--by", "form"], "standard deviation of short"),
    (["spreads", *MINUTES, "--test", "levene"], "Levene's test"),
    (["quantiles", *MINUTES, "--at", "0.9"], "90% quantile of minutes_to_book"),
    (["correlation", *SPENT], "correlation is 0.598"),
    (["groups", *DELAYS], "1 of 10 pairs differ"),
    (
        ["groups", *DELAYS, "--control", "Amble", "--pairs", "step-down dunnett"],
        "from Amble after step-down Dunnett: Cairn, Dunes, Eider",
    ),
    (["groups", *DELAYS, "--compare", "ranks"], "by ranks"),
    (["groups", path("turnarounds"), "--value", "minutes", "--by", "when", "--unit", "vessel"], "epsilon 1.00"),
    (["groups", "--n", "9,9,8", "--mean", "1,2,5", "--sd", "1,1,2", "--labels", "a,b,c", "--pairs", "holm"], "c a"),
    (["factors", path("crossings"), "--value", "delay", "--by", "route,season", "--squares", "III"], "route × season"),
    (["independence", *TICKETS], "more bicycle in Tern Quay"),
    (["independence", "--counts", "3,1; 0,5"], "p 0.0476"),
    (
        [
            "goodness-of-fit",
            "--counts",
            "120,80,100",
            "--labels",
            "foot,bicycle,car",
            "--expected",
            "foot=4,car=3,bicycle=3",
        ],
        "p 0.329",
    ),
    (["goodness-of-fit", TRAVELLERS, "--value", "form"], "is not shown"),
    (
        ["correlation", *SPENT, "--coefficient", "spearman"],
        "rank correlation",
    ),
]


@pytest.mark.parametrize(("asked", "says"), MEASURED, ids=lambda v: v[0] if isinstance(v, list) else "")
def test_every_kind_is_measured(ask, asked, says, tmp_path):
    """From a table or from published numbers, in one call each, with a figure."""
    assert says in ask("measure", *asked, "--figure", tmp_path / "r.png")
    assert (tmp_path / "r.png").stat().st_size > 5_000


def test_wide_pairs_need_no_flag(ask, tmp_path):
    """Two columns of a wide table are the same pairs."""
    long = pd.read_csv(path("turnarounds")).pivot(index="vessel", columns="when", values="minutes")
    long.reset_index().to_csv(tmp_path / "wide.csv", index=False)
    wide = ask("measure", "pairs", tmp_path / "wide.csv", "--treatment", "after", "--control", "before", "--json")
    known = ask("measure", "pairs", *VESSELS, "--json")
    assert json.loads(wide)["results"][0]["test"] == json.loads(known)["results"][0]["test"]


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        (["means"], "Give a file, or published numbers: --n, --mean, --sd"),
        (["means", "--n", "9,9", "--mean", "1,2"], "Missing: --sd"),
        (["means", "--n", "9", "--mean", "1,2", "--sd", "1,1"], "--n takes 2 numbers here, got 1"),
        (["rates", "--events", "4,x", "--exposure", "1,2"], "--events takes numbers"),
        (["means", TRAVELLERS, "--value", "fare", "--by", "form"], "--control is needed"),
        (["pairs", path("turnarounds"), "--value", "minutes"], "--by is needed with a file, or --treatment"),
        (["proportions", "--successes", "4,5", "--trials", "9,9", "--labels", "a"], "--labels takes 2 names"),
        (["ranks"], "Give a file. Missing: the file"),
        (["groups", "--n", "9,9", "--mean", "1,2,3", "--sd", "1,1,1"], "--mean takes 2 numbers"),
        (["factors", path("crossings"), "--value", "delay", "--by", "route"], "two or three"),
        (["independence", path("tickets"), "--row", "port"], "both row and column"),
        (["goodness-of-fit", "--counts", "3,4", "--expected", "1,2,3"], "2 shares"),
    ],
)
def test_what_a_measure_lacks_is_named(ask, asked, says):
    """By the option that is missing."""
    assert says in ask("measure", *asked, code=2)


@pytest.mark.parametrize(("args", "says"), PLANS)
def test_plan_answers(plan, args, says):
    """Units unless something else is asked for; modifiers and grids."""
    assert says in " ".join(plan(*args.split()).split())


def test_plan_json_holds_the_library_s_numbers(plan):
    """Every modifier reaches the design, and the document has what the library answers."""
    args = "two-means --sd 20 --baseline 14 --lift 0.1 --covariate 0.5 --cluster-size 4 --icc 0.05 --cluster-cv 0.3"
    args += " --variants 2 --correction sidak --attrition 0.1 --per-day 900 --traffic-share 0.5 --power 0.9 --json"
    (held,) = json.loads(plan(*args.split()))["results"]
    design = ar.plan.TwoMeans(sd=20, baseline=14).with_covariate(0.5).with_clusters(4, 0.05, cv=0.3)
    answer = (
        design.with_variants(2, "sidak").with_attrition(0.1).with_traffic(900, 0.5).sample_size(lift=0.1, power=0.9)
    )
    assert (held["n_total"], held["power"], held["days"]) == (answer.n_total, answer.power, answer.days)
    assert [c["value"] for c in held["costs"]] == [c.value for c in answer.costs]
    assert held["sentence"] == answer.sentence()
    (grid,) = json.loads(plan("one-proportion", "--grid", "baseline=0.2,0.4", "--effect", "0.1", "--json"))["results"]
    expected = [ar.plan.OneProportion(baseline=p).sample_size(effect=0.1).n for p in (0.2, 0.4)]
    assert grid["columns"]["n"] == expected


@pytest.mark.parametrize(
    ("args", "says"),
    [
        ("two-means", "in one way"),
        ("two-means --n 5 --effect 1", "leave out --n"),
        ("two-means --n 5 --effect 1 --find power --power 0.9", "leave --power out"),
        ("two-means --n 5 --effect 1 --find effect", "leave it out"),
        ("two-means --find width", "--find"),
        ("two-means --effect 1 --icc 0.1", "--icc goes with --cluster-size"),
        ("two-means --effect 1 --cluster-size 5", "--cluster-size goes with --icc"),
        ("two-means --half-width 1 --power 0.9", "leave --power out"),
        ("two-means --half-width 1 --find power", "leave --find out"),
        ("two-means --n a --effect 1 --find power", "numbers separated by commas"),
        ("two-means --grid effect", "name=value,value"),
        ("two-means --effect 1 --figure plan.gif", ".png or .svg"),
        ("two-means --effect 1 --figure no-such-folder/plan.png", "Can't write"),
        ("two-meens --effect 1", "two-meens"),
    ],
)
def test_plan_says_what_is_wrong(plan, args, says):
    """Too many unknowns, too few, and what does not go together."""
    assert says in " ".join(plan(*args.split(), code=2).split())


@pytest.mark.parametrize("kind", KINDS)
def test_every_design_has_a_page_whose_example_runs(plan, kind, tmp_path):
    """Each option is explained; the example answers, and draws its figure."""
    page = plan(kind, "--help")
    assert f"amber-ruler plan {kind}" in page
    assert not re.findall(r"^  (--\S+(?: / --\S+| <\S+>)?)\s*\n(?! {8})", page, flags=re.MULTILINE)
    example = shlex.split(KINDS[kind][1].replace("\\\n", " "))
    figure = tmp_path / "plan.svg"
    says = "give an interval" if "--half-width" in example else "with a power of"
    says = "with a probability of" if kind == "evidence" else says
    assert says in " ".join(plan(kind, *example, "--figure", str(figure)).split())
    assert "<svg" in figure.read_text(encoding="utf-8")


WEIGHED = [
    (["bayes", "means", *MINUTES, "--prior", "cauchy 0.1", "--across", "usual"], "over these prior scales"),
    (["bayes", "means", *MINUTES, "--values", "log-normal"], "no posterior mean"),
    (
        ["bayes", "mean", "--n", "40", "--mean", "1.2", "--sd", "4", "--prior", "reference"],
        "above 0 with a probability",
    ),
    (["bayes", "proportions", "--successes", "60,40", "--trials", "400,400", "--horizon", "1000"], "choose treatment"),
    (["bayes", "best-proportion", TRAVELLERS, "--value", "booked", "--by", "form"], "is the best of 3"),
    (["bayes", "best-rate", "--events", "4,9,5", "--exposure", "10,10,9", "--prior", "gamma 2 5"], "is the best of 3"),
    (
        ["bayes", "shrink", "--estimates", "0.3,0.1,0.2", "--ses", "0.1,0.1,0.2", "--labels", "a,b,c"],
        "3 effects around",
    ),
    (["bayes", "evidence", "--estimate", "4.1,1", "--se", "1.9,1", "--prior", "uniform 0 9"], "2 estimates of effect"),
    (["bayes", "independence", *TICKETS, "--draws", "500"], "under an association"),
    (["bayes", "correlation", *SPENT], "a correlation"),
    (
        ["plan", "evidence", "--prior", "halfnormal 2", "--se", "1.9", "--n", "40", "--units", "20,60"],
        "2 numbers of units",
    ),
    (["plan", "two-means", "--sd", "20", "--prior", "normal 2 3", "--n", "500"], "over what is believed"),
    (["plan", "two-means", "--sd", "20", "--prior", "normal 2 3", "--assurance", "0.5"], "over what is believed"),
]


@pytest.mark.parametrize(("words", "says"), WEIGHED, ids=lambda v: " ".join(v[:2]) if isinstance(v, list) else "")
def test_what_is_weighed_and_planned_by_belief(words, says, tmp_path):
    """Every kind answers from a file or from numbers, and draws."""
    figure = tmp_path / "figure.svg"
    assert says in " ".join(run(*words, "--figure", str(figure)).split())
    assert "<svg" in figure.read_text(encoding="utf-8")


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["bayes", "means", *MINUTES, "--prior", "beta 1 1"], "Write one of: cauchy"),
        (["bayes", "rate", "--events", "3", "--exposure", "10"], "--prior"),
        (["bayes", "proportions", "--successes", "6,4", "--trials", "9,9", "--cost", "1"], "goes with --horizon"),
        (["bayes", "proportions", "--successes", "6,4", "--trials", "9,9", "--across", "usual"], "no one scale"),
        (["bayes", "means", "--n", "9,9", "--mean", "1,2", "--sd", "1,1", "--values", "log-normal"], "one by one"),
        (["bayes", "evidence", "--estimate", "x", "--se", "1", "--prior", "flat"], "--estimate"),
        (["plan", "two-means", "--sd", "2", "--effect", "1", "--assurance", "0.8"], "goes with --prior"),
        (["plan", "two-means", "--sd", "2", "--effect", "1", "--prior", "normal 0 1"], "leave --effect out"),
        (["plan", "two-means", "--sd", "2", "--prior", "normal 0 1", "--find", "power"], "leave --find out"),
        (["plan", "evidence", "--prior", "flat", "--se", "1", "--n", "40"], "mass of 1"),
    ],
)
def test_what_can_not_be_weighed_is_said(words, says):
    """Exit 2, the reason, and no traceback."""
    assert says in " ".join(run(*words, code=2).split())


def test_check_believes_travellers_and_not_events():
    """A sound table ends with 0; rows that are events, and broken splits, are said first and end with 3."""
    look = ["--by", "form", "--unit", "traveller", "--day", "day"]
    out = run("check", TRAVELLERS, *look, "--covariates", "prior_spend", "--metrics", "fare,booked", "--split", "1,1,1")
    assert "Nothing was found that makes this table unbelievable" in out
    events = run("check", path("events"), *look, "--metrics", "amount", code=3)
    assert "these rows are events, not units" in " ".join(events.split())
    (held,) = json.loads(run("check", path("events"), *look, "--json", code=3))["results"]
    assert held["units"] < held["rows"]
    assert {c["severity"] for c in held["checks"]} >= {"serious", "fine"}
    assert "did not get the units" in " ".join(
        run("check", TRAVELLERS, "--by", "form", "--split", "2,1,1", code=3).split()
    )
    more = ["--strata", "home_port", "--possible", "fare=0:100,minutes_to_book=0:", "--metrics", "fare"]
    spoilt = " ".join(run("check", TRAVELLERS, "--by", "form", *more, code=3).split())
    assert "possible fare" in spoilt
    assert "split by stratum: sound in each of 4" in spoilt
    assert "column=smallest:largest" in run("check", TRAVELLERS, "--by", "form", "--possible", "fare=0", code=2)
    assert "2 shares for 3 variants" in run("check", TRAVELLERS, "--by", "form", "--split", "2,1", code=2)


def test_digest_writes_a_file_that_measures_the_same(tmp_path):
    """The command's file has the moments of the rows."""
    out = tmp_path / "day.json"
    asked = ["--by", "form", "--day", "day", "--metrics", "fare,booked", "--out", str(out)]
    assert "cells of fare, booked" in run("digest", TRAVELLERS, *asked)
    digest = ar.tables.Digest.from_json(out.read_text(encoding="utf-8"))
    whole = ar.table(TRAVELLERS).moments("fare", by="form")["short"]
    assert digest.moments("fare")["short"].n == whole.n
    assert digest.moments("fare")["short"].mean("fare") == pytest.approx(whole.mean("fare"), rel=1e-12)


def test_a_broken_split_is_said_first_and_ends_with_3():
    """The numbers are there, below the warning, and a script notices."""
    out = run(*FARES, "--split", "current=50,short=30,guided=20", code=3)
    assert out.index("Do not believe any difference") < out.index("Hedges g")
    run(*FARES, "--split", "current=1,short=1,guided=1")


def test_help_reads_like_a_page():
    """Every command explains itself, with examples."""
    assert "amber-ruler demo --out ferry" in run("--help")
    assert "amber-ruler measure means travellers.csv" in run("measure", "means", "--help")
    assert "two-proportions" in run("plan", "--help")
    assert run("--version") == f"amber-ruler {ar.__version__}\n"


def test_a_stream_without_unicode_gets_ascii():
    """Plain signs where the stream can show no others."""
    out = run(*FARES, env={"PYTHONIOENCODING": "ascii"})
    assert out.isascii()
    assert "short - current" in out


def write(folder, rows, name="t.csv"):
    file = folder / name
    file.write_text(rows, encoding="utf-8")
    return file


ROWS = "form,fare,booked\n" + "current,1,0\nshort,2,1\n" * 5


@pytest.mark.parametrize(
    ("rows", "change", "says"),
    [
        (None, {}, "no-such.csv"),
        ("", {}, "is empty"),
        ("form,fare,booked\n", {}, "no rows"),
        (ROWS, {"--value": "fares"}, "Did you mean 'fare'?"),
        (ROWS.replace("short,2", "short,x"), {}, "text, first 'x' in row 2"),
        (ROWS.replace("current", "short"), {"--control": "short"}, "one variant only"),
        (ROWS, {"--control": "currant"}, "There is: 'current', 'short'. Did you mean 'current'?"),
        (ROWS + "guided,3,1\n", {}, "Variant 'guided' has 1 row"),
        (ROWS, {}, "Every value of 'short' equals the others"),
        (ROWS.replace("short,2", "short,"), {}, "'short' has no row with a value"),
        (ROWS.replace("short,2", "short,inf"), {}, "infinite values"),
        ("form,fare,fare\na,1,2\n", {}, "more than one column called 'fare'"),
        (ROWS, {"--alpha": "0.9"}, "alpha must be between 0 and 0.5, got 0.9"),
        (ROWS, {"--split": "current"}, "label=share"),
        (ROWS, {"--alternative": "up"}, "alternative: 'up' is not there"),
    ],
)
def test_bad_input_ends_with_2_and_a_clear_message(tmp_path, rows, change, says):
    """On the error stream, without a traceback, naming what and where."""
    file = tmp_path / "no-such.csv" if rows is None else write(tmp_path, rows)
    options = {"--value": "fare", "--by": "form", "--control": "current", **change}
    message = run("measure", "means", file, *(x for pair in options.items() for x in pair), code=2)
    assert says in message
    assert message.startswith("amber-ruler: ")


def test_a_share_column_with_other_values(tmp_path):
    """Values other than 0, 1, true and false are refused for a proportion; true and false are taken."""
    options = ("--by", "form", "--control", "current")
    odd = write(tmp_path, ROWS.replace("short,2,1", "short,2,3"))
    assert "'short' has other values" in run("measure", "proportions", odd, "--value", "booked", *options, code=2)
    yes = write(tmp_path, ROWS.replace(",1\n", ",true\n").replace(",0\n", ",false\n"), "yes.csv")
    assert "100%" in run("measure", "proportions", yes, "--value", "booked", *options).replace("100.0%", "100%")


def test_labels_with_control_characters_are_printed_inert(tmp_path):
    """Neither a result nor an error can carry an escape sequence to the terminal."""
    rows = ROWS.replace("short", "sh\x1b[31mort") + "current,2,0\n"
    out = run("measure", "means", write(tmp_path, rows), "--value", "fare", "--by", "form", "--control", "current")
    assert "\x1b" not in out
    assert "sh\\x1b[31mort" in out
    message = run(
        "measure", "means", write(tmp_path, rows), "--value", "fare", "--by", "form", "--control", "x", code=2
    )
    assert "\x1b" not in message


def test_a_usage_error_and_a_plan_without_a_question():
    """The parser's own errors end with 2, too."""
    assert "--value" in run("measure", "means", TRAVELLERS, code=2)
    assert "in one way" in run("plan", "two-means", code=2)


def test_a_fault_of_the_program_ends_with_1_and_says_how_to_report_it():
    """Anything unforeseen keeps its traceback and is called what it is."""
    script = (
        "import sys; sys.argv = ['amber-ruler', 'plan', 'two-means', '--effect', '1']\n"
        "import amber_ruler.cli.plan as plan; plan.tell = None\n"
        "from amber_ruler.cli import main; main()"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "Traceback" in done.stderr
    assert "Please report it" in done.stderr


def test_a_million_rows_stay_under_500_megabytes(tmp_path):
    """The rows are reduced by the engine and never held."""
    rng = np.random.default_rng(1)
    file = tmp_path / "million.csv"
    labels = rng.choice(["current", "short"], 10**6)
    pd.DataFrame({"form": labels, "fare": rng.gamma(2, 10, 10**6).round(2)}).to_csv(file, index=False)
    script = (
        "from amber_ruler.cli import main\n"
        "try: main()\n"
        "except SystemExit as end: assert not end.code\n"
        # Of this process alone: getrusage would count what its parent held when it forked.
        "print('MB', next(int(s.split()[1]) for s in open('/proc/self/status') if s.startswith('VmHWM')) / 1024)"
    )
    args = ["measure", "means", str(file), "--value", "fare", "--by", "form", "--control", "current"]
    done = subprocess.run([sys.executable, "-c", script, *args], capture_output=True, text=True, check=True)
    assert float(done.stdout.rsplit("MB", 1)[1]) < 500
