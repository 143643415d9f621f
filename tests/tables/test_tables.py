"""Tables: the same numbers through every engine, and loud refusals."""

import math

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError
from amber_ruler.digest import Digest
from doors import DOORS


def frame(n=5_000, seed=2):
    rng = np.random.default_rng(seed)
    table = pd.DataFrame(
        {
            "form": rng.choice(["current", "short", "guided"], n),
            "fare": 1e9 + rng.gamma(2, 10, n).round(2),
            "prior": rng.normal(size=n),
            "booked": rng.integers(0, 2, n),
            "mobile": rng.random(n) < 0.4,
        }
    )
    table.loc[rng.random(n) < 0.05, "fare"] = np.nan
    table.loc[rng.random(n) < 0.02, "prior"] = np.nan
    table.loc[:2, "form"] = None
    return table


@pytest.fixture(params=DOORS)
def door(request, tmp_path):
    def through(table):
        return ar.table(DOORS[request.param](table, tmp_path))

    through.engine = request.param
    return through


def test_every_engine_gives_the_moments_of_the_rows(door):
    """Counts exact, moments to 1e-10 at an offset of 1e9, missing rows counted by variant."""
    table = frame()
    found = door(table).moments(["fare", "prior"], by="form")
    assert list(found) == ["current", "guided", "short"]
    assert found.unassigned == 3
    for label, m in found.items():
        rows = table[table["form"] == label]
        complete = rows.dropna(subset=["fare", "prior"])
        assert (m.n, m.missing) == (len(complete), len(rows) - len(complete))
        shifted, own = complete["fare"] - 1e9, rows["fare"].dropna() - 1e9
        assert m.variance("fare") == pytest.approx(np.var(own, ddof=1), rel=1e-10)
        assert (m.select("fare").n, m.select("fare").missing) == (len(own), len(rows) - len(own))
        assert m.covariance("fare", "prior") == pytest.approx(np.cov(shifted, complete["prior"])[0, 1], rel=1e-8)
        assert (m.means[0] - 1e9) + m.tails[0] == pytest.approx(shifted.mean(), rel=1e-9)


def test_a_column_keeps_its_own_rows_beside_one_that_is_known_of_few(door):
    """Whether somebody was late is known of those who came only; who came is known of all."""
    came = [1.0, 0.0] * 30 + [1.0] * 20
    table = pd.DataFrame({"form": ["short", "current"] * 40, "came": came})
    table["late"] = np.where(table["came"] == 1, np.arange(80) % 3 == 0, np.nan)
    table["day"], table["age"] = np.arange(80) % 4, np.where(np.arange(80) % 4 == 1, np.nan, 40.0)
    found = door(table).moments(["came", "late"], by="form")
    together, alone = (
        ar.measure.proportions(m["short"], m["current"]) for m in (found, door(table).moments("came", by="form"))
    )
    apart = ar.measure.proportions(found["short"].select("came"), found["current"].select("came"))
    assert apart.p_value == alone.p_value == together.p_value[0] < 0.001
    assert found["short"].mean("came") == table[table["form"] == "short"]["came"].mean()
    merged = found["short"] + ar.Moments.from_json(found["short"].to_json())
    assert (merged.select("came").n, merged.n) == (80, 2 * found["short"].n)
    stacked = ar.Moments.stack({"one": found["current"], "two": found["current"]})
    assert stacked.mean("came").tolist() == [found["current"].mean("came")] * 2
    with pytest.raises(DataError, match="lack 'late'"):
        door(table).moments(["came", "late", "day"], by="form")["current"].select("came", "day")
    kept = door(table).digest(["came"], covariates=["age"], by="form", day="day")
    read = Digest.from_json(kept.to_json()).moments("came")["current"]
    assert (read.select("came").n, read.n, read.missing) == (40, 20, 20)


def test_every_engine_splits_and_counts(door):
    """Samples hold the values, missing ones counted; true and false count as 1 and 0."""
    table = frame()
    source = door(table)
    samples = source.samples("fare", by="form")
    for label, sample in samples.items():
        rows = table.loc[table["form"] == label, "fare"]
        assert sample.missing == rows.isna().sum()
        assert np.sort(sample.values) == pytest.approx(np.sort(rows.dropna()), rel=1e-15)
    counts = source.sizes(by="form")
    assert counts == table["form"].value_counts().sort_index().to_dict()
    assert counts.unassigned == 3
    mobile = source.moments("mobile", by="form")
    assert mobile["short"].mean("mobile") == pytest.approx(table.loc[table["form"] == "short", "mobile"].mean())
    assert source.samples("mobile", by="form")["short"].values.mean() == pytest.approx(mobile["short"].mean("mobile"))


def test_every_engine_knows_shapes_and_clusters(door):
    """Moments over all rows, skewness, 0/1 columns, and the intraclass correlation by the analysis of variance."""
    rng = np.random.default_rng(8)
    sizes = rng.integers(1, 12, 300)
    port = np.repeat(np.arange(300), sizes)
    table = pd.DataFrame({"port": port, "fare": rng.normal(size=300)[port] + rng.gamma(2, 1, port.size)})
    table["booked"], table["prior"] = table["fare"] > 2, table["fare"] + rng.normal(size=port.size)
    source = door(table)
    away = table["fare"] - table["fare"].mean()
    assert source.overall("fare").variance("fare") == pytest.approx(table["fare"].var(), rel=1e-12)
    found = source.overall(["fare", "booked"])
    assert found.skewness("fare") == pytest.approx((away**3).mean() / (away**2).mean() ** 1.5, rel=1e-10)
    assert found.excess_kurtosis("fare") == pytest.approx((away**4).mean() / (away**2).mean() ** 2 - 3, rel=1e-10)
    assert found.ends("fare") == pytest.approx((table["fare"].min(), table["fare"].max()), rel=1e-14)
    assert found.zero_one().tolist() == [False, True]
    groups = table.groupby("port")["fare"]
    between = (groups.size() * (groups.mean() - table["fare"].mean()) ** 2).sum() / 299
    inside = ((table["fare"] - groups.transform("mean")) ** 2).sum() / (port.size - 300)
    typical = (port.size - (sizes**2).sum() / port.size) / 299
    found = source.clusters("fare", by="port")
    assert found.icc == pytest.approx((between - inside) / (between + (typical - 1) * inside), rel=1e-10)
    assert (found.clusters, found.size, found.cv) == pytest.approx((300, sizes.mean(), sizes.std() / sizes.mean()))
    design = ar.plan.design_from(source, "fare", covariate="prior", cluster="port", ratio=2)
    assert (design.sd, design.baseline, design.ratio) == pytest.approx((table["fare"].std(), table["fare"].mean(), 2))
    covariate, clusters = design.modifiers
    assert covariate.correlation == pytest.approx(table["fare"].corr(table["prior"]), rel=1e-10)
    assert (clusters.size, clusters.icc, clusters.cv) == pytest.approx((found.size, found.icc, found.cv))


def test_a_design_from_an_earlier_test():
    """The spread is that within variants, the baseline that of control; shares give a design of shares."""
    table = frame().dropna(subset=["form"])
    table.loc[table["form"] == "short", "prior"] += 5
    source = ar.table(table)
    design = ar.plan.design_from(source, "prior", by="form", control="current", covariate="booked")
    within = table["prior"] - table.groupby("form")["prior"].transform("mean")
    complete = within.notna().sum()
    assert design.sd == pytest.approx(math.sqrt((within**2).sum() / (complete - 3)), rel=1e-10)
    assert design.baseline == pytest.approx(table.loc[table["form"] == "current", "prior"].mean())
    assert ar.plan.design_from(source, "mobile").baseline == pytest.approx(table["mobile"].mean())
    assert "wants about" in str(ar.plan.TwoMeans(skewness=4).sample_size(effect=0.3))
    for call, says in (
        (lambda: ar.plan.design_from(ar.table(table.assign(booked=1)), "booked"), "never varies"),
        (lambda: ar.plan.design_from(source, "prior", by="form", control="shrt"), "Did you mean 'short'"),
        (lambda: ar.plan.design_from(ar.table(table.assign(x=1)), "prior", covariate="x"), "never varies"),
        (lambda: ar.plan.design_from(ar.table(table.assign(x=1)), "prior", cluster="x"), "1 clusters"),
    ):
        with pytest.raises(DataError, match=says):
            call()


def test_variants_far_apart_each_keep_their_digits(door):
    """One variant at 1e9 and one at 0: each is summed around its own mean."""
    rng = np.random.default_rng(3)
    x = rng.normal(size=400)
    table = pd.DataFrame({"form": ["a", "b"] * 200, "x": np.where(np.arange(400) % 2 == 0, 1e9, 0.0) + x, "y": x})
    found = door(table).moments(["x", "y"], by="form")
    for k, label in enumerate("ab"):
        exact = table["x"][k::2] - (1e9 if label == "a" else 0)
        assert found[label].variance("x") == pytest.approx(np.var(exact, ddof=1), rel=1e-11)


def test_split_and_moments_lead_to_the_same_result(door):
    """Whichever way the rows go, the answer is one."""
    source = door(frame())
    moments, samples = source.moments("prior", by="form"), source.samples("prior", by="form")
    a = ar.measure.means(moments["short"], moments["current"])
    b = ar.measure.means(samples["short"], samples["current"])
    assert a.p_value == pytest.approx(b.p_value, rel=1e-9)
    assert a.title == b.title == "prior: short − current"


@pytest.mark.parametrize(
    ("change", "call", "says"),
    [
        ({}, {"columns": "fares"}, r"'fares' is not there.*Did you mean 'fare'"),
        ({}, {"by": "from"}, r"'from' is not there.*Did you mean 'form'"),
        ({"fare": ["1.5", "n/a", "3", "4"]}, {}, "text, first 'n/a' in row 2"),
        ({"fare": [1.0, np.inf, 3.0, 4.0]}, {}, "infinite values.*'short': 1"),
        ({"fare": [1.0, np.nan, 3.0, np.nan]}, {}, "'short' has no row with a value.*2 rows are missing"),
        ({"form": [None, None, None, None]}, {}, "no variant label in any of its 4 rows"),
        ({"fare": pd.to_datetime(["2026-01-01"] * 4)}, {}, "not numbers"),
    ],
)
def test_bad_columns_are_named(door, change, call, says):
    """Column, variant and row count are in the message, whichever engine holds the rows."""
    table = pd.DataFrame({"form": ["current", "short"] * 2, "fare": [1.0, 2.0, 3.0, 4.0]}).assign(**change)
    if door.engine == "json lines" and ("infinite" in says or "not numbers" in says):
        pytest.skip("JSON has neither infinity nor dates")
    if change.get("form"):
        table["form"] = table["form"].astype("string")
    with pytest.raises(DataError, match=says):
        door(table).moments(**{"columns": "fare", "by": "form", **call})


def test_one_variant_only_and_an_unknown_control():
    """A comparison needs two variants, and a control that occurs."""
    table = ar.table(pd.DataFrame({"form": ["short"] * 3, "fare": [1.0, 2.0, 3.0]}))
    found = table.moments("fare", by="form")
    with pytest.raises(DataError, match="one variant only, 'short'"):
        found.against("short")
    with pytest.raises(DataError, match=r"'current' is not there. There is: 'short'"):
        found.against("current")
    with pytest.raises(DataError, match="Did you mean 'short'"):
        found["shirt"]


def test_a_table_without_rows(door):
    """Columns but no rows are an error that says so."""
    with pytest.raises(DataError, match="no rows"):
        door(frame().head(0)[["form", "prior"]].astype({"form": "string"})).moments("prior", by="form")


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("empty.csv", b"", "is empty"),
        ("twice.csv", b"form,fare,fare\na,1,2\nb,3,4\n", "more than one column called 'fare'"),
        ("odd.xyz", b"a", "can't tell the format"),
        ("late.csv", b"form,fare\n" + b"a,1\nb,2\n" * 30_000 + b"a,oops\n", "oops"),
    ],
)
def test_bad_files_are_named(tmp_path, name, content, says):
    """Nothing is read wrongly in silence."""
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises((DataError, InputError), match=says):
        ar.table(path).moments("fare", by="form")


def test_a_missing_file_offers_its_neighbours(tmp_path):
    """A typing error in the name is easy to see."""
    (tmp_path / "travellers.csv").write_text("a,b\n1,2\n")
    with pytest.raises(DataError, match=r"Did you mean 'travellers\.csv'"):
        ar.table(tmp_path / "traveller.csv")
    (tmp_path / "empty").mkdir()
    with pytest.raises(DataError, match="a folder without any table"):
        ar.table(tmp_path / "empty")
    with pytest.raises(InputError, match="got int"):
        ar.table(3)


@pytest.mark.parametrize("text", ["form;fare\nä;1,5\nb;2,5\nä;3,5\nb;1,0\n", "form;fare\nä;1.5\nb;2.5\nä;3.5\nb;1.0\n"])
def test_semicolons_and_a_byte_order_mark(tmp_path, text):
    """A file from a spreadsheet is read as it is meant, or its decimal commas are pointed out."""
    path = tmp_path / "sheet.csv"
    path.write_bytes(b"\xef\xbb\xbf" + text.encode())
    table = ar.table(path)
    assert table.columns == ["form", "fare"]
    if "," in text:
        with pytest.raises(DataError, match="'1,5' in row 1"):
            table.moments("fare", by="form")
    else:
        assert table.moments("fare", by="form")["ä"].mean("fare") == 2.5


def test_a_dataframe_with_odd_columns():
    """Twin names are refused; true, false and None in an object column count as such."""
    with pytest.raises(DataError, match="more than one column of a name"):
        ar.table(pd.DataFrame([[1, 2, "a"]], columns=["x", "x", "form"]))
    on = pd.Series([True, None, False, True, True, False], dtype=object)
    found = ar.table(pd.DataFrame({"form": ["a", "b"] * 3, "on": on})).moments("on", by="form")
    assert (found["b"].n, found["b"].missing, found["a"].mean("on")) == (2, 1, pytest.approx(2 / 3))


def test_a_path_with_pattern_signs_is_one_file(tmp_path):
    """Brackets and stars in a name are not a pattern."""
    path = tmp_path / "a[1]*.csv"
    path.write_text("form,fare\na,1\na,2\nb,3\nb,5\n")
    (tmp_path / "a1x.csv").write_text("form,fare\na,100\n")
    assert ar.table(path).moments("fare", by="form")["a"].mean("fare") == 1.5


def test_labels_that_are_numbers_or_true_and_false():
    """Labels come out as text, whole numbers without a point."""
    table = ar.table(pd.DataFrame({"arm": [0.0, 1.0, 0.0, 1.0], "on": [True, False, True, False], "x": [1.0, 2, 3, 4]}))
    assert list(table.moments("x", by="arm")) == ["0", "1"]
    assert list(table.moments("x", by="on")) == ["False", "True"]


@pytest.mark.parametrize(
    ("counts", "planned", "sound"),
    [
        ({"a": 5_000, "b": 5_150}, None, True),
        ({"a": 5_000, "b": 5_400}, None, False),
        ({"a": 2_000, "b": 8_010}, {"a": 20, "b": 80}, True),
        ({"a": 5_000, "b": 5_000}, {"a": 1, "b": 2}, False),
    ],
)
def test_sample_ratio(counts, planned, sound):
    """The chi-square of the planned split, by its formula."""
    from amber_ruler.tables import check_split

    r = check_split(counts, planned)
    assert r.sound == sound
    weights = planned or dict.fromkeys(counts, 1)
    total, share = sum(counts.values()), {k: w / sum(weights.values()) for k, w in weights.items()}
    statistic = sum((counts[k] - total * share[k]) ** 2 / (total * share[k]) for k in counts)
    assert r.statistic == pytest.approx(statistic, rel=1e-12)
    assert ("mismatch" in r.sentence()) == (not sound)
    assert r.as_check.severity == ("fine" if sound else "serious")


@pytest.mark.parametrize(
    ("counts", "planned", "says"),
    [
        ({"a": 5}, None, "at least two variants"),
        ({"a": 5, "b": 6}, {"a": 1, "c": 1}, "'c' is not there"),
        ({"a": 5, "b": 6}, {"a": 1}, "says nothing of 'b'"),
        ({"a": 5, "b": 6}, {"a": 1, "b": 0}, "planned must be above 0"),
        ({"a": 0, "b": 0}, None, "No units"),
        ({"a": -1, "b": 0}, None, "count of 'a'"),
    ],
)
def test_a_bad_split_is_named(counts, planned, says):
    """Labels and shares that do not fit are refused."""
    from amber_ruler.tables import check_split

    with pytest.raises((DataError, InputError), match=says):
        check_split(counts, planned)


def test_false_alarms_of_the_split_check_stay_at_their_rate():
    """Over 20,000 sound splits, 0.1 % alarm, within 4 Monte-Carlo errors."""
    from amber_ruler.tables import check_split

    rng = np.random.default_rng(9)
    counts = rng.binomial(10_000, 0.5, 20_000)
    alarms = np.mean([not check_split({"a": int(c), "b": 10_000 - int(c)}).sound for c in counts])
    assert abs(alarms - 0.001) < 4 * np.sqrt(0.001 / 20_000)
