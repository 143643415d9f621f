"""What a person sees: notebooks, families, rulers of a page, numbers beside each other."""

import re

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import Counts, DataError, InputError, Interval, Moments, Sample, Summary
from amber_ruler.report import numbers
from amber_ruler.results import Family

SHORT, GUIDED, CURRENT = (
    Summary(400, 15.4, 20.0, "short"),
    Summary(400, 14.0, 20.0, "guided"),
    Summary(400, 11, 20, "current"),
)


@pytest.fixture(scope="module")
def two():
    return {
        "fare": ar.measure.means(SHORT, CURRENT, margin=1.0),
        "guided": ar.measure.means(GUIDED, CURRENT, margin=1.0),
    }


def test_a_notebook_shows_samples_moments_and_variants():
    """Counts, missing values and means of each group; of moments every column with its own rows."""
    rows = pd.DataFrame(
        {"form": ["a", "a", "a", "b", "b", None], "came": [1.0, 0, 1, 1, 0, 1], "late": [1.0, np.nan, 0, 1, 0, 0]}
    )
    table = ar.table(rows)
    found = table.moments(["came", "late"], by="form")
    shown = found._repr_html_()
    assert "1 rows have no label" in shown
    assert ">3<" in shown
    each = found["a"]._repr_html_()
    assert re.search(r"came.*?>3<.*?0\.66", each, re.DOTALL)
    assert re.search(r"late.*?>2<.*?0\.5", each, re.DOTALL)
    stacked = Moments.stack({"one": found["a"], "two": found["a"]})
    assert ">2<" in stacked._repr_html_()
    assert "2 sets of rows" in repr(stacked)
    values = Sample([3.0, 4.0, np.nan], "<b>", missing="leave out", metric="fare")._repr_html_()
    assert "&lt;b&gt;" in values
    assert ">3.5<" in values
    assert "nan" in Sample([], "none")._repr_html_()
    assert repr(table.samples("came", by="form")) == "<by form: a, b>"
    assert ">2<" in table.sizes(by="form")._repr_html_()
    with pytest.raises(DataError, match="Did you mean 'a'"):
        found["aa"]


def test_a_family_names_each_of_its_comparisons(two):
    """Corrected or not, in every medium; what contradicts itself is refused."""
    bare = Family(
        title="2 comparisons", method="side by side", source="", labels=tuple(two), results=tuple(two.values())
    )
    assert "none corrected for their number: fare better; guided better" in bare.sentence()
    assert list(bare) == ["fare", "guided"]
    assert bare["guided"].treatment == "guided"
    corrected = ar.multiplicity.correct(two)
    assert corrected.sentence().startswith("1 of 2 comparisons stands") or corrected.sentence().startswith(
        "2 of 2 comparisons stand"
    )
    assert [r["comparison"] for r in corrected.to_frame().to_dict("records")] == ["fare", "guided"]
    assert ar.Result.from_json(corrected.to_json()) == corrected
    with pytest.raises(InputError, match="Did you mean 'fare'"):
        corrected["fares"]
    for labels, families, says in (
        (("fare",), (), "a label for each"),
        (("a", "a"), (), "of its own"),
        (("a", "b"), ("x",), "for none"),
    ):
        with pytest.raises(InputError, match=says):
            Family(title="", method="", source="", labels=labels, results=tuple(two.values()), families=families)


def test_a_page_draws_rulers_that_keep_their_text(two):
    """Each row has its label, verdict and place in percent; an open end is an arrow; nothing runs or is fetched."""
    page = ar.report.html([two["fare"], ar.measure.means(SHORT, CURRENT, alternative="greater")], title="<Fares>")
    assert "<title>&lt;Fares&gt;</title>" in page
    assert page.count('class="ruler"') == 2
    assert page.count("<path class=") == 1
    for forbidden in ("<script", "http:", "https:", "@import", "url("):
        assert forbidden not in page
    places = [float(v) for v in re.findall(r'x1="([\d.]+)%"', page)]
    assert places
    assert all(0 <= v <= 100 for v in places)
    low, dot, high = (
        float(re.search(pattern, page)[1])
        for pattern in (r'bar \w+" x1="([\d.]+)%', r'cx="([\d.]+)%', r'bar \w+" x1="[\d.]+%" x2="([\d.]+)%')
    )
    assert low < dot < high
    assert dot == pytest.approx((low + high) / 2, abs=0.02)


@pytest.mark.parametrize(
    ("values", "apart", "shown"),
    [
        ((-1.31, -2.61, -0.0004), 0.0, ["−1.3100", "−2.6100", "−0.0004"]),
        ((1.5, 0.0, 3.0), 0.0, ["1.50", "0.00", "3.00"]),
        ((1.02, 1.0001, 1.04), 1.0, ["1.0200", "1.0001", "1.0400"]),
        ((1.5, 1e-30, 3.0), 0.0, ["1.500000000", "0.000000000", "3.000000000"]),
    ],
)
def test_no_limit_is_rounded_onto_the_tested_value(values, apart, shown):
    """As many decimals as tell it apart, up to nine."""
    assert numbers.together(*values, apart=apart) == shown


def test_an_interval_that_leaves_out_a_middle():
    """Contained are the values on either side and the ends themselves; scaling keeps that."""
    outside = Interval(-np.inf, np.inf, 0.95, excludes=(-0.5, 0.25))
    assert [outside.contains(v) for v in (-3.0, -0.5, 0.0, 0.25, 7.0)] == [True, True, False, True, True]
    assert outside.contains(np.array([0.0, 1.0])).tolist() == [False, True]
    assert outside.scaled(2.0).excludes == (-1.0, 0.5)
    assert not outside.scaled(2.0).contains(0.4)


def test_settings_of_another_kind_are_refused_by_name():
    """Before any formula meets them, whatever the method."""
    pair = Counts(60, 400, "short"), Counts(40, 400, "current")
    for name, value, says in (
        ("alpha", "0.05", "alpha must be a number"),
        ("alpha", [0.1, 0.2], "alpha must be a single number"),
        ("metric", 3, "metric must be text, got 3"),
        ("good", None, "good: 'None' is not there"),
        ("margin", 1.5, "margin must be below 1"),
        ("test", ["score"], "test"),
        ("null", "x" * 400, r"null must be .*\.\.\."),
    ):
        with pytest.raises(InputError, match=says):
            ar.measure.proportions(*pair, **{name: value})
    with pytest.raises(InputError, match="prior must be a Cauchy"):
        ar.bayes.means(SHORT, CURRENT, prior=0.7)
    with pytest.raises(InputError, match="names must be a list"):
        ar.measure.factors({("a", "b"): SHORT}, names=3)
    with pytest.raises(InputError, match="known_sd must be 2 values"):
        ar.measure.means(SHORT, CURRENT, known_sd=3)
    with pytest.raises(InputError, match=r"shapes \(2,\), \(3,\) do not go together"):
        ar.measure.means(Summary([10, 20], 1.0, 1.0), Summary([10, 20, 30], 1.0, 1.0))
    with pytest.raises(DataError, match="change their unit"):
        ar.measure.means([1e145, 2e145, 4e145], [1.0, 2.0, 3.0])
