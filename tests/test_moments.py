"""Moments: exactness, merging, reading back."""

import json
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from amber_ruler import DataError, InputError, Moments
from amber_ruler.moments import merge

values = st.integers(-(10**9), 10**9).map(lambda k: k / 1000)


def exact(data):
    """Mean and sum of squared deviations in exact arithmetic."""
    numbers = [Fraction(float(v)) for v in data]
    mean = sum(numbers) / len(numbers)
    return mean, sum((v - mean) ** 2 for v in numbers)


@pytest.mark.parametrize("offset", [0.0, 1e6, 1e9, -1e9])
def test_values_around_a_large_number_keep_twelve_digits(offset):
    """Mean, variance and the difference of two means survive an offset of 1e9 with spread 1."""
    rng = np.random.default_rng(7)
    one, two = offset + rng.normal(size=5_000), offset + 0.01 + rng.normal(size=4_000)
    (mean1, squares1), (mean0, _) = exact(one), exact(two)
    a, b = (Moments.from_arrays({"x": x}) for x in (one, two))
    assert a.comoments[0, 0] == pytest.approx(float(squares1), rel=1e-12)
    assert a.mean("x") == pytest.approx(float(mean1), rel=1e-15)
    difference = (a.means[0] - b.means[0]) + (a.tails[0] - b.tails[0])
    assert difference == pytest.approx(float(mean1 - mean0), rel=1e-11)


@given(arrays(float, st.tuples(st.just(2), st.integers(2, 60)), elements=values), st.data())
def test_merging_equals_the_whole(data, draw):
    """Any cut into two parts merges back to the moments of all rows."""
    n = data.shape[1]
    cut = draw.draw(st.integers(1, n - 1))
    whole = Moments.from_arrays({"x": data[0], "y": data[1]})
    parts = [Moments.from_arrays({"x": p[0], "y": p[1]}) for p in (data[:, :cut], data[:, cut:])]
    merged = parts[0] + parts[1]
    scale = np.sqrt(np.outer(np.diag(whole.comoments), np.diag(whole.comoments))) + 1e-9
    assert merged.n == n
    assert np.all(np.abs(merged.comoments - whole.comoments) <= 1e-11 * scale + 1e-22 * n * np.max(np.abs(data)) ** 2)
    assert merged.means == pytest.approx(whole.means, rel=1e-13, abs=1e-9)
    far = np.sqrt(np.diag(whole.comoments) / n).max() + 1e-9
    for column in "xy":
        assert merged.ends(column) == whole.ends(column)
    assert merged.shape.cubes == pytest.approx(whole.shape.cubes, rel=1e-9, abs=1e-6 * n * far**3)
    assert merged.shape.fourths == pytest.approx(whole.shape.fourths, rel=1e-9, abs=1e-6 * n * far**4)


def test_ten_thousand_parts_equal_the_whole():
    """A tree of 10,000 merges stays within 1e-12 of one reduction."""
    rng = np.random.default_rng(3)
    x = 1e9 + rng.normal(size=(10_000, 7))
    y = x - 1e9 + rng.normal(size=x.shape)
    merged = merge(Moments.from_arrays({"x": a, "y": b}, missing=1) for a, b in zip(x, y, strict=True))
    whole = Moments.from_arrays({"x": x.ravel(), "y": y.ravel()})
    assert merged.comoments == pytest.approx(whole.comoments, rel=1e-12)
    assert merged.mean("y") == pytest.approx(whole.mean("y"), rel=1e-12)
    assert merged.missing == 10_000


def test_variance_covariance_correlation_select():
    """The named quantities are those of numpy's, and selecting keeps them."""
    rng = np.random.default_rng(5)
    x = rng.normal(size=200)
    y = 0.5 * x + rng.normal(size=200)
    m = Moments.from_arrays({"x": x, "y": y}, label="short")
    assert m.variance("x") == pytest.approx(np.var(x, ddof=1), rel=1e-12)
    assert m.covariance("x", "y") == pytest.approx(np.cov(x, y)[0, 1], rel=1e-12)
    assert m.correlation("x", "y") == pytest.approx(np.corrcoef(x, y)[0, 1], rel=1e-12)
    swapped = m.select("y", "x")
    assert swapped.columns == ("y", "x")
    assert swapped.covariance("x", "y") == m.covariance("x", "y")
    assert swapped.label == "short"


def test_a_constant_column_has_no_spread_at_all():
    """Rounding of a mean must not invent a variance."""
    for value in (0.1, 1e9 + 0.3, -7e-5, 0.0):
        assert Moments.from_arrays({"x": np.full(1_001, value)}).variance("x") == 0.0


def test_json_both_ways_is_exact():
    """What was written reads back equal, to the last digit."""
    m = Moments.from_arrays({"fare": 1e9 + np.arange(7) / 3, "prior": np.arange(7.0)}, label="short", missing=2)
    assert Moments.from_json(m.to_json()) == m


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"format": "other"}, "holds no moments"),
        ({"version": 9}, "version 9"),
        ({"n": "12"}, "n: Input should be a valid integer"),
        ({"n": True}, "n: Input should be a valid integer"),
        ({"n": 10**400}, "n: "),
        ({"more": 1}, "more: Extra"),
        ({"shape": {"cubes": [1.0]}}, "shape → "),
        ({"own": {"fare": 3}}, "own → fare"),
        ({"n": 0}, "No row"),
        ({"missing": -1}, "missing: Input"),
        ({"columns": ["fare", "fare"]}, "distinct"),
        ({"columns": ["fare"]}, "contradict"),
        ({"means": [1.0, "x"]}, "means → 1"),
        ({"comoments": [[1.0, 5.0], [5.0, 1.0]]}, "larger than the spreads"),
        ({"comoments": [[1.0, 0.1], [0.2, 1.0]]}, "symmetric"),
        ({"comoments": [[-1.0, 0.0], [0.0, 1.0]]}, "below 0"),
    ],
)
def test_a_tampered_digest_is_refused_with_the_reason(change, says):
    """Reading checks the whole of the text."""
    good = Moments.from_arrays({"fare": [1.0, 2.0, 4.0], "prior": [3.0, 1.0, 2.0]}).to_dict()
    with pytest.raises((DataError, InputError), match=says):
        Moments.from_json(json.dumps({**good, **change}))


@pytest.mark.parametrize("text", ["", "[1", '{"n": NaN}', "[]", "3"])
def test_text_that_is_no_digest_is_refused(text):
    """Broken JSON, NaN and other values give one clear error."""
    with pytest.raises(DataError):
        Moments.from_json(text)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: Moments.from_arrays({}), "at least one column"),
        (lambda: Moments.from_arrays({"x": [1.0, 2.0], "y": [1.0]}), "'x' has 2, 'y' has 1"),
        (lambda: Moments.from_arrays({"x": [[1.0]]}), "one-dimensional"),
        (lambda: Moments.from_arrays({"x": [1.0, np.inf]}, label="short"), r"'short'.*\(inf\) at position 1"),
        (lambda: Moments.from_arrays({"x": []}), "no rows"),
        (lambda: Moments.from_arrays({"x": ["a"]}), "x must be a number"),
        (lambda: Moments.from_arrays({"fare": [1.0]}).mean("far"), "Did you mean 'fare'"),
        (lambda: Moments.from_arrays({"fare": [1.0]}).variance("fare"), "at least 2"),
        (lambda: Moments.from_arrays({"x": [1.0, 1.0], "y": [1.0, 2.0]}).correlation("x", "y"), "'x' is constant"),
        (lambda: Moments.from_arrays({"x": [1.0]}) + Moments.from_arrays({"y": [1.0]}), "same columns"),
        (lambda: Moments.from_summary(n=2.5, mean=1, sd=1), "whole number"),
        (lambda: merge([]), "nothing to merge"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what and where."""
    with pytest.raises((DataError, InputError), match=says):
        call()
