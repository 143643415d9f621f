"""One rule for dates on every engine, and what is no table."""

import datetime as dt

import pandas as pd
import polars as pl
import pytest

import amber_ruler as ar
from amber_ruler import AmberRulerError, DataError, InputError
from doors import DOORS

DAYS = ["03/08/2026", "01/09/2026", "02/09/2026", "25/09/2026", "01/10/2026", "05/10/2026"] * 4
ISO = [f"2026-{day[3:5]}-{day[:2]}" for day in DAYS]
TRAVELLERS = pd.DataFrame({"form": ["a", "b"] * 12, "fare": range(24), "signup": DAYS, "iso": ISO})


@pytest.fixture(params=DOORS)
def source(request, tmp_path):
    return DOORS[request.param](TRAVELLERS, tmp_path)


def test_dates_mean_the_same_through_every_door(source):
    """A textual date is refused with how to read it; read, it is compared and ordered by time; ISO needs no help."""
    raw = ar.table(source)
    for ask in (
        lambda: raw.where("signup", at_least="01/10/2026"),
        lambda: raw.daily("fare", by="form", day="signup"),
        lambda: raw.units(unit="form", by="form", measures={"x": ar.tables.first("fare", "signup")}),
    ):
        with pytest.raises(DataError, match=r"dates as text, such as .*dates="):
            ask()
    with pytest.raises(InputError, match="2026-10-01"):
        raw.where("iso", at_least="01/10/2026")
    (said,) = (c for c in raw.check(by="form", day="signup").checks if c.name == "order of days")
    assert said.severity == "warning"
    read = ar.table(source, dates={"signup": "%d/%m/%Y"})
    for table, column in ((read, "signup"), (raw, "iso")):
        for day in ("2026-10-01", dt.date(2026, 10, 1)):
            assert sum(table.where(column, at_least=day).sizes(by="form").values()) == 8
            assert sum(table.where(column, above=day).sizes(by="form").values()) == 4
            assert sum(table.where(column, equals=day).sizes(by="form").values()) == 4
        assert list(table.daily("fare", by="form", day=column).days) == sorted(set(ISO))
    with pytest.raises(DataError, match=r"'signup' .*not a date written as '%m/%d/%Y'"):
        ar.table(source, dates={"signup": "%m/%d/%Y"})


@pytest.mark.parametrize(
    ("column", "condition", "says"),
    [
        ("fare", {"above": None}, "a number"),
        ("fare", {"equals": "much"}, "a number"),
        ("fare", {"below": float("nan")}, "a number"),
        ("fare", {"among": [1, "x"]}, "a number"),
        ("fare", {"missing": "yes"}, "True or False"),
        ("form", {"equals": ["a"]}, "text, as the column holds"),
        ("form", {"among": 3}, "a list of values"),
    ],
)
def test_conditions_are_of_the_columns_kind(source, column, condition, says):
    """Whatever the engine, a value that a column can't hold is refused before the engine sees it."""
    for ask in (ar.table(source).where, lambda *a, **k: ar.table(source).derive("new", *a, **k)):
        with pytest.raises(InputError, match=says):
            ask(column, **condition)


@pytest.mark.parametrize("written", ["09/01/2026", "09-01-26", "1.9.2026", "2026/09/01", "09/01/2026 10:00:00 AM"])
def test_a_csv_does_not_guess_dates(tmp_path, written):
    """Not even those that its reader would take for some date."""
    (tmp_path / "t.csv").write_text(f"form,fare,day\na,1,{written}\nb,2,{written}\n", encoding="utf-8")
    table = ar.table(tmp_path / "t.csv")
    assert str(table.schema["day"]) == "String"
    with pytest.raises(DataError, match="holds dates as text"):
        table.daily("fare", by="form", day="day")


ODD = {
    "no columns": pd.DataFrame(),
    "columns in levels": pd.DataFrame([[1, 2]], columns=pd.MultiIndex.from_tuples([("a", "x"), ("a", "y")])),
    "names that are numbers": pd.DataFrame([[1, 2], [3, 4]]),
    "labels that are bytes": pd.DataFrame({"form": [b"a", b"b"] * 2, "fare": range(4)}),
    "complex numbers": pd.DataFrame({"form": ["a", "b"] * 2, "fare": [1j, 2, 3, 4]}),
    "lists": pl.DataFrame({"form": ["a", "b"], "fare": [[1], [2]]}),
    "durations": pl.DataFrame({"form": ["a", "b"], "fare": [dt.timedelta(1)] * 2}),
    "nothing": "",
    "a null character": "fares\0.csv",
    "a long name": "x" * 5_000 + ".csv",
    "the whole disk": "/",
    "a list": [1, 2],
}


@pytest.mark.parametrize("odd", ODD)
def test_what_is_no_table_is_said(odd):
    """Our own error, without an engine's text."""
    with pytest.raises(AmberRulerError) as caught:
        ar.table(ODD[odd]).moments("fare", by="form")
    assert "SELECT" not in str(caught.value)
    assert "Error:" not in str(caught.value)


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("utf16.csv", "form,fare\na,1\nb,2\n".encode("utf-16"), "not text in UTF-8"),
        ("latin.csv", "form,fare\nä,1\nö,2\n".encode("latin-1"), "not text in UTF-8"),
        ("bad.parquet", b"PAR1xxxx", "can't be read as parquet"),
        ("bad.jsonl", b'{"form": 1\n{', "can't be read as JSON Lines"),
    ],
)
def test_files_that_are_not_what_they_say(tmp_path, name, content, says):
    """The file and what is wrong with it are named, in our words; so is a link that leads nowhere."""
    (tmp_path / name).write_bytes(content)
    with pytest.raises(DataError, match=says):
        ar.table(tmp_path / name)
    (link := tmp_path / "link.csv").symlink_to(tmp_path / "gone.csv")
    with pytest.raises(DataError, match="is a link to"):
        ar.table(link)


@pytest.mark.parametrize("name", ["*", "^f.*$"])
def test_a_name_is_a_name_on_every_engine(name):
    """What an engine would read as a pattern of names is refused; elsewhere its own values come back."""
    rows = TRAVELLERS[["form", "fare"]].assign(**{name: TRAVELLERS["fare"] * 2 + 1})
    assert ar.table(rows).moments(name, by="form")["a"].mean(name) == rows.loc[rows["form"] == "a", name].mean()
    with pytest.raises(DataError, match="reads such a name as a pattern"):
        ar.table(pl.from_pandas(rows))
