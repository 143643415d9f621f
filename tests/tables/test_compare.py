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
