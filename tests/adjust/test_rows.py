"""Rows of several variants, in memory and on engines: one contract, held against pandas."""

import numpy as np
import pandas as pd
import polars as pl
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError, Records

COLUMNS = ["fare", "prior", "used", "port", "who", "day", "since"]


def frame():
    rng = np.random.default_rng(8)
    n = 240
    return pd.DataFrame(
        {
            "form": rng.choice(["current", "guided", "short"], n),
            "fare": np.where(rng.random(n) < 0.1, np.nan, rng.normal(1e6, 3, n)),
            "prior": np.where(rng.random(n) < 0.2, np.nan, rng.gamma(2, 3, n)),
            "used": (rng.random(n) < 0.5).astype(float),
            "port": rng.choice(["Amble", "Tern Quay"], n),
            "who": [f"t{k}" for k in rng.integers(0, 60, n)],
            "day": rng.integers(1, 9, n),
            "since": rng.integers(3, 9, n),
        }
    )


@pytest.fixture(params=["memory", "polars", "parquet"])
def rows(request, tmp_path):
    """The three variants together, treatment first, wherever they are."""
    source = frame()
    if request.param == "polars":
        source = pl.from_pandas(source).lazy()
    elif request.param == "parquet":
        source.to_parquet(tmp_path / "rows.parquet")
        source = tmp_path / "rows.parquet"
    arms = ar.table(source).records(COLUMNS, by="form")
    return arms["short"].together([arms["current"], arms["guided"]], COLUMNS)


def of(label, known=("fare",)):
    found = frame()
    return found[(found.form == label)].dropna(subset=list(known))


def test_sizes_labels_and_what_was_left_out(rows):
    """In the order in which the variants were put together."""
    assert rows.labels == ("short", "current", "guided")
    assert rows.sizes == tuple(int((frame().form == label).sum()) for label in rows.labels)
    known = rows.known(["fare"], labels=["port"])
    assert known.sizes == tuple(len(of(label)) for label in rows.labels)
    assert known.left_out == tuple(a - b for a, b in zip(rows.sizes, known.sizes, strict=True))
    assert known.known(["prior"]).left_out == tuple(
        a - len(of(label, ("fare", "prior"))) for a, label in zip(rows.sizes, rows.labels, strict=True)
    )
    gaps = rows.lacking(["prior", "used"])
    for k, label in enumerate(rows.labels):
        mine = frame()[frame().form == label]
        assert (gaps["prior"][k], gaps["used"][k]) == (int(mine.prior.isna().sum()), 0)


def test_moments_of_variants_and_strata(rows):
    """Means, spreads and co-moments keep their digits around 1e6."""
    known = rows.known(["fare", "prior"])
    for label, found in zip(rows.labels, known.moments(["fare", "prior"]), strict=True):
        mine = of(label, ("fare", "prior"))
        m = found[""]
        assert (m.label, m.n) == (label, len(mine))
        assert m.mean("fare") == pytest.approx(mine.fare.mean(), rel=1e-14)
        assert m.covariance("fare", "prior") == pytest.approx(np.cov(mine.fare, mine.prior)[0, 1], rel=1e-7)
    for label, found in zip(rows.labels, known.moments(["fare"], by="port"), strict=True):
        mine = of(label, ("fare", "prior"))
        assert {level: m.n for level, m in found.items()} == mine.groupby("port").size().to_dict()
        for level, m in found.items():
            assert m.sd("fare") == pytest.approx(mine[mine.port == level].fare.std(), rel=1e-8)


def test_only_filled_derived_and_lines(rows):
    """Columns made of others, each variant by numbers of its own."""
    known = rows.known(["fare"])
    assert known.only("used").sizes == tuple(int(of(label).used.sum()) for label in rows.labels)
    filled = known.filled("prior", "gone", 7.0)
    made = filled.derived("both", lambda c: c["prior"] * c["used"] + 1.0)
    made = made.lines({"off": ([1.0, 2.0, 3.0], {"prior": [1.0, 0.5, -1.0], "used": [2.0, 2.0, 2.0]})})
    for k, (label, found) in enumerate(zip(rows.labels, made.moments(["both", "off", "gone"]), strict=True)):
        mine = of(label)
        prior = mine.prior.fillna(7.0)
        slope = (1.0, 0.5, -1.0)[k]
        expected = [
            (prior * mine.used + 1).mean(),
            (k + 1 + slope * prior + 2 * mine.used).mean(),
            mine.prior.isna().mean(),
        ]
        assert [found[""].mean(c) for c in ("both", "off", "gone")] == pytest.approx(expected, rel=1e-12)


def test_sums_values_and_days(rows):
    """One pass for several sums, each variant's own; a count of true ones."""
    known = rows.known(["fare"])
    makes = [{"sum": lambda c, k=k: c["fare"] * (k + 1.0), "high": lambda c: c["fare"] > 1e6} for k in range(3)]
    for k, (label, found) in enumerate(zip(rows.labels, known.sums(makes), strict=True)):
        mine = of(label)
        assert found["sum"] == pytest.approx((k + 1) * mine.fare.sum(), rel=1e-12)
        assert found["high"] == (mine.fare > 1e6).sum()
    for label, values, ports in zip(rows.labels, known.values("fare"), known.column("port"), strict=True):
        assert np.sort(values) == pytest.approx(np.sort(of(label).fare), rel=1e-15)
        assert sorted(ports) == sorted(of(label).port)
    assert known.later("since", "day") == tuple(int((of(label).since > of(label).day).sum()) for label in rows.labels)


def test_units_and_their_totals(rows):
    """Sums over each unit of each variant, the number of its rows, and units that span variants."""
    known = rows.known(["fare"])
    ids, variant, count, sums = known.by_unit(["used"], "who")
    expected = pd.concat(of(label) for label in rows.labels).groupby(["form", "who"]).used.agg(["size", "sum"])
    assert len(ids) == len(expected)
    for k, label in enumerate(rows.labels):
        mine = variant == k
        assert sorted(zip(count[mine], sums[0, mine], strict=True)) == sorted(
            zip(*(expected.loc[label][c].astype(float) for c in ("size", "sum")), strict=True)
        )
    spans = pd.concat(of(label) for label in rows.labels).groupby("who").form.nunique()
    assert known.spanning("who") == int((spans > 1).sum())
    totals = known.totals(["fare", "used"], "who", count="of")
    for label, found in zip(rows.labels, totals.moments(["fare", "used", "of"]), strict=True):
        each = of(label).groupby("who")
        assert found[""].n == each.ngroups
        assert found[""].mean("of") == pytest.approx(each.size().mean(), rel=1e-12)
        assert found[""].mean("fare") == pytest.approx(each.fare.sum().mean(), rel=1e-12)
    with pytest.raises(DataError, match="rows in more than one stratum of 'port'"):
        known.totals(["fare"], "who", count="of", within="port").sizes  # noqa: B018 - asks for the rows


def test_what_is_no_column_or_no_number_is_named(rows):
    """The nearest column is offered; text is no number; an empty variant is said."""
    with pytest.raises(DataError, match=r"'port' (of .* )?holds text"):
        rows.known(["port"])
    none = rows.derived("nothing", lambda c: c["used"] * 0.0 + 2.0).only("nothing")
    assert none.sizes == (0, 0, 0)
    with pytest.raises(DataError, match="'short' has no row with a value in 'fare'"):
        none.known(["fare"])


def test_records_hold_their_own_values():
    """Columns of equal length; text and numbers; nothing that a caller may change later."""
    values = np.array([1.0, 2.0, np.nan])
    r = Records({"fare": values, "port": ["a", None, "b"], "yes": [True, False, True]}, "short")
    values[0] = 9.0
    assert r.columns["fare"].tolist()[:2] == [1.0, 2.0]
    assert r.columns["yes"].tolist() == [1.0, 0.0, 1.0]
    assert r.columns["port"].tolist() == ["a", None, "b"]
    assert (len(r), len(r.without([0]))) == (3, 2)
    assert "3 rows of fare, port, yes" in repr(r)
    assert "numbers" in r._repr_html_()
    with pytest.raises(DataError, match="equally long"):
        Records({"a": [1.0], "b": [1.0, 2.0]})
    with pytest.raises(InputError, match="a mapping of name to values"):
        Records([1.0, 2.0])
    with pytest.raises(InputError, match="one-dimensional"):
        Records({"a": [[1.0, 2.0]]})


def test_rows_of_two_places_are_not_put_together(tmp_path):
    """One variant in memory and the other in a file, or from two tables."""
    frame().to_parquet(tmp_path / "rows.parquet")
    here = ar.table(frame()).records(["fare"], by="form")
    there = ar.table(tmp_path / "rows.parquet").records(["fare"], by="form")
    again = ar.table(tmp_path / "rows.parquet").records(["fare"], by="form")
    for one, two in (
        (here["short"], there["current"]),
        (there["short"], here["current"]),
        (there["short"], again["current"]),
    ):
        with pytest.raises(InputError, match="give the other"):
            ar.adjust.cap(one, two, value="fare", cap=0.9)
    with pytest.raises(DataError, match="Did you mean 'fare'"):
        ar.adjust.cap(here["short"], here["current"], value="fares", cap=0.9)
    with pytest.raises(DataError, match="column of these records"):
        ar.adjust.cap(there["short"], there["current"], value="prior", cap=0.9)
    with pytest.raises(InputError, match="holds the variants"):
        ar.table(frame()).records(["form"], by="form")
    assert "fare" in repr(there["short"])
