"""The doors that a table comes in by."""

import uuid

import duckdb
import ibis
import polars as pl
import pyarrow as pa


def as_csv(table, folder):
    table.to_csv(folder / "t.csv", index=False)
    return folder / "t.csv"


def as_parquet(table, folder):
    table.to_parquet(folder / "t.parquet")
    return folder / "t.parquet"


def as_json(table, folder):
    table.to_json(folder / "t.jsonl", orient="records", lines=True, double_precision=15)
    return folder / "t.jsonl"


def in_warehouse(table, folder):
    path = folder / f"{uuid.uuid4().hex}.duckdb"
    with duckdb.connect(path) as connection:
        connection.from_df(table).create("travellers")
    return ibis.duckdb.connect(path, read_only=True).table("travellers")


DOORS = {
    "csv": as_csv,
    "parquet": as_parquet,
    "json lines": as_json,
    "pandas": lambda table, _: table,
    "polars": lambda table, _: pl.from_pandas(table),
    "polars lazy": lambda table, _: pl.from_pandas(table).lazy(),
    "pyarrow": lambda table, _: pa.Table.from_pandas(table),
    "duckdb": lambda table, folder: duckdb.read_parquet(str(as_parquet(table, folder))),
}
