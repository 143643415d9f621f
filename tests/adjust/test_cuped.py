"""Covariate adjustment from moments against the same thing done on rows."""

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import DataError, Moments, Records
from amber_ruler.adjust import cuped
from amber_ruler.measure import means


def rows(seed=1, n=(400, 500), effect=0.5, offset=0.0, slope=0.8):
    rng = np.random.default_rng(seed)
    groups = []
    for size, add, label in zip(n, (effect, 0.0), ("short", "current"), strict=True):
        x = offset + rng.normal(10, 3, size)
        groups.append((add + slope * (x - offset) + rng.normal(0, 2, size), x, label))
    return groups


def arms(groups):
    return tuple(Moments.from_arrays({"fare": y, "prior": x}, label=label) for y, x, label in groups)


def adjust(groups, **options):
    return cuped(*arms(groups), value="fare", covariate="prior", **options)


@pytest.mark.parametrize("offset", [0.0, 1e8])
def test_it_equals_the_comparison_of_adjusted_rows(offset):
    """Adjusting each row by the pooled within-variant slope and comparing means gives the same numbers."""
    groups = rows(offset=offset)
    (y1, x1, _), (y0, x0, _) = groups
    d1, d0 = x1 - x1.mean(), x0 - x0.mean()
    slope = (d1 @ (y1 - y1.mean()) + d0 @ (y0 - y0.mean())) / (d1 @ d1 + d0 @ d0)
    centre = np.concatenate([x1, x0]).mean()
    expected = means(y1 - slope * (x1 - centre), y0 - slope * (x0 - centre))
    r = adjust(groups)
    assert r.adjustment.slopes["prior"] == pytest.approx(slope, rel=1e-9)
    assert r.estimate == pytest.approx(expected.estimate, rel=1e-7)
    assert r.interval.low == pytest.approx(expected.interval.low, rel=1e-7)
    assert r.p_value == pytest.approx(expected.p_value, rel=1e-6)


def test_what_the_covariate_is_worth():
    """About the squared correlation of the variance goes, and the units it saves follow from it."""
    r = adjust(rows(n=(40_000, 40_000)))
    assert r.adjustment.variance_removed == pytest.approx(r.adjustment.correlation**2, abs=0.01)
    assert r.adjustment.units_saved == pytest.approx(80_000 * (1 / (1 - r.adjustment.variance_removed) - 1), abs=1)
    assert r.adjustment.raw.estimate == pytest.approx(
        means(*(m.select("fare") for m in arms(rows(n=(40_000, 40_000))))).estimate
    )
    assert r.interval.high - r.interval.low < 0.8 * (r.adjustment.raw.interval.high - r.adjustment.raw.interval.low)


def test_an_unrelated_covariate_changes_next_to_nothing():
    """Without correlation there is nothing to remove, and nothing is made up."""
    r = adjust(rows(slope=0.0, n=(5_000, 5_000)))
    assert abs(r.adjustment.variance_removed) < 0.005
    assert r.estimate == pytest.approx(r.adjustment.raw.estimate, abs=0.01)


def test_merged_days_give_the_same_answer_as_the_whole():
    """Moments of parts are enough."""
    groups = rows()
    halves = [[(y[k::2], x[k::2], label) for y, x, label in groups] for k in (0, 1)]
    merged = [a + b for a, b in zip(arms(halves[0]), arms(halves[1]), strict=True)]
    assert cuped(*merged, value="fare", covariate="prior").p_value == pytest.approx(adjust(groups).p_value, rel=1e-9)


def test_false_alarms_stay_at_alpha():
    """Over 300 simulated tests without an effect, 5 % reject, within 4 Monte-Carlo errors."""
    rejected = np.mean([adjust(rows(seed, n=(60, 80), effect=0.0)).p_value < 0.05 for seed in range(300)])
    assert abs(rejected - 0.05) < 4 * np.sqrt(0.05 * 0.95 / 300)


def test_a_covariate_that_the_treatment_changed_is_said_first_or_refused():
    """A large difference before the test is serious and stands above the result; a huge one can't be chance."""
    (y, x, label), other = rows(n=(5_000, 5_000))
    r = adjust([(y, x + 0.3, label), other])
    assert r.checks[0].severity == "serious"
    text = " ".join(str(r).split())
    assert text.index("did treatment change it") < text.index("raw")
    with pytest.raises(DataError, match="measured after the assignment"):
        adjust([(y, x + 1.0, label), other])
    days = {"known": np.full(40, 3.0), "assigned": np.r_[np.full(39, 5.0), 2.0]}
    late = [Records({"fare": y[:40], "prior": x[:40], **days}, label) for y, x, label in rows()]
    for ask in (cuped, ar.adjust.regression, ar.adjust.sharpen):
        with pytest.raises(DataError, match="2 rows have a day in 'known' that lies after 'assigned'"):
            ask(*late, value="fare", covariate="prior", known_on="known", assigned_on="assigned")
    with pytest.raises(ar.InputError, match="days have to be seen in each row"):
        cuped(*arms(rows()), value="fare", covariate="prior", known_on="known", assigned_on="assigned")
    lacking = [
        Records({"fare": y, "prior": np.where(np.arange(len(x)) < 60 * k, np.nan, x)}, n)
        for k, (y, x, n) in enumerate(rows())
    ]
    assert cuped(*lacking, value="fare", covariate="prior").checks[0].severity == "serious"


def test_slopes_in_three_ways_are_their_formulas():
    """From deviations within variants, from all rows, and those that make the variance least; several at once."""
    rng = np.random.default_rng(4)
    xs = [rng.normal(size=(n, 2)) * [3, 1] + [0.2 * k, 0] for k, n in enumerate((30, 50))]
    ys = [x @ [1.0 + k, -0.5] + rng.normal(size=len(x)) + k for k, x in enumerate(xs)]
    cov = [np.cov(np.column_stack([y, x]).T) for y, x in zip(ys, xs, strict=True)]
    whole = np.cov(np.column_stack([np.concatenate(ys), np.concatenate(xs)]).T)
    sums = {
        "within": sum(c * (len(y) - 1) for c, y in zip(cov, ys, strict=True)),
        "total": whole,
        "optimal": sum(c / len(y) for c, y in zip(cov, ys, strict=True)),
    }
    both = [
        Moments.from_arrays({"y": y, "a": x[:, 0], "b": x[:, 1]}, label=label)
        for y, x, label in zip(ys, xs, ("short", "current"), strict=True)
    ]
    for how, s in sums.items():
        r = cuped(*both, value="y", covariate=["a", "b"], theta=how)
        theta = np.linalg.solve(s[1:, 1:], s[1:, 0])
        assert list(r.adjustment.slopes.values()) == pytest.approx(theta, rel=1e-10)
        centre = np.concatenate(xs).mean(axis=0)
        expected = means(*(y - (x - centre) @ theta for y, x in zip(ys, xs, strict=True)))
        assert (r.estimate, r.se, r.df) == pytest.approx((expected.estimate, expected.se, expected.df), rel=1e-10)
        assert r.groups[0].mean == pytest.approx(expected.groups[0].mean, rel=1e-10)


def test_several_treatments_share_one_theta():
    """Slopes and overall means come from all variants of the test."""
    (y1, x1, _), (y0, x0, _) = rows()
    y2, x2 = y1[:200] + 3, x1[:200] + 1
    three = [
        Moments.from_arrays({"fare": y, "prior": x}, label=n)
        for y, x, n in zip((y1, y0, y2), (x1, x0, x2), "abc", strict=True)
    ]
    found = [cuped(three[k], three[1], value="fare", covariate="prior", others=[three[2 - k]]) for k in (0, 2)]
    assert found[0].adjustment.slopes["prior"] == pytest.approx(found[1].adjustment.slopes["prior"], rel=1e-12)
    assert found[0].groups[1].mean == pytest.approx(found[1].groups[1].mean, rel=1e-12)


@pytest.mark.parametrize("fill", [-50.0, 0.0, 1e4])
def test_a_gap_is_marked_so_that_its_fill_does_not_matter(fill):
    """Least squares on the filled covariate and its mark, whatever it is filled with, from rows and from moments."""
    groups = rows(n=(60, 80))
    gone = [np.arange(len(y)) % 7 == 0 for y, _, _ in groups]
    arms_ = [
        Records({"fare": y, "prior": np.where(g, np.nan, x)}, n) for (y, x, n), g in zip(groups, gone, strict=True)
    ]
    found = cuped(*arms_, value="fare", covariate="prior")
    design = [np.column_stack([np.where(g, fill, x), g]) for (_, x, _), g in zip(groups, gone, strict=True)]
    within = np.concatenate([d - d.mean(axis=0) for d in design])
    centred = np.concatenate([y - y.mean() for y, _, _ in groups])
    theta = np.linalg.lstsq(within, centred, rcond=None)[0]
    expected = means(*(y - d @ theta for (y, _, _), d in zip(groups, design, strict=True)))
    assert (found.estimate, found.se) == pytest.approx((expected.estimate, expected.se), rel=1e-7)
    assert found.checks[0].name == "missing covariate"
    frame = pd.concat(pd.DataFrame(dict(a.columns)).assign(form=a.label) for a in arms_)
    moments = ar.table(frame).moments(["fare", "prior"], by="form")
    again = cuped(moments["short"], moments["current"], value="fare", covariate="prior")
    assert (again.estimate, again.se, again.p_value) == pytest.approx(
        (found.estimate, found.se, found.p_value), rel=1e-9
    )
    assert [c.name for c in again.checks] == [c.name for c in found.checks]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda y, x: (y[:2], x[:2]), "need 3"),
        (lambda y, x: (y, np.full_like(x, np.nan)), "no value in any row of variant 'short'"),
        (lambda y, x: (y, np.where(np.arange(len(x)) < 1, np.inf, x)), "not finite"),
    ],
)
def test_bad_input_is_named(change, says):
    """Covariates that can't serve are refused."""
    (y, x, label), other = rows()
    both = [Records({"fare": y, "prior": x}, label) for y, x, label in [(*change(y, x), label), other]]
    with pytest.raises(DataError, match=says):
        cuped(*both, value="fare", covariate="prior")


def test_collinear_covariates_are_named_and_constant_ones_left_out():
    """A combination of others is an error; a column that never varies changes nothing, and that is said."""
    groups = rows()
    both = [
        Records({"fare": y, "prior": x, "twice": 2 * x + 1, "one": np.ones_like(x)}, label) for y, x, label in groups
    ]
    with pytest.raises(DataError, match="'twice' is a combination of 'prior'"):
        cuped(*both, value="fare", covariate=["prior", "twice"])
    r, alone = (cuped(*both, value="fare", covariate=c) for c in (["prior", "one"], "prior"))
    assert (r.estimate, r.se) == pytest.approx((alone.estimate, alone.se), rel=1e-12)
    assert "one is the same in every row" in str(r)


def test_an_absent_column_is_named():
    """The nearest column is offered."""
    with pytest.raises(DataError, match="Did you mean 'prior'"):
        cuped(*arms(rows()), value="fare", covariate="priors")
