"""One description of steps: kept as data, refused where it contradicts itself, the same wherever it is asked."""

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from adjust.rows import arms
from amber_ruler import DataError, InputError, Moments, Records, Sample
from amber_ruler.adjust import Steps, cap, cuped, ratio, regression, sharpen, steps, strata, trimmed_pairs, weights


def moments(both, *names):
    return [Moments.from_arrays({n: a.columns[n] for n in names}, label=a.label) for a in both]


def test_a_description_is_data_and_comes_back():
    """Only what differs from the usual; made again from it; equal where it says the same."""
    described = steps(cap=0.99, strata="port", shares={"Amble": 2.0}, covariate="prior", theta="optimal")
    assert described.to_dict() == {
        "cap": 0.99,
        "strata": "port",
        "shares": {"Amble": 2.0},
        "covariate": ["prior"],
        "theta": "optimal",
    }
    assert Steps(**described.to_dict()) == described
    assert steps().to_dict() == {}
    assert steps(covariate=("a", "b per c")).parts == [("a",), ("b", "c")]
    assert steps(covariate="a per b", per="d").numbers == ("d", "a", "b")
    assert steps(strata="s", cluster="c").labels == ("s", "c")


def test_a_description_compares_as_the_function_does():
    """Settings of the question go with it."""
    both = arms((60, 70), clusters=20)
    described = steps(cap=0.9, covariate="prior", strata="port")
    one = described.compare(*both, value="fare", alpha=0.1, margin=0.5, good="lower", metric="fares")
    other = sharpen(
        *both,
        value="fare",
        cap=0.9,
        covariate="prior",
        strata="port",
        alpha=0.1,
        margin=0.5,
        good="lower",
        metric="fares",
    )
    assert one == other
    assert (one.alpha, one.margin, one.good, one.metric) == (0.1, 0.5, "lower", "fares")
    assert described.compare(*both, value="trips").metric == "trips"


@pytest.mark.parametrize(
    ("how", "says"),
    [
        ({"covariate": 3}, "the name of a column, or a list"),
        ({"covariate": ["prior", ""]}, "the name of a column, or a list"),
        ({"strata": 3}, "strata must be"),
        ({"per": ""}, "per must be the name"),
        ({"theta": "withn"}, "Did you mean 'within'"),
        ({"ends": "lower"}, "ends"),
        ({"ends": "both"}, "give cap or cap_at"),
        ({"theta": "optimal"}, "there is none"),
        ({"cap": 0.3}, "cap must be between 0.5 and 1"),
        ({"cap": [0.9, 0.8]}, "single number"),
        ({"cap_at": -1.0, "ends": "both"}, "above 0"),
        ({"shares": "sampled", "strata": "s"}, "Did you mean 'sample'"),
        ({"shares": {"a": -1.0}, "strata": "s"}, "shares of 'a' must be above 0"),
        ({"assigned_on": "day", "covariate": "prior"}, "go together"),
        ({"known_on": "day", "assigned_on": "day2"}, "is of covariates, and there is none"),
        ({"per": "d", "covariate": "d"}, "can't be a covariate and per at once"),
    ],
)
def test_a_description_that_contradicts_itself_is_refused(how, says):
    """Before any row is looked at."""
    with pytest.raises(InputError, match=says):
        steps(**how)


def test_what_needs_rows_is_refused_from_moments_with_the_reason():
    """Caps, clusters, days; and single rows where weights, exposure or residuals are asked for."""
    both = arms((60, 70), clusters=20)
    few = moments(both, "fare", "prior", "weight")
    for how, says in (
        ({"cap": 0.9}, "capping changes single values"),
        ({"cluster": "who"}, "who has to be seen in each row"),
        ({"strata": "port"}, "stacked along them"),
    ):
        with pytest.raises(InputError, match=says):
            sharpen(*few, value="fare", **how)
    with pytest.raises(InputError, match="treatment must be Records"):
        weights(*few, value="fare", weight="weight")
    with pytest.raises(InputError, match="control must be Records"):
        weights(both[0], few[1], value="fare", weight="weight")
    with pytest.raises(InputError, match=r"treatment must be Records .* or Moments of fare and prior, not Sample"):
        cuped(Sample([1.0, 2.0], "a"), Sample([1.0, 2.0], "b"), value="fare", covariate="prior")
    with pytest.raises(InputError, match="Trimmed pairs take Pairs"):
        trimmed_pairs([1.0, 2.0])
    with pytest.raises(InputError, match="names a column of Records"):
        cap([1.0, 2, 3], [1.0, 2, 4], value="fare", cap=0.9)
    with pytest.raises(InputError, match=r"ratios go with adjust\.ratio"):
        regression(*both, value="fare", covariate="trips per before")


def test_gaps_in_several_covariates_need_rows():
    """Moments know how many rows are complete, not which covariate the others lack."""
    both = arms((60, 70), gaps=True)
    frame = pd.concat(pd.DataFrame(dict(a.columns)).assign(form=a.label) for a in both)
    arms_ = ar.table(frame).moments(["fare", "prior", "trips"], by="form")
    with pytest.raises(DataError, match="moments don't say which"):
        cuped(arms_["short"], arms_["current"], value="fare", covariate=["prior", "trips"])
    rows = ar.table(frame).records(["fare", "prior", "trips"], by="form")
    r = cuped(rows["short"], rows["current"], value="fare", covariate=["prior", "trips"])
    assert set(r.adjustment.slopes) == {"prior", "trips", "prior is missing"}


def test_two_covariates_with_the_same_gaps_share_a_mark():
    """The second mark says no more than the first: left out, and nothing is refused."""
    both = arms((60, 70), gaps=True)
    twin = [
        Records({**a.columns, "trips": np.where(np.isnan(a.columns["prior"]), np.nan, a.columns["trips"])}, a.label)
        for a in both
    ]
    for ask in (cuped, regression):
        r = ask(*twin, value="fare", covariate=["prior", "trips"])
        filled = []
        for a in twin:
            gone = np.isnan(a.columns["prior"])
            more = {c: np.where(gone, 3.0, a.columns[c]) for c in ("prior", "trips")}
            filled.append(Records({**a.columns, **more, "gone": gone * 1.0}, a.label))
        other = ask(*filled, value="fare", covariate=["prior", "trips", "gone"])
        assert (r.estimate, r.se, r.df) == pytest.approx((other.estimate, other.se, other.df), rel=1e-8)


def test_stacked_moments_are_compared_all_at_once():
    """A row for each metric, as one by one; what never varies is said of all."""
    both = arms((60, 70))
    names = ("fare", "trips", "searches")
    stacked = [
        Moments.stack(
            {
                n: Moments.from_arrays({"value": a.columns[n], "prior": a.columns["prior"]}, label=a.label)
                for n in names
            },
            axis="metric",
        )
        for a in both
    ]
    many = cuped(*stacked, value="value", covariate="prior")
    for k, name in enumerate(names):
        single = cuped(*both, value=name, covariate="prior")
        assert (many.estimate[k], many.se[k], many.p_value[k]) == pytest.approx(
            (single.estimate, single.se, single.p_value), rel=1e-9
        )
        assert np.asarray(many.adjustment.variance_removed)[k] == pytest.approx(
            single.adjustment.variance_removed, rel=1e-7
        )
    assert many.axis.labels == names
    assert "trips" in str(many)
    assert list(many.to_frame()["metric"].unique())
    ratios = [
        Moments.stack(
            {n: Moments.from_arrays({"value": a.columns[n], "d": a.columns["before"]}, label=a.label) for n in names},
            axis="metric",
        )
        for a in both
    ]
    found = ratio(*ratios, value="value", per="d")
    assert found.estimate[1] == pytest.approx(ratio(*both, value="trips", per="before").estimate, rel=1e-10)


@pytest.mark.parametrize(
    ("how", "says"),
    [
        ({"strata": "lonely"}, "Variant 'short' has 1 row in stratum 'x' of 'lonely'"),
        ({"strata": "port", "covariate": "cut"}, "it is the variant"),
        ({"per": "signs"}, "adds up to 0"),
    ],
)
def test_cells_that_cant_serve_are_named(how, says):
    """A stratum with one unit, a covariate that is the variant, a denominator that cancels."""
    both = []
    for k, a in enumerate(arms((60, 70))):
        n = len(a)
        more = {
            "lonely": ["x" if j == 0 else "y" for j in range(n)],
            "cut": np.full(n, float(k)),
            "signs": np.where(np.arange(n) % 2, 1.0, -1.0),
        }
        both.append(Records({**a.columns, **more}, a.label))
    with pytest.raises(DataError, match=says):
        sharpen(*both, value="fare", **how)


def test_digests_say_what_they_cant_give():
    """No strata, a metric that is a covariate, a cell without a metric, a stratum without a variant."""
    frame = pd.DataFrame(
        {
            "form": ["short", "short", "short", "current", "current", "current"] * 4,
            "fare": np.arange(24.0),
            "prior": np.arange(24.0)[::-1] % 7,
            "port": ["a", "a", "b", "a", "a", "b"] * 4,
        }
    )
    table = ar.table(frame)
    with pytest.raises(DataError, match="is metric and covariate at once"):
        table.digest(["fare", "prior"], by="form", covariates=["prior"]).every_metric()
    alone = ar.table(frame[(frame.port == "a") | (frame.form == "short")]).digest(["fare"], by="form", strata="port")
    with pytest.raises(DataError, match="'current' has no row in stratum 'b'"):
        alone.by_stratum("fare")
    whole = table.digest(["fare"], by="form", strata="port").by_stratum("fare")
    assert whole["short"].axis.labels == ("a", "b")
    one = whole["short"].at(1)
    assert (one.n, one.mean("fare")) == (4, frame[(frame.form == "short") & (frame.port == "b")].fare.mean())
    assert one.ends("fare") == (2.0, 20.0)
    assert strata(whole["short"], whole["current"], value="fare", strata="port").strata.column == "port"


def test_capped_tables_and_ages_name_what_is_wrong():
    """A quantile below a half, text, a name that is taken."""
    table = ar.table(
        pd.DataFrame({"who": ["a", "a", "b"], "day": [1, 3, 2], "x": [1.0, 2.0, 30.0], "t": ["p", "q", "r"]})
    )
    assert table.capped("x", 0.6).overall("x").ends("x") == (1.0, pytest.approx(7.6))
    with pytest.raises(InputError, match="cap must be between"):
        table.capped("x", 0.2)
    with pytest.raises(DataError, match="holds text"):
        table.capped("t", 0.9)
    with pytest.raises(InputError, match="There is a column 'x' already"):
        table.days_since_first("x", unit="who", day="day")
    with pytest.raises(DataError, match="holds text"):
        table.days_since_first("age", unit="who", day="t")
    assert table.days_since_first("age", unit="who", day="day").overall("age").mean("age") == pytest.approx(2 / 3)
