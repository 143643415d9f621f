"""What is looked at before a result is believed: the same through every door."""

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler import Moments, Sample
from amber_ruler.numeric import student
from amber_ruler.numeric.edgeworth import studentised_tails


def named(result):
    return {c.name: c.finding for c in result.checks}


@pytest.mark.parametrize("doubtful", ["skewness", "one value"])
def test_the_same_checks_through_every_door(doubtful, tmp_path):
    """Values, moments, a file and merged parts of it say the same of skewed values and of one that decides."""
    rng = np.random.default_rng(1)
    if doubtful == "skewness":
        one, two = rng.lognormal(0, 1.5, 90), rng.lognormal(0, 1.0, 400)
    else:
        two, one = rng.normal(size=12), np.append(rng.normal(size=11) + 0.9, 9.0)
    rows = pd.DataFrame({"fare": np.r_[one, two], "form": ["a"] * one.size + ["b"] * two.size})
    rows.to_csv(path := tmp_path / "fares.csv", index=False)
    halves = [Moments.from_arrays({"fare": half}, label="a") for half in np.array_split(one, 2)]
    doors = [
        (Sample(one, "a"), Sample(two, "b")),
        (halves[0] + halves[1], Moments.from_arrays({"fare": two}, label="b")),
        *((m["a"], m["b"]) for source in (rows, path) for m in [ar.table(source).moments("fare", by="form")]),
        *((s["a"], s["b"]) for s in [ar.table(path).samples("fare", by="form")]),
    ]
    said = [named(ar.measure.means(*door)) for door in doors]
    assert doubtful in said[0]
    assert all(other == said[0] for other in said[1:])
    if doubtful == "skewness":
        for method in (ar.measure.groups, lambda found: ar.measure.factors(cells(found))):
            assert "skewness" in named(method(dict(zip("ab", doors[1], strict=True))))


def cells(found):
    """Four cells of two groups."""
    return {(level, other): m for level, m in found.items() for other in ("x", "y")}


@pytest.mark.parametrize(
    ("draw", "n", "moments"),
    [
        (lambda rng, n: rng.exponential(size=n), (50, 400), (1.0, 2.0, 6.0)),
        (lambda rng, n: rng.lognormal(size=n), (200, 5_000), (2.1612, 6.1849, 110.94)),
    ],
)
def test_the_error_that_skewness_makes(draw, n, moments):
    """The expansion gives the tails of Welch's t within half of what skewness adds; Monte-Carlo error 0.0011."""
    rng = np.random.default_rng(5)
    below, above, repeats = 0, 0, 20_000
    for _ in range(40):
        one, two = (draw(rng, (repeats // 40, size)) for size in n)
        parts = [one.var(axis=1, ddof=1) / n[0], two.var(axis=1, ddof=1) / n[1]]
        t = (one.mean(axis=1) - two.mean(axis=1)) / np.sqrt(sum(parts))
        df = sum(parts) ** 2 / (parts[0] ** 2 / (n[0] - 1) + parts[1] ** 2 / (n[1] - 1))
        limit = student.upper_quantile(0.025, df)
        below, above = below + np.sum(t < -limit), above + np.sum(t > limit)
    said = studentised_tails(0.025, [1, -1], n, *([m, m] for m in moments))
    for real, about in zip((below / repeats, above / repeats), said, strict=True):
        assert about == pytest.approx(real, abs=abs(real - 0.025) / 2 + 0.0033)


def test_published_moments_are_looked_at_too():
    """Skewness and ends given with published numbers are heeded."""
    both = [ar.Summary(40, 12.0, 9.0, label, skewness=4.0, excess_kurtosis=20.0, ends=(1.0, 55.0)) for label in "ab"]
    result = ar.measure.mean(both[0], null=9.1)
    assert "above" in named(result)["skewness"]
    assert "without the value 55 of a alone, p would be 0.05" in named(result)["one value"]


@pytest.mark.parametrize("slope", [-2.0, 0.3])
def test_a_perfect_correlation_is_one(slope):
    """Within rounding it is ±1, and it is said that nothing is left for an interval."""
    x = np.arange(12) / 7
    found = ar.measure.correlation(ar.Pairs(x, 3 + slope * x, ("a", "b")))
    assert (found.estimate, found.p_value) == (np.sign(slope), 0.0)
    assert found.interval.low == found.interval.high == np.sign(slope)
    assert "exactly" in found.notes[0]


def test_the_interval_of_margin_tests_stands_beside_them():
    """At level 1 - 2 alpha it lies within the margin exactly where the tests say equivalent, and JSON keeps it."""
    for mean in (0.0, 0.03, 0.2):
        groups = ar.Summary(1_000, mean, 5, "a"), ar.Summary(1_000, 0.0, 5, "b")
        for alternative in ("two-sided", "greater"):
            found = ar.measure.means(*groups, margin=0.41, alternative=alternative)
            narrow = found.test.margin_interval
            assert narrow.level == pytest.approx(0.9)
            assert (abs(narrow.low) < 0.41 and abs(narrow.high) < 0.41) == found.margin_tests["equivalent"].holds
            assert ar.Result.from_json(found.to_json()).test.margin_interval.high == narrow.high
            assert "read the 90% interval" in str(found)
            assert ar.Result.from_json(found.to_json()).test.margin_interval.high == narrow.high
    assert ar.measure.means(*groups).test.margin_interval is None


@pytest.mark.parametrize("at", [0.0625, 0.03125])
def test_a_value_whose_p_is_alpha_stays(at):
    """Of five values the sign test of what lies beyond all has p = 1/16: at that alpha it is not left out."""
    values = [1.0, 2.0, 3.0, 4.0, 5.0]
    ranks = ar.measure.signed_ranks(ar.Pairs(values, [0.0] * 5), alpha=at)
    assert ranks.p_value == 0.0625
    assert ranks.interval.contains(0.0)
    with pytest.raises(ar.DataError, match="too few"):
        ar.measure.quantiles(values, [v + 1 for v in values], alpha=at)
