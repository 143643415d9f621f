"""A table of another trade at the command line alone: read, shaped, checked, described, reduced, compared."""

import json
import re
import shlex

import pytest
from typer.testing import CliRunner

import amber_ruler as ar
from amber_ruler import DataError, DesignError, InputError
from amber_ruler.cli.main import app

TRIPS, EVENTS = (shlex.quote(str(ar.demo.path(name))) for name in ("travellers", "events"))


def run(line):
    """What a command line writes; errors as they are raised."""
    found = CliRunner().invoke(app, shlex.split(line), catch_exceptions=False)
    assert found.exit_code in (0, 3), found.output
    return " ".join(found.output.split())


@pytest.fixture
def workshop(tmp_path):
    """Repairs of a workshop, written as its books have them: 0/1 reminders, decimal commas, yes and no."""
    lines = ["Werkstatt für Räder, 30.06.", "order;reminder;day;cost;back;tools;"]
    for k in range(240):
        cost = "" if k % 17 == 0 else f"{1 + k % 3}.{100 + k % 7 * 31:03d},{k % 100:02d}"
        lines.append(f"{k};{k % 2};{1 + k // 12};{cost};{'ja' if k % 5 < 2 + k % 2 else 'nein'};{k % 4};")
    path = tmp_path / "books.csv"
    path.write_text("\n".join(lines), encoding="latin-1")
    return f"{shlex.quote(str(path))} --separator ';' --decimal , --thousands . --skip-lines 1 --encoding latin-1"


def test_from_messy_books_to_answers(workshop, tmp_path):
    """Every command reads the same options, and the same rows."""
    named = "--relabel 'reminder: 0=none, 1=letter'"
    said = run(f"measure means {workshop} {named} --value cost --by reminder --control none")
    assert "letter against none" in said
    shares = run(f"measure proportions {workshop} {named} --value back --success ja --by reminder --control none")
    assert "letter against none" in shares
    late = "--derive 'late: day > 10' --where 'day >= 3' --where 'cost present'"
    assert "late" in run(f"measure proportions {workshop} {named} {late} --value late --by reminder --control none")
    assert "cost by reminder" in run(f"describe {workshop} {named} --value cost --by reminder")
    figure = tmp_path / "daily.png"
    assert "on 20 days" in run(f"daily {workshop} {named} --value cost --by reminder --day day --figure {figure}")
    assert figure.stat().st_size > 5_000
    assert "split" in run(f"check {workshop} {named} --by reminder --unit order --metrics back --success back=ja")
    out = tmp_path / "d.json"
    assert "cells of cost" in run(f"digest {workshop} {named} --by reminder --day day --metrics cost --out {out}")
    seen = run(f"monitor {out} --value cost --control none --at 10,20 --planned 240 --looks 2")
    assert "letter − none" in seen
    rows = f"monitor {workshop} {named} --value cost --by reminder --day day --control none --at 10,20 --planned 240"
    assert run(f"{rows} --looks 2") == seen


def test_all_that_is_asked_is_drawn_and_written(tmp_path):
    """Groups on one scale, and treatments with several quantiles each under each other."""
    figure = tmp_path / "all.svg"
    run(f"measure proportion {TRIPS} --value booked --by form --null 0.4 --figure {figure}")
    drawn = figure.read_text(encoding="utf-8")
    assert all(f"<!-- {said} -->" in drawn for said in ("current", "guided", "short", "booked, share"))
    assert "current" in drawn.partition("<dc:description>")[2].partition("</dc:description>")[0]
    asked = f"measure quantiles {TRIPS} --value minutes_to_book --by form --control current --at 0.5,0.9"
    run(f"{asked} --figure {figure}")
    drawn = figure.read_text(encoding="utf-8")
    assert all(f"<!-- Quantiles of minutes_to_book: {who} against current -->" in drawn for who in ("guided", "short"))
    written = json.loads(run(f"{asked} --json"))["results"]
    assert [one["treatment"] for one in written] == ["guided", "short"]


def test_a_log_becomes_units(tmp_path):
    """As the library has it, in CSV or Parquet; what is left out is said."""
    taken = "--take 'searches: count where event = search' --take 'spent: total amount'"
    for name in ("units.parquet", "units.csv"):
        out = tmp_path / name
        said = run(f"units {EVENTS} --unit traveller --by form {taken} --out {out}")
        assert "left out" in said
        wanted = {"searches": ar.tables.count(event="search"), "spent": ar.tables.total("amount")}
        own = ar.table(ar.demo.path("events")).units(unit="traveller", by="form", measures=wanted)
        assert ar.table(out).moments("spent", by="form")["short"].mean("spent") == pytest.approx(
            own.moments("spent", by="form")["short"].mean("spent"), rel=1e-12
        )
    listed = tmp_path / "assigned.csv"
    one, two = ar.table(ar.demo.path("events")).fetched("traveller")["traveller"].unique()[:2]
    listed.write_text(f"traveller,form\n{one},short\n{two},current\n")
    assert "2 units" in run(f"units {EVENTS} --unit traveller --by form {taken} --out {out} --assignment {listed}")


def test_several_metrics_are_one_family():
    """With one treatment or more; the first document of JSON is the family."""
    line = f"measure means {TRIPS} --value fare,searches --by form --control current --json"
    held = json.loads(CliRunner().invoke(app, shlex.split(line)).output)
    assert held["results"][0]["type"] == "family"
    assert held["results"][0]["labels"] == ["fare: guided", "fare: short", "searches: guided", "searches: short"]
    line = f"measure proportions {TRIPS} --value booked,complaint --by form --control current"
    one = run(f"{line} --where 'form != guided'")
    assert "1 of 2 comparisons stands after the Holm correction: booked" in one


def test_a_level_is_one_less_alpha():
    """For every method with an interval."""
    line = "measure means --n 90,90 --mean 21,14 --sd 20,20"
    assert run(f"{line} --level 90%") == run(f"{line} --alpha 0.1")
    assert "90% interval" in run(f"{line} --level 0.9")


@pytest.mark.parametrize(
    ("line", "says"),
    [
        (f"measure means {TRIPS} --value fare --by form --control current --where 'day >>'", "a value is missing"),
        ("measure means --n 5,5 --mean 1,2 --sd 1,1 --where 'a = 1'", "and none is named"),
        (f"measure means {TRIPS} --value fare --by form --control current --where 'dy = 1'", "dy"),
        (f"check {TRIPS} --by form --success yes", "which column"),
        (f"units {EVENTS} --unit traveller --by form --take 'n: count' --take 'n: count' --out x.csv", "one name"),
        (f"units {EVENTS} --unit traveller --by form --take 'n: count' --out x.json", "csv or .parquet"),
        (f"describe {TRIPS} --value fare --by form --dates day", "--dates takes"),
        ("measure means --n 9,9 --mean 2,1 --sd 2,2 --level 0.9 --alpha 0.1", "say the same thing"),
        ("measure means --n 9,9 --mean 2,1 --sd 2,2 --level 2", "between 0 and 1"),
        ("t-test", "measure means"),
        ("measure median", "measure quantiles"),
        ("inspect", "check"),
        ("means", "measure means,  .* bayes means"),
        ("plan proportion", "plan two-proportions,  .* plan one-proportion"),
        ("adjust cupped", "adjust cuped"),
    ],
)
def test_what_is_wrong_is_said(line, says):
    """Errors point at the place, or at the command that answers."""
    with pytest.raises(ar.AmberRulerError, match=says):
        run(line)


def test_rows_that_repeat_are_dropped_and_counted():
    """On the error stream, so that JSON stays whole."""
    found = CliRunner().invoke(app, shlex.split(f"daily {EVENTS} --value amount --by form --day day --distinct --json"))
    assert found.exit_code == 0
    assert "1,948 rows repeat another" in found.stderr
    assert json.loads(found.stdout)["results"][0]["type"] == "daily"


def test_one_of_several_treatments_and_a_split_by_the_order_of_labels():
    """--treatment picks one; --split is understood alike by check and by every comparison."""
    asked = f"measure means {TRIPS} --value fare --by form --control current"
    alone = run(f"{asked} --treatment guided")
    assert "guided against current" in alone
    assert "short against" not in alone
    for split in ("33,33,34", "current=33,guided=33,short=34"):
        assert "3,983 : 3,968 : 4,049" in run(f"{asked} --split {split}")
        assert "3,983 : 3,968 : 4,049" in run(f"check {TRIPS} --by form --split {split}")
    with pytest.raises(InputError, match="2 shares for 3 variants"):
        run(f"{asked} --split 50,50")


def test_a_plan_of_so_many_clusters():
    """As many units as they hold."""
    asked = "plan two-means --sd 20 --cluster-size 50 --icc 0.02 --find effect"
    assert run(f"{asked} --clusters 6") == run(f"{asked} --n 300")
    assert run(f"{asked} --clusters 6,8") == run(f"{asked} --n 300,400")
    with pytest.raises(DesignError, match="--cluster-size, which is not given"):
        run("plan two-means --sd 20 --clusters 6 --find effect")


@pytest.mark.parametrize("group", ["", "measure", "plan", "bayes", "adjust"])
def test_a_list_of_commands_tells_them_apart(group):
    """Each by the whole of its first sentence, which no other has."""
    listed = CliRunner().invoke(app, [*group.split(), "-h"]).output.partition("Commands:")[2]
    assert "..." not in listed
    told = [" ".join(part.split()[1:]) for part in re.split(r"\n  (?=\S)", listed)[1:]]
    assert len(set(told)) == len(told) > 5


def test_messy_books_are_checked_by_their_labelled_rows(workshop, tmp_path):
    """A row of totals without a label counts nowhere; labels that are numbers stand with their column."""
    path = tmp_path / "books.csv"
    text = path.read_text(encoding="latin-1")
    path.write_text(f"{text}\nSumme;;;1.999.999,00;;;\n", encoding="latin-1")
    said = run(f"check {workshop} --by reminder --metrics cost")
    assert "1 rows have no label" in said
    assert "120 : 120 for reminder 0 : reminder 1" in said
    assert "51%" not in said
    assert "reminder 0 reminder 1" in run(f"describe {workshop} --value cost --by reminder")
    assert "reminder 1 − reminder 0" in run(f"measure means {workshop} --value cost --by reminder --control 0")
    for asked, said in (
        (f"measure means {workshop.replace('--decimal , --thousands .', '')} --value cost", "--decimal ,"),
        (f"measure means {shlex.quote(str(path))} --value order", "--encoding latin-1"),
    ):
        path.write_text(text if "skip" in asked else "order;reminder\n1;Müller\n", encoding="latin-1")
        with pytest.raises(DataError, match=said):
            run(f"{asked} --by reminder --control 0")


def test_several_metrics_are_compared_in_one_call():
    """What `Table.compare` says of them; a margin or a direction of no metric is refused."""
    asked = f"compare {TRIPS} --value fare,booked,complaint --by form --control current --treatment short"
    found = json.loads(run(f"{asked} --margin fare=0.3,booked=1% --good complaint=lower --json"))["results"][0]
    settings = {"fare": {"margin": 0.3}, "booked": {"margin": 0.01}, "complaint": {"good": "lower"}}
    trips = ar.table(ar.demo.path("travellers"))
    alone = trips.compare(settings, by="form", control="current", treatment="short")
    assert found["labels"] == list(alone.labels)
    assert [one["test"]["p_value"] for one in found["results"]] == [one.p_value for one in alone.results]
    assert [one["margin"] for one in found["results"]] == [0.3, 0.01, None]
    assert "none corrected" in run(f"{asked} --correct none")
    for wrong, says in (("--margin fares=1", "Did you mean 'fare'"), ("--good complaint", "metric=lower")):
        with pytest.raises(InputError, match=says):
            run(f"{asked} {wrong}")
