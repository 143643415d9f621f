"""What a method takes: samples, summaries, counts."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import Counts, DataError, Events, InputError, Moments, Sample, Summary
from amber_ruler.samples import gate


def test_a_sample_takes_numbers_and_true_and_false():
    """Values become floats; NaN is refused, or left out and counted."""
    assert Sample([True, False, True], "a").values.tolist() == [1.0, 0.0, 1.0]
    left = Sample([1.0, np.nan, 3.0], "a", missing="leave out")
    assert (len(left), left.missing) == (2, 1)
    with pytest.raises(DataError, match=r"1 values of variant 'a' that are not finite.*position 1"):
        Sample([1.0, np.nan], "a")


def test_reductions_keep_label_metric_and_missing():
    """A group's name and what it lost travel with its numbers."""
    s = gate.one(Sample([1.0, 2.0, 6.0], "short", missing=4, metric="fare"), "mean", label="treatment")
    assert (s.n, s.mean, s.label, s.missing, s.metric) == (3, 3.0, "short", 4, "fare")
    assert s.sd == pytest.approx(np.std([1.0, 2.0, 6.0], ddof=1))
    assert gate.one([1.0, 2.0], "mean", label="treatment").label == "treatment"
    assert gate.one(Summary(5, 1.0, 2.0), "mean", label="control").label == "control"
    moments = Moments.from_arrays({"booked": [1.0, 0.0, 1.0, 1.0]}, missing=2)
    c = gate.one(moments, "share", label="control")
    assert (c.successes, c.trials, c.label, c.missing, c.metric) == (3, 4, "control", 2, "booked")


@pytest.mark.parametrize("n", [1, 10, 1_000_003])
def test_moments_of_zeros_and_ones_become_their_counts(n):
    """Counting back from a mean is exact at any size."""
    values = np.arange(n) % 3 == 0
    c = gate.one(Moments.from_arrays({"x": values}), "share", label="a")
    assert (c.successes, c.trials) == (int(values.sum()), n)


@pytest.mark.parametrize("values", [[0.0, 2.0], [0.5, 0.5], [-1.0, 1.0], [0.0, 0.25, 0.75, 1.0]])
def test_moments_of_other_values_are_no_counts(values):
    """A mean between 0 and 1 is not enough to be a share."""
    with pytest.raises(DataError, match="has other values"):
        gate.one(Moments.from_arrays({"x": values}), "share", label="a")


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: Summary(0, 1, 1, "a"), "n of 'a' must be at least 1"),
        (lambda: Summary(5, np.nan, 1), "mean must be a finite number, got nan"),
        (lambda: Summary([5, 6], [1, 2], [1, -2], "a"), "sd of 'a' must be at least 0, got -2.0"),
        (lambda: Counts([3, 4], [5, 3], "a"), "must not exceed trials"),
        (lambda: Sample([[1.0]]), "one-dimensional"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what and where."""
    with pytest.raises(InputError, match=says):
        call()


TWO, THREE = np.array([4.0, 5.0]), np.array([5.0, 6.0, 7.0])


@pytest.mark.parametrize(
    "call",
    [
        lambda: Summary(80, TWO, THREE),
        lambda: Counts(TWO, 5 * THREE),
        lambda: Events(TWO, THREE),
        lambda: ar.measure.means(Summary(80, TWO, 2.0, "short"), Summary(80, THREE, 2.0, "current")),
        lambda: ar.measure.mean(Summary(80, TWO, 2.0), null=THREE),
        lambda: ar.measure.proportions(Counts(TWO, 10, "short"), Counts(THREE, 10, "current")),
        lambda: ar.bayes.means(Summary(80, TWO, 2.0, "short"), Summary(80, THREE, 2.0, "current")),
        lambda: ar.bayes.mean(Summary(80, TWO, 2.0), prior=ar.bayes.Cauchy(THREE)),
        lambda: ar.bayes.evidence(TWO, THREE, prior=ar.bayes.Normal(0, 2)),
        lambda: ar.bayes.evidence(TWO, 1.0, prior=ar.bayes.Normal(0, THREE)),
        lambda: ar.bayes.evidence(TWO, 1.0, df=THREE, prior=ar.bayes.Normal(0, 2)),
        lambda: ar.bayes.evidence(4.0, 1.0, prior=ar.bayes.Normal(TWO, THREE)),
    ],
)
def test_arrays_that_do_not_go_together_are_refused_by_their_shapes(call):
    """Two estimates and three standard errors are a mistake, whoever is asked."""
    with pytest.raises(InputError, match=r"Numbers of the shapes \(2,\), \(3,\) do not go together"):
        call()


def test_data_print_as_small_tables():
    """What a person wants to see of them, a line each; in a list they stay short."""
    trips = ar.table(ar.demo.path("travellers"))
    fares = trips.samples("fare", by="form")
    assert "short    4,049" in str(fares)
    assert "largest" in str(fares["short"])
    assert "\n" not in repr(fares["short"])
    assert "booked  4,049  0.524574" in str(trips.moments(["fare", "booked"], by="form")["short"])
    assert "minutes_to_book  Float64" in str(trips)
    assert "28 days" in str(trips.digest("fare", by="form", day="day"))
    assert "35 pairs" in str(
        ar.table(ar.demo.path("turnarounds")).pairs("minutes", by="when", unit="vessel", control="before")
    )
    assert "records short" in str(trips.records(["fare"], by="form"))
    for shown in (trips, fares, fares["short"]):
        assert "<table" in shown._repr_html_()
