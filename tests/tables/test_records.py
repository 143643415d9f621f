"""Rows of each variant, whatever kind of columns hold them: the same records, the same answer."""

from decimal import Decimal

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError

COLUMNS = ["fare", "prior", "booked", "port", "who"]


def plain():
    rng = np.random.default_rng(12)
    n = 160
    return pd.DataFrame(
        {
            "form": rng.choice(["current", "short"], n),
            "fare": np.round(rng.gamma(2, 8, n), 2),
            "prior": np.where(rng.random(n) < 0.15, np.nan, rng.integers(0, 30, n).astype(float)),
            "booked": rng.random(n) < 0.5,
            "port": rng.choice(["Amble", "Gullhaven"], n),
            "who": rng.integers(1, 200, n),
        }
    )


def nullable():
    return plain().astype({"fare": "Float64", "prior": "Int64", "booked": "boolean", "port": "string", "who": "Int32"})


def categories():
    return plain().astype({"form": "category", "port": "category"})


def decimals():
    rows = plain()
    return pl.from_pandas(rows).with_columns(pl.Series("fare", [Decimal(f"{v:.2f}") for v in rows.fare]))


def in_the_file(tmp_path, kind):
    path = tmp_path / f"rows.{kind}"
    if kind == "csv":
        plain().to_csv(path, index=False)
    elif kind == "parquet":
        plain().to_parquet(path)
    else:
        plain().to_json(path, orient="records", lines=True)
    return path


def in_a_database(folder):
    import ibis

    with duckdb.connect(folder / "rows.duckdb") as connection:
        connection.from_df(plain()).create("rows")
    return ibis.duckdb.connect(folder / "rows.duckdb", read_only=True).table("rows")


SOURCES = {
    "pandas": lambda _: plain(),
    "nullable": lambda _: nullable(),
    "categories": lambda _: categories(),
    "polars": lambda _: pl.from_pandas(plain()),
    "polars categories": lambda _: pl.from_pandas(plain()).with_columns(pl.col("port").cast(pl.Categorical)),
    "polars lazy": lambda _: pl.from_pandas(plain()).lazy(),
    "decimals": lambda _: decimals(),
    "arrow": lambda _: pa.Table.from_pandas(plain()),
    "csv": lambda folder: in_the_file(folder, "csv"),
    "parquet": lambda folder: in_the_file(folder, "parquet"),
    "jsonl": lambda folder: in_the_file(folder, "jsonl"),
    "ibis": in_a_database,
}


def answers(records):
    one, two = records["short"], records["current"]
    return [
        ar.adjust.strata(one, two, value="fare", strata="port", covariate="prior"),
        ar.adjust.regression(one, two, value="fare", covariate=["prior", "booked"]),
        ar.adjust.sharpen(one, two, value="booked", strata="port", cap_at=2.0),
        ar.adjust.clusters(one, two, value="fare", cluster="who", spanning="allowed", errors="cr1"),
        ar.adjust.segments(one, two, value="booked", segment="port"),
    ]


def numbers(r):
    each = (r.estimate, r.se, r.df, r.p_value, r.interval.low, r.interval.high)
    return np.concatenate([np.ravel(np.asarray(v, dtype=float)) for v in each])


@pytest.mark.parametrize("name", SOURCES)
def test_every_kind_of_column_gives_the_same_answer(name, tmp_path):
    """Nullable and categorical columns, decimals, Arrow, lazy frames and files."""
    expected = answers(ar.table(plain()).records(COLUMNS, by="form"))
    found = answers(ar.table(SOURCES[name](tmp_path)).records(COLUMNS, by="form"))
    for one, other in zip(found, expected, strict=True):
        assert numbers(one) == pytest.approx(numbers(other), rel=1e-9)
        assert [(c.name, c.finding) for c in one.checks] == [(c.name, c.finding) for c in other.checks]


@pytest.mark.parametrize("name", ["pandas", "polars lazy", "parquet"])
def test_rows_without_a_variant_belong_to_none(name, tmp_path):
    """They are counted, and left out of every variant."""
    rows = plain()
    rows.loc[:9, "form"] = None
    source = {"pandas": rows, "polars lazy": pl.from_pandas(rows).lazy()}.get(name)
    if source is None:
        rows.to_parquet(tmp_path / "rows.parquet")
        source = tmp_path / "rows.parquet"
    found = ar.table(source).records(["fare"], by="form")
    assert (list(found), found.unassigned) == (["current", "short"], 10)
    r = ar.adjust.cap(found["short"], found["current"], value="fare", cap_at=1e6)
    assert [g.n for g in r.groups] == [int((rows.form == label).sum()) for label in ("short", "current")]


@pytest.mark.parametrize("name", ["pandas", "polars lazy", "parquet"])
def test_what_is_wrong_with_a_column_is_said_alike(name, tmp_path):
    """Absent columns, text where numbers are needed, values without end, no label at all."""
    rows = plain().assign(endless=np.where(np.arange(160) == 3, np.inf, 1.0), words="many", nobody=None)
    rows["nobody"] = rows["nobody"].astype("string")
    source = {"pandas": rows, "polars lazy": pl.from_pandas(rows).lazy()}.get(name)
    if source is None:
        rows.to_parquet(tmp_path / "rows.parquet")
        source = tmp_path / "rows.parquet"
    table = ar.table(source)
    with pytest.raises(DataError, match="Did you mean 'fare'"):
        table.records(["fares"], by="form")
    with pytest.raises(DataError, match="Did you mean 'form'"):
        table.records(["fare"], by="from")
    with pytest.raises(InputError, match="the name of a column"):
        table.records([], by="form")
    found = table.records(["fare", "endless", "words"], by="form")
    for value, says in (("endless", "infinite|not finite"), ("words", "holds text")):
        with pytest.raises(DataError, match=says):
            ar.adjust.cap(found["short"], found["current"], value=value, cap_at=1.0)
    with pytest.raises(DataError, match="variant in column 'form'"):
        found["guided"]
    with pytest.raises(DataError, match="holds no variant label in any of its 160 rows"):
        ar.adjust.cap(*table.records(["fare"], by="nobody").against("x")[0], value="fare", cap_at=1.0)
