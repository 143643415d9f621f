"""Shaping: the same table through every engine, lazily where the engine is lazy; wrong shapes are refused."""

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import amber_ruler as ar
from amber_ruler import CountTable, DataError, InputError, Pairs
from amber_ruler.tables import any_of, count, first, largest, last, total


def as_csv(table, folder, name):
    file = folder / f"{name}.csv"
    table.to_csv(file, index=False)
    return file


DOORS = {
    "csv": as_csv,
    "pandas": lambda table, *_: table,
    "polars": lambda table, *_: pl.from_pandas(table),
    "polars lazy": lambda table, *_: pl.from_pandas(table).lazy(),
    "pyarrow": lambda table, *_: pa.Table.from_pandas(table),
    "duckdb": lambda table, *_: duckdb.from_df(table),
}


@pytest.fixture(params=DOORS)
def door(request, tmp_path):
    return lambda table, name="t": ar.table(DOORS[request.param](table, tmp_path, name))


def log():
    rng = np.random.default_rng(4)
    n = 4_000
    table = pd.DataFrame(
        {
            "traveller": rng.integers(1, 900, n),
            "day": rng.permutation(n),
            "event": rng.choice(["search", "booking", "cancel"], n, p=[0.7, 0.2, 0.1]),
            "amount": rng.gamma(2, 10, n).round(2),
        }
    )
    table.loc[table["event"] != "booking", "amount"] = 0.0
    table["form"] = np.where(table["traveller"] % 2, "short", "current")
    # Two travellers are seen under both forms.
    table.loc[table["traveller"].isin([5, 8]), "form"] = rng.choice(
        ["short", "current"], (table["traveller"].isin([5, 8])).sum()
    )
    return table


MEASURES = {
    "searches": count(event="search"),
    "changes": count(event=["booking", "cancel"]),
    "events": count(),
    "spent": total("amount"),
    "refunded": total("amount", event="cancel"),
    "booked": any_of(event="booking"),
    "dearest": largest("amount", event="booking"),
    "came_for": first("event", order="day"),
    "left_on": last("day", order="day"),
}


def by_hand(table):
    groups = table.sort_values("day").groupby("traveller")
    kept = groups["form"].nunique() == 1
    booked = table["amount"].where(table["event"] == "booking")
    found = pd.DataFrame(
        {
            "form": groups["form"].first(),
            "searches": (table["event"] == "search").groupby(table["traveller"]).sum(),
            "changes": table["event"].isin(["booking", "cancel"]).groupby(table["traveller"]).sum(),
            "events": groups.size(),
            "spent": groups["amount"].sum(),
            "refunded": 0.0,
            "booked": (table["event"] == "booking").groupby(table["traveller"]).max(),
            "dearest": booked.groupby(table["traveller"]).max(),
            "came_for": groups["event"].first(),
            "left_on": groups["day"].last(),
        }
    )
    return found[kept]


def test_a_log_becomes_units(door):
    """Counts, sums, first, last, any and largest; travellers seen under two forms are left out."""
    table = log()
    expected = by_hand(table)
    units = door(table).units(unit="traveller", by="form", measures=MEASURES)
    assert units.columns == ["traveller", "form", *MEASURES]
    assert units.sizes(by="form") == expected["form"].value_counts().to_dict()
    numbers = ["searches", "changes", "events", "spent", "refunded", "booked", "left_on"]
    found = units.moments(numbers, by="form")
    for form, rows in expected.groupby("form"):
        for name in numbers:
            assert found[form].mean(name) == pytest.approx(rows[name].mean(), rel=1e-12), name
    dearest = units.samples("dearest", by="form")
    assert dearest["short"].missing == expected.loc[expected["form"] == "short", "dearest"].isna().sum()
    assert units.sizes(by="came_for") == expected["came_for"].value_counts().to_dict()


def test_units_without_events_are_kept_when_assigned(door):
    """The assignment list decides who is in the test, and under which form; nothing happened is 0."""
    table = log()
    people = pd.DataFrame({"traveller": np.arange(1, 1_201)})
    people["form"] = np.where(people["traveller"] % 2, "short", "current")
    measures = {name: MEASURES[name] for name in ("searches", "spent", "dearest")}
    units = door(table).units(unit="traveller", by="form", measures=measures, assignment=door(people, "people"))
    assert units.sizes(by="form") == {"current": 600, "short": 600}
    found = units.moments(["searches", "spent"], by="form")
    total_spent = table.loc[table["traveller"] % 2 == 1, "amount"].sum()
    assert found["short"].mean("spent") == pytest.approx(total_spent / 600, rel=1e-12)
    assert units.samples("dearest", by="form")["short"].missing > 100


def test_labels_conditions_and_new_columns(door):
    """Codes become names, rows are chosen by value, a value becomes 0 or 1; missing stays missing."""
    table = pd.DataFrame({"arm": [0, 1, 1, 0, 1, 0], "fare": [1.0, 5, np.nan, 7, 9, 3], "port": list("aabbcc")})
    source = door(table)
    named = source.relabel("arm", {0: "current", "1": "short"})
    assert named.sizes(by="arm") == {"current": 3, "short": 3}
    assert named.relabel("arm", {"current": "old", "short": "new"}).sizes(by="arm") == {"new": 3, "old": 3}
    assert source.where("fare", at_least=3, below=9).overall("fare").n == 3
    assert source.where("fare", above=3, at_most=9).overall("fare").n == 3
    assert source.where("port", among=["a", "c"]).sizes(by="port") == {"a": 2, "c": 2}
    assert source.where("fare", missing=True).sizes(by="port") == {"b": 1}
    assert source.where("port", equals="a").where("fare", missing=False).overall("fare").mean("fare") == 3.0
    dear = source.derive("dear", "fare", above=4)
    assert dear.overall("dear").n == 5
    assert dear.overall("dear").mean("dear") == pytest.approx(0.6)
    assert dear.overall("dear").zero_one().all()
    assert source.derive("gone", "fare", missing=True).overall("gone").mean("gone") == pytest.approx(1 / 6)
    assert source.columns == ["arm", "fare", "port"]


def test_values_are_described(door):
    """Counts, moments, quantiles, zeros and the weight of the largest value, variant by variant."""
    rng = np.random.default_rng(14)
    table = pd.DataFrame({"form": rng.choice(["current", "short"], 900), "fare": rng.lognormal(2, 1, 900).round(2)})
    table.loc[rng.random(900) < 0.3, "fare"] = 0.0
    table.loc[rng.random(900) < 0.05, "fare"] = np.nan
    found = door(table).describe("fare", by="form")
    for form, g in found.groups.items():
        rows = table.loc[table["form"] == form, "fare"]
        away = rows - rows.mean()
        assert (g.n, g.missing) == (rows.notna().sum(), rows.isna().sum())
        expected = [rows.mean(), rows.std(), rows.sem(), (away**3).mean() / (away**2).mean() ** 1.5]
        assert [g.mean, g.sd, g.se, g.skewness] == pytest.approx(expected, rel=1e-10)
        assert g.quantiles == pytest.approx(rows.quantile([0.01, 0.25, 0.5, 0.75, 0.99]).tolist(), rel=1e-12)
        ends = [rows.min(), rows.max(), (rows == 0).sum() / g.n, rows.max() / rows.sum()]
        assert [g.low, g.high, g.zeros, g.largest_share] == pytest.approx(ends, rel=1e-12)
    assert found.to_frame().loc[0, "variant"] == "current"


def test_several_columns_at_once(door):
    """Splits by two columns, and a table of counts of two columns, with numbers in their order."""
    rng = np.random.default_rng(15)
    table = pd.DataFrame(
        {"form": rng.choice(["a", "b"], 300), "day": rng.choice([2, 10], 300), "x": rng.normal(size=300)}
    )
    source = door(table)
    by_hand = table.groupby(["form", "day"])["x"].agg(["size", "mean"])
    moments, samples = source.moments("x", by=["form", "day"]), source.samples("x", by=["form", "day"])
    assert set(moments) == {"a · 10", "a · 2", "b · 10", "b · 2"} == set(samples)
    for (form, day), row in by_hand.iterrows():
        assert (moments[f"{form} · {day}"].n, len(samples[f"{form} · {day}"])) == (row["size"], row["size"])
        assert moments[f"{form} · {day}"].mean("x") == pytest.approx(row["mean"])
    crossed = source.counts(row="form", column="day")
    assert (crossed.rows, crossed.columns) == (("a", "b"), ("2", "10"))
    assert crossed.counts.tolist() == pd.crosstab(table["form"], table["day"]).to_numpy().tolist()
    assert crossed.total == 300


def test_pairs_are_aligned_by_unit(door):
    """Shuffled rows pair the same; a unit with one side only is counted; columns pair by row."""
    rng = np.random.default_rng(6)
    wide = pd.DataFrame({"vessel": [f"V{k}" for k in range(30)], "before": rng.normal(40, 5, 30)})
    wide["after"] = wide["before"] - 3 + rng.normal(0, 1, 30)
    long = wide.melt(id_vars="vessel", var_name="when", value_name="minutes").sample(frac=1, random_state=1)
    long = long[~((long["vessel"] == "V7") & (long["when"] == "after"))]
    long.loc[(long["vessel"] == "V9") & (long["when"] == "before"), "minutes"] = np.nan
    found = door(long).pairs("minutes", by="when", unit="vessel", control="before")
    expected = wide[~wide["vessel"].isin(["V7", "V9"])]
    assert (len(found), found.left_out, found.labels) == (28, 2, ("after", "before"))
    assert np.sort(found.differences) == pytest.approx(np.sort(expected["after"] - expected["before"]))
    wide.loc[3, "after"] = np.nan
    rows = door(wide).wide_pairs("after", "before")
    assert (len(rows), rows.left_out) == (29, 1)
    assert rows.differences.mean() == pytest.approx((wide["after"] - wide["before"]).mean())


def test_folders_and_patterns_are_one_table(tmp_path):
    """Days in files of their own read as one; a file's own brackets are no pattern; nothing else can be read."""
    rng = np.random.default_rng(7)
    table = pd.DataFrame({"form": rng.choice(["a", "b"], 90), "fare": rng.normal(size=90)})
    for day in range(3):
        table[day * 30 : day * 30 + 30].to_parquet(tmp_path / f"day[{day}].parquet")
        (tmp_path / "csv").mkdir(exist_ok=True)
        table[day * 30 : day * 30 + 30].to_csv(tmp_path / "csv" / f"day {day}'s.csv", index=False)
    expected = table["fare"].mean()
    for source in (tmp_path / "csv", tmp_path / "csv" / "day*.csv", tmp_path / "*.parquet", str(tmp_path / "*.par*")):
        found = ar.table(source)
        assert found.overall("fare").n == 90
        assert found.overall("fare").mean("fare") == pytest.approx(expected, rel=1e-12)
    assert ar.table(tmp_path / "csv" / "day 1's.csv").overall("fare").n == 30
    assert ar.table(tmp_path / "day[1].parquet").overall("fare").n == 30
    connection = ar.table(tmp_path / "csv" / "day 1's.csv").source.connection
    with pytest.raises(duckdb.PermissionException):
        connection.read_csv(str(tmp_path / "csv" / "day 2's.csv"))
    (tmp_path / "csv" / "other.csv").write_text("form,price\na,1\n", encoding="utf-8")
    for source, says in (
        (tmp_path / "csv", "other columns than"),
        (tmp_path, "several formats"),
        (tmp_path / "day*.txt", "is not there"),
    ):
        with pytest.raises(DataError, match=says):
            ar.table(source)


def test_a_file_that_changes_while_it_is_read_is_said(tmp_path):
    """Rows of two states are not mixed in silence; opened again, the table is sound."""
    file = tmp_path / "t.csv"
    file.write_text("form,fare\na,1\nb,2\na,3\nb,5\n", encoding="utf-8")
    source = ar.table(file)
    assert source.overall("fare").n == 4
    with file.open("a", encoding="utf-8") as more:
        more.write("a,4\n")
    with pytest.raises(DataError, match="changed while it was being read"):
        source.moments("fare", by="form")
    assert ar.table(file).overall("fare").n == 5
    file.unlink()
    with pytest.raises((DataError, ar.EngineError)):
        source.overall("fare")


EVENTS = log()
BOATS = pd.DataFrame({"vessel": ["a", "a", "b", "b", "b"], "when": list("xyxyy"), "minutes": [1.0, 2, 3, 4, 5]})


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda t: t.relabel("form", {"short": "new"}), "'current' is not there"),
        (lambda t: t.relabel("frm", {"short": "new"}), "Did you mean 'form'"),
        (lambda t: t.relabel("form", {}), "names"),
        (lambda t: t.relabel("day", {"x": "y"}), "a number, as the column holds"),
        (lambda t: t.where("amount"), "what 'amount' must be"),
        (lambda t: t.where("amount", over=3), "'over' is not there"),
        (lambda t: t.where("form", among="short"), "a list of values"),
        (lambda t: t.derive("form", "amount", above=1), "already"),
        (lambda t: t.units(unit="traveller", by="form", measures={}), "what to take"),
        (lambda t: t.units(unit="travler", by="form", measures=MEASURES), "Did you mean 'traveller'"),
        (lambda t: t.units(unit="traveller", by="form", measures={"form": count()}), "column that is kept"),
        (lambda t: t.units(unit="traveller", by="form", measures={"x": total("amont")}), "Did you mean 'amount'"),
        (lambda t: t.units(unit="traveller", by="form", measures={"x": count(evnt="a")}), "Did you mean 'event'"),
        (lambda _: any_of(), "which event"),
        (
            lambda t: t.units(
                unit="traveller", by="form", measures=MEASURES, assignment=ar.table(pl.from_pandas(EVENTS))
            ),
            "same",
        ),
        (lambda _: ar.table(BOATS).pairs("minutes", by="when", unit="vessel", control="x"), "more than one minutes"),
        (lambda _: ar.table(BOATS).pairs("minutes", by="when", unit="vessel", control="z"), "'z' is not there"),
        (
            lambda _: ar.table(BOATS).pairs("minutes", by="minutes", unit="vessel", control="1"),
            "are three columns",
        ),
        (lambda t: t.counts(row="form", column="evnt"), "Did you mean 'event'"),
        (lambda _: CountTable([[1, 2]], ("a", "b"), ("c",)), "don't fit"),
        (lambda _: Pairs([1.0, 2.0], [1.0]), "equal length"),
        (lambda _: Pairs([1.0, np.nan], [1.0, 2.0]), "NaN"),
    ],
)
def test_wrong_shapes_are_refused(call, says):
    """What is missing, misspelt or ambiguous is named."""
    with pytest.raises((DataError, InputError), match=says):
        call(ar.table(EVENTS))
