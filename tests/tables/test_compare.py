"""One call from a table: the method by type, several metrics, several treatments, corrected together."""

import dataclasses

import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import DataError, InputError

TRIPS = ar.table(ar.demo.path("travellers"))


def test_one_metric_is_the_method_by_itself():
    """Means of numbers, shares of 0 and 1, any method by name: the same numbers as when asked by hand."""
    fares, booked = (TRIPS.moments(c, by="form") for c in ("fare", "booked"))
    found = TRIPS.compare("fare", by="form", control="current", treatment="short", margin=0.3)
    own = ar.measure.means(fares["short"], fares["current"], margin=0.3)
    assert found == dataclasses.replace(own, metric="fare")
    share = TRIPS.compare("booked", by="form", control="current", treatment="short")
    assert share.quantity == "share"
    assert share.estimate == ar.measure.proportions(booked["short"], booked["current"]).estimate
    ranks = TRIPS.compare("fare", by="form", control="current", treatment="short", method="ranks")
    values = TRIPS.samples("fare", by="form")
    assert ranks.p_value == ar.measure.ranks(values["short"], values["current"]).p_value


def test_several_are_a_family_corrected_together():
    """Metrics, treatments, or both; settings of each; Holm unless another is said, or none."""
    both = TRIPS.compare(["fare", "booked"], by="form", control="current")
    assert both.labels == ("fare: guided", "fare: short", "booked: guided", "booked: short")
    assert all(r.correction.method == "Holm" for r in both.results)
    arms = TRIPS.compare("fare", by="form", control="current")
    assert arms.labels == ("guided", "short")
    own = {"fare": {"margin": 0.3}, "complaint": {"good": "lower"}, "minutes_to_book": {"method": "ranks"}}
    mixed = TRIPS.compare(own, by="form", control="current", treatment="short", correct="none", alpha=0.1)
    assert mixed["fare"].margin == 0.3
    assert mixed["complaint"].good == "lower"
    assert mixed["minutes_to_book"].quantity == "rank"
    assert {r.alpha for r in mixed.results} == {0.1}
    assert mixed["fare"].correction is None
    assert "not corrected" in mixed.method


@pytest.mark.parametrize(
    ("how", "error", "says"),
    [
        ({"metrics": [], "control": "current"}, InputError, "at least one metric"),
        ({"metrics": "fare", "control": "curent"}, DataError, "Did you mean 'current'"),
        ({"metrics": "fare", "control": "current", "treatment": "shrt"}, DataError, "Did you mean 'short'"),
        ({"metrics": "fare", "control": "current", "method": "groups"}, InputError, "does not compare two groups"),
        ({"metrics": "fare", "control": "current", "method": "rnks"}, InputError, "Did you mean 'ranks'"),
        ({"metrics": {"fare": {"alpha": 0.1}, "booked": {}}, "control": "current"}, InputError, "one alpha"),
        ({"metrics": "fares", "control": "current"}, DataError, "fare"),
    ],
)
def test_what_can_not_be_compared_is_said(how, error, says):
    """By name, with what was meant."""
    with pytest.raises(error, match=says):
        TRIPS.compare(by="form", **how)


def test_numeric_labels_are_found_and_printed_with_their_column():
    """As text, as the number, as both; through every door; and 1 - 0 is no arithmetic."""
    frame = pd.DataFrame({"reminder": [0, 1] * 30, "cost": [float(k % 7) for k in range(60)], "day": [1, 2, 3] * 20})
    t = ar.table(frame)
    arms = t.samples("cost", by="reminder")
    assert arms[1] is arms["1"] is arms["reminder 1"] is arms[1.0]
    assert arms[1].label == "reminder 1"
    for control in (0, "0", "reminder 0"):
        r = t.compare("cost", by="reminder", control=control)
        assert (r.treatment, r.control) == ("reminder 1", "reminder 0")
        assert "reminder 1 − reminder 0" in str(r)
    digest = t.digest("cost", by="reminder", day="day")
    assert digest.moments("cost")[1].label == "reminder 1"
    rows = t.records(["cost"], by="reminder")
    assert rows[0].label == "reminder 0"
    with pytest.raises(DataError, match="variant in column 'reminder'"):
        arms[2]


def held(kind, frame, tmp_path):
    """The same rows, held by an engine or written into a file."""
    if kind == "pandas":
        return frame
    if kind == "polars":
        import polars as pl

        return pl.from_pandas(frame)
    if kind == "polars, lazy":
        import polars as pl

        return pl.from_pandas(frame).lazy()
    if kind == "arrow":
        import pyarrow as pa

        return pa.Table.from_pandas(frame)
    path = tmp_path / f"rows.{kind}"
    if kind == "csv":
        frame.to_csv(path, index=False)
    elif kind == "parquet":
        frame.to_parquet(path)
    else:
        frame.to_json(path, orient="records", lines=True)
    return path


@pytest.mark.parametrize("kind", ["pandas", "polars", "polars, lazy", "arrow", "csv", "parquet", "jsonl"])
def test_every_engine_compares_shapes_and_looks_alike(kind, tmp_path):
    """One call, words as shares, conditions, days as looks: the same numbers wherever the rows are."""
    n = 240
    frame = pd.DataFrame(
        {
            "form": ["short", "current", "current", "short"] * (n // 4),
            "day": [1 + k // 60 for k in range(n)],
            "fare": [1.5 * (k % 13) + (k % 4 == 0) for k in range(n)],
            "back": ["yes" if k % 3 else "no" for k in range(n)],
        }
    )
    t = ar.table(held(kind, frame, tmp_path))
    own = ar.table(frame)
    told, known = (x.compare("fare", by="form", control="current") for x in (t, own))
    assert told.estimate == pytest.approx(known.estimate, rel=1e-12)
    assert told.p_value == pytest.approx(known.p_value, rel=1e-10)
    share = t.two_valued("back", success="yes").compare("back", by="form", control="current")
    assert share.quantity == "share"
    assert sum(float(g.n) * float(g.mean) for g in share.groups) == pytest.approx(160)
    assert t.where("form", differs="short").sizes(by="form") == {"current": 120}
    assert t.where("day", differs=2, at_most=3).overall("day").n == 120
    who = {"treatment": "short", "control": "current"}
    looks = ar.sequential.looks_by_day(t, "fare", by="form", day="day", days=[2, 4], **who)
    assert looks[1].estimate == pytest.approx(known.estimate, rel=1e-12)
    r = ar.sequential.monitor(ar.sequential.boundaries(2), looks, maximum=n)
    assert r.fractions.tolist() == [0.5, 1.0]
    assert r.planned == 2
    with pytest.raises(DataError, match="numbers are needed"):
        t.compare("back", by="form", control="current")
    sharp = ar.sequential.looks_by_day(
        t.derive("late", "day", above=2), "late", by="form", day="day", days=[3], **who
    )  # shares as such, whatever holds them
    assert sharp[0].quantity == "share"
    assert sharp[0].estimate == 0
    told = t.describe("fare", by="form")
    assert told.groups["short"].n == 120
    assert told.groups["short"].quantiles == pytest.approx(own.describe("fare", by="form").groups["short"].quantiles)
    series = t.daily("fare", by="form", day="day")
    assert series.days == ("1", "2", "3", "4")
    assert sum(group.n for group in series.groups["short"]) == 120
    once = t.digest("fare", by="form", day="day")
    with pytest.raises(DataError, match="those units would count twice"):
        _ = once + once
    twice = ar.table(held(kind, pd.concat([frame, frame.head(7)], ignore_index=True), tmp_path))
    once = twice.distinct()
    # Rows may repeat others in the frame itself: what is kept is what is different.
    assert once.dropped == 7 + len(frame) - len(frame.drop_duplicates())
    assert once.where("day", at_most=2).dropped == once.dropped
    assert sum(once.sizes(by="form").values()) == len(frame.drop_duplicates())
