"""Every engine: the same moments to the last digits, the same findings, the same shapes; and what they can't take."""

import math
import os
import shutil
import uuid
from decimal import Decimal
from fractions import Fraction

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import amber_ruler as ar
from amber_ruler import DataError
from amber_ruler.tables import any_of, count, last, total
from doors import in_warehouse

MEASURES = {
    "searches": count(event="search"),
    "spent": total("amount"),
    "booked": any_of(event="booking"),
    "left": last("hour", order="hour"),
}


def travellers(n=3_000):
    rng = np.random.default_rng(5)
    table = pd.DataFrame(
        {
            "traveller": np.arange(n) + 2**60,
            "form": pd.Series(rng.choice(["current", "guided", "short"], n), dtype=object),
            "day": pd.Timestamp("2026-03-01") + pd.to_timedelta(rng.integers(0, 40 * 24, n), unit="h"),
            "port": rng.choice(["Gullhaven", "Tern Quay"], n),
            "fare": 1e9 + rng.gamma(2, 10, n),
            "prior": np.where(rng.random(n) < 0.05, np.nan, rng.normal(size=n)),
            "mobile": rng.random(n) < 0.4,
        }
    )
    table.loc[:2, "form"] = None
    table.loc[table["form"] == "short", "prior"] += 1
    return pd.concat([table, table.iloc[10:40]], ignore_index=True)


def log():
    rng = np.random.default_rng(6)
    traveller = rng.integers(1, 300, 2_000)
    table = pd.DataFrame(
        {
            "traveller": traveller,
            "form": np.where(traveller % 2, "short", "current"),
            "hour": rng.permutation(2_000),
            "event": rng.choice(["search", "booking"], 2_000),
            "amount": rng.integers(0, 90, 2_000) / 4,
        }
    )
    table.loc[table["traveller"] == 7, "form"] = ["short", "current"] * ((table["traveller"] == 7).sum() // 2) + [
        "short"
    ] * ((table["traveller"] == 7).sum() % 2)
    return table


def spark_frame(table, _):
    if shutil.which("java") is None and "JAVA_HOME" not in os.environ:
        pytest.skip("Spark needs Java 17 or newer, and this machine has none")
    from pyspark.sql import SparkSession

    quiet = {"spark.ui.enabled": "false", "spark.sql.shuffle.partitions": "1", "spark.sql.session.timeZone": "UTC"}
    here = {"spark.driver.host": "127.0.0.1", "spark.driver.bindAddress": "127.0.0.1"}
    # Small queries: what is compiled for large ones takes longer than it saves.
    here |= {"spark.sql.codegen.wholeStage": "false", "spark.sql.codegen.factoryMode": "NO_CODEGEN"}
    here |= {"spark.sql.adaptive.enabled": "false", "spark.driver.extraJavaOptions": "-XX:TieredStopAtLevel=1"}
    session = SparkSession.builder.master("local[1]").config(map={**quiet, **here}).getOrCreate()
    return session.createDataFrame(pa.Table.from_pandas(table, preserve_index=False))


def written(ending, write):
    def door(table, folder):
        write(table, folder / f"table{len(table)}{ending}")
        return folder / f"table{len(table)}{ending}"

    return door


DOORS = {
    "csv": written(".csv", lambda table, path: table.to_csv(path, index=False)),
    "parquet": written(".parquet", lambda table, path: table.to_parquet(path)),
    "pandas": lambda table, _: table,
    "polars": lambda table, _: pl.from_pandas(table),
    "polars lazy": lambda table, _: pl.from_pandas(table).lazy(),
    "pyarrow": lambda table, _: pa.Table.from_pandas(table),
    "duckdb": lambda table, _: duckdb.from_df(table),
    "spark": spark_frame,
    "ibis": in_warehouse,
}
ENGINES = (*DOORS, "postgresql")


@pytest.fixture
def into(request, tmp_path):
    """What an engine makes of a pandas frame."""

    def into(engine, table):
        if engine == "postgresql":
            unsigned = table.select_dtypes("unsignedinteger")  # which it has not: numeric holds them
            table = table.assign(**{c: [Decimal(int(v)) for v in unsigned[c]] for c in unsigned})
            return request.getfixturevalue("server").create_table(f"t{uuid.uuid4().hex}", table)
        return DOORS[engine](table, tmp_path)

    return into


@pytest.fixture(scope="session")
def server(postgres):
    """The database server, as Ibis has it."""
    import ibis

    connection = ibis.connect(postgres)
    yield connection
    connection.disconnect()


def exact(values):
    """Mean and sum of squared deviations in fractions, without rounding."""
    fractions = [Fraction(v) for v in values]
    mean = sum(fractions) / len(fractions)
    return mean, float(sum((v - mean) ** 2 for v in fractions))


@pytest.mark.parametrize("engine", ENGINES)
@pytest.mark.filterwarnings("ignore::ResourceWarning")
def test_every_engine_says_the_same(engine, into):
    """Moments to 1e-12 of exact fractions; findings, units, descriptions, digests and pairs as pandas has them."""
    table, events = travellers(), log()
    source, reference = ar.table(into(engine, table)), ar.table(table)
    for label, m in source.moments(["fare", "prior"], by="form").items():
        rows = table[table["form"] == label].dropna()
        assert m.n == len(rows)
        for k, column in enumerate(("fare", "prior")):
            mean, squares = exact(rows[column])
            assert m.comoments[k, k] == pytest.approx(squares, rel=1e-12)
            assert m.means[k] == pytest.approx(float(mean), rel=1e-15)
            assert float(Fraction(m.means[k]) + Fraction(m.tails[k]) - mean) == pytest.approx(0, abs=1e-12)
    asked = {"by": "form", "unit": "traveller", "day": "day", "strata": "port", "covariates": ["prior"]}
    found, expected = (t.check(**asked, metrics=["fare", "mobile"]) for t in (source, reference))
    assert found.checks == expected.checks
    assert (found.rows, found.units, found.counts) == (expected.rows, expected.units, expected.counts)
    assert {c.name for c in found.checks if c.severity == "serious"} == {"unit of analysis", "before the test: prior"}
    seen, known = (t.describe("prior", by="form", unit="traveller") for t in (source, reference))
    pd.testing.assert_frame_equal(seen.to_frame(), known.to_frame(), rtol=1e-10)
    assert [sum(g.counts) for g in seen.groups.values()] == [sum(g.counts) for g in known.groups.values()]
    days = source.daily("mobile", by="form", day="day")
    assert days.days == reference.daily("mobile", by="form", day="day").days
    assert (days.days[0], len(days.days)) == ("2026-03-01", 40)
    assert (
        source.counts(row="form", column="mobile").counts == reference.counts(row="form", column="mobile").counts
    ).all()
    counted = table.dropna().groupby(["form", "port"], as_index=False)["day"].count().rename(columns={"day": "rows"})
    tally = ar.table(into(engine, counted))
    by_port = counted.pivot(index="form", columns="port", values="rows")
    assert tally.counts(row="form", column="port", count="rows").counts.tolist() == by_port.to_numpy().tolist()
    assert tally.sizes(by="form", count="rows") == by_port.sum(axis=1).to_dict()
    units = ar.table(into(engine, events)).units(unit="traveller", by="form", measures=MEASURES)
    by_hand = events[events["traveller"] != 7].groupby("traveller")
    for name, wanted in (("spent", by_hand["amount"].sum()), ("left", by_hand["hour"].max())):
        whole = units.overall(name)
        assert (whole.n, whole.mean(name)) == (len(wanted), pytest.approx(wanted.mean(), rel=1e-14))
    twice = pd.concat([table.dropna().drop_duplicates("traveller").assign(side=s) for s in ("before", "after")])
    twice.loc[twice["side"] == "after", "prior"] -= 2
    pairs = ar.table(into(engine, twice)).pairs("prior", by="side", unit="traveller", control="before")
    assert pairs.differences == pytest.approx(np.full(len(twice) // 2, -2.0), abs=1e-12)


def test_whole_numbers_are_counted_one_by_one():
    """Each in the middle of its step, zeros apart; far apart ones in steps of several."""
    rows = pd.DataFrame({"form": ["a", "b"] * 300, "x": np.arange(600) % 7, "far": np.arange(600) * 3})
    few = ar.table(rows).describe("x", by="form")
    assert few.edges == tuple(np.arange(-0.5, 7))
    assert few.groups["a"].counts == tuple(np.bincount(rows["x"][::2]) * (np.arange(7) > 0))
    far = ar.table(rows).describe("far", by="form")
    assert set(np.diff(far.edges)) == {59.0}
    assert far.groups["b"].counts == tuple(np.histogram(rows["far"][1::2], far.edges)[0])
    assert ar.Result.from_json(far.to_json()) == far
    assert "shape" in str(few)
    assert ar.table(rows.assign(x=1)).describe("x", by="form").edges == ()


NAMES = {
    "beyond 64 bits": [str(10**25 + k) for k in range(60)],
    "64 bits": [2**62 + k for k in range(60)],
    "unsigned": [np.uint64(2**63 + k) for k in range(60)],
    "uuid": [str(uuid.UUID(int=2**100 + k)) for k in range(60)],
}


@pytest.mark.parametrize("engine", ["csv", "parquet", "pandas", "polars", "pyarrow", "duckdb", "ibis", "postgresql"])
@pytest.mark.parametrize("kind", NAMES)
def test_long_names_of_units_keep_every_digit(engine, kind, into):
    """Units that differ in their last digit are different, also where some row has none."""
    names = NAMES[kind]
    table = pd.DataFrame({"unit": [*names, *names], "form": ["a"] * 60 + ["b"] * 60, "x": np.arange(120.0)})
    if kind == "64 bits":
        table["unit"] = table["unit"].astype("Int64")
        table = pd.concat([table, pd.DataFrame({"unit": [None], "form": ["a"], "x": [1.0]})]).astype({"unit": "Int64"})
    source = ar.table(into(engine, table))
    pairs = source.pairs("x", by="form", unit="unit", control="a")
    assert (len(pairs), pairs.left_out, set(pairs.differences)) == (60, 0, {60.0})
    crossed = {c.name: c.finding for c in source.check(by="form", unit="unit").checks}["one variant each"]
    assert crossed.startswith("60 of 60")


@pytest.mark.parametrize("engine", ["parquet", "pandas", "polars", "pyarrow", "duckdb"])
def test_nested_columns_stand_aside(engine, tmp_path):
    """A table with lists and records serves by its other columns; they themselves are neither metric nor label."""
    nested = pa.table(
        {"form": ["a", "b"] * 9, "x": [1.0, 2.0, 4.0] * 6, "tags": [[1, 2], [3]] * 9, "s": [{"k": 1}] * 18}
    )
    if engine == "parquet":
        pq.write_table(nested, tmp_path / "t.parquet")
    doors = {
        "parquet": lambda: tmp_path / "t.parquet",
        "pandas": nested.to_pandas,
        "polars": lambda: pl.from_arrow(nested),
    }
    source = ar.table(doors.get(engine, lambda: nested if engine == "pyarrow" else duckdb.from_arrow(nested))())
    assert source.moments("x", by="form")["a"].n == 9
    assert "16 of them repeat" not in str(source.check(by="form", metrics=["x"]))
    assert source.check(by="form", unit="x").checks[0].severity == "serious"
    for column in ("tags", "s"):
        with pytest.raises(DataError, match=f"'{column}' of .* holds"):
            source.moments(column, by="form")
        with pytest.raises(DataError, match="holds lists, records or bytes"):
            source.sizes(by=column)


def test_a_thousand_variants(tmp_path):
    """Each has moments around its own mean, however far apart they lie, and the check still speaks."""
    rng, n = np.random.default_rng(3), 20_000
    form = np.arange(n) % 1_000
    table = pd.DataFrame({"form": form, "x": form * 1e6 + rng.normal(size=n), "still": form * 1.0})
    for source in (table, DOORS["parquet"](table, tmp_path)):
        found = ar.table(source).moments(["x", "still"], by="form")
        assert len(found) == 1_000
        assert found["999"].variance("x") == pytest.approx(np.var(table["x"][999::1000] - 999e6, ddof=1), rel=1e-9)
        assert found["17"].variance("still") == 0
        assert ar.table(source).check(by="form").believable


def test_parts_that_are_empty(tmp_path):
    """A file without rows among others adds nothing; a file without even a header is named."""
    for k, rows in enumerate((40, 0, 30)):
        table = pd.DataFrame({"form": ["a", "b"] * (rows // 2), "x": np.arange(rows, dtype=float)})
        table.astype({"form": "string"}).to_parquet(tmp_path / f"{k}.parquet")
        table.to_csv(tmp_path / f"{k}.csv", index=False)
    for pattern in ("*.parquet", "*.csv"):
        assert ar.table(tmp_path / pattern).overall("x").n == 70
    (tmp_path / "3.csv").write_text("")
    with pytest.raises(DataError, match=r"3\.csv is empty"):
        ar.table(tmp_path / "*.csv")


@pytest.mark.parametrize(
    ("rows", "says"),
    [
        ([b"a,1", b"b,n/a", b"a,3"], "'n/a' in row 2, line 3 of the file"),
        ([b'"a\n\na",1', b"", b"b,n/a"], "'n/a' in row 2, line 6 of the file"),
        ([b"a,1", b"b,2"] * 60_000 + [b"a,oops"], r"t\.csv, line 120,002, column 'x', 'oops'\. Fix"),
        (
            [b"a,1", b"b,2"] * 60_000 + [b"a,oops", b"b,?", b"a,1,", b"b,", b"a,x", b"a,y"],
            "values do not fit.*, 'oops';.*more",
        ),
        ([b"a,", b"b,"] * 60_000 + [b"a,oops"], "holds text, such as 'oops'"),
    ],
)
def test_text_among_numbers_is_found(rows, says, tmp_path):
    """In the first rows, in the last, and below nothing but empty cells."""
    (tmp_path / "t.csv").write_bytes(b"form,x\n" + b"\n".join(rows) + b"\n")
    with pytest.raises(DataError, match=says):
        ar.table(tmp_path / "t.csv").moments("x", by="form")


def test_days_written_in_several_ways_are_pointed_out(tmp_path):
    """The same day would count as two; points in time count as their day."""
    days = ["2026-03-01", "01/03/2026", "2026-03-02", "2 March 2026"] * 50
    table = pd.DataFrame({"form": ["a", "b", "b", "a", "b", "a", "a", "b"] * 25, "day": days})
    table.to_csv(tmp_path / "t.csv", index=False)
    (found,) = (c for c in ar.table(tmp_path / "t.csv").check(by="form", day="day").checks if c.name == "day formats")
    assert found.severity == "warning"
    assert "in 3 ways" in found.finding
    assert math.isclose(len(ar.table(travellers()).daily("fare", by="form", day="day").days), 40)
    with pytest.raises(DataError, match="different values"):
        ar.table(pd.DataFrame({"form": ["a", "b"] * 60_000, "day": np.arange(120_000)})).check(by="form", day="day")


def test_series_and_descriptions_are_those_of_pandas():
    """Means, standard errors and counts by day, and everything a description says, by hand."""
    table = travellers().dropna(subset=["form"])
    series = ar.table(table).daily("prior", by="form", day="day").to_frame()
    groups = table.assign(day=table["day"].dt.strftime("%Y-%m-%d")).groupby(["form", "day"])["prior"]
    known = groups.agg(["count", "mean", "std"]).reset_index()
    known = known[known["count"] > 0].reset_index(drop=True)
    assert series["n"].tolist() == known["count"].tolist()
    assert series["mean"].to_numpy() == pytest.approx(known["mean"].to_numpy(), rel=1e-9)
    assert series["se"].to_numpy() == pytest.approx(
        (known["std"] / np.sqrt(known["count"])).fillna(0.0).to_numpy(), rel=1e-9
    )
    described = ar.table(table).describe("prior", by="form", unit="traveller")
    found = described.groups
    for form, rows in table.groupby("form"):
        values = rows["prior"].dropna()
        said = found[form]
        assert (said.n, said.missing) == (len(values), rows["prior"].isna().sum())
        assert said.units == rows.dropna(subset=["prior"])["traveller"].nunique()
        assert said.quantiles == pytest.approx(values.quantile([0.01, 0.25, 0.5, 0.75, 0.99]).tolist(), rel=1e-9)
        assert said.counts == tuple(np.histogram(values[values != 0], described.edges)[0])
        away = values - values.mean()
        assert said.skewness == pytest.approx((away**3).mean() / (away**2).mean() ** 1.5, rel=1e-9)
        assert (said.mean, said.sd, said.low, said.high) == pytest.approx(
            (values.mean(), values.std(), values.min(), values.max()), rel=1e-9
        )


@pytest.mark.parametrize(
    "engine", ["csv", "parquet", "pandas", "polars lazy", "pyarrow", "duckdb", "ibis", "postgresql"]
)
@pytest.mark.parametrize(
    ("spoil", "says"),
    [
        (lambda t: t.assign(prior=[np.inf] + [1.0] * (len(t) - 1)), "infinite values|text, such as 'inf'"),
        (lambda t: t.assign(prior=1e200 * np.arange(len(t))), "too large to add up|finite"),
        (lambda t: t.assign(form=None).astype({"form": "string"}), "no variant label"),
        (lambda t: t.head(0), "no rows"),
    ],
)
def test_every_engine_refuses_alike(engine, spoil, says, into):
    """Infinite values, squares beyond all bounds, no labels, no rows: named, never a NaN."""
    table = travellers()[["form", "prior"]].dropna().astype({"form": "string"}).reset_index(drop=True)
    with pytest.raises(DataError, match=says):
        ar.table(into(engine, spoil(table))).moments("prior", by="form")
