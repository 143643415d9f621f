"""Files as people write them: decimal commas, thousands, percentages, stand-ins, encodings, packed files."""

import gzip

import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError
from amber_ruler.tables.dialect import guess

EUROPEAN = """Report of June
id;form;price;rate;paid;
1;kürzer;2.113,87;21,5%;yes;

2;alt;3.000,10;7%;no;
3;kürzer;1,50;n/a;yes;
4;alt;12,00;3,25 %;no;
"""
HOW = {"separator": ";", "decimal": ",", "thousands": ".", "missing": ["n/a"], "skip": 1}


def written(tmp_path, text, encoding="utf-8", name="june.csv"):
    """A file with this text."""
    path = tmp_path / name
    path.write_bytes(text.encode(encoding))
    return path


def test_a_european_file_is_read_as_it_is_written(tmp_path):
    """Decimal comma, thousands, percentages as shares, a stand-in, a line above, a blank one, a sign too many."""
    t = ar.table(written(tmp_path, EUROPEAN), **HOW)
    assert t.columns == ["id", "form", "price", "rate", "paid"]
    price, rate = (t.moments(c, by="form") for c in ("price", "rate"))
    assert price["kürzer"].mean("price") == pytest.approx((2113.87 + 1.5) / 2, rel=1e-14)
    assert rate["alt"].mean("rate") == pytest.approx((0.07 + 0.0325) / 2, rel=1e-14)
    assert rate["kürzer"].n == 1
    assert rate["kürzer"].missing == 1
    paid = t.two_valued("paid", success="yes").moments("paid", by="form")
    assert [m.mean("paid") for m in paid.values()] == [0.0, 1.0]


@pytest.mark.parametrize("encoding", ["latin-1", "utf-16", "cp1252", "utf-8-sig"])
def test_encodings(tmp_path, encoding):
    """The same numbers whatever the file was saved in; unnamed, the error says what to do."""
    path = written(tmp_path, EUROPEAN, encoding)
    assert ar.table(path, encoding=encoding, **HOW).moments("price", by="form")["kürzer"].n == 2
    if encoding == "latin-1":
        with pytest.raises(DataError, match="name its encoding"):
            ar.table(path, **HOW).moments("price", by="form")
        with pytest.raises(DataError, match="is not text in ascii"):
            ar.table(path, encoding="ascii", **HOW)


def test_packed_files_and_others(tmp_path):
    """Compressed text is read; what only text has is refused elsewhere."""
    path = tmp_path / "trips.csv.gz"
    with gzip.open(path, "wt") as out:
        out.write('form,fare\na,"1,200.5"\nb,2\na,4\nb,5\n')
    t = ar.table(path, thousands=",")
    assert t.moments("fare", by="form")["a"].mean("fare") == pytest.approx(602.25)
    with pytest.raises(InputError, match="for files"):
        ar.table(pd.DataFrame({"a": [1]}), decimal=",")
    parquet = tmp_path / "x.parquet"
    pd.DataFrame({"a": [1, 2]}).to_parquet(parquet)
    with pytest.raises(InputError, match="says itself how it is written"):
        ar.table(parquet, decimal=",")
    with pytest.raises(InputError, match=r"\.gz or \.zst"):
        ar.table(written(tmp_path, "a\n1\n", name="x.bin"))


def test_text_that_is_no_number_stays_text(tmp_path):
    """A column with one other value is not half read; codes keep their zeros unless asked."""
    t = ar.table(written(tmp_path, "form;fare\na;1,5\nb;two\na;2,5\nb;1,0\n"), decimal=",")
    with pytest.raises(DataError, match="'two' in row 2"):
        t.moments("fare", by="form")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("form;fare\na;1,5\nb;2,75\n", r"looks like a decimal comma: decimal=','.*--decimal ,"),
        ("form;fare\na;1.200,5\nb;2,75\n", r"thousands='\.'"),
        ('form,fare\na,"1,200"\nb,"2,750"\n', r"thousands=','.*--thousands ,"),
        ("form,fare\na,12%\nb,7%\n", r"looks like a percentage"),
        ("form,fare\na,n/a\nb,7\na,3\nb,5\n", r"missing=\['n/a'\]"),
        ("form,fare\na,yes\nb,no\na,no\nb,yes\n", r"success='yes'.*--success 'yes'"),
        ("form,fare\na,one\nb,two\na,three\nb,four\n", "Fix or empty such cells"),
    ],
)
def test_errors_offer_the_option(tmp_path, text, says):
    """What the text looks like, and how to say so in Python and at the command line."""
    with pytest.raises(DataError, match=says):
        ar.table(written(tmp_path, text)).moments("fare", by="form")
    assert guess([], "fare") == ""


@pytest.mark.parametrize(
    ("how", "says"),
    [
        ({"separator": ";;"}, "one sign"),
        ({"decimal": "·"}, "'.' or ','"),
        ({"thousands": "x"}, "thousands"),
        ({"thousands": "."}, "can't both"),
        ({"decimal": ",", "thousands": ","}, "can't both"),
        ({"skip": -1}, "0 or more"),
        ({"missing": [1]}, "missing"),
        ({"encoding": "klingon"}, "name of an encoding"),
    ],
)
def test_what_can_not_be_is_refused(tmp_path, how, says):
    """Before the file is opened."""
    with pytest.raises(InputError, match=says):
        ar.table(written(tmp_path, EUROPEAN), **how)


def test_two_values_and_no_more():
    """On every engine alike; a third value, or another word, is an error."""
    frame = pd.DataFrame({"form": ["a", "b"] * 3, "won": ["won", "lost", None, "lost", "won", "won"]})
    for held in (frame, frame.convert_dtypes()):
        t = ar.table(held).two_valued("won", success="won")
        arms = t.moments("won", by="form")
        assert (arms["a"].n, arms["a"].missing) == (2, 1)
        assert arms["a"].mean("won") == 1.0
    with pytest.raises(DataError, match="Did you mean 'won'"):
        ar.table(frame).two_valued("won", success="wom")
    with pytest.raises(DataError, match="more than two values"):
        ar.table(pd.DataFrame({"x": ["p", "q", "r"]})).two_valued("x", success="p")
    flags = ar.table(pd.DataFrame({"x": [True, False]})).two_valued("x", success=False)
    assert flags.overall("x").mean("x") == 0.5
