"""Covariate adjustment from moments against the same thing done on rows."""

import numpy as np
import pytest

from amber_ruler import DataError, Moments
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
    """Over 1,000 simulated tests without an effect, 5 % reject, within 4 Monte-Carlo errors."""
    rejected = np.mean([adjust(rows(seed, n=(60, 80), effect=0.0)).p_value < 0.05 for seed in range(1_000)])
    assert abs(rejected - 0.05) < 4 * np.sqrt(0.05 * 0.95 / 1_000)


def test_a_covariate_that_the_treatment_changed_is_said_first():
    """A large difference before the test is serious and stands above the result."""
    groups = rows(n=(5_000, 5_000))
    y, x, label = groups[0]
    r = adjust([(y, x + 1.0, label), groups[1]])
    assert r.checks[0].severity == "serious"
    text = " ".join(str(r).split())
    assert text.index("changed by the treatment") < text.index("raw")


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda y, x: (y, np.ones_like(x)), "'prior' is constant"),
        (lambda y, x: (y[:2], x[:2]), "needs at least 3"),
    ],
)
def test_bad_input_is_named(change, says):
    """Covariates that can't serve are refused."""
    groups = [(*change(y, x), label) for y, x, label in rows()]
    with pytest.raises(DataError, match=says):
        adjust(groups)


def test_an_absent_column_is_named():
    """The nearest column is offered."""
    with pytest.raises(DataError, match="Did you mean 'prior'"):
        cuped(*arms(rows()), value="fare", covariate="priors")
